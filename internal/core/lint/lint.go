// Package lint looks at a server's list of tools for what makes models choose wrongly, pay
// too much, or do harm: each flaw with its place and why it matters. It is pure.
package lint

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"bouncer/internal/core/cost"
	"bouncer/internal/core/review"
	"bouncer/internal/core/tools"
)

// Flaw is something about a list that should be mended.
type Flaw struct {
	Code  string `json:"code"`
	Tool  string `json:"tool,omitempty" doc:"the server's own name; none for the list as a whole"`
	Place string `json:"place" doc:"where, as a JSON pointer into the tool as it is listed"`
	Text  string `json:"text" doc:"what is wrong"`
	Why   string `json:"why" doc:"why it matters"`
	Grave bool   `json:"grave" doc:"it can do harm, and not only cost"`
}

// Window is the context window of an agent, in tokens, that has the list.
type Window struct {
	Agent  string
	Tokens int
}

// Measures above which a list, or a description, is told to be too large or too short.
const (
	largeList  = 10_000 // tokens
	largeShare = 10     // in a hundred of an agent's window
	shortText  = 15     // characters of a description
	maxTold    = 5      // properties of one tool that are named
)

var destroys = regexp.MustCompile(
	`(?i)(?:^|[_.\-/ ])(delete|remove|destroy|drop|purge|erase|wipe|cancel|terminate|kill|revoke|overwrite|truncate|reset|uninstall|pay|buy|order|send|transfer)(?:[_.\-/ ]|$)`,
)

// Check looks at a list. windows are those of the agents that have it.
func Check(list []tools.Tool, windows []Window) []Flaw {
	out := []Flaw{}
	names := make([]string, len(list))
	for i, t := range list {
		names[i] = t.Name
	}
	for _, t := range list {
		out = append(out, one(t, names)...)
	}
	out = append(out, twins(list)...)
	out = append(out, large(list, windows)...)
	sort.SliceStable(out, func(i, j int) bool { return out[i].Grave && !out[j].Grave })
	return out
}

// described is what matters of a tool.
type described struct {
	Description string         `json:"description"`
	Input       map[string]any `json:"inputSchema"`
	Annotations *struct {
		Destructive *bool `json:"destructiveHint"`
		ReadOnly    *bool `json:"readOnlyHint"`
	} `json:"annotations"`
}

func read(t tools.Tool) (d described) {
	_ = json.Unmarshal(t.Raw, &d) // what cannot be read is missing, and told so
	return d
}

// one looks at a tool by itself.
func one(t tools.Tool, names []string) (out []Flaw) {
	d := read(t)
	add := func(grave bool, code, place, text, why string) {
		out = append(out, Flaw{Code: code, Tool: t.Name, Place: place, Text: text, Why: why, Grave: grave})
	}
	switch n := len([]rune(strings.TrimSpace(d.Description))); {
	case n == 0:
		add(false, "no-description", "/description", "it has no description", "a model has only the name to choose by")
	case n < shortText:
		add(
			false,
			"short-description",
			"/description",
			fmt.Sprintf("its description has %d characters", n),
			"a model has little to choose by",
		)
	}
	if word := destroys.FindString(t.Name); word != "" && (d.Annotations == nil || d.Annotations.Destructive == nil &&
		d.Annotations.ReadOnly == nil) {
		add(true, "no-hint", "/annotations/destructiveHint", "it sounds as if it destroyed or spent something, and has no hint",
			"rules by hint, and people who look, cannot tell it from a harmless tool")
	}
	bare, loose := schema(d.Input, "/inputSchema")
	if len(bare) > 0 {
		add(false, "arguments-without-description", bare[0], "arguments without a description: "+last(bare),
			"a model guesses what they mean")
	}
	if len(loose) > 0 {
		add(false, "loose-arguments", loose[0], "arguments that take anything: "+last(loose), "a model sends what the tool then refuses")
	}
	others := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == t.Name })
	for _, s := range review.Lint(t, tools.Tool{}, others) {
		text := s.Text
		if s.Excerpt != "" {
			text += ": …" + s.Excerpt + "…"
		}
		add(s.Code != "overlong" && s.Code != "names-another-tool", s.Code, "/description", text,
			"a description speaks to the model as if it came from its user")
	}
	return out
}

// last are the last names of places, as far as they are told.
func last(places []string) string {
	var names []string
	for _, p := range places[:min(len(places), maxTold)] {
		names = append(names, p[strings.LastIndexByte(p, '/')+1:])
	}
	text := strings.Join(names, ", ")
	if over := len(places) - maxTold; over > 0 {
		text += fmt.Sprintf(" and %d more", over)
	}
	return text
}

// schema finds properties without a description, and those that take anything.
func schema(s map[string]any, at string) (bare, loose []string) {
	properties, _ := s["properties"].(map[string]any)
	names := make([]string, 0, len(properties))
	for name := range properties {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		place := at + "/properties/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(name)
		p, ok := properties[name].(map[string]any)
		if !ok {
			continue
		}
		if text, _ := p["description"].(string); strings.TrimSpace(text) == "" && p["title"] == nil {
			bare = append(bare, place)
		}
		if !says(p) {
			loose = append(loose, place)
		}
		deepBare, deepLoose := schema(p, place)
		bare, loose = append(bare, deepBare...), append(loose, deepLoose...)
	}
	return bare, loose
}

// says reports whether a schema says anything of what it takes.
func says(p map[string]any) bool {
	for _, key := range []string{"enum", "const", "anyOf", "oneOf", "allOf", "$ref", "pattern", "format"} {
		if p[key] != nil {
			return true
		}
	}
	kind, _ := p["type"].(string)
	if kind == "object" {
		return p["properties"] != nil || p["additionalProperties"] != nil
	}
	if kind == "array" {
		return p["items"] != nil || p["prefixItems"] != nil
	}
	return p["type"] != nil
}

// twins finds tools that cannot be told apart.
func twins(list []tools.Tool) (out []Flaw) {
	texts, names := map[string]string{}, map[string]string{}
	for _, t := range list {
		text := strings.ToLower(strings.Join(strings.Fields(read(t).Description), " "))
		if other, ok := texts[text]; ok && text != "" {
			out = append(out, Flaw{
				Code: "same-description", Tool: t.Name, Place: "/description", Text: "its description is that of " + other,
				Why: "a model cannot tell them apart",
			})
		} else {
			texts[text] = t.Name
		}
		low := strings.ToLower(t.Name)
		if other, ok := names[low]; ok && other != t.Name {
			out = append(out, Flaw{
				Code: "names-differ-in-case", Tool: t.Name, Place: "/name", Text: "its name differs from " + other + " by its case only",
				Why: "some clients take them for one", Grave: true,
			})
		} else {
			names[low] = t.Name
		}
	}
	return out
}

// large looks at what the list takes of context windows.
func large(list []tools.Tool, windows []Window) (out []Flaw) {
	sum, most, heaviest := 0, 0, ""
	for _, t := range list {
		n := cost.Tokens(t.Raw)
		if sum += n; n > most {
			most, heaviest = n, t.Name
		}
	}
	why := "what the list takes is paid in every conversation, and models choose worse from long lists"
	if sum > largeList {
		out = append(out, Flaw{
			Code: "large-list", Place: "", Text: fmt.Sprintf("the list takes about %d tokens; the largest of its tools is %s with %d", sum,
				heaviest, most), Why: why,
		})
	}
	for _, w := range windows {
		if w.Tokens > 0 && sum*100 > w.Tokens*largeShare {
			out = append(out, Flaw{
				Code: "large-for-an-agent", Place: "",
				Text: fmt.Sprintf("the list takes about %d of the %d tokens of the window of agent %s", sum, w.Tokens, w.Agent), Why: why,
			})
		}
	}
	return out
}

// Package roster is the file in which a team keeps servers, people, agents and rules
// under version control: it is read, written, and held against what there is. Secrets
// are in it by their names only.
package roster

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v3"

	"bouncer/internal/core/budget"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
)

// Form is the version of the form that is written and read.
const Form = 1

// MaxText is the longest roster that is read, in bytes.
const MaxText = 4 << 20

// Roster is what a team keeps. A noun that is left out is not looked at.
type Roster struct {
	Roster  int               `json:"roster"`
	Servers map[string]Server `json:"servers,omitempty"`
	People  map[string]Person `json:"people,omitempty"`
	Agents  map[string]Agent  `json:"agents,omitempty"`
	Bundles map[string]Bundle `json:"bundles,omitempty"`
	Budgets map[string]Budget `json:"budgets,omitempty"`
	Rules   map[string]Rule   `json:"rules,omitempty"`
	// Dialects are for the machines on which the roster is applied; the service has none.
	Dialects map[string]dialect.Dialect `json:"dialects,omitempty"`
}

// Server is a server by its name.
type Server struct {
	URL       string   `json:"url,omitempty"`
	Transport string   `json:"transport,omitempty"`
	Command   string   `json:"command,omitempty"`
	Args      []string `json:"args,omitempty"`
	Dir       string   `json:"dir,omitempty"`
	Env       []string `json:"env,omitempty"`
	SecretEnv string   `json:"secretEnv,omitempty"`
	Secret    string   `json:"secret,omitempty"` // name of a stored secret
	Document  string   `json:"document,omitempty"`
	Paused    bool     `json:"paused,omitempty"`
	// Labels and Tags stay as they are when left out; Tags are those of tools, by their
	// names.
	Labels []string            `json:"labels,omitempty"`
	Tags   map[string][]string `json:"tags,omitempty"`
	team.ServerOptions
}

// Person is somebody by their name.
type Person struct {
	FullName string    `json:"fullName"`
	Role     team.Role `json:"role"`
	Groups   []string  `json:"groups,omitempty"` // besides those of the identity provider
}

// Agent is an agent by its name.
type Agent struct {
	Kind      string `json:"kind,omitempty"`
	Owner     string `json:"owner,omitempty"` // empty for the team
	Paused    bool   `json:"paused,omitempty"`
	Confirmed bool   `json:"confirmed,omitempty"`
	// Finder and ContextTokens are about its list of tools.
	Finder        bool `json:"finder,omitempty"`
	ContextTokens int  `json:"contextTokens,omitempty"`

	Labels []string `json:"labels,omitempty"`
}

// Budget is a budget by its name.
type Budget struct {
	Note string `json:"note,omitempty"`
	budget.Allowance
}

// Bundle is a bundle of tools by its name.
type Bundle struct {
	Note    string        `json:"note,omitempty"`
	Entries []rules.Entry `json:"entries"`
}

// Rule is a rule by its name.
type Rule struct {
	Effect string `json:"effect"`
	Agent  string `json:"agent"`
	Server string `json:"server"`
	Tool   string `json:"tool"`
	Note   string `json:"note,omitempty"`
	rules.Terms
}

// FormError says where a roster cannot be read.
type FormError struct {
	Line int // 0 where it is not known
	What string
}

func (e *FormError) Error() string {
	if e.Line == 0 {
		return e.What
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.What)
}

// Parse reads a roster. The error is a *FormError.
func Parse(text []byte) (r Roster, err error) {
	if len(text) > MaxText {
		return r, &FormError{0, fmt.Sprintf("it is longer than %d MiB", MaxText>>20)}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return r, &FormError{0, strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	if len(doc.Content) == 0 {
		return r, &FormError{0, "there is nothing in it"}
	}
	var value any
	if err := doc.Decode(&value); err != nil {
		return r, &FormError{0, strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	raw, err := json.Marshal(value)
	if err != nil {
		return r, &FormError{0, "a key that is no text is not expected"}
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&r); err != nil && !errors.Is(err, io.EOF) {
		what := strings.TrimPrefix(err.Error(), "json: ")
		var kind *json.UnmarshalTypeError
		if errors.As(err, &kind) {
			path := written(kind.Field)
			key := fmt.Sprintf("%q", path[len(path)-1])
			return r, &FormError{lineOf(&doc, key), fmt.Sprintf("%s cannot be %s", strings.Join(path, "."), articled(kind.Value))}
		}
		return r, &FormError{lineOf(&doc, what), what}
	}
	if r.Roster != Form {
		return r, &FormError{lineOf(&doc, `"roster"`), fmt.Sprintf("roster must be %d, the version of its form", Form)}
	}
	for name, d := range r.Dialects {
		d.Name = name
		if err := d.Check(); err != nil {
			return r, &FormError{lineOf(&doc, fmt.Sprintf("%q", name)), fmt.Sprintf("dialect %s cannot be used: %v", name, err)}
		}
		r.Dialects[name] = d
	}
	return r, nil
}

// written are the keys on the way to a field as they stand in a roster, without what groups them
// in the program.
func written(field string) []string {
	return slices.DeleteFunc(strings.Split(field, "."), func(part string) bool { return part != "" && unicode.IsUpper(rune(part[0])) })
}

func articled(kind string) string {
	switch {
	case strings.HasPrefix(kind, "number"):
		return "a number"
	case kind == "string":
		return "a text"
	case kind == "bool":
		return "a truth"
	case kind == "object":
		return "a map"
	}
	return "a list"
}

// lineOf is the line of the key that an error names; 0 for none.
func lineOf(n *yaml.Node, what string) int {
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if strings.Contains(what, fmt.Sprintf("%q", n.Content[i].Value)) || strings.HasSuffix(what, "."+n.Content[i].Value) {
				return n.Content[i].Line
			}
		}
	}
	for _, c := range n.Content {
		if line := lineOf(c, what); line > 0 {
			return line
		}
	}
	return 0
}

// Marshal writes a roster: names in order, so that two of the same content are the same
// text.
func (r Roster) Marshal() ([]byte, error) {
	r.Roster = Form
	raw, err := json.Marshal(r)
	if err != nil {
		return nil, fmt.Errorf("write a roster: %w", err)
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(raw, &doc); err != nil {
		return nil, fmt.Errorf("write a roster: %w", err)
	}
	block(&doc)
	var buf bytes.Buffer
	enc := yaml.NewEncoder(&buf)
	enc.SetIndent(2)
	if err := errors.Join(enc.Encode(&doc), enc.Close()); err != nil {
		return nil, fmt.Errorf("write a roster: %w", err)
	}
	return buf.Bytes(), nil
}

// block writes maps and lists in lines, and texts without quotes where they need none.
func block(n *yaml.Node) {
	if n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode {
		n.Style = 0
	}
	if n.Kind == yaml.ScalarNode && n.Tag == "!!str" {
		n.Style = 0
		if strings.Contains(n.Value, "\n") {
			n.Style = yaml.LiteralStyle
		}
	}
	for _, c := range n.Content {
		block(c)
	}
}

// What a Step does.
const (
	Add    = "add"
	Alter  = "alter"
	Remove = "remove"
)

// Step is one thing that would be done.
type Step struct {
	Do     string   `json:"do" enum:"add,alter,remove"`
	Noun   string   `json:"noun" enum:"server,person,agent,bundle,budget,rule"`
	Name   string   `json:"name"`
	Fields []string `json:"fields,omitempty" doc:"what is altered, as field: before → after"`
}

// Nouns of a Step.
const (
	ServerNoun = "server"
	PersonNoun = "person"
	AgentNoun  = "agent"
	BundleNoun = "bundle"
	BudgetNoun = "budget"
	RuleNoun   = "rule"
)

// Compare says what would have to be done to make what is now into what is wanted, in the
// order in which it can be done. What is there and not wanted is removed when prune is
// set, and returned as extra otherwise.
func Compare(now, want Roster, prune bool) (steps []Step, extra []Step) {
	var removals []Step
	add := func(s, e, r []Step) {
		steps, extra, removals = append(steps, s...), append(extra, e...), append(removals, r...)
	}
	add(compare(PersonNoun, now.People, want.People, prune))
	add(compare(ServerNoun, now.Servers, want.Servers, prune))
	add(compare(AgentNoun, now.Agents, want.Agents, prune))
	add(compare(BundleNoun, now.Bundles, want.Bundles, prune))
	add(compare(BudgetNoun, now.Budgets, want.Budgets, prune))
	add(compare(RuleNoun, now.Rules, want.Rules, prune))
	slices.Reverse(removals) // rules before agents before people
	return append(steps, removals...), extra
}

func compare[T any](noun string, now, want map[string]T, prune bool) (steps, extra, removals []Step) {
	if want == nil {
		return nil, nil, nil
	}
	for _, name := range slices.Sorted(maps.Keys(want)) {
		have, there := now[name]
		if !there {
			steps = append(steps, Step{Do: Add, Noun: noun, Name: name})
			continue
		}
		if fields := differing(have, want[name]); len(fields) > 0 {
			steps = append(steps, Step{Do: Alter, Noun: noun, Name: name, Fields: fields})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(now)) {
		if _, wanted := want[name]; wanted {
			continue
		}
		s := Step{Do: Remove, Noun: noun, Name: name}
		if prune {
			removals = append(removals, s)
		} else {
			extra = append(extra, s)
		}
	}
	return steps, extra, removals
}

// differing lists the fields that differ.
func differing(a, b any) (out []string) {
	before, after := fieldsOf(a), fieldsOf(b)
	names := slices.Sorted(maps.Keys(before))
	for _, name := range slices.Sorted(maps.Keys(after)) {
		if _, both := before[name]; !both {
			names = append(names, name)
		}
	}
	for _, name := range names {
		if x, y := short(before[name]), short(after[name]); !bytes.Equal(before[name], after[name]) {
			out = append(out, fmt.Sprintf("%s: %s → %s", name, x, y))
		}
	}
	return out
}

func fieldsOf(v any) map[string]json.RawMessage {
	raw, err := json.Marshal(v)
	var read map[string]any
	if err != nil || json.Unmarshal(raw, &read) != nil {
		return nil // structs of texts and numbers always marshal
	}
	// In one spelling: schemas may have been typed in another.
	out := make(map[string]json.RawMessage, len(read))
	for name, value := range read {
		out[name], _ = json.Marshal(value)
	}
	return out
}

func short(raw json.RawMessage) string {
	if len(raw) == 0 {
		return "-"
	}
	if text := []rune(string(raw)); len(text) > 80 {
		return string(text[:80]) + "…"
	}
	return string(raw)
}

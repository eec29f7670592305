// Package cost estimates what a list of tools takes of a model's context window, and says
// what would make it less: tools that nobody uses, that resemble each other, or that say
// too much.
package cost

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Basis is how tokens are estimated, in words.
const Basis = "an estimate: one token for every four characters of a tool's entry in the list"

const perToken = 4 // characters

// Tokens is the estimate for a text, in tokens.
func Tokens(text []byte) int { return (utf8.RuneCount(text) + perToken - 1) / perToken }

// Limits on what is looked at and said.
const (
	overlong   = 800    // tokens of one tool
	bigList    = 10_000 // tokens, where the window is not known
	bigShare   = 0.05   // of the window
	alike      = 0.8    // shared words of two tools
	maxCompare = 2_000  // tools that are compared with each other
	maxCommon  = 20     // a word that more tools have leads to no comparison
	maxNames   = 20     // tools that one suggestion names
	minDays    = 7      // before that, nothing is said about use
)

// Tool is one tool of an agent's list.
type Tool struct {
	Server, Name string // as the server names it
	Title        string
	Description  string
	Arguments    []string
	Tokens       int
	Calls        int // in the days that are looked at
}

func (t Tool) full() string { return t.Server + "/" + t.Name }

// List is what an agent has listed, or has found instead.
type List struct {
	Agent  string
	Tools  []Tool
	Window int  // tokens that the model takes; 0 for not known
	Days   int  // for how long its calls are known
	Finder bool // it searches its tools instead of having them listed
	// FinderTokens are those of the two tools that search.
	FinderTokens int
}

// Tokens are those of all tools, whether listed or found.
func (l List) Tokens() (n int) {
	for _, t := range l.Tools {
		n += t.Tokens
	}
	return n
}

// Kinds of suggestions.
const (
	Unused = "unused"
	Twins  = "twins"
	Long   = "overlong"
	Search = "finder"
)

// Suggestion is something that would make a list take less.
type Suggestion struct {
	Kind    string   `json:"kind" enum:"unused,twins,overlong,finder"`
	Text    string   `json:"text" doc:"in words"`
	Tools   []string `json:"tools,omitempty" doc:"the tools that it is about, as server/tool; the first of many"`
	Saves   int      `json:"saves" doc:"tokens"`
	Command string   `json:"command,omitempty" doc:"what does it; left out where it takes a decision about each tool"`
}

// Suggest says what would make the list take less, what saves most first.
func Suggest(l List) []Suggestion {
	var out []Suggestion
	all := l.Tokens()
	if !l.Finder && (l.Window > 0 && float64(all) > bigShare*float64(l.Window) || l.Window == 0 && all > bigList) {
		out = append(out, Suggestion{
			Kind: Search, Saves: all - l.FinderTokens, Command: "bouncer agent update " + l.Agent + " --finder on",
			Text: fmt.Sprintf("its %d tools take %d tokens; two small ones that search them take %d", len(l.Tools), all, l.FinderTokens),
		})
	}
	out = append(out, unused(l)...)
	out = append(out, twins(l)...)
	for _, t := range l.Tools {
		if t.Tokens >= overlong {
			out = append(out, Suggestion{
				Kind: Long, Tools: []string{t.full()}, Saves: t.Tokens - overlong/4,
				Text: fmt.Sprintf(
					"%s alone takes %d tokens; a rule that admits it can show another description, or fewer arguments", t.full(), t.Tokens,
				),
			})
		}
	}
	slices.SortStableFunc(out, func(a, b Suggestion) int { return cmp.Compare(b.Saves, a.Saves) })
	return out
}

// unused are tools that were not called in the days that are known.
func unused(l List) (out []Suggestion) {
	if l.Days < minDays || !slices.ContainsFunc(l.Tools, func(t Tool) bool { return t.Calls > 0 }) {
		return nil // an assistant that is hardly used says nothing about its tools
	}
	by := map[string][]Tool{}
	order, used := []string{}, map[string]bool{}
	for _, t := range l.Tools {
		if t.Calls > 0 {
			used[t.Server] = true
			continue
		}
		if by[t.Server] == nil {
			order = append(order, t.Server)
		}
		by[t.Server] = append(by[t.Server], t)
	}
	for _, server := range order {
		list := by[server]
		slices.SortStableFunc(list, func(a, b Tool) int { return cmp.Compare(b.Tokens, a.Tokens) })
		s := Suggestion{Kind: Unused}
		for _, t := range list {
			s.Saves += t.Tokens
			if len(s.Tools) < maxNames {
				s.Tools = append(s.Tools, t.full())
			}
		}
		refuse := "bouncer rule add refuse --agent " + l.Agent + " --server " + server
		switch {
		case !used[server]:
			s.Text = fmt.Sprintf("none of the %d tools of %s was called in %d days", len(list), server, l.Days)
			s.Command = refuse
		case len(list) == 1:
			s.Text = fmt.Sprintf("%s was not called in %d days", s.Tools[0], l.Days)
			s.Command = refuse + " --tool " + list[0].Name
		default:
			s.Text = fmt.Sprintf("%d tools of %s were not called in %d days", len(list), server, l.Days)
		}
		out = append(out, s)
	}
	return out
}

// twins are tools that resemble each other, so that a model cannot tell which to take.
func twins(l List) (out []Suggestion) {
	list := l.Tools[:min(len(l.Tools), maxCompare)]
	words := make([]map[string]bool, len(list))
	having := map[string][]int{}
	for i, t := range list {
		words[i] = wordsOf(t)
		for w := range words[i] {
			having[w] = append(having[w], i)
		}
	}
	taken := map[int]bool{}
	for i, t := range list {
		if taken[i] {
			continue
		}
		s := Suggestion{Kind: Twins}
		for _, k := range near(words, having, i) {
			if taken[k] {
				continue
			}
			taken[k] = true
			if s.Saves += list[k].Tokens; len(s.Tools) < maxNames {
				s.Tools = append(s.Tools, list[k].full())
			}
		}
		if len(s.Tools) == 0 {
			continue
		}
		s.Tools = append([]string{t.full()}, s.Tools...)
		s.Text = fmt.Sprintf("%s resemble each other; one of them may do", strings.Join(s.Tools, " and "))
		out = append(out, s)
	}
	return out
}

// near are the later tools that share nearly all words with one, in their order.
func near(words []map[string]bool, having map[string][]int, i int) (out []int) {
	compared := map[int]bool{}
	for w := range words[i] {
		if len(having[w]) > maxCommon {
			continue
		}
		for _, k := range having[w] {
			if k <= i || compared[k] {
				continue
			}
			compared[k] = true
			shared := 0
			for w := range words[i] {
				if words[k][w] {
					shared++
				}
			}
			if either := len(words[i]) + len(words[k]) - shared; float64(shared) >= alike*float64(either) {
				out = append(out, k)
			}
		}
	}
	slices.Sort(out)
	return out
}

// wordsOf are the words that tell a tool from others.
func wordsOf(t Tool) map[string]bool {
	out := map[string]bool{}
	for _, text := range append([]string{t.Name, t.Title, t.Description}, t.Arguments...) {
		for _, w := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			out[w] = true
		}
	}
	return out
}

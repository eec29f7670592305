package cost

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTokensAreCountedByCharacters(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]int{"": 0, "a": 1, "abcd": 1, "abcde": 2, "ÅÅÅÅ": 1, "ÅÅÅÅÅ": 2} {
		assert.Equal(t, want, Tokens([]byte(text)), text)
	}
}

// namesOf are the first tools of a server with many.
func namesOf(server string, n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprint(server, "/x", i, i, i))
	}
	return out
}

// list is an agent's list with tools of two servers, of which one is used.
func list() List {
	l := List{Agent: "quill", Days: 30, FinderTokens: 200}
	for i := range 3 {
		l.Tools = append(l.Tools, Tool{Server: "office", Name: fmt.Sprintf("form_%d", i), Description: fmt.Sprintf("files form number%d%d", i, i), Tokens: 100 + i})
	}
	l.Tools = append(l.Tools,
		Tool{Server: "fuel", Name: "order", Description: "Orders fuel.", Tokens: 50, Calls: 4},
		Tool{Server: "fuel", Name: "levels", Description: "Shows what is left.", Tokens: 40})
	return l
}

func TestSuggestions(t *testing.T) {
	t.Parallel()
	wide := strings.Repeat("x", 10)
	for name, row := range map[string]struct {
		alter func(*List)
		want  []Suggestion
	}{
		"what nobody used": {func(*List) {}, []Suggestion{
			{Unused, "none of the 3 tools of office was called in 30 days", []string{"office/form_2", "office/form_1", "office/form_0"}, 303,
				"bouncer rule add refuse --agent quill --server office"},
			{Unused, "fuel/levels was not called in 30 days", []string{"fuel/levels"}, 40,
				"bouncer rule add refuse --agent quill --server fuel --tool levels"},
		}},
		"some of a server": {func(l *List) { l.Tools[0].Calls, l.Tools[4].Calls = 1, 1 }, []Suggestion{
			{Unused, "2 tools of office were not called in 30 days", []string{"office/form_2", "office/form_1"}, 203, ""},
		}},
		"many that nobody used": {func(l *List) {
			l.Tools = l.Tools[3:4]
			for i := range maxNames + 1 {
				l.Tools = append(l.Tools, Tool{Server: "office", Name: fmt.Sprint("x", i, i, i), Description: fmt.Sprint(i, i, i, i, "y"), Tokens: 1})
			}
		}, []Suggestion{{
			Unused, fmt.Sprintf("none of the %d tools of office was called in 30 days", maxNames+1), namesOf("office", maxNames), maxNames + 1,
			"bouncer rule add refuse --agent quill --server office",
		}}},
		"too early to say":    {func(l *List) { l.Days = 6 }, nil},
		"an agent that rests": {func(l *List) { l.Tools[3].Calls = 0 }, nil},
		"as old as it needs be": {func(l *List) { l.Days = 7; l.Tools = l.Tools[3:] }, []Suggestion{
			{Unused, "fuel/levels was not called in 7 days", []string{"fuel/levels"}, 40, "bouncer rule add refuse --agent quill --server fuel --tool levels"},
		}},
		"a window that is full": {func(l *List) { l.Days, l.Window = 0, 7_859 }, []Suggestion{
			{Search, "its 5 tools take 393 tokens; two small ones that search them take 200", nil, 193, "bouncer agent update quill --finder on"},
		}},
		"a window with room": {func(l *List) { l.Days, l.Window = 0, 7_860 }, nil},
		"one that searches":  {func(l *List) { l.Days, l.Window, l.Finder = 0, 100, true }, nil},
		"a long one": {func(l *List) {
			l.Days, l.Tools = 0, []Tool{{Server: "s", Name: "t", Tokens: 800}, {Server: "s", Name: "u", Tokens: 799}}
		}, []Suggestion{
			{Long, "s/t alone takes 800 tokens; a rule that admits it can show another description, or fewer arguments", []string{"s/t"}, 600, ""},
		}},
		"many tokens, no window": {func(l *List) {
			l.Days = 0
			l.Tools = nil
			for i := range 13 {
				l.Tools = append(l.Tools, Tool{Server: "s", Name: fmt.Sprint(wide, i), Tokens: 770})
			}
		}, []Suggestion{
			{Search, "its 13 tools take 10010 tokens; two small ones that search them take 200", nil, 9_810, "bouncer agent update quill --finder on"},
		}},
		"twins": {func(l *List) {
			l.Days = 0
			l.Tools = []Tool{
				{Server: "a", Name: "find_sailings", Description: "Lists the sailings between two harbours.", Arguments: []string{"from", "to"}, Tokens: 60},
				{Server: "b", Name: "find_sailings", Description: "Lists all the sailings between two harbours.", Arguments: []string{"to", "from"}, Tokens: 70},
				{Server: "c", Name: "find_berths", Description: "Lists the berths of a harbour.", Tokens: 30},
			}
		}, []Suggestion{{Twins, "a/find_sailings and b/find_sailings resemble each other; one of them may do", []string{"a/find_sailings", "b/find_sailings"}, 70, ""}}},
	} {
		l := list()
		row.alter(&l)
		assert.Equal(t, row.want, Suggest(l), name)
	}
}

func TestManyToolsAreComparedInReason(t *testing.T) {
	t.Parallel()
	l := List{Agent: "quill"}
	for i := range 5_000 {
		l.Tools = append(l.Tools, Tool{Server: "s", Name: fmt.Sprintf("list_things_%d", i/2), Description: "Lists things of one kind.", Tokens: 1})
	}
	got := Suggest(l)
	assert.Len(t, got, maxCompare/2, "pairs of the tools that are looked at")
}

// Tools resemble each other when they share four fifths of their words, and not with less.
func TestHowMuchToolsResembleEachOther(t *testing.T) {
	t.Parallel()
	tool := func(name string, words int, others ...string) Tool {
		out := Tool{Server: "s", Name: name, Tokens: 1}
		for i := range words {
			out.Arguments = append(out.Arguments, fmt.Sprintf("word%c", 'a'+i))
		}
		out.Arguments = append(out.Arguments, others...)
		return out
	}
	shared := func(a, b Tool) float64 {
		x, y := wordsOf(a), wordsOf(b)
		both := 0
		for w := range x {
			if y[w] {
				both++
			}
		}
		return float64(both) / float64(len(x)+len(y)-both)
	}
	seen := [2]bool{}
	for n := range 20 {
		a, b := tool("same", n, "one"), tool("same", n, "other")
		want := shared(a, b) >= alike
		seen[map[bool]int{false: 0, true: 1}[want]] = true
		assert.Equal(t, want, len(Suggest(List{Agent: "quill", Tools: []Tool{a, b}})) == 1, n)
	}
	assert.Equal(t, [2]bool{true, true}, seen)
}

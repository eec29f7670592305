package segment

import (
	"bytes"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/rules"
)

// Filter selects calls; empty fields select all.
type Filter struct {
	Agent, Person, Server, Outcome, Decision string
	Tool                                     string   // a glob
	Rules                                    []string // ids, of which one has to have decided; nil for any
	Owner                                    string   // only calls of this person's agents, whatever else is asked for
	Text                                     string   // in the tool name, the error, the arguments or the result
	Since, Until                             time.Time
	Before                                   Key // only older ones: for the next page
	After                                    Key // only newer ones: to follow
}

// Held as the decision selects calls that a rule held, whatever became of them.
const Held = "held"

// Range is the keys that can be selected, both included.
func (f *Filter) Range() (from, to Key) {
	to = LastKey
	if !f.Since.IsZero() {
		from = max(from, KeyAt(f.Since))
	}
	if !f.Until.IsZero() {
		to = min(to, KeyAt(f.Until)-1)
	}
	if f.Before != 0 {
		to = min(to, f.Before-1)
	}
	if f.After != 0 {
		from = max(from, f.After+1)
	}
	return from, to
}

// All reports whether every call within the range is selected.
func (f *Filter) All() bool {
	return f.Agent == "" && f.Person == "" && f.Owner == "" && f.Server == "" && f.Outcome == "" && f.Decision == "" &&
		(f.Tool == "" || f.Tool == "*") && f.Rules == nil && f.Text == ""
}

// Skips reports that no call of a block with this summary is selected.
func (f *Filter) Skips(facts Facts) bool {
	tool := f.Tool
	if strings.ContainsAny(tool, "*?") {
		tool = ""
	}
	if !facts.has(0, f.Agent) || !facts.has(1, f.Person) || !facts.has(1, f.Owner) || !facts.has(2, f.Server) || !facts.has(3, tool) ||
		!facts.has(4, f.Outcome) || facts.known && f.Decision == Held && !facts.held {
		return true
	}
	return f.Rules != nil && !slices.ContainsFunc(f.Rules, func(id string) bool { return facts.has(5, id) })
}

// Match reports whether a call is selected by all but its texts.
func (f *Filter) Match(r *Record) bool {
	switch {
	case f.Agent != "" && r.Agent != f.Agent, f.Person != "" && r.Person != f.Person, f.Owner != "" && r.Person != f.Owner,
		f.Server != "" && r.Server != f.Server, f.Outcome != "" && r.Outcome != f.Outcome:
		return false
	case f.Decision == Held:
		if r.Control == nil || r.Control.Held == "" {
			return false
		}
	case f.Decision != "" && r.Decision != f.Decision:
		return false
	}
	if f.Rules != nil && !slices.Contains(f.Rules, r.Rule) {
		return false
	}
	return f.Tool == "" || rules.Match(f.Tool, r.Tool)
}

// choose holds the texts of a head against a filter, and tells which records can be selected;
// nil for none of them. A column that the filter says nothing of is not read.
func (h *Head) choose(f *Filter) ([]bool, error) {
	is := func(want string) func(string) bool {
		if want == "" {
			return nil
		}
		return func(text string) bool { return text == want }
	}
	fits := [columns]func(string) bool{
		inAgent: is(f.Agent), inPerson: is(f.Person), inServer: is(f.Server), inOutcome: is(f.Outcome), inDecision: is(f.Decision),
	}
	if f.Owner != "" {
		fits[inPerson] = is(f.Owner)
	}
	if f.Decision == Held {
		fits[inDecision], fits[inControl] = nil, func(text string) bool { return text != "" }
	}
	if f.Tool != "" {
		fits[inTool] = func(text string) bool { return rules.Match(f.Tool, text) }
	}
	if f.Rules != nil {
		fits[inRule] = func(text string) bool { return slices.Contains(f.Rules, text) }
	}
	chosen := make([]bool, h.n)
	for i := range chosen {
		chosen[i] = true
	}
	for c, fit := range fits {
		if fit == nil {
			continue
		}
		col, err := h.column(c)
		if err != nil {
			return nil, err
		}
		if col.restrict(chosen, fit) == 0 {
			return nil, nil
		}
	}
	return chosen, nil
}

// restrict takes those off whose text does not fit, and returns how many are left.
func (c *column) restrict(chosen []bool, fit func(string) bool) (left int) {
	fits, some := make([]bool, max(len(c.list), wide)), false
	for i, text := range c.list {
		fits[i] = fit(text)
		some = some || fits[i]
	}
	if !some {
		return 0
	}
	for i := range chosen {
		if at := c.at(i); !chosen[i] || at >= len(fits) || !fits[at] {
			chosen[i] = false
			continue
		}
		left++
	}
	return left
}

// Finder looks for a text in calls; small and capital letters of ASCII are the same. It is
// not for concurrent use.
type Finder struct{ part, room []byte }

// NewFinder returns a Finder of a text.
func NewFinder(text string) *Finder {
	part := []byte(text)
	for i, c := range part {
		part[i] = lower[c]
	}
	return &Finder{part: part}
}

// In reports whether the text stands in a call's tool, error, arguments or result.
func (f *Finder) In(r *Record) bool {
	return f.holds(r.Arguments) || f.holds(r.Result) || f.holds(r.Tool) || f.holds(r.Error)
}

func (f *Finder) holds(text string) bool {
	if len(text) < len(f.part) {
		return false
	}
	f.room = append(f.room[:0], text...)
	for i, c := range f.room {
		f.room[i] = lower[c]
	}
	return bytes.Contains(f.room, f.part)
}

package segment

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
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

// Named reports whether summaries of names have a say in what the filter selects.
func (f *Filter) Named() bool {
	return f.Agent != "" || f.Person != "" || f.Owner != "" || f.Server != "" || f.Outcome != "" || f.Decision == Held ||
		f.Tool != "" && !strings.ContainsAny(f.Tool, "*?") || f.Rules != nil
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
		fits[inPerson] = func(text string) bool { return text == f.Owner && (f.Person == "" || text == f.Person) }
	}
	if f.Decision == Held {
		fits[inDecision], fits[inControl] = nil, isHeld
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

// isHeld reports whether a rule held a call of which this is written. What is damaged is read,
// and found to be.
func isHeld(control string) bool {
	if control == "" {
		return false
	}
	var c team.CallControl
	return json.Unmarshal([]byte(control), &c) != nil || c.Held != ""
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
func NewFinder(text string) *Finder { return &Finder{part: lowered(nil, []byte(text))} }

// Among returns those of some places of a block, in ascending order, whose call has the text in
// its tool, error, arguments or result.
func (f *Finder) Among(h *Head, b Body, places []int) (found []int, err error) {
	named := make([]bool, h.n)
	some := false
	for _, c := range [...]int{inTool, inError} {
		col, err := h.column(c)
		if err != nil {
			return nil, err
		}
		holds := make([]bool, len(col.list))
		any := false
		for i, text := range col.list {
			f.room = lowered(f.room[:0], []byte(text))
			holds[i] = bytes.Contains(f.room, f.part)
			any = any || holds[i]
		}
		for i := 0; any && i < h.n; i++ {
			at := col.at(i)
			named[i] = named[i] || at < len(holds) && holds[at]
		}
		some = some || any
	}
	f.room = lowered(f.room[:0], b.raw)
	// A look at everything at once is quick, and often says that it stands nowhere.
	if !bytes.Contains(f.room, f.part) {
		if !some {
			return nil, nil
		}
		return slices.DeleteFunc(slices.Clone(places), func(place int) bool { return !named[place] }), nil
	}
	holds := func(s span) bool { return bytes.Contains(f.room[s.from:s.to], f.part) }
	err = b.each(places, func(i int, arguments, result span) {
		if named[places[i]] || holds(arguments) || holds(result) {
			found = append(found, places[i])
		}
	})
	return found, err
}

// lowered appends a text with its capital letters of ASCII made small, eight at a time: of a
// byte without its highest bit, what is added carries into that bit from 'A' on, and from
// behind 'Z' on; where only the first did, it is a capital letter.
func lowered(to, text []byte) []byte {
	const each, high = 0x0101010101010101, 0x8080808080808080
	start := len(to)
	to = append(to, text...)
	rest := to[start:]
	for ; len(rest) >= 8; rest = rest[8:] {
		x := binary.LittleEndian.Uint64(rest)
		low := x &^ high
		capital := (low + each*(0x80-'A')) &^ (low + each*(0x7f-'Z')) &^ x & high
		binary.LittleEndian.PutUint64(rest, x|capital>>2)
	}
	for i, c := range rest {
		if c >= 'A' && c <= 'Z' {
			rest[i] = c + 'a' - 'A'
		}
	}
	return to
}

package rules

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"

	"bouncer/internal/core/narrowing"
)

// Shape is how a tool looks to one agent, and how its calls have to: what is shown of
// it, which arguments are filled in, what of its results is kept back, and which rules
// look at the arguments. It is immutable.
type Shape struct {
	// Input is the input schema as the agent is shown it; nil for the tool's own.
	Input json.RawMessage
	// Title and Description are shown instead of the tool's own; "" for those.
	Title, Description string
	// Output is the output schema as the agent is shown it; nil for the tool's own.
	// NoOutput is set when none is to be shown.
	Output   json.RawMessage
	NoOutput bool
	// Hide are the fields that are taken out of results.
	Hide []narrowing.Path
	// ResultBytes is the most that a result may have; 0 for what the server's limits say.
	ResultBytes int

	m     match
	input *narrowing.Input // nil when no rule looks at arguments
	names []string         // of the rules that shape
	by    *Rule            // the first of them that narrows
}

// RuleError says which rules cannot be applied to a tool, and why: then calls of it are
// refused, since nobody can tell what was meant.
type RuleError struct {
	Rules []string
	Err   error
}

func (e *RuleError) Error() string {
	return fmt.Sprintf("rule %s cannot be applied to it: %s", strings.Join(e.Rules, " and rule "), e.Err)
}

func (e *RuleError) Unwrap() error { return e.Err }

// Memo remembers what schemas come to, so that a change of one rule costs the tools of
// that rule. It is safe for concurrent use; the zero value is ready.
type Memo struct {
	mu   sync.Mutex // guards made
	made map[[32]byte]*narrowing.Input
}

// maxMade bounds what a Memo remembers.
const maxMade = 20_000

func (m *Memo) narrow(o *Object, key [32]byte, terms narrowing.Terms) (*narrowing.Input, error) {
	if m != nil {
		m.mu.Lock()
		in := m.made[key]
		m.mu.Unlock()
		if in != nil {
			return in, nil
		}
	}
	schema := o.Schema
	if len(schema) == 0 {
		schema = json.RawMessage(`{"type":"object"}`)
	}
	in, err := narrowing.Narrow(schema, terms)
	if err != nil || m == nil {
		return in, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.made == nil || len(m.made) >= maxMade {
		m.made = map[[32]byte]*narrowing.Input{}
	}
	m.made[key] = in
	return in, nil
}

// Shape returns how a tool looks to the agent. It is asked for tools whose Decision is
// Shaped, and not refused. The error is a *RuleError.
func (l *Local) Shape(o *Object, memo *Memo) (*Shape, error) {
	s := &Shape{m: l.match(o)}
	terms := narrowing.Terms{}
	key := sha256.New()
	fmt.Fprintf(key, "%s\x00%s\x00", o.Fingerprint, o.Schema)
	looked := []string{}
	add := func(to *[]*narrowing.Overlay, word string, c *compiled, overlay *narrowing.Overlay, raw json.RawMessage) {
		*to = append(*to, overlay)
		looked = append(looked, c.Name)
		fmt.Fprintf(key, "%s\x00%s\x00", word, raw)
	}
	for _, c := range s.m.shaping {
		s.names = append(s.names, c.Name)
		if c.narrow != nil {
			add(&terms.Overlays, "narrow", c, c.narrow, c.Narrow)
		}
		if s.by == nil && (c.narrow != nil || len(c.Pins) > 0) {
			s.by = &c.Rule
		}
		if err := l.pins(&terms, c); err != nil {
			return nil, &RuleError{[]string{c.Name}, err}
		}
		s.words(c)
	}
	for _, name := range sortedKeys(terms.Pins) {
		fmt.Fprintf(key, "pin\x00%s\x00%v\x00%T\x00", name, terms.Pins[name], terms.Pins[name])
	}
	for _, c := range s.m.refuses {
		add(&terms.NoneOf, "none", c, c.when.Overlay, c.When)
	}
	through := append(slices.Clone(s.m.admits), s.m.holds...)
	for _, c := range through {
		if s.m.hold == nil && s.m.admit == nil {
			add(&terms.AnyOf, "any", c, c.when.Overlay, c.When)
		} else {
			add(&terms.Watched, "watched", c, c.when.Overlay, c.When)
		}
	}
	if len(looked) == 0 && len(terms.Pins) == 0 {
		return s, s.outputOf(o)
	}
	in, err := memo.narrow(o, [32]byte(key.Sum(nil)), terms)
	if err != nil {
		return nil, &RuleError{unique(append(looked, s.names...)), err}
	}
	s.input, s.Input = in, in.Shown
	return s, s.outputOf(o)
}

func unique(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

func (l *Local) pins(terms *narrowing.Terms, c *compiled) error {
	for _, name := range sortedKeys(c.Pins) {
		v, err := fill(name, c.Pins[name], l.who)
		if err != nil {
			return err
		}
		if was, has := terms.Pins[name]; has && !reflect.DeepEqual(was, v) {
			return fmt.Errorf("argument %s is pinned to another value by another rule", name)
		}
		if terms.Pins == nil {
			terms.Pins = map[string]any{}
		}
		terms.Pins[name] = v
	}
	return nil
}

// words takes over what a rule says of how the tool is described, and of its results.
func (s *Shape) words(c *compiled) {
	if s.Title == "" {
		s.Title = c.Title
	}
	if s.Description == "" {
		s.Description = c.Description
	}
	s.Hide = append(s.Hide, c.hide...)
	if limit := c.ResultKiB << 10; limit > 0 && (s.ResultBytes == 0 || limit < s.ResultBytes) {
		s.ResultBytes = limit
	}
}

func (s *Shape) outputOf(o *Object) error {
	if len(s.Hide) == 0 || len(o.Output) == 0 {
		return nil
	}
	out, ok := narrowing.HideInSchema(o.Output, s.Hide)
	s.Output, s.NoOutput = out, !ok
	return nil
}

// Looks reports whether arguments have to be judged before a call goes on.
func (s *Shape) Looks() bool { return s != nil && s.input != nil }

// Rules are the names of the rules that narrow, pin, rewrite or hide something.
func (s *Shape) Rules() []string {
	if s == nil {
		return nil
	}
	return s.names
}

// Pinned are the arguments that Bouncer fills in.
func (s *Shape) Pinned() []string {
	if s == nil || s.input == nil {
		return nil
	}
	return s.input.Pinned()
}

// Unfilled takes the arguments that Bouncer fills in out of those that were filled in
// already.
func (s *Shape) Unfilled(raw []byte) (json.RawMessage, error) {
	args, err := narrowing.Arguments(raw)
	if err != nil {
		return nil, err
	}
	for _, name := range s.Pinned() {
		delete(args, name)
	}
	return json.Marshal(args)
}

// Verdict is what becomes of a call with its arguments.
type Verdict struct {
	Effect Effect
	// Rule is the rule that decided; nil when none admits.
	Rule *Rule
	// Why says in one clause why it is refused; "" when it is not.
	Why string
	// Arguments are what is to be sent instead; nil for what came.
	Arguments json.RawMessage
	// Decoded are the arguments as they were judged.
	Decoded map[string]any
}

// Judge holds the arguments of a call against the rules that look at them. raw may be
// empty for none.
func (s *Shape) Judge(raw []byte) Verdict {
	args, err := s.input.Judge(raw)
	if err != nil {
		return s.notJudged(raw, err)
	}
	v := Verdict{Effect: Admit, Decoded: args}
	if len(s.input.Pinned()) > 0 {
		v.Arguments = s.input.Fill(args)
	}
	// What fits what is shown fits no refusal, and one of the admissions.
	for _, c := range s.m.holds {
		if c.when.Fits(args) {
			v.Effect, v.Rule = Hold, &c.Rule
			break
		}
	}
	switch {
	case s.m.hold != nil && (v.Rule == nil || s.m.hold.at < s.at(v.Rule)):
		v.Effect, v.Rule = Hold, &s.m.hold.Rule
	case v.Rule != nil:
	case s.m.admit != nil:
		v.Rule = &s.m.admit.Rule
	default:
		for _, c := range s.m.admits {
			if c.when.Fits(args) {
				v.Rule = &c.Rule
				break
			}
		}
	}
	if v.Rule == nil {
		return Verdict{Effect: Refuse, Why: "no rule admits it with these arguments"}
	}
	return v
}

func (s *Shape) at(r *Rule) int {
	for _, c := range s.m.holds {
		if &c.Rule == r {
			return c.at
		}
	}
	return 0
}

// notJudged finds the rule for which arguments do not fit what is shown.
func (s *Shape) notJudged(raw []byte, err error) Verdict {
	v := Verdict{Effect: Refuse, Why: err.Error()}
	args, unclear := narrowing.Arguments(raw)
	if unclear != nil {
		v.Rule = s.by
		return v
	}
	for _, c := range s.m.refuses {
		if c.when.Fits(args) {
			v.Rule, v.Why = &c.Rule, fmt.Sprintf("refused with these arguments by rule %s (%s)", c.Name, c.Describe())
			if c.Note != "" {
				v.Why += ": " + c.Note
			}
			return v
		}
	}
	if s.m.hold == nil && s.m.admit == nil && !s.anyFits(args) {
		names := []string{}
		for _, c := range append(slices.Clone(s.m.admits), s.m.holds...) {
			names = append(names, c.Name)
		}
		v.Why = "no rule admits it with these arguments; rule " + strings.Join(names, " and rule ") + " would with others"
		return v
	}
	var argument *narrowing.ArgumentError
	if s.by != nil && errors.As(err, &argument) {
		v.Rule = s.by
		v.Why = fmt.Sprintf("%s (rule %s narrows what this agent may say)", err, s.by.Name)
		if s.by.Note != "" {
			v.Why += ": " + s.by.Note
		}
	}
	return v
}

func (s *Shape) anyFits(args map[string]any) bool {
	for _, c := range append(slices.Clone(s.m.admits), s.m.holds...) {
		if c.when.Fits(args) {
			return true
		}
	}
	return false
}

package rules

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/narrowing"
)

// compiled is a rule with what it says read once.
type compiled struct {
	Rule
	at      int // place in the list
	network netip.Prefix
	window  *Window
	when    *narrowing.Condition
	narrow  *narrowing.Overlay
	hide    []narrowing.Path
	bundle  []Entry
	// broken says what of it cannot be read. Such a rule admits nothing, and refuses
	// whatever it might be about.
	broken error
}

func compile(r Rule, at int, bundles Bundles) *compiled {
	c := &compiled{Rule: r, at: at}
	var err error
	note := func(e error) {
		if c.broken == nil {
			c.broken = e
		}
	}
	if r.Network != "" {
		c.network, err = netip.ParsePrefix(r.Network)
		note(err)
	}
	if r.Window != "" {
		w, err := ReadWindow(r.Window)
		note(err)
		c.window = &w
	}
	if len(r.When) > 0 {
		o, err := narrowing.ReadCondition(r.When)
		note(err)
		if err == nil {
			c.when, err = o.Compile()
			note(err)
		}
	}
	if len(r.Narrow) > 0 {
		c.narrow, err = narrowing.ReadOverlay(r.Narrow)
		note(err)
	}
	for i, path := range append(slices.Clone(r.Hide), r.Mask...) {
		p, err := narrowing.ReadPath(path)
		note(err)
		p.Masked = i >= len(r.Hide)
		c.hide = append(c.hide, p)
	}
	if r.Bundle != "" {
		c.bundle, err = bundles.Flatten(r.Bundle)
		note(err)
	}
	return c
}

// stands reports whether a rule decides anything at a time.
func (c *compiled) stands(now time.Time) bool {
	return !c.Disabled && (c.Begins == nil || !now.Before(*c.Begins)) && (c.Ends == nil || now.Before(*c.Ends)) &&
		(c.window == nil || c.window.Open(now))
}

// covers reports whether the rule is about something that a server offers.
func (c *compiled) covers(host *Host, o *Object) bool {
	if !Match(c.Tool, o.Name) {
		return false
	}
	if c.broken != nil {
		return c.Effect == Refuse
	}
	if c.Hint != "" && !o.Is(c.Hint) {
		return false
	}
	if c.Tag != "" && !has(o.Tags, c.Tag) {
		return false
	}
	if c.when != nil && !o.Tool {
		return false // conditions on arguments are about tools
	}
	if c.Bundle == "" {
		return true
	}
	for _, e := range c.bundle {
		if Match(e.Server, host.Name) && Match(e.Tool, o.Name) {
			return true
		}
	}
	return false
}

func has(list []string, what string) bool {
	for _, v := range list {
		if v == what {
			return true
		}
	}
	return false
}

// index finds rules by what a glob of theirs matches, in the order of the list.
type index struct {
	exact map[string][]*compiled
	globs []*compiled
}

func newIndex(list []*compiled, glob func(*compiled) string) index {
	ix := index{exact: map[string][]*compiled{}}
	for _, c := range list {
		if g := glob(c); strings.ContainsAny(g, "*?") {
			ix.globs = append(ix.globs, c)
		} else {
			ix.exact[g] = append(ix.exact[g], c)
		}
	}
	return ix
}

// each visits the rules that can match a name, in the order of the list.
func (ix *index) each(name string, visit func(*compiled)) {
	a, b := ix.exact[name], ix.globs
	for len(a) > 0 || len(b) > 0 {
		if len(b) == 0 || len(a) > 0 && a[0].at < b[0].at {
			visit(a[0])
			a = a[1:]
		} else {
			visit(b[0])
			b = b[1:]
		}
	}
}

// Set is a compiled, immutable collection of rules: those that decide something at the
// time that it was compiled for.
type Set struct {
	rules []*compiled // in force
	rest  []*compiled // not now; kept to explain with
	turns time.Time
}

// Compile compiles rules as they are in force at a time. Of several rules with the same
// effect that match, the first is the reason given.
func Compile(list []Rule, now time.Time, bundles Bundles) *Set {
	s := &Set{}
	for i, r := range list {
		c := compile(r, i, bundles)
		if c.stands(now) {
			s.rules = append(s.rules, c)
		} else {
			s.rest = append(s.rest, c)
		}
		s.turn(c, now)
	}
	return s
}

// turn notes when another set of rules will be in force because of a rule.
func (s *Set) turn(c *compiled, now time.Time) {
	if c.Disabled {
		return
	}
	at := []time.Time{}
	if c.Begins != nil {
		at = append(at, *c.Begins)
	}
	if c.Ends != nil {
		at = append(at, *c.Ends)
	}
	if c.window != nil && (c.Ends == nil || now.Before(*c.Ends)) {
		at = append(at, c.window.Turns(now))
	}
	for _, t := range at {
		if t.After(now) && (s.turns.IsZero() || t.Before(s.turns)) {
			s.turns = t
		}
	}
}

// Turns is when another set of rules will be in force without anybody changing any; the
// zero time for never.
func (s *Set) Turns() time.Time { return s.turns }

// Len is the number of rules in force.
func (s *Set) Len() int { return len(s.rules) }

// Bound is the rules that can be about one agent.
type Bound struct {
	who    Subject
	rules  []*compiled
	waits  []*compiled // those that would admit, were the agent's name confirmed
	varys  []*compiled // of rules, those that depend on circumstances
	byServ index
	waitIx index
}

// For narrows the set to the rules that can match the agent, whatever the circumstances.
func (s *Set) For(who Subject) *Bound {
	b := &Bound{who: who}
	for _, c := range s.rules {
		now, waits := c.binds(who)
		switch {
		case now:
			b.rules = append(b.rules, c)
			if c.circumstantial() {
				b.varys = append(b.varys, c)
			}
		case waits:
			b.waits = append(b.waits, c)
		}
	}
	return b.indexed()
}

func (b *Bound) indexed() *Bound {
	b.byServ = newIndex(b.rules, func(c *compiled) string { return c.Server })
	b.waitIx = newIndex(b.waits, func(c *compiled) string { return c.Server })
	return b
}

// Len is the number of rules that can match.
func (b *Bound) Len() int { return len(b.rules) }

// Variant tells circumstances apart as far as they make a difference to the agent: two
// with the same variant have the same reach. It is "" for an agent for whom none do.
func (b *Bound) Variant(how Circumstances) string {
	if len(b.varys) == 0 {
		return ""
	}
	out := make([]byte, len(b.varys))
	for i, c := range b.varys {
		out[i] = '0'
		if c.holdsUnder(how) {
			out[i] = '1'
		}
	}
	return string(out)
}

// Under narrows to the rules that hold under the circumstances.
func (b *Bound) Under(how Circumstances) *Bound {
	if len(b.varys) == 0 {
		return b
	}
	out := &Bound{who: b.who, waits: b.waits}
	for _, c := range b.rules {
		if c.holdsUnder(how) {
			out.rules = append(out.rules, c)
		}
	}
	return out.indexed()
}

// Local is the rules that can be about one agent at one server.
type Local struct {
	who    Subject
	host   Host
	rules  index
	waits  index
	amount int
}

// On narrows to the rules that can match the server.
func (b *Bound) On(host Host) *Local {
	l := &Local{who: b.who, host: host}
	mine := onHost(&b.byServ, host)
	l.amount = len(mine)
	l.rules = newIndex(mine, func(c *compiled) string { return c.Tool })
	l.waits = newIndex(onHost(&b.waitIx, host), func(c *compiled) string { return c.Tool })
	return l
}

func onHost(ix *index, host Host) (out []*compiled) {
	ix.each(host.Name, func(c *compiled) {
		if c.isAbout(host) {
			out = append(out, c)
		}
	})
	return out
}

// isAbout reports whether the rule is about the server.
func (c *compiled) isAbout(host Host) bool {
	return Match(c.Server, host.Name) && (c.ServerLabel == "" || has(host.Labels, c.ServerLabel))
}

// Who is the agent.
func (l *Local) Who() Subject { return l.who }

// Len is the number of rules that can match.
func (l *Local) Len() int { return l.amount }

// match is what the rules say of one object.
type match struct {
	refuse, hold, admit *compiled   // the first without a condition on arguments
	refuses             []*compiled // with one
	holds, admits       []*compiled // with one
	shaping             []*compiled
}

func (l *Local) match(o *Object) (m match) {
	l.rules.each(o.Name, func(c *compiled) {
		if !c.covers(&l.host, o) {
			return
		}
		if c.when != nil && c.broken == nil {
			switch c.Effect {
			case Refuse:
				m.refuses = append(m.refuses, c)
			case Hold:
				m.holds = append(m.holds, c)
			default:
				m.admits = append(m.admits, c)
			}
			return
		}
		switch c.Effect {
		case Refuse:
			first(&m.refuse, c)
			return
		case Hold:
			first(&m.hold, c)
		default:
			first(&m.admit, c)
		}
		if c.shapes() {
			m.shaping = append(m.shaping, c)
		}
	})
	return m
}

func first(to **compiled, c *compiled) {
	if *to == nil {
		*to = c
	}
}

// Decide answers for something that the server offers, before any arguments are known.
func (l *Local) Decide(o *Object) Decision {
	m := l.match(o)
	d := Decision{Effect: Refuse, who: l.who.Name}
	switch {
	case m.refuse != nil:
		d.Rule = &m.refuse.Rule
		return d
	case m.hold != nil:
		d.Effect, d.Rule = Hold, &m.hold.Rule
	case m.admit != nil:
		d.Effect, d.Rule = Admit, &m.admit.Rule
	case len(m.admits) > 0:
		d.Effect, d.Rule, d.Depends = Admit, &m.admits[0].Rule, true
	case len(m.holds) > 0:
		d.Effect, d.Rule, d.Depends = Hold, &m.holds[0].Rule, true
	default:
		l.waits.each(o.Name, func(c *compiled) {
			if d.Waits == nil && c.covers(&l.host, o) {
				d.Waits = &c.Rule
			}
		})
		return d
	}
	d.Depends = d.Depends || len(m.refuses)+len(m.holds) > 0
	d.Shaped = d.Depends || len(m.shaping) > 0
	return d
}

// Decision is the answer for one agent and one tool.
type Decision struct {
	Effect Effect
	// Rule is the rule that decided, nil when no rule admits.
	Rule *Rule
	// Waits is a rule that would admit it, did somebody confirm the agent's name; nil
	// for none.
	Waits *Rule
	// Depends is set when the arguments of a call can make it another one.
	Depends bool
	// Shaped is set when Shape has something to say.
	Shaped bool
	who    string // the agent's name
}

// Admitted reports whether the tool is within reach: calls of it go ahead, or are held
// until somebody admits them.
func (d Decision) Admitted() bool { return d.Effect != Refuse }

// RuleID is the id of the deciding rule, or "" when there is none.
func (d Decision) RuleID() string {
	if d.Rule == nil {
		return ""
	}
	return d.Rule.ID
}

// RuleName is the name of the deciding rule, or "" when there is none.
func (d Decision) RuleName() string {
	if d.Rule == nil {
		return ""
	}
	return d.Rule.Name
}

// Reason says in one clause why the decision is what it is.
func (d Decision) Reason() string {
	switch {
	case d.Rule == nil && d.Waits != nil && d.Waits.AgentID != "":
		return fmt.Sprintf("no rule admits it; rule %s (%s) was made for another agent of this name", d.Waits.Name, d.Waits.Describe())
	case d.Rule == nil && d.Waits != nil:
		return fmt.Sprintf(
			"no rule admits it yet; rule %s (%s) does when an admin or a maintainer has run: bouncer agent confirm %s",
			d.Waits.Name, d.Waits.Describe(), d.who,
		)
	case d.Rule == nil:
		return "no rule admits it"
	}
	text := fmt.Sprintf("%s by rule %s (%s)", pastOf(d.Effect), d.Rule.Name, d.Rule.Describe())
	if d.Depends {
		text += ", depending on its arguments"
	}
	if d.Rule.Note != "" {
		text += fmt.Sprintf(": %s", d.Rule.Note)
	}
	return text
}

func pastOf(e Effect) string {
	return map[Effect]string{Admit: "admitted", Hold: "held", Refuse: "refused"}[e]
}

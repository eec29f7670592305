// Package rules decides whether an agent may use a tool, and explains it.
//
// A rule has an effect (admit or refuse) and three globs: for which agents, on
// which servers, for which tools. What no rule admits is refused; where one rule
// admits and another refuses, the refusal wins. A Set is immutable: it is built
// when rules change and read without locks from then on.
//
// Members choose what their agents are called, so that a name alone must not open
// anything: a rule for one agent is tied to its id, and a pattern of names admits
// something for those agents only whose name is confirmed. Refusals always hold.
package rules

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Effect is what a rule does with a call it matches.
type Effect string

// The effects.
const (
	Admit  Effect = "admit"
	Refuse Effect = "refuse"
)

// Rule says who may reach what. Agent, Server and Tool are globs over names:
// "*" stands for any run of characters, "?" for one. Tool is matched against
// the server's own name of the tool.
type Rule struct {
	ID string
	// Name is what people call the rule.
	Name   string
	Effect Effect
	Agent  string
	// AgentID is set for a rule about one agent: it binds that agent, and none that
	// has its name later.
	AgentID string
	Server  string
	Tool    string
	Note    string
	// By is the full name of the person who made the rule.
	By string
}

// Subject is whom rules are held against: an agent, by what its owner cannot choose
// and by its name, which an owner can.
type Subject struct {
	ID, Name string
	// Confirmed is set when somebody who may make rules stands for the name. Only
	// then do patterns of names admit anything for the agent.
	Confirmed bool
}

// all is the pattern that is no pattern: it means everybody.
const all = "*"

// binds reports whether the rule is about the subject. waits is set for a rule that
// would be if the subject's name were confirmed.
func (r Rule) binds(s Subject) (now, waits bool) {
	switch {
	case r.Agent == all, r.AgentID != "" && r.AgentID == s.ID:
		return true, false
	case !Match(r.Agent, s.Name):
		return false, false
	case r.Effect == Refuse:
		return true, false // whoever takes a name takes what is refused to it
	case r.AgentID != "":
		return false, true // it was made for another agent of this name
	}
	return s.Confirmed, !s.Confirmed
}

// FieldError names the field of a rule that cannot be accepted, and why.
type FieldError struct{ Field, Why string }

func (e *FieldError) Error() string { return fmt.Sprintf("%s %s", e.Field, e.Why) }

// MaxGlob is the longest glob that a rule may hold, in bytes.
const MaxGlob = 200

// Check reports the first field of r that is not acceptable, as a *FieldError.
func (r Rule) Check() error {
	if r.Effect != Admit && r.Effect != Refuse {
		return &FieldError{"effect", fmt.Sprintf("is %q; it must be admit or refuse", r.Effect)}
	}
	for _, g := range [...]struct{ field, glob string }{{"agent", r.Agent}, {"server", r.Server}, {"tool", r.Tool}} {
		switch {
		case g.glob == "":
			return &FieldError{g.field, `is empty; name one, or use "*" for all`}
		case len(g.glob) > MaxGlob:
			return &FieldError{g.field, fmt.Sprintf("is longer than %d characters", MaxGlob)}
		case strings.ContainsAny(g.glob, " \t\r\n"):
			return &FieldError{g.field, "contains a blank; globs are names with * and ?"}
		}
	}
	if err := CheckName(r.Name); err != nil {
		return err
	}
	if len(r.Note) > 500 {
		return &FieldError{"note", "is longer than 500 characters"}
	}
	return nil
}

// Decision is the answer for one agent and one tool.
type Decision struct {
	Effect Effect
	// Rule is the rule that decided, nil when no rule admits.
	Rule *Rule
	// Waits is a rule that would admit it, did somebody confirm the agent's name; nil
	// for none.
	Waits *Rule
	who   string // the agent's name
}

// Admitted reports whether the call may go ahead.
func (d Decision) Admitted() bool { return d.Effect == Admit }

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
	verb := "admitted"
	if d.Effect == Refuse {
		verb = "refused"
	}
	text := fmt.Sprintf("%s by rule %s (%s)", verb, d.Rule.Name, d.Rule.Describe())
	if d.Rule.Note != "" {
		text += fmt.Sprintf(": %s", d.Rule.Note)
	}
	return text
}

// Describe renders the rule without its note, for people.
func (r Rule) Describe() string {
	return fmt.Sprintf("%s %s on %s for %s", r.Effect, r.Tool, r.Server, r.Agent)
}

// Set is a compiled, immutable collection of rules.
type Set struct {
	rules []Rule
	waits []Rule // those that would admit, were the agent's name confirmed
	who   string // the agent's name, once narrowed to one
}

// NewSet compiles rules. They are taken in the given order; of several rules
// with the same effect that match, the first is the reason given.
func NewSet(list []Rule) *Set { return &Set{rules: append([]Rule(nil), list...)} }

// For narrows the set to the rules that can match the agent.
func (s *Set) For(who Subject) *Set {
	out := &Set{who: who.Name}
	for _, r := range s.rules {
		now, waits := r.binds(who)
		if now {
			out.rules = append(out.rules, r)
		} else if waits {
			out.waits = append(out.waits, r)
		}
	}
	return out
}

// On narrows the set to the rules that can match the server.
func (s *Set) On(server string) *Set {
	return &Set{rules: onServer(s.rules, server), waits: onServer(s.waits, server), who: s.who}
}

func onServer(list []Rule, server string) (out []Rule) {
	for _, r := range list {
		if Match(r.Server, server) {
			out = append(out, r)
		}
	}
	return out
}

// Decide answers for a tool, given a set already narrowed to agent and server.
func (s *Set) Decide(tool string) Decision {
	admit := -1
	for i := range s.rules {
		r := &s.rules[i]
		if !Match(r.Tool, tool) {
			continue
		}
		if r.Effect == Refuse {
			return Decision{Effect: Refuse, Rule: r}
		}
		if admit < 0 {
			admit = i
		}
	}
	if admit >= 0 {
		return Decision{Effect: Admit, Rule: &s.rules[admit]}
	}
	for i := range s.waits {
		if Match(s.waits[i].Tool, tool) {
			return Decision{Effect: Refuse, Waits: &s.waits[i], who: s.who}
		}
	}
	return Decision{Effect: Refuse}
}

// Len is the number of rules in the set.
func (s *Set) Len() int { return len(s.rules) }

// Match reports whether name matches the glob: "*" stands for any run of characters,
// "?" for one, however many bytes it has. It takes time proportional to the product
// of both lengths at worst, whatever the pattern.
func Match(glob, name string) bool {
	g, n, star, mark := 0, 0, -1, 0
	for n < len(name) {
		switch {
		case g < len(glob) && glob[g] == '*':
			star, mark = g, n
			g++
		case g < len(glob) && glob[g] == '?':
			g++
			n += width(name[n:])
		case g < len(glob) && glob[g] == name[n]:
			g++
			n++
		case star >= 0:
			g = star + 1
			mark += width(name[mark:])
			n = mark
		default:
			return false
		}
	}
	for g < len(glob) && glob[g] == '*' {
		g++
	}
	return g == len(glob)
}

// width is how many bytes the first character of a name has.
func width(name string) int {
	_, size := utf8.DecodeRuneInString(name)
	return size
}

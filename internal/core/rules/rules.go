// Package rules decides whether an agent may use a tool, and explains it.
//
// A rule has an effect (admit or refuse) and three globs: for which agents, on
// which servers, for which tools. What no rule admits is refused; where one rule
// admits and another refuses, the refusal wins. A Set is immutable: it is built
// when rules change and read without locks from then on.
package rules

import (
	"fmt"
	"strings"
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
	ID     string
	Effect Effect
	Agent  string
	Server string
	Tool   string
	Note   string
	// By is the full name of the person who made the rule.
	By string
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

// Reason says in one clause why the decision is what it is.
func (d Decision) Reason() string {
	if d.Rule == nil {
		return "no rule admits it"
	}
	verb := "admitted"
	if d.Effect == Refuse {
		verb = "refused"
	}
	text := fmt.Sprintf("%s by rule %s (%s)", verb, d.Rule.ID, d.Rule.Describe())
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
type Set struct{ rules []Rule }

// NewSet compiles rules. They are taken in the given order; of several rules
// with the same effect that match, the first is the reason given.
func NewSet(list []Rule) *Set { return &Set{rules: append([]Rule(nil), list...)} }

// For narrows the set to the rules that can match the agent.
func (s *Set) For(agent string) *Set { return s.filter(func(r Rule) string { return r.Agent }, agent) }

// On narrows the set to the rules that can match the server.
func (s *Set) On(server string) *Set {
	return s.filter(func(r Rule) string { return r.Server }, server)
}

func (s *Set) filter(glob func(Rule) string, name string) *Set {
	out := &Set{}
	for _, r := range s.rules {
		if Match(glob(r), name) {
			out.rules = append(out.rules, r)
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
			return Decision{Refuse, r}
		}
		if admit < 0 {
			admit = i
		}
	}
	if admit >= 0 {
		return Decision{Admit, &s.rules[admit]}
	}
	return Decision{Effect: Refuse}
}

// Len is the number of rules in the set.
func (s *Set) Len() int { return len(s.rules) }

// Match reports whether name matches the glob. It takes time proportional to
// the product of both lengths at worst, whatever the pattern.
func Match(glob, name string) bool {
	g, n, star, mark := 0, 0, -1, 0
	for n < len(name) {
		switch {
		case g < len(glob) && glob[g] == '*':
			star, mark = g, n
			g++
		case g < len(glob) && (glob[g] == '?' || glob[g] == name[n]):
			g++
			n++
		case star >= 0:
			g = star + 1
			mark++
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

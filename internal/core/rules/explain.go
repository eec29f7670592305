package rules

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/narrowing"
)

// Question is what somebody wants explained: whether an agent may use a tool.
type Question struct {
	Who  Subject
	How  Circumstances
	Host Host
	What Object
	// Arguments are those of a call; nil to ask about the tool.
	Arguments json.RawMessage
	Now       time.Time
}

// Explanation is the answer, with every rule that had a part in it and those that
// almost had.
type Explanation struct {
	Effect   string          `json:"effect" enum:"admit,hold,refuse"`
	Rule     string          `json:"rule" doc:"id of the rule that decides; empty when no rule admits"`
	RuleName string          `json:"ruleName"`
	Why      string          `json:"why" doc:"the same that the agent is told"`
	Depends  bool            `json:"depends,omitempty" doc:"arguments can make it another decision"`
	Input    json.RawMessage `json:"input,omitempty" doc:"input schema as the agent is shown it, where rules narrow it"`
	Pinned   []string        `json:"pinned,omitempty" doc:"arguments that Bouncer fills in"`
	Hidden   []string        `json:"hidden,omitempty" doc:"fields taken out of results"`
	Rules    []Considered    `json:"rules" doc:"rules with a part in it, then those that almost had, nearest first"`
	Change   []string        `json:"change" doc:"what would make it another decision, in words"`
}

// Considered is one rule in an Explanation.
type Considered struct {
	Rule   string   `json:"rule"`
	Name   string   `json:"name"`
	Effect string   `json:"effect" enum:"admit,hold,refuse"`
	Part   string   `json:"part" enum:"decides,agrees,narrows,overruled,almost" doc:"what it does here"`
	Text   string   `json:"text" doc:"the rule in words"`
	Misses []string `json:"misses,omitempty" doc:"why it does not apply, each by itself"`
}

// maxAlmost is how many rules are told that almost applied.
const maxAlmost = 10

// Explain answers a question just as Decide, Shape and Judge do.
func (s *Set) Explain(q Question) Explanation {
	local := s.For(q.Who).Under(q.How).On(q.Host)
	d := local.Decide(&q.What)
	e := Explanation{
		Effect: string(d.Effect), Rule: d.RuleID(), RuleName: d.RuleName(), Why: d.Reason(), Depends: d.Depends,
		Rules: []Considered{}, Change: []string{},
	}
	if d.Admitted() && d.Shaped {
		shape, err := local.Shape(&q.What, nil)
		if err != nil {
			e.Effect, e.Why = string(Refuse), err.Error()
		} else {
			e.shaped(shape, q)
		}
	}
	s.consider(&e, q)
	e.change(s, q)
	return e
}

func (e *Explanation) shaped(shape *Shape, q Question) {
	e.Input, e.Pinned = shape.Input, shape.Pinned()
	for _, p := range shape.Hide {
		e.Hidden = append(e.Hidden, p.String())
	}
	if q.Arguments == nil || !shape.Looks() {
		return
	}
	v := shape.Judge(q.Arguments)
	e.Effect, e.Depends, e.Rule, e.RuleName = string(v.Effect), false, "", ""
	if v.Rule != nil {
		e.Rule, e.RuleName = v.Rule.ID, v.Rule.Name
	}
	switch {
	case v.Why != "":
		e.Why = v.Why
	case v.Rule != nil:
		e.Why = Decision{Effect: v.Effect, Rule: v.Rule}.Reason()
	}
}

// without is the set as it were without one rule.
func (s *Set) without(id string) *Set {
	out := &Set{}
	for _, c := range s.rules {
		if c.ID != id {
			out.rules = append(out.rules, c)
		}
	}
	return out
}

// consider tells the part of every rule that has one, and the rules that almost had.
func (s *Set) consider(e *Explanation, q Question) {
	var almost []Considered
	each := func(c *compiled, off string) {
		misses := c.misses(q, off)
		one := Considered{Rule: c.ID, Name: c.Name, Effect: string(c.Effect), Text: c.Describe(), Misses: misses}
		if len(misses) > 0 {
			one.Part = "almost"
			if len(misses) <= 2 {
				almost = append(almost, one)
			}
			return
		}
		switch {
		case c.ID == e.Rule:
			one.Part = "decides"
		case c.shapes() && e.Effect != string(Refuse):
			one.Part = "narrows"
		case string(c.Effect) == e.Effect:
			one.Part = "agrees"
		default:
			one.Part = "overruled"
		}
		e.Rules = append(e.Rules, one)
	}
	for _, c := range s.rules {
		each(c, "")
	}
	for _, c := range s.rest {
		each(c, c.off(q.Now))
	}
	order := []string{"decides", "narrows", "agrees", "overruled"}
	slices.SortStableFunc(e.Rules, func(a, b Considered) int { return slices.Index(order, a.Part) - slices.Index(order, b.Part) })
	slices.SortStableFunc(almost, func(a, b Considered) int { return len(a.Misses) - len(b.Misses) })
	e.Rules = append(e.Rules, almost[:min(len(almost), maxAlmost)]...)
}

// misses says everything for which a rule does not apply.
func (c *compiled) misses(q Question, off string) (out []string) {
	add := func(applies bool, format string, args ...any) {
		if !applies {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	add(off == "", "%s", off)
	add(c.isAbout(Host{Name: q.Host.Name, Labels: append([]string{c.ServerLabel}, q.Host.Labels...)}), "it is about servers %s", c.Server)
	add(c.ServerLabel == "" || has(q.Host.Labels, c.ServerLabel), "it is about servers labelled %s", c.ServerLabel)
	o := &q.What
	plain := *c
	plain.Hint, plain.Tag, plain.Bundle, plain.when = "", "", "", nil
	add(plain.covers(&q.Host, o), "it is about tools %s", c.Tool)
	add(c.Hint == "" || o.Is(c.Hint), "it is about tools that are %s", c.Hint)
	add(c.Tag == "" || has(o.Tags, c.Tag), "it is about tools tagged %s", c.Tag)
	if c.Bundle != "" {
		plain.Bundle = c.Bundle
		add(plain.covers(&q.Host, o), "it is about tools of bundle %s", c.Bundle)
	}
	if c.when != nil && q.Arguments != nil {
		args, err := narrowing.Arguments(q.Arguments)
		add(err == nil && o.Tool && c.when.Fits(args), "it is about arguments that fit %s", clip(string(c.When)))
	}
	return append(append(out, c.missesSubject(q.Who)...), c.missesUnder(q.How)...)
}

func (c *compiled) missesSubject(who Subject) (out []string) {
	add := func(applies bool, format string, args ...any) {
		if !applies {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	add(c.Label == "" || has(who.Labels, c.Label), "it is for agents labelled %s", c.Label)
	add(c.Role == "" || c.Role == who.Role, "it is for agents of people with role %s", c.Role)
	add(c.Group == "" || has(who.Groups, c.Group), "it is for agents of people in group %s", c.Group)
	named := Rule{Effect: c.Effect, Terms: Terms{Person: c.Person, PersonID: c.PersonID}}
	add(named.about(who), "it is for agents of %s", c.Person)
	glob := Rule{Effect: c.Effect, Agent: c.Agent, AgentID: c.AgentID}
	switch now, waits := glob.binds(who); {
	case now:
	case waits && c.AgentID != "":
		out = append(out, "it was made for another agent of this name")
	case waits:
		out = append(out, "the agent's name is not confirmed")
	default:
		out = append(out, "it is for agents "+c.Agent)
	}
	return out
}

func (c *compiled) missesUnder(how Circumstances) (out []string) {
	for _, alone := range [...]struct {
		one  compiled
		text string
	}{
		{compiled{Rule: Rule{Terms: Terms{Client: c.Client}}}, "it is for programs that call themselves " + c.Client},
		{compiled{Rule: Rule{Terms: Terms{Revision: c.Revision}}}, "it is for revision " + c.Revision},
		{compiled{network: c.network}, "it is for requests from " + c.Network},
		{compiled{Rule: Rule{Terms: Terms{Presence: c.Presence}}}, "it is for agents whose person is " + presenceWord(c.Presence)},
	} {
		if !alone.one.holdsUnder(how) {
			out = append(out, alone.text)
		}
	}
	return out
}

// change says what would make it another decision.
func (e *Explanation) change(s *Set, q Question) {
	add := func(format string, args ...any) { e.Change = append(e.Change, fmt.Sprintf(format, args...)) }
	agent := q.Who.Name
	admit := fmt.Sprintf("add a rule: bouncer rule add admit --agent %s --server %s --tool '%s'", agent, q.Host.Name, q.What.Name)
	if e.Effect == string(Refuse) {
		switch {
		case e.RuleName == "" && (len(e.Rules) == 0 || e.Rules[0].Part == "almost"):
			add("%s", admit)
		case e.RuleName == "":
		case e.Rules[0].Effect != string(Refuse):
			add("alter what rule %s says of arguments: bouncer rule show %s", e.RuleName, e.RuleName)
			return
		default:
			add("alter or disable rule %s: bouncer rule update %s --disable", e.RuleName, e.RuleName)
			if !s.without(e.Rule).For(q.Who).Under(q.How).On(q.Host).Decide(&q.What).Admitted() {
				add("then no rule admits it, so also %s", admit)
			}
			return
		}
	}
	for _, r := range e.Rules {
		if r.Part != "almost" || len(r.Misses) != 1 || r.Effect == e.Effect || len(e.Change) > 4 {
			continue
		}
		miss := r.Misses[0]
		label, isLabel := strings.CutPrefix(miss, "it is for agents labelled ")
		group, isGroup := strings.CutPrefix(miss, "it is for agents of people in group ")
		tag, isTag := strings.CutPrefix(miss, "it is about tools tagged ")
		switch {
		case isLabel:
			add("give the agent the label of rule %s: bouncer label add agent %s %s", r.Name, agent, label)
		case isGroup && q.Who.Owner != "":
			add("take %s into the group of rule %s: bouncer label add person %s %s", q.Who.Owner, r.Name, q.Who.Owner, group)
		case isTag:
			add("tag the tool as rule %s wants it: bouncer label add tool %s/%s %s", r.Name, q.Host.Name, q.What.Name, tag)
		case miss == "the agent's name is not confirmed":
			add("stand for the agent's name, for rule %s: bouncer agent confirm %s", r.Name, agent)
		case miss == "it is disabled":
			add("enable rule %s: bouncer rule update %s --enable", r.Name, r.Name)
		default:
			add("rule %s would %s it, but %s", r.Name, r.Effect, miss)
		}
	}
}

package rules

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/narrowing"
)

func raw(s string) json.RawMessage { return json.RawMessage(s) }

// parts are the rules of an explanation with what they do.
func parts(e Explanation) string {
	var out []string
	for _, r := range e.Rules {
		out = append(out, r.Name+" "+r.Part)
	}
	return strings.Join(out, ", ")
}

// Every rule that has a part is told with it, those that nearly have one are told by how near they
// are, and what would help is a command for the rule that it is about.
func TestExplanations(t *testing.T) {
	t.Parallel()
	admit, hold, refuse := rule("all", Admit, Terms{}), rule("ask", Hold, Terms{}), rule("never", Refuse, Terms{})
	narrow := rule("limit", Admit, Terms{Narrow: raw(`{"properties":{"litres":{"maximum":5000}}}`)})
	when := rule("small", Admit, Terms{When: raw(`{"properties":{"litres":{"maximum":10}}}`)})
	mine := func(agent string, terms Terms) Rule {
		r := rule("mine", Admit, terms)
		r.Agent = agent
		return r
	}
	byID := mine("joss-quill", Terms{})
	byID.AgentID = "a9"
	unsure := quill
	unsure.Confirmed = false
	const addRule = "add a rule: bouncer rule add admit --agent joss-quill --server fuel --tool 'order_fuel'"
	for name, row := range map[string]struct {
		rules           []Rule
		who             Subject
		args            string
		effect, decides string
		parts           string
		change          []string
	}{
		"nothing":                 {nil, quill, "", "refuse", "", "", []string{addRule}},
		"an admission":            {[]Rule{admit}, quill, "", "admit", "all", "all decides", nil},
		"a refusal":               {[]Rule{admit, refuse}, quill, "", "refuse", "never", "never decides, all overruled", []string{"alter or disable rule never: bouncer rule update never --disable"}},
		"a refusal alone":         {[]Rule{refuse}, quill, "", "refuse", "never", "never decides", []string{"alter or disable rule never: bouncer rule update never --disable", "then no rule admits it, so also " + addRule}},
		"a hold":                  {[]Rule{admit, hold}, quill, "", "hold", "ask", "ask decides, all overruled", nil},
		"two of one mind":         {[]Rule{admit, rule("also", Admit, Terms{})}, quill, "", "admit", "all", "all decides, also agrees", nil},
		"a narrowing":             {[]Rule{admit, narrow}, quill, "", "admit", "all", "all decides, limit narrows", nil},
		"beside a refusal":        {[]Rule{narrow, refuse}, quill, "", "refuse", "never", "never decides, limit overruled", []string{"alter or disable rule never: bouncer rule update never --disable"}},
		"arguments that fit":      {[]Rule{narrow}, quill, `{"litres":5,"port":"x"}`, "admit", "limit", "limit decides", nil},
		"arguments that do not":   {[]Rule{narrow}, quill, `{"litres":9000,"port":"x"}`, "refuse", "limit", "limit decides", []string{"alter what rule limit says of arguments: bouncer rule show limit"}},
		"arguments for none":      {[]Rule{when}, quill, `{"litres":50,"port":"x"}`, "refuse", "", "small almost", []string{addRule, `rule small would admit it, but it is about arguments that fit {"properties":{"litres":{"maximum":10}}}`}},
		"arguments for one":       {[]Rule{when}, quill, `{"litres":5,"port":"x"}`, "admit", "small", "small decides", nil},
		"a label that is missing": {[]Rule{rule("mine", Admit, Terms{Label: "desk"})}, quill, "", "refuse", "", "mine almost", []string{addRule, "give the agent the label of rule mine: bouncer label add agent joss-quill desk"}},
		"a group that is missing": {[]Rule{rule("mine", Admit, Terms{Group: "desk"})}, quill, "", "refuse", "", "mine almost", []string{addRule, "take joss into the group of rule mine: bouncer label add person joss desk"}},
		"a group, and nobody":     {[]Rule{rule("mine", Admit, Terms{Group: "desk"})}, watch, "", "refuse", "", "mine almost", []string{strings.Replace(addRule, "joss-quill", "night-watch", 1), "rule mine would admit it, but it is for agents of people in group desk"}},
		"a tag that is missing":   {[]Rule{rule("mine", Admit, Terms{Tag: "desk"})}, quill, "", "refuse", "", "mine almost", []string{addRule, "tag the tool as rule mine wants it: bouncer label add tool fuel/order_fuel desk"}},
		"a name that is not sure": {[]Rule{mine("joss-quill", Terms{})}, unsure, "", "refuse", "", "mine almost", []string{addRule, "stand for the agent's name, for rule mine: bouncer agent confirm joss-quill"}},
		"another of that name":    {[]Rule{byID}, quill, "", "refuse", "", "mine almost", []string{addRule, "rule mine would admit it, but it was made for another agent of this name"}},
		"a rule that is off":      {[]Rule{rule("mine", Admit, Terms{Disabled: true})}, quill, "", "refuse", "", "mine almost", []string{addRule, "enable rule mine: bouncer rule update mine --enable"}},
		"another agent":           {[]Rule{mine("marit-quill", Terms{})}, quill, "", "refuse", "", "mine almost", []string{addRule, "rule mine would admit it, but it is for agents marit-quill"}},
		"two reasons":             {[]Rule{mine("marit-quill", Terms{Label: "desk"}), rule("near", Admit, Terms{Tag: "x"})}, quill, "", "refuse", "", "near almost, mine almost", []string{addRule, "tag the tool as rule near wants it: bouncer label add tool fuel/order_fuel x"}},
		"three reasons":           {[]Rule{mine("marit-quill", Terms{Label: "desk", Tag: "x"})}, quill, "", "refuse", "", "", []string{addRule}},
		"one of the same effect":  {[]Rule{admit, rule("mine", Admit, Terms{Label: "desk"})}, quill, "", "admit", "all", "all decides, mine almost", nil},
		"one that would hold":     {[]Rule{admit, rule("mine", Hold, Terms{Label: "desk"})}, quill, "", "admit", "all", "all decides, mine almost", []string{"give the agent the label of rule mine: bouncer label add agent joss-quill desk"}},
	} {
		q := Question{Who: row.who, Host: fuel, What: *order, Now: noon}
		if row.args != "" {
			q.Arguments = raw(row.args)
		}
		e := Compile(row.rules, noon, nil).Explain(q)
		if row.change == nil {
			row.change = []string{}
		}
		assert.Equal(t, []any{row.effect, row.decides, row.parts, row.change}, []any{e.Effect, e.Rule, parts(e), e.Change}, name)
		assert.NotEmpty(t, e.Why, name)
	}
	var many []Rule
	for i := range 12 {
		many = append(many, rule(fmt.Sprintf("mine%d", i), Admit, Terms{Label: "desk"}))
	}
	e := Compile(many, noon, nil).Explain(Question{Who: quill, Host: fuel, What: *order, Now: noon})
	assert.Len(t, e.Rules, maxAlmost)
	assert.Len(t, e.Change, 5, "the first that would help")

	e = Compile([]Rule{narrow}, noon, nil).Explain(Question{Who: quill, Host: fuel, What: *order, Now: noon})
	assert.Contains(t, string(e.Input), `"maximum":5000`)
	held := Compile([]Rule{admit, rule("many", Hold, Terms{When: raw(`{"properties":{"litres":{"minimum":10}}}`)})}, noon, nil)
	e = held.Explain(Question{Who: quill, Host: fuel, What: *order, Arguments: raw(`{"litres":50,"port":"x"}`), Now: noon})
	assert.Equal(t, []string{"hold", "many"}, []string{e.Effect, e.Rule})
	assert.Contains(t, e.Why, "many")
	assert.False(t, e.Depends, "with its arguments it is decided")
	e = held.Explain(Question{Who: quill, Host: fuel, What: *order, Now: noon})
	assert.True(t, e.Depends)
}

// The limits of rules are where they are said to be.
func TestLimitsOfRules(t *testing.T) {
	t.Parallel()
	pins := func(n int) map[string]json.RawMessage {
		out := map[string]json.RawMessage{}
		for i := range n {
			out[fmt.Sprint("p", i)] = raw("1")
		}
		return out
	}
	paths := func(n int) []string { return slices.Repeat([]string{"a"}, n) }
	for name, row := range map[string]struct {
		effect Effect
		field  string
		at     func(n int) Terms
		bounds [2]int // the last that is accepted, and the first that is not
	}{
		"pins":          {Admit, "pins", func(n int) Terms { return Terms{Pins: pins(n)} }, [2]int{MaxPins, MaxPins + 1}},
		"names of pins": {Admit, "pins", func(n int) Terms { return Terms{Pins: map[string]json.RawMessage{strings.Repeat("p", n): raw("1")}} }, [2]int{100, 101}},
		"no name":       {Admit, "pins", func(n int) Terms { return Terms{Pins: map[string]json.RawMessage{strings.Repeat("p", n): raw("1")}} }, [2]int{1, 0}},
		"values": {Admit, "pins", func(n int) Terms {
			return Terms{Pins: map[string]json.RawMessage{"p": raw(`"` + strings.Repeat("x", n-2) + `"`)}}
		}, [2]int{maxPin, maxPin + 1}},
		"titles":               {Admit, "description", func(n int) Terms { return Terms{Title: strings.Repeat("x", n)} }, [2]int{200, 201}},
		"descriptions":         {Admit, "description", func(n int) Terms { return Terms{Description: strings.Repeat("x", n)} }, [2]int{8 << 10, 8<<10 + 1}},
		"hidden":               {Admit, "hide", func(n int) Terms { return Terms{Hide: paths(n)} }, [2]int{narrowing.MaxPaths, narrowing.MaxPaths + 1}},
		"masked":               {Admit, "mask", func(n int) Terms { return Terms{Mask: paths(n)} }, [2]int{narrowing.MaxPaths, narrowing.MaxPaths + 1}},
		"order":                {Admit, "order", func(n int) Terms { return Terms{Order: n} }, [2]int{10_000, 10_001}},
		"results":              {Admit, "resultKiB", func(n int) Terms { return Terms{ResultKiB: n} }, [2]int{1 << 20, 1<<20 + 1}},
		"waiting":              {Hold, "holdSeconds", func(n int) Terms { return Terms{HoldSeconds: n} }, [2]int{MaxHold, MaxHold + 1}},
		"waiting less":         {Hold, "holdSeconds", func(n int) Terms { return Terms{HoldSeconds: n} }, [2]int{0, -1}},
		"deciders":             {Hold, "deciders", func(n int) Terms { return Terms{Deciders: slices.Repeat([]string{"person:teo"}, n)} }, [2]int{maxDeciders, maxDeciders + 1}},
		"hidden, when refused": {Refuse, "narrow", func(n int) Terms { return Terms{Hide: paths(n)} }, [2]int{0, 1}},
		"masked, when refused": {Refuse, "narrow", func(n int) Terms { return Terms{Mask: paths(n)} }, [2]int{0, 1}},
		"cut, when refused":    {Refuse, "narrow", func(n int) Terms { return Terms{ResultKiB: n} }, [2]int{0, 1}},
		"pinned, when refused": {Refuse, "narrow", func(n int) Terms { return Terms{Pins: pins(n)} }, [2]int{0, 1}},
		"titled, when refused": {Refuse, "narrow", func(n int) Terms { return Terms{Title: strings.Repeat("x", n)} }, [2]int{0, 1}},
	} {
		for i, n := range row.bounds {
			err := rule("r", row.effect, row.at(n)).Check()
			if i == 0 {
				assert.NoError(t, err, "%s: %d", name, n)
				continue
			}
			var fe *FieldError
			require.ErrorAs(t, err, &fe, "%s: %d", name, n)
			assert.Equal(t, row.field, fe.Field, name)
		}
	}
	for decider, good := range map[string]bool{
		"group:dispatch": true, "role:admin": true, "person:teo": true, "role:boss": false, "group:A B": false, "person:": false, "ship:petrel": false, "role:dispatch": false,
	} {
		assert.Equal(t, good, rule("r", Hold, Terms{Deciders: []string{decider}}).Check() == nil, decider)
	}
	for glob, field := range map[string]string{"a b": "client", strings.Repeat("x", MaxGlob+1): "revision"} {
		terms := Terms{Client: glob}
		if field == "revision" {
			terms = Terms{Revision: glob}
		}
		var fe *FieldError
		require.ErrorAs(t, rule("r", Admit, terms).Check(), &fe)
		assert.Equal(t, field, fe.Field)
	}
	for pin, good := range map[string]bool{
		`"${person}"`: true, `"${fullName} ${agent}"`: true, `"${label:home}"`: true, `"${label:}"`: false, `"${label:A B}"`: false, `"${secret}"`: false, `{"a":"${secret}"}`: true, `"$person"`: true,
	} {
		assert.Equal(t, good, rule("r", Admit, Terms{Pins: map[string]json.RawMessage{"p": raw(pin)}}).Check() == nil, pin)
	}
	byRole := rule("r", Hold, Terms{Deciders: []string{"role:maintainer"}})
	assert.True(t, byRole.Decides(Decider{Name: "joss", Role: "maintainer"}, ""))
	assert.False(t, byRole.Decides(Decider{Name: "maintainer", Role: "member"}, ""))
	long := rule("r", Admit, Terms{Window: "22:00-23:00 " + strings.Repeat(" ", 100)})
	assert.Error(t, long.Check())
	assert.NoError(t, rule("r", Admit, Terms{Window: "22:00-23:00" + strings.Repeat(" ", 89)}).Check())
	assert.Contains(t, rule("r", Admit, Terms{When: raw(`{"required":["` + strings.Repeat("x", 103) + `"]}`)}).Describe(), strings.Repeat("x", 103)+`"]}`)
	assert.Contains(t, rule("r", Admit, Terms{When: raw(`{"required":["` + strings.Repeat("x", 104) + `"]}`)}).Describe(), "...")
	lines := func(n int) Bundles { return Bundles{"a": slices.Repeat([]Entry{{Server: "s", Tool: "t"}}, n)} }
	assert.NoError(t, lines(MaxEntries).Check("a"))
	assert.Error(t, lines(MaxEntries+1).Check("a"))
}

// Refusals hold for names that somebody may take, admissions for those who had them.
func TestNamesOfPeople(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		effect     Effect
		person, id string
		want       bool
	}{
		{Admit, "joss", "p2", true}, {Admit, "joss", "p9", false}, {Admit, "joss", "", false}, {Admit, "marit", "p2", true}, {Admit, "marit", "p9", false},
		{Refuse, "joss", "p2", true}, {Refuse, "joss", "p9", true}, {Refuse, "joss", "", true}, {Refuse, "marit", "p2", true}, {Refuse, "marit", "p9", false}, {Refuse, "marit", "", false},
	} {
		r := rule("r", row.effect, Terms{Person: row.person, PersonID: row.id})
		assert.Equal(t, row.want, r.about(quill), "%+v", row)
	}
}

// What rules say together of one tool: the first word counts, the least amount does, and what one
// hides and another masks is both.
func TestShapesAreJoined(t *testing.T) {
	t.Parallel()
	shaped := &Object{Name: "order_fuel", Tool: true, Schema: order.Schema, Output: raw(`{"type":"object","properties":{"price":{"type":"number"},"name":{"type":"string"}}}`)}
	shape := func(o *Object, memo *Memo, list ...Rule) *Shape {
		s, err := Compile(list, noon, nil).For(quill).On(fuel).Shape(o, memo)
		require.NoError(t, err)
		return s
	}
	first := rule("first", Admit, Terms{Title: "A", Description: "a", ResultKiB: 8, Hide: []string{"price"}, Mask: []string{"name"}})
	second := rule("second", Admit, Terms{Title: "B", Description: "b", ResultKiB: 4})
	for _, list := range [][]Rule{{first, second}, {second, first}} {
		s := shape(shaped, nil, list...)
		assert.Equal(t, []any{list[0].Title, list[0].Description, 4096}, []any{s.Title, s.Description, s.ResultBytes})
		require.Len(t, s.Hide, 2)
		assert.Equal(t, []string{"price", "name"}, []string{s.Hide[0].String(), s.Hide[1].String()})
		assert.Equal(t, []bool{false, true}, []bool{s.Hide[0].Masked, s.Hide[1].Masked})
		assert.NotContains(t, string(s.Output), "price")
		assert.False(t, s.Looks())
	}
	assert.Zero(t, shape(shaped, nil, rule("x", Admit, Terms{Title: "X"})).ResultBytes)
	assert.Nil(t, shape(shaped, nil, second).Output, "nothing of it is hidden")
	assert.Nil(t, shape(order, nil, first).Output, "nothing is said of it")
	narrowed := rule("limit", Admit, Terms{Narrow: raw(`{"properties":{"litres":{"maximum":5}}}`)})
	memo := &Memo{}
	one, other := shape(order, memo, narrowed), shape(order, memo, narrowed)
	assert.Same(t, one.input, other.input, "it is made once")
	assert.NotSame(t, one.input, shape(shaped, memo, rule("limit", Admit, Terms{Narrow: raw(`{"properties":{"litres":{"maximum":6}}}`)})).input)

	pinned := shape(order, nil, rule("own", Admit, Terms{Pins: map[string]json.RawMessage{"port": raw(`"x"`)}}))
	left, err := pinned.Unfilled([]byte(`{"port":"x","litres":5}`))
	require.NoError(t, err)
	assert.JSONEq(t, `{"litres":5}`, string(left))
	_, err = pinned.Unfilled([]byte(`[]`))
	assert.Error(t, err)
	assert.NotNil(t, pinned.Judge([]byte(`{"litres":5}`)).Arguments)
	assert.Nil(t, one.Judge([]byte(`{"litres":5,"port":"x"}`)).Arguments, "what is not filled in is sent as it came")
}

// Notes of rules are told to whom they refuse, and the first rule that holds is the one that does.
func TestVerdictsNameTheirRule(t *testing.T) {
	t.Parallel()
	judge := func(args string, list ...Rule) Verdict {
		local := Compile(list, noon, nil).For(quill).On(fuel)
		s, err := local.Shape(order, nil)
		require.NoError(t, err)
		return s.Judge([]byte(args))
	}
	noted := func(r Rule, note string) Rule { r.Note = note; return r }
	all := rule("all", Admit, Terms{})
	never := rule("never", Refuse, Terms{When: raw(`{"properties":{"litres":{"const":13}}}`)})
	limit := rule("limit", Admit, Terms{Narrow: raw(`{"properties":{"litres":{"maximum":5000}}}`)})
	assert.True(t, strings.HasSuffix(judge(`{"litres":13,"port":"x"}`, all, noted(never, "ask the desk")).Why, "): ask the desk"))
	assert.False(t, strings.HasSuffix(judge(`{"litres":13,"port":"x"}`, all, never).Why, ": "))
	assert.True(t, strings.HasSuffix(judge(`{"litres":9000,"port":"x"}`, noted(limit, "ask the desk")).Why, "may say): ask the desk"))
	assert.True(t, strings.HasSuffix(judge(`{"litres":9000,"port":"x"}`, limit).Why, "(rule limit narrows what this agent may say)"))
	big := rule("big", Hold, Terms{When: raw(`{"properties":{"litres":{"minimum":100}}}`)})
	always := rule("always", Hold, Terms{Label: "laptop"})
	look := rule("look", Admit, Terms{When: raw(`{"properties":{"litres":{"minimum":1}}}`)})
	for _, list := range [][]Rule{{big, always, look}, {always, big, look}} {
		v := judge(`{"litres":500,"port":"x"}`, list...)
		assert.Equal(t, []string{"hold", list[0].Name}, []string{string(v.Effect), v.Rule.Name})
	}
	v := judge(`{"litres":5,"port":"x"}`, big, always, look)
	assert.Equal(t, "always", v.Rule.Name)
	v = judge(`{"litres":5,"port":"x"}`, big, look)
	assert.Equal(t, []string{"admit", "look"}, []string{string(v.Effect), v.Rule.Name})
	second := rule("second", Admit, Terms{When: raw(`{"properties":{"litres":{"minimum":3}}}`)})
	far := rule("far", Admit, Terms{When: raw(`{"properties":{"litres":{"minimum":400}}}`)})
	assert.Equal(t, "second", judge(`{"litres":5,"port":"x"}`, far, second).Rule.Name)
}

// Odd rules are told for what they are about.
func TestOddRulesAreTold(t *testing.T) {
	t.Parallel()
	w := World{Now: noon, Servers: []Offer{{Host: fuel, Tools: []Object{*order, *levels}}}}
	warned := func(r Rule, others ...Rule) string { return strings.Join(r.Warnings(others, w), "; ") }
	home := rule("r", Admit, Terms{Pins: map[string]json.RawMessage{"port": raw(`"${label:home}"`)}})
	assert.Empty(t, warned(home), "somebody has what it asks for")
	assert.Contains(t, warned(rule("r", Admit, Terms{Pins: map[string]json.RawMessage{"quay": raw("1")}})), "order_fuel of fuel has no argument quay")
	assert.Contains(t, warned(rule("r", Admit, Terms{When: raw(`{"properties":{"quay":{"const":1}}}`)})), "has no argument quay")
	refusal := rule("r", Refuse, Terms{When: raw(`{"properties":{"quay":{"const":1}}}`)})
	assert.NotContains(t, warned(refusal), "has no argument")
	var several []Object
	for i := range 5 {
		o := *order
		o.Name = fmt.Sprint("order_", i)
		several = append(several, o)
	}
	w.Servers[0].Tools = several
	assert.Equal(t, maxMisfits, strings.Count(warned(rule("r", Admit, Terms{When: raw(`{"properties":{"quay":{"const":1}}}`)})), "has no argument"))
	mine, theirs := rule("r", Admit, Terms{Label: "x"}), rule("wide", Refuse, Terms{})
	theirs.Agent, theirs.AgentID, mine.Agent, mine.AgentID = "joss-quill", "a1", "joss-quill", "a1"
	assert.Contains(t, warned(mine, theirs), "rule wide decides everything")
	theirs.AgentID = "a2"
	assert.NotContains(t, warned(mine, theirs), "decides everything")
	mine, theirs = rule("r", Admit, Terms{Label: "x", Person: "joss", PersonID: "p2"}), rule("wide", Refuse, Terms{Person: "joss", PersonID: "p2"})
	assert.Contains(t, warned(mine, theirs), "decides everything")
	theirs.PersonID = "p9"
	assert.NotContains(t, warned(mine, theirs), "decides everything")
}

// Times are exact to the minute.
func TestWindowsToTheMinute(t *testing.T) {
	t.Parallel()
	for text, open := range map[string]map[string]bool{
		"08:15-09:45":         {"2026-03-04 08:14": false, "2026-03-04 08:15": true, "2026-03-04 09:44": true, "2026-03-04 09:45": false},
		"wed 22:30-01:30":     {"2026-03-04 22:29": false, "2026-03-04 22:30": true, "2026-03-05 01:29": true, "2026-03-05 01:30": false, "2026-03-04 01:00": false, "2026-03-05 22:30": false},
		"sun-mon 00:00-24:00": {"2026-03-01 00:00": true, "2026-03-02 23:59": true, "2026-03-03 00:00": false},
	} {
		w, err := ReadWindow(text)
		require.NoError(t, err)
		for at, want := range open {
			when, err := time.Parse("2006-01-02 15:04", at)
			require.NoError(t, err)
			assert.Equal(t, want, w.Open(when), "%s at %s", text, at)
		}
	}
	for _, bad := range []string{"sun-moon 08:00-09:00", "moon-sun 08:00-09:00", "sun,moon 08:00-09:00"} {
		_, err := ReadWindow(bad)
		assert.ErrorContains(t, err, "no day", bad)
	}
}

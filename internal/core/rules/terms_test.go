package rules

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	quill = Subject{
		ID: "a1", Name: "joss-quill", Confirmed: true, Owner: "joss", OwnerID: "p2", FullName: "Joss Penhale", Role: "maintainer",
		Groups: []string{"dispatch"}, Labels: []string{"laptop", "home=skerrow"},
	}
	watch = Subject{ID: "a2", Name: "night-watch", Confirmed: true, Labels: []string{"unattended"}}
	fuel  = Host{Name: "fuel", Labels: []string{"money"}}
	yes   = true
	no    = false
	order = &Object{
		Name: "order_fuel", Tool: true, Hints: Hints{Destructive: &yes}, Fingerprint: "o1",
		Schema: json.RawMessage(`{"type":"object","properties":{"litres":{"type":"integer","maximum":90000},"port":{"type":"string"}},"required":["litres","port"]}`),
	}
	levels = &Object{Name: "bunker_levels", Tool: true, Hints: Hints{ReadOnly: &yes}, Tags: []string{"calm"}}
)

func rule(name string, effect Effect, terms Terms) Rule {
	return Rule{ID: name, Name: name, Effect: effect, Agent: "*", Server: "*", Tool: "*", Terms: terms}
}

// Each term, by itself, makes the difference between admitted and not.
func TestEveryTermCounts(t *testing.T) {
	t.Parallel()
	desk := Circumstances{Client: "quill", Revision: "2025-11-25", Address: netip.MustParseAddr("10.20.1.2"), Present: true}
	out := Circumstances{Client: "parlour", Revision: "2026-07-28", Address: netip.MustParseAddr("192.0.2.7")}
	later, before := noon.Add(time.Hour), noon.Add(-time.Hour)
	bundles := Bundles{"looking": {{Bundle: "levels"}, {Server: "tides", Tool: "*"}}, "levels": {{Server: "fuel", Tool: "bunker_*"}}}
	for name, row := range map[string]struct {
		terms Terms
		who   Subject
		how   Circumstances
		what  *Object
		want  bool
	}{
		"label":                    {Terms{Label: "laptop"}, quill, desk, levels, true},
		"another label":            {Terms{Label: "laptop"}, watch, desk, levels, false},
		"person":                   {Terms{Person: "joss", PersonID: "p2"}, quill, desk, levels, true},
		"another of the name":      {Terms{Person: "joss", PersonID: "p9"}, quill, desk, levels, false},
		"a name that nobody had":   {Terms{Person: "joss"}, quill, desk, levels, false},
		"the team's has no person": {Terms{Person: "joss", PersonID: "p2"}, watch, desk, levels, false},
		"role":                     {Terms{Role: "maintainer"}, quill, desk, levels, true},
		"another role":             {Terms{Role: "admin"}, quill, desk, levels, false},
		"group":                    {Terms{Group: "dispatch"}, quill, desk, levels, true},
		"another group":            {Terms{Group: "safety"}, quill, desk, levels, false},
		"server label":             {Terms{ServerLabel: "money"}, quill, desk, levels, true},
		"another server label":     {Terms{ServerLabel: "quayside"}, quill, desk, levels, false},
		"hint":                     {Terms{Hint: "read-only"}, quill, desk, levels, true},
		"hint, not":                {Terms{Hint: "not-destructive"}, quill, desk, levels, true},
		"another hint":             {Terms{Hint: "read-only"}, quill, desk, order, false},
		"what nothing says":        {Terms{Hint: "not-destructive"}, quill, desk, tool("stores"), false},
		"a tag over a hint":        {Terms{Hint: "read-only"}, quill, desk, &Object{Name: "x", Tool: true, Tags: []string{"read-only"}, Hints: Hints{ReadOnly: &no}}, true},
		"a tag against a hint":     {Terms{Hint: "read-only"}, quill, desk, &Object{Name: "x", Tool: true, Tags: []string{"not-read-only"}, Hints: Hints{ReadOnly: &yes}}, false},
		"a prompt has no hints":    {Terms{Hint: "not-read-only"}, quill, desk, &Object{Name: "prompt:x"}, false},
		"tag":                      {Terms{Tag: "calm"}, quill, desk, levels, true},
		"another tag":              {Terms{Tag: "calm"}, quill, desk, order, false},
		"bundle in a bundle":       {Terms{Bundle: "looking"}, quill, desk, levels, true},
		"not of the bundle":        {Terms{Bundle: "looking"}, quill, desk, order, false},
		"no such bundle":           {Terms{Bundle: "gone"}, quill, desk, levels, false},
		"window":                   {Terms{Window: "wed 12:00-13:00"}, quill, desk, levels, true},
		"window closed":            {Terms{Window: "wed 13:00-12:00"}, quill, desk, levels, false},
		"begun":                    {Terms{Begins: &before, Ends: &later}, quill, desk, levels, true},
		"not begun":                {Terms{Begins: &later}, quill, desk, levels, false},
		"ends at this moment":      {Terms{Ends: &noon}, quill, desk, levels, false},
		"disabled":                 {Terms{Disabled: true}, quill, desk, levels, false},
		"client":                   {Terms{Client: "qu*"}, quill, desk, levels, true},
		"another client":           {Terms{Client: "qu*"}, quill, out, levels, false},
		"revision":                 {Terms{Revision: "2025-*"}, quill, desk, levels, true},
		"another revision":         {Terms{Revision: "2025-*"}, quill, out, levels, false},
		"network":                  {Terms{Network: "10.20.0.0/16"}, quill, desk, levels, true},
		"another network":          {Terms{Network: "10.20.0.0/16"}, quill, out, levels, false},
		"the same in other words":  {Terms{Network: "10.20.0.0/16"}, quill, Circumstances{Address: netip.MustParseAddr("::ffff:10.20.0.9")}, levels, true},
		"no address":               {Terms{Network: "0.0.0.0/0"}, quill, Circumstances{}, levels, false},
		"present":                  {Terms{Presence: Present}, quill, desk, levels, true},
		"not present":              {Terms{Presence: Present}, quill, out, levels, false},
		"unattended":               {Terms{Presence: Unattended}, watch, out, levels, true},
		"not unattended":           {Terms{Presence: Unattended}, quill, desk, levels, false},
	} {
		set := Compile([]Rule{rule("r", Admit, row.terms)}, noon, bundles)
		bound := set.For(row.who)
		assert.Equal(t, row.want, bound.Under(row.how).On(fuel).Decide(row.what).Admitted(), name)
		e := set.Explain(Question{Who: row.who, How: row.how, Host: fuel, What: *row.what, Now: noon})
		assert.Equal(t, row.want, e.Effect == "admit", name)
		if !row.want && name != "no such bundle" {
			require.NotEmpty(t, e.Rules, name)
			assert.NotEmpty(t, e.Rules[0].Misses, name)
		}
		circumstantial := row.terms.Client+row.terms.Revision+row.terms.Network+row.terms.Presence != ""
		assert.Equal(t, circumstantial, bound.Variant(desk) != "", name)
	}
	broken := Compile([]Rule{rule("all", Admit, Terms{}), rule("r", Refuse, Terms{Bundle: "gone"})}, noon, bundles)
	assert.False(t, broken.For(quill).On(fuel).Decide(order).Admitted(), "what cannot be read refuses all it might be about")
}

// A refusal wins over a hold, a hold over an admission, whatever their order.
func TestEffectsHaveAnOrder(t *testing.T) {
	t.Parallel()
	byEffect := map[Effect]Rule{}
	for _, e := range []Effect{Admit, Hold, Refuse} {
		byEffect[e] = rule(string(e), e, Terms{})
	}
	for _, row := range []struct {
		order []Effect
		want  Effect
	}{
		{[]Effect{Admit, Hold, Refuse}, Refuse}, {[]Effect{Refuse, Admit}, Refuse}, {[]Effect{Admit, Hold}, Hold},
		{[]Effect{Hold, Admit}, Hold}, {[]Effect{Hold}, Hold}, {[]Effect{Admit}, Admit}, {nil, Refuse},
	} {
		var list []Rule
		for _, e := range row.order {
			list = append(list, byEffect[e])
		}
		assert.Equal(t, row.want, Compile(list, noon, nil).For(quill).On(fuel).Decide(order).Effect)
	}
	held := byEffect[Hold]
	assert.Equal(t, DefaultHold*time.Second, held.HoldFor())
	held.HoldSeconds, held.Deciders = 600, []string{"group:dispatch", "person:teo"}
	assert.Equal(t, 10*time.Minute, held.HoldFor())
	for name, row := range map[string]struct {
		who   Decider
		owner string
		want  bool
	}{
		"of the group":  {Decider{"joss", "member", []string{"dispatch"}}, "", true},
		"named":         {Decider{"teo", "member", nil}, "marit", true},
		"an admin":      {Decider{"marit", "admin", nil}, "", false},
		"an auditor":    {Decider{"wren", "auditor", []string{"dispatch"}}, "", false},
		"his own agent": {Decider{"joss", "admin", []string{"dispatch"}}, "joss", false},
	} {
		assert.Equal(t, row.want, held.Decides(row.who, row.owner), name)
	}
	held.OwnDecides = true
	assert.True(t, held.Decides(Decider{"joss", "member", nil}, "joss"))
	assert.True(t, byEffect[Hold].Decides(Decider{"marit", "admin", nil}, ""))
	assert.False(t, byEffect[Hold].Decides(Decider{"ottilie", "member", nil}, ""))
}

// What a rule says of arguments is shown, enforced, filled in and told.
func TestShapesOfCalls(t *testing.T) {
	t.Parallel()
	limit := rule("limit", Admit, Terms{Label: "laptop", Narrow: json.RawMessage(`{"properties":{"litres":{"maximum":5000}}}`), ResultKiB: 4})
	own := rule("own", Admit, Terms{Pins: map[string]json.RawMessage{"port": json.RawMessage(`"${label:home}"`)}, Title: "Order", Hide: []string{"price"}})
	many := rule("many", Hold, Terms{When: json.RawMessage(`{"properties":{"litres":{"minimum":3000}}}`)})
	never := rule("never", Refuse, Terms{When: json.RawMessage(`{"properties":{"litres":{"const":13}}}`)})
	shape := func(who Subject, list ...Rule) (*Shape, Decision, error) {
		local := Compile(list, noon, nil).For(who).On(fuel)
		d := local.Decide(order)
		s, err := local.Shape(order, &Memo{})
		return s, d, err
	}
	s, d, err := shape(quill, limit, own, many, never)
	require.NoError(t, err)
	assert.True(t, d.Depends && d.Shaped && d.Effect == Admit)
	assert.Equal(t, []string{"limit", "own"}, s.Rules())
	assert.Equal(t, []string{"port"}, s.Pinned())
	assert.Equal(t, "Order", s.Title)
	assert.Equal(t, 4096, s.ResultBytes)
	assert.JSONEq(t, `{"type":"object","additionalProperties":false,"properties":{"litres":{"type":"integer","maximum":5000}},
		"required":["litres"],"allOf":[{"not":{"properties":{"litres":{"const":13}},"required":["litres"]}}]}`, string(s.Input))
	for args, want := range map[string]string{
		`{"litres":200}`:                  `admit limit {"litres":200,"port":"skerrow"}`,
		`{"litres":4000}`:                 `hold many {"litres":4000,"port":"skerrow"}`,
		`{"litres":9000}`:                 "refuse limit ",
		`{"litres":13}`:                   "refuse never ",
		`{"litres":13.0}`:                 "refuse never ",
		`{"litres":200,"port":"x"}`:       "refuse limit ",
		`{"litres":200,"litres":9}`:       "refuse limit ",
		`{"litres":200,"LITRES":9}`:       "refuse limit ",
		`{"litres":"200"}`:                "refuse limit ",
		``:                                "refuse limit ",
		`{"litres":200,"por\u0074":"x"}`:  "refuse limit ",
		`{"litres":200,"lit\u212Ares":9}`: "refuse limit ",
	} {
		v := s.Judge([]byte(args))
		assert.Equal(t, want, fmt.Sprintf("%s %s %s", v.Effect, v.Rule.Name, v.Arguments), args)
		assert.Equal(t, v.Effect == Refuse, v.Why != "", args)
	}
	_, _, err = shape(watch, own)
	assert.ErrorContains(t, err, "rule own cannot be applied to it: argument port is pinned to ${label:home}, and agent night-watch has none")
	_, _, err = shape(quill, own, rule("other", Admit, Terms{Pins: map[string]json.RawMessage{"port": json.RawMessage(`"x"`)}}))
	assert.ErrorContains(t, err, "pinned to another value by another rule")
	_, _, err = shape(quill, rule("odd", Admit, Terms{Narrow: json.RawMessage(`{"properties":{"port":{"type":"integer"}}}`)}))
	assert.ErrorContains(t, err, "rule odd cannot be applied to it: port: the tool takes string there")

	small := rule("small", Admit, Terms{When: json.RawMessage(`{"properties":{"litres":{"maximum":10}}}`)})
	s, d, err = shape(watch, small, many)
	require.NoError(t, err)
	assert.True(t, d.Depends)
	assert.Equal(t, Admit, s.Judge([]byte(`{"litres":5,"port":"x"}`)).Effect)
	assert.Equal(t, Hold, s.Judge([]byte(`{"litres":5000,"port":"x"}`)).Effect)
	assert.Contains(t, s.Judge([]byte(`{"litres":50,"port":"x"}`)).Why, "no rule admits it with these arguments; rule small and rule many would")
}

// Over generated sets of rules: what is shown is what is admitted, explaining says the
// same as deciding, and whoever is refused is not admitted by asking differently.
func TestDecidingShowingAndExplainingAgree(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(7, 9))
	pick := func(from ...string) string { return from[rnd.IntN(len(from))] }
	refused, admitted, held := 0, 0, 0
	for range 150 {
		var list []Rule
		for i := range 1 + rnd.IntN(5) {
			terms := Terms{Label: pick("", "", "laptop", "unattended"), Hint: pick("", "", "destructive", "read-only")}
			effect := Effect(pick("admit", "admit", "admit", "hold", "refuse"))
			switch rnd.IntN(4) {
			case 0:
				terms.When = json.RawMessage(fmt.Sprintf(`{"properties":{"litres":{"%s":%d}}}`, pick("minimum", "maximum"), rnd.IntN(20)))
			case 1:
				if effect != Refuse {
					terms.Narrow = json.RawMessage(fmt.Sprintf(`{"properties":{"litres":{"%s":%d}}}`, pick("minimum", "maximum"), rnd.IntN(20)))
				}
			}
			r := rule(fmt.Sprintf("r%d", i), effect, terms)
			r.Tool = pick("*", "order_*", "order_fuel", "bunker_levels")
			require.NoError(t, r.Check())
			list = append(list, r)
		}
		set := Compile(list, noon, nil)
		for _, who := range []Subject{quill, watch} {
			local := set.For(who).On(fuel)
			d := local.Decide(order)
			if !d.Admitted() || !d.Shaped {
				e := set.Explain(Question{Who: who, Host: fuel, What: *order, Now: noon})
				assert.Equal(t, []string{string(d.Effect), d.RuleID()}, []string{e.Effect, e.Rule})
				continue
			}
			s, err := local.Shape(order, nil)
			for litres := range 20 {
				args := []byte(fmt.Sprintf(`{"litres":%d,"port":"x"}`, litres))
				e := set.Explain(Question{Who: who, Host: fuel, What: *order, Arguments: args, Now: noon})
				if err != nil {
					assert.Equal(t, "refuse", e.Effect)
					continue
				}
				v := Verdict{Effect: d.Effect, Rule: d.Rule}
				if s.Looks() {
					v = s.Judge(args)
				}
				assert.Equal(t, string(v.Effect), e.Effect)
				want := byHand(list, who, litres)
				require.Equal(t, want, v.Effect, "%s: %+v, %d litres", who.Name, list, litres)
				switch want {
				case Admit:
					admitted++
				case Hold:
					held++
				default:
					refused++
				}
			}
		}
	}
	require.Greater(t, min(refused, admitted, held), 50)
}

// byHand decides an order of so many litres by reading the rules one after the other.
func byHand(list []Rule, who Subject, litres int) Effect {
	fits := func(raw json.RawMessage) bool {
		var o struct {
			Properties struct {
				Litres struct{ Minimum, Maximum *int }
			}
		}
		if json.Unmarshal(raw, &o) != nil {
			return true
		}
		l := o.Properties.Litres
		return (l.Minimum == nil || litres >= *l.Minimum) && (l.Maximum == nil || litres <= *l.Maximum)
	}
	out, narrowed := Refuse, false
	for _, r := range list {
		mine := (r.Label == "" || strings.Contains(strings.Join(who.Labels, " "), r.Label)) &&
			(r.Tool == "*" || strings.HasPrefix(r.Tool, "order_")) && r.Hint != "read-only"
		if !mine || !fits(r.When) {
			continue
		}
		if r.Effect == Refuse {
			return Refuse
		}
		if out == Refuse || r.Effect == Hold {
			out = r.Effect
		}
		narrowed = narrowed || !fits(r.Narrow)
	}
	if narrowed {
		return Refuse
	}
	return out
}

func TestWindowsFollowTheClockOfTheirPlace(t *testing.T) {
	t.Parallel()
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	night, err := ReadWindow("22:00-06:00 Europe/Oslo")
	require.NoError(t, err)
	week, err := ReadWindow("fri-mon,wed 08:00-24:00 Europe/Oslo")
	require.NoError(t, err)
	for text, row := range map[string]struct {
		w    Window
		open bool
		turn string
	}{
		"2026-03-04 21:59": {night, false, "2026-03-04 22:00"},
		"2026-03-04 22:00": {night, true, "2026-03-05 06:00"},
		"2026-03-05 05:59": {night, true, "2026-03-05 06:00"},
		"2026-03-29 01:30": {night, true, "2026-03-29 06:00"}, // the night in which an hour is left out
		"2026-03-04 08:00": {week, true, "2026-03-05 00:00"},
		"2026-03-05 12:00": {week, false, "2026-03-06 08:00"},
		"2026-03-08 23:59": {week, true, "2026-03-09 00:00"},
		"2026-03-09 07:00": {week, false, "2026-03-09 08:00"},
	} {
		at, err := time.ParseInLocation("2006-01-02 15:04", text, oslo)
		require.NoError(t, err)
		assert.Equal(t, row.open, row.w.Open(at), text)
		assert.Equal(t, row.turn, row.w.Turns(at).In(oslo).Format("2006-01-02 15:04"), text)
	}
	always, err := ReadWindow("00:00-24:00")
	require.NoError(t, err)
	assert.True(t, always.Open(noon) && always.Turns(noon).IsZero())
	for text, why := range map[string]string{
		"": "times look like", "22-06": "times look like", "mon 22:00": "times look like", "22:00-22:00": "never holds",
		"moon 22:00-23:00": "no day", "22:00-23:00 Europe/Nowhere": "no time zone", "22:00-25:00": "times look like",
		"22:00-23:00 Europe/Oslo now": "times look like", "22:00-23:00 Local": "no time zone",
	} {
		_, err := ReadWindow(text)
		assert.ErrorContains(t, err, why, text)
	}
	later := noon.Add(48 * time.Hour)
	set := Compile([]Rule{rule("a", Admit, Terms{Window: "22:00-06:00"}), rule("b", Admit, Terms{Begins: &later})}, noon, nil)
	assert.Equal(t, noon.Add(10*time.Hour), set.Turns())
	assert.True(t, Compile([]Rule{rule("a", Admit, Terms{Window: "22:00-06:00", Disabled: true})}, noon, nil).Turns().IsZero())
}

func TestTermsThatCannotBeAreRefusedByName(t *testing.T) {
	t.Parallel()
	raw := func(s string) json.RawMessage { return json.RawMessage(s) }
	past := noon.Add(-time.Hour)
	for name, row := range map[string]struct {
		effect Effect
		terms  Terms
		field  string
	}{
		"role":                 {Admit, Terms{Role: "boss"}, "role"},
		"hint":                 {Admit, Terms{Hint: "harmless"}, "hint"},
		"label":                {Admit, Terms{Label: "Lap Top"}, "label"},
		"when is no JSON":      {Admit, Terms{When: raw(`{`)}, "when"},
		"when and narrow":      {Admit, Terms{When: raw(`{"required":["a"]}`), Narrow: raw(`{"required":["a"]}`)}, "when"},
		"window":               {Admit, Terms{Window: "nights"}, "window"},
		"network":              {Admit, Terms{Network: "10.0.0.1"}, "network"},
		"presence":             {Admit, Terms{Presence: "maybe"}, "presence"},
		"ends first":           {Admit, Terms{Begins: &noon, Ends: &past}, "ends"},
		"narrow refuses":       {Refuse, Terms{Narrow: raw(`{"required":["a"]}`)}, "narrow"},
		"narrow has no schema": {Admit, Terms{Narrow: raw(`{"properties":{"a":{"maximun":5}}}`)}, "narrow"},
		"pin is no JSON":       {Admit, Terms{Pins: map[string]json.RawMessage{"a": raw(`skerrow`)}}, "pins"},
		"pin of nothing":       {Admit, Terms{Pins: map[string]json.RawMessage{"a": raw(`"${secret}"`)}}, "pins"},
		"path":                 {Admit, Terms{Hide: []string{"a b"}}, "hide"},
		"path of a mask":       {Admit, Terms{Mask: []string{"a..b"}}, "mask"},
		"place":                {Admit, Terms{Order: -1}, "order"},
		"who is asked":         {Admit, Terms{AsksUser: true}, "effect"},
		"result":               {Admit, Terms{ResultKiB: -1}, "resultKiB"},
		"nothing is held":      {Admit, Terms{HoldSeconds: 5}, "effect"},
		"too long":             {Hold, Terms{HoldSeconds: MaxHold + 1}, "holdSeconds"},
		"deciders":             {Hold, Terms{Deciders: []string{"dispatch"}}, "deciders"},
		"auditors decide":      {Hold, Terms{Deciders: []string{"role:auditor"}}, "deciders"},
	} {
		var fe *FieldError
		require.ErrorAs(t, rule("r", row.effect, row.terms).Check(), &fe, name)
		assert.Equal(t, row.field, fe.Field, name)
	}
	b := Bundles{"a": {{Bundle: "b"}}, "b": {{Bundle: "c"}}, "c": {{Bundle: "a"}}, "d": {{Server: "x"}}, "e": {{Bundle: "gone"}}, "f": nil}
	assert.ErrorContains(t, b.Check("a"), "holds itself: a holds b holds c holds a")
	assert.ErrorContains(t, b.Check("d"), "entries[0].tool is empty")
	assert.ErrorContains(t, b.Check("e"), "no such bundle")
	assert.ErrorContains(t, b.Check("f"), "entries are 0")
}

func TestWarningsTellWhatIsOdd(t *testing.T) {
	t.Parallel()
	w := World{Now: noon, Servers: []Offer{{Host: fuel, Tools: []Object{*order, *levels}}}}
	past, soon := noon.Add(-time.Hour), noon.Add(time.Hour)
	others := []Rule{rule("no-orders", Refuse, Terms{Hint: "destructive"}), rule("all", Admit, Terms{})}
	for name, row := range map[string]struct {
		rule Rule
		want string
	}{
		"ended":         {rule("r", Admit, Terms{Ends: &past, Label: "x"}), "ended already"},
		"never opens":   {rule("r", Refuse, Terms{Window: "22:00-23:00", Ends: &soon}), "does not open before it ends"},
		"shadowed":      {rule("r", Hold, Terms{Hint: "destructive", Label: "laptop"}), "rule no-orders decides everything"},
		"said already":  {rule("r", Admit, Terms{Label: "laptop"}), "rule all decides everything"},
		"contradicts":   {rule("r", Admit, Terms{Tag: "x", Narrow: json.RawMessage(`{"properties":{"port":{"type":"integer"}}}`)}), ""},
		"does not fit":  {rule("r", Admit, Terms{Narrow: json.RawMessage(`{"properties":{"port":{"type":"integer"}}}`)}), "order_fuel of fuel can then not be used"},
		"a misspelling": {rule("r", Admit, Terms{Narrow: json.RawMessage(`{"properties":{"litre":{"maximum":5}}}`)}), "order_fuel of fuel has no argument litre"},
		"nothing is it": {rule("r", Hold, Terms{Label: "laptop"}), ""},
	} {
		got := row.rule.Warnings(others, w)
		if row.want == "" {
			assert.Empty(t, got, name)
			continue
		}
		require.NotEmpty(t, got, name)
		assert.Contains(t, strings.Join(got, "; "), row.want, name)
	}
}

func BenchmarkDecideAmongTenThousandRules(b *testing.B) {
	local := crowded().For(quill).On(fuel)
	objects := make([]*Object, 10_000)
	for i := range objects {
		objects[i] = tool(fmt.Sprintf("tool-%d", i))
	}
	for i := 0; b.Loop(); i++ {
		local.Decide(objects[i%len(objects)])
	}
}

func BenchmarkJudge(b *testing.B) {
	local := Compile([]Rule{rule("r", Admit, Terms{Narrow: json.RawMessage(`{"properties":{"litres":{"maximum":5000}}}`)})}, noon, nil).For(quill).On(fuel)
	s, err := local.Shape(order, nil)
	require.NoError(b, err)
	args := []byte(`{"litres":200,"port":"skerrow"}`)
	for b.Loop() {
		s.Judge(args)
	}
}

func crowded() *Set {
	var list []Rule
	for i := range 10_000 {
		r := rule(fmt.Sprintf("r%d", i), Admit, Terms{})
		r.Tool = fmt.Sprintf("tool-%d", i)
		list = append(list, r)
	}
	return Compile(list, noon, nil)
}

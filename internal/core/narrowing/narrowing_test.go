package narrowing

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const order = `{"type":"object","properties":{
	"port":{"type":"string","enum":["Skerrow","Holm Voe","Sandwick"],"description":"where"},
	"litres":{"type":"integer","minimum":1,"maximum":50000},
	"note":{"type":"string"},
	"account":{"type":"string"}},"required":["port","litres","account"]}`

func overlay(t *testing.T, raw string) *Overlay {
	t.Helper()
	o, err := ReadOverlay([]byte(raw))
	require.NoError(t, err, raw)
	return o
}

func condition(t *testing.T, raw string) *Overlay {
	t.Helper()
	o, err := ReadCondition([]byte(raw))
	require.NoError(t, err, raw)
	return o
}

// The schema that is shown is as simple as the tool's own.
func TestNarrowingIsMerged(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct{ base, with, want string }{
		"an enumeration shrinks, a maximum lowers": {
			order, `{"properties":{"port":{"enum":["Holm Voe","Skerrow","Nowhere"]},"litres":{"maximum":5000}}}`,
			`{"type":"object","properties":{"port":{"type":"string","enum":["Skerrow","Holm Voe"],"description":"where"},
			"litres":{"type":"integer","minimum":1,"maximum":5000},"note":{"type":"string"},"account":{"type":"string"}},
			"required":["port","litres","account"]}`,
		},
		"a laxer bound changes nothing": {
			`{"type":"object","properties":{"n":{"type":"integer","maximum":5}}}`, `{"properties":{"n":{"maximum":5e3}}}`,
			`{"type":"object","properties":{"n":{"type":"integer","maximum":5}}}`,
		},
		"a property disappears": {
			`{"type":"object","properties":{"a":{"type":"string"},"b":{"type":"string"}}}`, `{"properties":{"b":false}}`,
			`{"type":"object","properties":{"a":{"type":"string"}},"additionalProperties":false}`,
		},
		"a default is set, a text replaced": {
			`{"type":"object","properties":{"a":{"type":"string","description":"x"}}}`, `{"properties":{"a":{"default":"q","description":"y"}}}`,
			`{"type":"object","properties":{"a":{"type":"string","description":"y","default":"q"}}}`,
		},
		"only what is named": {
			`{"type":"object","properties":{"a":{"type":"string"},"b":{}}}`, `{"properties":{"a":{}},"additionalProperties":false}`,
			`{"type":"object","properties":{"a":{"type":"string"}},"additionalProperties":false}`,
		},
		"within lists and objects": {
			`{"type":"object","properties":{"rows":{"type":"array","items":{"type":"object","properties":{"n":{"type":"number"}}}}}}`,
			`{"properties":{"rows":{"maxItems":3,"items":{"properties":{"n":{"maximum":2}}}}}}`,
			`{"type":"object","properties":{"rows":{"type":"array","maxItems":3,"items":{"type":"object","properties":{"n":{"type":"number","maximum":2}}}}}}`,
		},
		"what refers elsewhere is kept beside it": {
			`{"type":"object","$defs":{"p":{"type":"string"}},"properties":{"a":{"$ref":"#/$defs/p"}}}`, `{"properties":{"a":{"enum":["x"]}}}`,
			`{"type":"object","$defs":{"p":{"type":"string"}},"properties":{"a":{"$ref":"#/$defs/p","allOf":[{"enum":["x"]}]}}}`,
		},
		"an argument that nobody described": {
			`{"type":"object"}`, `{"properties":{"n":{"maximum":3}},"required":["n"]}`,
			`{"type":"object","properties":{"n":{"type":"number","maximum":3}},"required":["n"]}`,
		},
	} {
		t.Run(name, func(t *testing.T) {
			in, err := Narrow(json.RawMessage(row.base), Terms{Overlays: []*Overlay{overlay(t, row.with)}})
			require.NoError(t, err)
			assert.JSONEq(t, row.want, string(in.Shown))
		})
	}
}

func TestContradictionsNameTheirPlace(t *testing.T) {
	t.Parallel()
	for with, want := range map[string]string{
		`{"properties":{"port":{"enum":["Kirkvoe"]}}}`:            "port: none of the values is one that the tool takes",
		`{"properties":{"litres":{"maximum":0}}}`:                 "litres: minimum is above maximum",
		`{"properties":{"litres":{"pattern":"x"}}}`:               "litres: the tool takes integer there",
		`{"properties":{"litres":false}}`:                         "litres: the tool must be given it",
		`{"properties":{"port":{}},"additionalProperties":false}`: "account: the tool must be given it",
	} {
		_, err := Narrow(json.RawMessage(order), Terms{Overlays: []*Overlay{overlay(t, with)}})
		var c *ContradictionError
		require.ErrorAs(t, err, &c, with)
		assert.Equal(t, want, err.Error())
	}
	closed := json.RawMessage(`{"type":"object","properties":{"a":{"type":"string"}},"additionalProperties":false}`)
	_, err := Narrow(closed, Terms{Overlays: []*Overlay{overlay(t, `{"properties":{"b":{"maximum":1}}}`)}})
	assert.EqualError(t, err, "b: the tool has no such argument")
	_, err = Narrow(closed, Terms{Pins: map[string]any{"b": "x"}})
	assert.EqualError(t, err, "b: it is pinned, but the tool has no such argument")
	_, err = Narrow(closed, Terms{Pins: map[string]any{"a": json.Number("1")}})
	assert.ErrorContains(t, err, "a: the pinned value does not fit what the tool takes")
	for _, bad := range []string{`[]`, `{"type":"nonsense"}`, `x`, `{"$ref":"https://schemas.skerrow.example/x"}`} {
		_, err := Narrow(json.RawMessage(bad), Terms{Overlays: []*Overlay{overlay(t, `{"properties":{"a":{"maximum":1}}}`)}})
		assert.Error(t, err, bad)
	}
}

func TestSchemasOfRulesAreChecked(t *testing.T) {
	t.Parallel()
	for bad, want := range map[string]string{
		``:                                     "it is not JSON",
		`[]`:                                   "it must be an object",
		`{}`:                                   "it says nothing",
		`{"litres":{"maximum":1}}`:             `"litres" is no keyword of JSON Schema`,
		`{"properties":{"a":{"$ref":"#/x"}}}`:  "a: $ref cannot be used in a rule",
		`{"properties":{"a":3}}`:               "a: it must be a schema",
		`{"properties":{"a":{"maximum":"x"}}}`: "it is no JSON Schema",
		`{"properties":{"a":{"pattern":"("}}}`: "it is no JSON Schema",
		`{"properties":{"a":{}},"properties":{}}`:             "properties occurs twice",
		`{"properties":[]}`:                                   "properties: it must be an object",
		`{"properties":{"a":{"maximum":1e999}}}`:              "a.maximum is a number that programs do not agree on",
		strings.Repeat("[", 100):                              "nested too deeply",
		`{"enum":["` + strings.Repeat("x", MaxSchema) + `"]}`: "are the most",
	} {
		_, err := ReadOverlay([]byte(bad))
		var s *SchemaError
		require.ErrorAs(t, err, &s, bad)
		assert.ErrorContains(t, err, want, bad)
	}
}

func TestWhatIsJudged(t *testing.T) {
	t.Parallel()
	in, err := Narrow(json.RawMessage(order), Terms{
		Overlays: []*Overlay{overlay(t, `{"properties":{"port":{"enum":["Skerrow","Holm Voe"]},"litres":{"maximum":5000}}}`)},
		NoneOf:   []*Overlay{condition(t, `{"properties":{"note":{"const":"urgent"}}}`)},
		Pins:     map[string]any{"account": "joss"},
	})
	require.NoError(t, err)
	assert.NotContains(t, string(in.Shown), "account")
	assert.Equal(t, []string{"account"}, in.Pinned())
	for args, want := range map[string]string{
		`{"port":"Skerrow","litres":5000}`:                        "",
		`{"port":"Skerrow","litres":5000.0}`:                      "",
		`{"port":"Skerrow","litres":5001}`:                        "argument litres: maximum: got 5,001, want 5,000",
		`{"port":"Sandwick","litres":1}`:                          "argument port: value must be one of",
		`{"port":"Skerrow","litres":"4"}`:                         "argument litres: got string, want integer",
		`{"port":"Skerrow"}`:                                      "missing property 'litres'",
		`{"port":"Skerrow","litres":1,"account":"marit"}`:         "additional properties 'account' not allowed",
		`{"port":"Skerrow","litres":1,"note":"urgent"}`:           "not",
		`{"port":"Skerrow","litres":1,"litres":90000}`:            "litres occurs twice",
		`{"port":"Skerrow","litres":1,"\u006citres":90000}`:       "litres occurs twice",
		`{"port":"Skerrow","litres":1,"Litres":90000}`:            "argument Litres: it differs from litres by its case only",
		`{"port":"Skerrow","litres":1,"note":{"acc\u006funT":1}}`: "by its case only",
		`{"port":"Skerrow","litre\u017f":1,"litres":2}`:           "by its case only",
		`{"port":"Skerrow","litres":1e400}`:                       "programs do not agree on",
		`{"port":"Skerrow","litres":1e99999999999}`:               "programs do not agree on",
		`[1]`: "they must be an object",
		``:    "missing properties",
		`{"port":"Skerrow","litres":` + strings.Repeat("1", 200) + `}`: "programs do not agree on",
	} {
		got, err := in.Judge([]byte(args))
		if want == "" {
			require.NoError(t, err, args)
			assert.JSONEq(t, strings.Replace(strings.Replace(args, "}", `,"account":"joss"}`, 1), "5000.0", "5000.0", 1), string(in.Fill(got)))
			continue
		}
		var a *ArgumentError
		require.ErrorAs(t, err, &a, args)
		assert.ErrorContains(t, err, want, args)
	}
}

func TestConditionsWantWhatTheyName(t *testing.T) {
	t.Parallel()
	c, err := condition(t, `{"properties":{"job":{"enum":["nightly"]}}}`).Compile()
	require.NoError(t, err)
	assert.True(t, c.Fits(map[string]any{"job": "nightly"}))
	assert.False(t, c.Fits(map[string]any{"job": "release"}))
	assert.False(t, c.Fits(map[string]any{}), "what is not there does not hold")
	either := []*Overlay{condition(t, `{"properties":{"n":{"maximum":1}}}`), condition(t, `{"properties":{"n":{"minimum":9}}}`)}
	in, err := Narrow(json.RawMessage(`{"type":"object","properties":{"n":{"type":"integer"}}}`), Terms{AnyOf: either})
	require.NoError(t, err)
	for args, ok := range map[string]bool{`{"n":1}`: true, `{"n":9}`: true, `{"n":5}`: false, `{}`: false} {
		_, err := in.Judge([]byte(args))
		assert.Equal(t, ok, err == nil, args)
	}
}

// What fits the merged schema fits both, whatever the schemas; and what fits both fits
// the merged one, but for members that nobody described where one was taken away.
func TestMergedIsBoth(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(7, 11))
	merged, refused, agreed := 0, 0, 0
	pairs := 4000
	if testing.Short() {
		pairs = 1500
	}
	for range pairs {
		base, over := schema(r, 0), schema(r, 0)
		base["type"], over["type"] = "object", "object"
		m, err := mergeSchema(base, over, "")
		if err != nil {
			refused++
			continue
		}
		judge, err := compile(m)
		require.NoError(t, err, string(encode(m)))
		first, err := compile(any(base))
		require.NoError(t, err)
		second, err := compile(any(over))
		require.NoError(t, err)
		merged++
		for range 12 {
			args := value(r, 0)
			both := first.Validate(args) == nil && second.Validate(args) == nil
			got := judge.Validate(args) == nil
			about := fmt.Sprintf("base %s\nover %s\nmerged %s\nargs %s", encode(base), encode(over), encode(m), encode(args))
			if got {
				agreed++
				require.True(t, both, about)
			} else if both {
				require.Contains(t, string(encode(over))+string(encode(base)), "false", about)
			}
		}
	}
	assert.Greater(t, merged, pairs/4)
	assert.Greater(t, refused, pairs/40)
	assert.Greater(t, agreed, pairs/8)
}

var names = []string{"a", "b", "c"}

func schema(r *rand.Rand, depth int) map[string]any {
	s := map[string]any{}
	n := func() any { return json.Number(fmt.Sprint(r.IntN(6))) }
	properties := map[string]any{}
	for _, name := range names {
		switch r.IntN(5) {
		case 0:
			properties[name] = map[string]any{"type": "integer", "maximum": n()}
		case 1:
			properties[name] = map[string]any{"enum": []any{n(), n(), "x"}}
		case 2:
			if depth < 2 {
				inner := schema(r, depth+1)
				inner["type"] = "object"
				properties[name] = inner
			}
		case 3:
			properties[name] = []any{false, map[string]any{"minimum": n()}, map[string]any{"type": "array", "items": map[string]any{"minimum": n()}}}[r.IntN(3)]
		}
	}
	s["properties"] = properties
	switch r.IntN(8) {
	case 0:
		s["additionalProperties"] = false
	case 1:
		s["required"] = []any{names[r.IntN(3)]}
	case 2:
		s["additionalProperties"] = map[string]any{"minimum": n()}
	case 3:
		s["patternProperties"] = map[string]any{"^[ab]": map[string]any{"maximum": n()}}
	case 4:
		s["not"] = map[string]any{"required": []any{names[r.IntN(3)]}}
	case 5:
		s["maxProperties"] = n()
	}
	return s
}

func value(r *rand.Rand, depth int) any {
	out := map[string]any{}
	for _, name := range append(names, "z") {
		switch r.IntN(7) {
		case 0, 1:
			out[name] = json.Number(fmt.Sprint(r.IntN(7)))
		case 2:
			out[name] = "x"
		case 3:
			if depth < 2 {
				out[name] = value(r, depth+1)
			}
		case 4:
			out[name] = []any{json.Number(fmt.Sprint(r.IntN(7)))}
		}
	}
	return out
}

func TestFieldsAreHidden(t *testing.T) {
	t.Parallel()
	paths := []Path{{Names: []string{"items", "*", "finder"}}, {Names: []string{"Secret"}}}
	for name, row := range map[string]struct {
		in, want string
		n        int
	}{
		"in structured content and its text": {
			`{"structuredContent":{"items":[{"id":1,"finder":"Ada"}],"secret":2},"content":[{"type":"text","text":"{\"items\":[{\"id\":1,\"finder\":\"Ada\"}]}"}]}`,
			`{"structuredContent":{"items":[{"id":1}]},"content":[{"type":"text","text":"{\"items\":[{\"id\":1}]}"}]}`, 3,
		},
		"prose beside structured content": {
			`{"structuredContent":{"items":[]},"content":[{"type":"text","text":"found by Ada"}]}`,
			`{"structuredContent":{"items":[]},"content":[{"type":"text","text":"{\"items\":[]}"}]}`, 1,
		},
		"prose alone":       {`{"content":[{"type":"text","text":"found by Ada"}]}`, `{"content":[{"type":"text","text":"` + withheld + `"}]}`, 1},
		"JSON in quotes":    {`{"content":[{"type":"text","text":"\"Ada\""}]}`, `{"content":[{"type":"text","text":"` + withheld + `"}]}`, 1},
		"a list at the top": {`{"content":[{"type":"text","text":"[{\"secret\":1,\"a\":2}]"}]}`, `{"content":[{"type":"text","text":"[{\"a\":2}]"}]}`, 1},
		"an embedded file": {
			`{"content":[{"type":"resource","resource":{"uri":"x","blob":"QWRh"}}]}`, `{"content":[{"type":"resource","resource":{"uri":"x","blob":""}}]}`, 1,
		},
		"nothing to hide": {`{"content":[{"type":"text","text":"{\"a\":1}"},{"type":"image","data":"x"}]}`, `{"content":[{"type":"text","text":"{\"a\":1}"},{"type":"image","data":"x"}]}`, 0},
	} {
		t.Run(name, func(t *testing.T) {
			got, n, err := Hide(json.RawMessage(row.in), paths)
			require.NoError(t, err)
			assert.JSONEq(t, row.want, string(got))
			assert.Equal(t, row.n, n)
		})
	}
	_, _, err := Hide(json.RawMessage(`{"structuredContent":{"secret":1,"secret":2}}`), paths)
	assert.Error(t, err, "what is not clear is not passed on")
	plain := `{"type":"object","properties":{"items":{"type":"array","items":{"type":"object","properties":{"id":{},"finder":{}},"required":["id","finder"]}},"secret":{}},"required":["secret"]}`
	got, ok := HideInSchema(json.RawMessage(plain), paths)
	require.True(t, ok)
	assert.JSONEq(t, `{"type":"object","properties":{"items":{"type":"array","items":{"type":"object","properties":{"id":{}},"required":["id"]}}},"required":[]}`, string(got))
	for _, odd := range []string{`{"anyOf":[{"required":["secret"]}]}`, `{"$ref":"#/$defs/x","$defs":{"x":{}}}`, `[]`, `x`} {
		_, ok := HideInSchema(json.RawMessage(odd), paths)
		assert.False(t, ok, odd)
	}
	for _, bad := range []string{"", "a..b", "a b", strings.Repeat("a.", 20) + "b", strings.Repeat("a", 201)} {
		_, err := ReadPath(bad)
		assert.Error(t, err, bad)
	}
}

// A masked text is seen to be there, and the schema says no more than that.
func TestFieldsAreMasked(t *testing.T) {
	t.Parallel()
	paths := []Path{{Names: []string{"items", "*", "phone"}, Masked: true}, {Names: []string{"pin"}, Masked: true}}
	for in, want := range map[string]string{
		`{"structuredContent":{"items":[{"phone":"555 1234"},{"phone":""}],"pin":7}}`: `{"structuredContent":{"items":[{"phone":"***"},{"phone":"***"}]}}`,
		`{"structuredContent":{"pin":{"a":"1"}}}`:                                     `{"structuredContent":{}}`,
		`{"structuredContent":{"pin":null}}`:                                          `{"structuredContent":{}}`,
		`{"content":[{"type":"text","text":"{\"pin\":\"1\"}"}]}`:                      `{"content":[{"type":"text","text":"{\"pin\":\"***\"}"}]}`,
		`{"content":[{"type":"text","text":"call 555 1234"}]}`:                        `{"content":[{"type":"text","text":"` + withheld + `"}]}`,
	} {
		got, _, err := Hide(json.RawMessage(in), paths)
		require.NoError(t, err, in)
		assert.JSONEq(t, want, string(got), in)
	}
	schema := `{"type":"object","required":["pin","items"],"properties":{"pin":{"type":"integer","title":"PIN"},"items":{"type":"array","items":{
		"type":"object","required":["phone"],"properties":{"phone":{"type":"string","pattern":"^[0-9 ]+$","description":"where to call"}}}}}}`
	got, ok := HideInSchema(json.RawMessage(schema), paths)
	require.True(t, ok)
	assert.JSONEq(t, `{"type":"object","required":["items"],"properties":{"pin":{"title":"PIN"},"items":{"type":"array","items":{
		"type":"object","required":["phone"],"properties":{"phone":{"type":"string","description":"where to call"}}}}}}`, string(got))
}

func FuzzJudge(f *testing.F) {
	f.Add(order, `{"properties":{"litres":{"maximum":5}}}`, `{"litres":1}`)
	f.Add(`{"type":"object"}`, `{"properties":{"a":false}}`, `{"a":1,"a":2}`)
	f.Fuzz(func(t *testing.T, base, over, args string) {
		o, err := ReadOverlay([]byte(over))
		if err != nil {
			return
		}
		in, err := Narrow(json.RawMessage(base), Terms{Overlays: []*Overlay{o}})
		if err != nil {
			return
		}
		require.True(t, json.Valid(in.Shown))
		if got, err := in.Judge([]byte(args)); err == nil {
			require.True(t, json.Valid(in.Fill(got)))
		}
	})
}

func BenchmarkJudge(b *testing.B) {
	o, err := ReadOverlay([]byte(`{"properties":{"litres":{"maximum":5000}}}`))
	require.NoError(b, err)
	in, err := Narrow(json.RawMessage(order), Terms{Overlays: []*Overlay{o}})
	require.NoError(b, err)
	args := []byte(`{"port":"Skerrow","litres":4000,"account":"joss"}`)
	for b.Loop() {
		if _, err := in.Judge(args); err != nil {
			b.Fatal(err)
		}
	}
}

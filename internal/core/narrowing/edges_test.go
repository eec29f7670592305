package narrowing

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is decoded is bounded where it is said, in objects and in lists.
func TestBoundsOfDecoding(t *testing.T) {
	t.Parallel()
	for _, around := range [...][2]string{{"[", "]"}, {`{"a":`, "}"}} {
		for deep, good := range map[int]bool{maxDepth: true, maxDepth + 1: false} {
			_, err := Decode([]byte(strings.Repeat(around[0], deep) + "1" + strings.Repeat(around[1], deep)))
			assert.Equal(t, good, err == nil, "%s %d", around[0], deep)
		}
	}
	for number, good := range map[string]bool{
		"1e308": true, "1e309": false, "1e-308": true, "1e-309": false, strings.Repeat("1", maxDigits): true, strings.Repeat("1", maxDigits+1): false,
	} {
		_, err := Decode([]byte(number))
		assert.Equal(t, good, err == nil, number)
	}
	for n, want := range map[int]string{80: strings.Repeat("n", 80), 81: strings.Repeat("n", 80) + "..."} {
		name := strings.Repeat("n", n)
		_, err := Decode([]byte(`{"` + name + `":1,"` + name + `":2}`))
		assert.EqualError(t, err, want+" occurs twice")
	}
	for text, good := range map[string]bool{
		strings.Repeat("a", 200): true, strings.Repeat("a.", 15) + "b": true, strings.Repeat("a.", 16) + "b": false, "a\tb": false, "a.": false,
	} {
		_, err := ReadPath(text)
		assert.Equal(t, good, err == nil, text)
	}
	padded := func(n int) []byte {
		frame := `{"enum":[""]}`
		return []byte(strings.Replace(frame, `""`, `"`+strings.Repeat("x", n-len(frame))+`"`, 1))
	}
	_, err := ReadOverlay(padded(MaxSchema))
	assert.NoError(t, err)
	_, err = ReadOverlay(padded(MaxSchema + 1))
	assert.ErrorContains(t, err, "are the most")
	_, err = Narrow(padded(maxBase), Terms{})
	assert.NoError(t, err)
	_, err = Narrow(padded(maxBase+1), Terms{})
	assert.ErrorContains(t, err, "are judged at most")
}

// Each keyword is merged by what it means.
func TestKeywordsAreMerged(t *testing.T) {
	t.Parallel()
	for _, row := range [...][3]string{
		{`{"uniqueItems":false}`, `{"uniqueItems":true}`, `{"uniqueItems":true}`}, {`{"uniqueItems":true}`, `{"uniqueItems":false}`, `{"uniqueItems":true}`},
		{`{"uniqueItems":false}`, `{"uniqueItems":false}`, `{"uniqueItems":false}`}, {`{"maximum":5}`, `{"maximum":5.0}`, `{"maximum":5}`},
		{`{"minimum":5}`, `{"minimum":5.0}`, `{"minimum":5}`}, {`{"minimum":1}`, `{"minimum":2}`, `{"minimum":2}`}, {`{"minimum":2}`, `{"minimum":1}`, `{"minimum":2}`},
		{`{"maximum":1}`, `{"maximum":2}`, `{"maximum":1}`}, {`{"minimum":5}`, `{"maximum":5}`, `{"maximum":5,"minimum":5}`},
		{`{"type":["string","integer","null"]}`, `{"type":["integer","null"]}`, `{"type":["integer","null"]}`}, {`{"type":["string","null"]}`, `{"type":"null"}`, `{"type":"null"}`},
		{`{"const":1}`, `{"const":1}`, `{"const":1}`}, {`{"allOf":[{"a":1}]}`, `{"allOf":[{"b":1}]}`, `{"allOf":[{"a":1},{"b":1}]}`},
		{`{"pattern":"a"}`, `{"pattern":"a"}`, `{"pattern":"a"}`}, {`{"pattern":"a"}`, `{"pattern":"b"}`, `{"pattern":"a","allOf":[{"pattern":"b"}]}`},
		{`{"title":"a"}`, `{"title":"b"}`, `{"title":"b"}`}, {`{"enum":[1,2,9],"maximum":5}`, `{"minimum":2}`, `{"enum":[2],"maximum":5,"minimum":2}`},
		{`{"enum":[1,2]}`, `{"const":2}`, `{"const":2,"enum":[2]}`}, {`{"required":["a"]}`, `{"required":["b","a"]}`, `{"required":["a","b"]}`},
		{`{"$id":"x"}`, `{"$id":"y"}`, `{"$id":"x"}`},
	} {
		base, err := Decode([]byte(row[0]))
		require.NoError(t, err)
		over, err := Decode([]byte(row[1]))
		require.NoError(t, err)
		merged, err := mergeSchema(base, over, "")
		require.NoError(t, err, row)
		assert.JSONEq(t, row[2], string(encode(merged)), row)
	}
	for _, row := range [...][3]string{
		{`{"const":1}`, `{"const":2}`, "another constant"}, {`{"minimum":6}`, `{"maximum":5}`, "minimum is above maximum"}, {`{"minLength":6}`, `{"maxLength":5}`, "minLength is above"},
		{`{"minItems":6}`, `{"maxItems":5}`, "minItems is above"}, {`{"enum":[9]}`, `{"maximum":5}`, "none of the values"},
	} {
		base, _ := Decode([]byte(row[0]))
		over, _ := Decode([]byte(row[1]))
		_, err := mergeSchema(base, over, "")
		assert.ErrorContains(t, err, row[2], row)
	}
}

// What is wrong deep in a schema or in arguments is found, and what is another dialect's is left to
// the server.
func TestWhatStandsDeep(t *testing.T) {
	t.Parallel()
	for _, bad := range []string{
		`{"properties":{"a":{"items":{"litres":1}}}}`, `{"properties":{"a":{"not":{"litres":1}}}}`, `{"anyOf":[{"maximum":1},{"litres":1}]}`,
		`{"properties":{"a":{"properties":{"b":{"litres":1}}}}}`, `{"additionalProperties":{"litres":1}}`,
	} {
		_, err := ReadOverlay([]byte(bad))
		assert.ErrorContains(t, err, "is no keyword", bad)
	}
	in, err := Narrow(json.RawMessage(`{"type":"object","properties":{"a":{"type":"string","pattern":"(?<=x)y"},"b":{"type":"string","pattern":"^z$"},"pattern":{"type":"integer"}}}`),
		Terms{Overlays: []*Overlay{overlay(t, `{"properties":{"a":{"maxLength":5}}}`)}})
	require.NoError(t, err)
	for args, good := range map[string]bool{
		`{"a":"anything"}`: false, `{"a":"any"}`: true, `{"b":"z"}`: true, `{"b":"y"}`: false, `{"pattern":3}`: true, `{"pattern":"x"}`: false,
		`{"c":{"A":1}}`: false, `{"c":[{"A":1}]}`: false, `{"c":[[{"x":{"A":1}}]]}`: false, `{"c":[{"a":1}]}`: true,
	} {
		_, err := in.Judge([]byte(args))
		assert.Equal(t, good, err == nil, args)
	}
	assert.Equal(t, []string{"a"}, overlay(t, `{"properties":{"a":{"maxLength":5}}}`).Names())

	// What pins fill in need not be given.
	pinned, err := Narrow(json.RawMessage(`{"type":"object","properties":{"a":{},"b":{}},"required":["a"]}`), Terms{Pins: map[string]any{"a": "x"}})
	require.NoError(t, err)
	assert.NotContains(t, string(pinned.Shown), "required")
	pinned, err = Narrow(json.RawMessage(`{"type":"object","properties":{"a":{},"b":{}},"required":["a","b"]}`), Terms{Pins: map[string]any{"a": "x"}})
	require.NoError(t, err)
	assert.Contains(t, string(pinned.Shown), `"required":["b"]`)

	// One condition that does not go with the schema is told, as two are that do not.
	base := json.RawMessage(`{"type":"object","properties":{"n":{"type":"integer","maximum":5}}}`)
	_, err = Narrow(base, Terms{AnyOf: []*Overlay{condition(t, `{"properties":{"n":{"minimum":9}}}`)}})
	assert.ErrorContains(t, err, "minimum is above maximum")
	one, err := Narrow(base, Terms{AnyOf: []*Overlay{condition(t, `{"properties":{"n":{"minimum":4}}}`)}})
	require.NoError(t, err)
	for n := range 8 {
		_, err := one.Judge([]byte(fmt.Sprintf(`{"n":%d}`, n)))
		assert.Equal(t, n == 4 || n == 5, err == nil, n)
	}
	for length, want := range map[int]int{240: 0, 400: 1} {
		enum := overlay(t, `{"properties":{"n":{"enum":["`+strings.Repeat("x", length)+`"]}}}`)
		in, err := Narrow(json.RawMessage(`{"type":"object"}`), Terms{Overlays: []*Overlay{enum}})
		require.NoError(t, err)
		_, err = in.Judge([]byte(`{"n":"y"}`))
		assert.Equal(t, want, strings.Count(err.Error(), "..."), length)
	}
}

// Fields are hidden below names of any kind, and left alone where nothing is to be hidden.
func TestHidingBelowAnyName(t *testing.T) {
	t.Parallel()
	paths := []Path{{Names: []string{"*", "price"}}}
	schema := `{"type":"object","additionalProperties":{"type":"object","properties":{"price":{},"name":{}},"required":["price"]}}`
	got, ok := HideInSchema(json.RawMessage(schema), paths)
	require.True(t, ok)
	assert.NotContains(t, string(got), "price")
	top, ok := HideInSchema(json.RawMessage(`{"type":"object","additionalProperties":{"type":"object","properties":{"x":{}}}}`), []Path{{Names: []string{"x"}}})
	require.True(t, ok)
	assert.Contains(t, string(top), `"x"`, "what stands deeper is another field")
	_, ok = HideInSchema(json.RawMessage(`{"type":"object","additionalProperties":{"anyOf":[]}}`), paths)
	assert.False(t, ok, "what cannot be looked into is not promised")
	text := `{"content":[{"type":"text","text":"{ \"a\": {\"name\": 1} }"}]}`
	out, n, err := Hide(json.RawMessage(text), paths)
	require.NoError(t, err)
	assert.Zero(t, n)
	assert.Contains(t, string(out), `{ \"a\": {\"name\": 1} }`, "not a byte of it is another one")
	assert.True(t, slices.IsSorted(sortedKeys(map[string]any{"b": 1, "a": 2})))
}

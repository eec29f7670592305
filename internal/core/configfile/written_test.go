package configfile

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// How an entry is written follows how the others are, and so does how it is taken out again.
func TestEntriesAreWrittenAsTheOthersAre(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		syntax        Syntax
		list          bool
		src, put, out string // with the entry, and without it again
	}{
		{JSON, false, "{\"s\": {\"a\": 1}}",
			"{\"s\": {\"a\": 1, \"b\": {\"u\": \"x\"}}}",
			"{\"s\": {\"a\": 1}}"},
		{JSON, false, "{\"s\": {\"a\": 1,}}",
			"{\"s\": {\"a\": 1,\"b\": {\"u\": \"x\"}}}",
			"{\"s\": {\"a\": 1}}"},
		{JSON, false, "{\n\"s\": {\"a\": 1}\n}",
			"{\n\"s\": {\"a\": 1, \"b\": {\"u\": \"x\"}}\n}",
			"{\n\"s\": {\"a\": 1}\n}"},
		{JSON, false, "{\n\t\"s\": {\n\t\t\"a\": 1\n\t}\n}",
			"{\n\t\"s\": {\n\t\t\"a\": 1,\n\t\t\"b\": {\n\t\t\t\"u\": \"x\"\n\t\t}\n\t}\n}",
			"{\n\t\"s\": {\n\t\t\"a\": 1\n\t}\n}"},
		{JSON, false, "{\n  \"s\": {\n    \"a\": 1,\n  }\n}",
			"{\n  \"s\": {\n    \"a\": 1,\n    \"b\": {\n      \"u\": \"x\"\n    },\n  }\n}",
			"{\n  \"s\": {\n    \"a\": 1,\n  }\n}"},
		{JSON, false, "{\"s\": null}",
			"{\"s\": {\n  \"b\": {\n    \"u\": \"x\"\n  }\n}}",
			"{\"s\": {\n}}"},
		{JSON, true, "{\"s\": []}",
			"{\"s\": [\n  {\n    \"n\": \"b\",\n    \"u\": \"x\"\n  }\n]}",
			"{\"s\": [\n]}"},
		{JSON, true, "{\"s\": [{\"n\": \"a\"}]}",
			"{\"s\": [{\"n\": \"a\"}, {\"n\": \"b\", \"u\": \"x\"}]}",
			"{\"s\": [{\"n\": \"a\"}]}"},
		{JSON, true, "{}",
			"{\n  \"s\": [\n    {\n      \"n\": \"b\",\n      \"u\": \"x\"\n    }\n  ]\n}",
			"{\n  \"s\": [\n  ]\n}"},
		{JSON, true, "{\"s\": null}",
			"{\"s\": [\n  {\n    \"n\": \"b\",\n    \"u\": \"x\"\n  }\n]}",
			"{\"s\": [\n]}"},
		{JSON, false, "// only",
			"// only\n{\n  \"s\": {\n    \"b\": {\n      \"u\": \"x\"\n    }\n  }\n}\n",
			"// only\n{\n  \"s\": {\n  }\n}\n"},
		{JSON, false, "// only\n",
			"// only\n{\n  \"s\": {\n    \"b\": {\n      \"u\": \"x\"\n    }\n  }\n}\n",
			"// only\n{\n  \"s\": {\n  }\n}\n"},
		{JSON, false, "{\"s\": {\"b\": {\"u\": \"y\"}, \"c\": 1}}",
			"{\"s\": {\"b\": {\"u\": \"x\"}, \"c\": 1}}",
			"{\"s\": {\"c\": 1}}"},
		{JSON, false, "{\"s\": {\n  \"b\": {\"u\": \"y\"},\n  \"c\": 1}}",
			"{\"s\": {\n  \"b\": {\n    \"u\": \"x\"\n  },\n  \"c\": 1}}",
			"{\"s\": {\n  \"c\": 1}}"},
		{JSON, false, "{\"s\": {\"a\": 1\n  }}",
			"{\"s\": {\"a\": 1,\n  \"b\": {\n    \"u\": \"x\"\n  }\n  }}",
			"{\"s\": {\"a\": 1\n  }}"},
		{JSON, false, "{\"s\": {\n    \"a\": 1}}",
			"{\"s\": {\n    \"a\": 1, \"b\": {\"u\": \"x\"}}}",
			"{\"s\": {\n    \"a\": 1}}"},
		{JSON, true, "{\"s\": [\n  {\"n\": \"b\"}\n]}",
			"{\"s\": [\n  {\n    \"n\": \"b\",\n    \"u\": \"x\"\n  }\n]}",
			"{\"s\": [\n]}"},
		{JSON, true, "{\"s\": [{\"n\": \"b\"}, {\"n\": \"c\"}]}",
			"{\"s\": [{\"n\": \"b\", \"u\": \"x\"}, {\"n\": \"c\"}]}",
			"{\"s\": [{\"n\": \"c\"}]}"},
		{TOML, false, "s = {}\n",
			"s = { b = { u = \"x\" } }\n",
			"s = {  }\n"},
		{TOML, false, "s = { a = 1 }\n",
			"s = { a = 1, b = { u = \"x\" } }\n",
			"s = { a = 1 }\n"},
		{TOML, false, "s = { b = 1, c = 2 }\n",
			"s = { b = { u = \"x\" }, c = 2 }\n",
			"s = { c = 2 }\n"},
		{TOML, true, "s = [{ n = \"a\" }]\n",
			"s = [{ n = \"a\" }, { n = \"b\", u = \"x\" }]\n",
			"s = [{ n = \"a\" }]\n"},
		{TOML, true, "s = [{ n = \"b\" }]\n",
			"s = [{ n = \"b\", u = \"x\" }]\n",
			"s = []\n"},
		{TOML, true, "s = []\n",
			"s = [ { n = \"b\", u = \"x\" } ]\n",
			"s = [  ]\n"},
		{TOML, false, "[s]\na = 1\n\n[t]\nx = 1\n",
			"[s]\na = 1\nb = { u = \"x\" }\n\n[t]\nx = 1\n",
			"[s]\na = 1\n\n[t]\nx = 1\n"},
		{TOML, false, "[s]\nb = { u = 1 } # c\n[t]\n",
			"[s]\nb = { u = \"x\" }\n[t]\n",
			"[s]\n[t]\n"},
		{TOML, false, "[s.b]\nu = 1\n[s.b.e]\nf = 1\n",
			"[s.b]\nu = \"x\"\n",
			""},
		{TOML, false, "[s.b]\nu = 1\n\n[t]\nx=1\n\n[s.b.e]\nf = 1",
			"[s.b]\nu = \"x\"\n\n[t]\nx=1\n\n",
			"[t]\nx=1\n\n"},
		{TOML, false, "s.b.u = 1\nx = 1\n",
			"s.b = { u = \"x\" }\nx = 1\n",
			"x = 1\n"},
		{TOML, false, "[s.b]\nu = 1",
			"[s.b]\nu = \"x\"\n",
			""},
		{TOML, true, "[[s]]\nn = \"a\"\n[[s]]\nn = \"b\"\nz = 1\n[s.e]\nq = 1\n[[s]]\nn = \"c\"\n",
			"[[s]]\nn = \"a\"\n[[s]]\nn = \"b\"\nu = \"x\"\n[[s]]\nn = \"c\"\n",
			"[[s]]\nn = \"a\"\n[[s]]\nn = \"c\"\n"},
		{TOML, false, "[s.\"a b\"]\nx = 1\n",
			"[s.\"a b\"]\nx = 1\n\n[s.b]\nu = \"x\"\n",
			"[s.\"a b\"]\nx = 1\n"},
		{TOML, false, "[s]\n'a b' = 1\n",
			"[s]\n'a b' = 1\nb = { u = \"x\" }\n",
			"[s]\n'a b' = 1\n"},
		{TOML, false, "[s.a]\nt = \"\"\"x\\\"\"\"\"\"\n",
			"[s.a]\nt = \"\"\"x\\\"\"\"\"\"\n\n[s.b]\nu = \"x\"\n",
			"[s.a]\nt = \"\"\"x\\\"\"\"\"\"\n"},
		{TOML, false, "[s.a]\nt = '''x'''''\n[t]\ny = 1\n",
			"[s.a]\nt = '''x'''''\n\n[s.b]\nu = \"x\"\n\n[t]\ny = 1\n",
			"[s.a]\nt = '''x'''''\n\n[t]\ny = 1\n"},
		{TOML, false, "s.a.t = [ # c\n 1, ']', { q = '}' } ] # d\r\nz = 1\r\n",
			"s.a.t = [ # c\n 1, ']', { q = '}' } ] # d\r\ns.b = { u = \"x\" }\r\nz = 1\r\n",
			"s.a.t = [ # c\n 1, ']', { q = '}' } ] # d\r\nz = 1\r\n"},
		{YAML, false, "s: {a: 1}\n",
			"s: {a: 1, \"b\": {\"u\": \"x\"}}\n",
			"s: {a: 1}\n"},
		{YAML, false, "s: {a: 1, b: 2, c: 3}\n",
			"s: {a: 1, \"b\": {\"u\": \"x\"}, c: 3}\n",
			"s: {a: 1, c: 3}\n"},
		{YAML, false, "s: {}\n",
			"s:\n  b:\n    u: x\n",
			"s:\n"},
		{YAML, false, "s: {a: 'x''y', # c\n  c: \"z\\\"\"}\n",
			"s: {a: 'x''y', # c\n  c: \"z\\\"\", \"b\": {\"u\": \"x\"}}\n",
			"s: {a: 'x''y', # c\n  c: \"z\\\"\"}\n"},
		{YAML, true, "s: [{n: a}]\n",
			"s: [{n: a}, {\"n\": \"b\", \"u\": \"x\"}]\n",
			"s: [{n: a}]\n"},
		{YAML, true, "s: [{n: b}, {n: c}]\n",
			"s: [{\"n\": \"b\", \"u\": \"x\"}, {n: c}]\n",
			"s: [{n: c}]\n"},
		{YAML, true, "s: []\n",
			"s:\n  - n: b\n    u: x\n",
			"s:\n"},
		{YAML, true, "s:\n- n: a\n",
			"s:\n- n: a\n- n: b\n  u: x\n",
			"s:\n- n: a\n"},
		{YAML, true, "s:\n  - n: b\n    u: y\n  - n: c\n",
			"s:\n  - n: b\n    u: x\n  - n: c\n",
			"s:\n  - n: c\n"},
		{YAML, false, "s:\n  a: 1\n  # end\nt: 1\n",
			"s:\n  a: 1\n  b:\n    u: x\n  # end\nt: 1\n",
			"s:\n  a: 1\n  # end\nt: 1\n"},
		{YAML, false, "s:\n    a:\n        q: 1\n",
			"s:\n    a:\n        q: 1\n    b:\n        u: x\n",
			"s:\n    a:\n        q: 1\n"},
		{YAML, false, "s:\n  b:\n    u: 1\n    # own\n\n  c: 1\n",
			"s:\n  b:\n    u: x\n\n  c: 1\n",
			"s:\n\n  c: 1\n"},
		{YAML, false, "{t: 1}\n",
			"{t: 1, \"s\": {\"b\": {\"u\": \"x\"}}}\n",
			"{t: 1, \"s\": {}}\n"},
		{YAML, false, "s:\n  b: {u: 1} # c\n  c: 1\n",
			"s:\n  b:\n    u: x\n  c: 1\n",
			"s:\n  c: 1\n"},
		{YAML, false, "s:\n  b:\n  - 1\n  - 2\n  c: 1\n",
			"s:\n  b:\n    u: x\n  c: 1\n",
			"s:\n  c: 1\n"},
		{YAML, false, "x: |\n  s:\n   b\ns:\n  a: 1",
			"x: |\n  s:\n   b\ns:\n  a: 1\n  b:\n    u: x\n",
			"x: |\n  s:\n   b\ns:\n  a: 1\n"},
		{YAML, true, "s:\n-\n  n: a\n-\n  n: b\n", "!the file is written in a way that cannot be changed safely: the change would alter something else in it", ""},
		{YAML, false, "\"s\":\n  'b': 1\n",
			"\"s\":\n  b:\n    u: x\n",
			"\"s\":\n"},
		{YAML, false, "base: &x\n  q: 1\ns:\n  <<: *x\n  c: 1\n",
			"base: &x\n  q: 1\ns:\n  <<: *x\n  c: 1\n  b:\n    u: x\n",
			"base: &x\n  q: 1\ns:\n  <<: *x\n  c: 1\n"},
		{TOML, false, "[s.b]\nu = 1\n\n\n[t]\nx = 1\n",
			"[s.b]\nu = \"x\"\n\n\n[t]\nx = 1\n",
			"[t]\nx = 1\n"},
		{TOML, false, "[t]\nx = 1\n\n[s.b]\n\n\n",
			"[t]\nx = 1\n\n[s.b]\nu = \"x\"\n\n\n",
			"[t]\nx = 1\n"},
		{TOML, false, "[t]\nx = 1\n",
			"[t]\nx = 1\n\n[s.b]\nu = \"x\"\n",
			"[t]\nx = 1\n"},
		{TOML, false, "\n\n[s.b]\nu = 1\n",
			"\n\n[s.b]\nu = \"x\"\n",
			""},
		{YAML, false, "s: {a: 1, # }, b\n  # ] q\n# }\n  c: x#y,d: 'it''s, }' }\n",
			"s: {a: 1, # }, b\n  # ] q\n# }\n  c: x#y,d: 'it''s, }', \"b\": {\"u\": \"x\"} }\n",
			"s: {a: 1, # }, b\n  # ] q\n# }\n  c: x#y,d: 'it''s, }' }\n"},
		{YAML, false, "s: {b: 1,}\n",
			"s: {\"b\": {\"u\": \"x\"},}\n",
			"s: {}\n"},
		{YAML, false, "s: {b: 1 , }\nt: [1,2]\n",
			"s: {\"b\": {\"u\": \"x\"} , }\nt: [1,2]\n",
			"s: { }\nt: [1,2]\n"},
		{YAML, false, "{s: {}}\n",
			"{s: {\"b\": {\"u\": \"x\"}}}\n",
			"{s: {}}\n"},
		{YAML, true, "{s: [], t: 1}\n",
			"{s: [{\"n\": \"b\", \"u\": \"x\"}], t: 1}\n",
			"{s: [], t: 1}\n"},
		{YAML, false, "s: {a: 1,}\n",
			"s: {a: 1,\"b\": {\"u\": \"x\"}}\n",
			"s: {a: 1}\n"},
		{YAML, false, "s:\n  \"<<\": {q: 1}\n  c: 1\n",
			"s:\n  \"<<\": {q: 1}\n  c: 1\n  b:\n    u: x\n",
			"s:\n  \"<<\": {q: 1}\n  c: 1\n"},
		{YAML, false, "base: &x\n  b: {q: 1}\ns:\n  !!merge <<: *x\n  c: 1\n",
			"!the file is written in a way that cannot be changed safely: \"b\" comes from a merge key",
			""},
		{YAML, false, "\ufeffs:\n  b: 1\n",
			"\ufeffs:\n  b:\n    u: x\n",
			"\ufeffs:\n"},
		{YAML, false, "\ufeff{s: {b: 1}}\n",
			"\ufeff{s: {\"b\": {\"u\": \"x\"}}}\n",
			"\ufeff{s: {}}\n"},
		{YAML, false, "# c\n",
			"# c\ns:\n  b:\n    u: x\n",
			"# c\ns:\n"},
		{YAML, false, "{}\n",
			"{\"s\": {\"b\": {\"u\": \"x\"}}}\n",
			"{\"s\": {}}\n"},
		{YAML, false, "s:\n",
			"s:\n  b:\n    u: x\n",
			"s:\n"},
		{YAML, false, "s:\nt: 1\n",
			"s:\n  b:\n    u: x\nt: 1\n",
			"s:\nt: 1\n"},
		{YAML, false, "s:\n  a:\n  - 1\n  - 2\nt: 1\n",
			"s:\n  a:\n  - 1\n  - 2\n  b:\n    u: x\nt: 1\n",
			"s:\n  a:\n  - 1\n  - 2\nt: 1\n"},
		{JSON, false, "{\"s\": {\"b\": {\"u\": [{\"a\": 1, \"c\": 2}, {}]}, \"z\": 1}}",
			"{\"s\": {\"b\": {\"u\": \"x\"}, \"z\": 1}}",
			"{\"s\": {\"z\": 1}}"},
	} {
		e, value := Entry{Path: []string{"s"}, Name: "b"}, Object{{"u", "x"}}
		if row.list {
			e.NameKey, value = "n", Object{{"n", "b"}, {"u", "x"}}
		}
		f, err := Parse([]byte(row.src), row.syntax)
		require.NoError(t, err, row.src)
		put, err := f.Put(e, value)
		if why, fails := strings.CutPrefix(row.put, "!"); fails {
			assert.EqualError(t, err, why, row.src)
			continue
		}
		require.NoError(t, err, row.src)
		assert.Equal(t, row.put, string(put), row.src)
		again, err := Parse(put, row.syntax)
		require.NoError(t, err)
		assert.True(t, Same(again.Find(e), value))
		out, err := again.Remove(e)
		require.NoError(t, err, row.src)
		assert.Equal(t, row.out, string(out), row.src)
		back, err := Parse(out, row.syntax)
		require.NoError(t, err)
		same, err := back.Remove(e)
		require.NoError(t, err)
		assert.Equal(t, string(out), string(same), "what is not there is not taken out")
	}
}

// Whatever is put together of the pieces of JSON is read exactly when it is JSON for the standard
// library, once comments and the commas before brackets are blanks.
func TestJSONIsReadAsTheStandardLibraryDoes(t *testing.T) {
	t.Parallel()
	pieces := []string{"{", "}", "[", "]", ":", ",", `"a"`, `"`, `\`, "1", "-", "true", "tru", "null", " ", "\n", "//c\n", "/*c*/", "/*", "/", "x", `"b"`}
	check := func(text string) {
		_, err := parseJSON([]byte(text))
		plain := Plain([]byte(text))
		if strings.Contains(text, `"a":1,"a"`) || strings.TrimSpace(string(plain)) == "" {
			return // which is there twice, or says nothing
		}
		valid := json.Valid(plain)
		// A comma alone before a bracket is none after something either.
		if err == nil && !valid || err != nil && json.Valid([]byte(text)) && strings.HasPrefix(text, "{") {
			t.Fatalf("%q: valid is %v, and here it is %v", text, valid, err)
		}
	}
	for _, around := range [...][2]string{{"{", "}"}, {`{"a":`, "}"}, {`{"a":[`, "]}"}, {`{"a":[1,`, "]}"}, {`{"a":1,`, "}"}, {`{"a":{"b":`, "}}"}, {`{"a":"`, `"}`}, {"", `{}`}, {"{}", ""}} {
		for _, a := range pieces {
			check(around[0] + a + around[1])
			for _, b := range pieces {
				check(around[0] + a + b + around[1])
				check(around[0] + a + b)
				for _, c := range pieces[:12] {
					check(around[0] + a + b + c + around[1])
				}
			}
		}
	}
	for text, want := range map[string]string{
		"{\"a\": 1, // x\n}": "{\"a\": 1      \n}", "{/*\n*/\"a\":[1,]}": "{  \n  \"a\":[1 ]}", `{"a":"//,}"}`: `{"a":"//,}"}`, `{"a":[1,2,],}`: `{"a":[1,2 ] }`,
		"\ufeff{}": "   {}", `{"a":"\",}"}`: `{"a":"\",}"}`, `{"a" , }`: `{"a"   }`, `{"a" "b`: `{"a" "b`, `{,"a"}`: `{,"a"}`, `{,1}`: `{,1}`, `{/*`: `{/*`,
	} {
		assert.Equal(t, want, string(Plain([]byte(text))), text)
	}
	for _, around := range [...][2]string{{"[", "]"}, {`{"a":`, "}"}} {
		for deep, good := range map[int]bool{maxDepth: true, maxDepth + 1: false} {
			_, err := parseJSON([]byte(`{"x":` + strings.Repeat(around[0], deep-1) + "1" + strings.Repeat(around[1], deep-1) + "}"))
			assert.Equal(t, good, err == nil, "%s %d", around[0], deep)
		}
	}
}

// Values are read as what they are, in every syntax, with the lines they stand on.
func TestValuesOfEverySyntax(t *testing.T) {
	t.Parallel()
	for syntax, src := range map[Syntax]string{
		JSON: "{\n\"t\": \"x\",\n\"i\": 7, \"f\": 1.5, \"b\": true, \"n\": null, \"big\": 123456789012345678901, \"huge\": 1e999,\n\"l\": [\"y\", 8],\n\"m\": [{\"k\": \"v\"}], \"o\": {\"p\": false}}",
		YAML: "\nt: x\ni: 7\nf: 1.5\nb: true\nn: ~\nbig: 123456789012345678901\nl: [y, 8]\nm:\n  - k: v\no:\n  p: false\n",
		TOML: "\nt = 'x'\ni = 7\nf = 1.5\nb = true\nl = ['y', 8]\nd = 2026-11-27\n[[m]]\nk = 'v'\n[o]\np = false\n",
	} {
		f, err := Parse([]byte(src), syntax)
		require.NoError(t, err, syntax)
		for key, want := range map[string]string{"t": "x", "i": "7", "f": "1.5", "b": "true"} {
			assert.Equal(t, want, f.Root.Get(key).Words(), "%s %s", syntax, key)
			value, ok := f.Root.Get(key).Bool()
			assert.Equal(t, []bool{key == "b", key == "b"}, []bool{value, ok})
			text, is := f.Root.Get(key).Text()
			assert.Equal(t, []any{key == "t", key == "t"}, []any{text == "x", is})
		}
		assert.Equal(t, 2, f.Root.Get("t").Line, syntax)
		written := f.Root.Object()
		byName := map[string]any{}
		for _, field := range written {
			byName[field.Name] = field.Value
		}
		assert.Equal(t, []any{"x", []string{"y", "8"}, []Object{{{"k", "v"}}}, Object{{"p", false}}}, []any{byName["t"], byName["l"], byName["m"], byName["o"]}, syntax)
		assert.Equal(t, "t", f.Root.Pairs[0].Key, "in their order")
		if syntax != TOML {
			assert.Empty(t, byName["n"])
			assert.Empty(t, f.Root.Get("n").Words())
			assert.Contains(t, f.Root.Get("big").Words(), "1.23456789")
		}
	}
	f, err := Parse([]byte(`{"huge": 1e999}`), JSON)
	require.NoError(t, err)
	assert.Equal(t, "1e999", f.Root.Get("huge").Words())
	var none *Node
	assert.Empty(t, none.Words())
	_, ok := none.Bool()
	assert.False(t, ok)
	f, err = Parse([]byte("day = 2026-11-27\n"), TOML)
	require.NoError(t, err)
	assert.Equal(t, "2026-11-27", f.Root.Get("day").Words())
	assert.Equal(t, "line 3: x", (&SyntaxError{3, 0, "x"}).Error())
	assert.Equal(t, "line 3, column 4: x", (&SyntaxError{3, 4, "x"}).Error())
	_, err = Parse(nil, "ini")
	assert.ErrorContains(t, err, "none of json")
	for at, want := range map[string]int{"\xff": 1, "é\xff": 2, "a\nbc\xff": 3} {
		_, err := Parse([]byte(at), JSON)
		var bad *SyntaxError
		require.ErrorAs(t, err, &bad)
		assert.Equal(t, want, bad.Column, "%q", at)
	}
}

// Keys and texts of TOML are written so that they read as what they were.
func TestTextsOfTOML(t *testing.T) {
	t.Parallel()
	for key, bare := range map[string]bool{
		"azAZ09_-": true, "": false, "a b": false, "é": false, "a.b": false, "`": false, "{": false, "@": false, "[": false, "/": false, ":": false, `"`: false, "a": true, "z": true, "A": true, "Z": true, "0": true, "9": true,
	} {
		assert.Equal(t, bare, tomlKey(key) == key, key)
		text := "\"\\\n\t\x01\x1f\x7f é " + key
		src := tomlKey(key) + " = " + tomlText(text) + "\n"
		f, err := Parse([]byte(src), TOML)
		require.NoError(t, err, src)
		assert.Equal(t, text, f.Root.Get(key).Words())
	}
	assert.Equal(t, `[{ a = 1 }, {}]`, tomlInline([]Object{{{"a", 1}}, {}}))
	for src, want := range map[string]string{
		"a . 'b c' . \"d\\\"e\" = 1\n": "a/b c/d\"e", "[ a . b ]\n": "a/b", "[[a.'b']]\n": "a/b", "a.b=1": "a/b", "'' = 1\n": "",
	} {
		list, err := statements([]byte(src))
		require.NoError(t, err, src)
		require.Len(t, list, 1, src)
		assert.Equal(t, want, strings.Join(list[0].path, "/"), src)
	}
	for _, src := range []string{"a", "a.", "a. = 1", "\"a = 1", "[", "a = [1", "a = \"x", "a = '''x''", "= 1"} {
		_, err := statements([]byte(src))
		assert.Error(t, err, src)
	}
	for src, end := range map[string]int{
		"1 # c": 2, "1  \t\r\n": 1, "[1, # ]\n2]x": 10, "{a=']'}x": 7, "\"a\\\"b\"x": 6, "'a\\'x": 4, `"""a"""""x`: 9, `"""a\""""""x`: 11, "'''a''''x": 8, "1": 1, `""""""x`: 6,
	} {
		s := tomlScanner{[]byte(src), 0}
		require.True(t, s.value(), src)
		assert.Equal(t, end, s.at, src)
	}
}

package dialect

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var entry = Entry{Type: "http", URL: "http://127.0.0.1:4680/mcp", Headers: map[string]string{"Authorization": "Bearer p"}}

// body renders the entry as it stands in a file with the given indentation.
func body(indent, unit, nl string) string {
	return strings.Join(
		[]string{
			"{",
			indent + unit + `"type": "http",`,
			indent + unit + `"url": "http://127.0.0.1:4680/mcp",`,
			indent + unit + `"headers": {`,
			indent + unit + unit + `"Authorization": "Bearer p"`,
			indent + unit + "}",
			indent + "}",
		},
		nl,
	)
}

func TestPutChangesNothingElse(t *testing.T) {
	for name, row := range map[string]struct{ before, after string }{
		"a new file":                 {"", "{\n  \"mcpServers\": {\n    \"bouncer\": " + body("    ", "  ", "\n") + "\n  }\n}\n"},
		"a file with a comment only": {"// mine\n", "// mine\n{\n  \"mcpServers\": {\n    \"bouncer\": " + body("    ", "  ", "\n") + "\n  }\n}\n"},
		"an empty object":            {"{}", "{\n  \"mcpServers\": {\n    \"bouncer\": " + body("    ", "  ", "\n") + "\n  }\n}"},
		"tabs, comments and an odd layout": {
			"{\n\t// theme\n\t\"theme\" :  \"harbour\",  /* kept */\n\t\"n\": 1e400\n}\n",
			"{\n\t// theme\n\t\"theme\" :  \"harbour\",  /* kept */\n\t\"n\": 1e400,\n\t\"mcpServers\": {\n\t\t\"bouncer\": " + body("\t\t", "\t", "\n") + "\n\t}\n}\n",
		},
		"after another entry": {
			"{\n    \"mcpServers\": {\n        \"x\": {\"command\": \"run\"} // old\n    },\n    \"z\": [1,2]\n}",
			"{\n    \"mcpServers\": {\n        \"x\": {\"command\": \"run\"}, // old\n        \"bouncer\": " + body("        ", "    ", "\n") + "\n    },\n    \"z\": [1,2]\n}",
		},
		"with a trailing comma": {
			"{\n  \"mcpServers\": {\n    \"x\": {},\n  },\n}\n",
			"{\n  \"mcpServers\": {\n    \"x\": {},\n    \"bouncer\": " + body("    ", "  ", "\n") + ",\n  },\n}\n",
		},
		"in place of an older entry": {
			"{\n  \"mcpServers\": {\n    \"bouncer\": {\"url\": \"http://old\"}, // note\n    \"x\": {}\n  }\n}",
			"{\n  \"mcpServers\": {\n    \"bouncer\": " + body("    ", "  ", "\n") + ", // note\n    \"x\": {}\n  }\n}",
		},
		"all on one line": {
			`{"a":1,"mcpServers":{"x":{}},"b":2}`,
			`{"a":1,"mcpServers":{"x":{}, "bouncer": {"type":"http","url":"http://127.0.0.1:4680/mcp","headers":{"Authorization":"Bearer p"}}},"b":2}`,
		},
		"Windows line ends": {
			"\ufeff{\r\n  \"mcpServers\": {\r\n  }\r\n}\r\n",
			"\ufeff{\r\n  \"mcpServers\": {\r\n    \"bouncer\": " + body("    ", "  ", "\r\n") + "\r\n  }\r\n}\r\n",
		},
	} {
		t.Run(name, func(t *testing.T) {
			out, err := Put([]byte(row.before), "bouncer", entry)
			require.NoError(t, err)
			assert.Equal(t, row.after, string(out))
			got, ok, err := Lookup(out, "bouncer")
			require.NoError(t, err)
			require.True(t, ok)
			assert.Equal(t, entry, got)
			again, err := Put(out, "bouncer", entry)
			require.NoError(t, err)
			assert.Equal(t, string(out), string(again), "doing it again changes nothing")
		})
	}
}

func TestMalformedFilesAreToldWithTheirPlace(t *testing.T) {
	for text, want := range map[string]string{
		"{\n  \"a\": 1\n  \"b\": 2\n}":          "line 3, column 3: a comma or } was expected before '\"'",
		"{\n  \"mcpServers\": []\n}":            "line 2, column 17: \"mcpServers\" must be an object",
		"{\"ü\": tru}":                          "line 1, column 7: \"tru\" is no JSON value; is it missing its quotes?",
		"{\"a\": \"b\n\"}":                      "line 1, column 7: this text has no closing quote on its line",
		"[1]":                                   "line 1, column 1: the file must be a JSON object; it starts with '['",
		"{\"a\": {}":                            "line 1, column 1: this { has no closing }",
		"{/* x":                                 "line 1, column 2: this comment has no end",
		"{a: 1}":                                "line 1, column 2: a name in double quotes was expected before 'a'",
		"{} {}":                                 "line 1, column 4: something follows the end of the object",
		"{\"mcpServers\":{},\"mcpServers\":{}}": "line 1, column 18: \"mcpServers\" is there a second time",
		"{\"a\":[1 2]}":                         "line 1, column 9: a comma or ] was expected before '2'",
		"{\"a\": " + strings.Repeat("[", 200) + "}": "line 1, column 107: the file is nested too deeply",
	} {
		_, err := Put([]byte(text), "bouncer", entry)
		var se *SyntaxError
		require.ErrorAs(t, err, &se, text)
		assert.Equal(t, want, err.Error())
	}
}

func FuzzPut(f *testing.F) {
	for _, s := range []string{`{"mcpServers":{"x":{"url":"u"}}}`, "{\n // c\n \"mcpServers\": {\n },\n}", `{"a":[1,{"b":null}],}`, "\ufeff{}", ""} {
		f.Add(s, "bouncer")
	}
	f.Fuzz(func(t *testing.T, src, name string) {
		out, err := Put([]byte(src), name, entry)
		if err != nil {
			return
		}
		plainName, _ := json.Marshal(name)
		var asRead string
		_ = json.Unmarshal(plainName, &asRead) // invalid UTF-8 cannot be a name
		got, ok, err := Lookup(out, asRead)
		if err != nil || !ok || got.URL != entry.URL {
			t.Fatalf("%q became %q, where the entry is not found (%v)", src, out, err)
		}
		before, _ := Servers([]byte(src))
		after, _ := Servers(out)
		for n, raw := range before {
			if n != asRead && string(after[n]) != string(raw) {
				t.Fatalf("entry %q was altered: %q became %q", n, raw, after[n])
			}
		}
	})
}

func TestOtherFormsAreNoticed(t *testing.T) {
	t.Parallel()
	for src, want := range map[string]string{
		`{"servers": {"a": {"command": "x"}}}`:                                           "servers",
		`{"theme": {"dark": {"x": 1}}, "context_servers": {"a": {"url": "u"}, "b": {}}}`: "context_servers",
		`{"mcp": {"a": {"serverUrl": "u"}, /* mine */}}`:                                 "mcp",
		`{"mcpServers": {}, "servers": {"a": {"command": "x"}}}`:                         "",
		`{"theme": "dark", "tasks": {"build": {"label": "x"}}}`:                          "",
		`{}`:            "",
		``:              "",
		`{"servers": [`: "",
	} {
		key, ok := OtherMap([]byte(src))
		assert.Equal(t, want, key, src)
		assert.Equal(t, want != "", ok, src)
	}
}

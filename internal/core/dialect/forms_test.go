package dialect

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"bouncer/internal/core/configfile"
)

// A path is written as text with dots, or as a list where a key has a dot itself.
func TestPathsHaveTwoForms(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Path{`"a.b"`: {"a", "b"}, `["a.b","c"]`: {"a.b", "c"}, `""`: nil, `["a"]`: {"a"}} {
		var fromJSON, fromYAML Path
		require.NoError(t, json.Unmarshal([]byte(text), &fromJSON))
		assert.Equal(t, want, fromJSON, text)
		require.NoError(t, yaml.Unmarshal([]byte(text), &fromYAML))
		assert.Equal(t, want, fromYAML, text)
	}
	var p Path
	assert.Error(t, json.Unmarshal([]byte(`7`), &p))
	assert.Error(t, p.UnmarshalJSON(nil))
	for want, path := range map[string]Path{"a.b\n": {"a", "b"}, "- a.b\n- c\n": {"a.b", "c"}, "- \"\"\n- c\n": {"", "c"}, "\"\"\n": nil} {
		raw, err := yaml.Marshal(path)
		require.NoError(t, err)
		assert.Equal(t, want, string(raw))
	}
	text := "dialect: quill\nsyntax: json\nremote: {url: u}\n#"
	_, err := Parse([]byte(text + strings.Repeat("x", MaxText-len(text))))
	assert.NoError(t, err)
	_, err = Parse([]byte(text + strings.Repeat("x", MaxText-len(text)+1)))
	assert.ErrorContains(t, err, "longer than 64 KiB")
}

// What an entry has and a dialect does not is said, and nothing of it is written.
func TestWhatCannotBeWritten(t *testing.T) {
	t.Parallel()
	remote, command := &Remote{URL: "url"}, &Command{Command: "cmd"}
	at, run := Entry{Name: "a", URL: "https://x.example"}, Entry{Name: "a", Command: "x"}
	with := func(e Entry, alter func(*Entry)) Entry { alter(&e); return e }
	for name, row := range map[string]struct {
		d          Dialect
		e          Entry
		want, says string
	}{
		"no address":        {Dialect{Name: "d", Command: command}, at, "", "d has no entries with an address"},
		"no command":        {Dialect{Name: "d", Title: "Quill", Remote: remote}, run, "", "Quill has no entries with a command"},
		"no headers":        {Dialect{Name: "d", Remote: remote}, with(at, func(e *Entry) { e.Headers = []Value{{"A", "b"}} }), "", "d cannot set headers"},
		"no arguments":      {Dialect{Name: "d", Command: command}, with(run, func(e *Entry) { e.Args = []string{"y"} }), "", "d cannot give arguments"},
		"no variables":      {Dialect{Name: "d", Command: command}, with(run, func(e *Entry) { e.Env = []Value{{"A", "b"}} }), "", "d cannot set variables"},
		"an address":        {Dialect{Remote: remote}, at, "[{url https://x.example}]", ""},
		"a command":         {Dialect{Command: command}, run, "[{cmd x}]", ""},
		"arguments":         {Dialect{Command: &Command{Command: "cmd", Args: "args"}}, with(run, func(e *Entry) { e.Args = []string{"y"} }), "[{cmd x} {args [y]}]", ""},
		"none":              {Dialect{Command: &Command{Command: "cmd", Args: "args", Env: "env"}}, run, "[{cmd x}]", ""},
		"no headers at all": {Dialect{Remote: &Remote{URL: "url", Headers: "h"}}, at, "[{url https://x.example}]", ""},
		"a directory":       {Dialect{Command: &Command{Command: "cmd", Dir: "cwd"}}, with(run, func(e *Entry) { e.Dir = "/srv" }), "[{cmd x} {cwd /srv}]", ""},
		"no directory":      {Dialect{Command: command}, with(run, func(e *Entry) { e.Dir = "/srv" }), "[{cmd x}]", ""},
		"empty directory":   {Dialect{Command: &Command{Command: "cmd", Dir: "cwd"}}, run, "[{cmd x}]", ""},
		"on":                {Dialect{Remote: remote, Off: &Off{Field: "enabled", Inverse: true}}, at, "[{url https://x.example} {enabled true}]", ""},
		"not off":           {Dialect{Remote: remote, Off: &Off{Field: "disabled"}}, at, "[{url https://x.example}]", ""},
	} {
		o, err := row.d.Write(row.e)
		if row.says != "" {
			assert.ErrorContains(t, err, row.says, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, row.want, fmt.Sprint(o), name)
	}
	text, err := Dialect{Syntax: configfile.JSON, Servers: Path{"servers"}, Remote: remote}.Snippet(at)
	require.NoError(t, err)
	assert.JSONEq(t, `{"servers":{"a":{"url":"https://x.example"}}}`, text)
	_, err = Dialect{Syntax: configfile.JSON, Command: command}.Snippet(at)
	assert.ErrorContains(t, err, "no entries with an address")
	_, err = Dialect{Syntax: "ini", Remote: remote}.Snippet(at)
	assert.Error(t, err)
}

// Whatever is odd in an entry is noted, and the rest of it is read.
func TestOddEntriesAreNoted(t *testing.T) {
	t.Parallel()
	d := Dialect{
		List: "name", Servers: Path{"s"}, Remote: &Remote{URL: "url", Type: &Word{"kind", "http"}, Headers: "headers"},
		Command: &Command{Command: "command", Args: "args", Env: "env", Type: &Word{"type", "stdio"}, Dir: "cwd"}, Off: &Off{Field: "on", Inverse: true},
	}
	for src, want := range map[string]string{
		`[{"name":"a","command":"x","env":{"A":7,"B":{},"C":[],"D":"t","E":null},"args":["y",{},[],1]}]`: "a x [y 1] [{A 7} {D t} {E }] false [a map or a list stands where a text should (line 1), a map or a list stands where a text should (line 1), A is 7, and no text, B is no text (line 1), C is no text (line 1)]",
		`[{"command":"x"}]`:                            " x [] [] false [entry 1 has no name]",
		`[{"name":"","command":"x"}]`:                  " x [] [] false [entry 1 has no name]",
		`[{"name":"a","command":"x"},{"command":"y"}]`: "a x [] [] false []; y [] [] false [entry 2 has no name]",
		`[7]`:            "  [] [] false [it is no map, entry 1 has no name]",
		`[{"name":"a"}]`: "a  [] [] false [it has neither an address nor a command]",
		`[{"name":"a","command":"x","on":false}]`:         "a x [] [] true []",
		`[{"name":"a","command":"x","on":true}]`:          "a x [] [] false []",
		`[{"name":"a","command":"x","on":"false"}]`:       "a x [] [] false []",
		`[{"name":"a","command":["x","y"],"args":["z"]}]`: "a x [y z] [] false []",
		`[{"name":"a","command":"x","env":[{"name":"A","value":"b"},{"key":"C","value":"d"},{"name":"E"},{"value":"f"}]}]`: "a x [] [{A b} {C d}] false []",
	} {
		f, err := configfile.Parse([]byte(`{"s":`+src+`}`), configfile.JSON)
		require.NoError(t, err)
		var all []string
		for _, e := range d.Entries(f) {
			all = append(all, fmt.Sprintf("%s %s %v %v %v [%s]", e.Name, e.Command, e.Args, e.Env, e.Off, strings.Join(e.Notes, ", ")))
		}
		assert.Equal(t, want, strings.Join(all, ";"), src)
	}
	for src, want := range map[string]string{`{"url":"https://x.example","kind":"k","type":"t"}`: "k", `{"command":"x","type":"t"}`: "t", `{"url":"https://x.example","type":"t"}`: "t"} {
		f, err := configfile.Parse([]byte(src), configfile.JSON)
		require.NoError(t, err)
		assert.Equal(t, want, d.read("a", f.Root).Type, src)
	}
}

// learned are the places where servers are found in a file, the likeliest first, with the dialect of
// the first.
func learned(t *testing.T, src string) (places string, first Dialect) {
	t.Helper()
	f, err := configfile.Parse([]byte(src), configfile.JSON)
	require.NoError(t, err, src)
	list := Learn(f, "learned")
	for i, l := range list {
		if i == 0 {
			first = l.Dialect
		}
		places += "/" + l.Dialect.Servers.String()
	}
	return places, first
}

// Where servers are looked for, and what is taken for them.
func TestWhatIsTakenForServers(t *testing.T) {
	t.Parallel()
	deep := func(n int) string {
		return strings.Repeat(`{"x":`, n) + `{"a":{"command":"x"}}` + strings.Repeat("}", n)
	}
	places, _ := learned(t, deep(8))
	assert.Equal(t, "/"+strings.TrimSuffix(strings.Repeat("x.", 8), "."), places)
	places, _ = learned(t, deep(9))
	assert.Empty(t, places)
	for src, want := range map[string]string{
		`{"s":{"a":{"command":"x"},"b":7}}`:                                                       "",
		`{"s":{"a":{"command":"x"},"b":null}}`:                                                    "/s",
		`{"s":{"a":{"command":"x"},"b":{},"c":{}}}`:                                               "",
		`{"s":{"a":{"command":"x"},"b":{}}}`:                                                      "/s",
		`{"s":[{"name":"a","command":"x"},7]}`:                                                    "",
		`{"s":[{"command":"x"}]}`:                                                                 "",
		`{"s":[{"name":"a","command":"x"},{"name":"a","command":"y"}]}`:                           "",
		`{"s":[{"at":"https://a.example","command":"x"}]}`:                                        "",
		`{"theme":"t","tasks":{"a":{"command":"x"}},"mcp":{"a":{"command":"x"}}}`:                 "/mcp/tasks",
		`{"theme":"t","a/b":{"a":{"command":"x"}},"c":{"a":{"command":"x"}}}`:                     "/c/a/b",
		`{"theme":"t","x":{"y":{"z":{"a":{"command":"x"}}}},"c":{"a":{"command":"x"}}}`:           "/c/x.y.z",
		`{"theme":"t","b":{"a":{"command":"x"}},"c":{"a":{"command":"x"},"d":{"command":"y"}}}`:   "/c/b",
		`{"theme":"t","b":{"a":{"x":"https://a.example"}},"c":{"a":{"url":"https://a.example"}}}`: "/c/b",
		`{"theme":"t","task":{"mcp":{"a":{"command":"x"}}},"c":{"a":{"command":"x"}}}`:            "/task.mcp/c",
		`{"s":{"a":{"http":{"url":"https://a.example"},"stdio":{"command":"x"}}}}`:                "/s.a",
		`{"s":{"a":{"command":"x","env":{"command":"y"},"headers":{"url":"https://a.example"}}}}`: "/s",
		`{"s":{"a":{"where":"https://a.example","env":{"url":"https://b.example"}}}}`:             "/s",
		`{"s":{"a":{"path":"plain"}}}`:                                                            "",
		`{"s":{"a":{"path":"/bin/x"}}}`:                                                           "/s",
		`{"s":{"a":{"url":"ftp://a.example"}}}`:                                                   "",
		`{"s":{"a":{"url":"https://"}}}`:                                                          "",
		`{"s":{"a":{"url":"http://a"}}}`:                                                          "/s",
	} {
		places, _ := learned(t, src)
		assert.Equal(t, want, places, src)
	}
	for src, want := range map[string]Dialect{
		`{"s":{"a":{"where":"https://a.example","in":{"there":"https://b.example"}}}}`: {Remote: &Remote{URL: "where"}},
		`{"s":{"a":{"in":{"there":"https://b.example"},"where":"https://a.example"}}}`: {Remote: &Remote{URL: "where"}},
		`{"s":{"a":{"location":"https://b.example","endpoint":"https://a.example"}}}`:  {Remote: &Remote{URL: "endpoint"}},
		`{"s":{"a":{"bin":"x","cmd":"y"}}}`:                                            {Command: &Command{Command: "cmd"}},
		`{"s":{"a":{"thing":"x","args":["y"]}}}`:                                       {Command: &Command{Command: "thing", Args: "args"}},
		`{"s":{"a":{"name":"n","type":"t","cwd":"/d","thing":"x","args":["y"]}}}`:      {Command: &Command{Command: "thing", Args: "args", Dir: "cwd"}},
		`{"s":{"a":{"command":["x"],"args":["y"]}}}`:                                   {Command: &Command{Command: "command", Joined: true}},
		`{"s":{"a":{"command":"x","args":[]}}}`:                                        {Command: &Command{Command: "command", Args: "args"}},
		`{"s":{"a":{"command":"x","disabled":false,"enabled":true}}}`:                  {Command: &Command{Command: "command"}, Off: &Off{Field: "disabled"}},
		`{"s":{"a":{"command":"x","enabled":true,"disabled":false}}}`:                  {Command: &Command{Command: "command"}, Off: &Off{Field: "enabled", Inverse: true}},
		`{"s":{"a":{"command":"x","own":{"KEY":"v"}}}}`:                                {Command: &Command{Command: "command", Env: "own"}},
		`{"s":{"a":{"command":"x","own":{"key":"v"}}}}`:                                {Command: &Command{Command: "command"}},
		`{"s":{"a":{"command":"x","env":["A=b"]}}}`:                                    {Command: &Command{Command: "command", Env: "env", Form: FormLines}},
	} {
		_, got := learned(t, src)
		if want.Remote != nil {
			require.NotNil(t, got.Remote, src)
			assert.Equal(t, want.Remote.URL, got.Remote.URL, src)
			continue
		}
		// What no entry shows is guessed by its usual name.
		if want.Command.Args == "" && !want.Command.Joined {
			want.Command.Args = "args"
		}
		want.Command.Env = cmp.Or(want.Command.Env, "env")
		assert.Equal(t, want.Command, got.Command, src)
		assert.Equal(t, want.Off, got.Off, src)
	}
	for src, want := range map[string]string{
		`[{"other":"p","name":"a","command":"x"},{"other":"q","name":"b","command":"y"}]`: "name",
		`[{"title":"p","id":"a","command":"x"},{"title":"q","id":"b","command":"y"}]`:     "id",
		`[{"name":"p","other":"a","command":"x"},{"name":"p","other":"b","command":"y"}]`: "other",
		`[{"zz":"p","aa":"a","command":"x"},{"zz":"q","aa":"b","command":"y"}]`:           "zz",
		`[{"name":7,"other":"a","command":"x"}]`:                                          "other",
		`[{"name":"https://a.example","other":"a","command":"x"}]`:                        "other",
	} {
		_, got := learned(t, `{"s":`+src+`}`)
		assert.Equal(t, want, got.List, src)
	}
}

// How sure it is that servers stand at a place: fields with usual names count, and a file is clear
// when its best place has a margin.
func TestTheLikeliestPlaceComesFirst(t *testing.T) {
	t.Parallel()
	best, next := Learned{score: 7}, Learned{score: 3}
	assert.True(t, best.Clear(next))
	next.score = 4
	assert.False(t, best.Clear(next))
	for likelier, other := range map[string]string{
		`{"url":"https://a.example","headers":{"A":"b"}}`:   `{"url":"https://a.example"}`,
		`{"command":"x","env":{"A":"b"}}`:                   `{"command":"x"}`,
		`{"command":"x","args":["y"]}`:                      `{"command":"x"}`,
		`{"thing":"https://a.example","headers":{"A":"b"}}`: `{"thing":"https://a.example"}`,
	} {
		places, _ := learned(t, `{"theme":"t","a":{"x":`+other+`},"b":{"x":`+likelier+`}}`)
		assert.Equal(t, "/b/a", places, likelier)
	}
	for src, want := range map[string]string{
		`{"url":"https://a.example","headers":[{"name":"A","value":"b"}]}`: FormPairs, `{"url":"https://a.example","headers":["A: b"]}`: FormLines,
		`{"url":"https://a.example","headers":{"A":"b"}}`: "",
	} {
		_, got := learned(t, `{"s":{"a":`+src+`}}`)
		require.NotNil(t, got.Remote, src)
		assert.Equal(t, []string{"headers", want}, []string{got.Remote.Headers, got.Remote.Form}, src)
	}
}

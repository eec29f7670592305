package wire

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestResultsAreTranslatedBetweenTheEras(t *testing.T) {
	prefixed := func(uri string) string { return "bouncer:s/" + uri }
	for name, row := range map[string]struct {
		method, from, to string
		rename           func(string) string
		result, want     string
	}{
		"the same era stays the bytes it was":    {"tools/call", Rev20251125, Rev20250618, nil, `{ "content" : [] ,"n":1e400}`, `{ "content" : [] ,"n":1e400}`},
		"to the stateless era it is complete":    {"tools/call", Rev20251125, Rev20260728, nil, `{"content":[]}`, `{"content":[],"resultType":"complete","_meta":{"` + MetaServer + `":{"name":"bouncer"}}}`},
		"and cacheable when it is":               {"resources/read", Rev20250618, Rev20260728, nil, `{"contents":[]}`, `{"contents":[],"resultType":"complete","ttlMs":0,"cacheScope":"private","_meta":{"` + MetaServer + `":{"name":"bouncer"}}}`},
		"what says so already stays as it is":    {"tools/call", Rev20260728, Rev20260728, nil, `{"resultType":"complete","structuredContent":[1]}`, `{"resultType":"complete","structuredContent":[1]}`},
		"to a session the era's members go":      {"resources/read", Rev20260728, Rev20251125, nil, `{"resultType":"complete","ttlMs":5,"cacheScope":"public","contents":[],"_meta":{"` + MetaServer + `":{},"trace":1}}`, `{"contents":[],"_meta":{"trace":1}}`},
		"a tool's own ttlMs is its own business": {"tools/call", Rev20260728, Rev20251125, nil, `{"resultType":"complete","ttlMs":5,"content":[{"type":"text","text":"x"}]}`, `{"ttlMs":5,"content":[{"type":"text","text":"x"}]}`},
		"structured content becomes an object":   {"tools/call", Rev20260728, Rev20251125, nil, `{"resultType":"complete","structuredContent":[1,2]}`, `{"structuredContent":{"result":[1,2]},"content":[{"type":"text","text":"[1,2]"}]}`},
		"and keeps the text that is there":       {"tools/call", Rev20260728, Rev20251125, nil, `{"resultType":"complete","structuredContent":7,"content":[{"type":"text","text":"seven"}]}`, `{"structuredContent":{"result":7},"content":[{"type":"text","text":"seven"}]}`},
		"null beside it is dropped":              {"tools/call", Rev20260728, Rev20251125, nil, `{"resultType":"complete","content":null,"isError":true}`, `{"isError":true,"content":[]}`},
		"URIs of several servers":                {"tools/call", Rev20251125, Rev20251125, prefixed, `{"content":[{"type":"resource_link","uri":"x://1","name":"n"},{"type":"resource","resource":{"uri":"x://2","text":"x://3"}},{"type":"text","text":"x://4"}]}`, `{"content":[{"type":"resource_link","uri":"bouncer:s/x://1","name":"n"},{"type":"resource","resource":{"uri":"bouncer:s/x://2","text":"x://3"}},{"type":"text","text":"x://4"}]}`},
		"URIs in what was read":                  {"resources/read", Rev20251125, Rev20251125, prefixed, `{"contents":[{"uri":"x://1","blob":"AA=="}]}`, `{"contents":[{"uri":"bouncer:s/x://1","blob":"AA=="}]}`},
		"URIs in a prompt":                       {"prompts/get", Rev20251125, Rev20251125, prefixed, `{"messages":[{"role":"user","content":{"type":"resource","resource":{"uri":"x://1"}}},{"role":"user","content":"odd"}]}`, `{"messages":[{"role":"user","content":{"type":"resource","resource":{"uri":"bouncer:s/x://1"}}},{"role":"user","content":"odd"}]}`},
		"a link for an older agent is words":     {"tools/call", Rev20251125, Rev20250326, prefixed, `{"content":[{"type":"resource_link","uri":"x://1","name":"n"}]}`, `{"content":[{"type":"text","text":"[resource n: bouncer:s/x://1]"}]}`},
		"audio for an older agent is words":      {"tools/call", Rev20251125, Rev20241105, nil, `{"content":[{"type":"audio","mimeType":"audio/wav","data":"AA=="}]}`, `{"content":[{"type":"text","text":"[audio, audio/wav, which this revision of the protocol cannot carry]"}]}`},
		"audio for a newer one stays":            {"tools/call", Rev20251125, Rev20250326, nil, `{"content":[{"type":"audio","data":"AA=="}]}`, `{"content":[{"type":"audio","data":"AA=="}]}`},
		"unknown blocks pass":                    {"tools/call", Rev20251125, Rev20260728, nil, `{"content":[{"type":"hologram","x":1}],"taskId":"t"}`, `{"content":[{"type":"hologram","x":1}],"taskId":"t","resultType":"complete","_meta":{"` + MetaServer + `":{"name":"bouncer"}}}`},
	} {
		t.Run(name, func(t *testing.T) {
			src := []byte(`{"jsonrpc":"2.0","id":42,"result":` + row.result + `}`)
			f, err := ReadFrame(src)
			require.NoError(t, err)
			h := &Translation{Method: row.method, From: row.from, To: row.to, Rename: row.rename, Info: []byte(`{"name":"bouncer"}`)}
			out := AppendResultFor(nil, src, f, []byte(`"mine"`), h)
			var m struct {
				ID     string
				Result json.RawMessage
			}
			require.NoError(t, json.Unmarshal(out, &m), "%s", out)
			assert.Equal(t, "mine", m.ID)
			if row.from == row.to || !Stateless(row.from) && !Stateless(row.to) && row.rename == nil && strings.Contains(name, "stays") {
				assert.Contains(t, string(out), row.want)
			}
			if strings.Contains(row.want, "1e400") {
				assert.Equal(t, row.want, string(m.Result))
				return
			}
			assert.JSONEq(t, row.want, string(m.Result))
		})
	}
}

func TestToolsAreDescribedForAnEra(t *testing.T) {
	for name, row := range map[string]struct {
		raw, want string
		stateless bool
	}{
		"nothing to do":              {`{"name":"a","inputSchema":{"type":"object"}}`, `{"name":"a","inputSchema":{"type":"object"}}`, false},
		"an object schema":           {`{"name":"a","outputSchema":{"type":"object"}}`, `{"name":"a","outputSchema":{"type":"object"}}`, false},
		"another schema is wrapped":  {`{"name":"a","outputSchema":{"type":"array","items":{"$ref":"#/$defs/x"},"$defs":{"x":{}}}}`, `{"name":"a","outputSchema":{"type":"object","properties":{"result":{"type":"array","items":{"$ref":"#/properties/result/$defs/x"},"$defs":{"x":{}}}},"required":["result"]}}`, false},
		"a schema that is true":      {`{"name":"a","outputSchema":true}`, `{"name":"a","outputSchema":{"type":"object","properties":{"result":true},"required":["result"]}}`, false},
		"any schema without session": {`{"name":"a","outputSchema":{"type":"array"}}`, `{"name":"a","outputSchema":{"type":"array"}}`, true},
		"execution is of sessions":   {`{"name":"a","execution":{"taskSupport":"optional"},"x":1}`, `{"name":"a","x":1}`, true},
		"and stays there":            {`{"name":"a","execution":{"taskSupport":"optional"}}`, `{"name":"a","execution":{"taskSupport":"optional"}}`, false},
	} {
		assert.JSONEq(t, row.want, string(ItemFor(json.RawMessage(row.raw), row.stateless)), name)
	}
}

func TestRequestsAreWrittenForTheirHop(t *testing.T) {
	envelope := Envelope(Rev20260728, Caps{Form: true, Roots: true, RootsChanged: true}, []byte(`{"name":"quill"}`), "info")
	const agentMeta = `"_meta":{"` + MetaVersion + `":"2026-07-28","` + MetaCaps + `":{"sampling":{}},"traceparent":"00-1","progressToken":"t","com.example/x":1}`
	const ours = `"_meta":{"` + MetaVersion + `":"2026-07-28","` + MetaCaps + `":{"elicitation":{"form":{}},"roots":{}},"` + MetaInfo + `":{"name":"quill"},"` + MetaLevel + `":"info"`
	for name, row := range map[string]struct {
		method, params string
		envelope       []byte
		subject        string
		keep           bool
		extra          string
		want           string
	}{
		"a session's own":               {"tools/call", `{"name":"s__a","arguments":{"x":1.0}}`, nil, "a", false, "", `{"name":"a","arguments":{"x":1.0}}`},
		"a session to none":             {"tools/call", `{"name":"s__a","_meta":{"traceparent":"00-1"}}`, envelope, "a", false, "", `{"name":"a",` + ours + `,"traceparent":"00-1"}}`},
		"none to a session":             {"tools/call", `{"name":"a","inputResponses":{},"requestState":"s",` + agentMeta + `}`, nil, "a", false, "", `{"name":"a","_meta":{"progressToken":9,"traceparent":"00-1","com.example/x":1}}`},
		"none to none":                  {"tools/call", `{"name":"s__a","inputResponses":{"q":{}},"requestState":"s",` + agentMeta + `}`, envelope, "a", true, "", `{"name":"a","inputResponses":{"q":{}},"requestState":"s",` + ours + `,"progressToken":9,"traceparent":"00-1","com.example/x":1}}`},
		"a further round":               {"tools/call", `{"name":"a"}`, envelope, "a", false, `"inputResponses":{"q":{"roots":[]}},"requestState":"z"`, `{"name":"a","inputResponses":{"q":{"roots":[]}},"requestState":"z",` + ours + `}}`},
		"a subject inside a reference":  {"completion/complete", `{"ref":{"type":"ref/prompt","name":"s__p"},"argument":{}}`, envelope, "p", false, "", `{"ref":{"type":"ref/prompt","name":"p"},"argument":{},` + ours + `}}`},
		"a request without any params":  {"tools/list", ``, envelope, "", false, "", `{` + ours + `}}`},
		"a resource under its own name": {"resources/read", `{"uri":"bouncer:s/x://1"}`, nil, "x://1", false, "", `{"uri":"x://1"}`},
	} {
		t.Run(name, func(t *testing.T) {
			src := []byte(row.params)
			at := Span{0, len(src)}
			p, err := ReadParams(src, at, row.method)
			require.NoError(t, err)
			ask := Ask{Method: row.method, Src: src, Params: at, P: p, Subject: row.subject, KeepInput: row.keep}
			if row.extra != "" {
				ask.Extra = []byte(row.extra)
			}
			var m struct {
				ID     int
				Method string
				Params json.RawMessage
			}
			out := ask.Append(nil, 9, row.envelope)
			require.NoError(t, json.Unmarshal(out, &m), "%s", out)
			assert.Equal(t, 9, m.ID)
			assert.Equal(t, row.method, m.Method)
			assert.JSONEq(t, row.want, string(m.Params))
		})
	}
}

func TestCapabilitiesAreThoseOfTheRevision(t *testing.T) {
	all := `{"sampling":{"tools":{},"context":{}},"elicitation":{"form":{},"url":{}},"roots":{"listChanged":true},"tasks":{},"extensions":{"x":{},"io.modelcontextprotocol/tasks":{}}}`
	for rev, want := range map[string]string{
		Rev20241105: `{"sampling":{},"roots":{"listChanged":true}}`,
		Rev20250618: `{"sampling":{},"elicitation":{"form":{}},"roots":{"listChanged":true}}`,
		Rev20251125: `{"sampling":{"tools":{},"context":{}},"elicitation":{"form":{},"url":{}},"roots":{"listChanged":true}}`,
		Rev20260728: `{"sampling":{"tools":{},"context":{}},"elicitation":{"form":{},"url":{}},"roots":{},"extensions":{"io.modelcontextprotocol/tasks":{}}}`,
	} {
		assert.JSONEq(t, want, string(ReadCaps([]byte(all), rev).JSON(rev)), rev)
	}
	assert.Equal(t, Caps{Form: true}, ReadCaps([]byte(`{"elicitation":{}}`), Rev20251125), "an empty one means forms")
	assert.Equal(t, Caps{URL: true}, ReadCaps([]byte(`{"elicitation":{"url":{}}}`), Rev20251125))
	assert.Equal(t, Caps{}, ReadCaps([]byte(`{"sampling":7}`), Rev20251125), "what is malformed is no capability")
	for name, row := range map[string]struct {
		caps           Caps
		method, params string
		need           string
		known          bool
	}{
		"roots":                 {Caps{Roots: true}, "roots/list", "", "", true},
		"no roots":              {Caps{}, "roots/list", "", `{"roots":{}}`, true},
		"sampling":              {Caps{Sampling: true}, "sampling/createMessage", `{}`, "", true},
		"sampling with tools":   {Caps{Sampling: true}, "sampling/createMessage", `{"tools":[]}`, `{"sampling":{"tools":{}}}`, true},
		"no sampling":           {Caps{Form: true}, "sampling/createMessage", `{}`, `{"sampling":{}}`, true},
		"a form":                {Caps{Form: true}, "elicitation/create", `{"message":"?"}`, "", true},
		"an address":            {Caps{Form: true}, "elicitation/create", `{"mode":"url"}`, `{"elicitation":{"url":{}}}`, true},
		"a form for URLs only":  {Caps{URL: true}, "elicitation/create", `{"mode":"form"}`, `{"elicitation":{"form":{}}}`, true},
		"something unheard of":  {Caps{}, "tea/brew", `{}`, "", false},
		"a ping is no question": {Caps{}, "ping", ``, "", false},
	} {
		need, known := row.caps.Missing(row.method, []byte(row.params))
		assert.Equal(t, row.need, string(need), name)
		assert.Equal(t, row.known, known, name)
	}
}

func TestMirrorsOfASchema(t *testing.T) {
	for name, row := range map[string]struct {
		schema string
		want   string // header of the only mirror
		err    string
	}{
		"none":                {`{"type":"object","properties":{"a":{"type":"string"}}}`, "", ""},
		"a plain one":         {`{"properties":{"a":{"type":"string","x-mcp-header":"A"}}}`, "A", ""},
		"a deeper one":        {`{"properties":{"a":{"type":"object","properties":{"b":{"type":"boolean","x-mcp-header":"B"}}}}}`, "B", ""},
		"a number":            {`{"properties":{"a":{"type":"number","x-mcp-header":"A"}}}`, "", "no string, integer or boolean"},
		"in a list":           {`{"properties":{"a":{"type":"array","items":{"type":"string","x-mcp-header":"A"}}}}`, "", "no single argument"},
		"in an alternative":   {`{"anyOf":[{"properties":{"a":{"type":"string","x-mcp-header":"A"}}}]}`, "", "no single argument"},
		"at the root":         {`{"type":"string","x-mcp-header":"A"}`, "", "no single argument"},
		"a blank in it":       {`{"properties":{"a":{"type":"string","x-mcp-header":"A B"}}}`, "", "name of a header"},
		"no text":             {`{"properties":{"a":{"type":"string","x-mcp-header":7}}}`, "", "name of a header"},
		"twice":               {`{"properties":{"a":{"type":"string","x-mcp-header":"A"},"b":{"type":"string","x-mcp-header":"a"}}}`, "", "twice"},
		"inside example data": {`{"properties":{"a":{"type":"string","default":{"x-mcp-header":"A"}}}}`, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			list, err := ReadMirrors([]byte(`{"name":"t","inputSchema":` + row.schema + `}`))
			if row.err != "" {
				require.ErrorContains(t, err, row.err)
				return
			}
			require.NoError(t, err)
			if row.want == "" {
				assert.Empty(t, list)
				return
			}
			require.Len(t, list, 1)
			assert.Equal(t, row.want, list[0].Header)
		})
	}
	for text, want := range map[string]string{
		"plain": "plain", "": "=?base64??=", " outer": "=?base64?IG91dGVy?=", "Zürich": "=?base64?WsO8cmljaA==?=", "a\nb": "=?base64?YQpi?=", "=?base64?x?=": "=?base64?PT9iYXNlNjQ/eD89?=",
		"inner blank": "inner blank", "=?base64?half": "=?base64?half",
	} {
		assert.Equal(t, want, HeaderValue(text))
		back, err := ReadHeaderValue(want)
		require.NoError(t, err)
		assert.Equal(t, text, back)
	}
	for args, row := range map[string]struct {
		kind, value string
		there, bad  bool
	}{
		`{"a":7}`:                {"integer", "7", true, false},
		`{"a":7.0}`:              {"integer", "7", true, false},
		`{"a":1e3}`:              {"integer", "1000", true, false},
		`{"a":7.5}`:              {"integer", "", false, true},
		`{"a":9007199254740993}`: {"integer", "", false, true},
		`{"a":1e999999999}`:      {"integer", "", false, true},
		`{"a":true}`:             {"boolean", "true", true, false},
		`{"a":"true"}`:           {"boolean", "", false, true},
		`{"a":null}`:             {"string", "", false, false},
		`{}`:                     {"string", "", false, false},
		`{"a":{"b":1}}`:          {"string", "", false, true},
	} {
		v, there, err := Mirror{Header: "A", Path: []string{"a"}, Type: row.kind}.Value([]byte(args))
		assert.Equal(t, row.bad, err != nil, args)
		assert.Equal(t, row.there, there, args)
		assert.Equal(t, row.value, v, args)
	}
}

// What goes into a header comes out the same, and is one line of ASCII.
func FuzzHeaderMirror(f *testing.F) {
	f.Add("Zürich", []byte(`{"a":"x"}`))
	f.Add("=?base64?x?=", []byte(`{"a":{"a":1e5}}`))
	f.Fuzz(func(t *testing.T, text string, args []byte) {
		v := HeaderValue(text)
		for i := 0; i < len(v); i++ {
			if v[i] < 0x20 || v[i] > 0x7e {
				t.Fatalf("%q is written as %q", text, v)
			}
		}
		back, err := ReadHeaderValue(v)
		if utf8.ValidString(text) && (err != nil || back != text) {
			t.Fatalf("%q is written as %q and read as %q", text, v, back)
		}
		if !json.Valid(args) {
			return
		}
		for _, kind := range []string{"string", "integer", "boolean"} {
			m := Mirror{Header: "A", Path: []string{"a"}, Type: kind}
			if v, there, err := m.Value(args); err == nil && there {
				if err := m.Check([]string{HeaderValue(v)}, args); err != nil && utf8.ValidString(v) {
					t.Fatalf("%s: %v", args, err)
				}
			}
		}
	})
}

package wire

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever is put together of the pieces of JSON is a value here exactly when it is one for the
// standard library; which escapes there are in strings is not looked at here.
func TestValuesAreThoseOfTheStandardLibrary(t *testing.T) {
	t.Parallel()
	pieces := []string{
		"{", "}", "[", "]", ":", ",", `"a"`, `"`, `\"`, `\\`, "0", "1", "9", "-", "+", ".", "e", "E", "true", "tru", "null", "false", " ", "/", "x",
	}
	check := func(text string) {
		_, err := Whole([]byte(text))
		if valid := json.Valid([]byte(text)); valid != (err == nil) {
			t.Fatalf("%q: valid is %v, and here it is %v", text, valid, err)
		}
	}
	var each func(text string, left int)
	each = func(text string, left int) {
		check(text)
		if left == 0 {
			return
		}
		for _, p := range pieces {
			each(text+p, left-1)
		}
	}
	each("", 3)
	for _, inside := range [...][2]string{{"[", "]"}, {`{"a":`, "}"}, {`["`, `"]`}, {"-", ""}, {"1.", "]"}, {"1e", "1"}, {`{"a":1,`, "}"}, {"[1,", "]"}} {
		for _, a := range pieces {
			for _, b := range pieces {
				check(inside[0] + a + b + inside[1])
			}
		}
	}
	for _, text := range []string{`"\\\\"`, `"\\\"`, `"\\\\\"x"`, `"\"\""`, `["\\",1]`, `{"a\\":1}`, `{"a\"":1}`, "12.50e-07", "-0.0", "1e+5", "01", "1.e5", "tr", "nul", "falsee"} {
		check(text)
	}
	for _, around := range [...][2]string{{"[", "]"}, {`{"a":`, "}"}} {
		for deep, good := range map[int]bool{MaxDepth: true, MaxDepth + 1: false} {
			_, err := Whole([]byte(strings.Repeat(around[0], deep-1) + strings.TrimSuffix(around[0], `"a":`) + around[1] + strings.Repeat(around[1], deep-1)))
			assert.Equal(t, good, err == nil, "%s %d", around[0], deep)
		}
	}
}

// Members are found by their names however those are written, and texts by what they say.
func TestMembersAndTexts(t *testing.T) {
	t.Parallel()
	src := []byte(`{"a":"x","\u0062":"\u0079","c":7,"d":"","e":"\q"}`)
	whole := Span{0, len(src)}
	for name, want := range map[string]string{"a": "x", "b": "y", "d": ""} {
		text, ok := StringAt(src, Member(src, whole, name))
		assert.True(t, ok, name)
		assert.Equal(t, want, text)
	}
	for _, none := range []string{"c", "e", "f", `\u0062`} {
		_, ok := StringAt(src, Member(src, whole, none))
		assert.False(t, ok, none)
	}
	broken := []byte(`{"a":1,"b":}`)
	assert.False(t, Member(broken, Span{0, len(broken)}, "a").Empty(), "what comes before a mistake is read")
	assert.True(t, Member(broken, Span{0, len(broken)}, "c").Empty())
	assert.True(t, keyIs([]byte(`"\u0061b"`), Span{0, 9}, "ab"))
	assert.False(t, keyIs([]byte(`"\u0061b"`), Span{0, 9}, `\u0061b`+"x"))
	assert.False(t, keyIs([]byte(`"ab"`), Span{0, 4}, "ac"))
	_, ok := StringAt([]byte(`"`), Span{0, 1})
	assert.False(t, ok)
}

// Arguments and names are put into a request wherever it has them, and it is read anew.
func TestRequestsAreAltered(t *testing.T) {
	t.Parallel()
	read := func(params string) ([]byte, Frame, Params) {
		body := []byte(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":` + params + `}`)
		f, err := ReadFrame(body)
		require.NoError(t, err)
		p, err := ReadParams(body, f.Params, f.Method)
		require.NoError(t, err)
		return body, f, p
	}
	for params, want := range map[string]string{
		`{"name":"a","arguments":{"x":1}}`: `{"name":"a","arguments":{"y":2}}`,
		`{"name":"a"}`:                     `{"arguments":{"y":2},"name":"a"}`,
		`{ "name":"a" }`:                   `{"arguments":{"y":2}, "name":"a" }`,
	} {
		body, f, p := read(params)
		out, after, q, err := WithArguments(body, f, p, []byte(`{"y":2}`))
		require.NoError(t, err)
		assert.Equal(t, want, string(after.Params.Of(out)))
		assert.Equal(t, `{"y":2}`, string(q.Arguments.Of(out)))
		assert.Equal(t, "a", q.Subject)
	}
	body, f, p := read(`{"name":"a"}`)
	for _, bad := range []string{`{"y"`, `7`} {
		_, _, _, err := WithArguments(body, f, p, []byte(bad))
		assert.Error(t, err, bad)
	}
	out, _, q, err := WithSubject(body, f, p, `b"`)
	require.NoError(t, err)
	assert.JSONEq(t, `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"b\""}}`, string(out))
	assert.Equal(t, `b"`, q.Subject)
	_, _, _, err = WithSubject(body, f, p, "")
	assert.Error(t, err, "a name that is none")
	nameless := []byte(`{"jsonrpc":"2.0","id":1,"method":"ping","params":{}}`)
	f, err = ReadFrame(nameless)
	require.NoError(t, err)
	_, _, _, err = WithSubject(nameless, f, Params{}, "b")
	assert.ErrorContains(t, err, "names nothing")
	empty := []byte(`{"jsonrpc":"2.0","id":1,"method":"ping","params":{ }}`)
	f, err = ReadFrame(empty)
	require.NoError(t, err)
	out, _, _, err = WithArguments(empty, f, Params{}, []byte(`{}`))
	require.NoError(t, err)
	assert.True(t, json.Valid(out), "%s", out)

	assert.Equal(t, "quill", NameOf([]byte(`{"name":"quill"}`)))
	assert.Empty(t, NameOf(nil))
	assert.Equal(t, "; open https://a first (m); open https://b first (n)",
		Addresses([]byte(`{"elicitations":[{"message":"m","url":"https://a"},{"message":"n","url":"https://b"}]}`)))
	assert.Empty(t, Addresses([]byte(`[]`)))
	many := strings.TrimSuffix(strings.Repeat(`{"url":"u"},`, 11), ",")
	assert.Equal(t, 10, strings.Count(Addresses([]byte(`{"elicitations":[`+many+`]}`)), "; open"))

	two := `{"elicitations":[{"mode":"x","elicitationId":"1","url":"https://a","message":"m"},null]}`
	asked := AddressQuestions([]byte(two), 2)
	require.Len(t, asked, 2)
	assert.JSONEq(t, `{"method":"elicitation/create","params":{"mode":"url","url":"https://a","message":"m"}}`, string(asked["address1"]))
	assert.JSONEq(t, `{"method":"elicitation/create","params":{"mode":"url"}}`, string(asked["address2"]))
	for _, none := range []string{two, `{"elicitations":[]}`, `{}`, `[]`, `{`} {
		assert.Nil(t, AddressQuestions([]byte(none), 1), none)
	}
	assert.Equal(t, `x{"jsonrpc":"2.0","id":7,"result":{"isError":true,"content":[{"type":"text","text":"no \"berth\""}]}}`,
		string(AppendToolError([]byte("x"), []byte("7"), `no "berth"`, false)))
	assert.Equal(t, `{"jsonrpc":"2.0","id":"a","result":{"resultType":"complete","isError":true,"content":[{"type":"text","text":"no"}]}}`,
		string(AppendToolError(nil, []byte(`"a"`), "no", true)))
}

// Log messages are wanted from a level on.
func TestLevels(t *testing.T) {
	t.Parallel()
	for i, level := range Levels {
		assert.Equal(t, i, Level(level))
		for j, other := range Levels {
			frame := []byte(`{"jsonrpc":"2.0","method":"notifications/message","params":{"level":"` + other + `"}}`)
			f, err := ReadFrame(frame)
			require.NoError(t, err)
			assert.Equal(t, j >= i, Wanted(level, frame, f), "%s, and %s is wanted", other, level)
			assert.False(t, Wanted("", frame, f))
		}
	}
	assert.Equal(t, -1, Level("loud"))
	bare := []byte(`{"jsonrpc":"2.0","method":"notifications/message"}`)
	f, err := ReadFrame(bare)
	require.NoError(t, err)
	assert.False(t, Wanted("debug", bare, f))
}

// Each revision is spoken in one way.
func TestRevisions(t *testing.T) {
	t.Parallel()
	all := []string{Rev20241105, Rev20250326, Rev20250618, Rev20251125, Rev20260728, "2024-01-01", ""}
	for name, row := range map[string]struct {
		is   func(string) bool
		want []bool
	}{
		"sessions":  {SpeaksSession, []bool{true, true, true, true, false, false, false}},
		"stateless": {SpeaksStateless, []bool{false, false, false, false, true, false, false}},
		"batches":   {HasBatch, []bool{true, true, false, false, false, false, false}},
		"event ids": {HasEventIDs, []bool{false, false, false, true, false, false, false}},
	} {
		for i, rev := range all {
			assert.Equal(t, row.want[i], row.is(rev), "%s of %s", name, rev)
		}
	}
}

// Ids and tokens are texts or numbers, up to a length.
func TestIDs(t *testing.T) {
	t.Parallel()
	for id, good := range map[string]bool{
		"0": true, "9": true, "-1": true, `"x"`: true, `"` + strings.Repeat("x", 254) + `"`: true, `"` + strings.Repeat("x", 255) + `"`: false, "true": false, "[]": false,
	} {
		_, err := ReadFrame([]byte(`{"jsonrpc":"2.0","method":"p","id":` + id + `}`))
		assert.Equal(t, good, err == nil, id)
		params := []byte(`{"_meta":{"progressToken":` + id + `}}`)
		_, err = ReadParams(params, Span{0, len(params)}, "ping")
		assert.Equal(t, id != "true" && id != "[]", err == nil, id)
	}
	for id, same := range map[string]bool{"18446744073709551615": true, "018446744073709551615": false, "1": false, `"18446744073709551615"`: false} {
		assert.Equal(t, same, SameID([]byte(id), Span{0, len(id)}, 18446744073709551615), id)
	}
	assert.Equal(t, `{"jsonrpc":"2.0","method":"a"}`, string(AppendNotification(nil, "a", nil)))
	assert.Equal(t, `{"jsonrpc":"2.0","method":"a","params":{}}`, string(AppendNotification(nil, "a", []byte("{}"))))
	assert.Equal(t, `{"jsonrpc":"2.0","id":7,"method":"a"}`, string(AppendRequest(nil, 7, "a", nil)))
	assert.Equal(t, `{"jsonrpc":"2.0","id":7,"method":"a","params":{}}`, string(AppendRequest(nil, 7, "a", []byte("{}"))))
	assert.Equal(t, RPCError{Code: 1, Message: "m"}, ReadError([]byte(`{"code":1,"message":"m"}`), Span{0, 24}))
	assert.Equal(t, CodeInternal, ReadError([]byte(`[]`), Span{0, 2}).Code)
	for ref, says := range map[string]string{
		`{"type":"ref/prompt","name":"a"}`: "", `{"type":"ref/resource","uri":"a"}`: "", `{"type":"ref/prompt","name":"a","uri":"b"}`: "names a prompt and a resource",
		`{"type":"ref/prompt","name":"a","name":"b"}`: "twice", `{"type":"other"}`: "must be ref/prompt", `7`: "must name", `{"type":"ref/prompt"}`: "missing",
	} {
		params := []byte(`{"ref":` + ref + `}`)
		_, err := ReadParams(params, Span{0, len(params)}, "completion/complete")
		if says == "" {
			assert.NoError(t, err, ref)
			continue
		}
		assert.ErrorContains(t, err, says, ref)
	}
}

// What a client has to offer follows from what it is asked.
func TestMissingCapabilities(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		caps           Caps
		method, params string
		want           string
		known          bool
	}{
		{Caps{}, "roots/list", "", `{"roots":{}}`, true}, {Caps{Roots: true}, "roots/list", "", "", true},
		{Caps{}, "sampling/createMessage", "", `{"sampling":{}}`, true}, {Caps{}, "sampling/createMessage", `{"tools":[]}`, `{"sampling":{"tools":{}}}`, true},
		{Caps{Sampling: true}, "sampling/createMessage", `{"tools":[]}`, `{"sampling":{"tools":{}}}`, true}, {Caps{Sampling: true}, "sampling/createMessage", `{}`, "", true},
		{Caps{Sampling: true, SamplingTools: true}, "sampling/createMessage", `{"tools":[]}`, "", true},
		{Caps{}, "elicitation/create", "", `{"elicitation":{"form":{}}}`, true}, {Caps{Form: true}, "elicitation/create", "", "", true},
		{Caps{Form: true}, "elicitation/create", `{"mode":"url"}`, `{"elicitation":{"url":{}}}`, true}, {Caps{URL: true}, "elicitation/create", `{"mode":"url"}`, "", true},
		{Caps{URL: true}, "elicitation/create", `{"mode":"form"}`, `{"elicitation":{"form":{}}}`, true}, {Caps{}, "other", "", "", false},
	} {
		need, known := row.caps.Missing(row.method, []byte(row.params))
		assert.Equal(t, []any{row.want, row.known}, []any{string(need), known}, "%s %s", row.method, row.params)
	}
}

// Event streams are bounded where it is said.
func TestMeasuresOfEvents(t *testing.T) {
	t.Parallel()
	const most = 8000 // more than what is read at once
	next := func(stream string) (Event, error) { return NewEventReader(strings.NewReader(stream), most).Next() }
	ev, err := next("data: " + strings.Repeat("x", most-1) + "\n\n")
	require.NoError(t, err)
	assert.Len(t, ev.Data, most-1)
	_, err = next("data: " + strings.Repeat("x", most) + "\n\n")
	assert.ErrorIs(t, err, ErrEventTooLarge)
	half := "data: " + strings.Repeat("x", most/2-1) + "\n"
	_, err = next(half + half[:len(half)-2] + "\n\n")
	assert.NoError(t, err, "what is joined counts together")
	_, err = next(half + half + "data: \n\n")
	assert.ErrorIs(t, err, ErrEventTooLarge)
	for n, good := range map[int]bool{most + 16: true, most + 17: false} {
		_, err := next(strings.Repeat("y", n) + "\ndata: a\n\n")
		assert.Equal(t, good, err == nil, n)
	}
	ev, err = next("\n\nid: 5\x00\nretry: -1\ndata: a\n\n")
	require.NoError(t, err)
	assert.Equal(t, Event{Retry: -1, Data: []byte("a")}, ev)
	ev, err = next("id: \x006\n\nretry: 0\n\n")
	require.NoError(t, err)
	assert.Equal(t, []any{0, ""}, []any{ev.Retry, ev.ID})
	ev, err = next(": comment\n\ndata: a\n\n")
	require.NoError(t, err)
	assert.Equal(t, -1, ev.Retry, "of an event after none too")
}

// Headers mirror arguments, exactly and within their bounds.
func TestMirrorsAtTheirEdges(t *testing.T) {
	t.Parallel()
	for text, plain := range map[string]bool{" a": false, "a b": true, "~": true, "a\x7f": false, "a\x1fb": false, "!": true, "": false, "=?base64?x?=": false} {
		assert.Equal(t, plain, HeaderValue(text) == text, "%q", text)
		back, err := ReadHeaderValue(HeaderValue(text))
		require.NoError(t, err)
		assert.Equal(t, text, back)
	}
	for name, good := range map[string]bool{"": false, strings.Repeat("h", 100): true, strings.Repeat("h", 101): false, "!": true, "~": true, "a b": false, "a\x7f": false, "(": false, "a(": false} {
		assert.Equal(t, good, token(name), "%q", name)
	}
	nested := func(n int, way [2]string) error {
		leaf := `{"type":"object","properties":{"a":{"type":"string","x-mcp-header":"A"}}}`
		_, err := ReadMirrors([]byte(`{"inputSchema":{"properties":{"b":{"x-mcp-header":"B","type":"string"},"c":` + strings.Repeat(way[0], n) + leaf + strings.Repeat(way[1], n) + `}}}`))
		return err
	}
	straight := [2]string{`{"properties":{"n":`, `}}`}
	assert.NoError(t, nested(47, straight))
	assert.ErrorContains(t, nested(48, straight), "nested too deeply")
	deep := func(n int, way [2]string) error {
		_, err := ReadMirrors([]byte(`{"inputSchema":{"properties":{"b":{"x-mcp-header":"B","type":"string"}},"x":` + strings.Repeat(way[0], n) + `7` + strings.Repeat(way[1], n) + `}}`))
		return err
	}
	for _, way := range [...][2]string{{`{"items":`, `}`}, {`[`, `]`}} {
		assert.NoError(t, deep(49, way), way[0])
		assert.ErrorContains(t, deep(51, way), "nested too deeply", way[0])
	}
	number := Mirror{Header: "N", Path: []string{"n"}, Type: "integer"}
	for raw, want := range map[string]string{
		"0": "0", "9": "9", "-9": "-9", "1e3": "1000", "10.0": "10", "9007199254740991": "9007199254740991", "9007199254740992": "!", "-9007199254740992": "!", "1.5": "!",
		"1e999": "!", "1e-999": "!", "1e-9999": "!", strings.Repeat("0", 0) + "1" + strings.Repeat("0", 39): "!", "1." + strings.Repeat("0", 38): "1", "1." + strings.Repeat("0", 39): "!", `"1"`: "!", "true": "!",
	} {
		value, ok, err := number.Value([]byte(`{"n":` + raw + `}`))
		if want == "!" {
			assert.Error(t, err, raw)
			assert.Error(t, number.Check([]string{raw}, []byte(`{"n":`+raw+`}`)), raw)
			continue
		}
		require.NoError(t, err, raw)
		assert.Equal(t, []any{want, true}, []any{value, ok}, raw)
		assert.NoError(t, number.Check([]string{raw}, []byte(`{"n":`+raw+`}`)), raw)
	}
	text := Mirror{Header: "T", Path: []string{"a", "t"}, Type: "string"}
	for _, row := range []struct {
		header []string
		args   string
		says   string
	}{
		{nil, `{}`, ""}, {nil, `{"a":7}`, ""}, {nil, `{"a":{"t":null}}`, ""}, {[]string{"x"}, `{}`, "the argument is not"}, {[]string{"x"}, `{"a":{"t":"x"}}`, ""},
		{[]string{"y"}, `{"a":{"t":"x"}}`, "differs"}, {nil, `{"a":{"t":"x"}}`, "must be sent once"}, {[]string{"x", "x"}, `{"a":{"t":"x"}}`, "must be sent once"},
		{[]string{"=?base64?!?="}, `{"a":{"t":"x"}}`, "not base64"}, {[]string{"1.0"}, `{"a":{"t":"1"}}`, "differs"}, {[]string{"7"}, `{"a":{"t":7}}`, "must be of type string"},
	} {
		err := text.Check(row.header, []byte(row.args))
		if row.says == "" {
			assert.NoError(t, err, "%v", row)
			continue
		}
		assert.ErrorContains(t, err, row.says, "%v", row)
	}
	truth := Mirror{Header: "B", Path: []string{"b"}, Type: "boolean"}
	for raw, want := range map[string]string{"true": "true", "false": "false"} {
		value, ok, err := truth.Value([]byte(`{"b":` + raw + `}`))
		assert.Equal(t, []any{want, true, nil}, []any{value, ok, err})
	}
	_, _, err := truth.Value([]byte(`{"b":1}`))
	assert.Error(t, err)
	assert.Error(t, number.Check([]string{"2"}, []byte(`{"n":1}`)))
	assert.NoError(t, number.Check([]string{"1.0"}, []byte(`{"n":1}`)))
}

// Blocks that older revisions do not know are found wherever their names stand, and only there.
func TestWhatIsPassedOnAsItIs(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		text, word string
		want       bool
	}{
		{`{"type":"audio"}`, `"audio"`, true}, {`"audio"`, `"audio"`, true}, {`"audi`, `"audio"`, false}, {`x"audio"`, `"audio"`, true}, {`""audio"`, `"audio"`, true},
		{`"audix"`, `"audio"`, false}, {``, `"audio"`, false}, {`audio`, `"audio"`, false},
	} {
		assert.Equal(t, row.want, mentions([]byte(row.text), row.word), row.text)
	}
	plain := func(to, result string) bool {
		src := []byte(`{"jsonrpc":"2.0","id":1,"result":` + result + `}`)
		f, err := ReadFrame(src)
		require.NoError(t, err)
		return (&Translation{Method: "tools/call", From: Rev20251125, To: to}).Plain(src, f)
	}
	revisions := []string{Rev20241105, Rev20250326, Rev20250618, Rev20251125}
	for result, from := range map[string]string{
		`{"content":[{"type":"text"}]}`: Rev20241105, `{"content":[{"type":"audio"}]}`: Rev20250326, `{"content":[{"type":"resource_link"}]}`: Rev20250618,
	} {
		for i, to := range revisions {
			assert.Equal(t, i >= slices.Index(revisions, from), plain(to, result), "%s to %s", result, to)
			assert.Equal(t, i >= slices.Index(revisions, from), strings.Contains(
				string((&Translation{To: to}).block(nil, []byte(result[12:len(result)-2]), Span{0, len(result) - 14})), result[13:len(result)-3],
			), "%s to %s", result, to)
		}
	}
	for meta, want := range map[string]string{
		`{}`: `{"` + MetaServer + `":{}}`, `{"a":1}`: `{"a":1,"` + MetaServer + `":{}}`, `{"` + MetaServer + `":7,"a":1}`: `{"` + MetaServer + `":7,"a":1}`, `7`: `{"` + MetaServer + `":{}}`,
	} {
		h := Translation{To: Rev20260728, Info: []byte("{}")}
		assert.Equal(t, want, string(h.meta([]byte(meta), Span{0, len(meta)})), meta)
		h.Info = nil
		assert.NotContains(t, string(h.meta([]byte(`{}`), Span{0, 2})), MetaServer)
	}
	for content, want := range map[string]string{`[]`: ``, `[ ]`: ``, `null`: ``, `[{"type":"text","text":"x"}]`: `"content":[{"type":"text","text":"x"}]`} {
		src := []byte(`{"content":` + content + `}`)
		out := string((&Translation{Method: "tools/call", From: Rev20260728, To: Rev20251125}).result(src, Span{0, len(src)}))
		if want == "" {
			want = `"content":[`
			assert.Equal(t, 1, strings.Count(out, `"content"`), "%s: %s", content, out)
		}
		assert.Contains(t, out, want, fmt.Sprint(content))
	}
}

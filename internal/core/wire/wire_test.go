package wire

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadFrameTellsKindsApart(t *testing.T) {
	for text, want := range map[string]Kind{
		`{"jsonrpc":"2.0","id":1,"method":"ping"}`:                                        Request,
		` { "id" : "a" , "method" : "ping" , "jsonrpc" : "2.0" } ` + "\r\n":               Request,
		`{"jsonrpc":"2.0","method":"notifications/initialized"}`:                          Notification,
		`{"jsonrpc":"2.0","id":7,"result":{}}`:                                            Response,
		`{"result":{"deep":[1,{"a":[]}]},"jsonrpc":"2.0","id":"x"}`:                       Response,
		`{"jsonrpc":"2.0","id":null,"error":{"code":-1,"message":"m"}}`:                   Response,
		`[{"jsonrpc":"2.0","id":1,"method":"ping"},{"jsonrpc":"2.0","id":2,"result":{}}]`: Batch,
		`{"jsonrpc":"2.0","id":-1.5e3,"method":"p","unknown":{"kept":true}}`:              Request,
	} {
		f, err := ReadFrame([]byte(text))
		require.NoError(t, err, text)
		assert.Equal(t, want, f.Kind, text)
	}
}

func TestReadFrameRefuses(t *testing.T) {
	rows := map[string]struct {
		text string
		code int
		says string
	}{
		"nothing":                     {"  ", CodeParse, "empty"},
		"half an object":              {`{"jsonrpc":"2.0"`, CodeParse, "object without an end"},
		"text after the message":      {`{"jsonrpc":"2.0","id":1,"method":"p"} x`, CodeParse, "something follows"},
		"a string without an end":     {`{"jsonrpc":"2.0","id":1,"method":"p}`, CodeParse, "string without an end"},
		"an escaped quote at the end": {`{"jsonrpc":"2.0","method":"p\"}`, CodeParse, "string without an end"},
		"a leading zero":              {`{"jsonrpc":"2.0","id":01,"method":"p"}`, CodeParse, "leading zero"},
		"a trailing comma":            {`{"jsonrpc":"2.0","id":1,"method":"p",}`, CodeParse, "member name"},
		"an unknown word":             {`{"jsonrpc":"2.0","id":nul,"method":"p"}`, CodeParse, "unknown word"},
		"a bare string":               {`"hello"`, CodeInvalidRequest, "JSON object"},
		"another version":             {`{"jsonrpc":"1.0","id":1,"method":"p"}`, CodeInvalidRequest, `"jsonrpc" must be "2.0"`},
		"an object as id":             {`{"jsonrpc":"2.0","id":{},"method":"p"}`, CodeInvalidRequest, "string or a number"},
		"null as the id of a request": {`{"jsonrpc":"2.0","id":null,"method":"p"}`, CodeInvalidRequest, "string or a number"},
		"an endless id": {
			`{"jsonrpc":"2.0","id":"` + strings.Repeat("x", 300) + `","method":"p"}`,
			CodeInvalidRequest,
			"longer than 256",
		},
		"params as an array": {
			`{"jsonrpc":"2.0","id":1,"method":"p","params":[1]}`,
			CodeInvalidRequest,
			`"params" must be an object`,
		},
		"a method and a result": {
			`{"jsonrpc":"2.0","id":1,"method":"p","result":{}}`,
			CodeInvalidRequest,
			"either a method or a result",
		},
		"neither method nor result": {`{"jsonrpc":"2.0","id":1}`, CodeInvalidRequest, "one of them only"},
		"a result without an id":    {`{"jsonrpc":"2.0","result":{}}`, CodeInvalidRequest, "needs an id"},
		"two methods": {
			`{"jsonrpc":"2.0","id":1,"method":"ping","method":"tools/call"}`,
			CodeInvalidRequest,
			`"method" is there twice`,
		},
		"a method that only some would read": {
			`{"jsonrpc":"2.0","id":1,"method":"ping","Method":"tools/call"}`,
			CodeInvalidRequest,
			`must be spelled "method"`,
		},
		"a method written in escapes": {
			`{"jsonrpc":"2.0","id":1,"method":"ping","m\u0065thod":"tools/call"}`,
			CodeInvalidRequest,
			"twice",
		},
		"an empty batch":          {`[]`, CodeInvalidRequest, "must not be empty"},
		"a batch above the limit": {"[" + strings.Repeat("1,", MaxBatch) + "1]", CodeInvalidRequest, "at most 100"},
		"nesting without end": {
			`{"jsonrpc":"2.0","id":1,"method":"p","params":` + strings.Repeat(`{"a":`, 500),
			CodeParse,
			"too deeply",
		},
	}
	for name, row := range rows {
		t.Run(name, func(t *testing.T) {
			_, err := ReadFrame([]byte(row.text))
			var fe *FrameError
			require.ErrorAs(t, err, &fe)
			assert.Equal(t, row.code, fe.Code)
			assert.Contains(t, fe.What, row.says)
		})
	}
}

func TestFailedResultIsSeenAtTheTopOnly(t *testing.T) {
	for text, want := range map[string]bool{
		`{"jsonrpc":"2.0","id":1,"result":{"content":[],"isError":true}}`:                   true,
		`{"jsonrpc":"2.0","id":1,"result":{"isError":false}}`:                               false,
		`{"jsonrpc":"2.0","id":1,"result":{"structuredContent":{"isError":true}}}`:          false,
		`{"jsonrpc":"2.0","id":1,"result":{"content":[{"text":"\"isError\":true"}]}}`:       false,
		`{"jsonrpc":"2.0","id":1,"error":{"code":1,"message":"m","data":{"isError":true}}}`: false,
	} {
		f, err := ReadFrame([]byte(text))
		require.NoError(t, err)
		assert.Equal(t, want, f.Failed, text)
	}
}

func TestReadParamsGuardsWhatDecides(t *testing.T) {
	for name, row := range map[string]struct{ params, says string }{
		"two names":                 {`{"name":"safe","name":"cancel"}`, "twice"},
		"a name in another case":    {`{"name":"safe","NAME":"cancel"}`, "must be spelled"},
		"a name in escapes":         {`{"name":"safe","\u006eame":"cancel"}`, "twice"},
		"arguments twice":           {`{"name":"a","arguments":{},"arguments":{"x":1}}`, "twice"},
		"no name":                   {`{"arguments":{}}`, "params.name"},
		"a number as name":          {`{"name":7}`, "params.name"},
		"arguments as an array":     {`{"name":"a","arguments":[1]}`, "params.arguments"},
		"an object as token":        {`{"name":"a","_meta":{"progressToken":{}}}`, "progressToken"},
		"two tokens":                {`{"name":"a","_meta":{"progressToken":1,"progressToken":2}}`, "twice"},
		"a token in another casing": {`{"name":"a","_meta":{"progresstoken":1}}`, "must be spelled"},
		"letters that fold":         {`{"name":"a","argumentſ":{}}`, "must be spelled"},
		"a sign that folds":         {"{\"name\":\"a\",\"tas\u212a\":{}}", "must be spelled"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := ReadParams([]byte(row.params), Span{0, len(row.params)}, "tools/call")
			var fe *FrameError
			require.ErrorAs(t, err, &fe)
			assert.Equal(t, CodeInvalidParams, fe.Code)
			assert.Contains(t, fe.What, row.says)
		})
	}
}

// What is carried must stay the bytes it was, but for id, name and token.
func TestCallIsSplicedNotRewritten(t *testing.T) {
	src := []byte(
		`{"jsonrpc":"2.0","id":"agent-7","method":"tools/call","params":{ "_meta":{"progressToken":"p\"1","trace":9007199254740993} ,"arguments":{"n":1e400,"z":12345678901234567890,"a":"\u00fc"},"name":"harbour__find","task":{"ttl":1}}}`,
	)
	f, err := ReadFrame(src)
	require.NoError(t, err)
	p, err := ReadParams(src, f.Params, f.Method)
	require.NoError(t, err)
	assert.Equal(t, "harbour__find", p.Subject)
	assert.Equal(t, `{"n":1e400,"z":12345678901234567890,"a":"\u00fc"}`, string(p.Arguments.Of(src)))
	ask := Ask{Method: f.Method, Src: src, Params: f.Params, P: p, Subject: "find"}
	out := ask.Append(nil, 42, nil)
	assert.Equal(
		t,
		`{"jsonrpc":"2.0","id":42,"method":"tools/call","params":{ "_meta":{"progressToken":42,"trace":9007199254740993} ,"arguments":{"n":1e400,"z":12345678901234567890,"a":"\u00fc"},"name":"find","task":{"ttl":1}}}`,
		string(out),
	)

	reply := []byte(` {"result":{"big":9007199254740993,"t":1.10},"id":42,"jsonrpc":"2.0"}`)
	rf, err := ReadFrame(reply)
	require.NoError(t, err)
	assert.True(t, SameID(reply, rf.ID, 42))
	assert.False(t, SameID(reply, rf.ID, 4))
	assert.Equal(
		t,
		` {"result":{"big":9007199254740993,"t":1.10},"id":"agent-7","jsonrpc":"2.0"}`,
		string(AppendWithID(nil, reply, rf, f.ID.Of(src))),
	)
}

func TestErrorsAreWellFormedWhateverTheText(t *testing.T) {
	raw := AppendError(nil, nil, CodeNotAdmitted, "no \"entry\"\n<now>\xff", map[string]string{"ask": "Marit Aune"})
	var out struct {
		ID    any
		Error RPCError
	}
	require.NoError(t, json.Unmarshal(raw, &out))
	assert.Nil(t, out.ID)
	assert.Equal(t, "no \"entry\"\n<now>\ufffd", out.Error.Message)
	assert.JSONEq(t, `{"ask":"Marit Aune"}`, string(out.Error.Data))
}

func TestEventsAreReadAsTheStandardSays(t *testing.T) {
	stream := "\ufeff"[:0] + ": a comment\r\n\r\nid: 4\nretry: 1500\ndata: {\"a\":\ndata:1}\n\nevent: message\r\ndata: two\r\n\r\n:x\n\ndata: cut off by the end"
	// One byte at a time: no reader may depend on how the stream is cut.
	r := NewEventReader(iotest.OneByteReader(strings.NewReader(stream)), 1000)
	ev, err := r.Next()
	require.NoError(t, err)
	assert.Equal(t, "{\"a\":\n1}", string(ev.Data))
	assert.Equal(t, "4", ev.ID)
	assert.Equal(t, 1500, ev.Retry)
	ev, err = r.Next()
	require.NoError(t, err)
	assert.Equal(t, "two", string(ev.Data))
	assert.Equal(t, "message", ev.Name)
	assert.Equal(t, -1, ev.Retry)
	_, err = r.Next()
	assert.ErrorIs(t, err, io.EOF)
}

// A line ends with LF, CR or both, wherever the stream is cut; and no data that is
// written begins a line of its own.
func TestACarriageReturnEndsALine(t *testing.T) {
	stream := "data: a\r\rdata: b\r\n\r\nid: 3\rdata: c\rdata: d\n\nevent: endpoint\rdata: e\r\r"
	for _, reader := range []io.Reader{strings.NewReader(stream), iotest.OneByteReader(strings.NewReader(stream))} {
		r := NewEventReader(reader, 1000)
		var got []string
		for {
			ev, err := r.Next()
			if err != nil {
				break
			}
			got = append(got, ev.Name+"|"+string(ev.Data))
		}
		assert.Equal(t, []string{"|a", "|b", "|c\nd", "endpoint|e"}, got)
	}
	for _, data := range []string{"a\rb", "a\r\nb", "a\nb", "\r", "a\r", "event: endpoint\rdata: x", "\r\revent: endpoint\r"} {
		out := string(AppendEvent(nil, "", []byte(data)))
		for _, line := range strings.Split(strings.TrimSuffix(out, "\n\n"), "\n") {
			assert.True(t, strings.HasPrefix(line, "data: "), "%q became %q", data, out)
		}
		assert.NotContains(t, out, "\r")
		ev, err := NewEventReader(strings.NewReader(out), 1000).Next()
		require.NoError(t, err)
		assert.Equal(t, strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(data), string(ev.Data))
	}
}

func TestEventsAreBounded(t *testing.T) {
	for name, stream := range map[string]string{
		"one endless line": "data: " + strings.Repeat("x", 9000),
		"endless lines":    strings.Repeat("data: xxxxxxxxxxxxxxxxxxxxxxx\n", 500),
		"an endless field": strings.Repeat("y", 9000),
	} {
		t.Run(name, func(t *testing.T) {
			_, err := NewEventReader(strings.NewReader(stream), 5000).Next()
			assert.ErrorIs(t, err, ErrEventTooLarge)
		})
	}
}

func FuzzReadFrame(f *testing.F) {
	for _, s := range []string{`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"a","arguments":{"x":[1,2,{"y":null}]},"_meta":{"progressToken":"t"}}}`, `[{"jsonrpc":"2.0","method":"a"}]`, `{"jsonrpc":"2.0","id":"\u0061","result":{"isError":true}}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		frame, err := ReadFrame(b)
		if err != nil {
			var fe *FrameError
			if !errors.As(err, &fe) {
				t.Fatalf("not a FrameError: %v", err)
			}
			return
		}
		if frame.Kind == Batch {
			for _, item := range frame.Items {
				_, _ = ReadFrameAt(b, item)
			}
			return
		}
		// Where the standard library can read it too, both must see the same call.
		var std struct {
			Method string
			Params struct{ Name any }
		}
		if !json.Valid(b) || json.Unmarshal(b, &std) != nil {
			return
		}
		if frame.Method != std.Method && !bytes.Contains(b, []byte(`\u`)) && json.Valid(b) {
			t.Fatalf("method %q, the standard library reads %q", frame.Method, std.Method)
		}
		if frame.Params.Empty() {
			return
		}
		if p, err := ReadParams(b, frame.Params, "tools/call"); err == nil {
			if p.Subject != std.Params.Name {
				t.Fatalf("name %q, the standard library reads %q", p.Subject, std.Params.Name)
			}
			ask := Ask{Method: "tools/call", Src: b, Params: frame.Params, P: p, Subject: "other"}
			for _, envelope := range [][]byte{nil, Envelope(Rev20260728, Caps{Form: true}, nil, "info")} {
				if out := ask.Append(nil, 9, envelope); !json.Valid(out) {
					t.Fatalf("written as %q", out)
				}
			}
		}
	})
}

// What is written as one event is read as one, whatever is in it.
func FuzzEventsKeepTheirFraming(f *testing.F) {
	f.Add([]byte("a\rb\r\n\nevent: endpoint"))
	f.Add([]byte("\r\n\r"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r := NewEventReader(bytes.NewReader(append(AppendEvent(nil, "7", data), AppendEvent(nil, "", []byte("end"))...)), 1<<20)
		ev, err := r.Next()
		if err != nil || ev.ID != "7" || ev.Name != "" {
			t.Fatalf("%q was read as %+v, %v", data, ev, err)
		}
		want := strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(string(data))
		if string(ev.Data) != want {
			t.Fatalf("%q became %q", data, ev.Data)
		}
		if ev, err = r.Next(); err != nil || string(ev.Data) != "end" {
			t.Fatalf("after %q came %+v, %v", data, ev, err)
		}
	})
}

func FuzzEventReader(f *testing.F) {
	f.Add([]byte("id: 1\ndata: a\n\n: c\r\nevent: x\ndata: b\n\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := NewEventReader(bytes.NewReader(b), 512)
		for range len(b) + 2 {
			ev, err := r.Next()
			if err != nil {
				return
			}
			if len(ev.Data) > 512 {
				t.Fatalf("an event of %d bytes", len(ev.Data))
			}
		}
		t.Fatal("more events than bytes")
	})
}

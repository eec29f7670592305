package evidence

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var errReset = errors.New("post: read tcp 127.0.0.1:1->127.0.0.1:2: connection reset")

// A request is told with what came of it, and quoted where that says something.
func TestExchangesInWords(t *testing.T) {
	t.Parallel()
	base := Exchange{Purpose: Initialize, Method: "POST", URL: "https://x/mcp"}
	const head = "POST https://x/mcp (initialize, without a credential)"
	for want, alter := range map[string]func(*Exchange){
		head: func(*Exchange) {},
		strings.Replace(head, "without a credential", "with A and B", 1): func(x *Exchange) { x.Sent = []string{"A", "B"} },
		head + " was answered 200 after 2ms":                             func(x *Exchange) { x.Status, x.Took, x.Err = 200, 2*time.Millisecond, errReset },
		head + " was answered 200 after 2ms, text/plain: hello": func(x *Exchange) {
			x.Status, x.Took, x.Header, x.Reply.Quote = 200, 2*time.Millisecond, map[string]string{"Content-Type": "text/plain"}, "hello"
		},
		head + " was answered 201 after 2ms": func(x *Exchange) {
			x.Status, x.Took, x.Reply = 201, 2*time.Millisecond, Reply{Quote: "<html>", Shape: Page}
		},
		head + " was answered 202 after 2ms":                                           func(x *Exchange) { x.Status, x.Took, x.Reply.Quote, x.Opened = 202, 2*time.Millisecond, "{}", true },
		head + " was not answered within 3s":                                           func(x *Exchange) { x.Timeout, x.Took, x.Err, x.Reply.Quote = true, 3*time.Second, errReset, "x" },
		head + " failed after 1s: read tcp 127.0.0.1:1->127.0.0.1:2: connection reset": func(x *Exchange) { x.Took, x.Err = time.Second, errReset },
	} {
		x := base
		alter(&x)
		assert.Equal(t, want, x.Told())
	}
	assert.Empty(t, (*Exchange)(nil).Told())
	assert.Equal(t, "refused", Plain(errors.New("refused")))
	assert.Equal(t, "read tcp 127.0.0.1:1: reset", Plain(errors.New(": read tcp 127.0.0.1:1: reset")))
}

// What failed and what was answered is told apart, also of what was not tried.
func TestStepsAndExchanges(t *testing.T) {
	t.Parallel()
	for failed, list := range map[bool][]*Step{true: {{Err: errReset}, {Timeout: true}}, false: {nil, {}, {Took: time.Second}}} {
		for _, s := range list {
			assert.Equal(t, failed, s.Failed())
		}
	}
	assert.False(t, (*Exchange)(nil).Answered())
	assert.False(t, (&Exchange{}).Answered())
	assert.True(t, (&Exchange{Status: 500}).Answered())
	e := Evidence{Probes: []Exchange{{Purpose: Again, Status: 1}, {Purpose: PlainGet, Status: 2}, {Purpose: Again, Status: 3}}}
	assert.Equal(t, []int{1, 2}, []int{e.Find(Again).Status, e.Find(PlainGet).Status})
	assert.Nil(t, e.Find(Legacy))
	require.Len(t, e.Each(Again), 2)
	assert.Equal(t, []int{1, 3}, []int{e.Each(Again)[0].Status, e.Each(Again)[1].Status})

	assert.Empty(t, (&Handshake{}).AlertText())
	assert.Equal(t, "the server ended the handshake with the alert 42 (bad certificate)", (&Handshake{Alert: 42}).AlertText())
	assert.Equal(t, "the server ends the handshake with the alert unknown authority", (&Handshake{Alert: 48, Step: Step{Timeout: true}}).Ending())
	assert.Equal(t, "the server does not go on with the handshake", (&Handshake{Step: Step{Timeout: true}}).Ending())
	assert.Equal(t, "the connection is closed during the handshake", (&Handshake{}).Ending())

	for want, s := range map[string]OAuthStep{
		"a at b":                                    {},
		"a at b was answered 400 after 1s, c: d":    {Status: 400, Code: "c", Text: "d", Step: Step{Took: time.Second, Err: errReset}},
		"a at b was answered 200 after 1s":          {Status: 200, Step: Step{Took: time.Second}},
		"a at b was not answered within 1s":         {Step: Step{Took: time.Second, Timeout: true, Err: errReset}},
		"a at b failed: " + Plain(errReset):         {Step: Step{Err: errReset}},
		"a at b was answered 400 after 0s: no room": {Status: 400, Text: "no room"},
	} {
		s.What, s.URL = "a", "b"
		assert.Equal(t, want, s.Told())
	}
}

// A process is busy when it computes, and speaks on whichever stream it does.
func TestProcesses(t *testing.T) {
	t.Parallel()
	const ms = time.Millisecond
	for _, row := range []struct {
		cpu, took time.Duration
		running   bool
		busy      bool
	}{
		{200 * ms, 250 * ms, true, false}, {201 * ms, 900 * ms, true, true}, {300 * ms, 900 * ms, false, false}, {301 * ms, 900 * ms, false, true},
		{201 * ms, 900 * ms, false, false},
	} {
		assert.Equal(t, row.busy, (&Process{CPU: row.cpu, Took: row.took, Running: row.running}).Busy(), "%+v", row)
	}
	assert.Equal(t, "out", (&Process{Stdout: []byte("out"), Stderr: "err"}).FirstWords())
	assert.Equal(t, "err", (&Process{Stderr: "err"}).FirstWords())
	for text, helps := range map[string]bool{"Usage: x": true, "x\nusage: y": true, "x usage: y": false, "": false} {
		assert.Equal(t, helps, (&Process{Stderr: text}).Helps(), text)
	}
}

// The forms of answers at their edges.
func TestReadReplyAtItsEdges(t *testing.T) {
	t.Parallel()
	cut := func(b string) Shape { return ReadReply([]byte(b), 7).Shape }
	assert.Equal(t, "hello", ReadReply(wide("hello"), 7).Quote, "as people read it")
	for _, half := range []string{"\xc3", "\xe2\x82", "\xf0\x9f\x98"} {
		assert.Equal(t, Text, cut("a word"+half), "%q is the beginning of a rune", half)
		assert.Equal(t, Text, cut(half), "%q alone", half)
	}
	for _, wrong := range []string{"a\xff", "\xe5b", "a word\x82", "\x80\x80\x80\x80"} {
		assert.Equal(t, NoUTF8, cut(wrong), "%q", wrong)
	}
	for text, want := range map[string]Shape{
		"a\x00b\x00": Wide, "a\x00b": Text, "abcdef\x00\x00\x00x": Text, "abcdef\x00\x00\x00": Wide, "\xfe\xff\x00a": Wide, "\x28\xb5\x2f\xfd": Compressed,
		"{": BrokenJSON, "[": BrokenJSON, "[ {": BrokenJSON, "[ x": Text, "[]": OtherJSON, "[1,2]": OtherJSON, `["jsonrpc"]`: OtherJSON, "{'a'": BrokenJSON, "{}": OtherJSON,
		"content-type: x": Framed, "<p><head>": Page, "<p>": Text, "x\nOptions:": Help, "try --help": Help, "true": OtherJSON, `"x"`: OtherJSON,
	} {
		assert.Equal(t, want, cut(text), "%q", text)
	}
	for text, want := range map[string][2]bool{ // another version, and a result
		`{"jsonrpc":"2.0","id":7,"result":{}}`: {false, true}, `{"jsonrpc":"1.0","id":7,"result":{}}`: {true, true},
		`{"jsonrpc":"2.0","id":7,"error":{}}`: {false, false}, `{"id":7,"error":"x"}`: {true, false},
	} {
		r := ReadReply([]byte(text), 7)
		assert.Equal(t, want, [2]bool{r.Version, r.Result}, text)
	}
	assert.Equal(t, `"x"`, ReadReply([]byte(`{"id":7,"error":"x"}`), 7).Error.Message)
	assert.Nil(t, ReadReply([]byte(`{"jsonrpc":"2.0","id":7,"result":{},"error":null}`), 7).Error)
	assert.Equal(t, "a b c", Quoted([]byte("a\x01\x07\n b\tc\x1f")))
	assert.Equal(t, strings.Repeat("é", 160), Quoted([]byte(strings.Repeat("é", 160))))
	assert.Equal(t, strings.Repeat("é", 160)+"…", Quoted([]byte(strings.Repeat("é", 161))))
	assert.Equal(t, strings.Repeat("\U0001f600", 160), Quoted([]byte(strings.Repeat("\U0001f600", 161))), "of the first bytes")
}

// What is around or within a credential is named, at its edges too.
func TestStrayCharacters(t *testing.T) {
	t.Parallel()
	for value, want := range map[string]string{
		`"`: "a quote, comma or semicolon at its end", "'a": "quotes around it", "a'": "a quote, comma or semicolon at its end", "a,": "a quote, comma or semicolon at its end",
		"a;": "a quote, comma or semicolon at its end", "\u00e9a": "a character that cannot be seen or is not ASCII", "a\u007f": "a character that cannot be seen or is not ASCII",
		"a\u0080": "a character that cannot be seen or is not ASCII", "a~": "", "a b": "a blank within it", "a\rb": LineBreak, "\u200ba": "a character that cannot be seen or is not ASCII",
	} {
		assert.Equal(t, want, stray(value), "%q", value)
	}
	assert.Equal(t, "ab~", Clean("a\u007fb\u0080~\u00e9"))
	long := "${" + strings.Repeat("A", 56) + "}"
	assert.Equal(t, long, InspectCredential(Form{Header: "X-Key"}, "", long).Placeholder)
	for n, want := range map[int]int{57: 60, 58: 61} {
		got := InspectCredential(Form{Header: "X-Key"}, "", "${"+strings.Repeat("A", n)+"}").Placeholder
		assert.Len(t, []rune(got), want)
		assert.Equal(t, n == 58, strings.HasSuffix(got, "…"))
	}
	for exp, ends := range map[string]bool{"0": false, "-1": false, "1": true, "100000000000": true, "100000000001": false} {
		token := "a." + base64.RawURLEncoding.EncodeToString([]byte(fmt.Sprintf(`{"exp":%s}`, exp))) + ".b"
		assert.Equal(t, ends, !InspectCredential(Form{Header: "X-Key"}, "", token).Claims.Expires.IsZero(), exp)
	}
}

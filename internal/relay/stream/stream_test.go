package stream

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/core/wire"
)

func TestWhatAnAgentAccepts(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		accept       []string
		json, stream bool
	}{
		{nil, true, false},
		{[]string{"application/json"}, true, false},
		{[]string{"text/event-stream"}, false, true},
		{[]string{"application/json, text/event-stream"}, true, true},
		{[]string{"application/json", "text/event-stream;q=0.5"}, true, true},
		{[]string{"*/*"}, true, true},
		{[]string{"text/*"}, false, true},
		{[]string{"image/png"}, false, false},
		{[]string{""}, false, false},
	} {
		h := http.Header{}
		if row.accept != nil {
			h["Accept"] = row.accept
		}
		assert.Equal(t, row.json, Accepts(h, "application/json"), row.accept)
		assert.Equal(t, row.stream, Accepts(h, "text/event-stream"), row.accept)
	}
	for ct, want := range map[string]bool{
		"application/json": true, "Application/JSON; charset=utf-8": true, " application/json ": true, "application/jsonl": false,
		"text/json": false, "": false, "application/json, text/plain": false,
	} {
		assert.Equal(t, want, IsJSON(http.Header{"Content-Type": {ct}}), ct)
	}
}

// What was told before the answer makes it a stream; without it, the agent gets what it
// accepts; a part of a batch is kept; nothing follows the answer.
func TestAnAnswerHasTheFormThatFits(t *testing.T) {
	t.Parallel()
	const done, told = `{"jsonrpc":"2.0","id":1,"result":{}}`, `{"jsonrpc":"2.0","method":"notifications/message"}`
	for name, row := range map[string]struct {
		reply *Reply
		tell  bool
		code  int
		ct    string
		body  string
	}{
		"as it likes":       {&Reply{JSON: true, Stream: true}, false, 200, "application/json", done},
		"told before":       {&Reply{JSON: true, Stream: true}, true, 200, "text/event-stream", "data: " + told + "\n\ndata: " + done + "\n\n"},
		"streams only":      {&Reply{Stream: true}, false, 200, "text/event-stream", "data: " + done + "\n\n"},
		"no streams":        {&Reply{JSON: true}, true, 200, "application/json", done},
		"a part of a batch": {&Reply{JSON: true, Stream: true, Kept: true}, true, 200, "", ""},
	} {
		rec := httptest.NewRecorder()
		a := row.reply
		a.Writer = lines{rec}
		if row.tell {
			assert.Equal(t, a.Stream && !a.Kept, a.Before([]byte(told)), name)
		}
		a.Result([]byte(done))
		assert.False(t, !a.Kept && a.Before([]byte(told)), name)
		a.Result([]byte(`{"late":true}`))
		a.End()
		body := strings.ReplaceAll(rec.Body.String(), "event: message\n", "")
		if a.Kept {
			assert.Equal(t, `{"late":true}`, string(a.Frame), "the batch takes what came last")
			continue
		}
		assert.Equal(t, row.code, rec.Code, name)
		assert.Equal(t, row.ct, rec.Header().Get("Content-Type"), name)
		assert.Equal(t, row.body, body, name)
	}
	for code, want := range map[int]int{
		wire.CodeMethodNotFound: 404, wire.CodeHeaderMismatch: 400, wire.CodeNoCapability: 400, wire.CodeNoRevision: 400,
		wire.CodeInvalidRequest: 400, wire.CodeParse: 400, wire.CodeInvalidParams: 200, wire.CodeNotAdmitted: 200,
	} {
		assert.Equal(t, want, (&Reply{Stateless: true}).StatusOf(code))
		assert.Equal(t, 200, (&Reply{}).StatusOf(code))
	}
}

// lines is a writer whose deadlines can be set, as a server's can.
type lines struct{ *httptest.ResponseRecorder }

func (lines) SetReadDeadline(time.Time) error  { return nil }
func (lines) SetWriteDeadline(time.Time) error { return nil }

// A stream gives what there is, signs of life while there is nothing, and ends with its
// pass, its subject, the service or the request, with a farewell where it is ours to end.
func TestAStreamIsServed(t *testing.T) {
	for name, row := range map[string]struct {
		end      func(f *Feed, stop context.CancelFunc)
		farewell bool
	}{
		"the request ends":    {func(_ *Feed, stop context.CancelFunc) { stop() }, false},
		"its subject is gone": {func(f *Feed, _ context.CancelFunc) { f.Gone = closed() }, true},
		"the service stops":   {func(f *Feed, _ context.CancelFunc) { f.Ended = closed() }, true},
		"its pass ends":       {func(f *Feed, _ context.CancelFunc) { f.Expires = time.Now().Add(-time.Second) }, true},
	} {
		synctest.Test(t, func(t *testing.T) {
			rec := lines{httptest.NewRecorder()}
			s, err := Open(rec)
			assert.NoError(t, err)
			ctx, stop := context.WithCancel(context.Background())
			defer stop()
			queue := make(chan []byte, 1)
			asked := 0
			feed := Feed{
				Next: func() ([][]byte, bool, <-chan struct{}) {
					if asked++; asked == 1 {
						return [][]byte{[]byte("data: one\n\n"), []byte("data: two\n\n")}, false, nil
					}
					return nil, false, nil
				},
				Queue: queue, Farewell: []byte("data: bye\n\n"),
			}
			if name != "the request ends" {
				row.end(&feed, stop)
			} else {
				go func() {
					queue <- []byte("data: three\n\n")
					time.Sleep(keepAlive + time.Second) // of the bubble's clock
					row.end(&feed, stop)
				}()
			}
			s.Serve(ctx, feed)
			text := rec.Body.String()
			assert.Contains(t, text, "data: one\n\ndata: two\n\n", name)
			assert.Equal(t, row.farewell, strings.HasSuffix(text, "data: bye\n\n"), "%s: %q", name, text)
			if name == "the request ends" {
				assert.Contains(t, text, "data: three\n\n: \n\n", "and a sign of life")
			}
		})
	}
	rec := lines{httptest.NewRecorder()}
	s, err := Open(rec)
	assert.NoError(t, err)
	s.Serve(context.Background(), Feed{Next: func() ([][]byte, bool, <-chan struct{}) { return [][]byte{[]byte("x")}, true, nil }})
	assert.Equal(t, "x", rec.Body.String(), "the last one ends it")
}

func closed() <-chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}

// An agent that asked for progress is told again and again what its call waits for, in
// numbers that grow, until that ends.
func TestWhatACallWaitsForIsTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		rec := httptest.NewRecorder()
		a := &Reply{Writer: lines{rec}, JSON: true, Stream: true}
		a.Waiting(nil, func() string { t.Error("nobody asked"); return "" })()
		stop := a.Waiting([]byte(`"p"`), func() string { return `somebody "decides"` })
		time.Sleep(2*waitingEvery + time.Second)
		stop()
		time.Sleep(5 * waitingEvery)
		text := rec.Body.String()
		assert.Equal(t, 3, strings.Count(text, `"progressToken":"p"`), text)
		for _, want := range []string{`"progress":0,`, `"progress":0.000001,`, `"progress":0.000002,`, `somebody \"decides\"`} {
			assert.Contains(t, text, want)
		}
	})
}

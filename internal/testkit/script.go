package testkit

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Script is a tool server that does what a test says, in the initialize era. It
// keeps sessions, and answers calls over event streams.
type Script struct {
	// Results are what other methods than initialize are answered with, raw.
	Results map[string]string
	// Capabilities are those declared, raw.
	Capabilities string
	// Call answers every request that is in no Results.
	Call func(c *ScriptCall)
	// Again carries on with the call whose stream is taken up again.
	Again func(c *ScriptCall)

	t        *testing.T
	mu       sync.Mutex
	sessions map[string]*scriptSession
	seen     []string // every message, as it came
	last     int
}

type scriptSession struct {
	id      string
	caps    string // declared by the client, raw
	stream  chan string
	left    *ScriptCall            // interrupted last
	replies map[string]chan string // to requests of the server, by id
	gone    map[string]bool        // requests that the client cancelled, by raw id
}

// ScriptCall is one request that a Script carries out.
type ScriptCall struct {
	Method, Name, Token string
	Params              json.RawMessage
	Session, Caps       string
	ID                  string // raw
	s                   *Script
	w                   http.ResponseWriter
	r                   *http.Request
	session             *scriptSession
}

// NewScript returns a script with one tool, act, and whatever else is set later.
func NewScript(t *testing.T) *Script {
	return &Script{t: t, sessions: map[string]*scriptSession{}, Capabilities: `{"tools":{"listChanged":true}}`, Results: map[string]string{
		"tools/list": `{"tools":[{"name":"act","inputSchema":{"type":"object"}}]}`,
	}}
}

// Seen returns every message that came and contains a text.
func (s *Script) Seen(text string) (out []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range s.seen {
		if strings.Contains(m, text) {
			out = append(out, m)
		}
	}
	return out
}

// Say sends a message over the event streams of all sessions that have one.
func (s *Script) Say(frame string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.sessions {
		select {
		case x.stream <- frame:
		default:
		}
	}
}

// Sessions is the number of open sessions.
func (s *Script) Sessions() int { s.mu.Lock(); defer s.mu.Unlock(); return len(s.sessions) }

func (s *Script) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	x := s.sessions[r.Header.Get("Mcp-Session-Id")]
	s.mu.Unlock()
	switch r.Method {
	case http.MethodGet:
		s.hold(w, r, x)
		return
	case http.MethodDelete:
		s.mu.Lock()
		delete(s.sessions, r.Header.Get("Mcp-Session-Id"))
		s.mu.Unlock()
		return
	}
	var m struct {
		ID     json.RawMessage
		Method string
		Params json.RawMessage
	}
	var raw json.RawMessage
	if json.NewDecoder(r.Body).Decode(&raw) != nil || json.Unmarshal(raw, &m) != nil {
		http.Error(w, "not JSON", http.StatusBadRequest)
		return
	}
	s.mu.Lock()
	s.seen = append(s.seen, string(raw))
	s.mu.Unlock()
	if m.Method != "initialize" && x == nil {
		http.Error(w, "no such session", http.StatusNotFound)
		return
	}
	switch {
	case m.Method == "": // a response to a request of this server
		s.mu.Lock()
		reply := x.replies[strings.Trim(string(m.ID), `"`)]
		s.mu.Unlock()
		if reply != nil {
			reply <- string(raw)
		}
		w.WriteHeader(http.StatusAccepted)
	case m.ID == nil:
		var p struct{ RequestID json.RawMessage }
		if m.Method == "notifications/cancelled" && json.Unmarshal(m.Params, &p) == nil {
			s.mu.Lock()
			x.gone[string(p.RequestID)] = true
			s.mu.Unlock()
		}
		w.WriteHeader(http.StatusAccepted)
	case m.Method == "initialize":
		s.open(w, m.ID, m.Params)
	case s.Results[m.Method] != "":
		w.Header().Set("Content-Type", "application/json")
		_, _ = fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%s,"result":%s}`, m.ID, s.Results[m.Method])
	default:
		var p struct {
			Name, URI string
			Meta      struct{ ProgressToken json.RawMessage } `json:"_meta"`
		}
		_ = json.Unmarshal(m.Params, &p)
		w.Header().Set("Content-Type", "text/event-stream")
		w.WriteHeader(http.StatusOK)
		s.Call(
			&ScriptCall{
				Method:  m.Method,
				Name:    p.Name + p.URI,
				Token:   string(p.Meta.ProgressToken),
				Params:  m.Params,
				Session: x.id,
				Caps:    x.caps,
				ID:      string(m.ID),
				s:       s,
				w:       w,
				r:       r,
				session: x,
			},
		)
	}
}

func (s *Script) open(w http.ResponseWriter, id, params json.RawMessage) {
	var p struct {
		ProtocolVersion string
		Capabilities    json.RawMessage
	}
	_ = json.Unmarshal(params, &p)
	s.mu.Lock()
	s.last++
	x := &scriptSession{
		id:      fmt.Sprint("s", s.last),
		caps:    string(p.Capabilities),
		stream:  make(chan string, 16),
		replies: map[string]chan string{},
		gone:    map[string]bool{},
	}
	s.sessions[x.id] = x
	s.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Mcp-Session-Id", x.id)
	_, _ = fmt.Fprintf(
		w,
		`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":%q,"capabilities":%s,"serverInfo":{"name":"script","version":"1"},"instructions":"Do as told."}}`,
		id,
		p.ProtocolVersion,
		s.Capabilities,
	)
}

func (s *Script) hold(w http.ResponseWriter, r *http.Request, x *scriptSession) {
	if x == nil {
		http.Error(w, "no such session", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.WriteHeader(http.StatusOK)
	rc := http.NewResponseController(w)
	_ = rc.Flush()
	if r.Header.Get("Last-Event-Id") != "" {
		s.mu.Lock()
		c := *x.left
		s.mu.Unlock()
		c.w, c.r = w, r
		s.Again(&c)
		return
	}
	for {
		select {
		case frame := <-x.stream:
			_, _ = fmt.Fprintf(w, "data: %s\n\n", frame)
			_ = rc.Flush()
		case <-r.Context().Done():
			return
		}
	}
}

// Tell sends a message in the stream of the call.
func (c *ScriptCall) Tell(frame string) {
	_, _ = fmt.Fprintf(c.w, "data: %s\n\n", frame)
	_ = http.NewResponseController(c.w).Flush()
}

// Notify sends a notification in the stream of the call.
func (c *ScriptCall) Notify(method, params string) {
	c.Tell(`{"jsonrpc":"2.0","method":"` + method + `","params":` + params + `}`)
}

// Expect makes ready for the answer to a request of the server with an id.
func (c *ScriptCall) Expect(id string) <-chan string {
	reply := make(chan string, 1)
	c.s.mu.Lock()
	c.session.replies[id] = reply
	c.s.mu.Unlock()
	return reply
}

// Ask sends a request in the stream of the call and returns the response, whole.
func (c *ScriptCall) Ask(id, method, params string) string {
	reply := c.Expect(id)
	if params != "" {
		params = `,"params":` + params
	}
	c.Tell(`{"jsonrpc":"2.0","id":"` + id + `","method":"` + method + `"` + params + `}`)
	select {
	case r := <-reply:
		return r
	case <-c.r.Context().Done():
		return "gone"
	case <-time.After(20 * time.Second):
		return "no answer"
	}
}

// Interrupt asks the client to come back for the rest of the call, whose stream
// ends when Call returns.
func (c *ScriptCall) Interrupt(retry time.Duration) {
	c.s.mu.Lock()
	c.session.left = c
	c.s.mu.Unlock()
	_, _ = fmt.Fprintf(c.w, "id: e1\nretry: %d\ndata: \n\n", retry.Milliseconds())
}

// Return ends the call with a result.
func (c *ScriptCall) Return(result string) {
	c.Tell(`{"jsonrpc":"2.0","id":` + c.ID + `,"result":` + result + `}`)
}

// Text ends the call with a text.
func (c *ScriptCall) Text(text string) {
	raw, err := json.Marshal(text)
	require.NoError(c.s.t, err)
	c.Return(`{"content":[{"type":"text","text":` + string(raw) + `}]}`)
}

// Fail ends the call with an error.
func (c *ScriptCall) Fail(code int, message, data string) {
	c.Tell(fmt.Sprintf(`{"jsonrpc":"2.0","id":%s,"error":{"code":%d,"message":%q,"data":%s}}`, c.ID, code, message, data))
}

// Cancelled waits until the client has cancelled the call, by a notification or
// by going away.
func (c *ScriptCall) Cancelled() bool {
	for range 1000 {
		c.s.mu.Lock()
		gone := c.session.gone[c.ID]
		c.s.mu.Unlock()
		if gone || c.r.Context().Err() != nil {
			return true
		}
		time.Sleep(10 * time.Millisecond)
	}
	return false
}

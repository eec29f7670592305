// Package toolserver is a stand-in for a tool server: MCP over streamable HTTP
// (revisions 2025-03-26 to 2025-11-25) with tools given as Go functions, an
// optional bearer token, and faults that can be switched on while it runs.
package toolserver

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Tool is one tool with what it does.
type Tool struct {
	Name, Title, Description string
	Schema                   string // JSON Schema of the arguments
	ReadOnly, Destructive    bool
	Run                      func(ctx context.Context, c *Call) (any, error)
}

// Resource is a text that can be read. A URI with {name} is a template.
type Resource struct {
	URI, Name, Description string
	Read                   func(uri string) string
}

// Prompt is a prompt with one argument.
type Prompt struct {
	Name, Title, Description string
	Argument                 string
	Text                     func(value string) string
}

// Call is one call of a tool. Progress may be called while it runs.
type Call struct {
	Arguments map[string]any
	Progress  func(done, total float64, message string)
}

// Text returns a string argument, or "".
func (c *Call) Text(name string) string {
	s, _ := c.Arguments[name].(string)
	return s
}

// Faults that can be switched on.
const (
	Healthy      = ""
	Unauthorised = "unauthorised" // 401 with a challenge
	Forbidden    = "forbidden"    // 403
	Gone         = "gone"         // 404, as at a wrong path
	Page         = "page"         // a web page instead of the protocol
	Garbage      = "garbage"      // JSON that is not JSON-RPC
	Silent       = "silent"       // accepts and never answers
	Broken       = "broken"       // 500
	Maintenance  = "maintenance"  // 503 with a page
	Cut          = "cut"          // breaks off in the middle of the answer to a call
	Forgetful    = "forgetful"    // forgets every session, once
)

// Faults lists every fault.
var Faults = []string{Healthy, Unauthorised, Forbidden, Gone, Page, Garbage, Silent, Broken, Maintenance, Cut, Forgetful}

// Server is the stand-in. It is an http.Handler for its endpoint; POST
// /control/fault with the name of a fault switches it on.
type Server struct {
	Name, Version string
	Token         string // "" for none

	Resources []Resource
	Prompts   []Prompt

	mu       sync.Mutex
	tools    []Tool
	ears     map[chan struct{}]struct{} // of those who listen without a session
	fault    string
	sessions map[string]chan struct{} // a signal for each session: the list changed
	calls    int
}

// New returns a server with tools.
func New(name, version, token string, tools ...Tool) *Server {
	return &Server{Name: name, Version: version, Token: token, tools: tools, sessions: map[string]chan struct{}{}}
}

// SetTools replaces the tools and tells every session.
func (s *Server) SetTools(tools ...Tool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tools = tools
	for c := range s.ears {
		select {
		case c <- struct{}{}:
		default:
		}
	}
	for _, c := range s.sessions {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// Fail switches a fault on; Healthy switches it off.
func (s *Server) Fail(fault string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fault = fault; fault == Forgetful {
		clear(s.sessions)
		s.fault = Healthy
	}
}

// Calls is how many tools/call requests have been carried out.
func (s *Server) Calls() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.calls
}

type message struct {
	JSONRPC string          `json:"jsonrpc"`
	ID      json.RawMessage `json:"id,omitempty"`
	Method  string          `json:"method,omitempty"`
	Params  json.RawMessage `json:"params,omitempty"`
	Result  any             `json:"result,omitempty"`
	Error   *rpcError       `json:"error,omitempty"`
}

type rpcError struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
	Data    any    `json:"data,omitempty"`
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/control/fault" && r.Method == http.MethodPost {
		s.control(w, r)
		return
	}
	s.mu.Lock()
	fault := s.fault
	s.mu.Unlock()
	if misbehave(w, r, fault) {
		return
	}
	if s.Token != "" && r.Header.Get("Authorization") != "Bearer "+s.Token {
		w.Header().Set("WWW-Authenticate", `Bearer realm="`+s.Name+`", error="invalid_token"`)
		http.Error(w, "a valid token is needed", http.StatusUnauthorized)
		return
	}
	switch r.Method {
	case http.MethodPost:
		s.post(w, r, fault)
	case http.MethodGet:
		s.stream(w, r)
	case http.MethodDelete:
		s.mu.Lock()
		delete(s.sessions, r.Header.Get("Mcp-Session-Id"))
		s.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	default:
		w.Header().Set("Allow", "GET, POST, DELETE")
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
}

func (s *Server) control(w http.ResponseWriter, r *http.Request) {
	raw, _ := io.ReadAll(io.LimitReader(r.Body, 100))
	fault := strings.TrimSpace(string(raw))
	if !slices.Contains(Faults, fault) {
		http.Error(w, "the faults are "+strings.Join(Faults[1:], ", ")+", or nothing", http.StatusUnprocessableEntity)
		return
	}
	s.Fail(fault)
	w.WriteHeader(http.StatusNoContent)
}

// misbehave answers as the fault demands; false when the fault concerns only
// calls, or there is none.
func misbehave(w http.ResponseWriter, r *http.Request, fault string) bool {
	switch fault {
	case Unauthorised:
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token", error_description="The token expired"`)
		http.Error(w, "token expired", http.StatusUnauthorized)
	case Forbidden:
		http.Error(w, "your plan does not include this", http.StatusForbidden)
	case Gone:
		http.NotFound(w, r)
	case Page:
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, "<!doctype html><title>Skerrow Ferries</title><h1>Welcome aboard</h1>")
	case Garbage:
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"status":"ok"}`)
	case Silent:
		_, _ = io.Copy(io.Discard, r.Body)
		<-r.Context().Done()
	case Broken:
		http.Error(w, "internal error", http.StatusInternalServerError)
	case Maintenance:
		w.Header().Set("Retry-After", "120")
		http.Error(w, "<h1>Back soon</h1>", http.StatusServiceUnavailable)
	default:
		return false
	}
	return true
}

func (s *Server) post(w http.ResponseWriter, r *http.Request, fault string) {
	var m message
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 16<<20)).Decode(&m); err != nil {
		w.WriteHeader(http.StatusBadRequest)
		reply(w, message{JSONRPC: "2.0", ID: json.RawMessage("null"), Error: &rpcError{Code: -32700, Message: "not JSON"}})
		return
	}
	if m.Method != "initialize" && !s.known(r) {
		http.Error(w, "no such session", http.StatusNotFound)
		return
	}
	if m.ID == nil || m.Method == "" {
		w.WriteHeader(http.StatusAccepted)
		return
	}
	switch m.Method {
	case "initialize":
		w.Header().Set("Mcp-Session-Id", s.open())
	case "tools/call":
		s.call(w, r, m, fault)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	reply(w, s.plain(m))
}

// plain answers every request but tools/call.
func (s *Server) plain(m message) message {
	out := message{JSONRPC: "2.0", ID: m.ID}
	switch m.Method {
	case "initialize":
		out.Result = s.greeting(m.Params)
	case "ping":
		out.Result = map[string]any{}
	case "tools/list":
		out.Result = map[string]any{"tools": s.list()}
	default:
		out.Error = &rpcError{Code: -32601, Message: "method not found"}
	}
	return out
}

func reply(w io.Writer, m message) {
	raw, err := json.Marshal(m)
	if err != nil {
		raw, _ = json.Marshal(message{JSONRPC: "2.0", ID: m.ID, Error: &rpcError{Code: -32603, Message: err.Error()}})
	}
	_, _ = w.Write(raw)
}

func (s *Server) known(r *http.Request) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, ok := s.sessions[r.Header.Get("Mcp-Session-Id")]
	return ok
}

func (s *Server) open() string {
	var b [12]byte
	_, _ = rand.Read(b[:])
	id := hex.EncodeToString(b[:])
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sessions[id] = make(chan struct{}, 1)
	return id
}

func (s *Server) greeting(params json.RawMessage) any {
	var p struct{ ProtocolVersion string }
	_ = json.Unmarshal(params, &p)
	if !slices.Contains([]string{"2025-03-26", "2025-06-18", "2025-11-25"}, p.ProtocolVersion) {
		p.ProtocolVersion = "2025-11-25"
	}
	return map[string]any{
		"protocolVersion": p.ProtocolVersion,
		"capabilities":    map[string]any{"tools": map[string]any{"listChanged": true}},
		"serverInfo":      map[string]string{"name": s.Name, "version": s.Version},
	}
}

func (s *Server) list() []any {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []any{}
	for _, t := range s.tools {
		out = append(out, map[string]any{
			"name": t.Name, "title": t.Title, "description": t.Description, "inputSchema": json.RawMessage(t.Schema),
			"annotations": map[string]bool{"readOnlyHint": t.ReadOnly, "destructiveHint": t.Destructive},
		})
	}
	return out
}

// call runs a tool. The answer is an event stream when the caller wants
// progress, and a plain JSON reply otherwise.
func (s *Server) call(w http.ResponseWriter, r *http.Request, m message, fault string) {
	var asked struct {
		Meta struct{ ProgressToken json.RawMessage } `json:"_meta"`
	}
	_ = json.Unmarshal(m.Params, &asked)
	streaming := len(asked.Meta.ProgressToken) > 0
	if streaming {
		w.Header().Set("Content-Type", "text/event-stream")
		w.WriteHeader(http.StatusOK)
	} else {
		w.Header().Set("Content-Type", "application/json")
	}
	out := s.carryOut(r.Context(), m, func(m message) { event(w, m) })
	if fault == Cut {
		cut(w, out)
		return
	}
	if streaming {
		event(w, out)
		return
	}
	reply(w, out)
}

// carryOut runs the tool that a request asks for; progress goes to tell.
func (s *Server) carryOut(ctx context.Context, m message, tell func(message)) message {
	var p struct {
		Name      string
		Arguments map[string]any
		Meta      struct{ ProgressToken json.RawMessage } `json:"_meta"`
	}
	_ = json.Unmarshal(m.Params, &p)
	s.mu.Lock()
	i := slices.IndexFunc(s.tools, func(t Tool) bool { return t.Name == p.Name })
	var tool Tool
	if i >= 0 {
		tool = s.tools[i]
		s.calls++
	}
	s.mu.Unlock()
	out := message{JSONRPC: "2.0", ID: m.ID}
	if i < 0 {
		out.Error = &rpcError{Code: -32602, Message: fmt.Sprintf("unknown tool %q", p.Name)}
		return out
	}
	c := &Call{Arguments: p.Arguments, Progress: func(done, total float64, text string) {
		if len(p.Meta.ProgressToken) > 0 {
			params, _ := json.Marshal(
				map[string]any{"progressToken": p.Meta.ProgressToken, "progress": done, "total": total, "message": text},
			)
			tell(message{JSONRPC: "2.0", Method: "notifications/progress", Params: params})
		}
	}}
	out.Result = run(ctx, tool, c)
	return out
}

func run(ctx context.Context, t Tool, c *Call) any {
	v, err := t.Run(ctx, c)
	if err != nil {
		return map[string]any{"isError": true, "content": []any{map[string]string{"type": "text", "text": err.Error()}}}
	}
	if text, ok := v.(string); ok {
		return map[string]any{"content": []any{map[string]string{"type": "text", "text": text}}}
	}
	raw, _ := json.Marshal(v)
	return map[string]any{"content": []any{map[string]string{"type": "text", "text": string(raw)}}, "structuredContent": v}
}

func event(w http.ResponseWriter, m message) {
	_, _ = io.WriteString(w, "data: ")
	reply(w, m)
	_, _ = io.WriteString(w, "\n\n")
	_ = http.NewResponseController(w).Flush()
}

// cut sends half of an answer and drops the connection.
func cut(w http.ResponseWriter, m message) {
	raw, _ := json.Marshal(m)
	w.Header().Set("Content-Length", fmt.Sprint(len(raw)))
	_, _ = w.Write(raw[:len(raw)/2])
	_ = http.NewResponseController(w).Flush()
	panic(http.ErrAbortHandler)
}

func (s *Server) stream(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	changed, ok := s.sessions[r.Header.Get("Mcp-Session-Id")]
	s.mu.Unlock()
	if !ok {
		http.Error(w, "no such session", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.WriteHeader(http.StatusOK)
	_, _ = io.WriteString(w, ": open\n\n")
	rc := http.NewResponseController(w)
	_ = rc.Flush()
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-changed:
			event(w, message{JSONRPC: "2.0", Method: "notifications/tools/list_changed"})
		case <-beat.C:
			if _, err := io.WriteString(w, ": \n\n"); err != nil || rc.Flush() != nil {
				return
			}
		case <-r.Context().Done():
			return
		}
	}
}

// Package faults are servers, processes and authorization servers that go wrong, each in
// one realistic way, and healthy ones that look odd. A checkup has to name the cause of the
// former, and find nothing about the latter.
package faults

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"time"

	"bouncer/internal/core/serverspec"
	"bouncer/standin/loopback"
)

// Fault is one way to go wrong, or a healthy server when Cause is "".
type Fault struct {
	Name  string
	Cause string
	// Start begins it and says how it would be registered. It is ended by the stage.
	Start func(s *Stage) Case
	// Slow is set when telling takes as long as answers are waited for.
	Slow bool
}

// Case is how a target would be registered, and what a checkup is asked besides.
type Case struct {
	serverspec.Registration
	Client    *Client
	Tool      string // to be called
	Arguments string
	Times     int
}

// Client is an OAuth client that is known.
type Client struct {
	ID, Secret, RefreshToken, Issuer string
	Machine                          bool
}

// Stage is where a fault plays: what it starts is ended with it.
type Stage struct {
	Dir  string // for its files
	Self string // path of a program that plays a part when PartVariable is set
	ends []func()
}

// PartVariable is the variable that has Self play a part; see Play.
const PartVariable = "HARBOUR_PART"

// End ends what was started.
func (s *Stage) End() {
	for i := len(s.ends) - 1; i >= 0; i-- {
		s.ends[i]()
	}
}

// Later has something done when the stage ends.
func (s *Stage) Later(fn func()) { s.ends = append(s.ends, fn) }

// Serve serves a handler and returns its base address.
func (s *Stage) Serve(h http.Handler) string {
	server := httptest.NewServer(h)
	s.Later(func() { loopback.End(server) })
	return server.URL
}

// File writes a file and returns its path.
func (s *Stage) File(name, text string, mode os.FileMode) string {
	path := filepath.Join(s.Dir, name)
	if err := os.WriteFile(path, []byte(text), mode); err != nil {
		panic(err) // a directory of its own can be written to
	}
	if err := os.Chmod(path, mode); err != nil {
		panic(err)
	}
	return path
}

// Script writes a shell script that can be executed.
func (s *Stage) Script(name, body string) string {
	return s.File(name, "#!/bin/sh\n"+body, 0o700)
}

// at is a case at an address.
func at(address string) Case { return Case{Registration: serverspec.Registration{URL: address}} }

// with is a case at an address with a token.
func with(address, token string) Case {
	c := at(address)
	c.Token = token
	return c
}

// run is a case of a command.
func run(command string, args ...string) Case {
	return Case{Registration: serverspec.Registration{Command: command, Args: args}}
}

// part is a case of a program that plays a part.
func (s *Stage) part(name string) Case {
	c := run(s.Self)
	c.Env = []string{PartVariable + "=" + name}
	return c
}

// message is a message as it comes.
type message struct {
	ID     json.RawMessage `json:"id"`
	Method string          `json:"method"`
	Params json.RawMessage `json:"params"`
}

// harbour is a tool server in a few lines; its fields have it go wrong.
type harbour struct {
	revision     string
	capabilities string
	tools        string // the list, as JSON
	call         func(n int) string
	answer       map[string]string // other results by method; "-" for an error that it is unknown
	calls        int
}

const (
	goodTools = `[{"name":"list_berths","description":"Lists the berths.","inputSchema":{"type":"object","properties":{"quay":{"type":"string"}}}}]`
	goodCall  = `{"content":[{"type":"text","text":"3 berths are free"}]}`
)

// reply is the response to a message; "" for a notification.
func (h *harbour) reply(m message) string {
	if len(m.ID) == 0 {
		return ""
	}
	if result, ok := h.answer[m.Method]; ok {
		if result == "-" {
			return failure(m.ID, -32601, "Method not found")
		}
		if strings.HasPrefix(result, `{"code"`) {
			return fmt.Sprintf(`{"jsonrpc":"2.0","id":%s,"error":%s}`, m.ID, result)
		}
		return success(m.ID, result)
	}
	switch m.Method {
	case "initialize":
		revision, capabilities := or(h.revision, "2025-06-18"), or(h.capabilities, `{"tools":{}}`)
		return success(m.ID, fmt.Sprintf(
			`{"protocolVersion":%q,"capabilities":%s,"serverInfo":{"name":"harbour","version":"2.1.0"}}`, revision, capabilities,
		))
	case "tools/list":
		return success(m.ID, fmt.Sprintf(`{"tools":%s}`, or(h.tools, goodTools)))
	case "tools/call":
		h.calls++
		if h.call != nil {
			result := h.call(h.calls)
			if strings.HasPrefix(result, `{"code"`) {
				return fmt.Sprintf(`{"jsonrpc":"2.0","id":%s,"error":%s}`, m.ID, result)
			}
			return success(m.ID, result)
		}
		return success(m.ID, goodCall)
	case "ping":
		return success(m.ID, "{}")
	case "prompts/list":
		return success(m.ID, `{"prompts":[]}`)
	case "resources/list":
		return success(m.ID, `{"resources":[]}`)
	}
	return failure(m.ID, -32601, "Method not found")
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

func success(id json.RawMessage, result string) string {
	return fmt.Sprintf(`{"jsonrpc":"2.0","id":%s,"result":%s}`, id, result)
}

func failure(id json.RawMessage, code int, text string) string {
	raw, _ := json.Marshal(text) // a text cannot fail to be written
	return fmt.Sprintf(`{"jsonrpc":"2.0","id":%s,"error":{"code":%d,"message":%s}}`, id, code, raw)
}

// ServeHTTP answers as streamable HTTP does, without sessions.
func (h *harbour) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	m, ok := read(w, r)
	if !ok {
		return
	}
	text := h.reply(m)
	if text == "" {
		w.WriteHeader(http.StatusAccepted)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = io.WriteString(w, text)
}

// read reads a message; false when the request was none and is answered already.
func read(w http.ResponseWriter, r *http.Request) (message, bool) {
	var m message
	if r.Method != http.MethodPost {
		w.Header().Set("Allow", "POST")
		http.Error(w, "Method Not Allowed", http.StatusMethodNotAllowed)
		return m, false
	}
	raw, err := io.ReadAll(r.Body)
	if err != nil || json.Unmarshal(raw, &m) != nil {
		http.Error(w, "Bad Request", http.StatusBadRequest)
		return m, false
	}
	return m, true
}

// only serves a path, and 404 for every other.
func only(path string, h http.Handler) http.Handler {
	mux := http.NewServeMux()
	mux.Handle(path, h)
	return mux
}

// status answers everything alike.
func status(code int, kind, body string, headers ...string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		for i := 0; i+1 < len(headers); i += 2 {
			w.Header().Set(headers[i], headers[i+1])
		}
		if kind != "" {
			w.Header().Set("Content-Type", kind)
		}
		w.WriteHeader(code)
		_, _ = io.WriteString(w, body)
	}
}

// first answers the first message of the protocol with a body, whatever it is.
func first(kind, body string) http.HandlerFunc { return status(http.StatusOK, kind, body) }

// guarded asks for a credential before anything else; refuse answers who has none that is
// good.
func guarded(good func(*http.Request) bool, refuse http.HandlerFunc, inner http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !good(r) {
			refuse(w, r)
			return
		}
		inner.ServeHTTP(w, r)
	})
}

// bearer is good for a bearer token.
func bearer(token string) func(*http.Request) bool {
	return func(r *http.Request) bool { return r.Header.Get("Authorization") == "Bearer "+token }
}

// header is good for a header with a value.
func header(name, value string) func(*http.Request) bool {
	return func(r *http.Request) bool { return r.Header.Get(name) == value }
}

// never is good for nothing.
func never(*http.Request) bool { return false }

// forEver holds a request until the client leaves.
func forEver(_ http.ResponseWriter, r *http.Request) {
	_, _ = io.Copy(io.Discard, r.Body)
	select {
	case <-r.Context().Done():
	case <-time.After(time.Minute):
	}
}

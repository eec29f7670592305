package toolserver

import (
	"encoding/json"
	"io"
	"net/http"
	"time"
)

// Legacy speaks the event-stream transport of 2024-11-05: GET on /sse opens the
// stream, whose first event says where messages are posted to.
func (s *Server) Legacy() http.Handler {
	mux := http.NewServeMux()
	lines := &lines{out: map[string]chan message{}}
	mux.HandleFunc("POST /control/fault", s.control)
	mux.HandleFunc("GET /sse", func(w http.ResponseWriter, r *http.Request) {
		if s.turnedAway(w, r) {
			return
		}
		id := s.open()
		out := lines.add(id)
		defer lines.remove(id)
		s.mu.Lock()
		changed := s.sessions[id]
		s.mu.Unlock()
		w.Header().Set("Content-Type", "text/event-stream")
		_, _ = io.WriteString(w, "event: endpoint\ndata: /messages?sessionid="+id+"\n\n")
		rc := http.NewResponseController(w)
		_ = rc.Flush()
		beat := time.NewTicker(15 * time.Second)
		defer beat.Stop()
		for {
			select {
			case m := <-out:
				_, _ = io.WriteString(w, "event: message\n")
				event(w, m)
			case <-changed:
				_, _ = io.WriteString(w, "event: message\n")
				event(w, message{JSONRPC: "2.0", Method: "notifications/tools/list_changed"})
			case <-beat.C:
				if _, err := io.WriteString(w, ": \n\n"); err != nil || rc.Flush() != nil {
					return
				}
			case <-r.Context().Done():
				return
			}
		}
	})
	mux.HandleFunc("POST /messages", func(w http.ResponseWriter, r *http.Request) {
		if s.turnedAway(w, r) {
			return
		}
		out := lines.get(r.URL.Query().Get("sessionid"))
		var m message
		if out == nil || json.NewDecoder(http.MaxBytesReader(w, r.Body, 16<<20)).Decode(&m) != nil {
			http.Error(w, "no such session", http.StatusNotFound)
			return
		}
		w.WriteHeader(http.StatusAccepted)
		_ = http.NewResponseController(w).Flush()
		switch {
		case m.ID == nil || m.Method == "":
		case m.Method == "tools/call":
			out <- s.carryOut(r.Context(), m, func(m message) { out <- m })
		default:
			answer := s.plain(m)
			if g, ok := answer.Result.(map[string]any); ok && m.Method == "initialize" {
				g["protocolVersion"] = "2024-11-05"
			}
			out <- answer
		}
	})
	return mux
}

// turnedAway answers as a fault, or a missing token, demands.
func (s *Server) turnedAway(w http.ResponseWriter, r *http.Request) bool {
	s.mu.Lock()
	fault := s.fault
	s.mu.Unlock()
	if misbehave(w, r, fault) {
		return true
	}
	if s.Token != "" && r.Header.Get("Authorization") != "Bearer "+s.Token {
		w.Header().Set("WWW-Authenticate", `Bearer realm="`+s.Name+`", error="invalid_token"`)
		http.Error(w, "a valid token is needed", http.StatusUnauthorized)
		return true
	}
	return false
}

package toolserver

import (
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"time"
)

// lines are the open event streams of the oldest transport.
type lines struct {
	mu  sync.Mutex
	out map[string]chan message
}

func (l *lines) add(id string) chan message {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.out[id] = make(chan message, 64)
	return l.out[id]
}

func (l *lines) get(id string) chan message {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.out[id]
}

func (l *lines) remove(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.out, id)
}

// stateless is the only revision that Stateless speaks.
const stateless = "2026-07-28"

// Stateless speaks revision 2026-07-28 and no other: every request stands by
// itself, with its envelope in _meta and mirrored in headers.
func (s *Server) Stateless() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /control/fault", s.control)
	mux.HandleFunc("POST /mcp", func(w http.ResponseWriter, r *http.Request) {
		if s.turnedAway(w, r) {
			return
		}
		var m message
		if json.NewDecoder(http.MaxBytesReader(w, r.Body, 16<<20)).Decode(&m) != nil {
			http.Error(w, "not JSON", http.StatusBadRequest)
			return
		}
		if m.ID == nil {
			w.WriteHeader(http.StatusAccepted)
			return
		}
		if e := envelope(r, m); e != nil {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusBadRequest)
			reply(w, message{JSONRPC: "2.0", ID: m.ID, Error: e})
			return
		}
		s.answerStateless(w, r, m)
	})
	return mux
}

// envelope checks what a request says of itself.
func envelope(r *http.Request, m message) *rpcError {
	var p struct {
		Name, URI string
		Meta      map[string]json.RawMessage `json:"_meta"`
	}
	_ = json.Unmarshal(m.Params, &p)
	version := strings.Trim(string(p.Meta["io.modelcontextprotocol/protocolVersion"]), `"`)
	switch {
	case version == "" && m.Method == "initialize":
		return &rpcError{
			Code:    -32022,
			Message: "this server has no sessions",
			Data:    map[string]any{"supported": []string{stateless}, "requested": ""},
		}
	case version == "" || p.Meta["io.modelcontextprotocol/clientCapabilities"] == nil:
		return &rpcError{Code: -32602, Message: "the envelope is missing"}
	case version != stateless:
		return &rpcError{
			Code:    -32022,
			Message: "no such revision here",
			Data:    map[string]any{"supported": []string{stateless}, "requested": version},
		}
	case r.Header.Get("Mcp-Protocol-Version") != version, r.Header.Get("Mcp-Method") != m.Method:
		return &rpcError{Code: -32020, Message: "the headers differ from the body"}
	case (m.Method == "tools/call" || m.Method == "prompts/get") && r.Header.Get("Mcp-Name") != p.Name:
		return &rpcError{Code: -32020, Message: "Mcp-Name differs from the body"}
	case m.Method == "resources/read" && r.Header.Get("Mcp-Name") != p.URI:
		return &rpcError{Code: -32020, Message: "Mcp-Name differs from the body"}
	}
	return nil
}

// answerStateless answers a request of the stateless era: one switch over the methods.
func (s *Server) answerStateless(w http.ResponseWriter, r *http.Request, m message) {
	if m.Method == "subscriptions/listen" {
		s.listen(w, r, m)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	out := message{JSONRPC: "2.0", ID: m.ID}
	var p struct {
		Name, URI string
		Arguments map[string]any
	}
	_ = json.Unmarshal(m.Params, &p)
	hints := map[string]any{"resultType": "complete", "ttlMs": 30000, "cacheScope": "private"}
	result := func(more map[string]any) {
		for k, v := range hints {
			more[k] = v
		}
		more["_meta"] = map[string]any{"io.modelcontextprotocol/serverInfo": map[string]string{"name": s.Name, "version": s.Version}}
		out.Result = more
	}
	switch m.Method {
	case "server/discover":
		result(map[string]any{"supportedVersions": []string{stateless}, "capabilities": map[string]any{
			"tools": map[string]any{"listChanged": true}, "resources": map[string]any{}, "prompts": map[string]any{},
		}})
	case "tools/list":
		result(map[string]any{"tools": s.list()})
	case "tools/call":
		out = s.carryOut(r.Context(), m, func(message) {})
		if v, ok := out.Result.(map[string]any); ok {
			v["resultType"] = "complete"
		}
	case "resources/list", "resources/templates/list":
		list, key, member := []any{}, "uri", "resources"
		if m.Method != "resources/list" {
			key, member = "uriTemplate", "resourceTemplates"
		}
		for _, x := range s.Resources {
			if strings.Contains(x.URI, "{") == (key == "uriTemplate") {
				list = append(list, map[string]string{key: x.URI, "name": x.Name, "description": x.Description, "mimeType": "text/plain"})
			}
		}
		result(map[string]any{member: list})
	case "resources/read":
		for _, x := range s.Resources {
			if before, _, _ := strings.Cut(x.URI, "{"); x.URI == p.URI || (before != x.URI && strings.HasPrefix(p.URI, before)) {
				result(map[string]any{"contents": []any{map[string]string{"uri": p.URI, "mimeType": "text/plain", "text": x.Read(p.URI)}}})
			}
		}
		if out.Result == nil {
			out.Error = &rpcError{Code: -32602, Message: "no such resource", Data: map[string]string{"uri": p.URI}}
		}
	case "prompts/list":
		list := []any{}
		for _, x := range s.Prompts {
			list = append(
				list,
				map[string]any{
					"name":        x.Name,
					"title":       x.Title,
					"description": x.Description,
					"arguments":   []any{map[string]any{"name": x.Argument, "required": true}},
				},
			)
		}
		result(map[string]any{"prompts": list})
	case "prompts/get":
		for _, x := range s.Prompts {
			if x.Name == p.Name {
				value, _ := p.Arguments[x.Argument].(string)
				out.Result = map[string]any{
					"resultType": "complete",
					"messages": []any{
						map[string]any{"role": "user", "content": map[string]string{"type": "text", "text": x.Text(value)}},
					},
				}
			}
		}
		if out.Result == nil {
			out.Error = &rpcError{Code: -32602, Message: "no such prompt"}
		}
	default:
		out.Error = &rpcError{Code: -32601, Message: "method not found"}
		w.WriteHeader(http.StatusNotFound)
	}
	reply(w, out)
}

// listen holds a subscription to changes of the tool list.
func (s *Server) listen(w http.ResponseWriter, r *http.Request, m message) {
	var p struct {
		Notifications struct{ ToolsListChanged bool }
	}
	_ = json.Unmarshal(m.Params, &p)
	changed := make(chan struct{}, 1)
	s.mu.Lock()
	if s.ears == nil {
		s.ears = map[chan struct{}]struct{}{}
	}
	s.ears[changed] = struct{}{}
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.ears, changed)
	}()
	meta := map[string]any{"io.modelcontextprotocol/subscriptionId": m.ID}
	tell := func(method string, params map[string]any) {
		params["_meta"] = meta
		raw, _ := json.Marshal(params)
		event(w, message{JSONRPC: "2.0", Method: method, Params: raw})
	}
	w.Header().Set("Content-Type", "text/event-stream")
	tell(
		"notifications/subscriptions/acknowledged",
		map[string]any{"notifications": map[string]bool{"toolsListChanged": p.Notifications.ToolsListChanged}},
	)
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-changed:
			tell("notifications/tools/list_changed", map[string]any{})
		case <-beat.C:
			if _, err := w.Write([]byte(": \n\n")); err != nil || http.NewResponseController(w).Flush() != nil {
				return
			}
		case <-r.Context().Done():
			return
		}
	}
}

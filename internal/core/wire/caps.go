package wire

import "encoding/json"

// Caps is what a client can do for a server, as far as it can be relayed. It is
// comparable: connections to servers are shared by agents with equal Caps.
type Caps struct {
	Sampling, SamplingTools, SamplingContext bool
	Form, URL                                bool // elicitation
	Roots, RootsChanged                      bool
	// Tasks is the extension io.modelcontextprotocol/tasks (2026-07-28).
	Tasks bool
}

// TasksExtension is the name of the extension for tasks.
const TasksExtension = "io.modelcontextprotocol/tasks"

// EveryCap is everything that can be relayed. Servers are asked with it what they
// offer: some list only the tools that the client is able to serve.
var EveryCap = Caps{Sampling: true, SamplingTools: true, SamplingContext: true, Form: true, URL: true, Roots: true, RootsChanged: true}

// ReadCaps reads the capabilities object of a client of the given revision.
// What the revision does not have is left out.
func ReadCaps(raw []byte, rev string) Caps {
	var in struct {
		Sampling *struct{ Tools, Context *struct{} }
		Roots    *struct{ ListChanged bool }
		// Empty means forms only (2025-06-18).
		Elicitation *struct{ Form, URL *struct{} }
		Extensions  map[string]json.RawMessage
	}
	var c Caps
	if json.Unmarshal(raw, &in) != nil {
		return c // what cannot be read is no capability that could be used
	}
	if s := in.Sampling; s != nil {
		c.Sampling = true
		c.SamplingTools = s.Tools != nil && rev >= Rev20251125
		c.SamplingContext = s.Context != nil && rev >= Rev20251125
	}
	if e := in.Elicitation; e != nil && rev >= Rev20250618 {
		c.URL = e.URL != nil && rev >= Rev20251125
		c.Form = e.Form != nil || !c.URL
	}
	if _, ok := in.Extensions[TasksExtension]; ok && Stateless(rev) {
		c.Tasks = true
	}
	if r := in.Roots; r != nil {
		c.Roots = true
		c.RootsChanged = r.ListChanged && !Stateless(rev)
	}
	return c
}

// JSON renders the capabilities for a server of the given revision.
func (c Caps) JSON(rev string) []byte {
	type obj = map[string]any
	out := obj{}
	if c.Sampling {
		s := obj{}
		if c.SamplingTools {
			s["tools"] = obj{}
		}
		if c.SamplingContext {
			s["context"] = obj{}
		}
		out["sampling"] = s
	}
	if c.Form || c.URL {
		e := obj{}
		if c.Form {
			e["form"] = obj{}
		}
		if c.URL {
			e["url"] = obj{}
		}
		out["elicitation"] = e
	}
	if c.Roots {
		r := obj{}
		if c.RootsChanged && !Stateless(rev) {
			r["listChanged"] = true
		}
		out["roots"] = r
	}
	if c.Tasks && Stateless(rev) {
		out["extensions"] = obj{TasksExtension: obj{}}
	}
	// Maps of maps and booleans cannot fail to be written.
	raw, _ := json.Marshal(out)
	return raw
}

// Missing returns the capabilities that a server's request needs and the client
// did not declare, as the object that error -32021 carries; nil when there are
// none. known is false for a method that no client offers.
func (c Caps) Missing(method string, params []byte) (need json.RawMessage, known bool) {
	switch method {
	case "roots/list":
		if !c.Roots {
			need = json.RawMessage(`{"roots":{}}`)
		}
	case "sampling/createMessage":
		whole := Span{0, len(params)}
		tools := len(params) > 0 && !Member(params, whole, "tools").Empty()
		switch {
		case !c.Sampling && tools:
			need = json.RawMessage(`{"sampling":{"tools":{}}}`)
		case !c.Sampling:
			need = json.RawMessage(`{"sampling":{}}`)
		case tools && !c.SamplingTools:
			need = json.RawMessage(`{"sampling":{"tools":{}}}`)
		}
	case "elicitation/create":
		mode := ""
		if len(params) > 0 {
			mode, _ = StringAt(params, Member(params, Span{0, len(params)}, "mode"))
		}
		switch {
		case mode == "url" && !c.URL:
			need = json.RawMessage(`{"elicitation":{"url":{}}}`)
		case mode != "url" && !c.Form:
			need = json.RawMessage(`{"elicitation":{"form":{}}}`)
		}
	default:
		return nil, false
	}
	return need, true
}

// Levels are the log levels of MCP (RFC 5424), least severe first.
var Levels = []string{"debug", "info", "notice", "warning", "error", "critical", "alert", "emergency"}

// Level returns the rank of a log level, -1 for none.
func Level(name string) int {
	for i, l := range Levels {
		if l == name {
			return i
		}
	}
	return -1
}

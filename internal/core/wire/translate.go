package wire

import (
	"bytes"
	"encoding/json"
	"fmt"
)

// Translation says how a result has to look for the one who asked.
type Translation struct {
	Method string
	// From and To are the revisions of the server and of the agent.
	From, To string
	// Rename maps a resource's URI as the server knows it to the one the agent
	// knows; nil when they are the same.
	Rename func(uri string) string
	// Info is Bouncer's own name and version, raw; added to results that name no
	// server of their own.
	Info []byte
}

// Cacheable reports whether results of the method carry cache hints in the
// stateless era.
func Cacheable(method string) bool {
	switch method {
	case "tools/list", "prompts/list", "resources/list", "resources/templates/list", "resources/read", "server/discover":
		return true
	}
	return false
}

// holdsContent reports whether results of the method hold content blocks or
// resources.
func holdsContent(method string) bool {
	return method == "tools/call" || method == "prompts/get" || method == "resources/read"
}

// Plain reports whether the result may go out with no more than another id.
func (h *Translation) Plain(b []byte, f Frame) bool {
	if !f.Error.Empty() || f.Result.Empty() || b[f.Result.Start] != '{' {
		return true
	}
	if Stateless(h.From) != Stateless(h.To) || (Stateless(h.To) && f.ResultType.Empty()) {
		return false
	}
	if !holdsContent(h.Method) {
		return true
	}
	r := f.Result.Of(b)
	if h.Rename != nil && (h.Method == "resources/read" || mentions(r, `"resource`)) {
		return false
	}
	return h.To >= Rev20250618 || (!mentions(r, `"resource_link"`) && (h.To >= Rev20250326 || !mentions(r, `"audio"`)))
}

// mentions reports whether b holds word, which begins with a quote. It jumps from
// quote to quote, which in a long text is far quicker than a general search.
func mentions(b []byte, word string) bool {
	for {
		i := bytes.IndexByte(b, '"')
		if i < 0 || len(b)-i < len(word) {
			return false
		}
		if string(b[i:i+len(word)]) == word {
			return true
		}
		b = b[i+1:]
	}
}

// AppendResultFor appends the response in src, under the raw id, as the agent of
// the hop can take it. f must be the frame read from src.
func AppendResultFor(dst, src []byte, f Frame, id []byte, h *Translation) []byte {
	if h.Plain(src, f) {
		return AppendWithID(dst, src, f, id)
	}
	return AppendResult(dst, id, h.result(src, f.Result))
}

// result rewrites a result member by member.
func (h *Translation) result(b []byte, at Span) []byte {
	out := make([]byte, 0, at.End-at.Start+128)
	out = append(out, '{')
	sep := func(name string) {
		if len(out) > 1 {
			out = append(out, ',')
		}
		out = append(append(out, Quote(name)...), ':')
	}
	to := Stateless(h.To)
	var meta, text Span
	seen := map[string]bool{}
	wrapped := []byte(nil)
	_ = Members(b, at, func(name string, v Span) error {
		if seen[name] {
			return nil
		}
		seen[name] = true
		switch {
		case name == "_meta":
			meta = v
			return nil
		case !to && (name == "resultType" || (Cacheable(h.Method) && (name == "ttlMs" || name == "cacheScope"))):
			return nil
		case name == "content" && h.Method == "tools/call":
			if b[v.Start] != '[' || len(bytes.TrimSpace(b[v.Start+1:v.End-1])) == 0 && !to {
				return nil // null beside another kind of result, or nothing
			}
			text = v
			sep(name)
			out = h.each(out, b, v, h.block)
			return nil
		case name == "messages" && h.Method == "prompts/get" && b[v.Start] == '[':
			sep(name)
			out = h.each(out, b, v, h.message)
			return nil
		case name == "contents" && h.Method == "resources/read" && b[v.Start] == '[':
			sep(name)
			out = h.each(out, b, v, h.contents)
			return nil
		case name == "structuredContent" && !to && b[v.Start] != '{':
			// Up to 2025-11-25 structured content is an object.
			wrapped = v.Of(b)
			sep(name)
			out = append(append(append(out, `{"result":`...), wrapped...), '}')
			return nil
		}
		sep(name)
		out = append(out, v.Of(b)...)
		return nil
	})
	if wrapped != nil && text.Empty() {
		// For those that read content only.
		sep("content")
		out = append(append(append(out, `[{"type":"text","text":`...), Quote(string(wrapped))...), "}]"...)
	}
	if !to && text.Empty() && wrapped == nil && h.Method == "tools/call" && seen["content"] {
		sep("content")
		out = append(out, "[]"...)
	}
	if to && !seen["resultType"] {
		sep("resultType")
		out = append(out, `"complete"`...)
	}
	if to && Cacheable(h.Method) {
		if !seen["ttlMs"] {
			sep("ttlMs")
			out = append(out, '0')
		}
		if !seen["cacheScope"] {
			sep("cacheScope")
			out = append(out, `"private"`...)
		}
	}
	if m := h.meta(b, meta); len(m) > 2 {
		sep("_meta")
		out = append(out, m...)
	}
	return append(out, '}')
}

func (h *Translation) meta(b []byte, at Span) []byte {
	out := []byte{'{'}
	named := false
	if !at.Empty() && b[at.Start] == '{' {
		_ = Members(b, at, func(name string, v Span) error {
			if isEnvelope(name) && !Stateless(h.To) {
				return nil
			}
			named = named || name == MetaServer
			if len(out) > 1 {
				out = append(out, ',')
			}
			out = append(append(append(out, Quote(name)...), ':'), v.Of(b)...)
			return nil
		})
	}
	if Stateless(h.To) && !named && len(h.Info) > 0 {
		if len(out) > 1 {
			out = append(out, ',')
		}
		out = append(append(append(out, Quote(MetaServer)...), ':'), h.Info...)
	}
	return append(out, '}')
}

func (h *Translation) each(dst, b []byte, at Span, fn func(dst, b []byte, v Span) []byte) []byte {
	dst = append(dst, '[')
	first := true
	_ = Elements(b, at, func(v Span) error {
		if !first {
			dst = append(dst, ',')
		}
		first = false
		dst = fn(dst, b, v)
		return nil
	})
	return append(dst, ']')
}

// message rewrites one message of a prompt.
func (h *Translation) message(dst, b []byte, v Span) []byte {
	if b[v.Start] != '{' {
		return append(dst, v.Of(b)...)
	}
	c := Member(b, v, "content")
	if c.Empty() || b[c.Start] != '{' {
		return append(dst, v.Of(b)...)
	}
	return Splice(dst, b, v, Edit{c, h.block(nil, b, c)})
}

// contents rewrites one part of a resource.
func (h *Translation) contents(dst, b []byte, v Span) []byte {
	if h.Rename == nil || b[v.Start] != '{' {
		return append(dst, v.Of(b)...)
	}
	at := Member(b, v, "uri")
	uri, ok := StringAt(b, at)
	if !ok {
		return append(dst, v.Of(b)...)
	}
	return Splice(dst, b, v, Edit{at, Quote(h.Rename(uri))})
}

// block rewrites one content block, and puts what the agent's revision does not
// know into words.
func (h *Translation) block(dst, b []byte, v Span) []byte {
	if b[v.Start] != '{' {
		return append(dst, v.Of(b)...)
	}
	kind, _ := StringAt(b, Member(b, v, "type"))
	switch {
	case kind == "resource":
		r := Member(b, v, "resource")
		if r.Empty() || h.Rename == nil {
			break
		}
		return Splice(dst, b, v, Edit{r, h.contents(nil, b, r)})
	case kind == "resource_link" && h.To < Rev20250618:
		uri, _ := StringAt(b, Member(b, v, "uri"))
		name, _ := StringAt(b, Member(b, v, "name"))
		if h.Rename != nil {
			uri = h.Rename(uri)
		}
		return words(dst, fmt.Sprintf("[resource %s: %s]", name, uri))
	case kind == "resource_link" && h.Rename != nil:
		return h.contents(dst, b, v)
	case kind == "audio" && h.To < Rev20250326:
		mt, _ := StringAt(b, Member(b, v, "mimeType"))
		return words(dst, fmt.Sprintf("[audio, %s, which this revision of the protocol cannot carry]", mt))
	}
	return append(dst, v.Of(b)...)
}

func words(dst []byte, text string) []byte {
	return append(append(append(dst, `{"type":"text","text":`...), Quote(text)...), '}')
}

// ItemFor rewrites the description of one tool for an agent's era: an output
// schema that is no object schema is wrapped for sessions, and what the
// stateless era no longer has is left out for it.
func ItemFor(raw json.RawMessage, stateless bool) json.RawMessage {
	whole := Span{0, len(raw)}
	if stateless {
		if !bytes.Contains(raw, []byte(`"execution"`)) {
			return raw
		}
		var m map[string]json.RawMessage
		if json.Unmarshal(raw, &m) != nil {
			return raw
		}
		delete(m, "execution")
		out, err := json.Marshal(m)
		if err != nil {
			return raw
		}
		return out
	}
	if !bytes.Contains(raw, []byte(`"outputSchema"`)) {
		return raw
	}
	at := Member(raw, whole, "outputSchema")
	if at.Empty() {
		return raw
	}
	if raw[at.Start] == '{' {
		if t, _ := StringAt(raw, Member(raw, at, "type")); t == "object" {
			return raw
		}
	}
	inner := bytes.ReplaceAll(at.Of(raw), []byte(`"$ref":"#/`), []byte(`"$ref":"#/properties/result/`))
	inner = bytes.ReplaceAll(inner, []byte(`"$ref":"#"`), []byte(`"$ref":"#/properties/result"`))
	with := append(append([]byte(`{"type":"object","properties":{"result":`), inner...), `},"required":["result"]}`...)
	return Splice(nil, raw, whole, Edit{at, with})
}

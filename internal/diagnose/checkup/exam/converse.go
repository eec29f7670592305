package exam

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/wire"
)

// Speaker is an open conversation, whatever it is carried over.
type Speaker interface {
	// Ask sends a request and waits for its answer; the frame is nil when none came.
	Ask(ctx context.Context, method string, params []byte) (evidence.Ask, []byte)
	Notify(ctx context.Context, method string)
}

// Taken takes a frame for the answer to a request; false when it is something else.
func (r *Run) Taken(a *evidence.Ask, frame []byte, id uint64) bool {
	if f, err := wire.ReadFrame(frame); err == nil && (f.Kind == wire.Notification || f.Kind == wire.Request) {
		return false
	}
	a.Reply = evidence.ReadReply(frame, id)
	a.Reply.Quote = r.Quote(a.Reply.Shape, frame)
	a.Bytes += len(frame)
	if e := a.Reply.Error; e != nil {
		e.Message, e.Data = r.Short(e.Message), r.Short(e.Data)
		a.Error = e
	}
	return true
}

// OrEmpty are params that are written in any case.
func OrEmpty(params []byte) []byte {
	if len(params) == 0 {
		return []byte("{}")
	}
	return params
}

// Converse reads what a server lists in an open conversation, and calls a tool if that
// was asked for.
func (r *Run) Converse(ctx context.Context, c Speaker, s evidence.Session) {
	r.Evidence.Session = &s
	kept := r.Evidence.Session
	r.Stage("protocol", OK, 0, fmt.Sprintf("revision %s", s.Revision), r.Short(strings.TrimSpace(s.Name+" "+s.Version)),
		"it declares "+strings.Join(s.Capabilities, ", "))
	if s.Revision == "" || len(s.Offered) > 0 {
		return
	}
	c.Notify(ctx, "notifications/initialized")
	began := time.Now()
	r.Tell("listing", "reading its lists")
	raw := r.lists(ctx, c, kept)
	if after, ok := c.(interface {
		Listed(ctx context.Context, s *evidence.Session)
	}); ok && len(kept.Asks) > 0 {
		after.Listed(ctx, kept)
	}
	var facts []string
	for _, a := range kept.Asks {
		facts = append(facts, fmt.Sprintf("%s: %d in %d ms", a.Method, a.Items, a.Took.Milliseconds()))
	}
	r.Stage("listing", OK, time.Since(began), facts...)
	if r.Target.Call != nil && kept.Listed {
		r.callTool(ctx, c, raw)
	}
}

// lists reads every list that the server declares, and returns the tools as they came.
func (r *Run) lists(ctx context.Context, c Speaker, s *evidence.Session) (raw []json.RawMessage) {
	for _, kind := range []string{"tools", "prompts", "resources"} {
		if !slices.Contains(s.Capabilities, kind) {
			if kind == "tools" {
				s.Listed = true // it says that it has none
			}
			continue
		}
		a, items := r.list(ctx, c, kind)
		s.Asks = append(s.Asks, a)
		if kind == "tools" {
			s.Listed = !a.Failed() && a.Error == nil && a.Endless == "" && a.Malformed == "" && !a.Ended
			s.Tools = inspect(items)
			raw = items
		}
		if a.Failed() || a.Ended || a.Status >= 400 {
			return raw
		}
	}
	return raw
}

// Bounds on what is read of one list.
const (
	maxPages = 100
	maxItems = 20_000
)

// list reads all pages of one list.
func (r *Run) list(ctx context.Context, c Speaker, kind string) (evidence.Ask, []json.RawMessage) {
	var items []json.RawMessage
	total := evidence.Ask{Method: kind + "/list"}
	seen := map[string]bool{}
	for cursor := ""; ; {
		var params []byte
		if cursor != "" {
			params = append(append([]byte(`{"cursor":`), wire.Quote(cursor)...), '}')
		}
		a, frame := c.Ask(ctx, total.Method, params)
		pages, taken := total.Pages+1, total.Took+a.Took
		count := total.Items
		total = a
		total.Pages, total.Items, total.Took = pages, count, taken
		if frame == nil || a.Error != nil || a.Failed() || a.Reply.Shape != evidence.Message || a.Reply.ID != "" {
			return total, items
		}
		page, next, why := readPage(frame, kind)
		if total.Malformed = why; why != "" {
			return total, items
		}
		items = append(items, page...)
		total.Items = len(items)
		switch {
		case next == "":
			return total, items
		case seen[next]:
			total.Endless = fmt.Sprintf("page %d points to one that was read before", pages)
			return total, items
		case pages >= maxPages || len(items) > maxItems:
			total.Endless = fmt.Sprintf("given up after %d pages with %d entries", pages, len(items))
			return total, items
		}
		seen[next], cursor = true, next
	}
}

// readPage reads one page of a list.
func readPage(frame []byte, kind string) (items []json.RawMessage, next, why string) {
	var m struct {
		Result map[string]json.RawMessage `json:"result"`
	}
	if err := json.Unmarshal(frame, &m); err != nil || m.Result == nil {
		return nil, "", "it has no result that is an object"
	}
	raw, ok := m.Result[kind]
	if !ok {
		return nil, "", "its result has no member " + kind
	}
	if json.Unmarshal(raw, &items) != nil {
		return nil, "", "its member " + kind + " is no list"
	}
	// A cursor that is null or no text is none.
	_ = json.Unmarshal(m.Result["nextCursor"], &next)
	return items, next, ""
}

// inspect looks at each tool of a list.
func inspect(items []json.RawMessage) (list []evidence.Tool) {
	seen := map[string]bool{}
	for _, raw := range items {
		var m struct {
			Name   json.RawMessage `json:"name"`
			Input  json.RawMessage `json:"inputSchema"`
			Output json.RawMessage `json:"outputSchema"`
		}
		var t evidence.Tool
		if json.Unmarshal(raw, &m) != nil {
			t.Name, t.Bad = evidence.Quoted(raw), "it is no object"
			list = append(list, t)
			continue
		}
		t.Bad = badName(m.Name, &t.Name)
		t.Twice = t.Name != "" && seen[t.Name]
		seen[t.Name] = true
		if t.Schema = badSchema(m.Input); t.Schema == "" && len(m.Output) > 0 && string(m.Output) != "null" {
			if why := badSchema(m.Output); why != "" {
				t.Schema = "outputSchema: " + why
			}
		}
		list = append(list, t)
	}
	return list
}

// badName says what is wrong with a name (MCP 2025-11-25, tools); names with other
// characters than it recommends are left alone, since they work.
func badName(raw json.RawMessage, name *string) string {
	switch {
	case len(raw) == 0:
		return "there is none"
	case json.Unmarshal(raw, name) != nil:
		*name = string(raw)
		return "it is no text"
	case strings.TrimSpace(*name) == "":
		return "it is empty"
	case len(*name) > 128:
		return "it is longer than 128 characters"
	case strings.IndexFunc(*name, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }) >= 0:
		return "there is a blank in it, or a character that cannot be seen"
	}
	return ""
}

// badSchema says what is wrong with a schema of a tool: it must be an object of JSON
// Schema that describes an object.
func badSchema(raw json.RawMessage) string {
	if len(raw) == 0 || string(bytes.TrimSpace(raw)) == "null" {
		return "there is none"
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return "it is no JSON"
	}
	object, ok := doc.(map[string]any)
	if !ok {
		return "it is no object"
	}
	if kind, given := object["type"]; given && kind != "object" {
		return fmt.Sprintf(`its type is %v, and must be "object"`, kind)
	} else if !given {
		return `it has no type, which must be "object"`
	}
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020)
	compiler.UseLoader(jsonschema.SchemeURLLoader{}) // nothing is fetched
	if err := compiler.AddResource("tool:schema", doc); err != nil {
		return firstLine(err)
	}
	if _, err := compiler.Compile("tool:schema"); err != nil {
		var elsewhere *jsonschema.LoadURLError
		if errors.As(err, &elsewhere) {
			return "" // what it refers to is not fetched, and so not judged
		}
		return firstLine(err)
	}
	return ""
}

func firstLine(err error) string {
	var invalid *jsonschema.SchemaValidationError
	text := err.Error()
	if errors.As(err, &invalid) {
		text = invalid.Err.Error()
	}
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return evidence.Quoted([]byte(strings.TrimLeft(lines[len(lines)-1], "- ")))
}

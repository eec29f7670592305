package restmap

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"sort"
	"strings"

	"bouncer/internal/core/tools"
	"bouncer/internal/core/uri"
)

// Request is an HTTP request in parts.
type Request struct {
	Method string
	Path   string // escaped, begins with /
	Query  url.Values
	// Header holds the header parameters, cookies joined into Cookie.
	Header [][2]string
	Body   []byte
	Media  string // of the body; "" for none
}

// ArgumentError says which argument cannot be sent, and why; without a name it is about all of
// them.
type ArgumentError struct{ Name, Why string }

func (e *ArgumentError) Error() string {
	if e.Name == "" {
		return "the arguments " + e.Why
	}
	return "argument " + e.Name + " " + e.Why
}

// Request lays the arguments of a call, a JSON object or nothing, out in a
// request. The error is an *ArgumentError.
func (o *Operation) Request(arguments []byte) (*Request, error) {
	args := map[string]json.RawMessage{}
	if len(arguments) > 0 {
		if err := json.Unmarshal(arguments, &args); err != nil {
			return nil, &ArgumentError{"", "are no object"}
		}
	}
	r := &Request{Method: o.Method, Path: o.Path, Query: url.Values{}}
	known := map[string]bool{}
	var cookies []string
	for _, p := range o.params {
		known[p.arg] = true
		v, there := args[p.arg]
		if !there || string(v) == "null" {
			if p.required {
				return nil, &ArgumentError{p.arg, "is missing"}
			}
			continue
		}
		if err := p.put(r, v, &cookies); err != nil {
			return nil, err
		}
	}
	if len(cookies) > 0 {
		r.Header = append(r.Header, [2]string{"Cookie", strings.Join(cookies, "; ")})
	}
	if o.body != nil {
		if err := o.body.put(r, args, known); err != nil {
			return nil, err
		}
	}
	for name := range args {
		if !known[name] {
			return nil, &ArgumentError{name, "is not known; the tool's schema lists those that are"}
		}
	}
	if uri.Climbs(r.Path) { // what two of them make together
		return nil, &ArgumentError{"", "cannot stand in the path together"}
	}
	return r, nil
}

// put adds one parameter (OpenAPI 3.1, parameter styles).
// It is one table of styles and types, as the specification prints it.
func (p param) put(r *Request, v json.RawMessage, cookies *[]string) error {
	bad := func(why string) error { return &ArgumentError{p.arg, why} }
	var list []string
	pairs := [][2]string{}
	switch {
	case p.json:
		list = []string{string(v)}
	case v[0] == '[':
		var items []json.RawMessage
		if json.Unmarshal(v, &items) != nil {
			return bad("is no list")
		}
		for _, i := range items {
			list = append(list, scalar(i))
		}
	case v[0] == '{':
		var m map[string]json.RawMessage
		if json.Unmarshal(v, &m) != nil {
			return bad("is no object")
		}
		for k, e := range m {
			pairs = append(pairs, [2]string{k, scalar(e)})
		}
		sort.Slice(pairs, func(i, j int) bool { return pairs[i][0] < pairs[j][0] })
	default:
		list = []string{scalar(v)}
	}
	joined := func(sep string) string {
		out := append([]string(nil), list...)
		for _, kv := range pairs {
			if p.explode {
				out = append(out, kv[0]+"="+kv[1])
			} else {
				out = append(out, kv[0], kv[1])
			}
		}
		return strings.Join(out, sep)
	}
	switch p.in {
	case "path":
		text := joined(",")
		// A segment that is empty, or climbs, would be another operation's path; so would
		// one that does when the server has decoded it.
		if text == "" || text == "." || uri.Climbs(text) {
			return bad("cannot stand in the path")
		}
		r.Path = strings.ReplaceAll(r.Path, "{"+p.name+"}", url.PathEscape(text))
	case "header":
		text := joined(",")
		if strings.ContainsAny(text, "\r\n\x00") {
			return bad("holds a line end, which no header can carry")
		}
		r.Header = append(r.Header, [2]string{p.name, text})
	case "cookie":
		text := joined(",")
		if strings.ContainsAny(text, "\r\n\x00;, \"\\") {
			return bad("holds a character that no cookie can carry")
		}
		*cookies = append(*cookies, p.name+"="+text)
	case "query":
		sep := map[string]string{"spaceDelimited": " ", "pipeDelimited": "|"}[p.style]
		switch {
		case p.style == "deepObject":
			for _, kv := range pairs {
				r.Query.Add(p.name+"["+kv[0]+"]", kv[1])
			}
		case len(pairs) > 0 && p.explode:
			for _, kv := range pairs {
				r.Query.Add(kv[0], kv[1])
			}
		case p.explode && sep == "":
			for _, s := range list {
				r.Query.Add(p.name, s)
			}
		default:
			if sep == "" {
				sep = ","
			}
			r.Query.Add(p.name, joined(sep))
		}
	}
	return nil
}

// scalar writes a JSON value as the text of a parameter.
func scalar(v json.RawMessage) string {
	var s string
	if len(v) > 0 && v[0] == '"' && json.Unmarshal(v, &s) == nil {
		return s
	}
	return string(bytes.TrimSpace(v))
}

func (b *body) put(r *Request, args map[string]json.RawMessage, known map[string]bool) error {
	var raw json.RawMessage
	if b.arg != "" {
		known[b.arg] = true
		raw = args[b.arg]
	} else {
		for _, f := range b.need {
			if _, there := args[f]; !there {
				return &ArgumentError{f, "is missing"}
			}
		}
		m := map[string]json.RawMessage{}
		for _, f := range b.fields {
			known[f] = true
			if v, ok := args[f]; ok {
				m[f] = v
			}
		}
		if len(m) > 0 || b.required {
			// Raw JSON that was read before cannot fail to be written.
			raw, _ = json.Marshal(m)
		}
	}
	if len(raw) == 0 {
		if b.required {
			return &ArgumentError{b.arg, "is missing"}
		}
		return nil
	}
	r.Media = b.media
	switch b.media {
	case "text/plain":
		r.Body = []byte(scalar(raw))
	case "application/x-www-form-urlencoded":
		var m map[string]json.RawMessage
		if json.Unmarshal(raw, &m) != nil {
			return &ArgumentError{b.arg, "must be an object"}
		}
		form := url.Values{}
		for k, v := range m {
			var items []json.RawMessage
			if v[0] == '[' && json.Unmarshal(v, &items) == nil {
				for _, i := range items {
					form.Add(k, scalar(i))
				}
				continue
			}
			form.Add(k, scalar(v))
		}
		r.Body = []byte(form.Encode())
	default:
		r.Body = raw
	}
	return nil
}

// Pick is an operation that becomes a tool, and how the tool is called.
type Pick struct{ ID, Name, Description string }

// PickError says which pick cannot be a tool.
type PickError struct{ ID, Why string }

func (e *PickError) Error() string { return fmt.Sprintf("operation %q %s", e.ID, e.Why) }

// Tool is a tool with the operation behind it.
type Tool struct {
	tools.Tool
	Operation *Operation
}

// Tools makes tools of the picked operations. The error is a *PickError.
func (d *Document) Tools(picks []Pick) ([]Tool, error) {
	var out []Tool
	seen := map[string]bool{}
	for _, p := range picks {
		o := d.Find(p.ID)
		if o == nil {
			return nil, &PickError{p.ID, "is not in the document"}
		}
		if o.Problem != "" {
			return nil, &PickError{p.ID, "cannot be a tool: " + o.Problem}
		}
		name := p.Name
		if name == "" {
			name = toolName(o.ID)
		}
		if !validName.MatchString(name) {
			return nil, &PickError{p.ID, fmt.Sprintf("would be the tool %.80q; names are 1 to 64 letters, digits, _ and -", name)}
		}
		if seen[name] {
			return nil, &PickError{p.ID, fmt.Sprintf("would be a second tool %q; give it another name", name)}
		}
		seen[name] = true
		about := p.Description
		if about == "" {
			about = strings.TrimSpace(strings.Join([]string{o.Summary, o.Description}, "\n\n"))
		}
		if o.Deprecated {
			about = strings.TrimSpace(about + "\n\n(deprecated)")
		}
		desc := map[string]any{
			"name": name, "description": about, "inputSchema": o.Input,
			"annotations": map[string]bool{
				"readOnlyHint":    o.ReadOnly(),
				"destructiveHint": o.Destructive(),
				"idempotentHint":  o.Idempotent(),
			},
		}
		if o.Summary != "" {
			desc["title"] = o.Summary
		}
		raw, err := json.Marshal(map[string]any{"tools": []any{desc}})
		if err != nil {
			return nil, &PickError{p.ID, "cannot be described: " + err.Error()}
		}
		list, _, left, err := tools.ReadPage(tools.Tools, raw)
		if err != nil || len(list) != 1 {
			return nil, &PickError{p.ID, "cannot be a tool: " + strings.Join(left, "; ")}
		}
		out = append(out, Tool{list[0], o})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

var validName = regexp.MustCompile(`^[A-Za-z0-9_-]{1,64}$`)

var unfit = regexp.MustCompile(`[^A-Za-z0-9_-]+`)

// toolName makes a name of an operation's id.
func toolName(id string) string {
	name := strings.Trim(unfit.ReplaceAllString(id, "_"), "_")
	if len(name) > 64 {
		name = name[:64]
	}
	return name
}

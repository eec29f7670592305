// Package dialect changes assistants' configuration files in place. It reads
// the common JSON form (comments and trailing commas allowed) in which a map
// named mcpServers holds one entry for each server, finds and replaces single
// entries, and leaves every other byte of the file as it was.
package dialect

import (
	"bytes"
	"encoding/json"
	"strings"
)

// Map is the member that holds the servers.
const Map = "mcpServers"

// MaxFile is the largest configuration file that is read, in bytes.
const MaxFile = 4 << 20

// Entry is what an assistant needs to reach a server over streamable HTTP.
type Entry struct {
	Type    string            `json:"type"`
	URL     string            `json:"url"`
	Headers map[string]string `json:"headers,omitempty"`
}

// Servers returns the raw entries of the file by name, with comments and
// trailing commas still inside. A file without entries gives an empty map; the
// error is a *SyntaxError.
func Servers(src []byte) (map[string][]byte, error) {
	r := reader{src}
	root, empty, err := r.root()
	if err != nil || empty {
		return nil, err
	}
	servers, ok, err := r.servers(root)
	if err != nil || !ok {
		return nil, err
	}
	out := map[string][]byte{}
	for _, m := range servers.members {
		out[m.name] = src[m.start:m.end]
	}
	return out, nil
}

// OtherMap finds the member in which a file without mcpServers keeps servers all the
// same: an object whose members are objects with a command or an address each. Its
// assistant would not read what Put writes.
func OtherMap(src []byte) (key string, ok bool) {
	r := reader{src}
	root, empty, err := r.root()
	if err != nil || empty {
		return "", false
	}
	if _, there, err := r.find(root, Map); err != nil || there {
		return "", false
	}
	for _, m := range root.members {
		var entries map[string]map[string]any
		if json.Unmarshal(reader{src[m.start:m.end]}.strip(), &entries) != nil || len(entries) == 0 {
			continue
		}
		servers := 0
		for _, e := range entries {
			if e["command"] != nil || e["url"] != nil || e["serverUrl"] != nil || e["httpUrl"] != nil {
				servers++
			}
		}
		if servers == len(entries) || (servers > 0 && strings.Contains(strings.ToLower(m.name), "server")) {
			return m.name, true
		}
	}
	return "", false
}

// Lookup decodes the named entry; ok is false when there is none.
func Lookup(src []byte, name string) (e Entry, ok bool, err error) {
	all, err := Servers(src)
	if err != nil || all[name] == nil {
		return e, false, err
	}
	plain := reader{all[name]}.strip()
	if err := json.Unmarshal(plain, &e); err != nil {
		return e, false, reader{src}.fail(bytes.Index(src, all[name]), "the entry %q is not an object with url and headers", name)
	}
	return e, true, nil
}

// Put returns src with the named entry set: replaced where it exists, added
// after the last one otherwise, in the file's own indentation and line ends.
// An empty src becomes a new file. The error is a *SyntaxError.
func Put(src []byte, name string, e Entry) ([]byte, error) {
	r := reader{src}
	root, empty, err := r.root()
	if err != nil {
		return nil, err
	}
	if empty {
		body, err := render(map[string]map[string]Entry{Map: {name: e}}, "", "  ", "\n")
		if err != nil {
			return nil, err
		}
		out := bytes.Clone(src)
		if bytes.Contains(src, []byte("/")) && !bytes.HasSuffix(src, []byte("\n")) {
			out = append(out, '\n') // or the object would become part of a comment
		}
		return append(out, body+"\n"...), nil
	}
	nl, unit := r.style(root)
	servers, ok, err := r.servers(root)
	if err != nil {
		return nil, err
	}
	if !ok {
		return r.add(root, Map, map[string]Entry{name: e}, nl, unit)
	}
	old, ok, err := r.find(servers, name)
	if err != nil {
		return nil, err
	}
	if !ok {
		return r.add(servers, name, e, nl, unit)
	}
	if !r.ownLine(old.key) && !bytes.Contains(src[old.start:old.end], []byte("\n")) {
		raw, err := json.Marshal(e)
		return replace(src, old.start, old.end, string(raw)), err
	}
	body, err := render(e, r.indent(old.key), unit, nl)
	if err != nil {
		return nil, err
	}
	return replace(src, old.start, old.end, body), nil
}

func (r reader) root() (o object, empty bool, err error) {
	at, err := r.blank(0)
	if err != nil {
		return o, false, err
	}
	if at == len(r.src) {
		return o, true, nil
	}
	if r.src[at] != '{' {
		return o, false, r.fail(at, "the file must be a JSON object; it starts with %q", r.src[at])
	}
	if o, err = r.object(at, 0); err != nil {
		return o, false, err
	}
	if at, err = r.blank(o.close + 1); err == nil && at < len(r.src) {
		err = r.fail(at, "something follows the end of the object")
	}
	return o, false, err
}

func (r reader) servers(root object) (o object, ok bool, err error) {
	m, ok, err := r.find(root, Map)
	if err != nil || !ok {
		return o, ok, err
	}
	if r.src[m.start] != '{' {
		return o, false, r.fail(m.start, "%q must be an object", Map)
	}
	o, err = r.object(m.start, 1)
	return o, true, err
}

// style finds the line end and the step of indentation that the file uses.
func (r reader) style(root object) (nl, unit string) {
	nl, unit = "\n", "  "
	if bytes.Contains(r.src, []byte("\r\n")) {
		nl = "\r\n"
	}
	if len(root.members) > 0 && r.ownLine(root.members[0].key) {
		if in := strings.TrimPrefix(r.indent(root.members[0].key), r.indent(root.open)); in != "" {
			unit = in
		}
	}
	return nl, unit
}

// indent is the white space that starts the line of the byte at i.
func (r reader) indent(i int) string {
	from := bytes.LastIndexByte(r.src[:i], '\n') + 1
	to := from
	for to < len(r.src) && (r.src[to] == ' ' || r.src[to] == '\t') {
		to++
	}
	return string(r.src[from:to])
}

// ownLine reports whether nothing but white space stands before i on its line.
func (r reader) ownLine(i int) bool {
	from := bytes.LastIndexByte(r.src[:i], '\n') + 1
	return from > 0 && len(bytes.TrimLeft(r.src[from:i], " \t")) == 0
}

// add appends a member to the object.
func (r reader) add(o object, name string, value any, nl, unit string) ([]byte, error) {
	inline := len(o.members) > 0 && !r.ownLine(o.close)
	if inline {
		raw, err := json.Marshal(value)
		if err != nil {
			return nil, err
		}
		key, _ := json.Marshal(name)
		last := o.members[len(o.members)-1].end
		if o.comma {
			// Keep the trailing comma where it is: the new member goes after it.
			return replace(r.src, o.close, o.close, string(key)+": "+string(raw)), nil
		}
		return replace(r.src, last, last, ", "+string(key)+": "+string(raw)), nil
	}
	outer := r.indent(o.open)
	inner := outer + unit
	if n := len(o.members); n > 0 && r.ownLine(o.members[n-1].key) {
		inner = r.indent(o.members[n-1].key)
	}
	body, err := render(value, inner, unit, nl)
	if err != nil {
		return nil, err
	}
	key, _ := json.Marshal(name)
	line := inner + string(key) + ": " + body
	if o.comma {
		line += ","
	}
	var out []byte
	if r.ownLine(o.close) {
		at := bytes.LastIndexByte(r.src[:o.close], '\n') + 1
		out = replace(r.src, at, at, line+nl)
	} else {
		out = replace(r.src, o.close, o.close, nl+line+nl+outer)
	}
	if n := len(o.members); n > 0 && !o.comma {
		last := o.members[n-1].end
		out = replace(out, last, last, ",")
	}
	return out, nil
}

func render(v any, prefix, unit, nl string) (string, error) {
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	enc.SetIndent(prefix, unit)
	if err := enc.Encode(v); err != nil {
		return "", err
	}
	return strings.ReplaceAll(strings.TrimRight(buf.String(), "\n"), "\n", nl), nil
}

func replace(src []byte, from, to int, with string) []byte {
	out := make([]byte, 0, len(src)+len(with))
	out = append(out, src[:from]...)
	out = append(out, with...)
	return append(out, src[to:]...)
}

// strip returns the text as plain JSON: comments and trailing commas become
// blanks. The text must have been read without error before.
func (r reader) strip() []byte {
	out := bytes.Clone(r.src)
	wipe := func(from, to int) {
		for i := from; i < to; i++ {
			if out[i] != '\n' {
				out[i] = ' '
			}
		}
	}
	comma := -1
	for i := 0; i < len(out); {
		next, err := r.blank(i)
		if err != nil {
			return out
		}
		if next > i {
			wipe(i, next)
			i = next
			continue
		}
		switch r.src[i] {
		case '"':
			_, end, err := r.text(i)
			if err != nil {
				return out
			}
			i, comma = end, -1
		case ',':
			comma = i
			i++
		case '}', ']':
			if comma >= 0 {
				out[comma] = ' '
			}
			comma = -1
			i++
		default:
			comma = -1
			i++
		}
	}
	return out
}

// Plain returns JSON with comments and trailing commas as plain JSON: they become
// blanks, so that places in the text stay the same.
func Plain(src []byte) []byte { return reader{src}.strip() }

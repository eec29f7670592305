package configfile

import (
	"bytes"
	"encoding/json"
	"strings"
)

func parseJSON(src []byte) (*Node, error) {
	r := reader{src}
	at, err := r.blank(0)
	if err != nil {
		return nil, err
	}
	if at == len(src) {
		return &Node{Line: 1}, nil
	}
	if src[at] != '{' {
		return nil, r.fail(at, "the file must be a JSON object; it starts with %q", src[at])
	}
	end, err := r.value(at, 0)
	if err != nil {
		return nil, err
	}
	if rest, err := r.blank(end); err != nil {
		return nil, err
	} else if rest < len(src) {
		return nil, r.fail(rest, "something follows the end of the object")
	}
	return r.node(at, end)
}

// node reads the value between two bytes, which was checked before.
func (r reader) node(start, end int) (*Node, error) {
	n := &Node{start: start, end: end, Line: 1 + bytes.Count(r.src[:start], []byte("\n"))}
	switch r.src[start] {
	case '{':
		n.Kind = Map
		o, err := r.object(start, 0)
		if err != nil {
			return nil, err
		}
		seen := map[string]bool{}
		for _, m := range o.members {
			if seen[m.name] {
				return nil, r.fail(m.key, "%q is there a second time", m.name)
			}
			seen[m.name] = true
			value, err := r.node(m.start, m.end)
			if err != nil {
				return nil, err
			}
			n.Pairs = append(n.Pairs, Pair{Key: m.name, Value: value, start: m.key})
		}
		return n, nil
	case '[':
		n.Kind = List
		spans, err := r.items(start)
		if err != nil {
			return nil, err
		}
		for _, s := range spans {
			item, err := r.node(s[0], s[1])
			if err != nil {
				return nil, err
			}
			n.Items = append(n.Items, item)
		}
		return n, nil
	}
	dec := json.NewDecoder(bytes.NewReader(r.src[start:end]))
	dec.UseNumber()
	var v any
	if err := dec.Decode(&v); err != nil {
		return nil, r.fail(start, "this value cannot be read: %v", err)
	}
	n.Kind, n.Value = scalar(v)
	return n, nil
}

// scalar is a value as nodes hold it.
func scalar(v any) (Kind, any) {
	switch v := v.(type) {
	case nil:
		return Null, nil
	case json.Number:
		if i, err := v.Int64(); err == nil {
			return Scalar, i
		}
		if f, err := v.Float64(); err == nil {
			return Scalar, f
		}
		return Scalar, v.String()
	}
	return Scalar, v
}

// items are where the items of the array at i begin and end.
func (r reader) items(i int) (out [][2]int, err error) {
	at, err := r.blank(i + 1)
	for err == nil && r.src[at] != ']' {
		end, err := r.value(at, 0)
		if err != nil {
			return nil, err
		}
		out = append(out, [2]int{at, end})
		if at, err = r.blank(end); err != nil {
			return nil, err
		}
		if r.src[at] == ',' {
			if at, err = r.blank(at + 1); err != nil {
				return nil, err
			}
		}
	}
	return out, err
}

// container is what an entry is put into: where its bracket opens and closes, where each
// of its entries begins and ends, and whether a comma follows the last.
type container struct {
	open, close int
	spans       [][2]int
	comma       bool
}

func (f *File) container(n *Node) container {
	c := container{open: n.start, close: n.end - 1}
	for _, p := range n.Pairs {
		c.spans = append(c.spans, [2]int{p.start, p.Value.end})
	}
	for _, item := range n.Items {
		c.spans = append(c.spans, [2]int{item.start, item.end})
	}
	if len(c.spans) > 0 {
		// What is between the last one and the bracket was read before.
		at, _ := reader{f.src}.blank(c.spans[len(c.spans)-1][1])
		c.comma = at < len(f.src) && f.src[at] == ','
	}
	return c
}

func (f *File) putJSON(e Entry, value Object) ([]byte, error) {
	nl, unit := f.styleJSON()
	if f.Root.Kind == Null {
		body, err := renderJSON(wrap(e, value), "", "  ", nl)
		if err != nil {
			return nil, err
		}
		out := bytes.Clone(f.src)
		if bytes.Contains(f.src, []byte("/")) && !bytes.HasSuffix(f.src, []byte("\n")) {
			out = append(out, nl...) // or the object would become part of a comment
		}
		return append(out, body+nl...), nil
	}
	if old := f.Find(e); old != nil {
		return f.replaceJSON(e, old, value, unit, nl)
	}
	holder, missing := f.Root, e.Path
	for len(missing) > 0 && holder.Get(missing[0]) != nil && holder.Get(missing[0]).Kind != Null {
		holder, missing = holder.Get(missing[0]), missing[1:]
	}
	if len(missing) == 0 && e.inList() {
		return f.addJSON(holder, "", value, unit, nl)
	}
	if len(missing) == 0 {
		return f.addJSON(holder, e.Name, value, unit, nl)
	}
	inner := Entry{Path: missing[1:], Name: e.Name, NameKey: e.NameKey}
	var made any = wrap(inner, value)
	if len(missing) == 1 && e.inList() {
		made = []Object{value}
	}
	if null := holder.Get(missing[0]); null != nil {
		body, err := renderJSON(made, indentOf(f.src, null.start), unit, nl)
		return replace(f.src, null.start, null.end, body), err
	}
	return f.addJSON(holder, missing[0], made, unit, nl)
}

// wrap puts an entry into the maps, and the list, of its path.
func wrap(e Entry, value Object) Object {
	if len(e.Path) == 0 {
		return Object{{e.Name, value}}
	}
	if len(e.Path) == 1 && e.inList() {
		return Object{{e.Path[0], []Object{value}}}
	}
	return Object{{e.Path[0], wrap(Entry{Path: e.Path[1:], Name: e.Name, NameKey: e.NameKey}, value)}}
}

func (f *File) replaceJSON(e Entry, old *Node, value Object, unit, nl string) ([]byte, error) {
	begin := old.start
	for _, p := range f.Root.At(e.Path...).Pairs {
		if p.Value == old {
			begin = p.start
		}
	}
	if !bytes.Contains(f.src[old.start:old.end], []byte("\n")) && !ownLine(f.src, begin) {
		return replace(f.src, old.start, old.end, string(compactJSON(value))), nil
	}
	body, err := renderJSON(value, indentOf(f.src, begin), unit, nl)
	return replace(f.src, old.start, old.end, body), err
}

// addJSON adds a member, or an item where there is no name.
func (f *File) addJSON(holder *Node, name string, value any, unit, nl string) ([]byte, error) {
	c := f.container(holder)
	key, spacedKey := "", ""
	if name != "" {
		key = string(compactJSON(name))
		spacedKey = key + ": "
	}
	if len(c.spans) > 0 && !ownLine(f.src, c.close) {
		last := c.spans[len(c.spans)-1][1]
		if c.comma {
			// Keep the trailing comma where it is: the new one goes after it.
			return replace(f.src, c.close, c.close, spacedKey+string(compactJSON(value))), nil
		}
		return replace(f.src, last, last, ", "+spacedKey+string(compactJSON(value))), nil
	}
	outer := indentOf(f.src, c.open)
	inner := outer + unit
	if n := len(c.spans); n > 0 && ownLine(f.src, c.spans[n-1][0]) {
		inner = indentOf(f.src, c.spans[n-1][0])
	}
	body, err := renderJSON(value, inner, unit, nl)
	if err != nil {
		return nil, err
	}
	line := inner + spacedKey + body
	if c.comma {
		line += ","
	}
	var out []byte
	if ownLine(f.src, c.close) {
		at := lineStart(f.src, c.close)
		out = replace(f.src, at, at, line+nl)
	} else {
		out = replace(f.src, c.close, c.close, nl+line+nl+outer)
	}
	if n := len(c.spans); n > 0 && !c.comma {
		last := c.spans[n-1][1]
		out = replace(out, last, last, ",")
	}
	return out, nil
}

func (f *File) removeJSON(e Entry) ([]byte, error) {
	holder := f.Root.At(e.Path...)
	c := f.container(holder)
	at := f.item(e)
	if !e.inList() {
		for i, p := range holder.Pairs {
			if p.Key == e.Name {
				at = i
			}
		}
	}
	from, to := c.spans[at][0], c.spans[at][1]
	r := reader{f.src}
	after, err := r.blank(to)
	if err != nil {
		return nil, err
	}
	switch {
	case f.src[after] == ',':
		to = after + 1
	case at > 0:
		// The last one goes with the comma before it; comments between stay.
		before, err := r.blank(c.spans[at-1][1])
		if err != nil {
			return nil, err
		}
		if len(bytes.Trim(f.src[before+1:from], " \t")) == 0 {
			return replace(f.src, before, to, ""), nil // they stand on one line
		}
		out := f.cutLines(from, to)
		return replace(out, before, before+1, ""), nil
	}
	return f.cutLines(from, to), nil
}

// cutLines takes some bytes away, with the lines they leave empty.
func (f *File) cutLines(from, to int) []byte {
	rest := f.src[to:nextLine(f.src, to)]
	if ownLine(f.src, from) && len(bytes.TrimSpace(rest)) == 0 {
		return replace(f.src, lineStart(f.src, from), nextLine(f.src, to), "")
	}
	for to < len(f.src) && (f.src[to] == ' ' || f.src[to] == '\t') {
		to++
	}
	return replace(f.src, from, to, "")
}

// styleJSON finds the line end and the step of indentation that the file uses.
func (f *File) styleJSON() (nl, unit string) {
	nl, unit = lineEnd(f.src), "  "
	if len(f.Root.Pairs) > 0 && ownLine(f.src, f.Root.Pairs[0].start) {
		if in := strings.TrimPrefix(indentOf(f.src, f.Root.Pairs[0].start), indentOf(f.src, f.Root.start)); in != "" {
			unit = in
		}
	}
	return nl, unit
}

// MarshalJSON keeps the order.
func (o Object) MarshalJSON() ([]byte, error) {
	var buf bytes.Buffer
	buf.WriteByte('{')
	for i, f := range o {
		if i > 0 {
			buf.WriteByte(',')
		}
		raw, err := marshalPlain(f.Value)
		if err != nil {
			return nil, err
		}
		buf.Write(compactJSON(f.Name))
		buf.WriteByte(':')
		buf.Write(raw)
	}
	buf.WriteByte('}')
	return buf.Bytes(), nil
}

func marshalPlain(v any) ([]byte, error) {
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	err := enc.Encode(v)
	return bytes.TrimRight(buf.Bytes(), "\n"), err
}

// compactJSON writes what cannot fail to be written on one line, with a blank after
// colons and commas.
func compactJSON(v any) []byte {
	switch v := v.(type) {
	case Object:
		out := []byte("{")
		for i, f := range v {
			if i > 0 {
				out = append(out, ", "...)
			}
			out = append(append(append(out, compactJSON(f.Name)...), ": "...), compactJSON(f.Value)...)
		}
		return append(out, '}')
	case []Object:
		out := []byte("[")
		for i, o := range v {
			if i > 0 {
				out = append(out, ", "...)
			}
			out = append(out, compactJSON(o)...)
		}
		return append(out, ']')
	case []string:
		out := []byte("[")
		for i, s := range v {
			if i > 0 {
				out = append(out, ", "...)
			}
			out = append(out, compactJSON(s)...)
		}
		return append(out, ']')
	}
	raw, _ := marshalPlain(v) // texts, numbers and truths
	return raw
}

func renderJSON(v any, prefix, unit, nl string) (string, error) {
	raw, err := marshalPlain(v)
	if err != nil {
		return "", err
	}
	var buf bytes.Buffer
	if err := json.Indent(&buf, raw, prefix, unit); err != nil {
		return "", err
	}
	return strings.ReplaceAll(buf.String(), "\n", nl), nil
}

// Plain returns JSON with comments and trailing commas as plain JSON: they become
// blanks, so that places in the text stay the same.
func Plain(src []byte) []byte { return reader{src}.strip() }

// strip is Plain. The text must have been read without error before, or is cut where it
// cannot be read.
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

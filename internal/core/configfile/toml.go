package configfile

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
)

// statement is one header or one key with its value, with the lines it takes.
type statement struct {
	start, end int // from the first byte of its first line to the end of its last
	path       []string
	header     bool
	array      bool // [[…]]
	key, value int  // where the key and the value begin
	valueEnd   int
}

func parseTOML(src []byte) (*Node, error) {
	text := bytes.TrimPrefix(src, bom)
	var values map[string]any
	if err := toml.Unmarshal(text, &values); err != nil {
		var bad *toml.DecodeError
		if errors.As(err, &bad) {
			line, column := bad.Position()
			return nil, &SyntaxError{line, column, strings.TrimPrefix(bad.Error(), "toml: ")}
		}
		return nil, &SyntaxError{1, 0, strings.TrimPrefix(err.Error(), "toml: ")}
	}
	list, err := statements(src)
	if err != nil {
		return nil, err
	}
	if len(values) == 0 {
		return &Node{Line: 1}, nil
	}
	order := map[string]int{}
	for i, s := range list {
		for n := range s.path {
			if key := strings.Join(s.path[:n+1], "\x00"); order[key] == 0 {
				order[key] = i + 1
			}
		}
	}
	t := tomlReader{src, list, order}
	return t.node(values, nil), nil
}

type tomlReader struct {
	src   []byte
	list  []statement
	order map[string]int
}

// node makes nodes of values; maps are in the order in which their members are named
// first.
func (t tomlReader) node(v any, path []string) *Node {
	n := &Node{Line: 1}
	if at := t.order[strings.Join(path, "\x00")]; at > 0 {
		n.Line = 1 + bytes.Count(t.src[:t.list[at-1].key], []byte("\n"))
	}
	switch v := v.(type) {
	case map[string]any:
		n.Kind = Map
		keys := make([]string, 0, len(v))
		for key := range v {
			keys = append(keys, key)
		}
		slices.Sort(keys)
		place := func(key string) int {
			if at := t.order[strings.Join(append(slices.Clone(path), key), "\x00")]; at > 0 {
				return at
			}
			return len(t.list) + 1
		}
		slices.SortStableFunc(keys, func(a, b string) int { return place(a) - place(b) })
		for _, key := range keys {
			n.Pairs = append(n.Pairs, Pair{Key: key, Value: t.node(v[key], append(slices.Clone(path), key))})
		}
	case []any:
		n.Kind = List
		for _, item := range v {
			n.Items = append(n.Items, t.node(item, path))
		}
	case time.Time, toml.LocalDate, toml.LocalTime, toml.LocalDateTime:
		n.Kind, n.Value = Scalar, fmt.Sprint(v)
	default:
		n.Kind, n.Value = scalar(v)
	}
	return n
}

// statements finds where each header and each key with its value stands. The text was
// read without error before.
func statements(src []byte) ([]statement, error) {
	var out []statement
	var table []string
	s := tomlScanner{src, len(src) - len(bytes.TrimPrefix(src, bom))}
	for {
		s.skip(" \t\r\n")
		if s.at >= len(src) {
			return out, nil
		}
		if src[s.at] == '#' {
			s.at = nextLine(src, s.at)
			continue
		}
		st := statement{start: lineStart(src, s.at)}
		var ok bool
		if src[s.at] == '[' {
			st.header = true
			st.array = bytes.HasPrefix(src[s.at:], []byte("[["))
			s.skip("[")
			st.key = s.at
			if st.path, ok = s.keys(); !ok {
				return nil, place(src, s.at, "this header cannot be followed")
			}
			table = st.path
		} else {
			st.key = s.at
			path, ok := s.keys()
			if !ok || s.at >= len(src) || src[s.at] != '=' {
				return nil, place(src, s.at, "this key cannot be followed")
			}
			s.at++
			s.skip(" \t")
			st.path, st.value = append(slices.Clone(table), path...), s.at
			if ok = s.value(); !ok {
				return nil, place(src, st.value, "this value cannot be followed")
			}
			st.valueEnd = s.at
		}
		st.end = nextLine(src, min(s.at, len(src)))
		s.at = st.end
		out = append(out, st)
	}
}

type tomlScanner struct {
	src []byte
	at  int
}

func (s *tomlScanner) skip(set string) {
	for s.at < len(s.src) && strings.IndexByte(set, s.src[s.at]) >= 0 {
		s.at++
	}
}

// keys reads a dotted key.
func (s *tomlScanner) keys() (path []string, ok bool) {
	for {
		s.skip(" \t")
		from := s.at
		switch {
		case s.at >= len(s.src):
			return nil, false
		case s.src[s.at] == '"' || s.src[s.at] == '\'':
			if !s.text() {
				return nil, false
			}
			var one map[string]any
			if err := toml.Unmarshal([]byte(string(s.src[from:s.at])+" = 1"), &one); err != nil || len(one) != 1 {
				return nil, false
			}
			for key := range one {
				path = append(path, key)
			}
		default:
			for s.at < len(s.src) && bytes.IndexByte([]byte(" \t.=]\r\n#"), s.src[s.at]) < 0 {
				s.at++
			}
			if s.at == from {
				return nil, false
			}
			path = append(path, string(s.src[from:s.at]))
		}
		s.skip(" \t")
		if s.at >= len(s.src) || s.src[s.at] != '.' {
			return path, true
		}
		s.at++
	}
}

// text passes over a quoted text of any of the four kinds.
func (s *tomlScanner) text() bool {
	quote := s.src[s.at]
	three := bytes.Repeat([]byte{quote}, 3)
	if bytes.HasPrefix(s.src[s.at:], three) {
		for i := s.at + 3; i < len(s.src); i++ {
			switch {
			case s.src[i] == '\\' && quote == '"':
				i++
			case bytes.HasPrefix(s.src[i:], three):
				i += 3
				for n := 0; n < 2 && i < len(s.src) && s.src[i] == quote; n++ {
					i++ // up to two quotes may stand before the end
				}
				s.at = i
				return true
			}
		}
		return false
	}
	for i := s.at + 1; i < len(s.src) && s.src[i] != '\n'; i++ {
		switch {
		case s.src[i] == '\\' && quote == '"':
			i++
		case s.src[i] == quote:
			s.at = i + 1
			return true
		}
	}
	return false
}

// value passes over a value.
func (s *tomlScanner) value() bool {
	depth := 0
	for s.at < len(s.src) {
		switch c := s.src[s.at]; {
		case c == '"' || c == '\'':
			if !s.text() {
				return false
			}
			if depth == 0 {
				return true
			}
		case c == '[' || c == '{':
			depth++
			s.at++
		case c == ']' || c == '}':
			depth--
			s.at++
			if depth == 0 {
				return true
			}
		case c == '#':
			if depth == 0 {
				return true
			}
			s.at = nextLine(s.src, s.at)
		case c == '\n' && depth == 0:
			for s.at > 0 && (s.src[s.at-1] == '\r' || s.src[s.at-1] == ' ' || s.src[s.at-1] == '\t') {
				s.at--
			}
			return true
		default:
			s.at++
		}
	}
	return depth == 0
}

func hasPath(path, prefix []string) bool {
	return len(path) >= len(prefix) && slices.Equal(path[:len(prefix)], prefix)
}

// ofEntry are the statements that an entry is made of, as places in the list.
func (f *File) ofEntry(list []statement, e Entry) (places []int) {
	if !e.inList() {
		full := append(slices.Clone(e.Path), e.Name)
		for i, s := range list {
			if hasPath(s.path, full) {
				places = append(places, i)
			}
		}
		return places
	}
	wanted, seen := f.item(e), -1
	for i, s := range list {
		if s.array && s.header && slices.Equal(s.path, e.Path) {
			seen++
		}
		if seen == wanted && seen >= 0 && hasPath(s.path, e.Path) {
			places = append(places, i)
		}
	}
	return places
}

func (f *File) putTOML(e Entry, value Object) ([]byte, error) {
	list, err := statements(f.src)
	if err != nil {
		return nil, err
	}
	nl := lineEnd(f.src)
	for _, s := range list {
		if !s.header && hasPath(e.Path, s.path) {
			return f.putInline(e, s, value)
		}
	}
	if f.Find(e) != nil {
		return f.replaceTOML(list, e, value, nl)
	}
	// Behind the last statement of its siblings, else at the end.
	last := -1
	for i, s := range list {
		if hasPath(s.path, e.Path) && len(e.Path) > 0 {
			last = i
		}
	}
	if table, ok := tableOf(list, last); last >= 0 && !e.inList() && ok && hasPath(e.Path, table) {
		// Its siblings are keys of a table above them, like bouncer.url under [servers], or
		// servers.bouncer = {…} at the top.
		key := append(slices.Clone(e.Path), e.Name)[len(table):]
		line := dotted(key) + " = " + tomlInline(value)
		at := list[last].end
		return append(append(f.ended(f.src[:at], nl), line+nl...), f.src[at:]...), nil
	}
	at := len(f.src)
	if last >= 0 {
		at = list[last].end
	}
	head := f.ended(f.src[:at], nl)
	text := f.blockTOML(e, value, nl)
	if len(bytes.TrimSpace(bytes.TrimPrefix(head, bom))) > 0 && !bytes.HasSuffix(head, []byte(nl+nl)) {
		text = nl + text
	}
	if rest := f.src[at:]; len(bytes.TrimSpace(rest)) > 0 && !bytes.HasPrefix(bytes.TrimLeft(rest, "\r"), []byte("\n")) {
		text += nl
	}
	return append(append(head, text...), f.src[at:]...), nil
}

// tableOf is the table that a key stands in; ok is false for a header.
func tableOf(list []statement, at int) (table []string, ok bool) {
	if at < 0 || list[at].header {
		return nil, false
	}
	for i := at; i >= 0; i-- {
		if list[i].header {
			return list[i].path, true
		}
	}
	return nil, true
}

// dotted writes a key of several parts.
func dotted(path []string) string {
	parts := make([]string, len(path))
	for i, key := range path {
		parts[i] = tomlKey(key)
	}
	return strings.Join(parts, ".")
}

// blockTOML writes an entry as a table of its own.
func (f *File) blockTOML(e Entry, value Object, nl string) string {
	path := slices.Clone(e.Path)
	open, end := "[", "]"
	if e.inList() {
		open, end = "[[", "]]"
	} else {
		path = append(path, e.Name)
	}
	lines := []string{open + dotted(path) + end}
	for _, field := range value {
		lines = append(lines, tomlKey(field.Name)+" = "+tomlInline(field.Value))
	}
	return strings.Join(lines, nl) + nl
}

// replaceTOML writes an entry anew where its first statement stands, and takes its other
// statements away.
func (f *File) replaceTOML(list []statement, e Entry, value Object, nl string) ([]byte, error) {
	places := f.ofEntry(list, e)
	if len(places) == 0 {
		return nil, &WrittenError{fmt.Sprintf("where %q is written cannot be told", e.Name)}
	}
	out, first := bytes.Clone(f.src), list[places[0]]
	for _, at := range slices.Backward(places) {
		out = replace(out, list[at].start, list[at].end, "")
	}
	text := f.blockTOML(e, value, nl)
	if !first.header {
		// Under the header of its parent, or at the top: with the rest of its key.
		table, _ := tableOf(list, places[0])
		text = dotted(append(slices.Clone(e.Path), e.Name)[len(table):]) + " = " + tomlInline(value) + nl
	}
	if first.start >= len(out) || !bytes.HasSuffix(f.src, []byte("\n")) && first.start == len(out) {
		out = f.ended(out, nl)
	}
	return replace(out, min(first.start, len(out)), min(first.start, len(out)), text), nil
}

// pastBlank is where the blank lines from a byte on end.
func pastBlank(src []byte, at int) int {
	for at < len(src) && len(bytes.TrimSpace(src[at:nextLine(src, at)])) == 0 {
		at = nextLine(src, at)
	}
	return at
}

// afterText is where the last line ends that is not blank; 0 where all are.
func afterText(src []byte) int {
	text := len(bytes.TrimRight(src, " \t\r\n"))
	if text == 0 {
		return 0
	}
	return nextLine(src, text)
}

func (f *File) removeTOML(e Entry) ([]byte, error) {
	list, err := statements(f.src)
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		if !s.header && hasPath(e.Path, s.path) {
			return f.removeInline(e, s)
		}
	}
	places := f.ofEntry(list, e)
	if len(places) == 0 {
		return nil, &WrittenError{fmt.Sprintf("where %q is written cannot be told", e.Name)}
	}
	out := bytes.Clone(f.src)
	table := slices.ContainsFunc(places, func(at int) bool { return list[at].header })
	for _, at := range slices.Backward(places) {
		from, to := list[at].start, list[at].end
		if table && at == places[len(places)-1] {
			to = pastBlank(out, to)
		}
		// The blank lines behind a table go with it, those before it stay, but where nothing is left to be set apart.
		if table && at == places[0] && to == len(out) {
			from = afterText(out[:from])
		}
		out = replace(out, from, to, "")
	}
	return out, nil
}

// putInline sets an entry of a map or a list that is written on as a value:
// servers = { a = {…} }.
func (f *File) putInline(e Entry, s statement, value Object) ([]byte, error) {
	open := f.src[s.value]
	if open != '{' && open != '[' || len(e.Path) != len(s.path) {
		return nil, &WrittenError{fmt.Sprintf("%q is a value of its own there", strings.Join(s.path, "."))}
	}
	end, spans, ok := flowEnd(f.src, s.value)
	if !ok {
		return nil, &WrittenError{fmt.Sprintf("where the value of %q ends cannot be told", strings.Join(s.path, "."))}
	}
	member := tomlInline(value)
	if !e.inList() {
		member = tomlKey(e.Name) + " = " + member
	}
	if f.Find(e) != nil {
		at := f.inlinePlace(e, spans)
		if at < 0 {
			return nil, &WrittenError{fmt.Sprintf("where %q is written cannot be told", e.Name)}
		}
		return replace(f.src, spans[at][0], spans[at][1], member), nil
	}
	if len(spans) == 0 {
		return replace(f.src, s.value+1, end, " "+member+" "), nil
	}
	last := spans[len(spans)-1][1]
	return replace(f.src, last, last, ", "+member), nil
}

// inlinePlace is the place of an entry between brackets; -1 for none.
func (f *File) inlinePlace(e Entry, spans [][2]int) int {
	if e.inList() {
		return f.item(e)
	}
	return slices.IndexFunc(spans, func(span [2]int) bool {
		s := tomlScanner{f.src, span[0]}
		path, ok := s.keys()
		return ok && len(path) == 1 && path[0] == e.Name
	})
}

func (f *File) removeInline(e Entry, s statement) ([]byte, error) {
	_, spans, ok := flowEnd(f.src, s.value)
	at := f.inlinePlace(e, spans)
	if !ok || at < 0 || at >= len(spans) {
		return nil, &WrittenError{fmt.Sprintf("where %q is written cannot be told", e.Name)}
	}
	switch {
	case at+1 < len(spans):
		return replace(f.src, spans[at][0], spans[at+1][0], ""), nil
	case at > 0:
		return replace(f.src, spans[at-1][1], spans[at][1], ""), nil
	}
	return replace(f.src, spans[at][0], spans[at][1], ""), nil
}

func tomlKey(key string) string {
	bare := key != "" && strings.IndexFunc(key, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '_' && r != '-'
	}) < 0
	if bare {
		return key
	}
	return tomlText(key)
}

// tomlText writes a text in double quotes (TOML 1.0, basic strings).
func tomlText(s string) string {
	var out strings.Builder
	out.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			out.WriteByte('\\')
			out.WriteRune(r)
		case r == '\n':
			out.WriteString(`\n`)
		case r == '\t':
			out.WriteString(`\t`)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&out, `\u%04X`, r)
		default:
			out.WriteRune(r)
		}
	}
	out.WriteByte('"')
	return out.String()
}

// tomlInline writes a value on one line.
func tomlInline(v any) string {
	switch v := v.(type) {
	case Object:
		if len(v) == 0 {
			return "{}"
		}
		parts := make([]string, len(v))
		for i, field := range v {
			parts[i] = tomlKey(field.Name) + " = " + tomlInline(field.Value)
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	case []Object:
		parts := make([]string, len(v))
		for i, o := range v {
			parts[i] = tomlInline(o)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case []string:
		parts := make([]string, len(v))
		for i, s := range v {
			parts[i] = tomlText(s)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case string:
		return tomlText(v)
	}
	return fmt.Sprint(v)
}

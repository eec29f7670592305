package configfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

var yamlLine = regexp.MustCompile(`(?:yaml: )?line (\d+): (.*)`)

func parseYAML(src []byte) (*Node, error) {
	dec := yaml.NewDecoder(bytes.NewReader(src))
	var doc yaml.Node
	if err := dec.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			return &Node{Line: 1}, nil
		}
		return nil, yamlError(src, err)
	}
	var second yaml.Node
	if err := dec.Decode(&second); err == nil {
		return nil, &SyntaxError{second.Line, second.Column, "a second document begins here; only one is expected"}
	} else if !errors.Is(err, io.EOF) {
		return nil, yamlError(src, err)
	}
	r := &yamlReader{src: src, starts: lineStarts(src)}
	return r.node(doc.Content[0], 0)
}

// yamlError makes a *SyntaxError of what the decoder says. It names the line only; the
// column is that of the first character on it.
func yamlError(src []byte, err error) error {
	m := yamlLine.FindStringSubmatch(err.Error())
	if m == nil {
		return &SyntaxError{1, 0, strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	line, _ := strconv.Atoi(m[1]) // digits
	if strings.Contains(m[2], "did not find expected") {
		line++ // the decoder counts these lines from 0
	}
	starts := lineStarts(src)
	column := 0
	if line >= 1 && line <= len(starts) {
		column = 1 + len(indentOf(src, starts[line-1]))
	}
	return &SyntaxError{line, column, m[2]}
}

func lineStarts(src []byte) []int {
	out := []int{0}
	for i, c := range src {
		if c == '\n' {
			out = append(out, i+1)
		}
	}
	return out
}

type yamlReader struct {
	src    []byte
	starts []int
	nodes  int
}

// maxNodes bounds what aliases can grow to.
const maxNodes = 200_000

// offset is where a line and a column are. Columns count characters.
func (r *yamlReader) offset(line, column int) int {
	if line < 1 || line > len(r.starts) {
		return len(r.src)
	}
	at := r.starts[line-1]
	if line == 1 {
		at += len(r.src) - len(bytes.TrimPrefix(r.src, bom))
	}
	rest := []rune(string(r.src[at:nextLine(r.src, at)]))
	return at + len(string(rest[:min(column-1, len(rest))]))
}

func (r *yamlReader) node(y *yaml.Node, depth int) (*Node, error) {
	r.nodes++
	if depth > maxDepth || r.nodes > maxNodes {
		return nil, &SyntaxError{y.Line, y.Column, "the file is nested too deeply, or grows too large by its aliases"}
	}
	if y.Kind == yaml.AliasNode {
		n, err := r.node(y.Alias, depth+1)
		if n != nil {
			n.alias, n.Line = true, y.Line
		}
		return n, err
	}
	n := &Node{Line: y.Line, column: y.Column, start: r.offset(y.Line, y.Column), flow: y.Style&yaml.FlowStyle != 0}
	switch y.Kind {
	case yaml.MappingNode:
		n.Kind = Map
		return n, r.pairs(n, y, depth)
	case yaml.SequenceNode:
		n.Kind = List
		for _, c := range y.Content {
			item, err := r.node(c, depth+1)
			if err != nil {
				return nil, err
			}
			n.Items = append(n.Items, item)
		}
		return n, nil
	}
	var v any
	if err := y.Decode(&v); err != nil {
		return nil, &SyntaxError{y.Line, y.Column, "this value cannot be read: " + err.Error()}
	}
	switch x := v.(type) {
	case int:
		v = int64(x)
	case uint64:
		v = y.Value
	case nil, bool, float64, string, int64:
	default:
		v = y.Value // a date, say
	}
	n.Kind = Scalar
	if v == nil {
		n.Kind = Null
	}
	n.Value = v
	return n, nil
}

// pairs reads the members of a map; those of a merge key come after its own.
func (r *yamlReader) pairs(n *Node, y *yaml.Node, depth int) error {
	var merged []Pair
	for i := 0; i+1 < len(y.Content); i += 2 {
		key, value := y.Content[i], y.Content[i+1]
		if key.Kind != yaml.ScalarNode {
			return &SyntaxError{key.Line, key.Column, "a key that is no text is not expected here"}
		}
		inner, err := r.node(value, depth+1)
		if err != nil {
			return err
		}
		if key.Tag == "!!merge" || key.Value == "<<" && key.Style == 0 {
			sources := []*Node{inner}
			if inner.Kind == List {
				sources = inner.Items
			}
			for _, s := range sources {
				for _, p := range s.Pairs {
					p.merged = true
					merged = append(merged, p)
				}
			}
			continue
		}
		if n.Get(key.Value) != nil {
			return &SyntaxError{key.Line, key.Column, fmt.Sprintf("%q is there a second time", key.Value)}
		}
		n.Pairs = append(n.Pairs, Pair{Key: key.Value, Value: inner, start: r.offset(key.Line, key.Column), column: key.Column})
	}
	for _, p := range merged {
		if n.Get(p.Key) == nil {
			n.Pairs = append(n.Pairs, p)
		}
	}
	return nil
}

// blockEnd is where the block that begins at a byte ends, whose lines are indented by
// more than width: the start of the next line that does not belong to it. Items of a
// list that stands at the width itself belong to a key there. Blank lines and comments
// behind it do not.
func blockEnd(src []byte, at, width int, items bool) int {
	end := nextLine(src, at)
	for next := end; next < len(src); {
		line := src[next:nextLine(src, next)]
		text := bytes.TrimLeft(line, " ")
		if blank := bytes.TrimSpace(text); len(blank) == 0 {
			next += len(line)
			continue
		}
		indent := len(line) - len(text)
		isItem := items && indent == width && (bytes.HasPrefix(text, []byte("- ")) || bytes.Equal(bytes.TrimSpace(text), []byte("-")))
		if indent <= width && !isItem {
			break
		}
		next += len(line)
		end = next
	}
	return end
}

// lineStart is where the line of a byte begins, behind the byte order mark.
func (f *File) lineStart(at int) int {
	if from := lineStart(f.src, at); from > 0 {
		return from
	}
	return len(f.src) - len(bytes.TrimPrefix(f.src, bom))
}

// region is where an entry that is written in lines of its own begins and ends.
func (f *File) region(e Entry, old *Node) (from, to int, err error) {
	holder := f.Root.At(e.Path...)
	if e.inList() {
		from = f.lineStart(old.start)
		dash := len(indentOf(f.src, from))
		return from, blockEnd(f.src, old.start, dash, false), nil
	}
	for _, p := range holder.Pairs {
		if p.Value != old {
			continue
		}
		if len(bytes.TrimSpace(f.src[f.lineStart(p.start):p.start])) > 0 {
			return 0, 0, &WrittenError{fmt.Sprintf("%q shares its line with something else (line %d)", p.Key, old.Line)}
		}
		return f.lineStart(p.start), blockEnd(f.src, p.start, p.column-1, old.Kind == List), nil
	}
	return 0, 0, &WrittenError{fmt.Sprintf("%q stands for a text that is written elsewhere in it", e.Name)}
}

func (f *File) putYAML(e Entry, value Object) ([]byte, error) {
	nl, unit := lineEnd(f.src), f.unitYAML()
	holder, missing, within := f.Root, e.Path, true
	for len(missing) > 0 && holder.Get(missing[0]) != nil && holder.Get(missing[0]).Kind != Null {
		within = holder.flow // what lies between brackets has no lines of its own
		holder, missing = holder.Get(missing[0]), missing[1:]
	}
	if holder.flow && (within || len(holder.Pairs)+len(holder.Items) > 0) {
		return f.putFlow(e, holder, missing, value)
	}
	if old := f.Find(e); old != nil {
		from, to, err := f.region(e, old)
		if err != nil {
			return nil, err
		}
		var lines []string
		indent := indentOf(f.src, from)
		if e.inList() {
			lines = yamlItem(value, indent, unit)
		} else {
			lines = yamlField(Field{e.Name, value}, indent, unit)
		}
		return replace(f.src, from, to, f.lines(lines, nl, to)), nil
	}
	var lines []string
	switch indent := f.childIndent(holder, unit); {
	case len(missing) == 0 && e.inList():
		lines = yamlItem(value, indent, unit)
	case len(missing) == 0:
		lines = yamlField(Field{e.Name, value}, indent, unit)
	default:
		field := wrap(Entry{Path: missing, Name: e.Name, NameKey: e.NameKey}, value)[0]
		if null := holder.Get(field.Name); null != nil {
			return f.fillNull(holder, field, indent, unit, nl)
		}
		lines = yamlField(field, indent, unit)
	}
	return f.appendYAML(holder, lines, nl)
}

// explicitNull is a null that is written out behind a key.
var explicitNull = regexp.MustCompile(`:(\s+(?:null|Null|NULL|~))\s*(?:#.*)?$`)

// fillNull writes a member whose key stands there with nothing behind it.
func (f *File) fillNull(holder *Node, field Field, indent, unit, nl string) ([]byte, error) {
	for _, p := range holder.Pairs {
		if p.Key != field.Name {
			continue
		}
		to := nextLine(f.src, p.start)
		line := strings.TrimRight(string(f.src[p.start:to]), "\r\n")
		if at := explicitNull.FindStringSubmatchIndex(line); at != nil {
			line = line[:at[2]] + line[at[3]:]
		}
		// What is remarked behind the key stays there.
		lines := append([]string{line}, yamlField(field, indent, unit)[1:]...)
		return replace(f.src, p.start, to, f.lines(lines, nl, to)), nil
	}
	return nil, &WrittenError{fmt.Sprintf("%q comes from a merge key", field.Name)}
}

// appendYAML adds lines behind the last entry of a map or a list.
func (f *File) appendYAML(holder *Node, lines []string, nl string) ([]byte, error) {
	if holder.Kind == Null || (holder == f.Root && len(holder.Pairs) == 0) {
		return append(f.ended(f.src, nl), f.lines(lines, nl, 0)...), nil
	}
	if holder.flow { // {} or []
		at := holder.start
		end := at + bytes.IndexAny(f.src[at:], "}]") + 1
		next := nextLine(f.src, end)
		remark := strings.TrimRight(string(f.src[end:next]), "\r\n")
		return replace(f.src, f.beforeBlank(at), next, f.lines(append([]string{remark}, lines...), nl, next)), nil
	}
	last := 0
	if n := len(holder.Pairs); n > 0 {
		for _, p := range holder.Pairs {
			if !p.merged {
				last = max(last, blockEnd(f.src, p.start, p.column-1, p.Value.Kind == List))
			}
		}
	} else {
		item := holder.Items[len(holder.Items)-1]
		last = blockEnd(f.src, item.start, len(indentOf(f.src, item.start)), false)
	}
	head := f.ended(f.src[:last], nl)
	return append(append(head, f.lines(lines, nl, 0)...), f.src[last:]...), nil
}

// beforeBlank is where the blanks before a byte begin.
func (f *File) beforeBlank(at int) int {
	for at > 0 && f.src[at-1] == ' ' {
		at--
	}
	return at
}

// ended is a text whose last line ends.
func (f *File) ended(src []byte, nl string) []byte {
	out := bytes.Clone(src)
	if len(bytes.TrimPrefix(out, bom)) > 0 && !bytes.HasSuffix(out, []byte("\n")) {
		out = append(out, nl...)
	}
	return out
}

// lines are lines as a text. What stood at the end of the file without a line end is
// written so again.
func (f *File) lines(list []string, nl string, to int) string {
	text := strings.Join(list, nl)
	if to == len(f.src) && len(f.src) > 0 && !bytes.HasSuffix(f.src, []byte("\n")) {
		return text
	}
	return text + nl
}

// childIndent is how the entries of a map or a list are indented.
func (f *File) childIndent(holder *Node, unit string) string {
	for _, p := range holder.Pairs {
		if !p.merged {
			return strings.Repeat(" ", p.column-1)
		}
	}
	if len(holder.Items) > 0 {
		return indentOf(f.src, holder.Items[0].start)
	}
	if holder == f.Root || holder.Kind == Null {
		return ""
	}
	return indentOf(f.src, holder.start) + unit
}

// unitYAML is the step of indentation that the file uses.
func (f *File) unitYAML() string {
	unit := 0
	var walk func(n *Node)
	walk = func(n *Node) {
		for _, p := range n.Pairs {
			if p.Value.Kind == Map && !p.Value.flow && !p.Value.alias && len(p.Value.Pairs) > 0 && unit == 0 {
				if step := p.Value.Pairs[0].column - p.column; step > 0 {
					unit = step
				}
			}
			walk(p.Value)
		}
		for _, item := range n.Items {
			walk(item)
		}
	}
	walk(f.Root)
	if unit == 0 {
		unit = 2
	}
	return strings.Repeat(" ", unit)
}

func (f *File) removeYAML(e Entry) ([]byte, error) {
	holder := f.Root.At(e.Path...)
	old := f.Find(e)
	if holder.flow {
		return f.removeFlow(e, holder, old)
	}
	from, to, err := f.region(e, old)
	if err != nil {
		return nil, err
	}
	return replace(f.src, from, to, ""), nil
}

// yamlField writes a member of a map in lines.
func yamlField(field Field, indent, unit string) []string {
	key := indent + yamlText(field.Name) + ":"
	switch v := field.Value.(type) {
	case Object:
		if len(v) == 0 {
			return []string{key + " {}"}
		}
		lines := []string{key}
		for _, inner := range v {
			lines = append(lines, yamlField(inner, indent+unit, unit)...)
		}
		return lines
	case []Object:
		lines := []string{key}
		for _, item := range v {
			lines = append(lines, yamlItem(item, indent+unit, unit)...)
		}
		return lines
	case []string:
		if len(v) == 0 {
			return []string{key + " []"}
		}
		lines := []string{key}
		for _, item := range v {
			lines = append(lines, indent+unit+"- "+yamlText(item))
		}
		return lines
	case string:
		return []string{key + " " + yamlText(v)}
	}
	return []string{fmt.Sprintf("%s %v", key, field.Value)}
}

// yamlItem writes an item of a list in lines.
func yamlItem(o Object, indent, unit string) []string {
	var lines []string
	for _, field := range o {
		lines = append(lines, yamlField(field, indent+"  ", unit)...)
	}
	if len(lines) == 0 {
		return []string{indent + "- {}"}
	}
	lines[0] = indent + "- " + strings.TrimPrefix(lines[0], indent+"  ")
	return lines
}

var plainYAML = regexp.MustCompile(`^[A-Za-z_/.][A-Za-z0-9_/.@~-]*$`)

// yamlText writes a text plainly where nothing can be read into it, else in double
// quotes, which YAML reads as JSON does.
func yamlText(s string) string {
	if plainYAML.MatchString(s) {
		var v any
		if err := yaml.Unmarshal([]byte(s), &v); err == nil && v == s {
			return s
		}
	}
	return string(compactJSON(s))
}

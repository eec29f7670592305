package configfile

import (
	"bytes"
	"fmt"
)

// What is written between brackets in a YAML file is a superset of JSON, with texts that
// need no quotes.

// flowEnd is where the bracket that opens at a byte closes, and where its members begin
// and end. ok is false for what cannot be followed.
func flowEnd(src []byte, open int) (end int, spans [][2]int, ok bool) {
	depth, from := 0, -1
	for i := open; i < len(src); i++ {
		switch c := src[i]; {
		case c == '"' || c == '\'':
			if from < 0 {
				from = i
			}
			if i = quoteEnd(src, i); i < 0 {
				return 0, nil, false
			}
		case c == '#' && i > 0 && (src[i-1] == ' ' || src[i-1] == '\n'):
			i = nextLine(src, i) - 1
		case c == '{' || c == '[':
			if depth == 1 && from < 0 {
				from = i
			}
			depth++
		case c == '}' || c == ']':
			depth--
			if depth == 0 {
				if from >= 0 {
					spans = append(spans, [2]int{from, trimmedEnd(src, from, i)})
				}
				return i, spans, true
			}
		case c == ',' && depth == 1:
			if from >= 0 {
				spans = append(spans, [2]int{from, trimmedEnd(src, from, i)})
			}
			from = -1
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
		default:
			if depth == 1 && from < 0 {
				from = i
			}
		}
	}
	return 0, nil, false
}

func trimmedEnd(src []byte, from, to int) int {
	return from + len(bytes.TrimRight(src[from:to], " \t\r\n"))
}

// quoteEnd is where a quoted text ends; -1 for nowhere. A quote that is doubled within quotes ends one text and begins
// another that lies right behind it, which comes to the same here.
func quoteEnd(src []byte, at int) int {
	quote := src[at]
	for i := at + 1; i < len(src); i++ {
		switch {
		case src[i] == '\\' && quote == '"':
			i++
		case src[i] == quote:
			return i
		}
	}
	return -1
}

func (f *File) putFlow(e Entry, holder *Node, missing []string, value Object) ([]byte, error) {
	end, spans, ok := flowEnd(f.src, holder.start)
	if !ok {
		return nil, &WrittenError{fmt.Sprintf("where the bracket in line %d closes cannot be told", holder.Line)}
	}
	if len(missing) == 0 {
		if old := f.Find(e); old != nil {
			at := f.flowPlace(e, holder, old)
			if at < 0 || at >= len(spans) {
				return nil, &WrittenError{fmt.Sprintf("%q cannot be told from what is around it (line %d)", e.Name, old.Line)}
			}
			return replace(f.src, spans[at][0], spans[at][1], flowMember(e, value)), nil
		}
	}
	member := flowMember(e, value)
	if len(missing) > 0 {
		field := wrap(Entry{Path: missing, Name: e.Name, NameKey: e.NameKey}, value)[0]
		member = string(compactJSON(field.Name)) + ": " + string(compactJSON(field.Value))
	}
	if len(spans) == 0 {
		return replace(f.src, holder.start+1, holder.start+1, member), nil
	}
	last := spans[len(spans)-1][1]
	if bytes.Contains(f.src[last:end], []byte(",")) {
		return replace(f.src, end, end, member), nil
	}
	return replace(f.src, last, last, ", "+member), nil
}

// flowMember writes an entry between brackets.
func flowMember(e Entry, value Object) string {
	if e.inList() {
		return string(compactJSON(value))
	}
	return string(compactJSON(e.Name)) + ": " + string(compactJSON(value))
}

// flowPlace is the place of an entry among the members between brackets.
func (f *File) flowPlace(e Entry, holder, old *Node) int {
	if e.inList() {
		return f.item(e)
	}
	for i, p := range holder.Pairs {
		if p.Value == old && !p.merged {
			return i
		}
	}
	return -1
}

func (f *File) removeFlow(e Entry, holder, old *Node) ([]byte, error) {
	end, spans, ok := flowEnd(f.src, holder.start)
	at := f.flowPlace(e, holder, old)
	if !ok || at < 0 || at >= len(spans) {
		return nil, &WrittenError{fmt.Sprintf("%q cannot be told from what is around it (line %d)", e.Name, old.Line)}
	}
	switch {
	case at+1 < len(spans):
		return replace(f.src, spans[at][0], spans[at+1][0], ""), nil
	case at > 0:
		return replace(f.src, spans[at-1][1], spans[at][1], ""), nil
	}
	to := spans[at][1]
	if comma := bytes.IndexByte(f.src[to:end], ','); comma >= 0 {
		to += comma + 1
	}
	return replace(f.src, spans[at][0], to, ""), nil
}

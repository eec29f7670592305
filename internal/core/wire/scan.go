package wire

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
)

// MaxDepth bounds the nesting of objects and arrays in a frame.
const MaxDepth = 200

// Span is the half-open byte range [Start, End) of a value inside a frame.
// The zero Span means "not there".
type Span struct{ Start, End int }

// Of returns the bytes of the span in b.
func (s Span) Of(b []byte) []byte { return b[s.Start:s.End] }

// Empty reports whether the value is absent.
func (s Span) Empty() bool { return s.End <= s.Start }

// SyntaxError says where a text stops being JSON (RFC 8259).
type SyntaxError struct {
	Offset int
	What   string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("not JSON at byte %d: %s", e.Offset, e.What)
}

var errStop = errors.New("stop")

func syntax(at int, what string) error { return &SyntaxError{Offset: at, What: what} }

func skipSpace(b []byte, i int) int {
	for i < len(b) {
		switch b[i] {
		case ' ', '\n', '\r', '\t':
			i++
		default:
			return i
		}
	}
	return i
}

// skipString expects b[i] to be the opening quote and returns the index after
// the closing one. Strings are found by their ends, not looked into: that is
// what makes a long text argument nearly free to carry.
func skipString(b []byte, i int) (int, error) {
	start := i
	i++
	for {
		j := bytes.IndexByte(b[i:], '"')
		if j < 0 {
			return 0, syntax(start, "a string without an end")
		}
		end := i + j
		k := end - 1
		for k > start && b[k] == '\\' {
			k--
		}
		if (end-1-k)%2 == 0 {
			return end + 1, nil
		}
		i = end + 1
	}
}

func skipLiteral(b []byte, i int, word string) (int, error) {
	if len(b)-i < len(word) || string(b[i:i+len(word)]) != word {
		return 0, syntax(i, "an unknown word")
	}
	return i + len(word), nil
}

func skipNumber(b []byte, i int) (int, error) {
	start := i
	digits := func() bool {
		from := i
		for i < len(b) && b[i] >= '0' && b[i] <= '9' {
			i++
		}
		return i > from
	}
	if i < len(b) && b[i] == '-' {
		i++
	}
	first := i
	if !digits() {
		return 0, syntax(start, "a malformed number")
	}
	if b[first] == '0' && i-first > 1 {
		return 0, syntax(start, "a number with a leading zero")
	}
	if i < len(b) && b[i] == '.' {
		i++
		if !digits() {
			return 0, syntax(start, "a malformed number")
		}
	}
	if i < len(b) && (b[i] == 'e' || b[i] == 'E') {
		i++
		if i < len(b) && (b[i] == '+' || b[i] == '-') {
			i++
		}
		if !digits() {
			return 0, syntax(start, "a malformed number")
		}
	}
	return i, nil
}

// skipValue returns the index after the value that starts at b[i].
func skipValue(b []byte, i, depth int) (int, error) {
	if i >= len(b) {
		return 0, syntax(i, "the text ends where a value should be")
	}
	switch c := b[i]; {
	case c == '"':
		return skipString(b, i)
	case c == '{':
		return eachMember(b, i, depth, nil)
	case c == '[':
		return eachElement(b, i, depth, nil)
	case c == 't':
		return skipLiteral(b, i, "true")
	case c == 'f':
		return skipLiteral(b, i, "false")
	case c == 'n':
		return skipLiteral(b, i, "null")
	case c == '-' || (c >= '0' && c <= '9'):
		return skipNumber(b, i)
	}
	return 0, syntax(i, "no value starts like this")
}

// eachMember walks the object at b[i] and returns the index after it. visit
// gets each key span (with its quotes) and the place where the value starts,
// and returns the index after the value; nil skips every value.
func eachMember(b []byte, i, depth int, visit func(key Span, at int) (int, error)) (int, error) {
	if depth >= MaxDepth {
		return 0, syntax(i, "nested too deeply")
	}
	i = skipSpace(b, i+1)
	if i < len(b) && b[i] == '}' {
		return i + 1, nil
	}
	for {
		if i >= len(b) || b[i] != '"' {
			return 0, syntax(i, "a member name was expected")
		}
		end, err := skipString(b, i)
		if err != nil {
			return 0, err
		}
		key := Span{i, end}
		i = skipSpace(b, end)
		if i >= len(b) || b[i] != ':' {
			return 0, syntax(i, "a colon was expected")
		}
		i = skipSpace(b, i+1)
		if visit == nil {
			i, err = skipValue(b, i, depth+1)
		} else {
			i, err = visit(key, i)
		}
		if err != nil {
			return 0, err
		}
		i = skipSpace(b, i)
		if i >= len(b) {
			return 0, syntax(i, "an object without an end")
		}
		switch b[i] {
		case ',':
			i = skipSpace(b, i+1)
		case '}':
			return i + 1, nil
		default:
			return 0, syntax(i, "a comma or } was expected")
		}
	}
}

func eachElement(b []byte, i, depth int, visit func(at int) (int, error)) (int, error) {
	if depth >= MaxDepth {
		return 0, syntax(i, "nested too deeply")
	}
	i = skipSpace(b, i+1)
	if i < len(b) && b[i] == ']' {
		return i + 1, nil
	}
	for {
		var err error
		if visit == nil {
			i, err = skipValue(b, i, depth+1)
		} else {
			i, err = visit(i)
		}
		if err != nil {
			return 0, err
		}
		i = skipSpace(b, i)
		if i >= len(b) {
			return 0, syntax(i, "an array without an end")
		}
		switch b[i] {
		case ',':
			i = skipSpace(b, i+1)
		case ']':
			return i + 1, nil
		default:
			return 0, syntax(i, "a comma or ] was expected")
		}
	}
}

// usual are the texts that nearly every message has: they need not be made anew for each.
var usual = func() map[string]string {
	out := map[string]string{}
	for _, text := range []string{
		"jsonrpc", "2.0", "id", "method", "params", "result", "error", "name", "arguments", "_meta", "progressToken", "uri", "task",
		"content", "structuredContent", "isError", "resultType", "tools/call", "tools/list", "resources/read", "prompts/get", "ping",
	} {
		out[text] = text
	}
	return out
}()

// keyText returns the member name under a key span. Escapes are resolved, so
// that "na\u006de" cannot pass as something other than "name".
func keyText(b []byte, key Span) string {
	raw := b[key.Start+1 : key.End-1]
	if s, ok := usual[string(raw)]; ok {
		return s
	}
	if bytes.IndexByte(raw, '\\') < 0 {
		return string(raw)
	}
	var s string
	if json.Unmarshal(key.Of(b), &s) != nil {
		return string(raw)
	}
	return s
}

// keyIs reports whether a key span holds the given name, escapes resolved.
func keyIs(b []byte, key Span, name string) bool {
	raw := b[key.Start+1 : key.End-1]
	return string(raw) == name || (bytes.IndexByte(raw, '\\') >= 0 && keyText(b, key) == name)
}

// StringAt decodes the JSON string under s; ok is false for any other value.
func StringAt(b []byte, s Span) (text string, ok bool) {
	raw := s.Of(b)
	if len(raw) < 2 || raw[0] != '"' {
		return "", false
	}
	inner := raw[1 : len(raw)-1]
	if text, ok := usual[string(inner)]; ok {
		return text, true
	}
	if bytes.IndexByte(inner, '\\') < 0 {
		return string(inner), true
	}
	if json.Unmarshal(raw, &text) != nil {
		return "", false
	}
	return text, true
}

// Members calls fn for each member of the object under s, in order. It returns
// fn's error, or a *SyntaxError where the text is not an object.
func Members(b []byte, s Span, fn func(name string, value Span) error) error {
	if s.Empty() || b[s.Start] != '{' {
		return syntax(s.Start, "an object was expected")
	}
	_, err := eachMember(b, s.Start, 0, func(key Span, at int) (int, error) {
		end, err := skipValue(b, at, 1)
		if err != nil {
			return 0, err
		}
		return end, fn(keyText(b, key), Span{at, end})
	})
	return err
}

// Elements calls fn for each element of the array under s, in order.
func Elements(b []byte, s Span, fn func(value Span) error) error {
	if s.Empty() || b[s.Start] != '[' {
		return syntax(s.Start, "an array was expected")
	}
	_, err := eachElement(b, s.Start, 0, func(at int) (int, error) {
		end, err := skipValue(b, at, 1)
		if err != nil {
			return 0, err
		}
		return end, fn(Span{at, end})
	})
	return err
}

// Member returns the span of the named member of the object under s, or an
// empty span.
func Member(b []byte, s Span, name string) Span {
	var found Span
	err := Members(b, s, func(n string, v Span) error {
		if n == name {
			found = v
			return errStop
		}
		return nil
	})
	if err != nil && !errors.Is(err, errStop) {
		return Span{}
	}
	return found
}

// Whole returns the span of the single JSON value that b consists of.
func Whole(b []byte) (Span, error) {
	i := skipSpace(b, 0)
	end, err := skipValue(b, i, 0)
	if err != nil {
		return Span{}, err
	}
	if rest := skipSpace(b, end); rest != len(b) {
		return Span{}, syntax(rest, "something follows the value")
	}
	return Span{i, end}, nil
}

// Edit is one replacement in a splice.
type Edit struct {
	Span Span
	With []byte
}

// Splice appends src[from.Start:from.End] to dst with the edits applied. The
// edits must lie inside from, in order, and must not overlap.
func Splice(dst, src []byte, from Span, edits ...Edit) []byte {
	at := from.Start
	for _, e := range edits {
		dst = append(dst, src[at:e.Span.Start]...)
		dst = append(dst, e.With...)
		at = e.Span.End
	}
	return append(dst, src[at:from.End]...)
}

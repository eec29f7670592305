package configfile

import (
	"bytes"
	"encoding/json"
)

const maxDepth = 100

// member is one member of an object, as byte offsets.
type member struct {
	name       string
	key        int // where the opening quote of the name is
	start, end int // the value
}

// object is one object of the file, as byte offsets.
type object struct {
	open, close int // the braces
	members     []member
	comma       bool // a comma follows the last member
}

// reader reads JSON with comments and trailing commas (a superset of RFC 8259)
// without building values.
type reader struct{ src []byte }

func (r reader) fail(at int, what string, args ...any) error { return place(r.src, at, what, args...) }

// blank skips white space and comments.
func (r reader) blank(i int) (int, error) {
	for i < len(r.src) {
		switch c := r.src[i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
		case bytes.HasPrefix(r.src[i:], []byte("\xef\xbb\xbf")) && i == 0:
			i += 3
		case bytes.HasPrefix(r.src[i:], []byte("//")):
			n := bytes.IndexByte(r.src[i:], '\n')
			if n < 0 {
				return len(r.src), nil
			}
			i += n + 1
		case bytes.HasPrefix(r.src[i:], []byte("/*")):
			n := bytes.Index(r.src[i+2:], []byte("*/"))
			if n < 0 {
				return 0, r.fail(i, "this comment has no end")
			}
			i += n + 4
		default:
			return i, nil
		}
	}
	return i, nil
}

func (r reader) text(i int) (string, int, error) {
	for j := i + 1; j < len(r.src); j++ {
		switch r.src[j] {
		case '\\':
			j++
		case '\n':
			return "", 0, r.fail(i, "this text has no closing quote on its line")
		case '"':
			var s string
			if err := json.Unmarshal(r.src[i:j+1], &s); err != nil {
				return "", 0, r.fail(i, "this text is malformed (a bad escape or control character)")
			}
			return s, j + 1, nil
		}
	}
	return "", 0, r.fail(i, "this text has no closing quote")
}

// value returns the index after the value at i.
func (r reader) value(i, depth int) (int, error) {
	if depth > maxDepth {
		return 0, r.fail(i, "the file is nested too deeply")
	}
	if i >= len(r.src) {
		return 0, r.fail(i, "the file ends where a value should be")
	}
	switch c := r.src[i]; c {
	case '"':
		_, end, err := r.text(i)
		return end, err
	case '{':
		o, err := r.object(i, depth)
		return o.close + 1, err
	case '[':
		return r.array(i, depth)
	}
	j := i
	for j < len(r.src) && bytes.IndexByte([]byte(" \t\r\n,]}:/\"{["), r.src[j]) < 0 {
		j++
	}
	if j == i {
		return 0, r.fail(i, "a value was expected before %q", r.src[i])
	}
	if !json.Valid(r.src[i:j]) {
		return 0, r.fail(i, "%.40q is no JSON value; is it missing its quotes?", r.src[i:j])
	}
	return j, nil
}

func (r reader) array(i, depth int) (int, error) {
	at, err := r.blank(i + 1)
	for err == nil {
		if at >= len(r.src) {
			return 0, r.fail(i, "this [ has no closing ]")
		}
		if r.src[at] == ']' {
			return at + 1, nil
		}
		if at, err = r.value(at, depth+1); err != nil {
			break
		}
		if at, err = r.blank(at); err != nil {
			break
		}
		if at < len(r.src) && r.src[at] == ',' {
			at, err = r.blank(at + 1)
		} else if at < len(r.src) && r.src[at] != ']' {
			return 0, r.fail(at, "a comma or ] was expected before %q", r.src[at])
		}
	}
	return 0, err
}

// object reads the object whose brace is at i.
func (r reader) object(i, depth int) (object, error) {
	o := object{open: i}
	at, err := r.blank(i + 1)
	for err == nil {
		if at >= len(r.src) {
			return o, r.fail(i, "this { has no closing }")
		}
		if r.src[at] == '}' {
			o.close = at
			return o, nil
		}
		if len(o.members) > 0 && !o.comma {
			return o, r.fail(at, "a comma or } was expected before %q", r.src[at])
		}
		if r.src[at] != '"' {
			return o, r.fail(at, "a name in double quotes was expected before %q", r.src[at])
		}
		m := member{key: at}
		if m.name, at, err = r.text(at); err != nil {
			break
		}
		if at, err = r.blank(at); err != nil {
			break
		}
		if at >= len(r.src) || r.src[at] != ':' {
			return o, r.fail(at, "a colon was expected after %q", m.name)
		}
		if m.start, err = r.blank(at + 1); err != nil {
			break
		}
		if m.end, err = r.value(m.start, depth+1); err != nil {
			break
		}
		o.members = append(o.members, m)
		if at, err = r.blank(m.end); err != nil {
			break
		}
		o.comma = at < len(r.src) && r.src[at] == ','
		if o.comma {
			at, err = r.blank(at + 1)
		}
	}
	return o, err
}

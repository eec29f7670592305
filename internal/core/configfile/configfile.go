// Package configfile changes configuration files in place: JSON with comments, YAML and
// TOML. A file is read into a tree of nodes, a single entry of a map or a list is set or
// removed, and every byte that does not belong to it stays as it was: comments, order,
// indentation, anchors, line ends, the byte order mark. What comes out is read again and
// held against what went in, with the one alteration; a file that is written in a way in
// which that cannot be done is left alone, and said so.
package configfile

import (
	"bytes"
	"fmt"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

// Syntax is how a file is written.
type Syntax string

// The syntaxes.
const (
	JSON Syntax = "json" // with comments and trailing commas (a superset of RFC 8259)
	YAML Syntax = "yaml" // 1.2
	TOML Syntax = "toml" // 1.0
)

// Syntaxes are all of them.
var Syntaxes = []Syntax{JSON, YAML, TOML}

// MaxFile is the largest file that is read, in bytes.
const MaxFile = 4 << 20

// Kind is what a node is.
type Kind int

// The kinds.
const (
	Null Kind = iota
	Scalar
	Map
	List
)

// Node is a value of a file.
type Node struct {
	Kind  Kind
	Value any     // of a scalar: string, bool, int64, float64, or the text of anything else
	Pairs []Pair  // of a map, in the order of the file
	Items []*Node // of a list
	Line  int     // where it begins, counting from 1

	start, end int // JSON: the bytes of it; YAML: where it begins
	flow       bool
	column     int  // YAML: where it begins in its line, counting from 1
	alias      bool // YAML: it is written somewhere else
}

// Pair is a member of a map.
type Pair struct {
	Key   string
	Value *Node

	start  int // where the key begins
	column int // YAML: of the key
	merged bool
}

// Get returns the member of a map; nil when there is none, or n is no map.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	for _, p := range n.Pairs {
		if p.Key == key {
			return p.Value
		}
	}
	return nil
}

// At returns what is at a path; nil for nothing.
func (n *Node) At(path ...string) *Node {
	for _, key := range path {
		n = n.Get(key)
	}
	return n
}

// Text returns a scalar as text; ok is false for what is no text.
func (n *Node) Text() (text string, ok bool) {
	if n == nil {
		return "", false
	}
	text, ok = n.Value.(string)
	return text, ok
}

// Object is a map to be written, in its order.
type Object []Field

// Field is a member of an Object. Value is a string, a bool, an int, a []string, a
// []Object or an Object.
type Field struct {
	Name  string
	Value any
}

// File is a configuration file that was read.
type File struct {
	Syntax Syntax
	Root   *Node // a map; Null for an empty file
	src    []byte
}

// SyntaxError says where a configuration file cannot be read. Line and Column count
// from 1; columns count characters, and are 0 where only the line is known.
type SyntaxError struct {
	Line, Column int
	What         string
}

func (e *SyntaxError) Error() string {
	if e.Column == 0 {
		return fmt.Sprintf("line %d: %s", e.Line, e.What)
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.What)
}

// WrittenError says that a file is written in a way in which an entry cannot be set or
// removed without touching something else.
type WrittenError struct{ Why string }

func (e *WrittenError) Error() string {
	return "the file is written in a way that cannot be changed safely: " + e.Why
}

// Parse reads a file. Errors are *SyntaxError.
func Parse(src []byte, syntax Syntax) (*File, error) {
	if !utf8.Valid(src) {
		at := 0
		for at < len(src) {
			r, n := utf8.DecodeRune(src[at:])
			if r == utf8.RuneError && n == 1 {
				break
			}
			at += n
		}
		return nil, place(src, at, "the file is not UTF-8 here")
	}
	f := &File{Syntax: syntax, src: src}
	var err error
	switch syntax {
	case JSON:
		f.Root, err = parseJSON(src)
	case YAML:
		f.Root, err = parseYAML(src)
	case TOML:
		f.Root, err = parseTOML(src)
	default:
		return nil, &SyntaxError{1, 0, fmt.Sprintf("%q is none of json, yaml and toml", syntax)}
	}
	if err != nil {
		return nil, err
	}
	return f, nil
}

// Guess tells the syntax of a file from its name, and from what is in it where the name
// says nothing.
func Guess(name string, src []byte) Syntax {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".json", ".jsonc", ".json5", ".code-workspace":
		return JSON
	case ".yaml", ".yml":
		return YAML
	case ".toml":
		return TOML
	}
	text := bytes.TrimSpace(bytes.TrimPrefix(src, bom))
	if len(text) == 0 || text[0] == '{' || bytes.HasPrefix(text, []byte("//")) || bytes.HasPrefix(text, []byte("/*")) {
		return JSON
	}
	for _, syntax := range []Syntax{TOML, YAML} {
		if f, err := Parse(src, syntax); err == nil && f.Root.Kind == Map {
			return syntax
		}
	}
	return JSON
}

var bom = []byte("\xef\xbb\xbf")

// place makes an error about a byte of a text.
func place(src []byte, at int, what string, args ...any) error {
	at = min(at, len(src))
	line := 1 + bytes.Count(src[:at], []byte("\n"))
	from := bytes.LastIndexByte(src[:at], '\n') + 1
	return &SyntaxError{line, 1 + utf8.RuneCount(src[from:at]), fmt.Sprintf(what, args...)}
}

// lineEnd is how the lines of a text end.
func lineEnd(src []byte) string {
	if bytes.Contains(src, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// replace puts a text in the place of some bytes.
func replace(src []byte, from, to int, with string) []byte {
	out := make([]byte, 0, len(src)+len(with))
	out = append(out, src[:from]...)
	out = append(out, with...)
	return append(out, src[to:]...)
}

// lineStart is where the line of a byte begins, and nextLine where the one after it
// does.
func lineStart(src []byte, at int) int { return bytes.LastIndexByte(src[:at], '\n') + 1 }

func nextLine(src []byte, at int) int {
	if n := bytes.IndexByte(src[at:], '\n'); n >= 0 {
		return at + n + 1
	}
	return len(src)
}

// indentOf is the white space that begins the line of a byte.
func indentOf(src []byte, at int) string {
	from := lineStart(src, at)
	to := from
	for to < len(src) && (src[to] == ' ' || src[to] == '\t') {
		to++
	}
	return string(src[from:to])
}

// ownLine reports whether nothing but white space stands before a byte on its line, and
// it is not the first of the file.
func ownLine(src []byte, at int) bool {
	from := lineStart(src, at)
	return from > 0 && len(bytes.TrimLeft(src[from:at], " \t")) == 0
}

// Bool returns a scalar as a truth; ok is false for what is none.
func (n *Node) Bool() (value, ok bool) {
	if n == nil {
		return false, false
	}
	value, ok = n.Value.(bool)
	return value, ok
}

// Words returns a scalar as it would be shown: a number or a truth as text.
func (n *Node) Words() string {
	if n == nil || n.Value == nil {
		return ""
	}
	return fmt.Sprint(n.Value)
}

// Object returns a map as it can be written again.
func (n *Node) Object() Object {
	out := Object{}
	for _, p := range n.Pairs {
		out = append(out, Field{p.Key, p.Value.written()})
	}
	return out
}

// written is a node as the value of a Field.
func (n *Node) written() any {
	switch n.Kind {
	case Map:
		return n.Object()
	case List:
		texts, maps := []string{}, []Object{}
		for _, item := range n.Items {
			if item.Kind == Map {
				maps = append(maps, item.Object())
			} else {
				texts = append(texts, item.Words())
			}
		}
		if len(maps) > 0 {
			return maps
		}
		return texts
	case Scalar:
		return n.Value
	}
	return ""
}

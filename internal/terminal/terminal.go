// Package terminal writes text that others made (servers, agents, people) so that it
// cannot steer the terminal it is shown on, or hide from whoever reads it: control
// characters and those that change the direction of writing are shown as escapes. In
// JSON the escapes mean the characters themselves, so that programs read what there
// was.
package terminal

import (
	"fmt"
	"io"
	"unicode/utf8"
)

// Writer neutralises what is written to another writer. It passes line ends and tabs
// on. NewWriter makes one; it is used by one goroutine at a time.
type Writer struct {
	to   io.Writer
	rest []byte // the beginning of a character whose end has not come yet
	out  []byte
}

// NewWriter returns a Writer to another one.
func NewWriter(to io.Writer) *Writer { return &Writer{to: to} }

// Write implements io.Writer.
func (w *Writer) Write(p []byte) (int, error) {
	in := p
	if len(w.rest) > 0 {
		in = append(w.rest, p...)
		w.rest = nil
	}
	w.out = w.out[:0]
	for len(in) > 0 {
		r, size := utf8.DecodeRune(in)
		if r == utf8.RuneError && size == 1 && !utf8.FullRune(in) {
			w.rest = append([]byte(nil), in...)
			break
		}
		w.out = appendShown(w.out, r, in[:size])
		in = in[size:]
	}
	if _, err := w.to.Write(w.out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// appendShown appends one character as it is to be shown.
func appendShown(dst []byte, r rune, raw []byte) []byte {
	switch {
	case r == utf8.RuneError && len(raw) == 1:
		return utf8.AppendRune(dst, utf8.RuneError) // a byte that is no character may be a control of eight bits
	case r == '\n' || r == '\t':
		return append(dst, raw...)
	case !Steers(r):
		return append(dst, raw...)
	}
	return fmt.Appendf(dst, `\u%04x`, r)
}

// Steers reports whether a character does something to a terminal or to the order of
// the text instead of being shown: the controls of ASCII and of Latin 1, the marks and
// embeddings of direction (Unicode, UAX #9), and the separators of lines.
func Steers(r rune) bool {
	switch {
	case r < ' ', r >= 0x7f && r <= 0x9f:
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return false
}

// Line is a text on one line, with everything that steers taken out.
func Line(s string) string {
	clean := true
	for _, r := range s {
		if Steers(r) || r == utf8.RuneError {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var out []byte
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch r {
		case '\n', '\t', '\r':
			out = append(out, ' ')
		default:
			out = appendShown(out, r, []byte(s[i:i+size]))
		}
		i += size
	}
	return string(out)
}

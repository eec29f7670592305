// Package uri brings the URIs of resources into one spelling, so that a decision
// about a resource holds for every spelling of it (RFC 3986, section 6.2.2).
package uri

import (
	"errors"
	"strings"
	"unicode/utf8"
)

// ErrClimbs is returned for a URI whose path leads upwards, in whatever spelling.
var ErrClimbs = errors.New(`its path has ".." in it, which leads out of where it begins`)

// ErrForm is returned for what cannot be a URI: control characters, or an escape
// that is none.
var ErrForm = errors.New("it has a control character or a broken escape in it")

// maxLayers is how many layers of escapes are looked through for a way upwards:
// some servers decode more than once.
const maxLayers = 4

// Normal returns the one spelling of a URI: scheme and host in lower case, escapes
// of plain characters undone and all others in upper case, "." segments and empty
// ones taken out of the path. What is no URI with a scheme (a name, say) stays as it
// is but for its escapes. Errors are ErrClimbs and ErrForm.
func Normal(raw string) (string, error) {
	if !utf8.ValidString(raw) {
		return "", ErrForm
	}
	text, err := escapes(raw)
	if err != nil {
		return "", err
	}
	scheme, rest := cutScheme(text)
	path, tail := rest, ""
	if at := strings.IndexAny(rest, "?#"); at >= 0 {
		path, tail = rest[:at], rest[at:]
	}
	if Climbs(path) {
		return "", ErrClimbs
	}
	if scheme == "" {
		return text, nil
	}
	authority := ""
	if strings.HasPrefix(path, "//") {
		host := path[2:]
		path = ""
		if at := strings.IndexByte(host, '/'); at >= 0 {
			host, path = host[:at], host[at:]
		}
		authority = "//" + lowerHost(host)
	}
	return scheme + authority + segments(path) + tail, nil
}

// cutScheme takes the scheme off, with its colon and in lower case.
func cutScheme(text string) (scheme, rest string) {
	for i := range len(text) {
		c := text[i] | 0x20
		switch {
		case text[i] == ':' && i > 0:
			return strings.ToLower(text[:i+1]), text[i+1:]
		case c >= 'a' && c <= 'z':
		case i > 0 && (text[i] >= '0' && text[i] <= '9' || strings.IndexByte("+-.", text[i]) >= 0):
		default:
			return "", text
		}
	}
	return "", text
}

// lowerHost lowers the host, and leaves a user before it as it is.
func lowerHost(authority string) string {
	at := strings.LastIndexByte(authority, '@') + 1
	return authority[:at] + lowerOutsideEscapes(authority[at:])
}

// lowerOutsideEscapes is strings.ToLower for ASCII, but for the digits of escapes.
func lowerOutsideEscapes(s string) string {
	out := []byte(s)
	for i := 0; i < len(out); i++ {
		if out[i] == '%' {
			i += 2
		} else if out[i] >= 'A' && out[i] <= 'Z' {
			out[i] |= 0x20
		}
	}
	return string(out)
}

// segments takes "." and empty segments out of a path. A slash at its end stays.
func segments(path string) string {
	parts := strings.Split(path, "/")
	out := make([]string, 0, len(parts))
	for i, part := range parts {
		if part == "." && i == len(parts)-1 {
			part = ""
		}
		if (part == "" && i > 0 && i < len(parts)-1) || part == "." {
			continue
		}
		out = append(out, part)
	}
	return strings.Join(out, "/")
}

// Climbs reports whether a path has a segment ".." in it, after one or several
// layers of escapes, and with either kind of slash.
func Climbs(path string) bool {
	for range maxLayers {
		for _, part := range strings.FieldsFunc(path, func(r rune) bool { return r == '/' || r == '\\' }) {
			// A parameter after a semicolon is taken off by some servers.
			if name, _, _ := strings.Cut(part, ";"); name == ".." {
				return true
			}
		}
		next := decode(path)
		if next == path {
			return false
		}
		path = next
	}
	return true // nobody needs that many layers
}

// escapes undoes the escapes of unreserved characters, and writes all others in
// upper case.
func escapes(raw string) (string, error) {
	var b strings.Builder
	b.Grow(len(raw))
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		if c != '%' {
			if c < ' ' || c == 0x7f {
				return "", ErrForm
			}
			b.WriteByte(c)
			continue
		}
		v, ok := escaped(raw, i)
		if !ok {
			return "", ErrForm
		}
		switch {
		case unreserved(v):
			b.WriteByte(v)
		case v < ' ' || v == 0x7f:
			return "", ErrForm
		default:
			b.WriteString(strings.ToUpper(raw[i : i+3]))
		}
		i += 2
	}
	return b.String(), nil
}

// decode undoes one layer of escapes; what is no escape stays.
func decode(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if v, ok := escaped(s, i); ok {
			b.WriteByte(v)
			i += 2
			continue
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// escaped reads the escape at i.
func escaped(s string, i int) (byte, bool) {
	if i+2 >= len(s) || s[i] != '%' {
		return 0, false
	}
	high, ok := hex(s[i+1])
	low, too := hex(s[i+2])
	return high<<4 | low, ok && too
}

func hex(c byte) (byte, bool) {
	switch {
	case c >= '0' && c <= '9':
		return c - '0', true
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return c | 0x20 - 'a' + 10, true
	}
	return 0, false
}

// unreserved are the characters that mean the same escaped or not (RFC 3986,
// section 2.3).
func unreserved(c byte) bool {
	return c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || strings.IndexByte("-._~", c) >= 0
}

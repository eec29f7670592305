package wire

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Headers that mirror the body of a stateless request, so that what is in
// between can see what it is about without reading the body (MCP 2026-07-28,
// transports).
const (
	HeaderVersion = "Mcp-Protocol-Version"
	HeaderMethod  = "Mcp-Method"
	HeaderName    = "Mcp-Name"
	HeaderParam   = "Mcp-Param-"
	// HeaderBridge is Bouncer's own: the agent speaks over standard input, where
	// arguments are not mirrored, so that those headers are not missed.
	HeaderBridge = "Bouncer-Bridge"
)

const (
	sentinelOpen  = "=?base64?"
	sentinelClose = "?="
)

// HeaderValue writes text as the value of a mirrored header. What is not plain
// printable ASCII, has outer blanks, is empty or looks like the encoded form is
// encoded.
func HeaderValue(text string) string {
	plain := text != "" && text == strings.TrimSpace(text) &&
		!(strings.HasPrefix(text, sentinelOpen) && strings.HasSuffix(text, sentinelClose))
	for i := 0; plain && i < len(text); i++ {
		plain = text[i] >= 0x20 && text[i] < 0x7f
	}
	if plain {
		return text
	}
	return sentinelOpen + base64.StdEncoding.EncodeToString([]byte(text)) + sentinelClose
}

// ReadHeaderValue reads the value of a mirrored header. Raw UTF-8 is taken as it
// is; a malformed encoding is an error.
func ReadHeaderValue(v string) (string, error) {
	v = strings.Trim(v, " \t")
	inner, ok := strings.CutPrefix(v, sentinelOpen)
	if ok {
		inner, ok = strings.CutSuffix(inner, sentinelClose)
	}
	if !ok {
		if !utf8.ValidString(v) {
			return "", fmt.Errorf("is not UTF-8")
		}
		return v, nil
	}
	raw, err := base64.StdEncoding.DecodeString(inner)
	if err != nil || !utf8.Valid(raw) {
		return "", fmt.Errorf("is not base64 of UTF-8")
	}
	return string(raw), nil
}

// Mirror says which argument of a tool is mirrored into which header
// (x-mcp-header in the tool's input schema).
type Mirror struct {
	Header string // without the prefix Mcp-Param-
	Path   []string
	Type   string // string, integer or boolean
}

// maxMirrors bounds how many arguments of one tool are mirrored.
const maxMirrors = 64

// ReadMirrors reads the mirrored arguments of a tool from its description. An
// annotation at a place where it is not allowed is an error: clients have to
// leave such a tool out.
func ReadMirrors(tool []byte) ([]Mirror, error) {
	if !strings.Contains(string(tool), `"x-mcp-header"`) {
		return nil, nil
	}
	var t struct{ InputSchema map[string]any }
	if err := json.Unmarshal(tool, &t); err != nil {
		return nil, err
	}
	r := mirrorReader{seen: map[string]bool{}}
	if err := r.schema(t.InputSchema, nil, true, 0); err != nil {
		return nil, err
	}
	return r.list, nil
}

type mirrorReader struct {
	list []Mirror
	seen map[string]bool
}

// schema walks a schema; straight is set while it was reached through properties
// only.
func (r *mirrorReader) schema(s map[string]any, path []string, straight bool, depth int) error {
	if depth > 50 {
		return fmt.Errorf("its schema is nested too deeply")
	}
	if h, ok := s["x-mcp-header"]; ok {
		name, text := h.(string)
		kind, _ := s["type"].(string)
		switch {
		case !text || !token(name):
			return fmt.Errorf("x-mcp-header must be the name of a header")
		case !straight || len(path) == 0:
			return fmt.Errorf("x-mcp-header %q stands where no single argument is", name)
		case kind != "string" && kind != "integer" && kind != "boolean":
			return fmt.Errorf("x-mcp-header %q is on an argument that is no string, integer or boolean", name)
		case r.seen[strings.ToLower(name)]:
			return fmt.Errorf("x-mcp-header %q is there twice", name)
		case len(r.list) == maxMirrors:
			return fmt.Errorf("more than %d arguments are mirrored", maxMirrors)
		}
		r.seen[strings.ToLower(name)] = true
		r.list = append(r.list, Mirror{name, append([]string(nil), path...), kind})
	}
	for key, v := range s {
		if key == "properties" {
			props, _ := v.(map[string]any)
			for name, p := range props {
				if sub, ok := p.(map[string]any); ok {
					if err := r.schema(sub, append(append([]string(nil), path...), name), straight, depth+1); err != nil {
						return err
					}
				}
			}
			continue
		}
		if key == "default" || key == "const" || key == "enum" || key == "examples" {
			continue // data, not schemas
		}
		if err := r.other(v, path, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func (r *mirrorReader) other(v any, path []string, depth int) error {
	if depth > 50 {
		return fmt.Errorf("its schema is nested too deeply")
	}
	switch v := v.(type) {
	case map[string]any:
		return r.schema(v, append(path, "*"), false, depth)
	case []any:
		for _, e := range v {
			if err := r.other(e, path, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

func token(s string) bool {
	if s == "" || len(s) > 100 {
		return false
	}
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c <= ' ' || c >= 0x7f || strings.IndexByte(`()<>@,;:\"/[]?={}`, c) >= 0 {
			return false
		}
	}
	return true
}

// Value returns the argument as the header carries it; ok is false when it is
// absent or null, in which case the header is left out.
func (m Mirror) Value(args []byte) (value string, ok bool, err error) {
	at := Span{0, len(args)}
	for _, name := range m.Path {
		if at.Empty() || args[at.Start] != '{' {
			return "", false, nil
		}
		at = Member(args, at, name)
	}
	if at.Empty() {
		return "", false, nil
	}
	switch c := args[at.Start]; {
	case c == 'n':
		return "", false, nil
	case c == '"' && m.Type == "string":
		s, _ := StringAt(args, at)
		return s, true, nil
	case (c == 't' || c == 'f') && m.Type == "boolean":
		return string(at.Of(args)), true, nil
	case (c == '-' || (c >= '0' && c <= '9')) && m.Type == "integer":
		n, ok := integer(string(at.Of(args)))
		if !ok {
			return "", false, fmt.Errorf("argument %s must be an integer within 2^53", strings.Join(m.Path, "."))
		}
		return strconv.FormatInt(n, 10), true, nil
	}
	return "", false, fmt.Errorf("argument %s must be of type %s", strings.Join(m.Path, "."), m.Type)
}

// integer reads a JSON number that is an integer within 2^53, however written.
func integer(s string) (int64, bool) {
	if len(s) > 40 {
		return 0, false
	}
	if _, exp, ok := strings.Cut(strings.ToLower(s), "e"); ok && len(exp) > 3 {
		return 0, false
	}
	r, ok := new(big.Rat).SetString(s)
	if !ok || !r.IsInt() || !r.Num().IsInt64() {
		return 0, false
	}
	n := r.Num().Int64()
	return n, n >= -(1<<53-1) && n <= 1<<53-1
}

// Check compares the header with the argument in the body. header is nil when it
// was not sent.
func (m Mirror) Check(header []string, args []byte) error {
	want, there, err := m.Value(args)
	name := HeaderParam + m.Header
	switch {
	case err != nil:
		return err
	case !there && len(header) == 0:
		return nil
	case !there:
		return fmt.Errorf("the header %s is sent, but the argument is not", name)
	case len(header) != 1:
		return fmt.Errorf("the header %s must be sent once", name)
	}
	got, err := ReadHeaderValue(header[0])
	if err != nil {
		return fmt.Errorf("the header %s %w", name, err)
	}
	if m.Type == "integer" {
		n, ok := integer(got)
		if ok && strconv.FormatInt(n, 10) == want {
			return nil
		}
	}
	if got != want {
		return fmt.Errorf("the header %s differs from the argument in the body", name)
	}
	return nil
}

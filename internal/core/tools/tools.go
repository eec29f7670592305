// Package tools keeps what a server offers: its tools as the server described
// them, a fingerprint of each, and the names under which agents see them.
//
// One recorded state of a server's tool list is an edition. Its digest tells
// two editions apart without comparing them tool by tool.
package tools

import (
	"bytes"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"bouncer/internal/core/wire"
)

// Limits on one server's tool list.
const (
	MaxTools    = 10_000
	MaxToolSize = 256 << 10 // bytes of one tool's description
	MaxName     = 256       // bytes of a tool's own name
)

// Tool is one function a server offers.
type Tool struct {
	Name string `json:"name"`
	// Raw is the description as the server sent it, compacted.
	Raw         json.RawMessage `json:"raw"`
	Fingerprint string          `json:"fingerprint"`
}

// Summary is the part of a tool's description that is shown to people. The
// hints are the server's own claims and prove nothing.
type Summary struct {
	Title       string
	Description string
	ReadOnly    bool
	Destructive bool
}

// Summary decodes the parts of the description that people look at.
func (t Tool) Summary() Summary {
	var d struct {
		Title       string
		Description string
		Annotations struct {
			Title           string
			ReadOnlyHint    bool
			DestructiveHint bool
		}
	}
	// The description was parsed when it was read; members of other types are
	// left empty, which is all that can be shown of them.
	_ = json.Unmarshal(t.Raw, &d)
	if d.Title == "" {
		d.Title = d.Annotations.Title
	}
	return Summary{d.Title, d.Description, d.Annotations.ReadOnlyHint, d.Annotations.DestructiveHint}
}

// ReadPage reads the result of one tools/list request: its tools, the cursor of
// the next page ("" at the end), and what had to be left out and why. A bad
// tool costs only itself; a result that is no tool list is an error.
func ReadPage(result []byte) (list []Tool, next string, left []string, err error) {
	whole, err := wire.Whole(result)
	if err != nil {
		return nil, "", nil, err
	}
	items := wire.Member(result, whole, "tools")
	if items.Empty() {
		return nil, "", nil, fmt.Errorf("the result has no member \"tools\"")
	}
	if c := wire.Member(result, whole, "nextCursor"); !c.Empty() {
		next, _ = wire.StringAt(result, c)
	}
	err = wire.Elements(result, items, func(s wire.Span) error {
		t, why := readTool(result, s)
		if why != "" {
			if len(left) < 100 {
				left = append(left, why)
			}
			return nil
		}
		list = append(list, t)
		return nil
	})
	return list, next, left, err
}

func readTool(b []byte, s wire.Span) (Tool, string) {
	raw := s.Of(b)
	if raw[0] != '{' {
		return Tool{}, "an entry of the list is not an object"
	}
	name, ok := wire.StringAt(b, wire.Member(b, s, "name"))
	switch {
	case !ok || name == "":
		return Tool{}, "a tool has no name"
	case len(name) > MaxName:
		return Tool{}, fmt.Sprintf("the name of tool %.40q... is longer than %d bytes", name, MaxName)
	case len(raw) > MaxToolSize:
		return Tool{}, fmt.Sprintf("tool %q has a description of %d bytes; the limit is %d", name, len(raw), MaxToolSize)
	}
	schema := wire.Member(b, s, "inputSchema")
	if schema.Empty() || b[schema.Start] != '{' {
		return Tool{}, fmt.Sprintf("tool %q has no inputSchema object", name)
	}
	var buf bytes.Buffer
	if err := json.Compact(&buf, raw); err != nil {
		return Tool{}, fmt.Sprintf("tool %q: %v", name, err)
	}
	sum := sha256.Sum256(buf.Bytes())
	return Tool{Name: name, Raw: buf.Bytes(), Fingerprint: hex.EncodeToString(sum[:8])}, ""
}

// Merge joins the pages of one list: sorted by name, a name at most once. What
// was left out is told.
func Merge(pages ...[]Tool) (list []Tool, left []string) {
	seen := map[string]bool{}
	for _, p := range pages {
		for _, t := range p {
			if seen[t.Name] {
				left = append(left, fmt.Sprintf("tool %q is offered twice; the first one counts", t.Name))
				continue
			}
			seen[t.Name] = true
			list = append(list, t)
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Name < list[j].Name })
	return list, left
}

// Digest identifies an edition by the fingerprints of its tools.
func Digest(list []Tool) string {
	h := sha256.New()
	for _, t := range list {
		fmt.Fprintf(h, "%s\x00%s\x00", t.Name, t.Fingerprint)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// Renamed returns the tool's description with another name.
func (t Tool) Renamed(name string) json.RawMessage {
	if name == t.Name {
		return t.Raw
	}
	whole := wire.Span{Start: 0, End: len(t.Raw)}
	at := wire.Member(t.Raw, whole, "name")
	return wire.Splice(nil, t.Raw, whole, wire.Edit{Span: at, With: wire.Quote(name)})
}

// maxExposed is the longest tool name that every assistant accepts.
const maxExposed = 64

// markLen is the length of the mark that ends an altered name: "_" and ten
// characters of base 32.
const markLen = 11

// Expose returns the name under which agents see a tool of several servers:
// server__tool, 1 to 64 characters of A-Z a-z 0-9 _ -. A name that does not fit
// is altered and marked with a hash of what it stands for. A name that fits but
// looks marked is marked too, so that no plain name equals an altered one.
func Expose(server, tool string) string {
	plain := server + "__" + tool
	safe := clean(plain)
	if safe == plain && len(plain) <= maxExposed && !marked(plain) {
		return plain
	}
	sum := sha256.Sum256([]byte(server + "\x00" + tool))
	mark := strings.ToLower(base32.StdEncoding.EncodeToString(sum[:7]))[:markLen-1]
	if len(safe) > maxExposed-markLen {
		safe = safe[:maxExposed-markLen]
	}
	return safe + "_" + mark
}

func clean(name string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || (r >= '0' && r <= '9') || (r >= 'A' && r <= 'Z') || (r >= 'a' && r <= 'z') {
			return r
		}
		return '_'
	}, name)
}

func marked(name string) bool {
	if len(name) < markLen || name[len(name)-markLen] != '_' {
		return false
	}
	for _, c := range name[len(name)-markLen+1:] {
		if (c < 'a' || c > 'z') && (c < '2' || c > '7') {
			return false
		}
	}
	return true
}

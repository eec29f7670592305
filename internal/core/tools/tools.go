// Package tools keeps what a server offers: its tools, prompts and resources as
// the server described them, a fingerprint of each, and the names under which
// agents see them.
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
	"slices"
	"sort"
	"strings"

	"bouncer/internal/core/uri"
	"bouncer/internal/core/wire"
)

// Limits on one server's tool list.
const (
	MaxTools    = 10_000
	MaxToolSize = 256 << 10 // bytes of one tool's description
	MaxName     = 256       // bytes of a tool's own name
	MaxURI      = 4096      // bytes of a resource's URI
)

// Kind is one of the things that servers offer lists of.
type Kind string

// The kinds. A resource is identified by its URI and a template by its URI
// template; tools and prompts by their names.
const (
	Tools     Kind = "tools"
	Prompts   Kind = "prompts"
	Resources Kind = "resources"
	Templates Kind = "resourceTemplates"
)

// Kinds lists every kind.
var Kinds = []Kind{Tools, Prompts, Resources, Templates}

// Method is the request that lists the kind.
func (k Kind) Method() string {
	if k == Templates {
		return "resources/templates/list"
	}
	return string(k) + "/list"
}

// key is the member that identifies an item.
func (k Kind) key() string {
	switch k {
	case Resources:
		return "uri"
	case Templates:
		return "uriTemplate"
	}
	return "name"
}

// word is what one item is called.
func (k Kind) word() string {
	return map[Kind]string{Tools: "tool", Prompts: "prompt", Resources: "resource", Templates: "resource template"}[k]
}

// Prefixes of the names under which rules know what is no plain tool.
const (
	promptPrefix   = "prompt:"
	resourcePrefix = "resource:"
	toolPrefix     = "tool:"
)

// Rule is the name under which rules and the journal know something a server
// offers: a tool by its plain name, a prompt as prompt:name, a resource or a
// template as resource:uri, with the URI in its one normal spelling. A tool whose
// own name begins like one of these is known as tool:name, so that it is not taken
// for what it is not.
func (k Kind) Rule(name string) string {
	switch k {
	case Prompts:
		return promptPrefix + name
	case Resources, Templates:
		if normal, err := uri.Normal(name); err == nil {
			name = normal
		}
		return resourcePrefix + name
	}
	for _, prefix := range [...]string{promptPrefix, resourcePrefix, toolPrefix} {
		if strings.HasPrefix(name, prefix) {
			return toolPrefix + name
		}
	}
	return name
}

// Tool is one function a server offers, or one prompt, resource or template:
// Name then holds what identifies it.
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

// ReadPage reads the result of one list request: its items, the cursor of the
// next page ("" at the end), and what had to be left out and why. A bad item
// costs only itself; a result that is no such list is an error.
func ReadPage(kind Kind, result []byte) (list []Tool, next string, left []string, err error) {
	whole, err := wire.Whole(result)
	if err != nil {
		return nil, "", nil, err
	}
	items := wire.Member(result, whole, string(kind))
	if items.Empty() {
		return nil, "", nil, fmt.Errorf("the result has no member %q", kind)
	}
	if c := wire.Member(result, whole, "nextCursor"); !c.Empty() {
		next, _ = wire.StringAt(result, c)
	}
	err = wire.Elements(result, items, func(s wire.Span) error {
		t, why := readItem(kind, result, s)
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

func readItem(kind Kind, b []byte, s wire.Span) (Tool, string) {
	raw := s.Of(b)
	if raw[0] != '{' {
		return Tool{}, "an entry of the list of " + string(kind) + " is not an object"
	}
	limit := MaxName
	if kind == Resources || kind == Templates {
		limit = MaxURI
	}
	name, ok := wire.StringAt(b, wire.Member(b, s, kind.key()))
	switch {
	case !ok || name == "":
		return Tool{}, "a " + kind.word() + " has no " + kind.key()
	case len(name) > limit:
		return Tool{}, fmt.Sprintf("the %s of %s %.40q... is longer than %d bytes", kind.key(), kind.word(), name, limit)
	case len(raw) > MaxToolSize:
		return Tool{}, fmt.Sprintf("%s %q has a description of %d bytes; the limit is %d", kind.word(), name, len(raw), MaxToolSize)
	}
	if kind == Tools {
		if schema := wire.Member(b, s, "inputSchema"); schema.Empty() || b[schema.Start] != '{' {
			return Tool{}, fmt.Sprintf("tool %q has no inputSchema object", name)
		}
	}
	var buf bytes.Buffer
	if err := json.Compact(&buf, raw); err != nil {
		return Tool{}, fmt.Sprintf("%s %q: %v", kind.word(), name, err)
	}
	sum := sha256.Sum256(buf.Bytes())
	return Tool{Name: name, Raw: buf.Bytes(), Fingerprint: hex.EncodeToString(sum[:8])}, ""
}

// Merge joins the pages of one list: sorted by name, a name at most once. What
// was left out is told.
func Merge(kind Kind, pages ...[]Tool) (list []Tool, left []string) {
	seen := map[string]bool{}
	for _, p := range pages {
		for _, t := range p {
			if seen[t.Name] {
				left = append(left, fmt.Sprintf("%s %q is offered twice; the first one counts", kind.word(), t.Name))
				continue
			}
			seen[t.Name] = true
			list = append(list, t)
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Name < list[j].Name })
	return list, left
}

// Compare returns the names of the tools that a later edition has and an earlier
// one had not, that it no longer has, and whose descriptions differ.
func Compare(before, after []Tool) (added, removed, changed []string) {
	added, removed, changed = []string{}, []string{}, []string{}
	old := make(map[string]string, len(before))
	for _, t := range before {
		old[t.Name] = t.Fingerprint
	}
	for _, t := range after {
		switch was, there := old[t.Name]; {
		case !there:
			added = append(added, t.Name)
		case was != t.Fingerprint:
			changed = append(changed, t.Name)
		}
		delete(old, t.Name)
	}
	for _, t := range before {
		if _, gone := old[t.Name]; gone {
			removed = append(removed, t.Name)
		}
	}
	return added, removed, changed
}

// Digest identifies an edition by the fingerprints of its tools.
func Digest(list []Tool) string {
	h := sha256.New()
	for _, t := range list {
		fmt.Fprintf(h, "%s\x00%s\x00", t.Name, t.Fingerprint)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// Renamed returns the description under another name.
func (t Tool) Renamed(kind Kind, name string) json.RawMessage {
	if name == t.Name {
		return t.Raw
	}
	whole := wire.Span{Start: 0, End: len(t.Raw)}
	at := wire.Member(t.Raw, whole, kind.key())
	return wire.Splice(nil, t.Raw, whole, wire.Edit{Span: at, With: wire.Quote(name)})
}

// uriPrefix begins the URI of every resource on an address that joins servers.
const uriPrefix = "bouncer:"

// ExposeURI returns the URI, or the URI template, under which agents see a
// resource of several servers. It maps back exactly.
func ExposeURI(server, uri string) string { return uriPrefix + server + "/" + uri }

// Exposed is the name under which something of a server is offered on /mcp.
func Exposed(server string, kind Kind, name string, siblings []Tool) string {
	if kind == Resources || kind == Templates {
		return ExposeURI(server, name)
	}
	return Expose(server, name, siblings)
}

// ReadURI takes an exposed URI apart.
func ReadURI(exposed string) (server, uri string, ok bool) {
	rest, ok := strings.CutPrefix(exposed, uriPrefix)
	if !ok {
		return "", "", false
	}
	return strings.Cut(rest, "/")
}

// maxExposed is the longest tool name that every assistant accepts.
const maxExposed = 64

// markLen is the length of the mark that ends an altered name: "_" and ten
// characters of base 32.
const markLen = 11

// Expose returns the name under which agents see a tool of several servers:
// server__tool, 1 to 64 characters of A-Z a-z 0-9 _ -. Only a name that does not fit
// is altered, and marked with a hash of what it stands for. siblings are all the
// server's tools: should one of them have just that name, another mark is taken, so
// that no two are ever exposed alike.
func Expose(server, tool string, siblings []Tool) string {
	plain := server + "__" + tool
	safe := clean(plain)
	if safe == plain && len(plain) <= maxExposed {
		return plain
	}
	if len(safe) > maxExposed-markLen {
		safe = safe[:maxExposed-markLen]
	}
	for salt := ""; ; salt += "\x00" {
		sum := sha256.Sum256([]byte(server + "\x00" + tool + salt))
		name := safe + "_" + strings.ToLower(base32.StdEncoding.EncodeToString(sum[:7]))[:markLen-1]
		own := strings.TrimPrefix(name, server+"__")
		if !slices.ContainsFunc(siblings, func(t Tool) bool { return t.Name == own }) {
			return name
		}
	}
}

func clean(name string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || (r >= '0' && r <= '9') || (r >= 'A' && r <= 'Z') || (r >= 'a' && r <= 'z') {
			return r
		}
		return '_'
	}, name)
}

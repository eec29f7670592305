package rules

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Host is a server as rules know it.
type Host struct {
	Name   string
	Labels []string
}

// Object is what a rule can be about: a tool, or a prompt or a resource.
type Object struct {
	// Name is the name that rules know it by.
	Name string
	// Tool is set for tools. Prompts and resources have no hints and no arguments that
	// rules look at.
	Tool  bool
	Tags  []string
	Hints Hints
	// Schema is a tool's input schema; empty for one that takes anything.
	Schema json.RawMessage
	// Output is a tool's output schema; empty for none.
	Output json.RawMessage
	// Fingerprint tells two descriptions of a tool apart.
	Fingerprint string
}

// Hints are what a tool says of itself. nil is for what it does not say: then what the
// protocol presumes counts (MCP, ToolAnnotations), which is the worse.
type Hints struct{ ReadOnly, Destructive, Idempotent, OpenWorld *bool }

// The kinds of tools that a rule can be about.
const (
	ReadOnly    = "read-only"
	Destructive = "destructive"
	Idempotent  = "idempotent"
	OpenWorld   = "open-world"
	not         = "not-"
)

func hintWords() []string {
	out := []string{}
	for _, w := range [...]string{ReadOnly, Destructive, Idempotent, OpenWorld} {
		out = append(out, w, not+w)
	}
	return out
}

// Is reports whether a tool is of a kind: by a tag of the same name if somebody gave it
// one, else by what it says of itself, else by what the protocol presumes.
func (o *Object) Is(hint string) bool {
	word, negated := strings.CutPrefix(hint, not)
	return o.Tool && o.is(word) != negated
}

func (o *Object) is(word string) bool {
	if slices.Contains(o.Tags, word) {
		return true
	}
	if slices.Contains(o.Tags, not+word) {
		return false
	}
	said := func(b *bool, presumed bool) bool {
		if b == nil {
			return presumed
		}
		return *b
	}
	switch word {
	case ReadOnly:
		return said(o.Hints.ReadOnly, false)
	case Destructive:
		return !o.is(ReadOnly) && said(o.Hints.Destructive, true)
	case Idempotent:
		return o.is(ReadOnly) || said(o.Hints.Idempotent, false)
	}
	return said(o.Hints.OpenWorld, true)
}

// Entry is one line of a bundle: tools of servers by globs, or another bundle.
type Entry struct {
	Server string `json:"server,omitempty" doc:"glob over server names"`
	Tool   string `json:"tool,omitempty" doc:"glob over the server's own tool names"`
	Bundle string `json:"bundle,omitempty" doc:"another bundle, instead of server and tool"`
}

// MaxEntries is how many lines a bundle may have.
const MaxEntries = 200

// Bundles are the bundles of a team, by name.
type Bundles map[string][]Entry

// Flatten returns the globs that a bundle stands for, with those of the bundles in it.
// It fails for a bundle that is not there and for one that holds itself.
func (b Bundles) Flatten(name string) ([]Entry, error) {
	var out []Entry
	seen := map[string]bool{}
	var walk func(name string, path []string) error
	walk = func(name string, path []string) error {
		if slices.Contains(path, name) {
			return &FieldError{"bundle", "holds itself: " + strings.Join(append(path, name), " holds ")}
		}
		entries, there := b[name]
		if !there {
			return &FieldError{"bundle", fmt.Sprintf("is %.60q; there is no such bundle", name)}
		}
		if seen[name] {
			return nil
		}
		seen[name] = true
		for _, e := range entries {
			if e.Bundle == "" {
				out = append(out, e)
				continue
			}
			if err := walk(e.Bundle, append(path, name)); err != nil {
				return err
			}
		}
		return nil
	}
	return out, walk(name, nil)
}

// Check reports the first line of a bundle that is not acceptable, as a *FieldError.
func (b Bundles) Check(name string) error {
	if err := CheckLabel("name", name); err != nil {
		return err
	}
	if n := len(b[name]); n == 0 || n > MaxEntries {
		return &FieldError{"entries", fmt.Sprintf("are %d; a bundle has 1 to %d", n, MaxEntries)}
	}
	for i, e := range b[name] {
		at := fmt.Sprintf("entries[%d]", i)
		if e.Bundle != "" {
			if e.Server != "" || e.Tool != "" {
				return &FieldError{at, "names a bundle and a tool; it can be one of both"}
			}
			continue
		}
		for _, g := range [...]struct{ field, glob string }{{at + ".server", e.Server}, {at + ".tool", e.Tool}} {
			if err := checkGlob(g.field, g.glob); err != nil {
				return err
			}
		}
	}
	_, err := b.Flatten(name)
	return err
}

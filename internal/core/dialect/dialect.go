// Package dialect describes how an assistant keeps its servers in its configuration
// file, as data: where the file may lie, its syntax, where the servers are in it, and how
// an entry with an address or with a command is written. It reads and writes entries by
// such a description, and works one out from a file that it has never seen.
package dialect

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"bouncer/internal/core/configfile"
)

// Dialect is how one assistant keeps its servers. Names of fields are paths with dots
// between their parts, where an entry has maps inside of it.
type Dialect struct {
	Name    string            `yaml:"dialect" json:"dialect"`
	Title   string            `yaml:"title,omitempty" json:"title,omitempty"`
	Syntax  configfile.Syntax `yaml:"syntax" json:"syntax"`
	Files   []Place           `yaml:"files,omitempty" json:"files,omitempty"`
	Servers Path              `yaml:"servers" json:"servers"`
	// List is the field with the name, of a list of servers; "" for a map by name.
	List    string   `yaml:"list,omitempty" json:"list,omitempty"`
	Remote  *Remote  `yaml:"remote,omitempty" json:"remote,omitempty"`
	Command *Command `yaml:"command,omitempty" json:"command,omitempty"`
	Off     *Off     `yaml:"off,omitempty" json:"off,omitempty"`
	// Reference is how a variable of the environment is named in a value, with NAME for
	// the variable; "" where that cannot be done.
	Reference string `yaml:"reference,omitempty" json:"reference,omitempty"`
	// Restart is set when the assistant reads its file at its start only.
	Restart bool `yaml:"restart,omitempty" json:"restart,omitempty"`
}

// Place is where the file may lie.
type Place struct {
	// Path begins with ~ for the home directory, and may name variables as ${NAME}.
	Path  string   `yaml:"path" json:"path"`
	OS    []string `yaml:"os,omitempty" json:"os,omitempty"`       // linux, darwin, windows; all if left out
	Scope string   `yaml:"scope,omitempty" json:"scope,omitempty"` // user (the default) or project
}

// Remote is how an entry with an address is written.
type Remote struct {
	URL     string `yaml:"url" json:"url"`
	Type    *Word  `yaml:"type,omitempty" json:"type,omitempty"`
	Headers string `yaml:"headers,omitempty" json:"headers,omitempty"` // "" where headers cannot be set
	// Form is how headers are written: map (the default), lines ("Name: value") or pairs
	// (maps with name and value).
	Form string `yaml:"form,omitempty" json:"form,omitempty"`
}

// Command is how an entry with a command is written.
type Command struct {
	Command string `yaml:"command" json:"command"`
	Joined  bool   `yaml:"joined,omitempty" json:"joined,omitempty"` // the command and its arguments are one list
	Args    string `yaml:"args,omitempty" json:"args,omitempty"`
	Env     string `yaml:"env,omitempty" json:"env,omitempty"`
	// Form is how variables are written: map (the default) or lines ("NAME=value").
	Form string `yaml:"form,omitempty" json:"form,omitempty"`
	Dir  string `yaml:"dir,omitempty" json:"dir,omitempty"`
	Type *Word  `yaml:"type,omitempty" json:"type,omitempty"`
}

// Word is a field that says by a word what kind of entry it is.
type Word struct {
	Field string `yaml:"field" json:"field"`
	Word  string `yaml:"word" json:"word"`
}

// Off is the field that switches an entry off, or, with Inverse, on.
type Off struct {
	Field   string `yaml:"field" json:"field"`
	Inverse bool   `yaml:"inverse,omitempty" json:"inverse,omitempty"`
}

// Path is where something is in a file: keys, from the top. As text it has dots between
// them; a key with a dot in it needs the form as a list.
type Path []string

// UnmarshalYAML reads either form.
func (p *Path) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.SequenceNode {
		return n.Decode((*[]string)(p))
	}
	var text string
	if err := n.Decode(&text); err != nil {
		return err
	}
	*p = nil
	if text != "" {
		*p = strings.Split(text, ".")
	}
	return nil
}

// UnmarshalJSON reads either form.
func (p *Path) UnmarshalJSON(raw []byte) error {
	if len(raw) > 0 && raw[0] == '[' {
		return json.Unmarshal(raw, (*[]string)(p))
	}
	var text string
	if err := json.Unmarshal(raw, &text); err != nil {
		return err
	}
	*p = nil
	if text != "" {
		*p = strings.Split(text, ".")
	}
	return nil
}

// MarshalYAML writes the shorter form that can be read again.
func (p Path) MarshalYAML() (any, error) {
	if slices.ContainsFunc(p, func(key string) bool { return key == "" || strings.Contains(key, ".") }) {
		return []string(p), nil
	}
	return strings.Join(p, "."), nil
}

func (p Path) String() string {
	if len(p) == 0 {
		return "the top of the file"
	}
	return strings.Join(p, ".")
}

// Forms of headers and variables.
const (
	FormMap   = "map"
	FormLines = "lines"
	FormPairs = "pairs"
)

// Scopes of a file.
const (
	ScopeUser    = "user"
	ScopeProject = "project"
)

// MaxText is the longest description that is read, in bytes.
const MaxText = 64 << 10

// FieldError says which field of a description cannot be used, and why.
type FieldError struct{ Field, Why string }

func (e *FieldError) Error() string { return e.Field + " " + e.Why }

var speakable = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,31}$`)

// Parse reads a description. Errors are *FieldError, or say what cannot be read.
func Parse(text []byte) (Dialect, error) {
	var d Dialect
	if len(text) > MaxText {
		return d, fmt.Errorf("it is longer than %d KiB", MaxText>>10)
	}
	dec := yaml.NewDecoder(bytes.NewReader(text))
	dec.KnownFields(true)
	if err := dec.Decode(&d); err != nil {
		if errors.Is(err, io.EOF) {
			return d, errors.New("there is nothing in it")
		}
		return d, errors.New(strings.TrimPrefix(err.Error(), "yaml: "))
	}
	return d, d.Check()
}

// Check reports what cannot be used. The error is a *FieldError.
func (d Dialect) Check() error {
	bad := func(field, why string) error { return &FieldError{field, why} }
	switch {
	case !speakable.MatchString(d.Name):
		return bad("dialect", "must be a short name of lower-case letters, digits and hyphens")
	case !slices.Contains(configfile.Syntaxes, d.Syntax):
		return bad("syntax", fmt.Sprintf("is %q; it must be json, yaml or toml", d.Syntax))
	case d.Remote == nil && d.Command == nil:
		return bad("remote", "and command are both missing; say how at least one kind of entry is written")
	case d.Remote != nil && d.Remote.URL == "":
		return bad("remote.url", "is missing; name the field with the address")
	case d.Command != nil && d.Command.Command == "":
		return bad("command.command", "is missing; name the field with the command")
	case d.Command != nil && d.Command.Joined && d.Command.Args != "":
		return bad("command.args", "does not go with joined, where the arguments stand with the command")
	case d.Remote != nil && !slices.Contains([]string{"", FormMap, FormLines, FormPairs}, d.Remote.Form):
		return bad("remote.form", "must be map, lines or pairs")
	case d.Command != nil && !slices.Contains([]string{"", FormMap, FormLines}, d.Command.Form):
		return bad("command.form", "must be map or lines")
	case d.Off != nil && d.Off.Field == "":
		return bad("off.field", "is missing")
	case d.Reference != "" && !strings.Contains(d.Reference, "NAME"):
		return bad("reference", "must have NAME in it, in the place of the variable's name")
	}
	for _, w := range []*Word{wordOf(d.Remote), wordOfCommand(d.Command)} {
		if w != nil && (w.Field == "" || w.Word == "") {
			return bad("type", "must have a field and a word")
		}
	}
	for i, f := range d.Files {
		switch {
		case f.Path == "":
			return bad(fmt.Sprintf("files[%d].path", i), "is missing")
		case f.Scope != "" && f.Scope != ScopeUser && f.Scope != ScopeProject:
			return bad(fmt.Sprintf("files[%d].scope", i), "must be user or project")
		}
	}
	return nil
}

func wordOf(r *Remote) *Word {
	if r == nil {
		return nil
	}
	return r.Type
}

func wordOfCommand(c *Command) *Word {
	if c == nil {
		return nil
	}
	return c.Type
}

// Marshal writes a description.
func (d Dialect) Marshal() ([]byte, error) {
	var buf bytes.Buffer
	enc := yaml.NewEncoder(&buf)
	enc.SetIndent(2)
	if err := errors.Join(enc.Encode(d), enc.Close()); err != nil {
		return nil, fmt.Errorf("write a dialect: %w", err)
	}
	return buf.Bytes(), nil
}

//go:embed shipped/*.yaml
var shipped embed.FS

// Shipped are the dialects that come along, the common one first.
func Shipped() []Dialect {
	var out []Dialect
	files, _ := fs.Glob(shipped, "shipped/*.yaml") // the pattern is well-formed
	for _, name := range files {
		text, err := shipped.ReadFile(name)
		if err != nil {
			continue // it was listed a moment ago
		}
		if d, err := Parse(text); err == nil {
			out = append(out, d)
		}
	}
	slices.SortStableFunc(out, func(a, b Dialect) int {
		return strings.Compare(rank(a), rank(b))
	})
	return out
}

func rank(d Dialect) string {
	if d.Name == Common {
		return ""
	}
	return d.Name
}

// Common is the name of the dialect that many assistants speak.
const Common = "common"

// Locate is a place on a machine, with the home directory and variables put in; "" where
// the place is for another system, or a variable is not set.
func (p Place) Locate(os, home, dir string, getenv func(string) string) string {
	if len(p.OS) > 0 && !slices.Contains(p.OS, os) {
		return ""
	}
	missing := false
	path := variable.ReplaceAllStringFunc(p.Path, func(ref string) string {
		value := getenv(ref[2 : len(ref)-1])
		missing = missing || value == ""
		return value
	})
	switch {
	case missing:
		return ""
	case strings.HasPrefix(path, "~/"):
		return home + path[1:]
	case p.Scope == ScopeProject && !strings.HasPrefix(path, "/"):
		return dir + "/" + path
	}
	return path
}

var variable = regexp.MustCompile(`\$\{[A-Za-z_][A-Za-z0-9_]*\}`)

package dialect

import (
	"fmt"
	"strings"

	"bouncer/internal/core/configfile"
)

// Value is a header or a variable of an entry.
type Value struct{ Name, Value string }

// Entry is one server as an assistant's file has it.
type Entry struct {
	Name    string
	URL     string
	Type    string // the word that says what kind it is, if there is one
	Headers []Value
	Command string
	Args    []string
	Env     []Value
	Dir     string
	Off     bool
	Line    int
	Notes   []string // what is odd about it
}

// At is where the entry of a name is in a file of the dialect.
func (d Dialect) At(name string) configfile.Entry {
	return configfile.Entry{Path: d.Servers, Name: name, NameKey: d.List}
}

// Entries reads the servers of a file.
func (d Dialect) Entries(f *configfile.File) (out []Entry) {
	holder := f.Root.At(d.Servers...)
	if holder == nil {
		return nil
	}
	if d.List == "" {
		for _, p := range holder.Pairs {
			out = append(out, d.read(p.Key, p.Value))
		}
		return out
	}
	for i, item := range holder.Items {
		name, ok := item.Get(d.List).Text()
		e := d.read(name, item)
		if !ok || name == "" {
			e.Notes = append(e.Notes, fmt.Sprintf("entry %d has no %s", i+1, d.List))
		}
		out = append(out, e)
	}
	return out
}

// Find reads the entry of a name; ok is false when there is none.
func (d Dialect) Find(f *configfile.File, name string) (e Entry, ok bool) {
	n := f.Find(d.At(name))
	if n == nil {
		return e, false
	}
	return d.read(name, n), true
}

func field(n *configfile.Node, path string) *configfile.Node {
	if path == "" {
		return nil
	}
	if direct := n.Get(path); direct != nil {
		return direct
	}
	return n.At(strings.Split(path, ".")...)
}

func (d Dialect) read(name string, n *configfile.Node) Entry {
	e := Entry{Name: name, Line: n.Line}
	if n.Kind != configfile.Map {
		e.Notes = append(e.Notes, "it is no map")
		return e
	}
	if r := d.Remote; r != nil {
		e.URL, _ = field(n, r.URL).Text()
		if r.Type != nil {
			e.Type, _ = field(n, r.Type.Field).Text()
		}
		e.Headers = values(field(n, r.Headers), ":", &e)
	}
	if c := d.Command; c != nil {
		e.readCommand(c, n)
	}
	if d.Off != nil {
		if on, ok := field(n, d.Off.Field).Bool(); ok {
			e.Off = on != d.Off.Inverse
		}
	}
	if e.URL == "" && e.Command == "" {
		e.Notes = append(e.Notes, "it has neither an address nor a command")
	}
	return e
}

func (e *Entry) readCommand(c *Command, n *configfile.Node) {
	words := texts(field(n, c.Command), e)
	if len(words) > 0 {
		e.Command, e.Args = words[0], words[1:]
	}
	e.Args = append(e.Args, texts(field(n, c.Args), e)...)
	if c.Type != nil && e.Type == "" {
		e.Type, _ = field(n, c.Type.Field).Text()
	}
	e.Env = values(field(n, c.Env), "=", e)
	e.Dir, _ = field(n, c.Dir).Text()
}

// texts reads a text, or a list of them.
func texts(n *configfile.Node, e *Entry) (out []string) {
	if n == nil {
		return nil
	}
	if n.Kind == configfile.Scalar {
		return []string{n.Words()}
	}
	for _, item := range n.Items {
		if item.Kind == configfile.Map || item.Kind == configfile.List {
			e.Notes = append(e.Notes, fmt.Sprintf("a map or a list stands where a text should (line %d)", item.Line))
			continue
		}
		out = append(out, item.Words())
	}
	return out
}

// values reads a map of texts, lines with a separator, or maps with a name and a value.
func values(n *configfile.Node, sep string, e *Entry) (out []Value) {
	if n == nil {
		return nil
	}
	for _, p := range n.Pairs {
		if p.Value.Kind == configfile.Map || p.Value.Kind == configfile.List {
			e.Notes = append(e.Notes, fmt.Sprintf("%s is no text (line %d)", p.Key, p.Value.Line))
			continue
		}
		if _, isText := p.Value.Text(); !isText && p.Value.Kind == configfile.Scalar {
			e.Notes = append(e.Notes, fmt.Sprintf("%s is %s, and no text", p.Key, p.Value.Words()))
		}
		out = append(out, Value{p.Key, p.Value.Words()})
	}
	for _, item := range n.Items {
		if item.Kind == configfile.Map {
			if name, value, ok := pair(item); ok {
				out = append(out, Value{name, value})
			}
			continue
		}
		name, value, _ := strings.Cut(item.Words(), sep)
		out = append(out, Value{strings.TrimSpace(name), strings.TrimSpace(value)})
	}
	return out
}

// pair reads a map with a name and a value.
func pair(n *configfile.Node) (name, value string, ok bool) {
	for _, key := range []string{"name", "key", "header"} {
		if text, is := n.Get(key).Text(); is {
			name = text
		}
	}
	v := n.Get("value")
	if name == "" || v == nil {
		return "", "", false
	}
	return name, v.Words(), true
}

// Write returns an entry as the dialect has it. The error says what it cannot express.
func (d Dialect) Write(e Entry) (configfile.Object, error) {
	var o configfile.Object
	if d.List != "" {
		o = set(o, d.List, e.Name)
	}
	switch {
	case e.URL != "" && d.Remote == nil:
		return nil, fmt.Errorf("%s has no entries with an address", d.label())
	case e.URL != "":
		if t := d.Remote.Type; t != nil {
			o = set(o, t.Field, t.Word)
		}
		o = set(o, d.Remote.URL, e.URL)
		if len(e.Headers) > 0 && d.Remote.Headers == "" {
			return nil, fmt.Errorf("%s cannot set headers", d.label())
		}
		if len(e.Headers) > 0 {
			o = set(o, d.Remote.Headers, formed(e.Headers, d.Remote.Form, ": "))
		}
	case d.Command == nil:
		return nil, fmt.Errorf("%s has no entries with a command", d.label())
	default:
		var err error
		if o, err = d.writeCommand(o, e); err != nil {
			return nil, err
		}
	}
	if d.Off != nil && d.Off.Inverse {
		o = set(o, d.Off.Field, true)
	}
	return o, nil
}

func (d Dialect) writeCommand(o configfile.Object, e Entry) (configfile.Object, error) {
	c := d.Command
	if c.Type != nil {
		o = set(o, c.Type.Field, c.Type.Word)
	}
	switch {
	case c.Joined:
		o = set(o, c.Command, append([]string{e.Command}, e.Args...))
	case c.Args == "" && len(e.Args) > 0:
		return nil, fmt.Errorf("%s cannot give arguments to a command", d.label())
	default:
		o = set(o, c.Command, e.Command)
		if len(e.Args) > 0 {
			o = set(o, c.Args, e.Args)
		}
	}
	if len(e.Env) > 0 {
		if c.Env == "" {
			return nil, fmt.Errorf("%s cannot set variables", d.label())
		}
		o = set(o, c.Env, formed(e.Env, c.Form, "="))
	}
	if e.Dir != "" && c.Dir != "" {
		o = set(o, c.Dir, e.Dir)
	}
	return o, nil
}

func (d Dialect) label() string {
	if d.Title != "" {
		return d.Title
	}
	return d.Name
}

func formed(list []Value, form, sep string) any {
	switch form {
	case FormLines:
		var out []string
		for _, v := range list {
			out = append(out, v.Name+sep+v.Value)
		}
		return out
	case FormPairs:
		var out []configfile.Object
		for _, v := range list {
			out = append(out, configfile.Object{{Name: "name", Value: v.Name}, {Name: "value", Value: v.Value}})
		}
		return out
	}
	var out configfile.Object
	for _, v := range list {
		out = append(out, configfile.Field{Name: v.Name, Value: v.Value})
	}
	return out
}

// set puts a value at a path with dots.
func set(o configfile.Object, path string, value any) configfile.Object {
	key, rest, deeper := strings.Cut(path, ".")
	if !deeper {
		return append(o, configfile.Field{Name: key, Value: value})
	}
	for i := range o {
		if inner, ok := o[i].Value.(configfile.Object); ok && o[i].Name == key {
			o[i].Value = set(inner, rest, value)
			return o
		}
	}
	return append(o, configfile.Field{Name: key, Value: set(nil, rest, value)})
}

// Snippet is a file that holds nothing but an entry, to be pasted.
func (d Dialect) Snippet(e Entry) (string, error) {
	o, err := d.Write(e)
	if err != nil {
		return "", err
	}
	f, err := configfile.Parse(nil, d.Syntax)
	if err != nil {
		return "", err
	}
	out, err := f.Put(d.At(e.Name), o)
	return string(out), err
}

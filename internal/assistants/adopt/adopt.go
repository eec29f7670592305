// Package adopt works out what becomes of the entries that assistants have in their
// files already: which server each would be, which are registered, which are the same in
// several files, and where several people's files differ. It asks nobody and alters
// nothing.
package adopt

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/core/dialect"
	"bouncer/internal/core/team"
)

// What becomes of an entry.
const (
	Register = "register" // a server is registered from it
	Known    = "known"    // it is a server that is registered, or another file has it too
	Left     = "left"     // it stays in the file
)

// Item is one entry of a file, and what becomes of it.
type Item struct {
	File   string
	Entry  dialect.Entry
	Server string // name of the server
	What   string
	Why    string // why it is left
}

// Source is a file with its entries.
type Source struct {
	Path    string
	Own     string // name of Bouncer's entry, which is passed over
	Entries []dialect.Entry
}

// Plan says what becomes of the entries of some files. registered are the servers that
// there are; own is the base URL of the service.
func Plan(files []Source, registered []team.Server, own string) (out []Item) {
	taken := map[string]bool{}
	for _, s := range registered {
		taken[s.Name] = true
	}
	var fresh []Item
	for _, f := range files {
		for _, e := range f.Entries {
			item := Item{File: f.Path, Entry: e, What: Register}
			switch {
			case e.Name == f.Own, strings.HasPrefix(e.URL, own+"/mcp"):
				continue
			case e.Off:
				item.What, item.Why = Left, "it is switched off"
			case e.URL == "" && e.Command == "":
				item.What, item.Why = Left, "it has neither an address nor a command"
			default:
				item.settle(registered, fresh, taken)
			}
			if item.What == Register {
				taken[item.Server] = true
				fresh = append(fresh, item)
			}
			out = append(out, item)
		}
	}
	return out
}

// settle finds the server that an entry is, or names a new one.
func (i *Item) settle(registered []team.Server, fresh []Item, taken map[string]bool) {
	for _, s := range registered {
		if isServer(i.Entry, s.URL, s.Command, s.Args) {
			i.What, i.Server = Known, s.Name
			return
		}
	}
	for _, other := range fresh {
		if isServer(i.Entry, other.Entry.URL, other.Entry.Command, other.Entry.Args) {
			i.What, i.Server = Known, other.Server
			return
		}
	}
	base := name(i.Entry.Name)
	i.Server = base
	for n := 2; taken[i.Server]; n++ {
		i.Server = fmt.Sprintf("%s-%d", base, n)
	}
}

// isServer reports whether an entry leads to the same address, or starts the same
// command.
func isServer(e dialect.Entry, url, command string, args []string) bool {
	if e.URL != "" {
		return strings.TrimRight(e.URL, "/") == strings.TrimRight(url, "/")
	}
	return command != "" && e.Command == command && slices.Equal(e.Args, args)
}

// name is a name that a server can have.
func name(text string) string {
	out := strings.Trim(strings.Map(func(r rune) rune {
		if (r >= 'a' && r <= 'z') || (r >= '0' && r <= '9') {
			return r
		}
		return '-'
	}, strings.ToLower(text)), "-")
	for strings.Contains(out, "--") {
		out = strings.ReplaceAll(out, "--", "-")
	}
	if len(out) > 28 {
		out = strings.Trim(out[:28], "-")
	}
	if out == "" {
		return "server"
	}
	return out
}

// Text is an item as the service imports it.
func (i Item) Text() (string, error) {
	entry := map[string]any{}
	set := func(key string, value any, there bool) {
		if there {
			entry[key] = value
		}
	}
	set("url", i.Entry.URL, i.Entry.URL != "")
	set("type", "sse", i.Entry.URL != "" && strings.Contains(strings.ToLower(i.Entry.Type), "sse"))
	set("headers", asMap(i.Entry.Headers), len(i.Entry.Headers) > 0)
	set("command", i.Entry.Command, i.Entry.Command != "")
	set("args", i.Entry.Args, len(i.Entry.Args) > 0)
	set("env", asMap(i.Entry.Env), len(i.Entry.Env) > 0)
	set("cwd", i.Entry.Dir, i.Entry.Dir != "")
	raw, err := json.Marshal(map[string]any{"mcpServers": map[string]any{i.Server: entry}})
	return string(raw), err
}

func asMap(list []dialect.Value) map[string]string {
	out := map[string]string{}
	for _, v := range list {
		out[v.Name] = v.Value
	}
	return out
}

// Resolve puts the values of variables in where an entry only names them. missing are
// those that are not set.
func (i *Item) Resolve(reference string, getenv func(string) string) (missing []string) {
	before, after, ok := strings.Cut(reference, "NAME")
	if !ok {
		return nil
	}
	for _, list := range [][]dialect.Value{i.Entry.Env, i.Entry.Headers} {
		for at, v := range list {
			begin := strings.Index(v.Value, before)
			if begin < 0 {
				continue
			}
			rest := v.Value[begin+len(before):]
			end := len(rest)
			if after != "" {
				if end = strings.Index(rest, after); end < 0 {
					continue
				}
			}
			variable := rest[:end]
			if value := getenv(variable); value != "" {
				list[at].Value = v.Value[:begin] + value + strings.TrimPrefix(rest[end:], after)
			} else {
				missing = append(missing, variable)
			}
		}
	}
	return missing
}

// EnvFiles are the files with variables that an entry names in its arguments, as
// --env-file FILE or --env-file=FILE.
func (i Item) EnvFiles() (out []string) {
	for at, arg := range i.Entry.Args {
		if path, ok := strings.CutPrefix(arg, "--env-file="); ok {
			out = append(out, path)
		} else if arg == "--env-file" && at+1 < len(i.Entry.Args) {
			out = append(out, i.Entry.Args[at+1])
		}
	}
	return out
}

// TakeEnv takes the variables of the files over and the files out of the arguments. What
// runs a container is told the names instead, since its variables are not its program's.
func (i *Item) TakeEnv(values []dialect.Value) {
	container := len(i.Entry.Args) > 0 && i.Entry.Args[0] == "run"
	var args []string
	named := false
	for at := 0; at < len(i.Entry.Args); at++ {
		arg := i.Entry.Args[at]
		switch {
		case arg == "--env-file" && at+1 < len(i.Entry.Args):
			at++
		case strings.HasPrefix(arg, "--env-file="):
		default:
			args = append(args, arg)
			continue
		}
		for _, v := range values {
			if container && !named {
				args = append(args, "-e", v.Name)
			}
		}
		named = true
	}
	i.Entry.Args = args
	for _, v := range values {
		if !slices.ContainsFunc(i.Entry.Env, func(have dialect.Value) bool { return have.Name == v.Name }) {
			i.Entry.Env = append(i.Entry.Env, v)
		}
	}
}

// Shared is a server that several files have, with how they differ.
type Shared struct {
	Server string
	Files  []string
	Differ []string
}

// Compare tells which servers several files have in common, and where they differ: in
// variables, headers or the directory. Values that are secrets are not told.
func Compare(items []Item) (out []Shared) {
	byServer := map[string][]Item{}
	var order []string
	for _, i := range items {
		if i.What == Left {
			continue
		}
		if len(byServer[i.Server]) == 0 {
			order = append(order, i.Server)
		}
		byServer[i.Server] = append(byServer[i.Server], i)
	}
	for _, server := range order {
		list := byServer[server]
		if len(list) < 2 {
			continue
		}
		s := Shared{Server: server}
		seen := map[string]bool{}
		for _, i := range list {
			s.Files = append(s.Files, i.File)
			for _, d := range differences(list[0].Entry, i.Entry) {
				if !seen[d] {
					seen[d] = true
					s.Differ = append(s.Differ, d)
				}
			}
		}
		out = append(out, s)
	}
	return out
}

func differences(a, b dialect.Entry) (out []string) {
	for _, part := range []struct {
		what string
		a, b []dialect.Value
	}{{"the variable", a.Env, b.Env}, {"the header", a.Headers, b.Headers}} {
		have, other := asMap(part.a), asMap(part.b)
		for _, name := range keys(have, other) {
			if have[name] != other[name] {
				out = append(out, part.what+" "+name)
			}
		}
	}
	if a.Dir != b.Dir {
		out = append(out, "the directory")
	}
	return out
}

func keys(maps ...map[string]string) (out []string) {
	for _, m := range maps {
		for key := range m {
			if !slices.Contains(out, key) {
				out = append(out, key)
			}
		}
	}
	slices.Sort(out)
	return out
}

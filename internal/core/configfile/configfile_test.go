package configfile

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var entryValue = Object{
	{"type", "http"},
	{"url", "http://127.0.0.1:4680/mcp"},
	{"headers", Object{{"Authorization", "Bearer bp_x: \"quoted\" #no comment"}}},
	{"args", []string{"--a b", "c:d"}},
}

// writer makes files as people and programs write them.
type writer struct {
	*rand.Rand
	nl string
	b  strings.Builder
}

func (w *writer) line(format string, args ...any) { fmt.Fprintf(&w.b, format+w.nl, args...) }
func (w *writer) some(n int) bool                 { return w.IntN(n) == 0 }
func (w *writer) word() string {
	return []string{"theme", "model", "tides", "Largest", "x-1", "über", "a.b", "on", "north wind"}[w.IntN(9)]
}

func (w *writer) remark(indent, mark string) {
	if w.some(3) {
		w.line("%s%s remark %d, \"with\" {marks} [and]: more", indent, mark, w.IntN(1000))
	}
	if w.some(5) {
		w.line("")
	}
}

// file writes a file of a syntax with n servers below path, and says which they are.
func (w *writer) file(syntax Syntax, e Entry, n int) string {
	w.b.Reset()
	w.nl = "\n"
	if w.some(4) {
		w.nl = "\r\n"
	}
	switch syntax {
	case JSON:
		w.json(e, n)
	case YAML:
		w.yaml(e, n)
	default:
		w.toml(e, n)
	}
	out := w.b.String()
	if w.some(4) {
		out = strings.TrimSuffix(out, w.nl)
	}
	if w.some(6) {
		out = "\ufeff" + out
	}
	return out
}

func (w *writer) json(e Entry, n int) {
	unit := []string{"  ", "\t", "    ", ""}[w.IntN(4)]
	w.remark("", "//")
	w.line("{")
	others := w.IntN(3)
	for i := range others {
		w.remark(unit, "//")
		w.line("%s%q: [1, %q, {\"a\": null}], /* so */", unit, fmt.Sprint(w.word(), i), w.word())
	}
	open, end := "{", "}"
	if e.inList() {
		open, end = "[", "]"
	}
	indent := unit
	for _, key := range e.Path[:len(e.Path)-1] {
		w.line("%s%q: {", indent, key)
		indent += unit
	}
	w.line("%s%q: %s", indent, e.Path[len(e.Path)-1], open)
	for i := range n {
		w.remark(indent+unit, "//")
		comma := ","
		if i == n-1 && !w.some(3) {
			comma = ""
		}
		head := fmt.Sprintf("%q: ", fmt.Sprint("server", i))
		name := ""
		if e.inList() {
			head, name = "", fmt.Sprintf("%q: %q, ", e.NameKey, fmt.Sprint("server", i))
		}
		if w.some(2) {
			w.line("%s%s{ %s\"command\": \"npx\", \"args\": [\"-y\", \"x//y\"] }%s", indent+unit, head, name, comma)
			continue
		}
		w.line("%s%s{", indent+unit, head)
		w.line("%s%s\"url\": \"https://tides.example/mcp\", // there", indent+unit+unit, name)
		w.line("%s\"headers\": { \"X\": \"}\" }", indent+unit+unit)
		w.line("%s}%s", indent+unit, comma)
	}
	w.line("%s%s", indent, end)
	for i := len(e.Path) - 2; i >= 0; i-- {
		indent = strings.TrimSuffix(indent, unit)
		w.line("%s}", indent)
	}
	w.line("}")
	w.remark("", "//")
}

func (w *writer) yaml(e Entry, n int) {
	unit := strings.Repeat(" ", 2+2*w.IntN(2))
	w.remark("", "#")
	for i := range w.IntN(3) {
		w.remark("", "#")
		switch w.IntN(4) {
		case 0:
			w.line("%q: {a: [1, '}', \"]\"], b: ~} # so", fmt.Sprint(w.word(), i))
		case 1:
			w.line("note%d: |", i)
			w.line("%stext # no remark", unit)
			w.line("")
			w.line("%s  more: of it", unit)
		case 2:
			w.line("anchor%d: &a%d", i, i)
			w.line("%sx: 1", unit)
			w.line("again%d:", i)
			w.line("%s<<: *a%d", unit, i)
		default:
			w.line("list%d:", i)
			w.line("- one")
			w.line("- two: 2")
			w.line("  three: 3")
		}
	}
	indent := ""
	for _, key := range e.Path[:len(e.Path)-1] {
		w.line("%s%s:", indent, key)
		indent += unit
	}
	last := e.Path[len(e.Path)-1]
	style := w.IntN(4)
	switch {
	case n == 0 && style == 0:
		w.line("%s%s:", indent, last)
	case n == 0:
		w.line("%s%s: %s", indent, last, map[bool]string{true: "[]", false: "{}"}[e.inList()])
	case style == 0 && !e.inList():
		var parts []string
		for i := range n {
			parts = append(parts, fmt.Sprintf("server%d: {command: npx, args: [-y, 'x, y']}", i))
		}
		w.line("%s%s: {%s} # flow", indent, last, strings.Join(parts, ", "))
	default:
		w.line("%s%s:", indent, last)
		if e.inList() && style == 3 {
			unit = "" // items may stand where their key does
		}
		for i := range n {
			w.remark(indent+unit, "#")
			if e.inList() {
				w.line("%s- %s: server%d", indent+unit, e.NameKey, i)
			} else {
				w.line("%sserver%d:", indent+unit, i)
			}
			w.line("%scommand: npx # here", indent+unit+"  ")
			w.line("%sargs: [\"-y\", x#y]", indent+unit+"  ")
			w.line("%senv:", indent+unit+"  ")
			w.line("%sLOG: 'a: b'", indent+unit+"    ")
		}
	}
	w.remark("", "#")
	if w.some(2) {
		w.line("after:")
		w.line("%s- 1", unit)
	}
}

func (w *writer) toml(e Entry, n int) {
	w.remark("", "#")
	for i := range w.IntN(3) {
		w.remark("", "#")
		w.line("key%d = [1, \"]\", # so", i)
		w.line("  2]")
	}
	if w.some(2) {
		w.line("[other.'quoted key']")
		w.line("text = \"\"\"")
		w.line("[not.a.header]")
		w.line("\"\"\" # end")
	}
	path := strings.Join(e.Path, ".")
	style := w.IntN(5)
	switch {
	case e.inList():
		for i := range n {
			w.remark("", "#")
			w.line("[[%s]]", path)
			w.line("%s = \"server%d\"", e.NameKey, i)
			w.line("command = 'npx' # here")
			if w.some(2) {
				w.line("[%s.env]", path)
				w.line("LOG = \"info\"")
			}
		}
	case style == 4 && !strings.Contains(w.b.String(), "[other"):
		for i := range n {
			w.line("%s.server%d = { command = \"npx\" } # inline", path, i)
		}
		w.line("last = true")
	case style == 0:
		var parts []string
		for i := range n {
			parts = append(parts, fmt.Sprintf("server%d = { command = \"npx\", args = [\"-y\", \"}\"] }", i))
		}
		w.line("[%s]", strings.Join(append(slices.Clone(e.Path[:len(e.Path)-1]), "before"), "."))
		w.line("[%s]", path)
		for _, part := range parts {
			w.remark("", "#")
			w.line("%s", part)
		}
	case style == 1:
		w.line("[%s]", path)
		for i := range n {
			w.line("server%d.command = \"npx\"", i)
			w.line("server%d.args = [\"-y\"] # here", i)
		}
	default:
		for i := range n {
			w.remark("", "#")
			w.line("[%s.server%d]", path, i)
			w.line("command = \"npx\"")
			w.line("args = [")
			w.line("  \"-y\", # why")
			w.line("]")
			if w.some(2) {
				w.line("[%s.server%d.env]", path, i)
				w.line("LOG = \"info\"")
			}
		}
	}
	w.remark("", "#")
	if w.some(2) {
		w.line("[after]")
		w.line("x = 1")
	}
}

func entries(syntax Syntax, r *rand.Rand) Entry {
	e := Entry{Path: [][]string{{"mcpServers"}, {"tools", "servers"}, {"a", "b", "c"}}[r.IntN(3)], Name: "bouncer"}
	if r.IntN(3) == 0 {
		e.NameKey = "name"
	}
	_ = syntax
	return e
}

// named is the value with the name in it, where that is how entries are told apart.
func named(e Entry) Object {
	if e.inList() {
		return append(Object{{e.NameKey, e.Name}}, entryValue...)
	}
	return entryValue
}

// Whatever a file looks like, an entry is set, replaced and taken out again without
// anything else in it being touched.
func TestAnEntryIsAllThatChanges(t *testing.T) {
	t.Parallel()
	for _, syntax := range Syntaxes {
		t.Run(string(syntax), func(t *testing.T) {
			t.Parallel()
			files := uint64(1200)
			if testing.Short() {
				files = 60
			}
			for seed := range files {
				w := &writer{Rand: rand.New(rand.NewPCG(seed, 7))}
				e := entries(syntax, w.Rand)
				n := w.IntN(4)
				if e.inList() && syntax == TOML && n == 0 {
					n = 1
				}
				src := w.file(syntax, e, n)
				f, err := Parse([]byte(src), syntax)
				require.NoError(t, err, "seed %d:\n%s", seed, src)
				out, err := f.Put(e, named(e))
				require.NoError(t, err, "seed %d:\n%s", seed, src)
				keeps(t, src, string(out), seed)
				assert.Equal(t, strings.HasPrefix(src, "\ufeff"), strings.HasPrefix(string(out), "\ufeff"))
				if strings.Contains(src, "\r\n") {
					assert.Equal(t, strings.Count(string(out), "\n"), strings.Count(string(out), "\r\n"), "seed %d:\n%q", seed, out)
				}

				again, err := Parse(out, syntax)
				require.NoError(t, err)
				same, err := again.Put(e, named(e))
				require.NoError(t, err, "seed %d:\n%s", seed, out)
				require.Equal(t, string(out), string(same), "seed %d: setting it once more alters nothing", seed)
				other := append(Object{}, named(e)...)
				other[len(other)-1].Value = []string{"another"}
				replaced, err := again.Put(e, other)
				require.NoError(t, err, "seed %d:\n%s", seed, out)
				keeps(t, src, string(replaced), seed)

				gone, err := again.Remove(e)
				require.NoError(t, err, "seed %d:\n%s", seed, out)
				keeps(t, src, string(gone), seed)
				if n > 0 {
					first := e
					first.Name = "server0"
					less, err := again.Remove(first)
					require.NoError(t, err, "seed %d:\n%s", seed, out)
					left, err := Parse(less, syntax)
					require.NoError(t, err)
					require.Nil(t, left.Find(first))
					require.NotNil(t, left.Find(e))
				}
			}
		})
	}
}

// keeps checks that each line of a file is still there, in its order; a comma may have
// come to its end.
func keeps(t *testing.T, before, after string, seed uint64) {
	t.Helper()
	bare := func(s string) string {
		return strings.TrimRight(strings.TrimPrefix(strings.TrimSpace(s), "\ufeff"), ", ")
	}
	left := strings.Split(after, "\n")
	for _, line := range strings.Split(before, "\n") {
		line = bare(line)
		// The map itself may be written on several lines now, or hold one more on its line.
		if line == "" || strings.HasSuffix(line, "{}") || strings.HasSuffix(line, "[]") || strings.Contains(line, "# flow") {
			continue
		}
		at := slices.IndexFunc(left, func(l string) bool { return bare(l) == line })
		require.GreaterOrEqual(t, at, 0, "seed %d: %q is gone or elsewhere:\n%s\n----\n%s", seed, line, before, after)
		left = left[at+1:]
	}
}

// What cannot be read is told with its place, and an entry never lands where it would be
// something else.
func TestWhatCannotBeReadOrChanged(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		syntax       Syntax
		src, says    string
		line, column int
	}{
		{JSON, "{\n  \"mcpServers\": {\n    \"a\": {,}\n  }\n}", "name in double quotes", 3, 11},
		{JSON, "{\"a\": 1, \"a\": 2}", "second time", 1, 10},
		{JSON, "{\"a\": \"x", "no closing quote", 1, 7},
		{JSON, "[1]", "must be a JSON object", 1, 1},
		{YAML, "a:\n  b: [1, 2\nc: 3\n", "did not find expected", 2, 0},
		{YAML, "a: 1\na: 2\n", "second time", 2, 1},
		{YAML, "a: 1\n---\nb: 2\n", "second document", 2, 0},
		{YAML, "a:\n\tb: 1\n", "cannot start any token", 2, 0},
		{TOML, "a = 1\n[b\nc = 2\n", "", 2, 3},
		{TOML, "a = 1\na = 2\n", "", 2, 1},
		{TOML, "a = \"x\n", "", 1, 0},
		{JSON, "{\"a\": \"\xff\"}", "not UTF-8", 1, 8},
	} {
		_, err := Parse([]byte(row.src), row.syntax)
		var bad *SyntaxError
		if assert.ErrorAs(t, err, &bad, row.src) {
			assert.Contains(t, bad.What, row.says, row.src)
			assert.Equal(t, row.line, bad.Line, "%s: %v", row.src, bad)
			if row.column > 0 {
				assert.Equal(t, row.column, bad.Column, row.src)
			}
		}
	}
	e := Entry{Path: []string{"mcpServers"}, Name: "bouncer"}
	for _, row := range []struct {
		syntax Syntax
		src    string
	}{
		{JSON, `{"mcpServers": [1]}`},
		{JSON, `{"mcpServers": "none"}`},
		{YAML, "base: &b\n  x: {command: a}\nmcpServers: *b\n"},
		{YAML, "base: &b\n  bouncer: {command: a}\nmcpServers:\n  <<: *b\n"},
		{YAML, "- a\n- b\n"},
		{YAML, "mcpServers: text\n"},
		{TOML, "mcpServers = 3\n"},
		{TOML, "[[mcpServers]]\na = 1\n"},
	} {
		f, err := Parse([]byte(row.src), row.syntax)
		require.NoError(t, err, row.src)
		_, err = f.Put(e, entryValue)
		var written *WrittenError
		assert.ErrorAs(t, err, &written, row.src)
	}
}

// Files that are nearly nothing get what is missing.
func TestNearlyEmptyFiles(t *testing.T) {
	t.Parallel()
	e := Entry{Path: []string{"tools", "servers"}, Name: "bouncer"}
	value := Object{{"url", "http://x"}}
	for _, row := range []struct {
		syntax    Syntax
		src, want string
	}{
		{JSON, "", "{\n  \"tools\": {\n    \"servers\": {\n      \"bouncer\": {\n        \"url\": \"http://x\"\n      }\n    }\n  }\n}\n"},
		{JSON, "{}", "{\n  \"tools\": {\n    \"servers\": {\n      \"bouncer\": {\n        \"url\": \"http://x\"\n      }\n    }\n  }\n}"},
		{JSON, "{\"tools\": {\"servers\": {}}}", "{\"tools\": {\"servers\": {\n  \"bouncer\": {\n    \"url\": \"http://x\"\n  }\n}}}"},
		{YAML, "", "tools:\n  servers:\n    bouncer:\n      url: \"http://x\"\n"},
		{YAML, "# only this\n", "# only this\ntools:\n  servers:\n    bouncer:\n      url: \"http://x\"\n"},
		{YAML, "tools: # none\n", "tools: # none\n  servers:\n    bouncer:\n      url: \"http://x\"\n"},
		{YAML, "tools: ~ # none\nb: 1\n", "tools: # none\n  servers:\n    bouncer:\n      url: \"http://x\"\nb: 1\n"},
		{YAML, "tools:\n  servers: {} # none\nb: 1\n", "tools:\n  servers: # none\n    bouncer:\n      url: \"http://x\"\nb: 1\n"},
		{YAML, "---\ntools: {}\n...\n", "---\ntools:\n  servers:\n    bouncer:\n      url: \"http://x\"\n...\n"},
		{TOML, "tools.servers.a = { url = 'y' } # a\nb = 1\n", "tools.servers.a = { url = 'y' } # a\ntools.servers.bouncer = { url = \"http://x\" }\nb = 1\n"},
		{YAML, "tools:\n", "tools:\n  servers:\n    bouncer:\n      url: \"http://x\"\n"},
		{YAML, "tools:\n  x: 1\nafter: 2", "tools:\n  x: 1\n  servers:\n    bouncer:\n      url: \"http://x\"\nafter: 2"},
		{TOML, "", "[tools.servers.bouncer]\nurl = \"http://x\"\n"},
		{TOML, "a = 1", "a = 1\n\n[tools.servers.bouncer]\nurl = \"http://x\"\n"},
		{TOML, "[tools]\nx = 1\n\n[after]\ny = 2\n", "[tools]\nx = 1\n\n[after]\ny = 2\n\n[tools.servers.bouncer]\nurl = \"http://x\"\n"},
		{TOML, "tools.servers = {}\n", "tools.servers = { bouncer = { url = \"http://x\" } }\n"},
	} {
		f, err := Parse([]byte(row.src), row.syntax)
		require.NoError(t, err)
		out, err := f.Put(e, value)
		require.NoError(t, err, row.src)
		assert.Equal(t, row.want, string(out), row.src)
	}
}

func TestGuess(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		name, src string
		want      Syntax
	}{
		{"a.json", "", JSON}, {"a.YML", "", YAML}, {"a.toml", "", TOML}, {".quillrc", "{}", JSON}, {".rc", "// x\n{}", JSON},
		{"rc", "a: 1\nb:\n  c: 2\n", YAML}, {"rc", "[a]\nb = 1\n", TOML}, {"rc", "", JSON},
	} {
		assert.Equal(t, row.want, Guess(row.name, []byte(row.src)), "%s %s", row.name, row.src)
	}
}

func FuzzPut(f *testing.F) {
	for _, syntax := range Syntaxes {
		for seed := range uint64(20) {
			w := &writer{Rand: rand.New(rand.NewPCG(seed, 9))}
			f.Add(string(syntax), w.file(syntax, Entry{Path: []string{"mcpServers"}}, 2))
		}
	}
	f.Fuzz(func(t *testing.T, syntax, src string) {
		file, err := Parse([]byte(src), Syntax(syntax))
		if err != nil {
			var bad *SyntaxError
			require.ErrorAs(t, err, &bad)
			return
		}
		e := Entry{Path: []string{"mcpServers"}, Name: "bouncer"}
		out, err := file.Put(e, entryValue)
		var written *WrittenError
		if errors.As(err, &written) {
			return
		}
		require.NoError(t, err)
		again, err := Parse(out, Syntax(syntax))
		require.NoError(t, err)
		require.NotNil(t, again.Find(e))
		if _, err = again.Remove(e); err != nil {
			require.ErrorAs(t, err, &written)
		}
	})
}

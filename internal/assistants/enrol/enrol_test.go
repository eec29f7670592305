package enrol

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/configfile"
	"bouncer/internal/core/dialect"
)

var bouncer = dialect.Entry{
	Name: "bouncer", URL: "http://127.0.0.1:4680/mcp", Headers: []dialect.Value{{Name: "Authorization", Value: "Bearer bnp_x"}},
}

// content is a file of a dialect with some entries.
func content(t *testing.T, d dialect.Dialect, r *rand.Rand) []byte {
	t.Helper()
	comment := map[configfile.Syntax]string{configfile.JSON: "// mine", configfile.YAML: "# mine", configfile.TOML: "# mine"}[d.Syntax]
	out := []byte(comment + "\n")
	if d.Syntax == configfile.JSON {
		out = append(out, "{\n\t\"theme\": 1, // light\n}\n"...)
	}
	for i := range r.IntN(4) {
		f, err := configfile.Parse(out, d.Syntax)
		require.NoError(t, err)
		e := dialect.Entry{Name: fmt.Sprintf("server%d", i), Command: "berths", Args: []string{"-v"}}
		if r.IntN(2) == 0 {
			e = dialect.Entry{Name: e.Name, URL: "https://tides.example/mcp"}
		}
		o, err := d.Write(e)
		require.NoError(t, err)
		out, err = f.Put(d.At(e.Name), o)
		require.NoError(t, err)
	}
	if r.IntN(3) == 0 {
		out = []byte(strings.ReplaceAll(string(out), "\n", "\r\n"))
	}
	if r.IntN(3) == 0 {
		out = []byte(strings.TrimRight(string(out), "\r\n"))
	}
	return out
}

// enrolled is the content with Bouncer's entry, and what leads back.
func enrolled(t *testing.T, d dialect.Dialect, before []byte, drop ...string) (after []byte, e Enrolment) {
	t.Helper()
	e = Enrolment{Dialect: d, Entry: "bouncer", Adopted: drop}
	after = before
	for _, name := range append(drop, "") {
		f, err := configfile.Parse(after, d.Syntax)
		require.NoError(t, err)
		if name != "" {
			after, err = f.Remove(d.At(name))
			require.NoError(t, err)
			continue
		}
		o, err := d.Write(bouncer)
		require.NoError(t, err)
		after, err = f.Put(d.At("bouncer"), o)
		require.NoError(t, err, "%s", after)
	}
	e.Differ(before, after)
	return after, e
}

// Whatever the file is like, undoing gives its very bytes; and when somebody altered it
// since, their alteration stays and what was taken over is back.
func TestUndoneIsAsBefore(t *testing.T) {
	t.Parallel()
	for _, d := range dialect.Shipped() {
		for seed := range uint64(150) {
			r := rand.New(rand.NewPCG(seed, 5))
			before := content(t, d, r)
			f, err := configfile.Parse(before, d.Syntax)
			require.NoError(t, err)
			var drop []string
			for _, e := range d.Entries(f) {
				if r.IntN(2) == 0 {
					drop = append(drop, e.Name)
				}
			}
			after, e := enrolled(t, d, before, drop...)
			back, err := e.Undone(after)
			require.NoError(t, err)
			require.Equal(t, string(before), string(back), "%s, seed %d", d.Name, seed)

			e.Backup = filepath.Join(t.TempDir(), "before")
			require.NoError(t, os.WriteFile(e.Backup, before, 0o600))
			g, err := configfile.Parse(after, d.Syntax)
			require.NoError(t, err)
			o, err := d.Write(dialect.Entry{Name: "installed", URL: "https://new.example/mcp"})
			require.NoError(t, err)
			altered, err := g.Put(d.At("installed"), o)
			require.NoError(t, err)
			back, err = e.Undone(altered)
			require.NoError(t, err, "%s, seed %d:\n%s", d.Name, seed, altered)
			h, err := configfile.Parse(back, d.Syntax)
			require.NoError(t, err)
			assert.Nil(t, h.Find(d.At("bouncer")))
			assert.NotNil(t, h.Find(d.At("installed")))
			for _, name := range drop {
				assert.NotNil(t, h.Find(d.At(name)), "%s, seed %d", d.Name, seed)
			}
		}
	}
}

// A file is written as a whole or not at all, closed while it holds a pass, and left
// alone when it is not what was read.
func TestFilesAreWrittenWhole(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "Ünser file.json")
	require.NoError(t, os.WriteFile(path, []byte("{}"), 0o644))
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink(path, link))
	f, err := Read(link)
	require.NoError(t, err)
	w, err := f.Write([]byte(`{"a":1}`), true)
	require.NoError(t, err)
	assert.True(t, w.Closed)
	info, err := os.Lstat(link)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&fs.ModeSymlink, "a link stays a link")
	info, err = os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
	_, err = f.Write([]byte(`{"a":2}`), true)
	require.ErrorIs(t, err, ErrChanged)
	require.NoError(t, f.Revert([]byte(`{"a":1}`), w))
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "{}", string(raw))
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	assert.Len(t, left, 2, "neither a copy nor a half is left: %v", left)

	require.NoError(t, os.Chmod(path, 0o444))
	locked, err := Read(path)
	require.NoError(t, err)
	_, err = locked.Write([]byte("{}"), true)
	require.ErrorContains(t, err, "read-only")

	_, err = Read(dir)
	require.ErrorContains(t, err, "no file")
	_, err = Read(filepath.Join(dir, "nowhere", "x"))
	require.ErrorContains(t, err, "no such file")
	require.NoError(t, os.Symlink(filepath.Join(dir, "missing"), filepath.Join(dir, "dangling")))
	_, err = Read(filepath.Join(dir, "dangling"))
	require.ErrorContains(t, err, "which does not exist")
	large := filepath.Join(dir, "large")
	require.NoError(t, os.WriteFile(large, make([]byte, configfile.MaxFile+1), 0o600))
	_, err = Read(large)
	require.ErrorContains(t, err, "larger than")
}

// Two that write the book at once lose nothing.
func TestTheBookKeepsEverything(t *testing.T) {
	t.Parallel()
	b := OpenBook(t.TempDir())
	var wg sync.WaitGroup
	for i := range 20 {
		wg.Go(func() {
			assert.NoError(t, b.Put(Enrolment{Path: fmt.Sprint(i), Entry: "bouncer", Agent: "marit-quill"}))
		})
	}
	wg.Wait()
	list, err := b.List()
	require.NoError(t, err)
	assert.Len(t, list, 20)
	require.NoError(t, b.Remove("7", "bouncer"))
	_, ok, err := b.Of("7", "")
	require.NoError(t, err)
	assert.False(t, ok)
}

// The dialect of a file is the one whose place it is, the one that fits, or one that is
// worked out; what is not clear is not guessed.
func TestChooseADialect(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	m := Machine{Home: home, Dir: home, Dialects: filepath.Join(home, "dialects"), Getenv: func(string) string { return "" }}
	known, problems := m.Known()
	require.Empty(t, problems)
	file := func(name, text string) File {
		path := filepath.Join(home, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		f, err := Read(path)
		require.NoError(t, err)
		return f
	}
	for _, row := range []struct{ name, text, want string }{
		{".quill/config.json", "{}", "quill"},
		{"any.json", `{"mcpServers": {"a": {"command": "x"}}}`, "common"},
		{"new.json", `{"theme": 1}`, "common"},
		{"other.yaml", "connections:\n- name: a\n  endpoint: https://a.example\n", "parlour"},
		{".config/sextant/settings.json", `{"context": {"servers": {"a": {"cmd": "x", "args": ["y"]}}}}`, "sextant"},
	} {
		c, err := m.Choose(known, file(row.name, row.text))
		require.NoError(t, err, row.name)
		assert.Equal(t, row.want, c.Dialect.Name, row.name)
	}
	var unclear *UnclearError
	_, err := m.Choose(known, file("empty.toml", "a = 1\n"))
	require.ErrorAs(t, err, &unclear)
	_, err = m.Choose(known, file("two.json", `{"servers": {"a": {"cmd": "x", "args": ["y"]}}, "mcp": {"b": {"cmd": "x", "args": ["y"]}}}`))
	require.ErrorAs(t, err, &unclear)
	assert.Len(t, unclear.Candidates, 2)
	assert.Len(t, m.Find(known), 1)

	own := dialect.Shipped()[0]
	own.Title = "mine"
	_, err = m.AddDialect(own)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(m.Dialects, "bad.yaml"), []byte("dialect: X"), 0o600))
	known, problems = m.Known()
	assert.Len(t, problems, 1)
	assert.Len(t, known, 4)
	require.NoError(t, m.RemoveDialect("common"))
	require.ErrorIs(t, m.RemoveDialect("common"), fs.ErrNotExist)
}

// A file of the project that has an entry of the same name is told: it wins there.
func TestShadowedByAProject(t *testing.T) {
	t.Parallel()
	home, project := t.TempDir(), t.TempDir()
	m := Machine{Home: home, Dir: project, Dialects: filepath.Join(home, "dialects"), Getenv: func(string) string { return "" }}
	known, _ := m.Known()
	text := `{"mcpServers": {"bouncer": {"type": "http", "url": "http://b/mcp", "headers": {"Authorization": "Bearer $NAME"}}}}`
	for _, dir := range []string{home, project} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, ".quill"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".quill", "config.json"), []byte(text), 0o600))
	}
	f, err := Read(filepath.Join(home, ".quill", "config.json"))
	require.NoError(t, err)
	c, err := m.Choose(known, f)
	require.NoError(t, err)
	problems := m.Check(Enrolment{Path: f.Real, Dialect: c.Dialect, Entry: "bouncer", Agent: "marit-quill", As: AsPass}, Facts{Address: "http://b"})
	require.Len(t, problems, 1, "%v", problems)
	assert.Equal(t, EntryShadowed, problems[0].Cause)
}

// A disk that is full in the middle leaves the file as it was, and nothing beside it.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("no file system can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	path := filepath.Join(dir, "quill.json")
	require.NoError(t, os.WriteFile(path, []byte(`{"a": 1}`), 0o600))
	f, err := Read(path)
	require.NoError(t, err)
	_, err = f.Write(make([]byte, 256<<10), true)
	var failed *FileError
	require.ErrorAs(t, err, &failed)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, `{"a": 1}`, string(raw))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "%v", left)
}

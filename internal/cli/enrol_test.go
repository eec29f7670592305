package cli

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/assistants/enrol"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/nightwatch"
	"bouncer/standin/parlour"
	"bouncer/standin/quill"
)

const (
	quillFile   = "{\n  // the desk's\n  \"theme\": \"harbour\",\n  \"mcpServers\": {\n    \"tides\": {\"url\": \"https://tides.example/mcp\", \"disabled\": true},\n  },\n}\n"
	parlourFile = "# passenger services\r\ntheme: harbour\r\nconnections:\r\n  # kept by hand\r\n  - name: tides\r\n    run: [tides-server, -v]\r\n" +
		"    active: false\r\n    environment:\r\n      TIDES_KEY: skf-4hg2Lq9vPz7Wm1Tx\r\n\r\nvoice: on\r\n"
	watchFile = "# the night watch\nquiet = true\n\n[tools.servers.tides]\nkind = \"local\"\nprogram = \"tides-server\"\n\n[lights]\nat = 18\n"
)

// Three assistants with three kinds of files are enrolled, connect, and have the very
// bytes of their files back.
func TestEachKindOfFile(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	d.w.Rule("admit", "*", "echo", "echo")
	for _, row := range []struct {
		agent, file, dialect, before string
		load                         func(string) ([]*quill.Assistant, error)
	}{
		{"marit-quill", "config.json", "common", quillFile, quill.Load},
		{"ottilie-parlour", "parlour.yaml", "parlour", parlourFile, parlour.Load},
		{"night-watch", "watch.toml", "night-watch", watchFile, nightwatch.Load},
	} {
		path := filepath.Join(d.dir, row.file)
		require.NoError(t, os.WriteFile(path, []byte(row.before), 0o640))
		_, _, errs := d.run(t.Context(), "", "enrol", row.agent, "--config", path, "--create", "--dry-run")
		assert.NotContains(t, errs, "skf-4hg2", "the diff shows no secret")
		out := d.ok("", "enrol", row.agent, "--config", path, "--create", "--yes")
		assert.Contains(t, out, row.agent+" is enrolled")
		assert.Contains(t, out, "cannot any more", "others could read it")
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		after, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, line := range strings.Split(strings.TrimSpace(row.before), "\n") {
			assert.Contains(t, string(after), strings.TrimRight(line, ",\r"), row.file)
		}

		list, err := row.load(path)
		require.NoError(t, err, "%s", after)
		var mine *quill.Assistant
		for _, a := range list {
			if a.Name() == "bouncer" {
				mine = a
			}
		}
		require.NotNil(t, mine, "%s", after)
		require.NoError(t, mine.Connect(t.Context()))
		assert.Equal(t, []string{"echo__echo"}, mine.Tools)
		var seen team.Contact
		d.w.Must("GET", "/api/agents/"+row.agent+"/contact", nil, &seen)
		assert.Equal(t, 1, seen.Tools)
		assert.Contains(t, "quill parlour night-watch", seen.Client)
		assert.False(t, seen.Stale)

		// Once more: another pass, and still one way back.
		d.ok("", "enrol", row.agent, "--config", path, "--yes")
		assert.Contains(t, d.ok("", "enrol", "--check", "--config", path), "in order")
		assert.Contains(t, d.ok("", "enrol", "--undo", "--config", path, "--yes"), "as it was")
		back, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, row.before, string(back))
		info, err = os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "it is open again")
	}
	assert.Contains(t, d.ok("", "enrol", "--check"), "nothing was enrolled")
}

// What is wrong with an enrolled file is told with what mends it.
func TestCheckTellsWhatIsWrong(t *testing.T) {
	t.Parallel()
	d := sit(t)
	upstream := testkit.Upstream(t, testkit.Echo("", nil))
	d.w.Register("echo", upstream, "")
	path := filepath.Join(d.dir, "quill.json")
	enrolled := func(text string) {
		t.Helper()
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		d.ok("", "enrol", "marit-quill", "--config", path, "--create", "--yes")
	}
	alter := func(old, fresh string) {
		t.Helper()
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Contains(t, string(raw), old)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(raw), old, fresh, 1)), 0o600))
	}
	causes := func() (out []string, list []enrol.Problem) {
		t.Helper()
		_, text, _ := d.run(t.Context(), "", "enrol", "--check", "--json")
		require.NoError(t, json.Unmarshal([]byte(text), &list), text)
		for _, p := range list {
			out = append(out, p.Cause)
			assert.NotEmpty(t, p.Fix)
		}
		return out, list
	}
	enrolled(`{"mcpServers": {"direct": {"url": "` + upstream + `"}, "keyed": {"command": "x", "env": {"KEY": "skf-4hg2Lq9vPz7Wm1Tx"}}}}`)
	got, _ := causes()
	assert.Equal(t, []string{enrol.ServerDirect, enrol.SecretInFile}, got)
	enrolled(`{"theme": 1}`)
	alter(`"bouncer"`, `"other"`)
	got, _ = causes()
	assert.Equal(t, []string{enrol.EntryMissing, enrol.SecretInFile}, got, "the pass stands under another name now")
	enrolled(`{"theme": 1}`)
	alter(`"mcpServers"`, `"servers"`)
	got, _ = causes()
	assert.Equal(t, []string{enrol.EntryElse}, got)
	enrolled(`{"theme": 1}`)
	alter(d.w.Base, "http://127.0.0.1:9")
	got, _ = causes()
	assert.Equal(t, []string{enrol.EntryStale}, got)
	enrolled(`{"theme": 1}`)
	require.NoError(t, os.Chmod(path, 0o644))
	got, _ = causes()
	assert.Equal(t, []string{enrol.OthersRead}, got)
	require.NoError(t, os.Chmod(path, 0o600))
	var passes []team.Pass
	d.w.Must("GET", "/api/agents/marit-quill/passes", nil, &passes)
	for _, p := range passes {
		_, _ = d.w.Do(d.w.Token, "DELETE", "/api/agents/marit-quill/passes/"+p.ID, nil)
	}
	got, _ = causes()
	assert.Equal(t, []string{enrol.PassRevoked}, got)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.TrimRight(string(raw), "}\n ")), 0o600))
	got, list := causes()
	assert.Equal(t, []string{enrol.FileMalformed}, got)
	assert.Contains(t, list[0].What, "line ")
	assert.Contains(t, list[0].Mended, "}}", "the text with its end is offered")
	require.NoError(t, os.Remove(path))
	got, _ = causes()
	assert.Equal(t, []string{enrol.FileMissing}, got)
}

// The pass need not be in the file: a variable is named there, or the bridge reads it
// from a file of its own.
func TestThePassStaysOutOfTheFile(t *testing.T) {
	t.Parallel()
	d := sit(t)
	dir := filepath.Join(d.dir, "work")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, ".git"), 0o700))
	path := filepath.Join(dir, "watch.toml")
	require.NoError(t, os.WriteFile(path, []byte(watchFile), 0o644))
	_, _, errs := d.run(t.Context(), "", "enrol", "night-watch", "--create", "--config", path, "--dry-run")
	assert.Contains(t, errs, "git work tree")
	out := d.ok("", "enrol", "night-watch", "--create", "--config", path, "--pass-variable", "WATCH_PASS", "--yes")
	assert.Regexp(t, `export WATCH_PASS=bnp_[\w-]+`, out)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "Bearer $WATCH_PASS")
	assert.NotContains(t, string(raw), "bnp_")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o644), info.Mode().Perm(), "nothing in it needs to be closed to others")
	d.ok("", "enrol", "--undo", "--config", path, "--yes")

	d.ok("", "enrol", "night-watch", "--config", path, "--as", "bridge", "--yes")
	raw, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), `kind = "local"`)
	assert.Contains(t, string(raw), `"bridge", "--address", "`+d.w.Base)
	assert.NotContains(t, string(raw), "bnp_")
	kept, err := filepath.Glob(filepath.Join(d.dir, "config", "passes", "*"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	pass, err := os.ReadFile(kept[0])
	require.NoError(t, err)
	require.NoError(t, quill.New("x", d.w.Base+"/mcp", map[string]string{"Authorization": "Bearer " + strings.TrimSpace(string(pass))},
		"x", "1").Connect(t.Context()))
	d.ok("", "enrol", "--undo", "--config", path, "--yes")
	kept, err = filepath.Glob(filepath.Join(d.dir, "config", "passes", "*"))
	require.NoError(t, err)
	assert.Empty(t, kept)
	raw, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, watchFile, string(raw))
}

// A dialect that nobody described is learned, kept and used.
func TestLearnAndUseADialect(t *testing.T) {
	t.Parallel()
	d := sit(t)
	path := filepath.Join(d.dir, "sextant.yaml")
	before := "assistant:\n    integrations:\n        berths:\n            exec: [berths, --verbose]\n            vars: {LOG: info}\n        tides:\n            where: https://tides.example/mcp\n            request_headers:\n                X-Team: quay\n"
	require.NoError(t, os.WriteFile(path, []byte(before), 0o600))
	code, out, errs := d.run(t.Context(), "", "dialect", "learn", path)
	assert.Equal(t, exitUsage, code, "nobody can be asked")
	assert.Contains(t, errs, "--yes")
	for _, want := range []string{"servers: assistant.integrations", "found  berths: berths --verbose",
		"found  tides: https://tides.example/mcp", "a new entry would be", "request_headers:"} {
		assert.Contains(t, out, want)
	}
	d.ok("", "dialect", "learn", path, "--name", "sextant", "--yes")
	assert.Regexp(t, `sextant +- +yaml +assistant.integrations +added`, d.ok("", "dialect", "list"))
	assert.Contains(t, d.ok("", "dialect", "show", "sextant"), "joined: true")
	d.ok("", "enrol", "marit-sextant", "--create", "--config", path, "--yes")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "        bouncer:\n            where: \"http://127.0.0.1:")
	assert.True(t, strings.HasPrefix(string(raw), before))
	d.ok("", "enrol", "--undo", "--config", path, "--yes")
	assert.Contains(t, d.ok("", "dialect", "remove", "sextant"), "forgotten")
}

// An installer that writes the file anew does not take the entry away while it is
// watched, and what it wrote stays.
func TestWatchAgainstAnInstaller(t *testing.T) {
	t.Parallel()
	d := sit(t)
	path := filepath.Join(d.dir, "quill.json")
	require.NoError(t, os.WriteFile(path, []byte(`{"mcpServers": {}}`), 0o600))
	d.ok("", "enrol", "marit-quill", "--create", "--config", path, "--yes")
	ctx, cancel := context.WithCancel(t.Context())
	said, done := &locked{}, make(chan int, 1)
	env := &Env{
		In: strings.NewReader(""), Out: &locked{}, Err: said, Getenv: func(string) string { return "" },
		Terminal: func() bool { return false }, Width: func() int { return 0 }, ConfigDir: filepath.Join(d.dir, "config"),
	}
	go func() { done <- Main(ctx, env, []string{"enrol", "--watch", "--config", path}) }()
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "watching") }, 20*time.Second, 5*time.Millisecond)
	for round := range 3 {
		text := `{"mcpServers": {"installed": {"command": "x"}}, "round": ` + string(rune('0'+round)) + `}`
		require.NoError(t, os.WriteFile(path+".new", []byte(text), 0o600))
		require.NoError(t, os.Rename(path+".new", path))
		require.Eventually(t, func() bool {
			raw, err := os.ReadFile(path)
			return err == nil && strings.Contains(string(raw), d.w.Base+"/mcp") && strings.Contains(string(raw),
				`"round": `+string(rune('0'+round)))
		}, 20*time.Second, 10*time.Millisecond)
	}
	cancel()
	assert.Zero(t, <-done)
	assert.Contains(t, said.String(), "the entry was gone, and is back")
	list, err := quill.Load(path)
	require.NoError(t, err)
	require.NoError(t, list[0].Connect(t.Context()), "with the pass that it had")
}

// After enrolling, what is seen of the assistant is told; or, when it does not come, what
// is most likely wrong.
func TestFirstContact(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	d.w.Rule("admit", "*", "echo", "*")
	path := filepath.Join(d.dir, "quill.json")
	out := d.ok("", "enrol", "marit-quill", "--create", "--config", path, "--yes", "--wait", "1s")
	assert.Contains(t, out, "has not appeared yet. Most likely: it was not restarted since")

	said, heard, done := &locked{}, &locked{}, make(chan int, 1)
	env := &Env{
		In: strings.NewReader(""), Out: said, Err: heard, Getenv: func(string) string { return "" },
		Terminal: func() bool { return false }, Width: func() int { return 0 }, ConfigDir: filepath.Join(d.dir, "config"),
	}
	go func() {
		done <- Main(t.Context(), env, []string{"enrol", "marit-quill", "--config", path, "--yes", "--wait", "1m"})
	}()
	require.Eventually(t, func() bool { return strings.Contains(heard.String(), "waiting for marit-quill") }, 20*time.Second,
		5*time.Millisecond)
	list, err := quill.Load(path)
	require.NoError(t, err)
	require.NoError(t, list[0].Connect(t.Context()))
	assert.Zero(t, <-done)
	assert.Contains(t, said.String(), "marit-quill is here: quill 5.1, revision 2025-11-25, and fetched 3 tools")
	assert.Regexp(t, `(?s)assistant +quill 5.1.*has +3 tools, the present list.*pass +enrolled in quill.json`, d.ok("", "agent", "show",
		"marit-quill"))
}

// All assistants of a machine are enrolled at once, each with a pass of its own; a file
// that cannot be changed is left out and said so.
func TestAllAssistantsOfAMachine(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.env["HOME"] = d.dir
	for name, text := range map[string]string{
		".quill/config.json": quillFile, ".config/parlour/parlour.yaml": parlourFile, ".config/night-watch/watch.toml": "[broken\n",
	} {
		path := filepath.Join(d.dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	code, out, errs := d.run(t.Context(), "", "enrol", "marit-desk", "--create", "--all", "--yes")
	assert.Zero(t, code, errs)
	assert.Equal(t, 2, strings.Count(out, "marit-desk is enrolled"))
	assert.Contains(t, errs, "watch.toml is left out")
	var passes []team.Pass
	d.w.Must("GET", "/api/agents/marit-desk/passes", nil, &passes)
	assert.Len(t, passes, 2)
}

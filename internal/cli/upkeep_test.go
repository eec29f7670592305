package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/internal/upkeep"
)

// How calls went is told by what they are told apart by, for people and for programs.
func TestStats(t *testing.T) {
	t.Parallel()
	d := sit(t)
	assert.Contains(t, d.ok("", "stats"), "no calls since")
	d.w.Register("sailings", testkit.Upstream(t, testkit.Echo("", nil)), "")
	d.w.Rule("admit", "marit-quill", "sailings", "*")
	agent := d.w.Raw("/mcp", d.w.Agent("marit-quill"), "2025-11-25")
	agent.CallTool("sailings__echo", "x")
	agent.CallTool("sailings__echo", "y")
	agent.CallTool("sailings__nothing", "z")
	d.w.Calls(3, "agent=marit-quill")
	out := d.ok("", "stats", "--by", "tool")
	assert.Regexp(t, `(?m)^sailings/echo +2 +0 +0 +`, out)
	assert.Regexp(t, `(?m)^all +3 +1 +0 +`, out)
	var s apitype.Stats
	require.NoError(t, json.Unmarshal([]byte(d.ok("", "stats", "--by", "agent", "--since", "2h", "--json")), &s))
	require.Len(t, s.Groups, 1)
	assert.Equal(t, "marit-quill", s.Groups[0].Name)
	assert.EqualValues(t, 2, s.Groups[0].OK)
	for _, wrong := range [][]string{{"stats", "--by", "colour"}, {"stats", "--since", "yesterday"}, {"stats", "--since", "3000d"}} {
		code, _, errs := d.run(t.Context(), "", wrong...)
		assert.NotZero(t, code, "%v", wrong)
		assert.Regexp(t, `^bouncer: .+`, errs, "%v", wrong)
	}
}

// Calls are counted and written out from the command line, with times as people write them.
func TestSearchesFromTheCommandLine(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("sailings", testkit.Upstream(t, testkit.Echo("", nil)), "")
	d.w.Rule("admit", "marit-quill", "sailings", "*")
	agent := d.w.Raw("/mcp", d.w.Agent("marit-quill"), "2025-11-25")
	agent.CallTool("sailings__echo", "spring tide")
	agent.CallTool("sailings__nothing", "z")
	d.w.Calls(2, "")
	assert.Equal(t, "2\n", d.ok("", "journal", "count", "--since", "1h"))
	assert.Equal(t, "0\n", d.ok("", "journal", "count", "--until", "1h"))
	assert.JSONEq(t, `{"found":1}`, d.ok("", "journal", "count", "--text", "SPRING", "--json"))
	var call team.Call
	require.NoError(t, json.Unmarshal([]byte(d.ok("", "journal", "export", "--outcome", "ok", "--since", "2026-01-01")), &call))
	assert.JSONEq(t, `{"text":"spring tide"}`, call.Arguments)
	assert.Regexp(t, `(?s)^id,at,agent.*\n.*\n.*\n$`, d.ok("", "journal", "export", "--form", "csv"))
	for _, wrong := range [][]string{
		{"journal", "count", "--since", "yesterday"}, {"journal", "export", "--form", "xml"}, {"journal", "--until", "2999-01-01"},
		{"mail", "test"}, {"mail", "set"}, {"mail", "set", "--quiet", "22"}, {"mail", "set", "--to", "x"}, {"mail", "set", "--topics", "weather"},
	} {
		code, _, errs := d.run(t.Context(), "", wrong...)
		assert.NotZero(t, code, "%v", wrong)
		assert.Regexp(t, `(?s)^bouncer: .+`, errs, "%v", wrong)
	}
	assert.Contains(t, d.ok("", "mail", "show"), "you are told of nothing")
	set := []string{"mail", "set", "--to", "joss@skerrow.example", "--topics", "held,budgets", "--every", "day", "--quiet", "22:00-07:00"}
	assert.Contains(t, d.ok("", set...), "joss@skerrow.example is told of budgets, held once a day, at 08:00; not from 22:00 to 07:00 (UTC)")
	assert.Contains(t, d.ok("", "mail", "set", "--topics", "none"), "told of nothing")
	assert.Contains(t, d.ok("", "mail", "state"), "no mail is sent")
}

// Copies are listed and made; one is put in place where no service works, and what was
// there is kept.
func TestCopiesAndRestore(t *testing.T) {
	t.Parallel()
	plain := sit(t)
	assert.Contains(t, plain.ok("", "copy", "list"), "backup-dir")
	code, _, errs := plain.run(t.Context(), "", "copy", "make")
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "bouncer backup FILE")

	file := filepath.Join(plain.dir, "monday.db")
	plain.ok("", "backup", file)
	there := filepath.Join(plain.dir, "there")
	out := plain.ok("", "restore", file, "--data", there)
	assert.Contains(t, out, "1 people")
	assert.Contains(t, out, "bouncer serve --data "+there)
	code, _, errs = plain.run(t.Context(), "", "restore", file, "--data", there)
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "nothing was restored; there is a state already")
	assert.Contains(t, errs, "--replace")
	assert.Contains(t, plain.ok("", "restore", file, "--data", there, "--replace"), "what was there is kept as")
	code, _, errs = plain.run(t.Context(), "", "restore", file, "--data", plain.w.Dir, "--replace")
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "in use by another bouncer serve")
	code, _, errs = plain.run(t.Context(), "", "restore", filepath.Join(plain.dir, "tuesday.db"), "--data", there, "--replace")
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "tuesday.db cannot be restored")
	code, _, errs = plain.run(t.Context(), "", "restore")
	assert.Equal(t, exitUsage, code, errs)
}

// The copies that a service makes are those that it says.
func TestCopiesAreListed(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "copies")
	w := testkit.Start(t, map[string]string{"backup-dir": dir, "backup-every": "7d"})
	d := &desk{t, w, t.TempDir(), map[string]string{}}
	d.ok(testkit.Password, "login", "--person", "marit", "--address", w.Base)
	w.Clock.Forward(1e9) // or it could have the name of the first
	out := d.ok("", "copy", "make")
	assert.Contains(t, out, dir)
	var c upkeep.Copies
	require.NoError(t, json.Unmarshal([]byte(d.ok("", "copy", "list", "--json")), &c))
	assert.NotEmpty(t, c.Copies)
	assert.Contains(t, d.ok("", "copy", "list"), c.Copies[0].File)
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, files, len(c.Copies))
}

// An agent's tape is kept, shown, compared and played as a server's is.
func TestTapesOfAgents(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("sailings", testkit.Upstream(t, testkit.Echo("", nil)), "")
	d.w.Rule("admit", "marit-quill", "sailings", "*")
	code, _, errs := d.run(t.Context(), "", "tape", "keep", "--agent", "nobody")
	assert.Equal(t, exitNotFound, code, errs)
	d.w.Agent("marit-quill")
	code, _, errs = d.run(t.Context(), "", "tape", "keep", "--agent", "marit-quill")
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "nothing was heard of agent marit-quill")
	assert.Contains(t, errs, "bouncer why marit-quill")
	agent := d.w.Raw("/mcp", d.w.Pass("marit-quill"), "2025-11-25")
	agent.CallTool("sailings__echo", "x")
	d.ok("", "tape", "keep", "--agent", "marit-quill", "--reason", "a look")
	out := d.ok("", "tape", "list", "--agent", "marit-quill")
	assert.Contains(t, out, "agent marit-quill")
	assert.Contains(t, d.ok("", "tape", "list", "--server", "sailings"), "no tapes yet")
	id := strings.Fields(strings.Split(out, "\n")[1])[0]
	shown := d.ok("", "tape", "show", id)
	assert.Contains(t, shown, "agent marit-quill, ")
	assert.Contains(t, shown, `--> {"jsonrpc":"2.0"`)
	assert.Contains(t, shown, "<== POST 200 after")
	assert.Contains(t, d.ok("", "tape", "replay", id, "--calls"), "0 otherwise")
	var har struct {
		Log struct {
			Entries []struct{ Request struct{ URL string } }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(d.ok("", "tape", "export", id, "--form", "har")), &har))
	assert.Equal(t, "bouncer:agent:marit-quill", har.Log.Entries[0].Request.URL)
	assert.Contains(t, d.ok("", "tape", "compare", id, id), "0 otherwise, 0 not compared")
	for _, wrong := range [][]string{{"tape", "keep"}, {"tape", "follow", "sailings", "--agent", "marit-quill"}} {
		code, _, errs := d.run(t.Context(), "", wrong...)
		assert.Equal(t, exitUsage, code)
		assert.Contains(t, errs, "bouncer tape "+wrong[1]+" --agent marit-quill", "the hint is of the command")
	}
}

package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/quill"
)

const adoptToken = "skf-4hg2Lq9vPz7Wm1TxAb"

// state is what there is in the service, to be held against what was before.
func (d *desk) state() (out []string) {
	d.t.Helper()
	var servers []apitype.ServerInfo
	var secrets []team.Secret
	var rules []apitype.RuleInfo
	var agents []team.Agent
	d.w.Must("GET", "/api/servers", nil, &servers)
	d.w.Must("GET", "/api/secrets", nil, &secrets)
	d.w.Must("GET", "/api/rules", nil, &rules)
	d.w.Must("GET", "/api/agents", nil, &agents)
	for _, s := range servers {
		out = append(out, "server "+s.Name)
	}
	for _, s := range secrets {
		out = append(out, "secret "+s.Name)
	}
	for _, r := range rules {
		out = append(out, "rule "+r.Name)
	}
	for _, a := range agents {
		out = append(out, "agent "+a.Name)
	}
	return out
}

// What an assistant had before goes behind Bouncer: the assistant keeps working, the
// secrets are gone from its file, and all of it can be undone.
func TestAdoptWhatIsThere(t *testing.T) {
	t.Parallel()
	d := sit(t)
	echo := testkit.Upstream(t, testkit.Echo(adoptToken, nil))
	known := testkit.Upstream(t, testkit.Echo("", nil))
	d.w.Register("tides", known, "")
	path := filepath.Join(d.dir, "quill.json")
	before := `{
  // marit's
  "mcpServers": {
    "Echo": { "url": "` + echo + `", "headers": { "Authorization": "Bearer ` + adoptToken + `" } },
    "berths": { "command": "` + testkit.Program(t, "moor") + `", "args": ["--env-file", "berths.env"], "env": { "LOG": "info",
	"PORT": 8080 } },
    "the-tides": { "url": "` + known + `" }, // as everybody has it
    "gone": { "command": "/nonexistent/server" },
    "asleep": { "command": "x", "disabled": true },
  },
  "theme": "harbour"
}
`
	require.NoError(t, os.WriteFile(path, []byte(before), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(d.dir, "berths.env"), []byte("# of the quay\nexport BERTHS_KEY=\""+adoptToken+"\"\n"),
		0o600))
	start := d.state()
	_, out, errs := d.run(t.Context(), "", "adopt", "--config", path, "--dry-run")
	assert.Regexp(t, `berths .*BERTHS_KEY, to the locker`, out, "what its file of variables holds is found")
	assert.Contains(t, errs, "PORT is 8080, and no text")
	assert.Regexp(t, `Echo .*Authorization, to the locker +server echo`, out)
	assert.Regexp(t, `the-tides .*server tides, which is there`, out)
	assert.Regexp(t, `asleep .*left: it is switched off`, out)
	assert.NotContains(t, out+errs, adoptToken)
	assert.Equal(t, start, d.state(), "a dry run makes nothing")

	_, out, errs = d.run(t.Context(), "", "adopt", "--config", path, "--yes")
	assert.Contains(t, errs, "gone stays in "+path)
	assert.Contains(t, out, "marit-quill is enrolled")
	assert.Contains(t, out, "to take it back: bouncer adopt --undo")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), adoptToken)
	for _, kept := range []string{"// marit's", `"gone": { "command": "/nonexistent/server" }`, `"asleep"`, `"theme": "harbour"`,
		`"bouncer"`} {
		assert.Contains(t, string(raw), kept)
	}
	for _, gone := range []string{`"Echo"`, `"berths"`, `"the-tides"`} {
		assert.NotContains(t, string(raw), gone)
	}
	list, err := quill.Load(path)
	require.NoError(t, err)
	require.NoError(t, list[0].Connect(t.Context()))
	assert.Contains(t, list[0].Tools, "berths__moor")
	assert.Contains(t, list[0].Tools, "echo__echo")
	assert.Contains(t, list[0].Tools, "tides__echo")
	text, err := list[0].Call(t.Context(), quill.Step{Tool: "echo__echo", Arguments: map[string]any{"text": "hello"}})
	require.NoError(t, err)
	assert.Contains(t, text, "hello")

	_, _, errs = d.run(t.Context(), "", "enrol", "--undo", "--config", path, "--yes")
	assert.Contains(t, errs, "bouncer adopt --undo --config "+path)
	d.ok("", "adopt", "--undo", "--config", path, "--yes")
	raw, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, string(raw))
	assert.Equal(t, start, d.state(), "what was made is gone")
}

// When the file cannot be written after all, nothing of it is left in the service.
func TestAdoptionThatFailsLeavesNothing(t *testing.T) {
	t.Parallel()
	if os.Getuid() == 0 {
		// Whoever may do everything is kept out of a directory by nothing but its absence.
		t.Log("as root, the file itself is made to be in the way")
	}
	d := sit(t)
	echo := testkit.Upstream(t, testkit.Echo(adoptToken, nil))
	path := filepath.Join(d.dir, "quill.json")
	before := `{"mcpServers": {"echo": {"url": "` + echo + `", "headers": {"Authorization": "Bearer ` + adoptToken + `"}}}}`
	require.NoError(t, os.WriteFile(path, []byte(before), 0o600))
	// The book cannot be written, since a directory stands in its place.
	require.NoError(t, os.MkdirAll(filepath.Join(d.dir, "config", "enrolments.json", "x"), 0o700))
	start := d.state()
	code, _, errs := d.run(t.Context(), "", "adopt", "--config", path, "--agent", "marit-quill", "--yes")
	assert.NotZero(t, code)
	assert.NotContains(t, errs, adoptToken)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, string(raw))
	assert.Equal(t, start, d.state())
}

// Several people's files are adopted together; what they have in common is registered
// once, and where they differ is said.
func TestAdoptSeveralFiles(t *testing.T) {
	t.Parallel()
	d := sit(t)
	echo := testkit.Upstream(t, testkit.Echo(adoptToken, nil))
	marit, ottilie := filepath.Join(d.dir, "marit.json"), filepath.Join(d.dir, "ottilie.yaml")
	require.NoError(t, os.WriteFile(marit,
		[]byte(`{"mcpServers": {"echo": {"url": "`+echo+`", "headers": {"Authorization": "Bearer `+adoptToken+`"}}}}`), 0o600))
	require.NoError(t, os.WriteFile(ottilie,
		[]byte("connections:\n- name: my echo\n  endpoint: "+echo+"\n  headers:\n  - 'Authorization: Bearer "+adoptToken+"'\n  - 'X-Team: quay'\n"), 0o600))
	_, out, errs := d.run(t.Context(), "", "adopt", "--config", marit, "--config", ottilie, "--yes")
	assert.Contains(t, errs, "echo is in 2 files; they differ in the header X-Team")
	assert.Equal(t, 2, strings.Count(out, "is enrolled"), "%s %s", out, errs)
	state := strings.Join(d.state(), ", ")
	assert.Contains(t, state, "agent marit-marit")
	assert.Contains(t, state, "agent marit-parlour")
	assert.Equal(t, 1, strings.Count(state, "server "))
}

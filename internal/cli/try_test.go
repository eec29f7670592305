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
	"bouncer/standin/ferries"
)

// What a person tries as an agent meets what the agent would meet, and is on record; why
// tells what that is, and compares two agents.
func TestTryingAndWhy(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	quill := d.w.Agent("marit-quill")
	d.w.Agent("night-watch")
	d.w.Rule("admit", "marit-quill", "sailings", "*")
	d.w.Rule("refuse", "marit-quill", "sailings", "cancel_*")

	// A word is made a number where the schema says so, and a wrong one is told before.
	out := d.ok("", "tool", "try", "sailings/find_sailings", "--as", "marit-quill", "--", "from=Skerrow", "to=Brannasay")
	assert.Contains(t, out, "result")
	calls := d.w.Calls(1, "agent=marit-quill&tool=find_sailings")
	assert.Equal(t, team.OutcomeOK, calls[0].Outcome)
	assert.Contains(t, d.ok("", "change", "list"), "tool.try")

	code, out, _ := d.run(t.Context(), "", "tool", "try", "cancel_sailing", "--as", "marit-quill", "--arguments",
		`{"sailing":"SF203","reason":"fog"}`, "--json")
	assert.Equal(t, exitFindings, code)
	var tried apitype.Tried
	require.NoError(t, json.Unmarshal([]byte(out), &tried))
	assert.Contains(t, tried.Error, "refused by rule")
	assert.Equal(t, -32010, tried.Code)
	for _, wrong := range [][]string{
		{"tool", "try", "find_salings", "--as", "marit-quill"},
		{"tool", "try", "sailings/find_sailings", "--as", "nobody"},
		{"tool", "try", "sailings/find_sailings", "--as", "marit-quill", "--arguments", "{"},
		{"tool", "try", "sailings/find_sailings", "--as", "marit-quill", "--", "Skerrow"},
		{"tool", "try", "sailings/find_sailings"},
	} {
		code, _, errs := d.run(t.Context(), "", wrong...)
		assert.Equal(t, exitCouldNot, code, "%v: %s", wrong, errs)
		assert.Contains(t, errs, "bouncer: ", "%v", wrong)
	}

	// The agent was tried, and its assistant never came in: that is told apart.
	code, out, _ = d.run(t.Context(), "", "why", "marit-quill")
	assert.Equal(t, exitFindings, code)
	assert.Contains(t, out, "assistant.never-connected")
	agent := d.w.Raw("/mcp", quill, "2025-11-25")
	assert.NotEmpty(t, agent.Names())
	assert.Contains(t, d.ok("", "why", "marit-quill", "sailings/find_sailings"), "nothing stands in the way")
	code, out, _ = d.run(t.Context(), "", "why", "marit-quill", "cancel_sailing")
	assert.Equal(t, exitFindings, code)
	assert.Contains(t, out, "door.a-rule-refuses")
	out = d.ok("", "why", "marit-quill", "find_sailings", "--not", "night-watch")
	assert.True(t, strings.HasPrefix(out, "the first difference: "), out)
	d.ok("", "agent", "pause", "marit-quill")
	_, out, _ = d.run(t.Context(), "", "why", "marit-quill", "find_sailings")
	assert.Contains(t, out, "door.agent-paused")
	d.ok("", "agent", "resume", "marit-quill")
	d.ok("", "server", "pause", "sailings")
	_, out, _ = d.run(t.Context(), "", "why", "marit-quill", "sailings/find_sailings")
	assert.Contains(t, out, "door.server-paused")
	code, _, errs := d.run(t.Context(), "", "why", "marit-quill", "find_salings")
	assert.Equal(t, exitCouldNot, code)
	assert.Contains(t, errs, "find_sailings")
}

// Why looks at the assistant's file on this machine too, and compares people by the agents
// that they have.
func TestWhyOfFilesAndPeople(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	d.w.Person("joss", "Joss Quayle", team.Member)
	d.w.Must("POST", "/api/agents", testkit.Obj{"name": "marit-quill", "owner": "marit"}, nil)
	d.w.Rule("admit", "marit-quill", "sailings", "*")
	const tool = "sailings/find_sailings"
	out := d.ok("", "why", "marit", tool, "--not", "joss", "--people")
	assert.Contains(t, out, "joss has none")
	d.w.Must("POST", "/api/agents", testkit.Obj{"name": "joss-quill", "owner": "joss"}, nil)
	out = d.ok("", "why", "marit", tool, "--not", "joss", "--people")
	assert.Contains(t, out, "compared by marit-quill and joss-quill")
	assert.Contains(t, out, "the first difference: rule: ")
	for _, wrong := range [][]string{{"why", "marit", "--people"}, {"why", "marit", "--not", "nobody", "--people"}} {
		code, _, errs := d.run(t.Context(), "", wrong...)
		assert.Equal(t, exitCouldNot, code, "%v: %s", wrong, errs)
	}

	path := filepath.Join(d.dir, "quill.json")
	require.NoError(t, os.WriteFile(path, []byte(`{"theme": 1}`), 0o600))
	d.ok("", "enrol", "night-watch", "--create", "--config", path, "--yes")
	out = why(d, "night-watch")
	assert.Contains(t, out, path+" is in order")
	require.NoError(t, os.WriteFile(path, []byte(`{"theme": `), 0o600))
	assert.Contains(t, why(d, "night-watch"), "assistant.file-malformed")
	require.NoError(t, os.WriteFile(path, []byte(`{"theme": 1}`), 0o600))
	assert.Contains(t, why(d, "night-watch"), "assistant.entry-missing")
}

func why(d *desk, agent string) string {
	_, out, _ := d.run(d.t.Context(), "", "why", agent)
	return out
}

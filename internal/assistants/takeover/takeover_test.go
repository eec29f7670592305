package takeover_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/parlour"
)

const secret = "skf-4hg2Lq9vPz7Wm1TxAb"

// A file that is given in the console comes back with Bouncer's entry in the place of
// those that were taken over, without their secrets, and its assistant works with it.
func TestAFileComesBackRewritten(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	echo := testkit.Upstream(t, testkit.Echo(secret, nil))
	text := "# passenger services\nconnections:\n  - name: echo\n    endpoint: " + echo + "\n    headers: [\"Authorization: Bearer " + secret + "\"]\n" +
		"  - name: later\n    endpoint: https://later.example/mcp\n    headers: [\"X-Key: ${LATER_KEY}\"]\ntheme: harbour\n"
	var out apitype.Adopted
	in := testkit.Obj{"text": text, "file": "parlour.yaml", "agent": "marit-parlour"}
	w.Must("POST", "/api/adoptions", in, &out)
	require.Len(t, out.Items, 2)
	assert.Equal(t, "parlour register left", out.Dialect+" "+out.Items[0].Becomes+" "+out.Items[1].Becomes)
	assert.Contains(t, out.Items[1].Why, "X-Key only stands for a value")
	var servers []apitype.ServerInfo
	w.Must("GET", "/api/servers", nil, &servers)
	assert.Empty(t, servers, "looking makes nothing")

	in["apply"] = true
	w.Must("POST", "/api/adoptions", in, &out)
	assert.NotContains(t, out.Text, secret)
	assert.Contains(t, out.Text, "# passenger services\n")
	assert.Contains(t, out.Text, "name: later")
	assert.Contains(t, out.Text, "theme: harbour")
	path := filepath.Join(t.TempDir(), "parlour.yaml")
	require.NoError(t, os.WriteFile(path, []byte(out.Text), 0o600))
	list, err := parlour.Load(path)
	require.NoError(t, err)
	for _, a := range list {
		if a.Name() == "bouncer" {
			require.NoError(t, a.Connect(t.Context()))
			assert.Contains(t, a.Tools, "echo__echo")
		}
	}
}

// What cannot be taken over leaves nothing, and says what is wrong.
func TestAFileThatCannotBeTakenOver(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	for text, says := range map[string]string{
		"{\"mcpServers\": {": "line 1", "{}": "shows no server", "{\"mcpServers\": {\"a\": {\"command\": \"/nowhere/x\"}}}": "nothing of the file could be taken over",
	} {
		p := w.Problem("POST", "/api/adoptions", testkit.Obj{"text": text, "agent": "marit-quill", "apply": true})
		assert.Contains(t, p.Title, says, text)
		assert.Equal(t, "text", p.Field)
	}
	p := w.Problem("POST", "/api/adoptions", testkit.Obj{"text": `{"mcpServers": {"a": {"command": "x"}}}`, "agent": "No Name", "apply": true})
	assert.Equal(t, "agent", p.Field)
	var agents []team.Agent
	w.Must("GET", "/api/agents", nil, &agents)
	assert.Empty(t, agents, "what was made is gone")
}

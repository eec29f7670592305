package signin_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
	"bouncer/standin/broker"
	"bouncer/standin/ferries"
	"bouncer/standin/pilothouse"
)

// Three nodes and 200 calls at the moment when a token expires: one renewal, whose tokens all
// nodes have, also when the clock of one is behind; of a sign-in, and of what is granted to
// Bouncer itself.
func TestOneRenewalServesAllNodes(t *testing.T) {
	t.Parallel()
	for grant, asked := range map[string]string{"code": "refresh_token", "client": "client_credentials"} {
		t.Run(grant, func(t *testing.T) {
			t.Parallel()
			oneRenewal(t, grant, asked)
		})
	}
}

func oneRenewal(t *testing.T, grant, asked string) {
	b, err := broker.Start(t.TempDir(), 1)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	keys := filepath.Join(t.TempDir(), "locker.keys")
	settings := func(name string) map[string]string {
		return map[string]string{"cluster": b.Addresses(), "cluster-node": name, "keys": keys, "private-ranges": "127.0.0.0/8", "poll": "1h"}
	}
	north := moor(t, settings("north"))
	north.as.Life, north.as.Auto = 4*time.Second, "marit"
	worlds := []*testkit.World{north.World}
	for _, name := range []string{"south", "west"} {
		worlds = append(worlds, testkit.StartAs(t, settings(name), north.Token))
	}
	way := testkit.Obj{"grant": grant}
	if grant == "client" {
		north.as.Add(pilothouse.Client{ID: ferries.FuelClient, Secret: ferries.FuelSecret})
		north.Must("POST", "/api/secrets", testkit.Obj{"name": "crew-client", "kind": "client-secret", "value": ferries.FuelSecret}, nil)
		way = testkit.Obj{"grant": grant, "clientId": ferries.FuelClient, "clientSecret": "crew-client"}
	}
	north.Must("POST", "/api/servers", testkit.Obj{"name": "crew", "url": north.crew, "signIn": way}, nil)
	north.Rule("admit", "*", "*", "*")
	pass := north.Agent("marit-quill")
	if grant == "code" {
		north.Browser("marit").SignInAt(t, testkit.Obj{"server": "crew", "team": true})
	}
	var agents []*testkit.Raw
	for _, w := range worlds {
		require.Eventually(t, func() bool {
			var list []struct{ Name string }
			w.Must("GET", "/api/agents", nil, &list)
			return len(list) == 1
		}, 20*time.Second, 20*time.Millisecond)
		agent := w.Raw("/mcp", pass, "2025-11-25")
		require.Eventually(t, func() bool {
			r := agent.CallTool("crew__who_is_on_watch", "")
			return len(r.Result.Content) > 0 && strings.Contains(r.Result.Content[0].Text, "onWatch")
		}, 20*time.Second, 50*time.Millisecond)
		agents = append(agents, agent)
	}
	north.as.Life = time.Hour
	north.as.Fail(pilothouse.Slow)
	before := north.as.Count(asked)
	for i, w := range worlds {
		w.Clock.Forward(4100*time.Millisecond + time.Duration(i)*10*time.Second) // the token has expired
	}
	assert.Empty(t, watch(agents, 200))
	assert.Equal(t, 1, north.as.Count(asked)-before, "200 calls at three nodes, at the moment of expiry")
}

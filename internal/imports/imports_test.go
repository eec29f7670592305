package imports_test

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

type obj = testkit.Obj

// What was pasted becomes servers: secrets go to the locker, placeholders are filled in,
// and what cannot be registered leaves nothing behind.
func TestImport(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	const canary = "skf-canary-0123456789"
	sailings := testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken))
	text := fmt.Sprintf(`{ // from the README
	  "mcpServers": {
	    "Sailings": {"url": %q, "headers": {"Authorization": "Bearer <token>", "X-Quay": "3"}},
	    "berths": {"command": "sh", "args": [%q], "env": {"LOG": "debug", "BERTHS_KEY": %q, "HARBOUR_TOKEN": "harbour-77"}},
	    "fog": {"command": "no-such-command-here", "env": {"A_KEY": "harbour-78", "B_KEY": "harbour-79"}},
	  },`, sailings, testkit.Program(t, "berth"), canary)
	var seen apitype.Imported
	w.Must("POST", "/api/imports", obj{"text": text}, &seen)
	assert.Equal(t, []string{"the end was missing, and } was added"}, seen.Notes)
	require.Len(t, seen.Servers, 3)
	raw, err := json.Marshal(seen)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), canary, "a preview holds no secret")
	var none []apitype.ServerInfo
	w.Must("GET", "/api/servers", nil, &none)
	assert.Empty(t, none, "a preview registers nothing")

	var done apitype.Imported
	w.Must("POST", "/api/imports", obj{"text": text, "apply": true}, &done)
	problems := map[string]string{}
	for _, s := range done.Servers {
		if s.Problem != nil {
			problems[s.Server.Name] = s.Problem.Title
		}
	}
	assert.Len(t, problems, 2)
	assert.Contains(t, problems["sailings"], "sailings/Authorization has a placeholder only")
	assert.Contains(t, problems["fog"], "is not on the machine where Bouncer runs")
	var secrets []team.Secret
	w.Must("GET", "/api/secrets", nil, &secrets)
	names := []string{}
	for _, s := range secrets {
		names = append(names, s.Name)
	}
	assert.Equal(t, []string{"berths-berths-key", "berths-harbour-token"}, names, "of what failed nothing is kept")
	var berths apitype.ServerInfo
	w.Must("GET", "/api/servers/berths", nil, &berths)
	assert.Equal(t, []string{"LOG=debug"}, berths.Env)
	assert.Len(t, berths.Places, 2)
	assert.Equal(t, "ready", berths.Health.State)

	done = apitype.Imported{}
	w.Must("POST", "/api/imports", obj{
		"text": text, "apply": true, "only": []string{"sailings"}, "answers": obj{"Authorization": "Bearer " + ferries.SailingsToken},
	}, &done)
	require.Len(t, done.Servers, 1)
	require.Nil(t, done.Servers[0].Problem)
	assert.Equal(t, []string{"X-Quay: 3"}, done.Servers[0].Registered.Headers)
	assert.Equal(t, "sailings-token", done.Servers[0].Registered.Secret)

	p := w.Problem("POST", "/api/imports", obj{"text": `{"theme": "dark"}`})
	assert.Equal(t, "text", p.Field)
	assert.Contains(t, p.Title, "no server in it")
}

// Secrets are not kept in the open, and the refusal names the command that seals them.
func TestSecretsAreNotKeptInTheOpen(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	path := testkit.Program(t, "berth")
	for field, in := range map[string]obj{
		"env":     {"name": "berths", "command": path, "env": []string{"BERTHS_KEY=harbour-77"}},
		"args":    {"name": "berths", "command": path, "args": []string{"--api-key", "harbour-77"}},
		"headers": {"name": "tides", "url": "http://127.0.0.1:1/mcp", "headers": []string{"X-Api-Key: harbour-77"}},
		"url":     {"name": "tides", "url": "http://127.0.0.1:1/mcp?token=harbour-77"},
	} {
		p := w.Problem("POST", "/api/servers", in)
		assert.Equal(t, field, p.Field)
		assert.Regexp(t, `Seal it: bouncer server register (berths|tides) --`, p.Title)
		assert.NotContains(t, p.Title, "harbour-77")
	}
	w.Must("POST", "/api/servers", obj{"name": "berths", "command": path, "env": []string{"BERTHS_KEY=harbour-77"}, "plain": true}, nil)
	p := w.Problem("PATCH", "/api/servers/berths", obj{"env": []string{"OTHER_TOKEN=harbour-78"}})
	assert.Contains(t, p.Title, "bouncer server update berths --secret-env OTHER_TOKEN --token")
}

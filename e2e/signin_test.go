package e2e

import (
	"bufio"
	"context"
	"net/url"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/auth"
	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/modelcontextprotocol/go-sdk/oauthex"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// agree opens the address of a program in a person's browser, agrees to an agent,
// and returns the address that the answer goes to.
func agree(t *testing.T, b *testkit.Browser, to, agent string) *url.URL {
	page := b.Go(t, to)
	id, ok := strings.CutPrefix(page.Path, "/consent/")
	require.True(t, ok, "%s", page)
	var ask struct {
		AppName string
		Agents  []struct{ Name string }
	}
	b.Must("GET", "/api/consent-requests/"+id, nil, &ask)
	require.Contains(t, ask.AppName, "Parlour")
	require.NotEmpty(t, ask.Agents)
	var sent struct{ URL string }
	b.Must("POST", "/api/consent-requests/"+id, testkit.Obj{"agent": agent}, &sent)
	back, err := url.Parse(sent.URL)
	require.NoError(t, err)
	return back
}

// Assistants on the official SDKs sign in to Bouncer by themselves: they find out
// where, register, have a person agree, and renew their tokens.
func TestAssistantsSignIn(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "marit-*", "*", "echo")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "marit-parlour", "owner": "marit"}, nil)
	b := w.Browser("marit")
	at := w.Base + "/mcp/echo"

	t.Run("Go", func(t *testing.T) {
		handler, err := auth.NewAuthorizationCodeHandler(&auth.AuthorizationCodeHandlerConfig{
			RedirectURL: "http://127.0.0.1:1/back",
			AuthorizationCodeFetcher: func(_ context.Context, a *auth.AuthorizationArgs) (*auth.AuthorizationResult, error) {
				q := agree(t, b, a.URL, "marit-parlour").Query()
				return &auth.AuthorizationResult{Code: q.Get("code"), State: q.Get("state"), Iss: q.Get("iss")}, nil
			},
			DynamicClientRegistrationConfig: &auth.DynamicClientRegistrationConfig{
				Metadata: &oauthex.ClientRegistrationMetadata{ClientName: "Parlour Go", RedirectURIs: []string{"http://127.0.0.1:1/back"}},
			},
		})
		require.NoError(t, err)
		c := mcp.NewClient(&mcp.Implementation{Name: "parlour", Version: "1"}, nil)
		s, err := c.Connect(t.Context(), &mcp.StreamableClientTransport{Endpoint: at, OAuthHandler: handler}, nil)
		require.NoError(t, err)
		defer s.Close()
		r, err := s.CallTool(t.Context(), &mcp.CallToolParams{Name: "echo", Arguments: map[string]any{"text": "from Go"}})
		require.NoError(t, err)
		assert.Equal(t, "from Go", r.Content[0].(*mcp.TextContent).Text)
	})
	for _, generation := range []string{"1", "2"} {
		t.Run("npm "+generation, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			cmd := exec.CommandContext(ctx, "node", "peers/signin.mjs", generation, at)
			in, err := cmd.StdinPipe()
			require.NoError(t, err)
			out, err := cmd.StdoutPipe()
			require.NoError(t, err)
			var said strings.Builder
			cmd.Stderr = &said
			require.NoError(t, cmd.Start())
			lines := bufio.NewScanner(out)
			last := ""
			for lines.Scan() {
				last = lines.Text()
				if to, ok := strings.CutPrefix(last, "open "); ok {
					_, err = in.Write([]byte(agree(t, b, to, "marit-parlour").String() + "\n"))
					require.NoError(t, err)
				}
			}
			require.NoError(t, cmd.Wait(), said.String())
			assert.JSONEq(t, `{"first":"from `+generation+`","again":"after the renewal"}`, last)
		})
	}
	var list []team.Consent
	w.Must("GET", "/api/consents", nil, &list)
	require.Len(t, list, 3)
	assert.Equal(t, "marit-parlour marit", list[0].Agent+" "+list[0].Person)
	assert.Equal(t, "marit-parlour", w.Calls(5, "")[0].Agent, "the journal knows who called")
}

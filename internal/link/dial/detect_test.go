package dial

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/link"
	"bouncer/internal/link/linktest"
	"bouncer/internal/locker"
)

func TestTheTransportIsFoundOut(t *testing.T) {
	t.Parallel()
	sessions := linktest.ServeMCP(t, linktest.Echo("echo"))
	legacy := linktest.Serve(t, linktest.Echo("echo").Legacy())
	stateless := linktest.Serve(t, linktest.Echo("echo").Stateless())
	for name, row := range map[string]struct {
		url, token, kind, revision string
		cause                      diagnosis.Cause
	}{
		"sessions":                   {sessions, linktest.Token, team.StreamableHTTP, "2025-11-25", ""},
		"no sessions":                {stateless + "/mcp", linktest.Token, team.StreamableHTTP, "2026-07-28", ""},
		"the oldest transport":       {legacy + "/sse", linktest.Token, team.EventStream, "2024-11-05", ""},
		"its message endpoint":       {legacy + "/messages", linktest.Token, team.StreamableHTTP, "", diagnosis.WrongPath},
		"the oldest, a wrong token":  {legacy + "/sse", "another", team.EventStream, "", diagnosis.TokenRejected},
		"no sessions, a wrong token": {stateless + "/mcp", "another", team.StreamableHTTP, "", diagnosis.TokenRejected},
		"nothing of the kind":        {legacy + "/nothing", linktest.Token, team.StreamableHTTP, "", diagnosis.WrongPath},
	} {
		t.Run(name, func(t *testing.T) {
			given := link.Credential{Secret: locker.NewSecret(row.token)}
			l, transport, offer, stages, err := Detect(t.Context(), team.Server{Name: "s", URL: row.url}, given, linktest.Quick())
			t.Cleanup(func() { l.Close(context.Background()) }) // also of a failure
			assert.Equal(t, row.kind, transport)
			require.NotEmpty(t, stages)
			if row.cause != "" {
				var f *link.Failure
				require.ErrorAs(t, err, &f)
				assert.Equal(t, row.cause, f.Cause, f.Message)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, row.revision, offer.Revision)
			assert.Equal(t, row.revision, l.Revision())
			assert.Equal(t, "echo", offer.Lists[tools.Tools][0].Name)
			text, err := linktest.Call(t.Context(), l, "hello")
			require.NoError(t, err)
			assert.Equal(t, "hello", text)
		})
	}
}

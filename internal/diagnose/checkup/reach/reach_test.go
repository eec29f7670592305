package reach

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/checkup/exam"
	"bouncer/internal/link"
	"bouncer/internal/locker"
)

// A secret that belongs into the query goes there.
func TestASecretGoesWhereItBelongs(t *testing.T) {
	t.Parallel()
	w := &way{Run: exam.New(exam.Target{
		Server:     team.Server{URL: "https://rates.example", ServerOptions: team.ServerOptions{SecretQuery: "key"}},
		Credential: link.Credential{Secret: locker.NewSecret("skf-canary")},
	}, exam.Options{})}
	require.NoError(t, w.attach(t.Context()))
	req := httptest.NewRequest(http.MethodGet, "https://rates.example/v1", nil)
	apply(w.forms, req)
	assert.Equal(t, "key=skf-canary", req.URL.RawQuery)
	assert.Empty(t, req.Header)
}

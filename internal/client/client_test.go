package client_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/client"
)

func serve(t *testing.T, status int, body string) *client.Client {
	t.Helper()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer harbour" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.WriteHeader(status)
		fmt.Fprint(w, body)
	}))
	t.Cleanup(srv.Close)
	c, err := client.New(srv.URL, "harbour")
	require.NoError(t, err)
	return c
}

func TestARefusalIsToldAsTheServiceSaidIt(t *testing.T) {
	t.Parallel()
	c := serve(t, 409, `{"title":"name \"crew\" is taken","field":"name","hint":"choose another","code":"taken"}`)
	err := c.Do(t.Context(), http.MethodPost, "/api/servers", map[string]string{"name": "crew"}, nil)
	var p *client.ProblemError
	require.ErrorAs(t, err, &p)
	assert.Equal(t, 409, p.Status)
	assert.Equal(t, "name", p.Field)
	assert.Equal(t, "choose another", p.Hint)
	assert.Equal(t, `name "crew" is taken`, p.Error())
	_, err = c.Stream(t.Context(), "/api/backup")
	require.ErrorAs(t, err, &p, "a stream is refused in the same way")
}

func TestWhatIsNoServiceIsNotTakenForOne(t *testing.T) {
	t.Parallel()
	var out struct{ Name string }
	var foreign *client.ForeignError
	require.ErrorAs(t, serve(t, 200, "<html>").Get(t.Context(), "/api/about", &out), &foreign)
	assert.Empty(t, foreign.Status)
	require.ErrorAs(t, serve(t, 502, "<html>bad gateway").Get(t.Context(), "/api/about", &out), &foreign)
	assert.Equal(t, "502 Bad Gateway", foreign.Status)
	for _, address := range []string{"", "sailings", "ftp://127.0.0.1", "http://", "http://a b"} {
		_, err := client.New(address, "")
		var bad *client.AddressError
		assert.ErrorAs(t, err, &bad, address)
	}
}

func TestAServiceThatIsAwayAndOneThatBreaksOffAreToldApart(t *testing.T) {
	t.Parallel()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		fmt.Fprint(w, `{"name":`)
	}))
	c, err := client.New(srv.URL, "")
	require.NoError(t, err)
	var cut *client.CutError
	assert.ErrorAs(t, c.Get(t.Context(), "/api/about", nil), &cut)
	srv.Close()
	var away *client.UnreachableError
	require.ErrorAs(t, c.Get(t.Context(), "/api/about", nil), &away)
	assert.Equal(t, srv.URL, away.Address)
	assert.Contains(t, away.Error(), "connection refused")
}

func TestEventsOfOtherNamesAreNoSignal(t *testing.T) {
	t.Parallel()
	c := serve(t, 200, ": open\n\nevent: servers\ndata: {}\n\nevent: calls\ndata: {}\n\nevent: calls\ndata: {}\n\n")
	events, err := c.Listen(t.Context(), "calls")
	require.NoError(t, err)
	told := 0
	for range events {
		told++
	}
	assert.Positive(t, told)
	assert.LessOrEqual(t, told, 2)
	_, err = c.With("other").Listen(t.Context(), "calls")
	var foreign *client.ForeignError
	assert.ErrorAs(t, err, &foreign, "another token is shown")
}

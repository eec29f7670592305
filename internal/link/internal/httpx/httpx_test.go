package httpx

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/locker"
)

// purse gives one credential after the other, as the server turns them away.
type purse struct {
	values   []string
	at       atomic.Int32
	refusals atomic.Int32
	err      error
}

func (p *purse) Now(context.Context) ([]link.Attachment, error) {
	if p.err != nil {
		return nil, p.err
	}
	v := p.values[min(int(p.at.Load()), len(p.values)-1)]
	return []link.Attachment{
		{Header: "x-key", Value: locker.NewSecret(v)}, {Query: "k", Value: locker.NewSecret(v)},
		{Header: "X-Signed", Sign: func(method, address string) (string, error) {
			return method + " " + address[strings.LastIndex(address, "/"):], nil
		}},
	}, nil
}

func (p *purse) Refused(context.Context, []link.Attachment, int, http.Header) (bool, error) {
	p.refusals.Add(1)
	return int(p.at.Add(1)) < len(p.values), nil
}

func client(t *testing.T, target Target, h http.HandlerFunc) *Client {
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	target.Server, target.URL = "sailings", s.URL+"/mcp"
	c := New(target, link.Options{Version: "1"})
	t.Cleanup(c.Transport.CloseIdleConnections)
	return c
}

// A request that was turned away for its credential is sent again with another one, whole,
// a few times at most.
func TestAnotherCredentialIsTried(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		values         []string
		sent, refusals int
		status         int
	}{
		"the first is good":  {[]string{"good"}, 1, 0, 200},
		"the second is":      {[]string{"old", "good"}, 2, 1, 200},
		"the third is":       {[]string{"old", "older", "good"}, 3, 2, 200},
		"the fourth is late": {[]string{"a", "b", "c", "good"}, 3, 3, 401},
		"none is":            {[]string{"a"}, 1, 1, 401},
	} {
		sent := 0
		p := &purse{values: row.values}
		c := client(t, Target{Credentials: p}, func(w http.ResponseWriter, r *http.Request) {
			sent++
			body, err := io.ReadAll(r.Body)
			assert.NoError(t, err)
			assert.Equal(t, `{"a":1}`, string(body), "whole each time")
			assert.Equal(t, "POST /mcp", r.Header.Get("X-Signed"), "signed without what is attached to the address")
			if r.Header.Get("X-Key") != "good" || r.URL.Query().Get("k") != "good" {
				w.WriteHeader(401)
			}
		})
		res, err := c.Post(t.Context(), c.Header("", ""), []byte(`{"a":1}`), "call")
		assert.Equal(t, []int{row.sent, row.refusals}, []int{sent, int(p.refusals.Load())}, name)
		if row.status == 200 {
			require.NoError(t, err, name)
			Drain(res.Body)
			continue
		}
		var f *link.Failure
		require.ErrorAs(t, err, &f, name)
		assert.Equal(t, []any{row.status, true}, []any{f.Status, f.Refused}, name)
	}
	broken := client(t, Target{Credentials: &purse{err: errors.New("nothing to give")}}, func(http.ResponseWriter, *http.Request) {
		t.Error("nothing is sent without its credential")
	})
	_, err := broken.Post(t.Context(), broken.Header("", ""), nil, "call")
	assert.Error(t, err)
}

// An answer that is no success is told apart: an error of the protocol, a session that is
// lost, a redirect that is not followed, and whatever else, bounded and masked.
func TestAnswersThatAreNoSuccess(t *testing.T) {
	t.Parallel()
	const problem = `{"jsonrpc":"2.0","id":1,"error":{"code":-32602,"message":"no"}}`
	for name, row := range map[string]struct {
		status     int
		ct, body   string
		session    string
		stateless  bool
		frame      bool
		lost       bool
		challenged bool
	}{
		"an error of the protocol":     {status: 400, ct: "application/json", body: problem, frame: true},
		"with parameters of its type":  {status: 422, ct: "application/json; charset=utf-8", body: problem, frame: true},
		"no method, without a session": {status: 404, ct: "application/json", body: problem, stateless: true, frame: true},
		"a session is lost":            {status: 404, ct: "application/json", body: problem, session: "s", lost: true},
		"no JSON-RPC":                  {status: 400, ct: "application/json", body: `{"error":"no"}`},
		"no JSON at all":               {status: 400, ct: "text/plain", body: problem},
		"turned away":                  {status: 401, ct: "application/json", body: problem, challenged: true},
		"led elsewhere":                {status: 302, ct: "text/html", body: "moved"},
		"broken":                       {status: 502, ct: "text/html", body: strings.Repeat("sekret-token-1234 ", 10_000)},
	} {
		hits := 0
		c := client(t, Target{Secret: locker.NewSecret("sekret-token-1234")}, func(w http.ResponseWriter, r *http.Request) {
			hits++
			assert.Equal(t, "Bearer sekret-token-1234", r.Header.Get("Authorization"))
			w.Header().Set("Content-Type", row.ct)
			w.Header().Set("Location", "/elsewhere")
			if row.status == 401 {
				w.Header().Set("WWW-Authenticate", `Bearer scope="x"`)
			}
			w.WriteHeader(row.status)
			_, _ = io.WriteString(w, row.body)
		})
		header := c.Header(row.session, wire.Rev20251125)
		if row.stateless {
			header[wire.HeaderMethod] = []string{"tools/list"}
		}
		res, err := c.Post(t.Context(), header, []byte("{}"), "call")
		assert.Equal(t, 1, hits, name)
		if row.frame {
			require.NoError(t, err, name)
			raw, _ := io.ReadAll(res.Body)
			assert.Equal(t, problem, string(raw), name)
			continue
		}
		var f *link.Failure
		require.ErrorAs(t, err, &f, name)
		assert.Equal(t, []any{row.status, row.lost, row.challenged}, []any{f.Status, f.Lost, len(f.Challenge) > 0}, name)
		assert.NotContains(t, f.Finding.Message+f.Finding.Remedy, "sekret-token", name)
	}
}

func TestHeadersOfRequests(t *testing.T) {
	t.Parallel()
	target := Target{Secret: locker.NewSecret("v"), SecretHeader: "x-api-key", Headers: [][2]string{{"x-team", "quay"}, {"X-Team", "desk"}}}
	c := New(target, link.Options{Version: "7"})
	h := c.Header("sid", wire.Rev20250618)
	assert.Equal(t, []string{"v"}, h["X-Api-Key"])
	assert.Empty(t, h["Authorization"])
	assert.Equal(t, []string{"quay", "desk"}, h["X-Team"])
	assert.Equal(t, []string{"bouncer/7", "sid", wire.Rev20250618}, []string{h.Get("User-Agent"), h.Get("Mcp-Session-Id"), h.Get(wire.HeaderVersion)})
	older := c.Header("", wire.Rev20250326)
	assert.Empty(t, older.Get(wire.HeaderVersion), "which older revisions do not have")
	assert.Empty(t, older["Mcp-Session-Id"])
	assert.True(t, target.HasCredential())
	assert.False(t, Target{}.HasCredential())
	assert.True(t, Target{Credentials: &purse{}}.HasCredential())
	ended := time.Now().Add(-time.Minute)
	assert.Equal(t, ended, Target{Ends: ended}.EndedAt())
	assert.Zero(t, Target{Ends: time.Now().Add(time.Minute)}.EndedAt())
	for ct, want := range map[string]string{
		"application/json": "application/json", "text/event-stream; charset=utf-8": "text/event-stream", "Text/HTML": "text/html", ";": "", "": "",
	} {
		assert.Equal(t, want, MediaType(http.Header{"Content-Type": {ct}}), ct)
	}
}

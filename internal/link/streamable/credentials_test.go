package streamable

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/httpx"
	"bouncer/internal/locker"
)

// purse gives one value after the other.
type purse struct {
	mu     sync.Mutex
	values []string
	told   []int
	fail   error
}

func (p *purse) Now(context.Context) ([]link.Attachment, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.values) == 0 {
		return nil, link.NewFailure(
			diagnosis.Finding{Cause: diagnosis.SignInNeeded, Message: "the purse is empty"},
			"https://bouncer.example/connect/x",
			nil,
		)
	}
	return []link.Attachment{
		{Header: "x-key", Value: locker.NewSecret(p.values[0])},
		{Query: "k", Value: locker.NewSecret("q " + p.values[0])},
	}, nil
}

func (p *purse) Refused(_ context.Context, sent []link.Attachment, status int, h http.Header) (bool, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.told = append(p.told, status)
	if p.fail != nil {
		return false, p.fail
	}
	if len(p.values) > 1 && sent[0].Value.Reveal() == p.values[0] {
		p.values = p.values[1:]
		return true, nil
	}
	return false, nil
}

// A request that was refused for its credential is sent again with another one,
// whole, and not for ever.
func TestCredentialsAreTriedInTurn(t *testing.T) {
	t.Parallel()
	var got []string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got = append(got, r.Header.Get("X-Key")+"|"+r.URL.Query().Get("k")+"|"+r.URL.Query().Get("own")+"|"+string(body))
		if r.Header.Get("X-Key") != "good" {
			http.Error(w, "no", http.StatusUnauthorized)
		}
	}))
	t.Cleanup(s.Close)
	send := func(p *purse) (*http.Response, error) {
		got = nil
		target := httpx.Target{Server: "s", URL: s.URL + "?own=1", Credentials: p}
		req, err := http.NewRequest(http.MethodPost, target.URL, strings.NewReader("the body"))
		require.NoError(t, err)
		res, err := httpx.New(target, link.Options{}).Do(req)
		assert.Empty(t, req.Header.Get("X-Key"), "the caller's header map is shared and stays as it is")
		return res, err
	}
	res, err := send(&purse{values: []string{"old", "good"}})
	require.NoError(t, err)
	assert.Equal(t, 200, res.StatusCode)
	assert.Equal(t, []string{"old|q old|1|the body", "good|q good|1|the body"}, got)
	p := &purse{values: []string{"a", "b", "c", "d", "e"}}
	res, err = send(p)
	require.NoError(t, err)
	assert.Equal(t, 401, res.StatusCode)
	assert.Len(t, got, 3, "a server that takes none is not asked for ever")
	why := link.NewFailure(diagnosis.Finding{Cause: diagnosis.SignInEnded, Message: "it has ended"}, "", nil)
	_, err = send(&purse{values: []string{"a"}, fail: why})
	assert.ErrorIs(t, err, error(why))
	assert.Len(t, got, 1)
	_, err = send(&purse{})
	var f *link.Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, "https://bouncer.example/connect/x", f.SignIn)
	assert.Empty(t, got, "nothing is sent without a credential")

	l := New(httpx.Target{Server: "s", URL: s.URL, Credentials: &purse{}}, link.Options{})
	_, err = l.Open(t.Context())
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.SignInNeeded, f.Cause, "the reason is told as it is, not as a broken connection")
	assert.False(t, errors.Is(err, context.Canceled))
}

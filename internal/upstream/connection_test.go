package upstream

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/link"
	"bouncer/internal/link/linktest"
	"bouncer/internal/link/streamable"
	"bouncer/standin/toolserver"
)

func TestKeeperFollowsItsServer(t *testing.T) {
	t.Parallel()
	s := linktest.Echo("one")
	answers := make(chan struct{}) // closed when the server may answer
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { <-answers; s.ServeHTTP(w, r) }))
	defer h.Close()
	news := make(chan link.Status, 100)
	l := streamable.New(linktest.Target("echo", h.URL, linktest.Token), link.Options{SetupTimeout: 10 * time.Second})
	k := Start(
		t.Context(),
		l,
		[]tools.Tool{{Name: "remembered"}},
		Options{Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Changed: func(s link.Status) { news <- s }},
	)
	assert.Equal(
		t,
		"remembered",
		k.Status().Offer.Lists[tools.Tools][0].Name,
		"the recorded list is in force until the server has answered",
	)
	close(answers)
	wait := func(why string, ok func(link.Status) bool) {
		t.Helper()
		deadline := time.After(15 * time.Second)
		for {
			select {
			case st := <-news:
				if ok(st) {
					return
				}
			case <-deadline:
				require.Fail(t, why, "%+v", k.Status())
			}
		}
	}
	has := func(name string) func(link.Status) bool {
		return func(s link.Status) bool {
			list := s.Offer.Lists[tools.Tools]
			return s.State == team.StateReady && len(list) == 1 && list[0].Name == name
		}
	}
	wait("it becomes ready", has("one"))
	require.Eventually(t, func() bool {
		s.SetTools(toolserver.Tool{Name: "two", Schema: `{}`})
		select {
		case st := <-news:
			return has("two")(st)
		case <-time.After(200 * time.Millisecond):
			return false
		}
	}, 30*time.Second, time.Millisecond, "a changed list is noticed by the notification, not by polling")
	s.Fail(toolserver.Unauthorised)
	k.Check(t.Context(), streamable.New(linktest.Target("echo", h.URL, linktest.Token), link.Options{SetupTimeout: 30 * time.Second}))
	wait("it fails", func(s link.Status) bool {
		return s.State == team.StateFailing && s.Finding.Cause == diagnosis.TokenRejected
	})
	// A closer look is told instead, and so is one that follows from what was told.
	k.Explained(diagnosis.TokenRejected, diagnosis.Finding{Cause: diagnosis.TokenExpired})
	k.Explained(diagnosis.TokenExpired, diagnosis.Finding{Cause: diagnosis.SignInEnded})
	assert.Equal(t, diagnosis.SignInEnded, k.Status().Finding.Cause)
	assert.Equal(t, diagnosis.SignInEnded, k.Explain(diagnosis.Finding{Cause: diagnosis.TokenRejected}).Cause, "of what the conversation sees")
	assert.Equal(t, "two", k.Status().Offer.Lists[tools.Tools][0].Name, "the list outlives the failure")
	s.Fail(toolserver.Healthy)
	wait("it recovers by itself", has("two"))
	k.Report(diagnosis.Finding{Cause: diagnosis.Refused})
	wait("a call's failure shows at once", func(s link.Status) bool {
		return s.State == team.StateFailing && s.Finding.Cause == diagnosis.Refused
	})
	ended := make(chan struct{})
	go func() { k.Close(context.Background()); close(ended) }()
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		t.Fatal("Close does not return")
	}
}

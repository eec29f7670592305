package notice_test

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/control/notice"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/bell"
)

type obj = testkit.Obj

// ring serves a bell and returns it.
func ring(t *testing.T) *bell.Bell {
	b := &bell.Bell{Key: bell.Key, Now: time.Now}
	s := httptest.NewServer(b)
	t.Cleanup(s.Close)
	b.Address = s.URL + "/notices?room=quay"
	return b
}

func await(t *testing.T, b *bell.Bell, n int) (out []apitype.HeldNotice) {
	t.Helper()
	require.Eventually(t, func() bool { return len(b.Notices()) >= n }, 20*time.Second, 5*time.Millisecond)
	for _, raw := range b.Notices() {
		var one apitype.HeldNotice
		require.NoError(t, json.Unmarshal([]byte(raw), &one))
		out = append(out, one)
	}
	return out
}

// Whoever decides is told, signed, what waits and what became of it; secrets are masked, and
// who may not run the service may not try it.
func TestHeldCallsAreToldOutside(t *testing.T) {
	b := ring(t)
	t.Setenv("BELL_KEY", bell.Key)
	w := testkit.Start(t, map[string]string{"held-notices": b.Address, "held-notices-key": "env BELL_KEY"})
	w.Register("echo", testkit.Upstream(t, testkit.Echo("skf-4hg2Lq9vPz7Wm1Tx", nil)), "skf-4hg2Lq9vPz7Wm1Tx")
	agent := w.Raw("/mcp", w.Agent("quill"), "2025-11-25")
	w.Must("POST", "/api/rules", obj{
		"name": "look", "effect": "hold", "agent": "*", "server": "*", "tool": "*", "deciders": []string{"group:crew", "role:admin"}, "ownDecides": true,
	}, nil)
	told := make(chan testkit.Reply, 1)
	for _, how := range []string{"once", "refuse"} {
		before := len(b.Notices())
		go func() { told <- agent.CallTool("echo__echo", "the key is skf-4hg2Lq9vPz7Wm1Tx") }()
		first := await(t, b, before+1)
		n := first[len(first)-1]
		assert.Equal(t, "held", n.Notice)
		assert.Equal(t, []string{"quill", "echo", "echo", "look", "waiting"}, []string{n.Call.Agent, n.Call.Server, n.Call.Tool, n.Call.Rule, n.Call.State})
		assert.Equal(t, []string{"group:crew", "role:admin"}, n.Deciders)
		assert.Equal(t, w.Base+"/held", n.Console)
		assert.Contains(t, n.Command, n.Call.ID)
		assert.NotContains(t, strings.Join(b.Notices(), ""), "skf-4hg2")
		w.Must("POST", "/api/held/"+n.Call.ID+"/decision", obj{"how": how}, nil)
		<-told
		w.Calls(1, "decision=held") // recorded, so that it is known as a past decision
		after := await(t, b, len(first)+1)
		n = after[len(after)-1]
		assert.Equal(t, []string{"decided", how, "marit"}, []string{n.Notice, n.Call.How, n.Call.By})
	}
	second := await(t, b, 4)[2]
	require.Len(t, second.Call.Before, 1, "past decisions on the like")
	assert.Equal(t, "once", second.Call.Before[0].How)

	var s apitype.NoticeState
	require.Eventually(t, func() bool { // a notice counts as sent once its answer is read, which is after it came
		w.Must("GET", "/api/notices", nil, &s)
		return s.Sent == 4
	}, 20*time.Second, 5*time.Millisecond)
	w.Must("POST", "/api/notices/test", obj{}, &s)
	assert.Equal(t, 5, s.Sent)
	assert.Equal(t, strings.TrimSuffix(b.Address, "/notices?room=quay"), s.To)
	b.Fail(http.StatusTeapot)
	assert.Contains(t, w.Problem("POST", "/api/notices/test", obj{}).Title, "answered with 418")
	w.Must("GET", "/api/notices", nil, &s)
	assert.Equal(t, []any{5, 1, "it was answered with 418 I'm a teapot"}, []any{s.Sent, s.Failed, s.Error})
	member := w.Person("teo", "Teo Castellane", team.Member)
	assert.Equal(t, 403, w.ProblemAs(member, "POST", "/api/notices/test", obj{}).Status)
}

// A receiver that fails is tried again, for what may pass; one that refuses is not.
func TestNoticesAreTriedAgain(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		answers []int
		pauses  int
		want    string
	}{
		"at once":      {nil, 0, ""},
		"a hiccup":     {[]int{503, 429}, 2, ""},
		"broken":       {[]int{500, 502, 503}, 2, "it was answered with 503 Service Unavailable, 3 times"},
		"refused":      {[]int{401}, 0, "it was answered with 401 Unauthorized"},
		"led away":     {[]int{302}, 0, "it was answered with 302 Found"},
		"a wrong key":  {[]int{0}, 0, "it was answered with 401 Unauthorized"},
		"another time": {[]int{0, 0}, 0, "it was answered with 401 Unauthorized"},
	} {
		b := ring(t)
		b.Fail(row.answers...)
		switch name {
		case "a wrong key":
			b.Key = "another-key-of-somebody"
		case "another time":
			b.Now = func() time.Time { return time.Now().Add(time.Hour) }
		}
		var pauses []time.Duration
		s := notice.New(notice.Options{
			Address: b.Address, Key: []byte(bell.Key), Log: slog.New(slog.DiscardHandler),
			Call: func(context.Context, string) (apitype.HeldCall, []string, error) {
				return apitype.HeldCall{ID: "one"}, nil, nil
			},
			Pause: func(_ context.Context, d time.Duration) error { pauses = append(pauses, d); return nil },
		})
		s.Note(notice.Waits, "one")
		require.Eventually(t, func() bool { return s.State().Sent+s.State().Failed == 1 }, 20*time.Second, time.Millisecond, name)
		assert.Equal(t, row.want, s.State().Error, name)
		s.Close()
		assert.Len(t, pauses, row.pauses, name)
	}
}

func TestASenderOfNothing(t *testing.T) {
	t.Parallel()
	none := notice.New(notice.Options{})
	none.Note(notice.Waits, "x")
	none.Close()
	assert.Empty(t, none.State())
	_, err := none.Test(t.Context())
	assert.ErrorContains(t, err, "go nowhere")
	// A receiver that never answers holds up nobody: what is too much is left out.
	gate := make(chan struct{})
	s := notice.New(notice.Options{
		Address: "http://127.0.0.1:1/secret-path", Key: []byte(bell.Key), Log: slog.New(slog.DiscardHandler),
		Call: func(ctx context.Context, _ string) (apitype.HeldCall, []string, error) {
			<-gate
			return apitype.HeldCall{}, nil, ctx.Err()
		},
	})
	for range 400 {
		s.Note(notice.Waits, "x")
	}
	assert.GreaterOrEqual(t, s.State().Failed, 400-257)
	assert.Contains(t, s.State().Error, "too many")
	assert.NotContains(t, s.State().To, "secret")
	close(gate)
	s.Close()
}

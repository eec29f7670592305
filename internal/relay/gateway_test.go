package relay

import (
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/origin"
	"bouncer/internal/relay/session"
	"bouncer/internal/snapshot"
)

func TestIdleSessionsAreSweptAndBusyOnesStay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := New(t.Context(), nil, Options{Guard: origin.New(), Log: slog.Default()})
		p := &snapshot.Pass{ID: "p", AgentID: "1"}
		open := func() *session.Session {
			s := &session.Session{}
			require.NoError(t, d.sessions.Open(s, p, &snapshot.Agent{ID: p.AgentID}, time.Now()))
			return s
		}
		idle := open()
		busy := open()
		_, ok := busy.Attach()
		require.True(t, ok)
		time.Sleep(session.IdleSession / 2)
		fresh := open()
		time.Sleep(session.IdleSession/2 + 2*session.SweepEvery)
		synctest.Wait()
		assert.Nil(t, d.sessions.Get(idle.Id))
		assert.NotNil(t, d.sessions.Get(busy.Id))
		assert.NotNil(t, d.sessions.Get(fresh.Id))
		d.Close(t.Context())
	})
}

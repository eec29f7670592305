package store

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/locker"
)

func write(t *testing.T, s *Store, fn func(*Tx) error) {
	t.Helper()
	require.NoError(t, s.Write(t.Context(), team.Change{Person: "marit", What: "test"}, fn))
}

func TestLoginsEndWithTimeAndWithThePassword(t *testing.T) {
	t.Parallel()
	s, _ := open1(t)
	ctx := t.Context()
	now := time.Now()
	p := team.Person{ID: team.NewID(), Name: "marit", FullName: "Marit Aune", Role: team.Admin, MustChange: true, Created: now}
	write(t, s, func(tx *Tx) error { return tx.AddPerson(p, "first") })
	add := func(hash string, life time.Duration) {
		require.NoError(t, s.Update(ctx, func(tx *Tx) error {
			return tx.AddLogin([]byte(hash), Login{Person: p, Kind: "token", Label: "test", Created: now, Expires: now.Add(life)})
		}))
	}
	add("short", time.Minute)
	add("long", time.Hour)
	l, err := s.LoginByHash(ctx, []byte("short"), now)
	require.NoError(t, err)
	assert.Equal(t, "marit token test", l.Person.Name+" "+l.Kind+" "+l.Label)
	assert.True(t, l.Person.MustChange)
	_, err = s.LoginByHash(ctx, []byte("short"), now.Add(2*time.Minute))
	assert.ErrorIs(t, err, ErrNotFound)
	write(t, s, func(tx *Tx) error { return tx.SetPassword(p.ID, "second", false, []byte("long")) })
	_, err = s.LoginByHash(ctx, []byte("short"), now)
	assert.ErrorIs(t, err, ErrNotFound, "a new password ends the other logins")
	l, err = s.LoginByHash(ctx, []byte("long"), now)
	require.NoError(t, err)
	assert.False(t, l.Person.MustChange)
	hash, err := s.Password(ctx, "marit")
	require.NoError(t, err)
	assert.Equal(t, "second", hash)
	require.NoError(t, s.Update(ctx, func(tx *Tx) error { return tx.EndLogin([]byte("long")) }))
	_, err = s.LoginByHash(ctx, []byte("long"), now)
	assert.ErrorIs(t, err, ErrNotFound)
	_, err = s.Password(ctx, "nobody")
	assert.ErrorIs(t, err, ErrNotFound)
	assert.ErrorIs(
		t,
		s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.SetPerson(team.Person{ID: "nobody", Role: team.Member}) }),
		ErrNotFound,
	)
}

func TestPassesBelongToTheirAgent(t *testing.T) {
	t.Parallel()
	s, _ := open1(t)
	ctx := t.Context()
	now := time.Now().UTC().Truncate(time.Millisecond)
	a, b := team.Agent{
		ID:      team.NewID(),
		Name:    "marit-quill",
		Kind:    "quill",
		Created: now,
	}, team.Agent{
		ID:      team.NewID(),
		Name:    "night-watch",
		Kind:    "automation",
		Created: now,
	}
	pass := func(agent string, hash byte, expires time.Time) StoredPass {
		return StoredPass{
			AgentID: agent,
			Hash:    [32]byte{hash},
			Pass:    team.Pass{ID: team.NewID(), Label: "l", Hint: "abcd", Created: now, Expires: expires},
		}
	}
	valid, old := pass(a.ID, 1, now.Add(time.Hour)), pass(a.ID, 2, now.Add(-time.Hour))
	write(t, s, func(tx *Tx) error {
		for _, step := range []error{tx.AddAgent(a), tx.AddAgent(b), tx.AddPass(valid), tx.AddPass(old)} {
			if step != nil {
				return step
			}
		}
		return nil
	})
	got, err := s.AgentByName(ctx, "marit-quill", now)
	require.NoError(t, err)
	assert.Equal(t, 1, got.Passes, "an expired pass does not count")
	assert.Empty(t, got.Owner)
	assert.Nil(t, got.Seen)
	revoke := func(agent, id string) error {
		return s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.RevokePass(agent, id, now) })
	}
	assert.ErrorIs(t, revoke(b.ID, valid.ID), ErrNotFound, "another agent's pass is not found")
	require.NoError(t, s.Update(ctx, func(tx *Tx) error { return tx.PassUsed(valid.ID, now) }))
	require.NoError(t, revoke(a.ID, valid.ID))
	assert.ErrorIs(t, revoke(a.ID, valid.ID), ErrNotFound, "a pass is revoked once")
	list, err := s.Passes(ctx)
	require.NoError(t, err)
	states := map[string]string{}
	for _, p := range list {
		states[p.ID] = p.StateAt(now)
	}
	assert.Equal(t, map[string]string{valid.ID: "revoked", old.ID: "expired"}, states)
	got, err = s.AgentByName(ctx, "marit-quill", now)
	require.NoError(t, err)
	assert.Equal(t, now, *got.Seen)
	write(t, s, func(tx *Tx) error { return tx.RemoveAgent(a.ID) })
	list, err = s.Passes(ctx)
	require.NoError(t, err)
	assert.Empty(t, list, "passes go with their agent")
}

func TestSecretsInUseStay(t *testing.T) {
	t.Parallel()
	s, _ := open1(t)
	ctx := t.Context()
	now := time.Now()
	k := team.Secret{ID: team.NewID(), Name: "sailings-token", Kind: "bearer", Created: now}
	v := team.Server{ID: team.NewID(), Name: "sailings", URL: "http://x", Transport: "streamable-http", Secret: k.Name, Created: now}
	write(t, s, func(tx *Tx) error {
		if err := tx.AddSecret(k, locker.Box{KeyID: "k1", DataKey: []byte("d"), Value: []byte("v")}); err != nil {
			return err
		}
		return tx.AddServer(v)
	})
	list, err := s.Secrets(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"sailings"}, list[0].UsedBy)
	assert.ErrorIs(t, s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.RemoveSecret(k.ID) }), ErrInUse)
	write(t, s, func(tx *Tx) error {
		k.Rotated = &now
		return tx.RotateSecret(k, locker.Box{KeyID: "k2", DataKey: []byte("d2"), Value: []byte("v2")})
	})
	sealed, err := s.SealedSecrets(ctx)
	require.NoError(t, err)
	require.Len(t, sealed, 1)
	assert.Equal(t, locker.Box{ID: k.ID, KeyID: "k2", DataKey: []byte("d2"), Value: []byte("v2")}, sealed[0].Box)
	assert.Equal(t, "sailings-token", sealed[0].Name)
	v.Paused, v.URL = true, "http://y"
	assert.ErrorIs(t, s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.SetServer(v) }), ErrAltered, "it does not say what it saw")
	v.Version = 1
	write(t, s, func(tx *Tx) error { return tx.SetServer(v) })
	assert.ErrorIs(t, s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.SetServer(v) }), ErrAltered, "it was altered since")
	got, err := s.ServerByName(ctx, "sailings")
	require.NoError(t, err)
	assert.Equal(t, "http://y sailings-token true", got.URL+" "+got.Secret+" "+map[bool]string{true: "true"}[got.Paused])
	write(t, s, func(tx *Tx) error { return tx.RemoveServer(v.ID) })
	write(t, s, func(tx *Tx) error { return tx.RemoveSecret(k.ID) })
	_, err = s.ServerByName(ctx, "sailings")
	assert.ErrorIs(t, err, ErrNotFound)
}

func TestWriteThatIsGivenUpLeavesNothing(t *testing.T) {
	t.Parallel()
	s, _ := open1(t)
	ctx, cancel := context.WithCancel(t.Context())
	err := s.Write(ctx, team.Change{What: "rule.add"}, func(tx *Tx) error {
		if err := tx.AddRule(team.Rule{ID: team.NewID(), Effect: "admit", Agent: "*", Server: "*", Tool: "*", Created: time.Now()}); err != nil {
			return err
		}
		cancel()
		return nil
	})
	require.Error(t, err)
	list, err := s.Control().Rules(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	changes, err := s.Changes(t.Context(), 10)
	require.NoError(t, err)
	assert.Empty(t, changes)
	assert.Error(
		t,
		s.Write(t.Context(), team.Change{}, func(tx *Tx) error { return tx.AddRule(team.Rule{ID: "x", Effect: "permit"}) }),
		"the database itself refuses an unknown effect",
	)
}

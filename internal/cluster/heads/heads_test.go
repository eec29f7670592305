package heads

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
	"bouncer/internal/store"
)

// desk is a node's journal.
type desk struct {
	*testing.T
	store  *store.Store
	notary *journal.Notary
	keeper *Keeper
	writer *calls.Writer
}

func open(t *testing.T) *desk {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	n := journal.NewNotary(calls.In(s), make([]byte, 32))
	k, err := New(t.Context(), s, n, "north")
	require.NoError(t, err)
	return &desk{t, s, n, k, calls.NewWriter(s)}
}

// record records a call with a text, under a seal of its own, and keeps the head.
func (d *desk) record(text string) {
	d.Helper()
	key := segment.KeyAt(time.Now())
	require.NoError(d, d.writer.Append(d.Context(), []calls.Record{{Key: key, Call: team.Call{Tool: text}}}))
	require.NoError(d, d.keeper.Keep(d.Context(), time.Now()))
}

func (d *desk) verify() team.ChainState {
	d.Helper()
	state, err := d.notary.Verify(d.Context(), team.SignedHead{})
	require.NoError(d, err)
	return state
}

func (d *desk) alter(statements ...string) {
	d.Helper()
	require.NoError(d, d.store.Part().Alter(d.Context(), func(tx *sql.Tx) error {
		for _, s := range statements {
			if _, err := tx.ExecContext(context.WithoutCancel(d.Context()), s); err != nil {
				return fmt.Errorf("%s: %w", s, err)
			}
		}
		return nil
	}))
}

// What nodes keep of a journal shows that it is another one, and that it was cut, when the chain
// itself is whole.
func TestHeadsShowWhatTheChainDoesNot(t *testing.T) {
	t.Parallel()
	north := open(t)
	require.NoError(t, north.keeper.Keep(t.Context(), time.Now()), "there is nothing yet")
	assert.Zero(t, north.verify().Kept)
	for _, text := range []string{"measure", "sail", "moor"} {
		north.record(text)
	}
	require.NoError(t, north.keeper.Keep(t.Context(), time.Now()))
	state := north.verify()
	assert.Equal(t, []any{true, 3, int64(3)}, []any{state.Whole, state.Kept, state.Seals}, "each is kept once")

	// Another chain in the place of the first, as whoever rules the machine could write and sign it.
	forged := open(t)
	forged.record("measure")
	forged.record("nothing")
	assert.True(t, forged.verify().Whole)
	heads, err := store.Heads(t.Context(), north.store, "north", north.keeper.chain)
	require.NoError(t, err)
	forged.alter("DELETE FROM journal_heads")
	require.NoError(t, store.Note(t.Context(), forged.store, func(tx *store.Tx) error {
		for _, h := range heads[:2] {
			if err := tx.KeepHead("north", forged.keeper.chain, h, time.Now()); err != nil {
				return err
			}
		}
		bad := heads[2]
		bad.Seal = 1 << 40
		return tx.KeepHead("north", forged.keeper.chain, bad, time.Now())
	}))
	state = forged.verify()
	assert.Equal(t, 2, state.Kept, "what nobody signed counts for nothing")
	require.Len(t, state.Problems, 2)
	assert.Equal(t, []int64{1, 2}, []int64{state.Problems[0].Seal, state.Problems[1].Seal})
	assert.Contains(t, state.Problems[1].What, "another one than the head that was kept")

	north.alter("DELETE FROM seals WHERE seq = 3", "DELETE FROM segments WHERE low = 3")
	state = north.verify()
	require.Len(t, state.Problems, 1)
	assert.Contains(t, state.Problems[0].What, "newer calls were removed")

	// Whoever begins a journal anew is not held against the one of before, and it is said.
	north.alter("DELETE FROM seals", "DELETE FROM segments", "DELETE FROM journal_chain")
	again, err := New(t.Context(), north.store, north.notary, "north")
	require.NoError(t, err)
	assert.NotEqual(t, north.keeper.chain, again.chain)
	state = north.verify()
	assert.Equal(t, []any{true, 0, 3}, []any{state.Whole, state.Kept, state.KeptBefore})

	// They are forgotten after a year and more.
	require.NoError(t, store.Note(t.Context(), north.store, func(tx *store.Tx) error {
		return tx.KeepHead("north", again.chain, heads[0], time.Now().Add(401*24*time.Hour))
	}))
	left, err := store.OtherHeads(t.Context(), north.store, "north", again.chain)
	require.NoError(t, err)
	assert.Zero(t, left)
}

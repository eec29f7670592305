package journal

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Whatever is done to the journal behind its back shows, and what is removed for its age
// leaves a chain that can be verified.
func TestLaterAlterationsShow(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "bouncer.db")
	s, err := store.Open(t.Context(), path, store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	log := calls.NewWriter(s)
	start := time.Now().Add(-10 * time.Hour)
	fill := func(from, to int) {
		for batch := from; batch < to; batch++ {
			rows := []calls.Record{}
			for i := range 3 {
				at := start.Add(time.Duration(batch)*time.Hour + time.Duration(i)*time.Millisecond)
				rows = append(rows, calls.Record{Key: segment.KeyAt(at), Call: team.Call{
					Agent: "night-watch", Server: "sailings", Tool: "cancel_sailing", Decision: "admit", Outcome: "ok", Arguments: fmt.Sprint(batch, i),
					Control: &team.CallControl{Held: "night-cancels", By: "joss"},
				}})
			}
			require.NoError(t, log.Append(t.Context(), rows))
		}
	}
	notary := NewNotary(log.Log, make([]byte, 32))
	fill(0, 4)
	early, err := notary.Head(t.Context())
	require.NoError(t, err)
	fill(4, 6)
	verify := func(kept team.SignedHead) team.ChainState {
		v, err := notary.Verify(t.Context(), kept)
		require.NoError(t, err)
		return v
	}
	whole := verify(early)
	assert.True(t, whole.Whole, "%+v", whole.Problems)
	assert.Equal(t, []int64{6, 18, 0}, []int64{whole.Seals, whole.Records, whole.Unsealed})

	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	exec := func(query string) {
		_, err := db.Exec(query)
		require.NoError(t, err, query)
	}
	// alter has the calls of a seal altered where they are kept.
	alter := func(seq int64, fn func([]calls.Record) []calls.Record) func() {
		var head, body []byte
		var records int
		require.NoError(t, db.QueryRow(`SELECT head, body, records FROM segments WHERE low = ?`, seq).Scan(&head, &body, &records))
		list, err := segment.ReadHead(head, seq)
		require.NoError(t, err)
		require.NoError(t, segment.ReadBody(body, list))
		put := func(head, body []byte, n int) {
			_, err := db.Exec(`UPDATE segments SET head = ?, body = ?, records = ? WHERE low = ?`, head, body, n, seq)
			require.NoError(t, err)
		}
		list = fn(list)
		forged := segment.Write(list, false)
		put(forged.Head, forged.Body, len(list))
		return func() { put(head, body, records) }
	}
	undo := func(query string) func() { return func() { exec(query) } }
	for name, row := range map[string]struct {
		do   func() (undo func())
		what string
	}{
		"an argument": {func() func() {
			return alter(3, func(list []calls.Record) []calls.Record { list[1].Arguments = "x"; return list })
		}, "was altered"},
		"who decided": {func() func() {
			return alter(4, func(list []calls.Record) []calls.Record { list[0].Control.By = "teo"; return list })
		}, "was altered"},
		"how long it took": {func() func() {
			return alter(4, func(list []calls.Record) []calls.Record { list[0].Micros++; return list })
		}, "was altered"},
		"a call gone": {func() func() {
			return alter(2, func(list []calls.Record) []calls.Record { return list[:2] })
		}, "it sealed 3 calls, and there are 2"},
		"a call put in under a seal": {func() func() {
			return alter(2, func(list []calls.Record) []calls.Record {
				more := list[2]
				more.Key++
				return append(list, more)
			})
		}, "it sealed 3 calls, and there are 4"},
		"a call put in": {func() func() {
			forged := segment.Write([]calls.Record{{Key: segment.KeyAt(start.Add(90 * time.Minute)), Call: team.Call{Agent: "x"}}}, true)
			_, err := db.Exec(`INSERT INTO segments (closed, records, first, last, low, high, head, body) VALUES (1, 1, ?, ?, 0, 0, ?, ?)`,
				int64(forged.First), int64(forged.Last), forged.Head, forged.Body)
			require.NoError(t, err)
			return undo(`DELETE FROM segments WHERE low = 0`)
		}, "put in without a seal"},
		"a block twice": {func() func() {
			exec(`INSERT INTO segments (closed, records, first, last, low, high, facts, head, body)
				SELECT closed, records, first, last, low, high, facts, head, body FROM segments WHERE low = 2`)
			return undo(`DELETE FROM segments WHERE id = (SELECT max(id) FROM segments)`)
		}, "belong to no seal"},
		"a seal gone": {func() func() {
			exec(`CREATE TABLE gone AS SELECT * FROM seals WHERE seq = 3; DELETE FROM seals WHERE seq = 3`)
			return undo(`INSERT INTO seals SELECT * FROM gone; DROP TABLE gone`)
		}, "the seals from 3 to 3 are gone"},
		"another seal": {func() func() {
			var hash []byte
			require.NoError(t, db.QueryRow(`SELECT hash FROM seals WHERE seq = 6`).Scan(&hash))
			exec(`UPDATE seals SET hash = x'00' WHERE seq = 6`)
			return func() {
				_, err := db.Exec(`UPDATE seals SET hash = ? WHERE seq = 6`, hash)
				require.NoError(t, err)
			}
		}, "the seal itself, was altered"},
	} {
		mend := row.do()
		v := verify(team.SignedHead{})
		assert.False(t, v.Whole, name)
		require.NotEmpty(t, v.Problems, name)
		assert.Contains(t, fmt.Sprint(v.Problems), row.what, name)
		mend()
		assert.True(t, verify(early).Whole, name)
	}

	// A chain that was cut off, or written anew, fits itself; the head that was kept shows it.
	late, err := notary.Head(t.Context())
	require.NoError(t, err)
	exec(`CREATE TABLE calls_off AS SELECT * FROM segments WHERE low > 4; DELETE FROM segments WHERE low > 4; CREATE TABLE seals_off AS SELECT * FROM seals WHERE seq > 4; DELETE FROM seals WHERE seq > 4`)
	assert.True(t, verify(team.SignedHead{}).Whole)
	assert.Contains(t, fmt.Sprint(verify(late).Problems), "newer calls were removed")
	exec(`INSERT INTO segments SELECT * FROM calls_off; INSERT INTO seals SELECT * FROM seals_off`)
	forged := late
	forged.Seal = 5
	_, err = notary.Verify(t.Context(), forged)
	assert.ErrorContains(t, err, "its signature does not fit")

	// What is too old goes with whole seals, and the rest is still a chain.
	n, err := log.Remove(t.Context(), segment.KeyAt(start.Add(2*time.Hour+time.Millisecond)), 100)
	require.NoError(t, err)
	assert.Equal(t, 6, n, "the seal of two hours is not over")
	v := verify(late)
	assert.True(t, v.Whole, "%+v", v.Problems)
	assert.Equal(t, []int64{2, 4, 12}, []int64{v.Dropped, v.Seals, v.Records})
	fill(7, 8)
	assert.True(t, verify(late).Whole)

	j, err := New(t.Context(), log, Options{Log: slog.New(slog.DiscardHandler), Strict: true})
	require.NoError(t, err)
	require.NoError(t, j.Record(t.Context(), refusal("quill", "order_fuel")))
	require.NoError(t, j.Record(t.Context(), refusal("quill", "order_fuel")))
	j.Close()
	assert.True(t, verify(late).Whole, "refusals that repeat are counted without harm")
}

// Heads that others keep accuse nobody unless whoever holds the key signed them, and what cannot be
// asked for is no proof.
func TestHeadsThatOthersKeepAreHeldAgainstTheChain(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	log := calls.NewWriter(s)
	at := time.Now()
	require.NoError(t, log.Append(t.Context(), []calls.Record{{Key: segment.KeyAt(at), Call: team.Call{Agent: "quill"}}}))
	notary := NewNotary(log.Log, make([]byte, 32))
	head, err := notary.Head(t.Context())
	require.NoError(t, err)
	require.NoError(t, Check(head))
	other := NewNotary(log.Log, []byte("another seed, of as many letters"))
	forged := head
	forged.Hash = hex.EncodeToString(make([]byte, 32))
	anew := team.SignedHead{ChainHead: forged.ChainHead}
	anew.Key, anew.Signature = head.Key, head.Signature
	for field, h := range map[string]team.SignedHead{
		"a hash that is none":    {ChainHead: team.ChainHead{Seal: 1, Hash: "x", At: at}, Key: head.Key, Signature: head.Signature},
		"a short hash":           {ChainHead: team.ChainHead{Seal: 1, Hash: forged.Hash[2:], At: at}, Key: head.Key, Signature: head.Signature},
		"no seal":                {ChainHead: team.ChainHead{Hash: forged.Hash, At: at}, Key: head.Key, Signature: head.Signature},
		"a signature of nothing": {ChainHead: head.ChainHead, Key: head.Key, Signature: "!"},
		"a key of nothing":       {ChainHead: head.ChainHead, Key: "AAAA", Signature: head.Signature},
		"another key":            {ChainHead: head.ChainHead, Key: mustHead(t, other).Key, Signature: head.Signature},
		"another hash":           forged,
	} {
		var wrong *team.FieldError
		require.ErrorAs(t, Check(h), &wrong, field)
		assert.Equal(t, "head", wrong.Field)
		_, err := notary.Verify(t.Context(), h)
		assert.ErrorAs(t, err, &wrong, field)
	}
	assert.ErrorContains(t, Check(team.SignedHead{ChainHead: head.ChainHead, Key: head.Key, Signature: "!"}), "is not as")

	signedFalsely := mustHead(t, other) // of a chain that is another one
	signedFalsely.Hash = forged.Hash
	signedFalsely.Signature = signatureBy(other, signedFalsely.ChainHead)
	notary.Keeps("north", func(context.Context) (Kept, error) { return Kept{Heads: []team.SignedHead{head, anew}, Before: 2}, nil })
	v, err := notary.Verify(t.Context(), team.SignedHead{})
	require.NoError(t, err)
	assert.Equal(t, []any{true, 1, 2}, []any{v.Whole, v.Kept, v.KeptBefore})
	notary.Keeps("north", func(context.Context) (Kept, error) { return Kept{Heads: []team.SignedHead{signedFalsely}}, nil })
	v, err = notary.Verify(t.Context(), team.SignedHead{})
	require.NoError(t, err)
	assert.Equal(t, []any{false, 1}, []any{v.Whole, v.Kept})
	v, err = notary.Verify(t.Context(), head)
	require.NoError(t, err)
	assert.False(t, v.Whole, "that one fits makes the other no better")
	theirs := signedFalsely
	theirs.Node = "south"
	notary.Keeps("north", func(context.Context) (Kept, error) { return Kept{}, nil })
	v, err = notary.Verify(t.Context(), theirs)
	require.NoError(t, err)
	assert.Equal(t, []any{true, "north", "north"}, []any{v.Whole, v.Node, mustHead(t, notary).Node}, "that of another node says nothing of this journal")
	theirs.Node = "north"
	v, err = notary.Verify(t.Context(), theirs)
	require.NoError(t, err)
	assert.False(t, v.Whole)
	gone := errors.New("no other node answers")
	notary.Keeps("north", func(context.Context) (Kept, error) { return Kept{}, gone })
	_, err = notary.Verify(t.Context(), head)
	assert.ErrorIs(t, err, gone)
}

func mustHead(t *testing.T, n *Notary) team.SignedHead {
	head, err := n.Head(t.Context())
	require.NoError(t, err)
	return head
}

func signatureBy(n *Notary, h team.ChainHead) string {
	return base64.StdEncoding.EncodeToString(ed25519.Sign(n.key, signed(h)))
}

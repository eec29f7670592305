package records

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/cluster"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
	"bouncer/standin/broker"
)

func openLog(t *testing.T) *calls.Writer {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return calls.NewWriter(s)
}

func join(t *testing.T, b *broker.Broker, node string) *cluster.Cluster {
	t.Helper()
	c, err := cluster.Join(t.Context(), cluster.Options{
		Servers: strings.Split(b.Addresses(), ","), Name: "skerrow", Node: node, Log: slog.New(slog.DiscardHandler),
		Records: cluster.Records{Room: 64 << 20},
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func keeper(t *testing.T, to Place, node string, journal Journal, strict bool) *Keeper {
	t.Helper()
	k, err := New(Options{
		Place: to, Journal: journal, Key: bytes.Repeat([]byte{7}, 32), Node: node, Strict: strict, Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(t, err)
	t.Cleanup(k.Close)
	return k
}

// record is a call with something in each of its members, so that one that is not copied shows.
func record(t *testing.T, i int) calls.Record {
	t.Helper()
	at := time.Date(2026, 11, 23, 8, 0, i, 0, time.UTC)
	r := calls.Record{Key: segment.KeyAt(at) + calls.Key(i)}
	fill(t, reflect.ValueOf(&r.Call).Elem(), i)
	r.Call.ID, r.Call.At, r.Call.Times, r.Call.RuleName = r.Key.ULID(), at, 1, ""
	return r
}

func fill(t *testing.T, v reflect.Value, i int) {
	t.Helper()
	for n := range v.NumField() {
		switch f := v.Field(n); f.Kind() {
		case reflect.String:
			f.SetString(fmt.Sprint(v.Type().Field(n).Name, " ", i, " canary"))
		case reflect.Int, reflect.Int64:
			f.SetInt(int64(i + n + 1))
		case reflect.Bool:
			f.SetBool(true)
		case reflect.Pointer:
			f.Set(reflect.New(f.Type().Elem()))
			fill(t, f.Elem(), i)
		}
	}
}

func all(t *testing.T, log *calls.Writer) (list []calls.Record) {
	t.Helper()
	require.NoError(t, log.Export(t.Context(), calls.Filter{}, func(r *calls.Record) error {
		c := *r
		c.Seal = 0
		list = append(list, c)
		return nil
	}))
	return list
}

// A machine that is lost takes no call with it: whoever has its name has its calls again, each once,
// with how often refusals repeated; nobody else's, and no one can read them on the way.
func TestWhatIsLostIsPutBack(t *testing.T) {
	t.Parallel()
	b, err := broker.Start(t.TempDir(), 1)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	north, south := join(t, b, "north"), join(t, b, "south")
	log := openLog(t)
	for _, strict := range []bool{true, false} {
		k := keeper(t, north, "north", log, strict)
		first := 0
		if !strict {
			first = 10
		}
		require.NoError(t, k.Append(t.Context(), []calls.Record{record(t, first), record(t, first+1)}))
		repeated := record(t, first+1)
		repeated.Times = 40 + first
		require.NoError(t, k.Append(t.Context(), []calls.Record{record(t, first+2)}, repeated))
		repeated.Times++
		require.NoError(t, k.Append(t.Context(), nil, repeated))
		k.Close()
	}
	require.NoError(t, keeper(t, south, "south", openLog(t), true).Append(t.Context(), []calls.Record{record(t, 99)}))

	want := all(t, log)
	require.Len(t, want, 6)
	assert.Equal(t, []int{1, 41, 1, 1, 51, 1}, []int{
		want[0].Times, want[1].Times, want[2].Times, want[3].Times, want[4].Times, want[5].Times,
	})
	again := openLog(t)
	k := keeper(t, north, "north", again, true)
	n, err := k.PutBack(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 6, n)
	assert.Equal(t, want, all(t, again))
	state, err := again.Verify(t.Context(), nil)
	require.NoError(t, err)
	assert.True(t, state.Whole)
	n, err = k.PutBack(t.Context())
	require.NoError(t, err)
	assert.Zero(t, n, "once")

	// One that has some of them, as an older copy of its state has, is given the others.
	some := openLog(t)
	require.NoError(t, some.Append(t.Context(), []calls.Record{record(t, 0)}))
	n, err = keeper(t, north, "north", some, true).PutBack(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 5, n)
	assert.Equal(t, want, all(t, some))

	n, err = keeper(t, join(t, b, "west"), "west", openLog(t), true).PutBack(t.Context())
	require.NoError(t, err)
	assert.Zero(t, n)
	seen := 0
	require.NoError(t, north.KeptRecords(t.Context(), 0, func(raw []byte) error {
		seen++
		assert.NotContains(t, string(raw), "canary")
		_, err := k.open(raw)
		require.NoError(t, err)
		_, err = keeper(t, south, "south", openLog(t), true).open(raw)
		require.ErrorContains(t, err, "from nobody")
		raw[len(raw)-1] ^= 1
		_, err = k.open(raw)
		require.ErrorContains(t, err, "from nobody")
		return nil
	}))
	assert.Equal(t, 6, seen)
	_, err = k.open(nil)
	assert.ErrorContains(t, err, "too short")
}

// place is where copies are kept, and may be out of reach.
type place struct {
	mu    sync.Mutex
	most  int
	away  error
	ids   []string
	kept  [][]byte
	wait  chan struct{}
	lasts []int64
}

func (p *place) KeepRecords(ctx context.Context, id string, newest int64, raw []byte) error {
	if p.wait != nil {
		select {
		case <-p.wait:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.away != nil {
		return p.away
	}
	p.ids, p.kept, p.lasts = append(p.ids, id), append(p.kept, raw), append(p.lasts, newest)
	return nil
}

func (p *place) NewestRecord(context.Context) (int64, error) {
	if p.away != nil || len(p.lasts) == 0 {
		return 0, p.away
	}
	return p.lasts[len(p.lasts)-1], nil
}

func (p *place) KeptRecords(_ context.Context, _ int64, fn func([]byte) error) error {
	for _, raw := range p.kept {
		if err := fn(raw); err != nil {
			return err
		}
	}
	return nil
}

func (p *place) MaxMessage() int { return p.most }

// In strict mode nothing is recorded that the cluster has not; otherwise what it misses is here.
func TestStrictRecordsAreWithTheClusterFirst(t *testing.T) {
	t.Parallel()
	away := errors.New("out of reach")
	p := &place{most: 1 << 20, away: away}
	log := openLog(t)
	strict := keeper(t, p, "north", log, true)
	batch := []calls.Record{record(t, 0)}
	require.ErrorIs(t, strict.Append(t.Context(), batch), away)
	assert.Empty(t, all(t, log))
	_, err := strict.PutBack(t.Context())
	require.ErrorIs(t, err, away)
	p.away = nil
	require.NoError(t, strict.Append(t.Context(), batch))
	assert.Len(t, all(t, log), 1)
	strict.o.Journal = broken{log}
	require.ErrorIs(t, strict.Append(t.Context(), []calls.Record{record(t, 1)}), errDisk)
	require.ErrorIs(t, strict.Append(t.Context(), []calls.Record{record(t, 1)}), errDisk)
	assert.Equal(t, p.ids[1], p.ids[2], "what is tried again is the same message")
	assert.NotEqual(t, p.ids[0], p.ids[1])
	strict.o.Journal = log
	n, err := strict.PutBack(t.Context())
	require.NoError(t, err)
	assert.Positive(t, n, "what could not be written here is put back")

	p.away = away
	normal := keeper(t, p, "north", openLog(t), false)
	require.NoError(t, normal.Append(t.Context(), batch))
	normal.Close()
	assert.EqualValues(t, 1, normal.lost.Load())
	p.away, p.wait = nil, make(chan struct{})
	slow := keeper(t, p, "north", openLog(t), false)
	for i := range waiting + 10 {
		require.NoError(t, slow.Append(t.Context(), []calls.Record{record(t, i)}))
	}
	assert.GreaterOrEqual(t, slow.lost.Load(), int64(9), "nobody waits for the cluster, and what waits is bounded")
	close(p.wait)
	slow.Close()
	slow.Close()
}

var errDisk = errors.New("the disk is gone")

type broken struct{ *calls.Writer }

func (broken) Append(context.Context, []calls.Record, ...calls.Record) error { return errDisk }

// What is too large for a message goes in several; a single call leaves its bodies behind.
func TestCopiesFitIntoMessages(t *testing.T) {
	t.Parallel()
	p := &place{most: headers + 3000}
	log := openLog(t)
	k := keeper(t, p, "north", log, true)
	var batch []calls.Record
	for i := range 20 {
		r := record(t, i)
		r.Arguments = noise(i, 700)
		batch = append(batch, r)
	}
	batch[19].Arguments = noise(19, 9000)
	require.NoError(t, k.Append(t.Context(), batch, calls.Record{Key: batch[0].Key, Call: team.Call{Times: 5}}))
	assert.Greater(t, len(p.kept), 4)
	for _, raw := range p.kept {
		assert.LessOrEqual(t, len(raw), p.most)
	}
	again := openLog(t)
	_, err := keeper(t, p, "north", again, true).PutBack(t.Context())
	require.NoError(t, err)
	got, want := all(t, again), all(t, log)
	require.Len(t, got, 20)
	assert.Equal(t, want[:19], got[:19])
	assert.Equal(t, 5, got[0].Times)
	assert.Equal(t, []any{"", true, want[19].ID}, []any{got[19].Arguments, got[19].Cut, got[19].ID})
	p.most = headers
	assert.ErrorContains(t, k.Append(t.Context(), batch[:1]), "the cluster's servers take")
}

// noise is text that cannot be made small.
func noise(seed, n int) string {
	var out strings.Builder
	x := uint64(seed + 1)
	for out.Len() < n {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		fmt.Fprintf(&out, "%x", x)
	}
	return out.String()[:n]
}

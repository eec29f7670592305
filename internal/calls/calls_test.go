package calls_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

func openLog(t testing.TB) *calls.Writer {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return calls.NewWriter(s)
}

// model is what is on record, as a list: what the log answers has to be what a look at each
// call gives.
type model struct {
	t    *testing.T
	w    *calls.Writer
	rows []calls.Record // in the order of keys
	rand *rand.Rand
	key  calls.Key

	taken map[calls.Key]bool // keys that were given, also to calls that are gone
}

var (
	agents   = []string{"marit-quill", "joss-quill", "night-watch", "voice"}
	persons  = map[string]string{"marit-quill": "marit", "joss-quill": "joss"}
	servers  = []string{"sailings", "berths", "pumps"}
	tools    = []string{"find_sailings", "cancel_sailing", "list_berths", "read_level", "résumé"}
	outcomes = []string{team.OutcomeOK, team.OutcomeRefused, team.OutcomeTimeout, team.OutcomeToolError}
	ruleIDs  = []string{"", "R1", "R2", "R3"}
	texts    = []string{"", `{"to":"Holm Voe"}`, `{"from":"SKERROW","berth":7}`, "fog over the sound", strings.Repeat("tide ", 300)}
)

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

func (m *model) call() team.Call {
	c := team.Call{
		Agent: pick(m.rand, agents), Server: pick(m.rand, servers), Tool: pick(m.rand, tools), Outcome: pick(m.rand, outcomes),
		Rule: pick(m.rand, ruleIDs), Decision: team.DecisionAdmit, Micros: m.rand.Int64N(1 << 40), BytesIn: m.rand.IntN(9), BytesOut: m.rand.IntN(1 << 30),
		Arguments: pick(m.rand, texts), Result: pick(m.rand, texts), Cut: m.rand.IntN(2) == 0, Times: 1, Session: fmt.Sprint(m.rand.IntN(5)),
	}
	c.Person = persons[c.Agent]
	if c.Outcome == team.OutcomeRefused {
		c.Decision, c.Error = team.DecisionRefuse, "no rule admits it"
	}
	if m.rand.IntN(10) == 0 {
		c.Control = &team.CallControl{Held: "nights", By: pick(m.rand, []string{"", "teo"}), WaitedMS: 5}
	}
	return c
}

// add writes a batch. Sometimes its keys lie amid those that are there.
func (m *model) add(n int) {
	key := m.key
	if back := m.rand.IntN(6) == 0; back && len(m.rows) > 0 {
		key = pick(m.rand, m.rows).Key
	}
	var batch []calls.Record
	for range n {
		for key++; m.taken[key]; key++ {
		}
		m.taken[key] = true
		batch = append(batch, calls.Record{Key: key, Call: m.call()})
		key += calls.Key(m.rand.IntN(40)) << 16
	}
	m.key = max(m.key, key)
	m.rand.Shuffle(len(batch), func(i, j int) { batch[i], batch[j] = batch[j], batch[i] })
	require.NoError(m.t, m.w.Append(m.t.Context(), batch))
	m.rows = segment.Sorted(append(m.rows, batch...))
}

// repeat counts a refusal once more, whichever block it is in.
func (m *model) repeat() {
	i := m.rand.IntN(len(m.rows))
	m.rows[i].Times += 3
	require.NoError(m.t, m.w.Append(m.t.Context(), nil, m.rows[i]))
}

func (m *model) remove() {
	n, err := m.w.Remove(m.t.Context(), pick(m.rand, m.rows).Key, 400)
	require.NoError(m.t, err)
	if n == 0 {
		return
	}
	have := map[calls.Key]bool{}
	require.NoError(m.t, m.w.Each(m.t.Context(), calls.Filter{}, func(r *calls.Record) { have[r.Key] = true }))
	require.Len(m.t, have, len(m.rows)-n, "as many went as was said")
	m.rows = slices.DeleteFunc(m.rows, func(r calls.Record) bool { return !have[r.Key] })
}

func (m *model) filter() calls.Filter {
	f := calls.Filter{Filter: segment.Filter{
		Agent: pick(m.rand, append(agents, "", "", "", "nobody")), Server: pick(m.rand, append(servers, "", "", "")),
		Tool:    pick(m.rand, []string{"", "", "*_sailing*", "list_berths", "r?sumé", "none"}),
		Outcome: pick(m.rand, append(outcomes, "", "", "")), Decision: pick(m.rand, []string{"", "", "admit", "refuse", segment.Held}),
		Text:  pick(m.rand, []string{"", "", "", "holm voe", "HOLM", "fog", "tide tide", "z", "no rule", "%"}),
		Owner: pick(m.rand, []string{"", "", "", "joss"}), Person: pick(m.rand, []string{"", "", "", "marit"}),
	}, Rule: pick(m.rand, append(ruleIDs, "", "")), Limit: 1 + m.rand.IntN(2*len(m.rows))}
	a, b := pick(m.rand, m.rows).Key, pick(m.rand, m.rows).Key
	switch m.rand.IntN(6) {
	case 0:
		f.Since = min(a, b).Time()
	case 1:
		f.Since, f.Until = min(a, b).Time(), max(a, b).Time()
	case 2:
		f.Before = a
	case 3:
		f.After = a
	}
	return f
}

// wanted is what a filter selects, newest first unless it follows.
func (m *model) wanted(f calls.Filter) (out []calls.Record) {
	from, to := f.Range()
	low := func(s string) string { return strings.ToLower(s) }
	for _, r := range m.rows {
		all := r.Key >= from && r.Key <= to && (f.Agent == "" || r.Agent == f.Agent) && (f.Server == "" || r.Server == f.Server) &&
			(f.Outcome == "" || r.Outcome == f.Outcome) && (f.Owner == "" || r.Person == f.Owner) && (f.Person == "" || r.Person == f.Person) &&
			(f.Rule == "" || r.Rule == f.Rule)
		switch f.Decision {
		case "":
		case segment.Held:
			all = all && r.Control != nil
		default:
			all = all && r.Decision == f.Decision
		}
		switch f.Tool {
		case "":
		case "*_sailing*":
			all = all && strings.Contains(r.Tool, "_sailing")
		case "r?sumé":
			all = all && r.Tool == "résumé"
		default:
			all = all && r.Tool == f.Tool
		}
		if f.Text != "" {
			all = all && strings.Contains(low(r.Tool+"\n"+r.Error+"\n"+r.Arguments+"\n"+r.Result), low(f.Text))
		}
		if all {
			out = append(out, r)
		}
	}
	if f.After == 0 {
		slices.Reverse(out)
	}
	return out
}

func keys(list []calls.Record) []calls.Key {
	out := []calls.Key{}
	for _, r := range list {
		out = append(out, r.Key)
	}
	return out
}

func (m *model) check() {
	ctx := m.t.Context()
	f := m.filter()
	want := m.wanted(f)
	page, err := m.w.Page(ctx, f)
	require.NoError(m.t, err)
	require.Equal(m.t, keys(want[:min(len(want), f.Limit)]), keys(page), "%+v", f)
	for i, r := range page {
		was := want[i]
		was.ID, was.At, was.Seal, was.Arguments, was.Result = was.Key.ULID(), was.Key.Time(), r.Seal, "", ""
		require.Equal(m.t, was, r)
	}
	n, err := m.w.Count(ctx, f, nil)
	require.NoError(m.t, err)
	require.Equal(m.t, len(want), n, "%+v", f)
	full, err := m.w.ByKey(ctx, pick(m.rand, m.rows).Key)
	require.NoError(m.t, err)
	at, _ := slices.BinarySearchFunc(m.rows, full.Key, func(r calls.Record, k calls.Key) int { return int(r.Key - k) })
	require.Equal(m.t, []string{m.rows[at].Arguments, m.rows[at].Result}, []string{full.Arguments, full.Result})

	key := pick(m.rand, m.rows).Key + calls.Key(m.rand.IntN(3)-1)
	below, above, err := m.w.Around(ctx, key)
	require.NoError(m.t, err)
	var wantBelow, wantAbove calls.Key
	decided, used := map[string]int{}, map[calls.Tool]int{}
	since := segment.KeyAt(key.Time())
	for _, r := range m.rows {
		if r.Key < key {
			wantBelow = r.Key
		} else if wantAbove == 0 {
			wantAbove = r.Key
		}
		if r.Key >= since && r.Rule != "" {
			decided[r.Rule] += r.Times
		}
		if r.Key >= since && r.Agent == "joss-quill" && r.Decision == team.DecisionAdmit {
			used[calls.Tool{Server: r.Server, Tool: r.Tool}] += r.Times
		}
	}
	require.Equal(m.t, []calls.Key{wantBelow, wantAbove}, []calls.Key{below, above})
	gotDecided, err := m.w.DecidedBy(ctx, key.Time())
	require.NoError(m.t, err)
	require.Equal(m.t, decided, gotDecided)
	gotUsed, err := m.w.UsedBy(ctx, "joss-quill", key.Time())
	require.NoError(m.t, err)
	require.Equal(m.t, used, gotUsed)
	state, err := m.w.Verify(ctx, nil)
	require.NoError(m.t, err)
	require.True(m.t, state.Whole, "%+v", state.Problems)
	require.EqualValues(m.t, len(m.rows), state.Records)
	m.checkOverTime(key)
}

// checkOverTime holds what is asked of everything since the time of a key.
func (m *model) checkOverTime(key calls.Key) {
	ctx, since := m.t.Context(), segment.KeyAt(key.Time())
	newest := m.rows[len(m.rows)-1].Key
	middle := calls.Filter{Filter: segment.Filter{Since: key.Time(), Until: (since + (newest-since)/2).Time()}}
	from, to := middle.Range()
	most, step := 1+m.rand.IntN(9), 2*time.Second
	var during int
	var recent, held, all []calls.Key
	buckets := map[time.Time]*team.Bucket{}
	for _, r := range slices.Backward(m.rows) {
		if r.Key < since {
			break
		}
		if r.Key >= from && r.Key <= to {
			during++
		}
		all = append(all, r.Key)
		if len(recent) < most {
			recent = append(recent, r.Key)
		}
		if r.Control != nil && r.Control.By != "" && r.Agent == "voice" && r.Server == "berths" && r.Tool == "read_level" && len(held) < most {
			held = append(held, r.Key)
		}
		at := key.Time().Add(r.Key.Time().Sub(key.Time()).Truncate(step)).UTC()
		if buckets[at] == nil {
			buckets[at] = &team.Bucket{At: at}
		}
		switch r.Outcome {
		case team.OutcomeOK:
			buckets[at].OK++
		case team.OutcomeRefused:
			buckets[at].Refused += r.Times
		default:
			buckets[at].Failed++
		}
	}
	n, err := m.w.Count(ctx, middle, nil)
	require.NoError(m.t, err)
	require.Equal(m.t, during, n)
	var got []calls.Key
	require.NoError(m.t, m.w.Recent(ctx, key.Time(), most, func(r calls.Record) error { got = append(got, r.Key); return nil }))
	require.Equal(m.t, recent, got)
	slices.Reverse(all)
	var exported []calls.Key
	require.NoError(m.t, m.w.Export(ctx, calls.Filter{Filter: segment.Filter{Since: key.Time()}}, func(r *calls.Record) error {
		exported = append(exported, r.Key)
		return nil
	}))
	require.Equal(m.t, all, exported)
	before, err := m.w.HeldBefore(ctx, key.Time(), "voice", "berths", "read_level", most)
	require.NoError(m.t, err)
	require.Equal(m.t, append([]calls.Key{}, held...), keys(before))
	counts, err := m.w.Counts(ctx, calls.Filter{Filter: segment.Filter{Since: key.Time()}}, step)
	require.NoError(m.t, err)
	require.Len(m.t, counts, len(buckets))
	for _, b := range counts {
		require.Equal(m.t, *buckets[b.At], b)
	}
	first, err := m.w.First(ctx)
	require.NoError(m.t, err)
	require.Equal(m.t, m.rows[0].Key.Time(), first)
}

// Whatever is written, in whatever order, put together and removed: every question is
// answered as a look at each call answers it, and the chain holds.
func TestTheLogAnswersAsItsCallsDo(t *testing.T) {
	t.Parallel()
	for seed := range uint64(4) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			begin := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
			m := &model{t: t, w: openLog(t), rand: rand.New(rand.NewPCG(seed, 1)), key: segment.KeyAt(begin), taken: map[calls.Key]bool{}}
			for round := range 75 {
				switch m.rand.IntN(9) {
				case 0:
					m.add(250 + m.rand.IntN(50)) // a closed block at once, or nearly
				case 1:
					_, err := m.w.Merge(t.Context(), m.key.Time().Add(time.Duration(m.rand.IntN(30))*time.Hour))
					require.NoError(t, err)
				case 2:
					if len(m.rows) > 300 {
						m.remove()
					}
				case 3:
					if len(m.rows) > 0 {
						m.repeat()
					}
				default:
					m.add(1 + m.rand.IntN(30))
				}
				if len(m.rows) > 0 && round%4 == 0 {
					m.check()
				}
			}
		})
	}
}

// Small blocks become whole ones, and nothing is left of how they were written.
func TestSmallBlocksArePutTogether(t *testing.T) {
	t.Parallel()
	w := openLog(t)
	begin := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	const together = 8
	var few []calls.Record
	for i := range 2*segment.MaxRecords + together {
		call := team.Call{Agent: "voice", Tool: "announce", Decision: team.DecisionAdmit, Outcome: team.OutcomeOK, Arguments: fmt.Sprint("berth ", i)}
		if few = append(few, calls.Record{Key: segment.KeyAt(begin) + calls.Key(i), Call: call}); len(few) == together {
			require.NoError(t, w.Append(t.Context(), few))
			few = nil
		}
	}
	made, err := w.Merge(t.Context(), begin.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, 2, made)
	made, err = w.Merge(t.Context(), begin.Add(time.Hour))
	require.NoError(t, err)
	assert.Zero(t, made, "the rest is not a day old")
	made, err = w.Merge(t.Context(), begin.Add(25*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, 1, made)
	state, err := w.Verify(t.Context(), nil)
	require.NoError(t, err)
	assert.True(t, state.Whole, "%+v", state.Problems)
	assert.EqualValues(t, 2*segment.MaxRecords/together+1, state.Seals, "seals stay as they were made")
	var all []calls.Key
	require.NoError(t, w.Export(t.Context(), calls.Filter{}, func(r *calls.Record) error {
		all = append(all, r.Key)
		return nil
	}))
	assert.Len(t, all, 2*segment.MaxRecords+together, "all of them, a part after the other")
	assert.True(t, slices.IsSorted(all))
	stop := errors.New("the reader has gone")
	assert.ErrorIs(t, w.Export(t.Context(), calls.Filter{}, func(*calls.Record) error { return stop }), stop)
	found := 0
	require.NoError(t, w.Export(t.Context(), calls.Filter{Filter: segment.Filter{Text: "berth 2000"}}, func(r *calls.Record) error {
		found++
		assert.Equal(t, "berth 2000", r.Arguments)
		return nil
	}))
	assert.Equal(t, 1, found)
}

// closed writes blocks of 300 calls each, which are closed at once.
func closed(t *testing.T, w *calls.Writer, blocks int, text func(block int) string) {
	for i := range blocks {
		var list []calls.Record
		for j := range 300 {
			list = append(list, calls.Record{Key: calls.Key((i*300 + j + 1) << 16), Call: team.Call{Agent: agents[j%2], Arguments: text(i)}})
		}
		require.NoError(t, w.Append(t.Context(), list))
	}
}

// What is old goes in whole blocks, about as many calls at once as are asked for.
func TestWholeBlocksAreRemoved(t *testing.T) {
	t.Parallel()
	w := openLog(t)
	_, err := w.First(t.Context())
	require.ErrorIs(t, err, store.ErrNotFound)
	closed(t, w, 7, func(int) string { return "x" })
	for _, step := range []struct{ before, most, want int }{
		{300, 1000, 0}, // the last call of the first block is not older
		{301, 1000, 300},
		{2100, 10, 300}, // one at least
		{2100, 599, 300},
		{2100, 600, 600},
		{1600, 600, 0}, // a block of which a part is old
		{2100, 600, 300},
		{2100, 600, 0},
		{2101, 600, 300},
		{9999, 600, 0},
	} {
		n, err := w.Remove(t.Context(), calls.Key(step.before<<16), step.most)
		require.NoError(t, err)
		require.Equal(t, step.want, n, "%+v", step)
		state, err := w.Verify(t.Context(), nil)
		require.NoError(t, err)
		require.True(t, state.Whole, "%+v", state.Problems)
	}
}

// A count tells how far it is, and ends when nobody wants to know.
func TestACountTellsHowFarItIs(t *testing.T) {
	t.Parallel()
	w := openLog(t)
	closed(t, w, 5, func(int) string { return "x" })
	var told [][2]int
	n, err := w.Count(t.Context(), calls.Filter{Filter: segment.Filter{Agent: agents[0]}}, func(found, seen int) bool {
		told = append(told, [2]int{found, seen})
		return true
	})
	require.NoError(t, err)
	assert.Equal(t, 750, n)
	require.Len(t, told, 5)
	assert.Equal(t, 1500, told[4][1])
	n, err = w.Count(t.Context(), calls.Filter{}, func(found, _ int) bool { return found < 600 })
	require.NoError(t, err)
	assert.Equal(t, 600, n, "of whole blocks only their number is read")
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = w.Count(ended, calls.Filter{}, nil)
	assert.ErrorIs(t, err, context.Canceled)
}

// However slowly calls are taken by those who export them, others read on.
func TestSlowReadersHoldNothing(t *testing.T) {
	t.Parallel()
	w := openLog(t)
	require.NoError(t, w.Append(t.Context(), []calls.Record{{Key: 1 << 16, Call: team.Call{Agent: "voice"}}}))
	var all sync.WaitGroup
	taken, goOn := make(chan struct{}, 30), make(chan struct{})
	for range 30 {
		all.Go(func() {
			assert.NoError(t, w.Export(t.Context(), calls.Filter{}, func(*calls.Record) error {
				taken <- struct{}{}
				<-goOn
				return nil
			}))
		})
	}
	for range 30 {
		<-taken
	}
	page, err := w.Page(t.Context(), calls.Filter{Limit: 1})
	require.NoError(t, err)
	assert.Len(t, page, 1)
	require.NoError(t, w.Append(t.Context(), []calls.Record{{Key: 2 << 16, Call: team.Call{Agent: "voice"}}}))
	close(goOn)
	all.Wait()
}

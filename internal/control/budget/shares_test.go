package budget

import (
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/budget"
	"bouncer/internal/core/rules"
	"bouncer/internal/store"
)

// What calls at one node use counts at the others: in the window that it was used in, and calls that
// are under way for as long as the node is heard of.
func TestWhatIsUsedElsewhereCounts(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "bouncer.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	at := time.Date(2026, 3, 1, 6, 0, 10, 0, time.UTC)
	meter := func() *Meter { return New(s, slog.New(slog.DiscardHandler), func() time.Time { return at }) }
	north, south := meter(), meter()
	who := rules.Subject{ID: "quay-voice"}
	calls := &budget.Budget{ID: "calls", Name: "calls", Allowance: budget.Allowance{Per: budget.PerAgent, Window: budget.Minute, Calls: 3}}
	bytes := &budget.Budget{ID: "bytes", Name: "bytes", Allowance: budget.Allowance{Per: budget.PerAgent, Window: budget.Minute, KiB: 1}}
	once := &budget.Budget{ID: "once", Name: "once", Allowance: budget.Allowance{Per: budget.PerAgent, AtOnce: 2}}
	take := func(m *Meter, b *budget.Budget) func(int) {
		t.Helper()
		done, err := m.Take(t.Context(), []*budget.Budget{b}, who)
		require.NoError(t, err)
		return done
	}

	take(north, calls)(10)
	take(north, calls)(10)
	take(north, bytes)(2000)
	take(north, once)
	assert.Nil(t, south.Spent([]*budget.Budget{calls, bytes, once}, who), "it has not been told yet")
	told := north.Shares(false)
	require.Len(t, told, 3)
	assert.Empty(t, north.Shares(false), "what was told is not told again")
	assert.Len(t, north.Shares(true), 3, "but when all is asked for")
	south.Elsewhere("north", told)
	south.Elsewhere("north", told) // which is the same, and not more
	assert.Equal(t, "bytes", south.Spent([]*budget.Budget{calls, bytes, once}, who).What)
	take(south, calls)(10)
	assert.Equal(t, "calls", south.Spent([]*budget.Budget{calls}, who).What)
	assert.Equal(t, []Use{{Whose: "quay-voice", Calls: 3, Bytes: 30}}, south.Uses(calls))
	take(south, once)
	assert.Equal(t, "calls at a time", south.Spent([]*budget.Budget{once}, who).What)

	at = at.Add(goneAfter + time.Second) // the node says nothing any more
	assert.Nil(t, south.Spent([]*budget.Budget{once}, who))
	assert.NotNil(t, south.Spent([]*budget.Budget{calls}, who), "what it used is used")
	at = at.Add(time.Minute)
	assert.Nil(t, south.Spent([]*budget.Budget{calls, bytes}, who), "in another window nothing is")

	south.Elsewhere("north", []Share{{Budget: "calls", Whose: "quay-voice", Began: at.Truncate(time.Minute), Calls: 9}})
	assert.NotNil(t, south.Spent([]*budget.Budget{calls}, who))
	south.Reset("calls")
	assert.Nil(t, south.Spent([]*budget.Budget{calls}, who))
	south.Elsewhere("north", make([]Share, 3*maxShares))
	assert.LessOrEqual(t, len(south.used), maxShares+8, "nobody can make it grow without a bound")
}

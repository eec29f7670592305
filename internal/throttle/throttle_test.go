package throttle

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func clock() (*time.Time, *Limiter) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	return &now, New(func() time.Time { return now })
}

func TestGuessingIsSlowedAndForgotten(t *testing.T) {
	t.Parallel()
	now, l := clock()
	marit := pair("marit", "192.0.2.7")
	for range marit.Free {
		require.Zero(t, l.Spend(marit), "a few slips are free")
	}
	last := time.Duration(0)
	for range 11 {
		wait := l.Spend(marit)
		require.Greater(t, wait, last, "waits grow")
		last = wait
		*now = now.Add(wait)
		require.Zero(t, l.Spend(marit))
	}
	assert.Equal(t, marit.Longest, last, "and are bounded")
	assert.Zero(t, l.Spend(pair("joss", "192.0.2.7")), "others are not concerned")
	assert.Zero(t, l.Spend(pair("marit", "192.0.2.8")), "nor is she from elsewhere")
	*now = now.Add(marit.Longest)
	end, wait := l.Begin(marit)
	require.Zero(t, wait)
	end(Passed)
	end(Failed) // only the first counts
	for range marit.Free {
		assert.Zero(t, l.Spend(marit), "a success forgets the failures")
	}
	assert.NotZero(t, l.Spend(marit))
	*now = now.Add(decay)
	for range marit.Free / 2 {
		assert.Zero(t, l.Spend(marit), "so does time, by half")
	}
	*now = now.Add(24 * time.Hour)
	for range marit.Free {
		assert.Zero(t, l.Spend(marit))
	}
}

func TestTriesAtOnceAreCountedBeforeTheyAreMade(t *testing.T) {
	t.Parallel()
	_, l := clock()
	key := pair("marit", "192.0.2.7")
	var ends []func(Outcome)
	for range 60 {
		if end, wait := l.Begin(key); wait == 0 {
			ends = append(ends, end)
		}
	}
	require.Len(t, ends, key.Free)
	for _, end := range ends[1:] {
		end(Abandoned)
	}
	ends[0](Passed)
	assert.Zero(t, l.Tracked(), "nothing is left of what was no failure")
	for range key.Free {
		l.Spend(key)
	}
	_, wait := l.Begin(key)
	assert.Equal(t, time.Second, wait)
}

func TestStrangersCannotLockSomebodyOut(t *testing.T) {
	t.Parallel()
	now, l := clock()
	for i := range 500 {
		for range 3 {
			if end, wait := l.Begin(SignIn("marit", fmt.Sprint("198.51.100.", i))...); wait == 0 {
				end(Failed)
			}
		}
		*now = now.Add(time.Second)
	}
	_, wait := l.Begin(SignIn("marit", "192.0.2.7")...)
	assert.LessOrEqual(t, wait, time.Minute, "she waits a minute at most")
	*now = now.Add(wait)
	end, wait := l.Begin(SignIn("marit", "192.0.2.7")...)
	require.Zero(t, wait)
	end(Passed)
	_, wait = l.Begin(SignIn("marit", "192.0.2.7")...)
	assert.Zero(t, wait)
}

func TestRecordsAreBoundedAndTheWorstAreKept(t *testing.T) {
	t.Parallel()
	_, l := clock()
	bad := Key{"bad", 1, time.Hour}
	for range 5 {
		if end, wait := l.Begin(bad); wait == 0 {
			end(Failed)
		}
	}
	under, _ := l.Begin(Key{"under way", 5, time.Hour})
	for i := range 3 * maxTracked {
		l.Spend(Key{fmt.Sprint(i), 5, time.Hour})
	}
	assert.LessOrEqual(t, l.Tracked(), maxTracked)
	l.mu.Lock()
	assert.NotNil(t, l.seen[hash("under way")])
	l.mu.Unlock()
	under(Passed)
}

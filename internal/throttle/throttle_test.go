package throttle

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBrakeSlowsGuessing(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	b := New(func() time.Time { return now })
	for range FreeByName - 1 {
		b.Fail("marit", FreeByName)
	}
	assert.Zero(t, b.Wait("marit"), "a few slips are free")
	last := time.Duration(0)
	for range 30 {
		b.Fail("marit", FreeByName)
		require.GreaterOrEqual(t, b.Wait("marit"), last, "waits only grow")
		last = b.Wait("marit")
	}
	assert.Equal(t, maxWait, last, "and are bounded")
	assert.Zero(t, b.Wait("joss"), "others are not concerned")
	now = now.Add(maxWait)
	assert.Zero(t, b.Wait("marit"))
	b.Reset("marit")
	b.Fail("marit", FreeByName)
	assert.Zero(t, b.Wait("marit"), "a success forgets the failures")
	for i := range maxTracked + 100 {
		b.Fail(time.Duration(i).String(), FreeByName)
	}
	assert.LessOrEqual(t, len(b.seen), maxTracked)
}

package heap_test

import (
	"context"
	"runtime/debug"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/heap"
)

// Little in use is collected seldom, much as usual, and what is between evenly.
func TestPercentFollowsWhatIsInUse(t *testing.T) {
	for inUse, want := range map[uint64]int{0: 400, 1 << 20: 400, 16 << 20: 400, 32 << 20: 200, 64 << 20: 100, 1 << 30: 100, 1 << 40: 100} {
		assert.Equal(t, want, heap.Percent(inUse), inUse)
	}
}

// What is in use is looked at while it runs.
func TestKeepSetsIt(t *testing.T) {
	before := debug.SetGCPercent(77)
	defer debug.SetGCPercent(before)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		heap.Keep(ctx)
	}()
	require.Eventually(t, func() bool {
		now := debug.SetGCPercent(77)
		debug.SetGCPercent(now)
		return now != 77
	}, 20*time.Second, time.Millisecond)
	stop()
	<-ended
}

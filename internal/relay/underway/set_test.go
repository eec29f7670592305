package underway_test

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/relay/underway"
)

// Many begin and end at a time, and what is left is what did not end.
func TestASetKnowsWhatHasNotEnded(t *testing.T) {
	t.Parallel()
	var set underway.Set[int]
	assert.Empty(t, set.Matching(func(int) bool { return true }))
	set.Remove(7)
	var all sync.WaitGroup
	for i := range 100 {
		all.Go(func() {
			set.Add(i)
			if i%4 != 0 {
				set.Remove(i)
			}
		})
	}
	all.Wait()
	assert.Len(t, set.Matching(func(int) bool { return true }), 25)
	assert.ElementsMatch(t, []int{0, 4, 8}, set.Matching(func(i int) bool { return i < 10 }))
}

package presence

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestSomebodyIsThereForAWhile(t *testing.T) {
	t.Parallel()
	now := time.Unix(1_800_000_000, 0)
	l := &Log{Now: func() time.Time { return now }}
	assert.False(t, l.Present("joss"))
	l.Seen("joss")
	now = now.Add(Lasts - time.Second)
	assert.True(t, l.Present("joss"))
	assert.False(t, l.Present("teo"))
	now = now.Add(time.Second)
	assert.False(t, l.Present("joss"), "a quarter of an hour is over")
	l.Seen("joss")
	assert.True(t, l.Present("joss"))
	// Whatever names come, the memory is bounded, and who came last is known.
	for n := range most + 5 {
		l.Seen(fmt.Sprint("somebody-", n))
	}
	assert.LessOrEqual(t, len(l.seen), most)
	assert.True(t, l.Present(fmt.Sprint("somebody-", most+4)))
	assert.False(t, (&Log{}).Present("joss"), "the zero value is ready")
}

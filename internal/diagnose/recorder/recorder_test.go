package recorder

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/link"
)

// The last of each server is kept, in order and within bounds, while many write.
func TestTheLastIsKeptWithinBounds(t *testing.T) {
	t.Parallel()
	var r Recorder
	ear := r.Of("sailings")
	var all sync.WaitGroup
	for line := range 8 {
		all.Go(func() {
			for i := range 200 {
				text := fmt.Appendf(nil, "%d %d", line, i)
				ear.Frame(uint64(line), link.Sent, text, len(text))
				_ = r.Since("sailings", 0)
			}
		})
	}
	all.Wait()
	list := r.Since("sailings", 0)
	require.Len(t, list, maxEntries)
	for i, e := range list[1:] {
		assert.Equal(t, list[i].N+1, e.N)
	}
	assert.EqualValues(t, 1599, list[maxEntries-1].N)
	assert.Len(t, r.Since("sailings", 1598), 2, "only what came after")
	assert.Empty(t, r.Since("tannoy", 0), "each server has its own")

	ear.Frame(1, link.Received, []byte(strings.Repeat("x", 2*maxText)), 3*maxText)
	ear.Answer(1, "POST", 401, http.Header{"Www-Authenticate": {"Bearer"}, "Set-Cookie": {"s=1"}}, time.Second)
	ear.Answer(1, "POST", 200, http.Header{"Date": {"now"}}, time.Second)
	last := r.Since("sailings", 1600)
	require.Len(t, last, 3)
	assert.Len(t, last[0].Text, maxText)
	assert.Equal(t, 3*maxText, last[0].Size)
	assert.Equal(t, http.Header{"Www-Authenticate": {"Bearer"}}, last[1].Header, "cookies are never kept")
	assert.Nil(t, last[2].Header)
	assert.LessOrEqual(t, r.bytes.Load(), int64(maxEntries*maxText*2))
	for i := range maxSubjects + 10 {
		r.Of(fmt.Sprint(i))
	}
	assert.Nil(t, r.Of("one too many"))
}

// A subject too many takes the place of the one that was silent longest, and of its bytes.
func TestTheOneThatWasSilentLongestIsForgotten(t *testing.T) {
	t.Parallel()
	r := Recorder{Forgets: true}
	for i := range maxSubjects {
		r.Of(fmt.Sprint(i)).Frame(1, link.Sent, []byte("hello"), 5)
	}
	r.Of("0").Frame(1, link.Sent, []byte("again"), 5)
	before := r.bytes.Load()
	r.Of("one more").Frame(1, link.Sent, []byte("hello"), 5)
	assert.Empty(t, r.Since("1", 0))
	assert.Len(t, r.Since("0", 0), 2)
	assert.Len(t, r.Since("one more", 0), 1)
	assert.Equal(t, before, r.bytes.Load())
}

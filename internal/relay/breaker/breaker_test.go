package breaker

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// After a few calls that were waited for in vain others are told at once, until a probe is
// answered; what fails at once, and what is answered with an error, breaks nothing.
func TestBreaker(t *testing.T) {
	t.Parallel()
	var b Set
	now := time.Now()
	let := func(server string) string { why, _ := b.Let(server, now); return why }
	fail := func() { b.Note("pumps", false, 2*time.Second, "no answer in 2s", now) }
	for range breakAfter - 1 {
		fail()
		assert.Empty(t, let("pumps"))
	}
	b.Note("pumps", false, time.Millisecond, "refused", now)
	assert.Empty(t, let("pumps"), "what fails at once does not count")
	fail()
	assert.Contains(t, let("pumps"), "the last 5 calls got no answer (no answer in 2s); calls are let through again in 15s")
	assert.Empty(t, let("tides"), "others are not concerned")

	now = now.Add(firstBreak)
	assert.Empty(t, let("pumps"), "one call is let through")
	assert.Contains(t, let("pumps"), "when the call that tries it now is answered")
	fail()
	assert.Contains(t, let("pumps"), "in 30s", "longer each time")
	now = now.Add(30 * time.Second)
	assert.Empty(t, let("pumps"))
	b.Note("pumps", false, time.Millisecond, "cancelled", now)
	assert.Empty(t, let("pumps"), "a probe that says nothing is followed by another")
	b.GiveBack("pumps")
	assert.Empty(t, let("pumps"), "as is one that never got there")
	b.Note("pumps", true, 0, "", now)
	for range 3 {
		assert.Empty(t, let("pumps"))
	}
	for range 20 {
		fail()
		now = now.Add(lastBreak)
		let("pumps")
	}
	assert.LessOrEqual(t, b.by["pumps"].until.Sub(now), lastBreak)
}

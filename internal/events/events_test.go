package events

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestListenersHearWhatComesAfterThem(t *testing.T) {
	t.Parallel()
	h := New()
	h.Publish("servers")
	topics, stop := h.Subscribe()
	other, stopOther := h.Subscribe()
	h.Publish("agents")
	assert.Equal(t, "agents", <-topics)
	stop()
	stop() // twice does no harm
	_, open := <-topics
	assert.False(t, open)
	h.Publish("rules")
	assert.Equal(t, "agents", <-other)
	assert.Equal(t, "rules", <-other)
	h.Close()
	_, open = <-other
	assert.False(t, open)
	stopOther() // after the end, too
	late, _ := h.Subscribe()
	_, open = <-late
	assert.False(t, open, "nobody listens to what has ended")
}

func TestAListenerThatSleepsHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	h := New()
	asleep, stop := h.Subscribe()
	defer stop()
	for range 10 * cap(asleep) {
		h.Publish("servers")
	}
	assert.Len(t, asleep, cap(asleep))
}

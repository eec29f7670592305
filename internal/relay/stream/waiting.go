package stream

import (
	"strconv"
	"sync"
	"time"

	"bouncer/internal/core/wire"
)

// waitingEvery is how often an agent is told that its call still waits.
const waitingEvery = 10 * time.Second

// Waiting tells the agent at once, and then again and again, what its call waits for, as far
// as it asked for progress (MCP, progress). token is its progress token, raw; nothing for
// none. The returned function ends that.
func (r *Reply) Waiting(token []byte, text func() string) (stop func()) {
	if len(token) == 0 {
		return func() {}
	}
	raw := append([]byte(nil), token...)
	// What the server tells later has to be more than this.
	tell := func(n int) {
		params := append([]byte(`{"progressToken":`), raw...)
		params = append(params, `,"progress":`+strconv.FormatFloat(float64(n)/1e6, 'f', -1, 64)+`,"message":`...)
		params = append(append(params, wire.Quote(text())...), '}')
		r.Before(wire.AppendNotification(nil, "notifications/progress", params))
	}
	tell(0)
	ended := make(chan struct{})
	var told sync.WaitGroup
	told.Go(func() {
		t := time.NewTicker(waitingEvery)
		defer t.Stop()
		for n := 1; ; n++ {
			select {
			case <-t.C:
				tell(n)
			case <-ended:
				return
			}
		}
	})
	return func() { close(ended); told.Wait() }
}

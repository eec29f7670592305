// Package heap sets how often the garbage of a service is collected, by how much of its memory
// is in use: while that is little, seldom, which saves a tenth of the CPU; when it is much,
// as often as usual, so that a large team does not take several times what it needs.
package heap

import (
	"context"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// The percentage of garbage to what is in use, at which it is collected, and the bytes of
// garbage that are let stand while little is in use.
const (
	usual   = 100
	seldom  = 400
	garbage = 64 << 20
)

const lookEvery = 2 * time.Second

// Percent is at how much garbage it is collected for so many bytes in use, in percent of them.
func Percent(inUse uint64) int {
	if inUse == 0 {
		return seldom
	}
	return int(min(seldom, max(usual, garbage*100/inUse)))
}

// Keep sets it until the context ends.
func Keep(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	set := 0
	for {
		metrics.Read(sample)
		// Small differences are not worth an interruption of everybody.
		if p := Percent(sample[0].Value.Uint64()); p-set > 20 || set-p > 20 {
			debug.SetGCPercent(p)
			set = p
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

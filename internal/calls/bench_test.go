package calls_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
)

// BenchmarkAppend is what a record costs, in batches of 256 as they are under load.
func BenchmarkAppend(b *testing.B) {
	for _, size := range []int{200, 2048} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			w := openLog(b)
			text := strings.Repeat("berth 7 is free until ", size/22+1)[:size]
			key := segment.KeyAt(time.Now())
			rows := make([]calls.Record, 256)
			b.ReportAllocs()
			for b.Loop() {
				for i := range rows {
					key++
					rows[i] = calls.Record{Key: key, Call: team.Call{
						Agent: "marit-quill", Person: "marit", Server: "berths", Tool: "list_berths", Decision: "admit", Rule: "01KAS3V4M0W5Z4T7Q2R8X9Y1AB",
						Outcome: "ok", Session: "s", Arguments: text, Result: fmt.Sprint(text, i),
					}}
				}
				if err := w.Append(b.Context(), rows); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/256, "ns/record")
		})
	}
}

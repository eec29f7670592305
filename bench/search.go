package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// fill writes so many calls of the last month, as they could have been.
func fill(ctx context.Context, w *calls.Writer, many int, end time.Time) error {
	r := rand.New(rand.NewPCG(1, 2)) //nolint:gosec // the same calls every time
	begin := end.Add(-30 * 24 * time.Hour)
	step := end.Sub(begin) / time.Duration(many)
	places := []string{"Skerrow", "Holm Voe", "Burra Ness", "Out Stack", "Muckle Sound"}
	outcomes := []string{
		team.OutcomeOK,
		team.OutcomeOK,
		team.OutcomeOK,
		team.OutcomeOK,
		team.OutcomeOK,
		team.OutcomeToolError,
		team.OutcomeRefused,
	}
	rows := make([]calls.Record, 0, segment.MaxRecords)
	for i := range many {
		agent := r.IntN(200)
		c := team.Call{
			Agent: fmt.Sprintf("agent-%d", agent), Person: fmt.Sprintf("person-%d", agent/3), Server: fmt.Sprintf("server-%d", r.IntN(20)),
			Decision: team.DecisionAdmit, Rule: fmt.Sprintf("01KAS3V4M0W5Z4T7Q2R8X9Y1%02d", r.IntN(30)), Outcome: outcomes[r.IntN(len(outcomes))],
			Micros: r.Int64N(1_000_000), BytesIn: 90, BytesOut: 300, Times: 1, Session: fmt.Sprintf("session-%d", agent),
			Arguments: fmt.Sprintf(
				`{"from":%q,"to":%q,"day":"2026-11-%02d","cars":%d}`,
				places[r.IntN(5)],
				places[r.IntN(5)],
				1+r.IntN(30),
				r.IntN(400),
			),
			Result: fmt.Sprintf(`{"content":[{"type":"text","text":"Sailing %d leaves at %02d:%02d with %d free spaces, vessel %s"}]}`,
				r.IntN(100_000), r.IntN(24), r.IntN(60), r.IntN(200), places[r.IntN(5)]),
		}
		c.Tool = fmt.Sprintf("tool-%d", r.IntN(15))
		if i == many/5 {
			c.Agent, c.Result = "rare-agent", "the lighthouse keeper answers"
		}
		at := begin.Add(time.Duration(i) * step)
		rows = append(rows, calls.Record{Key: segment.KeyAt(at) + calls.Key(i%1000), Call: c})
		if len(rows) == cap(rows) || i == many-1 {
			if err := w.Append(ctx, rows); err != nil {
				return err
			}
			rows = rows[:0]
		}
	}
	return nil
}

// search measures how long answers from many calls on record take.
func search(ctx context.Context, many int) error {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, err := store.Open(ctx, filepath.Join(dir, "b.db"), store.Options{})
	if err != nil {
		return err
	}
	defer s.Close()
	w, end := calls.NewWriter(s), time.Now()
	began := time.Now()
	if err := fill(ctx, w, many, end); err != nil {
		return err
	}
	took := time.Since(began)
	if _, err := w.Merge(ctx, end); err != nil {
		return err
	}
	size, err := w.Size(ctx)
	if err != nil {
		return err
	}
	fmt.Printf(
		"\n%d calls on record: %v each to make and write, %d bytes each on the disk\n",
		many,
		took/time.Duration(many),
		size/int64(many),
	)
	fmt.Printf("%-34s %12s %12s %10s\n", "searched for", "first page", "the count", "found")
	for _, row := range []struct {
		what string
		f    segment.Filter
	}{
		{"everything", segment.Filter{}},
		{"an agent", segment.Filter{Agent: "agent-7"}},
		{"an agent's failures of a tool", segment.Filter{Agent: "agent-7", Tool: "tool-3", Outcome: team.OutcomeToolError}},
		{"an agent that called once", segment.Filter{Agent: "rare-agent"}},
		{"an agent that never called", segment.Filter{Agent: "nobody"}},
		{"a text of many calls", segment.Filter{Text: "holm voe"}},
		{"a text of one call", segment.Filter{Text: "lighthouse keeper"}},
		{"a text that nowhere stands", segment.Filter{Text: "weathervane"}},
		{"a text in a day", segment.Filter{Text: "sailing 4711 ", Since: end.Add(-10 * 24 * time.Hour), Until: end.Add(-9 * 24 * time.Hour)}},
	} {
		began := time.Now()
		if _, err := w.Page(ctx, calls.Filter{Filter: row.f, Limit: 100}); err != nil {
			return err
		}
		first := time.Since(began)
		began = time.Now()
		found, err := w.Count(ctx, calls.Filter{Filter: row.f}, nil)
		if err != nil {
			return err
		}
		fmt.Printf("%-34s %12v %12v %10d\n", row.what, first.Round(100*time.Microsecond), time.Since(began).Round(time.Millisecond), found)
	}
	return nil
}

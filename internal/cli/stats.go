package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/span"
)

func statsCommands() []command {
	var by, server, tool, agent string
	var back time.Duration
	return []command{{
		noun: "stats", short: "Tell how calls went: how many, how they ended, how long they took",
		long: `Figures of single calls are there for as long as the journal keeps them, figures by
the hour for 400 days. Failures do not count what was refused.`,
		example: "bouncer stats\nbouncer stats --by tool --server sailings --since 14d\nbouncer stats --by agent --json",
		flags: func(f *flag.FlagSet) {
			by, server, tool, agent, back = "server", "", "", "", 24*time.Hour
			f.StringVar(&by, "by", "server", "`what` is told apart: server, tool, agent or person")
			f.StringVar(&server, "server", "", "only calls to this `server`")
			f.StringVar(&tool, "tool", "", "only tools that match this `glob`")
			f.StringVar(&agent, "agent", "", "only this `agent`'s calls")
			f.Var(span.Value{To: &back}, "since", "how `long` back; a day if left out")
		},
		run: func(ctx context.Context, t *task) error {
			since := time.Now().Add(-back).UTC().Format(time.RFC3339)
			q := url.Values{"by": {by}, "server": {server}, "tool": {tool}, "agent": {agent}, "since": {since}}
			return fetch(ctx, t, "/api/stats?"+q.Encode(), t.view().showStats)
		},
	}}
}

func (t view) showStats(s apitype.Stats) error {
	if len(s.Groups) == 0 {
		return t.done("no calls since %s", clock(s.Since))
	}
	var rows [][]string
	for _, g := range s.Groups {
		rows = append(rows, figuresRow(groupName(s.By, g.Name), g.Figures))
	}
	rows = append(rows, figuresRow("all", s.Total))
	head := map[string]string{"server": "SERVER", "tool": "TOOL", "agent": "AGENT", "person": "PERSON"}[s.By]
	return t.table([]string{head, "CALLS", "REFUSED", "FAILED", "P50", "P95", "P99", "SENT", "RECEIVED"}, rows)
}

func groupName(by, name string) string {
	if name == "" && by == "person" {
		return "(the team)"
	}
	if name == "" {
		return "(none)"
	}
	return name
}

func figuresRow(name string, f apitype.Figures) []string {
	failed := strconv.FormatInt(f.Failed, 10)
	if carried := f.OK + f.Failed; f.Failed > 0 && carried > 0 {
		failed += fmt.Sprintf(" (%.0f %%)", 100*float64(f.Failed)/float64(carried))
	}
	return []string{
		name, strconv.FormatInt(f.OK+f.Refused+f.Failed, 10), strconv.FormatInt(f.Refused, 10), failed,
		millis(f.P50), millis(f.P95), millis(f.P99), amount(f.BytesIn), amount(f.BytesOut),
	}
}

func millis(ms float64) string {
	switch {
	case ms == 0:
		return "-"
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 10_000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

func amount(bytes int64) string {
	switch {
	case bytes < 1<<10:
		return strconv.FormatInt(bytes, 10) + " B"
	case bytes < 10<<20:
		return strconv.FormatInt(bytes>>10, 10) + " KiB"
	}
	return strconv.FormatInt(bytes>>20, 10) + " MiB"
}

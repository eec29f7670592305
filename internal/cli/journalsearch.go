package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

// callFilter is which calls a command is about.
type callFilter struct {
	fields map[string]*string
	last   time.Duration
}

func (c *callFilter) define(f *flag.FlagSet) {
	c.fields = map[string]*string{}
	for _, d := range [][2]string{
		{"agent", "only this agent's `name`"}, {"person", "only calls of this person's agents (`name`)"},
		{"server", "only this server's `name`"}, {"tool", "only tools that match this `glob`"},
		{"decision", "admit, refuse or held (`word`)"},
		{"outcome", "`word`: " + strings.Join(team.Outcomes, ", ")},
		{"rule", "only calls decided by the rule with this `name` or id"},
		{"text", "only calls with this `text` in tool, error, arguments or result"},
		{"since", "only from this `time` on: 7d, 'mon 08:00', 2026-11-20"},
		{"until", "only before this `time`, written likewise"},
	} {
		c.fields[d[0]] = f.String(d[0], "", d[1])
	}
	f.Var(span.Value{To: &c.last}, "last", "only the last `time`, as in 15m or 2d")
}

// query is the filter as the service takes it.
func (c *callFilter) query() (url.Values, error) {
	v := url.Values{}
	for name, value := range c.fields {
		if *value == "" {
			continue
		}
		if name != "since" && name != "until" {
			v.Set(name, *value)
			continue
		}
		at, err := span.Past(*value, time.Now())
		if err != nil {
			return nil, &usageError{"--" + name + " " + err.Error(), "give how long ago, a clock time, or a date"}
		}
		v.Set(name, at.UTC().Format(time.RFC3339))
	}
	if c.last > 0 {
		v.Set("since", time.Now().Add(-c.last).UTC().Format(time.RFC3339))
	}
	return v, nil
}

func journalCountCommand() command {
	var filter callFilter
	return command{
		noun: "journal", verb: "count", short: "Count the calls that a filter selects",
		example: "bouncer journal count --agent marit-quill --outcome refused --last 7d\nbouncer journal count --text 'Holm Voe'",
		flags:   filter.define,
		run: func(ctx context.Context, t *task) error {
			query, err := filter.query()
			if err != nil {
				return err
			}
			return t.countCalls(ctx, query)
		},
	}
}

// countCalls counts, and shows on a terminal how far it is.
func (t *task) countCalls(ctx context.Context, query url.Values) error {
	body, err := t.client.Stream(ctx, "/api/call-total?"+query.Encode())
	if err != nil {
		return err
	}
	defer body.Close()
	var total apitype.CallTotal
	shown := false
	for lines := bufio.NewScanner(body); lines.Scan() && !total.Done; {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		if err := json.Unmarshal([]byte(data), &total); err != nil {
			return fmt.Errorf("read how many calls there are: %w", err)
		}
		if !total.Done && t.Width() > 0 {
			shown = true
			fmt.Fprintf(t.Err, "\r%d of %d so far", total.Found, total.Seen)
		}
	}
	if shown {
		fmt.Fprint(t.Err, "\r                                        \r")
	}
	switch {
	case ctx.Err() != nil:
		return &failure{exitFailure, "cancelled while calls were counted", "a narrower filter is counted sooner"}
	case !total.Done:
		return &failure{exitNoService, "the service ended the count before it was done", "run the command again"}
	case len(total.Silent) > 0:
		t.client.Silent(strings.Join(total.Silent, ", "))
	}
	if t.json {
		out := map[string]any{"found": total.Found}
		if len(total.Silent) > 0 {
			out["silent"] = total.Silent
		}
		return t.writeJSON(out)
	}
	fmt.Fprintln(t.Out, total.Found)
	return nil
}

func journalExportCommand() command {
	var filter callFilter
	var form, after string
	var limit int
	return command{
		noun: "journal", verb: "export", short: "Write calls in full, the oldest first, as JSON by lines or as CSV",
		long: `Arguments and results are written as they are kept: masked, and cut where they are long.
In CSV, what a spreadsheet would take for a formula begins with an apostrophe.`,
		example: "bouncer journal export --last 7d > calls.jsonl\nbouncer journal export --server sailings --form csv > calls.csv\n" +
			"bouncer journal export --after 01M8FZ7DQ2ETKS5R3GS60ZDYVX >> calls.jsonl",
		flags: func(f *flag.FlagSet) {
			filter.define(f)
			f.StringVar(&form, "form", "jsonl", "`form`: jsonl or csv")
			f.StringVar(&after, "after", "", "only calls newer than the one with this `id`, to go on where an export ended")
			f.IntVar(&limit, "limit", 0, "how `many`; 0 for all")
		},
		run: func(ctx context.Context, t *task) error {
			query, err := filter.query()
			if err != nil {
				return err
			}
			query.Set("form", form)
			if after != "" {
				query.Set("after", after)
			}
			if limit != 0 {
				query.Set("limit", strconv.Itoa(limit))
			}
			body, err := t.client.Stream(ctx, "/api/call-export?"+query.Encode())
			if err != nil {
				return err
			}
			defer body.Close()
			if _, err := io.Copy(t.Out, body); err != nil {
				return &failure{exitNoService, "the service ended the export before it was done", "what was written is not all; run the command again"}
			}
			return nil
		},
	}
}

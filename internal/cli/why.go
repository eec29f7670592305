package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"

	"bouncer/internal/apitype"
)

func whyCommands() []command {
	var other string
	return []command{{
		noun: "why", args: "AGENT [TOOL]", short: "Tell why an agent can or cannot use something, step by step, and whose move it is",
		long: `It answers from the agent's pass to the server: is the agent in, what does it see,
why is this tool not there or not working. A tool is named as SERVER/TOOL, or as the
agent sees it. With --not, two agents are compared: works for one, not for the other.
Exit codes: 0 nothing stands in the way, 1 something does, 2 it could not be told.`,
		example: "bouncer why marit-quill\nbouncer why joss-quill fuel/order_fuel\nbouncer why marit-quill sailings/cancel_sailing --not night-watch",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&other, "not", "", "compare with this `agent`, for which it does not work")
		},
		run: func(ctx context.Context, t *task) error {
			path := "/api/agents/" + seg(t.args[0]) + "/why"
			query := ""
			if len(t.args) > 1 {
				query = "?tool=" + url.QueryEscape(t.args[1])
			}
			if other != "" {
				return t.compare(ctx, path+"-not/"+seg(other)+query)
			}
			var w apitype.Why
			if err := t.client.Get(ctx, path+query, &w); err != nil {
				return couldNot(err)
			}
			if t.json {
				if err := t.writeJSON(w); err != nil {
					return err
				}
			} else {
				t.showWhy(w)
			}
			if !w.OK {
				return &failure{exitFindings, "", ""}
			}
			return nil
		},
	}}
}

func (t *task) showWhy(w apitype.Why) {
	marks := map[string]string{"ok": "ok", "failed": "FAILED", "unknown": "-"}
	for _, s := range w.Steps {
		fmt.Fprintf(t.Out, "  %-11s %-7s %s\n", s.Name, marks[s.Outcome], clip(s.Text, 120))
	}
	fmt.Fprintln(t.Out)
	about := w.Agent
	if w.Tool != "" {
		about += " and " + w.Server + "/" + w.Tool
	}
	if w.OK {
		fmt.Fprintf(t.Out, "nothing stands in the way of %s\n", about)
		return
	}
	for _, f := range w.Found {
		fmt.Fprintf(t.Out, "%s\n  %s\n", f.Cause, f.Title)
		for _, fact := range f.Evidence {
			fmt.Fprintf(t.Out, "  seen     %s\n", clip(fact, 160))
		}
		fmt.Fprintf(t.Out, "  who      %s\n  remedy   %s\n", f.Who, f.Remedy)
	}
}

func (t *task) compare(ctx context.Context, path string) error {
	var d apitype.WhyDiffers
	if err := t.client.Get(ctx, path, &d); err != nil {
		return couldNot(err)
	}
	if t.json {
		return t.writeJSON(d)
	}
	if d.First == "" {
		return t.done("nothing that matters differs between %s and %s", d.One.Agent, d.Other.Agent)
	}
	fmt.Fprintf(t.Out, "the first difference: %s\n", d.First)
	for _, more := range d.More {
		fmt.Fprintf(t.Out, "besides: %s\n", more)
	}
	return nil
}

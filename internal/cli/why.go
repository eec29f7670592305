package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"

	"bouncer/internal/apitype"
	"bouncer/internal/assistants/enrol"
	"bouncer/internal/core/report"
)

func whyCommands() []command {
	var other string
	var people bool
	return []command{{
		noun: "why", args: "AGENT [TOOL]", short: "Tell why an agent can or cannot use something, step by step, and whose move it is",
		long: `It answers from the agent's pass to the server: is the agent in, what does it see,
why is this tool not there or not working. A tool is named as SERVER/TOOL, or as the
agent sees it. Where the assistant was enrolled on this machine, its file is looked at
as well. With --not, two agents are compared: works for one, not for the other; with
--people, the two are people, of whom the agents that were seen last are compared.
Exit codes: 0 nothing stands in the way, 1 something does, 2 it could not be told.`,
		example: "bouncer why marit-quill\nbouncer why joss-quill fuel/order_fuel\nbouncer why marit-quill sailings/cancel_sailing --not night-watch" +
			"\nbouncer why marit fuel/order_fuel --not joss --people",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&other, "not", "", "compare with this `agent`, for which it does not work")
			f.BoolVar(&people, "people", false, "with --not: both are names of people")
		},
		run: func(ctx context.Context, t *task) error {
			path := "/api/agents/" + seg(t.args[0]) + "/why"
			query := ""
			if len(t.args) > 1 {
				query = "?tool=" + url.QueryEscape(t.args[1])
			}
			if people {
				if other == "" {
					return couldNot(&usageError{"--people compares two people, and one is named", "add the other one with --not PERSON"})
				}
				return t.compare(ctx, "/api/people/"+seg(t.args[0])+"/why-not/"+seg(other)+query)
			}
			if other != "" {
				return t.compare(ctx, path+"-not/"+seg(other)+query)
			}
			var w apitype.Why
			if err := t.client.Get(ctx, path+query, &w); err != nil {
				return couldNot(err)
			}
			if err := (atHome{t}).ownFiles(ctx, &w); err != nil {
				return couldNot(err)
			}
			if t.json {
				if err := t.writeJSON(w); err != nil {
					return err
				}
			} else {
				t.view().showWhy(w)
			}
			if !w.OK {
				return &failure{exitFindings, "", ""}
			}
			return nil
		},
	}}
}

// ownFiles looks at the files of the agent's assistant on this machine, and puts what stands
// in the way there before the rest: what is in them comes first on the way.
func (t atHome) ownFiles(ctx context.Context, w *apitype.Why) error {
	list, err := t.book().List()
	if err != nil {
		return err
	}
	var facts enrol.Facts
	var found []report.Found
	var steps []apitype.WhyStep
	for _, e := range list {
		if e.Agent != w.Agent {
			continue
		}
		if facts.Address == "" {
			if facts, err = t.facts(ctx); err != nil {
				return err
			}
		}
		step := apitype.WhyStep{Name: "file", Outcome: "ok", Text: e.Path + " is in order"}
		for _, p := range t.machine().Check(e, facts) {
			cause, inTheWay := p.Stands()
			if !inTheWay {
				continue
			}
			step.Outcome, step.Text = "failed", e.Path+": "+p.What
			found = append(found, report.Found{
				Cause: cause, Title: p.What, Who: cause.WhoActs(), Remedy: p.Fix, Evidence: []string{"looked at " + p.Path}, Follows: []string{},
			})
		}
		steps = append(steps, step)
	}
	w.Steps = append(steps, w.Steps...)
	w.Found = append(found, w.Found...)
	w.OK = w.OK && len(found) == 0
	return nil
}

func (t view) showWhy(w apitype.Why) {
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
	if d.People {
		fmt.Fprintf(t.Out, "compared by %s and %s\n", d.One.Agent, d.Other.Agent)
	}
	if d.First == "" {
		return t.done("nothing that matters differs between %s and %s", d.One.Agent, d.Other.Agent)
	}
	fmt.Fprintf(t.Out, "the first difference: %s\n", clip(d.First, 400))
	for _, more := range d.More {
		fmt.Fprintf(t.Out, "besides: %s\n", clip(more, 200))
	}
	return nil
}

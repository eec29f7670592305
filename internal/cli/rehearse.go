package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"

	"bouncer/internal/apitype"
)

// rehearseFlag has a command tell what an alteration would come to instead of making it.
func rehearseFlag(f *flag.FlagSet, on *bool) {
	f.BoolVar(on, "rehearse", false,
		"only tell what would be another decision: of the calls of the last days, and of what agents can use now")
}

func (t *task) rehearse(ctx context.Context, in apitype.Rehearsal) error {
	return submit(ctx, t, http.MethodPost, "/api/rehearsals", in, t.view().showRehearsed)
}

func (t view) showRehearsed(r apitype.Rehearsed) error {
	fmt.Fprintf(t.Out, "%s\n", r.Text)
	if len(r.Groups) > 0 {
		fmt.Fprintln(t.Out, "\nCalls:")
		var rows [][]string
		for _, g := range r.Groups {
			sample := ""
			if len(g.Samples) > 0 {
				sample = clip(g.Samples[0].Arguments, 60)
			}
			rows = append(rows, []string{g.Agent, g.Server + "/" + g.Tool, g.Before, g.After, fmt.Sprint(g.Calls), sample})
		}
		if err := t.table([]string{"AGENT", "TOOL", "NOW", "THEN", "CALLS", "LIKE"}, rows); err != nil {
			return err
		}
	}
	if len(r.Reach) == 0 {
		return nil
	}
	fmt.Fprintln(t.Out, "\nReach:")
	var rows [][]string
	for _, c := range r.Reach[:min(len(r.Reach), 100)] {
		then := c.After
		if c.Narrowed {
			then += ", within other limits"
		}
		rows = append(rows, []string{c.Agent, c.Server + "/" + c.Tool, c.Before, then})
	}
	if err := t.table([]string{"AGENT", "TOOL", "NOW", "THEN"}, rows); err != nil {
		return err
	}
	if more := r.ReachChanged - min(len(r.Reach), 100); more > 0 {
		fmt.Fprintf(t.Out, "and %d more\n", more)
	}
	return nil
}

func ruleRehearseCommand() command {
	var in apitype.Rehearsal
	refused, held, admitted, reach := -1, -1, -1, -1
	return command{
		noun: "rule", verb: "rehearse", args: "ROSTER", short: "Tell what the rules of a roster would make another decision, without applying it",
		long: `ROSTER is a file as bouncer roster export writes it, or - for standard input; its rules are
held against the agents, servers and calls of now. In a pipeline the thresholds make it
fail: exit code 1 when more is another decision than may be. Single alterations are
rehearsed with --rehearse on bouncer rule add, update and remove.`,
		example: "bouncer rule rehearse roster.yaml --days 14 --most-refused 0 --most-admitted 0",
		flags: func(f *flag.FlagSet) {
			f.IntVar(&in.Days, "days", 7, "over the calls of so many `days`")
			f.BoolVar(&in.Prune, "prune", false, "as if rules that the roster does not name were removed")
			f.IntVar(&refused, "most-refused", -1, "fail when more than so many `calls` would be refused")
			f.IntVar(&held, "most-held", -1, "fail when more than so many `calls` would be held")
			f.IntVar(&admitted, "most-admitted", -1, "fail when more than so many `calls` would be newly admitted")
			f.IntVar(&reach, "most-reach", -1, "fail when more than so many `tools` of agents would be another decision")
		},
		run: func(ctx context.Context, t *task) error {
			var err error
			if in.Roster, err = t.file(t.args[0]); err != nil {
				return err
			}
			var out apitype.Rehearsed
			if err := t.client.Do(ctx, http.MethodPost, "/api/rehearsals", in, &out); err != nil {
				return err
			}
			show := t.view().showRehearsed
			if t.json {
				show = func(r apitype.Rehearsed) error { return t.writeJSON(r) }
			}
			if err := show(out); err != nil {
				return err
			}
			for _, threshold := range []struct {
				most, is int
				what     string
			}{
				{refused, out.Refused, "calls would be refused"}, {held, out.Held, "calls would be held"},
				{admitted, out.Admitted, "calls would be newly admitted"}, {reach, out.ReachChanged, "tools of agents would be another decision"},
			} {
				if threshold.most >= 0 && threshold.is > threshold.most {
					return &failure{
						exitFailure, fmt.Sprintf("%d %s, and %d may be", threshold.is, threshold.what, threshold.most),
						"look at what is listed, or raise the threshold",
					}
				}
			}
			return nil
		},
	}
}

package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"bouncer/internal/apitype"
)

func reviewCommands() []command {
	return []command{reviewListCommand(), reviewShowCommand(), reviewAcceptCommand(), reviewModeCommand()}
}

func reviewListCommand() command {
	return command{
		noun: "review", verb: "list", short: "List the tools that wait for a review, the most suspicious first", example: "bouncer review list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/reviews", func(list []apitype.ServerReview) error {
				var rows [][]string
				reviewed := 0
				for _, r := range list {
					if r.Mode != "trust" {
						reviewed++
					}
					for _, o := range r.Open {
						shown := map[string]string{"old": "the old tool", "nothing": "nothing"}[o.Meanwhile]
						words := []string{}
						for _, s := range o.Suspicions {
							words = append(words, s.Code)
						}
						rows = append(rows, []string{r.Server, o.Tool, o.State, shown, strings.Join(words, ", ")})
					}
				}
				switch {
				case len(rows) > 0:
					return t.table([]string{"SERVER", "TOOL", "IS", "AGENTS SEE", "SUSPICIONS"}, rows)
				case reviewed == 0:
					return t.done("no server is reviewed; have changes of one kept back with: bouncer review mode SERVER changes")
				}
				return t.done("nothing waits for a review; %d of %d servers are reviewed", reviewed, len(list))
			})
		},
	}
}

// openReview finds a tool that waits.
func (t *task) openReview(ctx context.Context, server, tool string) (apitype.OpenReview, error) {
	var list []apitype.ServerReview
	if err := t.client.Get(ctx, "/api/reviews", &list); err != nil {
		return apitype.OpenReview{}, err
	}
	for _, r := range list {
		if r.Server != server {
			continue
		}
		at := slices.IndexFunc(r.Open, func(o apitype.OpenReview) bool { return o.Tool == tool })
		if at >= 0 {
			return r.Open[at], nil
		}
	}
	return apitype.OpenReview{}, &failure{
		exitNotFound, fmt.Sprintf("%s/%s does not wait for a review", server, tool), "bouncer review list shows what does",
	}
}

func reviewShowCommand() command {
	return command{
		noun: "review", verb: "show", args: "SERVER TOOL", short: "Show what is new or changed about a tool, and what is suspicious about it",
		example: "bouncer review show pilotage assign_pilot",
		run: func(ctx context.Context, t *task) error {
			o, err := t.openReview(ctx, t.args[0], t.args[1])
			if err != nil {
				return err
			}
			if t.json {
				return t.writeJSON(o)
			}
			for _, s := range o.Suspicions {
				fmt.Fprintf(t.Out, "! %s\n", s.Text)
				if s.Excerpt != "" {
					fmt.Fprintf(t.Out, "    %s\n", s.Excerpt)
				}
			}
			before, after := prettyLines(o.Before), prettyLines(o.After)
			for _, line := range before {
				if !slices.Contains(after, line) {
					fmt.Fprintf(t.Out, "- %s\n", line)
				}
			}
			for _, line := range after {
				mark := "+"
				if slices.Contains(before, line) {
					mark = " "
				}
				fmt.Fprintf(t.Out, "%s %s\n", mark, line)
			}
			shown := map[string]string{"old": "the tool as it was accepted", "nothing": "nothing of it"}[o.Meanwhile]
			fmt.Fprintf(
				t.Out,
				"\nUntil it is accepted agents see %s. Accept it with: bouncer review accept %s %s\n",
				shown,
				t.args[0],
				t.args[1],
			)
			return nil
		},
	}
}

func prettyLines(raw json.RawMessage) []string {
	var v any
	if len(raw) == 0 || json.Unmarshal(raw, &v) != nil {
		return nil
	}
	var text strings.Builder
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	// What was read can be written; names come in order, so that two can be compared.
	_ = enc.Encode(v)
	return strings.Split(strings.TrimSpace(text.String()), "\n")
}

func reviewAcceptCommand() command {
	var in apitype.ReviewAccept
	return command{
		noun: "review", verb: "accept", args: "SERVER [TOOL...]", short: "Accept tools as the server lists them now; agents have them at once",
		example: "bouncer review accept pilotage assign_pilot\nbouncer review accept pilotage --all",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&in.All, "all", false, "everything of the server that waits")
		},
		run: func(ctx context.Context, t *task) error {
			for _, tool := range t.args[1:] {
				o, err := t.openReview(ctx, t.args[0], tool)
				if err != nil {
					return err
				}
				in.Tools = append(in.Tools, apitype.AcceptedTool{Tool: tool, After: o.After})
			}
			if len(in.Tools) == 0 && !in.All {
				return &usageError{"review accept needs the names of tools, or --all", "bouncer review list shows what waits"}
			}
			return submit(ctx, t, http.MethodPost, "/api/servers/"+seg(t.args[0])+"/review", in, func(r apitype.ServerReview) error {
				return t.done("accepted; of %s %d tools still wait", r.Server, len(r.Open))
			})
		},
	}
}

func reviewModeCommand() command {
	return command{
		noun: "review", verb: "mode", args: "SERVER MODE", short: "Set how a server's tool list is reviewed",
		long: `MODE is trust (whatever it lists is shown), changes (what it lists now is accepted; what is
new or changed later is kept back until somebody accepts it) or all (everything is kept
back until it is accepted). Agents keep the old tool where it takes the same arguments,
and what a reviewed server says of itself is not shown to them.`,
		example: "bouncer review mode pilotage changes",
		run: func(ctx context.Context, t *task) error {
			path := "/api/servers/" + seg(t.args[0]) + "/review"
			return submit(ctx, t, http.MethodPut, path, apitype.ReviewMode{Mode: t.args[1]}, func(r apitype.ServerReview) error {
				return t.done("%s: %s; %d of its %d tools wait for a review", r.Server, r.Mode, len(r.Open), r.Tools)
			})
		},
	}
}

package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

func incidentCommands() []command {
	return []command{incidentListCommand(), incidentShowCommand(), incidentNoteCommand(), healthCommand()}
}

func incidentListCommand() command {
	var all bool
	return command{
		noun: "incident", verb: "list", short: "List what goes wrong, one line for each cause at each server",
		example: "bouncer incident list\nbouncer incident list --all",
		flags:   func(f *flag.FlagSet) { f.BoolVar(&all, "all", false, "also those that are over") },
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/incidents", func(list []team.Incident) error {
				var rows [][]string
				for _, i := range list {
					if i.Until != nil && !all {
						continue
					}
					rows = append(rows, []string{i.ID, i.Server, i.Cause, lasting(i), i.Who, clip(i.Title, 80)})
				}
				if len(rows) == 0 && !all {
					return t.done("nothing goes wrong now; bouncer incident list --all shows what did")
				}
				if len(rows) == 0 {
					return t.done("nothing went wrong yet")
				}
				return t.table([]string{"ID", "SERVER", "CAUSE", "SINCE", "WHO", "WHAT"}, rows)
			})
		},
	}
}

// lasting says since when an incident lasts, or from when to when it did.
func lasting(i team.Incident) string {
	text := clock(i.Since)
	if i.Until != nil {
		text += " for " + span.Text(i.Until.Sub(i.Since).Round(time.Second))
	}
	if i.Reopened > 0 {
		text += ", again"
	}
	return text
}

func incidentShowCommand() command {
	return command{
		noun: "incident", verb: "show", args: "ID", short: "Show one incident, whom it affects, and what changed before it",
		long:    "The id may be left out but for its beginning; the name of a server means its newest incident.",
		example: "bouncer incident show customs",
		run: func(ctx context.Context, t *task) error {
			id, err := t.incidentID(ctx, t.args[0])
			if err != nil {
				return err
			}
			return fetch(ctx, t, "/api/incidents/"+seg(id), t.view().showIncident)
		},
	}
}

// incidentID is the id of the incident that a word means: an id, its beginning, or a
// server.
func (t *task) incidentID(ctx context.Context, word string) (string, error) {
	var list []team.Incident
	if err := t.client.Get(ctx, "/api/incidents", &list); err != nil {
		return "", err
	}
	for _, i := range list {
		if i.Server == word || strings.HasPrefix(i.ID, word) {
			return i.ID, nil
		}
	}
	return word, nil
}

func (t view) showIncident(d apitype.IncidentDetail) error {
	state := "lasts since " + clock(d.Since)
	if d.Until != nil {
		state = "was from " + clock(d.Since) + " to " + clock(*d.Until)
	}
	if d.Reopened > 0 {
		state += fmt.Sprintf(", came back %d times since %s", d.Reopened, clock(d.First))
	}
	fmt.Fprintf(t.Out, "%s at %s %s\n  %s\n", d.Cause, d.Server, state, d.Title)
	for _, fact := range d.Evidence {
		fmt.Fprintf(t.Out, "  seen     %s\n", fact)
	}
	fmt.Fprintf(t.Out, "  who      %s\n  remedy   %s\n", d.Who, d.Remedy)
	if d.LastGood != nil {
		fmt.Fprintf(t.Out, "  well     until %s\n", clock(*d.LastGood))
	} else {
		fmt.Fprintln(t.Out, "  well     never seen")
	}
	calls := strconv.Itoa(d.Calls) + " calls failed"
	if len(d.Agents) > 0 {
		calls += " of " + strings.Join(d.Agents, ", ")
	}
	if len(d.People) > 0 {
		calls += " (" + strings.Join(d.People, ", ") + ")"
	}
	fmt.Fprintf(t.Out, "  affects  %s\n", calls)
	for _, n := range d.Notes {
		fmt.Fprintf(t.Out, "  note     %s, %s: %s\n", clock(n.At), n.Person, n.Text)
	}
	if len(d.Changed) == 0 {
		return t.done("  nothing is known to have changed before it")
	}
	fmt.Fprintln(t.Out, "\nwhat changed before it, the most suspicious first:")
	var rows [][]string
	for _, c := range d.Changed {
		rows = append(rows, []string{clock(c.At), c.What, c.Who, c.Why})
	}
	return t.table([]string{"WHEN", "WHAT", "WHO", "WHY"}, rows)
}

func incidentNoteCommand() command {
	return command{
		noun: "incident", verb: "note", args: "ID TEXT", short: "Note something about an incident",
		example: "bouncer incident note customs 'asked the customs desk for a new token'",
		run: func(ctx context.Context, t *task) error {
			id, err := t.incidentID(ctx, t.args[0])
			if err != nil {
				return err
			}
			return submit(ctx, t, http.MethodPost, "/api/incidents/"+seg(id)+"/notes", apitype.NewNote{Text: t.args[1]},
				func(i team.Incident) error { return t.done("noted about %s at %s", i.Cause, i.Server) })
		},
	}
}

func healthCommand() command {
	var since string
	return command{
		noun: "health", short: "Show how every server does, and did", long: "One column of marks for each part of the time: . ready, # failing, and a blank where nothing is known.",
		example: "bouncer health\nbouncer health --since 3h",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&since, "since", "", "how far back, as a `time` or a length of time; 24h if left out")
		},
		run: func(ctx context.Context, t *task) error {
			path := "/api/health"
			if since != "" {
				path += "?since=" + url.QueryEscape(since)
			}
			from := time.Now().Add(-24 * time.Hour)
			if at, err := span.Past(since, time.Now()); since != "" && err == nil {
				from = at
			}
			return fetch(ctx, t, path, func(list []apitype.ServerHistory) error {
				if len(list) == 0 {
					return t.done("no servers yet; register one with: bouncer server register NAME --url URL")
				}
				var rows [][]string
				for _, h := range list {
					rows = append(rows, []string{h.Server, h.State, timeline(h.States, from, time.Now()), h.Cause, clip(h.Title, 60)})
				}
				return t.table([]string{"SERVER", "STATE", "SINCE " + clock(from), "CAUSE", "WHAT"}, rows)
			})
		},
	}
}

// timelineWidth is how many marks a timeline has.
const timelineWidth = 32

// timeline marks how a server did in each part of a time: the worst counts.
func timeline(states []team.ServerState, from, to time.Time) string {
	marks := []byte(strings.Repeat(" ", timelineWidth))
	part := to.Sub(from) / timelineWidth
	for i, s := range states {
		end := to
		if i+1 < len(states) {
			end = states[i+1].At
		}
		if end.Before(from) || part <= 0 {
			continue
		}
		first := max(0, int(s.At.Sub(from)/part))
		last := min(timelineWidth-1, int(end.Sub(from)/part))
		for n := first; n <= last; n++ {
			switch {
			case s.State == team.StateFailing:
				marks[n] = '#'
			case s.State == team.StateReady && marks[n] == ' ':
				marks[n] = '.'
			}
		}
	}
	return string(marks)
}

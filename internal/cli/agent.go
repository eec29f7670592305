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
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

func agentCommands() []command {
	return []command{
		agentListCommand(),
		agentAddCommand(),
		agentReachCommand(),
		agentCostCommand(),
		agentPassCommand(),
		agentShowCommand(),
		agentInviteCommand(),
		agentInvitationsCommand(),
		agentPassesCommand(),
		agentRevokeCommand(),
		agentPatch("pause", "Refuse everything an agent does, for now", true),
		agentPatch("resume", "Let a paused agent in again", false),
		agentConfirmCommand(),
		agentUpdateCommand(),
		agentRemoveCommand(),
	}
}

func agentPatch(verb, short string, paused bool) command {
	return command{
		noun:    "agent",
		verb:    verb,
		args:    "NAME",
		short:   short,
		example: "bouncer agent " + verb + " night-watch",
		run: func(ctx context.Context, t *task) error {
			return submit(
				ctx,
				t,
				http.MethodPatch,
				"/api/agents/"+seg(t.args[0]),
				apitype.AgentPatch{Paused: &paused},
				func(a team.Agent) error {
					return t.done("agent %s is %sd", a.Name, verb)
				},
			)
		},
	}
}

func agentConfirmCommand() command {
	confirmed := true
	return command{
		noun: "agent", verb: "confirm", args: "NAME", short: "Stand for an agent's name, so that rules bind it that name agents by a pattern",
		long: `Members choose the names of their agents, and can read the rules. So a rule for a
pattern of names, like ops-*, admits nothing for an agent that a member named
until an admin or a maintainer has confirmed that it is meant.`,
		example: "bouncer agent confirm ottilie-parlour",
		run: func(ctx context.Context, t *task) error {
			in := apitype.AgentPatch{Confirmed: &confirmed}
			return submit(ctx, t, http.MethodPatch, "/api/agents/"+seg(t.args[0]), in, func(a team.Agent) error {
				return t.done("the name of agent %s is confirmed; bouncer agent reach %s shows what that admits", a.Name, a.Name)
			})
		},
	}
}

func agentListCommand() command {
	return command{
		noun: "agent", verb: "list", short: "List the agents", example: "bouncer agent list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/agents", func(list []team.Agent) error {
				if len(list) == 0 {
					return t.done("no agents yet; add one with: bouncer agent add NAME")
				}
				var rows [][]string
				for _, a := range list {
					state := "active"
					if !a.Confirmed {
						state = "active, name not confirmed"
					}
					if a.Paused {
						state = "paused"
					}
					who := a.Owner
					if who == "" {
						who = "the team"
					}
					rows = append(rows, []string{a.Name, a.Kind, who, state, strconv.Itoa(a.Passes), when(a.Seen)})
				}
				return t.table([]string{"NAME", "KIND", "OWNER", "STATE", "VALID PASSES", "LAST SEEN"}, rows)
			})
		},
	}
}

func agentAddCommand() command {
	var kind, owner string
	var teamOwned bool
	return command{
		noun: "agent", verb: "add", args: "NAME", short: "Add an agent",
		example: "bouncer agent add marit-quill --kind quill --owner marit",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&kind, "kind", "", "which assistant it is, in a `word`")
			f.StringVar(&owner, "owner", "", "`name` of its owner; you, if left out")
			f.BoolVar(&teamOwned, "team", false, "the team owns it, nobody in particular")
		},
		run: func(ctx context.Context, t *task) error {
			if owner == "" && !teamOwned {
				var me team.Person
				if err := t.client.Get(ctx, "/api/session", &me); err != nil {
					return err
				}
				owner = me.Name
			}
			in := apitype.NewAgent{Name: t.args[0], Kind: kind, Owner: owner}
			return submit(ctx, t, http.MethodPost, "/api/agents", in, func(a team.Agent) error {
				err := t.done(
					"agent %s is added; it reaches nothing yet. Next: bouncer enrol %s --config FILE, and bouncer rule add admit",
					a.Name,
					a.Name,
				)
				if err == nil && !a.Confirmed {
					err = t.done(
						"rules for a pattern of names admit nothing for it until an admin or a maintainer runs: bouncer agent confirm %s",
						a.Name,
					)
				}
				return err
			})
		},
	}
}

func agentReachCommand() command {
	var admitted bool
	var since, until string
	return command{
		noun: "agent", verb: "reach", args: "[NAME]", short: "List every tool, with whether an agent can use it and why; without a name, of all agents at a glance",
		long: `Without a name it is one line for each tool and one column for each agent: yes; lim for
within limits; held; spent for a budget that is spent; cred for a missing credential; down
for a server that does not answer; nothing for what is refused. With --since it is what
an agent can use now, or could at --until, and could not then, and the other way round.`,
		example: "bouncer agent reach marit-quill\nbouncer agent reach --admitted\nbouncer agent reach marit-quill --since 'mon 09:00'",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&admitted, "admitted", false, "only what can be used")
			f.StringVar(&since, "since", "", "`when` to compare with: 3d ago, mon 09:00, 2026-12-04 18:00")
			f.StringVar(&until, "until", "", "`when` to compare until; now if left out")
		},
		run: func(ctx context.Context, t *task) error {
			if since != "" {
				return t.reachSince(ctx, since, until)
			}
			if len(t.args) == 0 {
				return fetch(ctx, t, "/api/reach", func(m apitype.ReachMatrix) error { return t.view().showMatrix(m, admitted) })
			}
			var list []apitype.ReachedTool
			if err := t.client.Get(ctx, "/api/agents/"+seg(t.args[0])+"/reach", &list); err != nil {
				return err
			}
			if admitted {
				kept := list[:0]
				for _, r := range list {
					if r.Admitted && r.Lacks == "" {
						kept = append(kept, r)
					}
				}
				list = kept
			}
			if t.json {
				return t.writeJSON(list)
			}
			if len(list) == 0 {
				return t.done("nothing; admit tools with: bouncer rule add admit --agent %s --server SERVER --tool '*'", t.args[0])
			}
			var rows [][]string
			for _, r := range list {
				can := map[string]string{
					"answer": "yes", "held": "held", "spent": "spent", "no-credential": "not yet", "unreachable": "not now",
				}[r.Next]
				if can == "" {
					can = "no"
				}
				if r.Lacks != "" {
					r.Why = r.Lacks
				}
				rows = append(rows, []string{r.Server, r.Tool, r.Exposed, can, hints(r.ReadOnly, r.Destructive), r.Why})
			}
			return t.table([]string{"SERVER", "TOOL", "AGENT SEES", "CAN USE", "SAYS", "WHY"}, rows)
		},
	}
}

// reachSince shows what an agent can use and could not at a time, and the other way round.
func (t *task) reachSince(ctx context.Context, since, until string) error {
	if len(t.args) == 0 {
		return &usageError{"--since needs the name of an agent", "as in: bouncer agent reach marit-quill --since 3d"}
	}
	q := url.Values{}
	for name, text := range map[string]string{"since": since, "until": until} {
		if text == "" {
			continue
		}
		at, err := span.Past(strings.TrimSuffix(text, " ago"), time.Now())
		if err != nil {
			return &usageError{"--" + name + ": " + err.Error(), "as in: --" + name + " 'mon 09:00'"}
		}
		q.Set(name, at.UTC().Format(time.RFC3339))
	}
	return fetch(ctx, t, "/api/agents/"+seg(t.args[0])+"/reach-changes?"+q.Encode(), func(d apitype.ReachDifference) error {
		fmt.Fprintf(t.Out, "%s could use %d tools at %s, and %d at %s\n", d.Agent, d.Before, clock(d.Since), d.After, clock(d.Until))
		if len(d.Tools) == 0 {
			return t.done("they are the same")
		}
		var rows [][]string
		for _, c := range d.Tools {
			rows = append(rows, []string{c.Server + "/" + c.Tool, c.Before, c.After})
		}
		return t.table([]string{"TOOL", "THEN", "LATER"}, rows)
	})
}

// cellWords are the letters of the matrix in words.
var cellWords = map[byte]string{'a': "yes", 'n': "lim", 'h': "held", 's': "spent", 'p': "paused", 'c': "cred", 'u': "down"}

// showMatrix shows the reach of all agents at a glance.
func (t view) showMatrix(m apitype.ReachMatrix, admitted bool) error {
	if len(m.Agents) == 0 || len(m.Servers) == 0 {
		return t.done("there is nothing to show yet; add an agent with bouncer agent add, and a server with bouncer server register")
	}
	head := []string{"TOOL"}
	for _, a := range m.Agents {
		head = append(head, a.Name)
	}
	var rows [][]string
	for s, server := range m.Servers {
		for i, tool := range server.Tools {
			row, some := []string{server.Server + "/" + tool.Name}, false
			for _, a := range m.Agents {
				word := cellWords[a.Cells[s][i]]
				some = some || word != ""
				row = append(row, word)
			}
			if some || !admitted {
				rows = append(rows, row)
			}
		}
	}
	return t.table(head, rows)
}

func agentPassCommand() command {
	var label string
	var inAddress bool
	var snippet bool
	life := 90 * day
	return command{
		noun: "agent", verb: "pass", args: "NAME", short: "Make a pass for an agent; its token is shown this once",
		long:    "Several passes can be valid at a time, so that one can be exchanged without a gap.",
		example: "bouncer agent pass marit-quill --life 12h --label laptop",
		flags: func(f *flag.FlagSet) {
			f.Var(span.Value{To: &life}, "life", "for how `long` it is valid, like 12h, 90d or 2w")
			f.BoolVar(&snippet, "snippet", false, "print the entry for an assistant's configuration as well")
			f.StringVar(&label, "label", "", "where it is used, in a few `words`")
			f.BoolVar(
				&inAddress,
				"in-address",
				false,
				"a pass that is part of an address, for an agent that can set no header (setting address-passes)",
			)
		},
		run: func(ctx context.Context, t *task) error {
			in := apitype.NewPass{Label: label, InAddress: inAddress}
			in.Days, in.Hours = daysAndHours(life)
			var about apitype.About
			if err := t.client.Get(ctx, "/api/about", &about); err != nil {
				return err
			}
			return submit(ctx, t, http.MethodPost, "/api/agents/"+seg(t.args[0])+"/passes", in, func(p apitype.IssuedPass) error {
				until := clock(p.Pass.Expires)
				if p.URL != "" {
					return t.done(
						"pass %s for %s, valid until %s\naddress, shown this once; whoever sees it can use it: %s",
						p.Pass.ID,
						p.Pass.Agent,
						until,
						p.URL,
					)
				}
				err := t.done(
					"pass %s for %s, valid until %s\ntoken, shown this once: %s\naddress: %s/mcp\nheader:  Authorization: Bearer %s",
					p.Pass.ID, p.Pass.Agent, until, p.Token, about.Address, p.Token,
				)
				if err != nil || !snippet {
					return err
				}
				entry, err := entryText(about.Address+"/mcp", p.Token)
				if err != nil {
					return err
				}
				return t.done("entry:\n%s", entry)
			})
		},
	}
}

const day = 24 * time.Hour

// daysAndHours rounds up to whole hours, as passes are made.
func daysAndHours(life time.Duration) (days, hours int) {
	all := int((life + time.Hour - 1) / time.Hour)
	return all / 24, all % 24
}

// entryText is what goes into an assistant's configuration.
func entryText(url, token string) (string, error) {
	text, err := dialect.Shipped()[0].Snippet(dialect.Entry{
		Name: "bouncer", URL: url, Headers: []dialect.Value{{Name: "Authorization", Value: "Bearer " + token}},
	})
	return strings.TrimSpace(text), err
}

func agentShowCommand() command {
	return command{
		noun: "agent", verb: "show", args: "NAME", short: "Show an agent: where it is enrolled, and how it was last seen",
		example: "bouncer agent show marit-quill",
		run: func(ctx context.Context, t *task) error {
			path := "/api/agents/" + seg(t.args[0])
			var a team.Agent
			var seen team.Contact
			var passes []team.Pass
			for at, into := range map[string]any{path: &a, path + "/contact": &seen, path + "/passes": &passes} {
				if err := t.client.Get(ctx, at, into); err != nil {
					return err
				}
			}
			if t.json {
				return t.writeJSON(map[string]any{"agent": a, "contact": seen, "passes": passes})
			}
			return t.view().showAgent(a, seen, passes)
		},
	}
}

func (t view) showAgent(a team.Agent, seen team.Contact, passes []team.Pass) error {
	rows := [][2]string{{"name", a.Name}, {"kind", a.Kind}, {"owner", orTeam(a.Owner)}, {"last seen", when(a.Seen)}}
	if seen.Times > 0 {
		rows = append(
			rows, [2]string{"assistant", strings.TrimSpace(seen.Client + " " + seen.Version)}, [2]string{"revision", seen.Revision},
			[2]string{"introduced", fmt.Sprintf("%d times since the service started, last %s", seen.Times, clock(seen.Last))},
		)
	}
	if seen.Fetched != nil {
		state := "the present list"
		if seen.Stale {
			state = "an older list: restart it, or have it list its tools again"
		}
		rows = append(rows, [2]string{"has", toolCount(seen.Tools) + ", " + state})
	}
	for _, p := range passes {
		if p.State == "valid" {
			rows = append(rows, [2]string{"pass", fmt.Sprintf("%s …%s, until %s", p.Label, p.Hint, clock(p.Expires))})
		}
	}
	for _, r := range rows {
		fmt.Fprintf(t.Out, "  %-12s %s\n", r[0], r[1])
	}
	return nil
}

func orTeam(owner string) string {
	if owner == "" {
		return "the team"
	}
	return owner
}

func agentPassesCommand() command {
	return command{
		noun: "agent", verb: "passes", args: "NAME", short: "List an agent's passes", example: "bouncer agent passes marit-quill",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/agents/"+seg(t.args[0])+"/passes", func(list []team.Pass) error {
				if len(list) == 0 {
					return t.done("no passes yet; make one with: bouncer agent pass %s", t.args[0])
				}
				var rows [][]string
				for _, p := range list {
					label := p.Label
					if p.Kind != "pass" {
						label = "(" + p.Kind + ") " + label
					}
					rows = append(rows, []string{p.ID, "…" + p.Hint, p.State, label, clock(p.Created), clock(p.Expires), when(p.Used)})
				}
				return t.table([]string{"ID", "TOKEN", "STATE", "LABEL", "CREATED", "VALID UNTIL", "LAST SHOWN"}, rows)
			})
		},
	}
}

func agentRevokeCommand() command {
	var pass string
	return command{
		noun: "agent", verb: "revoke", args: "NAME", short: "Revoke a pass; the next call with it is refused",
		example: "bouncer agent revoke marit-quill --pass 01KAS3V4M0W5Z4T7Q2R8X9Y1AB",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&pass, "pass", "", "`id` of the pass, from bouncer agent passes (required)")
		},
		run: func(ctx context.Context, t *task) error {
			if pass == "" {
				return &usageError{"the flag --pass is missing", "bouncer agent passes " + t.args[0] + " lists the ids"}
			}
			if err := t.client.Delete(ctx, "/api/agents/"+seg(t.args[0])+"/passes/"+seg(pass)); err != nil {
				return err
			}
			return t.done("pass %s is revoked", pass)
		},
	}
}

func agentUpdateCommand() command {
	var owner, kind, finder string
	var toTeam bool
	var tokens int
	return command{
		noun: "agent", verb: "update", args: "NAME", short: "Hand an agent over, or alter its kind and how its tools are listed",
		long: `With --finder on, an agent is listed two small tools instead of all: one searches the
others in words, one calls what was found, under the same rules. Whoever gets it makes passes of their own: those that there are, and the
credentials and sign-ins that it had of its own, end with the handover.`,
		example: "bouncer agent update night-watch --owner joss",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&owner, "owner", "", "`person` who owns it from now on")
			f.BoolVar(&toTeam, "team", false, "the team owns it from now on")
			f.StringVar(&kind, "kind", "", "which assistant it is, in a `word`")
			f.StringVar(&finder, "finder", "", "on or off (`word`): two small tools instead of all")
			f.IntVar(&tokens, "context-tokens", 0, "size of its context window in `tokens`; 0 for not known")
		},
		run: func(ctx context.Context, t *task) error {
			in := apitype.AgentPatch{}
			if t.given["finder"] {
				on := finder == "on"
				if !on && finder != "off" {
					return &usageError{"--finder is on or off", "as in: bouncer agent update quay-voice --finder on"}
				}
				in.Finder = &on
			}
			if t.given["context-tokens"] {
				in.ContextTokens = &tokens
			}
			if t.given["owner"] || toTeam {
				in.Owner = &owner
			}
			if t.given["owner"] && toTeam {
				return &usageError{"--owner and --team name two owners", "give one of them"}
			}
			if t.given["kind"] {
				in.Kind = &kind
			}
			if in == (apitype.AgentPatch{}) {
				return &usageError{
					"nothing is to be altered",
					"give --owner, --team, --kind, --finder or --context-tokens; bouncer agent update -h shows an example",
				}
			}
			return submit(ctx, t, http.MethodPatch, "/api/agents/"+seg(t.args[0]), in, func(a team.Agent) error {
				whose := a.Owner
				if whose == "" {
					whose = "the team"
				}
				return t.done("agent %s is a %s and belongs to %s", a.Name, a.Kind, whose)
			})
		},
	}
}

func agentRemoveCommand() command {
	var yes bool
	return command{
		noun: "agent", verb: "remove", args: "NAME", short: "Remove an agent, after showing what hangs on it",
		example: "bouncer agent remove night-watch", flags: withYes(&yes),
		run: func(ctx context.Context, t *task) error {
			return t.remove(ctx, "agent", "/api/agents/"+seg(t.args[0]), yes)
		},
	}
}

// count renders a number of bytes.
func count(n int) string {
	switch {
	case n >= 10<<20:
		return fmt.Sprintf("%d MiB", n>>20)
	case n >= 10<<10:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d B", n)
}

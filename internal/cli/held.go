package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/span"
	"bouncer/internal/held"
)

func heldCommands() []command {
	return []command{
		heldListCommand(), heldShowCommand(), heldAdmitCommand(), heldRefuseCommand(), heldStandingCommand(), heldEndCommand(),
		heldNoticesCommand(),
	}
}

func heldListCommand() command {
	var all bool
	return command{
		noun: "held", verb: "list", short: "List the calls that wait until somebody decides", example: "bouncer held list --all",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&all, "all", false, "also those that were decided, or that nobody decided in time")
		},
		run: func(ctx context.Context, t *task) error {
			path := "/api/held?waiting=true"
			if all {
				path = "/api/held"
			}
			return fetch(ctx, t, path, func(list []apitype.HeldCall) error {
				if len(list) == 0 {
					return t.done("no call is held; a rule with the effect hold makes calls wait: bouncer rule add -h")
				}
				var rows [][]string
				for _, c := range list {
					rows = append(rows, []string{
						c.ID, short(c.At), c.Agent, c.Server + "/" + c.Tool, clip(string(c.Arguments), 60), c.Rule, heldState(c),
					})
				}
				return t.table([]string{"ID", "SINCE", "AGENT", "TOOL", "ARGUMENTS", "RULE", "STATE"}, rows)
			})
		},
	}
}

// heldState is what becomes of a held call, in a few words.
func heldState(c apitype.HeldCall) string {
	if c.State != "waiting" {
		text := c.State
		if c.By != "" {
			text += " by " + c.By
		}
		return text
	}
	text := "waits, for " + span.Text(max(time.Until(c.Until), 0).Round(time.Second)) + " at most"
	if !c.Mine {
		text += " (not yours)"
	}
	return text
}

func heldShowCommand() command {
	return command{
		noun: "held", verb: "show", args: "ID", short: "Show a held call: what would be sent, what the tool does, past decisions on the like",
		example: "bouncer held show 01KXA0M5T0000000000000000",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/held/"+seg(t.args[0]), t.view().showHeld)
		},
	}
}

func (t view) showHeld(c apitype.HeldCall) error {
	owner := c.Owner
	if owner == "" {
		owner = "the team"
	}
	for _, row := range [][2]string{
		{"id", c.ID}, {"since", clock(c.At)}, {"state", heldState(c)}, {"agent", c.Agent + " of " + owner},
		{"tool", c.Server + "/" + c.Tool}, {"title", c.Title}, {"the tool is", strings.Join(c.Effects, ", ")},
		{"arguments", string(c.Arguments)}, {"held by", "rule " + c.Rule}, {"note", c.Note}, {"not yours", c.Why},
		{"how", c.How}, {"word", c.Word},
	} {
		if row[1] != "" {
			fmt.Fprintf(t.Out, "  %-12s %s\n", row[0], clip(row[1], 4000))
		}
	}
	for _, p := range c.Before {
		fmt.Fprintf(t.Out, "  %-12s %s by %s at %s %s\n", "before", p.How, p.By, clock(p.At), p.Word)
	}
	if c.State == "waiting" && c.Mine {
		fmt.Fprintf(t.Out, "\nDecide with: bouncer held admit %s, or bouncer held refuse %s --word \"why\"\n", c.ID, c.ID)
	}
	return nil
}

func heldAdmitCommand() command {
	var in apitype.HeldDecision
	var session, forHour bool
	var calls int
	var arguments string
	return command{
		noun: "held", verb: "admit", args: "ID", short: "Admit a held call: it goes on at once",
		long: `Without a flag just this call goes on. What is admitted for longer covers calls of the
same tool by the same agent, until the rule is altered: bouncer held standing shows it.`,
		example: "bouncer held admit 01KXA0M5T0000000000000000 --calls 3",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&session, "session", false, "and the like, as long as the agent's session lasts")
			f.BoolVar(&forHour, "hour", false, "and the like, for an hour")
			f.IntVar(&calls, "calls", 0, "and the next `number` of the like")
			f.StringVar(&arguments, "arguments", "", "`JSON` that is sent instead of its arguments, or @FILE")
			f.StringVar(&in.Word, "word", "", "a `word` for the record")
		},
		run: func(ctx context.Context, t *task) error {
			in.How = held.Once
			ways := 0
			for _, way := range []struct {
				given bool
				how   string
			}{{session, held.ForNow}, {forHour, held.ForHour}, {t.given["calls"], held.ForCalls}, {t.given["arguments"], held.Changed}} {
				if way.given {
					in.How = way.how
					ways++
				}
			}
			if ways > 1 {
				return &usageError{"--session, --hour, --calls and --arguments do not go together", "give one of them"}
			}
			in.Calls = calls
			if in.How == held.Changed {
				raw, err := t.schema("arguments", arguments)
				if err != nil {
					return err
				}
				in.Arguments = raw
			}
			return t.decide(ctx, in)
		},
	}
}

func heldRefuseCommand() command {
	in := apitype.HeldDecision{How: held.Refused}
	return command{
		noun: "held", verb: "refuse", args: "ID", short: "Refuse a held call: it is not carried out",
		example: "bouncer held refuse 01KXA0M5T0000000000000000 --word \"the storm is over; keep it\"",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&in.Word, "word", "", "a `word` to the agent")
		},
		run: func(ctx context.Context, t *task) error { return t.decide(ctx, in) },
	}
}

func (t *task) decide(ctx context.Context, in apitype.HeldDecision) error {
	return submit(ctx, t, http.MethodPost, "/api/held/"+seg(t.args[0])+"/decision", in, func(c apitype.HeldCall) error {
		return t.done("the call of %s/%s by %s is %s", c.Server, c.Tool, c.Agent, c.State)
	})
}

func heldStandingCommand() command {
	return command{
		noun: "held", verb: "standing", short: "List decisions about held calls that admit more of the like", example: "bouncer held standing",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/standing", func(list []apitype.StandingDecision) error {
				if len(list) == 0 {
					return t.done("no decision admits calls to come; each held call waits for its own")
				}
				var rows [][]string
				for _, s := range list {
					left := "any number"
					if s.Left > 0 {
						left = fmt.Sprintf("%d more", s.Left)
					}
					rows = append(rows, []string{s.ID, s.Agent, s.Server + "/" + s.Tool, s.Rule, s.By, left, clock(s.Until)})
				}
				return t.table([]string{"ID", "AGENT", "TOOL", "RULE", "BY", "ADMITS", "UNTIL"}, rows)
			})
		},
	}
}

func heldEndCommand() command {
	return command{
		noun: "held", verb: "end", args: "ID", short: "Take back a decision that admits calls to come; the next of the like is held again",
		example: "bouncer held end 01KXA0M5T0000000000000000",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/standing/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("calls of the like are held again")
		},
	}
}

func heldNoticesCommand() command {
	var test bool
	return command{
		noun: "held", verb: "notices", short: "Show how the sending of notices about held calls goes, or try it",
		long: `Notices go to the address in the setting held-notices, signed by HTTP Message Signatures
(RFC 9421) with the key in held-notices-key. Nothing is decided through them.`,
		example: "bouncer held notices --test",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&test, "test", false, "send one for a trial")
		},
		run: func(ctx context.Context, t *task) error {
			if test {
				return submit(ctx, t, http.MethodPost, "/api/notices/test", struct{}{}, func(s apitype.NoticeState) error {
					return t.done("%s took the notice", s.To)
				})
			}
			return fetch(ctx, t, "/api/notices", func(s apitype.NoticeState) error {
				if s.To == "" {
					return t.done("notices go nowhere; start the service with held-notices and held-notices-key: bouncer serve -h")
				}
				if s.Error != "" {
					return t.done("%d notices went to %s, and %d failed; the last: %s", s.Sent, s.To, s.Failed, s.Error)
				}
				return t.done("%d notices went to %s", s.Sent, s.To)
			})
		},
	}
}

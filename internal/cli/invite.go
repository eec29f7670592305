package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/client"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

func agentInviteCommand() command {
	var in apitype.NewMachineCode
	valid, life := day, 90*day
	return command{
		noun: "agent", verb: "invite", args: "NAME", short: "Make a one-time code to enrol an assistant on another machine",
		long: `Whoever runs bouncer enrol with it there needs no login. The agent is yours, or with
--team the team's, and acts with its owner's sign-ins: give the code to nobody else.`,
		example: "bouncer agent invite marit-laptop --valid 2h",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&in.Team, "team", false, "a new agent belongs to the team")
			f.Var(span.Value{To: &valid}, "valid", "for how `long` the code can be used, like 2h or 1d")
			f.Var(span.Value{To: &life}, "life", "for how `long` the pass is valid, like 90d")
		},
		run: func(ctx context.Context, t *task) error {
			in.Agent, in.Hours, in.PassDays = t.args[0], int((valid+time.Hour-1)/time.Hour), int((life+day-1)/day)
			return submit(ctx, t, http.MethodPost, "/api/machine-codes", in, func(v apitype.MachineInvited) error {
				var about apitype.About
				if err := t.client.Get(ctx, "/api/about", &about); err != nil {
					return err
				}
				fmt.Fprintf(t.Out, "  on the other machine, once, until %s:\n", clock(v.Invitation.Expires))
				fmt.Fprintf(t.Out, "  bouncer enrol --address %s --invite %s --config FILE\n", about.Address, v.Code)
				return nil
			})
		},
	}
}

func agentInvitationsCommand() command {
	var withdraw string
	return command{
		noun: "agent", verb: "invitations", short: "List the one-time codes for other machines, and where each was used",
		example: "bouncer agent invitations",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&withdraw, "withdraw", "", "take the code with this `id` back")
		},
		run: func(ctx context.Context, t *task) error {
			if withdraw != "" {
				if err := t.client.Delete(ctx, "/api/machine-codes/"+seg(withdraw)); err != nil {
					return err
				}
				return t.done("the code can no longer be used")
			}
			return fetch(ctx, t, "/api/machine-codes", func(list []team.MachineCode) error {
				if len(list) == 0 {
					return t.done("no codes yet; make one with: bouncer agent invite NAME")
				}
				var rows [][]string
				for _, v := range list {
					rows = append(rows, []string{v.Agent, v.State, v.By, clock(v.Expires), when(v.Used), v.Host, v.From, v.ID})
				}
				return t.table([]string{"AGENT", "STATE", "BY", "UNTIL", "USED", "ON", "FROM", "ID"}, rows)
			})
		},
	}
}

// redeem uses the code of --invite.
func (o *enrolment) redeem(ctx context.Context, t atHome, kind string) (out apitype.Redeemed, err error) {
	host, _ := os.Hostname() // it is only shown
	err = t.client.Do(ctx, http.MethodPost, "/api/machine-codes/redeem", apitype.Redemption{Code: o.invite, Host: host, Kind: kind}, &out)
	return out, err
}

// giveBack revokes a pass by showing it, where nobody is signed in.
func giveBack(ctx context.Context, c *client.Client, token string) error {
	return c.Do(ctx, http.MethodPost, "/api/machine-codes/return", apitype.Returned{Token: token}, nil)
}

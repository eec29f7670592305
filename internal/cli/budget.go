package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/budget"
)

func budgetCommands() []command {
	return []command{budgetListCommand(), budgetAddCommand(), budgetUpdateCommand(), budgetResetCommand(), budgetRemoveCommand()}
}

func budgetListCommand() command {
	return command{
		noun: "budget", verb: "list", short: "List the budgets, with what is used of each", example: "bouncer budget list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/budgets", func(list []apitype.BudgetInfo) error {
				if len(list) == 0 {
					return t.done("no budgets yet, so agents may call as much as they like; add one with: bouncer budget add -h")
				}
				var rows [][]string
				for _, b := range list {
					rows = append(rows, []string{b.Name, b.Text, fmt.Sprint(b.Agents), budgetUse(b), b.Note})
				}
				return t.table([]string{"NAME", "ALLOWS", "AGENTS", "USED NOW", "NOTE"}, rows)
			})
		},
	}
}

// budgetUse says what is used of a budget, of the three who use it most.
func budgetUse(b apitype.BudgetInfo) string {
	words := []string{}
	for _, u := range b.Uses[:min(len(b.Uses), 3)] {
		one := u.Whose + ":"
		if b.Calls > 0 {
			one += fmt.Sprintf(" %d of %d calls", u.Calls, b.Calls)
		}
		if b.KiB > 0 {
			one += fmt.Sprintf(" %d of %d KiB", u.KiB, b.KiB)
		}
		if b.AtOnce > 0 {
			one += fmt.Sprintf(" %d at once", u.AtOnce)
		}
		words = append(words, one)
	}
	if more := len(b.Uses) - 3; more > 0 {
		words = append(words, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(words, ", ")
}

// budgetFlags are the flags for what a budget says.
func budgetFlags(f *flag.FlagSet, in *budget.Allowance) {
	f.StringVar(&in.Agent, "agent", "", "`glob` over agent names; all if left out")
	f.StringVar(&in.Label, "label", "", "only agents with this `label`")
	f.StringVar(&in.Person, "person", "", "only agents of this `person`")
	f.StringVar(&in.Group, "group", "", "only agents of people in this `group`")
	f.StringVar(&in.Server, "server", "", "`glob` over server names; all if left out")
	f.StringVar(&in.Tool, "tool", "", "`glob` over the server's own tool names; all if left out")
	f.StringVar(&in.Per, "per", "", "for `whom` it counts: agent, person or all; agent if left out")
	f.StringVar(&in.Window, "window", "", "`stretch` of time: minute, hour, day, week or month")
	f.IntVar(&in.Calls, "calls", 0, "most `calls` in a window")
	f.IntVar(&in.KiB, "kib", 0, "most `KiB` of arguments and results in a window")
	f.IntVar(&in.AtOnce, "at-once", 0, "most calls at a `time`")
	f.BoolVar(&in.Waits, "wait", false, "calls over --at-once wait, agents in turn, instead of being refused")
}

func (t view) showBudget(b apitype.BudgetInfo) error {
	return t.done("budget %s counts from now on: %s; it binds %d agents", b.Name, b.Text, b.Agents)
}

func budgetAddCommand() command {
	var in apitype.NewBudget
	return command{
		noun: "budget", verb: "add", args: "NAME", short: "Limit how much agents may call; calls count from now on",
		long: `Windows are those of the calendar in UTC. A call over a budget is refused, and the agent is
told until when. With --wait calls over --at-once wait instead, agents in turn, so that
nobody starves the others on a slow server.`,
		example: "bouncer budget add voice --label voice --calls 30 --window minute --at-once 2\n" +
			"bouncer budget add tannoy-in-turn --server tannoy --per all --at-once 4 --wait",
		flags: func(f *flag.FlagSet) {
			budgetFlags(f, &in.Allowance)
			f.StringVar(&in.Note, "note", "", "why, in a `sentence`")
		},
		run: func(ctx context.Context, t *task) error {
			in.Name = t.args[0]
			for _, glob := range [...]*string{&in.Agent, &in.Server, &in.Tool} {
				if *glob == "" {
					*glob = "*"
				}
			}
			if in.Per == "" {
				in.Per = budget.PerAgent
			}
			return submit(ctx, t, http.MethodPost, "/api/budgets", in, t.view().showBudget)
		},
	}
}

func budgetUpdateCommand() command {
	var allowance budget.Allowance
	var note string
	return command{
		noun: "budget", verb: "update", args: "NAME", short: "Alter a budget; what is used of it stays used",
		long:    "Flags that are left out leave what there is.",
		example: "bouncer budget update voice --calls 60",
		flags: func(f *flag.FlagSet) {
			budgetFlags(f, &allowance)
			f.StringVar(&note, "note", "", "why, in a `sentence`")
		},
		run: func(ctx context.Context, t *task) error {
			if !t.alters() {
				return &usageError{"nothing is to be altered", "bouncer budget update -h shows what can be"}
			}
			path := "/api/budgets/" + seg(t.args[0])
			var have apitype.BudgetInfo
			if err := t.client.Get(ctx, path, &have); err != nil {
				return err
			}
			in := apitype.BudgetPatch{Allowance: &have.Allowance, Version: &have.Version}
			for name, set := range map[string]func(){
				"agent": func() { have.Agent = allowance.Agent }, "label": func() { have.Label = allowance.Label },
				"person": func() { have.Person = allowance.Person }, "group": func() { have.Group = allowance.Group },
				"server": func() { have.Server = allowance.Server }, "tool": func() { have.Tool = allowance.Tool },
				"per": func() { have.Per = allowance.Per }, "window": func() { have.Window = allowance.Window },
				"calls": func() { have.Calls = allowance.Calls }, "kib": func() { have.KiB = allowance.KiB },
				"at-once": func() { have.AtOnce = allowance.AtOnce }, "wait": func() { have.Waits = allowance.Waits },
				"note": func() { in.Note = &note },
			} {
				if t.given[name] {
					set()
				}
			}
			return submit(ctx, t, http.MethodPatch, path, in, t.view().showBudget)
		},
	}
}

func budgetResetCommand() command {
	return command{
		noun: "budget", verb: "reset", args: "NAME", short: "Have a budget begin anew for everybody", example: "bouncer budget reset voice",
		run: func(ctx context.Context, t *task) error {
			return submit(ctx, t, http.MethodPost, "/api/budgets/"+seg(t.args[0])+"/reset", struct{}{}, func(b apitype.BudgetInfo) error {
				return t.done("nothing is used of budget %s", b.Name)
			})
		},
	}
}

func budgetRemoveCommand() command {
	return command{
		noun: "budget", verb: "remove", args: "NAME", short: "Remove a budget", example: "bouncer budget remove voice",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/budgets/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("budget %s is removed", t.args[0])
		},
	}
}

package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"bouncer/internal/apitype"
)

func agentCostCommand() command {
	return command{
		noun: "agent", verb: "cost", args: "[NAME]", short: "Show what an agent's list of tools takes of its model's context window",
		long: `Without a name, of all agents. Tokens are an estimate: one for every four characters.
Say how large the window is with bouncer agent update NAME --context-tokens N.`,
		example: "bouncer agent cost\nbouncer agent cost marit-quill",
		run: func(ctx context.Context, t *task) error {
			if len(t.args) == 0 {
				return fetch(ctx, t, "/api/costs", t.view().showCosts)
			}
			return fetch(ctx, t, "/api/agents/"+seg(t.args[0])+"/cost", t.view().showCost)
		},
	}
}

func listed(c apitype.AgentCost) string {
	if c.Finder {
		return "found in words"
	}
	return "all"
}

// callsIn heads the calls of so many days.
func callsIn(days int) string {
	if days < 2 {
		return "CALLS IN A DAY"
	}
	return fmt.Sprintf("CALLS IN %d DAYS", days)
}

func share(c apitype.AgentCost) string {
	if c.ContextTokens == 0 {
		return "-"
	}
	return strconv.FormatFloat(100*c.Share, 'f', 1, 64) + " %"
}

func (t view) showCosts(list []apitype.AgentCost) error {
	if len(list) == 0 {
		return t.done("there is no agent yet; add one with bouncer agent add NAME")
	}
	var rows [][]string
	for _, c := range list {
		rows = append(rows, []string{c.Agent, strconv.Itoa(c.Tools), listed(c), strconv.Itoa(c.Tokens), strconv.Itoa(c.All), share(c)})
	}
	if err := t.table([]string{"AGENT", "TOOLS", "LISTED", "TOKENS", "IF ALL WERE LISTED", "OF ITS WINDOW"}, rows); err != nil {
		return err
	}
	return t.done("tokens are %s", list[0].Basis)
}

func (t view) showCost(c apitype.CostDetail) error {
	fmt.Fprintf(t.Out, "%s has %d tools within reach, which take %d tokens if all are listed", c.Agent, c.Tools, c.All)
	if c.Finder {
		fmt.Fprintf(t.Out, "; it searches them, which takes %d", c.Tokens)
	}
	if c.ContextTokens > 0 {
		fmt.Fprintf(t.Out, ": %s of its window of %d", share(c.AgentCost), c.ContextTokens)
	}
	fmt.Fprintln(t.Out)
	const most = 20
	var rows [][]string
	for _, tool := range c.List[:min(len(c.List), most)] {
		rows = append(rows, []string{tool.Server + "/" + tool.Tool, strconv.Itoa(tool.Tokens), strconv.Itoa(tool.Calls)})
	}
	if len(rows) > 0 {
		if err := t.table([]string{"TOOL", "TOKENS", callsIn(c.Days)}, rows); err != nil {
			return err
		}
	}
	if over := len(c.List) - most; over > 0 {
		fmt.Fprintf(t.Out, "and %d more; --json has all\n", over)
	}
	for _, s := range c.Suggestions {
		fmt.Fprintf(t.Out, "saves %d: %s\n", s.Saves, s.Text)
		if s.Command != "" {
			fmt.Fprintf(t.Out, "    %s\n", s.Command)
		} else if len(s.Tools) > 1 && s.Kind == "unused" {
			fmt.Fprintf(t.Out, "    %s\n", strings.Join(s.Tools, ", "))
		}
	}
	return t.done("tokens are %s", c.Basis)
}

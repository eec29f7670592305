package cli

import (
	"context"

	"bouncer/internal/core/lint"
)

func serverLintCommand() command {
	return command{
		noun: "server", verb: "lint", args: "NAME", short: "Look at a server's tools for what makes models choose wrongly, pay too much, or do harm",
		long:    "Exit codes: 0 nothing was found, 1 something was.",
		example: "bouncer server lint pilotage",
		run: func(ctx context.Context, t *task) error {
			var found []lint.Flaw
			err := fetch(ctx, t, "/api/servers/"+seg(t.args[0])+"/lint", func(list []lint.Flaw) error {
				found = list
				if len(list) == 0 {
					return t.done("nothing was found about the tools of %s", t.args[0])
				}
				var rows [][]string
				for _, f := range list {
					tool := f.Tool
					if tool == "" {
						tool = "the list"
					}
					grave := ""
					if f.Grave {
						grave = "harm"
					}
					rows = append(rows, []string{tool, f.Code, grave, clip(f.Text, 90), f.Place, f.Why})
				}
				return t.table([]string{"TOOL", "FLAW", "CAN DO", "WHAT", "WHERE", "WHY IT MATTERS"}, rows)
			})
			if err == nil && len(found) > 0 {
				return &failure{exitFindings, "", ""}
			}
			return err
		},
	}
}

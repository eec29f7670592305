package cli

import (
	"context"
	"flag"
	"net/http"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
)

func changeListCommand() command {
	return command{
		noun: "change", verb: "list", short: "List the newest alterations, and who made them", example: "bouncer change list",
		long: "One with an id in the column UNDO can be put back, if nothing was altered there since.",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/changes", func(list []team.Change) error {
				var rows [][]string
				for _, c := range list {
					undo := ""
					if c.Undoable {
						undo = c.ID
					}
					rows = append(rows, []string{clock(c.At), c.Person, c.What, c.Subject, c.Before, c.After, undo})
				}
				return t.table([]string{"TIME", "PERSON", "WHAT", "SUBJECT", "BEFORE", "AFTER", "UNDO"}, rows)
			})
		},
	}
}

func changeUndoCommand() command {
	var in apitype.Undo
	return command{
		noun: "change", verb: "undo", args: "ID", short: "Put back what a change altered",
		long: `Undoing is an alteration like any other: a server is tried as it was first, and the
undoing can be undone. What was altered there since stays: then nothing is undone.`,
		example: "bouncer change undo 01KXA0M5T0000000000000000",
		flags: func(f *flag.FlagSet) {
			f.BoolVar(&in.Anyway, "anyway", false, "do it even when the server cannot be reached that way now")
		},
		run: func(ctx context.Context, t *task) error {
			return submit(ctx, t, http.MethodPost, "/api/changes/"+seg(t.args[0])+"/undo", in, func(c team.Change) error {
				return t.done("%s of %s by %s is undone", c.What, c.Subject, c.Person)
			})
		},
	}
}

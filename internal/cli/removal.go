package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/core/team"
)

// withYes is the flag of a command that asks before it removes something.
func withYes(yes *bool) func(*flag.FlagSet) {
	return func(f *flag.FlagSet) { f.BoolVar(yes, "yes", false, "remove it without asking") }
}

// remove removes something that has a name, after it has shown what hangs on it and
// what becomes of that. Where nothing does, it does not ask.
func (t *task) remove(ctx context.Context, kind, path string, yes bool) error {
	var hanging []team.Dependent
	if err := t.client.Get(ctx, path+"/dependents", &hanging); err != nil {
		return err
	}
	for _, d := range hanging {
		fmt.Fprintf(t.Err, "%s: %s\n  %s\n", d.Kind, strings.Join(d.Names, ", "), d.Becomes)
	}
	lost := slices.ContainsFunc(hanging, func(d team.Dependent) bool { return !d.Stays })
	blocked := slices.ContainsFunc(hanging, func(d team.Dependent) bool { return d.Blocks })
	if lost && !yes && !blocked { // what is blocked is refused, with the reason
		if !t.Terminal() {
			return &usageError{
				"nothing was removed, since something hangs on it and nobody can be asked here",
				fmt.Sprintf("look at the list, and add --yes: bouncer %s remove %s --yes", kind, t.args[0]),
			}
		}
		answer, err := t.line(fmt.Sprintf("Remove %s? (y/n)", t.args[0]))
		if err != nil || !strings.HasPrefix(strings.ToLower(answer), "y") {
			return &failure{exitFailure, "nothing was removed", ""}
		}
	}
	if err := t.client.Delete(ctx, path); err != nil {
		return err
	}
	if kind == "person" {
		return t.done("%s is removed", t.args[0])
	}
	return t.done("%s %s is removed", kind, t.args[0])
}

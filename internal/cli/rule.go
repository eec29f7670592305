package cli

import (
	"context"
	"flag"
	"net/http"

	"bouncer/internal/apitype"
)

func ruleCommands() []command {
	return []command{ruleListCommand(), ruleAddCommand(), ruleUpdateCommand(), ruleRemoveCommand()}
}

func ruleListCommand() command {
	return command{
		noun: "rule", verb: "list", short: "List the rules, with what each is about now", example: "bouncer rule list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/rules", func(list []apitype.RuleInfo) error {
				if len(list) == 0 {
					return t.done("no rules yet, so nothing is admitted; add one with: bouncer rule add admit --agent AGENT --server SERVER --tool '*'")
				}
				var rows [][]string
				for _, r := range list {
					rows = append(rows, []string{r.Name, r.Effect, r.Agent, r.Server, r.Tool, clip(r.Matches.Text, 60), r.By, r.Note})
				}
				return t.table([]string{"NAME", "EFFECT", "AGENT", "SERVER", "TOOL", "MATCHES", "BY", "NOTE"}, rows)
			})
		},
	}
}

func (t *task) showInForce(r apitype.RuleInfo) error {
	return t.done(
		"rule %s is in force: %s %s on %s for %s; it matches %s", r.Name, r.Effect, r.Tool, r.Server, r.Agent, r.Matches.Text,
	)
}

func ruleAddCommand() command {
	var in apitype.NewRule
	return command{
		noun: "rule", verb: "add", args: "EFFECT", short: "Add a rule that admits or refuses; it is in force at once",
		long: `EFFECT is admit or refuse. The flags are globs: * stands for any run of
characters, ? for one. What no rule admits is refused, and a refusal wins. A
tool can be given by the name that agents see, as in sailings__find_sailings.
What matches nothing now is not added, since a name is misspelt nearly always.`,
		example: "bouncer rule add admit --agent 'marit-*' --server sailings --tool 'find_*' --note \"looking up is fine\"",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&in.Agent, "agent", "", "`glob` over agent names (required)")
			f.StringVar(&in.Server, "server", "", "`glob` over server names (required)")
			f.StringVar(&in.Tool, "tool", "", "`glob` over the server's own tool names (required)")
			f.StringVar(&in.Note, "note", "", "why, in a `sentence`; agents are told")
			f.StringVar(&in.Name, "name", "", "short `name`; made of what the rule says if left out")
			f.BoolVar(&in.Anyway, "anyway", false, "add it though it matches nothing yet")
		},
		run: func(ctx context.Context, t *task) error {
			in.Effect = t.args[0]
			return submit(ctx, t, http.MethodPost, "/api/rules", in, t.showInForce)
		},
	}
}

func ruleUpdateCommand() command {
	var name, effect, agent, server, tool, note string
	var anyway bool
	return command{
		noun: "rule", verb: "update", args: "NAME", short: "Alter a rule; it is in force at once",
		example: "bouncer rule update refuse-order-on-fuel --tool 'order_*' --note \"the desk does it by hand\"",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&name, "name", "", "another `name` for it")
			f.StringVar(&effect, "effect", "", "`effect`: admit or refuse")
			f.StringVar(&agent, "agent", "", "`glob` over agent names")
			f.StringVar(&server, "server", "", "`glob` over server names")
			f.StringVar(&tool, "tool", "", "`glob` over the server's own tool names")
			f.StringVar(&note, "note", "", "why, in a `sentence`; agents are told")
			f.BoolVar(&anyway, "anyway", false, "alter it though it matches nothing then")
		},
		run: func(ctx context.Context, t *task) error {
			in, changes := apitype.RulePatch{Anyway: anyway}, false
			for flagName, field := range map[string]struct {
				to   **string
				from *string
			}{
				"name": {&in.Name, &name}, "effect": {&in.Effect, &effect}, "agent": {&in.Agent, &agent},
				"server": {&in.Server, &server}, "tool": {&in.Tool, &tool}, "note": {&in.Note, &note},
			} {
				if t.given[flagName] {
					*field.to, changes = field.from, true
				}
			}
			if !changes {
				return &usageError{"nothing is to be altered", "bouncer rule update -h shows what can be"}
			}
			return submit(ctx, t, http.MethodPatch, "/api/rules/"+seg(t.args[0]), in, t.showInForce)
		},
	}
}

func ruleRemoveCommand() command {
	return command{
		noun: "rule", verb: "remove", args: "NAME", short: "Remove a rule, by its name or its id; it is out of force at once",
		example: "bouncer rule remove refuse-order-on-fuel",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/rules/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("rule %s is removed", t.args[0])
		},
	}
}

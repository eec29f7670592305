package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"bouncer/internal/apitype"
)

func ruleCommands() []command {
	return []command{
		ruleListCommand(), ruleShowCommand(), ruleAddCommand(), ruleUpdateCommand(), ruleRemoveCommand(), ruleExplainCommand(),
		ruleRehearseCommand(),
	}
}

func ruleListCommand() command {
	return command{
		noun: "rule", verb: "list", short: "List the rules, with what each is about now", example: "bouncer rule list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/rules", func(list []apitype.RuleInfo) error {
				if len(list) == 0 {
					return t.done(
						"no rules yet, so nothing is admitted; add one with: bouncer rule add admit --agent AGENT --server SERVER --tool '*'",
					)
				}
				var rows [][]string
				for _, r := range list {
					matches := clip(r.Matches.Text, 60)
					if r.Matches.Off != "" {
						matches = "(" + r.Matches.Off + ")"
					}
					says := strings.TrimPrefix(
						r.Core("").Describe(),
						fmt.Sprintf("%s %s on %s for %s", r.Effect, r.Tool, r.Server, r.Agent),
					)
					says = strings.TrimLeft(says, ", ")
					rows = append(rows, []string{
						r.Name, r.Effect, r.Agent, r.Server, r.Tool, matches, clip(says, 60), strconv.Itoa(r.Decided), r.Note,
					})
				}
				return t.table([]string{"NAME", "EFFECT", "AGENT", "SERVER", "TOOL", "MATCHES", "FURTHER", "DECIDED", "NOTE"}, rows)
			})
		},
	}
}

func (t view) showInForce(r apitype.RuleInfo) error {
	state := "is in force"
	if r.Matches.Off != "" {
		state = "is kept, but not in force now (" + r.Matches.Off + ")"
	}
	if err := t.done("rule %s %s: %s; it matches %s", r.Name, state, r.Core("").Describe(), r.Matches.Text); err != nil {
		return err
	}
	return t.warn(r.Warnings)
}

func ruleAddCommand() command {
	var in apitype.NewRule
	var terms termFlags
	var rehearse bool
	return command{
		noun: "rule", verb: "add", args: "EFFECT", short: "Add a rule that admits, holds or refuses; it is in force at once",
		long: `EFFECT is admit, hold or refuse. Agent, server and tool are globs: * stands for any run
of characters, ? for one; one that is left out stands for all where another flag says
which are meant. What no rule admits is refused; a refusal wins over a hold, and a hold
over an admission. A tool can be given by the name that agents see, as in
sailings__find_sailings. What matches nothing now is not added, since a name is misspelt
nearly always.`,
		example: "bouncer rule add admit --agent 'marit-*' --server sailings --tool 'find_*' --note \"looking up is fine\"\n" +
			"bouncer rule add refuse --label laptop --hint destructive\n" +
			"bouncer rule add admit --agent joss-quill --tool fuel__order_fuel --narrow '{\"properties\":{\"litres\":{\"maximum\":5000}}}'\n" +
			"bouncer rule add hold --agent night-watch --tool sailings__cancel_sailing --decider group:dispatch --hold-for 10m",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&in.Agent, "agent", "", "`glob` over agent names")
			f.StringVar(&in.Server, "server", "", "`glob` over server names")
			f.StringVar(&in.Tool, "tool", "", "`glob` over the server's own tool names")
			f.StringVar(&in.Note, "note", "", "why, in a `sentence`; agents are told")
			f.StringVar(&in.Name, "name", "", "short `name`; made of what the rule says if left out")
			f.BoolVar(&in.Anyway, "anyway", false, "add it though it matches nothing yet")
			terms.add(f)
			rehearseFlag(f, &rehearse)
		},
		run: func(ctx context.Context, t *task) error {
			in.Effect = t.args[0]
			if _, err := terms.fill(t, &in.Terms); err != nil {
				return err
			}
			everythingElse(&in)
			if rehearse {
				return t.rehearse(ctx, apitype.Rehearsal{Add: []apitype.NewRule{in}})
			}
			return submit(ctx, t, http.MethodPost, "/api/rules", in, t.view().showInForce)
		},
	}
}

// everythingElse has globs that were left out stand for all, where something else says
// what is meant: nobody admits everything to everybody by forgetting a flag.
func everythingElse(in *apitype.NewRule) {
	if in.Agent == "" && in.Person+in.Role+in.Group+in.Label != "" {
		in.Agent = "*"
	}
	ofTool := in.Hint+in.Tag+in.Bundle != ""
	if in.Server == "" && (ofTool || in.ServerLabel != "" || strings.Contains(in.Tool, "__")) {
		in.Server = "*"
	}
	if in.Tool == "" && ofTool {
		in.Tool = "*"
	}
}

func ruleUpdateCommand() command {
	var name, effect, agent, server, tool, note string
	var anyway, rehearse bool
	var terms termFlags
	return command{
		noun: "rule", verb: "update", args: "NAME", short: "Alter a rule; it is in force at once",
		long: `Flags that are left out leave what there is; one with an empty value ('') takes away what
it says.`,
		example: "bouncer rule update refuse-order-on-fuel --tool 'order_*' --note \"the desk does it by hand\"\n" +
			"bouncer rule update refuse-order-on-fuel --disable",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&name, "name", "", "another `name` for it")
			f.StringVar(&effect, "effect", "", "`effect`: admit, hold or refuse")
			f.StringVar(&agent, "agent", "", "`glob` over agent names")
			f.StringVar(&server, "server", "", "`glob` over server names")
			f.StringVar(&tool, "tool", "", "`glob` over the server's own tool names")
			f.StringVar(&note, "note", "", "why, in a `sentence`; agents are told")
			f.BoolVar(&anyway, "anyway", false, "alter it though it matches nothing then")
			terms.add(f)
			f.Var(&terms.drop, "drop-pin", "`name` of an argument that is not filled in any more; can be repeated")
			f.BoolVar(&terms.enable, "enable", false, "have it decide again")
			rehearseFlag(f, &rehearse)
		},
		run: func(ctx context.Context, t *task) error {
			in := apitype.RulePatch{Anyway: anyway}
			for flagName, field := range map[string]struct {
				to   **string
				from *string
			}{
				"name": {&in.Name, &name}, "effect": {&in.Effect, &effect}, "agent": {&in.Agent, &agent},
				"server": {&in.Server, &server}, "tool": {&in.Tool, &tool}, "note": {&in.Note, &note},
			} {
				if t.given[flagName] {
					*field.to = field.from
				}
			}
			if !t.alters() {
				return &usageError{"nothing is to be altered", "bouncer rule update -h shows what can be"}
			}
			var have apitype.RuleInfo
			path := "/api/rules/" + seg(t.args[0])
			if err := t.client.Get(ctx, path, &have); err != nil {
				return err
			}
			altered, err := terms.fill(t, &have.Terms)
			if err != nil {
				return err
			}
			if altered {
				in.Terms, in.Version = &have.Terms, &have.Version
			}
			if rehearse {
				return t.rehearse(ctx, apitype.Rehearsal{Update: []apitype.RuleUpdate{{Rule: t.args[0], RulePatch: in}}})
			}
			return submit(ctx, t, http.MethodPatch, path, in, t.view().showInForce)
		},
	}
}

// alters reports whether a flag was given that says what is to be altered.
func (t *task) alters() bool {
	for name := range t.given {
		if name != "anyway" && name != "rehearse" && name != "json" && name != "address" {
			return true
		}
	}
	return false
}

func ruleRemoveCommand() command {
	var rehearse bool
	return command{
		noun: "rule", verb: "remove", args: "NAME", short: "Remove a rule, by its name or its id; it is out of force at once",
		example: "bouncer rule remove refuse-order-on-fuel",
		flags:   func(f *flag.FlagSet) { rehearseFlag(f, &rehearse) },
		run: func(ctx context.Context, t *task) error {
			if rehearse {
				return t.rehearse(ctx, apitype.Rehearsal{Remove: t.args})
			}
			if err := t.client.Delete(ctx, "/api/rules/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("rule %s is removed", t.args[0])
		},
	}
}

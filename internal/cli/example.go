package cli

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/near"
	"bouncer/internal/core/team"
)

func exampleCommands() []command {
	return []command{{
		noun: "example", verb: "list", args: "SERVER", short: "List the calls that are kept as examples of a server's tools",
		example: "bouncer example list sailings",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/servers/"+seg(t.args[0])+"/examples", func(list []team.Example) error {
				if len(list) == 0 {
					return t.done("no examples yet; keep one with: bouncer tool try %s/TOOL --as AGENT --keep NAME", t.args[0])
				}
				var rows [][]string
				for _, e := range list {
					rows = append(rows, []string{e.Name, e.Tool, clip(string(e.Arguments), 90), e.By, clock(e.At)})
				}
				return t.table([]string{"NAME", "TOOL", "ARGUMENTS", "KEPT BY", "SINCE"}, rows)
			})
		},
	}, {
		noun: "example", verb: "remove", args: "SERVER NAME", short: "Remove an example", example: "bouncer example remove sailings morning",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/servers/"+seg(t.args[0])+"/examples/"+seg(t.args[1])); err != nil {
				return err
			}
			return t.done("example %s is removed", t.args[1])
		},
	}}
}

// keepExample keeps a call that went well.
func (t *task) keepExample(ctx context.Context, out apitype.Tried, ask apitype.Try, name string) error {
	if ask.Kind != "tool" {
		return &usageError{"only the call of a tool can be kept as an example", "leave out --keep"}
	}
	in := apitype.KeepExample{Tool: out.Name, Arguments: ask.Arguments}
	path := "/api/servers/" + seg(out.Server) + "/examples/" + seg(name)
	if err := t.client.Do(ctx, http.MethodPut, path, in, &team.Example{}); err != nil {
		return err
	}
	if t.json {
		return nil
	}
	return t.done("kept as example %s; a checkup makes the call with: bouncer checkup %s --example %s", name, out.Server, name)
}

// exampleArguments are the arguments of an example of the server that is tried.
func (t *task) exampleArguments(ctx context.Context, ask apitype.Try, name string) (json.RawMessage, error) {
	if ask.Arguments != nil {
		return nil, &usageError{"arguments are given twice: with --example, and otherwise", "give them once"}
	}
	if ask.Server == "" {
		return nil, &usageError{"--example needs the server of the tool", "name the tool as SERVER/TOOL"}
	}
	var list []team.Example
	if err := t.client.Get(ctx, "/api/servers/"+seg(ask.Server)+"/examples", &list); err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		if e.Name == name && (e.Tool == ask.Name || strings.HasSuffix(ask.Name, "__"+e.Tool)) {
			return e.Arguments, nil
		}
		names = append(names, e.Name)
	}
	hint := "bouncer example list " + ask.Server + " shows those that are kept"
	if best := near.Nearest(name, names); best != "" && best != name {
		hint = "perhaps " + best + " was meant"
	}
	return nil, &usageError{"there is no example " + name + " of " + ask.Server + "/" + ask.Name, hint}
}

package cli

import (
	"context"
	"flag"
	"net/http"
	"strconv"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
)

func labelCommands() []command {
	return []command{
		labelListCommand(), labelChangeCommand("add", true), labelChangeCommand("remove", false),
		bundleListCommand(), bundleSetCommand(), bundleRemoveCommand(),
	}
}

func labelListCommand() command {
	return command{
		noun: "label", verb: "list", short: "List labels of agents and servers, groups of people, and tags of tools",
		example: "bouncer label list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/labels", func(list []team.Label) error {
				if len(list) == 0 {
					return t.done("no labels yet; give one with: bouncer label add agent AGENT LABEL")
				}
				var rows [][]string
				for _, l := range list {
					from := ""
					if l.Source == team.FromLogin {
						from = "the identity provider"
					}
					rows = append(rows, []string{l.Kind, strings.TrimSuffix(l.Name+"/"+l.Tool, "/"), l.Label, from})
				}
				return t.table([]string{"KIND", "NAME", "LABEL", "FROM"}, rows)
			})
		},
	}
}

func labelChangeCommand(verb string, add bool) command {
	short, example := "Give labels to an agent, a server, a person (groups) or a tool (tags)", "bouncer label add agent marit-quill laptop\n"+
		"bouncer label add person joss dispatch\nbouncer label add tool sailings/cancel_sailing destructive"
	if !add {
		short, example = "Take labels away", "bouncer label remove agent marit-quill laptop"
	}
	return command{
		noun: "label", verb: verb, args: "KIND NAME LABEL [LABEL...]", short: short,
		long: `KIND is agent, server, person or tool; a tool is named as SERVER/TOOL. Rules go by labels
at once. Tags named read-only, destructive, idempotent or open-world, or one of these
with not- before it, count instead of what the tool says of itself.`,
		example: example,
		run: func(ctx context.Context, t *task) error {
			in := apitype.LabelPatch{Kind: t.args[0], Name: t.args[1]}
			if in.Kind == team.OnTool {
				in.Name, in.Tool, _ = strings.Cut(t.args[1], "/")
			}
			if add {
				in.Add = t.args[2:]
			} else {
				in.Remove = t.args[2:]
			}
			return submit(ctx, t, http.MethodPatch, "/api/labels", in, func(list []team.Label) error {
				have := []string{}
				for _, l := range list {
					have = append(have, l.Label)
				}
				if len(have) == 0 {
					return t.done("%s %s has no label now", in.Kind, t.args[1])
				}
				return t.done("%s %s is labelled %s", in.Kind, t.args[1], strings.Join(have, ", "))
			})
		},
	}
}

func bundleListCommand() command {
	return command{
		noun: "bundle", verb: "list", short: "List bundles of tools, with what each stands for now", example: "bouncer bundle list",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/bundles", func(list []apitype.BundleInfo) error {
				if len(list) == 0 {
					return t.done("no bundles yet; make one with: bouncer bundle set NAME SERVER/TOOL")
				}
				var rows [][]string
				for _, b := range list {
					rows = append(rows, []string{
						b.Name, strings.Join(entryWords(b.Entries), ", "), strconv.Itoa(len(b.Tools)), strings.Join(b.UsedBy, ", "), b.Note,
					})
				}
				return t.table([]string{"NAME", "HOLDS", "TOOLS NOW", "NAMED BY", "NOTE"}, rows)
			})
		},
	}
}

func entryWords(entries []rules.Entry) (out []string) {
	for _, e := range entries {
		if e.Bundle != "" {
			out = append(out, "@"+e.Bundle)
		} else {
			out = append(out, e.Server+"/"+e.Tool)
		}
	}
	return out
}

func bundleSetCommand() command {
	var note string
	return command{
		noun: "bundle", verb: "set", args: "NAME ENTRY [ENTRY...]", short: "Make a bundle of tools, or say anew what it holds",
		long: `An ENTRY is SERVER/TOOL, where both are globs, or @NAME for another bundle. Rules that
name the bundle (--bundle) are about its tools at once.`,
		example: "bouncer bundle set looking 'sailings/find_*' tides/tide_table @crew-reading",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&note, "note", "", "what it is for, in a `sentence`")
		},
		run: func(ctx context.Context, t *task) error {
			entries := []rules.Entry{}
			for _, word := range t.args[1:] {
				if name, is := strings.CutPrefix(word, "@"); is {
					entries = append(entries, rules.Entry{Bundle: name})
					continue
				}
				server, tool, ok := strings.Cut(word, "/")
				if !ok {
					return &usageError{"an entry is SERVER/TOOL, or @NAME for another bundle", "as in: 'sailings/find_*'"}
				}
				entries = append(entries, rules.Entry{Server: server, Tool: tool})
			}
			show := func(b apitype.BundleInfo) error {
				return t.done("bundle %s stands for %d tools now: %s", b.Name, len(b.Tools), clip(strings.Join(b.Tools, ", "), 300))
			}
			var have apitype.BundleInfo
			err := t.client.Get(ctx, "/api/bundles/"+seg(t.args[0]), &have)
			if p := told(err); p != nil && p.Status == http.StatusNotFound {
				return submit(
					ctx,
					t,
					http.MethodPost,
					"/api/bundles",
					apitype.NewBundle{Name: t.args[0], Note: note, Entries: entries},
					show,
				)
			}
			if err != nil {
				return err
			}
			patch := apitype.BundlePatch{Entries: &entries, Version: &have.Version}
			if t.given["note"] {
				patch.Note = &note
			}
			return submit(ctx, t, http.MethodPatch, "/api/bundles/"+seg(t.args[0]), patch, show)
		},
	}
}

func bundleRemoveCommand() command {
	return command{
		noun: "bundle", verb: "remove", args: "NAME", short: "Remove a bundle that no rule and no bundle names",
		example: "bouncer bundle remove looking",
		run: func(ctx context.Context, t *task) error {
			if err := t.client.Delete(ctx, "/api/bundles/"+seg(t.args[0])); err != nil {
				return err
			}
			return t.done("bundle %s is removed", t.args[0])
		},
	}
}

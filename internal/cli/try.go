package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
)

// tryInput is what the command line says of a trial.
type tryInput struct {
	as, server, kind, arguments, answers, state, save string
	argument, example, keep                           string
}

func tryCommands() []command {
	var in tryInput
	return []command{{
		noun: "tool", verb: "try", args: "TOOL", rest: "NAME=VALUE...", short: "Try a tool as an agent, without a model",
		long: `A tool is named as SERVER/TOOL, or as agents see it; a prompt with --kind prompt, a
resource by its URI with --kind resource --server SERVER; what completes an argument of
a prompt with --kind completion --argument NAME.
Arguments follow after --, one each; their types are those of the tool's schema. Or they
are given as JSON, or as a file: --arguments @FILE, and - for standard input.
The call goes the way that the agent's would: its rules, budgets and holds are in force,
and it stands in the journal. When the server asks something back, --answers gives the
answers, with the --state that was shown.
Exit codes: 0 there is a result, 1 there is an error, 2 it could not be tried.`,
		example: "bouncer tool try sailings/sailing_status --as marit-quill -- sailing=SF203\n" +
			"bouncer tool try order_fuel --as joss-quill --arguments '{\"litres\":500}'\n" +
			"bouncer tool try sailings/sailing_status --as marit-quill --keep morning -- sailing=SF203",
		flags: func(f *flag.FlagSet) {
			in = tryInput{}
			f.StringVar(&in.as, "as", "", "the `agent`; may be left out when there is one only that is yours")
			f.StringVar(&in.server, "server", "", "the `server` of a tool that is given by its own name, or of a resource")
			f.StringVar(&in.kind, "kind", "tool", "`what` it is: tool, prompt, resource or completion")
			f.StringVar(&in.argument, "argument", "", "of a completion: the `argument` of the prompt whose value is completed")
			f.StringVar(&in.example, "example", "", "with the arguments of this `example` of the server")
			f.StringVar(&in.keep, "keep", "", "keep the call as an example with this `name`, if there is a result")
			f.StringVar(&in.arguments, "arguments", "", "arguments as `JSON`, @FILE or - for standard input")
			f.StringVar(&in.answers, "answers", "", "answers to the questions of the round before, as `JSON` by their names, or @FILE")
			f.StringVar(&in.state, "state", "", "`state` of the round before")
			f.StringVar(&in.save, "save", "", "write images and audio of the result into this `directory`")
		},
		run: func(ctx context.Context, t *task) error { return t.try(ctx, &in) },
	}}
}

func (t *task) try(ctx context.Context, in *tryInput) error {
	ask := apitype.Try{Agent: in.as, Server: in.server, Kind: in.kind, Name: t.args[0], State: in.state, Argument: in.argument}
	if server, tool, ok := strings.Cut(t.args[0], "/"); ok && in.kind != "resource" && in.server == "" {
		ask.Server, ask.Name = server, tool
	}
	var err error
	if ask.Agent == "" {
		if ask.Agent, err = t.onlyAgent(ctx); err != nil {
			return couldNot(err)
		}
	}
	if ask.Arguments, err = t.jsonOf("arguments", in.arguments); err != nil {
		return couldNot(err)
	}
	if ask.Answers, err = t.jsonOf("answers", in.answers); err != nil {
		return couldNot(err)
	}
	if len(t.rest) > 0 {
		if ask.Arguments != nil {
			return couldNot(&usageError{"arguments are given twice: after -- and with --arguments", "give them once"})
		}
		if ask.Arguments, err = t.typed(ctx, ask); err != nil {
			return couldNot(err)
		}
	}
	if in.example != "" {
		if ask.Arguments, err = t.exampleArguments(ctx, ask, in.example); err != nil {
			return couldNot(err)
		}
	}
	var out apitype.Tried
	if err := t.client.Do(ctx, http.MethodPost, "/api/tries", ask, &out); err != nil {
		return couldNot(err)
	}
	if t.json {
		if err := t.writeJSON(out); err != nil {
			return err
		}
	} else if err := t.view().showTried(out, in.save); err != nil {
		return err
	}
	if !out.OK {
		return &failure{exitFindings, "", ""}
	}
	if in.keep == "" {
		return nil
	}
	return t.keepExample(ctx, out, ask, in.keep)
}

// onlyAgent is the one agent that the person may speak for.
func (t *task) onlyAgent(ctx context.Context) (string, error) {
	var me team.Person
	var list []team.Agent
	if err := t.client.Get(ctx, "/api/session", &me); err != nil {
		return "", err
	}
	if err := t.client.Get(ctx, "/api/agents", &list); err != nil {
		return "", err
	}
	var mine []string
	for _, a := range list {
		if a.Owner == me.Name {
			mine = append(mine, a.Name)
		}
	}
	if len(mine) == 1 {
		return mine[0], nil
	}
	return "", &usageError{"the flag --as is missing: as which agent it is tried", "as in: bouncer tool try " + t.args[0] + " --as AGENT"}
}

// jsonOf is JSON that is given on the command line, in a file, or on standard input.
func (t *task) jsonOf(name, text string) (json.RawMessage, error) {
	if text == "" {
		return nil, nil
	}
	if path, ok := strings.CutPrefix(text, "@"); ok || text == "-" {
		if text == "-" {
			path = "-"
		}
		var err error
		if text, err = t.file(path); err != nil {
			return nil, err
		}
	}
	if !json.Valid([]byte(text)) {
		return nil, &usageError{"--" + name + " is no JSON", `as in: --` + name + ` '{"quay":"north"}'`}
	}
	return json.RawMessage(text), nil
}

// typed makes JSON of NAME=VALUE, with the types that the tool's schema says.
func (t *task) typed(ctx context.Context, ask apitype.Try) (json.RawMessage, error) {
	types := map[string]string{}
	if ask.Server != "" {
		var list []apitype.ToolView
		if err := t.client.Get(ctx, "/api/servers/"+seg(ask.Server)+"/tools", &list); err != nil {
			return nil, err
		}
		for _, tool := range list {
			if tool.Name == ask.Name || tool.Exposed == ask.Name {
				types = typesOf(tool.Schema)
			}
		}
	}
	out := map[string]any{}
	for _, word := range t.rest {
		name, value, ok := strings.Cut(word, "=")
		if !ok || name == "" {
			return nil, &usageError{fmt.Sprintf("%q is not like NAME=VALUE", word), "as in: -- sailing=SF203 passengers=2"}
		}
		v, err := typedValue(types[name], value)
		if err != nil {
			return nil, &usageError{
				fmt.Sprintf("the argument %s %v", name, err),
				"bouncer server tools " + ask.Server + " shows what it takes",
			}
		}
		out[name] = v
	}
	raw, err := json.Marshal(out)
	if err != nil {
		return nil, fmt.Errorf("write the arguments: %w", err)
	}
	return raw, nil
}

// typesOf are the types of the properties of a tool's input.
func typesOf(schema any) map[string]string {
	raw, err := json.Marshal(schema)
	if err != nil {
		return nil
	}
	var m struct {
		Input struct {
			Properties map[string]struct {
				Type any `json:"type"`
			} `json:"properties"`
		} `json:"inputSchema"`
	}
	out := map[string]string{}
	if json.Unmarshal(raw, &m) != nil {
		return out
	}
	for name, p := range m.Input.Properties {
		out[name], _ = p.Type.(string)
	}
	return out
}

func typedValue(kind, text string) (any, error) {
	switch kind {
	case "integer":
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("must be a whole number, and %q is none", text)
		}
		return n, nil
	case "number":
		n, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return nil, fmt.Errorf("must be a number, and %q is none", text)
		}
		return n, nil
	case "boolean":
		v, err := strconv.ParseBool(text)
		if err != nil {
			return nil, fmt.Errorf("must be true or false, and %q is neither", text)
		}
		return v, nil
	case "array", "object":
		if !json.Valid([]byte(text)) {
			return nil, fmt.Errorf("must be JSON, and %q is none", text)
		}
		return json.RawMessage(text), nil
	}
	return text, nil
}

// showTried shows what came of it.
func (t view) showTried(out apitype.Tried, save string) error {
	if out.Unfit != "" {
		fmt.Fprintf(t.Out, "the arguments do not fit the schema: %s\n", out.Unfit)
	}
	for _, e := range out.Events {
		fmt.Fprintf(t.Out, "%8.1f ms  %s %s\n", e.MS, e.Method, clip(string(e.Params), 140))
	}
	switch {
	case out.Error != "":
		fmt.Fprintf(t.Out, "%8.1f ms  error", out.MS)
		if out.Code != 0 {
			fmt.Fprintf(t.Out, " %d", out.Code)
		}
		fmt.Fprintf(t.Out, ": %s\n", out.Error)
	case out.Asks != nil:
		fmt.Fprintf(t.Out, "%8.1f ms  the server asks something first:\n%s\n", out.MS, prettyJSON(out.Asks))
		fmt.Fprintf(t.Out, "answer with: %s --answers '%s' --state '%s'\n", out.Command, strings.ReplaceAll(string(out.Draft), "'", `'\''`),
			out.State)
	default:
		word := "result"
		if !out.OK {
			word = "the tool reports an error"
		}
		fmt.Fprintf(t.Out, "%8.1f ms  %s\n", out.MS, word)
		if err := t.showResult(out.Result, save); err != nil {
			return err
		}
	}
	if out.Output != "" {
		fmt.Fprintf(t.Out, "the result does not fit the output schema: %s\n", out.Output)
	}
	return nil
}

func prettyJSON(raw json.RawMessage) string {
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return string(raw)
	}
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return string(raw)
	}
	return string(text)
}

// showResult shows the parts of a result as what they are.
func (t view) showResult(raw json.RawMessage, save string) error {
	var r struct {
		Content []struct {
			Type, Text, MIMEType, URI, Name string
			Data                            []byte
			Resource                        json.RawMessage
		} `json:"content"`
		Structured json.RawMessage `json:"structuredContent"`
	}
	readable := json.Unmarshal(raw, &r) == nil
	if !readable || len(r.Content) == 0 && r.Structured == nil {
		fmt.Fprintln(t.Out, prettyJSON(raw))
		return nil
	}
	for i, c := range r.Content {
		switch {
		case c.Type == "text":
			fmt.Fprintln(t.Out, c.Text)
		case len(c.Data) > 0 && save != "":
			_, kind, _ := strings.Cut(c.MIMEType, "/")
			path := filepath.Join(save, fmt.Sprintf("part-%d.%s", i+1, filepath.Base("x." + kind)[2:]))
			if err := os.WriteFile(path, c.Data, 0o600); err != nil {
				return fmt.Errorf("write a part of the result: %w", err)
			}
			fmt.Fprintf(t.Out, "[%s, %s, %d bytes: %s]\n", c.Type, c.MIMEType, len(c.Data), path)
		case len(c.Data) > 0:
			fmt.Fprintf(t.Out, "[%s, %s, %d bytes; --save DIRECTORY writes it]\n", c.Type, c.MIMEType, len(c.Data))
		case c.URI != "":
			fmt.Fprintf(t.Out, "[link %s %s]\n", c.Name, c.URI)
		default:
			fmt.Fprintf(t.Out, "[%s] %s\n", c.Type, prettyJSON(c.Resource))
		}
	}
	if r.Structured != nil {
		fmt.Fprintf(t.Out, "structured:\n%s\n", prettyJSON(r.Structured))
	}
	return nil
}

package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
)

// alteration are the flags of an update: what is given anew, and what is added to or
// taken from a list.
type alteration struct {
	url, secret, dir, secretEnv, transport string
	take, yes                              bool
	env, dropEnv, dropHeaders, dropSecrets []string
	dropOperations, dropRanges             []string
	more                                   options
	given                                  tokenInput
	rest                                   restInput
}

func serverUpdateCommand() command {
	var a alteration
	return command{
		noun: "server", verb: "update", args: "NAME", rest: "COMMAND ARGUMENTS...", short: "Alter anything about a server",
		long: `The server is reached that way first; what does not work is not stored. What is
given several times (--env, --header, --also, --operation, --tool-limit) is added to
what there is, or takes the place of the one of that name; --drop-… takes one away.
After -- stands another command with all its arguments.`,
		example: "bouncer server update sailings --token < token.txt\n" +
			"bouncer server update berths --env LOG=debug --drop-env TRACE --call-time 90s\n" +
			"bouncer server update berths -- /opt/skerrow/berths-2 --verbose",
		flags: a.define,
		run:   func(ctx context.Context, t *task) error { return a.run(ctx, t) },
	}
}

func (a *alteration) define(f *flag.FlagSet) {
	several := func(name, usage string, to *[]string) {
		f.Func(name, usage+"; may be given several times", func(v string) error {
			*to = append(*to, v)
			return nil
		})
	}
	f.StringVar(&a.url, "url", "", "new `address` of the MCP endpoint")
	f.StringVar(&a.transport, "transport", "", "streamable-http or sse (`name`)")
	f.StringVar(&a.secret, "secret", "", "`name` of another stored secret to give to it")
	f.StringVar(&a.dir, "dir", "", "another working `directory` of a command")
	f.StringVar(&a.secretEnv, "secret-env", "", "another `variable` that carries the secret")
	several("env", "`NAME=value` that a command gets", &a.env)
	several("drop-env", "`NAME` of a variable that it no longer gets", &a.dropEnv)
	several("drop-header", "`name` of a header that is no longer sent", &a.dropHeaders)
	several("drop-also", "`name` of a further secret that is no longer given", &a.dropSecrets)
	several("drop-operation", "`ID` of an operation that is no longer a tool", &a.dropOperations)
	several("drop-private-range", "`range` in which its authorization server may no longer be", &a.dropRanges)
	f.BoolVar(&a.take, "take-issuer", false, "keep to the authorization server that it names now, though it is another one than before")
	f.BoolVar(&a.yes, "yes", false, "do not ask when something is dropped")
	a.rest.define(f)
	a.more.define(f)
	a.given.define(f)
}

func (a *alteration) run(ctx context.Context, t *task) error {
	var now apitype.ServerInfo
	if err := t.client.Get(ctx, "/api/servers/"+seg(t.args[0]), &now); err != nil {
		return err
	}
	in, err := a.patch(t, now.Server)
	if err != nil {
		return err
	}
	if reflect.DeepEqual(in, serverspec.ServerPatch{}) {
		return &usageError{"nothing is to be altered", "bouncer server update -h shows what can be"}
	}
	for _, line := range dropped(now.Server, in) {
		fmt.Fprintln(t.Err, line)
	}
	if len(dropped(now.Server, in)) > 0 && !a.yes {
		if !t.Terminal() {
			return &usageError{
				"nothing was altered, since something would be dropped and nobody can be asked here", "look at the list, and add --yes",
			}
		}
		answer, err := t.line("Alter it? (y/n)")
		if err != nil || !strings.HasPrefix(strings.ToLower(answer), "y") {
			return &failure{exitFailure, "nothing was altered", ""}
		}
	}
	in.Anyway, in.Plain = a.given.anyway, a.given.plain
	in.Version = &now.Version
	return t.reach(ctx, http.MethodPatch, "/api/servers/"+seg(t.args[0]), in, "updated")
}

// patch turns the flags into what is to be altered.
func (a *alteration) patch(t *task, now team.Server) (serverspec.ServerPatch, error) {
	in := serverspec.ServerPatch{TakeIssuer: a.take, SignIn: a.more.signIn()}
	take(t, "url", &in.URL, &a.url)
	take(t, "transport", &in.Transport, &a.transport)
	take(t, "secret", &in.Secret, &a.secret)
	take(t, "dir", &in.Dir, &a.dir)
	take(t, "secret-env", &in.SecretEnv, &a.secretEnv)
	take(t, "secret-header", &in.SecretHeader, &a.more.header)
	take(t, "secret-query", &in.SecretQuery, &a.more.query)
	take(t, "client-key", &in.ClientKey, &a.more.key)
	take(t, "sharing", &in.Sharing, &a.rest.sharing)
	take(t, "per", &in.Per, &a.more.per)
	take(t, "memory", &in.MemoryMiB, &a.more.memory)
	take(t, "open-files", &in.OpenFiles, &a.more.files)
	take(t, "processes", &in.Processes, &a.more.processes)
	take(t, "result-limit", &in.ResultKiB, &a.more.result)
	take(t, "too-large", &in.TooLarge, &a.more.tooLarge)
	take(t, "message-limit", &in.MessageMiB, &a.more.message)
	start := int(a.more.start.Seconds())
	take(t, "start-time", &in.StartSeconds, &start)
	take(t, "placement", &in.Placement, &a.more.placement)
	seconds := int(a.more.time.Seconds())
	take(t, "call-time", &in.CallSeconds, &seconds)
	if len(t.rest) > 0 {
		args := slices.Clone(t.rest[1:])
		in.Command, in.Args = &t.rest[0], &args
	}
	variable := func(e string) string { name, _, _ := strings.Cut(e, "="); return name }
	header := func(h string) string {
		name, _, _ := strings.Cut(h, ":")
		return strings.ToLower(strings.TrimSpace(name))
	}
	itself := func(s string) string { return s }
	in.Env = merge(now.Env, a.env, a.dropEnv, variable, itself)
	in.Headers = merge(now.Headers, a.more.headers, a.dropHeaders, header, strings.ToLower)
	in.Places = merge(now.Places, a.more.places, a.dropSecrets, func(p team.Place) string { return p.How + ":" + p.Name },
		func(v string) string { return placeOf(now.Places, v) })
	in.Operations = merge(now.Operations, picks(a.rest.operations), a.dropOperations, func(o team.Operation) string { return o.ID }, itself)
	in.PrivateRanges = merge(now.PrivateRanges, a.more.inside, a.dropRanges, itself, itself)
	in.ToolLimits = merge(now.ToolLimits, a.more.tools, nil, func(l team.ToolLimits) string { return l.Tool }, itself)
	return in, a.files(t, &in)
}

// files reads what is given as a file or from standard input.
func (a *alteration) files(t *task, in *serverspec.ServerPatch) error {
	for _, file := range []struct {
		name, path string
		to         **string
	}{{"ca", a.more.ca, &in.CA}, {"client-cert", a.more.cert, &in.ClientCert}} {
		if !t.given[file.name] {
			continue
		}
		text := ""
		if file.path != "" {
			var err error
			if text, err = t.file(file.path); err != nil {
				return err
			}
		}
		*file.to = &text
	}
	if a.rest.document != "" {
		text, elsewhere, err := t.document(a.rest.document)
		if err != nil {
			return err
		}
		if elsewhere != "" {
			in.DocumentURL = &elsewhere
		} else {
			in.Document = &text
		}
	}
	if a.given.token {
		v, err := t.secret("New token for " + t.args[0])
		if err != nil {
			return err
		}
		in.Token = &v
	}
	return nil
}

// take hands on a flag that was given.
func take[T any](t *task, flagName string, to **T, from *T) {
	if t.given[flagName] {
		*to = from
	}
}

// merge adds entries to a list, or puts them in the place of those of the same name, and
// takes others out; nil when nothing is to be altered.
func merge[T any](have, add []T, drop []string, name func(T) string, dropped func(string) string) *[]T {
	if len(add)+len(drop) == 0 {
		return nil
	}
	out := []T{}
	for _, h := range have {
		gone := slices.ContainsFunc(drop, func(d string) bool { return dropped(d) == name(h) })
		if !gone && !slices.ContainsFunc(add, func(a T) bool { return name(a) == name(h) }) {
			out = append(out, h)
		}
	}
	out = append(out, add...)
	return &out
}

// placeOf is the place that is meant by the name of its secret, of its header or its
// variable.
func placeOf(places []team.Place, v string) string {
	for _, p := range places {
		if p.Secret == v || p.Name == v || p.How+":"+p.Name == v {
			return p.How + ":" + p.Name
		}
	}
	return v
}

// dropped lists what an alteration takes away.
func dropped(now team.Server, in serverspec.ServerPatch) (lines []string) {
	gone := func(what string, before []string, after *[]string) {
		if after == nil {
			return
		}
		for _, b := range before {
			if !slices.Contains(*after, b) {
				lines = append(lines, "drops "+what+" "+b)
			}
		}
	}
	names := func(list []string, sep string) (out []string) {
		for _, x := range list {
			name, _, _ := strings.Cut(x, sep)
			out = append(out, name)
		}
		return out
	}
	if in.Env != nil {
		after := names(*in.Env, "=")
		gone("variable", names(now.Env, "="), &after)
	}
	if in.Headers != nil {
		after := names(*in.Headers, ":")
		gone("header", names(now.Headers, ":"), &after)
	}
	if in.Operations != nil {
		var before, after []string
		for _, o := range now.Operations {
			before = append(before, o.ID)
		}
		for _, o := range *in.Operations {
			after = append(after, o.ID)
		}
		gone("operation", before, &after)
	}
	after := now
	if in.URL != nil {
		after.URL = *in.URL
	}
	if in.Command != nil {
		after.Command, after.Args = *in.Command, *in.Args
	}
	if serverspec.Elsewhere(now, after) && now.Per != "" && now.Per != team.PerTeam {
		lines = append(lines, "drops what people and agents gave of their own: it is not given to another address or program")
	}
	return lines
}

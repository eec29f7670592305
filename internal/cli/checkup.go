package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/report"

	"golang.org/x/sync/errgroup"

	"bouncer/internal/apitype"
	"bouncer/internal/client"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/span"
	"bouncer/internal/diagnose/checkup"
)

// Exit codes of a checkup.
const (
	exitFindings   = 1
	exitCouldNot   = 2
	checkupsAtOnce = 24
)

// checkupInput is what is said of what is to be looked at.
type checkupInput struct {
	all, here, apply, token bool
	as, url, command, dir   string
	secretEnv, transport    string
	env, files              []string
	patience                time.Duration
	tool, arguments         string
	example                 string
	times                   int
	clientSecret, refresh   string
	header, ca              string
	headers                 []string
	clientID, scope, issuer string
	machine                 bool
}

func (in *checkupInput) define(f *flag.FlagSet) {
	f.BoolVar(&in.all, "all", false, "look at every registered server, many at a time")
	f.BoolVar(&in.here, "here", false, "look from this machine, and not from where the service runs")
	f.BoolVar(&in.apply, "apply", false, "apply what helps, where that is safe, and look again")
	f.StringVar(&in.as, "as", "", "with the credential that this `agent` has for it")
	f.StringVar(&in.url, "url", "", "`address` of a server that is not registered")
	f.StringVar(&in.command, "command", "", "`program` of a server that is not registered; its arguments follow after --")
	f.StringVar(&in.dir, "dir", "", "working `directory` of a command")
	f.StringVar(&in.secretEnv, "secret-env", "", "`variable` of a command that carries the token")
	f.StringVar(&in.transport, "transport", "", "streamable-http or sse, where it is not to be found out (`name`)")
	f.BoolVar(&in.token, "token", false, "give it a bearer token, read from a prompt or from standard input")
	list := func(name, usage string, to *[]string) {
		f.Func(name, usage, func(v string) error { *to = append(*to, v); return nil })
	}
	list("env", "`NAME=value` that a command gets; may be given several times", &in.env)
	list("header", "`Name: value` that is sent with every request; may be given several times", &in.headers)
	list(
		"header-file",
		"`Name: FILE`, a header whose value is read from a file, or from standard input for -; may be given several times",
		&in.files,
	)
	f.StringVar(
		&in.header,
		"secret-header",
		"",
		"header (`name`) that carries the token as it is; without it, it is sent as a bearer token",
	)
	f.StringVar(&in.ca, "ca", "", "`file` with certificate authorities (PEM) to trust for it")
	f.StringVar(&in.clientID, "client-id", "", "`id` of an OAuth client that is tried")
	f.StringVar(&in.clientSecret, "client-secret-file", "", "`file` with the secret of that client; - for standard input")
	f.StringVar(&in.refresh, "refresh-token-file", "", "`file` with a refresh token of that client; it is used once; - for standard input")
	f.StringVar(&in.scope, "scope", "", "`scopes` that the client asks for")
	f.StringVar(&in.issuer, "issuer", "", "`address` of the authorization server, where the server names none")
	f.BoolVar(&in.machine, "machine", false, "the client gets tokens with its own credentials")
	f.Var(span.Value{To: &in.patience}, "patience", "how `long` each answer is waited for; 15s if left out, and 30s for a process to start")
	f.StringVar(&in.tool, "call", "", "`tool` that is called at the end; without it, none is")
	f.StringVar(&in.arguments, "arguments", "", "its arguments, as `JSON`")
	f.StringVar(&in.example, "example", "", "make the call that is kept as this `example` of the server, at the end")
	f.IntVar(&in.times, "times", 1, "how `often` it is called")
}

func checkupCommands() []command {
	var in checkupInput
	return []command{{
		noun: "checkup", args: "[SERVER...]", rest: "ARGUMENTS...",
		short: "Find out why a server does not work, or that it does",
		long: `It goes all the way to the server, step by step, with requests of its own, and
names the cause, what proves it, who has to act and what helps. Nothing is called
unless --call says so, and nothing is kept.
A server that is not registered is described by --url, or by --command and its
arguments after --. With --here it is looked at from this machine, without the
service; that also happens when there is no service to ask.
Exit codes: 0 healthy, 1 something was found, 2 it could not be looked at.`,
		example: "bouncer checkup sailings\nbouncer checkup --all\nbouncer checkup sailings --as marit-quill\n" +
			"bouncer checkup --url https://berths.harbour.example/mcp --token < token.txt\n" +
			"bouncer checkup --command /opt/skerrow/berths -- --stdio",
		flags: in.define,
		run:   func(ctx context.Context, t *task) error { return checkupRun{t, &in}.checkup(ctx) },
	}}
}

// checkupRun is one run of the command, with what it was given.
type checkupRun struct {
	*task
	in *checkupInput
}

// checkup looks at what was asked for. Whatever keeps it from looking exits with 2.
func (t checkupRun) checkup(ctx context.Context) error {
	asks, err := t.checkupAsks(ctx)
	if err != nil {
		return couldNot(err)
	}
	reports, err := t.lookAtAll(ctx, asks)
	if err != nil {
		return couldNot(err)
	}
	return t.showReports(reports)
}

// couldNot is an error that kept a checkup from being made.
func couldNot(err error) error {
	_, hint := outcome(err)
	return &failure{exitCouldNot, err.Error(), hint}
}

// checkupAsks are the targets that the command line names.
func (t checkupRun) checkupAsks(ctx context.Context) ([]apitype.CheckupAsk, error) {
	described := t.in.url != "" || t.in.command != "" || len(t.rest) > 0
	switch n := len(t.args); {
	case t.in.all && (n > 0 || described):
		return nil, &usageError{"--all looks at every registered server, and something else is named", "leave --all out, or the rest"}
	case described && n > 0:
		return nil, &usageError{"a registered server and a described one are named", "give the name, or --url or --command"}
	case !t.in.all && !described && n == 0:
		return nil, &usageError{"checkup needs the name of a server, --all, --url or --command", "as in: bouncer checkup sailings"}
	case t.in.here && !described:
		return nil, &usageError{
			"--here looks without the service, which alone knows what is registered",
			"describe the server with --url or --command",
		}
	case t.in.apply && described:
		return nil, &usageError{"--apply alters what is registered, and this is not", "leave --apply out"}
	}
	if t.in.example != "" && (described || t.in.all || t.in.tool != "") {
		return nil, &usageError{
			"--example is a call that is kept of one registered server", "as in: bouncer checkup sailings --example morning",
		}
	}
	base := apitype.CheckupAsk{As: t.in.as, PatienceSeconds: int((t.in.patience + time.Second - 1).Seconds())}
	if t.in.tool != "" {
		if t.in.arguments != "" && !json.Valid([]byte(t.in.arguments)) {
			return nil, &usageError{"--arguments is no JSON", `as in: --arguments '{"quay":"north"}'`}
		}
		base.Call = &apitype.CheckupCall{Tool: t.in.tool, Arguments: json.RawMessage(t.in.arguments), Times: t.in.times}
	}
	if t.in.example != "" {
		base.Call = &apitype.CheckupCall{Example: t.in.example, Times: t.in.times}
	}
	if described {
		target, err := t.described()
		if err != nil {
			return nil, err
		}
		base.Target, base.Client = target, t.in.client()
		if err := t.clientFiles(base.Client); err != nil {
			return nil, err
		}
		return []apitype.CheckupAsk{base}, nil
	}
	names := t.args
	if t.in.all {
		var list []apitype.ServerInfo
		if err := t.client.Get(ctx, "/api/servers", &list); err != nil {
			return nil, err
		}
		for _, s := range list {
			if !s.Paused {
				names = append(names, s.Name)
			}
		}
	}
	var asks []apitype.CheckupAsk
	for _, name := range names {
		one := base
		one.Server = name
		asks = append(asks, one)
	}
	return asks, nil
}

func (in *checkupInput) client() *apitype.CheckupClient {
	if in.clientID == "" && in.refresh == "" {
		return nil
	}
	return &apitype.CheckupClient{ID: in.clientID, Scope: in.scope, Issuer: in.issuer, Machine: in.machine}
}

// clientFiles reads what of a client is secret.
func (t checkupRun) clientFiles(c *apitype.CheckupClient) (err error) {
	if c == nil {
		if t.in.clientSecret != "" {
			return &usageError{"the secret of a client is given without the client", "add --client-id ID"}
		}
		return nil
	}
	if c.Secret, err = t.trimmed(t.in.clientSecret); err != nil {
		return err
	}
	c.RefreshToken, err = t.trimmed(t.in.refresh)
	return err
}

// trimmed is the text of a file without blanks around it; "" for no file.
func (t checkupRun) trimmed(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	text, err := t.file(path)
	return strings.TrimSpace(text), err
}

// described is the target that flags describe.
func (t checkupRun) described() (*serverspec.Registration, error) {
	r := &serverspec.Registration{
		Name: "target", URL: t.in.url, Command: t.in.command, Args: t.rest, Dir: t.in.dir, Env: t.in.env,
		SecretEnv: t.in.secretEnv, Transport: t.in.transport,
	}
	if t.in.url != "" && t.in.command == "" && len(t.rest) > 0 {
		return nil, &usageError{"an address and a command exclude each other", "give --url, or --command"}
	}
	if t.in.url == "" && t.in.command == "" {
		r.Command, r.Args = t.rest[0], t.rest[1:]
	}
	r.Headers, r.SecretHeader = t.in.headers, t.in.header
	for _, h := range t.in.files {
		name, path, ok := strings.Cut(h, ":")
		if !ok {
			return nil, &usageError{"--header-file is not like Name: FILE", "as in: --header-file 'X-Api-Key: key.txt'"}
		}
		text, err := t.file(strings.TrimSpace(path))
		if err != nil {
			return nil, err
		}
		r.Headers = append(r.Headers, name+": "+strings.TrimRight(text, "\r\n"))
	}
	if t.in.ca != "" {
		text, err := t.file(t.in.ca)
		if err != nil {
			return nil, err
		}
		r.CA = text
	}
	if t.in.token {
		token, err := t.secret("Token")
		if err != nil {
			return nil, err
		}
		r.Token = token
	}
	return r, nil
}

// lookAtAll has all targets looked at, many at a time.
func (t checkupRun) lookAtAll(ctx context.Context, asks []apitype.CheckupAsk) ([]report.Report, error) {
	reports := make([]report.Report, len(asks))
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(checkupsAtOnce)
	for i := range asks {
		group.Go(func() (err error) {
			reports[i], err = t.lookAtOne(gctx, asks[i], len(asks) == 1)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return reports, nil
}

// lookAtOne has one target looked at, and again when something was applied.
func (t checkupRun) lookAtOne(ctx context.Context, ask apitype.CheckupAsk, alone bool) (r report.Report, err error) {
	if ask.Target != nil && (t.in.here || !t.client.SignedIn()) {
		return t.lookHere(ctx, ask, alone)
	}
	r, err = t.lookThere(ctx, ask, alone)
	var unreachable *client.UnreachableError
	if ask.Target != nil && errors.As(err, &unreachable) {
		return t.lookHere(ctx, ask, alone)
	}
	if err != nil || !t.in.apply || len(r.Findings) == 0 {
		return r, err
	}
	fix := r.Findings[0].Fix
	if fix == nil {
		fmt.Fprintf(t.Err, "%s: there is nothing that can be applied by itself\n", ask.Server)
		return r, nil
	}
	var after apitype.ServerInfo
	patch := map[string]any{fix.Field: fix.Value}
	if n, err := strconv.Atoi(fix.Value); err == nil && fix.Field == "startSeconds" {
		patch[fix.Field] = n
	}
	if err := t.client.Do(ctx, http.MethodPatch, "/api/servers/"+seg(ask.Server), patch, &after); err != nil {
		return r, fmt.Errorf("apply %s: %w", fix.Field, err)
	}
	fmt.Fprintf(t.Err, "%s: %s is now %s\n", ask.Server, fix.Field, fix.Value)
	return t.lookThere(ctx, ask, alone)
}

// lookThere looks from where the service runs, and tells meanwhile what is being done.
func (t checkupRun) lookThere(ctx context.Context, ask apitype.CheckupAsk, alone bool) (r report.Report, err error) {
	var word [12]byte
	_, _ = rand.Read(word[:]) // never fails
	ask.Watch = hex.EncodeToString(word[:])
	wctx, stop := context.WithCancel(ctx)
	var told sync.WaitGroup
	if alone && !t.json {
		told.Go(func() { t.tellCheckup(wctx, ask.Watch) })
	}
	err = t.client.Do(ctx, http.MethodPost, "/api/checkups", ask, &r)
	stop()
	told.Wait()
	return r, err
}

func (t checkupRun) tellCheckup(ctx context.Context, watch string) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	last := ""
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		var now apitype.Progress
		if t.client.Get(ctx, "/api/checkups/"+watch, &now) != nil || !now.Busy {
			continue // the report says what there is to say
		}
		if words := now.Stage + ": " + now.Words; words != last {
			fmt.Fprintln(t.Err, words)
			last = words
		}
	}
}

// lookHere looks from this machine.
func (t checkupRun) lookHere(ctx context.Context, ask apitype.CheckupAsk, alone bool) (report.Report, error) {
	if !t.in.here {
		fmt.Fprintln(t.Err, "there is no service to ask, so it is looked at from this machine")
	}
	target, err := checkup.Describe(*ask.Target)
	if err != nil {
		return report.Report{}, err
	}
	if c := ask.Client; c != nil {
		target.Client = &checkup.Client{
			ID: c.ID, Secret: c.Secret, RefreshToken: c.RefreshToken, Scope: c.Scope, Issuer: c.Issuer, Machine: c.Machine,
			Redirect: "http://127.0.0.1:4600" + apitype.CallbackPath,
		}
	}
	if c := ask.Call; c != nil {
		target.Call = &checkup.Call{Tool: c.Tool, Arguments: c.Arguments, Times: c.Times}
	}
	o := checkup.Options{Patience: time.Duration(ask.PatienceSeconds) * time.Second}
	last := time.Now()
	if alone && !t.json {
		o.Progress = func(stage, what string) {
			if time.Since(last) > lookEvery { // what is quick needs no words
				fmt.Fprintln(t.Err, stage+": "+what)
			}
			last = time.Now()
		}
	}
	return checkup.Run(ctx, target, o)
}

// showReports shows what was found: one report in full, several as a table.
func (t checkupRun) showReports(reports []report.Report) error {
	found := 0
	for _, r := range reports {
		if !r.Healthy {
			found++
		}
	}
	switch {
	case t.json && len(reports) == 1 && !t.in.all:
		if err := t.writeJSON(reports[0]); err != nil {
			return err
		}
	case t.json:
		if err := t.writeJSON(reports); err != nil {
			return err
		}
	case len(reports) == 1:
		t.showReport(reports[0])
	default:
		if err := t.tabulate(reports); err != nil {
			return err
		}
	}
	if found > 0 {
		return &failure{exitFindings, "", ""}
	}
	return nil
}

func (t checkupRun) tabulate(reports []report.Report) error {
	if len(reports) == 0 {
		return t.done("no servers yet; register one with: bouncer server register NAME --url URL")
	}
	var rows [][]string
	for _, r := range reports {
		if r.Healthy {
			rows = append(rows, []string{r.Target, "healthy", "", "", fmt.Sprintf("%d tools, %d ms", r.Tools, r.MS)})
			continue
		}
		for i, f := range r.Findings {
			name := r.Target
			if i > 0 {
				name = ""
			}
			rows = append(rows, []string{name, string(f.Cause), string(f.Who), clip(f.Title, 80), f.Remedy})
		}
	}
	return t.table([]string{"SERVER", "FINDING", "WHO", "WHAT", "REMEDY"}, rows)
}

// marks are how outcomes of stages are shown.
var marks = map[string]string{report.OutcomeOK: "ok", report.OutcomeFailed: "FAILED", report.OutcomeSkipped: "-"}

// showReport shows one report.
func (t checkupRun) showReport(r report.Report) {
	for _, s := range r.Stages {
		if s.Outcome == report.OutcomeSkipped {
			continue
		}
		fmt.Fprintf(t.Out, "  %-14s %-7s %6d ms  %s\n", s.Name, marks[s.Outcome], s.MS, clip(strings.Join(s.Facts, "; "), 110))
	}
	fmt.Fprintln(t.Out)
	if r.Healthy {
		fmt.Fprintf(t.Out, "%s is healthy: %d tools, revision %s", r.Target, r.Tools, r.Revision)
		if about := strings.TrimSpace(r.Name + " " + r.Version); about != "" {
			fmt.Fprintf(t.Out, ", %s", about)
		}
		fmt.Fprintf(t.Out, " (%d ms)\n", r.MS)
		return
	}
	for i, f := range r.Findings {
		if i > 0 {
			fmt.Fprintln(t.Out)
		}
		fmt.Fprintf(t.Out, "%s\n  %s\n", f.Cause, f.Title)
		for _, fact := range f.Evidence {
			fmt.Fprintf(t.Out, "  seen     %s\n", fact)
		}
		for _, symptom := range f.Follows {
			fmt.Fprintf(t.Out, "  follows  %s\n", symptom)
		}
		fmt.Fprintf(t.Out, "  who      %s\n  remedy   %s\n", f.Who, f.Remedy)
		if f.Fix != nil && !strings.Contains(r.Target, "/") {
			fmt.Fprintf(t.Out, "  apply    bouncer checkup %s --apply (%s)\n", r.Target, f.Fix.Means)
		}
	}
}

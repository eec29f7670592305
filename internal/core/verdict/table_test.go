package verdict

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/report"
)

var errBroken = errors.New("unexpected EOF")

// one is the only finding about what was observed.
func one(t *testing.T, name string, e *evidence.Evidence) report.Found {
	t.Helper()
	e.At = time.Now()
	found := Judge(e)
	require.Len(t, found, 1, name)
	assert.NotEmpty(t, found[0].Title, name)
	assert.NotEmpty(t, found[0].Remedy, name)
	assert.NotEmpty(t, found[0].Evidence, name)
	return found[0]
}

// A process is judged by what can be known before it starts, how it ended, and what it
// wrote: each fact by itself decides, and the more hindering one wins.
func TestProcesses(t *testing.T) {
	t.Parallel()
	target := evidence.Target{
		Server: "berths", Transport: "stdio", Command: "/opt/skerrow/berths", Args: []string{"--stdio"}, Dir: "/srv", Patience: 5 * time.Second,
	}
	ended := func(code int, stderr string) evidence.Process {
		return evidence.Process{Started: true, Exited: true, Code: code, Stderr: stderr, Took: 40 * time.Millisecond, Path: "/opt/skerrow/berths"}
	}
	running := func(alter func(*evidence.Process)) evidence.Process {
		p := evidence.Process{Started: true, Took: 5 * time.Second, Path: "/opt/skerrow/berths"}
		alter(&p)
		return p
	}
	signalled := ended(0, "")
	signalled.Signal = "segmentation fault"
	for name, row := range map[string]struct {
		p      evidence.Process
		want   diagnosis.Cause
		remedy string
	}{
		"nothing of that name":   {evidence.Process{NotFound: true}, diagnosis.CommandNotFound, "bouncer server update berths"},
		"no directory":           {evidence.Process{DirMissing: true, NotFound: true}, diagnosis.DirMissing, "--dir"},
		"may not be executed":    {evidence.Process{Path: "/opt/skerrow/berths", Denied: true}, diagnosis.NotExecutable, "chmod"},
		"a directory":            {evidence.Process{Path: "/opt/skerrow/berths", IsDir: true}, diagnosis.NotExecutable, "/ABSOLUTE/PATH"},
		"no interpreter":         {evidence.Process{Path: "/opt/skerrow/berths", InterpreterMissing: "/usr/bin/python3.9"}, diagnosis.InterpreterGone, "first line"},
		"a line in the command":  {evidence.Process{NotFound: true, WholeLine: true, Program: "/opt/skerrow/berths"}, diagnosis.LineInCommand, "/opt/skerrow/berths"},
		"ends with a code":       {ended(3, "the tide is out"), diagnosis.ExitsAtOnce, "by hand"},
		"ends well, saying none": {ended(0, ""), diagnosis.ExitsAtOnce, "by hand"},
		"by a signal":            {signalled, diagnosis.Killed, "log"},
		"wants a key":            {ended(1, "Error: BERTHS_KEY is not set"), diagnosis.SettingMissing, "BERTHS_KEY"},
		"lacks a module":         {ended(1, "ModuleNotFoundError: No module named 'harbour'"), diagnosis.ModuleMissing, "harbour"},
		"finds its port taken":   {ended(1, "OSError: [Errno 98] Address already in use"), diagnosis.PortTaken, ""},
		"listens instead":        {running(func(p *evidence.Process) { p.Ports = []int{4801} }), diagnosis.ServesAPort, "4801"},
		"waits for somebody":     {running(func(p *evidence.Process) { p.Stderr, p.Terminal = "Enter your API key: ", true }), diagnosis.WaitsForInput, ""},
		"computes on":            {running(func(p *evidence.Process) { p.CPU, p.Running = 4*time.Second, true }), diagnosis.StartsSlowly, "--start-time"},
		"flushes at the end": {
			running(func(p *evidence.Process) {
				p.EndedAtEOF, p.AfterEOF = true, []byte(`{"jsonrpc":"2.0","id":1,"result":{"protocolVersion":"2025-06-18","capabilities":{}}}`)
			}), diagnosis.NeverFlushes, "",
		},
		"says nothing at all": {running(func(*evidence.Process) {}), diagnosis.NeverAnswers, "by hand"},
	} {
		found := one(t, name, &evidence.Evidence{Target: target, Process: &row.p})
		assert.Equal(t, row.want, found.Cause, name)
		assert.Contains(t, found.Remedy, row.remedy, name)
	}
}

// An answer that opens no conversation is judged by its status, its form and its words.
func TestAnswers(t *testing.T) {
	t.Parallel()
	target := evidence.Target{Server: "berths", URL: "https://berths.harbour.example/mcp", Transport: "streamable-http", Patience: 5 * time.Second}
	for name, row := range map[string]struct {
		status int
		body   string
		header map[string]string
		want   diagnosis.Cause
	}{
		"not there":              {404, "", nil, diagnosis.WrongPath},
		"gone":                   {410, "", nil, diagnosis.WrongPath},
		"no POST":                {405, "", map[string]string{"Allow": "GET"}, diagnosis.MethodRefused},
		"too large":              {413, "", nil, diagnosis.RequestTooLarge},
		"of another kind":        {415, "", nil, diagnosis.MediaRefused},
		"not in this form":       {406, "", nil, diagnosis.NotAcceptable},
		"too many":               {429, "", map[string]string{"Retry-After": "30"}, diagnosis.TooManyRequests},
		"failed":                 {500, "oops", nil, diagnosis.ServerError},
		"a gateway":              {502, "bad gateway", map[string]string{"Server": "edge"}, diagnosis.BadGateway},
		"too late":               {504, "", nil, diagnosis.BadGateway},
		"elsewhere":              {301, "", map[string]string{"Location": "https://other.harbour.example/mcp"}, diagnosis.Redirected},
		"to a login":             {302, "", map[string]string{"Location": "https://id.harbour.example/login?next=/mcp"}, diagnosis.RedirectedToLogin},
		"a page":                 {200, "<!doctype html><html><body>Welcome</body></html>", map[string]string{"Content-Type": "text/html"}, diagnosis.HTMLPage},
		"another JSON":           {200, `{"status":"ok"}`, map[string]string{"Content-Type": "application/json"}, diagnosis.NotJSONRPC},
		"misdirected":            {421, "", nil, diagnosis.HostRefused},
		"a status of no meaning": {451, "", nil, diagnosis.OtherStatus},
	} {
		if row.header == nil {
			row.header = map[string]string{}
		}
		reply := evidence.ReadReply([]byte(row.body), 1)
		reply.Quote = row.body
		x := evidence.Exchange{
			Purpose: evidence.Initialize, Method: "POST", URL: target.URL, Status: row.status, Body: row.body, Header: row.header, Reply: reply,
			Whole: true, Size: len(row.body),
		}
		found := one(t, name, &evidence.Evidence{Target: target, Probes: []evidence.Exchange{x}})
		assert.Equal(t, row.want, found.Cause, name)
	}
}

// What a call shows is told apart: what did not fit, what the tool says, what broke off.
func TestCalls(t *testing.T) {
	t.Parallel()
	target := evidence.Target{Server: "berths", URL: "https://berths.harbour.example/mcp", Transport: "streamable-http", Patience: 5 * time.Second}
	session := evidence.Session{Opened: true, Listed: true, Revision: "2025-06-18", Capabilities: []string{"tools"}}
	for name, row := range map[string]struct {
		call evidence.Call
		want diagnosis.Cause
	}{
		"not listed":      {evidence.Call{NoSuch: true}, diagnosis.NoSuchTool},
		"does not fit":    {evidence.Call{Times: 1, Unfit: "quay is missing", Failed: true, Text: "no"}, diagnosis.ArgumentsRefused},
		"is refused":      {evidence.Call{Times: 1, Error: &evidence.RPCError{Code: -32602, Message: "no"}}, diagnosis.ArgumentsRefused},
		"fails":           {evidence.Call{Times: 1, Failed: true, Text: "the tide gauge is dry"}, diagnosis.ToolError},
		"cannot get in":   {evidence.Call{Times: 1, Failed: true, Text: "upstream said 401 Unauthorized"}, diagnosis.UpstreamEnded},
		"takes too long":  {evidence.Call{Times: 1, Step: evidence.Step{Timeout: true}}, diagnosis.CallTimeout},
		"is too much":     {evidence.Call{Times: 1, Cut: true, Limit: 1 << 20}, diagnosis.ResultTooLarge},
		"breaks off":      {evidence.Call{Times: 1, Step: evidence.Step{Err: errBroken}}, diagnosis.OutcomeUnknown},
		"ends the server": {evidence.Call{Times: 1, Ended: true}, diagnosis.Crashes},
		"breaks a schema": {evidence.Call{Times: 1, Output: "free must be a number"}, diagnosis.OutputBroken},
		"then fails":      {evidence.Call{Times: 4, Good: 3, Failed: true, Text: "no more"}, diagnosis.ThenFails},
	} {
		row.call.Tool = "list_berths"
		s := session
		found := one(t, name, &evidence.Evidence{Target: target, Session: &s, Call: &row.call})
		assert.Equal(t, row.want, found.Cause, name)
		assert.Contains(t, found.Title+found.Evidence[0], "list_berths", name)
	}
	s := session
	assert.Empty(t, Judge(&evidence.Evidence{Target: target, Session: &s, Call: &evidence.Call{Tool: "list_berths", Times: 2, Good: 2}}))
}

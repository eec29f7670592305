package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/app"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/quill"
)

// desk is somebody's command line.
type desk struct {
	t   *testing.T
	w   *testkit.World
	dir string
	env map[string]string
}

func sit(t *testing.T) *desk {
	w := testkit.Start(t, nil)
	d := &desk{t, w, t.TempDir(), map[string]string{}}
	out := d.ok(testkit.Password, "login", "--person", "marit", "--address", w.Base)
	assert.Contains(t, out, "as Marit Aune (admin)")
	return d
}

// run runs a command line with text on standard input, which is no terminal.
func (d *desk) run(ctx context.Context, stdin string, args ...string) (code int, out, errs string) {
	var o, e locked
	env := &Env{
		In:        strings.NewReader(stdin),
		Out:       &o,
		Err:       &e,
		Getenv:    func(k string) string { return d.env[k] },
		Terminal:  func() bool { return false },
		Width:     func() int { return 0 },
		ConfigDir: filepath.Join(d.dir, "config"),
	}
	code = Main(ctx, env, args)
	return code, o.String(), e.String()
}

// locked is a buffer that may be read while a command writes to it.
type locked struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *locked) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func (d *desk) ok(stdin string, args ...string) string {
	d.t.Helper()
	code, out, errs := d.run(d.t.Context(), stdin, args...)
	require.Equal(d.t, 0, code, "bouncer %v: %s", args, errs)
	return out
}

func TestADayAtTheCommandLine(t *testing.T) {
	t.Parallel()
	d := sit(t)
	info, err := os.Stat(filepath.Join(d.dir, "config", "login.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	up := testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken))
	assert.Contains(t, d.ok("", "server", "list"), "no servers yet")
	out := d.ok(ferries.SailingsToken+"\n", "server", "register", "sailings", "--url", up, "--token")
	for _, want := range []string{"sailings is registered and ready", "skerrow-sailings 3.2.0", "2025-11-25", "initialize", " ms  ok"} {
		assert.Contains(t, out, want)
	}
	assert.Regexp(t, `sailings +ready +3 +2025-11-25`, d.ok("", "server", "list"))
	assert.Regexp(t, `cancel_sailing +destructive`, d.ok("", "server", "tools", "sailings"))
	assert.Regexp(t, `sailings-token +bearer +sailings`, d.ok("", "secret", "list"))
	d.ok("", "agent", "add", "marit-quill", "--kind", "quill")
	assert.Contains(t, d.ok("", "agent", "reach", "marit-quill"), "no rule admits it")
	assert.Contains(t, d.ok("", "rule", "add", "admit", "--agent", "marit-*", "--server", "*", "--tool", "find_*"), "is in force")
	assert.Regexp(t, `find_sailings +yes`, d.ok("", "agent", "reach", "--admitted", "marit-quill"))

	config := filepath.Join(d.dir, "quill.json")
	before := "{\n\t// mine\n\t\"theme\": \"harbour\",\n}\n"
	require.NoError(t, os.WriteFile(config, []byte(before), 0o644))
	code, out, errs := d.run(t.Context(), "", "enrol", "marit-quill", "--config", config, "--dry-run")
	assert.Equal(t, 0, code)
	assert.Contains(t, errs, "+\t\"mcpServers\": {")
	assert.Contains(t, out, "dry run")
	assert.Contains(t, d.ok("", "agent", "passes", "marit-quill"), "no passes yet")
	out = d.ok("", "enrol", "marit-quill", "--config", config, "--yes")
	assert.Contains(t, out, "marit-quill is enrolled")
	after, err := os.ReadFile(config)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(after), "{\n\t// mine\n\t\"theme\": \"harbour\",\n\t\"mcpServers\": {"))
	info, err = os.Stat(config)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "a file that holds a pass is for its owner only")
	backups, err := filepath.Glob(config + ".before-bouncer-*")
	require.NoError(t, err)
	require.Len(t, backups, 1)
	kept, err := os.ReadFile(backups[0])
	require.NoError(t, err)
	assert.Equal(t, before, string(kept))

	var said strings.Builder
	failed, err := quill.Run(t.Context(), config, quill.DefaultScript[:2], &said)
	require.NoError(t, err)
	assert.Equal(t, 1, failed)
	assert.Contains(t, said.String(), "done    sailings__find_sailings")
	assert.Contains(t, said.String(), "no rule admits it; ask Marit Aune")
	d.w.Calls(2, "")
	out = d.ok("", "journal", "--agent", "marit-quill")
	assert.Regexp(t, `(?s)TIME.*find_sailings +admit +ok.*sailing_status +refuse +refused`, out)
	var calls []team.Call
	require.NoError(t, json.Unmarshal([]byte(d.ok("", "journal", "--outcome", "ok", "--json")), &calls))
	require.Len(t, calls, 1)
	out = d.ok("", "journal", "show", calls[0].ID)
	assert.Contains(t, out, `{"from":"Skerrow","to":"Holm Voe"}`)
	assert.Contains(t, out, "marit-quill of marit")

	// Enrolling again exchanges the pass; the old one is not shown in the change.
	first, err := quill.Load(config)
	require.NoError(t, err)
	_, _, errs = d.run(t.Context(), "", "enrol", "marit-quill", "--config", config, "--yes")
	assert.Contains(t, errs, "Bearer (secret)")
	assert.NotContains(t, errs, "bnp_")
	require.NoError(t, first[0].Connect(t.Context()), "the old pass is good until it is revoked")
	var passes []team.Pass
	require.NoError(t, json.Unmarshal([]byte(d.ok("", "agent", "passes", "marit-quill", "--json")), &passes))
	require.Len(t, passes, 2)
	d.ok("", "agent", "revoke", "marit-quill", "--pass", passes[1].ID)
	assert.ErrorContains(t, first[0].List(t.Context()), "this pass was revoked")

	d.ok("", "server", "pause", "sailings")
	assert.Contains(t, d.ok("", "server", "list"), "paused")
	d.ok("", "server", "resume", "sailings")
	d.ok("", "agent", "pause", "marit-quill")
	d.ok("", "server", "remove", "sailings")
	d.ok("", "secret", "remove", "sailings-token")
	assert.Regexp(t, `server.remove +sailings`, d.ok("", "change", "list"))
	assert.Contains(t, d.ok("", "person", "add", "joss", "--full-name", "Joss Penhale", "--role", "maintainer"), "one-time password")
	assert.Contains(t, d.ok("", "person", "update", "joss", "--role", "auditor"), "Joss Penhale, auditor")
	assert.Contains(t, d.ok("", "whoami"), "marit (Marit Aune), admin")
	d.ok("", "logout")
	code, _, errs = d.run(t.Context(), "", "server", "list", "--address", d.w.Base)
	assert.Equal(t, exitNotAllowed, code)
	assert.Contains(t, errs, "bouncer login")
}

func TestFollowShowsCallsAsTheyHappen(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	d.w.Rule("admit", "*", "*", "*")
	agent := d.w.Raw("/mcp", d.w.Agent("marit-quill"), "2025-11-25")
	agent.CallTool("echo__echo", "one")
	d.w.Calls(1, "")
	ctx, cancel := context.WithCancel(t.Context())
	var out locked
	done := make(chan int, 1)
	env := &Env{
		In:        strings.NewReader(""),
		Out:       &out,
		Err:       &out,
		Getenv:    func(string) string { return "" },
		Terminal:  func() bool { return false },
		Width:     func() int { return 0 },
		ConfigDir: filepath.Join(d.dir, "config"),
	}
	go func() { done <- Main(ctx, env, []string{"journal", "--follow", "--json", "--outcome", "ok"}) }()
	lines := func() int { return strings.Count(out.String(), "\n") }
	require.Eventually(t, func() bool { return lines() == 1 }, 30*time.Second, 10*time.Millisecond)
	for i := range 5 {
		agent.CallTool("echo__echo", fmt.Sprint(i))
		agent.CallTool("echo__fail", "") // filtered out
	}
	require.Eventually(t, func() bool { return lines() == 6 }, 30*time.Second, 10*time.Millisecond)
	cancel()
	assert.Equal(t, 0, <-done, "an interrupt ends it without an error")
	seen := map[string]bool{}
	for _, line := range strings.Split(strings.TrimSpace(out.String()), "\n") {
		var c team.Call
		require.NoError(t, json.Unmarshal([]byte(line), &c))
		assert.False(t, seen[c.ID], "told twice")
		seen[c.ID] = true
	}
}

func TestErrorsAreOneSentenceAHintAndACode(t *testing.T) {
	t.Parallel()
	d := sit(t)
	up := testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken))
	d.w.Register("sailings", up, ferries.SailingsToken)
	d.w.Agent("marit-quill")
	file := func(name, text string) string {
		path := filepath.Join(d.dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	broken := file("broken.json", "{\n  \"mcpServers\": {\n    \"a\": {}\n    \"b\": {}\n  }\n}")
	fine := file("fine.json", "{}")
	for name, row := range map[string]struct {
		args  string
		stdin string
		code  int
		says  []string
	}{
		"an unknown noun":         {"cargo list", "", exitUsage, []string{`no command "cargo"`, "bouncer -h"}},
		"an unknown verb":         {"server sink", "", exitUsage, []string{`no verb "sink"`, "server -h"}},
		"a misspelt noun":         {"sever list", "", exitUsage, []string{`no command "sever"`, "perhaps bouncer server was meant"}},
		"a misspelt verb":         {"server regsiter x", "", exitUsage, []string{"perhaps bouncer server register was meant"}},
		"a verb that is the noun": {"journal list", "", exitUsage, []string{`no verb "list"`, "by itself", "show"}},
		"a tie to nobody":         {"person tie marit", "", exitUsage, []string{"--subject is missing"}},
		"a tie to no provider":    {"person tie marit --subject x", "", exitFailure, []string{"no identity provider", "--oidc-issuer"}},
		"an unknown agent's name": {"agent confirm nope", "", exitNotFound, []string{`no agent "nope"`, "agent list"}},
		"an unknown flag":         {"server list --colour", "", exitUsage, []string{"server list has no flag --colour", "server list -h"}},
		"a misspelt flag":         {"agent pass marit-quill --lief 1d", "", exitUsage, []string{"no flag --lief", "perhaps --life was meant"}},
		"a wrong life":            {"agent pass marit-quill --life soon", "", exitUsage, []string{"--life", "like 90s, 15m, 12h, 1d or 2w"}},
		"a field by its flag":     {"server update sailings --result-limit -1", "", exitFailure, []string{"--result-limit must be at most"}},
		"a missing name":          {"server show", "", exitUsage, []string{"needs NAME", "bouncer server show sailings"}},
		"a missing URL":           {"server register x", "", exitUsage, []string{"--url is missing"}},
		"a directory for a URL":   {"server register x --dir /tmp --url " + up, "", exitUsage, []string{"belong to a command"}},
		"a command not here": {"server register x -- no-such-command-here --flag", "", exitNoServer, []string{"nothing was registered",
			"is not on the machine where Bouncer runs", "bouncer server register x -- /ABSOLUTE/PATH --flag"}},
		"a secret on the line": {"server register x --url " + up + " --token skf-on-the-line", "", exitUsage,
			[]string{"never from an argument"}},
		"no secret on stdin": {"server register x --url " + up + " --token", "", exitUsage, []string{"standard input is empty"}},
		"a wrong token": {"server register x --url " + up + " --token", "wrong-token", exitNoServer,
			[]string{"nothing was registered", "401", "auth.token-rejected", "--anyway"}},
		"a bad URL":         {"server register x --url ftp://x", "", exitFailure, []string{"url has the scheme"}},
		"a taken name":      {"server register sailings --url " + up, "", exitFailure, []string{"already", "choose another name"}},
		"an unknown server": {"server show nope", "", exitNotFound, []string{`no server "nope"`, "server list"}},
		"an unknown agent":  {"enrol nope --config " + fine + " --yes", "", exitNotFound, []string{`no agent "nope"`, "--create"}},
		"a malformed file": {"enrol marit-quill --config " + broken + " --yes", "", exitFailure, []string{"line 4, column 5",
			"left as it is"}},
		"a directory as file": {"enrol marit-quill --config " + d.dir + " --yes", "", exitFailure, []string{"is no file"}},
		"an unclear file": {"enrol marit-quill --config " + file("other.yaml", "servers:\n") + " --yes", "", exitFailure,
			[]string{"shows no server", "--dialect"}},
		"an unknown dialect": {"enrol marit-quill --config " + fine + " --dialect quil", "", exitNotFound, []string{`no dialect "quil"`,
			"dialect list"}},
		"an unknown way":         {"enrol marit-quill --config " + fine + " --as magic", "", exitUsage, []string{"pass, sign-in or bridge"}},
		"undoing nothing":        {"enrol --undo --config " + fine + " --yes", "", exitNotFound, []string{"was not enrolled", "--check"}},
		"no agent to enrol":      {"enrol --config " + fine, "", exitUsage, []string{"enrol needs AGENT"}},
		"a dialect that is none": {"dialect add " + fine, "", exitFailure, []string{"no dialect that can be used", "dialect show common"}},
		"nothing to learn from":  {"dialect learn " + fine, "", exitFailure, []string{"shows no server", "a command and arguments"}},
		"a dialect not here":     {"dialect show quilt", "", exitNotFound, []string{`no dialect "quilt"`, "perhaps quill was meant"}},
		"a dialect that stays":   {"dialect remove quill", "", exitFailure, []string{"comes along"}},
		"a file in no directory": {"enrol marit-quill --config /nonexistent/x.json --yes", "", exitFailure, []string{"no such file", "path"}},
		"nobody to ask":          {"enrol marit-quill --config " + fine, "", exitUsage, []string{"nobody can be asked", "--yes"}},
		"an unknown effect": {"rule add permit --agent * --server * --tool *", "", exitFailure, []string{"effect",
			"admit, hold or refuse"}},
		"a rule for nobody": {"rule add admit --agent marit-qiull --server sailings --tool *", "", exitFailure,
			[]string{"no agent is called marit-qiull", "perhaps marit-quill was meant", "--anyway"}},
		"a rule not altered": {"rule update desk", "", exitUsage, []string{"nothing is to be altered"}},
		"an unknown rule":    {"rule update desk --note x", "", exitNotFound, []string{`no rule "desk"`, "bouncer rule list"}},
		"a removal unasked": {"agent remove marit-quill", "", exitUsage, []string{"passes: test", "end at once",
			"bouncer agent remove marit-quill --yes"}},
		"two owners": {"agent update marit-quill --owner joss --team", "", exitUsage, []string{"two owners"}},
		"an owner not here": {"agent update marit-quill --owner joss", "", exitNotFound, []string{`no person "joss"`,
			"bouncer person list"}},
		"no service there": {"server list --address http://127.0.0.1:1", "", exitNoService, []string{"cannot be reached",
			"bouncer serve"}},
		"something else there":    {"server list --address " + strings.TrimSuffix(up, "/mcp"), "", exitFailure, []string{"--address"}},
		"an address that is none": {"server list --address localhost", "", exitUsage, []string{"no base URL"}},
		"a wrong password":        {"login --person marit", "not-this-one", exitNotAllowed, []string{"name or the password is wrong"}},
		"login without a name":    {"login", "x", exitUsage, []string{"--person is missing"}},
		"a pass for ever":         {"agent pass marit-quill --life 9999d", "", exitFailure, []string{"--life is 9999d", "366"}},
		"revoking without an id":  {"agent revoke marit-quill", "", exitUsage, []string{"--pass is missing"}},
		"nothing to alter":        {"server update sailings", "", exitUsage, []string{"nothing is to be altered"}},
		"the last admin":          {"person update marit --role member", "", exitFailure, []string{"last admin", "somebody else"}},
	} {
		t.Run(name, func(t *testing.T) {
			code, out, errs := d.run(t.Context(), row.stdin, strings.Fields(row.args)...)
			assert.Equal(t, row.code, code, errs)
			for _, want := range row.says {
				assert.Contains(t, errs, want)
			}
			assert.Contains(t, errs, "bouncer: ")
			assert.NotContains(t, errs, "skf-on-the-line")
			if !strings.HasPrefix(row.args, "server register") && !strings.HasPrefix(name, "another ") {
				assert.Empty(t, out, "errors go to stderr")
			}
		})
	}
	raw, err := os.ReadFile(broken)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "\"a\": {}\n    \"b\"", "the malformed file is untouched")
	left, err := filepath.Glob(d.dir + "/*before-bouncer*")
	require.NoError(t, err)
	assert.Empty(t, left)
	var passes []team.Pass
	d.w.Must("GET", "/api/agents/marit-quill/passes", nil, &passes)
	assert.Len(t, passes, 1, "no pass was made on the way")
}

// An enrolment whose file cannot be written leaves no pass behind.
func TestEnrolmentThatCannotBeWrittenIsUndone(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Agent("marit-quill")
	path := filepath.Join(d.dir, "quill.json")
	require.NoError(t, os.WriteFile(path, []byte("{}"), 0o600))
	hidden := filepath.Join(d.dir, "locked")
	require.NoError(t, os.Mkdir(hidden, 0o700))
	link := filepath.Join(d.dir, "link.json")
	require.NoError(t, os.Symlink(path, link))
	d.ok("", "enrol", "marit-quill", "--config", link, "--yes")
	info, err := os.Lstat(link)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink, "a link stays a link")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "mcpServers")
}

func TestAnotherServiceIsNotGivenTheToken(t *testing.T) {
	t.Parallel()
	d := sit(t)
	e := &Env{Getenv: func(k string) string { return d.env[k] }, ConfigDir: filepath.Join(d.dir, "config")}
	shown := make(chan string, 1)
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		shown <- r.Header.Get("Authorization")
	}))
	defer elsewhere.Close()
	ask := func(address string) string {
		c, err := e.connect(address)
		require.NoError(t, err)
		require.NoError(t, c.Get(t.Context(), "/api/session", nil))
		return <-shown
	}
	c, err := e.connect("")
	require.NoError(t, err)
	require.NoError(t, c.Get(t.Context(), "/api/session", nil), "the token of the login is shown to its service")
	assert.Empty(t, ask(elsewhere.URL))
	d.env["BOUNCER_TOKEN"] = "bnt_given"
	assert.Equal(t, "Bearer bnt_given", ask(elsewhere.URL))
	require.NoError(t, os.WriteFile(e.loginFile(), []byte("{"), 0o600))
	_, err = e.connect("")
	assert.ErrorContains(t, err, "login.json cannot be read")
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	t.Parallel()
	d := &desk{t, nil, t.TempDir(), nil}
	code, out, _ := d.run(t.Context(), "")
	assert.Equal(t, 0, code)
	for _, c := range commands() {
		assert.Contains(t, out, c.name(), "the overview lists it")
		require.NotEmpty(t, c.example, c.name())
		assert.Contains(t, c.example, "bouncer "+c.name())
		code, text, _ := d.run(t.Context(), "", append(strings.Fields(c.name()), "-h")...)
		assert.Equal(t, 0, code, c.name())
		assert.Contains(t, text, "Usage: bouncer "+c.name())
		assert.Contains(t, text, strings.SplitN(c.example, "\n", 2)[0])
	}
	for _, noun := range []string{"server", "agent", "rule", "secret", "person"} {
		code, text, _ := d.run(t.Context(), "", noun)
		assert.Equal(t, 0, code)
		assert.Contains(t, text, noun+" list")
	}
	code, out, _ = d.run(t.Context(), "", "version")
	assert.Equal(t, 0, code)
	assert.Regexp(t, `^bouncer \d+\.\d+\.\d+\n$`, out)
}

// What servers say must not steer the terminal of whoever looks at it.
func TestTablesAreSafeToPrint(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	tk := &task{Env: &Env{Out: &out}}
	require.NoError(t, tk.table([]string{"A", "B"}, [][]string{{"x\x1b[2Jy\n", ""}}))
	assert.NotContains(t, out.String(), "\x1b")
	assert.Contains(t, out.String(), "-\n")
	assert.Equal(t, "a b…", clip("a  b\ncdef", 4))
	assert.Equal(t, []string{"5 µs", "5.0 ms", "50.0 s"}, []string{took(5), took(5000), took(50e6)})
	assert.Equal(t, []string{"5 B", "20 KiB", "20 MiB"}, []string{count(5), count(20 << 10), count(20 << 20)})
}

var update = flag.Bool("update", false, "rewrite the generated part of docs/reference.md")

// The reference of commands and settings is made from the tables themselves.
func TestReferenceIsUpToDate(t *testing.T) {
	t.Parallel()
	const path, mark = "../../docs/reference.md", "<!-- generated from here on -->\n"
	d := &desk{t, nil, t.TempDir(), nil}
	var b strings.Builder
	b.WriteString("\n## Settings\n\n| setting | environment | default | what it is |\n| --- | --- | --- | --- |\n")
	for _, s := range app.Table() {
		def := "`" + s.Default + "`"
		if s.Key == "data" {
			def = "`~/.local/share/bouncer`"
		} else if s.Default == "" {
			def = ""
		}
		fmt.Fprintf(&b, "| `--%s` | `%s` | %s | %s |\n", s.Key, s.Env(), def, s.Help)
	}
	b.WriteString("\n## Commands\n")
	for _, c := range commands() {
		_, text, _ := d.run(t.Context(), "", append(strings.Fields(c.name()), "-h")...)
		if c.noun == "serve" {
			text = strings.SplitN(text, "\nFlags:", 2)[0] + "\nFlags: the settings above, and --config file\n"
		}
		fmt.Fprintf(&b, "\n### bouncer %s\n\n```\n%s```\n", c.name(), text)
	}
	have, err := os.ReadFile(path)
	require.NoError(t, err)
	head, _, ok := strings.Cut(string(have), mark)
	require.True(t, ok)
	want := head + mark + b.String()
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(want), 0o644))
		return
	}
	assert.Equal(t, want, string(have), "run go test ./internal/cli -run Reference -update")
}

package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/lostproperty"
)

// Every kind of server from the command line: what it needs, and what is shown.
func TestServersOfEveryKind(t *testing.T) {
	t.Parallel()
	d := sit(t)
	const key = "skf-canary-0123456789"
	base := strings.TrimSuffix(testkit.Upstream(t, lostproperty.New(key)), "/mcp")
	file := filepath.Join(d.dir, "openapi.yaml")
	require.NoError(t, os.WriteFile(file, []byte(lostproperty.Document), 0o600))
	code, out, errs := d.run(t.Context(), key, "server", "register", "lost", "--url", base+"/v2", "--document", file, "--token")
	assert.Equal(t, exitUsage, code)
	assert.Regexp(t, `putPhoto +PUT +/items/\{item\}/photo +- +no tool: its body is image/jpeg`, out, "what can be picked is listed")
	assert.Contains(t, errs, "no operation is picked")
	out = d.ok(
		key,
		"server",
		"register",
		"lost",
		"--url",
		base+"/v2",
		"--document",
		base+"/openapi.yaml",
		"--operation",
		"searchItems",
		"--operation",
		"logItem=log_item",
		"--token",
	)
	assert.Contains(t, out, "lost is registered and ready")
	assert.Regexp(t, `operation +logItem log_item`, out)
	assert.Regexp(t, `releaseItem +PUT +/items/\{item\}/release +- +destructive`, d.ok("", "server", "operations", "lost"))
	code, _, errs = d.run(t.Context(), "", "server", "update", "lost", "--operation", "releaseItem", "--drop-operation", "searchItems",
		"--drop-operation", "logItem")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errs, "drops operation searchItems\ndrops operation logItem\n", "what goes is listed first")
	d.ok("", "server", "update", "lost", "--operation", "releaseItem", "--drop-operation", "searchItems", "--drop-operation", "logItem",
		"--yes")
	out = d.ok("", "server", "editions", "lost")
	assert.Regexp(t, `1 +releaseItem +log_item searchItems`, out)
	sse := strings.TrimSuffix(testkit.Upstream(t, ferries.Tannoy(key).Legacy()), "/mcp") + "/sse"
	assert.Regexp(t, `transport +sse\n`, d.ok(key, "server", "register", "tannoy", "--url", sse, "--token"))
	out = d.ok(
		"",
		"server",
		"register",
		"tides",
		"--url",
		testkit.Upstream(t, ferries.Tides().Stateless()),
		"--sharing",
		"shared",
		"--header",
		"X-Team: harbour",
	)
	assert.Regexp(t, `revision +2026-07-28\n +tools +1\n +prompts +1\n +resources +2`, out)
	assert.Regexp(t, `header +X-Team: harbour`, out)
	d.ok("", "server", "update", "tides", "--sharing", "auto")
	out = d.ok("", "server", "list")
	for _, want := range []string{`lost +ready +1 +- +rest`, `tannoy +ready +1 +2024-11-05 +sse`,
		`tides +ready +1 +2026-07-28 +streamable-http`} {
		assert.Regexp(t, want, out)
	}
	for name, row := range map[string]struct {
		args []string
		code int
		says string
	}{
		"operations without a document": {[]string{"register", "x", "--url", sse, "--operation", "y"}, exitUsage, "give its document"},
		"a document that is not there":  {[]string{"register", "x", "--document", "/nonexistent.yaml"}, exitUsage, "cannot be read"},
		"an authority that is none":     {[]string{"register", "x", "--url", sse, "--ca", file}, exitFailure, "holds no certificate"},
		"limits for an address":         {[]string{"register", "x", "--url", sse, "--memory", "64"}, exitFailure, "local process"},
		"an unknown transport":          {[]string{"register", "x", "--url", sse, "--transport", "pigeon"}, exitFailure, "transport must be"},
		"operations of no API":          {[]string{"operations", "tides"}, exitFailure, "is no REST API"},
		"nothing to alter":              {[]string{"update", "tides"}, exitUsage, "nothing is to be altered"},
	} {
		code, _, errs := d.run(t.Context(), "", append([]string{"server"}, row.args...)...)
		assert.Equal(t, row.code, code, "%s: %s", name, errs)
		assert.Contains(t, errs, row.says, name)
	}
}

// Anything about a server can be altered later, and lists are added to and taken from.
func TestServersAreAltered(t *testing.T) {
	t.Parallel()
	d := sit(t)
	first, second := testkit.Program(t, "old"), testkit.Program(t, "new")
	d.ok("", "server", "register", "berths", "--env", "LOG=info", "--env", "TRACE=1", "--", first)
	out := d.ok("", "server", "update", "berths", "--env", "LOG=debug", "--drop-env", "TRACE", "--call-time", "90s", "--processes", "20",
		"--yes")
	assert.Contains(t, out, "berths is updated")
	assert.Regexp(t, `variables +LOG=debug\n`, out)
	assert.Regexp(t, `at most +20 processes`, out)
	assert.Regexp(t, `calls +take at most 1m30s`, out)
	out = d.ok("", "server", "update", "berths", "--", second, "--verbose")
	assert.Regexp(t, `command +\S+server.sh --verbose`, out)
	assert.Regexp(t, `new +berths__new`, d.ok("", "server", "tools", "berths"))
	d.ok("", "server", "update", "berths", "--tool-limit", "n*:call-time=2m,result=64,too-large=cut")
	assert.Regexp(t, `calls of n\* +take at most 2m; results at most 64 KiB, larger ones are cut`, d.ok("", "server", "show", "berths"))
	for args, says := range map[string]string{
		"server update berths":                              "nothing is to be altered",
		"server update berths --drop-env LOG":               "drops variable LOG",
		"server update berths --tool-limit n*":              "is not like",
		"server update berths --tool-limit n*:colour=1":     "none of call-time",
		"server update berths --call-time tomorrow":         "no length of time",
		"server update berths --url http://127.0.0.1:1/mcp": "does not go with a local process",
		"server update berths --header X:y":                 "do not go with a local process",
		"server update berths -- no-such-command-here":      "is not on the machine where Bouncer runs",
		"server restart nope":                               "no server",
	} {
		code, _, errs := d.run(t.Context(), "", strings.Fields(args)...)
		assert.NotZero(t, code, args)
		assert.Contains(t, errs, says, args)
	}
	assert.Regexp(t, `command +\S+server.sh --verbose`, d.ok("", "server", "show", "berths"), "what failed altered nothing")
}

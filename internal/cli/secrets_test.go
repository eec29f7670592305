package cli

import (
	"encoding/json"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/app"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/loopback"
	"bouncer/standin/pilothouse"
)

// Secrets, keys and people from the command line, as somebody does it who has
// copied a token from a web page.
func TestSecretsFromTheCommandLine(t *testing.T) {
	t.Parallel()
	d := sit(t)
	s := ferries.Sailings(ferries.SailingsToken)
	up := testkit.Upstream(t, s)
	assert.Contains(t, d.ok("", "secret", "list"), "no secrets yet")
	out := d.ok(`SAILINGS_TOKEN="Bearer `+ferries.SailingsToken+`"`, "secret", "inspect")
	assert.Contains(t, out, "noticed: the word Bearer")
	code, _, errs := d.run(t.Context(), "<your token>", "secret", "inspect")
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "placeholder")
	d.ok("", "server", "list")
	d.ok(ferries.SailingsToken, "server", "register", "sailings", "--url", up, "--token")
	code, _, errs = d.run(t.Context(), "skf-not-the-one-9", "secret", "add", "other", "--try", "sailings")
	assert.Equal(t, exitNoServer, code, "it was tried first")
	assert.NotContains(t, errs, "skf-not-the-one-9")
	out = d.ok(`"`+ferries.SailingsToken+`"`, "secret", "add", "other", "--try", "sailings", "--ends", "2031-03-01")
	assert.Contains(t, out, "the quotes around it were taken off")
	assert.Contains(t, out, "it ends on 2031-03-01")
	code, _, _ = d.run(t.Context(), "x", "secret", "add", "bad", "--ends", "soon")
	assert.Equal(t, exitUsage, code)
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte(ferries.SailingsToken), 0o600))
	d.ok("", "secret", "add", "kept", "--source", "file "+file)
	d.ok("", "server", "update", "sailings", "--secret", "kept")
	list := d.ok("", "secret", "list")
	assert.Regexp(t, `kept +bearer +sailings .*read from file `, list)
	assert.NotContains(t, list, ferries.SailingsToken)
	d.ok(ferries.SailingsToken, "secret", "own", "sailings")
	assert.Regexp(t, `sailings:marit +bearer +sailings +marit`, d.ok("", "secret", "list"))
	d.ok("", "secret", "disown", "sailings")
	assert.NotContains(t, d.ok("", "secret", "list"), "sailings:marit", "it went with its use")
	d.ok("", "server", "register", "two", "--url", up, "--secret", "other", "--also", "header:X-Team=kept", "--anyway")
	assert.Contains(t, d.ok("", "server", "show", "two"), "also header X-Team from secret kept")
	code, _, errs = d.run(t.Context(), "", "server", "register", "three", "--url", up, "--also", "nonsense")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errs, "header:X-Team=team-key")

	assert.Contains(t, d.ok("", "locker", "rotate"), "values were wrapped anew")
	assert.Regexp(t, `in force last: k[0-9a-f]+ k[0-9a-f]+`, d.ok("", "locker", "show"))
	db := filepath.Join(t.TempDir(), "copy.db")
	d.ok("", "backup", db)
	raw, err := os.ReadFile(db)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(raw), "SQLite format 3"))
	assert.NotContains(t, string(raw), ferries.SailingsToken)
	code, _, errs = d.run(t.Context(), "", "backup", db)
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "hint: choose a name that is not taken")

	link := regexp.MustCompile(`/invitation/(\S+)`).FindStringSubmatch(d.ok("", "person", "invite", "--role", "auditor", "--note", "Wren"))
	require.NotNil(t, link)
	assert.Regexp(t, `open +auditor +Wren`, d.ok("", "person", "invitations"))
	var invited []team.Invitation
	require.NoError(t, json.Unmarshal([]byte(d.ok("", "person", "invitations", "--json")), &invited))
	d.ok("", "person", "withdraw", invited[0].ID)
	assert.Contains(t, d.ok("", "person", "invitations"), "no invitations")
	d.ok("", "person", "add", "joss", "--full-name", "Joss Penhale")
	assert.Regexp(t, `one-time password of joss, shown this once: \S+`, d.ok("", "person", "reset", "joss"))
	d.ok("", "person", "remove", "joss")
	assert.Contains(t, d.ok("", "login", "list"), "this one")
	assert.Contains(t, d.ok("", "consent", "list"), "no program has signed in yet")
	assert.Contains(t, d.ok("", "sign-in", "list"), "no server wants a sign-in")
	code, _, errs = d.run(t.Context(), "", "sign-in", "begin", "sailings")
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, errs, "nobody signs in at server sailings")
}

// A sign-in without a browser on the machine: the command prints an address and
// waits until somebody has been there.
func TestSignInFromTheCommandLine(t *testing.T) {
	t.Parallel()
	as := pilothouse.New("Pilothouse")
	front := httptest.NewServer(as)
	t.Cleanup(front.Close)
	as.Issuer, as.Auto = front.URL, "marit"
	w := testkit.Start(t, map[string]string{"private-ranges": "127.0.0.0/8"})
	d := &desk{t, w, t.TempDir(), map[string]string{}}
	d.ok(testkit.Password, "login", "--person", "marit", "--address", w.Base)
	back := httptest.NewUnstartedServer(nil)
	at := "http://" + back.Listener.Addr().String() + "/mcp"
	back.Config.Handler = as.Protect(at, "crew:read", ferries.Crew(), ferries.CrewScope)
	back.Start()
	t.Cleanup(func() { loopback.End(back) })
	code, _, errs := d.run(t.Context(), "", "server", "register", "crew", "--url", at)
	assert.Equal(t, exitNoServer, code)
	assert.Contains(t, errs, "--sign-in code")
	assert.Contains(t, d.ok("", "server", "register", "crew", "--url", at, "--sign-in", "code", "--per", "person"), "registered")
	assert.Regexp(t, `crew +waiting`, d.ok("", "server", "list"))
	d.ok("", "agent", "add", "marit-quill")
	assert.Contains(t, d.ok("", "sign-in", "list"), "to do: bouncer sign-in begin crew")
	code, out, errs := d.run(t.Context(), "", "sign-in", "begin", "crew", "--wait", "100ms")
	assert.Equal(t, exitFailure, code)
	assert.Contains(t, out, w.Base+"/connect/crew")
	assert.Contains(t, errs, "nobody has signed in within")
	done := make(chan string, 1)
	go func() {
		_, out, errs := d.run(t.Context(), "", "sign-in", "begin", "crew", "--wait", "30s")
		done <- out + errs
	}()
	time.Sleep(300 * time.Millisecond)
	w.Browser("marit").SignInAt(t, testkit.Obj{"server": "crew"})
	assert.Contains(t, <-done, "signed in at crew")
	var list []team.SignIn
	require.NoError(t, json.Unmarshal([]byte(d.ok("", "sign-in", "list", "--json")), &list))
	require.Len(t, list, 1)
	assert.Equal(t, "valid", list[0].State)
	d.ok("", "sign-in", "revoke", list[0].ID)
	code, _, _ = d.run(t.Context(), "", "sign-in", "revoke", list[0].ID)
	assert.Equal(t, exitNotFound, code)
}

// What a setting about sign-ins cannot be is said before anything starts.
func TestSignInSettings(t *testing.T) {
	t.Parallel()
	for key, value := range map[string]string{"private-ranges": "10.0.0.0", "oidc-issuer": "http://as.example",
		"oidc-groups": "desk=captain", "oidc-secret": "skf-in-the-clear", "address-passes": "maybe"} {
		_, err := app.LoadSettings(map[string]string{key: value}, func(string) string { return "" }, "")
		var se *app.SettingError
		require.ErrorAs(t, err, &se, key)
		assert.Equal(t, key, se.Key)
	}
	_, err := app.LoadSettings(map[string]string{"oidc-issuer": "https://as.example"}, func(string) string { return "" }, "")
	assert.ErrorContains(t, err, "oidc-client-id")
}

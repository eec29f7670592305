package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/e2e/browser"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/loopback"
	"bouncer/standin/pilothouse"
)

// guarded serves a tool server behind an authority.
func guarded(t *testing.T, as *pilothouse.Authority, scope string, h http.Handler, need func(*http.Request) string) string {
	s := httptest.NewUnstartedServer(nil)
	at := "http://" + s.Listener.Addr().String() + "/mcp"
	s.Config.Handler = as.Protect(at, scope, h, need)
	s.Start()
	t.Cleanup(func() { loopback.End(s) })
	return at
}

// In the console: sign in at the identity provider, connect to a server that
// wants a sign-in, see the assistant's call work, store a secret as it was
// pasted, invite somebody who joins, and let a program in.
func TestConsoleFromConnectToAWorkingCall(t *testing.T) {
	as := pilothouse.New(
		"Pilothouse",
		pilothouse.Person{Name: "marit", FullName: "Marit Aune", Groups: []string{"desk"}},
		pilothouse.Person{Name: "isla", FullName: "Isla Faro"},
	)
	front := httptest.NewServer(as)
	t.Cleanup(front.Close)
	as.Issuer = front.URL
	t.Setenv("PILOTHOUSE", "skf-pilothouse-canary")
	w := testkit.Start(
		t,
		map[string]string{
			"private-ranges": "127.0.0.0/8",
			"oidc-issuer":    as.Issuer,
			"oidc-client-id": "bouncer",
			"oidc-secret":    "env PILOTHOUSE",
			"oidc-name":      "Pilothouse",
			"oidc-groups":    "desk=admin",
		},
	)
	as.Add(pilothouse.Client{ID: "bouncer", Secret: "skf-pilothouse-canary", Redirects: []string{w.Base + "/sign-in/callback"}})
	w.Must(
		"POST",
		"/api/servers",
		testkit.Obj{
			"name":   "crew",
			"url":    guarded(t, as, "crew:read", ferries.Crew(), ferries.CrewScope),
			"per":    "person",
			"signIn": testkit.Obj{"grant": "code"},
		},
		nil,
	)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")

	b, err := browser.Open(t.Context())
	require.NoError(t, err)
	defer b.Close()
	do := func(what string, err error) {
		t.Helper()
		if err != nil {
			if png, shot := b.Shot(); shot == nil {
				_ = os.WriteFile(filepath.Join(os.TempDir(), "console-test.png"), png, 0o600)
			}
			text, _ := b.Text()
			require.NoError(t, err, "%s, while the page says: %s", what, text)
		}
	}
	do("open", b.Go(w.Base+"/sign-ins"))
	do("elsewhere", b.Click("button", "Sign in with Pilothouse"))
	do("as somebody without a role", b.Click("a", "Sign in as Isla Faro"))
	do("is not let in", b.Shows("None of your groups there has a role in Bouncer"))
	do("elsewhere", b.Click("button", "Sign in with Pilothouse"))
	do("as marit", b.Click("a", "Sign in as Marit Aune"))
	do("whose name is taken here", b.Shows("The name marit is taken here already"))
	do("what helps", b.Shows("sign in with the password and tie yourself to Pilothouse on the page People"))
	do("name", b.Type("input[name=name]", "marit"))
	do("password", b.Type("input[name=password]", testkit.Password+"\r"))
	do("is in", b.Wait("!!document.querySelector('nav.rail')"))
	do("people", b.Click("nav a", "People"))
	do("tie", b.Click("button", "Tie yourself to Pilothouse"))
	do("go on", b.Click(".el-message-box button", "Continue"))
	do("as marit", b.Click("a", "Sign in as Marit Aune"))
	do("is tied", b.Shows("signs in at the identity provider"))
	do("sign out", b.Click("nav button", "Sign out"))
	do("elsewhere", b.Click("button", "Sign in with Pilothouse"))
	do("as marit", b.Click("a", "Sign in as Marit Aune"))
	do("is in", b.Wait("!!document.querySelector('nav.rail')"))

	do("sign-ins", b.Click("nav a", "Sign-ins"))
	do("what to do is at the top", b.Shows("Sign in at crew"))
	do("connect", b.Click("button", "Connect"))
	do("decline", b.Click("a", "Decline"))
	do("said so", b.Shows("The sign-in was declined"))
	do("again", b.Click("button", "Try again"))
	do("agree", b.Click("a", "Sign in as Marit Aune"))
	do("connected", b.Shows("Connected."))
	do("sign-ins", b.Click("nav a", "Sign-ins"))
	do(
		"it is valid",
		b.Wait(`[...document.querySelectorAll('table.list tr')].some(r => r.innerText.includes('crew') && r.innerText.includes('valid'))`),
	)
	assert.Contains(t, agent.CallTool("crew__who_is_on_watch", "").Result.Content[0].Text, "Sunniva Rae")

	do("secrets", b.Click("nav a", "Secrets"))
	do("empty", b.Shows("No secrets are stored yet"))
	do("store", b.Click("button", "Add a secret"))
	do("name", b.Type(".el-dialog input[name=name]", "sailings-token"))
	do("value", b.Type(".el-dialog input[name=value]", "<your token>"))
	do("a placeholder", b.Shows("placeholder"))
	do("value", b.Type(".el-dialog input[name=value]", strings.Repeat("\b", 20)+`TOKEN="Bearer `+ferries.SailingsToken+`"`))
	do("noticed", b.Shows("Noticed: the word Bearer before it was taken off"))
	do("store", b.Click(".el-dialog button", "Store"))
	do(
		"listed",
		b.Wait(
			`[...document.querySelectorAll('table.list tr')].some(r => r.innerText.includes('sailings-token') && r.innerText.includes('nothing yet'))`,
		),
	)

	do("people", b.Click("nav a", "People"))
	do("role by groups", b.Shows("by groups"))
	do("invite", b.Click("button", "Invite by link"))
	do("whom", b.Type(".el-dialog input[name=note]", "Teo, night watch"))
	do("make", b.Click(".el-dialog button", "Make the link"))
	do("shown once", b.Shows("/invitation/bni_"))
	link, err := browser.Eval[string](b, "document.querySelector('pre.once').innerText")
	require.NoError(t, err)

	for _, page := range []string{"/secrets", "/sign-ins", "/people", "/connect/crew"} {
		do(page, b.Go(w.Base+page))
		do("it is there", b.Wait("!!document.querySelector('h1')"))
		wide, err := browser.Eval[bool](b, "document.documentElement.scrollWidth > window.innerWidth")
		require.NoError(t, err)
		assert.False(t, wide, "%s scrolls sideways", page)
		html, err := browser.Eval[string](b, "document.documentElement.outerHTML")
		require.NoError(t, err)
		assert.NotContains(t, html, ferries.SailingsToken)
	}

	// A program asks to be let in.
	_, raw := w.Do(
		"",
		"POST",
		"/oauth/register",
		testkit.Obj{"client_name": "Parlour", "redirect_uris": []string{"http://127.0.0.1:1/back"}},
	)
	id := strings.Split(strings.Split(string(raw), `"client_id":"`)[1], `"`)[0]
	q := url.Values{
		"response_type":         {"code"},
		"client_id":             {id},
		"redirect_uri":          {"http://127.0.0.1:1/back"},
		"code_challenge":        {strings.Repeat("x", 43)},
		"code_challenge_method": {"S256"},
		"state":                 {"s"},
	}
	do("a program", b.Go(w.Base+"/oauth/authorize?"+q.Encode()))
	do("who asks", b.Shows("Parlour wants to use your tools"))
	do("what it could do", b.Shows("crew__who_is_on_watch"))
	do("agree", b.Click("button", "Approve"))
	do("the answer goes back", b.Wait("location.href.startsWith('http://127.0.0.1:1/back?code=') || location.protocol === 'chrome-error:'"))

	do("the invitation", b.Go(link))
	do("name", b.Type("input[name=name]", "teo"))
	do("full name", b.Type("input[name=fullName]", "Teo Castellane"))
	do("password", b.Type("input[name=password]", testkit.Password))
	do("join", b.Click("button", "Join the team"))
	do("is in", b.Shows("Teo Castellane"))
	var people []struct{ Name, Role string }
	w.Must("GET", "/api/people", nil, &people)
	assert.Equal(t, "[{marit admin} {teo member}]", fmt.Sprint(people))
}

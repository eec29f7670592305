package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/e2e/browser"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/quill"
)

func httpDo(r *http.Request) (string, error) {
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	return string(raw), err
}

func newRequest(url string) (*http.Request, error) {
	return http.NewRequestWithContext(context.Background(), "GET", url, nil)
}

// A maintainer's first quarter of an hour, in the console: sign in, register a
// server, admit a tool, watch the assistant's call arrive, refuse the tool, see
// it refused.
func TestConsoleFromSignInToRefusal(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	sailings := ferries.Sailings(ferries.SailingsToken)
	up := testkit.Upstream(t, sailings)
	pass := w.Agent("marit-quill")
	config := filepath.Join(t.TempDir(), "quill.json")
	require.NoError(
		t,
		os.WriteFile(
			config,
			fmt.Appendf(nil, `{"mcpServers":{"bouncer":{"url":"%s/mcp","headers":{"Authorization":"Bearer %s"}}}}`, w.Base, pass),
			0o600,
		),
	)
	call := func() string {
		var out strings.Builder
		_, err := quill.Run(
			t.Context(),
			config,
			[]quill.Step{{Tool: "sailings__find_sailings", Arguments: testkit.Obj{"from": "Skerrow", "to": "Holm Voe"}}},
			&out,
		)
		require.NoError(t, err)
		return out.String()
	}

	b, err := browser.Open(t.Context())
	require.NoError(t, err)
	defer b.Close()
	do := func(what string, err error) {
		t.Helper()
		if err != nil {
			if png, shot := b.Shot(); shot == nil {
				_ = os.WriteFile(filepath.Join(os.TempDir(), "console-test.png"), png, 0o600)
			}
			require.NoError(t, err, what)
		}
	}
	do("open", b.Go(w.Base))
	do("name", b.Type("input[name=name]", "marit"))
	do("wrong password", b.Type("input[name=password]", "not-this-one\r"))
	do("refusal", b.Shows("The name or the password is wrong"))
	do("password", b.Type("input[name=password]", strings.Repeat("\b", 20)+testkit.Password+"\r"))
	do("first steps", b.Shows("Register a tool server"))
	do("servers", b.Click("nav a", "Servers"))
	do("empty list", b.Shows("No tool server is registered yet"))
	do("live", b.Shows("live"))

	do("dialog", b.Click("button", "Register a server"))
	do("name", b.Type(".el-dialog input[name=name]", "sailings"))
	do("url", b.Type(".el-dialog input[name=url]", up))
	do("token", b.Type(".el-dialog input[name=token]", "a-wrong-token"))
	do("submit", b.Click(".el-dialog button", "Test and register"))
	do("reason", b.Shows("the server does not accept the credential (401)"))
	do("token", b.Type(".el-dialog input[name=token]", strings.Repeat("\b", 20)+ferries.SailingsToken))
	do("submit", b.Click(".el-dialog button", "Test and register"))
	do("its page", b.Shows("skerrow-sailings 3.2.0"))
	do("its tools", b.Shows("cancel_sailing"))

	do("agents", b.Click("nav a", "Agents"))
	do("agent", b.Click("table.list a", "marit-quill"))
	do("reach", b.Shows("0 of 3 tools"))
	do("admit", b.Click("table.list button", "Admit find_sailings"))
	do("rule", b.Click(".el-dialog button", "Add rule"))
	do("admitted", b.Shows("1 of 3 tools"))

	do("journal", b.Click("nav a", "Journal"))
	do("empty journal", b.Shows("No call has been made yet"))
	assert.Contains(t, call(), "done    sailings__find_sailings")
	do(
		"the call arrives by itself",
		b.Wait(
			`[...document.querySelectorAll('table.list tr')].some(r => r.innerText.includes('find_sailings') && r.innerText.includes('ok'))`,
		),
	)
	do("in full", b.Click("table.list button", "in full"))
	do("its arguments", b.Shows(`"from": "Skerrow"`))
	do("close", b.Click(".el-drawer button", ""))
	do(
		"closed",
		b.Wait(
			`[...document.querySelectorAll('.el-overlay')].every(e => e.offsetParent === null && getComputedStyle(e).display === 'none')`,
		),
	)

	do("rules", b.Click("nav a", "Rules"))
	do("add", b.Click("button", "Add a rule"))
	do("refuse", b.Click(".el-dialog .el-radio-button", "refuse"))
	for field, glob := range map[string]string{"agent": "*", "server": "sailings", "tool": "find_*"} {
		do(field, b.Type(".el-dialog input[name="+field+"]", glob))
	}
	do("rule", b.Click(".el-dialog button", "Add rule"))
	do("what it takes away is shown first", b.Shows("1 would be refused"))
	do("nevertheless", b.Click(".el-dialog button", "Save it nevertheless"))
	do("in the list", b.Shows("find_*"))
	do("journal", b.Click("nav a", "Journal"))
	do("on its page", b.Wait(`location.pathname === '/journal'`))
	do("listed", b.Shows("find_sailings"))
	assert.Contains(t, call(), "refused by rule")
	do(
		"the refusal arrives by itself",
		b.Wait(
			`[...document.querySelectorAll('table.list tr')].some(r => r.innerText.includes('find_sailings') && r.innerText.includes('refused'))`,
		),
	)
	assert.Equal(t, 1, sailings.Calls())

	for _, page := range []string{"Servers", "Agents", "Rules", "Journal"} {
		do(page, b.Click("nav a", page))
		do("title", b.Wait(fmt.Sprintf("document.title.startsWith(%q)", page)))
		wide, err := browser.Eval[bool](b, "document.documentElement.scrollWidth > window.innerWidth")
		require.NoError(t, err)
		assert.False(t, wide, "%s scrolls sideways", page)
	}
	html, err := browser.Eval[string](b, "document.documentElement.outerHTML")
	require.NoError(t, err)
	assert.NotContains(t, html, ferries.SailingsToken)
	do("dark", b.Click("nav button", "Go dark"))
	do("is dark", b.Wait("document.documentElement.classList.contains('dark')"))
	do("sign out", b.Click("nav button", "Sign out"))
	do("signed out", b.Shows("Between your team's assistants"))
}

package e2e

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/e2e/browser"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

// page is a browser in a test: every step that fails ends the test with what
// the page said.
type page struct {
	*browser.Browser
	t    *testing.T
	base string
}

func newPage(t *testing.T, base string) *page {
	b, err := browser.Open(t.Context())
	require.NoError(t, err)
	t.Cleanup(b.Close)
	return &page{b, t, base}
}

func (p *page) must(err error) {
	p.t.Helper()
	require.NoError(p.t, err)
}

func (p *page) signIn(name string) {
	p.t.Helper()
	p.must(p.Go(p.base))
	p.must(p.Type("input[name=name]", name))
	p.must(p.Type("input[name=password]", testkit.Password+"\r"))
	p.must(p.Wait("!!document.querySelector('nav.rail')"))
}

func (p *page) signOut() {
	p.t.Helper()
	p.must(p.Click("nav button", "Sign out"))
	p.must(p.Shows("First start?"))
}

func (p *page) says() string {
	p.t.Helper()
	text, err := p.Text()
	p.must(err)
	return text
}

// Each role sees what it may use, and no button that it may not.
func TestConsoleByRole(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	w.Person("wren", "Wren Adair", team.Auditor)
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-parlour", "owner": "ottilie"}, nil)
	w.Agent("marit-quill")
	p := newPage(t, w.Base)

	p.signIn("wren")
	p.must(p.Shows("1 of 1 servers ready"))
	p.must(p.Click("nav a", "Servers"))
	p.must(p.Shows("skerrow-sailings"))
	assert.NotContains(t, p.says(), "Register a server")
	p.must(p.Click("table.list a", "sailings"))
	p.must(p.Shows("cancel_sailing"))
	buttons, err := browser.Eval[string](p.Browser, `[...document.querySelectorAll('main .pagehead button')].map(b => b.textContent.trim()).join()`)
	require.NoError(t, err)
	assert.Empty(t, buttons, "nothing to alter it with")
	p.must(p.Click("nav a", "Agents"))
	p.must(p.Shows("ottilie-parlour"))
	assert.NotContains(t, p.says(), "Add an agent")
	p.must(p.Click("nav a", "Rules"))
	p.must(p.Shows("There are no rules, so no agent can use any tool"))
	assert.NotContains(t, p.says(), "Add a rule")
	p.signOut()

	p.signIn("ottilie")
	p.must(p.Click("nav a", "Agents"))
	p.must(p.Shows("ottilie-parlour"))
	assert.NotContains(t, p.says(), "marit-quill", "a member sees the own agents")
	p.must(p.Click("table.list a", "ottilie-parlour"))
	p.must(p.Shows("This agent has no pass"))
	p.must(p.Click("button", "Create a pass"))
	p.must(p.Type(".el-dialog input[name=label]", "laptop"))
	p.must(p.Click(".el-dialog button", "Create pass"))
	p.must(p.Shows("shown this once"))
	pass := regexp.MustCompile(`bnp_[A-Za-z0-9_-]{43}`).FindString(p.says())
	require.NotEmpty(t, pass)
	agent := w.Raw("/mcp", pass, "2025-11-25")
	assert.Empty(t, agent.Names())
	p.must(p.Click(".el-dialog button", "Done"))
	p.must(p.Wait(fmt.Sprintf("!document.documentElement.outerHTML.includes(%q)", pass)))
	p.must(
		p.Wait(
			`[...document.querySelectorAll('table.list tr')].some(r => r.innerText.includes('laptop') && r.innerText.includes('valid'))`,
		),
	)
	p.must(p.Click("table.list button", "Revoke"))
	p.must(p.Click(".el-message-box button", "Revoke"))
	p.must(
		p.Wait(
			`[...document.querySelectorAll('table.list tr')].some(r => r.innerText.includes('laptop') && r.innerText.includes('revoked'))`,
		),
	)
	res, _ := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`)
	assert.Equal(t, 401, res.StatusCode)
}

// A first sign-in, a failing server, a filter, and the keyboard alone.
func TestConsoleTellsWhatToDo(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	sailings := ferries.Sailings(ferries.SailingsToken)
	w.Register("sailings", testkit.Upstream(t, sailings), ferries.SailingsToken)
	w.Register("berths", testkit.Upstream(t, ferries.Berths("")), "")
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("night-watch"), "2025-11-25")
	agent.CallTool("sailings__find_sailings", "x")
	agent.CallTool("berths__assign_berth", "x")
	w.Calls(2, "")
	var added struct{ Password string }
	w.Must("POST", "/api/people", testkit.Obj{"name": "joss", "fullName": "Joss Penhale", "role": "maintainer"}, &added)
	p := newPage(t, w.Base)

	p.must(p.Go(w.Base + "/journal"))
	p.must(p.Type("input[name=name]", "joss"))
	p.must(p.Type("input[name=password]", added.Password+"\r"))
	p.must(p.Shows("This was a one-time password"))
	p.must(p.Type("input[name=fresh]", "short"))
	p.must(p.Type("input[name=again]", "shor"))
	p.must(p.Shows("The two differ"))
	p.must(p.Type("input[name=again]", "t\r"))
	p.must(p.Shows("Is shorter than 10 characters"))
	p.must(p.Type("input[name=fresh]", strings.Repeat("\b", 10)+testkit.Password))
	p.must(p.Type("input[name=again]", strings.Repeat("\b", 10)+testkit.Password+"\r"))
	p.must(p.Shows("find_sailings"))
	p.must(p.Type("input[aria-label=Text]", "assign"))
	p.must(p.Wait("!document.querySelector('table.list').innerText.includes('find_sailings')"))
	assert.Contains(t, p.says(), "assign_berth")
	p.must(p.Type("input[aria-label=Text]", "ed nowhere"))
	p.must(p.Shows("Nothing matches the filter"))

	sailings.Fail("unauthorised")
	p.must(p.Click("nav a", "Servers"))
	p.must(p.Click("table.list a", "sailings"))
	p.must(p.Click("button", "Check now"))
	p.must(p.Shows("the credential has ended: token expired")) // what a closer look, which begins by itself, makes of the 401
	p.must(p.Shows("Fix: get a new one, and store it"))
	p.must(p.Shows("auth.token-expired"))
	sailings.Fail("")
	p.must(p.Wait(`document.querySelector('.pagehead').innerText.includes('ready')`))

	p.must(p.Click("nav a", "Rules"))
	p.must(p.Wait("document.querySelector('table.list')?.innerText.includes('Remove') ?? false")) // the list itself, not only its heading
	_, err := browser.Eval[any](p.Browser, "document.querySelector('.skip').focus()")
	p.must(err)
	reached, err := browser.Eval[[]string](p.Browser, `(() => {
		const order = [...document.querySelectorAll('a[href], button, input, [tabindex]')].filter(e => e.offsetParent !== null && e.tabIndex >= 0 && !e.disabled)
		return order.map(e => (e.textContent || e.getAttribute('aria-label') || e.placeholder || '').trim())
	})()`)
	p.must(err)
	for _, want := range []string{"Skip to the content", "Servers", "Journal", "Sign out", "Filter rules", "Add a rule", "Remove"} {
		assert.Contains(t, strings.Join(reached, "\n"), want, "reachable with the tab key")
	}
	unnamed, err := browser.Eval[int](
		p.Browser,
		`[...document.querySelectorAll('button, input')].filter(e => e.offsetParent !== null && !(e.textContent.trim() || e.getAttribute('aria-label') || e.labels?.length || e.placeholder)).length`,
	)
	p.must(err)
	assert.Zero(t, unnamed, "every control has a name")
	p.must(p.Go(w.Base + "/nowhere"))
	p.must(p.Shows("There is no such page"))
	w.Stop()
	p.must(p.Go("about:blank"))
}

// What people have at hand becomes a server, and anything about it can be changed.
func TestConsoleImportsAndAlters(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	first, second := testkit.Program(t, "old_tool"), testkit.Program(t, "new_tool")
	w.Rule("refuse", "*", "nowhere", "nothing")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "marit-quill", "owner": "marit"}, nil)
	p := newPage(t, w.Base)
	p.signIn("marit")
	p.must(p.Shows("matches nothing: no server is called nowhere"))
	p.must(p.Click("nav a", "Servers"))
	p.must(p.Click("button", "Import"))
	p.must(p.Type(".el-dialog textarea", "BERTHS_KEY=harbour-77 LOG=debug sh "+first))
	p.must(p.Click(".el-dialog button", "Preview"))
	p.must(p.Shows("goes to the locker: its name says so"))
	p.must(p.Click(".el-dialog button", "Register 1 server"))
	p.must(p.Click("table.list a", "server"))
	p.must(p.Shows("old_tool"))
	p.must(p.Shows("LOG=debug"))
	p.must(p.Click("button", "Change"))
	p.must(p.Type(".el-dialog textarea[name=args]", strings.Repeat("\b", len(first))+second))
	p.must(p.Click(".el-dialog button", "Test and save"))
	p.must(p.Shows("new_tool"))
	testkit.Rewrite(t, second, "newest_tool")
	p.must(p.Shows("Its program changed on disk"))
	p.must(p.Click("button", "Restart"))
	p.must(p.Shows("newest_tool"))
	p.must(p.Click("nav a", "Agents"))
	p.must(p.Click("table.list a", "marit-quill"))
	p.must(p.Click("button", "Alter"))
	p.must(p.Shows("Alter marit-quill"))
	p.must(p.Click(".el-dialog button", "Cancel"))
	p.must(p.Click("button", "Remove"))
	p.must(p.Shows("Remove marit-quill?"))
}

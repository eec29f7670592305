package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/e2e/browser"
	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

// Who may do what, from the console alone: a label, a rule that holds, a call that waits
// and is admitted in the browser and seen to arrive, and the reason for every cell.
func TestConsoleControl(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	w.Must("POST", "/api/agents", testkit.Obj{"name": "night-watch"}, nil)
	w.Must("POST", "/api/agents", testkit.Obj{"name": "marit-quill", "owner": "marit"}, nil)
	pass := w.Pass("night-watch")
	b, err := browser.Open(t.Context())
	require.NoError(t, err)
	defer b.Close()
	do := func(what string, err error) {
		t.Helper()
		if err != nil {
			if png, shot := b.Shot(); shot == nil {
				_ = os.WriteFile(filepath.Join(os.TempDir(), "console-control.png"), png, 0o600)
			}
			require.NoError(t, err, what)
		}
	}
	do("open", b.Go(w.Base))
	do("name", b.Type("input[name=name]", "marit"))
	do("password", b.Type("input[name=password]", testkit.Password+"\r"))

	do("labels", b.Click("nav a", "Labels"))
	do("give one", b.Click("button", "Give a label"))
	do("to whom", b.Type(".el-dialog input[name=name]", "night-watch"))
	do("which", b.Type(".el-dialog input[name=label]", "unattended"))
	do("save", b.Click(".el-dialog button", "Give label"))
	do("there", b.Wait(`document.querySelector('table.list')?.innerText.includes('unattended') ?? false`))

	do("rules", b.Click("nav a", "Rules"))
	do("add", b.Click("main button", "Add the first rule"))
	do("hold", b.Click(".el-dialog .el-radio-button", "hold"))
	do("tool", b.Type(".el-dialog input[name=tool]", "cancel_*"))
	do("server", b.Type(".el-dialog input[name=server]", "sailings"))
	do("whom", b.Click(".el-dialog summary", "Whom it binds"))
	do("a label that nobody has", b.Type(".el-dialog input[name=label]", "unatended"))
	do("save", b.Click(".el-dialog button", "Add rule"))
	do("it says so", b.Shows("Perhaps unattended was meant"))
	_, err = browser.Eval[any](b, `document.querySelector('.el-dialog input[name=label]').select(); true`)
	require.NoError(t, err)
	do("the right one", b.Type(".el-dialog input[name=label]", "unattended"))
	do("save", b.Click(".el-dialog button", "Add rule"))
	do("in force", b.Shows("1 of 3 tools of sailings, for 1 agent"))

	reply := make(chan testkit.Reply, 1)
	agent := w.Raw("/mcp", pass, "2025-11-25")
	go func() {
		reply <- agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"sailings__cancel_sailing","arguments":{"sailing":"SF203","reason":"fog"}}}`)
	}()
	do("the rail counts it", b.Wait(`document.querySelector('nav .count')?.innerText === '1'`))
	do("the title too", b.Wait(`document.title.startsWith('(1) ')`))
	do("held calls", b.Click("nav a", "Held calls"))
	do("what it is", b.Shows("destroys or overwrites"))
	do("its arguments", b.Shows(`"reason": "fog"`))
	do("admit", b.Click("main button", "Admit once"))
	r := <-reply
	require.Nil(t, r.Error)
	assert.Contains(t, r.Result.Content[0].Text, "cancelled")
	do("no longer", b.Wait(`!document.querySelector('nav .count') && !document.title.startsWith('(')`))
	do("decided", b.Shows("marit once"))
	call := w.Calls(1, "tool=cancel_sailing")[0]
	assert.Equal(t, []string{"ok", "marit", "once"}, []string{call.Outcome, call.Control.By, call.Control.How})

	do("reach", b.Click("nav a", "Reach"))
	do("why", b.Click("button.cell[aria-label='marit-quill, find_sailings: refused']", ""))
	do("the reason", b.Shows("no rule admits it"))
	do("what would change it", b.Shows("bouncer rule add admit --agent marit-quill"))
	do("at rest", b.Wait(`!document.querySelector('[class*=enter-active]')`))
	do("there and then", b.Click(".el-drawer button", "Admit it"))
	do("save", b.Click(".el-dialog button", "Add rule"))
	do("at once", b.Wait(`!!document.querySelector("button.cell[aria-label='marit-quill, find_sailings: answered']")`))
	var list []apitype.RuleInfo
	w.Must("GET", "/api/rules", nil, &list)
	assert.Equal(t, []string{"hold", "admit"}, []string{list[0].Effect, list[1].Effect})

	// The keyboard reaches every cell.
	_, err = browser.Eval[any](b, `document.querySelector('[role=gridcell][tabindex="0"]').focus(); true`)
	require.NoError(t, err)
	_, err = browser.Eval[any](b, `document.activeElement.dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight', bubbles: true})); true`)
	require.NoError(t, err)
	do("the next cell", b.Wait(`document.activeElement.getAttribute('data-at')?.endsWith(',1')`))

	// A member sees what is hers, and is offered nothing that would be refused.
	w.Person("ottilie", "Ottilie Brandt", team.Member)
	other, err := browser.Open(t.Context())
	require.NoError(t, err)
	defer other.Close()
	do("open", other.Go(w.Base+"/reach"))
	do("name", other.Type("input[name=name]", "ottilie"))
	do("password", other.Type("input[name=password]", testkit.Password+"\r"))
	do("nothing of others", other.Shows("There is nothing to show yet"))
}

package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/e2e/browser"
	"bouncer/internal/apitype"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

// What goes wrong is seen, understood, mended and tried from the console alone.
func TestConsoleShowsWhyItDoesNotWork(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	mux := http.NewServeMux()
	mux.Handle("/api/mcp", ferries.Sailings(""))
	base := testkit.Upstream(t, mux)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "radio", "url": base[:len(base)-len("/mcp")] + "/mcp", "anyway": true}, nil)
	w.Agent("marit-quill")
	w.Rule("admit", "marit-quill", "radio", "*")
	b, err := browser.Open(t.Context())
	require.NoError(t, err)
	defer b.Close()
	do := func(what string, err error) {
		t.Helper()
		if err != nil {
			if png, shot := b.Shot(); shot == nil {
				_ = os.WriteFile(filepath.Join(os.TempDir(), "console-why.png"), png, 0o600)
			}
			require.NoError(t, err, what)
		}
	}
	do("open", b.Go(w.Base+"/health"))
	do("name", b.Type("input[name=name]", "marit"))
	do("password", b.Type("input[name=password]", testkit.Password+"\r"))
	do("the incident is there by itself", b.Shows("http.wrong-path"))
	do("one", b.Click("table.list a.mono", "http.wrong-path"))
	do("its proof", b.Shows("/api/mcp"))
	do("a note", b.Type("input[aria-label=Note]", "the radio moved"))
	do("noted", b.Click("form button", "Note"))
	do("who", b.Shows("marit,"))
	do("the server", b.Click("dl.facts a", "radio"))
	do("what was found", b.Shows("not reached"))
	do("look", b.Click("section[aria-label=Checkup] button", "Look closely"))
	do("it has looked", b.Wait(`!document.querySelector('section[aria-label=Checkup] button.is-loading')`))
	do("mend", b.Click("section[aria-label=Checkup] button", "Apply: url"))
	do("well", b.Shows("It is healthy: 3 tools"))
	var s apitype.ServerInfo
	w.Must("GET", "/api/servers/radio", nil, &s)
	assert.Contains(t, s.URL, "/api/mcp")
	do("the wire", b.Click("details.tape summary", "What went over the wire"))
	do("what was said", b.Shows("tools/list"))
	do("keep", b.Click("details.tape button", "Keep as a tape"))
	do("kept", b.Shows("kept in the console"))
	do("replay", b.Click("details.tape .kept button", "Replay"))
	do("compared", b.Shows("Replayed against the server as it is now"))
	do("flaws", b.Shows("of its tools"))
	do("health", b.Click("nav a", "Health"))
	do("over", b.Shows("nothing goes wrong"))

	do("try", b.Go(w.Base+"/try?agent=marit-quill&server=radio&tool=sailing_status"))
	do("its field", b.Type("input[aria-label=sailing]", "SF203"))
	do("go", b.Click("form button", "Try it"))
	do("what came", b.Shows("It answered"))
	do("progress on the way", b.Shows("notifications/progress"))
	calls := w.Calls(1, "agent=marit-quill&tool=sailing_status")
	assert.Equal(t, "ok", calls[0].Outcome)
	do("worth keeping", b.Type("input[aria-label='Name of the example']", "noon"))
	do("keep it", b.Click("form.keep button", "Keep this call as an example"))
	do("it is there", b.Shows("Examples:"))
	do("another", b.Type("input[aria-label=sailing]", "9"))
	do("go again", b.Click("form button", "Try it"))
	do("what is wrong", b.Shows("It did not go well"))
	do("before", b.Shows("Again"))
	do("the example", b.Click(".examples button", "noon"))
	do("go with it", b.Click("form button", "Try it"))
	do("as at noon", b.Shows("It answered"))

	do("the agent", b.Go(w.Base+"/agents/marit-quill"))
	do("its wire", b.Click("details.tape summary", "What went over the wire"))
	do("what it never said", b.Shows("Restart the assistant"))
}

// How calls went is seen as charts and in a list, and a step leads to the calls behind it,
// also from the keyboard.
func TestConsoleShowsHowCallsWent(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	w.Rule("admit", "marit-quill", "sailings", "find_*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	agent.CallTool("sailings__find_sailings", "x")
	agent.CallTool("sailings__cancel_sailing", "x")
	w.Calls(2, "agent=marit-quill")
	b, err := browser.Open(t.Context())
	require.NoError(t, err)
	defer b.Close()
	do := func(what string, err error) {
		t.Helper()
		require.NoError(t, err, what)
	}
	do("open", b.Go(w.Base+"/statistics"))
	do("name", b.Type("input[name=name]", "marit"))
	do("password", b.Type("input[name=password]", testkit.Password+"\r"))
	do("the whole", b.Shows("2 calls, 1 refused"))
	do("by server", b.Click("table.list a", "sailings"))
	do("its calls", b.Wait(`(document.querySelector('.el-range-input')?.value ?? '') !== ''`))
	do("one of them", b.Shows("cancel_sailing"))
	do("back", b.Go(w.Base+"/statistics"))
	do("by tool", b.Click("label.el-radio-button", "by tool"))
	do("each by itself", b.Shows("sailings/find_sailings"))
	do("charts", b.Wait(`document.querySelectorAll('.timechart canvas').length === 3`))
	_, err = browser.Eval[any](b, `(() => {
		const chart = document.querySelector('.timechart .place')
		chart.focus()
		for (const key of ['End', 'Enter']) chart.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true }))
	})()`)
	require.NoError(t, err)
	do("the last step", b.Wait(`(document.querySelector('.el-range-input')?.value ?? '') !== ''`))
	do("its calls", b.Shows("find_sailings"))
	do("how many", b.Shows("2 calls"))
	do("all again", b.Go(w.Base+"/journal"))
	do("counted", b.Shows("2 calls"))
	do("as a file", b.Wait(`!!document.querySelector('a[href^="/api/call-export"][href*="form=csv"]')`))
	do("the chart of the journal", b.Wait(`!!document.querySelector('figure.chart')`))
}

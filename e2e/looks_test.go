package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/e2e/browser"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

// Every page can be read, in both themes and at every width that is promised: contrast,
// names of what can be operated, structure, and nothing that stands outside the window
// or over its neighbour.
func TestPagesCanBeReadByEverybody(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "a-server-with-a-rather-long-name", "url": "http://127.0.0.1:1/a/path/that/is/long/enough/to/be/broken/mcp", "anyway": true}, nil)
	w.Rule("admit", "marit-*", "sailings", "find_*")
	w.Rule("refuse", "*", "nowhere", "cancel_sailing")
	w.Person("joss", "Joss Penhale", team.Maintainer)
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	agent.CallTool("sailings__find_sailings", "x")
	agent.CallTool("sailings__cancel_sailing", "x")
	axe, err := os.ReadFile(filepath.Join("..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	p := newPage(t, w.Base)
	p.signIn("marit")
	for _, theme := range []string{"light", "dark"} {
		_, err := browser.Eval[any](p.Browser, fmt.Sprintf("localStorage.setItem('bouncer-theme', %q)", theme))
		require.NoError(t, err)
		for _, at := range []string{
			"/", "/servers", "/servers/sailings", "/agents", "/agents/marit-quill", "/rules", "/reach", "/held", "/health", "/try?agent=marit-quill&server=sailings&tool=find_sailings", "/labels", "/budgets", "/review", "/statistics", "/journal", "/secrets", "/sign-ins", "/people", "/changes", "/service", "/nope",
		} {
			p.must(p.Go(p.base + at))
			p.must(p.Wait("!!document.querySelector('nav.rail') && !document.querySelector('.el-skeleton') && !!document.querySelector('main h1')"))
			_, err := browser.Eval[any](p.Browser, string(axe)+"; true")
			require.NoError(t, err)
			_, err = browser.Eval[any](p.Browser, `window.found = undefined
				axe.run(document, { resultTypes: ['violations'], runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'] }).then(r => {
					window.found = JSON.stringify(r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160)).join(' | ')))
				})
				true`)
			require.NoError(t, err)
			p.must(p.Wait("window.found !== undefined"))
			found, err := browser.Eval[string](p.Browser, "window.found")
			require.NoError(t, err)
			var violations []string
			require.NoError(t, json.Unmarshal([]byte(found), &violations))
			assert.Empty(t, violations, "%s, %s", at, theme)
			if theme == "dark" {
				continue // the theme alters no measure
			}
			for _, width := range []int64{900, 1440} {
				p.must(p.Size(width, 800))
				wrong := "it was not looked at"
				assert.Eventually(t, func() bool { // charts follow a moment later
					found, err := browser.Eval[string](p.Browser, layout)
					wrong = found
					return err == nil && wrong == ""
				}, 30*time.Second, 100*time.Millisecond)
				assert.Empty(t, wrong, "%s at %d", at, width)
			}
			p.must(p.Size(1280, 800))
		}
	}
}

// layout tells what stands outside the window, over its cell, or over its neighbour.
const layout = `(() => {
	const wrong = []
	if (document.documentElement.scrollWidth > innerWidth + 1) wrong.push('the page is ' + document.documentElement.scrollWidth + ' wide')
	for (const cell of document.querySelectorAll('table.list td, table.list th')) {
		if (cell.scrollWidth > cell.clientWidth + 1 && getComputedStyle(cell).overflow === 'visible') wrong.push('over its cell: ' + cell.textContent.trim().slice(0, 60))
	}
	const buttons = [...document.querySelectorAll('main button, main a, main h1, main h2')].filter(e => e.offsetParent !== null).map(e => [e, e.getBoundingClientRect()])
	for (const [a, x] of buttons) for (const [b, y] of buttons) {
		if (a === b || a.contains(b) || b.contains(a)) continue
		if (x.left < y.right - 2 && y.left < x.right - 2 && x.top < y.bottom - 4 && y.top < x.bottom - 4) wrong.push('overlap: ' + a.textContent.trim() + ' and ' + b.textContent.trim())
	}
	return [...new Set(wrong)].slice(0, 5).join('; ')
})()`

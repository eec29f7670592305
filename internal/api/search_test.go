package api_test

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// Counts and exports go through all that a filter selects, and show members their own.
func TestCountsAndExports(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "*")
	w.Person("joss", "Joss Penhale", team.Member)
	joss := w.SignIn("joss", testkit.Password)
	w.Must("POST", "/api/agents", testkit.Obj{"name": "joss-quill", "owner": "joss"}, nil)
	mine, theirs := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25"), w.Raw("/mcp", w.PassAs(joss, "joss-quill"), "2025-11-25")
	mine.CallTool("echo__echo", `the tide, and "quotes"`)
	mine.CallTool("echo__echo", "still water")
	theirs.CallTool("echo__echo", "the tide")
	w.Calls(3, "")

	get := func(token, path string) (*http.Response, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, w.Base+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		var text strings.Builder
		_, err = bufio.NewReader(res.Body).WriteTo(&text)
		require.NoError(t, err)
		return res, text.String()
	}
	total := func(token, query string) (last apitype.CallTotal) {
		_, text := get(token, "/api/call-total?"+query)
		for _, line := range strings.Split(text, "\n") {
			if data, ok := strings.CutPrefix(line, "data: "); ok {
				require.NoError(t, json.Unmarshal([]byte(data), &last))
			}
		}
		require.True(t, last.Done, text)
		return last
	}
	assert.Equal(t, 3, total(w.Token, "").Found)
	assert.Equal(t, 2, total(w.Token, "text=TIDE").Found)
	assert.Equal(t, 1, total(joss, "text=TIDE").Found)
	assert.Equal(t, 1, total(w.Token, "person=joss").Found)
	assert.Zero(t, total(joss, "person=marit").Found, "nobody sees more by asking for it")

	res, text := get(w.Token, "/api/call-export?agent=marit-quill")
	assert.Equal(t, "application/jsonl", res.Header.Get("Content-Type"))
	lines := strings.Split(strings.TrimSpace(text), "\n")
	require.Len(t, lines, 2)
	var first team.Call
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &first))
	assert.JSONEq(t, `{"text":"the tide, and \"quotes\""}`, first.Arguments, "the oldest first, in full")

	res, text = get(joss, "/api/call-export?form=csv")
	assert.Contains(t, res.Header.Get("Content-Disposition"), "calls.csv")
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, []string{"agent", "joss-quill"}, []string{rows[0][2], rows[1][2]})
	_, text = get(w.Token, "/api/call-export?form=csv&agent=nobody")
	assert.Equal(t, 1, strings.Count(text, "\n"), "the names alone")
	assert.Equal(t, "form", w.Problem("GET", "/api/call-export?form=xml", nil).Field)
	assert.Equal(t, "since", w.Problem("GET", "/api/call-total?since=yesterday", nil).Field)
}

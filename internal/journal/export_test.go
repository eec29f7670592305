package journal_test

import (
	"bytes"
	"encoding/csv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/journal"
)

// What an agent writes cannot become a formula, nor another row.
func TestCSVHoldsTextsAlone(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	e := journal.NewCSV(&out)
	require.NoError(t, e.Write(team.Call{Tool: `=HYPERLINK("http://x")`, Error: "+1", Arguments: "a\nb,\"c\"", Result: "@sum", Agent: "-x", RuleName: "nights"}))
	require.NoError(t, e.End())
	rows, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 2)
	got := map[string]string{}
	for i, name := range rows[0] {
		got[name] = rows[1][i]
	}
	assert.Equal(t, []string{`'=HYPERLINK("http://x")`, "'+1", "a\nb,\"c\"", "'@sum", "'-x", "nights"},
		[]string{got["tool"], got["error"], got["arguments"], got["result"], got["agent"], got["rule"]})
}

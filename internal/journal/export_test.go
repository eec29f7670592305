package journal_test

import (
	"bytes"
	"encoding/csv"
	"errors"
	"strings"
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

// full takes so many bytes and no more.
type full struct{ room int }

func (f *full) Write(b []byte) (int, error) {
	if f.room -= len(b); f.room < 0 {
		return 0, errors.New("the disk is full")
	}
	return len(b), nil
}

// Whoever exports is told that not all of it was written; without a call there are the names.
func TestExportsThatCannotBeWrittenSaySo(t *testing.T) {
	t.Parallel()
	long := team.Call{Arguments: strings.Repeat("tide ", 2000)}
	assert.ErrorContains(t, journal.NewJSONLines(&full{}).Write(long), "the disk is full")
	lines := journal.NewCSV(&full{})
	assert.ErrorContains(t, lines.Write(long), "the disk is full")
	assert.ErrorContains(t, lines.End(), "the disk is full")
	short := journal.NewCSV(&full{room: 5})
	require.NoError(t, short.Write(team.Call{}), "it is not written yet")
	assert.ErrorContains(t, short.End(), "the disk is full")

	var out bytes.Buffer
	none := journal.NewCSV(&out)
	require.NoError(t, none.End())
	require.NoError(t, none.End())
	assert.Equal(t, 1, strings.Count(out.String(), "\n"))
	assert.Contains(t, out.String(), "id,at,agent,")
	out.Reset()
	asJSON := journal.NewJSONLines(&out)
	require.NoError(t, asJSON.Write(team.Call{Agent: "quill"}))
	require.NoError(t, asJSON.Write(team.Call{Agent: "voice"}))
	require.NoError(t, asJSON.End())
	assert.Equal(t, 2, strings.Count(out.String(), "\n"))
	assert.Contains(t, out.String(), `"agent":"voice"`)
	out.Reset()
	byID := journal.NewCSV(&out)
	require.NoError(t, byID.Write(team.Call{Rule: "R1"}))
	require.NoError(t, byID.Write(team.Call{Rule: "R1", RuleName: "nights"}))
	require.NoError(t, byID.End())
	rows, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"rule", "R1", "nights"}, []string{rows[0][7], rows[1][7], rows[2][7]})
}

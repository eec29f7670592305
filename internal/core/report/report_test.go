package report_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/report"
)

// What states and errors tell of a finding is the finding, and the other way round: who
// acts follows from the cause wherever nobody said otherwise.
func TestAFindingIsTheSameShortAndLong(t *testing.T) {
	t.Parallel()
	for _, known := range diagnosis.Catalog() {
		cause := known.Cause
		short := diagnosis.Finding{Cause: cause, Message: "what is wrong", Remedy: "what helps", Actor: cause.WhoActs().Actor()}
		long := report.FoundOf(short)
		assert.Equal(t, cause.WhoActs(), long.Who, cause)
		assert.Equal(t, short, long.Short(), cause)
	}
}

// What is shown can be pasted into a shell.
func TestQuotedIsOneWord(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"--token": "--token", "": "''", "two words": "'two words'", "it's": `'it'\''s'`, "$HOME": "'$HOME'", "a=b": "a=b", "é": "'é'",
	} {
		assert.Equal(t, want, report.Quoted(given))
	}
}

// Lengths of time have as many digits as mean something.
func TestTookIsRounded(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "1.2ms", report.Took(1_234*time.Microsecond))
	assert.Equal(t, "12ms", report.Took(12_345*time.Microsecond))
	assert.Equal(t, []string{"10ms", "9.9ms"}, []string{report.Took(10_060 * time.Microsecond), report.Took(9_949 * time.Microsecond)})
	at := time.Date(2026, 3, 1, 9, 30, 0, 0, time.FixedZone("", 3600))
	assert.Equal(t, "2026-03-01 08:30:00 UTC", report.Date(at))
}

// Lists are never null in the document, and what cannot be applied is left out.
func TestTheDocumentHasNoNulls(t *testing.T) {
	t.Parallel()
	raw, err := json.Marshal(report.FoundOf(diagnosis.Finding{Cause: diagnosis.TokenExpired}))
	require.NoError(t, err)
	assert.JSONEq(t, `{"cause":"auth.token-expired","title":"","who":"credential owner","remedy":"","evidence":[],"follows":[]}`, string(raw))
}

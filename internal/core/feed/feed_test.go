package feed

import (
	"encoding/xml"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
)

// A feed says what lasts and what is over, is as new as the newest of it, and stays well-formed
// whatever a server says of itself.
func TestIncidentsAsAFeed(t *testing.T) {
	t.Parallel()
	since := time.Date(2026, 11, 23, 8, 0, 0, 0, time.FixedZone("", 3600))
	until := since.Add(time.Hour)
	raw, err := Of([]team.Incident{
		{ID: "I2", Server: "fuel", Title: "it is slow", Since: since.Add(2 * time.Hour), Cause: "server.slow", Who: "whoever runs it", Remedy: "wait"},
		{ID: "I1", Server: "sailings", Title: "</title>&", Since: since, Until: &until, Evidence: []string{"401", "<b>"}},
	}, "http://127.0.0.1:4680")
	require.NoError(t, err)
	var got atom
	require.NoError(t, xml.Unmarshal(raw, &got))
	assert.Equal(t, []string{"http://127.0.0.1:4680/health", "Incidents", "2026-11-23T09:00:00Z"}, []string{got.ID, got.Title, got.Updated})
	require.Len(t, got.Entries, 2)
	assert.Equal(t, []string{"fuel: it is slow (lasts)", "sailings: </title>& (over)"}, []string{got.Entries[0].Title, got.Entries[1].Title})
	assert.Equal(t, []string{"2026-11-23T09:00:00Z", "2026-11-23T08:00:00Z"}, []string{got.Entries[0].Updated, got.Entries[1].Updated})
	assert.Equal(t, "server.slow\nwho has to act: whoever runs it\nwhat helps: wait", got.Entries[0].Summary)
	assert.Contains(t, got.Entries[1].Summary, "\n401\n<b>")
	assert.Equal(t, []string{"http://127.0.0.1:4680/incidents/I1", "http://127.0.0.1:4680/incidents/I1", "bouncer"},
		[]string{got.Entries[1].ID, got.Entries[1].Link.Href, got.Entries[1].Author.Name})
	assert.Contains(t, string(raw), "<?xml")
	none, err := Of(nil, "http://127.0.0.1:4680")
	require.NoError(t, err)
	assert.Contains(t, string(none), "<updated>1970-01-01T00:00:00Z</updated>", "which a feed has to have")
}

package across

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
)

// at is a minute of a morning, as JSON.
func at(minute int) string { return fmt.Sprintf("2026-11-27T08:%02d:00Z", minute) }

// One cause at one server is one incident, whichever nodes see it.
func TestIncidentsOfSeveralNodesAreOne(t *testing.T) {
	t.Parallel()
	incident := func(id, server string, first, since int, rest string) string {
		return `{"id":"` + id + `","server":"` + server + `","cause":"c","first":"` + at(first) + `","since":"` + at(since) + `","notes":[],"evidence":["of ` + id + `"]` + rest + `}`
	}
	own := `[` + incident("a", "fuel", 5, 5, `,"lastGood":"`+at(4)+`","reopened":1`) + `,` + incident("b", "tides", 1, 1, `,"until":"`+at(2)+`"`) + `]`
	other := `[` + incident("c", "fuel", 3, 6, `,"lastGood":"`+at(2)+`","notes":[{"at":"`+at(9)+`","person":"joss","text":"y"}]`) + `,` +
		incident("d", "tides", 1, 2, `,"until":"`+at(8)+`"`) + `,` + incident("e", "crew", 7, 7, "") + `]`
	third := `[` + incident("f", "fuel", 1, 1, `,"until":"`+at(2)+`","notes":[{"at":"`+at(1)+`","person":"teo","text":"x"}]`) + `]`
	w := ask(t, all(other, third), "GET", "/api/incidents", "", 200, own)
	var got []team.Incident
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &got), "%s", w.Body)
	require.Len(t, got, 3)
	told := func(i team.Incident) string {
		text := i.Server + " " + i.ID + " " + i.First.Format("04") + " " + i.Since.Format("04")
		for _, other := range []*time.Time{i.LastGood, i.Until} {
			if other == nil {
				text += " -"
				continue
			}
			text += " " + other.Format("04")
		}
		for _, n := range i.Notes {
			text += " " + n.Text
		}
		return text
	}
	assert.Equal(t, []string{"crew e 07 07 - -", "fuel c 01 05 04 - x y", "tides d 01 01 - 08"}, []string{told(got[0]), told(got[1]), told(got[2])})
	assert.Equal(t, 1, got[1].Reopened)
	assert.Equal(t, []string{"of c"}, got[1].Evidence)

	// What came back weeks later is another one, as it is for one node.
	early := `{"id":"g","server":"fuel","cause":"c","first":"2026-10-01T08:00:00Z","since":"2026-10-01T08:00:00Z","until":"2026-10-02T08:00:00Z"}`
	elsewhere := `{"id":"h","server":"fuel","cause":"c","first":"2026-10-14T08:00:00Z","since":"2026-10-14T08:00:00Z","until":"2026-10-15T08:00:00Z"}`
	w = ask(t, all(`[`+elsewhere+`]`), "GET", "/api/incidents", "", 200, `[`+incident("a", "fuel", 5, 5, "")+`,`+early+`]`)
	got = nil
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &got), "%s", w.Body)
	require.Len(t, got, 2)
	assert.Equal(t, []string{"fuel a 05 05 - -", "fuel h 00 00 - 00"}, []string{told(got[0]), told(got[1])})
	assert.Equal(t, 1, got[1].First.Day())

	// Each is found at the node that has it, and noted there.
	f := all(`{"id":"c"}`)
	assert.Equal(t, 200, ask(t, f, "GET", "/api/incidents/c", "", 404, `{}`).Code)
	assert.Equal(t, 200, ask(t, f, "POST", "/api/incidents/c/notes", `{"text":"x"}`, 404, `{}`).Code)
	assert.Len(t, f.asked, 2)
}

// Who was turned away at several nodes is told of once.
// The feed is of the same incidents.
func TestTheFeedIsOfAllNodes(t *testing.T) {
	t.Parallel()
	own := `[{"id":"I1","server":"sailings","cause":"auth.refused","since":"2026-11-23T08:00:00Z","first":"2026-11-23T08:00:00Z"}]`
	there := `[{"id":"I2","server":"fuel","cause":"server.slow","since":"2026-11-23T09:00:00Z","first":"2026-11-23T09:00:00Z"}]`
	f := all(there)
	f.silent = []string{"west"}
	w := ask(t, f, "GET", "/api/incidents/feed", "", 200, own)
	assert.Equal(t, []any{200, "west", "application/atom+xml"}, []any{w.Code, w.Header().Get(Silent), w.Header().Get("Content-Type")})
	assert.Contains(t, w.Body.String(), "/incidents/I1")
	assert.Contains(t, w.Body.String(), "/incidents/I2")
	assert.Equal(t, "/api/incidents", f.asked[0].Path)
	w = ask(t, all(`{`), "GET", "/api/incidents/feed", "", 200, own)
	assert.Equal(t, "south, west", w.Header().Get(Silent))
	assert.Contains(t, w.Body.String(), "/incidents/I1")
	assert.Equal(t, 403, ask(t, all(there), "GET", "/api/incidents/feed", "", 403, `{}`).Code)
}

func TestWhoWasTurnedAwayAnywhere(t *testing.T) {
	t.Parallel()
	one := func(cause string, first, last, times int) string {
		return fmt.Sprintf(`{"cause":%q,"from":"10.0.0.1","first":%q,"last":%q,"times":%d}`, cause, at(first), at(last), times)
	}
	w := ask(t, all(`[`+one("unknown", 1, 9, 2)+`,`+one("expired", 5, 5, 1)+`]`), "GET", "/api/turned-away", "", 200, `[`+one("unknown", 3, 4, 3)+`]`)
	assert.JSONEq(t, `[`+one("unknown", 1, 9, 5)+`,`+one("expired", 5, 5, 1)+`]`, w.Body.String())
}

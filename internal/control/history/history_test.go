package history_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

// Two points in time are compared: what came, what went, what is limited since.
func TestWhatAnAgentCouldDoBefore(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	w.Agent("marit-quill")
	w.Rule("admit", "marit-quill", "sailings", "find_*")
	w.Rule("admit", "marit-quill", "sailings", "sailing_status")
	path := func(since, until time.Time) string {
		q := url.Values{"since": {since.UTC().Format(time.RFC3339)}}
		if !until.IsZero() {
			q.Set("until", until.UTC().Format(time.RFC3339))
		}
		return "/api/agents/marit-quill/reach-changes?" + q.Encode()
	}
	compare := func(since, until time.Time) (d apitype.ReachDifference) {
		w.Must("GET", path(since, until), nil, &d)
		return d
	}
	noted := func(n int) time.Time {
		// It is noted a few seconds after a change.
		require.Eventually(t, func() bool {
			status, _ := w.Do(w.Token, "GET", path(w.Clock.Now().Add(time.Second), time.Time{}), nil)
			return status == 200 && compare(w.Clock.Now().Add(time.Second), w.Clock.Now().Add(2*time.Second)).Before == n
		}, 30*time.Second, 50*time.Millisecond)
		return w.Clock.Now()
	}
	monday := noted(2).Add(time.Second)
	assert.Equal(t, 409, w.Problem("GET", path(monday.Add(-24*time.Hour), time.Time{}), nil).Status, "nothing is known of then")
	w.Clock.Forward(24 * time.Hour)
	w.Rule("refuse", "marit-quill", "sailings", "find_*")
	w.Must("POST", "/api/rules", testkit.Obj{"name": "c", "effect": "hold", "agent": "*", "server": "sailings", "tool": "cancel_*"}, nil)
	d := compare(monday, time.Time{})
	assert.Equal(t, "[{sailings cancel_sailing  held} {sailings find_sailings admitted }]", fmt.Sprint(d.Tools), "now is known at once")
	assert.Equal(t, []int{2, 2}, []int{d.Before, d.After})
	w.Must("POST", "/api/rules", testkit.Obj{"name": "n", "effect": "admit", "agent": "*", "server": "sailings", "tool": "sailing_status", "resultKiB": 4}, nil)
	require.Eventually(t, func() bool {
		return strings.Contains(fmt.Sprint(compare(monday, w.Clock.Now().Add(2*time.Second)).Tools), "within limits")
	}, 30*time.Second, 50*time.Millisecond)
	tuesday := w.Clock.Now().Add(2 * time.Second)
	w.Clock.Forward(24 * time.Hour)
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": true}, nil)
	assert.Equal(t, 0, compare(monday, time.Time{}).After)
	assert.Contains(t, fmt.Sprint(compare(monday, tuesday).Tools), "{sailings sailing_status admitted within limits}")
	assert.Equal(t, "since", w.Problem("GET", "/api/agents/marit-quill/reach-changes?since=monday", nil).Field)
	assert.Equal(t, "until", w.Problem("GET", path(tuesday, monday), nil).Field)
	other := w.Person("ottilie", "Ottilie Brandt", team.Member)
	assert.Equal(t, 404, w.ProblemAs(other, "GET", path(monday, time.Time{}), nil).Status)
}

package across

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/observe/stats"
)

// oneTime has all nodes answer for the same time, and so that what they answer can be added up.
func oneTime(q url.Values) {
	if q.Get("until") == "" {
		q.Set("until", time.Now().UTC().Format(time.RFC3339Nano))
	}
	if until, err := time.Parse(time.RFC3339, q.Get("until")); err == nil && q.Get("since") == "" {
		q.Set("since", until.Add(-24*time.Hour).Format(time.RFC3339Nano))
	}
	q.Set("took", "true")
}

// sumOfStats adds up how calls went.
func sumOfStats(r *http.Request, bodies [][]byte) (any, error) {
	all := make([]apitype.Stats, len(bodies))
	for i, body := range bodies {
		if err := json.Unmarshal(body, &all[i]); err != nil {
			return nil, fmt.Errorf("read how calls went: %w", err)
		}
	}
	return stats.Merge(all, r.URL.Query().Get("took") == "true")
}

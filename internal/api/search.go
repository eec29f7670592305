package api

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"time"

	"bouncer/internal/api/reading"
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/gate"
	"bouncer/internal/journal"
)

// searchLimits bound what goes through the whole journal: counts and exports. They are less
// than the connections by which calls are read.
var searchLimits = gate.Limits{Person: 3, All: 6}

// searchRoutes are the rows of what goes through all calls that a filter selects.
func (a *API) searchRoutes(svc *journal.Reader) []route {
	return []route{
		{
			method: get, path: "/api/call-total", id: "followCallTotal", action: access.SeeCalls,
			summary: "How many calls there are, as it is counted: an event of type found each so often, the last with done",
			query:   callFields, status: 200, media: "text/event-stream",
			raw: func(w http.ResponseWriter, c *call) { a.countAll(w, c, svc) },
		},
		{
			method: get, path: "/api/call-export", id: "exportCalls", action: access.SeeCalls,
			summary: "Calls in full, the oldest first, as JSON by lines or as CSV",
			query: andCallFields(
				queryField{"form", "jsonl or csv; jsonl if left out"},
				queryField{"after", "only calls newer than the one with this id, to go on where an export ended"},
				queryField{"limit", "how many; all if left out"},
			), status: 200, media: "application/jsonl",
			raw: func(w http.ResponseWriter, c *call) { a.exportCalls(w, c, svc) },
		},
	}
}

// searching takes a place among those who go through the journal.
func (a *API) searching(w http.ResponseWriter, c *call) (release func(), ok bool) {
	holder := gate.Holder{Person: c.person.ID}
	if err := a.searches.Take(holder, 1); err != nil {
		a.problem(w, apitype.Problem{Status: 429, Title: err.Error(), Hint: "wait until other counts and exports have ended"})
		return nil, false
	}
	return func() { a.searches.Give(holder, 1) }, true
}

// tellEvery is how often a count is told while it grows.
const tellEvery = 100 * time.Millisecond

// countAll tells how many calls a filter selects while they are counted.
func (a *API) countAll(w http.ResponseWriter, c *call, svc *journal.Reader) {
	q, err := c.callQuery()
	if err != nil {
		a.problem(w, a.explain(c, err))
		return
	}
	release, ok := a.searching(w, c)
	if !ok {
		return
	}
	defer release()
	rc := http.NewResponseController(w)
	open := false
	tell := func(t apitype.CallTotal) bool {
		if !open {
			w.Header().Set("Content-Type", "text/event-stream")
			w.Header().Set("X-Accel-Buffering", "no")
			w.WriteHeader(http.StatusOK)
			open = true
		}
		raw, err := json.Marshal(t)
		if err != nil || rc.SetWriteDeadline(time.Now().Add(20*time.Second)) != nil {
			return false
		}
		_, err = fmt.Fprintf(w, "event: found\ndata: %s\n\n", raw)
		return err == nil && rc.Flush() == nil
	}
	last := time.Now()
	found, err := svc.Count(c.Context(), c.person, q, func(found, seen int) bool {
		if time.Since(last) < tellEvery {
			return true
		}
		last = time.Now()
		return tell(apitype.CallTotal{Found: found, Seen: seen})
	})
	switch {
	case err == nil:
		tell(apitype.CallTotal{Found: found, Done: true})
	case !open:
		a.problem(w, a.explain(c, err))
	case c.Context().Err() == nil:
		a.o.Log.ErrorContext(c.Context(), "calls could not be counted", "error", err)
	}
}

// exportCalls writes calls as they are read, however many there are.
func (a *API) exportCalls(w http.ResponseWriter, c *call, svc *journal.Reader) {
	q, err := c.callQuery()
	form := c.URL.Query().Get("form")
	if err == nil {
		q.Limit, err = reading.Number(c.Request, "limit", 0, 1, math.MaxInt32)
	}
	if err == nil && form != "" && form != "jsonl" && form != "csv" {
		err = &team.FieldError{Field: "form", Why: "must be jsonl or csv"}
	}
	if err != nil {
		a.problem(w, a.explain(c, err))
		return
	}
	release, ok := a.searching(w, c)
	if !ok {
		return
	}
	defer release()
	rc := http.NewResponseController(w)
	media, name := "application/jsonl", "calls.jsonl"
	out := journal.NewJSONLines(w)
	if form == "csv" {
		media, name, out = "text/csv; charset=utf-8", "calls.csv", journal.NewCSV(w)
	}
	begun := false
	err = svc.Export(c.Context(), c.person, q, func(call team.Call) error {
		if !begun {
			begun = true
			w.Header().Set("Content-Type", media)
			w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
		}
		if err := rc.SetWriteDeadline(time.Now().Add(writeTime)); err != nil {
			return fmt.Errorf("set the time that the reader has: %w", err)
		}
		return out.Write(call)
	})
	switch {
	case err == nil && !begun:
		w.Header().Set("Content-Type", media)
		w.WriteHeader(http.StatusOK)
	case err == nil:
	case !begun:
		a.problem(w, a.explain(c, err))
		return
	default:
		if c.Context().Err() == nil {
			a.o.Log.ErrorContext(c.Context(), "calls could not be exported", "error", err)
		}
		panic(http.ErrAbortHandler) // so that the reader does not take a part for the whole
	}
	_ = out.End() // the reader may have gone
}

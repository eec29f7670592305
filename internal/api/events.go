package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/gate"
)

// events streams what happens: "changed" with the part of the register that is
// another one now, "calls" with calls that were recorded.
func (a *API) events(w http.ResponseWriter, c *call) {
	holder := gate.Holder{Person: c.person.ID}
	if err := a.streams.Take(holder, 1); err != nil {
		a.problem(w, apitype.Problem{Status: 429, Title: err.Error(), Hint: "close some windows of the console"})
		return
	}
	defer a.streams.Give(holder, 1)
	rc := http.NewResponseController(w)
	if err := rc.SetReadDeadline(time.Time{}); err != nil {
		return // the deadline is for requests; the stream stays open
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-cache, no-transform")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	topics, stop := a.s.Registry.Listen()
	defer stop()
	tap := a.s.Taps.Tap()
	defer a.s.Taps.Untap(tap)
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	send := func(format string, args ...any) bool {
		if rc.SetWriteDeadline(time.Now().Add(20*time.Second)) != nil {
			return false
		}
		_, err := fmt.Fprintf(w, format, args...)
		return err == nil && rc.Flush() == nil
	}
	if !send(": open\n\n") {
		return
	}
	for ok := true; ok; {
		select {
		case topic, open := <-topics:
			// Whatever is open is held against the register at every change: the role may
			// be another one, the login may have been ended.
			ok = open && a.stillIn(c) && send("event: changed\ndata: %q\n\n", topic)
		case calls, open := <-tap.C:
			if !open {
				return // fell behind: the reader asks again for what it missed
			}
			if calls = access.Visible(calls, c.person); len(calls) == 0 {
				continue
			}
			raw, err := json.Marshal(calls)
			ok = err == nil && send("event: calls\ndata: %s\n\n", raw)
		case <-beat.C:
			ok = a.stillIn(c) && send(": \n\n")
		case <-a.o.Ended:
			return
		case <-c.Context().Done():
			return
		}
	}
}

// streamLimits bound the event streams of people: each window of the console has one.
var streamLimits = gate.Limits{Person: 30, All: 2_000}

// stillIn reports whether the login of an open stream holds, and takes over what its
// person may see now.
func (a *API) stillIn(c *call) bool {
	_, kind := c.login()
	p, err := a.s.Login.Who(c.Context(), c.token, kind)
	if err != nil || p.MustChange {
		return false
	}
	c.person = p
	a.o.Seen(p.Name)
	return true
}

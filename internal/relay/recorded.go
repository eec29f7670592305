package relay

import (
	"net/http"
	"strconv"

	"bouncer/internal/link"
	"bouncer/internal/relay/carry"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/tap"
)

// recorded has the flight recorder hear what goes between an agent and Bouncer in one
// exchange; the caller calls done when it has ended. What a person tries in the place of
// an agent is not the agent's.
func (d *Gateway) recorded(w http.ResponseWriter, r *http.Request, v carry.Principal) (out http.ResponseWriter, done func()) {
	if d.o.Tap == nil || v.Pass.ID == trialPass {
		return w, func() {}
	}
	ear := d.o.Tap.Of(v.Agent.ID)
	if ear == nil {
		return w, func() {}
	}
	line := uint64(0)
	if s := d.sessions.Get(shownSession(r, v.Legacy)); s != nil && s.AgentID == v.Agent.ID {
		line = s.Line
	} else {
		line = tap.Line()
	}
	t := tap.New(w, ear, line, r.Method)
	return t, func() {
		t.Done()
		if status := t.Status(); unusual(status) && d.o.Trouble != nil {
			d.o.Trouble(v.Agent.ID, "a request of it was answered with "+strconv.Itoa(status))
		}
	}
}

// shownSession is the id by which a request names its session; "" for none.
func shownSession(r *http.Request, legacy bool) string {
	if legacy {
		return r.URL.Query().Get("session")
	}
	return session.Short(r.Header.Get("Mcp-Session-Id"))
}

// unusual reports whether a status tells of an assistant that does something wrong, or of
// a service that does. A session that is gone, a limit that is reached, and a stream that
// was asked for to see whether there is one, are neither.
func unusual(status int) bool {
	switch status {
	case http.StatusNotFound, http.StatusMethodNotAllowed, http.StatusConflict, http.StatusTooManyRequests:
		return false
	default:
		return status >= 400
	}
}

// lineOf is the number of the conversation that is written to; 0 for one that is not
// recorded.
func lineOf(w http.ResponseWriter) uint64 {
	if t, ok := w.(*tap.Writer); ok {
		return t.Line
	}
	return 0
}

// noted has the recorder hear something about an agent that is no message.
func (d *Gateway) noted(agentID string, line uint64, text string) {
	if d.o.Tap == nil {
		return
	}
	if ear := d.o.Tap.Of(agentID); ear != nil {
		ear.Frame(line, link.State, []byte(text), len(text))
	}
}

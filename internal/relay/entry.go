package relay

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/core/trace"
	"bouncer/internal/core/wire"
	"bouncer/internal/journal"
	"bouncer/internal/origin"
	"bouncer/internal/relay/carry"
	"bouncer/internal/relay/door"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/stream"
	"bouncer/internal/relay/tap"
	"bouncer/internal/snapshot"
)

// ServeHTTP serves one request to /mcp, /mcp/{server}, /sse or /sse/{server}.
func (d *Gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if trial, _ := trialOf(r); trial == nil && !d.o.Guard.Allows(r) {
		d.fail(
			w,
			http.StatusForbidden,
			nil,
			wire.CodeInvalidRequest,
			"the Host or Origin header names a place that may not reach this service",
		)
		return
	}
	v, ok := d.admit(w, r)
	if !ok {
		return
	}
	w, done := d.recorded(w, r, v)
	defer done()
	if v.Legacy {
		oldest{d}.serveLegacy(w, r, v)
		return
	}
	switch r.Method {
	case http.MethodPost:
		d.post(w, r, v)
	case http.MethodGet:
		d.stream(w, r, v)
	case http.MethodDelete:
		if s := d.session(w, r, v, nil); s != nil {
			d.seal.Left(s.Id)
			d.sessions.End(s, session.ErrLeft)
			w.WriteHeader(http.StatusNoContent)
		}
	default:
		w.Header().Set("Allow", "GET, POST, DELETE")
		d.fail(w, http.StatusMethodNotAllowed, nil, wire.CodeInvalidRequest, "this address takes POST, GET and DELETE")
	}
}

// visitor is who asks, as far as it is known.
type visitor struct {
	carry.Principal
	shown     *snapshot.Pass // what was shown is this pass, whether valid or not; nil for none that is known
	inAddress bool           // it was shown in the address
	trial     bool           // it comes from within
	nowhere   bool           // the address is none of agents
}

// identify finds out by what is in force now who asks.
func (d *Gateway) identify(r *http.Request) (v visitor) {
	v.Snapshot = d.snapshot.Load()
	auth := r.Header.Get("Authorization")
	var token, rest string
	token, rest, v.inAddress = InAddress(r.URL.Path)
	path := r.URL.Path
	if trial, key := trialOf(r); trial != nil {
		v.shown, v.Key, v.trial = trial, key, true
	} else if v.inAddress {
		path = rest
		v.Key = sha256.Sum256([]byte(token))
		if p := v.Snapshot.Passes[v.Key]; p != nil && p.InAddress {
			v.shown = p
		}
	} else if len(auth) > 7 && strings.EqualFold(auth[:7], "bearer ") && len(auth) < 512 {
		v.Key = sha256.Sum256([]byte(strings.TrimSpace(auth[7:])))
		if p := v.Snapshot.Passes[v.Key]; p != nil && !p.InAddress {
			v.shown = p
		}
	}
	if v.shown != nil {
		v.Pass, v.Agent = v.shown, v.Snapshot.Agents[v.shown.AgentID]
	}
	scope, legacy, ok := readPath(path)
	v.Scope, v.Legacy, v.nowhere = scope, legacy, !ok
	return v
}

// mayBecomeKnown reports whether a node that knows more might let in who asks. A pass that is
// revoked, or has ended, stays so.
func (v *visitor) mayBecomeKnown() bool {
	if v.trial || v.nowhere {
		return false
	}
	if v.shown == nil {
		return v.Key != [sha256.Size]byte{} // something was shown
	}
	if v.Agent == nil || v.Agent.Paused {
		return true
	}
	return v.Scope != "" && v.Snapshot.Servers[v.Scope] == nil
}

// admit finds out who asks. Whoever shows no valid pass learns
// nothing but that.
func (d *Gateway) admit(w http.ResponseWriter, r *http.Request) (carry.Principal, bool) {
	v := d.identify(r)
	if d.o.Known != nil && v.mayBecomeKnown() && d.o.Known(r.Context()) {
		v = d.identify(r)
	}
	if d.o.Trace != nil {
		v.Trace, _ = trace.Read(r.Header.Get("traceparent"), r.Header.Get("tracestate"))
	}
	if v.nowhere {
		d.fail(w, http.StatusNotFound, nil, wire.CodeInvalidRequest, "there is nothing at this address")
		return v.Principal, false
	}
	now := time.Now()
	if v.shown == nil || v.shown.Revoked || !now.Before(v.shown.Expires) || !v.shown.Opens(v.Scope) {
		d.turnAway(w, r, v)
		return v.Principal, false
	}
	ok, tooMany := v.Pass.Meter.Let(now)
	if !ok {
		d.limited(w, v.Principal, tooMany)
		return v.Principal, false
	}
	if v.Agent == nil || v.Agent.Paused {
		d.noted(v.Pass.AgentID, 0, "it was turned away: it is paused")
		d.fail(w, http.StatusForbidden, nil, wire.CodeNotAdmitted, "this agent is paused; ask "+v.Snapshot.Contacts)
		return v.Principal, false
	}
	if d.o.Sure != nil {
		if err := d.o.Sure(); err != nil {
			d.noted(v.Pass.AgentID, 0, "it was turned away: "+err.Error())
			d.fail(w, http.StatusServiceUnavailable, nil, wire.CodeNotAdmitted, err.Error()+"; nothing was sent. Ask "+v.Snapshot.Contacts)
			return v.Principal, false
		}
	}
	if from := origin.Client(r, d.o.Proxies); from != "" {
		v.How.Address, _ = netip.ParseAddr(from)
	}
	v.How.Present = d.o.present(v.Agent)
	if v.Catalog = v.Snapshot.ReachOf(v.Agent, v.How).Catalog(v.Scope); v.Catalog == nil {
		d.fail(w, http.StatusNotFound, nil, wire.CodeInvalidRequest, "there is no server of that name here")
		return v.Principal, false
	}
	return v.Principal, true
}

// turnAway answers whoever shows no valid pass, and remembers it.
func (d *Gateway) turnAway(w http.ResponseWriter, r *http.Request, v visitor) {
	auth, agent, now := r.Header.Get("Authorization"), "", time.Now()
	if v.Agent != nil {
		agent = v.Agent.Name
	}
	cause, text := door.Refuse(auth, v.inAddress, v.shown, agent, now)
	if agent != "" {
		d.noted(v.shown.AgentID, 0, "it was turned away: "+text)
	}
	if _, known := v.Snapshot.Servers[v.Scope]; !known {
		v.Scope = "" // names that nobody has are nobody's business
	}
	d.Door.Note(now, cause, origin.Client(r, d.o.Proxies), r.UserAgent(), agent, v.Scope)
	w.Header().Set("WWW-Authenticate", d.challenge(v.Scope, auth != ""))
	d.fail(w, http.StatusUnauthorized, nil, wire.CodeInvalidRequest, text)
}

// readPath reads an address of agents: /mcp or /sse, alone or with the name of one
// server.
func readPath(path string) (scope string, legacy, ok bool) {
	rest, legacy := strings.CutPrefix(path, "/sse")
	if !legacy {
		if rest, ok = strings.CutPrefix(path, "/mcp"); !ok {
			return "", false, false
		}
	}
	if rest == "" || rest == "/" {
		return "", legacy, true
	}
	scope, ok = strings.CutPrefix(rest, "/")
	return strings.TrimSuffix(scope, "/"), legacy, ok
}

// limited answers a request that is one too many for its pass, and records now and
// then that there were some.
func (d *Gateway) limited(w http.ResponseWriter, v carry.Principal, tell int64) {
	const why = "this pass is shown more often than a pass may be (setting pass-rate); wait a second"
	if tell > 0 && v.Agent != nil {
		e := &journal.Entry{Call: team.Call{
			At: time.Now(), Agent: v.Agent.Name, Person: v.Agent.Owner, Server: v.Scope, Tool: "(any)",
			Decision: team.DecisionRefuse, Outcome: team.OutcomeRefused, Error: why, Times: int(tell),
		}}
		if err := d.recorder.Record(d.carrier.Context(), e); err != nil {
			d.o.Log.Error("a refusal could not be recorded", "error", err)
		}
	}
	w.Header().Set("Retry-After", "1")
	d.fail(w, http.StatusTooManyRequests, nil, wire.CodeNotAdmitted, why)
}

// addressPrefix begins the addresses that hold a pass.
const addressPrefix = "/in/"

// InAddress takes the pass out of an address like /in/{pass}/mcp, for agents that
// can set no header.
func InAddress(path string) (token, rest string, ok bool) {
	after, ok := strings.CutPrefix(path, addressPrefix)
	if !ok {
		return "", path, false
	}
	token, rest, ok = strings.Cut(after, "/")
	return token, "/" + rest, ok
}

// challenge tells an agent without a valid pass where it can sign in (RFC 6750;
// RFC 9728, section 5.1).
func (d *Gateway) challenge(scope string, shown bool) string {
	path := "/mcp"
	if scope != "" && len(scope) <= 32 && strings.Trim(scope, "abcdefghijklmnopqrstuvwxyz0123456789-") == "" {
		path += "/" + scope
	}
	out := `Bearer realm="bouncer", resource_metadata="` + d.o.Address + `/.well-known/oauth-protected-resource` + path + `"`
	if shown {
		out += `, error="invalid_token"`
	}
	return out
}

// session returns the visitor's session, or answers the request with why not.
func (d *Gateway) session(w http.ResponseWriter, r *http.Request, v carry.Principal, id []byte) *session.Session {
	sid := r.Header.Get("Mcp-Session-Id")
	if sid == "" {
		d.fail(
			w,
			http.StatusBadRequest,
			id,
			wire.CodeInvalidRequest,
			"the Mcp-Session-Id header is missing; open a session with initialize first",
		)
		return nil
	}
	s := d.sessions.Get(session.Short(sid))
	if s == nil {
		s = d.revive(sid, v, lineOf(w))
	}
	if s == nil || s.PassID != v.Pass.ID || s.Scope != v.Scope || s.Legacy != nil {
		d.fail(w, http.StatusNotFound, id, wire.CodeInvalidRequest, "there is no such session; open a new one with initialize")
		return nil
	}
	if rev := r.Header.Get("Mcp-Protocol-Version"); rev != "" && !wire.SpeaksSession(rev) {
		d.fail(
			w,
			http.StatusBadRequest,
			id,
			wire.CodeInvalidRequest,
			"the MCP-Protocol-Version header names a revision that is not spoken here",
		)
		return nil
	}
	s.Used.Store(time.Now().UnixMilli())
	return s
}

// revive opens a session again that was open before the service was started anew, or was
// swept away: most clients do not open another one when they are told that theirs is
// gone. nil when the id carries none, or there are too many.
func (d *Gateway) revive(shown string, v carry.Principal, line uint64) *session.Session {
	n := d.seal.Read(shown, v.Pass.ID, v.Scope)
	if n == nil {
		return nil
	}
	n.Line = line
	s, err := d.sessions.Resume(n, v.Pass, v.Agent, time.Now())
	if err != nil {
		d.o.Log.Warn("a session could not go on", "agent", v.Agent.Name, "error", err)
		return nil
	}
	// Whatever it was told last is not known any more.
	s.Outbox.ListsChanged(s.NoteLists(v.Catalog.Digests()))
	return s
}

var bodies = sync.Pool{New: func() any { return new(bytes.Buffer) }}

const maxPooledBody = 256 << 10

// read reads the small body whole before anything else happens: the decision
// needs it, and a half-read body would race with the answer. It answers itself
// when the body cannot be taken.
func (d *Gateway) read(w http.ResponseWriter, r *http.Request, buf *bytes.Buffer) (wire.Frame, bool) {
	if !stream.IsJSON(r.Header) {
		d.fail(w, http.StatusUnsupportedMediaType, nil, wire.CodeInvalidRequest, "the Content-Type header must be application/json")
		return wire.Frame{}, false
	}
	if r.ContentLength > int64(d.o.BodyLimit) {
		d.tooLarge(w)
		return wire.Frame{}, false
	}
	if r.ContentLength > 0 {
		buf.Grow(int(r.ContentLength) + bytes.MinRead)
	}
	if _, err := buf.ReadFrom(io.LimitReader(r.Body, int64(d.o.BodyLimit)+1)); err != nil {
		d.fail(w, http.StatusBadRequest, nil, wire.CodeParse, "the body broke off")
		return wire.Frame{}, false
	}
	if buf.Len() > d.o.BodyLimit {
		d.tooLarge(w)
		return wire.Frame{}, false
	}
	if t, ok := w.(*tap.Writer); ok {
		t.Asked(buf.Bytes())
	}
	f, err := wire.ReadFrame(buf.Bytes())
	if err != nil {
		fe := frameError(err, wire.CodeInvalidRequest)
		d.fail(w, http.StatusBadRequest, nil, fe.Code, fe.What)
		return f, false
	}
	return f, true
}

func frameError(err error, code int) *wire.FrameError {
	fe := &wire.FrameError{Code: code, What: err.Error()}
	errors.As(err, &fe)
	return fe
}

func (d *Gateway) tooLarge(w http.ResponseWriter) {
	w.Header().Set("Connection", "close")
	d.fail(
		w,
		http.StatusRequestEntityTooLarge,
		nil,
		wire.CodeInvalidRequest,
		"the body is larger than the limit (body-limit in Bouncer's settings)",
	)
}

// fail answers a request with a status and a JSON-RPC error.
func (d *Gateway) fail(w http.ResponseWriter, status int, id []byte, code int, message string) {
	_ = stream.WriteJSON(w, status, wire.AppendError(nil, id, code, message, nil))
}

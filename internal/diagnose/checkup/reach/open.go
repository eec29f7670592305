package reach

import (
	"context"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"

	"bouncer/internal/core/refusal"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/diagnose/checkup/exam"
)

// initialize is the request that opens a conversation (MCP, lifecycle).
func (h *web) initialize(purpose evidence.Purpose, address string, forms []attached) request {
	id := h.ID()
	return request{
		purpose: purpose, method: http.MethodPost, address: address, id: id, forms: forms,
		body: wire.AppendRequest(nil, id, "initialize", h.Opening()),
	}
}

// probe opens a conversation only to see whether it can be opened.
func (h *web) probe(ctx context.Context, purpose evidence.Purpose, address string) evidence.Exchange {
	q := h.initialize(purpose, address, h.forms)
	q.limit = min(probeTime, h.Options.Patience)
	x, raw := h.send(ctx, q)
	h.opens(&x, raw)
	h.keep(x)
	if x.Opened {
		h.farewell(ctx, address, x, h.forms)
	}
	return x
}

func (h *web) keep(x evidence.Exchange) { h.Evidence.Probes = append(h.Evidence.Probes, x) }

// opens tells whether an answer opens a conversation, and what it says then.
func (h *web) opens(x *evidence.Exchange, raw []byte) (s evidence.Session) {
	kind := x.Header["Content-Type"]
	labelled := x.Reply.Event || mediaType(kind) == "application/json"
	if x.Status != http.StatusOK || x.Reply.Shape != evidence.Message || x.Reply.ID != "" || !x.Reply.Result || !labelled {
		return s
	}
	s = exam.ReadGreeting(raw)
	s.Reply = x.Reply
	x.Opened = true
	return s
}

// speak opens a conversation and, when that fails, probes further to tell why.
func (w *way) speak(ctx context.Context) error {
	h := w.web
	began := time.Now()
	if w.Target.Server.Transport == team.EventStream && !w.Target.Detect {
		if h.openLegacy(ctx, w.Target.Server.URL) {
			return ctx.Err()
		}
		w.Evidence.Target.Transport = team.EventStream
		h.try(ctx, w.Target.Server.URL)
		h.further(ctx)
		h.told(began)
		return ctx.Err()
	}
	if w.Target.Server.Transport == team.REST {
		h.api(ctx, began)
		return ctx.Err()
	}
	w.Evidence.Target.Transport = team.StreamableHTTP
	if h.try(ctx, w.Target.Server.URL) {
		return ctx.Err()
	}
	if w.Target.Detect && h.maybeLegacy() && h.openLegacy(ctx, w.Target.Server.URL) {
		w.Evidence.Target.Transport = team.EventStream
		return ctx.Err()
	}
	h.further(ctx)
	h.told(began)
	return ctx.Err()
}

// api looks at a REST API: there is no conversation to open, so its base address is asked
// with the credential, where everything but a refusal or a failure is well.
func (h *web) api(ctx context.Context, began time.Time) {
	h.Tell("http", "asking the API")
	x, _ := h.send(ctx, request{
		purpose: evidence.Initialize, method: http.MethodGet, address: h.Target.Server.URL, forms: h.forms, most: 64 << 10,
		header: http.Header{"Accept": {"application/json"}},
	})
	x.Opened = x.Status != 0 && x.Status < 500 && !slices.Contains([]int{401, 402, 403, 407, 421, 429}, x.Status)
	h.keep(x)
	if !x.Opened {
		if x.Status == 0 {
			h.greeting()
		}
		h.told(began)
		return
	}
	h.Stage("http", exam.OK, x.Took, fmt.Sprintf("status %d, %s", x.Status, x.Header["Content-Type"]))
	s := &evidence.Session{Opened: true, Listed: true, Revision: team.REST}
	for _, operation := range h.Target.Server.Operations {
		s.Tools = append(s.Tools, evidence.Tool{Name: operation.Name})
	}
	h.Evidence.Session = s
}

// told writes the stages of a conversation that could not be opened.
func (h *web) told(began time.Time) {
	x := h.Evidence.Find(evidence.Initialize)
	if x == nil {
		x = h.Evidence.Find(evidence.Legacy)
	}
	if x == nil {
		return
	}
	switch {
	case x.Status == 0:
		h.Stage("http", exam.Failed, x.Took, fmt.Sprintf("no answer: %v", x.Err))
	case slices.Contains([]int{401, 402, 403, 407}, x.Status):
		h.Stage("http", exam.OK, x.Took, "status "+strconv.Itoa(x.Status))
		h.Stage("authorization", exam.Failed, time.Since(began), x.Header["Www-Authenticate"], x.Reply.Quote)
	case x.Status == http.StatusOK:
		h.Stage("http", exam.OK, x.Took, "status 200, "+x.Header["Content-Type"])
	default:
		h.Stage("http", exam.Failed, x.Took, "status "+strconv.Itoa(x.Status), x.Reply.Quote)
	}
	var tried []string
	for _, p := range h.Evidence.Probes {
		if p.Purpose != evidence.Initialize {
			tried = append(tried, fmt.Sprintf("%s: %s %d", p.Purpose, p.URL, p.Status))
		}
	}
	if len(tried) > 0 && x.Status != 401 && x.Status != 403 {
		h.Stage("transport", exam.Failed, 0, tried...)
	}
}

// try opens a conversation in either era, and reads what the server lists. It is false
// when it could not be opened.
func (h *web) try(ctx context.Context, address string) bool {
	h.Tell("http", "asking for a conversation")
	q := h.initialize(evidence.Initialize, address, h.forms)
	x, raw := h.send(ctx, q)
	s := h.opens(&x, raw)
	h.keep(x)
	if x.Status == 0 {
		h.greeting()
		return false
	}
	if !x.Opened {
		return h.tryStateless(ctx, address, x)
	}
	h.accepted(&x, "streamable HTTP")
	talk := &overHTTP{web: h, address: address, revision: s.Revision, began: time.Now()}
	if len(x.Redirects) > 0 {
		talk.address = x.Redirects[len(x.Redirects)-1]
	}
	if x.Header["Mcp-Session-Id"] != "" {
		talk.session = h.lastSession
	}
	h.Converse(ctx, talk, s)
	talk.end(ctx)
	return true
}

// accepted writes the stages on the way to a conversation.
func (h *web) accepted(x *evidence.Exchange, transport string) {
	h.Stage("http", exam.OK, x.Took, fmt.Sprintf("status %d, %s", x.Status, x.Header["Content-Type"]))
	h.Stage("transport", exam.OK, 0, transport)
	if len(x.Sent) > 0 {
		h.Stage("authorization", exam.OK, 0, "the credential is accepted")
	}
}

// tryStateless asks a server that refused initialize with an error whether it speaks the
// stateless era (MCP 2026-07-28, versioning).
func (h *web) tryStateless(ctx context.Context, address string, x evidence.Exchange) bool {
	e := x.Reply.Error
	if e == nil || x.Status == 401 || x.Status == 403 {
		return false
	}
	if e.Code != wire.CodeNoRevision && e.Code != wire.CodeMethodNotFound && e.Code != wire.CodeHeaderMismatch &&
		e.Code != wire.CodeInvalidRequest {
		return false
	}
	talk := &overHTTP{web: h, address: address, revision: wire.NewestStateless, stateless: true, began: time.Now()}
	a, frame := talk.Ask(ctx, "server/discover", nil)
	if frame == nil || a.Error != nil || a.Reply.Shape != evidence.Message {
		return false
	}
	s, ok := exam.ReadDiscovery(frame)
	if !ok {
		return false
	}
	for i := range h.Evidence.Probes {
		h.Evidence.Probes[i].Opened = h.Evidence.Probes[i].Opened || h.Evidence.Probes[i].Purpose == evidence.Initialize
	}
	h.accepted(&x, "streamable HTTP, each request by itself")
	h.Converse(ctx, talk, s)
	return true
}

// farewell ends a session that was opened only to see whether it can be.
func (h *web) farewell(ctx context.Context, address string, x evidence.Exchange, forms []attached) {
	if x.Header["Mcp-Session-Id"] == "" || h.lastSession == "" {
		return
	}
	h.send(ctx, request{
		method: http.MethodDelete, address: address, forms: forms, limit: time.Second,
		header: http.Header{"Mcp-Session-Id": {h.lastSession}},
	})
}

// maybeLegacy reports whether the answer could be that of an event stream of 2024.
func (h *web) maybeLegacy() bool {
	x := h.Evidence.Find(evidence.Initialize)
	return x != nil && slices.Contains([]int{400, 404, 405, 406, 415, 501}, x.Status)
}

// further probes what tells look-alikes apart, by how the first answer was.
func (h *web) further(ctx context.Context) {
	x := h.Evidence.Find(evidence.Initialize)
	if x == nil || ctx.Err() != nil {
		return
	}
	h.Tell("http", "looking closer")
	switch s := x.Status; {
	case s == 0:
		h.unanswered(ctx, x)
	case s == 401 || s == 403 || s == 407 || h.speaksOfCredentials(x):
		h.credentials(ctx, x)
	case s == 421:
		h.host(ctx)
	case s >= 500 && s != 501:
		h.again(ctx)
	case s >= 300 && s < 400 || s == 429 || s == 402 || x.BodyTimeout:
	case s == 200 && x.Reply.Shape == evidence.Message:
	case s == 400 && h.at.Scheme == "http" && h.speaksTLS(ctx):
	default:
		if h.Evidence.Find(evidence.Legacy) == nil {
			h.legacyStream(ctx, h.Target.Server.URL)
		}
		h.paths(ctx)
		if s == 400 {
			h.host(ctx)
		}
	}
}

// speaksOfCredentials reports whether an error is about the credential, whatever its
// status.
func (h *web) speaksOfCredentials(x *evidence.Exchange) bool {
	return refusal.OfRefusal(x) && (x.Status == 400 || x.Status == 422 || x.Status == 200 && x.Reply.Error != nil)
}

// unanswered looks at a port on which no HTTP answer came.
func (h *web) unanswered(ctx context.Context, x *evidence.Exchange) {
	if h.at.Scheme == "http" && !x.Timeout {
		secure := *h.at
		secure.Scheme = "https"
		h.handshakeQuietly(ctx, &secure)
	}
	if h.Evidence.TLS != nil && h.Evidence.TLS.Other && len(h.Evidence.TLS.Chain) > 0 {
		return
	}
	h.get(ctx, evidence.PlainGet, h.Target.Server.URL)
	if !x.Timeout {
		h.again(ctx)
	}
}

// speaksTLS reports whether a port that answered 400 to plain HTTP speaks TLS, which many
// servers answer so.
func (h *web) speaksTLS(ctx context.Context) bool {
	secure := *h.at
	secure.Scheme = "https"
	h.handshakeQuietly(ctx, &secure)
	return len(h.Evidence.TLS.Chain) > 0
}

// handshakeQuietly looks whether a port speaks TLS, without a stage of its own.
func (h *web) handshakeQuietly(ctx context.Context, at *url.URL) {
	h.Quietly(func() { h.handshake(ctx, at) })
}

// again sends the same once more, to tell once from always.
func (h *web) again(ctx context.Context) {
	if x := h.probe(ctx, evidence.Again, h.Target.Server.URL); x.Status == 0 {
		h.greeting()
	}
}

// get is a plain GET, which shows whether anything answers at all.
func (h *web) get(ctx context.Context, purpose evidence.Purpose, address string) evidence.Exchange {
	x, _ := h.send(ctx, request{
		purpose: purpose, method: http.MethodGet, address: address, forms: h.forms, limit: min(getTime, h.Options.Patience), most: 4 << 10,
		header: http.Header{"Accept": {"*/*"}},
	})
	h.keep(x)
	return x
}

// host tries another Host, which tells whether it is the name that is refused.
func (h *web) host(ctx context.Context) {
	port := h.at.Port()
	name := "localhost"
	if port != "" {
		name += ":" + port
	}
	if h.at.Host == name {
		name = "127.0.0.1:" + port
	}
	q := h.initialize(evidence.OtherHost, h.Target.Server.URL, h.forms)
	q.host, q.limit = name, min(probeTime, h.Options.Patience)
	x, raw := h.send(ctx, q)
	h.opens(&x, raw)
	h.keep(x)
	if x.Opened {
		h.farewell(ctx, h.Target.Server.URL, x, h.forms)
	}
}

// paths tries where servers usually answer.
func (h *web) paths(ctx context.Context) {
	ctx, stop := context.WithTimeout(ctx, 2*probeTime)
	defer stop()
	for _, there := range elsewhere(h.at) {
		if ctx.Err() != nil {
			return
		}
		h.Tell("transport", "trying "+there.Path)
		x := h.probe(ctx, evidence.OtherPath, there.String())
		if x.Opened {
			return
		}
	}
}

// mediaType is the bare media type of a Content-Type.
func mediaType(header string) string {
	kind, _, err := mime.ParseMediaType(header)
	if err != nil {
		return ""
	}
	return kind
}

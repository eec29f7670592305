package relay

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/journal"
	"bouncer/internal/link"
	"bouncer/internal/upstream"
)

// quietFor is how long a call may be silent before its reply becomes a stream
// that is kept alive.
const quietFor = 5 * time.Second

// job is one request on its way to a server: decided, carried, answered and
// recorded. In the stateless era it may be parked between two requests of the
// agent, when c, out, id and the body are those of the latest one.
type job struct {
	carrier *Carrier
	c       *caller
	out     *answer
	id      []byte // of the agent's request, raw
	body    []byte
	p       wire.Params
	kind    tools.Kind
	t       *Target
	e       *journal.Entry // nil for what is not recorded
	ask     link.Ask
	hop     wire.Hop

	ctx    context.Context // of the whole job
	cancel context.CancelCauseFunc
	// recalled is set when the agent repeats a call that Bouncer itself had put off.
	recalled bool
	l        link.Link
	x        link.Exchange

	// Requests of the server that wait for the agent.
	asking    sync.WaitGroup
	mu        sync.Mutex
	questions map[string]context.CancelFunc // by the server's raw id

	// What is read ahead; nil when nothing is.
	ahead chan arrival
	// Of a link that is the agent's own: what came on it outside of any request.
	own      *private
	injected chan arrival

	// Of a parked job that is taken up again: what it waited for, and the answers.
	pending *lot
	replies map[string]json.RawMessage
}

// arrival is what the exchange of a job returned.
type arrival struct {
	frame []byte
	f     wire.Frame
	err   error
}

// next returns the next message for the job.
func (j *job) next() ([]byte, wire.Frame, error) {
	if j.ahead == nil && j.own == nil {
		return j.x.Next()
	}
	a, _ := j.soon(nil)
	return a.frame, a.f, a.err
}

// soon waits for the next message, but not longer than until late.
func (j *job) soon(late <-chan time.Time) (arrival, bool) {
	if j.ahead == nil {
		c := make(chan arrival, 1)
		j.ahead = c
		x := j.x
		// It ends with the exchange.
		go func() {
			frame, f, err := x.Next()
			c <- arrival{frame, f, err}
		}()
	}
	select {
	case a := <-j.ahead:
		j.ahead = nil
		return a, true
	case a := <-j.injected:
		return a, true
	case <-late:
		return arrival{}, false
	}
}

// carry decides and carries one request. The returned function releases what the
// reply was written from.
func (carrier *Carrier) Carry(ctx context.Context, c *caller, body []byte, f wire.Frame, p wire.Params, out *answer) func() {
	j := &job{carrier: carrier, c: c, out: out, id: f.ID.Of(body), body: body, p: p, hop: wire.Hop{Method: f.Method, To: c.rev, Info: carrier.o.Info}}
	if f.Method != "completion/complete" && !strings.HasPrefix(f.Method, "tasks/") {
		j.e = &journal.Entry{Call: team.Call{At: time.Now(), Agent: c.agent.Name, Person: c.agent.Owner, Decision: "refuse", Outcome: "refused"}}
		if c.s != nil {
			j.e.Session = c.s.id[:8]
		}
		j.e.Args, j.e.BytesIn = carrier.journal.Keep(p.Arguments.Of(body)), p.Arguments.End-p.Arguments.Start
	}
	if !j.decide(f) {
		return nil
	}
	j.hop.From, j.hop.Rename = j.t.Server.Offer.Revision, c.shelf.rename(j.t.Server.Name)
	if state := j.ownState(); state != "" {
		parked, ok := carrier.lots.claim(state, j)
		if !ok {
			out.refuse(j.id, wire.CodeInvalidParams, "the requestState is expired, was used before, or belongs to another request", nil)
			return nil
		}
		if parked != nil {
			return parked.resumed(ctx, j)
		}
		j.recalled = true
	}
	if m := j.t.Server.Missing; m != nil {
		j.lacks(ctx, m.Text, m.Link)
		return nil
	}
	return j.start(ctx)
}

// ownState returns the requestState if it is one that Bouncer gave out.
func (j *job) ownState() string {
	if !j.c.stateless() || j.p.RequestState.Empty() {
		return ""
	}
	state, _ := wire.StringAt(j.body, j.p.RequestState)
	if wire.Stateless(j.hop.From) && !strings.HasPrefix(state, stateRecall+".") {
		return "" // the server's own
	}
	return state
}

// lacks answers a request for which there is no credential: with the address
// where it can be supplied, in the way that the agent's revision has for that.
// The call can simply be repeated afterwards.
func (j *job) lacks(ctx context.Context, text, at string) {
	text = j.t.Server.Name + ": " + text
	if j.record(ctx, "unreachable", text, nil) != nil {
		return
	}
	if at == "" || !j.c.caps.URL {
		if at != "" {
			text += "; open " + at + " in a browser, then repeat the call"
		}
		j.toolError(text)
		return
	}
	data := map[string]any{"elicitations": []map[string]string{{"mode": "url", "elicitationId": randomID(), "url": at, "message": text}}}
	if !j.c.stateless() {
		j.out.refuse(j.id, wire.CodeURLElicitation, text, data)
		return
	}
	// Texts cannot fail to be written.
	raw, _ := json.Marshal(data)
	j.recall(wire.RPCError{Code: wire.CodeURLElicitation, Message: text, Data: raw})
}

// decide finds what the request is about and whether the agent may have it. What
// is refused is answered and recorded here.
func (j *job) decide(f wire.Frame) bool {
	v, name := j.c.visitor, j.p.Subject
	why := ""
	if strings.HasPrefix(f.Method, "tasks/") {
		t, ok := j.carrier.task(j.c, name)
		if !ok {
			j.out.refuse(j.id, wire.CodeInvalidParams, "there is no task "+strconv.Quote(bounded(name))+" of this agent", nil)
			return false
		}
		j.t, j.l = t.target, t.link
		j.ask = link.Ask{
			Ask:   wire.Ask{Method: f.Method, Src: j.body, Params: f.Params, P: j.p, Subject: name, KeepInput: true},
			Stage: "call", Client: link.Client{Caps: j.c.caps, Info: j.c.info},
		}
		return true
	}
	switch f.Method {
	case "tools/call":
		j.kind = tools.Tools
	case "prompts/get":
		j.kind = tools.Prompts
	case "resources/read":
		j.kind = tools.Resources
	case "completion/complete":
		j.kind = tools.Prompts
		if kind, _ := wire.StringAt(j.body, wire.Member(j.body, wire.Member(j.body, f.Params, "ref"), "type")); kind == "ref/resource" {
			j.kind = tools.Resources
		}
	}
	if j.kind == tools.Resources {
		j.t, why = v.world.resource(v.agent, v.shelf, name)
	} else if j.t = v.shelf.lists[j.kind].names[name]; j.t == nil {
		j.t, why = v.world.Refusal(v.agent, j.kind, v.scope, name)
	}
	if j.e != nil {
		if j.t == nil {
			j.e.Server, j.e.Tool = v.scope, bounded(j.kind.Rule(name))
		} else {
			j.e.Server, j.e.Tool, j.e.Rule = j.t.Server.Name, bounded(j.kind.Rule(j.t.Tool.Name)), j.t.Decision.RuleID()
		}
	}
	if why != "" {
		j.turnAway(why)
		return false
	}
	if j.e != nil {
		j.e.Decision = "admit"
	}
	j.ask = link.Ask{
		Ask:   wire.Ask{Method: f.Method, Src: j.body, Params: f.Params, P: j.p, Subject: j.t.Tool.Name},
		Stage: "call", Mirrors: j.t.Mirrors, Client: link.Client{Caps: j.c.caps, Info: j.c.info, Level: j.c.logLevel()},
	}
	return true
}

// turnAway answers what is not within the agent's reach, and records it.
func (j *job) turnAway(why string) {
	code, data := wire.CodeInvalidParams, map[string]string{"reason": "unknown-" + strings.TrimSuffix(string(j.kind), "s"), strings.TrimSuffix(string(j.kind), "s"): bounded(j.p.Subject)}
	if j.kind == tools.Resources {
		data["uri"] = bounded(j.p.Subject)
	}
	if t := j.t; t != nil {
		code, data = wire.CodeNotAdmitted, map[string]string{"reason": "no-rule-admits", "server": t.Server.Name, "tool": j.kind.Rule(t.Tool.Name), "ask": j.c.world.Ask}
		switch {
		case t.Decision.Admitted():
			data["reason"] = "server-paused"
		case t.Decision.Effect == rules.Refuse && t.Decision.Rule != nil:
			data["reason"], data["rule"] = "rule-refuses", t.Decision.RuleID()
		}
	}
	if j.e != nil {
		j.e.Error, j.e.Micros = why, time.Since(j.e.At).Microseconds()
		if err := j.carrier.journal.Record(j.carrier.ctx, j.e); err != nil {
			j.carrier.o.Log.Error("a refusal could not be recorded", "error", err)
		}
	}
	j.out.refuse(j.id, code, why, data)
}

// start sends the request and carries it to its end.
func (j *job) start(ctx context.Context) func() {
	// In the initialize era the agent going away is no cancellation, so the job
	// has a life of its own: until it is answered, cancelled, or out of time.
	jctx, cancel := context.WithCancelCause(j.carrier.ctx)
	jctx, stop := context.WithTimeout(jctx, j.carrier.o.CallTimeout)
	j.ctx, j.cancel = jctx, func(why error) {
		cancel(why)
		stop()
		if j.c.s != nil && why == nil {
			j.c.s.finish(string(j.id))
		}
		if j.own != nil && why == nil {
			j.own.remove(j)
		}
	}
	if j.c.s != nil {
		if !j.c.s.begin(string(j.id), cancel) {
			cancel(nil) // not the job's own way to end, which would end the other one
			stop()
			j.out.refuse(j.id, wire.CodeInvalidRequest, "this request id is in use, or too many calls are in flight in this session", nil)
			return nil
		}
		j.ask.Pauses = j.out.canPause()
	}
	j.carrier.calls.Add(1)
	defer j.carrier.calls.Done()
	j.out.linger()
	release := j.bind(ctx)
	var err error
	if j.l == nil {
		j.l, err = j.carrier.linkFor(j.ctx, j)
	}
	if err == nil {
		if rev := j.l.Revision(); rev != "" {
			j.hop.From = rev
		}
		if level := j.ask.Client.Level; level != "" {
			// Only the messages suffer when a server does not take the level.
			_ = j.l.Log(j.ctx, level)
		}
		if wire.Stateless(j.hop.From) && j.c.stateless() && !j.recalled {
			j.ask.KeepInput = true
		}
		j.ask.ID = j.l.NextID()
		j.x, err = j.l.Begin(j.ctx, &j.ask)
	}
	if err != nil {
		release()
		j.broken(ctx, err)
		j.cancel(nil)
		return nil
	}
	return j.finish(ctx, release, false)
}

// bind cancels the job when the agent goes away, in the era in which that is the
// cancel. The returned function ends that; it returns false when it is too late.
func (j *job) bind(ctx context.Context) (release func() bool) {
	if !j.c.stateless() {
		return func() bool { return true }
	}
	return context.AfterFunc(ctx, func() { j.cancel(errCanceled) })
}

// resumed takes a parked job up again with the agent's answers in the request of
// now.
func (parked *job) resumed(ctx context.Context, now *job) func() {
	parked.c, parked.out, parked.id, parked.body, parked.p = now.c, now.out, now.id, now.body, now.p
	parked.carrier.calls.Add(1)
	defer parked.carrier.calls.Done()
	l, replies := parked.pending, parked.replies
	parked.pending, parked.replies = nil, nil
	if l.missing(replies) {
		// Without its answers there is nothing to go on with; it is asked again.
		if !parked.carrier.lots.put(l) {
			l.expire()
			parked.out.refuse(parked.id, wire.CodeInternal, "too many calls wait for answers", nil)
		}
		return nil
	}
	parked.out.linger()
	for key, q := range l.questions {
		if err := parked.x.Answer(parked.ctx, wire.AppendResult(nil, q.id, replies[key])); err != nil {
			parked.broken(ctx, err)
			parked.x.Close()
			parked.cancel(nil)
			return nil
		}
	}
	return parked.finish(ctx, parked.bind(ctx), false)
}

// finish carries what the server sends until the job is answered or parked;
// resting tells that the agent's reply is over already.
func (j *job) finish(ctx context.Context, release func() bool, resting bool) func() {
	var pause *link.Pause
	for round := 0; ; round++ {
		frame, f, err := j.pump()
		switch {
		case errors.As(err, &pause):
			j.out.pause(pause.Retry)
			if resting {
				continue
			}
			// The rest has a goroutine of its own, since the reply ends with this one.
			j.keepOwn()
			j.carrier.calls.Go(func() {
				if done := j.finish(context.WithoutCancel(ctx), release, true); done != nil {
					done()
				}
			})
			return nil
		case errors.Is(err, errParked):
			if release() {
				return nil
			}
			err = errCanceled // the agent left at the same moment
			fallthrough
		case err != nil:
			release()
			j.broken(ctx, err)
			j.x.Close()
			j.cancel(nil)
			return nil
		}
		if f.Error.Empty() && !f.ResultType.Empty() {
			again, err := j.further(frame, f, round)
			if err == nil && again {
				continue
			}
			if err != nil {
				release()
				j.x.Close()
				j.unable(ctx, err)
				j.cancel(nil)
				return nil
			}
		}
		release()
		return j.answer(ctx, frame, f)
	}
}

// keepOwn gives the job its own copy of the request, which is otherwise valid
// only until the reply ends.
func (j *job) keepOwn() {
	j.body, j.id = bytes.Clone(j.body), bytes.Clone(j.id)
	j.ask.Src = j.body
}

// pump passes on what the server sends before its answer, and returns the
// answer; errParked when the agent has to be asked first.
func (j *job) pump() ([]byte, wire.Frame, error) {
	for {
		frame, f, err := j.next()
		var pause *link.Pause
		if errors.As(err, &pause) {
			return nil, f, err // what was asked of the agent stays asked
		}
		if err != nil || f.Kind == wire.Response {
			j.settle()
		}
		if err != nil || f.Kind == wire.Response {
			return frame, f, err
		}
		if f.Kind == wire.Notification {
			j.notice(frame, f)
			continue
		}
		if parked := j.question(frame, f); parked {
			j.settle()
			return nil, f, errParked
		}
	}
}

// notice passes on a notification that came in the stream of the request.
func (j *job) notice(frame []byte, f wire.Frame) {
	switch f.Method {
	case "notifications/progress":
		token := j.p.Meta.Token
		if token.Empty() {
			return
		}
		at := wire.Member(frame, f.Params, "progressToken")
		if at.Empty() || string(at.Of(frame)) != strconv.FormatUint(j.x.ID(), 10) {
			return
		}
		j.out.before(wire.Splice(nil, frame, wire.Span{Start: 0, End: len(frame)}, wire.Edit{Span: at, With: token.Of(j.body)}))
	case "notifications/message":
		if j.c.hears(frame, f) {
			j.out.before(frame)
		}
	case "notifications/cancelled":
		// The server gave up a question of its own.
		id := wire.Member(frame, f.Params, "requestId").Of(frame)
		j.mu.Lock()
		if stop := j.questions[string(id)]; stop != nil {
			stop()
		}
		j.mu.Unlock()
	case "notifications/elicitation/complete", "notifications/tasks/status":
		if !j.c.stateless() {
			j.out.before(frame)
		}
	default:
		j.t.Server.Keeper.Deliver(frame, f)
	}
}

// hears reports whether the agent wants a log message.
func (c *caller) hears(frame []byte, f wire.Frame) bool {
	return wanted(c.logLevel(), frame, f)
}

func wanted(level string, frame []byte, f wire.Frame) bool {
	if level == "" || f.Params.Empty() {
		return false
	}
	at, _ := wire.StringAt(frame, wire.Member(frame, f.Params, "level"))
	return wire.Level(at) >= wire.Level(level)
}

// answer sends the server's answer on, and records it.
func (j *job) answer(ctx context.Context, frame []byte, f wire.Frame) func() {
	defer j.cancel(nil)
	outcome, payload, text := "ok", f.Result, ""
	switch {
	case f.Failed:
		outcome = "tool-error"
	case !f.Error.Empty():
		outcome, payload = "error", f.Error
		text = wire.ReadError(frame, f.Error).Message
	}
	if err := j.record(ctx, outcome, text, payload.Of(frame)); err != nil {
		j.x.Close()
		return nil
	}
	if !j.noteTask(frame, f) {
		j.out.refuse(j.id, wire.CodeInternal, "the task was begun, but its id is taken, or there are too many tasks", nil)
		return j.x.Close
	}
	if f.Error.Empty() && j.hop.Plain(frame, f) {
		j.out.relayed(frame, f, j.id)
	} else if f.Error.Empty() {
		j.out.final(wire.AppendResultFor(make([]byte, 0, len(frame)+len(j.id)), frame, f, j.id, &j.hop))
	} else {
		j.fault(frame, f)
	}
	return j.x.Close
}

// record hands the call to the journal. In strict mode no answer leaves without
// its record, so that an error means that something else was answered.
func (j *job) record(ctx context.Context, outcome, text string, payload []byte) error {
	e := j.e
	if e == nil {
		return nil
	}
	e.Outcome, e.Error, e.Micros = outcome, text, time.Since(e.At).Microseconds()
	e.Reply, e.BytesOut = j.carrier.journal.Keep(payload), len(payload)
	err := j.carrier.journal.Record(context.WithoutCancel(ctx), e)
	if err != nil {
		j.carrier.o.Log.ErrorContext(ctx, "a call could not be recorded", "server", e.Server, "tool", e.Tool, "error", err)
		j.out.refuse(j.id, wire.CodeInternal, "the call was carried out, but could not be recorded, so its answer is withheld", nil)
	}
	return err
}

// fault sends a server's error on, as far as it concerns the agent.
func (j *job) fault(frame []byte, f wire.Frame) {
	e := wire.ReadError(frame, f.Error)
	switch {
	case e.Code == wire.CodeNoResource:
		j.out.refuse(j.id, wire.CodeInvalidParams, e.Message, map[string]string{"uri": j.p.Subject})
	case e.Code == wire.CodeNoCapability && !j.c.stateless():
		j.toolError(j.t.Server.Name + ": " + e.Message)
	case e.Code == wire.CodeURLElicitation && j.c.stateless():
		j.recall(e)
	case e.Code == wire.CodeURLElicitation && !j.c.caps.URL:
		j.toolError(j.t.Server.Name + ": " + e.Message + addresses(e.Data))
	case e.Code == 0 || (e.Code > -32000 && e.Code < -30000):
		j.out.refuse(j.id, wire.CodeInternal, e.Message, map[string]any{"code": e.Code})
	default:
		j.out.last(wire.AppendWithID(nil, frame, f, j.id), j.out.status(e.Code))
	}
}

// addresses puts the addresses of an error into words.
func addresses(data json.RawMessage) string {
	var d struct {
		Elicitations []struct{ Message, URL string }
	}
	if json.Unmarshal(data, &d) != nil {
		return ""
	}
	var b strings.Builder
	for i, e := range d.Elicitations {
		if i < 10 {
			b.WriteString("; open " + e.URL + " first (" + e.Message + ")")
		}
	}
	return b.String()
}

// toolError answers with what the model can read: an error of the tool where
// there is a tool, else an error of the protocol.
func (j *job) toolError(text string) {
	if j.hop.Method != "tools/call" {
		j.out.refuse(j.id, wire.CodeInternal, text, nil)
		return
	}
	kind := ""
	if j.c.stateless() {
		kind = `"resultType":"complete",`
	}
	j.out.final(wire.AppendResult(nil, j.id, append(append([]byte(`{`+kind+`"isError":true,"content":[{"type":"text","text":`), wire.Quote(text)...), "}]}"...)))
}

// unable ends a job whose server wants something that the agent cannot give.
func (j *job) unable(ctx context.Context, why error) {
	var missing *missingError
	if j.record(ctx, "error", why.Error(), nil) != nil {
		return
	}
	if errors.As(why, &missing) && j.c.stateless() {
		j.out.refuse(j.id, wire.CodeNoCapability, why.Error(), map[string]json.RawMessage{"requiredCapabilities": missing.need})
		return
	}
	j.toolError(j.t.Server.Name + ": " + why.Error())
}

// broken ends a job that got no answer: it tells the agent why, the server that
// the answer is no longer wanted, and the journal both.
func (j *job) broken(ctx context.Context, err error) {
	e := j.e
	if e == nil {
		e = &journal.Entry{Call: team.Call{At: time.Now(), Server: j.t.Server.Name}}
	}
	e.Micros = time.Since(e.At).Microseconds()
	e.Outcome = "unreachable"
	code, message := wire.CodeInternal, ""
	silent := false
	carrier := j.carrier
	var f *link.Failure
	switch why := context.Cause(j.ctx); {
	case errors.Is(why, errCanceled), errors.Is(why, errLeft), errors.Is(why, errRevoked):
		// A cancelled request gets no answer (MCP, cancellation).
		e.Outcome, e.Error, silent = "cancelled", why.Error(), !errors.Is(why, errRevoked)
		message = why.Error()
	case errors.Is(why, errShutdown):
		e.Outcome, message = "cancelled", "Bouncer was stopped before the answer came; whether the tool ran is not known"
	case errors.Is(why, context.DeadlineExceeded):
		e.Outcome = "timeout"
		message = j.t.Server.Name + ": the tool did not answer within " + carrier.o.CallTimeout.String() + "; whether it ran is not known"
	case errors.As(err, &f) && f.SignIn != "" && j.e != nil:
		j.lacks(ctx, f.Finding.Message, f.SignIn)
		return
	case errors.As(err, &f):
		message = j.t.Server.Name + ": " + f.Finding.Message + "; " + f.Finding.Remedy
		switch {
		case f.Cause == diagnosis.ArgumentsRefused:
			code = wire.CodeInvalidParams
		case f.Finding.Actor != "" && f.Finding.Cause != diagnosis.OutcomeUnknown:
			message += " (or ask " + j.c.world.Ask + ")"
		}
		if f.Refused && code == wire.CodeInternal {
			j.t.Server.Keeper.Report(f.Finding)
		}
	default:
		message = j.t.Server.Name + ": the call could not be carried"
		carrier.o.Log.ErrorContext(ctx, "a call broke", "server", e.Server, "tool", e.Tool, "error", err)
	}
	if e.Error == "" {
		e.Error = message
	}
	if j.ask.ID != 0 && (e.Outcome == "cancelled" || e.Outcome == "timeout") {
		// A farewell for somebody who has left gets its own, short time.
		bye, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		_ = j.l.Cancel(bye, j.ask.ID, e.Error)
		stop()
	}
	if j.e != nil {
		if err := carrier.journal.Record(context.WithoutCancel(ctx), j.e); err != nil {
			carrier.o.Log.ErrorContext(ctx, "a broken call could not be recorded", "error", err)
		}
	}
	if !silent {
		j.out.refuse(j.id, code, message, nil)
	}
}

// linkFor chooses the link that carries the job.
func (carrier *Carrier) linkFor(ctx context.Context, j *job) (link.Link, error) {
	c, k := j.c, j.t.Server.Keeper
	var paired link.Link
	if c.s != nil && wire.Stateless(j.t.Server.Offer.Revision) {
		if paired = k.Session(ctx, c.caps); paired == nil {
			return k.Link(c.caps), nil
		}
	}
	if k.NeedsDedicated(c.caps, c.s != nil) {
		n, err := carrier.privates.get(ctx, carrier, c, j.t.Server)
		if err != nil {
			return nil, err
		}
		if n != nil {
			j.own, j.injected = n, make(chan arrival, 16)
			n.add(j)
			select {
			case <-n.ready:
			case <-ctx.Done():
			}
			return n.link, nil
		}
	}
	if paired != nil {
		return paired, nil
	}
	return k.Link(c.caps), nil
}

// privates are the links that belong to one agent session, or to one agent that
// has none.
type privates struct {
	mu  sync.Mutex
	all map[privateKey]*private
}

type privateKey struct {
	holder, server string
	caps           wire.Caps
}

type private struct {
	link   link.Transport
	keeper *upstream.Connection
	used   time.Time
	stop   context.CancelFunc // ends the listening
	ended  chan struct{}
	ready  chan struct{} // closed when it hears what is said outside of requests

	mu   sync.Mutex
	jobs []*job // under way on it, oldest first
}

func (n *private) add(j *job) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.jobs = append(n.jobs, j)
}

func (n *private) remove(j *job) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.jobs = slices.DeleteFunc(n.jobs, func(x *job) bool { return x == j })
}

// inject hands a message that names no request to the newest job: all are one
// agent's. It returns false when there is none.
func (n *private) inject(frame []byte, f wire.Frame) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.jobs) == 0 {
		return false
	}
	select {
	case n.jobs[len(n.jobs)-1].injected <- arrival{frame: bytes.Clone(frame), f: f}:
		return true
	default:
		return false
	}
}

// idlePrivate is how long a link without a session is kept unused.
const idlePrivate = 30 * time.Minute

var errTooManyLinks = &link.Failure{Finding: diagnosis.Finding{Cause: diagnosis.NotOffered, Message: "too many private conversations are open", Remedy: "end some sessions first"}}

// maxPrivates bounds the private links of the whole service: each may be a
// process.
const maxPrivates = 2_000

// get returns the link of the caller alone; nil where there can be none, and
// the agent shares one.
func (p *privates) get(ctx context.Context, carrier *Carrier, c *caller, s *Server) (*private, error) {
	key := privateKey{"agent " + c.agent.ID, s.ID, c.caps}
	if c.s != nil {
		key.holder = c.s.id
	}
	p.mu.Lock()
	n := p.all[key]
	if n != nil && n.keeper == s.Keeper {
		n.used = time.Now()
		p.mu.Unlock()
		return n, nil
	}
	defer p.mu.Unlock()
	if n != nil {
		delete(p.all, key)
		carrier.Go(func() { n.close(carrier.ctx) })
	}
	if len(p.all) >= maxPrivates {
		return nil, errTooManyLinks
	}
	n = &private{keeper: s.Keeper, used: time.Now(), ended: make(chan struct{}), ready: make(chan struct{})}
	n.link = s.Keeper.OpenDedicated(c.caps, c.s != nil, func(frame []byte, f wire.Frame, answer func([]byte)) bool {
		return carrier.onUnsolicited(c.s, n, frame, f, answer)
	})
	if n.link == nil {
		return nil, nil
	}
	lctx, stop := context.WithCancel(carrier.ctx)
	n.stop = stop
	go func() { defer close(n.ended); upstream.Attend(lctx, n.link, sync.OnceFunc(func() { close(n.ready) })) }()
	if p.all == nil {
		p.all = map[privateKey]*private{}
	}
	p.all[key] = n
	return n, nil
}

func (n *private) close(ctx context.Context) {
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer stop()
	n.stop()
	n.link.Close(ctx)
	<-n.ended
}

// drop takes the links out that match, for the caller to close.
func (p *privates) drop(match func(privateKey, *private) bool) (out []*private) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, n := range p.all {
		if match(key, n) {
			out = append(out, n)
			delete(p.all, key)
		}
	}
	return out
}

// of returns the links of one holder.
func (p *privates) of(holder string) (out []link.Link) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, n := range p.all {
		if key.holder == holder {
			out = append(out, n.link)
		}
	}
	return out
}

// overheard takes what a server says on a private link outside of any request.
func (carrier *Carrier) onUnsolicited(s *Session, n *private, frame []byte, f wire.Frame, answer func([]byte)) bool {
	if (f.Kind == wire.Request || f.Method == "notifications/message") && n.inject(frame, f) {
		return true
	}
	if f.Kind == wire.Request {
		if s == nil {
			return false
		}
		if need, known := s.caps.Missing(f.Method, f.Params.Of(frame)); !known || need != nil {
			return false
		}
		frame = bytes.Clone(frame)
		carrier.calls.Go(func() {
			ctx, stop := context.WithTimeout(carrier.ctx, carrier.o.CallTimeout)
			defer stop()
			reply, err := carrier.ask(ctx, s, n.link, frame, f, s.box.put)
			if err != nil {
				reply = wire.AppendError(nil, f.ID.Of(frame), wire.CodeInternal, "the client did not answer", nil)
			}
			answer(reply)
		})
		return true
	}
	switch f.Method {
	case "notifications/message":
		if s != nil && wanted(s.logLevel(), frame, f) {
			s.box.put(frame)
		}
	case "notifications/elicitation/complete", "notifications/tasks/status":
		if s != nil {
			s.box.put(frame)
		}
	default:
		n.keeper.Deliver(frame, f)
	}
	return true
}

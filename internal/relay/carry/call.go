package carry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/journal"
	"bouncer/internal/link"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/stream"
	"bouncer/internal/snapshot"
)

// Call is one request on its way to a server: decided, carried, answered and
// recorded. In the stateless era it may be parked between two requests of the
// agent, when c, out, id and the body are those of the latest one.
type Call struct {
	carrier     *Carrier
	caller      *Caller
	reply       *stream.Reply
	id          []byte // of the agent's request, raw
	body        []byte
	params      wire.Params
	kind        tools.Kind
	target      *snapshot.Target
	entry       *journal.Entry // nil for what is not recorded
	ask         link.Ask
	translation wire.Translation

	ctx    context.Context // of the whole job
	cancel context.CancelCauseFunc
	flight gate.Holder // for whom it is counted among the calls under way
	// recalled is set when the agent repeats a call that Bouncer itself had put off.
	recalled bool
	link     link.Link
	exchange link.Exchange

	// Requests of the server that wait for the agent.
	asking   sync.WaitGroup
	mu       sync.Mutex                    // guards what follows; held over no write and no wait
	requests map[string]context.CancelFunc // by the server's raw id

	// What is read ahead; nil when nothing is.
	ahead chan message
	// Of a link that is the agent's own: what came on it outside of any request.
	dedicated *dedicated
	injected  chan message

	// Of a parked job that is taken up again: what it waited for, and the answers.
	suspension *suspension
	replies    map[string]json.RawMessage
	limits     team.CallLimits // of the tool that is called

	principal Principal   // who began it
	holding   *rules.Rule // the rule that holds it; nil for none
	consent   *askedUser  // what its agent's user was asked; nil for nothing
	asked     []byte      // the arguments as they came, where others are sent
	counted   func(bytes int)
	begun     time.Time // when it was sent to the server
	probe     bool      // the breaker watches what becomes of it
}

// message is what the exchange of a job returned.
type message struct {
	frame []byte
	f     wire.Frame
	err   error
}

// next returns the next message for the job.
func (j *Call) next() ([]byte, wire.Frame, error) {
	if j.ahead == nil && j.dedicated == nil {
		return j.exchange.Next()
	}
	a, _ := j.soon(nil)
	return a.frame, a.f, a.err
}

// soon waits for the next message, but not longer than until late.
func (j *Call) soon(late <-chan time.Time) (message, bool) {
	if j.ahead == nil {
		c := make(chan message, 1)
		j.ahead = c
		x := j.exchange
		// It ends with the exchange.
		go func() {
			frame, f, err := x.Next()
			c <- message{frame, f, err}
		}()
	}
	select {
	case a := <-j.ahead:
		j.ahead = nil
		return a, true
	case a := <-j.injected:
		return a, true
	case <-late:
		return message{}, false
	}
}

// Carry decides and carries one request. The returned function releases what the
// reply was written from.
func (carrier *Carrier) Carry(ctx context.Context, c *Caller, body []byte, f wire.Frame, p wire.Params, out *stream.Reply) func() {
	j := &Call{
		carrier:     carrier,
		caller:      c,
		reply:       out,
		id:          f.ID.Of(body),
		body:        body,
		params:      p,
		translation: wire.Translation{Method: f.Method, To: c.Revision, Info: carrier.o.Info},
	}
	if f.Method != "completion/complete" && !strings.HasPrefix(f.Method, "tasks/") {
		j.entry = &journal.Entry{
			Call: team.Call{
				At: time.Now(), Agent: c.Agent.Name, Person: c.Agent.Owner, Decision: team.DecisionRefuse, Outcome: team.OutcomeRefused,
			},
		}
		if c.Session != nil {
			j.entry.Session = c.Session.Id[:8]
		}
		if carrier.o.Trace != nil {
			j.entry.Trace = carrier.o.Trace(c.TraceParent(body, p))
		}
		j.entry.Args, j.entry.BytesIn = carrier.journal.Keep(p.Arguments.Of(body)), p.Arguments.End-p.Arguments.Start
	}
	if !j.decide(f) {
		return nil
	}
	j.translation.From, j.translation.Rename = j.target.Server.Offer.Revision, c.Catalog.RenameURI(j.target.Server.Name)
	if state := j.ownState(); state != "" {
		parked, ok := carrier.suspensions.resume(state, j)
		if !ok {
			out.Refuse(j.id, wire.CodeInvalidParams, "the requestState is expired, was used before, or belongs to another request", nil)
			return nil
		}
		switch {
		case parked == nil:
			j.recalled = true
		case parked.suspension.asked == nil:
			return parked.resumed(ctx, j)
		case !j.decided(parked):
			return nil
		}
	}
	if !(control{j}).judge() {
		return nil
	}
	if m := j.target.Server.Missing; m != nil {
		j.refuseMissing(ctx, m.Text, m.Link)
		return nil
	}
	if j.entry != nil {
		// What cannot be recorded must not run.
		if err := carrier.journal.Ready(); err != nil {
			j.putOff(ctx, "the call was not carried out: "+err.Error()+"; ask "+c.Snapshot.Contacts)
			return nil
		}
	}
	if err := carrier.flights.Take(c.GateHolder(), 1); err != nil {
		j.putOff(ctx, err.Error()+"; wait until some have ended")
		return nil
	}
	return j.start(ctx)
}

// write records a call that brought no answer of its server, as far as it can be recorded.
func (j *Call) write(ctx context.Context) {
	j.entry.Micros = time.Since(j.entry.At).Microseconds()
	if err := j.carrier.journal.Record(context.WithoutCancel(ctx), j.entry); err != nil {
		j.carrier.o.Log.ErrorContext(ctx, "a call could not be recorded", "outcome", j.entry.Outcome, "error", err)
	}
}

// putOff refuses a call that the agent may have, but not now.
func (j *Call) putOff(ctx context.Context, why string) {
	if e := j.entry; e != nil {
		e.Decision, e.Outcome, e.Error = team.DecisionRefuse, team.OutcomeRefused, why
		j.write(ctx)
	}
	j.reply.Refuse(j.id, wire.CodeInternal, why, nil)
}

// tripped answers a call to a server that lets calls wait in vain.
func (j control) tripped(ctx context.Context, why string) {
	text := j.target.Server.Name + ": " + why
	if e := j.entry; e != nil {
		e.Outcome, e.Error = team.OutcomeUnreachable, text
		j.write(ctx)
	}
	j.reply.Refuse(j.id, wire.CodeInternal, text, map[string]string{"reason": "server-not-answering", "server": j.target.Server.Name})
}

// ownState returns the requestState if it is one that Bouncer gave out.
func (j *Call) ownState() string {
	if !j.caller.Stateless() || j.params.RequestState.Empty() {
		return ""
	}
	state, _ := wire.StringAt(j.body, j.params.RequestState)
	if wire.Stateless(j.translation.From) && !strings.HasPrefix(state, stateRecall+".") {
		return "" // the server's own
	}
	return state
}

// refuseMissing answers a request for which there is no credential: with the address
// where it can be supplied, in the way that the agent's revision has for that.
// The call can simply be repeated afterwards.
func (j *Call) refuseMissing(ctx context.Context, text, at string) {
	text = j.target.Server.Name + ": " + text
	if j.record(ctx, team.OutcomeNoCredential, text, nil) != nil {
		return
	}
	if at == "" || !j.caller.Caps.URL {
		if at != "" {
			text += "; open " + at + " in a browser, then repeat the call"
		}
		j.toolError(text)
		return
	}
	data := map[string]any{
		"elicitations": []map[string]string{{"mode": "url", "elicitationId": session.NewID(), "url": at, "message": text}},
	}
	if !j.caller.Stateless() {
		j.reply.Refuse(j.id, wire.CodeURLElicitation, text, data)
		return
	}
	// Texts cannot fail to be written.
	raw, _ := json.Marshal(data)
	j.retryLater(wire.RPCError{Code: wire.CodeURLElicitation, Message: text, Data: raw})
}

// decide finds what the request is about and whether the agent may have it. What
// is refused is answered and recorded here.
func (j *Call) decide(f wire.Frame) bool {
	v, name := j.caller.Principal, j.params.Subject
	why := ""
	if strings.HasPrefix(f.Method, "tasks/") {
		t, ok := j.carrier.task(j.caller, name)
		if !ok {
			j.reply.Refuse(j.id, wire.CodeInvalidParams, "there is no task "+strconv.Quote(snapshot.Clip(name))+" of this agent", nil)
			return false
		}
		j.target, j.link = t.target, t.link
		j.ask = link.Ask{
			Ask:   wire.Ask{Method: f.Method, Src: j.body, Params: f.Params, P: j.params, Subject: name, KeepInput: true},
			Stage: "call", Client: link.Client{Caps: j.caller.Caps, Info: j.caller.Info},
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
		if j.params.Ref == wire.RefResource {
			j.kind = tools.Resources
		}
	}
	if j.kind == tools.Resources {
		j.target, why = v.Snapshot.Resource(v.Agent, v.How, v.Catalog, name)
	} else if j.target = v.Catalog.Find(j.kind, name); j.target == nil {
		j.target, why = v.Snapshot.Refusal(v.Agent, v.How, j.kind, v.Scope, name)
	}
	if j.entry != nil {
		if j.target == nil {
			j.entry.Server, j.entry.Tool = v.Scope, snapshot.Clip(j.kind.Rule(name))
		} else {
			j.entry.Server, j.entry.Tool = j.target.Server.Name, snapshot.Clip(j.kind.Rule(j.target.Tool.Name))
			if d := j.target.Decision; why == "" || !j.target.Admitted() { // a paused server is no matter of a rule
				j.entry.Rule, j.entry.RuleName = d.RuleID(), d.RuleName()
			}
		}
	}
	if why != "" {
		j.refuse(why)
		return false
	}
	if j.entry != nil {
		j.entry.Decision = team.DecisionAdmit
	}
	j.ask = link.Ask{
		Ask:   wire.Ask{Method: f.Method, Src: j.body, Params: f.Params, P: j.params, Subject: j.target.Tool.Name},
		Stage: "call", Mirrors: j.target.Mirrors, Client: link.Client{Caps: j.caller.Caps, Info: j.caller.Info, Level: j.caller.LogLevel()},
	}
	return true
}

// refuse answers what is not within the agent's reach, and records it.
func (j *Call) refuse(why string) {
	code, data := wire.CodeInvalidParams, snapshot.Unknown(j.kind, j.params.Subject)
	if j.target != nil {
		code, data = wire.CodeNotAdmitted, j.target.Refused(j.kind, j.caller.Snapshot.Contacts)
	}
	if j.entry != nil {
		j.entry.Error = why
		j.write(j.carrier.ctx)
	}
	j.reply.Refuse(j.id, code, why, data)
}

// limitResult takes the size that rules allow, where it is less than the server's.
func limitResult(j *Call) {
	if j.target.Shape == nil || j.target.Shape.ResultBytes == 0 {
		return
	}
	if most := j.target.Shape.ResultBytes >> 10; j.limits.ResultKiB == 0 || most < j.limits.ResultKiB {
		j.limits.ResultKiB, j.limits.TooLarge = most, team.TooLargeCut
	}
}

// holdTime is how long the call may wait until somebody decides about it.
func holdTime(j *Call) time.Duration {
	if j.holding == nil {
		return 0
	}
	return j.holding.HoldFor()
}

// patience is how long the call may take.
func (j *Call) patience() time.Duration {
	if j.limits.CallSeconds > 0 {
		return time.Duration(j.limits.CallSeconds) * time.Second
	}
	return j.carrier.o.CallTimeout
}

// start sends the request and carries it to its end.
func (j *Call) start(ctx context.Context) func() {
	// In the initialize era the agent going away is no cancellation, so the job
	// has a life of its own: until it is answered, cancelled, or out of time.
	jctx, cancel := context.WithCancelCause(j.carrier.ctx)
	if j.kind == tools.Tools {
		j.limits = j.target.Server.LimitsOf(j.target.Tool.Name)
		limitResult(j)
	}
	if j.limits.CallSeconds > 0 {
		// The connection's own limit is for calls with the usual one.
		_ = http.NewResponseController(j.reply.Writer).SetWriteDeadline(time.Now().Add(j.patience() + 2*time.Minute))
	}
	jctx, stop := context.WithTimeout(jctx, j.patience()+holdTime(j))
	landed := sync.OnceFunc(func() { j.carrier.flights.Give(j.flight, 1) })
	j.flight = j.caller.GateHolder()
	j.ctx, j.cancel = jctx, func(why error) {
		cancel(why)
		stop()
		if why == nil {
			landed()
		}
		if j.caller.Session != nil && why == nil {
			j.caller.Session.Finish(string(j.id))
		}
		if j.dedicated != nil && why == nil {
			j.dedicated.remove(j)
		}
		if j.principal.Agent != nil && why == nil {
			j.carrier.running.Remove(j)
		}
		if j.probe && why == nil {
			j.carrier.breakers.GiveBack(j.target.Server.ID)
		}
		if j.counted != nil && why == nil {
			j.counted(j.entry.BytesIn + j.entry.BytesOut)
		}
	}
	if j.caller.Session == nil {
		j.principal = j.caller.Principal
		j.carrier.running.Add(j)
	}
	if j.caller.Session != nil {
		if !j.caller.Session.Begin(string(j.id), cancel) {
			cancel(nil) // not the job's own way to end, which would end the other one
			stop()
			landed()
			j.reply.Refuse(j.id, wire.CodeInvalidRequest, "this request id is in use, or too many calls are in flight in this session", nil)
			return nil
		}
		j.ask.Pauses = j.reply.CanInterrupt()
	}
	j.carrier.calls.Add(1)
	defer j.carrier.calls.Done()
	j.reply.KeepAlive()
	release := j.bind(ctx)
	if !(control{j}).withinBudgets(ctx, release) || j.holding != nil && !(control{j}).await(ctx, release) {
		return nil
	}
	err := begin(j)
	var tripped *trippedError
	if errors.As(err, &tripped) {
		release()
		control{j}.tripped(ctx, tripped.why)
		j.cancel(nil)
		return nil
	}
	if err != nil {
		release()
		j.failBefore(ctx, err)
		j.cancel(nil)
		return nil
	}
	return j.finish(ctx, release, false)
}

// trippedError says why the breaker lets no call to a server.
type trippedError struct{ why string }

func (e *trippedError) Error() string { return e.why }

// begin takes the way to the server and sends the request.
func begin(j *Call) (err error) {
	if j.link == nil {
		if j.link, err = j.carrier.linkFor(j.ctx, j); err != nil {
			return err
		}
	}
	if rev := j.link.Revision(); rev != "" {
		j.translation.From = rev
	}
	if level := j.ask.Client.Level; level != "" {
		// Only the messages suffer when a server does not take the level.
		_ = j.link.Log(j.ctx, level)
	}
	if wire.Stateless(j.translation.From) && j.caller.Stateless() && !j.recalled {
		j.ask.KeepInput = true
	}
	why, probe := j.carrier.breakers.Let(j.target.Server.ID, time.Now())
	if why != "" {
		return &trippedError{why}
	}
	j.probe = probe
	j.ask.ID = j.link.NextID()
	j.begun = time.Now()
	ctx := j.ctx
	if j.entry != nil && j.entry.Trace != nil {
		j.entry.Trace.Begun = j.begun
		ctx = link.WithTrace(ctx, j.entry.Trace)
	}
	j.exchange, err = j.link.Begin(ctx, &j.ask)
	return err
}

// bind cancels the job when the agent goes away, in the era in which that is the
// cancel. The returned function ends that; it returns false when it is too late.
func (j *Call) bind(ctx context.Context) (release func() bool) {
	if !j.caller.Stateless() {
		return func() bool { return true }
	}
	return context.AfterFunc(ctx, func() { j.cancel(session.ErrCanceled) })
}

// resumed takes a parked job up again with the agent's answers in the request of
// now.
func (j *Call) resumed(ctx context.Context, now *Call) func() {
	j.caller, j.reply, j.id, j.body, j.params = now.caller, now.reply, now.id, now.body, now.params
	j.carrier.calls.Add(1)
	defer j.carrier.calls.Done()
	l, replies := j.suspension, j.replies
	j.suspension, j.replies = nil, nil
	if l.missing(replies) {
		// Without its answers there is nothing to go on with; it is asked again.
		if !j.carrier.suspensions.put(l) {
			l.expire()
			j.reply.Refuse(j.id, wire.CodeInternal, "too many calls wait for answers", nil)
		}
		return nil
	}
	j.reply.KeepAlive()
	for key, q := range l.questions {
		if err := j.exchange.Answer(j.ctx, wire.AppendResult(nil, q.id, replies[key])); err != nil {
			j.failBefore(ctx, err)
			j.exchange.Close()
			j.cancel(nil)
			return nil
		}
	}
	return j.finish(ctx, j.bind(ctx), false)
}

// finish carries what the server sends until the job is answered or parked;
// resting tells that the agent's reply is over already.
func (j *Call) finish(ctx context.Context, release func() bool, resting bool) func() {
	var pause *link.Pause
	for round := 0; ; round++ {
		frame, f, err := j.forward()
		switch {
		case errors.As(err, &pause):
			j.reply.Interrupt(pause.Retry)
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
		case errors.Is(err, errSuspended):
			if release() {
				return nil
			}
			err = session.ErrCanceled // the agent left at the same moment
			fallthrough
		case err != nil:
			release()
			j.failBefore(ctx, err)
			j.exchange.Close()
			j.cancel(nil)
			return nil
		}
		if f.Error.Empty() && !f.ResultType.Empty() {
			again, err := j.askForInput(frame, f, round)
			if err == nil && again {
				continue
			}
			if err != nil {
				release()
				j.exchange.Close()
				j.failDuring(ctx, err)
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
func (j *Call) keepOwn() {
	j.body, j.id = bytes.Clone(j.body), bytes.Clone(j.id)
	j.ask.Src = j.body
}

// forward passes on what the server sends before its answer, and returns the
// answer; errParked when the agent has to be asked first.
func (j *Call) forward() ([]byte, wire.Frame, error) {
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
		if parked := j.takeRequest(frame, f); parked {
			j.settle()
			return nil, f, errSuspended
		}
	}
}

// notice passes on a notification that came in the stream of the request.
func (j *Call) notice(frame []byte, f wire.Frame) {
	switch f.Method {
	case "notifications/progress":
		token := j.params.Meta.Token
		if token.Empty() {
			return
		}
		at := wire.Member(frame, f.Params, "progressToken")
		if at.Empty() || string(at.Of(frame)) != strconv.FormatUint(j.exchange.ID(), 10) {
			return
		}
		j.reply.Before(wire.Splice(nil, frame, wire.Span{Start: 0, End: len(frame)}, wire.Edit{Span: at, With: token.Of(j.body)}))
	case "notifications/message":
		if j.caller.Hears(frame, f) {
			j.reply.Before(frame)
		}
	case "notifications/cancelled":
		// The server gave up a question of its own.
		id := wire.Member(frame, f.Params, "requestId").Of(frame)
		j.mu.Lock()
		if stop := j.requests[string(id)]; stop != nil {
			stop()
		}
		j.mu.Unlock()
	case "notifications/elicitation/complete", "notifications/tasks/status":
		if !j.caller.Stateless() {
			j.reply.Before(frame)
		}
	default:
		j.target.Server.Connection.Deliver(frame, f)
	}
}

// answer sends the server's answer on, and records it.
func (j *Call) answer(ctx context.Context, frame []byte, f wire.Frame) func() {
	defer j.cancel(nil)
	j.carrier.breakers.Note(j.target.Server.ID, true, 0, "", time.Time{})
	outcome, payload, text := team.OutcomeOK, f.Result, ""
	switch {
	case f.Failed:
		outcome = team.OutcomeToolError
	case !f.Error.Empty():
		outcome, payload = team.OutcomeError, f.Error
		text = wire.ReadError(frame, f.Error).Message
	}
	var hideErr error
	if frame, f, hideErr = (control{j}).hide(frame, f); hideErr != nil {
		if j.record(ctx, team.OutcomeError, hideErr.Error(), nil) == nil {
			j.toolError(j.target.Server.Name + ": the tool answered, but its result is withheld: " + hideErr.Error())
		}
		return j.exchange.Close
	}
	if f.Error.Empty() {
		payload = f.Result
	}
	if limit := j.limits.ResultKiB << 10; limit > 0 && f.Error.Empty() && payload.End-payload.Start > limit {
		var cut bool
		if frame, f, text, cut = j.reduce(frame, f, limit); !cut {
			if j.record(ctx, team.OutcomeError, text, nil) == nil {
				j.toolError(j.target.Server.Name + ": " + text + "; ask for less: narrower arguments, fewer fields, or a page at a time")
			}
			return j.exchange.Close
		}
		payload = f.Result
	}
	// Before the answer leaves: an agent that does not read it cannot keep its call out of the journal.
	if err := j.record(ctx, outcome, text, payload.Of(frame)); err != nil {
		j.exchange.Close()
		return nil
	}
	if !j.noteTask(frame, f) {
		j.reply.Refuse(j.id, wire.CodeInternal, "the task was begun, but its id is taken, or there are too many tasks", nil)
		return j.exchange.Close
	}
	if f.Error.Empty() && j.translation.Plain(frame, f) {
		j.reply.Relay(frame, f, j.id)
	} else if f.Error.Empty() {
		j.reply.Result(wire.AppendResultFor(make([]byte, 0, len(frame)+len(j.id)), frame, f, j.id, &j.translation))
	} else {
		j.fault(frame, f)
	}
	return j.exchange.Close
}

// reduce shortens an answer whose result is larger than the tool's limit, as far as that
// is wanted and can be done. text says what happened either way.
func (j *Call) reduce(frame []byte, f wire.Frame, limit int) (_ []byte, _ wire.Frame, text string, ok bool) {
	size := f.Result.End - f.Result.Start
	text = fmt.Sprintf("the result has %d bytes, and the limit of the tool is %d", size, limit)
	if j.limits.TooLarge != team.TooLargeCut {
		return frame, f, text, false
	}
	whole := wire.Span{Start: 0, End: len(j.target.Tool.Raw)}
	structured := !wire.Member(j.target.Tool.Raw, whole, "outputSchema").Empty()
	short, ok := tools.CutResult(f.Result.Of(frame), limit, structured)
	if !ok {
		return frame, f, text + "; it cannot be cut and stay valid", false
	}
	id := f.ID.Of(frame)
	frame = wire.AppendResult(nil, id, short)
	g, err := wire.ReadFrame(frame)
	if err != nil {
		return frame, f, text, false
	}
	return frame, g, text + "; it was cut", true
}

// record hands the call to the journal. In strict mode no answer leaves without
// its record, so that an error means that something else was answered.
func (j *Call) record(ctx context.Context, outcome, text string, payload []byte) error {
	e := j.entry
	if e == nil {
		return nil
	}
	e.Outcome, e.Error, e.Micros = outcome, text, time.Since(e.At).Microseconds()
	e.Reply, e.BytesOut = j.carrier.journal.Keep(payload), len(payload)
	err := j.carrier.journal.Record(context.WithoutCancel(ctx), e)
	if err != nil {
		j.carrier.o.Log.ErrorContext(ctx, "a call could not be recorded", "server", e.Server, "tool", e.Tool, "error", err)
		j.reply.Refuse(j.id, wire.CodeInternal, "the call was carried out, but could not be recorded, so its answer is withheld", nil)
	}
	return err
}

// fault sends a server's error on, as far as it concerns the agent.
func (j *Call) fault(frame []byte, f wire.Frame) {
	e := wire.ReadError(frame, f.Error)
	switch {
	case e.Code == wire.CodeNoResource:
		j.reply.Refuse(j.id, wire.CodeInvalidParams, e.Message, map[string]string{"uri": j.params.Subject})
	case e.Code == wire.CodeNoCapability && !j.caller.Stateless():
		j.toolError(j.target.Server.Name + ": " + e.Message)
	case e.Code == wire.CodeURLElicitation && j.caller.Stateless():
		j.retryLater(e)
	case e.Code == wire.CodeURLElicitation && !j.caller.Caps.URL:
		j.toolError(j.target.Server.Name + ": " + e.Message + wire.Addresses(e.Data))
	case e.Code == 0 || (e.Code > -32000 && e.Code < -30000):
		j.reply.Refuse(j.id, wire.CodeInternal, e.Message, map[string]any{"code": e.Code})
	default:
		j.reply.Last(wire.AppendWithID(nil, frame, f, j.id), j.reply.StatusOf(e.Code))
	}
}

// toolError answers with what the model can read: an error of the tool where
// there is a tool, else an error of the protocol.
func (j *Call) toolError(text string) {
	if j.translation.Method != "tools/call" {
		j.reply.Refuse(j.id, wire.CodeInternal, text, nil)
		return
	}
	j.reply.Result(wire.AppendToolError(nil, j.id, text, j.caller.Stateless()))
}

// failDuring ends a job whose server wants something that the agent cannot give.
func (j *Call) failDuring(ctx context.Context, why error) {
	var missing *missingError
	if j.record(ctx, team.OutcomeError, why.Error(), nil) != nil {
		return
	}
	if errors.As(why, &missing) && j.caller.Stateless() {
		j.reply.Refuse(j.id, wire.CodeNoCapability, why.Error(), map[string]json.RawMessage{"requiredCapabilities": missing.need})
		return
	}
	j.toolError(j.target.Server.Name + ": " + why.Error())
}

// failBefore ends a job that got no answer: it tells the agent why, the server that
// the answer is no longer wanted, and the journal both.
func (j *Call) failBefore(ctx context.Context, err error) {
	e := j.entry
	if e == nil {
		e = &journal.Entry{Call: team.Call{At: time.Now(), Server: j.target.Server.Name}}
	}
	e.Micros = time.Since(e.At).Microseconds()
	e.Outcome = team.OutcomeUnreachable
	code, message := wire.CodeInternal, ""
	silent := false
	carrier := j.carrier
	var f *link.Failure
	switch why := context.Cause(j.ctx); {
	case errors.Is(why, session.ErrCanceled), errors.Is(why, session.ErrLeft), errors.Is(why, session.ErrRevoked):
		// A cancelled request gets no answer (MCP, cancellation).
		e.Outcome, e.Error, silent = team.OutcomeCancelled, why.Error(), !errors.Is(why, session.ErrRevoked)
		message = why.Error()
	case errors.Is(why, session.ErrShutdown):
		e.Outcome, message = team.OutcomeCancelled, "Bouncer was stopped before the answer came; whether the tool ran is not known"
	case errors.Is(why, context.DeadlineExceeded):
		e.Outcome = team.OutcomeTimeout
		message = j.target.Server.Name + ": the tool did not answer within " + span.Text(j.patience()) + "; whether it ran is not known"
	case errors.As(err, &f) && f.SignIn != "" && j.entry != nil:
		j.refuseMissing(ctx, f.Finding.Message, f.SignIn)
		return
	case errors.As(err, &f):
		found := j.target.Server.Connection.Explain(f.Finding)
		message = j.target.Server.Name + ": " + found.Message + "; " + found.Remedy
		switch {
		case f.Cause == diagnosis.ArgumentsRefused:
			code = wire.CodeInvalidParams
		case f.Finding.Actor != "" && f.Finding.Cause != diagnosis.OutcomeUnknown:
			message += " (or ask " + j.caller.Snapshot.Contacts + ")"
		}
		if f.Refused && code == wire.CodeInternal {
			j.target.Server.Connection.Report(f.Finding)
		}
	default:
		message = j.target.Server.Name + ": the call could not be carried"
		carrier.o.Log.ErrorContext(ctx, "a call broke", "server", e.Server, "tool", e.Tool, "error", err)
	}
	if e.Error == "" {
		e.Error = message
	}
	took := time.Since(j.begun)
	if e.Outcome != team.OutcomeTimeout && e.Outcome != team.OutcomeUnreachable || j.begun.IsZero() {
		took = 0 // nobody knows what the server would have said
	}
	carrier.breakers.Note(j.target.Server.ID, false, took, message, time.Now())
	if j.ask.ID != 0 && (e.Outcome == team.OutcomeCancelled || e.Outcome == team.OutcomeTimeout) {
		// A farewell for somebody who has left gets its own, short time.
		bye, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		_ = j.link.Cancel(bye, j.ask.ID, e.Error)
		stop()
	}
	if j.entry != nil {
		j.write(ctx)
	}
	if !silent {
		j.reply.Refuse(j.id, code, message, nil)
	}
}

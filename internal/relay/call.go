package relay

import (
	"context"
	"errors"
	"strconv"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/journal"
	"bouncer/internal/link"
	"bouncer/internal/team"
)

// quietFor is how long a call may be silent before its reply becomes a stream
// that is kept alive.
const quietFor = 5 * time.Second

// call decides and carries one tools/call. The returned function releases what
// the reply was written from.
func (d *Door) call(ctx context.Context, v visitor, s *Session, body []byte, f wire.Frame, out *answer) func() {
	began := time.Now()
	id := f.ID.Of(body)
	e := &journal.Entry{Call: team.Call{At: began, Agent: v.agent.Name, Person: v.agent.Owner, Decision: "refuse", Outcome: "refused", Session: s.id[:8]}}
	c, err := wire.ReadCall(body, f.Params)
	if err != nil {
		fe := &wire.FrameError{Code: wire.CodeInvalidParams, What: err.Error()}
		errors.As(err, &fe)
		out.final(wire.AppendError(nil, id, fe.Code, fe.What, nil))
		return nil
	}
	e.Args, e.BytesIn = d.journal.Keep(c.Arguments.Of(body)), c.Arguments.End-c.Arguments.Start
	t := v.shelf.names[c.Name]
	if t == nil {
		d.refuse(ctx, v, e, c, id, out)
		return nil
	}
	e.Server, e.Tool, e.Decision, e.Rule = t.Server.Name, t.Tool.Name, "admit", t.Decision.RuleID()

	// The agent going away is no cancellation in this era, so the call has a life
	// of its own: until it is answered, cancelled by name, or out of time.
	cctx, cancel := context.WithCancelCause(d.ctx)
	defer cancel(nil)
	key := string(id)
	if !s.begin(key, cancel) {
		out.final(wire.AppendError(nil, id, wire.CodeInvalidRequest, "this request id is in use, or too many calls are in flight in this session", nil))
		return nil
	}
	d.calls.Add(1)
	defer d.calls.Done()
	defer s.finish(key)
	cctx, stop := context.WithTimeout(cctx, d.o.CallTimeout)
	defer stop()

	out.linger()
	l := t.Server.Keeper.Link()
	up := l.NextID()
	x, err := l.Begin(cctx, wire.AppendCall(make([]byte, 0, len(body)+64), body, f.Params, c, up, t.Tool.Name), up, "call")
	if err != nil {
		d.broken(ctx, cctx, v, t, l, up, e, id, err, out)
		return nil
	}
	frame, rf, err := d.carry(x, c, body, up, out)
	if err != nil {
		x.Close()
		d.broken(ctx, cctx, v, t, l, up, e, id, err, out)
		return nil
	}
	e.Outcome = "ok"
	payload := rf.Result
	switch {
	case rf.Failed:
		e.Outcome = "tool-error"
	case !rf.Error.Empty():
		e.Outcome, payload = "error", rf.Error
		e.Error = wire.ReadError(frame, rf.Error).Message
	}
	e.Reply, e.BytesOut = d.journal.Keep(payload.Of(frame)), payload.End-payload.Start
	e.Micros = time.Since(began).Microseconds()
	// In strict mode no answer leaves without its record.
	if err := d.journal.Record(context.WithoutCancel(ctx), e); err != nil {
		x.Close()
		d.o.Log.ErrorContext(ctx, "a call could not be recorded", "server", e.Server, "tool", e.Tool, "error", err)
		out.final(wire.AppendError(nil, id, wire.CodeInternal, "the tool ran, but the call could not be recorded, so its answer is withheld", nil))
		return nil
	}
	out.final(wire.AppendWithID(make([]byte, 0, len(frame)+len(id)), frame, rf, id))
	return x.Close
}

// carry passes on what the server sends before the answer, and returns the
// answer.
func (d *Door) carry(x link.Exchange, c wire.Call, body []byte, up uint64, out *answer) ([]byte, wire.Frame, error) {
	for {
		frame, f, err := x.Next()
		if err != nil || f.Kind == wire.Response {
			return frame, f, err
		}
		if f.Method != "notifications/progress" || c.ProgressToken.Empty() {
			continue // nothing else was asked for
		}
		at := wire.Member(frame, f.Params, "progressToken")
		if at.Empty() || string(at.Of(frame)) != strconv.FormatUint(up, 10) {
			continue
		}
		out.before(wire.Splice(nil, frame, wire.Span{Start: 0, End: len(frame)}, wire.Edit{Span: at, With: c.ProgressToken.Of(body)}))
	}
}

// refuse answers a call that is not within the agent's reach, and records it.
func (d *Door) refuse(ctx context.Context, v visitor, e *journal.Entry, c wire.Call, id []byte, out *answer) {
	t, why := v.world.Refusal(v.agent, v.scope, c.Name)
	code, data := wire.CodeInvalidParams, map[string]string{"reason": "unknown-tool", "tool": c.Name}
	e.Server, e.Tool, e.Error = v.scope, bounded(c.Name), why
	if t != nil {
		e.Server, e.Tool, e.Rule = t.Server.Name, t.Tool.Name, t.Decision.RuleID()
		code, data = wire.CodeNotAdmitted, map[string]string{"reason": "no-rule-admits", "server": t.Server.Name, "tool": t.Tool.Name, "ask": v.world.Ask}
		if e.Rule != "" {
			data["reason"], data["rule"] = "rule-refuses", e.Rule
		}
		if t.Decision.Admitted() {
			data["reason"] = "server-paused"
		}
	}
	e.Micros = time.Since(e.At).Microseconds()
	if err := d.journal.Record(context.WithoutCancel(ctx), e); err != nil {
		d.o.Log.ErrorContext(ctx, "a refusal could not be recorded", "error", err)
	}
	out.final(wire.AppendError(nil, id, code, why, data))
}

// broken ends a call that got no answer: it tells the agent why, the server
// that the answer is no longer wanted, and the journal both.
func (d *Door) broken(ctx, cctx context.Context, v visitor, t *Target, l link.Link, up uint64, e *journal.Entry, id []byte, err error, out *answer) {
	e.Micros = time.Since(e.At).Microseconds()
	e.Outcome = "unreachable"
	code, message := wire.CodeInternal, ""
	silent := false
	var f *link.Failure
	switch why := context.Cause(cctx); {
	case errors.Is(why, errCanceled), errors.Is(why, errLeft), errors.Is(why, errRevoked):
		// A cancelled request gets no answer (MCP, cancellation).
		e.Outcome, e.Error, silent = "cancelled", why.Error(), !errors.Is(why, errRevoked)
		message = why.Error()
	case errors.Is(why, errShutdown):
		e.Outcome, message = "cancelled", "Bouncer was stopped before the answer came; whether the tool ran is not known"
	case errors.Is(why, context.DeadlineExceeded):
		e.Outcome = "timeout"
		message = t.Server.Name + ": the tool did not answer within " + d.o.CallTimeout.String() + "; whether it ran is not known"
	case errors.As(err, &f):
		message = t.Server.Name + ": " + f.Finding.Message + "; " + f.Finding.Remedy
		if f.Finding.Actor != "" && f.Finding.Cause != diagnosis.OutcomeUnknown {
			message += " (or ask " + v.world.Ask + ")"
		}
		if f.Refused {
			t.Server.Keeper.Report(f.Finding)
		}
	default:
		message = t.Server.Name + ": the call could not be carried"
		d.o.Log.ErrorContext(ctx, "a call broke", "server", e.Server, "tool", e.Tool, "error", err)
	}
	if e.Error == "" {
		e.Error = message
	}
	if e.Outcome == "cancelled" || e.Outcome == "timeout" {
		// A farewell for somebody who has left gets its own, short time.
		bye, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		_ = l.Cancel(bye, up, e.Error)
		stop()
	}
	if err := d.journal.Record(context.WithoutCancel(ctx), e); err != nil {
		d.o.Log.ErrorContext(ctx, "a broken call could not be recorded", "error", err)
	}
	if !silent {
		out.final(wire.AppendError(nil, id, code, message, nil))
	}
}

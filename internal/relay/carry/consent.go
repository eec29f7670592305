package carry

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/held"
	"bouncer/internal/relay/consent"
)

// askedUser is a held call of an agent without a session whose user is asked. Nothing of it
// has begun: the agent repeats its request with the answer.
type askedUser struct {
	rule    *rules.Rule
	call    held.Call
	began   time.Time
	verdict *held.Verdict
	err     error
}

// mayAsk reports whether the agent's own user is asked about a call that the rule holds.
func (j control) mayAsk(rule *rules.Rule) bool {
	return rule.AsksUser && j.caller.Caps.Form && j.carrier.o.Held != nil
}

// decision is what is decided about the call: by its agent's user where the rule says so and
// the assistant can ask, else by whoever may, in the room where held calls wait.
func (j control) decision(rule *rules.Rule) (held.Verdict, error) {
	if a := j.consent; a != nil && a.rule.ID == rule.ID && a.rule.Describe() == rule.Describe() {
		if a.err != nil {
			return held.Verdict{}, a.err
		}
		j.carrier.o.Held.Settled(a.call, *a.verdict)
		return *a.verdict, nil
	}
	until := time.Now().Add(rule.HoldFor())
	stop := j.reply.Waiting(j.params.Meta.Token.Of(j.body), func() string {
		return fmt.Sprintf(
			"held by rule %s until a person decides, for %s at most",
			rule.Name,
			span.Text(time.Until(until).Round(time.Second)),
		)
	})
	defer stop()
	call := j.heldCall(rule)
	if j.caller.Session == nil || !j.mayAsk(rule) || j.carrier.o.Held.Covered(call) {
		return j.carrier.o.Held.Wait(j.ctx, call)
	}
	v, err := j.askInSession(rule, call)
	if errors.Is(err, errNoWay) {
		return j.carrier.o.Held.Wait(j.ctx, call)
	}
	return v, err
}

// askInSession asks the agent's user on the stream of the call.
func (j control) askInSession(rule *rules.Rule, call held.Call) (held.Verdict, error) {
	frame := wire.AppendRequest(nil, 1, consent.Method, consent.Question(call, j.carrier.journal.Keep(call.Arguments)))
	f, err := wire.ReadFrame(frame)
	if err != nil {
		return held.Verdict{}, fmt.Errorf("write the question: %w", err)
	}
	ctx, stop := context.WithTimeout(j.ctx, rule.HoldFor())
	defer stop()
	began := time.Now()
	answer, err := j.carrier.ask(ctx, j.caller.Session, nil, frame, f, j.aside)
	switch {
	case err != nil && j.ctx.Err() != nil:
		return held.Verdict{}, context.Cause(j.ctx)
	case errors.Is(err, context.DeadlineExceeded):
		return held.Verdict{}, consent.Silent(rule)
	case err != nil:
		return held.Verdict{}, err
	}
	v, err := readAnswer(j.caller, answer)
	if err != nil {
		return held.Verdict{}, err
	}
	v.By, v.Waited = j.caller.Agent.Owner, time.Since(began)
	j.carrier.o.Held.Settled(call, v)
	return v, nil
}

// readAnswer reads the response of an assistant that asked.
func readAnswer(c *Caller, frame []byte) (held.Verdict, error) {
	f, err := wire.ReadFrame(frame)
	if err != nil || f.Result.Empty() {
		return held.Verdict{}, &held.UndecidedError{How: held.Cancelled, Why: "a rule holds it, and the assistant could not ask its user"}
	}
	return consent.Read(f.Result.Of(frame), c.Session != nil)
}

// asksFirst asks the user of an agent without a session, by an answer that wants input
// (MCP 2026-07-28, multi-round-trip requests), and reports whether it did. The request that
// comes back with what was decided goes on.
func (j control) asksFirst(rule *rules.Rule) bool {
	if !j.caller.Stateless() || !j.mayAsk(rule) || j.consent != nil {
		return false
	}
	call := j.heldCall(rule)
	if j.carrier.o.Held.Covered(call) {
		return false
	}
	ask := wire.AppendRequest(nil, 1, consent.Method, consent.Question(call, j.carrier.journal.Keep(call.Arguments)))
	f, err := wire.ReadFrame(ask)
	if err != nil {
		return false
	}
	l := &suspension{job: j.Call, asked: &askedUser{rule: rule, call: call, began: time.Now()}, questions: map[string]pendingInput{
		"decision": {method: consent.Method, ask: wire.EmbeddedRequest(ask, f)},
	}}
	return j.carrier.suspensions.put(l) // without room, those who decide are asked
}

// decided takes up a held call whose agent came back with what its user decided. It reports
// false when the answer is missing, and it was asked again.
func (j *Call) decided(parked *Call) bool {
	l := parked.suspension
	if l.missing(parked.replies) {
		l.job = j
		if !j.carrier.suspensions.put(l) {
			l.expire()
			j.reply.Refuse(j.id, wire.CodeInternal, "too many calls wait for answers", nil)
		}
		return false
	}
	j.consent, j.recalled = l.asked, true
	if j.entry != nil {
		j.entry.At = l.asked.began
	}
	v, err := consent.Read(parked.replies["decision"], false)
	v.By, v.Waited = j.caller.Agent.Owner, time.Since(l.asked.began)
	j.consent.verdict, j.consent.err = &v, err
	return true
}

// unanswered records a held call whose agent did not come back with an answer.
func (l *suspension) unanswered() {
	j := l.job
	if j.entry == nil {
		return
	}
	c := j.notes()
	c.Held, c.How, c.Asked = l.asked.rule.Name, held.Expired, true
	e := j.entry
	e.Decision, e.Outcome, e.Error = team.DecisionRefuse, team.OutcomeRefused, consent.Silent(l.asked.rule).Error()
	j.write(j.carrier.ctx)
}

// lifetime is how long the agent has to come back.
func (l *suspension) lifetime() time.Duration {
	if l.asked != nil {
		return min(l.asked.rule.HoldFor(), suspendFor)
	}
	return suspendFor
}

package carry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"bouncer/internal/core/narrowing"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/held"
)

// control is a call as the rules see it: what they look at before it goes on, what they
// have it wait for, and what they keep back of its answer.
type control struct{ *Call }

// judge holds the arguments of a call against the rules that look at them, fills in what
// is pinned, and notes whether the call is held. What is refused is answered and recorded
// here.
func (j control) judge() bool {
	t := j.target
	if j.entry == nil {
		return true // of what is not recorded, nothing is held and nothing narrowed
	}
	effect, rule := t.Decision.Effect, t.Decision.Rule
	if names := t.Shape.Rules(); len(names) > 0 {
		j.notes().Narrowed = names
	}
	if t.Shape.Looks() && j.kind == tools.Tools {
		v := t.Shape.Judge(j.params.Arguments.Of(j.body))
		effect, rule = v.Effect, v.Rule
		j.entry.Rule, j.entry.RuleName = "", ""
		if rule != nil {
			j.entry.Rule, j.entry.RuleName = rule.ID, rule.Name
		}
		if v.Effect == rules.Refuse {
			j.refuseArguments(v)
			return false
		}
		if v.Arguments != nil {
			if err := j.put(v.Arguments); err != nil {
				j.refuseArguments(rules.Verdict{Rule: rule, Why: "the arguments could not be filled in: " + err.Error()})
				return false
			}
		}
	}
	if effect == rules.Hold {
		j.holding = rule
		return !j.asksFirst(rule)
	}
	return true
}

// notes is the part of the record that tells what rules had to do with the call.
func (j *Call) notes() *team.CallControl {
	if j.entry.Control == nil {
		j.entry.Control = &team.CallControl{}
	}
	return j.entry.Control
}

// refuseArguments answers a call whose arguments are not admitted. The model can try
// others, so that it is told what it would be told by the tool.
func (j control) refuseArguments(v rules.Verdict) {
	why := fmt.Sprintf("%s of server %s was not called: %s; ask %s",
		j.target.Tool.Name, j.target.Server.Name, v.Why, j.caller.Snapshot.Contacts)
	data := map[string]string{
		"reason": "arguments-not-admitted", "server": j.target.Server.Name, "tool": j.kind.Rule(j.target.Tool.Name),
		"ask": j.caller.Snapshot.Contacts,
	}
	if v.Rule != nil {
		data["rule"] = v.Rule.Name
	}
	j.decline(why, data, wire.CodeNotAdmitted)
}

// decline answers and records a call that a rule or a person turned down.
func (j *Call) decline(why string, data any, code int) {
	e := j.entry
	e.Decision, e.Outcome, e.Error = team.DecisionRefuse, team.OutcomeRefused, why
	j.write(j.carrier.ctx)
	j.reply.Refuse(j.id, code, why, data)
}

// put replaces the arguments of the request.
func (j *Call) put(arguments json.RawMessage) error {
	f, err := wire.ReadFrame(j.body)
	if err != nil {
		return fmt.Errorf("read the request: %w", err)
	}
	if j.asked == nil {
		j.asked = append([]byte{}, j.params.Arguments.Of(j.body)...)
	}
	body, f, p, err := wire.WithArguments(j.body, f, j.params, arguments)
	if err != nil {
		return err
	}
	j.body, j.params, j.id = body, p, f.ID.Of(body)
	j.ask.Src, j.ask.Params, j.ask.P = body, f.Params, p
	j.entry.Args = j.carrier.journal.Keep(p.Arguments.Of(body))
	return nil
}

// await has a held call wait until somebody decides about it. It reports whether the call
// goes on; one that does not is answered and recorded here.
func (j control) await(ctx context.Context, release func() bool) bool {
	rule := j.holding
	c := j.notes()
	c.Held = rule.Name
	fail := func(how, why, reason string) bool {
		release()
		c.How = how
		j.decline(why, map[string]string{
			"reason": reason, "server": j.target.Server.Name, "tool": j.kind.Rule(j.target.Tool.Name), "rule": rule.Name,
			"ask": j.caller.Snapshot.Contacts,
		}, wire.CodeNotAdmitted)
		j.cancel(nil)
		return false
	}
	name := j.target.Tool.Name + " of server " + j.target.Server.Name
	if j.carrier.o.Held == nil {
		return fail(held.Refused, name+" was not called: rule "+rule.Name+" holds it, and nobody can decide here", "held-refused")
	}
	v, err := j.decision(rule)
	var undecided *held.UndecidedError
	switch {
	case errors.As(err, &undecided):
		return fail(undecided.How, name+" was not called: "+undecided.Why+"; ask "+j.caller.Snapshot.Contacts, "held-undecided")
	case err != nil:
		c.How = held.Cancelled
		release()
		j.failBefore(ctx, err)
		j.cancel(nil)
		return false
	}
	c.By, c.How, c.Word, c.Asked, c.WaitedMS = v.By, v.How, v.Word, v.Asked, v.Waited.Milliseconds()
	if !v.Admitted {
		why := fmt.Sprintf("%s was not called: %s refused it", name, v.ByName)
		if v.Word != "" {
			why += ": " + v.Word
		}
		return fail(v.How, why, "held-refused")
	}
	if v.Arguments != nil {
		if err := j.put(v.Arguments); err != nil {
			return fail(v.How, name+" was not called: the changed arguments could not be put in: "+err.Error(), "held-refused")
		}
	}
	if why := j.stillMay(); why != "" {
		return fail(v.How, name+" was not called: it was admitted, but meanwhile "+why, "no-longer-admitted")
	}
	return true
}

// heldCall is the call as somebody is shown it who decides.
func (j control) heldCall(rule *rules.Rule) held.Call {
	t := j.target
	c := held.Call{
		Rule: *rule, AgentID: j.caller.Agent.ID, Agent: j.caller.Agent.Name, Owner: j.caller.Agent.Owner, Server: t.Server.Name,
		Tool: j.kind.Rule(
			t.Tool.Name,
		), Title: t.Tool.Summary().Title, Arguments: append(json.RawMessage(nil), j.params.Arguments.Of(j.body)...),
	}
	if j.caller.Session != nil {
		c.Session = j.caller.Session.Id
	}
	if j.kind != tools.Tools {
		return c
	}
	c.Effects = t.Effects()
	c.Check = j.checkChanged
	return c
}

// checkChanged holds arguments that somebody changed against the rules, as if the agent
// had sent them, and returns them as they would be sent.
func (j control) checkChanged(arguments json.RawMessage) (json.RawMessage, error) {
	shape := j.target.Shape
	if !shape.Looks() {
		if _, err := narrowing.Arguments(arguments); err != nil {
			return nil, err
		}
		return arguments, nil
	}
	v := shape.Judge(arguments)
	if v.Effect == rules.Refuse {
		return nil, errors.New(v.Why)
	}
	if v.Arguments != nil {
		return v.Arguments, nil
	}
	return arguments, nil
}

// stillMay looks at the snapshot in force whether the agent may still have what it was
// held for, and takes the way to the server that there is now. It returns why not.
func (j control) stillMay() string {
	t, why := j.caller.Still(j.carrier.o.Current(), j.kind, j.target)
	if why != "" {
		return why
	}
	if t.Shape.Looks() && j.kind == tools.Tools {
		plain, err := t.Shape.Unfilled(j.params.Arguments.Of(j.body))
		if err != nil {
			return "the rules changed: " + err.Error()
		}
		judged := t.Shape.Judge(plain)
		if judged.Effect == rules.Refuse {
			return "the rules changed: " + judged.Why
		}
		if judged.Arguments != nil {
			if err := j.put(judged.Arguments); err != nil {
				return "the arguments could not be filled in: " + err.Error()
			}
		}
	}
	j.target, j.ask.Mirrors = t, t.Mirrors
	return ""
}

// hide takes fields out of an answer that rules keep from the agent.
func (j control) hide(frame []byte, f wire.Frame) ([]byte, wire.Frame, error) {
	if j.target.Shape == nil || len(j.target.Shape.Hide) == 0 || !f.Error.Empty() {
		return frame, f, nil
	}
	paths := j.target.Shape.Hide
	if id, _ := j.taskOf(frame, f); id != "" {
		return frame, f, errors.New("the server answers later, and a rule hides fields of the result, which cannot be done then")
	}
	if strings.HasPrefix(j.translation.Method, "tasks/") {
		return frame, f, errors.New("a rule hides fields of the result, which cannot be done in a task")
	}
	result, n, err := narrowing.Hide(f.Result.Of(frame), paths)
	if err != nil {
		return frame, f, fmt.Errorf("a rule hides fields of the result, and %w", err)
	}
	if n == 0 {
		return frame, f, nil
	}
	if j.entry != nil {
		j.notes().Hidden = n
	}
	frame = wire.AppendResult(nil, f.ID.Of(frame), result)
	f, err = wire.ReadFrame(frame)
	return frame, f, err
}

package approval

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/held"
)

// notAllowed says why somebody may not decide about a held call that they may see.
func notAllowed(why string) error {
	return &team.NotAllowedError{Why: "you may not decide this call: " + why, Hint: "bouncer held list shows those that you may decide"}
}

var ways = []string{held.Once, held.ForNow, held.ForCalls, held.ForHour, held.Changed, held.Refused}

// Decide decides about a held call. It goes on, or is refused, before this returns.
func (r *Room) Decide(ctx context.Context, by team.Person, id string, d apitype.HeldDecision) (apitype.HeldCall, error) {
	if err := check(d); err != nil {
		return apitype.HeldCall{}, err
	}
	who, err := r.decider(ctx, by)
	if err != nil {
		return apitype.HeldCall{}, err
	}
	r.mu.Lock()
	e := r.find(id)
	switch {
	case e == nil || !sees(by, who, e.call):
		r.mu.Unlock()
		return apitype.HeldCall{}, &team.NotFoundError{Kind: "held call", Name: id}
	case e.state != "waiting":
		state := e.state
		r.mu.Unlock()
		return apitype.HeldCall{}, &team.ConflictError{
			Field: "how", Why: "the call is " + state + " already", Hint: "bouncer held list --all shows who decided",
		}
	case !e.call.Rule.Decides(who, e.call.Owner):
		why := whyNot(e.call.Rule, who, e.call.Owner)
		r.mu.Unlock()
		return apitype.HeldCall{}, notAllowed(why)
	}
	r.mu.Unlock()
	v := held.Verdict{Admitted: d.How != held.Refused, By: by.Name, ByName: by.FullName, How: d.How, Word: strings.TrimSpace(d.Word)}
	if d.How == held.Changed {
		// The rules are asked outside of the lock: schemas take their time.
		if e.call.Check == nil {
			return apitype.HeldCall{}, &team.FieldError{Field: "arguments", Why: "cannot be changed: this is no call of a tool"}
		}
		changed, err := e.call.Check(d.Arguments)
		if err != nil {
			return apitype.HeldCall{}, &team.FieldError{Field: "arguments", Why: "are not admitted: " + err.Error()}
		}
		v.Arguments = changed
	}
	return r.settle(e, who, v, d.Calls)
}

// settle has a verdict take effect, unless another one did meanwhile.
func (r *Room) settle(e *entry, who rules.Decider, v held.Verdict, calls int) (apitype.HeldCall, error) {
	r.mu.Lock()
	if e.state != "waiting" {
		state := e.state
		r.mu.Unlock()
		return apitype.HeldCall{}, &team.ConflictError{Field: "how", Why: "the call is " + state + " already", Hint: "somebody was quicker"}
	}
	v.Waited = r.o.Now().Sub(e.at)
	state := "admitted"
	if !v.Admitted {
		state = "refused"
	}
	r.finish(e, state, v)
	r.stand(e, v, calls)
	e.answer <- v
	out := e.shown(r.o.Masker(), who)
	r.mu.Unlock()
	r.tell(e, true)
	r.o.Log.Info("a held call was decided", "agent", e.call.Agent, "server", e.call.Server, "tool", e.call.Tool, "by", v.By, "how", v.How)
	return out, nil
}

// stand notes a decision that covers more calls; the caller holds the lock.
func (r *Room) stand(e *entry, v held.Verdict, calls int) {
	s := &standing{id: e.id, key: likeness(e.call), call: e.call, by: v, left: -1, made: r.o.Now()}
	s.call.Check = nil
	switch v.How {
	case held.ForNow:
		if e.call.Session == "" {
			return // without a session there is none for which it could stand
		}
		s.lasted = e.call.Session
		s.until = s.made.Add(12 * hour)
	case held.ForCalls:
		s.left = calls
		s.until = s.made.Add(24 * hour)
	case held.ForHour:
		s.until = s.made.Add(hour)
	default:
		return
	}
	if len(r.standing) < maxStanding {
		r.standing[s.id] = s
	}
}

func check(d apitype.HeldDecision) error {
	switch {
	case !slices.Contains(ways, d.How):
		return &team.FieldError{Field: "how", Why: fmt.Sprintf("is %.40q; it must be one of %s", d.How, strings.Join(ways, ", "))}
	case d.How == held.ForCalls && (d.Calls < 1 || d.Calls > maxCalls):
		return &team.FieldError{Field: "calls", Why: fmt.Sprintf("must be between 1 and %d", maxCalls)}
	case d.How == held.Changed && len(d.Arguments) == 0:
		return &team.FieldError{Field: "arguments", Why: "are missing; say what is to be sent instead"}
	case d.How != held.Changed && len(d.Arguments) > 0:
		return &team.FieldError{Field: "arguments", Why: "go together with how = changed only"}
	case len(d.Arguments) > maxArguments:
		return &team.FieldError{Field: "arguments", Why: fmt.Sprintf("are longer than %d bytes", maxArguments)}
	case len(d.Word) > maxWord:
		return &team.FieldError{Field: "word", Why: fmt.Sprintf("is longer than %d characters", maxWord)}
	}
	return nil
}

// Standing returns the decisions that admit more calls to come, of those that somebody
// may see.
func (r *Room) Standing(ctx context.Context, by team.Person) ([]apitype.StandingDecision, error) {
	who, err := r.decider(ctx, by)
	if err != nil {
		return nil, err
	}
	now := r.o.Now()
	out := []apitype.StandingDecision{}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.standing {
		if !sees(by, who, s.call) || !now.Before(s.until) {
			continue
		}
		one := apitype.StandingDecision{
			ID: s.id, Agent: s.call.Agent, Server: s.call.Server, Tool: s.call.Tool, Rule: s.call.Rule.Name, By: s.by.By, How: s.by.How,
			Made: s.made.UTC(), Until: s.until.UTC(), Mine: s.by.By == by.Name || s.call.Rule.Decides(who, s.call.Owner),
		}
		if s.left > 0 {
			one.Left = s.left
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b apitype.StandingDecision) int { return strings.Compare(b.ID, a.ID) })
	return out, nil
}

// TakeBack ends a decision that admits more calls to come. Whoever may decide such a call
// may, and whoever made the decision.
func (r *Room) TakeBack(ctx context.Context, by team.Person, id string) error {
	who, err := r.decider(ctx, by)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.standing[strings.ToUpper(id)]
	if s == nil || !sees(by, who, s.call) {
		return &team.NotFoundError{Kind: "standing decision", Name: id}
	}
	if s.by.By != by.Name && !s.call.Rule.Decides(who, s.call.Owner) {
		return notAllowed(whyNot(s.call.Rule, who, s.call.Owner))
	}
	delete(r.standing, s.id)
	return nil
}

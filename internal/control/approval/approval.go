// Package approval is the room where held calls wait until somebody decides about them,
// or their time is over. What waits is in memory only: a call that waits belongs to a
// request that is open, so that neither outlives the service. Every decision is in the
// journal with its call.
package approval

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/calls"
	"bouncer/internal/core/access"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/events"
	"bouncer/internal/gate"
	"bouncer/internal/held"
	"bouncer/internal/store"
)

// Topic is what consoles are told when something about held calls is another one now.
const Topic = "held"

// Limits on what is kept.
const (
	keptDecided  = 500
	maxStanding  = 1_000
	maxCalls     = 100
	hour         = time.Hour
	lookBack     = 30 * 24 * hour // for past decisions
	maxWord      = 500
	maxArguments = 256 << 10
)

// heldLimits bound the calls that wait.
var heldLimits = gate.Limits{Agent: 20, Person: 60, All: 500}

// Options are what a Room needs. All are required but Now.
type Options struct {
	Store  *store.Store
	Events *events.Hub
	Masker func() *mask.Masker
	Book   *gate.Book
	Log    *slog.Logger
	Now    func() time.Time
	// Told is called when a call begins to wait, and when it was decided; nil for nobody. It
	// does not wait.
	Told func(id string, decided bool)
}

// Room is where held calls wait. It is safe for concurrent use.
type Room struct {
	o    Options
	gate *gate.Gate

	mu       sync.Mutex // guards what follows; held over no I/O and no wait
	waiting  map[string]*entry
	decided  []*entry // the latest last
	standing map[string]*standing
	closed   bool
}

// entry is one held call. Its fields but those of the decision never change.
type entry struct {
	id     string
	call   held.Call
	at     time.Time
	until  time.Time
	answer chan held.Verdict // capacity 1
	// announced is closed once it was told that the call waits; nil where that is not told.
	announced chan struct{}

	state   string // guarded by the room's mutex, as what follows
	verdict held.Verdict
	ended   time.Time
}

// standing is a decision that covers more calls than the one it was made about.
type standing struct {
	id     string
	key    string
	call   held.Call
	by     held.Verdict
	until  time.Time // zero for as long as the session lasts
	left   int       // calls; -1 for any number
	lasted string    // the session that it is for; "" for any
	made   time.Time
}

// New returns an empty room.
func New(o Options) *Room {
	if o.Now == nil {
		o.Now = time.Now
	}
	return &Room{
		o: o, gate: o.Book.Open("held calls", heldLimits), waiting: map[string]*entry{}, standing: map[string]*standing{},
	}
}

// Waiting is how many calls wait.
func (r *Room) Waiting() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.waiting)
}

// likeness is what a decision covers: the same tool for the same agent, held by the same
// rule as it was then.
func likeness(c held.Call) string {
	return strings.Join([]string{c.Rule.ID, c.Rule.Describe(), c.AgentID, c.Server, c.Tool}, "\x00")
}

// Wait implements held.Room.
func (r *Room) Wait(ctx context.Context, c held.Call) (held.Verdict, error) {
	if v, ok := r.covered(c); ok {
		return v, nil
	}
	holder := gate.Holder{Agent: c.AgentID, Person: c.Owner}
	if err := r.gate.Take(holder, 1); err != nil {
		return held.Verdict{}, &held.UndecidedError{How: held.Refused, Why: err.Error() + "; wait until some are decided"}
	}
	defer r.gate.Give(holder, 1)
	now := r.o.Now()
	e := &entry{
		id: team.NewID(), call: c, at: now, until: now.Add(c.Rule.HoldFor()), answer: make(chan held.Verdict, 1), state: "waiting",
		announced: make(chan struct{}),
	}
	r.mu.Lock()
	if r.closed {
		r.mu.Unlock()
		return held.Verdict{}, errStopped
	}
	r.waiting[e.id] = e
	r.mu.Unlock()
	r.tell(e, false)
	close(e.announced)
	timer := time.NewTimer(c.Rule.HoldFor())
	defer timer.Stop()
	select {
	case v, open := <-e.answer:
		if !open {
			return held.Verdict{}, errStopped
		}
		return v, nil
	case <-timer.C:
		if v, decided := r.end(e, "expired", held.Expired); decided {
			return v, nil // at the same moment
		}
		return held.Verdict{}, &held.UndecidedError{
			How: held.Expired,
			Why: fmt.Sprintf("rule %s holds it, and nobody decided in %s", c.Rule.Name, c.Rule.HoldFor()),
		}
	case <-ctx.Done():
		// An admission that came at the same moment is not used.
		r.end(e, "cancelled", held.Cancelled)
		return held.Verdict{}, context.Cause(ctx)
	}
}

var errStopped = &held.UndecidedError{
	How: held.Restarted, Why: "Bouncer was stopped while it was held, so it was not carried out; call again, and it is held again",
}

// end takes a call out that nobody decided about. When somebody did at that moment, that
// is returned.
func (r *Room) end(e *entry, state, how string) (held.Verdict, bool) {
	r.mu.Lock()
	if e.state != "waiting" {
		v := e.verdict
		r.mu.Unlock()
		return v, true
	}
	r.finish(e, state, held.Verdict{How: how})
	r.mu.Unlock()
	r.tell(e, true)
	return held.Verdict{}, false
}

// finish moves a call to those that are decided; the caller holds the lock.
func (r *Room) finish(e *entry, state string, v held.Verdict) {
	e.state, e.verdict, e.ended = state, v, r.o.Now()
	delete(r.waiting, e.id)
	r.decided = append(r.decided, e)
	if over := len(r.decided) - keptDecided; over > 0 {
		r.decided = slices.Delete(r.decided, 0, over)
	}
}

// covered reports whether an earlier decision admits the call.
func (r *Room) covered(c held.Call) (held.Verdict, bool) {
	now := r.o.Now()
	key := likeness(c)
	r.mu.Lock()
	defer r.mu.Unlock()
	for id, s := range r.standing {
		if !s.until.IsZero() && !now.Before(s.until) {
			delete(r.standing, id)
			continue
		}
		if s.key != key || s.lasted != "" && s.lasted != c.Session {
			continue
		}
		if s.left > 0 {
			if s.left--; s.left == 0 {
				delete(r.standing, id)
			}
		}
		v := s.by
		v.Arguments, v.Waited = nil, 0
		return v, true
	}
	return held.Verdict{}, false
}

// Covered implements held.Room.
func (r *Room) Covered(c held.Call) bool {
	now, key := r.o.Now(), likeness(c)
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.standing {
		if s.key == key && (s.lasted == "" || s.lasted == c.Session) && (s.until.IsZero() || now.Before(s.until)) {
			return true
		}
	}
	return false
}

// Settled implements held.Room.
func (r *Room) Settled(c held.Call, v held.Verdict) {
	now := r.o.Now()
	e := &entry{id: team.NewID(), call: c, at: now.Add(-v.Waited), until: now, state: "waiting"}
	state := "refused"
	if v.Admitted {
		state = "admitted"
	}
	r.mu.Lock()
	r.finish(e, state, v)
	r.stand(e, v, 0)
	r.mu.Unlock()
	r.tell(e, true)
}

// tell says that a call waits or was decided, in this order also when somebody decides at once.
func (r *Room) tell(e *entry, decided bool) {
	if decided && e.announced != nil {
		<-e.announced
	}
	r.o.Events.Publish(Topic)
	if r.o.Told != nil {
		r.o.Told(e.id, decided)
	}
}

// Close ends all that waits: nothing of it is carried out.
func (r *Room) Close() {
	r.mu.Lock()
	r.closed = true
	for _, e := range r.waiting {
		r.finish(e, "cancelled", held.Verdict{How: held.Restarted})
		close(e.answer)
	}
	r.mu.Unlock()
}

// decider is a person as rules know who decides.
func (r *Room) decider(ctx context.Context, by team.Person) (rules.Decider, error) {
	groups, err := r.o.Store.Control().GroupsOf(ctx, by.ID)
	if err != nil {
		return rules.Decider{}, fmt.Errorf("look up the groups of %s: %w", by.Name, err)
	}
	return rules.Decider{Name: by.Name, Role: string(by.Role), Groups: groups}, nil
}

// sees reports whether somebody may see a held call: who may see all calls, whose agent it
// is, and who may decide it.
func sees(by team.Person, who rules.Decider, c held.Call) bool {
	return access.May(by, access.SeeHeld, c.Owner) || c.Rule.Decides(who, c.Owner)
}

// MayDecide reports whether somebody may decide a held call.
func (r *Room) MayDecide(ctx context.Context, id string, by team.Person) (bool, error) {
	who, err := r.decider(ctx, by)
	if err != nil {
		return false, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	e := r.find(id)
	return e != nil && e.call.Rule.Decides(who, e.call.Owner), nil
}

// List returns the held calls that somebody may see: those that wait, the oldest first,
// then those that are decided, the newest first. waitingOnly leaves the latter out.
func (r *Room) List(ctx context.Context, by team.Person, waitingOnly bool) ([]apitype.HeldCall, error) {
	who, err := r.decider(ctx, by)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	list := make([]*entry, 0, len(r.waiting))
	for _, e := range r.waiting {
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b *entry) int { return strings.Compare(a.id, b.id) })
	if !waitingOnly {
		for i := len(r.decided) - 1; i >= 0; i-- {
			list = append(list, r.decided[i])
		}
	}
	out := []apitype.HeldCall{}
	masker := r.o.Masker()
	for _, e := range list {
		if sees(by, who, e.call) {
			out = append(out, e.shown(masker, who))
		}
	}
	r.mu.Unlock()
	return out, nil
}

// Call returns one held call with past decisions on the like.
func (r *Room) Call(ctx context.Context, by team.Person, id string) (apitype.HeldCall, error) {
	who, err := r.decider(ctx, by)
	if err != nil {
		return apitype.HeldCall{}, err
	}
	r.mu.Lock()
	e := r.find(id)
	if e == nil || !sees(by, who, e.call) {
		r.mu.Unlock()
		return apitype.HeldCall{}, &team.NotFoundError{Kind: "held call", Name: id}
	}
	r.mu.Unlock()
	return r.described(ctx, e, who)
}

// described is a held call with past decisions on the like.
func (r *Room) described(ctx context.Context, e *entry, who rules.Decider) (apitype.HeldCall, error) {
	r.mu.Lock()
	out, call := e.shown(r.o.Masker(), who), e.call
	r.mu.Unlock()
	past, err := calls.In(r.o.Store).HeldBefore(ctx, r.o.Now().Add(-lookBack), call.Agent, call.Server, call.Tool, 5)
	if err != nil {
		return apitype.HeldCall{}, fmt.Errorf("look up past decisions: %w", err)
	}
	for _, c := range past {
		out.Before = append(out.Before, apitype.PastDecision{At: c.At, By: c.Control.By, How: c.Control.How, Word: c.Control.Word})
	}
	return out, nil
}

// Describe returns a held call for a notice, and who may decide it.
func (r *Room) Describe(ctx context.Context, id string) (apitype.HeldCall, []string, error) {
	r.mu.Lock()
	e := r.find(id)
	r.mu.Unlock()
	if e == nil {
		return apitype.HeldCall{}, nil, &team.NotFoundError{Kind: "held call", Name: id}
	}
	deciders := e.call.Rule.Deciders
	if len(deciders) == 0 {
		deciders = []string{"role:admin", "role:maintainer"}
	}
	out, err := r.described(ctx, e, rules.Decider{})
	out.Why = ""
	return out, deciders, err
}

// find returns a call by its id, or by the end of one that no other has; the caller holds
// the lock.
func (r *Room) find(id string) *entry {
	if e := r.waiting[strings.ToUpper(id)]; e != nil {
		return e
	}
	at := slices.IndexFunc(r.decided, func(e *entry) bool { return strings.EqualFold(e.id, id) })
	if at < 0 {
		return nil
	}
	return r.decided[at]
}

// shown is a held call as somebody is shown it.
func (e *entry) shown(m *mask.Masker, who rules.Decider) apitype.HeldCall {
	c := apitype.HeldCall{
		ID: e.id, At: e.at.UTC(), Until: e.until.UTC(), State: e.state, Agent: e.call.Agent, Owner: e.call.Owner, Server: e.call.Server,
		Tool: e.call.Tool, Title: e.call.Title, Effects: e.call.Effects, Rule: e.call.Rule.Name, Note: e.call.Rule.Note,
		By: e.verdict.By, How: e.verdict.How, Word: e.verdict.Word,
	}
	c.Arguments = json.RawMessage(m.Text(string(e.call.Arguments)))
	if !json.Valid(c.Arguments) {
		c.Arguments = nil
	}
	if !e.ended.IsZero() {
		at := e.ended.UTC()
		c.Decided = &at
	}
	if e.state != "waiting" {
		return c
	}
	if c.Mine = e.call.Rule.Decides(who, e.call.Owner); !c.Mine {
		c.Why = whyNot(e.call.Rule, who, e.call.Owner)
	}
	return c
}

// whyNot says why somebody may not decide a call.
func whyNot(r rules.Rule, who rules.Decider, owner string) string {
	switch {
	case who.Role == "auditor":
		return "auditors decide nothing"
	case owner != "" && owner == who.Name:
		return "nobody decides a call of their own agent, unless the rule says so"
	case len(r.Deciders) == 0:
		return "admins and maintainers decide it"
	}
	return "rule " + r.Name + " has it decided by " + strings.Join(r.Deciders, " or ")
}

// Package monitor has tool servers looked at closely: when somebody asks, and by itself
// when a connection begins to fail, so that what is told everywhere is the cause and not
// the symptom. It keeps the last report of each server. How many looks go on at a time is
// bounded, and a server that keeps failing is not looked at again and again.
package monitor

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"bouncer/internal/core/report"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/checkup"
	"bouncer/internal/gate"
	"bouncer/internal/registry"
	"bouncer/internal/spawn"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// Bounds on checkups: how many go on at a time, how many of one person may wait, and how
// many in all.
const (
	atOnce      = 24
	waitOfOne   = 128
	waitInAll   = 512
	maxLarge    = 1               // that read large answers at the same time
	maxReports  = 2000            // servers whose last report is kept
	againAfter  = 5 * time.Minute // a failing server is explained anew
	settle      = 200 * time.Millisecond
	maxPatience = 5 * time.Minute
	routineOnce = 2 // looks without a reason, at a time
)

// Deps are what the service stands on.
type Deps struct {
	Store    *store.Store
	Registry *registry.Registry
	Pool     *upstream.Pool
	Log      *slog.Logger
}

// Options configure the service.
type Options struct {
	Version      string
	Redirect     string // Bouncer's address for answers of authorization servers
	MessageLimit int
	Private      []netip.Prefix
	Spawner      *spawn.Spawner
	// Every is how often servers are looked at although nothing fails; 0 for never.
	Every time.Duration
	// Incidents is told how servers do.
	Incidents Incidents
	// Tapes keeps what went before a failure.
	Tapes Tapes
	// Examples are calls that are kept.
	Examples Examples
}

// Examples finds a call that is kept as an example of a server.
type Examples interface {
	Get(ctx context.Context, server, name string) (team.Example, error)
}

// Incidents keeps how servers did. It is called by one goroutine at a time for a server.
type Incidents interface {
	Observe(ctx context.Context, s team.Server, h team.Health)
	Opened(ctx context.Context, s team.Server, since time.Time, found report.Found)
}

// Tapes keeps what the flight recorder has of a server.
type Tapes interface {
	Keep(ctx context.Context, by team.Person, in apitype.KeepTape) (apitype.TapeInfo, error)
}

// Service looks at servers. It is safe for concurrent use; Start and Close frame its
// life.
type Service struct {
	Deps
	o     Options
	queue *gate.Queue
	stop  context.CancelFunc
	ended chan struct{}
	large chan struct{} // places for checkups that read large answers

	mu      sync.Mutex // guards what follows; never held while looking
	reports map[string]report.Report
	doing   map[string]apitype.Progress // by what the asker calls it
	looked  map[string]looked           // by connection
	routine map[string]time.Time        // by server: when it was looked at last without a reason, or could have been
	taped   map[string]time.Time        // by server: since when it failed that has a tape
}

// looked is when a failing connection was looked at last, and as what it failed.
type looked struct {
	at    time.Time
	since time.Time
	cause diagnosis.Cause
}

// New returns the service.
func New(d Deps, o Options) *Service {
	return &Service{
		Deps: d, o: o, queue: gate.NewQueue("checkups", atOnce, waitOfOne, waitInAll), ended: make(chan struct{}),
		large:   make(chan struct{}, maxLarge),
		reports: map[string]report.Report{}, doing: map[string]apitype.Progress{}, looked: map[string]looked{}, routine: map[string]time.Time{},
		taped: map[string]time.Time{},
	}
}

// Check looks at a target: a registered server, or one that is only described. Errors say
// that it could not be looked at.
func (svc *Service) Check(ctx context.Context, by team.Person, in apitype.CheckupAsk) (report.Report, error) {
	t, err := svc.target(ctx, by, in)
	if err != nil {
		return report.Report{}, err
	}
	leave, err := svc.queue.Enter(ctx, by.ID)
	if err != nil {
		return report.Report{}, fmt.Errorf("wait for a checkup: %w", err)
	}
	defer leave()
	r, err := checkup.Run(ctx, t, svc.options(in))
	if err != nil {
		return r, err
	}
	if t.Registered && in.As == "" && in.Call == nil {
		svc.keep(t.Server, r)
		svc.agree(ctx, t.Server, r)
	}
	return r, nil
}

func (svc *Service) options(in apitype.CheckupAsk) checkup.Options {
	o := checkup.Options{
		Version: svc.o.Version, Patience: min(time.Duration(in.PatienceSeconds)*time.Second, maxPatience), MessageLimit: svc.o.MessageLimit,
		Spawner: svc.o.Spawner, Private: svc.o.Private, Large: svc.large,
	}
	if in.Watch == "" {
		return o
	}
	o.Progress = func(stage, what string) {
		svc.mu.Lock()
		defer svc.mu.Unlock()
		if len(svc.doing) < waitInAll {
			svc.doing[in.Watch] = apitype.Progress{Busy: true, Stage: stage, Words: what}
		}
	}
	return o
}

// Progress returns what a checkup that is under way is doing, by what the asker calls it.
func (svc *Service) Progress(watch string) apitype.Progress {
	svc.mu.Lock()
	defer svc.mu.Unlock()
	return svc.doing[watch]
}

// Done forgets the progress of a checkup.
func (svc *Service) Done(watch string) {
	svc.mu.Lock()
	defer svc.mu.Unlock()
	delete(svc.doing, watch)
}

// target is what is to be looked at.
func (svc *Service) target(ctx context.Context, by team.Person, in apitype.CheckupAsk) (checkup.Target, error) {
	if (in.Server == "") == (in.Target == nil) {
		return checkup.Target{}, &team.FieldError{Field: "server", Why: "or target is to be given, and one of them only"}
	}
	if in.Server != "" {
		t, err := svc.registered(ctx, by, in)
		if err != nil {
			return t, err
		}
		t.Call, err = svc.exampled(ctx, in)
		return t, err
	}
	t, err := checkup.Describe(*in.Target)
	if err != nil {
		return t, err
	}
	if c := in.Client; c != nil {
		t.Client = &checkup.Client{
			ID: c.ID, Secret: c.Secret, RefreshToken: c.RefreshToken, Scope: c.Scope, Issuer: c.Issuer, Machine: c.Machine, Redirect: svc.o.Redirect,
		}
	}
	t.Call = call(in.Call)
	return t, nil
}

// exampled is the call that is asked for; an example that is named takes its place.
func (svc *Service) exampled(ctx context.Context, in apitype.CheckupAsk) (*checkup.Call, error) {
	out := call(in.Call)
	if out == nil || in.Call.Example == "" {
		return out, nil
	}
	if out.Tool != "" {
		return nil, &team.FieldError{Field: "example", Why: "cannot be given together with a tool"}
	}
	v, err := svc.o.Examples.Get(ctx, in.Server, in.Call.Example)
	out.Tool, out.Arguments = v.Tool, v.Arguments
	return out, err
}

func call(c *apitype.CheckupCall) *checkup.Call {
	if c == nil {
		return nil
	}
	return &checkup.Call{Tool: c.Tool, Arguments: c.Arguments, Times: c.Times}
}

// registered is a registered server, with the credential that the team, or an agent, has
// for it.
func (svc *Service) registered(ctx context.Context, by team.Person, in apitype.CheckupAsk) (t checkup.Target, err error) {
	s, err := svc.Store.ServerByName(ctx, in.Server)
	if err != nil {
		return t, store.Explain(err, "server", in.Server)
	}
	var whose team.Holder
	if in.As != "" {
		if whose, err = svc.holderOf(ctx, by, s, in.As); err != nil {
			return t, err
		}
	} else if _, best := svc.Pool.Best(s.ID); best != (team.Holder{}) {
		whose = best
	}
	return svc.given(ctx, s, whose)
}

// holderOf is whose credential an agent reaches a server with.
func (svc *Service) holderOf(ctx context.Context, by team.Person, s team.Server, agent string) (h team.Holder, err error) {
	a, err := svc.Store.AgentByName(ctx, agent, svc.Registry.Now())
	if err != nil {
		return h, store.Explain(err, "agent", agent)
	}
	if !access.May(by, access.SpeakForAgents, a.Owner) {
		return h, &team.NotAllowedError{
			Why: "the credential of agent " + agent + " is not yours to use", Hint: "its owner can look, or look without --as",
		}
	}
	people, err := svc.Store.People(ctx)
	if err != nil {
		return h, fmt.Errorf("read the people: %w", err)
	}
	view, err := svc.Registry.Credentials(ctx)
	if err != nil {
		return h, err
	}
	has := map[team.Holder]bool{}
	for _, holder := range view.Holders(s, people) {
		has[holder] = true
	}
	candidates := []team.Holder{{Agent: a.ID}}
	for _, p := range people {
		if p.Name == a.Owner {
			candidates = append(candidates, team.Holder{Person: p.ID})
		}
	}
	for _, c := range append(candidates, team.Holder{}) {
		if has[c] {
			return c, nil
		}
	}
	return candidates[len(candidates)-1], nil
}

// given is a server with a holder's credential.
func (svc *Service) given(ctx context.Context, s team.Server, h team.Holder) (t checkup.Target, err error) {
	t = checkup.Target{Server: s, Registered: true}
	view, err := svc.Registry.Credentials(ctx)
	if err != nil {
		return t, err
	}
	people, err := svc.Store.People(ctx)
	if err != nil {
		return t, fmt.Errorf("read the people: %w", err)
	}
	held := false
	for _, holder := range view.Holders(s, people) {
		held = held || holder == h
	}
	switch {
	case !held && s.SignIn != nil && !team.OfBouncer(s.SignIn):
		t.Missing = "the server is reached with a sign-in, and nobody has signed in yet"
		return t, nil
	case !held && (s.Per == team.PerPerson || s.Per == team.PerAgent):
		t.Missing = "the server is reached with each one's own credential, and there is none yet"
		return t, nil
	}
	if t.Credential, err = view.For(s, h); err != nil {
		t.Missing = err.Error()
	}
	return t, nil
}

// keep keeps the last report of a server.
func (svc *Service) keep(s team.Server, r report.Report) {
	svc.mu.Lock()
	if _, known := svc.reports[s.ID]; known || len(svc.reports) < maxReports {
		svc.reports[s.ID] = r
	}
	svc.mu.Unlock()
}

// Last returns the last report of a server; ok is false when there is none.
func (svc *Service) Last(ctx context.Context, name string) (report.Report, error) {
	s, err := svc.Store.ServerByName(ctx, name)
	if err != nil {
		return report.Report{}, store.Explain(err, "server", name)
	}
	svc.mu.Lock()
	r, ok := svc.reports[s.ID]
	svc.mu.Unlock()
	if !ok {
		return r, &team.NotFoundError{Kind: "checkup of server", Name: name}
	}
	return r, nil
}

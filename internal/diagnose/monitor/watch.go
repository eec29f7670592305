package monitor

import (
	"context"
	"errors"
	"slices"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/report"
	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/checkup"
	"bouncer/internal/link"
	"bouncer/internal/upstream"
)

// system is who looks by itself.
var system = team.Person{ID: "bouncer", Name: "bouncer", Role: team.Maintainer}

// Start begins to look at connections that begin to fail.
func (svc *Service) Start() {
	ctx, stop := context.WithCancel(context.Background())
	svc.stop = stop
	go svc.watch(ctx)
}

// Close ends that, and the looks under way.
func (svc *Service) Close() {
	svc.stop()
	<-svc.ended
}

func (svc *Service) watch(ctx context.Context) {
	defer close(svc.ended)
	topics, done := svc.Registry.Listen()
	defer done()
	timer := time.NewTimer(settle)
	defer timer.Stop()
	finished := make(chan struct{}, atOnce)
	running := 0
	begin := func(look func()) {
		running++
		go func() {
			defer func() { finished <- struct{}{} }()
			look()
		}()
	}
	for {
		select {
		case _, open := <-topics:
			if !open {
				topics = nil
			}
			timer.Reset(settle)
		case <-timer.C:
			timer.Reset(svc.tick())
			for key, failing := range svc.failing(ctx) {
				if running >= atOnce {
					timer.Reset(settle) // the others when one of these has ended
					break
				}
				if !svc.due(key, failing) {
					continue
				}
				begin(func() { svc.explain(ctx, key, failing) })
			}
			if running < routineOnce {
				for _, s := range svc.overdue(ctx, time.Now(), routineOnce-running) {
					begin(func() { svc.lookRoutinely(ctx, s) })
				}
			}
		case <-finished:
			running--
		case <-ctx.Done():
			for ; running > 0; running-- {
				<-finished
			}
			return
		}
	}
}

// tick is how often it is asked what is due.
func (svc *Service) tick() time.Duration {
	every := againAfter / 5
	if svc.o.Every > 0 {
		every = min(every, svc.o.Every)
	}
	return every
}

// overdue are servers that were not looked at for long, the most overdue first, and notes
// that they are now. A program is not among them: to look at it is to start another one,
// which can stand in the way of the one that runs.
func (svc *Service) overdue(ctx context.Context, now time.Time, limit int) (due []team.Server) {
	if svc.o.Every == 0 {
		return nil
	}
	list, err := svc.Store.Servers(ctx)
	if err != nil {
		svc.Log.Error("the servers could not be read for checkups", "error", err)
		return nil
	}
	svc.mu.Lock()
	defer svc.mu.Unlock()
	if len(svc.routine) > maxReports {
		clear(svc.routine)
	}
	last := map[string]time.Time{}
	for _, s := range list {
		if s.Paused || s.Command != "" {
			continue
		}
		if svc.routine[s.ID].IsZero() {
			svc.routine[s.ID] = now // it was registered, or the service started, a while ago at most
		}
		last[s.ID] = svc.routine[s.ID]
		if at := svc.reports[s.ID].At; at.After(last[s.ID]) {
			last[s.ID] = at
		}
		if now.Sub(last[s.ID]) >= svc.o.Every {
			due = append(due, s)
		}
	}
	slices.SortStableFunc(due, func(a, b team.Server) int { return last[a.ID].Compare(last[b.ID]) })
	due = due[:min(len(due), limit)]
	for _, s := range due {
		svc.routine[s.ID] = now
	}
	return due
}

// lookRoutinely looks at a server although nothing fails, so that its state is true.
func (svc *Service) lookRoutinely(ctx context.Context, s team.Server) {
	if _, err := svc.Check(ctx, system, apitype.CheckupAsk{Server: s.Name}); err != nil && ctx.Err() == nil {
		svc.Log.Error("a server could not be looked at", "server", s.Name, "error", err)
	}
}

// failure is a connection that fails.
type failure struct {
	server     team.Server
	connection *upstream.Connection
	since      time.Time
	cause      diagnosis.Cause
}

// failing are the connections that fail now.
func (svc *Service) failing(ctx context.Context) map[upstream.Key]failure {
	out := map[upstream.Key]failure{}
	list, err := svc.Store.Servers(ctx)
	if err != nil {
		svc.Log.Error("the servers could not be read for checkups", "error", err)
		return nil
	}
	for _, s := range list {
		if s.Paused {
			continue
		}
		c, holder := svc.Pool.Best(s.ID)
		if c == nil {
			continue
		}
		st := c.Status()
		svc.o.Incidents.Observe(ctx, s, st.Health)
		if st.State == team.StateFailing && st.Finding != nil {
			out[upstream.Key{Server: s.ID, Holder: holder}] = failure{s, c, st.Since, st.Finding.Cause}
		}
	}
	svc.forget(out)
	return out
}

// forget drops what is known of connections that fail no longer.
func (svc *Service) forget(failing map[upstream.Key]failure) {
	svc.mu.Lock()
	defer svc.mu.Unlock()
	for key := range svc.looked {
		if !has(failing, key) {
			delete(svc.looked, key)
		}
	}
}

func has(failing map[upstream.Key]failure, key string) bool {
	for k := range failing {
		if k.String() == key {
			return true
		}
	}
	return false
}

// due reports whether a failing connection is to be looked at, and notes that it is.
func (svc *Service) due(key upstream.Key, f failure) bool {
	svc.mu.Lock()
	defer svc.mu.Unlock()
	last, known := svc.looked[key.String()]
	if known && last.since.Equal(f.since) && time.Since(last.at) < againAfter {
		return false
	}
	svc.looked[key.String()] = looked{at: time.Now(), since: f.since, cause: f.cause}
	return true
}

// explain looks at a failing connection, and has what is found told instead of what the
// conversation saw.
func (svc *Service) explain(ctx context.Context, key upstream.Key, f failure) {
	leave, err := svc.queue.Enter(ctx, system.ID)
	if err != nil {
		return // it is tried again later
	}
	defer leave()
	t, err := svc.given(ctx, f.server, key.Holder)
	if err != nil {
		svc.Log.Error("a failing server could not be looked at", "server", f.server.Name, "error", err)
		return
	}
	svc.tape(ctx, f)
	r, err := checkup.Run(ctx, t, checkup.Options{
		Version: svc.o.Version, MessageLimit: svc.o.MessageLimit, Spawner: svc.o.Spawner, Private: svc.o.Private,
		Large: svc.large,
	})
	if err != nil {
		return // the service ends, or the server went meanwhile
	}
	svc.keep(f.server, r)
	if len(r.Findings) > 0 {
		f.connection.Explained(f.cause, r.Findings[0].Short())
		svc.o.Incidents.Opened(ctx, f.server, f.since, r.Findings[0])
		return
	}
	// A closer look finds nothing: it may be well again, or fail now and then.
	f.connection.Again(ctx)
	if st := f.connection.Status(); st.State == team.StateFailing && st.Finding != nil {
		svc.o.Incidents.Opened(ctx, f.server, f.since, report.FoundOf(*st.Finding))
	}
}

// registering is how long each answer is waited for when somebody waits for a registration.
const registering = 5 * time.Second

// Explain looks at a server as it would be registered or altered, and tells the cause of
// what keeps it from being reached; ok is false when a closer look finds nothing.
func (svc *Service) Explain(ctx context.Context, s team.Server, c link.Credential) (f diagnosis.Finding, ok bool) {
	leave, err := svc.queue.Enter(ctx, system.ID)
	if err != nil {
		return f, false
	}
	defer leave()
	o := svc.options(apitype.CheckupAsk{PatienceSeconds: int(registering.Seconds())})
	r, err := checkup.Run(ctx, checkup.Target{Server: s, Credential: c, Registered: true}, o)
	if err != nil || !hinders(r) {
		return f, false
	}
	return r.Findings[0].Short(), true
}

// tape keeps what went before a failure, once for each.
func (svc *Service) tape(ctx context.Context, f failure) {
	svc.mu.Lock()
	again := svc.taped[f.server.ID].Equal(f.since)
	if len(svc.taped) > maxReports {
		clear(svc.taped)
	}
	svc.taped[f.server.ID] = f.since
	svc.mu.Unlock()
	if again {
		return
	}
	_, err := svc.o.Tapes.Keep(ctx, system, apitype.KeepTape{Server: f.server.Name, Reason: "it began to fail: " + string(f.cause)})
	var nothing *team.ConflictError
	if err != nil && !errors.As(err, &nothing) {
		svc.Log.Error("what went before a failure could not be kept", "server", f.server.Name, "error", err)
	}
}

// agree has the state of a server agree with what a checkup has found: what fails is told
// with its cause, and what is well again is looked at by its connection.
func (svc *Service) agree(ctx context.Context, s team.Server, r report.Report) {
	c, _ := svc.Pool.Best(s.ID)
	if c == nil {
		return
	}
	st := c.Status()
	switch {
	case st.State == team.StateFailing && len(r.Findings) > 0 && st.Finding != nil:
		c.Explained(st.Finding.Cause, r.Findings[0].Short())
	case st.State == team.StateFailing && r.Healthy, st.State == team.StateReady && hinders(r):
		c.Again(ctx)
	}
}

// hinders reports whether a finding keeps a conversation from being opened.
func hinders(r report.Report) bool { return !r.Healthy && r.Revision == "" }

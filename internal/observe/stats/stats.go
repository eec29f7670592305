// Package stats tells how calls went over time: how many, how they ended, how long they
// took, by server, tool, agent or person. Calls are added up by the hour, and that is kept
// longer than the calls; what is asked of the last hours is read from the calls themselves.
package stats

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/calls"
	"bouncer/internal/core/access"
	"bouncer/internal/core/histogram"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// How hours are added up: how often it is looked whether one is over, how long after its
// end (a call is on record when it has ended, by when it began), and for how long that is
// kept.
const (
	lookEvery = time.Minute
	settle    = time.Hour
	keep      = 400 * 24 * time.Hour
)

// Bounds on what is asked: how long single calls are read for, how many steps, and groups.
const (
	fine      = 12 * time.Hour
	maxSpan   = keep
	maxGroups = 200
)

// Service adds up and tells. It is safe for concurrent use; Start and Close frame its life.
type Service struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time
	stop  context.CancelFunc
	ended chan struct{}
}

// New returns the service; now is nil for time.Now.
func New(s *store.Store, log *slog.Logger, now func() time.Time) *Service {
	if now == nil {
		now = time.Now
	}
	return &Service{store: s, log: log, now: now, ended: make(chan struct{})}
}

// Start begins to add up.
func (svc *Service) Start() {
	ctx, stop := context.WithCancel(context.Background())
	svc.stop = stop
	go func() {
		defer close(svc.ended)
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			if err := svc.RollUp(ctx); err != nil && ctx.Err() == nil {
				svc.log.Error("calls could not be added up", "error", err)
			}
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	}()
}

// Close ends that.
func (svc *Service) Close() {
	svc.stop()
	<-svc.ended
}

// RollUp adds up the hours that are over. After a clock that was ahead they are added up
// again from now on.
func (svc *Service) RollUp(ctx context.Context) error {
	sums := rollups{svc.store.Part()}
	from, err := sums.until(ctx)
	if err != nil {
		return err
	}
	if from.IsZero() {
		if from, err = calls.In(svc.store).First(ctx); errors.Is(err, store.ErrNotFound) {
			return nil
		} else if err != nil {
			return fmt.Errorf("find the first call: %w", err)
		}
		from = from.Truncate(time.Hour)
	}
	end := svc.now().Add(-settle).Truncate(time.Hour)
	if from.After(end.Add(time.Hour)) {
		from = end.Add(-time.Hour)
	}
	for hour := from; hour.Before(end); hour = hour.Add(time.Hour) {
		list, err := svc.addUp(ctx, hour)
		if err != nil {
			return err
		}
		if err := sums.keep(ctx, hour, list, svc.now().Add(-keep)); err != nil {
			return err
		}
	}
	return nil
}

// key is what is told apart.
type key struct{ server, tool, agent, person string }

// sum is what is added up.
type sum struct {
	apitype.Figures
	took histogram.Histogram
}

func (s *sum) add(c *calls.Record) {
	switch c.Outcome {
	case team.OutcomeOK:
		s.OK += int64(c.Times)
	case team.OutcomeRefused:
		s.Refused += int64(c.Times)
	default:
		s.Failed += int64(c.Times)
	}
	if c.Outcome != team.OutcomeRefused {
		s.took.Add(c.Micros)
	}
	s.BytesIn += int64(c.BytesIn)
	s.BytesOut += int64(c.BytesOut)
}

func (s *sum) merge(o *sum) {
	s.OK += o.OK
	s.Refused += o.Refused
	s.Failed += o.Failed
	s.BytesIn += o.BytesIn
	s.BytesOut += o.BytesOut
	s.took.Merge(o.took)
}

// figures are the sums with their quantiles, and if wanted what those are made of.
func (s *sum) figures(took bool) apitype.Figures {
	f := s.Figures
	if took {
		f.Took = s.took.Encode()
	}
	for _, q := range []struct {
		of float64
		to *float64
	}{{0.5, &f.P50}, {0.95, &f.P95}, {0.99, &f.P99}} {
		*q.to = s.took.Quantile(q.of) / 1000
	}
	return f
}

func (svc *Service) addUp(ctx context.Context, hour time.Time) (list []rollup, err error) {
	sums := map[key]*sum{}
	f := calls.Filter{Filter: segment.Filter{Since: hour, Until: hour.Add(time.Hour)}}
	err = calls.In(svc.store).Each(ctx, f, func(c *calls.Record) {
		k := key{c.Server, c.Tool, c.Agent, c.Person}
		if sums[k] == nil {
			sums[k] = &sum{}
		}
		sums[k].add(c)
	})
	for k, s := range sums {
		list = append(list, rollup{
			key: k, ok: s.OK, refused: s.Refused, failed: s.Failed, bytesIn: s.BytesIn, bytesOut: s.BytesOut, took: s.took.Encode(),
		})
	}
	return list, err
}

// Query says what is asked.
type Query struct {
	Since, Until        time.Time // zero: the last day
	By                  string    // server, tool, agent or person; "" is server
	Server, Tool, Agent string    // only of these; "" for all
	Took                bool      // also how often which length of time occurred, so that answers can be added up
}

// Stats tells how the calls went that a person may see.
func (svc *Service) Stats(ctx context.Context, by team.Person, q Query) (apitype.Stats, error) {
	if q.Until.IsZero() {
		q.Until = svc.now()
	}
	if q.Since.IsZero() {
		q.Since = q.Until.Add(-24 * time.Hour)
	}
	q.By = cmp.Or(q.By, "server")
	span := q.Until.Sub(q.Since)
	switch {
	case span <= 0:
		return apitype.Stats{}, &team.FieldError{Field: "until", Why: "must be after since"}
	case span > maxSpan:
		return apitype.Stats{}, &team.FieldError{Field: "since", Why: "is longer ago than the 400 days for which figures are kept"}
	case !slices.Contains([]string{"server", "tool", "agent", "person"}, q.By):
		return apitype.Stats{}, &team.FieldError{Field: "by", Why: "must be server, tool, agent or person"}
	}
	f := calls.Filter{Filter: segment.Filter{Agent: q.Agent, Server: q.Server, Tool: q.Tool}}
	switch access.ScopeOf(by.Role, access.SeeCalls) {
	case access.All:
	case access.Own:
		f.Owner = by.Name
	default:
		return apitype.Stats{}, &team.NotFoundError{Kind: "call"}
	}
	step := stepOf(span)
	from := q.Since.Truncate(step)
	a := &answer{from: from, step: step, by: q.By, points: make([]sum, int(q.Until.Sub(from)/step)+1), groups: map[string]*sum{}}
	if err := svc.read(ctx, a, f, from, q.Until, span <= fine); err != nil {
		return apitype.Stats{}, fmt.Errorf("read how calls went: %w", err)
	}
	return a.stats(q), nil
}

// steps are the lengths that a step can have; single hours are the shortest that is kept.
var steps = []time.Duration{
	time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 3 * time.Hour, 6 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour,
}

// stepOf is the shortest step that gives no more than enough of them.
func stepOf(span time.Duration) time.Duration {
	const enough = 120
	for _, s := range steps {
		if span/s <= enough && (s >= time.Hour || span <= fine) {
			return s
		}
	}
	return steps[len(steps)-1]
}

// read adds up what was asked for: from hours that were added up, and from calls for the
// rest of the time.
func (svc *Service) read(ctx context.Context, a *answer, f calls.Filter, from, until time.Time, single bool) error {
	rest := from
	if !single {
		sums := rollups{svc.store.Part()}
		rolled, err := sums.until(ctx)
		if err != nil {
			return err
		}
		if rolled = earlier(rolled, svc.now().Truncate(time.Hour)); rolled.After(from) {
			rest = earlier(rolled, until)
			// Further hours may be added up meanwhile.
			some := rollupFilter{agent: f.Agent, server: f.Server, tool: f.Tool, owner: f.Owner, since: from, until: rest}
			err := sums.each(ctx, some, func(r rollup) error {
				took, err := histogram.Decode(r.took)
				if err != nil {
					return fmt.Errorf("read how long calls took: %w", err)
				}
				s := &sum{apitype.Figures{OK: r.ok, Refused: r.refused, Failed: r.failed, BytesIn: r.bytesIn, BytesOut: r.bytesOut}, took}
				a.merge(r.hour, r.key, s)
				return nil
			})
			if err != nil {
				return err
			}
		}
	}
	f.Since, f.Until = rest, until
	return calls.In(svc.store).Each(ctx, f, a.add)
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// answer is an answer in the making.
type answer struct {
	from   time.Time
	step   time.Duration
	by     string
	total  sum
	points []sum
	groups map[string]*sum
}

func (a *answer) at(t time.Time) *sum {
	i := int(t.Sub(a.from) / a.step)
	return &a.points[min(max(i, 0), len(a.points)-1)]
}

func (a *answer) group(k key) *sum {
	name := map[string]string{"server": k.server, "tool": k.server + "/" + k.tool, "agent": k.agent, "person": k.person}[a.by]
	if a.groups[name] == nil {
		a.groups[name] = &sum{}
	}
	return a.groups[name]
}

func (a *answer) add(c *calls.Record) {
	a.total.add(c)
	a.at(c.At).add(c)
	a.group(key{c.Server, c.Tool, c.Agent, c.Person}).add(c)
}

func (a *answer) merge(at time.Time, k key, s *sum) {
	a.total.merge(s)
	a.at(at).merge(s)
	a.group(k).merge(s)
}

func (a *answer) stats(q Query) apitype.Stats {
	out := apitype.Stats{
		Since: a.from.UTC(), Until: q.Until.UTC(), Step: int(a.step.Seconds()), By: q.By, Total: a.total.figures(q.Took),
		Points: []apitype.StatsPoint{}, Groups: []apitype.StatsGroup{},
	}
	for i := range a.points {
		at := a.from.Add(time.Duration(i) * a.step).UTC()
		out.Points = append(out.Points, apitype.StatsPoint{At: at, Figures: a.points[i].figures(q.Took)})
	}
	for name, s := range a.groups {
		out.Groups = append(out.Groups, apitype.StatsGroup{Name: name, Figures: s.figures(q.Took)})
	}
	out.Groups = largest(out.Groups)
	return out
}

// largest are the groups with the most calls, those first.
func largest(groups []apitype.StatsGroup) []apitype.StatsGroup {
	calls := func(g apitype.StatsGroup) int64 { return g.OK + g.Refused + g.Failed }
	slices.SortFunc(groups, func(x, y apitype.StatsGroup) int {
		return cmp.Or(cmp.Compare(calls(y), calls(x)), cmp.Compare(x.Name, y.Name))
	})
	return groups[:min(len(groups), maxGroups)]
}

// Package incident keeps what goes wrong as incidents: the same cause at the same server
// is one of them, for the whole team, with whom it affects and what changed before it. It
// ends by itself when the server is well again, and is reopened when the cause returns.
package incident

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/feed"
	"bouncer/internal/core/report"
	"bouncer/internal/core/team"
	"bouncer/internal/events"
	"bouncer/internal/journal"
	"bouncer/internal/store"
)

// Bounds on incidents.
const (
	maxListed  = 200
	maxNotes   = 50
	maxNote    = 2000           // bytes
	before     = 24 * time.Hour // before the last good time that changes are looked at
	maxChanges = 2000
	meanwhile  = 5 * time.Second // a change is recorded a little after it took effect
)

// Topic is what listeners are told when incidents change.
const Topic = "incidents"

// Service keeps incidents. It is safe for concurrent use.
type Service struct {
	store  *store.Store
	calls  *journal.Reader
	events *events.Hub
	log    *slog.Logger

	// Told is told when an incident begins, or returns, and when it is over; nil for nobody.
	// It must not block. It is set before the first use.
	Told func(i team.Incident, over bool)

	mu    sync.Mutex // guards known; never held while writing
	known map[string]team.ServerState
}

// New returns the service.
func New(s *store.Store, calls *journal.Reader, hub *events.Hub, log *slog.Logger) *Service {
	return &Service{store: s, calls: calls, events: hub, log: log, known: map[string]team.ServerState{}}
}

// Observe notes in which state a server is. It is called again and again, and records what
// changed.
func (svc *Service) Observe(ctx context.Context, s team.Server, h team.Health) {
	now := team.ServerState{At: h.Since, State: h.State, Version: h.ServerVersion}
	if h.Finding != nil {
		now.Cause = string(h.Finding.Cause)
	}
	if h.State == team.StateConnecting {
		return // it is not known yet
	}
	svc.mu.Lock()
	last, seen := svc.known[s.ID]
	svc.known[s.ID] = now
	svc.mu.Unlock()
	if seen && last.State == now.State && last.Cause == now.Cause && last.Version == now.Version {
		return
	}
	if seen && last.State == now.State && !now.At.After(last.At) {
		now.At = time.Now().UTC() // the state is the same, and something else about it is not
	}
	lasting, err := svc.lasting(ctx, s.Name)
	if err != nil {
		svc.log.Error("incidents could not be read", "error", err)
		return
	}
	err = svc.store.Local(ctx, func(tx *store.Tx) error {
		if err := tx.KeepServerState(s.ID, now); err != nil {
			return err
		}
		if now.State == team.StateReady {
			return tx.ResolveIncidents(s.ID, now.At)
		}
		return nil
	})
	if err != nil {
		svc.log.Error("the state of a server could not be recorded", "server", s.Name, "error", err)
		return
	}
	if now.State == team.StateReady {
		for _, i := range lasting {
			svc.tell(i, true)
		}
	}
	svc.events.Publish(Topic)
}

// lasting are the incidents that last at a server.
func (svc *Service) lasting(ctx context.Context, server string) (lasting []team.Incident, err error) {
	list, err := svc.store.Incidents(ctx, maxListed) // those that last come first
	for _, i := range list {
		if i.Server == server && i.Until == nil {
			lasting = append(lasting, i)
		}
	}
	return lasting, err
}

func (svc *Service) tell(i team.Incident, over bool) {
	if svc.Told != nil {
		svc.Told(i, over)
	}
}

// Opened says that a server fails, since when, and what was found to be the cause. An
// incident of the same cause goes on, or is reopened.
func (svc *Service) Opened(ctx context.Context, s team.Server, since time.Time, found report.Found) {
	if err := svc.open(ctx, s, since, found); err != nil {
		svc.log.Error("an incident could not be kept", "server", s.Name, "error", err)
		return
	}
	svc.events.Publish(Topic)
}

func (svc *Service) open(ctx context.Context, s team.Server, since time.Time, found report.Found) error {
	i, err := svc.store.LastIncident(ctx, s.ID, string(found.Cause))
	switch {
	case err == nil && i.Until == nil && i.Title == found.Title:
		return nil // it goes on
	case err == nil && i.Until != nil && since.Sub(*i.Until) < team.IncidentGoesOn:
		i.Until, i.Since = nil, since
		i.Reopened++
	case err == nil && i.Until == nil:
	case err == nil || errors.Is(err, store.ErrNotFound):
		i = team.Incident{ID: team.NewID(), First: since, Since: since, Notes: []team.IncidentNote{}}
	default:
		return fmt.Errorf("look for the incident: %w", err)
	}
	i.Cause, i.Title, i.Remedy, i.Who, i.Evidence = string(found.Cause), found.Title, found.Remedy, string(found.Who), found.Evidence
	states, err := svc.store.ServerStates(ctx, s.ID, time.Time{})
	if err != nil {
		return fmt.Errorf("read the states of the server: %w", err)
	}
	i.LastGood = nil
	for n, state := range states {
		if state.State == team.StateReady && !state.At.After(since) {
			end := since
			if n+1 < len(states) && states[n+1].At.Before(since) {
				end = states[n+1].At
			}
			i.LastGood = &end
		}
	}
	err = svc.store.Local(ctx, func(tx *store.Tx) error {
		// What it was taken for before is over with it.
		if err := tx.ResolveIncidents(s.ID, since); err != nil {
			return err
		}
		return tx.KeepIncident(s.ID, i)
	})
	if err == nil && i.Since.Equal(since) {
		svc.tell(i, false)
	}
	return err
}

// List returns incidents: those that last first, then the newest.
func (svc *Service) List(ctx context.Context, by team.Person) ([]team.Incident, error) {
	list, err := svc.store.Incidents(ctx, maxListed)
	if err != nil {
		return nil, fmt.Errorf("list the incidents: %w", err)
	}
	for i := range list {
		list[i] = shown(by, list[i])
	}
	return list, nil
}

// Feed is the list as a feed; base is the address of the console.
func (svc *Service) Feed(ctx context.Context, by team.Person, base string) ([]byte, error) {
	list, err := svc.List(ctx, by)
	if err != nil {
		return nil, err
	}
	return feed.Of(list, base)
}

// shown leaves the proof out for those who may not see how servers are set up: it can hold
// words of processes, headers and command lines.
func shown(by team.Person, i team.Incident) team.Incident {
	if !access.May(by, access.SeeSetup, "") {
		i.Evidence = []string{}
	}
	return i
}

// Get returns one incident, with whom it affects of those whose calls the person may see.
func (svc *Service) Get(ctx context.Context, by team.Person, id string) (d apitype.IncidentDetail, err error) {
	if d.Incident, err = svc.store.Incident(ctx, id); err != nil {
		return d, store.Explain(err, "incident", id)
	}
	d.Incident = shown(by, d.Incident)
	q := journal.Query{Server: d.Server, Since: d.Since, Limit: journal.MaxCalls}
	if d.Until != nil {
		q.Until = *d.Until
	}
	calls, err := svc.calls.Calls(ctx, by, q)
	if err != nil {
		return d, err
	}
	owners, err := svc.owners(ctx)
	if err != nil {
		return d, err
	}
	agents, people := map[string]bool{}, map[string]bool{}
	for _, c := range calls {
		if c.Outcome == team.OutcomeOK || c.Outcome == team.OutcomeRefused {
			continue
		}
		d.Calls++
		agents[c.Agent] = true
		if owner := owners[c.Agent]; owner != "" {
			people[owner] = true
		}
	}
	d.Agents, d.People = sorted(agents), sorted(people)
	d.Changed, err = svc.suspects(ctx, d.Incident)
	return d, err
}

// owners are whose the agents are, by name.
func (svc *Service) owners(ctx context.Context) (map[string]string, error) {
	list, err := svc.store.Agents(ctx, time.Now())
	if err != nil {
		return nil, fmt.Errorf("read the agents: %w", err)
	}
	out := map[string]string{}
	for _, a := range list {
		out[a.Name] = a.Owner
	}
	return out, nil
}

func sorted(set map[string]bool) []string {
	list := make([]string, 0, len(set))
	for name := range set {
		list = append(list, name)
	}
	slices.Sort(list)
	return list
}

// suspicion is a suspect with how much it is suspected.
type suspicion struct {
	apitype.Suspect
	weight int
}

// suspects is what changed before an incident, ordered by suspicion: what is about the
// server itself first, then what it is given, then what rules say of it; of the same kind
// what came last.
func (svc *Service) suspects(ctx context.Context, i team.Incident) ([]apitype.Suspect, error) {
	from := i.Since.Add(-before)
	if i.LastGood != nil && i.LastGood.Add(-before).Before(from) {
		from = i.LastGood.Add(-before)
	}
	s, err := svc.store.ServerByName(ctx, i.Server)
	if err != nil {
		return nil, store.Explain(err, "server", i.Server)
	}
	changes, err := svc.store.Changes(ctx, maxChanges)
	if err != nil {
		return nil, fmt.Errorf("read what was changed: %w", err)
	}
	var list []suspicion
	for _, c := range changes {
		if c.At.Before(from) || c.At.After(i.Since.Add(meanwhile)) {
			continue
		}
		weight, why := weigh(c, s)
		if weight == 0 {
			continue
		}
		list = append(
			list,
			suspicion{apitype.Suspect{At: c.At, What: c.What + " " + c.Subject, Who: c.Person, Change: c.ID, Why: why}, weight},
		)
	}
	more, err := svc.observed(ctx, s, from, i.Since)
	if err != nil {
		return nil, err
	}
	list = append(append(list, more...), altered(s, from, i.Since.Add(meanwhile))...)
	slices.SortStableFunc(list, func(a, b suspicion) int {
		return cmp.Or(cmp.Compare(b.weight, a.weight), b.At.Compare(a.At))
	})
	out := []apitype.Suspect{}
	for _, one := range list[:min(len(list), 20)] {
		out = append(out, one.Suspect)
	}
	return out, nil
}

// weigh says how suspicious a change is; 0 for not at all.
func weigh(c team.Change, s team.Server) (weight int, why string) {
	noun, _, _ := strings.Cut(c.What, ".")
	about := c.Subject == s.Name
	switch {
	case noun == "server" && about:
		return 100, "it is about this server"
	case noun == "secret" && (c.Subject == s.Secret || strings.HasPrefix(c.Subject, s.Name+"-") || strings.HasPrefix(c.Subject, s.Name+":")):
		return 90, "the server is given this secret"
	case noun == "sign-in" && strings.Contains(c.Subject, s.Name):
		return 80, "it is a sign-in at this server"
	case noun == "review" && about:
		return 50, "it is about this server's tools"
	case noun == "rule" && (strings.Contains(c.After, s.Name) || strings.Contains(c.Before, s.Name)):
		return 40, "the rule names this server"
	case noun == "roster":
		return 30, "a roster can change anything"
	}
	return 0, ""
}

// observed is what changed at the server by itself: its list of tools, and its version.
func (svc *Service) observed(ctx context.Context, s team.Server, from, to time.Time) (list []suspicion, err error) {
	editions, err := svc.store.Editions(ctx, s.ID)
	if err != nil {
		return nil, fmt.Errorf("read the editions: %w", err)
	}
	for n, e := range editions {
		if e.At.After(from) && !e.At.After(to) && n+1 < len(editions) {
			list = append(
				list,
				suspicion{apitype.Suspect{At: e.At, What: "another list of tools", Why: "the server lists other tools since"}, 70},
			)
		}
	}
	states, err := svc.store.ServerStates(ctx, s.ID, from)
	if err != nil {
		return nil, fmt.Errorf("read the states of the server: %w", err)
	}
	last := ""
	for _, state := range states {
		if last != "" && state.Version != "" && state.Version != last && state.At.After(from) && !state.At.After(to) {
			what := "the server's version, from " + last + " to " + state.Version
			list = append(list, suspicion{apitype.Suspect{At: state.At, What: what, Why: "the server is another one since"}, 85})
		}
		if state.Version != "" {
			last = state.Version
		}
	}
	return list, nil
}

// Note adds a note to an incident.
func (svc *Service) Note(ctx context.Context, by team.Person, id string, in apitype.NewNote) (team.Incident, error) {
	i, err := svc.store.Incident(ctx, id)
	if err != nil {
		return i, store.Explain(err, "incident", id)
	}
	text := strings.TrimSpace(in.Text)
	switch {
	case text == "":
		return i, &team.FieldError{Field: "text", Why: "is missing"}
	case len(text) > maxNote || !utf8.ValidString(text):
		return i, &team.FieldError{Field: "text", Why: fmt.Sprintf("must be text of at most %d bytes", maxNote)}
	case len(i.Notes) >= maxNotes:
		return i, &team.ConflictError{
			Field: "text",
			Why:   fmt.Sprintf("there are %d notes already, which is as many as there may be", maxNotes),
		}
	}
	s, err := svc.store.ServerByName(ctx, i.Server)
	if err != nil {
		return i, store.Explain(err, "server", i.Server)
	}
	i.Notes = append(i.Notes, team.IncidentNote{At: time.Now().UTC(), Person: by.Name, Text: text})
	err = svc.store.Local(ctx, func(tx *store.Tx) error { return tx.KeepIncident(s.ID, i) })
	if err != nil {
		return i, fmt.Errorf("keep a note: %w", err)
	}
	svc.events.Publish(Topic)
	return i, nil
}

// Board returns how every server did since a time.
func (svc *Service) Board(ctx context.Context, since time.Time, health func(team.Server) team.Health) ([]apitype.ServerHistory, error) {
	servers, err := svc.store.Servers(ctx)
	if err != nil {
		return nil, fmt.Errorf("list the servers: %w", err)
	}
	out := []apitype.ServerHistory{}
	for _, s := range servers {
		states, err := svc.store.ServerStates(ctx, s.ID, since)
		if err != nil {
			return nil, fmt.Errorf("read the states of a server: %w", err)
		}
		h := health(s)
		one := apitype.ServerHistory{Server: s.Name, State: h.State, States: states}
		if h.Finding != nil {
			one.Cause, one.Title = string(h.Finding.Cause), h.Finding.Message
		}
		if one.States == nil {
			one.States = []team.ServerState{}
		}
		out = append(out, one)
	}
	return out, nil
}

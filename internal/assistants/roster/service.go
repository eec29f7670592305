// Package roster keeps a service as its roster says: it writes down what there is, says
// what would change, and puts all of it in force at once or nothing of it.
package roster

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/access"
	"bouncer/internal/core/roster"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/people"
	"bouncer/internal/registry"
	"bouncer/internal/servers"
	"bouncer/internal/store"
)

// Service keeps the roster. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	servers  *servers.Service
	policy   *policy.Service
	// oneTime makes a one-time password, with what is stored of it.
	oneTime func(context.Context) (password, hash string, err error)
}

// New returns the service.
func New(
	s *store.Store, r *registry.Registry, sv *servers.Service, p *policy.Service, oneTime func(context.Context) (string, string, error),
) *Service {
	return &Service{store: s, registry: r, servers: sv, policy: p, oneTime: oneTime}
}

// now is what there is.
func (svc *Service) now(ctx context.Context) (r roster.Roster, err error) {
	r = roster.Roster{
		Roster: roster.Form, Servers: map[string]roster.Server{}, People: map[string]roster.Person{}, Agents: map[string]roster.Agent{},
		Rules: map[string]roster.Rule{}, Bundles: map[string]roster.Bundle{}, Budgets: map[string]roster.Budget{},
	}
	words, err := svc.labels(ctx)
	if err != nil {
		return r, err
	}
	list, err := svc.store.Servers(ctx)
	if err != nil {
		return r, fmt.Errorf("read the servers: %w", err)
	}
	for _, s := range list {
		r.Servers[s.Name] = roster.Server{
			URL: s.URL, Transport: s.Transport, Command: s.Command, Args: s.Args, Dir: s.Dir, Env: s.Env, SecretEnv: s.SecretEnv,
			Secret: s.Secret, Document: s.Document, Paused: s.Paused, ServerOptions: s.ServerOptions,
			Labels: words.of[team.OnServer+s.ID], Tags: words.tags[s.ID],
		}
	}
	persons, err := svc.store.People(ctx)
	if err != nil {
		return r, fmt.Errorf("read the people: %w", err)
	}
	for _, p := range persons {
		r.People[p.Name] = roster.Person{FullName: p.FullName, Role: p.Role, Groups: words.of[team.OnPerson+p.ID]}
	}
	all, err := svc.store.Agents(ctx, time.Now())
	if err != nil {
		return r, fmt.Errorf("read the agents: %w", err)
	}
	for _, a := range all {
		r.Agents[a.Name] = roster.Agent{
			Kind: a.Kind, Owner: a.Owner, Paused: a.Paused, Confirmed: a.Confirmed, Labels: words.of[team.OnAgent+a.ID],
			Finder: a.Finder, ContextTokens: a.ContextTokens,
		}
	}
	bundles, err := svc.store.Control().Bundles(ctx)
	if err != nil {
		return r, fmt.Errorf("read the bundles: %w", err)
	}
	for _, b := range bundles {
		r.Bundles[b.Name] = roster.Bundle{Note: b.Note, Entries: b.Entries}
	}
	budgets, err := svc.store.Control().Budgets(ctx)
	if err != nil {
		return r, fmt.Errorf("read the budgets: %w", err)
	}
	for _, b := range budgets {
		r.Budgets[b.Name] = roster.Budget{Note: b.Note, Allowance: b.Allowance}
	}
	rules, err := svc.store.Control().Rules(ctx)
	if err != nil {
		return r, fmt.Errorf("read the rules: %w", err)
	}
	for _, x := range rules {
		r.Rules[x.Name] = roster.Rule{Effect: x.Effect, Agent: x.Agent, Server: x.Server, Tool: x.Tool, Note: x.Note, Terms: x.Terms}
		one := r.Rules[x.Name]
		one.PersonID = "" // ids are this service's own
		r.Rules[x.Name] = one
	}
	return r, nil
}

// version tells one state from another.
func version(r roster.Roster) (text []byte, sum string, err error) {
	text, err = r.Marshal()
	s := sha256.Sum256(text)
	return text, hex.EncodeToString(s[:8]), err
}

// Export writes down what there is.
func (svc *Service) Export(ctx context.Context) (apitype.Roster, error) {
	r, err := svc.now(ctx)
	if err != nil {
		return apitype.Roster{}, err
	}
	text, sum, err := version(r)
	return apitype.Roster{Text: string(text), Version: sum}, err
}

// Plan says what would be done to have it as a roster says.
func (svc *Service) Plan(ctx context.Context, in apitype.Roster) (apitype.RosterPlan, error) {
	_, _, plan, err := svc.plan(ctx, in)
	return plan, err
}

func (svc *Service) plan(ctx context.Context, in apitype.Roster) (now, want roster.Roster, plan apitype.RosterPlan, err error) {
	if want, err = roster.Parse([]byte(in.Text)); err != nil {
		return now, want, plan, &team.FieldError{Field: "text", Why: "cannot be used: " + err.Error()}
	}
	if now, err = svc.now(ctx); err != nil {
		return now, want, plan, err
	}
	fill(&want, now)
	_, sum, err := version(now)
	if err != nil {
		return now, want, plan, err
	}
	plan.Version = sum
	plan.Steps, plan.Extra = roster.Compare(now, want, in.Prune)
	if plan.Steps == nil {
		plan.Steps = []roster.Step{}
	}
	return now, want, plan, nil
}

// fill puts in what is the same when it is left out.
func fill(want *roster.Roster, now roster.Roster) {
	for name, s := range want.Servers {
		if s.Sharing == "" {
			s.Sharing = team.SharingAuto
		}
		if s.Transport == "" {
			switch {
			case s.Command != "":
				s.Transport = team.Stdio
			case s.Document != "":
				s.Transport = team.REST
			default:
				s.Transport = team.StreamableHTTP
				if have, there := now.Servers[name]; there && have.Command == "" {
					s.Transport = have.Transport
				}
			}
		}
		if s.Labels == nil {
			s.Labels = now.Servers[name].Labels
		}
		if s.Tags == nil {
			s.Tags = now.Servers[name].Tags
		}
		want.Servers[name] = s
	}
	for name, p := range want.People {
		if p.Groups == nil {
			p.Groups = now.People[name].Groups
		}
		want.People[name] = p
	}
	for name, a := range want.Agents {
		if a.Kind == "" {
			a.Kind = "assistant"
		}
		if a.Labels == nil {
			a.Labels = now.Agents[name].Labels
		}
		want.Agents[name] = a
	}
}

// stage is what an application is made of.
type stage struct {
	by        team.Person
	now, want roster.Roster
	prune     bool
	at        time.Time
	writes    []func(*store.Tx) error
	agentIDs  map[string]string // of those that are added
	personIDs map[string]string // likewise
	passwords map[string]string
}

// Apply puts a roster in force: all of it in one transaction, or nothing. With a version
// it is refused when something was altered since that was planned.
func (svc *Service) Apply(ctx context.Context, by team.Person, in apitype.Roster) (apitype.RosterApplied, error) {
	var none apitype.RosterApplied
	now, want, plan, err := svc.plan(ctx, in)
	if err != nil {
		return none, err
	}
	if in.Version != "" && in.Version != plan.Version {
		return none, &team.ConflictError{
			Field: "version",
			Why:   "something was altered since this was planned, so nothing was done",
			Hint:  "plan again and look: bouncer roster plan",
		}
	}
	st := &stage{
		by: by, now: now, want: want, prune: in.Prune, at: time.Now().UTC(),
		agentIDs: map[string]string{}, personIDs: map[string]string{}, passwords: map[string]string{},
	}
	for _, step := range plan.Steps {
		if err := svc.stage(ctx, st, step); err != nil {
			return none, about(step, err)
		}
	}
	out := apitype.RosterApplied{Steps: plan.Steps, Passwords: st.passwords}
	if len(st.writes) == 0 {
		return out, nil
	}
	change := registry.Change{
		By: by, What: "roster.apply", Subject: plan.Version, After: summary(plan.Steps),
		Topics: []string{"servers", "people", "agents", "rules", "labels", "bundles", "budgets"},
	}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error {
		for _, write := range st.writes {
			if err := write(tx); err != nil {
				return err
			}
		}
		return nil
	})
	return out, err
}

func summary(steps []roster.Step) string {
	counts := map[string]int{}
	var order []string
	for _, s := range steps {
		key := s.Do + " " + s.Noun
		if counts[key] == 0 {
			order = append(order, key)
		}
		counts[key]++
	}
	for i, key := range order {
		order[i] = fmt.Sprintf("%s: %d", key, counts[key])
	}
	return strings.Join(order, ", ")
}

// about names the step that an error is about.
func about(s roster.Step, err error) error {
	what := fmt.Sprintf("%ss.%s", strings.TrimSuffix(s.Noun, "person"), s.Name)
	if s.Noun == roster.PersonNoun {
		what = "people." + s.Name
	}
	var field *team.FieldError
	var missing *team.NotFoundError
	switch {
	case errors.As(err, &field):
		return &team.FieldError{Field: what + "." + field.Field, Why: field.Why + "; nothing was done"}
	case errors.As(err, &missing) && missing.Kind == "secret":
		return &team.ConflictError{
			Field: what, Why: fmt.Sprintf("%s names the secret %q, which is not stored; nothing was done", what, missing.Name),
			Hint: "store it first: bouncer secret add " + missing.Name,
		}
	}
	return fmt.Errorf("%s: %w", what, err)
}

func (svc *Service) stage(ctx context.Context, st *stage, s roster.Step) error {
	var err error
	switch s.Noun {
	case roster.ServerNoun:
		err = svc.stageServer(ctx, st, s)
	case roster.PersonNoun:
		err = svc.stagePerson(ctx, st, s)
	case roster.AgentNoun:
		err = svc.stageAgent(ctx, st, s)
	case roster.BundleNoun:
		return svc.stageBundle(ctx, st, s)
	case roster.BudgetNoun:
		return svc.stageBudget(ctx, st, s)
	default:
		return svc.stageRule(ctx, st, s)
	}
	if err == nil && s.Do != roster.Remove {
		err = stageLabels(st, s)
	}
	return err
}

func (svc *Service) stageServer(ctx context.Context, st *stage, s roster.Step) (err error) {
	var write func(*store.Tx) error
	switch want := st.want.Servers[s.Name]; s.Do {
	case roster.Add:
		transport := ""
		if want.Transport == team.EventStream || want.Transport == team.StreamableHTTP {
			transport = want.Transport
		}
		write, err = svc.servers.StageAdd(ctx, st.by, serverspec.Registration{
			Name: s.Name, URL: want.URL, Secret: want.Secret, Command: want.Command, Args: want.Args, Dir: want.Dir, Env: want.Env,
			SecretEnv: want.SecretEnv, Transport: transport, Document: want.Document, ServerOptions: want.ServerOptions,
		}, want.Paused, st.at)
	case roster.Alter:
		write, err = svc.servers.StageUpdate(
			ctx,
			st.by,
			s.Name,
			serverspec.Back(plain(s.Name, want), plain(s.Name, st.now.Servers[s.Name])),
		)
	default:
		have, lookup := svc.store.ServerByName(ctx, s.Name)
		if lookup != nil {
			return store.Explain(lookup, "server", s.Name)
		}
		write = func(tx *store.Tx) error { return tx.RemoveServer(have.ID) }
	}
	if err == nil {
		st.writes = append(st.writes, write)
	}
	return err
}

// plain is a server as the settings of it are altered.
func plain(name string, s roster.Server) team.Server {
	return team.Server{
		Name: name, URL: s.URL, Transport: s.Transport, Command: s.Command, Args: s.Args, Dir: s.Dir, Env: s.Env, SecretEnv: s.SecretEnv,
		Secret: s.Secret, Document: s.Document, Paused: s.Paused, ServerOptions: s.ServerOptions,
	}
}

func (svc *Service) stagePerson(ctx context.Context, st *stage, s roster.Step) error {
	if !access.May(st.by, access.KeepPeople, "") {
		return &team.NotAllowedError{
			Why: fmt.Sprintf("your role, %s, cannot alter people, and the roster does", st.by.Role), Hint: "have an admin apply it",
		}
	}
	want := st.want.People[s.Name]
	if s.Do != roster.Remove {
		if err := errors.Join(team.CheckName("name", s.Name), people.CheckFullName(want.FullName), people.CheckRole(want.Role)); err != nil {
			return err
		}
	}
	if err := svc.someAdminStays(st); err != nil {
		return err
	}
	if s.Do == roster.Add {
		password, hash, err := svc.oneTime(ctx)
		if err != nil {
			return err
		}
		st.passwords[s.Name] = password
		p := team.Person{ID: team.NewID(), Name: s.Name, FullName: want.FullName, Role: want.Role, MustChange: true, Created: st.at}
		st.personIDs[s.Name] = p.ID
		st.writes = append(st.writes, func(tx *store.Tx) error { return store.Explain(tx.AddPerson(p, hash), "person", s.Name) })
		return nil
	}
	p, err := svc.store.PersonByName(ctx, s.Name)
	if err != nil {
		return store.Explain(err, "person", s.Name)
	}
	if s.Do == roster.Remove {
		if p.ID == st.by.ID {
			return &team.ConflictError{Field: "name", Why: "you cannot remove yourself", Hint: "have another admin do it"}
		}
		st.writes = append(st.writes, func(tx *store.Tx) error {
			if err := tx.RemovePerson(p.ID); errors.Is(err, store.ErrInUse) {
				return &team.ConflictError{
					Field: "name",
					Why:   s.Name + " still owns agents",
					Hint:  "give their agents another owner in the roster",
				}
			} else if err != nil {
				return store.Explain(err, "person", s.Name)
			}
			return nil
		})
		return nil
	}
	if p.Elsewhere && p.Role != want.Role {
		return &team.ConflictError{
			Field: "role", Why: s.Name + "'s role follows from the groups at the identity provider", Hint: "change the groups there",
		}
	}
	p.FullName, p.Role = want.FullName, want.Role
	st.writes = append(st.writes, func(tx *store.Tx) error { return store.Explain(tx.SetPerson(p), "person", s.Name) })
	return nil
}

// someAdminStays checks that the team keeps an admin.
func (svc *Service) someAdminStays(st *stage) error {
	for _, p := range st.want.People {
		if p.Role == team.Admin {
			return nil
		}
	}
	for name, p := range st.now.People {
		if _, named := st.want.People[name]; !named && !st.prune && p.Role == team.Admin {
			return nil
		}
	}
	return &team.ConflictError{Field: "role", Why: "nobody would be an admin", Hint: "have one at least in the roster"}
}

func (svc *Service) stageAgent(ctx context.Context, st *stage, s roster.Step) error {
	want := st.want.Agents[s.Name]
	if s.Do != roster.Remove {
		if err := errors.Join(
			team.CheckName("name", s.Name), team.CheckName("kind", want.Kind), team.CheckContextTokens(want.ContextTokens),
		); err != nil {
			return err
		}
		_, here := st.now.People[want.Owner]
		_, comes := st.want.People[want.Owner]
		if want.Owner != "" && !here && !comes {
			return &team.FieldError{Field: "owner", Why: fmt.Sprintf("is %q, who is neither here nor in the roster", want.Owner)}
		}
	}
	if s.Do == roster.Add {
		a := team.Agent{
			ID: team.NewID(), Name: s.Name, Kind: want.Kind, Owner: want.Owner, Paused: want.Paused, Confirmed: want.Confirmed, Created: st.at,
			Finder: want.Finder, ContextTokens: want.ContextTokens,
		}
		st.agentIDs[s.Name] = a.ID
		st.writes = append(st.writes, func(tx *store.Tx) error { return store.Explain(tx.AddAgent(a), "agent", s.Name) })
		return nil
	}
	a, err := svc.store.AgentByName(ctx, s.Name, st.at)
	if err != nil {
		return store.Explain(err, "agent", s.Name)
	}
	if s.Do == roster.Remove {
		st.writes = append(st.writes, func(tx *store.Tx) error { return store.Explain(tx.RemoveAgent(a.ID), "agent", s.Name) })
		return nil
	}
	moved := a.Owner != want.Owner
	a.Kind, a.Owner, a.Paused, a.Confirmed = want.Kind, want.Owner, want.Paused, want.Confirmed
	a.Finder, a.ContextTokens = want.Finder, want.ContextTokens
	st.writes = append(st.writes, func(tx *store.Tx) error {
		if moved {
			// As whenever an agent is handed over: what it had acted for the owner before.
			if err := errors.Join(tx.EndPasses(a.ID, st.at), tx.DropHeld(a.ID)); err != nil {
				return fmt.Errorf("end what agent %s had: %w", s.Name, err)
			}
		}
		return store.Explain(tx.SetAgent(a), "agent", s.Name)
	})
	return nil
}

func (svc *Service) stageRule(ctx context.Context, st *stage, s roster.Step) error {
	all, err := svc.store.Control().Rules(ctx)
	if err != nil {
		return fmt.Errorf("read the rules: %w", err)
	}
	at := slices.IndexFunc(all, func(r team.Rule) bool { return r.Name == s.Name })
	if s.Do == roster.Remove {
		id := all[at].ID
		st.writes = append(st.writes, func(tx *store.Tx) error { return store.Explain(tx.RemoveRule(id), "rule", s.Name) })
		return nil
	}
	want := st.want.Rules[s.Name]
	r := team.Rule{ID: team.NewID(), Version: 1, By: st.by.Name, Created: st.at}
	if at >= 0 {
		r = all[at]
	}
	r.Name, r.Effect, r.Agent, r.Server, r.Tool, r.Note = s.Name, want.Effect, want.Agent, want.Server, want.Tool, want.Note
	r.Terms = want.Terms
	if r, err = svc.policy.Stage(ctx, r, st.bundles()); err != nil {
		return err
	}
	if id := st.agentIDs[r.Agent]; id != "" {
		r.AgentID = id // it comes with the same roster
	}
	if id := st.personIDs[r.Person]; id != "" {
		r.PersonID = id
	}
	st.writes = append(st.writes, func(tx *store.Tx) error {
		if at >= 0 {
			return store.Explain(tx.UpdateRule(r), "rule", s.Name)
		}
		return store.Explain(tx.AddRule(r), "rule", s.Name)
	})
	return nil
}

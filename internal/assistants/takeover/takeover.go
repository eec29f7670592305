// Package takeover takes over what an assistant has in a file that somebody gives to the
// service: its servers are registered, its secrets sealed, an agent gets rules for them
// and a pass, and the file comes back with Bouncer's entry in the place of those that were
// taken over. The file itself is the person's to save.
package takeover

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/assistants/adopt"
	"bouncer/internal/control/policy"
	"bouncer/internal/core/configfile"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/looks"
	"bouncer/internal/core/team"
	"bouncer/internal/imports"
	"bouncer/internal/secrets"
	"bouncer/internal/servers"
	"bouncer/internal/store"
)

// entryName is what Bouncer's entry is called, and passDays for how long its pass is
// valid.
const (
	entryName = "bouncer"
	passDays  = 90
)

// Deps are what the service works with.
type Deps struct {
	Store   *store.Store
	Imports *imports.Service
	Servers *servers.Service
	Secrets *secrets.Service
	Agents  *agents.Service
	Policy  *policy.Service
}

// Service takes files over. It is safe for concurrent use.
type Service struct {
	d       Deps
	address string
}

// New returns the service. address is the base URL under which assistants reach it.
func New(d Deps, address string) *Service { return &Service{d, address} }

// Adopt says what becomes of each entry of a file and, if that is wanted, does it. The
// error is a *team.FieldError for a file that cannot be used.
func (svc *Service) Adopt(ctx context.Context, by team.Person, in apitype.Adoption) (apitype.Adopted, error) {
	out := apitype.Adopted{Items: []apitype.AdoptedEntry{}}
	f, d, err := read(in)
	if err != nil {
		return out, err
	}
	list, err := svc.d.Store.Servers(ctx)
	if err != nil {
		return out, fmt.Errorf("read the servers: %w", err)
	}
	source := adopt.Source{Path: in.File, Own: entryName, Entries: d.Entries(f)}
	items := adopt.Plan([]adopt.Source{source}, list, svc.address)
	for at := range items {
		if why := unresolved(items[at]); why != "" && items[at].What == adopt.Register {
			items[at].What, items[at].Why = adopt.Left, why
		}
	}
	out.Dialect, out.Servers = d.Name, d.Servers.String()
	if in.Apply {
		err = svc.apply(ctx, by, in, f, d, items, &out)
	}
	for _, i := range items {
		out.Items = append(out.Items, shown(i))
	}
	return out, err
}

// read reads the file and finds its dialect.
func read(in apitype.Adoption) (*configfile.File, dialect.Dialect, error) {
	bad := func(why string) error { return &team.FieldError{Field: "text", Why: why} }
	raw := []byte(in.Text)
	if len(raw) > configfile.MaxFile {
		return nil, dialect.Dialect{}, bad(fmt.Sprintf("is larger than %d MiB", configfile.MaxFile>>20))
	}
	f, err := configfile.Parse(raw, configfile.Guess(in.File, raw))
	if err != nil {
		return nil, dialect.Dialect{}, bad("cannot be read: " + err.Error())
	}
	for _, d := range dialect.Shipped() {
		if d.Syntax == f.Syntax && slices.ContainsFunc(d.Entries(f), func(e dialect.Entry) bool { return e.URL != "" || e.Command != "" }) {
			return f, d, nil
		}
	}
	learned := dialect.Learn(f, "learned")
	if len(learned) == 0 {
		return nil, dialect.Dialect{}, bad("shows no server: no entry has a command with arguments, or an address")
	}
	return f, learned[0].Dialect, nil
}

// unresolved says which value of an entry only stands for one; "" for none.
func unresolved(i adopt.Item) string {
	for _, list := range [][]dialect.Value{i.Entry.Env, i.Entry.Headers} {
		for _, v := range list {
			if looks.Placeholder(v.Value) {
				return v.Name + " only stands for a value: register the server by hand"
			}
		}
	}
	if len(i.EnvFiles()) > 0 {
		return "it names a file with variables, which is on the machine of the assistant: adopt it there (bouncer adopt)"
	}
	return ""
}

// shown is an item without secrets.
func shown(i adopt.Item) apitype.AdoptedEntry {
	e := apitype.AdoptedEntry{Entry: i.Entry.Name, At: i.Entry.URL, Server: i.Server, Becomes: i.What, Why: i.Why}
	if i.Entry.Command != "" {
		e.At = i.Entry.Command
	}
	return e
}

// made is what was made on the way.
type made struct {
	servers, secrets, rules []string
	agent                   string
}

func (svc *Service) apply(
	ctx context.Context,
	by team.Person,
	in apitype.Adoption,
	f *configfile.File,
	d dialect.Dialect,
	items []adopt.Item,
	out *apitype.Adopted,
) (err error) {
	var m made
	defer func() {
		if err != nil {
			err = errors.Join(err, svc.unmake(context.WithoutCancel(ctx), by, m))
		}
	}()
	if err := svc.agent(ctx, by, in.Agent, d.Name, &m); err != nil {
		return err
	}
	taken := 0
	for at := range items {
		i := &items[at]
		if i.What == adopt.Left {
			continue
		}
		if why := svc.takeOver(ctx, by, *i, in.Agent, &m); why != nil {
			i.What, i.Why = adopt.Left, why.Error()
			continue
		}
		rest, err := f.Remove(d.At(i.Entry.Name))
		if err == nil {
			f, err = configfile.Parse(rest, d.Syntax)
		}
		if err != nil {
			return &team.FieldError{Field: "text", Why: "cannot be rewritten: " + err.Error()}
		}
		taken++
	}
	if taken == 0 {
		return &team.ConflictError{
			Field: "text",
			Why:   "nothing of the file could be taken over",
			Hint:  "look at the preview for the reasons",
		}
	}
	return svc.rewrite(ctx, by, in.Agent, f, d, out)
}

// agent has the agent there.
func (svc *Service) agent(ctx context.Context, by team.Person, name, kind string, m *made) error {
	_, err := svc.d.Agents.Agent(ctx, by, name)
	var missing *team.NotFoundError
	if errors.As(err, &missing) {
		if _, err = svc.d.Agents.AddAgent(ctx, by, apitype.NewAgent{Name: name, Kind: kind, Owner: by.Name}); err == nil {
			m.agent = name
		}
	}
	var field *team.FieldError
	if errors.As(err, &field) {
		field.Field = "agent"
	}
	return err
}

// takeOver registers the server of an entry, unless it is there, and admits it for the
// agent.
func (svc *Service) takeOver(ctx context.Context, by team.Person, i adopt.Item, agent string, m *made) error {
	if _, err := svc.d.Store.ServerByName(ctx, i.Server); errors.Is(err, store.ErrNotFound) {
		if err := svc.register(ctx, by, i, m); err != nil {
			return err
		}
	} else if err != nil {
		return fmt.Errorf("look server %s up: %w", i.Server, err)
	}
	rule := apitype.NewRule{Effect: "admit", Agent: agent, Server: i.Server, Tool: "*", Note: "taken over from its file", Anyway: true}
	added, err := svc.d.Policy.AddRule(ctx, by, rule)
	var there *team.ConflictError
	if errors.As(err, &there) {
		return nil // it is admitted already
	}
	if err == nil {
		m.rules = append(m.rules, added.ID)
	}
	return err
}

func (svc *Service) register(ctx context.Context, by team.Person, i adopt.Item, m *made) error {
	text, err := i.Text()
	if err != nil {
		return fmt.Errorf("describe %s: %w", i.Entry.Name, err)
	}
	got, err := svc.d.Imports.Import(ctx, by, apitype.Import{Text: text, Apply: true})
	if err != nil {
		return err
	}
	if len(got.Servers) != 1 {
		return errors.New("it is not understood")
	}
	if err := got.Servers[0].Err; err != nil {
		return err
	}
	s := got.Servers[0].Registered
	m.servers = append(m.servers, s.Name)
	if s.Secret != "" {
		m.secrets = append(m.secrets, s.Secret)
	}
	for _, p := range s.Places {
		m.secrets = append(m.secrets, p.Secret)
	}
	return nil
}

// rewrite makes the pass, and the file with Bouncer's entry.
func (svc *Service) rewrite(
	ctx context.Context, by team.Person, agent string, f *configfile.File, d dialect.Dialect, out *apitype.Adopted,
) error {
	label := "taken over in the console, " + time.Now().UTC().Format(time.DateOnly)
	p, secret, err := svc.d.Agents.NewPass(ctx, by, agent, apitype.NewPass{Label: label, Days: passDays})
	if err != nil {
		return err
	}
	entry := dialect.Entry{
		Name: entryName, URL: svc.address + "/mcp", Headers: []dialect.Value{{Name: "Authorization", Value: "Bearer " + secret}},
	}
	o, err := d.Write(entry)
	if err == nil {
		var text []byte
		if text, err = f.Put(d.At(entryName), o); err == nil {
			out.Text, out.Pass = string(text), &p
			return nil
		}
	}
	revoke := svc.d.Agents.RevokePass(context.WithoutCancel(ctx), by, agent, p.ID)
	return errors.Join(&team.FieldError{Field: "text", Why: "cannot be rewritten: " + err.Error()}, revoke)
}

// unmake takes away what was made.
func (svc *Service) unmake(ctx context.Context, by team.Person, m made) (err error) {
	for _, id := range m.rules {
		err = errors.Join(err, svc.d.Policy.RemoveRule(ctx, by, id))
	}
	for _, name := range m.servers {
		err = errors.Join(err, svc.d.Servers.Remove(ctx, by, name))
	}
	for _, name := range m.secrets {
		err = errors.Join(err, svc.d.Secrets.Remove(ctx, by, name))
	}
	if m.agent != "" {
		err = errors.Join(err, svc.d.Agents.RemoveAgent(ctx, by, m.agent))
	}
	return err
}

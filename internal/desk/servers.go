package desk

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/endpoint"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/link"
	"bouncer/internal/oauth"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// ServerInfo is a server with how it is doing.
type ServerInfo struct {
	team.Server
	Health team.Health `json:"health"`
}

// Registration is a server to be registered.
type Registration struct {
	Name   string
	URL    string
	Token  string // "" for none; stored as a secret of its own
	Secret string // name of a stored secret to give instead
	Anyway bool   // register even when the server cannot be reached now
	// For a local process, instead of URL.
	Command   string
	Args      []string
	Dir       string
	Env       []string // NAME=value
	SecretEnv string   // the variable that carries the token or the secret
	// Transport is one of the transports; "" finds it out.
	Transport string
	// Of a REST API: its OpenAPI document, as text or as an address.
	Document, DocumentURL string
	team.ServerOptions
}

// Servers returns every server.
func (d *Desk) Servers(ctx context.Context) ([]ServerInfo, error) {
	list, err := d.store.Servers(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]ServerInfo, 0, len(list))
	for _, s := range list {
		out = append(out, d.info(s))
	}
	return out, nil
}

// Server returns one server.
func (d *Desk) Server(ctx context.Context, name string) (ServerInfo, error) {
	s, err := d.store.ServerByName(ctx, name)
	if err != nil {
		return ServerInfo{}, store.Explain(err, "server", name)
	}
	return d.info(s), nil
}

// ServerTools returns the tools of one server.
func (d *Desk) ServerTools(ctx context.Context, name string) ([]tools.Tool, error) {
	s, err := d.store.ServerByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "server", name)
	}
	if k, _ := d.someKeeper(s); k != nil {
		return k.Status().Offer.Lists[tools.Tools], nil
	}
	return d.store.Edition(ctx, s.ID)
}

// Editions returns the recorded states of a server's tool list, newest first,
// each with what it changed.
func (d *Desk) Editions(ctx context.Context, name string) ([]team.Edition, error) {
	s, err := d.store.ServerByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "server", name)
	}
	return d.store.Editions(ctx, s.ID)
}

// someKeeper returns the keeper of the team's way to a server, else the best one
// of those that people and agents have, and whose it is.
func (d *Desk) someKeeper(s team.Server) (*upstream.Connection, team.Holder) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if k := d.keepers[s.ID]; k != nil {
		return k.keeper, team.Holder{}
	}
	var best *upstream.Connection
	whose := ""
	for id, k := range d.keepers {
		server, h, own := strings.Cut(id, "/")
		if !own || server != s.ID {
			continue
		}
		ready := k.keeper.Status().State == team.StateReady
		if best == nil || (ready && best.Status().State != team.StateReady) || (h < whose && ready == (best.Status().State == team.StateReady)) {
			best, whose = k.keeper, h
		}
	}
	return best, team.ReadHolder(whose)
}

func (d *Desk) info(s team.Server) ServerInfo {
	if k, _ := d.someKeeper(s); k != nil {
		return ServerInfo{s, k.Status().Health}
	}
	if !s.Paused && (s.SignIn != nil || s.Per == team.PerPerson || s.Per == team.PerAgent) {
		return ServerInfo{s, team.Health{State: team.StateWaiting, Since: s.Created}}
	}
	return ServerInfo{s, team.Health{State: team.StatePaused}}
}

// Register reaches the server, lists its tools and registers it. When it cannot
// be reached the error is a *ProbeError and nothing is registered.
func (d *Desk) Register(ctx context.Context, by team.Person, r Registration) (ServerInfo, error) {
	if err := team.CheckName("name", r.Name); err != nil {
		return ServerInfo{}, err
	}
	now := time.Now().UTC()
	if r.Document == "" && r.DocumentURL != "" {
		text, err := d.fetchDocument(ctx, r.DocumentURL)
		if err != nil {
			return ServerInfo{}, err
		}
		r.Document = text
	}
	s, err := describeServer(r, now)
	if err != nil {
		return ServerInfo{}, err
	}
	if s.Transport == team.Stdio && d.o.NoProcesses {
		return ServerInfo{}, &team.FieldError{Field: "command", Why: "is not possible here: the service was started with processes off"}
	}
	if _, err := d.store.ServerByName(ctx, r.Name); err == nil {
		return ServerInfo{}, store.Explain(store.ErrTaken, "server", r.Name)
	} else if !errors.Is(err, store.ErrNotFound) {
		return ServerInfo{}, err
	}
	g, err := d.give(ctx, by, &s, r, now)
	if err != nil {
		return ServerInfo{}, err
	}
	var l link.Transport
	var st upstream.Status
	if g.waits {
		if _, _, err := d.discover(ctx, s); err != nil && !r.Anyway {
			return ServerInfo{}, err
		}
	} else {
		if l, st, err = d.reach(ctx, &s, g.credential, r.Transport == "" && s.Transport == team.StreamableHTTP); err != nil {
			return ServerInfo{}, err
		}
		if st.State != team.StateReady && !r.Anyway {
			l.Close(ctx)
			return ServerInfo{}, d.hintSignIn(ctx, s, &team.ProbeError{Finding: *st.Finding, Stages: st.Stages})
		}
		// The link that was probed becomes the one in use.
		d.mu.Lock()
		d.keepers[keeperKey(s.ID, g.holder)] = &kept{upstream.Adopt(d.ctx, l, st, d.keeping(s, g.holder)), source(s, g.credential)}
		d.mu.Unlock()
	}
	err = d.alter(ctx, by, "server.register", s.Name, "", describe(s), "servers", func(tx *store.Tx) error {
		if g.add != nil {
			if err := tx.AddSecret(*g.add, g.box); err != nil {
				return store.Explain(err, "secret", g.add.Name)
			}
		}
		if err := tx.AddServer(s); err != nil {
			return store.Explain(err, "server", s.Name)
		}
		if g.own {
			if err := tx.SetGiven(store.Given{ServerID: s.ID, Holder: g.holder, Secret: g.add.Name}); err != nil {
				return err
			}
		}
		if st.State != team.StateReady {
			return nil
		}
		return tx.AddEdition(s.ID, now, st.Offer.Lists[tools.Tools])
	})
	if err != nil {
		d.mu.Lock()
		k := d.keepers[keeperKey(s.ID, g.holder)]
		delete(d.keepers, keeperKey(s.ID, g.holder))
		d.mu.Unlock()
		if k != nil {
			k.keeper.Close(ctx)
		}
		return ServerInfo{}, err
	}
	return d.info(s), nil
}

// hintSignIn says that a server wants a sign-in, where it says so itself.
func (d *Desk) hintSignIn(ctx context.Context, s team.Server, p *team.ProbeError) error {
	if p.Finding.Cause != diagnosis.NoCredential || (s.Transport != team.StreamableHTTP && s.Transport != team.EventStream) {
		return p
	}
	a, _, err := d.discover(ctx, s)
	var r *oauth.Error
	switch {
	case err == nil && !a.Guessed:
		p.Finding.Cause, p.Finding.Message = diagnosis.SignInNeeded, "the server wants a sign-in at "+a.Issuer
		p.Finding.Remedy = "register it with --sign-in code, and --per person if each person has an account of their own there"
	case errors.As(err, &r) && r.Step == oauth.StepResource && !strings.Contains(r.Why, "cannot be read"):
		p.Finding.Cause, p.Finding.Message, p.Finding.Remedy = diagnosis.ResourceMetadata, "the server wants a sign-in, but "+r.Why, r.Remedy()
	}
	return p
}

// provision is what a new server is given.
type provision struct {
	credential
	holder team.Holder
	add    *team.Secret // stored with the server; nil for none
	box    store.Sealed
	own    bool // the secret is the registrar's own
	waits  bool // somebody has to sign in first
}

// give finds what a new server is given: a token that becomes a secret of its
// own, or stored secrets, or a grant.
func (d *Desk) give(ctx context.Context, by team.Person, s *team.Server, r Registration, now time.Time) (g provision, err error) {
	if r.Token != "" && r.Secret != "" {
		return g, &team.FieldError{Field: "secret", Why: "and token exclude each other; give one of them"}
	}
	if s.SignIn != nil && (r.Token != "" || r.Secret != "") {
		return g, &team.FieldError{Field: "signIn", Why: "and a token exclude each other; give one of them"}
	}
	reg, err := d.register(ctx)
	if err != nil {
		return g, err
	}
	if err := d.checkNamed(ctx, *s, r.Secret); err != nil {
		return g, err
	}
	own := s.Per == team.PerPerson || s.Per == team.PerAgent
	switch {
	case r.Token != "":
		g.add = ownSecret(*s, now)
		if s.Per == team.PerPerson {
			g.add.Name, g.add.Owner, g.own, g.holder = s.Name+"-"+by.Name, by.Name, true, team.Holder{Person: by.ID}
		} else if own {
			return g, &team.FieldError{Field: "token", Why: "is not possible here: each agent gets its own (bouncer secret own)"}
		}
		v, err := d.readSecretInput(ctx, by, g.add, r.Token, "", nil)
		if err != nil {
			var fe *team.FieldError
			if errors.As(err, &fe) {
				fe.Field = "token"
			}
			return g, err
		}
		if g.box, err = d.seal(g.add.ID, v); err != nil {
			return g, err
		}
		reg.values[g.add.Name] = &value{d: d, id: g.add.ID, name: g.add.Name, kind: g.add.Kind, present: v, used: new(atomicInt)}
		d.keepValue(reg.values[g.add.Name])
		if g.own {
			reg.given[s.ID+"/"+g.holder.Key()] = g.add.Name
		} else {
			s.Secret = g.add.Name
		}
	case r.Secret != "":
		if reg.values[r.Secret] == nil {
			return g, &team.NotFoundError{Kind: "secret", Name: r.Secret}
		}
		s.Secret = r.Secret
	case own && s.SignIn == nil:
		g.waits = true
		return g, nil
	}
	if s.SignIn != nil && !team.OfBouncer(s.SignIn) {
		g.waits = true
		return g, nil
	}
	if g.credential, err = d.credentialFor(*s, g.holder, reg); err != nil {
		return g, err
	}
	return g, checkPair(*s, g.credential)
}

// checkNamed checks that the secrets named in a server's settings are there, and
// that none is somebody's own: it would be sent wherever the server is.
func (d *Desk) checkNamed(ctx context.Context, s team.Server, names ...string) error {
	for _, name := range append(append(named(s), s.ClientKey), names...) {
		if name == "" {
			continue
		}
		if _, err := d.teamSecret(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// teamSecret returns a secret that is nobody's own.
func (d *Desk) teamSecret(ctx context.Context, name string) (team.Secret, error) {
	k, err := d.secret(ctx, name)
	if err == nil && k.Owner != "" {
		err = &team.FieldError{Field: "secret", Why: fmt.Sprintf("%q is %s's own and goes where %s gave it only; store one for the team", name, k.Owner, k.Owner)}
	}
	return k, err
}

// ServerPatch is what can be altered of a server; nil fields stay.
type ServerPatch struct {
	URL    *string
	Paused *bool
	Token  *string // a new value for its secret; "" is refused
	Anyway bool    // alter even when the server cannot be reached that way
	// Sharing is how the conversation is shared.
	Sharing *string
	// Document and Operations are those of a REST API.
	Document   *string
	Operations *[]team.Operation
	// Whose credential is used, which secret, further ones, and how grants are come
	// by.
	Per    *string
	Secret *string
	Places *[]team.Place
	SignIn *team.SignInWay
}

// UpdateServer alters a server. A new address or token is tried first.
func (d *Desk) UpdateServer(ctx context.Context, by team.Person, name string, p ServerPatch) (ServerInfo, error) {
	s, err := d.store.ServerByName(ctx, name)
	if err != nil {
		return ServerInfo{}, store.Explain(err, "server", name)
	}
	old := s
	if p.URL != nil {
		if s.Transport == team.Stdio {
			return ServerInfo{}, &team.FieldError{Field: "url", Why: "does not go with a local process"}
		}
		if s.URL, err = endpoint.CheckURL(*p.URL); err != nil {
			return ServerInfo{}, err
		}
	}
	if p.Paused != nil {
		s.Paused = *p.Paused
	}
	if p.Sharing != nil {
		s.Sharing = *p.Sharing
	}
	if (p.Document != nil || p.Operations != nil) && s.Transport != team.REST {
		return ServerInfo{}, &team.FieldError{Field: "operations", Why: "belong to a REST API"}
	}
	if p.Document != nil {
		s.Document = *p.Document
	}
	if p.Operations != nil {
		s.Operations = *p.Operations
	}
	if s.Transport == team.REST {
		if err := describeREST(&s, ""); err != nil {
			return ServerInfo{}, err
		}
	}
	if p.Per != nil {
		s.Per = *p.Per
	}
	if p.Places != nil {
		s.Places = *p.Places
	}
	if p.SignIn != nil {
		s.SignIn = p.SignIn
		if *p.SignIn == (team.SignInWay{}) {
			s.SignIn = nil
		} else {
			s.Secret = ""
		}
	}
	if p.Secret != nil {
		s.Secret = *p.Secret
	}
	if err := checkOptions(s); err != nil {
		return ServerInfo{}, err
	}
	reg, err := d.register(ctx)
	if err != nil {
		return ServerInfo{}, err
	}
	if err := d.checkNamed(ctx, s, s.Secret); err != nil {
		return ServerInfo{}, err
	}
	var write func(*store.Tx) error
	if p.Token != nil {
		if s.Transport == team.Stdio && s.SecretEnv == "" {
			return ServerInfo{}, &team.FieldError{Field: "token", Why: "has nowhere to go: no variable of this process carries a secret"}
		}
		if s.SignIn != nil {
			return ServerInfo{}, &team.FieldError{Field: "token", Why: "does not go with a sign-in"}
		}
		if write, err = d.putToken(ctx, by, &s, *p.Token, reg); err != nil {
			return ServerInfo{}, err
		}
	}
	var c credential
	if s.SignIn == nil || team.OfBouncer(s.SignIn) {
		if c, err = d.freshCredential(s, team.Holder{}, reg); err != nil {
			return ServerInfo{}, err
		}
		if err := checkPair(s, c); err != nil {
			return ServerInfo{}, err
		}
	}
	l, err := d.way(s, c)
	if err != nil {
		return ServerInfo{}, err
	}
	shared := (s.Per == "" || s.Per == team.PerTeam) && (s.SignIn == nil || team.OfBouncer(s.SignIn))
	tried := p.URL != nil || p.Token != nil || p.Secret != nil || p.Places != nil || p.SignIn != nil
	if tried && shared && !p.Anyway {
		if err := d.try(ctx, s, c); err != nil {
			return ServerInfo{}, err
		}
	}
	err = d.alter(ctx, by, "server.update", name, describe(old), describe(s), "servers", func(tx *store.Tx) error {
		if write != nil {
			if err := write(tx); err != nil {
				return err
			}
		}
		if l.Traits().Static {
			// What it offers follows from what was picked.
			offer, err := l.Offer(ctx)
			if err != nil {
				return err
			}
			if err := tx.AddEdition(s.ID, time.Now().UTC(), offer.Lists[tools.Tools]); err != nil {
				return err
			}
		}
		if !sameOrigin(old.URL, s.URL) {
			// What people gave for one address is not sent to another.
			if err := tx.DropOwn(s.ID); err != nil {
				return err
			}
		}
		return tx.SetServer(s)
	})
	if err != nil {
		return ServerInfo{}, store.Explain(err, "server", name)
	}
	if tried && !shared {
		return d.info(s), nil
	}
	if tried || ((p.Sharing != nil || p.Document != nil || p.Operations != nil) && !s.Paused) {
		return d.CheckServer(ctx, name)
	}
	return d.info(s), nil
}

func sameOrigin(a, b string) bool {
	x, err1 := url.Parse(a)
	y, err2 := url.Parse(b)
	return err1 == nil && err2 == nil && x.Scheme == y.Scheme && x.Host == y.Host
}

func describe(s team.Server) string {
	at := s.URL
	if s.Transport == team.Stdio {
		at = strings.Join(append([]string{s.Command}, s.Args...), " ")
	}
	return fmt.Sprintf("%s, secret %q, paused %v", at, s.Secret, s.Paused)
}

// describeServer checks what a registration says of the server itself.
func describeServer(r Registration, now time.Time) (team.Server, error) {
	s := team.Server{
		ID: team.NewID(), Name: r.Name, Transport: team.StreamableHTTP, Created: now, Command: r.Command, Args: r.Args, Dir: r.Dir, Env: r.Env, SecretEnv: r.SecretEnv,
		Document: r.Document, ServerOptions: r.ServerOptions,
	}
	if s.Sharing == "" {
		s.Sharing = team.SharingAuto
	}
	switch {
	case r.Command != "":
		s.Transport = team.Stdio
	case r.Document != "":
		s.Transport = team.REST
	case r.Transport == team.EventStream:
		s.Transport = team.EventStream
	case r.Transport != "" && r.Transport != team.StreamableHTTP:
		return s, &team.FieldError{Field: "transport", Why: "must be streamable-http or sse, or be left out to be found out"}
	}
	if err := checkOptions(s); err != nil {
		return s, err
	}
	if r.Command == "" {
		if len(r.Args)+len(r.Env) > 0 || r.Dir != "" || r.SecretEnv != "" {
			return s, &team.FieldError{Field: "command", Why: "is missing; arguments, a directory and variables belong to a command"}
		}
		if s.Transport == team.REST {
			s.URL = r.URL
			if r.Token != "" || r.Secret != "" {
				s.Secret = "given" // until its name is known; the document says where it goes
			}
			return s, describeREST(&s, r.DocumentURL)
		}
		var err error
		s.URL, err = endpoint.CheckURL(r.URL)
		return s, err
	}
	bad := func(field, why string) (team.Server, error) { return s, &team.FieldError{Field: field, Why: why} }
	switch {
	case r.URL != "":
		return bad("url", "and command exclude each other; a server has an address or is a command")
	case len(r.Command) > 1000 || strings.ContainsAny(r.Command, "\x00\n"):
		return bad("command", "is no command; give the name or the absolute path of a program")
	case len(r.Args) > 100 || len(strings.Join(r.Args, "")) > 32<<10:
		return bad("args", "are more than 100, or longer than 32 KiB in all")
	case strings.Contains(strings.Join(r.Args, ""), "\x00"):
		return bad("args", "have a zero byte, which no argument can carry")
	case r.Dir != "" && !filepath.IsAbs(r.Dir):
		return bad("dir", "must be an absolute path")
	case len(r.Env) > 100:
		return bad("env", "has more than 100 variables")
	case r.SecretEnv != "" && !variable.MatchString(r.SecretEnv):
		return bad("secretEnv", "is no name of a variable, like BERTHS_KEY")
	case r.SecretEnv == "" && (r.Token != "" || r.Secret != ""):
		return bad("secretEnv", "is missing; name the variable that carries the secret")
	case r.SecretEnv != "" && r.Token == "" && r.Secret == "":
		return bad("token", "is missing; the variable "+r.SecretEnv+" has no value")
	}
	for _, e := range r.Env {
		name, value, ok := strings.Cut(e, "=")
		if !ok || !variable.MatchString(name) || strings.Contains(value, "\x00") || len(e) > 16<<10 {
			return bad("env", "must be variables like NAME=value")
		}
		if name == r.SecretEnv {
			return bad("env", "sets "+name+", which is to carry the secret")
		}
	}
	return s, nil
}

var variable = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// ownSecret is a new secret for one server.
func ownSecret(s team.Server, now time.Time) *team.Secret {
	n := &team.Secret{ID: team.NewID(), Name: s.Name + "-token", Kind: team.KindBearer, Created: now}
	switch {
	case s.Transport == team.Stdio:
		n.Name, n.Kind = s.Name+"-variable", team.KindEnvironment
	case s.SecretHeader != "" || s.SecretQuery != "":
		n.Kind = team.KindValue
	}
	return n
}

// putToken prepares the writing of a server's own token: a new secret, or a new
// value of the one it has. The value is put into the register, to be tried.
func (d *Desk) putToken(ctx context.Context, by team.Person, s *team.Server, raw string, reg *register) (func(*store.Tx) error, error) {
	now := time.Now().UTC()
	k := *ownSecret(*s, now)
	fresh := s.Secret == ""
	if !fresh {
		have, err := d.secret(ctx, s.Secret)
		if err != nil {
			return nil, err
		}
		k = have
		k.Rotated, k.Overlap = &now, nil
	}
	v, err := d.readSecretInput(ctx, by, &k, raw, "", nil)
	if err != nil {
		var fe *team.FieldError
		if errors.As(err, &fe) {
			fe.Field = "token"
		}
		return nil, err
	}
	box, err := d.seal(k.ID, v)
	if err != nil {
		return nil, err
	}
	s.Secret = k.Name
	reg.values[k.Name] = &value{d: d, id: k.ID, name: k.Name, kind: k.Kind, present: v, used: new(atomicInt)}
	if fresh {
		return func(tx *store.Tx) error { return store.Explain(tx.AddSecret(k, box), "secret", k.Name) }, nil
	}
	return func(tx *store.Tx) error { return tx.RotateSecret(k, box) }, nil
}

// try reaches a server with a credential without keeping the link.
func (d *Desk) try(ctx context.Context, s team.Server, c credential) error {
	l, err := d.way(s, c)
	if err != nil {
		return err
	}
	st := upstream.Assess(l.Probe(ctx))
	l.Close(ctx)
	if st.State != team.StateReady {
		return &team.ProbeError{Finding: *st.Finding, Stages: st.Stages}
	}
	return nil
}

// CheckServer reaches the server again, from the beginning.
func (d *Desk) CheckServer(ctx context.Context, name string) (ServerInfo, error) {
	s, err := d.store.ServerByName(ctx, name)
	if err != nil {
		return ServerInfo{}, store.Explain(err, "server", name)
	}
	k, h := d.someKeeper(s)
	if k == nil {
		if d.info(s).Health.State == team.StateWaiting {
			return ServerInfo{}, &team.ConflictError{Field: "name", Why: fmt.Sprintf("nobody has a credential for server %q yet", name), Hint: "sign in at " + d.o.Address + ConnectPath + name}
		}
		return ServerInfo{}, &team.ConflictError{Field: "paused", Why: fmt.Sprintf("server %q is paused", name), Hint: "resume it first"}
	}
	reg, err := d.register(ctx)
	if err != nil {
		return ServerInfo{}, err
	}
	c, err := d.credentialFor(s, h, reg)
	if err != nil {
		return ServerInfo{}, err
	}
	fresh, err := d.way(s, c)
	if err != nil {
		return ServerInfo{}, err
	}
	k.Check(ctx, fresh)
	return d.info(s), nil
}

// RemoveServer removes a server; its secret stays.
func (d *Desk) RemoveServer(ctx context.Context, by team.Person, name string) error {
	s, err := d.store.ServerByName(ctx, name)
	if err != nil {
		return store.Explain(err, "server", name)
	}
	return store.Explain(d.alter(ctx, by, "server.remove", name, describe(s), "", "servers", func(tx *store.Tx) error { return tx.RemoveServer(s.ID) }), "server", name)
}

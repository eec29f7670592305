package desk

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/locker"
	"bouncer/internal/store"
)

// outsideFor is how long a value that was read elsewhere is used before it is
// read again.
const outsideFor = time.Minute

// value is one secret in force. It is safe for concurrent use.
type value struct {
	d      *Desk
	id     string
	name   string
	kind   string
	source string
	used   *atomic.Int64

	mu         sync.Mutex
	present    locker.Secret
	prior      locker.Secret // still tried until then
	priorUntil time.Time
	fallen     bool      // the present one was refused, the prior one is used
	read       time.Time // when an outside value was read
	broken     error     // it could not be opened
}

// now returns the value to be sent.
func (v *value) now(ctx context.Context) (locker.Secret, error) {
	v.used.Store(time.Now().UnixMilli())
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.broken != nil {
		return locker.Secret{}, v.failure(v.broken)
	}
	if v.source == "" {
		if v.fallen && time.Now().Before(v.priorUntil) {
			return v.prior, nil
		}
		return v.present, nil
	}
	if time.Since(v.read) < outsideFor && !v.present.Empty() {
		return v.present, nil
	}
	if err := v.fetch(ctx); err != nil {
		return locker.Secret{}, v.failure(err)
	}
	return v.present, nil
}

// fetch reads an outside value; the caller holds the lock.
func (v *value) fetch(ctx context.Context) error {
	if strings.HasPrefix(v.source, "command ") && v.d.o.NoProcesses {
		return fmt.Errorf("the service was started with processes off")
	}
	raw, err := locker.Outside(ctx, v.source)
	if err != nil {
		return err
	}
	s, _, err := locker.Read(v.kind, raw.Reveal())
	if err != nil {
		return fmt.Errorf("what %s gives %w", v.source, err)
	}
	v.present, v.read = s, time.Now()
	v.d.learn(s)
	return nil
}

func (v *value) failure(err error) error {
	return link.NewFailure(diagnosis.Finding{
		Cause: diagnosis.ValueMissing, Message: fmt.Sprintf("secret %s cannot be read: %v", v.name, err),
		Remedy: "mend its source, or store it anew (bouncer secret rotate)", Actor: "whoever runs Bouncer",
	}, "", err)
}

// refused is told that a server does not take a value; it reports whether there
// is another one by now.
func (v *value) refused(ctx context.Context, sent locker.Secret) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	switch {
	case v.source != "":
		before := v.present.Reveal()
		if time.Since(v.read) < time.Second || v.fetch(ctx) != nil {
			return false
		}
		return v.present.Reveal() != before
	case !v.fallen && v.present.Reveal() == sent.Reveal() && !v.prior.Empty() && time.Now().Before(v.priorUntil):
		v.fallen = true
		v.d.o.Log.Warn("a rotated secret is refused; the value before is used while it may be", "secret", v.name, "until", v.priorUntil)
		return true
	}
	return v.fallen && v.present.Reveal() == sent.Reveal()
}

// keepValue has a value that is about to be stored put in force as this object,
// with what is known of its use.
func (d *Desk) keepValue(v *value) {
	d.valMu.Lock()
	defer d.valMu.Unlock()
	d.vals[v.id] = v
}

// item is one place that a value goes to.
type item struct {
	how, name, scheme string
	value             *value
}

// values are what requests to a server are sent with; they implement
// link.Credentials.
type values struct {
	items []item
	grant *grant // nil for none
}

// Now implements link.Credentials.
func (v *values) Now(ctx context.Context) ([]link.Attachment, error) {
	out := make([]link.Attachment, 0, len(v.items)+1)
	for _, i := range v.items {
		s, err := i.value.now(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, given(i, s))
	}
	if v.grant != nil {
		t, err := v.grant.token(ctx)
		if err != nil {
			return nil, err
		}
		if prove := v.grant.prover(t); prove != nil {
			out = append(out, link.Attachment{Header: "DPoP", Sign: prove})
		}
		out = append(out, link.Attachment{Header: "Authorization", Value: t})
	}
	return out, nil
}

func given(i item, s locker.Secret) link.Attachment {
	switch i.how {
	case team.CarryQuery:
		return link.Attachment{Query: i.name, Value: s}
	case team.CarryBasic:
		return link.Attachment{Header: "Authorization", Value: locker.NewSecret("Basic " + base64.StdEncoding.EncodeToString([]byte(s.Reveal())))}
	case team.CarryHeader:
		if i.scheme != "" {
			s = locker.NewSecret(i.scheme + " " + s.Reveal())
		}
		return link.Attachment{Header: i.name, Value: s}
	}
	return link.Attachment{Header: "Authorization", Value: locker.NewSecret("Bearer " + s.Reveal())}
}

// Refused implements link.Credentials.
func (v *values) Refused(ctx context.Context, sent []link.Attachment, status int, h http.Header) (bool, error) {
	if v.grant != nil && len(sent) > 0 {
		return v.grant.refused(ctx, sent[len(sent)-1].Value, status, h)
	}
	if status != http.StatusUnauthorized {
		return false, nil
	}
	again := false
	for n, i := range v.items {
		if n < len(sent) && i.value.refused(ctx, plain(i, sent[n].Value)) {
			again = true
		}
	}
	return again, nil
}

// plain takes off what given put before a value.
func plain(i item, sent locker.Secret) locker.Secret {
	s := sent.Reveal()
	switch i.how {
	case team.CarryBearer:
		return locker.NewSecret(strings.TrimPrefix(s, "Bearer "))
	case team.CarryBasic:
		raw, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(s, "Basic "))
		return locker.NewSecret(string(raw))
	case team.CarryHeader:
		return locker.NewSecret(strings.TrimPrefix(s, i.scheme+" "))
	}
	return sent
}

// vars are the variables of a process that carry secrets.
func (v *values) vars(ctx context.Context) ([]link.Var, error) {
	var out []link.Var
	for _, i := range v.items {
		s, err := i.value.now(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, link.Var{Name: i.name, Value: s, File: i.how == team.CarryFile})
	}
	return out, nil
}

// credential is what one way to a server is given. A single value that is kept
// in the locker goes straight into the headers; everything else is live.
type credential struct {
	secret, key locker.Secret
	live        *values
	used        *atomic.Int64
	ends        time.Time // of the value, where it says so
	from        string    // tells live credentials apart
}

// given is the credential as connections know it.
func (c credential) given() link.Credential {
	out := link.Credential{Secret: c.secret, Used: c.used, Ends: c.ends, Fingerprint: c.from}
	if key := c.key; !key.Empty() {
		out.ClientKey = func(context.Context) (locker.Secret, error) { return key, nil }
	}
	if c.live != nil {
		out.Live, out.Vars = c.live, c.live.vars
	}
	return out
}

// register is the state that ways are built from.
type register struct {
	values  map[string]*value // by name
	given   map[string]string // secret by server id and holder key
	signins map[string]store.StoredSignIn
}

// primary is where a server's first secret goes.
func primary(s team.Server, kind string) item {
	switch {
	case s.Transport == team.Stdio:
		return item{how: team.CarryVariable, name: s.SecretEnv}
	case s.SecretQuery != "":
		return item{how: team.CarryQuery, name: s.SecretQuery}
	case s.SecretHeader != "":
		return item{how: team.CarryHeader, name: s.SecretHeader}
	case kind == team.KindBasic:
		return item{how: team.CarryBasic}
	}
	return item{how: team.CarryBearer}
}

// credentialFor gathers what a holder's way to a server is given. The error says
// what cannot be opened.
func (d *Desk) credentialFor(s team.Server, h team.Holder, r *register) (credential, error) {
	var c credential
	name := s.Secret
	if own := r.given[s.ID+"/"+h.Key()]; own != "" {
		name = own
	}
	if s.ClientKey != "" {
		v := r.values[s.ClientKey]
		if v == nil {
			return c, fmt.Errorf("secret %s is not there", s.ClientKey)
		}
		key, err := v.now(d.ctx)
		if err != nil {
			return c, err
		}
		c.key = key
	}
	l := &values{}
	single := len(s.Places) == 0 && s.SignIn == nil
	if name != "" && s.SignIn == nil {
		v := r.values[name]
		if v == nil {
			return c, fmt.Errorf("secret %s is not there", name)
		}
		i := primary(s, v.kind)
		i.value = v
		if single && v.source == "" && v.broken == nil && v.prior.Empty() && (i.how == team.CarryBearer || i.how == team.CarryVariable || i.how == team.CarryQuery || i.how == team.CarryHeader) {
			c.secret, c.used = v.present, v.used
			_, c.ends = locker.Look(v.present)
			return c, nil
		}
		l.items = append(l.items, i)
	}
	for _, p := range s.Places {
		v := r.values[p.Secret]
		if v == nil {
			return c, fmt.Errorf("secret %s is not there", p.Secret)
		}
		l.items = append(l.items, item{p.How, p.Name, p.Scheme, v})
	}
	if s.SignIn != nil {
		g, err := d.grantFor(s, h, r)
		if err != nil {
			return c, err
		}
		l.grant = g
		c.from = g.id + " "
	}
	if len(l.items) == 0 && l.grant == nil {
		return c, nil
	}
	c.live = l
	for _, i := range l.items {
		i.value.mu.Lock()
		c.from += fmt.Sprintf("%q", []string{i.how, i.name, i.scheme, i.value.id, i.value.source, i.value.prior.Reveal()})
		if i.value.source == "" {
			c.from += i.value.present.Reveal()
		}
		i.value.mu.Unlock()
	}
	return c, nil
}

// holdersOf returns who has a way to a server, the team first.
func (d *Desk) holdersOf(s team.Server, r *register, people []team.Person) []team.Holder {
	seen := map[string]team.Holder{}
	shared := s.Per == "" || s.Per == team.PerTeam
	switch {
	case s.SignIn == nil && shared, team.OfBouncer(s.SignIn):
		seen[""] = team.Holder{}
	case s.SignIn != nil && s.SignIn.Grant == team.GrantAssertion:
		for _, p := range people {
			if p.Elsewhere {
				seen["person:"+p.ID] = team.Holder{Person: p.ID}
			}
		}
	}
	for key := range r.given {
		if id, h, _ := strings.Cut(key, "/"); id == s.ID && s.SignIn == nil {
			seen[h] = team.ReadHolder(h)
		}
	}
	for key := range r.signins {
		if id, h, _ := strings.Cut(key, "/"); id == s.ID && s.SignIn != nil {
			seen[h] = team.ReadHolder(h)
		}
	}
	out := make([]team.Holder, 0, len(seen))
	for _, h := range seen {
		out = append(out, h)
	}
	slices.SortFunc(out, func(a, b team.Holder) int { return strings.Compare(a.Key(), b.Key()) })
	return out
}

// candidates are the holders whose way an agent may use, the most specific
// first.
func candidates(s team.Server, a team.Agent, people map[string]team.Person) []team.Holder {
	out := []team.Holder{{Agent: a.ID}}
	if p, ok := people[a.Owner]; ok && s.Per != team.PerAgent {
		out = append(out, team.Holder{Person: p.ID})
	}
	if s.Per == "" || s.Per == team.PerTeam || team.OfBouncer(s.SignIn) {
		out = append(out, team.Holder{})
	}
	return out
}

// learn has values masked from now on.
func (d *Desk) learn(list ...locker.Secret) {
	d.maskMu.Lock()
	defer d.maskMu.Unlock()
	fresh := false
	add := func(v string) {
		if v == "" || d.known[v] {
			return
		}
		fresh = fresh || !d.older[v]
		if len(d.known) >= maxValues/2 {
			// What is in force is learnt again and again, so it stays.
			d.known, d.older = map[string]bool{}, d.known
		}
		d.known[v] = true
	}
	for _, s := range list {
		v := s.Reveal()
		add(v)
		if strings.Contains(v, "PRIVATE KEY-----") {
			for line := range strings.Lines(v) {
				if line = strings.TrimSpace(line); len(line) > 20 && !strings.HasPrefix(line, "-----") {
					add(line)
				}
			}
		}
	}
	if fresh || d.masker.Load() == nil {
		all := make([]string, 0, len(d.known)+len(d.older))
		for _, list := range []map[string]bool{d.known, d.older} {
			for v := range list {
				all = append(all, v)
			}
		}
		d.masker.Store(mask.New(all))
	}
}

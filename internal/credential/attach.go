package credential

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/locker"
)

// placement is one place that a value goes to.
type placement struct {
	how, name, scheme string // how is one of team.Carry...
	value             *Value
}

// Attachments are what requests to a server are sent with; they implement
// link.Credentials.
type Attachments struct {
	placements []placement
	grant      *Grant // nil for none
}

// Now implements link.Credentials.
func (a *Attachments) Now(ctx context.Context) ([]link.Attachment, error) {
	out := make([]link.Attachment, 0, len(a.placements)+1)
	for _, p := range a.placements {
		s, err := p.value.Now(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, p.attach(s))
	}
	if a.grant != nil {
		token, err := a.grant.token(ctx)
		if err != nil {
			return nil, err
		}
		if prove := a.grant.prover(token); prove != nil {
			out = append(out, link.Attachment{Header: "DPoP", Sign: prove})
		}
		out = append(out, link.Attachment{Header: "Authorization", Value: token})
	}
	return out, nil
}

func (p placement) attach(s locker.Secret) link.Attachment {
	switch p.how {
	case team.CarryQuery:
		return link.Attachment{Query: p.name, Value: s}
	case team.CarryBasic:
		return link.Attachment{
			Header: "Authorization",
			Value:  locker.NewSecret("Basic " + base64.StdEncoding.EncodeToString([]byte(s.Reveal()))),
		}
	case team.CarryHeader:
		if p.scheme != "" {
			s = locker.NewSecret(p.scheme + " " + s.Reveal())
		}
		return link.Attachment{Header: p.name, Value: s}
	}
	return link.Attachment{Header: "Authorization", Value: locker.NewSecret("Bearer " + s.Reveal())}
}

// detach takes off what attach put before a value.
func (p placement) detach(sent locker.Secret) locker.Secret {
	s := sent.Reveal()
	switch p.how {
	case team.CarryBearer:
		return locker.NewSecret(strings.TrimPrefix(s, "Bearer "))
	case team.CarryBasic:
		raw, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(s, "Basic "))
		return locker.NewSecret(string(raw))
	case team.CarryHeader:
		return locker.NewSecret(strings.TrimPrefix(s, p.scheme+" "))
	}
	return sent
}

// Refused implements link.Credentials.
func (a *Attachments) Refused(ctx context.Context, sent []link.Attachment, status int, h http.Header) (bool, error) {
	if a.grant != nil && len(sent) > 0 {
		return a.grant.refused(ctx, sent[len(sent)-1].Value, status, h)
	}
	if status != http.StatusUnauthorized {
		return false, nil
	}
	again := false
	for n, p := range a.placements {
		if n < len(sent) && p.value.refused(ctx, p.detach(sent[n].Value)) {
			again = true
		}
	}
	return again, nil
}

// vars are the variables of a process that carry secrets.
func (a *Attachments) vars(ctx context.Context) ([]link.Var, error) {
	var out []link.Var
	for _, p := range a.placements {
		s, err := p.value.Now(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, link.Var{Name: p.name, Value: s, File: p.how == team.CarryFile})
	}
	return out, nil
}

// primary is where a server's first secret goes.
func primary(s team.Server, v *Value) placement {
	switch {
	case s.Transport == team.Stdio:
		return placement{how: team.CarryVariable, name: s.SecretEnv, value: v}
	case s.SecretQuery != "":
		return placement{how: team.CarryQuery, name: s.SecretQuery, value: v}
	case s.SecretHeader != "":
		return placement{how: team.CarryHeader, name: s.SecretHeader, value: v}
	case v.kind == team.KindBasic:
		return placement{how: team.CarryBasic, value: v}
	}
	return placement{how: team.CarryBearer, value: v}
}

// Has reports whether the team has a secret of that name.
func (v *View) Has(secret string) bool { return v.team[secret] != nil }

// SecretOf is the id of the secret that a holder uses of its own at a server; "" for
// none.
func (v *View) SecretOf(serverID string, h team.Holder) string { return v.own[rowKey(serverID, h)] }

// named returns a value that a server's settings name. It is the team's: what is
// somebody's own has no name that settings could hold.
func (v *View) named(secret string) (*Value, error) {
	value := v.team[secret]
	if value == nil {
		return nil, fmt.Errorf("secret %s is not there", secret)
	}
	return value, nil
}

// For gathers what a holder's connection to a server is given. The error says what
// is missing. A single value that is kept in the locker goes straight into the
// headers; everything else is asked for when it is needed.
func (v *View) For(s team.Server, h team.Holder) (link.Credential, error) {
	return v.gather(s, h, v.grantFor)
}

// Fresh is For without what is in force: with a grant of its own, so that a trial
// neither uses nor spoils the present tokens.
func (v *View) Fresh(s team.Server, h team.Holder) (link.Credential, error) {
	return v.gather(s, h, func(s team.Server, h team.Holder) (*Grant, error) {
		if team.OfBouncer(s.SignIn) {
			return v.newGrant(s, h, "")
		}
		return v.grantFor(s, h)
	})
}

func (v *View) gather(s team.Server, h team.Holder, grantFor func(team.Server, team.Holder) (*Grant, error)) (link.Credential, error) {
	var c link.Credential
	var marks []string
	if s.ClientKey != "" {
		key, err := v.named(s.ClientKey)
		if err != nil {
			return c, err
		}
		c.ClientKey = key.Now
		marks = append(marks, key.fingerprint)
	}
	a := &Attachments{}
	if value, err := v.firstOf(s, h); err != nil {
		return c, err
	} else if value != nil && s.SignIn == nil {
		first := primary(s, value)
		if len(s.Places) == 0 && first.how != team.CarryBasic && value.direct() {
			c.Secret, _ = value.kept()
			c.Used = value.used
			_, c.Ends = locker.Look(c.Secret)
			c.Fingerprint = strings.Join(append(marks, value.fingerprint), " ")
			return c, nil
		}
		a.placements = append(a.placements, first)
	}
	for _, place := range s.Places {
		value, err := v.named(place.Secret)
		if err != nil {
			return c, err
		}
		a.placements = append(a.placements, placement{place.How, place.Name, place.Scheme, value})
	}
	if s.SignIn != nil {
		grant, err := grantFor(s, h)
		if err != nil {
			return c, err
		}
		a.grant = grant
		marks = append(marks, grant.id)
	}
	for _, p := range a.placements {
		marks = append(marks, fmt.Sprintf("%q", []string{p.how, p.name, p.scheme, p.value.fingerprint}))
	}
	c.Fingerprint = strings.Join(marks, " ")
	if len(a.placements) > 0 || a.grant != nil {
		c.Live, c.Vars = a, a.vars
	}
	return c, nil
}

// firstOf is the first value that a server is given: the holder's own, else the one
// that its settings name; nil for none.
func (v *View) firstOf(s team.Server, h team.Holder) (*Value, error) {
	if own := v.SecretOf(s.ID, h); own != "" {
		if value := v.values[own]; value != nil {
			return value, nil
		}
		return nil, fmt.Errorf("the secret that was given for server %s is not there", s.Name)
	}
	if s.Secret == "" {
		return nil, nil
	}
	return v.named(s.Secret)
}

// direct reports whether the value is one that can be sent without being asked for
// each time.
func (v *Value) direct() bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.source == "" && v.broken == nil && v.prior.Empty()
}

// Broken is what a connection is given whose credential cannot be gathered: every
// request fails for that reason.
func (v *View) Broken(s team.Server, err error) link.Credential {
	value := v.set.newValue("", s.Secret, team.KindBearer, "")
	value.broken = err
	return link.Credential{Live: &Attachments{placements: []placement{{how: team.CarryBearer, value: value}}}, Fingerprint: err.Error()}
}

// Holders returns who has a connection to a server of their own, the team first.
func (v *View) Holders(s team.Server, people []team.Person) []team.Holder {
	seen := map[string]team.Holder{}
	ofTeam := s.Per == "" || s.Per == team.PerTeam
	switch {
	case s.SignIn == nil && ofTeam, team.OfBouncer(s.SignIn):
		seen[""] = team.Holder{}
	case s.SignIn != nil && s.SignIn.Grant == team.GrantAssertion:
		for _, p := range people {
			if p.Elsewhere {
				h := team.Holder{Person: p.ID}
				seen[h.Key()] = h
			}
		}
	}
	add := func(key string) {
		if id, h, _ := strings.Cut(key, "/"); id == s.ID {
			seen[h] = team.ReadHolder(h)
		}
	}
	if s.SignIn == nil {
		for key := range v.own {
			add(key)
		}
	} else {
		for key := range v.signIns {
			add(key)
		}
	}
	out := make([]team.Holder, 0, len(seen))
	for _, h := range seen {
		out = append(out, h)
	}
	slices.SortFunc(out, func(a, b team.Holder) int { return strings.Compare(a.Key(), b.Key()) })
	return out
}

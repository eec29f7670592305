// Package oidc is the identity provider where people sign in instead of with a
// password (OpenID Connect). A Provider begins a sign-in and takes up its answer;
// it keeps each person's ID token fresh, and vouches with it for that person at
// other authorization servers.
package oidc

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/locker"
	"bouncer/internal/oauth"
	"bouncer/internal/store"
)

// Options describe a provider.
type Options struct {
	Issuer   string
	ClientID string
	Secret   locker.Secret
	Name     string // as people know it
	// Groups maps group names of the provider to roles. People in several groups
	// get the widest role; people in none are not let in.
	Groups map[string]team.Role
}

// Provider is the identity provider. A nil Provider is none: it has no name, and
// vouches for nobody. It is safe for concurrent use.
type Provider struct {
	o     Options
	oauth *oauth.Client
	store *store.Store
	keys  *locker.Keys
	masks *mask.Set
}

// New returns a provider.
func New(o Options, client *oauth.Client, s *store.Store, keys *locker.Keys, masks *mask.Set) *Provider {
	return &Provider{o: o, oauth: client, store: s, keys: keys, masks: masks}
}

// Name is what people know the provider as; "" when there is none.
func (p *Provider) Name() string {
	if p == nil {
		return ""
	}
	return p.o.Name
}

// Issuer is who vouches: the first part of who people are there.
func (p *Provider) Issuer() string { return p.o.Issuer }

// RoleOf returns the widest role that groups give; ok is false when they give none.
func (p *Provider) RoleOf(groups []string) (role team.Role, ok bool) {
	for _, role := range team.Roles {
		for _, group := range groups {
			if p.o.Groups[group] == role {
				return role, true
			}
		}
	}
	return "", false
}

func (p *Provider) identity() oauth.ClientIdentity {
	return oauth.ClientIdentity{ID: p.o.ClientID, Secret: p.o.Secret}
}

// Begin begins a sign-in and returns where to send the browser. Errors are
// *oauth.Error.
func (p *Provider) Begin(ctx context.Context, redirect string) (*oauth.Authorization, string, error) {
	m, err := p.oauth.Metadata(ctx, p.o.Issuer)
	if err != nil {
		return nil, "", err
	}
	scope := []string{"openid", "profile", "email"}
	for _, s := range m.Scopes {
		if s == "groups" || s == "offline_access" {
			scope = append(scope, s)
		}
	}
	return oauth.Begin(m, p.identity(), redirect, strings.Join(scope, " "))
}

// Finish takes up the answer to a sign-in: who it is, with what has to be kept for
// Vouch. Errors are *oauth.Error.
func (p *Provider) Finish(ctx context.Context, a *oauth.Authorization, answer url.Values) (oauth.Claims, oauth.Record, error) {
	t, err := p.oauth.ExchangeCode(ctx, a, answer)
	if err != nil {
		return oauth.Claims{}, oauth.Record{}, err
	}
	claims, err := p.oauth.VerifyID(ctx, a.Server, a.Identity.ID, a.Nonce, t.ID)
	return claims, oauth.NewRecord(a.Server, a.Identity, t), err
}

// Keep keeps what Vouch needs for a person.
func (p *Provider) Keep(ctx context.Context, personID string, r oauth.Record) error {
	r.Secret, r.Key = "", "" // of the service's settings
	p.masks.Learn(r.Secrets()...)
	box, err := r.Seal(p.keys, personID)
	if err != nil {
		return err
	}
	return p.store.Update(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.SetIdentity(personID, box) })
}

// lastMoment is how close to its end an ID token is not used any more.
const lastMoment = 5 * time.Second

// Vouch gets an access token for a person at another authorization server, who is
// vouched for by the provider. Errors are *oauth.Error besides the usual.
func (p *Provider) Vouch(
	ctx context.Context,
	personID string,
	at oauth.Metadata,
	as oauth.ClientIdentity,
	scope string,
) (oauth.Tokens, error) {
	again := func(why string) (oauth.Tokens, error) {
		return oauth.Tokens{}, &oauth.Error{Step: oauth.StepToken, Code: "login_required", Why: why}
	}
	if p == nil {
		return again("this needs a sign-in to Bouncer through the identity provider")
	}
	box, err := p.store.Credentials().Identity(ctx, personID)
	if errors.Is(err, store.ErrNotFound) {
		return again("this needs a sign-in to Bouncer through the identity provider")
	}
	if err != nil {
		return oauth.Tokens{}, fmt.Errorf("read what the identity provider gave for a person: %w", err)
	}
	kept, err := oauth.OpenRecord(p.keys, box)
	if err != nil {
		return oauth.Tokens{}, err
	}
	here, err := p.oauth.Metadata(ctx, p.o.Issuer)
	if err != nil {
		return oauth.Tokens{}, err
	}
	if _, ends := locker.Look(locker.NewSecret(kept.IDToken)); !ends.IsZero() && time.Now().After(ends.Add(-lastMoment)) {
		if kept.Refresh == "" {
			return again("the identity provider vouched for this person too long ago")
		}
		t, err := p.oauth.Refresh(ctx, here, p.identity(), kept.Tokens())
		if err != nil {
			return t, err
		}
		if err := p.Keep(ctx, personID, oauth.NewRecord(here, p.identity(), t)); err != nil {
			return t, err
		}
		kept.IDToken = t.ID.Reveal()
	}
	return p.oauth.IdentityAssertion(ctx, here, p.identity(), locker.NewSecret(kept.IDToken), at, as, scope)
}

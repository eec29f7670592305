package servers

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/credential"
	"bouncer/internal/egress"
	"bouncer/internal/link"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Update alters a server. A new address or token is tried first.
func (svc *Service) Update(ctx context.Context, by team.Person, name string, p serverspec.ServerPatch) (apitype.ServerInfo, error) {
	old, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return apitype.ServerInfo{}, store.Explain(err, "server", name)
	}
	if p.Version != nil && *p.Version != old.Version {
		return apitype.ServerInfo{}, store.Explain(store.ErrAltered, "server", name)
	}
	if p.Document == nil && p.DocumentURL != nil {
		text, err := svc.fetchDocument(ctx, *p.DocumentURL)
		if err != nil {
			return apitype.ServerInfo{}, err
		}
		p.Document = &text
	}
	s, err := serverspec.Apply(old, p)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	if err := mayReachInside(by, old, s); err != nil {
		return apitype.ServerInfo{}, err
	}
	if err := svc.registry.CheckNamed(ctx, s, s.Secret); err != nil {
		return apitype.ServerInfo{}, err
	}
	view, err := svc.registry.Credentials(ctx)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	putToken := func(*store.Tx) error { return nil }
	if p.Token != nil {
		if putToken, err = svc.newToken(ctx, by, &s, *p.Token, view); err != nil {
			return apitype.ServerInfo{}, err
		}
	}
	another := p.Reaches()
	offer, err := svc.tryUpdate(ctx, s, view, another && !p.Anyway)
	if err != nil {
		return apitype.ServerInfo{}, err
	}
	before, after := serverspec.Difference(old, s)
	if p.Token != nil {
		after = strings.TrimPrefix(after+", a new token", ", ")
	}
	change := registry.Change{
		By:      by,
		What:    "server.update",
		Subject: name,
		Before:  before,
		After:   after,
		Topics:  []string{"servers"},
		Revert:  revertTo(old, s),
	}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error {
		if err := putToken(tx); err != nil {
			return err
		}
		return writeUpdate(tx, old, s, offer)
	})
	if err != nil {
		return apitype.ServerInfo{}, store.Explain(err, "server", name)
	}
	s.Version++
	altered := p.Sharing != nil || p.Document != nil || p.Operations != nil
	if (another && ofTeam(s)) || (!another && altered && !s.Paused) {
		return svc.Check(ctx, name)
	}
	return svc.info(s), nil
}

// revertTo is what makes a server again what it was. Where that would bring a secret
// back into the open, nothing does.
func revertTo(old, s team.Server) *team.Revert {
	if serverspec.Open(old) != nil {
		return nil
	}
	return registry.Revert(team.RevertServer, s.ID, s.Name, s.Version+1, serverspec.Back(old, s))
}

// mayReachInside checks the private ranges that sign-ins at a server may lead to. Only
// an admin allows one, and what an admin allowed is allowed for that server: whoever
// moves it elsewhere cannot take the right along.
func mayReachInside(by team.Person, old, s team.Server) error {
	for _, text := range s.PrivateRanges {
		p, err := netip.ParsePrefix(text)
		if err != nil || egress.CheckRange(p) != nil {
			return &team.FieldError{
				Field: "privateRanges",
				Why:   fmt.Sprintf("holds %q, which is no private range, like 10.0.0.0/8 or 192.168.7.0/24", text),
			}
		}
	}
	switch {
	case len(s.PrivateRanges) > 8:
		return &team.FieldError{Field: "privateRanges", Why: "are more than 8"}
	case access.May(by, access.ReachInside, "") || len(s.PrivateRanges) == 0:
		return nil
	case !slices.Equal(old.PrivateRanges, s.PrivateRanges):
		return &team.FieldError{Field: "privateRanges", Why: "can be given by an admin only: what a server names is then reached in them"}
	case old.URL != s.URL:
		return &team.FieldError{
			Field: "url",
			Why:   "can be altered by an admin only while sign-ins there may lead to private ranges; take those away with it, or ask an admin",
		}
	}
	return nil
}

// ofTeam reports whether the team's connection to a server can be tried.
func ofTeam(s team.Server) bool {
	return (s.Per == "" || s.Per == team.PerTeam) && (s.SignIn == nil || team.OfBouncer(s.SignIn))
}

// tryUpdate finds out whether a server can be reached as altered. It returns the
// tools of a server whose offer follows from its registration; nil for others.
func (svc *Service) tryUpdate(ctx context.Context, s team.Server, view *credential.View, try bool) ([]tools.Tool, error) {
	var c link.Credential
	var err error
	if s.SignIn == nil || team.OfBouncer(s.SignIn) {
		if c, err = view.Fresh(s, team.Holder{}); err != nil {
			return nil, err
		}
		if err := checkPair(ctx, s, c); err != nil {
			return nil, err
		}
	}
	transport, err := svc.pool.Dial(s, c)
	if err != nil {
		return nil, err
	}
	if try && ofTeam(s) {
		if err := svc.pool.Try(ctx, s, c); err != nil {
			var why *team.ProbeError
			if errors.As(err, &why) {
				svc.explain(ctx, s, c, why)
			}
			return nil, err
		}
	}
	if !transport.Traits().Static {
		return nil, nil
	}
	offer, err := transport.Offer(ctx)
	return offer.Lists[tools.Tools], err
}

// writeUpdate writes an altered server.
func writeUpdate(tx *store.Tx, old, s team.Server, offer []tools.Tool) error {
	if offer != nil {
		// What it offers follows from what was picked.
		if err := tx.AddEdition(s.ID, time.Now().UTC(), offer); err != nil {
			return fmt.Errorf("record what a server offers: %w", err)
		}
	}
	if serverspec.Elsewhere(old, s) {
		// What people gave for one address or program is not given to another: the next path
		// on the same host may be somebody else's.
		if err := tx.DropOwn(s.ID); err != nil {
			return fmt.Errorf("drop what people gave for another address: %w", err)
		}
	}
	return tx.SetServer(s)
}

// newToken prepares the writing of a server's own token: a new secret, or a new
// value of the one it has. The value is put into the view, to be tried.
func (svc *Service) newToken(
	ctx context.Context,
	by team.Person,
	s *team.Server,
	raw string,
	view *credential.View,
) (func(*store.Tx) error, error) {
	switch {
	case s.Transport == team.Stdio && s.SecretEnv == "":
		return nil, &team.FieldError{Field: "token", Why: "has nowhere to go: no variable of this process carries a secret"}
	case s.SignIn != nil:
		return nil, &team.FieldError{Field: "token", Why: "does not go with a sign-in"}
	}
	now := time.Now().UTC()
	k := *credential.NewSecret(*s, secretName(*s), now)
	fresh := s.Secret == ""
	if !fresh {
		have, err := svc.registry.Secret(ctx, s.Secret)
		if err != nil {
			return nil, err
		}
		k = have
		k.Rotated, k.Overlap = &now, nil
	}
	entered, err := svc.credentials.Enter(ctx, by, &k, credential.Input{Raw: raw})
	if err != nil {
		return nil, ofToken(err)
	}
	s.Secret = k.Name
	view.Try(entered)
	if fresh {
		return func(tx *store.Tx) error { return store.Explain(tx.AddSecret(k, entered.Box), "secret", k.Name) }, nil
	}
	return func(tx *store.Tx) error { return tx.RotateSecret(k, entered.Box) }, nil
}

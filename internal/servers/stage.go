package servers

import (
	"context"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/store"
)

// StageAdd checks a server that is to be added without being reached first, and returns
// what writes it. Its secrets have to be stored.
func (svc *Service) StageAdd(
	ctx context.Context, by team.Person, r serverspec.Registration, paused bool, now time.Time,
) (func(*store.Tx) error, error) {
	s, err := svc.describe(ctx, r, now)
	if err != nil {
		return nil, err
	}
	if err := mayReachInside(by, team.Server{}, s); err != nil {
		return nil, err
	}
	s.Secret, s.Paused = r.Secret, paused
	if err := svc.registry.CheckNamed(ctx, s, r.Secret); err != nil {
		return nil, err
	}
	offer, err := svc.staticOffer(ctx, s)
	if err != nil {
		return nil, err
	}
	return func(tx *store.Tx) error {
		if err := tx.AddServer(s); err != nil {
			return store.Explain(err, "server", s.Name)
		}
		if offer == nil {
			return nil
		}
		return tx.AddEdition(s.ID, now, offer)
	}, nil
}

// StageUpdate checks an alteration without reaching the server, and returns what writes
// it.
func (svc *Service) StageUpdate(
	ctx context.Context, by team.Person, name string, p serverspec.ServerPatch,
) (func(*store.Tx) error, error) {
	old, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return nil, store.Explain(err, "server", name)
	}
	s, err := serverspec.Apply(old, p)
	if err != nil {
		return nil, err
	}
	if err := mayReachInside(by, old, s); err != nil {
		return nil, err
	}
	if err := svc.registry.CheckNamed(ctx, s, s.Secret); err != nil {
		return nil, err
	}
	offer, err := svc.staticOffer(ctx, s)
	if err != nil {
		return nil, err
	}
	return func(tx *store.Tx) error { return store.Explain(writeUpdate(tx, old, s, offer), "server", name) }, nil
}

// staticOffer are the tools of a server whose offer follows from its registration; nil
// for others.
func (svc *Service) staticOffer(ctx context.Context, s team.Server) ([]tools.Tool, error) {
	if s.Transport != team.REST {
		return nil, nil
	}
	view, err := svc.registry.Credentials(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the credentials: %w", err)
	}
	c, err := view.Fresh(s, team.Holder{})
	if err != nil {
		return nil, err
	}
	transport, err := svc.pool.Dial(s, c)
	if err != nil {
		return nil, err
	}
	offer, err := transport.Offer(ctx)
	return slices.Clone(offer.Lists[tools.Tools]), err
}

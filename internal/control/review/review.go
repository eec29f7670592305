// Package review keeps back what servers list anew until somebody has looked at it, for
// servers that are not trusted blindly. What agents are shown meanwhile is the matter of
// core/review, and is put in force with everything else.
package review

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/review"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// Service keeps reviews. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	pool     *upstream.Pool
}

// New returns the service.
func New(s *store.Store, r *registry.Registry, p *upstream.Pool) *Service { return &Service{s, r, p} }

// listed are the tools that a server lists now, to anybody.
func (svc *Service) listed(ctx context.Context, serverID string) ([]tools.Tool, error) {
	if st, ok := svc.pool.Offers()[serverID]; ok {
		return st.Offer.Lists[tools.Tools], nil
	}
	list, err := svc.store.Edition(ctx, serverID)
	if err != nil {
		return nil, fmt.Errorf("read a recorded tool list: %w", err)
	}
	return list, nil
}

// List returns how every server is reviewed, with what is open.
func (svc *Service) List(ctx context.Context) ([]apitype.ServerReview, error) {
	servers, err := svc.store.Servers(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the servers: %w", err)
	}
	state, err := svc.store.Control().Reviews(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the reviews: %w", err)
	}
	seen := []string{}
	lists := map[string][]tools.Tool{}
	for _, s := range servers {
		if lists[s.ID], err = svc.listed(ctx, s.ID); err != nil {
			return nil, err
		}
		for _, t := range lists[s.ID] {
			seen = append(seen, t.Name)
		}
	}
	out := []apitype.ServerReview{}
	for _, s := range servers {
		r := apitype.ServerReview{Server: s.Name, Mode: review.Trust, Tools: len(lists[s.ID]), Open: []apitype.OpenReview{}}
		if mode := state.Modes[s.ID]; mode != "" {
			r.Mode = mode
			for _, item := range review.Open(lists[s.ID], state.Accepted[s.ID]) {
				suspicions := review.Lint(item.After, item.Before, seen)
				if suspicions == nil {
					suspicions = []review.Suspicion{}
				}
				r.Open = append(r.Open, apitype.OpenReview{
					Tool: item.Name, State: item.State, Meanwhile: item.Meanwhile, Before: item.Before.Raw, After: item.After.Raw, Suspicions: suspicions,
				})
			}
			slices.SortStableFunc(r.Open, func(a, b apitype.OpenReview) int { return len(b.Suspicions) - len(a.Suspicions) })
		}
		out = append(out, r)
	}
	return out, nil
}

// Server returns how one server is reviewed.
func (svc *Service) Server(ctx context.Context, name string) (apitype.ServerReview, error) {
	list, err := svc.List(ctx)
	if err != nil {
		return apitype.ServerReview{}, err
	}
	for _, r := range list {
		if r.Server == name {
			return r, nil
		}
	}
	return apitype.ServerReview{}, &team.NotFoundError{Kind: "server", Name: name}
}

// SetMode sets how a server is reviewed; it is in force when this returns. With changes,
// what it lists now is accepted.
func (svc *Service) SetMode(ctx context.Context, by team.Person, name string, p apitype.ReviewMode) (apitype.ServerReview, error) {
	if !slices.Contains(review.Modes, p.Mode) {
		return apitype.ServerReview{}, &team.FieldError{
			Field: "mode", Why: fmt.Sprintf("is %.40q; it must be one of %s", p.Mode, strings.Join(review.Modes, ", ")),
		}
	}
	have, err := svc.Server(ctx, name)
	if err != nil {
		return have, err
	}
	if p.If != "" && p.If != have.Mode {
		return have, &team.ConflictError{Field: "if", Why: "the tools of " + name + " are reviewed otherwise by now: " + have.Mode}
	}
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return have, store.Explain(err, "server", name)
	}
	list, err := svc.listed(ctx, s.ID)
	if err != nil {
		return have, err
	}
	mode := p.Mode
	if mode == review.Trust {
		mode = ""
	}
	err = svc.registry.Write(ctx, registry.Change{
		By: by, What: "review.mode", Subject: name, Before: have.Mode, After: p.Mode, Topics: []string{"reviews", "servers"},
		Revert: registry.Revert(team.RevertReview, s.ID, name, 0, apitype.ReviewMode{Mode: have.Mode, If: p.Mode}),
	}, func(tx *store.Tx) error {
		if err := tx.SetReviewMode(s.ID, mode); err != nil || p.Mode != review.Changes || have.Mode == review.Changes {
			return err
		}
		return tx.AcceptTools(s.ID, list, by.Name, svc.registry.Now())
	})
	if err != nil {
		return have, err
	}
	return svc.Server(ctx, name)
}

// Accept notes that somebody looked at tools as they are listed now, and lets agents have
// them. A tool whose description was changed since it was looked at is not accepted.
func (svc *Service) Accept(ctx context.Context, by team.Person, name string, in apitype.ReviewAccept) (apitype.ServerReview, error) {
	have, err := svc.Server(ctx, name)
	if err != nil {
		return have, err
	}
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return have, store.Explain(err, "server", name)
	}
	list, err := svc.listed(ctx, s.ID)
	if err != nil {
		return have, err
	}
	if in.All {
		for _, o := range have.Open {
			in.Tools = append(in.Tools, apitype.AcceptedTool{Tool: o.Tool})
		}
	}
	if len(in.Tools) == 0 {
		return have, &team.ConflictError{
			Field: "tools", Why: "nothing of " + name + " waits for a review", Hint: "bouncer review list shows what does",
		}
	}
	var accepted []tools.Tool
	names := []string{}
	for _, want := range in.Tools {
		at := slices.IndexFunc(list, func(t tools.Tool) bool { return t.Name == want.Tool })
		if at < 0 {
			return have, &team.NotFoundError{Kind: "tool", Name: name + "/" + want.Tool}
		}
		if want.After != nil && string(want.After) != string(list[at].Raw) {
			return have, &team.ConflictError{
				Field: "tools", Why: want.Tool + " was changed once more since you looked at it, so nothing was accepted", Hint: "look at it again",
			}
		}
		accepted, names = append(accepted, list[at]), append(names, want.Tool)
	}
	err = svc.registry.Write(ctx, registry.Change{
		By: by, What: "review.accept", Subject: name, After: strings.Join(names, ", "), Topics: []string{"reviews", "servers"},
	}, func(tx *store.Tx) error { return tx.AcceptTools(s.ID, accepted, by.Name, svc.registry.Now()) })
	if err != nil {
		return have, err
	}
	return svc.Server(ctx, name)
}

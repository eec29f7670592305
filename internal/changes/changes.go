// Package changes tells what was altered in Bouncer's own state, and undoes it. An
// alteration that can be undone was recorded with what puts it back; undoing is an
// alteration like any other, made through the service of its noun, so that it is
// allowed, checked, tried and recorded as if somebody had typed it.
package changes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/control/budget"
	"bouncer/internal/control/labels"
	"bouncer/internal/control/policy"
	"bouncer/internal/control/review"
	"bouncer/internal/core/access"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/people"
	"bouncer/internal/servers"
	"bouncer/internal/store"
)

// Service tells and undoes changes. It is safe for concurrent use.
type Service struct {
	store *store.Store
	nouns map[string]noun
}

// noun is how the changes of one noun are undone.
type noun struct {
	action access.Action // what undoing amounts to
	// undo puts back what the record says.
	undo func(ctx context.Context, by team.Person, r team.Revert, anyway bool) error
}

// New returns the service.
func New(
	s *store.Store, a *agents.Service, p *people.Service, sv *servers.Service, rules *policy.Service,
	words *labels.Service, budgets *budget.Service, looks *review.Service,
) *Service {
	svc := &Service{store: s, nouns: map[string]noun{
		team.RevertAgent: {access.KeepAgents, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
			return patched(r, func(p apitype.AgentPatch) error {
				p.Version = &r.Version
				_, err := a.UpdateAgent(ctx, by, r.Name, p)
				return err
			})
		}},
		team.RevertPerson: {access.KeepPeople, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
			return patched(r, func(patch apitype.PersonPatch) error {
				patch.Version = &r.Version
				_, err := p.UpdatePerson(ctx, by, r.Name, patch)
				return err
			})
		}},
		team.RevertServer: {access.KeepServers, func(ctx context.Context, by team.Person, r team.Revert, anyway bool) error {
			return patched(r, func(patch serverspec.ServerPatch) error {
				patch.Version, patch.Anyway = &r.Version, anyway
				_, err := sv.Update(ctx, by, r.Name, patch)
				return err
			})
		}},
		team.RevertRule: {access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
			return patched(r, func(patch apitype.RulePatch) error {
				patch.Version, patch.Anyway = &r.Version, true
				_, err := rules.UpdateRule(ctx, by, r.ID, patch)
				return err
			})
		}},
		team.RevertRuleAdded: {access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
			return rules.RemoveRule(ctx, by, r.ID)
		}},
		team.RevertRuleGone: {access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
			return patched(r, func(back team.Rule) error {
				_, err := rules.PutBack(ctx, by, back)
				return err
			})
		}},
	}}
	svc.labels(words)
	svc.budgets(budgets)
	svc.reviews(looks)
	return svc
}

// labels are the nouns of labels and bundles.
func (svc *Service) labels(words *labels.Service) {
	svc.nouns[team.RevertLabels] = noun{access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
		return patched(r, func(p apitype.LabelPatch) error { return words.PutBack(ctx, by, r.ID, p) })
	}}
	svc.nouns[team.RevertBundle] = noun{access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
		return patched(r, func(p apitype.BundlePatch) error {
			p.Version = &r.Version
			_, err := words.UpdateBundle(ctx, by, r.Name, p)
			return err
		})
	}}
	svc.nouns[team.RevertBundleAdded] = noun{access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
		return words.RemoveBundle(ctx, by, r.Name)
	}}
	svc.nouns[team.RevertBundleGone] = noun{access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
		return patched(r, func(n apitype.NewBundle) error {
			_, err := words.AddBundle(ctx, by, n)
			return err
		})
	}}
}

// reviews are the nouns of how tools are reviewed.
func (svc *Service) reviews(keep *review.Service) {
	svc.nouns[team.RevertReview] = noun{access.KeepServers, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
		return patched(r, func(p apitype.ReviewMode) error {
			_, err := keep.SetMode(ctx, by, r.Name, p)
			return err
		})
	}}
}

// budgets are the nouns of budgets.
func (svc *Service) budgets(keep *budget.Service) {
	svc.nouns[team.RevertBudget] = noun{access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
		return patched(r, func(p apitype.BudgetPatch) error {
			p.Version = &r.Version
			_, err := keep.Update(ctx, by, r.ID, p)
			return err
		})
	}}
	svc.nouns[team.RevertBudgetAdded] = noun{access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
		return keep.Remove(ctx, by, r.ID)
	}}
	svc.nouns[team.RevertBudgetGone] = noun{access.KeepRules, func(ctx context.Context, by team.Person, r team.Revert, _ bool) error {
		return patched(r, func(n apitype.NewBudget) error {
			_, err := keep.Add(ctx, by, n)
			return err
		})
	}}
}

// patched reads what puts a change back.
func patched[T any](r team.Revert, use func(T) error) error {
	var patch T
	if err := json.Unmarshal(r.Patch, &patch); err != nil {
		return fmt.Errorf("read what puts %s back: %w", r.Name, err)
	}
	return use(patch)
}

// List returns the newest changes, newest first. Undoable is set for those that the
// person can undo.
func (svc *Service) List(ctx context.Context, by team.Person, limit int) ([]team.Change, error) {
	list, err := svc.store.Changes(ctx, limit)
	if err != nil {
		return nil, fmt.Errorf("read the changes: %w", err)
	}
	for i, c := range list {
		n, known := svc.nouns[kindOf(c)]
		list[i].Undoable = known && access.May(by, n.action, "")
	}
	return list, nil
}

func kindOf(c team.Change) string {
	if c.Revert == nil {
		return ""
	}
	return c.Revert.Kind
}

// same reports store.ErrAltered when what was altered is no longer as the change left it,
// and store.ErrNotFound when its name belongs to another one now.
func (svc *Service) same(ctx context.Context, r team.Revert) error {
	id, version, err := r.ID, r.Version, error(nil)
	switch r.Kind {
	case team.RevertServer:
		var s team.Server
		s, err = svc.store.ServerByName(ctx, r.Name)
		id, version = s.ID, s.Version
	case team.RevertAgent:
		var a team.Agent
		a, err = svc.store.AgentByName(ctx, r.Name, time.Now())
		id, version = a.ID, a.Version
	case team.RevertPerson:
		var p team.Person
		p, err = svc.store.PersonByName(ctx, r.Name)
		id, version = p.ID, p.Version
	case team.RevertLabels, team.RevertBundleGone, team.RevertBudget, team.RevertBudgetAdded, team.RevertBudgetGone,
		team.RevertReview:
		return nil // the noun looks itself
	case team.RevertBundle, team.RevertBundleAdded:
		var list []team.Bundle
		list, err = svc.store.Control().Bundles(ctx)
		at := slices.IndexFunc(list, func(b team.Bundle) bool { return b.ID == r.ID })
		if err == nil && at < 0 {
			return store.ErrNotFound
		}
		if at >= 0 {
			version = list[at].Version
		}
	case team.RevertRule, team.RevertRuleAdded:
		var list []team.Rule
		list, err = svc.store.Control().Rules(ctx)
		at := slices.IndexFunc(list, func(rule team.Rule) bool { return rule.ID == r.ID })
		if err == nil && at < 0 {
			return store.ErrNotFound
		}
		if at >= 0 {
			version = list[at].Version
		}
	}
	switch {
	case err != nil:
		return fmt.Errorf("read %s again: %w", r.Name, err)
	case id != r.ID:
		return store.ErrNotFound
	case version != r.Version:
		return store.ErrAltered
	}
	return nil
}

// Undo puts back what a change altered, if nothing was altered there since.
func (svc *Service) Undo(ctx context.Context, by team.Person, id string, anyway bool) (team.Change, error) {
	c, err := svc.store.Change(ctx, id)
	if err != nil {
		return c, store.Explain(err, "change", id)
	}
	n, known := svc.nouns[kindOf(c)]
	if !known {
		return c, &team.ConflictError{
			Field: "id",
			Why:   fmt.Sprintf("a change %s cannot be undone, or was undone already", c.What),
			Hint:  "bouncer change list shows those that can",
		}
	}
	if !access.May(by, n.action, "") {
		return c, &team.NotAllowedError{
			Why:  fmt.Sprintf("your role, %s, cannot undo a change %s", by.Role, c.What),
			Hint: "ask an admin",
		}
	}
	var gone *team.NotFoundError
	if err = svc.same(ctx, *c.Revert); err == nil {
		err = n.undo(ctx, by, *c.Revert, anyway)
	}
	switch {
	case errors.Is(err, store.ErrAltered), errors.Is(err, store.ErrNotFound), errors.As(err, &gone):
		return c, &team.ConflictError{
			Field: "id",
			Why:   c.Subject + " was altered or removed since, so nothing was undone",
			Hint:  "undo the later changes first, newest first, or make the alteration by hand",
		}
	case err != nil:
		return c, err
	}
	if err := svc.store.Update(ctx, func(tx *store.Tx) error { return tx.SpendRevert(id) }); err != nil {
		return c, fmt.Errorf("note that change %s was undone: %w", id, err)
	}
	return c, nil
}

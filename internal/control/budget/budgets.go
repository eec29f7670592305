package budget

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/budget"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Service keeps the budgets. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	meter    *Meter
}

// NewService returns the service.
func NewService(s *store.Store, r *registry.Registry, m *Meter) *Service { return &Service{s, r, m} }

// maxBudgets is how many budgets a team may have.
const maxBudgets = 200

// Budgets returns every budget with what is used of it, the most used first.
func (svc *Service) Budgets(ctx context.Context) ([]apitype.BudgetInfo, error) {
	list, err := svc.store.Control().Budgets(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the budgets: %w", err)
	}
	people, err := svc.store.People(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the people: %w", err)
	}
	names := map[string]string{"": "everybody"}
	now := svc.registry.Current()
	for _, p := range people {
		names[p.ID] = p.Name
	}
	for id, a := range now.Agents {
		names[id] = a.Name
	}
	out := []apitype.BudgetInfo{}
	for _, b := range list {
		core := b.Core()
		info := apitype.BudgetInfo{Budget: b, Text: core.Describe(), Uses: []apitype.BudgetUse{}}
		for _, a := range now.Agents {
			if svc.binds(&core, a.Subject()) {
				info.Agents++
			}
		}
		if b.Window != "" {
			_, until := budget.Span(b.Window, svc.registry.Now())
			info.Until = &until
		}
		for _, u := range svc.meter.Uses(&core) {
			if name := names[u.Whose]; name != "" {
				info.Uses = append(info.Uses, apitype.BudgetUse{Whose: name, Calls: u.Calls, KiB: u.Bytes >> 10, AtOnce: u.AtOnce})
			}
		}
		slices.SortFunc(info.Uses, func(a, b apitype.BudgetUse) int {
			if a.Calls != b.Calls {
				return int(b.Calls - a.Calls)
			}
			return strings.Compare(a.Whose, b.Whose)
		})
		out = append(out, info)
	}
	return out, nil
}

// binds reports whether a budget is about an agent at all.
func (svc *Service) binds(b *budget.Budget, who rules.Subject) bool {
	whatever := *b
	whatever.Server, whatever.Tool = "*", "*"
	return whatever.About(who, "", "")
}

// Budget returns one budget, by its name or its id.
func (svc *Service) Budget(ctx context.Context, key string) (apitype.BudgetInfo, error) {
	list, err := svc.Budgets(ctx)
	if err != nil {
		return apitype.BudgetInfo{}, err
	}
	for _, b := range list {
		if b.Name == key || strings.EqualFold(b.ID, key) {
			return b, nil
		}
	}
	return apitype.BudgetInfo{}, &team.NotFoundError{Kind: "budget", Name: key}
}

// Add adds a budget; calls count from now on.
func (svc *Service) Add(ctx context.Context, by team.Person, n apitype.NewBudget) (apitype.BudgetInfo, error) {
	b := team.Budget{
		ID: team.NewID(), Name: n.Name, Version: 1, Note: strings.TrimSpace(n.Note), By: by.Name,
		Created: svc.registry.Now().UTC(), Allowance: n.Allowance,
	}
	list, err := svc.check(ctx, b)
	if err != nil {
		return apitype.BudgetInfo{}, err
	}
	switch {
	case slices.ContainsFunc(list, func(have team.Budget) bool { return have.Name == b.Name }):
		return apitype.BudgetInfo{}, &team.ConflictError{
			Field: "name", Why: "there is a budget " + b.Name + " already", Hint: "choose another name",
		}
	case len(list) >= maxBudgets:
		return apitype.BudgetInfo{}, &team.FieldError{
			Field: "name",
			Why:   fmt.Sprintf("is one too many; %d budgets are the most", maxBudgets),
		}
	}
	err = svc.registry.Write(ctx, registry.Change{
		By: by, What: "budget.add", Subject: b.Name, After: b.Core().Describe(), Topics: []string{"budgets"},
		Revert: registry.Revert(team.RevertBudgetAdded, b.ID, b.Name, 1, nil),
	}, func(tx *store.Tx) error { return tx.AddBudget(b) })
	if err != nil {
		return apitype.BudgetInfo{}, err
	}
	return svc.Budget(ctx, b.Name)
}

// Update alters a budget. What is used of it stays used.
func (svc *Service) Update(ctx context.Context, by team.Person, key string, p apitype.BudgetPatch) (apitype.BudgetInfo, error) {
	have, err := svc.Budget(ctx, key)
	if err != nil {
		return apitype.BudgetInfo{}, err
	}
	b, was := have.Budget, have.Budget
	if p.Version != nil {
		b.Version = *p.Version
	}
	if p.Note != nil {
		b.Note = strings.TrimSpace(*p.Note)
	}
	if p.Allowance != nil {
		b.Allowance = *p.Allowance
	}
	if _, err := svc.check(ctx, b); err != nil {
		return apitype.BudgetInfo{}, err
	}
	err = store.Explain(svc.registry.Write(ctx, registry.Change{
		By: by, What: "budget.update", Subject: b.Name, Before: was.Core().Describe(), After: b.Core().Describe(), Topics: []string{"budgets"},
		Revert: registry.Revert(
			team.RevertBudget,
			b.ID,
			b.Name,
			b.Version+1,
			apitype.BudgetPatch{Note: &was.Note, Allowance: &was.Allowance},
		),
	}, func(tx *store.Tx) error { return tx.UpdateBudget(b) }), "budget", key)
	if err != nil {
		return apitype.BudgetInfo{}, err
	}
	return svc.Budget(ctx, b.Name)
}

// Remove removes a budget.
func (svc *Service) Remove(ctx context.Context, by team.Person, key string) error {
	have, err := svc.Budget(ctx, key)
	if err != nil {
		return err
	}
	back := apitype.NewBudget{Name: have.Name, Note: have.Note, Allowance: have.Allowance}
	return store.Explain(svc.registry.Write(ctx, registry.Change{
		By: by, What: "budget.remove", Subject: have.Name, Before: have.Text, Topics: []string{"budgets"},
		Revert: registry.Revert(team.RevertBudgetGone, have.ID, have.Name, 0, back),
	}, func(tx *store.Tx) error { return tx.RemoveBudget(have.ID) }), "budget", key)
}

// Reset has a budget begin anew for everybody.
func (svc *Service) Reset(ctx context.Context, by team.Person, key string) (apitype.BudgetInfo, error) {
	have, err := svc.Budget(ctx, key)
	if err != nil {
		return apitype.BudgetInfo{}, err
	}
	err = svc.registry.Write(ctx, registry.Change{
		By: by, What: "budget.reset", Subject: have.Name, After: "nothing is used", Topics: []string{"budgets"},
	}, func(*store.Tx) error { return nil })
	if err != nil {
		return apitype.BudgetInfo{}, err
	}
	svc.meter.Reset(have.ID)
	if svc.meter.Forgot != nil {
		svc.meter.Forgot(have.ID)
	}
	return svc.Budget(ctx, have.Name)
}

// check checks a budget, and returns those that there are.
func (svc *Service) check(ctx context.Context, b team.Budget) ([]team.Budget, error) {
	err := b.Core().Check()
	var fe *rules.FieldError
	if errors.As(err, &fe) {
		return nil, &team.FieldError{Field: fe.Field, Why: fe.Why}
	}
	if err != nil {
		return nil, err
	}
	list, err := svc.store.Control().Budgets(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the budgets: %w", err)
	}
	return list, nil
}

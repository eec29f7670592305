package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"bouncer/internal/core/team"
)

// Budgets returns every budget, by name.
func (s Control) Budgets(ctx context.Context) ([]team.Budget, error) {
	return list(ctx, s.read, func(r scanner) (v team.Budget, err error) {
		var created int64
		var allowance string
		err = r.Scan(&v.ID, &v.Name, &v.Version, &allowance, &v.Note, &v.By, &created)
		v.Created = fromMS(created)
		if err == nil {
			err = json.Unmarshal([]byte(allowance), &v.Allowance)
		}
		return v, err
	}, `SELECT id, name, version, allowance, note, by_name, created FROM budgets ORDER BY name`)
}

// AddBudget stores a budget.
func (t RuleTx) AddBudget(v team.Budget) error {
	allowance, err := json.Marshal(v.Allowance)
	if err != nil {
		return fmt.Errorf("write a budget: %w", err)
	}
	return t.exec(`INSERT INTO budgets (id, name, allowance, note, by_name, created) VALUES (?, ?, ?, ?, ?, ?)`,
		v.ID, v.Name, string(allowance), v.Note, v.By, ms(v.Created))
}

// UpdateBudget stores what was altered, if the budget still has the version that it was
// read with. What is used of it stays.
func (t RuleTx) UpdateBudget(v team.Budget) error {
	allowance, err := json.Marshal(v.Allowance)
	if err != nil {
		return fmt.Errorf("write a budget: %w", err)
	}
	return t.alter("budgets", v.ID, `UPDATE budgets SET allowance = ?, note = ?, version = version + 1 WHERE id = ? AND version = ?`,
		string(allowance), v.Note, v.ID, v.Version)
}

// RemoveBudget removes a budget with what is used of it.
func (t RuleTx) RemoveBudget(id string) error { return t.one(`DELETE FROM budgets WHERE id = ?`, id) }

// BudgetUse is what is used of a budget by one for whom it counts, since a window began.
type BudgetUse struct {
	Budget, Whose string
	Began         time.Time
	Calls, Bytes  int64
}

// BudgetUse returns what is used of every budget.
func (s Control) BudgetUse(ctx context.Context) ([]BudgetUse, error) {
	return list(ctx, s.read, func(r scanner) (v BudgetUse, err error) {
		var began int64
		err = r.Scan(&v.Budget, &v.Whose, &began, &v.Calls, &v.Bytes)
		v.Began = fromMS(began)
		return v, err
	}, `SELECT budget, whose, began, calls, bytes FROM budget_use`)
}

// KeepBudgetUse writes what is used. What belongs to budgets that are gone is left out.
func (t RuleTx) KeepBudgetUse(list []BudgetUse) error {
	for _, v := range list {
		err := t.exec(`INSERT INTO budget_use (budget, whose, began, calls, bytes)
			SELECT ?1, ?2, ?3, ?4, ?5 WHERE EXISTS (SELECT 1 FROM budgets WHERE id = ?1)
			ON CONFLICT (budget, whose) DO UPDATE SET began = excluded.began, calls = excluded.calls, bytes = excluded.bytes`,
			v.Budget, v.Whose, ms(v.Began), v.Calls, v.Bytes)
		if err != nil {
			return err
		}
	}
	return nil
}

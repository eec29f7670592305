package apitype

import (
	"time"

	"bouncer/internal/core/budget"
	"bouncer/internal/core/team"
)

// BudgetInfo is a budget with what is used of it.
type BudgetInfo struct {
	team.Budget
	Text   string      `json:"text" doc:"the same in words"`
	Agents int         `json:"agents" doc:"agents that it binds now"`
	Until  *time.Time  `json:"until,omitempty" doc:"when the present window ends"`
	Uses   []BudgetUse `json:"uses" doc:"what is used in the present window, the most first"`
}

// BudgetUse is what one uses of a budget.
type BudgetUse struct {
	Whose  string `json:"whose" doc:"name of the agent or the person, or everybody"`
	Calls  int64  `json:"calls"`
	KiB    int64  `json:"kib"`
	AtOnce int    `json:"atOnce" doc:"calls under way, or waiting for their turn"`
}

// NewBudget is a budget to be added.
type NewBudget struct {
	Name string `json:"name"`
	Note string `json:"note,omitempty"`
	budget.Allowance
}

// BudgetPatch is what can be altered of a budget; nil fields stay.
type BudgetPatch struct {
	Note      *string           `json:"note,omitempty"`
	Allowance *budget.Allowance `json:"allowance,omitempty" doc:"everything that it says, as a whole; left out, that stays"`
	Version   *int              `json:"version,omitempty" doc:"the version that was read; without it the newest is altered"`
}

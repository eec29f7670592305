package carry

import (
	"context"
	"errors"
	"strconv"
	"time"

	"bouncer/internal/core/budget"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
)

// withinBudgets counts the call against its budgets, and waits for its turn where one has
// calls wait. It reports whether the call goes on; one that does not is answered and
// recorded here.
func (j control) withinBudgets(ctx context.Context, release func() bool) bool {
	list := j.target.Budgets
	if len(list) == 0 || j.entry == nil || j.carrier.o.Budgets == nil {
		return true
	}
	done, err := j.carrier.o.Budgets.Take(j.ctx, list, j.caller.Agent.Subject())
	if err == nil {
		j.counted = done
		return true
	}
	release()
	name := j.target.Tool.Name + " of server " + j.target.Server.Name
	data := map[string]string{
		"reason": "budget-spent", "server": j.target.Server.Name, "tool": j.kind.Rule(j.target.Tool.Name), "ask": j.caller.Snapshot.Contacts,
	}
	var spent *budget.SpentError
	var full *gate.FullError
	switch {
	case errors.As(err, &spent):
		j.notes().Budget, data["budget"] = spent.Budget, spent.Budget
		if !spent.Until.IsZero() {
			data["until"] = spent.Until.Format(time.RFC3339)
			data["retryAfterSeconds"] = strconv.Itoa(max(1, int(time.Until(spent.Until).Seconds()+0.999)))
		}
		j.decline(name+" was not called: "+spent.Text+"; ask "+j.caller.Snapshot.Contacts, data, wire.CodeNotAdmitted)
	case errors.As(err, &full):
		j.decline(name+" was not called: "+full.Error()+"; wait until some have ended", data, wire.CodeNotAdmitted)
	default:
		j.failBefore(ctx, err)
	}
	j.cancel(nil)
	return false
}

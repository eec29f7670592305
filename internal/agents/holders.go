package agents

import (
	"context"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

// HolderFor finds for whom a person supplies a credential, and whether they may.
func (svc *Service) HolderFor(ctx context.Context, by team.Person, s team.Server, agent string, forTeam bool) (team.Holder, error) {
	switch {
	case access.ScopeOf(by.Role, access.SupplyAgents) == access.None:
		return team.Holder{}, &team.FieldError{Field: "server", Why: "cannot be given a credential by somebody who is " + string(by.Role)}
	case agent != "":
		a, err := svc.Agent(ctx, by, agent)
		if err == nil {
			err = MaySupply(by, a)
		}
		if err != nil {
			return team.Holder{}, err
		}
		return team.Holder{Agent: a.ID}, nil
	case forTeam && !access.May(by, access.MakeSignIns, ""):
		return team.Holder{}, &team.FieldError{Field: "team", Why: "needs an admin or a maintainer; leave it out to use your own"}
	case forTeam && (s.Per == team.PerPerson || s.Per == team.PerAgent):
		return team.Holder{}, &team.FieldError{
			Field: "team",
			Why:   "is not possible: at this server each " + s.Per + " has a credential of its own",
		}
	case forTeam:
		return team.Holder{}, nil
	}
	return team.Holder{Person: by.ID}, nil
}

// MaySupply reports whether somebody may supply what an agent uses of its own: its
// owner, and for an agent of the team's an admin or a maintainer. Whoever else did
// would decide whose account another person's agent acts with.
func MaySupply(by team.Person, a team.Agent) error {
	if access.May(by, access.SupplyAgents, a.Owner) {
		return nil
	}
	whose := a.Owner
	if whose == "" {
		whose = "the team"
	}
	return &team.FieldError{Field: "agent", Why: fmt.Sprintf("belongs to %s; you do not supply what it uses of its own", whose)}
}

// OwnsHolder reports whether a person may end what a holder has.
func (svc *Service) OwnsHolder(ctx context.Context, by team.Person, h team.Holder) (bool, error) {
	owner := ""
	switch {
	case h.Person == by.ID:
		owner = by.Name
	case h.Person != "":
		owner = "\x00somebody else" // whoever it is, it is not them
	case h.Agent != "":
		all, err := svc.store.Agents(ctx, time.Now())
		if err != nil {
			return false, fmt.Errorf("read the agents: %w", err)
		}
		at := slices.IndexFunc(all, func(a team.Agent) bool { return a.ID == h.Agent })
		if at < 0 {
			return false, nil
		}
		// An admin or a maintainer ends what any agent has; of people only an admin does.
		if owner = all[at].Owner; access.May(by, access.KeepAgents, owner) {
			return true, nil
		}
	}
	return access.May(by, access.EndSignIns, owner), nil
}

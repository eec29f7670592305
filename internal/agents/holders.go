package agents

import (
	"context"
	"fmt"

	"bouncer/internal/core/team"
)

// HolderFor finds for whom a person supplies a credential, and whether they may.
func (svc *Service) HolderFor(ctx context.Context, by team.Person, s team.Server, agent string, forTeam bool) (team.Holder, error) {
	mayForOthers := by.Role == team.Admin || by.Role == team.Maintainer
	switch {
	case by.Role == team.Auditor:
		return team.Holder{}, &team.FieldError{Field: "server", Why: "cannot be given a credential by an auditor"}
	case agent != "":
		a, err := svc.Agent(ctx, by, agent)
		if err == nil {
			err = MaySupply(by, a)
		}
		if err != nil {
			return team.Holder{}, err
		}
		return team.Holder{Agent: a.ID}, nil
	case forTeam && !mayForOthers:
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
	switch {
	case by.Role == team.Auditor:
		return &team.FieldError{Field: "agent", Why: "cannot be given a credential by an auditor"}
	case a.Owner == by.Name, a.Owner == "" && by.Role != team.Member:
		return nil
	}
	return &team.FieldError{Field: "agent", Why: fmt.Sprintf("belongs to %s; nobody else supplies what it uses of its own", a.Owner)}
}

// OwnsHolder reports whether a person may end what a holder has.
func (svc *Service) OwnsHolder(ctx context.Context, by team.Person, h team.Holder) (bool, error) {
	mayForOthers := by.Role == team.Admin || by.Role == team.Maintainer
	switch {
	case h.Person != "":
		return h.Person == by.ID || by.Role == team.Admin, nil
	case h.Agent == "" || mayForOthers:
		return mayForOthers, nil
	}
	mine, err := svc.Agents(ctx, by)
	if err != nil {
		return false, err
	}
	for _, a := range mine {
		if a.ID == h.Agent {
			return by.Role != team.Auditor, nil
		}
	}
	return false, nil
}

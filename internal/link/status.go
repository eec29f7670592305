package link

import (
	"errors"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
)

// Status is what Bouncer knows of its server.
type Status struct {
	team.Health
	// Offer is the one in force; it outlives a failure.
	Offer Offer
}

// Assess turns the outcome of a probe into a status.
func Assess(o Offer, stages []team.Stage, err error) Status {
	now := time.Now().UTC()
	list := o.Lists[tools.Tools]
	st := Status{Offer: o, Health: team.Health{
		State:         team.StateReady,
		Revision:      o.Revision,
		ServerName:    o.Name,
		ServerVersion: o.Version,
		Tools:         len(list),
		Edition:       tools.Digest(list),
		Prompts:       len(o.Lists[tools.Prompts]), Resources: len(o.Lists[tools.Resources]) + len(o.Lists[tools.Templates]),
		LeftOut: o.Left, Stages: stages, Since: now, Checked: now,
	}}
	if err == nil {
		return st
	}
	st.State = team.StateFailing
	var f *Failure
	if errors.As(err, &f) {
		st.Finding = &f.Finding
	} else {
		found := diagnosis.Explain(diagnosis.Evidence{Err: err, Timeout: IsTimeout(err)})
		st.Finding = &found
	}
	return st
}

package api

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"bouncer/internal/api/reading"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
)

// journalRoutes are the rows of the journal.
func journalRoutes(svc *journal.Reader) []route {
	return []route{
		{
			method: get, path: "/api/calls", id: "listCalls", action: access.SeeCalls,
			summary: "The journal, newest first; members see their own agents' calls",
			query: andCallFields(
				queryField{"before", "only calls older than the one with this id"},
				queryField{"after", "only calls newer than the one with this id, oldest first"},
				queryField{"limit", "how many, 1 to 500; 100 if left out"},
			), out: []team.Call{}, status: 200,
			handle: func(c *call) (any, error) {
				q, err := c.callQuery()
				if err == nil {
					q.Limit, err = reading.Number(c.Request, "limit", 100, 1, journal.MaxCalls)
				}
				if err != nil {
					return nil, err
				}
				return svc.Calls(c.Context(), c.person, q)
			},
		},
		{
			method: get, path: "/api/calls/{id}", id: "getCall", action: access.SeeCalls, summary: "One call in full",
			out: team.Call{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Call(c.Context(), c.person, c.name("id")) },
		},
		{
			method: get, path: "/api/journal", id: "journalState", action: access.SeeServers,
			summary: "How the journal does: whether it records, and how much it keeps",
			out:     team.JournalState{}, status: 200,
			handle: func(c *call) (any, error) { return c.api.s.JournalState(c.Context()) },
		},
		{
			method: get, path: "/api/journal/head", id: "journalHead", action: access.SeeService,
			summary: "The newest seal of the journal, signed: kept elsewhere, it shows later whether something was altered",
			out:     team.SignedHead{}, status: 200,
			handle: func(c *call) (any, error) { return c.api.s.Notary.Head(c.Context()) },
		},
		{
			method: post, path: "/api/journal/verification", id: "verifyJournal", action: access.SeeService,
			summary: "Hold every seal of the journal against its calls, and the chain against a head that was kept, if one is given",
			in:      team.SignedHead{}, out: team.ChainState{}, status: 200,
			handle: with(func(c *call, in team.SignedHead) (any, error) { return c.api.s.Notary.Verify(c.Context(), in) }),
		},
		{
			method: get, path: "/api/call-counts", id: "countCalls", action: access.SeeCalls,
			summary: "Calls counted in equal steps of time",
			query:   andCallFields(queryField{"step", "length of a step in seconds; 3600 if left out"}), out: []team.Bucket{}, status: 200,
			handle: func(c *call) (any, error) { return countCalls(c, svc) },
		},
	}
}

// callFields are the filters of the journal.
var callFields = []queryField{
	{"agent", "only this agent's calls"},
	{"person", "only calls of this person's agents"},
	{"server", "only calls to this server"},
	{"tool", "only tools that match this glob"},
	{"decision", "admit, refuse, or held for calls about which somebody was asked"},
	{"outcome", "ok, tool-error, error, refused, cancelled, timeout or unreachable"},
	{"rule", "only calls decided by the rule with this id"},
	{"text", "only calls with this text in tool, error, arguments or result"},
	{"since", "only calls from this time on (RFC 3339)"},
	{"until", "only calls before this time (RFC 3339)"},
}

func andCallFields(fields ...queryField) []queryField {
	return append(slices.Clone(callFields), fields...)
}

// callQuery reads the journal's filters.
func (c *call) callQuery() (journal.Query, error) {
	v := c.URL.Query()
	q := journal.Query{
		Agent: v.Get("agent"), Person: v.Get("person"), Server: v.Get("server"), Tool: v.Get("tool"), Decision: v.Get("decision"),
		Outcome: v.Get("outcome"),
		Rule:    v.Get("rule"), Text: v.Get("text"), Before: v.Get("before"), After: v.Get("after"),
	}
	if d := q.Decision; !slices.Contains([]string{"", team.DecisionAdmit, team.DecisionRefuse, "held"}, d) {
		return q, &team.FieldError{Field: "decision", Why: "must be admit, refuse or held"}
	}
	if q.Outcome != "" && !slices.Contains(team.Outcomes, q.Outcome) {
		return q, &team.FieldError{Field: "outcome", Why: "must be one of " + strings.Join(team.Outcomes, ", ")}
	}
	var err error
	q.Since, q.Until, err = reading.Between(c.Request)
	return q, err
}

func countCalls(c *call, svc *journal.Reader) (any, error) {
	q, err := c.callQuery()
	step, wrong := reading.Number(c.Request, "step", 3600, 1, 7*86400)
	if err = cmp.Or(err, wrong); err != nil {
		return nil, err
	}
	return svc.Counts(c.Context(), c.person, q, time.Duration(step)*time.Second)
}

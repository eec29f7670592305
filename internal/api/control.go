package api

import (
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/control/approval"
	"bouncer/internal/control/cost"
	"bouncer/internal/control/history"
	"bouncer/internal/control/labels"
	"bouncer/internal/control/notice"
	"bouncer/internal/control/policy"
	"bouncer/internal/control/rehearse"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

// explainRoutes are the rows of explanations.
func explainRoutes(svc *policy.Service) []route {
	return []route{
		{
			method: get, path: "/api/reach", id: "matrix", action: access.SeeAgents,
			summary: "The reach of every agent at a glance: a letter for each tool",
			out:     apitype.ReachMatrix{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Matrix(c.Context(), c.person) },
		},
		{
			method: post, path: "/api/explanations", id: "explain", action: access.SeeAgents,
			summary: "Whether an agent may use a tool, by which rule, and what would have to change",
			in:      apitype.ExplainQuery{}, out: apitype.Explained{}, status: 200,
			handle: with(func(c *call, in apitype.ExplainQuery) (any, error) { return svc.Explain(c.Context(), c.person, in) }),
		},
	}
}

// historyRoutes are the rows of what agents could use before.
func historyRoutes(svc *history.Service) []route {
	return []route{
		{
			method: get, path: "/api/agents/{name}/reach-changes", id: "reachChanges", action: access.SeeAgents,
			summary: "What an agent can use at one time and could not at another",
			query:   []queryField{{"since", "RFC 3339"}, {"until", "RFC 3339; now if left out"}},
			out:     apitype.ReachDifference{}, status: 200,
			handle: func(c *call) (any, error) {
				var times [2]time.Time
				for i, field := range [...]string{"since", "until"} {
					text := c.URL.Query().Get(field)
					if text == "" && field == "until" {
						continue
					}
					var err error
					if times[i], err = time.Parse(time.RFC3339, text); err != nil {
						return nil, &team.FieldError{Field: field, Why: "is no time; one looks like 2026-12-04T18:00:00Z"}
					}
				}
				return svc.Compare(c.Context(), c.person, c.name("name"), times[0], times[1])
			},
		},
	}
}

// costRoutes are the rows of what lists of tools take.
func costRoutes(svc *cost.Service) []route {
	return []route{
		{
			method: get, path: "/api/costs", id: "costs", action: access.SeeAgents,
			summary: "What each agent's list of tools takes of its model's context window",
			out:     []apitype.AgentCost{}, status: 200,
			handle: func(c *call) (any, error) { return svc.All(c.Context(), c.person) },
		},
		{
			method: get, path: "/api/agents/{name}/cost", id: "cost", action: access.SeeAgents,
			summary: "The same tool by tool, with what would make it less",
			out:     apitype.CostDetail{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Of(c.Context(), c.person, c.name("name")) },
		},
	}
}

// rehearsalRoutes are the rows of rehearsals.
func rehearsalRoutes(svc *rehearse.Service) []route {
	return []route{
		{
			method: post, path: "/api/rehearsals", id: "rehearse", action: access.KeepRules,
			summary: "What a change of the rules would make another decision; nothing is altered",
			in:      apitype.Rehearsal{}, out: apitype.Rehearsed{}, status: 200,
			handle: with(func(c *call, in apitype.Rehearsal) (any, error) { return svc.Run(c.Context(), c.person, in) }),
		},
	}
}

// labelRoutes are the rows of labels and bundles.
func labelRoutes(svc *labels.Service) []route {
	return []route{
		{
			method: get, path: "/api/labels", id: "listLabels", action: access.SeeRules,
			summary: "Labels of agents and servers, groups of people, and tags of tools",
			out:     []team.Label{}, status: 200,
			handle: func(c *call) (any, error) { return svc.List(c.Context()) },
		},
		{
			method: patch, path: "/api/labels", id: "alterLabels", action: access.KeepRules,
			summary: "Add and remove labels of one thing; they are in force at once",
			in:      apitype.LabelPatch{}, out: []team.Label{}, status: 200,
			handle: with(func(c *call, in apitype.LabelPatch) (any, error) { return svc.Alter(c.Context(), c.person, in) }),
		},
		{
			method: get, path: "/api/bundles", id: "listBundles", action: access.SeeRules,
			summary: "Bundles of tools, with what each stands for now",
			out:     []apitype.BundleInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Bundles(c.Context()) },
		},
		{
			method: post, path: "/api/bundles", id: "addBundle", action: access.KeepRules, summary: "Add a bundle of tools",
			in: apitype.NewBundle{}, out: apitype.BundleInfo{}, status: 201,
			handle: with(func(c *call, in apitype.NewBundle) (any, error) { return svc.AddBundle(c.Context(), c.person, in) }),
		},
		{
			method: get, path: "/api/bundles/{name}", id: "getBundle", action: access.SeeRules,
			summary: "One bundle, with what it stands for now",
			out:     apitype.BundleInfo{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Bundle(c.Context(), c.name("name")) },
		},
		{
			method: patch, path: "/api/bundles/{name}", id: "updateBundle", action: access.KeepRules,
			summary: "Alter a bundle; rules that name it are about its tools at once",
			in:      apitype.BundlePatch{}, out: apitype.BundleInfo{}, status: 200,
			handle: with(func(c *call, in apitype.BundlePatch) (any, error) {
				return svc.UpdateBundle(c.Context(), c.person, c.name("name"), in)
			}),
		},
		{
			method: del, path: "/api/bundles/{name}", id: "removeBundle", action: access.KeepRules,
			summary: "Remove a bundle that nothing names",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, svc.RemoveBundle(c.Context(), c.person, c.name("name")) },
		},
	}
}

// heldRoutes are the rows of held calls.
func heldRoutes(room *approval.Room, notices *notice.Sender) []route {
	return []route{
		{
			method: get, path: "/api/held", id: "listHeld", action: access.SeeHeld,
			summary: "Held calls: those that wait, the oldest first, then those that were decided, the newest first",
			query:   []queryField{{"waiting", "true for those that wait only"}},
			out:     []apitype.HeldCall{}, status: 200,
			handle: func(c *call) (any, error) {
				return room.List(c.Context(), c.person, c.URL.Query().Get("waiting") == "true")
			},
		},
		{
			method: get, path: "/api/notices", id: "noticeState", action: access.SeeService,
			summary: "How the sending of notices about held calls goes",
			out:     apitype.NoticeState{}, status: 200,
			handle: func(*call) (any, error) { return notices.State(), nil },
		},
		{
			method: post, path: "/api/notices/test", id: "testNotice", action: access.KeepRules,
			summary: "Send a notice for a trial, once",
			out:     apitype.NoticeState{}, status: 200,
			handle: func(c *call) (any, error) { return notices.Test(c.Context()) },
		},
		{
			method: get, path: "/api/held/{id}", id: "getHeld", action: access.SeeHeld,
			summary: "One held call, with past decisions on the like",
			out:     apitype.HeldCall{}, status: 200,
			handle: func(c *call) (any, error) { return room.Call(c.Context(), c.person, c.name("id")) },
		},
		{
			method: post, path: "/api/held/{id}/decision", id: "decideHeld", action: access.DecideHeld,
			summary: "Admit or refuse a held call",
			in:      apitype.HeldDecision{}, out: apitype.HeldCall{}, status: 200,
			handle: with(func(c *call, in apitype.HeldDecision) (any, error) {
				return room.Decide(c.Context(), c.person, c.name("id"), in)
			}),
		},
		{
			method: get, path: "/api/standing", id: "listStanding", action: access.SeeHeld,
			summary: "Decisions about held calls that admit more of the like",
			out:     []apitype.StandingDecision{}, status: 200,
			handle: func(c *call) (any, error) { return room.Standing(c.Context(), c.person) },
		},
		{
			method: del, path: "/api/standing/{id}", id: "takeBackStanding", action: access.DecideHeld,
			summary: "Take such a decision back; the next call of the like is held again",
			status:  204,
			handle:  func(c *call) (any, error) { return nil, room.TakeBack(c.Context(), c.person, c.name("id")) },
		},
	}
}

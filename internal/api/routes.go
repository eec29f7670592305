package api

import (
	"net/http"
	"slices"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/gate"
	"bouncer/internal/upkeep"
)

const get, post, put, patch, del = http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete

// table is every route, by noun.
func (a *API) table() []route {
	return slices.Concat(
		a.serviceRoutes(),
		sessionRoutes(a.s.Login),
		peopleRoutes(a.s.People, a.s.Login),
		invitationRoutes(a.s.Login),
		serverRoutes(a.s.Servers),
		serverActionRoutes(a.s.Servers, a.s.Imports),
		machineRoutes(a.s.Machines),
		adoptionRoutes(a.s.Takeover),
		agentRoutes(a.s.Agents, a.s.Policy),
		ruleRoutes(a.s.Policy),
		explainRoutes(a.s.Policy),
		rehearsalRoutes(a.s.Rehearse),
		historyRoutes(a.s.History),
		costRoutes(a.s.Costs),
		labelRoutes(a.s.Labels),
		heldRoutes(a.s.Held, a.s.Notices),
		budgetRoutes(a.s.Budgets),
		reviewRoutes(a.s.Reviews),
		checkupRoutes(a.s.Checkups),
		a.incidentRoutes(a.s.Incidents, a.s.Servers),
		whyRoutes(a.s.Why),
		tryRoutes(a.s.Tries, a.s.Examples),
		statsRoutes(a.s.Stats),
		a.tapeRoutes(a.s.Tapes),
		secretRoutes(a.s.Secrets),
		signInRoutes(a.s.SignIns),
		consentRoutes(a.s.AuthServer),
		journalRoutes(a.s.Journal), a.searchRoutes(a.s.Journal), mailRoutes(a.s.Mail),
		changeRoutes(a.s.Changes),
		rosterRoutes(a.s.Roster), nodeRoutes(a.s.Nodes),
	)
}

// serviceRoutes are the rows of the service as a whole.
func (a *API) serviceRoutes() []route {
	return []route{
		{
			method: get, path: "/api/openapi.json", id: "describe", summary: "This description, OpenAPI 3.1",
			public: true, out: map[string]any{}, status: 200,
			raw: a.serveDoc,
		},
		{
			method: get, path: "/api/about", id: "about", summary: "Version and address of the service",
			public: true, out: apitype.About{}, status: 200,
			handle: a.about,
		},
		{
			method: get, path: "/api/backup", id: "backup", action: access.Backup,
			summary: "A copy of the state as a database file; secrets stay sealed in it",
			status:  200, media: "application/vnd.sqlite3",
			raw: a.backup,
		},
		{
			method: get, path: "/api/copies", id: "listCopies", action: access.SeeService,
			summary: "The copies of the state that the service makes by itself",
			out:     upkeep.Copies{}, status: 200,
			handle: func(*call) (any, error) { return a.s.Copies.State() },
		},
		{
			method: post, path: "/api/copies", id: "makeCopy", action: access.Backup,
			summary: "Make such a copy now",
			out:     upkeep.Copies{}, status: 201,
			handle: func(c *call) (any, error) { return a.s.Copies.MakeNow(c.Context()) },
		},
		{
			method: get, path: "/api/turned-away", id: "listTurnedAway", action: access.SeeService,
			summary: "Who came to the agents' addresses without a valid pass since the start, the latest first",
			out:     []team.TurnedAway{}, status: 200,
			handle: func(*call) (any, error) { return a.s.TurnedAway(), nil },
		},
		{
			method: get, path: "/api/limits", id: "listLimits", action: access.SeeService,
			summary: "How much is in use of everything that is bounded",
			out:     []gate.Usage{}, status: 200,
			handle: func(*call) (any, error) { return a.s.Usage(), nil },
		},
		{
			method: get, path: "/api/events", id: "events", action: access.SeeServers,
			summary: "What happens, as it happens (server-sent events: changed, calls)",
			status:  200, media: "text/event-stream",
			raw: a.events,
		},
	}
}

func (a *API) about(*call) (any, error) {
	mode := "normal"
	if a.o.Strict {
		mode = "strict"
	}
	return apitype.About{
		Version: a.o.Version, Address: a.o.Address, Redirect: a.o.Address + apitype.CallbackPath,
		Journal: mode, Provider: a.s.Login.ProviderName(),
	}, nil
}

package api

import (
	"net/http"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/feed"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/incident"
	"bouncer/internal/servers"
)

// boardSince is how far back the board of servers looks, unless it is asked otherwise.
const boardSince = 24 * time.Hour

// incidentRoutes are the rows of incidents, and of how servers did.
func (a *API) incidentRoutes(svc *incident.Service, s *servers.Service) []route {
	return []route{
		{
			method: get, path: "/api/incidents", id: "listIncidents", action: access.SeeServers,
			summary: "What goes wrong, or went wrong: those that last first, then the newest",
			out:     []team.Incident{}, status: 200,
			handle: func(c *call) (any, error) { return svc.List(c.Context(), c.person) },
		},
		{
			method: get, path: "/api/incidents/feed", id: "feedIncidents", action: access.SeeServers,
			summary: "The same as a feed (Atom, RFC 4287)", status: 200, media: feed.Media,
			raw: func(w http.ResponseWriter, c *call) {
				raw, err := svc.Feed(c.Context(), c.person, a.o.Address)
				if err != nil {
					a.problem(w, a.explain(c, err))
					return
				}
				w.Header().Set("Content-Type", feed.Media)
				_, _ = w.Write(raw) // the reader may have gone
			},
		},
		{
			method: get, path: "/api/incidents/{id}", id: "getIncident", action: access.SeeServers,
			summary: "One incident, with whom it affects and what changed before it",
			out:     apitype.IncidentDetail{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Get(c.Context(), c.person, c.name("id")) },
		},
		{
			method: post, path: "/api/incidents/{id}/notes", id: "noteIncident", action: access.KeepServers,
			summary: "Note something about an incident",
			in:      apitype.NewNote{}, out: team.Incident{}, status: 200,
			handle: with(func(c *call, in apitype.NewNote) (any, error) {
				return svc.Note(c.Context(), c.person, c.name("id"), in)
			}),
		},
		{
			method: get, path: "/api/health", id: "getHealth", action: access.SeeServers,
			summary: "How every server did, for the last day or since the time given",
			query:   []queryField{{"since", "a time, or a length of time before now, like 2h"}},
			out:     []apitype.ServerHistory{}, status: 200,
			handle: func(c *call) (any, error) {
				since := time.Now().Add(-boardSince)
				if text := c.URL.Query().Get("since"); text != "" {
					at, err := span.Past(text, time.Now())
					if err != nil {
						return nil, &team.FieldError{Field: "since", Why: err.Error()}
					}
					since = at
				}
				return svc.Board(c.Context(), since, s.Health)
			},
		},
	}
}

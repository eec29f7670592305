package api

import (
	"context"
	"net/http"
	"slices"
	"strconv"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/tape"
)

// tapeRoutes are the rows of the flight recorder and its tapes.
func (a *API) tapeRoutes(svc *tape.Service) []route {
	return slices.Concat([]route{
		heard("/api/servers/{name}/heard", "heard", svc.Live,
			"What the flight recorder has of a server: the last messages, heads of answers, words and states"),
		heard("/api/agents/{name}/heard", "heardOfAgent", svc.LiveAgent,
			"What the flight recorder has of an agent: its last requests, what it was answered, and when it was turned away"),
	}, a.keptTapeRoutes(svc), a.tapeUseRoutes(svc))
}

// heard is the row of what the flight recorder has of one server or agent.
func heard(path, id string, live func(context.Context, string, uint64) ([]apitype.TapeEntry, error), summary string) route {
	return route{
		method: get, path: path, id: id, action: access.KeepServers, summary: summary,
		query: []queryField{{"after", "only entries after the one with this number"}},
		out:   []apitype.TapeEntry{}, status: 200,
		handle: func(c *call) (any, error) {
			from, err := afterOf(c)
			if err != nil {
				return nil, err
			}
			return live(c.Context(), c.name("name"), from)
		},
	}
}

// keptTapeRoutes are the rows of tapes as things that are kept.
func (a *API) keptTapeRoutes(svc *tape.Service) []route {
	return []route{
		{
			method: get, path: "/api/tapes", id: "listTapes", action: access.KeepServers,
			summary: "The tapes that are kept, the newest first",
			query:   []queryField{{"server", "only of this server"}, {"agent", "only of this agent"}},
			out:     []apitype.TapeInfo{}, status: 200,
			handle: func(c *call) (any, error) {
				q := c.URL.Query()
				return svc.List(q.Get("server"), q.Get("agent"))
			},
		},
		{
			method: post, path: "/api/tapes", id: "keepTape", action: access.KeepServers,
			summary: "Keep what the flight recorder has of a server, or of an agent, as a tape",
			in:      apitype.KeepTape{}, out: apitype.TapeInfo{}, status: 201,
			handle: with(func(c *call, in apitype.KeepTape) (any, error) { return svc.Keep(c.Context(), c.person, in) }),
		},
		{
			method: post, path: "/api/tapes/imports", id: "importTape", action: access.KeepServers,
			summary: "Take a tape of another machine",
			in:      apitype.ImportTape{}, out: apitype.TapeInfo{}, status: 201,
			handle: with(func(c *call, in apitype.ImportTape) (any, error) { return svc.Import(c.person, in) }),
		},
		{
			method: get, path: "/api/tapes/{id}", id: "getTape", action: access.KeepServers, summary: "A tape in full",
			out: apitype.Tape{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Get(c.name("id")) },
		},
		{
			method: del, path: "/api/tapes/{id}", id: "removeTape", action: access.KeepServers, summary: "Remove a tape", status: 204,
			handle: func(c *call) (any, error) { return nil, svc.Remove(c.name("id")) },
		},
	}
}

// tapeUseRoutes are the rows of what tapes are for.
func (a *API) tapeUseRoutes(svc *tape.Service) []route {
	return []route{
		{
			method: get, path: "/api/tapes/{id}/export", id: "exportTape", action: access.KeepServers,
			summary: "A tape in an open format: JSON by lines, or an HTTP archive (HAR 1.2)",
			query:   []queryField{{"form", "jsonl or har; jsonl if left out"}},
			status:  200, media: "application/jsonl",
			raw: func(w http.ResponseWriter, c *call) {
				raw, media, err := svc.Export(c.name("id"), c.URL.Query().Get("form"))
				if err != nil {
					a.problem(w, a.explain(c, err))
					return
				}
				w.Header().Set("Content-Type", media)
				_, _ = w.Write(raw) // the reader may have gone
			},
		},
		{
			method: post, path: "/api/tapes/{id}/replay", id: "replayTape", action: access.KeepServers,
			summary: "Send the requests of a tape again, to the server or as the agent, and compare the answers",
			in:      apitype.ReplayTape{}, out: apitype.Replayed{}, status: 200,
			handle: with(func(c *call, in apitype.ReplayTape) (any, error) {
				return svc.Replay(c.Context(), c.person, c.name("id"), in)
			}),
		},
		{
			method: get, path: "/api/tapes/{id}/differences/{other}", id: "compareTapes", action: access.KeepServers,
			summary: "Compare two tapes by the answers to the requests that both have",
			out:     apitype.Replayed{}, status: 200,
			handle: func(c *call) (any, error) { return svc.Compare(c.name("id"), c.name("other")) },
		},
	}
}

// afterOf is the number of the first entry that is asked for.
func afterOf(c *call) (uint64, error) {
	text := c.URL.Query().Get("after")
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		return 0, &team.FieldError{Field: "after", Why: "must be a number"}
	}
	return n + 1, nil
}

package policy

import (
	"context"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/snapshot"
)

// The letters of a cell: what a call of one agent would meet.
var cellOf = map[string]byte{
	"answer": 'a', "held": 'h', "refused": 'r', "paused": 'p', "no-credential": 'c', "unreachable": 'u',
	"spent": 's',
}

// Matrix returns the reach of every agent that somebody may see, at a glance.
func (svc *Service) Matrix(ctx context.Context, by team.Person) (apitype.ReachMatrix, error) {
	agents, err := svc.agents.Agents(ctx, by)
	if err != nil {
		return apitype.ReachMatrix{}, err
	}
	now := svc.registry.Current()
	out := apitype.ReachMatrix{Agents: []apitype.ReachRow{}, Servers: []apitype.ReachColumn{}}
	for _, s := range now.Sorted() {
		out.Servers = append(out.Servers, columnOf(s))
	}
	for _, a := range agents {
		known := now.Agents[a.ID]
		if known == nil {
			continue // it was added or removed at this moment
		}
		row := apitype.ReachRow{Name: a.Name, Owner: a.Owner, Labels: known.Labels, Cells: []string{}}
		how := svc.coming(known)
		for i, s := range now.Sorted() {
			s = s.For(known)
			cells := map[string]byte{}
			for j, t := range now.Targets(known, how, s, tools.Tools) {
				r := svc.reached(known, s, s.Offer.Lists[tools.Tools][j], t)
				cell := cellOf[r.Next]
				if cell == 'a' && (r.Depends || len(r.Narrowed) > 0) {
					cell = 'n'
				}
				cells[r.Tool] = cell
			}
			var line strings.Builder
			for _, t := range out.Servers[i].Tools {
				cell, has := cells[t.Name]
				if !has {
					cell = '-' // its credential lists another set of tools
				}
				line.WriteByte(cell)
			}
			row.Cells = append(row.Cells, line.String())
		}
		out.Agents = append(out.Agents, row)
	}
	return out, nil
}

// columnOf are the tools that a server offers to anybody.
func columnOf(s *snapshot.Server) apitype.ReachColumn {
	c := apitype.ReachColumn{Server: s.Name, Labels: s.Labels, Tools: []apitype.ReachTool{}}
	seen := map[string]bool{}
	take := func(s *snapshot.Server) {
		for _, t := range s.Offer.Lists[tools.Tools] {
			if seen[t.Name] {
				continue
			}
			seen[t.Name] = true
			o := s.Object(tools.Tools, t)
			c.Tools = append(c.Tools, apitype.ReachTool{Name: t.Name, Title: t.Summary().Title, Destructive: o.Is("destructive")})
		}
	}
	take(s)
	for _, own := range s.ByAgent {
		take(own)
	}
	return c
}

package registry

import (
	"maps"
	"time"

	"bouncer/internal/core/review"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/link"
	"bouncer/internal/snapshot"
)

// words are the labels of everything, by its id.
type words struct {
	agents, servers, people map[string][]string
	tools                   map[string]map[string][]string // by the server's id and the tool's name
}

func sortLabels(list []team.Label) words {
	w := words{map[string][]string{}, map[string][]string{}, map[string][]string{}, map[string]map[string][]string{}}
	for _, l := range list {
		switch l.Kind {
		case team.OnAgent:
			w.agents[l.Subject] = append(w.agents[l.Subject], l.Label)
		case team.OnServer:
			w.servers[l.Subject] = append(w.servers[l.Subject], l.Label)
		case team.OnPerson:
			w.people[l.Subject] = append(w.people[l.Subject], l.Label)
		case team.OnTool:
			if w.tools[l.Subject] == nil {
				w.tools[l.Subject] = map[string][]string{}
			}
			w.tools[l.Subject][l.Tool] = append(w.tools[l.Subject][l.Tool], l.Label)
		}
	}
	return w
}

// agent is an agent with what rules hold it against.
func (w words) agent(a team.Agent, owner team.Person) *snapshot.Agent {
	return &snapshot.Agent{
		ID: a.ID, Name: a.Name, Owner: a.Owner, Paused: a.Paused, Confirmed: a.Confirmed, Labels: w.agents[a.ID], Finder: a.Finder,
		OwnerID: owner.ID, FullName: owner.FullName, Role: string(owner.Role), Groups: w.people[owner.ID],
	}
}

func bundlesOf(rows rows) rules.Bundles {
	out := rules.Bundles{}
	for _, b := range rows.bundles {
		out[b.Name] = b.Entries
	}
	return out
}

// reviewed is what a server offers without what nobody has looked at. What it says of
// itself is read by models too, and nobody looks at that.
func reviewed(o link.Offer, accepted map[string]tools.Tool) link.Offer {
	lists := maps.Clone(o.Lists)
	lists[tools.Tools] = review.Shown(o.Lists[tools.Tools], accepted)
	o.Lists, o.Instructions = lists, ""
	return o
}

// ruleSet compiles the rules as they are in force now, and has the next publication
// begin when that changes by itself.
func (r *Registry) ruleSet(rows rows, people map[string]team.Person) *rules.Set {
	list := make([]rules.Rule, 0, len(rows.rules))
	for _, rule := range rows.rules {
		list = append(list, rule.Core(people[rule.By].FullName))
	}
	now := r.o.Now()
	set := rules.Compile(list, now, bundlesOf(rows))
	r.turn.Stop()
	if at := set.Turns(); !at.IsZero() {
		// A little later, so that it has turned by any clock.
		r.turn.Reset(max(at.Sub(now), 0) + 10*time.Millisecond)
	}
	return set
}

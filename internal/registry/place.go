package registry

import (
	"context"
	"fmt"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/credential"
	"bouncer/internal/link"
	"bouncer/internal/snapshot"
	"bouncer/internal/upstream"
)

// wanted returns the connections that servers and those who hold credentials for
// them need, and the holders for each server's id.
func (r *Registry) wanted(
	ctx context.Context,
	rows rows,
	view *credential.View,
) (list []upstream.Wanted, holders map[string][]team.Holder) {
	holders = map[string][]team.Holder{}
	processes := newShares(rows)
	for _, s := range rows.servers {
		if r.paused(s) {
			continue
		}
		for _, h := range view.Holders(s, rows.people) {
			if s.Transport == team.Stdio && !processes.take(h) {
				continue
			}
			c, err := view.For(s, h)
			if err != nil {
				r.o.Log.Error("a server cannot be given its credential", "server", s.Name, "error", err)
				c = view.Broken(s, err)
			}
			holders[s.ID] = append(holders[s.ID], h)
			list = append(
				list,
				upstream.Wanted{Server: s, Holder: h, Credential: c, Recorded: func() []tools.Tool { return r.recorded(ctx, s) }},
			)
		}
	}
	return list, holders
}

// maxOwnProcesses bounds the processes that are kept because somebody has a
// credential of their own at a local server: for one person, with all their agents,
// or one agent of the team's.
const maxOwnProcesses = 8

// shares counts the processes of each person.
type shares struct {
	owner map[string]string // of an agent, by its id; "" for the team's
	taken map[string]int
}

func newShares(rows rows) *shares {
	s := &shares{owner: map[string]string{}, taken: map[string]int{}}
	ids := map[string]string{}
	for _, p := range rows.people {
		ids[p.Name] = p.ID
	}
	for _, a := range rows.agents {
		s.owner[a.ID] = ids[a.Owner]
	}
	return s
}

// take counts a process of a holder; false when there are as many as may be.
func (s *shares) take(h team.Holder) bool {
	who := h.Person
	if h.Agent != "" {
		if who = s.owner[h.Agent]; who == "" {
			who = h.Agent
		}
	}
	if who == "" {
		return true // the team's own
	}
	s.taken[who]++
	return s.taken[who] <= maxOwnProcesses
}

// paused reports whether a server is out of force.
func (r *Registry) paused(s team.Server) bool {
	return s.Paused || (s.Transport == team.Stdio && r.o.NoProcesses)
}

// recorded is the tool list that a server had last.
func (r *Registry) recorded(ctx context.Context, s team.Server) []tools.Tool {
	list, err := r.o.Store.Edition(ctx, s.ID)
	if err != nil {
		// Only the explanation of a refusal suffers.
		r.o.Log.Error("a recorded tool list cannot be read", "server", s.Name, "error", err)
	}
	return list
}

// build builds the snapshot.
func (r *Registry) build(ctx context.Context, rows rows, holders map[string][]team.Holder) *snapshot.Snapshot {
	s := snapshot.New()
	s.Contacts = contacts(rows.people)
	people := map[string]team.Person{}
	for _, p := range rows.people {
		people[p.Name] = p
	}
	words := sortLabels(rows.labels)
	for _, a := range rows.agents {
		s.Agents[a.ID] = words.agent(a, people[a.Owner])
	}
	ids := make([]string, 0, len(rows.passes))
	for _, p := range rows.passes {
		ids = append(ids, p.ID)
	}
	used := r.usage.keep(ids)
	for _, p := range rows.passes {
		id := p.ID
		if p.Consent != "" {
			id = p.Consent
		}
		s.Passes[p.Hash] = &snapshot.Pass{
			ID: id, Renews: p.Kind == team.PassToken, AgentID: p.AgentID, Expires: p.Expires, Audience: p.Audience, Meter: used[p.ID],
			InAddress: p.Kind == team.PassInAddress,
			Revoked:   p.Revoked != nil || (p.Kind == team.PassInAddress && !r.o.AddressPasses), // the setting may have been taken back
		}
	}
	s.Rules, s.Shapes, s.Bundles = r.ruleSet(rows, people), &r.shapes, bundlesOf(rows)
	for _, b := range rows.budgets {
		core := b.Core()
		s.Budgets = append(s.Budgets, &core)
	}
	given := map[string]bool{}
	for _, own := range rows.own {
		given[own.ServerID+"/"+own.Holder.Key()] = true
	}
	for _, server := range rows.servers {
		placed := r.serverFor(ctx, server, holders[server.ID], rows.agents, people, given)
		settle := func(v *snapshot.Server) {
			v.Limits, v.Tools = server.CallLimits, server.ToolLimits
			v.Labels, v.Tags = words.servers[server.ID], words.tools[server.ID]
			if rows.reviews.Modes[server.ID] != "" {
				v.Offer = reviewed(v.Offer, rows.reviews.Accepted[server.ID])
			}
		}
		settle(placed)
		for _, own := range placed.ByAgent {
			settle(own)
		}
		s.Servers[server.Name] = placed
	}
	return s
}

// serverFor is a server as the relay has it: with the connection of each agent.
func (r *Registry) serverFor(
	ctx context.Context,
	s team.Server,
	holders []team.Holder,
	agents []team.Agent,
	people map[string]team.Person,
	given map[string]bool,
) *snapshot.Server {
	var some *snapshot.Server
	byHolder := map[team.Holder]*snapshot.Server{}
	for _, h := range holders {
		key := upstream.Key{Server: s.ID, Holder: h}
		c := r.o.Pool.Get(key)
		if c == nil {
			continue
		}
		st := c.Status()
		v := &snapshot.Server{ID: key.String(), Name: s.Name, Connection: c, Offer: st.Offer}
		byHolder[h] = v
		if some == nil || (some.Connection.Status().State != team.StateReady && st.State == team.StateReady) {
			some = v
		}
	}
	ofTeam := s.Per == "" || s.Per == team.PerTeam
	base := &snapshot.Server{ID: s.ID, Name: s.Name, Paused: r.paused(s) || (some == nil && s.SignIn == nil && ofTeam)}
	if v := byHolder[team.Holder{}]; v != nil && len(byHolder) == 1 {
		base = v
	}
	if some != nil {
		base.Offer = some.Offer
	} else {
		base.Offer = link.Offer{Lists: map[tools.Kind][]tools.Tool{tools.Tools: r.recorded(ctx, s)}}
	}
	if base.Paused || (base.Connection != nil && len(byHolder) == 1 && ofTeam && !denied(s, byHolder, given)) {
		return base
	}
	base.ByAgent = map[string]*snapshot.Server{}
	lacking := map[string]*snapshot.Server{} // by what is missing, shared by the agents concerned
	for _, a := range agents {
		var own *snapshot.Server
		for _, h := range candidates(s, a, people) {
			if own = byHolder[h]; own != nil {
				break
			}
			if given[rowOf(s, h)] {
				// It has a credential of its own, which is not kept in use; another one
				// must not be used instead.
				own = &snapshot.Server{ID: s.ID + "/full", Name: s.Name, Offer: base.Offer, Missing: tooManyProcesses()}
				break
			}
		}
		if own == nil {
			m := r.missingCredential(s, a, people)
			if own = lacking[m.Text]; own == nil {
				own = &snapshot.Server{ID: s.ID + "/none", Name: s.Name, Offer: base.Offer, Missing: &m}
				lacking[m.Text] = own
			}
		}
		if own != base {
			base.ByAgent[a.ID] = own
		}
	}
	return base
}

func rowOf(s team.Server, h team.Holder) string { return s.ID + "/" + h.Key() }

// denied reports whether somebody has a credential of their own at a server that is
// not in use.
func denied(s team.Server, byHolder map[team.Holder]*snapshot.Server, given map[string]bool) bool {
	for key := range given {
		id, holder, _ := strings.Cut(key, "/")
		if id == s.ID && byHolder[team.ReadHolder(holder)] == nil {
			return true
		}
	}
	return false
}

// tooManyProcesses says why an own credential is not in use.
func tooManyProcesses() *snapshot.MissingCredential {
	return &snapshot.MissingCredential{
		Cause: string(diagnosis.TooManyProcesses),
		Text: fmt.Sprintf("its own credential needs a process of its own, and no more than %d are kept for one person; "+
			"give up some (bouncer secret disown)", maxOwnProcesses),
	}
}

// candidates are the holders whose connection an agent may use, the most specific
// first.
func candidates(s team.Server, a team.Agent, people map[string]team.Person) []team.Holder {
	out := []team.Holder{{Agent: a.ID}}
	if p, ok := people[a.Owner]; ok && s.Per != team.PerAgent {
		out = append(out, team.Holder{Person: p.ID})
	}
	if s.Per == "" || s.Per == team.PerTeam || team.OfBouncer(s.SignIn) {
		out = append(out, team.Holder{})
	}
	return out
}

// missingCredential says what an agent lacks for a server, and where it is
// supplied.
func (r *Registry) missingCredential(s team.Server, a team.Agent, people map[string]team.Person) snapshot.MissingCredential {
	m := snapshot.MissingCredential{Cause: string(diagnosis.NoCredential)}
	what := "no token is stored"
	if s.SignIn != nil {
		m.Cause, what = string(diagnosis.SignInNeeded), "nobody has signed in"
	}
	owner, owned := people[a.Owner]
	connect := func(h team.Holder) string { return apitype.ConnectLink(r.o.Address, s.Name, h, a.Name) }
	switch {
	case s.SignIn != nil && s.SignIn.Grant == team.GrantAssertion && owned:
		m.Text = owner.FullName + " has to sign in to Bouncer through the identity provider, which then vouches for them here"
		m.Link = r.o.Address + "/sign-in"
	case s.Per == team.PerAgent, s.Per == team.PerPerson && !owned:
		m.Text = fmt.Sprintf("%s for agent %s, which has to have its own", what, a.Name)
		m.Link = connect(team.Holder{Agent: a.ID})
	case s.Per == team.PerPerson && s.SignIn != nil:
		m.Text = owner.FullName + " has not signed in to it yet, and everybody uses their own sign-in"
		m.Link = connect(team.Holder{Person: owner.ID})
	case s.Per == team.PerPerson:
		m.Text = owner.FullName + " has stored no token for it yet, and everybody uses their own"
		m.Link = connect(team.Holder{Person: owner.ID})
	default:
		m.Text = what + " for the team yet; an admin or a maintainer can"
		m.Link = connect(team.Holder{})
	}
	return m
}

// contacts names the people who can change what is admitted.
func contacts(people []team.Person) string {
	var names []string
	for _, role := range []team.Role{team.Admin, team.Maintainer} {
		for _, p := range people {
			if p.Role == role && len(names) < 3 {
				names = append(names, p.FullName)
			}
		}
	}
	if len(names) == 0 {
		return "whoever runs Bouncer"
	}
	return strings.Join(names, " or ")
}

// Package snapshot is what is in force, as one immutable value: for each agent its
// reach and the connection that each tool is called over, and the answers to lists,
// made once. The write side builds it, the hot path reads it, and neither knows the
// other.
package snapshot

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"bouncer/internal/core/budget"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/uri"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/upstream"
)

// Snapshot is everything the gateway decides by, as one immutable state. A new one
// is built on every change and swapped in; nobody alters one in place.
type Snapshot struct {
	Passes  map[[32]byte]*Pass // by the hash of the token
	Agents  map[string]*Agent  // by id
	Servers map[string]*Server // by name
	Rules   *rules.Set
	Bundles rules.Bundles
	Budgets []*budget.Budget
	// Contacts names whom to ask about what is not admitted.
	Contacts string

	// Shapes remembers what schemas come to, from one snapshot to the next.
	Shapes *rules.Memo

	mu     sync.Mutex        // guards what follows; held over no computing
	bounds map[string]*bound // by agent id, built when first needed
	// exposed holds everything named by its name on /mcp, built when first needed.
	exposed map[tools.Kind]map[string]Target
}

// New returns an empty snapshot, in which nobody is known.
func New() *Snapshot {
	return &Snapshot{
		Passes: map[[32]byte]*Pass{}, Agents: map[string]*Agent{}, Servers: map[string]*Server{}, Rules: rules.Compile(nil, time.Time{}, nil),
	}
}

// Pass is a valid or once valid pass.
type Pass struct {
	ID      string
	AgentID string
	Expires time.Time
	Revoked bool
	// Renews is set for the access token of a program. All tokens of one consent
	// have the same ID.
	Renews bool
	// InAddress is set for a pass that is part of an address; it opens nothing else.
	InAddress bool
	// Audience is the address below the service that the pass opens, with all that
	// is below it; "" for all.
	Audience string
	// Meter counts the requests with the pass. It is shared by all snapshots that know
	// the pass.
	Meter *Meter
}

// Meter counts the requests with one pass. It is safe for concurrent use.
type Meter struct {
	used  atomic.Int64  // when the pass was last shown, in milliseconds since 1970
	rate  *rate.Limiter // nil for without a limit
	over  atomic.Int64  // requests that were too many, since that was told
	tells atomic.Int64  // when that was told, in seconds since 1970
}

// NewMeter returns a meter that lets so many requests a second in; 0 for without a
// limit.
func NewMeter(perSecond int) *Meter {
	if perSecond <= 0 {
		return &Meter{}
	}
	return &Meter{rate: rate.NewLimiter(rate.Limit(perSecond), 2*perSecond)}
}

// Used is when the pass was last shown, in milliseconds since 1970.
func (m *Meter) Used() int64 { return m.used.Load() }

// Let notes a request and reports whether it is let in. When it is not, tell is how
// many were too many since that was told last, once a second; else 0.
func (m *Meter) Let(now time.Time) (ok bool, tell int64) {
	m.used.Store(now.UnixMilli())
	if m.rate == nil || m.rate.AllowN(now, 1) {
		return true, 0
	}
	m.over.Add(1)
	last := m.tells.Load()
	if now.Unix() == last || !m.tells.CompareAndSwap(last, now.Unix()) {
		return false, 0
	}
	return false, m.over.Swap(0)
}

// Opens reports whether the pass is for an address: "" for all servers, or the
// name of one. A pass for all opens each of them.
func (p *Pass) Opens(scope string) bool {
	return p.Audience == "" || p.Audience == "/mcp" || p.Audience == "/mcp/"+scope
}

// Agent is who a pass belongs to.
type Agent struct {
	ID     string
	Name   string
	Owner  string // name of the person, or "" for the team
	Paused bool
	// OwnerID, FullName, Role and Groups are those of the person; empty for the team.
	OwnerID, FullName, Role string
	Groups                  []string
	Labels                  []string
	// Confirmed is set when somebody who may make rules stands for the name.
	Confirmed bool
	// Finder is set for an agent that searches its tools instead of having them listed.
	Finder bool
}

// Subject is the agent as rules are held against it.
func (a *Agent) Subject() rules.Subject {
	return rules.Subject{
		ID: a.ID, Name: a.Name, Confirmed: a.Confirmed, Owner: a.Owner, OwnerID: a.OwnerID, FullName: a.FullName, Role: a.Role,
		Groups: a.Groups, Labels: a.Labels,
	}
}

// Server is a server with the way to it.
type Server struct {
	ID     string
	Name   string
	Paused bool
	// Limits are those of its calls, and Tools those of some of its tools.
	Limits team.CallLimits
	Tools  []team.ToolLimits
	// Labels are those of the server, and Tags those of its tools, by the name that rules
	// know them by.
	Labels []string
	Tags   map[string][]string
	Offer  link.Offer
	// Connection is nil for a paused server, and for one that Missing tells about.
	Connection *upstream.Connection
	// Missing is set when the agents concerned have no credential for it.
	Missing *MissingCredential
	// ByAgent is the server as an agent has it whose credential is another one, by the
	// agent's id.
	ByAgent map[string]*Server

	described sync.Once
	objects   map[tools.Kind][]rules.Object
}

// MissingCredential says which credential is missing and where it is supplied.
type MissingCredential struct {
	Cause string
	Text  string
	Link  string // "" when there is no such address
}

// LimitsOf are the limits for calls of a tool.
func (s *Server) LimitsOf(tool string) team.CallLimits {
	for _, l := range s.Tools {
		if rules.Match(l.Tool, tool) {
			return l.CallLimits
		}
	}
	return s.Limits
}

// For returns the server as one agent has it.
func (s *Server) For(a *Agent) *Server {
	if own := s.ByAgent[a.ID]; own != nil {
		return own
	}
	return s
}

// lists reports whether the server lists a resource, or a template, in just this
// spelling.
func (s *Server) lists(own string) bool {
	for _, kind := range [...]tools.Kind{tools.Resources, tools.Templates} {
		if slices.ContainsFunc(s.Offer.Lists[kind], func(t tools.Tool) bool { return t.Name == own }) {
			return true
		}
	}
	return false
}

// Target is one tool, prompt or resource as one agent can reach it.
type Target struct {
	Server   *Server
	Tool     tools.Tool
	Exposed  string // name on /mcp
	Decision rules.Decision
	Mirrors  []wire.Mirror // arguments of a tool that are mirrored into headers
	// Shape is what rules have to say of calls and of how the tool is shown; nil for
	// nothing.
	Shape *rules.Shape
	// Budgets are those that calls count against.
	Budgets []*budget.Budget
	// Unfit is set for a tool to which the rules cannot be applied.
	Unfit error
}

// Admitted reports whether the target is within reach.
func (t *Target) Admitted() bool { return t.Decision.Admitted() && t.Unfit == nil }

// Reason says in one clause why the target is within reach, or is not.
func (t *Target) Reason() string {
	if t.Unfit != nil && t.Decision.Admitted() {
		return t.Unfit.Error()
	}
	return t.Decision.Reason()
}

// Sorted returns the servers by name.
func (w *Snapshot) Sorted() []*Server {
	out := make([]*Server, 0, len(w.Servers))
	for _, s := range w.Servers {
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// Resource finds the resource of that URI, or the template, at the address. It
// need not be listed: servers have resources that they do not list. The error
// text is empty when there is no such server.
func (w *Snapshot) Resource(a *Agent, how rules.Circumstances, sh *Catalog, asked string) (*Target, string) {
	s, own := sh.one, asked
	if s == nil {
		name, rest, ok := tools.ReadURI(asked)
		if s = w.Servers[name]; !ok || s == nil {
			return nil, "there is no resource " + strconv.Quote(Clip(asked)) + " here; resources/list has those within reach"
		}
		s, own = s.For(a), rest
	}
	// What is decided is one spelling of it, and that spelling is what is asked for.
	normal, err := uri.Normal(own)
	if err != nil {
		return nil, "the resource " + strconv.Quote(Clip(own)) + " cannot be asked for: " + err.Error()
	}
	if normal != own && !s.lists(own) {
		own = normal
	}
	if g := s.Offer.Greeting; !g.Resources && (g.Tools || g.Prompts || g.Revision != "") {
		return nil, "server " + s.Name + " has no resources"
	}
	t := w.Decide(a, how, s, tools.Resources, tools.Tool{Name: own})
	t.Exposed = asked
	switch {
	case !t.Admitted():
		return t, fmt.Sprintf(
			"resource %s of server %s is not within the reach of agent %s: %s; ask %s",
			Clip(own),
			s.Name,
			a.Name,
			t.Reason(),
			w.Contacts,
		)
	case s.Paused:
		return t, fmt.Sprintf("server %s is paused; ask %s", s.Name, w.Contacts)
	}
	return t, ""
}

// Refusal explains why the agent has no tool or prompt of that name at the
// address. The target is set when such a thing exists.
func (w *Snapshot) Refusal(a *Agent, how rules.Circumstances, kind tools.Kind, scope, name string) (t *Target, why string) {
	word := strings.TrimSuffix(string(kind), "s")
	t = w.find(kind, scope, name)
	if t == nil {
		return nil, fmt.Sprintf(
			"there is no %s %q here; %s has those within the reach of agent %s",
			word,
			Clip(name),
			kind.Method(),
			a.Name,
		)
	}
	exposed := t.Exposed
	t = w.Decide(a, how, t.Server, kind, t.Tool)
	t.Exposed = exposed
	if t.Admitted() {
		return t, fmt.Sprintf("server %s is paused; ask %s", t.Server.Name, w.Contacts)
	}
	return t, fmt.Sprintf(
		"%s %s of server %s is not within the reach of agent %s: %s; ask %s",
		word,
		t.Tool.Name,
		t.Server.Name,
		a.Name,
		t.Reason(),
		w.Contacts,
	)
}

// find returns the tool or prompt of that name at the address, within reach or
// not.
func (w *Snapshot) find(kind tools.Kind, scope, name string) *Target {
	if scope != "" {
		s := w.Servers[scope]
		for _, t := range s.Offer.Lists[kind] {
			if t.Name == name {
				return &Target{Server: s, Tool: t}
			}
		}
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.exposed == nil {
		w.exposed = map[tools.Kind]map[string]Target{tools.Tools: {}, tools.Prompts: {}}
		for _, s := range w.Servers {
			for k, names := range w.exposed {
				for _, t := range s.Offer.Lists[k] {
					e := s.Exposes(k, t.Name)
					names[e] = Target{Server: s, Tool: t, Exposed: e}
				}
			}
		}
	}
	if t, ok := w.exposed[kind][name]; ok {
		return &t
	}
	// By the server's own name, where only one has it.
	var only *Target
	for _, t := range w.exposed[kind] {
		if t.Tool.Name == name || t.Server.Name+"__"+t.Tool.Name == name {
			if only != nil {
				return nil
			}
			only = &t
		}
	}
	return only
}

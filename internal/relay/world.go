package relay

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"sort"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
	"bouncer/internal/link"
)

// World is everything the door decides by, as one immutable state. A new one
// is built on every change and swapped in; nobody alters one in place.
type World struct {
	Passes  map[[32]byte]*Pass // by the hash of the token
	Agents  map[string]*Agent  // by id
	Servers map[string]*Server // by name
	Rules   *rules.Set
	// Ask names whom to ask about what is not admitted.
	Ask string

	mu    sync.Mutex
	views map[string]*View // by agent id, built when first needed
	// exposed holds every tool by its name on /mcp, built when first needed.
	exposed map[string]Target
}

// Pass is a valid or once valid pass.
type Pass struct {
	ID      string
	AgentID string
	Expires time.Time
	Revoked bool
	// Used is when the pass was last shown, in milliseconds since 1970. It is
	// shared by all worlds that know the pass.
	Used *atomic.Int64
}

// Agent is who a pass belongs to.
type Agent struct {
	ID     string
	Name   string
	Owner  string // name of the person, or "" for the team
	Paused bool
}

// Server is a server with the way to it.
type Server struct {
	Name   string
	Paused bool
	Tools  []tools.Tool
	// Keeper is nil for a paused server.
	Keeper *link.Keeper
}

// Target is one tool as one agent can reach it.
type Target struct {
	Server   *Server
	Tool     tools.Tool
	Exposed  string // name on /mcp
	Decision rules.Decision
}

// View is one agent's reach: what it is shown, ready to be sent.
type View struct {
	all     *shelf
	servers map[string]*shelf // by server name; /mcp/{server}
}

// shelf is the content of one address for one agent.
type shelf struct {
	list   []byte             // result of tools/list
	names  map[string]*Target // admitted tools by the name on this address
	digest string
}

// View returns the agent's reach. It is computed once for each world.
func (w *World) View(a *Agent) *View {
	w.mu.Lock()
	defer w.mu.Unlock()
	if v := w.views[a.ID]; v != nil {
		return v
	}
	v := &View{servers: map[string]*shelf{}}
	var all []*Target
	mine := w.Rules.For(a.Name)
	for _, s := range w.sorted() {
		var here []*Target
		if on := mine.On(s.Name); on.Len() > 0 && !s.Paused {
			for _, t := range s.Tools {
				if d := on.Decide(t.Name); d.Admitted() {
					here = append(here, &Target{s, t, tools.Expose(s.Name, t.Name), d})
				}
			}
		}
		v.servers[s.Name] = newShelf(here, func(t *Target) string { return t.Tool.Name })
		all = append(all, here...)
	}
	v.all = newShelf(all, func(t *Target) string { return t.Exposed })
	if w.views == nil {
		w.views = map[string]*View{}
	}
	w.views[a.ID] = v
	return v
}

func (w *World) sorted() []*Server {
	out := make([]*Server, 0, len(w.Servers))
	for _, s := range w.Servers {
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

func newShelf(targets []*Target, name func(*Target) string) *shelf {
	s := &shelf{names: make(map[string]*Target, len(targets))}
	var b bytes.Buffer
	b.WriteString(`{"tools":[`)
	for i, t := range targets {
		if i > 0 {
			b.WriteByte(',')
		}
		b.Write(t.Tool.Renamed(name(t)))
		s.names[name(t)] = t
	}
	b.WriteString(`]}`)
	s.list = b.Bytes()
	sum := sha256.Sum256(s.list)
	s.digest = hex.EncodeToString(sum[:8])
	return s
}

// shelf returns what the agent sees at an address: server is "" for /mcp.
func (v *View) shelf(server string) *shelf {
	if server == "" {
		return v.all
	}
	return v.servers[server]
}

// Refusal explains why the agent has no tool of that name at the address. The
// target is set when such a tool exists.
func (w *World) Refusal(a *Agent, scope, name string) (t *Target, why string) {
	t = w.find(scope, name)
	if t == nil {
		return nil, fmt.Sprintf("there is no tool %q here; tools/list has those within the reach of agent %s", bounded(name), a.Name)
	}
	t.Decision = w.Rules.For(a.Name).On(t.Server.Name).Decide(t.Tool.Name)
	if t.Decision.Admitted() {
		return t, fmt.Sprintf("server %s is paused; ask %s", t.Server.Name, w.Ask)
	}
	return t, fmt.Sprintf("tool %s of server %s is not within the reach of agent %s: %s; ask %s", t.Tool.Name, t.Server.Name, a.Name, t.Decision.Reason(), w.Ask)
}

// find returns the tool of that name at the address, within reach or not.
func (w *World) find(scope, name string) *Target {
	if scope != "" {
		s := w.Servers[scope]
		for _, t := range s.Tools {
			if t.Name == name {
				return &Target{Server: s, Tool: t}
			}
		}
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.exposed == nil {
		w.exposed = map[string]Target{}
		for _, s := range w.Servers {
			for _, t := range s.Tools {
				e := tools.Expose(s.Name, t.Name)
				w.exposed[e] = Target{Server: s, Tool: t, Exposed: e}
			}
		}
	}
	if t, ok := w.exposed[name]; ok {
		return &t
	}
	return nil
}

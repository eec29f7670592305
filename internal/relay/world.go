package relay

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/upstream"
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
	// exposed holds everything named by its name on /mcp, built when first needed.
	exposed map[tools.Kind]map[string]Target
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
	ID     string
	Name   string
	Paused bool
	Offer  link.Offer
	// Keeper is nil for a paused server, and for one that Missing tells about.
	Keeper *upstream.Connection
	// Missing is set when the agents concerned have no credential for it.
	Missing *Missing
	// Own is the server as an agent has it whose credential is another one, by the
	// agent's id.
	Own map[string]*Server
}

// Missing says which credential is missing and where it is supplied.
type Missing struct {
	Cause string
	Text  string
	Link  string // "" when there is no such address
}

// of returns the server as one agent has it.
func (s *Server) of(a *Agent) *Server {
	if own := s.Own[a.ID]; own != nil {
		return own
	}
	return s
}

// Target is one tool, prompt or resource as one agent can reach it.
type Target struct {
	Server   *Server
	Tool     tools.Tool
	Exposed  string // name on /mcp
	Decision rules.Decision
	Mirrors  []wire.Mirror // arguments of a tool that are mirrored into headers
}

// View is one agent's reach: what it is shown, ready to be sent.
type View struct {
	all     *shelf
	servers map[string]*shelf // by server name; /mcp/{server}
}

// shelf is the content of one address for one agent.
type shelf struct {
	one   *Server // the server of the address; nil on /mcp
	lists map[tools.Kind]*listing
}

// listing is one list of a shelf, rendered for both eras when first asked for.
type listing struct {
	kind   tools.Kind
	sorted []*Target
	names  map[string]*Target // by the name on this address
	merged bool               // names of several servers
	digest string

	once  [2]sync.Once
	pages [2][][]byte // results, by era
}

// pageSize is how many entries one page of a list holds. Many agents never ask
// for a second page, so it is large.
const pageSize = 2000

// View returns the agent's reach. It is computed once for each world.
func (w *World) View(a *Agent) *View {
	w.mu.Lock()
	defer w.mu.Unlock()
	if v := w.views[a.ID]; v != nil {
		return v
	}
	v := &View{servers: map[string]*shelf{}}
	all := map[tools.Kind][]*Target{}
	mine := w.Rules.For(a.Name)
	for _, s := range w.sorted() {
		s = s.of(a)
		here := map[tools.Kind][]*Target{}
		if on := mine.On(s.Name); on.Len() > 0 && !s.Paused {
			for _, kind := range tools.Kinds {
				for _, t := range s.Offer.Lists[kind] {
					if d := on.Decide(kind.Rule(t.Name)); d.Admitted() {
						n := &Target{Server: s, Tool: t, Exposed: expose(kind, s.Name, t.Name), Decision: d}
						if kind == tools.Tools {
							// A tool with bad annotations was left out, or is only spoken with
							// in sessions, where there are no such headers.
							n.Mirrors, _ = wire.ReadMirrors(t.Raw)
						}
						here[kind] = append(here[kind], n)
					}
				}
				all[kind] = append(all[kind], here[kind]...)
			}
		}
		v.servers[s.Name] = newShelf(s, here)
	}
	v.all = newShelf(nil, all)
	if w.views == nil {
		w.views = map[string]*View{}
	}
	w.views[a.ID] = v
	return v
}

func expose(kind tools.Kind, server, name string) string {
	if kind == tools.Resources || kind == tools.Templates {
		return tools.ExposeURI(server, name)
	}
	return tools.Expose(server, name)
}

func (w *World) sorted() []*Server {
	out := make([]*Server, 0, len(w.Servers))
	for _, s := range w.Servers {
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

func newShelf(one *Server, targets map[tools.Kind][]*Target) *shelf {
	s := &shelf{one: one, lists: map[tools.Kind]*listing{}}
	for _, kind := range tools.Kinds {
		l := &listing{kind: kind, sorted: targets[kind], names: make(map[string]*Target, len(targets[kind])), merged: one == nil}
		h := sha256.New()
		for _, t := range l.sorted {
			l.names[l.name(t)] = t
			fmt.Fprintf(h, "%s\x00%s\x00", l.name(t), t.Tool.Fingerprint)
		}
		l.digest = hex.EncodeToString(h.Sum(nil)[:8])
		s.lists[kind] = l
	}
	return s
}

func (l *listing) name(t *Target) string {
	if l.merged {
		return t.Exposed
	}
	return t.Tool.Name
}

// page returns the result of listing, for a cursor; ok is false when the cursor
// is not one of this list as it is now.
func (l *listing) page(cursor string, stateless bool) (result []byte, ok bool) {
	era := 0
	if stateless {
		era = 1
	}
	l.once[era].Do(func() { l.render(era) })
	n := 0
	if cursor != "" {
		at, digest, found := strings.Cut(cursor, ".")
		var err error
		if n, err = strconv.Atoi(at); err != nil || !found || digest != l.digest || n < 1 || n >= len(l.pages[era]) {
			return nil, false
		}
	}
	return l.pages[era][n], true
}

func (l *listing) render(era int) {
	for at := 0; at == 0 || at < len(l.sorted); at += pageSize {
		end := min(at+pageSize, len(l.sorted))
		var b bytes.Buffer
		fmt.Fprintf(&b, `{%q:[`, string(l.kind))
		wrote := false
		for _, t := range l.sorted[at:end] {
			raw := t.Tool.Renamed(l.kind, l.name(t))
			if era == 1 && onlyTask(raw) {
				continue // tasks of sessions cannot be had without one
			}
			if wrote {
				b.WriteByte(',')
			}
			wrote = true
			if l.kind == tools.Tools {
				raw = wire.ItemFor(raw, era == 1)
			}
			b.Write(raw)
		}
		b.WriteByte(']')
		if end < len(l.sorted) {
			fmt.Fprintf(&b, `,"nextCursor":"%d.%s"`, len(l.pages[era])+1, l.digest)
		}
		if era == 1 {
			// What one agent may see is nobody else's, and changes are told.
			b.WriteString(`,"resultType":"complete","ttlMs":0,"cacheScope":"private"`)
		}
		b.WriteByte('}')
		l.pages[era] = append(l.pages[era], b.Bytes())
	}
}

// onlyTask reports whether a tool can only be called as a task.
func onlyTask(raw []byte) bool {
	if !bytes.Contains(raw, []byte(`"required"`)) || !bytes.Contains(raw, []byte(`"taskSupport"`)) {
		return false
	}
	how, _ := wire.StringAt(raw, wire.Member(raw, wire.Member(raw, wire.Span{Start: 0, End: len(raw)}, "execution"), "taskSupport"))
	return how == "required"
}

// digests tells two states of a shelf apart, list by list: tools, prompts, and
// resources with templates.
func (s *shelf) digests() [3]string {
	return [3]string{s.lists[tools.Tools].digest, s.lists[tools.Prompts].digest, s.lists[tools.Resources].digest + s.lists[tools.Templates].digest}
}

// shelf returns what the agent sees at an address: server is "" for /mcp.
func (v *View) shelf(server string) *shelf {
	if server == "" {
		return v.all
	}
	return v.servers[server]
}

// capabilities renders what is declared to agents at this address: of one
// server what that server declares, of several everything.
func (s *shelf) capabilities(rev string) map[string]any {
	type obj = map[string]any
	changed := obj{"listChanged": true}
	if s.one == nil {
		out := obj{"tools": changed, "prompts": changed, "resources": obj{"listChanged": true, "subscribe": true}, "logging": obj{}}
		if rev > wire.Rev20241105 {
			out["completions"] = obj{}
		}
		if wire.Stateless(rev) && s.any(func(g link.Greeting) bool { return g.TaskExtension }) {
			out["extensions"] = obj{wire.TasksExtension: obj{}}
		}
		if rev == wire.Rev20251125 && s.any(func(g link.Greeting) bool { return g.Tasks }) {
			out["tasks"] = taskCaps
		}
		return out
	}
	g := s.one.Offer.Greeting
	out := obj{}
	if g.Tools || g.Revision == "" {
		out["tools"] = changed
	}
	if g.Prompts {
		out["prompts"] = changed
	}
	if g.Resources {
		r := obj{"listChanged": true}
		if g.Subscribe {
			r["subscribe"] = true
		}
		out["resources"] = r
	}
	if g.Completions && rev > wire.Rev20241105 {
		out["completions"] = obj{}
	}
	if g.TaskExtension && wire.Stateless(rev) {
		out["extensions"] = obj{wire.TasksExtension: obj{}}
	}
	if g.Tasks && rev == wire.Rev20251125 {
		out["tasks"] = taskCaps
	}
	if g.Logging || (wire.Stateless(g.Revision) && !wire.Stateless(rev)) {
		out["logging"] = obj{}
	}
	return out
}

// taskCaps are the capabilities for tasks (MCP 2025-11-25). A list of tasks is
// not among them: servers would list those of other sessions too.
var taskCaps = map[string]any{"cancel": map[string]any{}, "requests": map[string]any{"tools": map[string]any{"call": map[string]any{}}}}

// any reports whether a server with tools in reach says something of itself.
func (s *shelf) any(says func(link.Greeting) bool) bool {
	for _, t := range s.lists[tools.Tools].sorted {
		if says(t.Server.Offer.Greeting) {
			return true
		}
	}
	return false
}

// maxInstructions bounds what servers may say to the agent about themselves.
const maxInstructions = 16 << 10

// instructions are those of the servers in reach at this address.
func (s *shelf) instructions() string {
	if s.one != nil {
		return s.one.Offer.Instructions
	}
	var b strings.Builder
	seen := map[*Server]bool{}
	for _, kind := range tools.Kinds {
		for _, t := range s.lists[kind].sorted {
			text := t.Server.Offer.Instructions
			if seen[t.Server] || text == "" || b.Len()+len(text) > maxInstructions {
				continue
			}
			seen[t.Server] = true
			fmt.Fprintf(&b, "Server %s (its tools begin with %s__):\n%s\n\n", t.Server.Name, t.Server.Name, text)
		}
	}
	return strings.TrimSpace(b.String())
}

// rename returns how the URIs of a server's resources look at this address; nil
// when they stay as they are.
func (s *shelf) rename(server string) func(string) string {
	if s.one != nil {
		return nil
	}
	return func(uri string) string { return tools.ExposeURI(server, uri) }
}

// resource finds the resource of that URI, or the template, at the address. It
// need not be listed: servers have resources that they do not list. The error
// text is empty when there is no such server.
func (w *World) resource(a *Agent, sh *shelf, uri string) (*Target, string) {
	s, own := sh.one, uri
	if s == nil {
		name, rest, ok := tools.ReadURI(uri)
		if s = w.Servers[name]; !ok || s == nil {
			return nil, "there is no resource " + strconv.Quote(bounded(uri)) + " here; resources/list has those within reach"
		}
		s, own = s.of(a), rest
	}
	if g := s.Offer.Greeting; !g.Resources && (g.Tools || g.Prompts || g.Revision != "") {
		return nil, "server " + s.Name + " has no resources"
	}
	t := &Target{Server: s, Tool: tools.Tool{Name: own}, Exposed: uri, Decision: w.Rules.For(a.Name).On(s.Name).Decide(tools.Resources.Rule(own))}
	switch {
	case !t.Decision.Admitted():
		return t, fmt.Sprintf("resource %s of server %s is not within the reach of agent %s: %s; ask %s", bounded(own), s.Name, a.Name, t.Decision.Reason(), w.Ask)
	case s.Paused:
		return t, fmt.Sprintf("server %s is paused; ask %s", s.Name, w.Ask)
	}
	return t, ""
}

// Refusal explains why the agent has no tool or prompt of that name at the
// address. The target is set when such a thing exists.
func (w *World) Refusal(a *Agent, kind tools.Kind, scope, name string) (t *Target, why string) {
	word := strings.TrimSuffix(string(kind), "s")
	t = w.find(kind, scope, name)
	if t == nil {
		return nil, fmt.Sprintf("there is no %s %q here; %s has those within the reach of agent %s", word, bounded(name), kind.Method(), a.Name)
	}
	t.Decision = w.Rules.For(a.Name).On(t.Server.Name).Decide(kind.Rule(t.Tool.Name))
	if t.Decision.Admitted() {
		return t, fmt.Sprintf("server %s is paused; ask %s", t.Server.Name, w.Ask)
	}
	return t, fmt.Sprintf("%s %s of server %s is not within the reach of agent %s: %s; ask %s", word, t.Tool.Name, t.Server.Name, a.Name, t.Decision.Reason(), w.Ask)
}

// find returns the tool or prompt of that name at the address, within reach or
// not.
func (w *World) find(kind tools.Kind, scope, name string) *Target {
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
					e := tools.Expose(s.Name, t.Name)
					names[e] = Target{Server: s, Tool: t, Exposed: e}
				}
			}
		}
	}
	if t, ok := w.exposed[kind][name]; ok {
		return &t
	}
	return nil
}

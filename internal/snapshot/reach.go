package snapshot

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

func Clip(s string) string {
	if len(s) > 80 {
		return strings.ToValidUTF8(s[:80], "") + "..."
	}
	return s
}

// Reach is one agent's reach: what it is shown, ready to be sent.
type Reach struct {
	all     *Catalog
	servers map[string]*addressed // by server name; /mcp/{server}
}

// bound is one agent with the rules that can be about it, and what it reaches.
type bound struct {
	rules *rules.Bound
	mu    sync.Mutex             // guards reaches; held over no computing
	by    map[string]*lazilyMade // by the variant of the circumstances
}

// lazilyMade is a reach that is computed by whoever asks for it first.
type lazilyMade struct {
	once  sync.Once
	reach *Reach
}

// maxVariants bounds the reaches that are kept of one agent.
const maxVariants = 64

func (w *Snapshot) bound(a *Agent) *bound {
	w.mu.Lock()
	b := w.bounds[a.ID]
	w.mu.Unlock()
	if b != nil {
		return b
	}
	made := &bound{rules: w.Rules.For(a.Subject()), by: map[string]*lazilyMade{}}
	w.mu.Lock()
	defer w.mu.Unlock()
	if b = w.bounds[a.ID]; b != nil {
		return b
	}
	if w.bounds == nil {
		w.bounds = map[string]*bound{}
	}
	w.bounds[a.ID] = made
	return made
}

// ReachOf returns the agent's reach under the circumstances. It is computed once for
// each snapshot and for all circumstances between which no rule tells a difference.
func (w *Snapshot) ReachOf(a *Agent, how rules.Circumstances) *Reach {
	b := w.bound(a)
	variant := b.rules.Variant(how)
	b.mu.Lock()
	made := b.by[variant]
	if made == nil {
		if len(b.by) >= maxVariants {
			clear(b.by)
		}
		made = &lazilyMade{}
		b.by[variant] = made
	}
	b.mu.Unlock()
	made.once.Do(func() { made.reach = w.reach(a, b.rules.Under(how), variant != "") })
	return made.reach
}

func (w *Snapshot) reach(a *Agent, mine *rules.Bound, varies bool) *Reach {
	v := &Reach{servers: map[string]*addressed{}}
	all := map[tools.Kind][]*Target{}
	for _, s := range w.Sorted() {
		s = s.For(a)
		here := map[tools.Kind][]*Target{}
		if on := mine.On(s.Host()); on.Len() > 0 && !s.Paused {
			for _, kind := range tools.Kinds {
				objects := s.Objects(kind)
				for i, t := range s.Offer.Lists[kind] {
					n := w.target(on, s, kind, t, &objects[i])
					if !n.Admitted() {
						continue
					}
					n.Exposed = s.Exposes(kind, t.Name)
					here[kind] = append(here[kind], n)
				}
				all[kind] = append(all[kind], here[kind]...)
			}
		}
		v.servers[s.Name] = &addressed{server: s, targets: here, varies: varies}
	}
	v.all = newCatalog(nil, all)
	v.all.Varies, v.all.Finder = varies, a.Finder
	return v
}

// target is something that a server offers, as one agent has it.
func (w *Snapshot) target(on *rules.Local, s *Server, kind tools.Kind, t tools.Tool, o *rules.Object) *Target {
	n := &Target{Server: s, Tool: t, Decision: on.Decide(o)}
	if kind == tools.Tools {
		// A tool with bad annotations was left out, or is only spoken with
		// in sessions, where there are no such headers.
		n.Mirrors, _ = wire.ReadMirrors(t.Raw)
	}
	if n.Decision.Admitted() {
		for _, b := range w.Budgets {
			if b.About(on.Who(), s.Name, o.Name) {
				n.Budgets = append(n.Budgets, b)
			}
		}
	}
	if !n.Decision.Shaped || !n.Decision.Admitted() {
		return n
	}
	if n.Shape, n.Unfit = on.Shape(o, w.Shapes); n.Unfit != nil {
		return n
	}
	if kind == tools.Tools {
		sh := n.Shape
		n.Tool = t.As(tools.Shown{
			Title: sh.Title, Description: sh.Description, Input: sh.Input, Output: sh.Output, NoOutput: sh.NoOutput,
		})
	}
	return n
}

// Decide tells what becomes of something that a server offers, or might, for an agent
// under the circumstances.
func (w *Snapshot) Decide(a *Agent, how rules.Circumstances, s *Server, kind tools.Kind, t tools.Tool) *Target {
	o := s.Object(kind, t)
	return w.target(w.bound(a).rules.Under(how).On(s.Host()), s, kind, t, &o)
}

// Targets tells of everything of a kind that a server offers what becomes of it for an
// agent, in the order of the server's list, within reach or not.
func (w *Snapshot) Targets(a *Agent, how rules.Circumstances, s *Server, kind tools.Kind) []*Target {
	on := w.bound(a).rules.Under(how).On(s.Host())
	objects := s.Objects(kind)
	out := make([]*Target, 0, len(objects))
	for i, t := range s.Offer.Lists[kind] {
		out = append(out, w.target(on, s, kind, t, &objects[i]))
	}
	return out
}

// Host is the server as rules know it.
func (s *Server) Host() rules.Host { return rules.Host{Name: s.Name, Labels: s.Labels} }

// Object is something that the server offers, as rules know it.
func (s *Server) Object(kind tools.Kind, t tools.Tool) rules.Object {
	o := rules.Object{Name: kind.Rule(t.Name), Tool: kind == tools.Tools, Fingerprint: t.Fingerprint}
	o.Tags = s.Tags[o.Name]
	if o.Tool {
		o.Hints.ReadOnly, o.Hints.Destructive, o.Hints.Idempotent, o.Hints.OpenWorld = t.Hints()
		o.Schema, o.Output = t.Member("inputSchema"), t.Member("outputSchema")
	}
	return o
}

// Objects are all of a kind that the server offers, in the order of its list.
func (s *Server) Objects(kind tools.Kind) []rules.Object {
	s.described.Do(func() {
		s.objects = map[tools.Kind][]rules.Object{}
		for _, k := range tools.Kinds {
			list := make([]rules.Object, 0, len(s.Offer.Lists[k]))
			for _, t := range s.Offer.Lists[k] {
				list = append(list, s.Object(k, t))
			}
			s.objects[k] = list
		}
	})
	return s.objects[kind]
}

// Catalog is the content of one address for one agent.
type Catalog struct {
	// Varies is set when the circumstances of a request make a difference to the agent.
	Varies bool
	// Finder is set where two small tools are listed, to search the others and to call them.
	Finder bool
	one    *Server // the server of the address; nil on /mcp
	lists  map[tools.Kind]*List

	owned sync.Once
	own   map[ownName]*Target // for finding; made when first asked for
}

// List is one list of a catalog, rendered for both eras when first asked for.
type List struct {
	kind   tools.Kind
	sorted []*Target
	names  map[string]*Target // by the name on this address
	plain  map[string]*Target // on /mcp, by the server's own name; nil for a name of several
	merged bool               // names of several servers
	digest string

	once  [2]sync.Once
	pages [2][][]byte // results, by era
}

// pageSize is how many entries one page of a list holds. Many agents never ask
// for a second page, so it is large.
const pageSize = 2000

// Exposes is the name on /mcp of something that the server offers.
func (s *Server) Exposes(kind tools.Kind, name string) string {
	return tools.Exposed(s.Name, kind, name, s.Offer.Lists[kind])
}

func newCatalog(one *Server, targets map[tools.Kind][]*Target) *Catalog {
	s := &Catalog{one: one, lists: map[tools.Kind]*List{}}
	for _, kind := range tools.Kinds {
		l := &List{kind: kind, sorted: targets[kind], names: make(map[string]*Target, len(targets[kind])), merged: one == nil}
		h := sha256.New()
		if l.merged && (kind == tools.Tools || kind == tools.Prompts) {
			l.plain = plainNames(l.sorted)
		}
		for _, t := range l.sorted {
			l.names[l.name(t)] = t
			fmt.Fprintf(h, "%s\x00%s\x00", l.name(t), t.Tool.Fingerprint)
		}
		l.digest = hex.EncodeToString(h.Sum(nil)[:8])
		s.lists[kind] = l
	}
	return s
}

func (l *List) name(t *Target) string {
	if l.merged {
		return t.Exposed
	}
	return t.Tool.Name
}

// page returns the result of listing, for a cursor; ok is false when the cursor
// is not one of this list as it is now.
func (l *List) page(cursor string, stateless bool) (result []byte, ok bool) {
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

func (l *List) render(era int) {
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

// plainNames are the names that an agent may use as well: the server's own, where only
// one server has it, and with the server's name before it also where it had to be altered.
func plainNames(list []*Target) map[string]*Target {
	out := make(map[string]*Target, len(list))
	for _, t := range list {
		_, several := out[t.Tool.Name]
		out[t.Tool.Name] = t
		if several {
			out[t.Tool.Name] = nil
		}
		if full := t.Server.Name + "__" + t.Tool.Name; full != t.Exposed {
			out[full] = t
		}
	}
	return out
}

// Find returns the tool or prompt of that name within reach at this address; nil
// for none.
func (s *Catalog) Find(kind tools.Kind, name string) *Target {
	if t := s.lists[kind].names[name]; t != nil {
		return t
	}
	return s.lists[kind].plain[name]
}

// Page returns one page of a list as the result of listing; ok is false when the
// cursor is not one of this list as it is now.
func (s *Catalog) Page(kind tools.Kind, cursor string, stateless bool) (result []byte, ok bool) {
	if s.Finder && kind == tools.Tools {
		return finderPage(stateless), cursor == ""
	}
	return s.lists[kind].page(cursor, stateless)
}

// Count returns how many entries a list has, and what tells it from another one.
func (s *Catalog) Count(kind tools.Kind) (n int, digest string) {
	if s.Finder && kind == tools.Tools {
		return 2, finderDigest
	}
	return s.All(kind)
}

// All returns how many entries there are, listed or to be found, and what tells them from
// others.
func (s *Catalog) All(kind tools.Kind) (n int, digest string) {
	if l := s.lists[kind]; l != nil {
		return len(l.sorted), l.digest
	}
	return 0, ""
}

// Digests tells two states of a catalog apart, list by list: tools, prompts, and
// resources with templates.
func (s *Catalog) Digests() [3]string {
	listed := s.lists[tools.Tools].digest
	if s.Finder {
		listed = finderDigest
	}
	return [3]string{
		listed,
		s.lists[tools.Prompts].digest,
		s.lists[tools.Resources].digest + s.lists[tools.Templates].digest,
	}
}

// Catalog returns what the agent sees at an address: server is "" for /mcp.
func (v *Reach) Catalog(server string) *Catalog {
	if server == "" {
		return v.all
	}
	if s := v.servers[server]; s != nil {
		return s.catalog()
	}
	return nil
}

// addressed is the catalog of one server's own address. Few agents come to many of these, so
// that each is made when it is asked for.
type addressed struct {
	server  *Server
	targets map[tools.Kind][]*Target
	varies  bool
	once    sync.Once
	made    *Catalog
}

func (s *addressed) catalog() *Catalog {
	s.once.Do(func() {
		s.made = newCatalog(s.server, s.targets)
		s.made.Varies = s.varies
	})
	return s.made
}

// Capabilities renders what is declared to agents at this address: of one
// server what that server declares, of several everything.
func (s *Catalog) Capabilities(rev string) map[string]any {
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
func (s *Catalog) any(says func(link.Greeting) bool) bool {
	for _, t := range s.lists[tools.Tools].sorted {
		if says(t.Server.Offer.Greeting) {
			return true
		}
	}
	return false
}

// maxInstructions bounds what servers may say to the agent about themselves.
const maxInstructions = 16 << 10

// Instructions are those of the servers in reach at this address.
func (s *Catalog) Instructions() string {
	if s.one != nil {
		for _, kind := range tools.Kinds {
			if len(s.lists[kind].sorted) > 0 {
				return s.one.Offer.Instructions
			}
		}
		return "" // an agent that reaches nothing here learns nothing of the server
	}
	var b strings.Builder
	if s.Finder {
		b.WriteString("Search tools in words with find_tools, and call what was found with call_tool.\n\n")
	}
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

// RenameURI returns how the URIs of a server's resources look at this address; nil
// when they stay as they are.
func (s *Catalog) RenameURI(server string) func(string) string {
	if s.one != nil {
		return nil
	}
	return func(uri string) string { return tools.ExposeURI(server, uri) }
}

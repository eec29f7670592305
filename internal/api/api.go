// Package api is the REST API for people and programs: a table of routes, each
// with who may call it and what it takes and gives. The OpenAPI document is
// made from the same table. Handlers are thin: decode, call the service, encode.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"bouncer/internal/agents"
	"bouncer/internal/api/problem"
	"bouncer/internal/apitype"
	"bouncer/internal/assistants/machine"
	"bouncer/internal/assistants/roster"
	"bouncer/internal/assistants/takeover"
	"bouncer/internal/authserver"
	"bouncer/internal/changes"
	"bouncer/internal/cluster/nodes"
	"bouncer/internal/control/approval"
	"bouncer/internal/control/budget"
	"bouncer/internal/control/cost"
	"bouncer/internal/control/history"
	"bouncer/internal/control/labels"
	"bouncer/internal/control/notice"
	"bouncer/internal/control/notify"
	"bouncer/internal/control/policy"
	"bouncer/internal/control/rehearse"
	"bouncer/internal/control/review"
	"bouncer/internal/core/access"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/example"
	"bouncer/internal/diagnose/incident"
	"bouncer/internal/diagnose/monitor"
	"bouncer/internal/diagnose/tape"
	"bouncer/internal/diagnose/tryout"
	"bouncer/internal/diagnose/why"
	"bouncer/internal/gate"
	"bouncer/internal/imports"
	"bouncer/internal/journal"
	"bouncer/internal/login"
	"bouncer/internal/observe/stats"
	"bouncer/internal/origin"
	"bouncer/internal/people"
	"bouncer/internal/registry"
	"bouncer/internal/secrets"
	"bouncer/internal/servers"
	"bouncer/internal/signin"
	"bouncer/internal/upkeep"
)

// Cookie is the name of the console's session cookie.
const Cookie = "bouncer_session"

// maxBody is the largest body of an API request, in bytes.
const maxBody = 10 << 20 // room for an OpenAPI document

// maxPublicBody is the largest body of a request of somebody who is not signed in, in
// bytes.
const maxPublicBody = 16 << 10

// Taps gives out live records of calls. It is safe for concurrent use.
type Taps interface {
	Tap() *journal.Tap
	Untap(*journal.Tap)
}

// Options configure the API.
type Options struct {
	Version string
	Address string // base URL under which people and agents reach the service
	Strict  bool   // the journal's mode, to be shown
	Log     *slog.Logger
	// Ended is closed when event streams have to end.
	Ended   <-chan struct{}
	Proxies []netip.Prefix // whose word counts for where a request comes from
	Book    *gate.Book     // knows the gates; nil for none
	// Masker is the masker in force; nil masks by form only.
	Masker func() *mask.Masker
	// Seen is told who is there; nil for nobody to be told.
	Seen func(person string)
}

// Services are what the routes call.
type Services struct {
	Registry   *registry.Registry
	People     *people.Service
	Login      *login.Service
	Servers    *servers.Service
	Imports    *imports.Service
	Agents     *agents.Service
	Machines   *machine.Service
	Roster     *roster.Service
	Takeover   *takeover.Service
	Policy     *policy.Service
	Rehearse   *rehearse.Service
	History    *history.Service
	Costs      *cost.Service
	Labels     *labels.Service
	Held       *approval.Room
	Notices    *notice.Sender
	Mail       *notify.Service
	Budgets    *budget.Service
	Reviews    *review.Service
	Checkups   *monitor.Service
	Incidents  *incident.Service
	Why        *why.Service
	Tries      *tryout.Service
	Examples   *example.Service
	Tapes      *tape.Service
	Changes    *changes.Service
	Secrets    *secrets.Service
	SignIns    *signin.Service
	AuthServer *authserver.Service
	Journal    *journal.Reader
	Notary     *journal.Notary
	Taps       Taps
	// JournalState tells how the journal does, Usage how much of what is bounded is
	// handed out.
	JournalState func(context.Context) (team.JournalState, error)
	Usage        func() []gate.Usage
	// TurnedAway tells who came to the agents' addresses without a valid pass.
	TurnedAway func() []team.TurnedAway
	// Contact tells how an agent was last seen, by its id.
	Contact func(agentID string) (team.Contact, bool)
	// Backup writes a copy of the state to a new file. Secrets stay sealed in it.
	Backup func(ctx context.Context, path string) error
	Copies *upkeep.Keeper
	Nodes  *nodes.Service
	Stats  *stats.Service
}

// API serves the routes under /api.
type API struct {
	o        Options
	s        Services
	streams  *gate.Gate // event streams of people
	searches *gate.Gate // counts and exports of the journal
	routes   []route
	doc      []byte
}

// route is one row of the table.
type route struct {
	method, path string
	id, summary  string
	public       bool          // no sign-in needed
	self         bool          // about the person who asks, whoever it is
	action       access.Action // what is done; who may, and to whose, is the table's to say
	fresh        bool          // allowed while the one-time password is unchanged
	query        []queryField
	in, out      any    // zero values of the bodies; nil for none
	status       int    // of success
	media        string // of the answer, where it is no JSON
	handle       func(*call) (any, error)
	raw          func(http.ResponseWriter, *call) // writes the answer itself
}

// queryField is a parameter of the query.
type queryField struct{ name, doc string }

// call is one request to a route, with who makes it.
type call struct {
	*http.Request
	api    *API
	person team.Person
	token  string // the login token
	w      http.ResponseWriter
}

func (c *call) name(key string) string { return chi.URLParam(c.Request, key) }

// New returns the API.
func New(s Services, o Options) (*API, error) {
	if o.Book == nil {
		o.Book = &gate.Book{}
	}
	if o.Masker == nil {
		o.Masker = func() *mask.Masker { return nil }
	}
	if o.Seen == nil {
		o.Seen = func(string) {}
	}
	a := &API{o: o, s: s, streams: o.Book.Open("event streams of people", streamLimits)}
	a.searches = o.Book.Open("counts and exports of the journal", searchLimits)
	a.routes = a.table()
	for _, rt := range a.routes {
		if !rt.public && !rt.self && len(access.Roles(rt.action)) == 0 {
			return nil, fmt.Errorf("route %s %s is for nobody: its action is in no row of the table of access", rt.method, rt.path)
		}
	}
	doc, err := a.describe()
	if err != nil {
		return nil, err
	}
	a.doc = doc
	return a, nil
}

// Mount adds the routes to a router.
func (a *API) Mount(r chi.Router) {
	// Browsers are kept from sending a signed-in person's requests on behalf of
	// another site; programs without cookies are not concerned.
	cross := http.NewCrossOriginProtection()
	for _, rt := range a.routes {
		r.Method(rt.method, rt.path, cross.Handler(a.serve(rt)))
	}
	notFound := func(w http.ResponseWriter, _ *http.Request) {
		const title, hint = "there is nothing at this address", "the routes are listed in /api/openapi.json"
		a.problem(w, apitype.Problem{Status: 404, Title: title, Hint: hint})
	}
	r.HandleFunc("/api", notFound)
	r.HandleFunc("/api/*", notFound)
}

// workTime is how long a request may take to be worked on: a registration starts
// processes and reaches servers.
const workTime = 3 * time.Minute

// writeTime is how long an answer may take to be read; streams and downloads have
// limits of their own.
const writeTime = time.Minute

func (a *API) serve(rt route) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		if rt.raw == nil {
			// A deadline that cannot be set leaves that of the listener.
			_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(workTime + writeTime))
		}
		c := &call{Request: r, api: a, w: w}
		if !rt.public {
			if p, ok := a.authorise(rt, c); !ok {
				a.problem(w, p)
				return
			}
		}
		if rt.raw != nil {
			rt.raw(w, c)
			return
		}
		limit := int64(maxBody)
		if rt.public {
			limit = maxPublicBody
		}
		r.Body = http.MaxBytesReader(w, r.Body, limit)
		out, err := rt.handle(c)
		if err != nil {
			a.problem(w, a.explain(c, err))
			return
		}
		if out == nil {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		a.write(w, rt.status, "application/json", out)
	})
}

// authorise finds out who calls and whether they may.
func (a *API) authorise(rt route, c *call) (apitype.Problem, bool) {
	token, kind := c.login()
	unknown := apitype.Problem{Status: 401, Title: "you are not signed in", Hint: "sign in with bouncer login, or in the console"}
	if token == "" || len(token) > 200 {
		return unknown, false
	}
	p, err := a.s.Login.Who(c.Context(), token, kind)
	if err != nil {
		var nf *team.NotFoundError
		if errors.As(err, &nf) {
			return unknown, false
		}
		return a.explain(c, err), false
	}
	c.person, c.token = p, token
	a.o.Seen(p.Name)
	if p.MustChange && !rt.fresh {
		return apitype.Problem{
			Status: 403,
			Title:  "your one-time password has to be replaced first",
			Code:   "password-change-needed",
			Hint:   "choose a password in the console, or with bouncer login",
		}, false
	}
	if !rt.self && access.ScopeOf(p.Role, rt.action) == access.None {
		title := fmt.Sprintf("your role, %s, does not allow this", p.Role)
		return apitype.Problem{Status: 403, Title: title, Hint: "ask " + roleWords(access.Roles(rt.action))}, false
	}
	return apitype.Problem{}, true
}

// login is the login token that a request shows, and of which kind.
func (c *call) login() (token, kind string) {
	token, ok := strings.CutPrefix(c.Header.Get("Authorization"), "Bearer ")
	if ok {
		return token, "token"
	}
	if cookie, err := c.Request.Cookie(Cookie); err == nil {
		return cookie.Value, "console"
	}
	return token, "token"
}

func roleWords(roles []team.Role) string {
	words := make([]string, len(roles))
	for i, r := range roles {
		words[i] = "a " + string(r)
		if strings.ContainsRune("aeiou", rune(r[0])) {
			words[i] = "an " + string(r)
		}
	}
	return strings.Join(words, " or ")
}

// explain turns an error into what may be told. What the caller cannot mend is logged.
func (a *API) explain(c *call, err error) apitype.Problem {
	p := problem.Of(err)
	if p.Status == http.StatusInternalServerError {
		a.o.Log.ErrorContext(c.Context(), "a request failed", "method", c.Method, "path", c.URL.Path, "error", err)
	}
	return p
}

// problem tells somebody what went wrong. Its words may be a server's, and go through
// the masks like everything that is written.
func (a *API) problem(w http.ResponseWriter, p apitype.Problem) {
	m := a.o.Masker()
	p.Title, p.Hint = m.Text(p.Title), m.Text(p.Hint)
	if p.Finding != nil {
		f := *p.Finding
		f.Message, f.Remedy = m.Text(f.Message), m.Text(f.Remedy)
		p.Finding = &f
	}
	stages := slices.Clone(p.Stages)
	for i := range stages {
		stages[i].Note = m.Text(stages[i].Note)
	}
	p.Stages = stages
	switch p.Status {
	case 401:
		w.Header().Set("WWW-Authenticate", `Bearer realm="bouncer"`)
	case 429:
		w.Header().Set("Retry-After", "5")
	}
	a.write(w, p.Status, "application/problem+json", p)
}

func (a *API) write(w http.ResponseWriter, status int, media string, v any) {
	raw, err := json.Marshal(v)
	if err != nil {
		a.o.Log.Error("an answer could not be written", "error", err)
		http.Error(w, "", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", media)
	w.WriteHeader(status)
	// The reader may have gone; there is nobody left to tell.
	_, _ = w.Write(append(raw, '\n'))
}

// from is the caller's address, for the brake on guessing.
func (c *call) from() string { return origin.Client(c.Request, c.api.o.Proxies) }

// Package api is the REST API for people and programs: a table of routes, each
// with who may call it and what it takes and gives. The OpenAPI document is
// made from the same table. Handlers are thin: decode, call the service, encode.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/assistants/machine"
	"bouncer/internal/assistants/roster"
	"bouncer/internal/assistants/takeover"
	"bouncer/internal/authserver"
	"bouncer/internal/changes"
	"bouncer/internal/control/approval"
	"bouncer/internal/control/budget"
	"bouncer/internal/control/cost"
	"bouncer/internal/control/history"
	"bouncer/internal/control/labels"
	"bouncer/internal/control/notice"
	"bouncer/internal/control/policy"
	"bouncer/internal/control/rehearse"
	"bouncer/internal/control/review"
	"bouncer/internal/core/access"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/serverspec"
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
	"bouncer/internal/oauth"
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
	Stats  *stats.Service
}

// API serves the routes under /api.
type API struct {
	o       Options
	s       Services
	streams *gate.Gate // event streams of people
	routes  []route
	doc     []byte
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
		a.problem(
			w,
			apitype.Problem{Status: 404, Title: "there is nothing at this address", Hint: "the routes are listed in /api/openapi.json"},
		)
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
		return apitype.Problem{
			Status: 403,
			Title:  fmt.Sprintf("your role, %s, does not allow this", p.Role),
			Hint:   "ask " + roleWords(access.Roles(rt.action)),
		}, false
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

// explain turns an error into what may be told.
func (a *API) explain(c *call, err error) apitype.Problem {
	var field *team.FieldError
	var missing *team.NotFoundError
	var clash *team.ConflictError
	var disallowed *team.NotAllowedError
	var probe *team.ProbeError
	var wait *team.ThrottledError
	var pick *serverspec.OperationsError
	var denied *oauth.Error
	var failed interface {
		error
		Found() diagnosis.Finding
	}
	var large *http.MaxBytesError
	var broken interface {
		error
		Damaged() bool
	}
	switch {
	case errors.As(err, &field):
		return apitype.Problem{Status: 422, Title: field.Error(), Field: field.Field}
	case errors.As(err, &pick):
		return apitype.Problem{
			Status:   422,
			Title:    pick.Error(),
			Field:    "operations",
			Hint:     "pick those that are to be tools",
			Document: &pick.Document,
		}
	case errors.As(err, &missing):
		return apitype.Problem{
			Status: 404,
			Title:  missing.Error(),
			Hint:   afterMissing(missing.Kind),
		}
	case errors.As(err, &disallowed):
		return apitype.Problem{Status: 403, Title: disallowed.Error(), Hint: disallowed.Hint}
	case errors.As(err, &clash):
		return apitype.Problem{Status: 409, Title: clash.Error(), Field: clash.Field, Hint: clash.Hint}
	case errors.As(err, &denied):
		return apitype.Problem{
			Status: 502,
			Title:  "the sign-in cannot be begun: " + denied.Why,
			Code:   string(denied.Cause()),
			Hint:   denied.Remedy(),
		}
	case errors.As(err, &failed):
		f := failed.Found()
		return apitype.Problem{Status: 502, Title: f.Message, Code: string(f.Cause), Hint: f.Remedy, Finding: &f}
	case errors.As(err, &probe):
		what := probe.What
		if what == "" {
			what = "the server could not be reached as described"
		}
		return apitype.Problem{
			Status:  502,
			Title:   what + ": " + probe.Finding.Message,
			Code:    string(probe.Finding.Cause),
			Hint:    probe.Finding.Remedy,
			Finding: &probe.Finding,
			Stages:  probe.Stages,
		}
	case errors.As(err, &wait):
		return apitype.Problem{Status: 429, Title: wait.Error()}
	case errors.Is(err, login.ErrWrongPassword):
		return apitype.Problem{Status: 401, Title: err.Error(), Hint: "check both; after a few failed tries you have to wait"}
	case errors.As(err, &broken):
		a.o.Log.ErrorContext(c.Context(), "the database is damaged", "path", c.URL.Path, "error", err)
		return apitype.Problem{
			Status: 500, Title: broken.Error(),
			Hint: "stop the service and put a copy that bouncer backup wrote in its place; what else there is goes on meanwhile",
		}
	case errors.As(err, &large):
		return apitype.Problem{Status: 413, Title: fmt.Sprintf("the body is larger than %d bytes", large.Limit)}
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return apitype.Problem{Status: 503, Title: "the request was given up before it was done", Hint: "try again"}
	}
	a.o.Log.ErrorContext(c.Context(), "a request failed", "method", c.Method, "path", c.URL.Path, "error", err)
	return apitype.Problem{Status: 500, Title: "something failed inside Bouncer", Hint: "the service's log says what"}
}

// lists is the command that lists things of a kind.
// listed tells which command lists the things of a kind.
var listed = map[string]string{
	"agent":      "bouncer agent list",
	"budget":     "bouncer budget list",
	"bundle":     "bouncer bundle list",
	"call":       "bouncer journal",
	"change":     "bouncer change list",
	"code":       "bouncer agent invitations",
	"consent":    "bouncer consent list",
	"held call":  "bouncer held list --all",
	"example":    "bouncer example list SERVER",
	"incident":   "bouncer incident list",
	"tape":       "bouncer tape list",
	"invitation": "bouncer person invitations",
	"label":      "bouncer label list",
	"login":      "bouncer login list",
	"person":     "bouncer person list",
	"rule":       "bouncer rule list",
	"secret":     "bouncer secret list",
	"server":     "bouncer server list",
	"sign-in":    "bouncer sign-in list",

	"checkup of server": "bouncer checkup SERVER",
	"standing decision": "bouncer held standing",
	"tool":              "bouncer agent reach AGENT",
	"valid pass":        "bouncer agent passes",
}

func afterMissing(kind string) string {
	if list := listed[kind]; list != "" {
		return "check the spelling; " + list + " shows what there is"
	}
	return "it has ended, or somebody removed it meanwhile; begin again"
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

// decode reads the body into a T. Unknown members are refused, so that a typing
// error in a name is not silently ignored.
func decode[T any](c *call) (T, error) {
	var v T
	media, _, _ := strings.Cut(c.Header.Get("Content-Type"), ";")
	if strings.TrimSpace(media) != "application/json" {
		return v, &team.FieldError{Field: "Content-Type", Why: "must be application/json"}
	}
	dec := json.NewDecoder(c.Body)
	dec.DisallowUnknownFields()
	err := dec.Decode(&v)
	if err == nil {
		if _, err := dec.Token(); err != io.EOF {
			return v, &team.FieldError{Field: "body", Why: "must be one JSON object and nothing after it"}
		}
		return v, nil
	}
	var large *http.MaxBytesError
	var typ *json.UnmarshalTypeError
	var syn *json.SyntaxError
	switch {
	case errors.As(err, &large):
		return v, err
	case errors.As(err, &typ):
		return v, &team.FieldError{Field: typ.Field, Why: "must be a " + typ.Type.String()}
	case errors.As(err, &syn):
		return v, &team.FieldError{Field: "body", Why: fmt.Sprintf("is not JSON at byte %d", syn.Offset)}
	case strings.HasPrefix(err.Error(), "json: unknown field "):
		name := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		return v, &team.FieldError{Field: name, Why: "is no member of this request"}
	}
	return v, &team.FieldError{Field: "body", Why: "must be a JSON object"}
}

// from is the caller's address, for the brake on guessing.
func (c *call) from() string { return origin.Client(c.Request, c.api.o.Proxies) }

func (c *call) timeField(name string) (time.Time, error) {
	v := c.URL.Query().Get(name)
	if v == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.RFC3339, v)
	if err != nil {
		return t, &team.FieldError{Field: name, Why: "must be a time like 2026-03-01T08:30:00Z (RFC 3339)"}
	}
	return t, nil
}

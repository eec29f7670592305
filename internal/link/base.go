// Package link holds the conversations with tool servers. A Link is Bouncer's
// end of one conversation, whatever the transport and the revision: it opens the
// session, reads what is offered, carries requests and tells when the offer
// changes. A Keeper keeps the links to one server alive and says how they are
// doing.
//
// Credentials are attached here and nowhere else. A Link never follows a
// redirect and never repeats a request whose bytes may have been acted upon.
package link

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
)

// Link is one conversation with a server, as calls are carried over it.
// Implementations are safe for concurrent use. Errors are *Failure, or those of
// the context.
type Link interface {
	// Begin sends a request and returns the exchange it opened.
	Begin(ctx context.Context, a *Ask) (Exchange, error)
	// Revision is the one in use, "" when that is not known now.
	Revision() string
	// NextID returns an id that no other request of this link has.
	NextID() uint64
	// Cancel tells the server that the answer to a request is no longer wanted.
	Cancel(ctx context.Context, id uint64, reason string) error
	// Notify sends a notification, where the conversation has a session.
	Notify(ctx context.Context, method string, params []byte) error
	// Log asks for log messages from a level on, unless quieter ones are asked for
	// already.
	Log(ctx context.Context, level string) error
	// Close ends the session and what belongs to it; a later Begin opens another.
	Close(ctx context.Context)
}

// Transport is a Link with what keeping it alive needs. What distinguishes the
// transports is told by Traits; nobody asks which one it is.
type Transport interface {
	Link
	// Name is the server's.
	Name() string
	// Traits tells what this transport, to this server, is like.
	Traits() Traits
	// Open opens the session, unless it is open.
	Open(ctx context.Context) (Greeting, error)
	// Probe opens the session, unless it is open, reads what the server offers,
	// and times each step.
	Probe(ctx context.Context) (Offer, []team.Stage, error)
	// Offer reads what the server offers.
	Offer(ctx context.Context) (Offer, error)
	// Subscribe begins or ends to hear of changes of one resource. Subscriptions
	// outlive the session they were made in.
	Subscribe(ctx context.Context, uri string, on bool) error
	// SetListener says who is told of messages outside of any exchange; until then
	// nobody is.
	SetListener(Listener)
	// Listen holds what the server tells by itself until ctx ends or it breaks off.
	// It returns true when the server should be looked at again, false when it has
	// no way to tell of changes. ready is called when listening has begun: what the
	// server says before may be lost. It may be called more than once.
	Listen(ctx context.Context, ready func()) bool
	// Fork returns another conversation with the same server, which declares other
	// capabilities; with session it has a session, even of a server that needs none.
	// It is nil where the server cannot be had twice.
	Fork(caps wire.Caps, session bool) Transport
	// Diagnostics are the end of what a process wrote to standard error, masked, and
	// how many lines it wrote to standard output that were not the protocol.
	Diagnostics() (stderr string, noise int)
}

// Traits are what distinguishes transports for those who keep them.
type Traits struct {
	// CheapForks: another conversation costs no more than a session.
	CheapForks bool
	// KeepsSessions: the server gave the session an id.
	KeepsSessions bool
	// StartsProcess: opening starts a process.
	StartsProcess bool
	// Static: the offer follows from the registration, and Offer asks nobody.
	Static bool
}

// Ask is a request, and on whose behalf it is sent.
type Ask struct {
	wire.Ask
	// ID is one that NextID gave, so that the request can be cancelled while Begin
	// waits; 0 lets the link choose.
	ID     uint64
	Client Client
	// Stage names what is being done, for diagnosis.
	Stage string
	// Mirrors are the arguments of the tool that go into headers.
	Mirrors []wire.Mirror
	// Pauses asks to be told when the server interrupts its answer.
	Pauses bool
}

// Pause is what Next returns when the server has broken off its stream and wants
// to be asked again after a while (MCP 2025-11-25, transports: a server may close
// the stream at any time). The call goes on: the next Next waits that long and
// takes the stream up again.
type Pause struct{ Retry time.Duration }

// Error implements error.
func (p *Pause) Error() string {
	return "the server interrupted its answer for " + p.Retry.String()
}

// Client is who a request is sent for, as the server is told: what it can do,
// what it calls itself (raw JSON, or nil) and which log messages it wants.
type Client struct {
	Caps  wire.Caps
	Info  []byte
	Level string
}

// Listener is told of a message that belongs to no exchange: a notification, or a
// request of the server. A request is answered through answer; the ear returns
// false when it will not do that. It must not block, and the frame is valid only
// until it returns.
type Listener func(frame []byte, f wire.Frame, answer func(body []byte)) bool

// Exchange is one request on its way: the messages that the server sends for
// it, ending with the answer. Next is called by one goroutine; Answer may be
// called by others. It must be closed.
type Exchange interface {
	// ID is the id, and the progress token, that the request went out with.
	ID() uint64
	// Next returns the next message for this request: notifications and requests
	// of the server, then the response. The frame is valid until the next call.
	Next() (frame []byte, f wire.Frame, err error)
	// Answer sends a response to a request of the server.
	Answer(ctx context.Context, body []byte) error
	Close()
}

// answer returns the response. Notifications before it are passed over, and
// requests refused.
func answer(ctx context.Context, x Exchange) ([]byte, wire.Frame, error) {
	for {
		frame, f, err := x.Next()
		if err != nil || f.Kind == wire.Response {
			return frame, f, err
		}
		if f.Kind == wire.Request {
			// If it cannot be delivered, the server's own time limit ends its wait.
			_ = x.Answer(ctx, refusal(frame, f))
		}
	}
}

// refusal is the answer to a request of a server that nobody takes: ping as the
// protocol asks, anything else with the error that says so.
func refusal(frame []byte, f wire.Frame) []byte {
	if f.Method == "ping" {
		return wire.AppendResult(nil, f.ID.Of(frame), []byte("{}"))
	}
	return wire.AppendError(nil, f.ID.Of(frame), wire.CodeMethodNotFound, "not supported by this client", nil)
}

// Options bound a conversation; the zero value is the default.
type Options struct {
	Version        string        // Bouncer's own, told to servers
	ConnectTimeout time.Duration // for a connection; 0 means 10 s
	SetupTimeout   time.Duration // for initialize and for listing; 0 means 30 s
	MessageLimit   int           // bytes of one message; 0 means 16 MiB
}

func (o Options) withDefaults() Options {
	if o.ConnectTimeout == 0 {
		o.ConnectTimeout = 10 * time.Second
	}
	if o.SetupTimeout == 0 {
		o.SetupTimeout = 30 * time.Second
	}
	if o.MessageLimit == 0 {
		o.MessageLimit = 16 << 20
	}
	return o
}

// Limits on what a server may make Bouncer do.
const (
	maxPages     = 200
	maxErrorBody = 64 << 10
	maxStrayMsgs = 10_000 // messages before the answer of one request
)

// Greeting is what a server said of itself when the session was opened.
type Greeting struct {
	Revision     string
	Name         string
	Version      string
	Instructions string
	// What it declares to have.
	Tools, Prompts, Resources, Subscribe, Completions, Logging, Tasks bool
	TaskExtension                                                     bool
	// Which lists it tells the changes of.
	ToolsChanged, PromptsChanged, ResourcesChanged bool
}

// Offer is what a server offers.
type Offer struct {
	Greeting
	Lists map[tools.Kind][]tools.Tool
	// Left says what could not be taken, and why.
	Left []string
}

// dropMisannotated leaves out the tools whose mirrored arguments break the rules
// of their headers (MCP 2026-07-28, transports); the others stay.
func (o *Offer) dropMisannotated() {
	o.Lists[tools.Tools] = slices.DeleteFunc(o.Lists[tools.Tools], func(t tools.Tool) bool {
		_, err := wire.ReadMirrors(t.Raw)
		if err != nil {
			o.Left = append(o.Left, fmt.Sprintf("tool %q: %v", t.Name, err))
		}
		return err != nil
	})
}

// Digest tells two offers apart.
func (o Offer) Digest() string {
	var b strings.Builder
	for _, k := range tools.Kinds {
		b.WriteString(tools.Digest(o.Lists[k]))
	}
	fmt.Fprintf(&b, "%v", o.Greeting)
	return b.String()
}

// Failure is an error with its finding.
type Failure struct {
	diagnosis.Finding
	// Lost is set when the server no longer knows the session.
	Lost bool
	// Refused is set when the request was turned away before it was executed.
	Refused bool
	// Status is the HTTP status of the answer, 0 when there was none.
	Status int
	// SignIn is an address where somebody can supply what is missing; "" for none.
	SignIn string
	// Challenge is the WWW-Authenticate header of a refusal, as it came.
	Challenge http.Header
	cause     error
}

// NewFailure returns a failure with a finding of its own.
func NewFailure(f diagnosis.Finding, signIn string, cause error) *Failure {
	return &Failure{Finding: f, SignIn: signIn, Refused: true, cause: cause}
}

// Found returns the finding.
func (f *Failure) Found() diagnosis.Finding { return f.Finding }

func (f *Failure) Error() string { return f.Finding.Message }

func (f *Failure) Unwrap() error { return f.cause }

// base is what every conversation has.
type base struct {
	server   string
	o        Options
	mask     *mask.Masker
	caps     wire.Caps // declared in sessions; everything until With says otherwise
	nextID   *atomic.Uint64
	listener atomic.Pointer[Listener]

	mu      sync.Mutex
	watched map[string]bool // URIs subscribed to
	level   string          // of log messages asked for; "" for none
}

func newBase(server string, o Options, secrets ...string) *base {
	return &base{server: server, o: o.withDefaults(), caps: wire.EveryCap, mask: mask.New(secrets), nextID: new(atomic.Uint64), watched: map[string]bool{}}
}

// fork returns the base of another conversation with the same server.
func (l *base) fork(caps wire.Caps) *base {
	n := newBase(l.server, l.o)
	n.mask, n.nextID, n.caps = l.mask, l.nextID, caps
	return n
}

// NextID implements Link.
func (l *base) NextID() uint64 { return l.nextID.Add(1) }

// id is the id of a request.
func (l *base) id(a *Ask) uint64 {
	if a.ID != 0 {
		return a.ID
	}
	return l.NextID()
}

// Name implements Transport.
func (l *base) Name() string { return l.server }

// SetListener implements Transport.
func (l *base) SetListener(to Listener) { l.listener.Store(&to) }

// tell passes a message outside of any exchange on; a request that nobody takes
// is refused through answer.
func (l *base) tell(frame []byte, f wire.Frame, answer func([]byte)) {
	if f.Kind == wire.Request && f.Method == "ping" {
		answer(refusal(frame, f))
		return
	}
	to := l.listener.Load()
	if (to == nil || !(*to)(frame, f, answer)) && f.Kind == wire.Request {
		answer(refusal(frame, f))
	}
}

// maxWatched bounds the resources of one server that are subscribed to.
const maxWatched = 10_000

// watch notes a subscription; false when there are too many.
func (l *base) watch(uri string, on bool) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !on {
		delete(l.watched, uri)
		return true
	}
	if len(l.watched) >= maxWatched {
		return false
	}
	l.watched[uri] = true
	return true
}

// claim notes a subscription if the server has them and there is room for it.
func (l *base) claim(g Greeting, uri string, on bool) error {
	note := ""
	switch {
	case !g.Subscribe:
		note = "it has no subscriptions"
	case !l.watch(uri, on):
		note = fmt.Sprintf("more than %d resources are subscribed to", maxWatched)
	default:
		return nil
	}
	return l.fail(diagnosis.Evidence{Stage: "subscribe", What: diagnosis.NotOffered, Note: note}, nil)
}

// subscribe makes or ends a subscription by a request of the initialize era. One
// that the server refuses is forgotten.
func (l *base) subscribe(ctx context.Context, g Greeting, uri string, on bool, begin func(context.Context, *Ask) (Exchange, error)) error {
	if err := l.claim(g, uri, on); err != nil {
		return err
	}
	err := l.asked(ctx, subscription(uri, on), begin)
	if err != nil && on {
		l.watch(uri, false)
	}
	return err
}

func (l *base) watching() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Sorted(maps.Keys(l.watched))
}

// louder notes the level of log messages that somebody wants; false when those
// are sent already.
func (l *base) louder(level string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.level != "" && wire.Level(l.level) <= wire.Level(level) {
		return false
	}
	l.level = level
	return true
}

// settle makes a fresh session as the last one was: subscriptions and log level.
// What is refused now was told as accepted before, and only stays silent.
func (l *base) settle(ctx context.Context, begin func(context.Context, *Ask) (Exchange, error)) {
	l.mu.Lock()
	level := l.level
	l.mu.Unlock()
	asks := []*Ask{}
	if level != "" {
		asks = append(asks, logLevel(level))
	}
	for _, uri := range l.watching() {
		asks = append(asks, subscription(uri, true))
	}
	for _, a := range asks {
		if l.asked(ctx, a, begin) != nil && ctx.Err() != nil {
			return
		}
	}
}

// log raises the level of a session that has levels.
func (l *base) log(ctx context.Context, g Greeting, level string, begin func(context.Context, *Ask) (Exchange, error)) error {
	if wire.Stateless(g.Revision) || !g.Logging || !l.louder(level) {
		return nil
	}
	return l.asked(ctx, logLevel(level), begin)
}

func logLevel(level string) *Ask {
	return own("logging/setLevel", append(append([]byte(`{"level":`), wire.Quote(level)...), '}'), "log")
}

// own is a request of Bouncer's own.
func own(method string, params []byte, stage string) *Ask {
	return &Ask{Ask: wire.Ask{Method: method, Src: params, Params: wire.Span{Start: 0, End: len(params)}}, Stage: stage}
}

func subscription(uri string, on bool) *Ask {
	method := "resources/subscribe"
	if !on {
		method = "resources/unsubscribe"
	}
	a := own(method, append(append([]byte(`{"uri":`), wire.Quote(uri)...), '}'), "subscribe")
	a.Subject, a.P.Subject = uri, uri
	return a
}

// info is Bouncer's name and version, as servers are told.
func (l *base) info() []byte {
	// Maps of strings cannot fail to be written.
	raw, _ := json.Marshal(map[string]string{"name": "bouncer", "version": l.o.Version})
	return raw
}

// hello is the params of initialize.
func (l *base) hello() []byte {
	params, _ := json.Marshal(map[string]any{
		"protocolVersion": wire.NewestSession,
		"capabilities":    json.RawMessage(l.caps.JSON(wire.NewestSession)),
		"clientInfo":      json.RawMessage(l.info()),
	})
	return params
}

// capabilities are those that a server declares.
type capabilities struct {
	Tools       *struct{ ListChanged bool }
	Prompts     *struct{ ListChanged bool }
	Resources   *struct{ ListChanged, Subscribe bool }
	Completions *struct{}
	Logging     *struct{}
	Tasks       *struct{}
	Extensions  map[string]json.RawMessage
}

func (c capabilities) fill(g *Greeting) {
	if c.Tools != nil {
		g.Tools, g.ToolsChanged = true, c.Tools.ListChanged
	}
	if c.Prompts != nil {
		g.Prompts, g.PromptsChanged = true, c.Prompts.ListChanged
	}
	if c.Resources != nil {
		g.Resources, g.ResourcesChanged, g.Subscribe = true, c.Resources.ListChanged, c.Resources.Subscribe
	}
	_, g.TaskExtension = c.Extensions[wire.TasksExtension]
	g.Completions, g.Logging, g.Tasks = c.Completions != nil, c.Logging != nil, c.Tasks != nil
}

func (l *base) readGreeting(frame []byte, f wire.Frame) (Greeting, error) {
	if !f.Error.Empty() {
		e := wire.ReadError(frame, f.Error)
		return Greeting{}, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.InitRefused, RPCCode: e.Code, RPCMessage: l.short(e.Message)}, nil)
	}
	var r struct {
		ProtocolVersion string
		Capabilities    capabilities
		ServerInfo      struct{ Name, Version string }
		Instructions    string
	}
	if err := json.Unmarshal(f.Result.Of(frame), &r); err != nil || r.ProtocolVersion == "" {
		return Greeting{}, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.Malformed, Note: "its answer to initialize has no protocolVersion"}, err)
	}
	if !wire.SpeaksSession(r.ProtocolVersion) {
		return Greeting{}, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.NoRevision, Note: "it offers " + l.short(r.ProtocolVersion)}, nil)
	}
	g := Greeting{Revision: r.ProtocolVersion, Name: l.short(r.ServerInfo.Name), Version: l.short(r.ServerInfo.Version), Instructions: bounded(r.Instructions)}
	r.Capabilities.fill(&g)
	return g, nil
}

// readDiscovery reads the answer to server/discover. ok is false when the server
// does not speak a stateless revision that Bouncer speaks.
func (l *base) readDiscovery(result []byte) (g Greeting, ok bool) {
	var r struct {
		SupportedVersions []string
		Capabilities      capabilities
		Instructions      string
		Meta              map[string]json.RawMessage `json:"_meta"`
	}
	if json.Unmarshal(result, &r) != nil || !slices.ContainsFunc(r.SupportedVersions, wire.SpeaksStateless) {
		return g, false
	}
	var info struct{ Name, Version string }
	// The name is only shown, so one that cannot be read is no fault.
	_ = json.Unmarshal(r.Meta[wire.MetaServer], &info)
	g = Greeting{Revision: wire.NewestStateless, Name: l.short(info.Name), Version: l.short(info.Version), Instructions: bounded(r.Instructions)}
	r.Capabilities.fill(&g)
	return g, true
}

// bounded cuts what a server says to agents about itself.
func bounded(s string) string {
	if len(s) > 16<<10 {
		return strings.ToValidUTF8(s[:16<<10], "")
	}
	return s
}

// asker sends a request of Bouncer's own and returns the answer.
type asker func(ctx context.Context, method string, params []byte) ([]byte, wire.Frame, error)

// asking returns the asker over a conversation.
func asking(begin func(context.Context, *Ask) (Exchange, error)) asker {
	return func(ctx context.Context, method string, params []byte) ([]byte, wire.Frame, error) {
		x, err := begin(ctx, own(method, params, "tools"))
		if err != nil {
			return nil, wire.Frame{}, err
		}
		defer x.Close()
		frame, f, err := answer(ctx, x)
		return bytes.Clone(frame), f, err // the frame is the exchange's, which ends here
	}
}

// offer reads every list that the server declares to have. Tools that cannot be
// listed are a failure; the rest is left out and told.
func (l *base) offer(ctx context.Context, g Greeting, ask asker) (Offer, error) {
	o := Offer{Greeting: g, Lists: map[tools.Kind][]tools.Tool{}}
	for _, kind := range tools.Kinds {
		if has := map[tools.Kind]bool{tools.Tools: g.Tools, tools.Prompts: g.Prompts, tools.Resources: g.Resources, tools.Templates: g.Resources}[kind]; !has {
			continue
		}
		list, left, err := l.list(ctx, kind, ask)
		var f *Failure
		switch {
		case err == nil:
			o.Lists[kind] = list
			o.Left = append(o.Left, left...)
		case kind == tools.Tools || !errors.As(err, &f):
			return o, err
		case kind == tools.Templates && f.Cause == diagnosis.NotServed:
			// Servers with resources need not have templates.
		default:
			o.Left = append(o.Left, fmt.Sprintf("its %s could not be listed: %s", kind, f.Message))
		}
	}
	return o, nil
}

// list reads all pages of one list through ask. left says what could not be
// taken.
func (l *base) list(ctx context.Context, kind tools.Kind, ask asker) (list []tools.Tool, left []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, l.o.SetupTimeout)
	defer cancel()
	var pages [][]tools.Tool
	seen := map[string]bool{}
	count := 0
	for cursor := ""; ; {
		var params []byte
		if cursor != "" {
			params = append(append([]byte(`{"cursor":`), wire.Quote(cursor)...), '}')
		}
		frame, f, err := ask(ctx, kind.Method(), params)
		if err != nil {
			return nil, nil, err
		}
		if !f.Error.Empty() {
			e := wire.ReadError(frame, f.Error)
			return nil, nil, l.fail(diagnosis.Evidence{Stage: "tools", What: diagnosis.NotServed, RPCCode: e.Code, RPCMessage: l.short(e.Message)}, nil)
		}
		page, next, skipped, err := tools.ReadPage(kind, f.Result.Of(frame))
		if err != nil {
			return nil, nil, l.fail(diagnosis.Evidence{Stage: "tools", What: diagnosis.Malformed, Note: err.Error()}, err)
		}
		pages, left = append(pages, page), append(left, skipped...)
		count += len(page)
		if next == "" {
			break
		}
		if seen[next] || len(pages) >= maxPages || count > tools.MaxTools {
			return nil, nil, l.fail(diagnosis.Evidence{Stage: "tools", What: diagnosis.EndlessPages, Note: fmt.Sprintf("given up after %d pages and %d %s", len(pages), count, kind)}, nil)
		}
		seen[next], cursor = true, next
	}
	list, twice := tools.Merge(kind, pages...)
	return list, append(left, twice...), nil
}

func (l *base) fail(e diagnosis.Evidence, cause error) *Failure {
	e.Server = l.server
	return &Failure{Finding: diagnosis.Explain(e), cause: cause}
}

// short makes a server's own words fit to be shown: masked, one line, bounded.
func (l *base) short(s string) string {
	text, cut := l.mask.Cut(strings.Join(strings.Fields(s), " "), 200)
	if cut {
		text += "..."
	}
	return text
}

func isTimeout(err error) bool {
	var t interface{ Timeout() bool }
	return errors.Is(err, context.DeadlineExceeded) || (errors.As(err, &t) && t.Timeout())
}

func (l *base) netFail(ctx context.Context, err error, stage string) error {
	if context.Cause(ctx) == context.Canceled {
		return context.Canceled
	}
	var known *Failure
	if errors.As(err, &known) {
		return known
	}
	e := diagnosis.Evidence{Stage: stage, Err: err, Timeout: isTimeout(err) || ctx.Err() != nil}
	var op *net.OpError
	var dns *net.DNSError
	if errors.As(err, &dns) {
		e.Stage = "resolve"
	} else if errors.As(err, &op) && op.Op == "dial" {
		e.Stage = "connect"
	} else if strings.Contains(err.Error(), "TLS handshake timeout") {
		e.Stage, e.Timeout = "tls", true
	}
	f := l.fail(e, err)
	f.Refused = e.Stage != stage
	return f
}

// asked sends a request of Bouncer's own whose answer is only yes or no.
func (l *base) asked(ctx context.Context, a *Ask, begin func(context.Context, *Ask) (Exchange, error)) error {
	ctx, cancel := context.WithTimeout(ctx, l.o.SetupTimeout)
	defer cancel()
	x, err := begin(ctx, a)
	if err != nil {
		return err
	}
	defer x.Close()
	frame, f, err := answer(ctx, x)
	if err != nil {
		return err
	}
	if !f.Error.Empty() {
		return &Refusal{wire.ReadError(frame, f.Error)}
	}
	return nil
}

// Refusal is a server's own error as the answer to a request.
type Refusal struct{ wire.RPCError }

func (r *Refusal) Error() string { return r.Message }

// pause keeps a stream that closes at once from being opened again and again.
func pause(ctx context.Context, opened time.Time) bool {
	if left := 5*time.Second - time.Since(opened); left > 0 {
		select {
		case <-time.After(left):
		case <-ctx.Done():
		}
	}
	return true
}

// cancelled is the notification that an answer is no longer wanted.
func cancelled(id uint64, reason string) []byte {
	return wire.AppendNotification(nil, "notifications/cancelled", fmt.Appendf(nil, `{"requestId":%d,"reason":%s}`, id, wire.Quote(reason)))
}

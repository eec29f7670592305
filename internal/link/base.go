// Package link holds the conversations with tool servers. A Link is Bouncer's
// end of one conversation, over streamable HTTP or with a local process: it
// opens the session, lists the tools, carries requests and tells when the list
// changes. A Keeper keeps one Link alive and says how it is doing.
//
// Credentials are attached here and nowhere else. A Link never follows a
// redirect and never repeats a request whose bytes may have been acted upon.
package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/team"
)

// Link is one conversation with a server. Implementations are safe for
// concurrent use. Errors are *Failure, or those of the context.
type Link interface {
	// Begin sends a request with an id from NextID and returns the exchange it
	// opened. stage names what is being done, for diagnosis.
	Begin(ctx context.Context, body []byte, id uint64, stage string) (Exchange, error)
	// Cancel tells the server that the answer to a request is no longer wanted.
	Cancel(ctx context.Context, id uint64, reason string) error
	// NextID returns an id that no other request of this link has.
	NextID() uint64
	// Probe opens the session, unless it is open, lists the tools, and times each
	// step.
	Probe(ctx context.Context) (Greeting, []tools.Tool, []string, []team.Stage, error)
	// Tools lists the tools.
	Tools(ctx context.Context) ([]tools.Tool, []string, error)
	// Close ends the session and what belongs to it; a later Begin opens another.
	Close(ctx context.Context)

	// listen returns true when the server should be looked at again, false when
	// it has no way to tell.
	listen(ctx context.Context) bool
	name() string
}

// Exchange is one request on its way: the messages that the server sends for
// it, ending with the answer. It is used by one goroutine and must be closed.
type Exchange interface {
	// Next returns the next message for this request: notifications, then the
	// response. The frame is valid until the next call.
	Next() (frame []byte, f wire.Frame, err error)
	Close()
}

// answer returns the response, passing over everything before it.
func answer(x Exchange) ([]byte, wire.Frame, error) {
	for {
		frame, f, err := x.Next()
		if err != nil || f.Kind == wire.Response {
			return frame, f, err
		}
	}
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
	HasTools     bool
}

// Failure is an error with its finding.
type Failure struct {
	diagnosis.Finding
	// Lost is set when the server no longer knows the session.
	Lost bool
	// Refused is set when the request was turned away before it was executed.
	Refused bool
	cause   error
}

func (f *Failure) Error() string { return f.Finding.Message }
func (f *Failure) Unwrap() error { return f.cause }

// base is what every conversation has.
type base struct {
	server string
	o      Options
	mask   *mask.Masker
	nextID atomic.Uint64
}

// asker sends a request of Bouncer's own and returns the answer.
type asker func(ctx context.Context, method string, params []byte) ([]byte, wire.Frame, error)

func newBase(server string, o Options, secrets ...string) *base {
	return &base{server: server, o: o.withDefaults(), mask: mask.New(secrets)}
}

func (l *base) name() string { return l.server }

// NextID returns an id that no other request of this link has.
func (l *base) NextID() uint64 { return l.nextID.Add(1) }

// hello is the params of initialize.
func (l *base) hello() []byte {
	// Maps of strings cannot fail to be written.
	params, _ := json.Marshal(map[string]any{
		"protocolVersion": wire.NewestSession,
		"capabilities":    map[string]any{},
		"clientInfo":      map[string]string{"name": "bouncer", "version": l.o.Version},
	})
	return params
}

func (l *base) readGreeting(frame []byte, f wire.Frame) (Greeting, error) {
	if !f.Error.Empty() {
		e := wire.ReadError(frame, f.Error)
		return Greeting{}, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.InitRefused, RPCCode: e.Code, RPCMessage: l.short(e.Message)}, nil)
	}
	var r struct {
		ProtocolVersion string
		Capabilities    struct{ Tools *struct{} }
		ServerInfo      struct{ Name, Version string }
		Instructions    string
	}
	if err := json.Unmarshal(f.Result.Of(frame), &r); err != nil || r.ProtocolVersion == "" {
		return Greeting{}, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.Malformed, Note: "its answer to initialize has no protocolVersion"}, err)
	}
	if !wire.SpeaksSession(r.ProtocolVersion) {
		return Greeting{}, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.NoRevision, Note: "it offers " + l.short(r.ProtocolVersion)}, nil)
	}
	return Greeting{r.ProtocolVersion, l.short(r.ServerInfo.Name), l.short(r.ServerInfo.Version), r.Instructions, r.Capabilities.Tools != nil}, nil
}

// listTools lists all pages of the server's tools through ask. left says what
// could not be taken.
func (l *base) listTools(ctx context.Context, ask asker) (list []tools.Tool, left []string, err error) {
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
		frame, f, err := ask(ctx, "tools/list", params)
		if err != nil {
			return nil, nil, err
		}
		if !f.Error.Empty() {
			e := wire.ReadError(frame, f.Error)
			return nil, nil, l.fail(diagnosis.Evidence{Stage: "tools", What: diagnosis.NotServed, RPCCode: e.Code, RPCMessage: l.short(e.Message)}, nil)
		}
		page, next, skipped, err := tools.ReadPage(f.Result.Of(frame))
		if err != nil {
			return nil, nil, l.fail(diagnosis.Evidence{Stage: "tools", What: diagnosis.Malformed, Note: err.Error()}, err)
		}
		pages, left = append(pages, page), append(left, skipped...)
		count += len(page)
		if next == "" {
			break
		}
		if seen[next] || len(pages) >= maxPages || count > tools.MaxTools {
			return nil, nil, l.fail(diagnosis.Evidence{Stage: "tools", What: diagnosis.EndlessPages, Note: fmt.Sprintf("given up after %d pages and %d tools", len(pages), count)}, nil)
		}
		seen[next], cursor = true, next
	}
	list, twice := tools.Merge(pages...)
	return list, append(left, twice...), nil
}

func (l *base) fail(e diagnosis.Evidence, cause error) *Failure {
	e.Server = l.server
	return &Failure{Finding: diagnosis.Explain(e), cause: cause}
}

// short makes a server's own words fit to be shown: masked, one line, bounded.
func (l *base) short(s string) string {
	text, cut := l.mask.Cut([]byte(strings.Join(strings.Fields(s), " ")), 200)
	if cut {
		text += "..."
	}
	return text
}

func isTimeout(err error) bool {
	var t interface{ Timeout() bool }
	return errors.Is(err, context.DeadlineExceeded) || (errors.As(err, &t) && t.Timeout())
}

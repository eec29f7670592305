package placement

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/cluster/passage"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

// What one node asks of another.
const (
	opBegin     = "begin"
	opOffer     = "offer"
	opNotify    = "notify"
	opLog       = "log"
	opSubscribe = "subscribe"
	opListen    = "listen"
	opClose     = "close"
)

// request is the first message of a passage.
type request struct {
	Op      string
	Name    string // of the conversation
	Talk    string `json:",omitempty"` // of that of one agent; "" for the one that is shared
	Caps    wire.Caps
	Session bool `json:",omitempty"`

	Frame  []byte      `json:",omitempty"` // the request to the server
	Client link.Client `json:",omitzero"`
	Stage  string      `json:",omitempty"`
	Method string      `json:",omitempty"`
	Params []byte      `json:",omitempty"`
	Level  string      `json:",omitempty"`
	URI    string      `json:",omitempty"`
	On     bool        `json:",omitempty"`
}

// remark is what is said to a request that is under way.
type remark struct {
	Answer []byte `json:",omitempty"` // to a question of the server
	Cancel string `json:",omitempty"` // why the answer is not wanted any more
	To     int    `json:",omitempty"` // number of the question, of one that came outside of any request
}

// reply is what comes back.
type reply struct {
	ID      uint64       `json:",omitempty"` // that the request went out with
	Frame   []byte       `json:",omitempty"`
	Offer   *link.Offer  `json:",omitempty"`
	Stages  []team.Stage `json:",omitempty"`
	Failure *failure     `json:",omitempty"`
	Done    bool         `json:",omitempty"`
	// Question is the number of a request of the server that came outside of any request; 0 for none.
	Question int `json:",omitempty"`
}

// failure is a link.Failure on its way between nodes.
type failure struct {
	Finding       diagnosis.Finding
	Lost, Refused bool
	Status        int
	SignIn, Err   string
	Server        *wire.RPCError `json:",omitempty"` // the error that the server itself answered with
}

func failureOf(err error) *failure {
	var f *link.Failure
	if errors.As(err, &f) {
		out := &failure{Finding: f.Finding, Lost: f.Lost, Refused: f.Refused, Status: f.Status, SignIn: f.SignIn}
		if f.Err != nil {
			out.Err = f.Err.Error()
		}
		return out
	}
	var own *link.ServerError
	if errors.As(err, &own) {
		return &failure{Server: &own.RPCError, Err: err.Error()}
	}
	found := diagnosis.Explain(diagnosis.Evidence{Err: err, Timeout: link.IsTimeout(err), Process: true})
	return &failure{Finding: found, Err: err.Error()}
}

func (f *failure) error() error {
	if f.Server != nil {
		return &link.ServerError{RPCError: *f.Server}
	}
	out := &link.Failure{Finding: f.Finding, Lost: f.Lost, Refused: f.Refused, Status: f.Status, SignIn: f.SignIn}
	if f.Err != "" {
		out.Err = errors.New(f.Err)
	}
	return out
}

// far is a conversation with a process at another node. It implements link.Transport.
type far struct {
	c       *Conn
	talk    string // of a conversation of one agent; "" for the one that is shared
	caps    wire.Caps
	session bool
	rev     atomic.Pointer[string]

	mu       sync.Mutex // guards what follows
	pinned   string     // the node that has the conversation of one agent; "" before it has begun
	listener link.Listener
	begun    map[uint64]*exchange // by the id that the link gave
}

func newFar(c *Conn, talk string, caps wire.Caps, session bool) *far {
	return &far{c: c, talk: talk, caps: caps, session: session, begun: map[uint64]*exchange{}}
}

func newTalk() string { return rand.Text() }

// nowhere says that the process cannot be had.
func (f *far) nowhere(node string, err error) *link.Failure {
	note := "it is not known at which node it runs"
	switch {
	case node != "":
		note = "it runs at the node " + node + ", which cannot be asked"
		if err != nil {
			note += ": " + err.Error()
		}
	default:
		if label, ok := team.PlacedAt(f.c.placement); ok {
			note = "no node with the label " + label + " is there"
		}
	}
	found := diagnosis.Explain(diagnosis.Evidence{Server: f.c.Name(), Process: true, What: diagnosis.NoNode, Note: note})
	return &link.Failure{Finding: found, Refused: true, Err: err}
}

// node is the node to be asked.
func (f *far) node(ctx context.Context) (string, error) {
	f.mu.Lock()
	pinned := f.pinned
	f.mu.Unlock()
	if pinned != "" {
		return pinned, nil
	}
	node, err := f.c.known(ctx)
	if err != nil {
		return "", err
	}
	if f.talk != "" {
		f.mu.Lock()
		f.pinned = node
		f.mu.Unlock()
	}
	return node, nil
}

// open opens a passage with a request.
func (f *far) open(ctx context.Context, r request) (*passage.Passage, string, error) {
	node, err := f.node(ctx)
	if err != nil {
		return nil, "", err
	}
	r.Name, r.Talk, r.Caps, r.Session = f.c.name, f.talk, f.caps, f.session
	raw, err := json.Marshal(r)
	if err != nil {
		return nil, node, fmt.Errorf("ask the node %s: %w", node, err)
	}
	p, err := f.c.p.passing.Open(ctx, node, raw)
	if err != nil {
		return nil, node, f.nowhere(node, err)
	}
	return p, node, nil
}

// ask asks something that has one answer.
func (f *far) ask(ctx context.Context, r request) (out reply, err error) {
	p, node, err := f.open(ctx, r)
	if err != nil {
		return out, err
	}
	defer p.End("")
	return f.receive(ctx, p, node)
}

// receive returns the next reply.
func (f *far) receive(ctx context.Context, p *passage.Passage, node string) (out reply, err error) {
	raw, err := p.Receive(ctx)
	switch {
	case ctx.Err() != nil:
		return out, ctx.Err()
	case err != nil:
		f.unpin(diagnosis.NoNode)
		return out, f.nowhere(node, err)
	}
	if err := json.Unmarshal(raw, &out); err != nil {
		return out, f.nowhere(node, err)
	}
	if out.Failure != nil {
		f.unpin(out.Failure.Finding.Cause)
		return out, out.Failure.error()
	}
	return out, nil
}

// unpin has a conversation of one agent begin anew, where the process runs by now, when the node that had
// it does not run it any more.
func (f *far) unpin(cause diagnosis.Cause) {
	if cause != diagnosis.NoNode {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.pinned = ""
}

// Begin implements link.Link.
func (f *far) Begin(ctx context.Context, a *link.Ask) (link.Exchange, error) {
	id := a.ID
	if id == 0 {
		id = f.NextID()
	}
	frame := a.Append(make([]byte, 0, len(a.Src)+96), id, nil)
	p, node, err := f.open(ctx, request{Op: opBegin, Frame: frame, Client: a.Client, Stage: a.Stage})
	if err != nil {
		return nil, err
	}
	x := &exchange{far: f, ctx: ctx, p: p, node: node, given: id}
	f.mu.Lock()
	f.begun[id] = x
	f.mu.Unlock()
	first, err := x.receive()
	if err != nil {
		x.Close()
		return nil, err
	}
	x.id = first.ID
	return x, nil
}

// exchange is a request to a process at another node.
type exchange struct {
	far   *far
	ctx   context.Context
	p     *passage.Passage
	node  string
	given uint64 // the id that the link gave here
	id    uint64 // that the request went out with there
}

// receive returns the next reply. A passage that broke off leaves it unknown what became of the
// request.
func (x *exchange) receive() (reply, error) {
	out, err := x.far.receive(x.ctx, x.p, x.node)
	var f *link.Failure
	if errors.As(err, &f) && f.Cause == diagnosis.NoNode && out.Failure == nil {
		found := diagnosis.Explain(diagnosis.Evidence{
			Stage: "call", Server: x.far.c.Name(), Process: true, What: diagnosis.OutcomeUnknown, Note: f.Err.Error(),
		})
		return out, &link.Failure{Finding: found, Err: f.Err}
	}
	return out, err
}

// ID implements link.Exchange.
func (x *exchange) ID() uint64 { return x.id }

// Next implements link.Exchange.
func (x *exchange) Next() ([]byte, wire.Frame, error) {
	out, err := x.receive()
	if err != nil {
		return nil, wire.Frame{}, err
	}
	f, err := wire.ReadFrame(out.Frame)
	if err != nil {
		return nil, wire.Frame{}, fmt.Errorf("read what the node %s passed on: %w", x.node, err)
	}
	return out.Frame, f, nil
}

// Answer implements link.Exchange.
func (x *exchange) Answer(ctx context.Context, body []byte) error {
	return x.say(ctx, remark{Answer: body})
}

func (x *exchange) say(ctx context.Context, r remark) error {
	raw, err := json.Marshal(r)
	if err != nil {
		return fmt.Errorf("tell the node %s: %w", x.node, err)
	}
	if err := x.p.Send(ctx, raw); err != nil {
		return x.far.nowhere(x.node, err)
	}
	return nil
}

// Close implements link.Exchange.
func (x *exchange) Close() {
	x.p.End("")
	x.far.mu.Lock()
	defer x.far.mu.Unlock()
	if x.far.begun[x.given] == x {
		delete(x.far.begun, x.given)
	}
}

// Revision implements link.Link.
func (f *far) Revision() string {
	if rev := f.rev.Load(); rev != nil {
		return *rev
	}
	return ""
}

// NextID implements link.Link.
func (f *far) NextID() uint64 { return f.c.local.NextID() }

// Cancel implements link.Link.
func (f *far) Cancel(ctx context.Context, id uint64, reason string) error {
	f.cancel(ctx, id, reason)
	return nil
}

// cancel passes on that an answer is not wanted any more; false when there is no such request.
func (f *far) cancel(ctx context.Context, id uint64, reason string) bool {
	f.mu.Lock()
	x := f.begun[id]
	f.mu.Unlock()
	if x == nil {
		return false
	}
	_ = x.say(ctx, remark{Cancel: reason}) // the end of the passage says the same
	return true
}

// Notify implements link.Link.
func (f *far) Notify(ctx context.Context, method string, params []byte) error {
	_, err := f.ask(ctx, request{Op: opNotify, Method: method, Params: params})
	return err
}

// Log implements link.Link.
func (f *far) Log(ctx context.Context, level string) error {
	_, err := f.ask(ctx, request{Op: opLog, Level: level})
	return err
}

// Close implements link.Link: the shared conversation is that of the other node.
func (f *far) Close(ctx context.Context) {
	f.mu.Lock()
	pinned := f.pinned
	f.mu.Unlock()
	if pinned == "" {
		return
	}
	_, _ = f.ask(ctx, request{Op: opClose}) // it ends by itself when this node is not there any more
}

// Name implements link.Transport.
func (f *far) Name() string { return f.c.Name() }

// Traits implements link.Transport.
func (f *far) Traits() link.Traits { return link.Traits{} }

// Open implements link.Transport.
func (f *far) Open(ctx context.Context) (link.Greeting, error) {
	o, err := f.Offer(ctx)
	return o.Greeting, err
}

// Probe implements link.Transport.
func (f *far) Probe(ctx context.Context) (link.Offer, []team.Stage, error) {
	began := time.Now()
	out, err := f.ask(ctx, request{Op: opOffer})
	stages := out.Stages
	if len(stages) == 0 {
		stages = []team.Stage{{Name: "connect", Millis: float64(time.Since(began).Microseconds()) / 1000, OK: err == nil}}
	}
	if err != nil {
		return link.Offer{}, stages, err
	}
	if out.Offer == nil {
		return link.Offer{}, stages, f.nowhere(f.c.at(), errors.New("it said nothing"))
	}
	f.rev.Store(&out.Offer.Revision)
	return *out.Offer, stages, nil
}

// Offer implements link.Transport.
func (f *far) Offer(ctx context.Context) (link.Offer, error) {
	o, _, err := f.Probe(ctx)
	return o, err
}

// Subscribe implements link.Transport.
func (f *far) Subscribe(ctx context.Context, uri string, on bool) error {
	_, err := f.ask(ctx, request{Op: opSubscribe, URI: uri, On: on})
	return err
}

// SetListener implements link.Transport.
func (f *far) SetListener(to link.Listener) { f.setListener(to) }

func (f *far) setListener(to link.Listener) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.listener = to
}

// Listen implements link.Transport.
func (f *far) Listen(ctx context.Context, ready func()) bool {
	p, node, err := f.open(ctx, request{Op: opListen})
	if err != nil {
		return true
	}
	defer p.End("")
	for {
		out, err := f.receive(ctx, p, node)
		if err != nil {
			return true
		}
		if out.Frame == nil {
			ready()
			continue
		}
		frame, err := wire.ReadFrame(out.Frame)
		f.mu.Lock()
		to := f.listener
		f.mu.Unlock()
		if err != nil {
			continue
		}
		answer := func(body []byte) { f.answer(ctx, p, out.Question, body) }
		taken := to != nil && to(out.Frame, frame, answer)
		if out.Question > 0 && !taken {
			answer(wire.AppendError(nil, frame.ID.Of(out.Frame), wire.CodeMethodNotFound, "no agent is there that answers this", nil))
		}
	}
}

// answer passes on what answers a question of the server.
func (f *far) answer(ctx context.Context, p *passage.Passage, question int, body []byte) {
	// A remark is written in any case; one that is lost leaves the question without an answer, as the
	// server has to expect.
	if raw, err := json.Marshal(remark{Answer: body, To: question}); err == nil {
		_ = p.Send(ctx, raw)
	}
}

// Fork implements link.Transport.
func (f *far) Fork(caps wire.Caps, session bool) link.Transport {
	return newFar(f.c, newTalk(), caps, session)
}

// Diagnostics implements link.Transport.
func (f *far) Diagnostics() link.Diagnostics { return link.Diagnostics{Node: f.c.at()} }

// Altered implements link.Transport.
func (f *far) Altered() string { return "" }

package placement

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"bouncer/internal/cluster/passage"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/link"
)

// Bounds of what is done for other nodes.
const (
	maxPassages = 512
	maxForks    = 128 // conversations of single agents, of all nodes
	maxHeard    = 256 // messages that wait for a node that listens
	// maxQuestions is how many questions of one process wait for an answer.
	maxQuestions = 64
)

// fork is a conversation of one agent of another node.
type fork struct{ node, talk string }

// forked is one that runs here.
type forked struct {
	link.Transport
	c    *Conn
	gone time.Time // since when its node is not there; zero while it is
}

// serve does what another node asks.
func (p *Placement) serve(ctx context.Context, passing *passage.Passage) {
	raw, err := passing.Receive(ctx)
	if err != nil {
		return // it left again
	}
	var r request
	if err := json.Unmarshal(raw, &r); err != nil {
		passing.End("it is asked for what is not understood here")
		return
	}
	h := &host{p: p, passing: passing, r: r}
	if err := h.serve(ctx); err != nil {
		_ = h.tell(ctx, reply{Failure: failureOf(err)}) // who has left is not told
	}
}

// host does one thing that another node asked for.
type host struct {
	p       *Placement
	passing *passage.Passage
	r       request
	c       *Conn
}

func (h *host) tell(ctx context.Context, out reply) error {
	raw, err := json.Marshal(out)
	if err != nil {
		return err
	}
	return h.passing.Send(ctx, raw)
}

func (h *host) serve(ctx context.Context) error {
	h.p.mu.Lock()
	h.c = h.p.kept[h.r.Name]
	leaving := h.p.leaving
	h.p.mu.Unlock()
	if h.c == nil || leaving || !h.c.isHere() {
		name := "?"
		if h.c != nil {
			name = h.c.Name()
		}
		return &link.Failure{Refused: true, Finding: diagnosis.Explain(diagnosis.Evidence{
			Server: name, Process: true, What: diagnosis.NoNode, Note: "the node " + h.p.o.Node + " does not run it now",
		})}
	}
	if h.r.Op == opClose {
		h.p.end(ctx, fork{h.passing.Node, h.r.Talk})
		return h.tell(ctx, reply{Done: true})
	}
	t, err := h.conversation()
	if err != nil {
		return err
	}
	switch h.r.Op {
	case opBegin:
		return h.begin(ctx, t)
	case opOffer:
		o, stages, err := t.Probe(ctx)
		if err != nil {
			return h.tell(ctx, reply{Stages: stages, Failure: failureOf(err)})
		}
		return h.tell(ctx, reply{Offer: &o, Stages: stages})
	case opNotify:
		err = t.Notify(ctx, h.r.Method, h.r.Params)
	case opLog:
		err = t.Log(ctx, h.r.Level)
	case opSubscribe:
		if h.r.Talk == "" {
			err = h.c.subscribe(ctx, h.passing.Node, h.r.URI, h.r.On)
		} else {
			err = t.Subscribe(ctx, h.r.URI, h.r.On)
		}
	case opListen:
		return h.listen(ctx, t)
	default:
		err = errors.New("it is asked for what this release does not know: " + h.r.Op)
	}
	if err != nil {
		return err
	}
	return h.tell(ctx, reply{Done: true})
}

// conversation is the one that is asked for: the shared one, or that of one agent.
func (h *host) conversation() (link.Transport, error) {
	if h.r.Talk == "" {
		return h.c.local, nil
	}
	key := fork{h.passing.Node, h.r.Talk}
	h.p.mu.Lock()
	defer h.p.mu.Unlock()
	if have := h.p.forks[key]; have != nil {
		return have, nil
	}
	if h.p.room.Take(gate.Holder{}, 1) != nil {
		return nil, &link.Failure{Refused: true, Finding: diagnosis.Explain(diagnosis.Evidence{
			Server: h.c.Name(), Process: true, What: diagnosis.TooManyProcesses,
			Note: "the node " + h.p.o.Node + " runs as many for agents of other nodes as it may",
		})}
	}
	inner := h.c.fork(h.r.Caps, h.r.Session) // it starts nothing yet
	if inner == nil {
		h.p.room.Give(gate.Holder{}, 1)
		return nil, errors.New("there is no other conversation with this server")
	}
	have := &forked{Transport: inner, c: h.c}
	h.p.forks[key] = have
	return have, nil
}

// begin carries a request to the process, and what comes back to the node that asked.
func (h *host) begin(ctx context.Context, t link.Transport) error {
	frame, err := wire.ReadFrame(h.r.Frame)
	if err != nil {
		return err
	}
	params, err := wire.ReadParams(h.r.Frame, frame.Params, frame.Method)
	if err != nil {
		return err
	}
	ask := &link.Ask{
		Ask: wire.Ask{
			Method: frame.Method, Src: h.r.Frame, Params: frame.Params, P: params, Subject: params.Subject, KeepInput: true,
		},
		ID: t.NextID(), Client: h.r.Client, Stage: h.r.Stage,
	}
	h.c.calls.add(1)
	defer h.c.calls.add(-1)
	x, err := t.Begin(ctx, ask)
	if err != nil {
		return err
	}
	var hearing sync.WaitGroup
	defer hearing.Wait()
	defer h.passing.End("")
	defer x.Close()
	if err := h.tell(ctx, reply{ID: x.ID()}); err != nil {
		return err
	}
	hearing.Go(func() { h.remarks(ctx, t, x) })
	for {
		raw, f, err := x.Next()
		if err != nil {
			return h.tell(ctx, reply{Failure: failureOf(err)})
		}
		if err := h.tell(ctx, reply{Frame: raw, Done: f.Kind == wire.Response}); err != nil || f.Kind == wire.Response {
			return err
		}
	}
}

// remarks takes what the other node says of a request that is under way, until its end.
func (h *host) remarks(ctx context.Context, t link.Transport, x link.Exchange) {
	for {
		raw, err := h.passing.Receive(ctx)
		if err != nil {
			return
		}
		var said remark
		if json.Unmarshal(raw, &said) != nil {
			continue
		}
		if said.Answer != nil {
			_ = x.Answer(ctx, said.Answer) // a process that does not take it says so by its answer
		}
		if said.Cancel != "" {
			_ = t.Cancel(ctx, x.ID(), said.Cancel)
		}
	}
}

// ear is a node that listens to what a process says by itself.
type ear struct {
	said chan reply
	full chan struct{} // closed when it takes too little
	once sync.Once

	mu      sync.Mutex // guards what follows
	asked   int
	answers map[int]func([]byte) // of questions that wait
}

func newEar() *ear {
	return &ear{said: make(chan reply, maxHeard), full: make(chan struct{}), answers: map[int]func([]byte){}}
}

// hear notes a message for the node. It does not wait.
func (e *ear) hear(frame []byte, question int) {
	select {
	case e.said <- reply{Frame: slices.Clone(frame), Question: question}:
	default:
		e.once.Do(func() { close(e.full) })
	}
}

// ask notes a question; false when too many wait already.
func (e *ear) ask(frame []byte, answer func([]byte)) bool {
	e.mu.Lock()
	if len(e.answers) >= maxQuestions {
		e.mu.Unlock()
		return false
	}
	e.asked++
	number := e.asked
	e.answers[number] = answer
	e.mu.Unlock()
	e.hear(frame, number)
	return true
}

// answered passes on the answer to a question.
func (e *ear) answered(number int, body []byte) {
	e.mu.Lock()
	answer := e.answers[number]
	delete(e.answers, number)
	e.mu.Unlock()
	if answer != nil {
		answer(body)
	}
}

// listen passes on what the process says by itself, until the other node has enough or takes too
// little; it looks anew then. Of a conversation of one agent it also passes on what the process asks.
func (h *host) listen(ctx context.Context, t link.Transport) error {
	e := newEar()
	if h.r.Talk == "" {
		h.c.earsMu.Lock()
		h.c.ears[e] = true
		h.c.earsMu.Unlock()
		defer func() {
			h.c.earsMu.Lock()
			delete(h.c.ears, e)
			h.c.earsMu.Unlock()
			h.c.unsubscribe(context.WithoutCancel(ctx), h.passing.Node)
		}()
	} else {
		t.SetListener(func(frame []byte, f wire.Frame, answer func([]byte)) bool {
			if f.Kind == wire.Request {
				return e.ask(frame, answer)
			}
			e.hear(frame, 0)
			return true
		})
	}
	moved := h.c.moved()
	if h.tell(ctx, reply{}) != nil {
		return nil
	}
	var hearing sync.WaitGroup
	defer hearing.Wait()
	defer h.passing.End("")
	hearing.Go(func() { h.answers(ctx, e) })
	for {
		select {
		case said := <-e.said:
			if h.tell(ctx, said) != nil {
				return nil
			}
		case <-e.full:
			return nil
		case <-moved:
			return nil
		case <-ctx.Done():
			return nil
		}
	}
}

// answers takes the answers to what the process asked.
func (h *host) answers(ctx context.Context, e *ear) {
	for {
		raw, err := h.passing.Receive(ctx)
		if err != nil {
			return
		}
		var said remark
		if json.Unmarshal(raw, &said) == nil && said.Answer != nil {
			e.answered(said.To, said.Answer)
		}
	}
}

// end ends a conversation of one agent of another node.
func (p *Placement) end(ctx context.Context, key fork) {
	p.mu.Lock()
	have := p.forks[key]
	delete(p.forks, key)
	p.mu.Unlock()
	if have != nil {
		p.room.Give(gate.Holder{}, 1)
		have.Close(ctx)
	}
}

// sweep ends the conversations of nodes that have not been there for a while.
func (p *Placement) sweep() {
	there := map[string]bool{}
	for _, n := range p.o.Nodes() {
		there[n.Name] = !n.Gone
	}
	now := p.o.Now()
	var left []fork
	p.mu.Lock()
	for key, have := range p.forks {
		switch {
		case there[key.node]:
			have.gone = time.Time{}
		case have.gone.IsZero():
			have.gone = now
		case now.Sub(have.gone) > goneFor:
			left = append(left, key)
		}
	}
	p.mu.Unlock()
	for _, key := range left {
		end, stop := context.WithTimeout(context.WithoutCancel(p.ctx), closeTime)
		p.end(end, key)
		stop()
	}
}

// goneFor is how long the conversations of a node are kept that is not there.
const goneFor = 30 * time.Second

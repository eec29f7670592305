// Package peer has nodes of a cluster ask each other for what each keeps for itself. What goes
// between them is sealed with a key that follows from the key set which they share, so that
// the servers of the cluster neither read it nor make it up.
package peer

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"bouncer/internal/cluster"
	"bouncer/internal/cluster/envelope"
)

// Bounds of what is asked.
const (
	askTime  = 3 * time.Second
	longTime = 5 * time.Minute // for what goes through all calls, or starts a process
	maxBody  = 256 << 10       // bytes of a request
	atOnce   = 16              // questions that are worked on
)

// Request is a request of a person, as it goes to another node. It shows what the person
// showed, and is authorised there anew.
type Request struct {
	Method, Path, Query   string
	Authorization, Cookie string
	Type                  string // of the body
	Body                  []byte
	Within                time.Duration // how long it may take; 0 for as long as most
}

// within is how long a request may take, whoever says how long.
func (r *Request) within() time.Duration {
	if r.Within <= 0 {
		return askTime
	}
	return min(r.Within, longTime)
}

// Answer is what a node answered.
type Answer struct {
	Node   string
	Status int
	Type   string `json:",omitempty"` // of the body
	Body   []byte
}

// message is what goes between nodes.
type message struct {
	ID      string // of the question, which the answer has too: no other answer is one to it
	At      time.Time
	To      string // the node that it is for
	Request *Request
	Answer  *Answer
	News    *News
}

// News is something that a node tells all others.
type News struct {
	Node, Kind string
	Body       []byte
}

// Peers asks other nodes, and answers them. It is safe for concurrent use.
type Peers struct {
	cluster *cluster.Cluster
	sealer  *envelope.Sealer
	base    string
	serve   http.Handler
	stop    func()
	room    chan struct{}
	working sync.WaitGroup
	ctx     context.Context
	cancel  context.CancelFunc
}

type insideKey struct{}

// Inside reports whether a request came from another node, which asks the others itself.
func Inside(r *http.Request) bool { return r.Context().Value(insideKey{}) != nil }

// Start has a handler answer what other nodes ask, as though it came to a base URL. The key has
// 32 bytes.
func Start(c *cluster.Cluster, key []byte, base string, serve http.Handler) (*Peers, error) {
	sealer, err := envelope.New(key)
	if err != nil {
		return nil, err
	}
	p := &Peers{cluster: c, sealer: sealer, base: base, serve: serve, room: make(chan struct{}, atOnce)}
	p.ctx, p.cancel = context.WithCancel(context.Background())
	if p.stop, err = c.Listen(p.heard); err != nil {
		p.cancel()
		return nil, err
	}
	return p, nil
}

// Tell tells the other nodes something of a kind.
func (p *Peers) Tell(kind string, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("tell the other nodes of %s: %w", kind, err)
	}
	sealed, err := p.seal(message{News: &News{p.cluster.Node, kind, body}})
	if err != nil {
		return err
	}
	return p.cluster.Tell(sealed)
}

// Hear has fn be told what other nodes tell, in their order. stop ends it.
func (p *Peers) Hear(fn func(News)) (stop func(), err error) {
	return p.cluster.Hear(func(raw []byte) {
		m, err := p.open(raw)
		if err != nil || m.News == nil || m.News.Node == p.cluster.Node || time.Since(m.At).Abs() > 2*time.Minute {
			return
		}
		fn(*m.News)
	})
}

// Close ends answering.
func (p *Peers) Close() {
	p.stop()
	p.cancel()
	p.working.Wait()
}

// heard answers a question; what nobody of the cluster sealed gets no answer.
func (p *Peers) heard(raw []byte, answer func([]byte)) {
	m, err := p.open(raw)
	if err != nil || m.Request == nil || m.To != p.cluster.Node || time.Since(m.At).Abs() > 2*time.Minute {
		return
	}
	out := &Answer{Node: p.cluster.Node, Status: http.StatusServiceUnavailable}
	reply := func() {
		sealed, err := p.seal(message{ID: m.ID, Answer: out})
		if err == nil && len(sealed) >= p.cluster.MaxMessage() { // which is said at once, instead of nothing
			out.Status, out.Body = http.StatusRequestEntityTooLarge, nil
			sealed, err = p.seal(message{ID: m.ID, Answer: out})
		}
		if err == nil {
			answer(sealed)
		}
	}
	select {
	case p.room <- struct{}{}:
	default:
		reply()
		return
	}
	p.working.Go(func() {
		defer func() { <-p.room }()
		w := p.work(m.Request)
		out.Status, out.Type, out.Body = w.Status(), w.Header().Get("Content-Type"), w.Body.Bytes()
		reply()
	})
}

// work has a request answered here.
func (p *Peers) work(r *Request) *Recorded {
	ctx, stop := context.WithTimeout(context.WithValue(p.ctx, insideKey{}, true), r.within())
	defer stop()
	req, err := http.NewRequestWithContext(ctx, r.Method, p.base+r.Path+"?"+r.Query, bytes.NewReader(r.Body))
	w := &Recorded{}
	if err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return w
	}
	for name, value := range map[string]string{"Authorization": r.Authorization, "Cookie": r.Cookie, "Content-Type": r.Type} {
		if value != "" {
			req.Header.Set(name, value)
		}
	}
	p.serve.ServeHTTP(w, req)
	return w
}

// ErrTooLarge is returned for a request that is not passed on.
var ErrTooLarge = errors.New("the request is too large for other nodes")

// NewRequest reads a request for other nodes; its body can be read again afterwards, also when it is
// ErrTooLarge.
func NewRequest(r *http.Request) (*Request, error) {
	body, err := io.ReadAll(io.LimitReader(r.Body, maxBody+1))
	if err != nil {
		return nil, fmt.Errorf("read the request: %w", err)
	}
	if len(body) > maxBody {
		r.Body = struct {
			io.Reader
			io.Closer
		}{io.MultiReader(bytes.NewReader(body), r.Body), r.Body}
		return nil, ErrTooLarge
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	return &Request{
		Method: r.Method, Path: r.URL.EscapedPath(), Query: r.URL.RawQuery, Authorization: r.Header.Get("Authorization"),
		Cookie: r.Header.Get("Cookie"), Type: r.Header.Get("Content-Type"), Body: body,
	}, nil
}

// Ask asks nodes side by side. silent are those that did not answer.
func (p *Peers) Ask(ctx context.Context, nodes []string, r *Request) (answers []Answer, silent []string) {
	ctx, stop := context.WithTimeout(ctx, r.within())
	defer stop()
	all := make([]*Answer, len(nodes))
	var group sync.WaitGroup
	for i, node := range nodes {
		group.Go(func() { all[i], _ = p.ask(ctx, node, r) }) // that there is none is told
	}
	group.Wait()
	for i, a := range all {
		if a == nil || a.Status == http.StatusServiceUnavailable {
			silent = append(silent, nodes[i])
			continue
		}
		answers = append(answers, *a)
	}
	return answers, silent
}

func (p *Peers) ask(ctx context.Context, node string, r *Request) (*Answer, error) {
	id := rand.Text()
	sealed, err := p.seal(message{ID: id, To: node, Request: r})
	if err != nil {
		return nil, err
	}
	raw, err := p.cluster.Ask(ctx, node, sealed)
	if err != nil {
		return nil, err
	}
	m, err := p.open(raw)
	if err != nil || m.Answer == nil || m.Answer.Node != node || m.ID != id {
		return nil, errors.Join(err, fmt.Errorf("what answers for the node %s is not that", node))
	}
	return m.Answer, nil
}

func (p *Peers) seal(m message) ([]byte, error) {
	m.At = time.Now().UTC()
	return p.sealer.Seal(m, "")
}

func (p *Peers) open(raw []byte) (m message, err error) {
	err = p.sealer.Open(raw, "", &m)
	return m, err
}

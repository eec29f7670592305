// Package across answers questions about what each node keeps for itself (its calls, the calls
// that are held at it, incidents, who was turned away) with what all nodes have: the same question goes to each, and the
// answers become one. What did not answer is named.
package across

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/cluster/peer"
)

// Silent is the header that names the nodes that did not answer, with commas between.
const Silent = "Bouncer-Nodes-Silent"

// way is how several answers become one.
type way func(r *http.Request, bodies [][]byte) (any, error)

// question is a route that all nodes are asked.
type question struct {
	method, path string           // a star stands for one part
	everybody    bool             // nobody may be left out, who came just now included
	merge        way              // nil: the first node that knows of it answers
	within       time.Duration    // that another node may take to answer; 0 for as long as for most
	alike        func(url.Values) // alters what all nodes are asked, so that their answers become one; nil for nothing
	// streams answers by itself: the answer is told while it is found, or depends on what others say;
	// nil for all others.
	streams func(h *Handler, w http.ResponseWriter, r *http.Request, q *peer.Request, others []string)
}

var questions = []question{
	{method: http.MethodGet, path: "/api/calls", merge: newestCalls},
	{method: http.MethodGet, path: "/api/call-counts", merge: sumOfCounts},
	{method: http.MethodGet, path: "/api/call-total", streams: (*Handler).total},
	{method: http.MethodGet, path: "/api/call-export", streams: (*Handler).export},
	{method: http.MethodGet, path: "/api/stats", merge: sumOfStats, alike: oneTime},
	{method: http.MethodGet, path: "/api/held", merge: heldCalls},
	{method: http.MethodGet, path: "/api/standing", merge: together},
	{method: http.MethodGet, path: "/api/incidents", merge: oneIncident},
	{method: http.MethodGet, path: "/api/incidents/feed", streams: (*Handler).feed},
	{method: http.MethodGet, path: "/api/turned-away", merge: turnedAway},
	{method: http.MethodPost, path: "/api/journal/verification", merge: everyChain, within: verifyTime},
	{method: http.MethodPost, path: "/api/locker/rotate", streams: (*Handler).rotate, everybody: true},
	{method: http.MethodGet, path: "/api/tapes", merge: newestTapes},
	{method: http.MethodGet, path: "/api/tapes/*"},
	{method: http.MethodDelete, path: "/api/tapes/*"},
	{method: http.MethodGet, path: "/api/tapes/*/export"},
	{method: http.MethodPost, path: "/api/tapes/*/replay", within: startTime},
	{method: http.MethodGet, path: "/api/incidents/*"},
	{method: http.MethodPost, path: "/api/incidents/*/notes"},
	{method: http.MethodGet, path: "/api/calls/*"},
	{method: http.MethodGet, path: "/api/held/*"},
	{method: http.MethodPost, path: "/api/held/*/decision"},
	{method: http.MethodDelete, path: "/api/standing/*"},
}

// maxStreams is how many counts and exports of all nodes one node works on.
const maxStreams = 6

// Asker asks other nodes.
type Asker interface {
	Ask(ctx context.Context, nodes []string, r *peer.Request) (answers []peer.Answer, silent []string)
}

// Handler answers requests with what all nodes have.
type Handler struct {
	Next   http.Handler
	Peers  Asker
	Others func(ctx context.Context) []string // the nodes besides this one, as they were a moment ago
	// Now are the nodes besides this one, also one that came just now.
	Now    func(ctx context.Context) ([]string, error)
	Base   string // URL where people reach the service
	Places Places // nil where no process is placed anywhere

	streaming atomic.Int64
}

// ServeHTTP implements http.Handler.
func (h *Handler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	q := find(questions, r)
	if q == nil && !peer.Inside(r) && h.elsewherePlaced(w, r) {
		return
	}
	if q == nil || peer.Inside(r) {
		h.Next.ServeHTTP(w, r)
		return
	}
	others := h.Others(r.Context())
	if q.everybody {
		var err error
		if others, err = h.Now(r.Context()); err != nil {
			refuse(w, apitype.Problem{
				Status: http.StatusServiceUnavailable, Title: fmt.Sprintf("which nodes there are cannot be found out: %v", err),
				Hint: "see whether most of the cluster's servers are there, and try again",
			})
			return
		}
	}
	request, err := peer.NewRequest(r)
	if err != nil || len(others) == 0 {
		h.Next.ServeHTTP(w, r)
		return
	}
	request.Within = q.within
	if q.streams != nil {
		defer h.streaming.Add(-1)
		if h.streaming.Add(1) > maxStreams {
			busy(w)
			return
		}
		q.streams(h, w, r, request, others)
		return
	}
	if q.merge == nil {
		own := &peer.Recorded{}
		h.Next.ServeHTTP(own, r)
		if own.Status() == http.StatusNotFound {
			h.elsewhere(w, r, others, request, own)
			return
		}
		own.Send(w)
		return
	}
	here := r
	if q.alike != nil {
		here, request = alike(r, request, q.alike)
	}
	own, bodies, silent := h.gather(here, request, others)
	if own.Status() != http.StatusOK {
		own.Send(w)
		return
	}
	merged, err := q.merge(r, bodies)
	var raw []byte
	if err == nil {
		raw, err = json.Marshal(merged)
	}
	tell(own.Header(), silent)
	if err != nil { // what is here is better than nothing
		tell(own.Header(), others)
		own.Send(w)
		return
	}
	own.Body.Reset()
	own.Body.Write(append(raw, '\n'))
	own.Send(w)
}

// gather asks this node and the others the same, side by side. bodies are the answers that are some,
// that of this node first; silent are the nodes that gave none.
func (h *Handler) gather(
	r *http.Request, request *peer.Request, others []string,
) (own *peer.Recorded, bodies [][]byte, silent []string) {
	var answers []peer.Answer
	var asking sync.WaitGroup
	asking.Go(func() { answers, silent = h.Peers.Ask(r.Context(), others, request) })
	own = &peer.Recorded{}
	h.Next.ServeHTTP(own, r)
	asking.Wait() // which takes no longer than the peers may
	bodies = [][]byte{own.Body.Bytes()}
	for _, a := range answers {
		if a.Status != http.StatusOK {
			silent = append(silent, a.Node)
			continue
		}
		bodies = append(bodies, a.Body)
	}
	return own, bodies, silent
}

// busy turns a request away for now.
func busy(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "5")
	refuse(w, apitype.Problem{
		Status: http.StatusTooManyRequests, Title: "as many counts and exports of all nodes as there may be are under way",
		Hint: "wait until other counts and exports have ended",
	})
}

// alike is a request with another query, for here and for the others.
func alike(r *http.Request, q *peer.Request, alter func(url.Values)) (*http.Request, *peer.Request) {
	query := r.URL.Query()
	alter(query)
	here := r.Clone(r.Context())
	here.URL.RawQuery = query.Encode()
	there := *q
	there.Query = here.URL.RawQuery
	return here, &there
}

// elsewhere looks for what is not here at the other nodes.
func (h *Handler) elsewhere(w http.ResponseWriter, r *http.Request, others []string, q *peer.Request, own *peer.Recorded) {
	answers, silent := h.Peers.Ask(r.Context(), others, q)
	// A node that has not heard yet of who asks refuses what another one knows.
	slices.SortStableFunc(answers, func(a, b peer.Answer) int { return a.Status/100 - b.Status/100 })
	for _, a := range answers {
		if a.Status != http.StatusNotFound && a.Status != http.StatusUnauthorized {
			passOn(w, a)
			return
		}
	}
	tell(own.Header(), silent)
	own.Send(w)
}

// passOn is the answer of another node.
func passOn(w http.ResponseWriter, a peer.Answer) {
	w.Header().Set("Cache-Control", "no-store")
	if a.Status == http.StatusRequestEntityTooLarge && len(a.Body) == 0 {
		refuse(w, apitype.Problem{
			Status: http.StatusBadGateway, Title: "the answer is at the node " + a.Node + ", and too large to be passed on",
			Hint: "ask that node itself; bouncer node list shows its address",
		})
		return
	}
	if len(a.Body) > 0 {
		w.Header().Set("Content-Type", cmp.Or(a.Type, "application/json"))
	}
	w.WriteHeader(a.Status)
	_, _ = w.Write(a.Body) // the reader may have gone
}

// refuse says why there is no answer.
func refuse(w http.ResponseWriter, p apitype.Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the reader may have gone
}

func tell(to http.Header, silent []string) {
	if len(silent) > 0 {
		slices.Sort(silent)
		to.Set(Silent, strings.Join(slices.Compact(silent), ", "))
	}
}

// find is the one of some questions that a request is; nil for none.
func find(among []question, r *http.Request) *question {
	parts := strings.Split(r.URL.Path, "/")
	for i := range among {
		q := &among[i]
		want := strings.Split(q.path, "/")
		if q.method != r.Method || len(want) != len(parts) {
			continue
		}
		same := true
		for j := range want {
			same = same && (want[j] == parts[j] || want[j] == "*" && parts[j] != "")
		}
		if same {
			return q
		}
	}
	return nil
}

// item is one of a list, with what it is ordered by.
type item struct {
	raw   json.RawMessage
	ID    string `json:"id"`
	State string `json:"state"`
}

func items(bodies [][]byte) (all []item, err error) {
	for _, body := range bodies {
		var list []json.RawMessage
		if err := json.Unmarshal(body, &list); err != nil {
			return nil, err
		}
		for _, raw := range list {
			one := item{raw: raw}
			if err := json.Unmarshal(raw, &one); err != nil {
				return nil, err
			}
			all = append(all, one)
		}
	}
	return all, nil
}

func raws(all []item) []json.RawMessage {
	out := make([]json.RawMessage, len(all))
	for i := range all {
		out[i] = all[i].raw
	}
	return out
}

// newestCalls are the newest of all, as many as were asked for.
func newestCalls(r *http.Request, bodies [][]byte) (any, error) {
	all, err := items(bodies)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(all, func(a, b item) int { return strings.Compare(b.ID, a.ID) })
	limit, err := strconv.Atoi(r.URL.Query().Get("limit"))
	if err != nil {
		limit = 100 // as each node takes it, too
	}
	return raws(all[:min(limit, len(all))]), nil
}

// newestTapes are the tapes of all nodes, the newest first.
func newestTapes(_ *http.Request, bodies [][]byte) (any, error) {
	all, err := items(bodies)
	slices.SortStableFunc(all, func(a, b item) int { return strings.Compare(b.ID, a.ID) })
	return raws(all), err
}

// heldCalls are those that wait, the oldest first, then those that were decided, the newest first.
func heldCalls(_ *http.Request, bodies [][]byte) (any, error) {
	all, err := items(bodies)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(all, func(a, b item) int {
		switch {
		case a.State == "waiting" && b.State == "waiting":
			return strings.Compare(a.ID, b.ID)
		case a.State == "waiting":
			return -1
		case b.State == "waiting":
			return 1
		}
		return strings.Compare(b.ID, a.ID)
	})
	return raws(all), nil
}

// together is one list after the other.
func together(_ *http.Request, bodies [][]byte) (any, error) {
	all, err := items(bodies)
	return raws(all), err
}

// sumOfCounts adds up steps of the same time.
func sumOfCounts(_ *http.Request, bodies [][]byte) (any, error) {
	sums, order := map[string]map[string]any{}, []string{}
	for _, body := range bodies {
		var steps []map[string]any
		if err := json.Unmarshal(body, &steps); err != nil {
			return nil, err
		}
		for _, step := range steps {
			at, _ := step["at"].(string)
			have := sums[at]
			if have == nil {
				sums[at] = step
				order = append(order, at)
				continue
			}
			for name, value := range step {
				if n, number := value.(float64); number {
					before, _ := have[name].(float64)
					have[name] = before + n
				}
			}
		}
	}
	slices.Sort(order)
	out := make([]any, len(order))
	for i, at := range order {
		out[i] = sums[at]
	}
	return out, nil
}

package tape

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync"

	"bouncer/internal/apitype"
	"bouncer/internal/core/wire"
)

// Player answers as the server on a tape did: the recorded side of the server, as a
// stand-in against a client. A request is answered as the next one of the same method and
// params on the tape was; when there are no more, as the last. It is safe for concurrent
// use.
type Player struct {
	mu   sync.Mutex // guards left and last
	left []asked
	last map[string]asked
	// Missed is told of requests that the tape has no answer for; nil for nobody.
	Missed func(method string)
}

// NewPlayer returns the stand-in for a tape.
func NewPlayer(t apitype.Tape) *Player {
	return &Player{left: requests(t), last: map[string]asked{}}
}

// maxRequest is the largest request that is read.
const maxRequest = 4 << 20

// ServeHTTP answers a message over streamable HTTP.
func (p *Player) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodPost {
		w.Header().Set("Allow", "POST")
		http.Error(w, "a tape takes POST only", http.StatusMethodNotAllowed)
		return
	}
	raw, err := io.ReadAll(io.LimitReader(r.Body, maxRequest))
	if err != nil {
		return
	}
	f, err := wire.ReadFrame(raw)
	switch {
	case err != nil:
		http.Error(w, "that is no message: "+err.Error(), http.StatusBadRequest)
		return
	case f.Kind != wire.Request:
		w.WriteHeader(http.StatusAccepted)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	id := f.ID.Of(raw)
	answer, ok := p.answer(f.Method, f.Params.Of(raw))
	if !ok {
		if p.Missed != nil {
			p.Missed(f.Method)
		}
		_, _ = w.Write(wire.AppendError(nil, id, wire.CodeMethodNotFound, "the tape has no answer for "+f.Method, nil))
		return
	}
	var m map[string]json.RawMessage
	if json.Unmarshal([]byte(answer), &m) != nil {
		_, _ = w.Write(wire.AppendError(nil, id, wire.CodeInternal, "the tape has only the beginning of this answer", nil))
		return
	}
	m["id"] = bytes.Clone(id)
	out, err := json.Marshal(m)
	if err != nil {
		out = wire.AppendError(nil, id, wire.CodeInternal, fmt.Sprintf("the tape cannot be played: %v", err), nil)
	}
	_, _ = w.Write(out)
}

// answer takes the next answer for a request off the tape.
func (p *Player) answer(method string, params []byte) (string, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	best := -1
	for i, q := range p.left {
		if q.method != method || q.answer == "" {
			continue
		}
		if best < 0 {
			best = i
		}
		if bytes.Equal(q.params, params) {
			best = i
			break
		}
	}
	if best < 0 {
		last, ok := p.last[method]
		return last.answer, ok
	}
	q := p.left[best]
	p.left = append(p.left[:best:best], p.left[best+1:]...)
	p.last[method] = q
	return q.answer, true
}

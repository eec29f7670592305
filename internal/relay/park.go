package relay

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/wire"
)

// lots hold the calls of agents without a session that wait for the agent's
// answer to a question of the server. The agent gets a requestState and repeats
// its request with it; the server's call is never started twice.
//
// The state is signed with a key of this process, and bound to the agent, the
// address and the request, since it comes back from outside.
type lots struct {
	key [32]byte

	mu     sync.Mutex
	parked map[string]*lot // by nonce
	counts map[string]int  // by agent id
	closed bool
}

// lot is one parked job, with what the agent was asked.
type lot struct {
	job       *job
	questions map[string]parkedQuestion
	timer     *time.Timer
}

// parkedQuestion is one request of the server.
type parkedQuestion struct {
	id     []byte // raw
	method string
	ask    json.RawMessage // as the agent is asked
}

// missing reports whether an answer is not there, or is no result.
func (l *lot) missing(replies map[string]json.RawMessage) bool {
	for key := range l.questions {
		if r := replies[key]; len(r) == 0 || r[0] != '{' {
			return true
		}
	}
	return false
}

// Limits on parked jobs.
const (
	parkFor      = 10 * time.Minute
	maxParked    = 2_000
	maxAgentLots = 64
)

// The forms of a requestState.
const (
	stateParked = "parked"
	stateRecall = "recall" // nothing is parked: the call may be made again
)

func newLots() *lots {
	s := &lots{parked: map[string]*lot{}, counts: map[string]int{}}
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(s.key[:])
	return s
}

// sign makes a state for a job.
func (s *lots) sign(form, nonce string, until time.Time, j *job) string {
	head := form + "." + nonce + "." + strconv.FormatInt(until.Unix(), 36)
	return head + "." + base64.RawURLEncoding.EncodeToString(s.mac(head, j))
}

func (s *lots) mac(head string, j *job) []byte {
	m := hmac.New(sha256.New, s.key[:])
	args := sha256.Sum256(j.p.Arguments.Of(j.body))
	fmt.Fprintf(m, "%q", []string{head, j.c.agent.ID, j.c.scope, j.hop.Method, j.p.Subject, string(args[:])})
	return m.Sum(nil)
}

// claim takes the parked job of a state that the agent sent with the request now
// in j. A nil job with ok means that the request is to be made as it is.
func (s *lots) claim(state string, j *job) (*job, bool) {
	at := strings.LastIndexByte(state, '.')
	if at < 0 {
		return nil, false
	}
	head := state[:at]
	mac, err := base64.RawURLEncoding.DecodeString(state[at+1:])
	if err != nil || !hmac.Equal(mac, s.mac(head, j)) {
		return nil, false
	}
	parts := strings.Split(head, ".")
	until, err := strconv.ParseInt(parts[2], 36, 64)
	if err != nil || time.Now().Unix() > until {
		return nil, false
	}
	if parts[0] == stateRecall {
		return nil, true
	}
	l := s.take(parts[1])
	if l == nil {
		return nil, false
	}
	var answers map[string]json.RawMessage
	if !j.p.InputResponses.Empty() && json.Unmarshal(j.p.InputResponses.Of(j.body), &answers) != nil {
		answers = nil
	}
	l.job.pending, l.job.replies = l, answers
	return l.job, true
}

// take takes a lot out.
func (s *lots) take(nonce string) *lot {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.parked[nonce]
	if l == nil {
		return nil
	}
	delete(s.parked, nonce)
	l.timer.Stop()
	agent := l.job.c.agent.ID
	if s.counts[agent]--; s.counts[agent] <= 0 {
		delete(s.counts, agent)
	}
	return l
}

// gatherFor is how long further questions of a server are waited for, so that
// what it asks at once goes to the agent in one round.
const gatherFor = 40 * time.Millisecond

// park keeps a job until the agent has answered the server's questions, and tells
// the agent. It returns false when there is no room.
func (j *job) park(frame []byte, f wire.Frame) bool {
	l := &lot{job: j, questions: map[string]parkedQuestion{}}
	add := func(frame []byte, f wire.Frame) {
		l.questions["q"+strconv.Itoa(len(l.questions)+1)] = parkedQuestion{bytes.Clone(f.ID.Of(frame)), f.Method, question26(frame, f)}
	}
	add(frame, f)
	for until := time.Now().Add(gatherFor); len(l.questions) < maxQuestions; {
		a, ok := j.soon(time.After(time.Until(until)))
		if !ok {
			break
		}
		switch {
		case a.err != nil || a.f.Kind == wire.Response:
			// It came before the questions were asked; the next round takes it.
			c := make(chan arrival, 1)
			c <- a
			j.ahead = c
			until = time.Time{}
		case a.f.Kind == wire.Notification:
			j.notice(a.frame, a.f)
		default:
			if need, known := j.c.caps.Missing(a.f.Method, a.f.Params.Of(a.frame)); !known || need != nil {
				// As in question.
				_ = j.x.Answer(j.ctx, refusalOf(a.frame, a.f))
				continue
			}
			add(a.frame, a.f)
		}
		if until.IsZero() {
			break
		}
	}
	return j.carrier.lots.put(l)
}

// put parks a lot and answers its agent.
func (s *lots) put(l *lot) bool {
	j := l.job
	nonce, until := randomID(), time.Now().Add(parkFor)
	s.mu.Lock()
	agent := j.c.agent.ID
	if s.closed || len(s.parked) >= maxParked || s.counts[agent] >= maxAgentLots {
		s.mu.Unlock()
		return false
	}
	s.counts[agent]++
	l.timer = time.AfterFunc(parkFor, func() {
		if l := s.take(nonce); l != nil {
			l.expire()
		}
	})
	s.parked[nonce] = l
	s.mu.Unlock()
	asks := map[string]json.RawMessage{}
	for key, q := range l.questions {
		asks[key] = q.ask
	}
	j.out.final(wire.AppendResult(nil, j.id, inputRequired(asks, s.sign(stateParked, nonce, until, j), j.carrier.o.Info)))
	return true
}

func inputRequired(questions map[string]json.RawMessage, state string, info []byte) []byte {
	// Raw JSON that was read before, and texts, cannot fail to be written.
	raw, _ := json.Marshal(map[string]any{
		"resultType": "input_required", "inputRequests": questions, "requestState": state,
		"_meta": map[string]any{wire.MetaServer: json.RawMessage(info)},
	})
	return raw
}

// question26 is a server's request as it is embedded in a result. The id of an
// elicitation does not exist in this era.
func question26(frame []byte, f wire.Frame) []byte {
	q := map[string]any{"method": f.Method}
	if !f.Params.Empty() {
		var p map[string]json.RawMessage
		// The frame was read before, so its params are an object.
		_ = json.Unmarshal(f.Params.Of(frame), &p)
		delete(p, "elicitationId")
		delete(p, "_meta")
		delete(p, "task")
		q["params"] = p
	}
	raw, _ := json.Marshal(q)
	return raw
}

// expire ends a job whose agent did not come back.
func (l *lot) expire() {
	j := l.job
	ctx, stop := context.WithTimeout(context.WithoutCancel(j.ctx), 5*time.Second)
	defer stop()
	for _, q := range l.questions {
		reply := wire.AppendError(nil, q.id, wire.CodeInternal, "the client did not answer", nil)
		if q.method == "elicitation/create" {
			reply = wire.AppendResult(nil, q.id, []byte(`{"action":"cancel"}`))
		}
		// Nobody is left to be told of failures here.
		_ = j.x.Answer(ctx, reply)
	}
	_ = j.l.Cancel(ctx, j.ask.ID, "the agent did not come back")
	j.x.Close()
	j.cancel(errLeft)
	j.cancel(nil)
	if j.e != nil {
		j.e.Outcome, j.e.Error, j.e.Micros = "cancelled", "the agent was asked for input and did not come back", time.Since(j.e.At).Microseconds()
		if err := j.carrier.journal.Record(ctx, j.e); err != nil {
			j.carrier.o.Log.Error("a parked call could not be recorded", "error", err)
		}
	}
}

// close ends every parked job, and takes no more.
func (s *lots) close() {
	s.mu.Lock()
	s.closed = true
	var nonces []string
	for n := range s.parked {
		nonces = append(nonces, n)
	}
	s.mu.Unlock()
	for _, n := range nonces {
		if l := s.take(n); l != nil {
			l.expire()
		}
	}
}

// recall answers an error of 2025-11-25 that wants addresses opened first: the
// agent is asked to, and may then repeat the call. The error came before the
// tool ran, so that a second call is right.
func (j *job) recall(e wire.RPCError) {
	var data struct {
		Elicitations []map[string]json.RawMessage
	}
	if !j.c.caps.URL {
		j.out.refuse(j.id, wire.CodeNoCapability, j.t.Server.Name+": "+e.Message, map[string]any{"requiredCapabilities": json.RawMessage(`{"elicitation":{"url":{}}}`)})
		return
	}
	if json.Unmarshal(e.Data, &data) != nil || len(data.Elicitations) == 0 || len(data.Elicitations) > maxQuestions {
		j.out.refuse(j.id, wire.CodeInternal, e.Message, nil)
		return
	}
	questions := map[string]json.RawMessage{}
	for i, p := range data.Elicitations {
		delete(p, "elicitationId")
		p["mode"] = json.RawMessage(`"url"`)
		raw, err := json.Marshal(map[string]any{"method": "elicitation/create", "params": p})
		if err != nil {
			continue
		}
		questions["address"+strconv.Itoa(i+1)] = raw
	}
	j.out.final(wire.AppendResult(nil, j.id, inputRequired(questions, j.carrier.lots.sign(stateRecall, randomID(), time.Now().Add(parkFor), j), j.carrier.o.Info)))
}

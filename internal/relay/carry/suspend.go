package carry

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

	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/relay/session"
)

// suspensions hold the calls of agents without a session that wait for the agent's
// answer to a question of the server. The agent gets a requestState and repeats
// its request with it; the server's call is never started twice.
//
// The state is signed with a key of this process, and bound to the agent, the
// address and the request, since it comes back from outside.
type suspensions struct {
	key [32]byte

	gate *gate.Gate

	mu      sync.Mutex             // guards what follows
	waiting map[string]*suspension // by nonce
	closed  bool
}

// suspension is one parked job, with what the agent was asked.
type suspension struct {
	job       *Call
	holder    gate.Holder
	questions map[string]pendingInput
	timer     *time.Timer
}

// pendingInput is one request of the server.
type pendingInput struct {
	id     []byte // raw
	method string
	ask    json.RawMessage // as the agent is asked
}

// missing reports whether an answer is not there, or is no result.
func (l *suspension) missing(replies map[string]json.RawMessage) bool {
	for key := range l.questions {
		if r := replies[key]; len(r) == 0 || r[0] != '{' {
			return true
		}
	}
	return false
}

// Limits on parked jobs.
const (
	suspendFor = 10 * time.Minute
)

// suspensionLimits bound the parked jobs.
var suspensionLimits = gate.Limits{Agent: 64, Person: 128, All: 2_000}

// The forms of a requestState.
const (
	stateSuspended = "parked"
	stateRecall    = "recall" // nothing is parked: the call may be made again
)

func newSuspensions(book *gate.Book) *suspensions {
	s := &suspensions{gate: book.Open("calls that wait for their agent", suspensionLimits), waiting: map[string]*suspension{}}
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(s.key[:])
	return s
}

// sign makes a state for a job.
func (s *suspensions) sign(form, nonce string, until time.Time, j *Call) string {
	head := form + "." + nonce + "." + strconv.FormatInt(until.Unix(), 36)
	return head + "." + base64.RawURLEncoding.EncodeToString(s.mac(head, j))
}

func (s *suspensions) mac(head string, j *Call) []byte {
	m := hmac.New(sha256.New, s.key[:])
	args := sha256.Sum256(j.params.Arguments.Of(j.body))
	if j.asked != nil {
		args = sha256.Sum256(j.asked) // the agent repeats what it knows of
	}
	fmt.Fprintf(m, "%q", []string{head, j.caller.Agent.ID, j.caller.Scope, j.translation.Method, j.params.Subject, string(args[:])})
	return m.Sum(nil)
}

// resume takes the parked job of a state that the agent sent with the request now
// in j. A nil job with ok means that the request is to be made as it is.
func (s *suspensions) resume(state string, j *Call) (*Call, bool) {
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
	if !j.params.InputResponses.Empty() && json.Unmarshal(j.params.InputResponses.Of(j.body), &answers) != nil {
		answers = nil
	}
	l.job.suspension, l.job.replies = l, answers
	return l.job, true
}

// take takes a lot out.
func (s *suspensions) take(nonce string) *suspension {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.waiting[nonce]
	if l == nil {
		return nil
	}
	delete(s.waiting, nonce)
	l.timer.Stop()
	s.gate.Give(l.holder, 1)
	return l
}

// gatherFor is how long further questions of a server are waited for, so that
// what it asks at once goes to the agent in one round.
const gatherFor = 40 * time.Millisecond

// suspend keeps a job until the agent has answered the server's questions, and tells
// the agent. It returns false when there is no room.
func (j *Call) suspend(frame []byte, f wire.Frame) bool {
	l := &suspension{job: j, questions: map[string]pendingInput{}}
	add := func(frame []byte, f wire.Frame) {
		l.questions["q"+strconv.Itoa(len(l.questions)+1)] = pendingInput{bytes.Clone(f.ID.Of(frame)), f.Method, embeddedRequest(frame, f)}
	}
	add(frame, f)
	for until := time.Now().Add(gatherFor); len(l.questions) < session.MaxRequests; {
		a, ok := j.soon(time.After(time.Until(until)))
		if !ok {
			break
		}
		switch {
		case a.err != nil || a.f.Kind == wire.Response:
			// It came before the questions were asked; the next round takes it.
			c := make(chan message, 1)
			c <- a
			j.ahead = c
			until = time.Time{}
		case a.f.Kind == wire.Notification:
			j.notice(a.frame, a.f)
		default:
			if need, known := j.caller.Caps.Missing(a.f.Method, a.f.Params.Of(a.frame)); !known || need != nil {
				// As in question.
				_ = j.exchange.Answer(j.ctx, refusalOf(a.frame, a.f))
				continue
			}
			add(a.frame, a.f)
		}
		if until.IsZero() {
			break
		}
	}
	return j.carrier.suspensions.put(l)
}

// put parks a lot and answers its agent.
func (s *suspensions) put(l *suspension) bool {
	j := l.job
	nonce, until := session.NewID(), time.Now().Add(suspendFor)
	l.holder = j.caller.gateHolder()
	if s.gate.Take(l.holder, 1) != nil {
		return false
	}
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		s.gate.Give(l.holder, 1)
		return false
	}
	l.timer = time.AfterFunc(suspendFor, func() {
		if l := s.take(nonce); l != nil {
			l.expire()
		}
	})
	s.waiting[nonce] = l
	s.mu.Unlock()
	asks := map[string]json.RawMessage{}
	for key, q := range l.questions {
		asks[key] = q.ask
	}
	j.reply.Result(wire.AppendResult(nil, j.id, inputRequired(asks, s.sign(stateSuspended, nonce, until, j), j.carrier.o.Info)))
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

// embeddedRequest is a server's request as it is embedded in a result. The id of an
// elicitation does not exist in this era.
func embeddedRequest(frame []byte, f wire.Frame) []byte {
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
func (l *suspension) expire() {
	j := l.job
	ctx, stop := context.WithTimeout(context.WithoutCancel(j.ctx), 5*time.Second)
	defer stop()
	for _, q := range l.questions {
		reply := wire.AppendError(nil, q.id, wire.CodeInternal, "the client did not answer", nil)
		if q.method == "elicitation/create" {
			reply = wire.AppendResult(nil, q.id, []byte(`{"action":"cancel"}`))
		}
		// Nobody is left to be told of failures here.
		_ = j.exchange.Answer(ctx, reply)
	}
	_ = j.link.Cancel(ctx, j.ask.ID, "the agent did not come back")
	j.exchange.Close()
	j.cancel(session.ErrLeft)
	j.cancel(nil)
	if j.entry != nil {
		j.entry.Outcome, j.entry.Error = team.OutcomeCancelled, "the agent was asked for input and did not come back"
		j.entry.Micros = time.Since(j.entry.At).Microseconds()
		if err := j.carrier.journal.Record(ctx, j.entry); err != nil {
			j.carrier.o.Log.Error("a parked call could not be recorded", "error", err)
		}
	}
}

// close ends every parked job, and takes no more.
func (s *suspensions) close() {
	s.mu.Lock()
	s.closed = true
	var nonces []string
	for n := range s.waiting {
		nonces = append(nonces, n)
	}
	s.mu.Unlock()
	for _, n := range nonces {
		if l := s.take(n); l != nil {
			l.expire()
		}
	}
}

// retryLater answers an error of 2025-11-25 that wants addresses opened first: the
// agent is asked to, and may then repeat the call. The error came before the
// tool ran, so that a second call is right.
func (j *Call) retryLater(e wire.RPCError) {
	var data struct {
		Elicitations []map[string]json.RawMessage
	}
	if !j.caller.Caps.URL {
		j.reply.Refuse(
			j.id,
			wire.CodeNoCapability,
			j.target.Server.Name+": "+e.Message,
			map[string]any{"requiredCapabilities": json.RawMessage(`{"elicitation":{"url":{}}}`)},
		)
		return
	}
	if json.Unmarshal(e.Data, &data) != nil || len(data.Elicitations) == 0 || len(data.Elicitations) > session.MaxRequests {
		j.reply.Refuse(j.id, wire.CodeInternal, e.Message, nil)
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
	j.reply.Result(
		wire.AppendResult(
			nil,
			j.id,
			inputRequired(
				questions,
				j.carrier.suspensions.sign(stateRecall, session.NewID(), time.Now().Add(suspendFor), j),
				j.carrier.o.Info,
			),
		),
	)
}

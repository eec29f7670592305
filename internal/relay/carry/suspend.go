package carry

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"strconv"
	"sync"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/ticket"
)

// suspensions hold the calls of agents without a session that wait for the agent's
// answer to a question of the server. The agent gets a requestState and repeats
// its request with it; the server's call is never started twice.
//
// The state is signed with a key of this process, and bound to the agent, the
// address and the request, since it comes back from outside.
type suspensions struct {
	key ticket.Key

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
	asked     *askedUser // a held call about which the agent's user is asked; nil for others
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
	s := &suspensions{
		key: ticket.NewKey(), gate: book.Open("calls that wait for their agent", suspensionLimits), waiting: map[string]*suspension{},
	}
	return s
}

// sign makes a state for a job.
func (s *suspensions) sign(form, nonce string, until time.Time, j *Call) string {
	return s.key.Sign(form, nonce, until, boundTo(j)...)
}

// boundTo is what a state of a job is bound to: the agent, the address and the request.
func boundTo(j *Call) []string {
	args := sha256.Sum256(j.params.Arguments.Of(j.body))
	if j.asked != nil {
		args = sha256.Sum256(j.asked) // the agent repeats what it knows of
	}
	return []string{j.caller.Agent.ID, j.caller.Scope, j.translation.Method, j.params.Subject, string(args[:])}
}

// resume takes the parked job of a state that the agent sent with the request now
// in j. A nil job with ok means that the request is to be made as it is.
func (s *suspensions) resume(state string, j *Call) (*Call, bool) {
	form, nonce, ok := s.key.Read(state, time.Now(), boundTo(j)...)
	if !ok {
		return nil, false
	}
	if form == stateRecall {
		return nil, true
	}
	l := s.take(nonce)
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
// what it asks at once goes to the agent in one round, also when it is busy. Whoever is asked takes
// longer than that.
const gatherFor = 200 * time.Millisecond

// suspend keeps a job until the agent has answered the server's questions, and tells
// the agent. It returns false when there is no room.
func (j *Call) suspend(frame []byte, f wire.Frame) bool {
	l := &suspension{job: j, questions: map[string]pendingInput{}}
	add := func(frame []byte, f wire.Frame) {
		l.questions["q"+strconv.Itoa(len(l.questions)+1)] = pendingInput{
			bytes.Clone(f.ID.Of(frame)),
			f.Method,
			wire.EmbeddedRequest(frame, f),
		}
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
	nonce, until := session.NewID(), time.Now().Add(l.lifetime())
	l.holder = j.caller.GateHolder()
	if s.gate.Take(l.holder, 1) != nil {
		return false
	}
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		s.gate.Give(l.holder, 1)
		return false
	}
	l.timer = time.AfterFunc(l.lifetime(), func() {
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
	j.reply.Result(wire.AppendResult(nil, j.id, wire.InputRequired(asks, s.sign(stateSuspended, nonce, until, j), j.carrier.o.Info)))
	return true
}

// expire ends a job whose agent did not come back.
func (l *suspension) expire() {
	if l.asked != nil {
		l.unanswered()
		return
	}
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
		j.write(ctx)
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
	if !j.caller.Caps.URL {
		need := map[string]any{"requiredCapabilities": json.RawMessage(`{"elicitation":{"url":{}}}`)}
		j.reply.Refuse(j.id, wire.CodeNoCapability, j.target.Server.Name+": "+e.Message, need)
		return
	}
	questions := wire.AddressQuestions(e.Data, session.MaxRequests)
	if questions == nil {
		j.reply.Refuse(j.id, wire.CodeInternal, e.Message, nil)
		return
	}
	state := j.carrier.suspensions.sign(stateRecall, session.NewID(), time.Now().Add(suspendFor), j)
	j.reply.Result(wire.AppendResult(nil, j.id, wire.InputRequired(questions, state, j.carrier.o.Info)))
}

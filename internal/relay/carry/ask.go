package carry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/relay/session"
	"bouncer/internal/snapshot"
)

var (
	errSuspended = errors.New("the agent has to be asked first")
	errNoWay     = errors.New("the agent has no stream on which it could be asked")
	errTooMuch   = errors.New("the server asks for further input again and again")
	errDeclined  = errors.New("the agent did not answer the server's question")
)

// missingError says that a server wants what the agent did not declare.
type missingError struct {
	method string
	need   json.RawMessage
}

func (e *missingError) Error() string {
	return fmt.Sprintf("the server asks for %s, which this agent cannot do", e.method)
}

// takeRequest takes a request that the server sent in the stream of its call. An
// agent with a session is asked at once, beside the stream; one without is asked
// by parking the call, which is reported.
func (j *Call) takeRequest(frame []byte, f wire.Frame) (parked bool) {
	refuse := func() {
		ctx, stop := context.WithTimeout(j.ctx, 10*time.Second)
		defer stop()
		// If it cannot be delivered, the server's own time limit ends its wait.
		_ = j.exchange.Answer(ctx, refusalOf(frame, f))
	}
	need, known := j.caller.Caps.Missing(f.Method, f.Params.Of(frame))
	if !known || need != nil {
		refuse()
		return false
	}
	if j.caller.Stateless() {
		if !j.suspend(frame, f) {
			refuse()
			return false
		}
		return true
	}
	ctx, stop := context.WithCancel(j.ctx)
	key := string(f.ID.Of(frame))
	j.mu.Lock()
	if j.requests == nil {
		j.requests = map[string]context.CancelFunc{}
	}
	_, twice := j.requests[key]
	full := len(j.requests) >= session.MaxRequests
	if !twice && !full {
		j.requests[key] = stop
	}
	j.mu.Unlock()
	if twice || full {
		stop()
		refuse()
		return false
	}
	frame = bytes.Clone(frame)
	x, l := j.exchange, j.link
	j.asking.Go(func() {
		defer stop()
		reply, err := j.carrier.ask(ctx, j.caller.Session, l, frame, f, j.aside)
		j.mu.Lock()
		delete(j.requests, key)
		j.mu.Unlock()
		if ctx.Err() != nil {
			return // the server gave it up, or the call is over
		}
		if err != nil {
			reply = wire.AppendError(nil, f.ID.Of(frame), wire.CodeInternal, err.Error(), nil)
		}
		// A server that does not take the answer ends its own wait.
		_ = x.Answer(ctx, reply)
	})
	return false
}

// aside sends a message to the agent beside the answer of the job: on the stream
// of its call, or on the session's own where the agent takes no other.
func (j *Call) aside(frame []byte) bool {
	return j.reply.Before(frame) || (j.caller.Session != nil && j.caller.Session.Outbox.Put(frame))
}

// settle ends the questions of a round that is over.
func (j *Call) settle() {
	j.mu.Lock()
	for _, stop := range j.requests {
		stop()
	}
	j.mu.Unlock()
	j.asking.Wait()
}

// refusalOf is the answer to a server's request that the agent cannot take.
func refusalOf(frame []byte, f wire.Frame) []byte {
	if f.Method == "ping" {
		return wire.AppendResult(nil, f.ID.Of(frame), []byte("{}"))
	}
	return wire.AppendError(nil, f.ID.Of(frame), wire.CodeMethodNotFound, "not supported by this client", nil)
}

// ask sends a server's request to the agent and returns its response, with the
// server's own id.
func (carrier *Carrier) ask(
	ctx context.Context,
	s *session.Session,
	l link.Link,
	frame []byte,
	f wire.Frame,
	send func([]byte) bool,
) ([]byte, error) {
	q := &session.Request{Reply: make(chan []byte, 1), Token: tokenOf(frame, f), Link: l}
	id, ok := s.AddRequest(q)
	if !ok {
		return nil, errNoWay
	}
	defer s.ForgetRequest(id)
	if !send(wire.AppendWithID(nil, frame, f, wire.Quote(id))) {
		return nil, errNoWay
	}
	select {
	case reply := <-q.Reply:
		rf, err := wire.ReadFrame(reply)
		if err != nil {
			return nil, err
		}
		return wire.AppendWithID(nil, reply, rf, f.ID.Of(frame)), nil
	case <-ctx.Done():
		// The agent need not answer any more.
		send(
			wire.AppendNotification(
				nil,
				"notifications/cancelled",
				append(append([]byte(`{"requestId":`), wire.Quote(id)...), `,"reason":"the server no longer waits"}`...),
			),
		)
		return nil, ctx.Err()
	}
}

func tokenOf(frame []byte, f wire.Frame) []byte {
	if f.Params.Empty() {
		return nil
	}
	return bytes.Clone(wire.Member(frame, wire.Member(frame, f.Params, "_meta"), "progressToken").Of(frame))
}

// Limits on the rounds of one request of the stateless era.
const (
	maxRounds      = 10
	maxEmptyRounds = 3
	roundPause     = 250 * time.Millisecond
)

// inputRequest is one question of a server in the stateless era.
type inputRequest struct {
	Method string          `json:"method"`
	Params json.RawMessage `json:"params,omitempty"`
}

// askForInput looks at a result that may want more input before it is complete (MCP
// 2026-07-28, multi-round-trip requests). again is true when the request was
// repeated with the agent's answers.
func (j *Call) askForInput(frame []byte, f wire.Frame, round int) (again bool, err error) {
	kind, _ := wire.StringAt(frame, f.ResultType)
	switch kind {
	case "complete":
		return false, nil
	case "input_required":
	case "task":
		if j.caller.Stateless() && j.caller.Caps.Tasks {
			return false, nil
		}
		return false, &missingError{"a task", json.RawMessage(j.caller.TaskNeed())}
	default:
		return false, fmt.Errorf("it answered with a result of the unknown type %q", snapshot.Clip(kind))
	}
	var r struct {
		InputRequests map[string]inputRequest
		RequestState  *string
	}
	if err := json.Unmarshal(f.Result.Of(frame), &r); err != nil || (len(r.InputRequests) == 0 && r.RequestState == nil) {
		return false, errors.New("it asks for input in a way that cannot be read")
	}
	for _, q := range r.InputRequests {
		need, known := j.caller.Caps.Missing(q.Method, q.Params)
		if !known || need != nil {
			return false, &missingError{q.Method, need}
		}
	}
	if j.caller.Stateless() {
		return false, nil // passed through untouched
	}
	if round >= maxRounds || (len(r.InputRequests) == 0 && round >= maxEmptyRounds) {
		return false, errTooMuch
	}
	extra := map[string]any{}
	if len(r.InputRequests) > 0 {
		answers, err := j.collect(r.InputRequests)
		if err != nil {
			return false, err
		}
		extra["inputResponses"] = answers
	} else {
		// The server sheds load; it wants to be asked again later.
		select {
		case <-time.After(roundPause):
		case <-j.ctx.Done():
			return false, j.ctx.Err()
		}
	}
	if r.RequestState != nil {
		extra["requestState"] = *r.RequestState
	}
	raw, err := json.Marshal(extra)
	if err != nil {
		return false, err
	}
	j.exchange.Close()
	j.ask.Extra = raw[1 : len(raw)-1]
	j.ask.ID = j.link.NextID()
	x, err := j.link.Begin(j.ctx, &j.ask)
	if err != nil {
		return false, err
	}
	j.exchange = x
	return true, nil
}

// collect asks the agent everything that the server wants to know, at once.
func (j *Call) collect(questions map[string]inputRequest) (map[string]json.RawMessage, error) {
	if len(questions) > session.MaxRequests {
		return nil, errTooMuch
	}
	type got struct {
		key string
		raw json.RawMessage
		err error
	}
	all := make(chan got, len(questions))
	for key, q := range questions {
		params := q.Params
		if q.Method == "elicitation/create" {
			var ok bool
			if params, ok = elicitation(params, j.caller.Revision); !ok {
				all <- got{key, json.RawMessage(`{"action":"decline"}`), nil}
				continue
			}
		}
		frame := wire.AppendRequest(nil, 0, q.Method, params)
		f, err := wire.ReadFrame(frame)
		if err != nil {
			return nil, err
		}
		j.asking.Go(func() {
			reply, err := j.carrier.ask(j.ctx, j.caller.Session, j.link, frame, f, j.aside)
			if err != nil {
				all <- got{key, nil, err}
				return
			}
			rf, err := wire.ReadFrame(reply)
			switch {
			case err != nil:
				all <- got{key, nil, err}
			case rf.Error.Empty():
				all <- got{key, rf.Result.Of(reply), nil}
			case q.Method == "elicitation/create":
				all <- got{key, json.RawMessage(`{"action":"cancel"}`), nil}
			default:
				all <- got{key, nil, fmt.Errorf("%w: %s", errDeclined, wire.ReadError(reply, rf.Error).Message)}
			}
		})
	}
	j.asking.Wait()
	out := map[string]json.RawMessage{}
	for range questions {
		g := <-all
		if g.err != nil {
			return nil, g.err
		}
		out[g.key] = g.raw
	}
	return out, nil
}

// elicitation rewrites an elicitation for an agent of a revision: addresses get
// an id, and choices with titles become what older agents know. ok is false when
// it cannot be carried.
func elicitation(params json.RawMessage, rev string) (out json.RawMessage, ok bool) {
	var p map[string]any
	if json.Unmarshal(params, &p) != nil {
		return params, true // the agent will say what is wrong
	}
	if p["mode"] == "url" {
		if _, there := p["elicitationId"]; !there {
			p["elicitationId"] = session.NewID()
		}
		raw, err := json.Marshal(p)
		return raw, err == nil
	}
	if rev >= wire.Rev20251125 {
		return params, true
	}
	delete(p, "mode")
	schema, _ := p["requestedSchema"].(map[string]any)
	props, _ := schema["properties"].(map[string]any)
	for _, v := range props {
		prop, _ := v.(map[string]any)
		if prop["type"] == "array" {
			return nil, false
		}
		list, _ := prop["oneOf"].([]any)
		if len(list) == 0 {
			continue
		}
		var values, titles []any
		for _, o := range list {
			choice, _ := o.(map[string]any)
			values, titles = append(values, choice["const"]), append(titles, choice["title"])
		}
		delete(prop, "oneOf")
		prop["enum"], prop["enumNames"] = values, titles
	}
	raw, err := json.Marshal(p)
	return raw, err == nil
}

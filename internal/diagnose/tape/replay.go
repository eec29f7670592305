package tape

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/store"
)

// replayTime is how long one request of a replay may take.
const replayTime = 20 * time.Second

// harmless are the requests that are sent again without being asked for.
var harmless = []string{
	"tools/list", "prompts/list", "resources/list", "resources/templates/list", "ping", "resources/read", "prompts/get", "completion/complete",
}

// asked is a request on a tape, with its answer.
type asked struct {
	method string
	params json.RawMessage
	answer string // as it came; "" when none did
	cut    bool   // the tape has only its beginning
}

// requests are the requests on a tape with their answers, in the order in which they were
// sent.
func requests(t apitype.Tape) (list []asked) {
	at := map[string]int{}
	key := func(e apitype.TapeEntry) string { return fmt.Sprintf("%d %s", e.Line, e.ID) }
	for _, e := range t.List {
		switch {
		case e.Kind == "sent" && e.Method != "" && e.ID != "":
			var m struct {
				Params json.RawMessage `json:"params"`
			}
			if json.Unmarshal([]byte(e.Text), &m) != nil {
				continue // only its beginning is there
			}
			at[key(e)] = len(list)
			list = append(list, asked{method: e.Method, params: m.Params})
		case e.Kind == "received" && e.Method == "" && e.ID != "":
			if i, ok := at[key(e)]; ok {
				list[i].answer, list[i].cut = e.Text, e.Size > len(e.Text)
			}
		}
	}
	return list
}

// Replay sends the requests of a tape again, and compares the answers: those of a server's
// tape to the server as it is now, those of an agent's to the service, as that agent.
func (svc *Service) Replay(ctx context.Context, by team.Person, id string, in apitype.ReplayTape) (r apitype.Replayed, err error) {
	t, err := svc.Get(id)
	if err != nil {
		return r, err
	}
	if t.Agent != "" {
		return svc.replayAgent(ctx, by, t, in)
	}
	s, err := svc.Store.ServerByName(ctx, t.Server)
	if err != nil {
		return r, store.Explain(err, "server", t.Server)
	}
	r = apitype.Replayed{Tape: id, Server: s.Name, Differ: []apitype.TapeDifference{}}
	conn, err := svc.Dial(ctx, s)
	if err != nil {
		return r, fmt.Errorf("reach the server: %w", err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	_, openErr := conn.Open(ctx)
	list := requests(t)
	session := slices.ContainsFunc(list, func(q asked) bool { return q.method == "initialize" })
	for _, q := range list {
		switch {
		case q.method == "server/discover" && session:
			r.Skipped++ // it was only asked whether there is no need for a session
			continue
		case q.method == "initialize" || q.method == "server/discover":
			svc.opened(&r, q, openErr)
			continue
		case !slices.Contains(harmless, q.method) && (q.method != "tools/call" || !in.Calls):
			r.Skipped++
			continue
		}
		now, err := ask(ctx, conn, q)
		if err != nil {
			now = "no answer: " + err.Error()
		}
		svc.compare(&r, q, now)
		if ctx.Err() != nil {
			return r, ctx.Err()
		}
	}
	svc.Log.Info("a tape was replayed", "tape", id, "server", s.Name, "by", by.Name, "differ", len(r.Differ))
	return r, nil
}

// opened compares how a conversation is opened.
func (svc *Service) opened(r *apitype.Replayed, q asked, err error) {
	then, now := "it was opened", "it is opened"
	if q.answer == "" || bytes.Contains([]byte(q.answer), []byte(`"error"`)) {
		then = "it was not opened"
		if q.answer != "" {
			then += ": " + evidence.Quoted([]byte(q.answer))
		}
	}
	if err != nil {
		now = "it is not opened: " + err.Error()
	}
	if (err == nil) == (then == "it was opened") {
		r.Same++
		return
	}
	r.Differ = append(r.Differ, apitype.TapeDifference{Method: q.method, Then: then, Now: svc.Masker().Text(now)})
}

// ask sends one request again.
func ask(ctx context.Context, conn link.Transport, q asked) (string, error) {
	ctx, stop := context.WithTimeout(ctx, replayTime)
	defer stop()
	params := []byte(q.params)
	request := &link.Ask{Ask: wire.Ask{Method: q.method, Src: params, Params: wire.Span{Start: 0, End: len(params)}}, Stage: "replay"}
	if p, err := wire.ReadParams(params, request.Params, q.method); err == nil && len(params) > 0 {
		request.P, request.Subject = p, p.Subject
	}
	x, err := conn.Begin(ctx, request)
	if err != nil {
		return "", err
	}
	defer x.Close()
	for {
		frame, f, err := x.Next()
		if err != nil {
			return "", err
		}
		if f.Kind == wire.Response {
			return string(frame), nil
		}
	}
}

// compare compares an answer with the one on the tape.
func (svc *Service) compare(r *apitype.Replayed, q asked, now string) {
	m := svc.Masker()
	now = m.Text(now)
	if q.cut {
		now = now[:min(len(now), len(q.answer))]
	}
	where, same := differences(q.answer, now)
	if same {
		r.Same++
		return
	}
	then := q.answer
	if then == "" {
		then = "no answer"
	}
	r.Differ = append(r.Differ, apitype.TapeDifference{
		Method: q.method, Params: q.params, Then: evidence.Quoted([]byte(then)), Now: evidence.Quoted([]byte(now)), Where: where,
	})
}

// differences compares two answers member by member, whatever their ids.
func differences(then, now string) (where []string, same bool) {
	var a, b map[string]any
	if json.Unmarshal([]byte(then), &a) != nil || json.Unmarshal([]byte(now), &b) != nil {
		return nil, stripID(then) == stripID(now)
	}
	delete(a, "id")
	delete(b, "id")
	walk("", a, b, &where)
	return where, len(where) == 0
}

func stripID(text string) string { return idAt.ReplaceAllString(text, `"id":0`) }

// maxWhere is how many members that differ are told.
const maxWhere = 20

// walk collects the places at which two values differ.
func walk(at string, a, b any, where *[]string) {
	if len(*where) >= maxWhere {
		return
	}
	switch x := a.(type) {
	case map[string]any:
		y, ok := b.(map[string]any)
		if !ok {
			*where = append(*where, at)
			return
		}
		names := map[string]bool{}
		for name := range x {
			names[name] = true
		}
		for name := range y {
			names[name] = true
		}
		sorted := make([]string, 0, len(names))
		for name := range names {
			sorted = append(sorted, name)
		}
		sort.Strings(sorted)
		for _, name := range sorted {
			walk(at+"/"+name, x[name], y[name], where)
		}
	case []any:
		y, ok := b.([]any)
		if !ok || len(x) != len(y) {
			*where = append(*where, at)
			return
		}
		for i := range x {
			walk(fmt.Sprintf("%s/%d", at, i), x[i], y[i], where)
		}
	default:
		if a != b {
			*where = append(*where, at)
		}
	}
}

// Compare compares two tapes: the requests that both have, in order, by their answers.
func (svc *Service) Compare(one, other string) (r apitype.Replayed, err error) {
	a, err := svc.Get(one)
	b, err2 := svc.Get(other)
	if err := errors.Join(err, err2); err != nil {
		return r, err
	}
	r = apitype.Replayed{Tape: one, Server: a.Server, Agent: a.Agent, Differ: []apitype.TapeDifference{}}
	left := requests(b)
	for _, q := range requests(a) {
		at := slices.IndexFunc(left, func(o asked) bool { return o.method == q.method && bytes.Equal(o.params, q.params) })
		if at < 0 {
			r.Skipped++
			continue
		}
		where, same := differences(q.answer, left[at].answer)
		if same {
			r.Same++
		} else {
			r.Differ = append(r.Differ, apitype.TapeDifference{
				Method: q.method, Params: q.params, Then: evidence.Quoted([]byte(q.answer)), Now: evidence.Quoted([]byte(left[at].answer)),
				Where: where,
			})
		}
		left = slices.Delete(left, at, at+1)
	}
	r.Skipped += len(left)
	return r, nil
}

package tape

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/diagnose/inside"
	"bouncer/internal/store"
)

// replayed is an agent whose requests are sent again.
type replayed struct {
	svc     *Service
	agentID string
	session string // the id of its session; "" before there is one, and without any
	number  int    // of the last request
}

// replayAgent sends the requests of an agent's tape to the service again, as that agent.
func (svc *Service) replayAgent(
	ctx context.Context,
	by team.Person,
	t apitype.Tape,
	in apitype.ReplayTape,
) (r apitype.Replayed, err error) {
	a, err := svc.Store.AgentByName(ctx, t.Agent, time.Now())
	if err != nil {
		return r, store.Explain(err, "agent", t.Agent)
	}
	if !access.May(by, access.SpeakForAgents, a.Owner) {
		return r, &team.NotAllowedError{
			Why: "agent " + a.Name + " is not yours to speak for", Hint: "have its owner replay it, or compare two tapes: bouncer tape compare",
		}
	}
	r = apitype.Replayed{Tape: t.ID, Agent: a.Name, Differ: []apitype.TapeDifference{}}
	again := &replayed{svc: svc, agentID: a.ID}
	for _, q := range requests(t) {
		opens := q.method == "initialize" || q.method == "server/discover"
		if !opens && !slices.Contains(harmless, q.method) && (q.method != "tools/call" || !in.Calls) {
			r.Skipped++
			continue
		}
		now, err := again.ask(ctx, q)
		if err != nil {
			now = "no answer: " + err.Error()
		}
		svc.compare(&r, q, now)
		if ctx.Err() != nil {
			return r, ctx.Err()
		}
	}
	svc.Log.Info("a tape was replayed", "tape", t.ID, "agent", a.Name, "by", by.Name, "differ", len(r.Differ))
	return r, again.leave(ctx)
}

// ask sends one request again, in the era that it is of.
func (g *replayed) ask(ctx context.Context, q asked) (string, error) {
	ctx, stop := context.WithTimeout(ctx, replayTime)
	defer stop()
	g.number++
	m := map[string]any{"jsonrpc": "2.0", "id": g.number, "method": q.method}
	if len(q.params) > 0 {
		m["params"] = q.params
	}
	body, err := json.Marshal(m)
	if err != nil {
		return "", fmt.Errorf("write the request again: %w", err)
	}
	header := http.Header{}
	whole := wire.Span{Start: 0, End: len(q.params)}
	if p, err := wire.ReadParams(q.params, whole, q.method); len(q.params) > 0 && err == nil && p.Meta.HasVersion {
		header = inside.Stateless(q.method, p.Subject)
	} else if q.method != "initialize" {
		if err := g.open(ctx); err != nil {
			return "", err
		}
		header.Set("Mcp-Session-Id", g.session)
	}
	a, err := inside.Send(ctx, g.svc.Serve, g.agentID, body, header)
	if err != nil {
		return "", err
	}
	if q.method == "initialize" {
		g.session = a.Header.Get("Mcp-Session-Id")
	}
	raw, err := a.Response()
	return string(raw), err
}

// open opens a session for requests whose opening is not on the tape any more.
func (g *replayed) open(ctx context.Context) error {
	if g.session != "" {
		return nil
	}
	body := []byte(`{"jsonrpc":"2.0","id":0,"method":"initialize","params":{"protocolVersion":"` + wire.NewestSession +
		`","capabilities":{},"clientInfo":{"name":"bouncer-replay","version":"1"}}}`)
	a, err := inside.Send(ctx, g.svc.Serve, g.agentID, body, nil)
	if err != nil {
		return err
	}
	if g.session = a.Header.Get("Mcp-Session-Id"); g.session == "" {
		return fmt.Errorf("open a session as the agent: it was answered with %d", a.Status)
	}
	return nil
}

// leave ends the session that was opened.
func (g *replayed) leave(ctx context.Context) error {
	if g.session == "" {
		return nil
	}
	return inside.Leave(ctx, g.svc.Serve, g.agentID, g.session)
}

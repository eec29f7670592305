package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"time"

	"bouncer/standin/toolserver"
)

// quay is the servers that agents call.
type quay struct {
	servers   []*toolserver.Server
	addresses []string
	listening []*http.Server
}

func open(n int) (*quay, error) {
	q := &quay{}
	for i := range n {
		schema := `{"type":"object","properties":{"text":{"type":"string"}}}`
		s := toolserver.New(fmt.Sprint("server-", i), "1.0", "",
			toolserver.Tool{
				Name: "echo", Description: "Echoes.", Schema: schema, ReadOnly: true,
				Run: func(_ context.Context, c *toolserver.Call) (any, error) { return c.Text("text"), nil },
			},
			toolserver.Tool{
				Name: "fail", Description: "Fails.", Schema: schema,
				Run: func(context.Context, *toolserver.Call) (any, error) { return nil, errors.New("there is fog") },
			},
			toolserver.Tool{
				Name: "forbidden", Description: "Nobody may call it.", Schema: schema,
				Run: func(context.Context, *toolserver.Call) (any, error) { return "", nil },
			})
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, fmt.Errorf("open a server: %w", err)
		}
		var handler http.Handler = s
		if i%4 == 3 {
			handler = s.Stateless()
		}
		srv := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
		go func() { _ = srv.Serve(l) }() // ends with close
		q.servers, q.listening = append(q.servers, s), append(q.listening, srv)
		q.addresses = append(q.addresses, "http://"+l.Addr().String()+"/mcp")
	}
	return q, nil
}

func (q *quay) close() {
	for _, s := range q.listening {
		_ = s.Close()
	}
}

// misbehave has one server after the other fail for a while, each in another way, and the
// tool lists of others change.
func (q *quay) misbehave(ctx context.Context) {
	r := rand.New(rand.NewPCG(3, 5)) //nolint:gosec // the same failures every time
	faults := []string{
		toolserver.Unauthorised, toolserver.Gone, toolserver.Page, toolserver.Garbage, toolserver.Broken, toolserver.Maintenance, toolserver.Cut,
		toolserver.Forgetful,
	}
	for ctx.Err() == nil {
		s := q.servers[r.IntN(len(q.servers))]
		s.Fail(faults[r.IntN(len(faults))])
		pause(ctx, 3*time.Second)
		s.Fail(toolserver.Healthy)
		pause(ctx, time.Second)
	}
}

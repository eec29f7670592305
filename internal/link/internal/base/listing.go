package base

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

// ReadAnswer returns the response. Notifications before it are passed over, and
// requests refused.
func ReadAnswer(ctx context.Context, x link.Exchange) ([]byte, wire.Frame, error) {
	for {
		frame, f, err := x.Next()
		if err != nil || f.Kind == wire.Response {
			return frame, f, err
		}
		if f.Kind == wire.Request {
			// If it cannot be delivered, the server's own time limit ends its wait.
			_ = x.Answer(ctx, refuse(frame, f))
		}
	}
}

// refuse is the answer to a request of a server that nobody takes: ping as the
// protocol asks, anything else with the error that says so.
func refuse(frame []byte, f wire.Frame) []byte {
	if f.Method == "ping" {
		return wire.AppendResult(nil, f.ID.Of(frame), []byte("{}"))
	}
	return wire.AppendError(nil, f.ID.Of(frame), wire.CodeMethodNotFound, "not supported by this client", nil)
}

// Bounds on one list: its pages, and the bytes of all of them together.
const (
	maxPages     = 200
	maxListBytes = 8 << 20
)

// asker sends a request of Bouncer's own and returns the answer.
type asker func(ctx context.Context, method string, params []byte) ([]byte, wire.Frame, error)

// AskBy returns the asker over a conversation.
func AskBy(begin func(context.Context, *link.Ask) (link.Exchange, error)) asker {
	return func(ctx context.Context, method string, params []byte) ([]byte, wire.Frame, error) {
		x, err := begin(ctx, NewRequest(method, params, "tools"))
		if err != nil {
			return nil, wire.Frame{}, err
		}
		defer x.Close()
		frame, f, err := ReadAnswer(ctx, x)
		return bytes.Clone(frame), f, err // the frame is the exchange's, which ends here
	}
}

// ReadOffer reads every list that the server declares to have. Tools that cannot be
// listed are a failure; the rest is left out and told.
func (l *Base) ReadOffer(ctx context.Context, g link.Greeting, ask asker) (link.Offer, error) {
	o := link.Offer{Greeting: g, Lists: map[tools.Kind][]tools.Tool{}}
	offered := map[tools.Kind]bool{
		tools.Tools:     g.Tools,
		tools.Prompts:   g.Prompts,
		tools.Resources: g.Resources,
		tools.Templates: g.Resources,
	}
	for _, kind := range tools.Kinds {
		if !offered[kind] {
			continue
		}
		list, left, err := l.readList(ctx, kind, ask)
		var f *link.Failure
		switch {
		case err == nil:
			o.Lists[kind] = list
			o.Left = append(o.Left, left...)
		case kind == tools.Tools || !errors.As(err, &f):
			return o, err
		case kind == tools.Templates && f.Cause == diagnosis.NotServed:
			// Servers with resources need not have templates.
		default:
			o.Left = append(o.Left, fmt.Sprintf("its %s could not be listed: %s", kind, f.Message))
		}
	}
	return o, nil
}

// readList reads all pages of one list through ask. left says what could not be
// taken.
func (l *Base) readList(ctx context.Context, kind tools.Kind, ask asker) (list []tools.Tool, left []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, l.Options.SetupTimeout)
	defer cancel()
	var pages [][]tools.Tool
	seen := map[string]bool{}
	count, size := 0, 0
	for cursor := ""; ; {
		var params []byte
		if cursor != "" {
			params = append(append([]byte(`{"cursor":`), wire.Quote(cursor)...), '}')
		}
		frame, f, err := ask(ctx, kind.Method(), params)
		if err != nil {
			return nil, nil, err
		}
		if !f.Error.Empty() {
			e := wire.ReadError(frame, f.Error)
			return nil, nil, l.Fail(
				diagnosis.Evidence{Stage: "tools", What: diagnosis.NotServed, RPCCode: e.Code, RPCMessage: l.Short(e.Message)},
				nil,
			)
		}
		if size += len(frame); size > maxListBytes {
			return nil, nil, l.Fail(
				diagnosis.Evidence{
					Stage: "tools",
					What:  diagnosis.EndlessPages,
					Note:  fmt.Sprintf("given up after %d pages with more than %d MiB of %s", len(pages)+1, maxListBytes>>20, kind),
				},
				nil,
			)
		}
		page, next, skipped, err := tools.ReadPage(kind, f.Result.Of(frame))
		if err != nil {
			return nil, nil, l.Fail(diagnosis.Evidence{Stage: "tools", What: diagnosis.Malformed, Note: err.Error()}, err)
		}
		pages, left = append(pages, page), append(left, skipped...)
		count += len(page)
		if next == "" {
			break
		}
		if seen[next] || len(pages) >= maxPages || count > tools.MaxTools {
			return nil, nil, l.Fail(
				diagnosis.Evidence{
					Stage: "tools",
					What:  diagnosis.EndlessPages,
					Note:  fmt.Sprintf("given up after %d pages and %d %s", len(pages), count, kind),
				},
				nil,
			)
		}
		seen[next], cursor = true, next
	}
	list, twice := tools.Merge(kind, pages...)
	return list, append(left, twice...), nil
}

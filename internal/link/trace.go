package link

import (
	"context"

	"bouncer/internal/core/trace"
)

type traceKey struct{}

// WithTrace has what is sent under a context belong to a trace.
func WithTrace(ctx context.Context, c *trace.Call) context.Context {
	return context.WithValue(ctx, traceKey{}, c)
}

// TraceOf is the trace that something sent under a context belongs to; nil for none.
func TraceOf(ctx context.Context) *trace.Call {
	c, _ := ctx.Value(traceKey{}).(*trace.Call)
	return c
}

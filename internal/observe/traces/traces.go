// Package traces tells a collector of calls as spans, by OTLP over HTTP: one for a call from
// when it came in until it was answered, and in it one for what its server did. They are made
// of what the journal is told, so that both say the same; arguments and results are in none.
package traces

import (
	"context"
	"encoding/binary"
	"fmt"
	"log/slog"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	api "go.opentelemetry.io/otel/trace"

	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/core/trace"
)

// Options say where spans go.
type Options struct {
	Address string // URL of the collector, without the path
	Token   string // shown to it; "" for none
	Share   float64
	Version string
	Log     *slog.Logger
	Masker  func() *mask.Masker // of names that agents made up
}

// Traces tells of calls. It is safe for concurrent use. Spans wait in a queue of a fixed
// length and are left out when it is full: calls never wait for a collector.
type Traces struct {
	o        Options
	provider *sdk.TracerProvider
	tracer   api.Tracer
}

// New returns Traces that are told from now on. Nothing is asked of the collector yet.
func New(o Options) (*Traces, error) {
	exporter, err := newExporter(o.Address+"/v1/traces", o.Token)
	if err != nil {
		return nil, err
	}
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) { o.Log.Warn("traces could not be told", "error", err) }))
	t := &Traces{o: o, provider: sdk.NewTracerProvider(
		sdk.WithBatcher(exporter, sdk.WithMaxQueueSize(4096), sdk.WithBatchTimeout(2*time.Second)),
		sdk.WithIDGenerator(ids{}),
		sdk.WithSampler(sdk.AlwaysSample()), // what is not to be kept was given no place in a trace
		sdk.WithResource(resource.NewSchemaless(
			attribute.String("service.name", "bouncer"), attribute.String("service.version", o.Version),
		)),
	)}
	t.tracer = t.provider.Tracer("bouncer")
	return t, nil
}

// Close tells what is left, for a few seconds at most.
func (t *Traces) Close(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	if err := t.provider.Shutdown(ctx); err != nil {
		return fmt.Errorf("tell the last traces: %w", err)
	}
	return nil
}

// Begin gives a call its place in a trace; nil for one that is not told of.
func (t *Traces) Begin(p trace.Parent) *trace.Call { return trace.Begin(p, t.o.Share) }

// End tells of a call that has ended.
func (t *Traces) End(c *team.Call, at *trace.Call) {
	ctx := context.Background()
	if at.Parent.Trace != [16]byte{} {
		state, err := api.ParseTraceState(at.Parent.State)
		if err != nil {
			state = api.TraceState{} // what is malformed is left out
		}
		ctx = api.ContextWithRemoteSpanContext(ctx, api.NewSpanContext(api.SpanContextConfig{
			TraceID: at.Trace, SpanID: at.Parent.Span, TraceFlags: api.FlagsSampled, TraceState: state, Remote: true,
		}))
	}
	// The name of a tool that there is not, or of a resource, is whatever the agent made of it.
	tool := t.o.Masker().Text(c.Tool)
	ended := c.At.Add(time.Duration(c.Micros) * time.Microsecond)
	attributes := []attribute.KeyValue{
		attribute.String("rpc.system", "mcp"), attribute.String("bouncer.agent", c.Agent), attribute.String("bouncer.person", c.Person),
		attribute.String(
			"bouncer.server",
			c.Server,
		), attribute.String("bouncer.tool", tool), attribute.String("bouncer.decision", c.Decision),
		attribute.String("bouncer.rule", c.RuleName), attribute.String("bouncer.outcome", c.Outcome),
		attribute.Int("bouncer.bytes_in", c.BytesIn), attribute.Int("bouncer.bytes_out", c.BytesOut),
	}
	ctx, whole := t.tracer.Start(with(ctx, at.Trace, at.Own), tool+" of "+c.Server,
		api.WithSpanKind(api.SpanKindServer), api.WithTimestamp(c.At), api.WithAttributes(attributes...))
	if !at.Begun.IsZero() {
		_, server := t.tracer.Start(with(ctx, at.Trace, at.Server), c.Server,
			api.WithSpanKind(api.SpanKindClient), api.WithTimestamp(at.Begun), api.WithAttributes(attribute.String("bouncer.server", c.Server)))
		finish(server, c, ended)
	}
	finish(whole, c, ended)
}

func finish(s api.Span, c *team.Call, at time.Time) {
	if c.Outcome != team.OutcomeOK {
		s.SetStatus(codes.Error, c.Outcome)
	}
	s.End(api.WithTimestamp(at))
}

// ids gives spans the ids that they were given when the call came in.
type ids struct{}

type idsKey struct{}

type given struct {
	trace api.TraceID
	span  api.SpanID
}

func with(ctx context.Context, trace [16]byte, span [8]byte) context.Context {
	return context.WithValue(ctx, idsKey{}, given{trace, span})
}

// NewIDs implements the SDK's IDGenerator.
func (ids) NewIDs(ctx context.Context) (api.TraceID, api.SpanID) {
	g, _ := ctx.Value(idsKey{}).(given) // as every span here has
	return g.trace, g.span
}

// NewSpanID implements the SDK's IDGenerator.
func (ids) NewSpanID(ctx context.Context, _ api.TraceID) api.SpanID {
	g, _ := ctx.Value(idsKey{}).(given)
	if binary.BigEndian.Uint64(g.span[:]) == 0 {
		g.span[7] = 1
	}
	return g.span
}

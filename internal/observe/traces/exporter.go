package traces

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	api "go.opentelemetry.io/otel/trace"
	collect "go.opentelemetry.io/proto/slim/otlp/collector/trace/v1"
	common "go.opentelemetry.io/proto/slim/otlp/common/v1"
	resources "go.opentelemetry.io/proto/slim/otlp/resource/v1"
	wire "go.opentelemetry.io/proto/slim/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

const (
	askTime   = 10 * time.Second // for one request to a collector
	retryTime = time.Minute      // after which a batch is given up
	keptOfIt  = 64 << 10         // bytes that are read of an answer
)

// exporter tells a collector of spans by OTLP over HTTP, in its binary form.
// It implements the SDK's SpanExporter.
type exporter struct {
	address, token string
	client         *http.Client
}

func newExporter(address, token string) (*exporter, error) {
	if _, err := http.NewRequest(http.MethodPost, address, nil); err != nil {
		return nil, fmt.Errorf("prepare to tell of traces: %w", err)
	}
	// A token goes to whom it was given for, and nowhere that an answer points to.
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &exporter{address: address, token: token, client: &http.Client{Timeout: askTime, CheckRedirect: stay}}, nil
}

// ExportSpans tells of a batch; one that the collector cannot take now is told again.
func (e *exporter) ExportSpans(ctx context.Context, spans []sdk.ReadOnlySpan) error {
	body, err := proto.Marshal(request(spans))
	if err != nil {
		return fmt.Errorf("write %d spans: %w", len(spans), err)
	}
	pause := backoff.NewExponentialBackOff()
	pause.InitialInterval, pause.MaxInterval = time.Second, 20*time.Second
	_, err = backoff.Retry(ctx, func() (struct{}, error) { return struct{}{}, e.post(ctx, body) },
		backoff.WithBackOff(pause), backoff.WithMaxElapsedTime(retryTime))
	if err != nil {
		return fmt.Errorf("tell a collector of %d spans: %w", len(spans), err)
	}
	return nil
}

// Shutdown implements the SDK's SpanExporter.
func (e *exporter) Shutdown(context.Context) error {
	e.client.CloseIdleConnections()
	return nil
}

// statusError is an answer that is not that of a collector who took what it was told.
type statusError struct{ status int }

func (e *statusError) Error() string {
	return fmt.Sprintf("it answered %d %s", e.status, http.StatusText(e.status))
}

func (e *exporter) post(ctx context.Context, body []byte) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, e.address, bytes.NewReader(body))
	if err != nil {
		return backoff.Permanent(err)
	}
	req.Header.Set("Content-Type", "application/x-protobuf")
	if e.token != "" {
		req.Header.Set("Authorization", "Bearer "+e.token)
	}
	res, err := e.client.Do(req)
	if err != nil {
		return fmt.Errorf("ask it: %w", err)
	}
	defer func() { _ = res.Body.Close() }()
	raw, err := io.ReadAll(io.LimitReader(res.Body, keptOfIt))
	switch {
	case res.StatusCode/100 == 2 && err == nil:
		return partly(raw)
	case err != nil:
		return fmt.Errorf("read its answer: %w", err)
	case res.StatusCode == 429, res.StatusCode == 502, res.StatusCode == 503, res.StatusCode == 504: // as OTLP has it
		if seconds, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && seconds > 0 {
			return errors.Join(&statusError{res.StatusCode}, backoff.RetryAfter(min(seconds, int(retryTime/time.Second))))
		}
		return &statusError{res.StatusCode}
	default:
		return backoff.Permanent(&statusError{res.StatusCode})
	}
}

// partly tells of spans that a collector took the others of, and did not want.
func partly(raw []byte) error {
	var answer collect.ExportTraceServiceResponse
	_ = proto.Unmarshal(raw, &answer) // it took them, whatever it says
	if n := answer.GetPartialSuccess().GetRejectedSpans(); n > 0 {
		return backoff.Permanent(fmt.Errorf("it did not take %d of them: %s", n, answer.GetPartialSuccess().GetErrorMessage()))
	}
	return nil
}

// request is a batch as it goes over the wire. All spans are of one resource and one scope.
func request(spans []sdk.ReadOnlySpan) *collect.ExportTraceServiceRequest {
	if len(spans) == 0 {
		return &collect.ExportTraceServiceRequest{}
	}
	scope := &wire.ScopeSpans{Scope: &common.InstrumentationScope{Name: spans[0].InstrumentationScope().Name}}
	for _, s := range spans {
		scope.Spans = append(scope.Spans, span(s))
	}
	return &collect.ExportTraceServiceRequest{ResourceSpans: []*wire.ResourceSpans{{
		Resource: &resources.Resource{Attributes: attributes(spans[0].Resource().Attributes())}, ScopeSpans: []*wire.ScopeSpans{scope},
	}}}
}

func span(s sdk.ReadOnlySpan) *wire.Span {
	at, parent := s.SpanContext(), s.Parent()
	trace, id := at.TraceID(), at.SpanID()
	out := &wire.Span{
		TraceId: trace[:], SpanId: id[:], TraceState: at.TraceState().String(), Flags: uint32(at.TraceFlags()), Name: s.Name(),
		StartTimeUnixNano: nanoseconds(s.StartTime()), EndTimeUnixNano: nanoseconds(s.EndTime()), Attributes: attributes(s.Attributes()),
		Kind: wire.Span_SPAN_KIND_CLIENT,
	}
	if s.SpanKind() == api.SpanKindServer {
		out.Kind = wire.Span_SPAN_KIND_SERVER
	}
	if parent.HasSpanID() {
		above := parent.SpanID()
		out.ParentSpanId = above[:]
	}
	if s.Status().Code == codes.Error {
		out.Status = &wire.Status{Code: wire.Status_STATUS_CODE_ERROR, Message: s.Status().Description}
	}
	return out
}

// nanoseconds since 1970, as OTLP wants them; never before.
func nanoseconds(at time.Time) uint64 { return uint64(max(0, at.UnixNano())) }

// attributes are texts and whole numbers here, and nothing else.
func attributes(kept []attribute.KeyValue) []*common.KeyValue {
	out := make([]*common.KeyValue, 0, len(kept))
	for _, a := range kept {
		value := &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: a.Value.String()}}
		if a.Value.Type() == attribute.INT64 {
			value.Value = &common.AnyValue_IntValue{IntValue: a.Value.AsInt64()}
		}
		out = append(out, &common.KeyValue{Key: string(a.Key), Value: value})
	}
	return out
}

// Package collector stands in for what takes traces: it reads OTLP over HTTP with the types of
// the standard's own description, keeps the newest spans, and misbehaves on demand.
package collector

import (
	"encoding/hex"
	"io"
	"net/http"
	"sync"

	collect "go.opentelemetry.io/proto/slim/otlp/collector/trace/v1"
	spans "go.opentelemetry.io/proto/slim/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

const kept = 500

// Span is a span that was taken, with its ids in hexadecimal.
type Span struct {
	Trace, ID, Parent, Name string
	Server                  bool // it is the serving side of a request
	Failed                  bool
	Attributes              map[string]string
	Micros                  int64
}

// Collector takes traces at /v1/traces.
type Collector struct {
	Token string // that has to be shown; "" for none

	mu    sync.Mutex // guards what follows
	spans []Span
	fails []int
}

// Fail has the next requests answered with these statuses.
func (c *Collector) Fail(status ...int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.fails = append(c.fails, status...)
}

// Spans are those that were taken, the newest last.
func (c *Collector) Spans() []Span {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]Span(nil), c.spans...)
}

// ServeHTTP implements http.Handler.
func (c *Collector) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case len(c.fails) > 0:
		w.WriteHeader(c.fails[0])
		c.fails = c.fails[1:]
		return
	case r.Method != http.MethodPost || r.URL.Path != "/v1/traces":
		http.NotFound(w, r)
		return
	case c.Token != "" && r.Header.Get("Authorization") != "Bearer "+c.Token:
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	raw, err := io.ReadAll(io.LimitReader(r.Body, 4<<20))
	var in collect.ExportTraceServiceRequest
	if err != nil || r.Header.Get("Content-Type") != "application/x-protobuf" || proto.Unmarshal(raw, &in) != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	for _, resource := range in.GetResourceSpans() {
		for _, scope := range resource.GetScopeSpans() {
			for _, s := range scope.GetSpans() {
				c.spans = append(c.spans, read(s))
			}
		}
	}
	if over := len(c.spans) - kept; over > 0 {
		c.spans = c.spans[over:]
	}
	out, _ := proto.Marshal(&collect.ExportTraceServiceResponse{}) // of nothing, which cannot fail
	w.Header().Set("Content-Type", "application/x-protobuf")
	_, _ = w.Write(out)
}

func read(s *spans.Span) Span {
	out := Span{
		Trace: hex.EncodeToString(s.GetTraceId()), ID: hex.EncodeToString(s.GetSpanId()), Parent: hex.EncodeToString(s.GetParentSpanId()),
		Name: s.GetName(), Server: s.GetKind() == spans.Span_SPAN_KIND_SERVER, Failed: s.GetStatus().GetCode() == spans.Status_STATUS_CODE_ERROR,
		Attributes: map[string]string{}, Micros: int64(s.GetEndTimeUnixNano()-s.GetStartTimeUnixNano()) / 1000,
	}
	for _, a := range s.GetAttributes() {
		out.Attributes[a.GetKey()] = a.GetValue().GetStringValue()
	}
	return out
}

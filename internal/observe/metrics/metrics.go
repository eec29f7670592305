// Package metrics tells how the service does in the Prometheus text format: calls as they
// are recorded, and what is true at the moment that it is asked. It has a registry of its
// own, and its labels are bounded: servers by their names, and words that are constants
// here.
package metrics

import (
	"crypto/sha256"
	"crypto/subtle"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"bouncer/internal/core/team"
	"bouncer/internal/gate"
)

// maxServers bounds the servers that have a label of their own; calls of others count as
// those of Other.
const maxServers = 1000

// Other is the label of servers beyond that bound, and None that of calls of no server.
const (
	Other = "(other)"
	None  = "(none)"
)

// State is what is true at a moment.
type State struct {
	Servers  map[string]string // state by name
	Sessions int
	Held     int // calls that wait for a decision
	// Incidents are those that last.
	Incidents int
	Gates     []gate.Usage
	Journal   team.JournalState
	// Secrets end at these times, by their names; those without an end are left out.
	Secrets map[string]time.Time
	Node    *Node // nil for a service that is one node
}

// Node is how a node of a cluster does.
type Node struct {
	Ready  bool
	Alone  time.Duration // since most of the cluster was heard of
	Behind uint64        // entries of the log that are not carried out
	Aside  int           // those that cannot be
}

// Options say what is told.
type Options struct {
	Version string
	// State reads what is true now. It is called for each scrape.
	State func() State
}

// Metrics counts calls. It is safe for concurrent use.
type Metrics struct {
	registry *prometheus.Registry
	calls    *prometheus.CounterVec
	took     *prometheus.HistogramVec
	bytes    *prometheus.CounterVec

	mu    sync.RWMutex // guards known
	known map[string]*counters
}

// counters are those of one server, looked up once.
type counters struct {
	outcome map[string]prometheus.Counter
	took    prometheus.Observer
	in, out prometheus.Counter
}

// outcomes are those that have a counter from the beginning, so that a rate can be told of
// the first.
var outcomes = []string{
	team.OutcomeOK, team.OutcomeToolError, team.OutcomeError, team.OutcomeRefused, team.OutcomeCancelled, team.OutcomeTimeout,
	team.OutcomeUnreachable, team.OutcomeNoCredential,
}

// New returns metrics that count nothing yet.
func New(o Options) *Metrics {
	m := &Metrics{
		registry: prometheus.NewRegistry(),
		calls: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "bouncer_calls_total", Help: "Calls of agents, by server and what became of them.",
		}, []string{"server", "outcome"}),
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "bouncer_call_duration_seconds", Help: "How long calls that were carried took at the door.",
			Buckets: []float64{.001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 30, 60, 300},
		}, []string{"server"}),
		bytes: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "bouncer_call_bytes_total", Help: "Bytes of arguments and of answers.",
		}, []string{"server", "direction"}),
		known: map[string]*counters{},
	}
	m.registry.MustRegister(
		m.calls, m.took, m.bytes, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		&now{version: o.Version, state: o.State},
	)
	return m
}

// Observe counts a call.
func (m *Metrics) Observe(c *team.Call) {
	of := m.of(c.Server)
	times := float64(max(1, c.Times))
	if n, ok := of.outcome[c.Outcome]; ok {
		n.Add(times)
	}
	if c.Outcome != team.OutcomeRefused {
		of.took.Observe(float64(c.Micros) / 1e6)
	}
	of.in.Add(float64(c.BytesIn))
	of.out.Add(float64(c.BytesOut))
}

func (m *Metrics) of(server string) *counters {
	if server == "" {
		server = None
	}
	m.mu.RLock()
	of := m.known[server]
	m.mu.RUnlock()
	if of != nil {
		return of
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.known) >= maxServers && m.known[server] == nil {
		server = Other
	}
	if of = m.known[server]; of != nil {
		return of
	}
	of = &counters{
		outcome: map[string]prometheus.Counter{}, took: m.took.WithLabelValues(server),
		in: m.bytes.WithLabelValues(server, "in"), out: m.bytes.WithLabelValues(server, "out"),
	}
	for _, outcome := range outcomes {
		of.outcome[outcome] = m.calls.WithLabelValues(server, outcome)
	}
	m.known[server] = of
	return of
}

// Handler serves the metrics.
func (m *Metrics) Handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{MaxRequestsInFlight: 4, Timeout: 10 * time.Second})
}

// Guarded serves the metrics to whoever shows a token, as a bearer token.
func (m *Metrics) Guarded(token string) http.Handler {
	inner, want := m.Handler(), sha256.Sum256([]byte(token))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		scheme, shown, _ := strings.Cut(r.Header.Get("Authorization"), " ")
		got := sha256.Sum256([]byte(strings.TrimSpace(shown)))
		if !strings.EqualFold(scheme, "bearer") || subtle.ConstantTimeCompare(got[:], want[:]) != 1 {
			w.Header().Set("WWW-Authenticate", `Bearer realm="bouncer-metrics"`)
			http.Error(w, "show the token that the setting metrics-token names", http.StatusUnauthorized)
			return
		}
		inner.ServeHTTP(w, r)
	})
}

package metrics

import (
	"github.com/prometheus/client_golang/prometheus"

	"bouncer/internal/core/team"
)

// now collects what is true at the moment of a scrape.
type now struct {
	version string
	state   func() State
}

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("bouncer_"+name, help, labels, nil)
}

var (
	build     = describe("build_info", "1, with the version as a label.", "version")
	servers   = describe("server_state", "1 for the state that a server is in.", "server", "state")
	sessions  = describe("sessions", "Open sessions of agents.")
	held      = describe("held_calls", "Calls that wait for a decision.")
	incidents = describe("incidents", "Incidents that last.")
	inUse     = describe("in_use", "What is handed out within bounds, by what it is.", "what")
	limit     = describe("limit", "The bound on that, in all.", "what")
	denied    = describe("denied_total", "How often there was no more of it.", "what")
	recording = describe("journal_recording", "1 while calls can be recorded.")
	lost      = describe("journal_lost_total", "Calls that ran and could not be recorded.")
	nodeReady = describe("node_ready", "1 while this node of a cluster can be sent work.")
	alone     = describe("node_alone_seconds", "For how long this node has heard nothing of most of the cluster.")
	behind    = describe("node_behind_entries", "Entries of the log that this node knows of and has not carried out.")
	aside     = describe("node_set_aside_entries", "Entries of the log that could not be carried out.")
	ends      = describe("secret_end_timestamp_seconds", "When a secret ends, as a Unix time.", "secret")
)

// states are all that a server can be in.
var states = []string{team.StateReady, team.StateFailing, team.StateConnecting, team.StatePaused, team.StateWaiting}

// Describe implements prometheus.Collector.
func (n *now) Describe(to chan<- *prometheus.Desc) {
	all := []*prometheus.Desc{
		build, servers, sessions, held, incidents, inUse, limit, denied, recording, lost, ends, nodeReady, alone, behind, aside,
	}
	for _, d := range all {
		to <- d
	}
}

// Collect implements prometheus.Collector.
func (n *now) Collect(to chan<- prometheus.Metric) {
	s := n.state()
	tell := func(d *prometheus.Desc, kind prometheus.ValueType, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, kind, v, labels...)
	}
	gauge := func(d *prometheus.Desc, v float64, labels ...string) { tell(d, prometheus.GaugeValue, v, labels...) }
	gauge(build, 1, n.version)
	told := 0
	for server, in := range s.Servers {
		if told++; told > maxServers {
			break
		}
		for _, state := range states {
			gauge(servers, truth(state == in), server, state)
		}
	}
	gauge(sessions, float64(s.Sessions))
	gauge(held, float64(s.Held))
	gauge(incidents, float64(s.Incidents))
	for _, u := range s.Gates {
		gauge(inUse, float64(u.Now), u.What)
		gauge(limit, float64(u.Limit), u.What)
		tell(denied, prometheus.CounterValue, float64(u.Refused), u.What)
	}
	gauge(recording, truth(s.Journal.Recording))
	tell(lost, prometheus.CounterValue, float64(s.Journal.Lost))
	if n := s.Node; n != nil {
		gauge(nodeReady, truth(n.Ready))
		gauge(alone, n.Alone.Seconds())
		gauge(behind, float64(n.Behind))
		gauge(aside, float64(n.Aside))
	}
	for name, at := range s.Secrets {
		gauge(ends, float64(at.Unix()), name)
	}
}

func truth(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

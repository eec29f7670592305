package apitype

import "time"

// Figures are what calls add up to.
type Figures struct {
	OK       int64   `json:"ok"`
	Refused  int64   `json:"refused"`
	Failed   int64   `json:"failed"`
	BytesIn  int64   `json:"bytesIn"`
	BytesOut int64   `json:"bytesOut"`
	P50      float64 `json:"p50" doc:"milliseconds that half of the calls that were carried took at most, to within ten percent"`
	P95      float64 `json:"p95" doc:"the same of 95 in a hundred"`
	P99      float64 `json:"p99" doc:"the same of 99 in a hundred"`

	Took []byte `json:"took,omitempty" doc:"how often which length of time occurred, if that was asked for"`
}

// StatsPoint is one step of time.
type StatsPoint struct {
	At time.Time `json:"at" doc:"when the step begins"`
	Figures
}

// StatsGroup is one of what calls are told apart by.
type StatsGroup struct {
	Name string `json:"name" doc:"of a server, an agent or a person, or SERVER/TOOL; empty for the team"`
	Figures
}

// Stats is how calls went over time.
type Stats struct {
	Since  time.Time    `json:"since"`
	Until  time.Time    `json:"until"`
	Step   int          `json:"step" doc:"length of a step in seconds"`
	By     string       `json:"by" enum:"server,tool,agent,person" doc:"what the groups are"`
	Total  Figures      `json:"total"`
	Points []StatsPoint `json:"points" doc:"steps without calls are there too"`
	Groups []StatsGroup `json:"groups" doc:"the most calls first, 200 at most"`
}

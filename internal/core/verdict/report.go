package verdict

import "time"

// StageReport is a part of the way, and how it went.
type StageReport struct {
	Name    string   `json:"name" enum:"settings,address,tls,http,transport,authorization,launch,protocol,listing,call"`
	Outcome string   `json:"outcome" enum:"ok,failed,skipped" doc:"skipped: it was not reached, or there is nothing to look at"`
	MS      int      `json:"ms" doc:"how long it took, in milliseconds"`
	Facts   []string `json:"facts" doc:"what was observed"`
}

// The outcomes of stages.
const (
	OutcomeOK      = "ok"
	OutcomeFailed  = "failed"
	OutcomeSkipped = "skipped"
)

// Report is the outcome of a checkup.
type Report struct {
	Target   string        `json:"target" doc:"name of the server, or what was given"`
	Healthy  bool          `json:"healthy"`
	At       time.Time     `json:"at"`
	MS       int           `json:"ms" doc:"how long all took, in milliseconds"`
	Stages   []StageReport `json:"stages"`
	Findings []Found       `json:"findings" doc:"one for each root cause, the most hindering first; none for a healthy server"`
	// What a healthy server says of itself.
	Transport string `json:"transport,omitempty"`
	Revision  string `json:"revision,omitempty"`
	Name      string `json:"serverName,omitempty"`
	Version   string `json:"serverVersion,omitempty"`
	Tools     int    `json:"tools"`
}

// Package report is what a checkup tells: its stages, and a finding for each root cause.
// It is the one shape that the API, the command line, the console, incidents and what an
// agent is told are made from; who names the causes is package verdict.
package report

import (
	"time"

	"bouncer/internal/core/diagnosis"
)

// Found is a root cause with its proof.
type Found struct {
	Cause    diagnosis.Cause `json:"cause" doc:"layer.cause, from the list of causes"`
	Title    string          `json:"title" doc:"what is wrong, in one sentence"`
	Who      diagnosis.Who   `json:"who" doc:"who has to act"`
	Remedy   string          `json:"remedy" doc:"what helps, as the exact command or field where there is one"`
	Evidence []string        `json:"evidence" doc:"what was observed"`
	Follows  []string        `json:"follows" doc:"what follows from the cause, and is none of its own"`
	Fix      *Fix            `json:"fix,omitempty" doc:"what can be applied, where that is safe"`
}

// Fix is an alteration of the registration that a checkup has tried or that cannot do
// harm.
type Fix struct {
	Field string `json:"field" doc:"field of the server that is altered"`
	Value string `json:"value" doc:"its new value"`
	Means string `json:"means" doc:"what applying it does"`
}

// Short is the finding as states, journals and errors tell it.
func (f Found) Short() diagnosis.Finding {
	return diagnosis.Finding{Cause: f.Cause, Message: f.Title, Remedy: f.Remedy, Actor: f.Who.Actor()}
}

// FoundOf is a finding that nobody has looked at more closely.
func FoundOf(f diagnosis.Finding) Found {
	return Found{Cause: f.Cause, Title: f.Message, Remedy: f.Remedy, Who: f.Cause.WhoActs(), Evidence: []string{}, Follows: []string{}}
}

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

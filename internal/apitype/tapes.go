package apitype

import (
	"encoding/json"
	"time"
)

// TapeInfo is a tape without what is on it: what went between Bouncer and a server, or an
// agent, up to a moment.
type TapeInfo struct {
	Tape    int       `json:"tape" doc:"version of the format; 1"`
	ID      string    `json:"id"`
	Server  string    `json:"server,omitempty" doc:"whose tape it is; left out for an agent's"`
	Agent   string    `json:"agent,omitempty" doc:"the agent whose tape it is"`
	Since   time.Time `json:"since" doc:"when the first entry was heard"`
	Until   time.Time `json:"until" doc:"when the last was"`
	Reason  string    `json:"reason" doc:"why it was kept"`
	By      string    `json:"by" doc:"who had it kept"`
	Bouncer string    `json:"bouncer" doc:"version of Bouncer that kept it"`
	Entries int       `json:"entries"`
	Bytes   int       `json:"bytes" doc:"of the file"`
	// Imported is set for a tape of another machine.
	Imported bool `json:"imported,omitempty" doc:"it is of another machine"`
}

// Subject is whose tape it is, in words.
func (i TapeInfo) Subject() string {
	if i.Agent != "" {
		return "agent " + i.Agent
	}
	return "server " + i.Server
}

// TapeEntry is one thing on a tape. Texts are masked.
type TapeEntry struct {
	N       uint64            `json:"n" doc:"counts what was heard of the server or agent"`
	MS      float64           `json:"ms" doc:"since the first entry, in milliseconds"`
	At      time.Time         `json:"at"`
	Line    uint64            `json:"line,omitempty" doc:"tells conversations apart"`
	Kind    string            `json:"kind" enum:"sent,received,answer,noise,stderr,state,broke" doc:"a message to the server, or of the agent; one of the server, or to the agent; the head of an answer over HTTP; something of a process that is no message; standard error; another state; a request that failed below HTTP"`
	Method  string            `json:"method,omitempty" doc:"of HTTP, for an answer; of the protocol, for a message"`
	ID      string            `json:"id,omitempty" doc:"of the message, as raw JSON"`
	Status  int               `json:"status,omitempty"`
	TookMS  float64           `json:"tookMs,omitempty" doc:"until the head of the answer came, in milliseconds"`
	Headers map[string]string `json:"headers,omitempty" doc:"of an answer that did not go well"`
	Text    string            `json:"text,omitempty" doc:"its beginning"`
	Size    int               `json:"size,omitempty" doc:"of the whole, in bytes"`
}

// Tape is a tape in full.
type Tape struct {
	TapeInfo
	List []TapeEntry `json:"list"`
}

// KeepTape has what is heard of a server, or of an agent, kept as a tape.
type KeepTape struct {
	Server string `json:"server,omitempty"`
	Agent  string `json:"agent,omitempty" doc:"instead of a server"`
	Reason string `json:"reason,omitempty"`
}

// ImportTape is a tape of another machine, in the format that tapes are exported in.
type ImportTape struct {
	Text string `json:"text" doc:"JSON by lines"`
}

// ReplayTape says how a tape is replayed.
type ReplayTape struct {
	Calls bool `json:"calls,omitempty" doc:"also the calls of tools; without it only what is harmless is sent again"`
}

// Replayed compares what is answered now with what was answered then: by a server, or to an
// agent.
type Replayed struct {
	Tape    string           `json:"tape"`
	Server  string           `json:"server,omitempty"`
	Agent   string           `json:"agent,omitempty"`
	Same    int              `json:"same" doc:"requests that were answered alike"`
	Skipped int              `json:"skipped" doc:"requests that were not sent again"`
	Differ  []TapeDifference `json:"differ"`
}

// TapeDifference is a request that was answered otherwise.
type TapeDifference struct {
	Method string          `json:"method"`
	Params json.RawMessage `json:"params,omitempty"`
	Then   string          `json:"then" doc:"the answer on the tape, or what came instead"`
	Now    string          `json:"now"`
	Where  []string        `json:"where,omitempty" doc:"members that differ"`
}

package team

import (
	"encoding/json"
	"time"
)

// Example is a call of a tool that is kept, so that it can be tried again, and made by
// checkups.
type Example struct {
	Server    string          `json:"server"`
	Name      string          `json:"name"`
	Tool      string          `json:"tool" doc:"the server's own name"`
	Arguments json.RawMessage `json:"arguments"`
	By        string          `json:"by" doc:"who kept it"`
	At        time.Time       `json:"at"`
}

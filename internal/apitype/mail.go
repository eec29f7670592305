package apitype

import (
	"time"

	"bouncer/internal/core/quiet"
)

// MailWish is what a person wants to be told of by mail, and whether mail is sent at all.
type MailWish struct {
	quiet.Wish
	Sends bool `json:"sends" doc:"the service has a mail server"`
}

// MailState tells how the sending of mail goes.
type MailState struct {
	Server  string     `json:"server" doc:"host and port of the mail server; empty for none"`
	Sent    int        `json:"sent" doc:"since the service started"`
	Failed  int        `json:"failed" doc:"likewise"`
	Error   string     `json:"error,omitempty" doc:"why the last one failed that did"`
	ErrorAt *time.Time `json:"errorAt,omitempty"`
}

package evidence

import (
	"fmt"
	"strings"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/report"
)

// Told says what the request was answered with.
func (x *Exchange) Told() string {
	if x == nil {
		return ""
	}
	sent := "without a credential"
	if len(x.Sent) > 0 {
		sent = "with " + strings.Join(x.Sent, " and ")
	}
	head := fmt.Sprintf("%s %s (%s, %s)", x.Method, x.URL, x.Purpose, sent)
	switch {
	case x.Status != 0:
		head += fmt.Sprintf(" was answered %d after %s", x.Status, report.Took(x.Took))
		if kind := x.Header["Content-Type"]; kind != "" {
			head += ", " + kind
		}
	case x.Timeout:
		head += fmt.Sprintf(" was not answered within %s", report.Took(x.Took))
	case x.Err != nil:
		head += fmt.Sprintf(" failed after %s: %s", report.Took(x.Took), Plain(x.Err))
	}
	if x.Status != 0 && x.Reply.Quote != "" && x.Reply.Shape != Page && !x.Opened {
		head += ": " + x.Reply.Quote
	}
	return head
}

// Plain is an error without the wrapping that says what our own code did.
func Plain(err error) string {
	text := err.Error()
	if i := strings.LastIndex(text, ": read tcp "); i >= 0 {
		text = text[i+2:]
	}
	return diagnosis.Clip(text)
}

// alerts are the descriptions of TLS (RFC 8446, section 6).
var alerts = map[int]string{
	40: "handshake failure", 42: "bad certificate", 43: "unsupported certificate", 44: "certificate revoked", 45: "certificate expired",
	46: "certificate unknown", 48: "unknown authority", 49: "access denied", 70: "protocol version", 71: "insufficient security",
	80: "internal error", 112: "unrecognized name", 116: "certificate required",
}

// AlertText says with which alert the server ended it; empty for none.
func (h *Handshake) AlertText() string {
	if h.Alert == 0 {
		return ""
	}
	return fmt.Sprintf("the server ended the handshake with the alert %d (%s)", h.Alert, alerts[h.Alert])
}

// Ending says how it failed.
func (h *Handshake) Ending() string {
	switch {
	case h.Alert != 0:
		return "the server ends the handshake with the alert " + alerts[h.Alert]
	case h.Timeout:
		return "the server does not go on with the handshake"
	}
	return "the connection is closed during the handshake"
}

// Told says how the step went.
func (s *OAuthStep) Told() string {
	text := fmt.Sprintf("%s at %s", s.What, s.URL)
	switch {
	case s.Status != 0:
		text += fmt.Sprintf(" was answered %d after %s", s.Status, report.Took(s.Took))
	case s.Timeout:
		text += fmt.Sprintf(" was not answered within %s", report.Took(s.Took))
	case s.Err != nil:
		text += " failed: " + Plain(s.Err)
	}
	if s.Code != "" {
		text += ", " + s.Code
	}
	if s.Text != "" {
		text += ": " + s.Text
	}
	return text
}

// Busy reports whether it computed for a good part of the time; on a machine with much to
// do, it computes and gets little of the time.
func (p *Process) Busy() bool {
	return p.CPU > 200*time.Millisecond && (p.Running || p.CPU > p.Took/3)
}

// FirstWords is what it wrote: on standard output, else on standard error.
func (p *Process) FirstWords() string {
	if len(p.Stdout) > 0 {
		return string(p.Stdout)
	}
	return p.Stderr
}

// Helps reports whether it wrote on standard error how it is to be called.
func (p *Process) Helps() bool {
	low := strings.ToLower(p.Stderr)
	return strings.HasPrefix(low, "usage:") || strings.Contains(low, "\nusage:")
}

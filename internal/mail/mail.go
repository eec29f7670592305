// Package mail sends mail over SMTP (RFC 5321), by TLS wherever the server is another machine.
package mail

import (
	"context"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"net/netip"
	"net/url"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"
)

// sendTime is how long one mail may take.
const sendTime = 20 * time.Second

// Options say how mail is sent.
type Options struct {
	Server   string // smtp://host:port with STARTTLS, or smtps://host:port
	From     string
	User     string // "" for none
	Password string
}

// AddressError says that an address is none of a mail server, or none that mail comes from.
type AddressError struct{ Address, Why string }

func (e *AddressError) Error() string { return fmt.Sprintf("is %q; it %s", e.Address, e.Why) }

// CheckServer checks the address of a mail server; errors are *AddressError.
func CheckServer(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "smtp" && u.Scheme != "smtps":
		return &AddressError{address, "must look like smtp://mail.skerrow.example:587 or smtps://mail.skerrow.example:465"}
	case u.User != nil:
		return &AddressError{u.Redacted(), "must not hold a name or a password; those are settings of their own"}
	case u.Path != "" && u.Path != "/" || u.RawQuery != "":
		return &AddressError{address, "must be scheme, host and port alone"}
	}
	return nil
}

// Sender sends mail. It is safe for concurrent use.
type Sender struct {
	o    Options
	host string
	port int
	tls  []mail.Option
}

// New returns a Sender.
func New(o Options) (*Sender, error) {
	if err := CheckServer(o.Server); err != nil {
		return nil, err
	}
	u, err := url.Parse(o.Server)
	if err != nil {
		return nil, fmt.Errorf("read the address of the mail server: %w", err)
	}
	if _, err := netmail.ParseAddress(o.From); err != nil {
		return nil, &AddressError{o.From, "must be the address that mail comes from, as in bouncer@skerrow.example"}
	}
	s := &Sender{o: o, host: u.Hostname(), port: 587, tls: []mail.Option{mail.WithTLSPolicy(mail.TLSMandatory)}}
	switch {
	case u.Scheme == "smtps":
		s.port, s.tls = 465, []mail.Option{mail.WithSSL()}
	case loopback(s.host):
		s.tls = []mail.Option{mail.WithTLSPolicy(mail.TLSOpportunistic)}
	}
	if p := u.Port(); p != "" {
		if s.port, err = strconv.Atoi(p); err != nil {
			return nil, &AddressError{o.Server, "has no port that is a number"}
		}
	}
	return s, nil
}

func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	a, err := netip.ParseAddr(host)
	return err == nil && a.IsLoopback()
}

// Server is where mail goes, as host and port.
func (s *Sender) Server() string { return net.JoinHostPort(s.host, strconv.Itoa(s.port)) }

// RefusedError says that the server refuses a mail for good: trying again is of no use.
type RefusedError struct{ Cause error }

func (e *RefusedError) Error() string { return "the mail server refuses it: " + e.Cause.Error() }

func (e *RefusedError) Unwrap() error { return e.Cause }

// Send sends a mail of plain text. Errors are *RefusedError for what is refused for good.
func (s *Sender) Send(ctx context.Context, to, subject, text string) error {
	m := mail.NewMsg()
	if err := m.From(s.o.From); err != nil {
		return fmt.Errorf("set who sends it: %w", err)
	}
	if err := m.To(to); err != nil {
		return &RefusedError{fmt.Errorf("set who gets it: %w", err)}
	}
	m.Subject(subject)
	m.SetDate()
	m.SetMessageID()
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody is answered by a machine
	m.SetBodyString(mail.TypeTextPlain, text)
	options := append([]mail.Option{mail.WithPort(s.port), mail.WithTimeout(sendTime)}, s.tls...)
	if s.o.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.o.User), mail.WithPassword(s.o.Password))
	}
	client, err := mail.NewClient(s.host, options...)
	if err != nil {
		return fmt.Errorf("prepare to send mail: %w", err)
	}
	ctx, stop := context.WithTimeout(ctx, sendTime)
	defer stop()
	if err := client.DialAndSendWithContext(ctx, m); err != nil {
		var failed *mail.SendError
		if errors.As(err, &failed) && !failed.IsTemp() && permanent(failed.Reason) {
			return &RefusedError{err}
		}
		return fmt.Errorf("send mail by %s: %w", s.Server(), err)
	}
	return nil
}

// permanent reports whether what failed was the mail and not the way to the server.
func permanent(r mail.SendErrReason) bool {
	return r == mail.ErrSMTPRcptTo || r == mail.ErrSMTPMailFrom || r == mail.ErrSMTPData || r == mail.ErrSMTPDataClose
}

// Package mailbox stands in for a team's mail server: it takes mail over SMTP, shows what it
// took, and misbehaves on demand. It reads the protocol by itself, so that what is sent is
// held against RFC 5321 and not against the sender's own idea of it.
package mailbox

import (
	"bufio"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/mail"
	"net/textproto"
	"strings"
	"sync"
)

const kept = 50

// Mail is a mail that was taken.
type Mail struct {
	From, To, Subject, Text string
	Header                  mail.Header
}

// Mailbox takes mail. Serve it on a listener; its ServeHTTP shows what it took.
type Mailbox struct {
	mu    sync.Mutex // guards what follows
	taken []Mail
	fails []string // replies to come instead of taking a mail, as in "451 try later"
	conns map[net.Conn]struct{}
}

// Fail has the next mails answered with these replies to RCPT.
func (b *Mailbox) Fail(replies ...string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.fails = append(b.fails, replies...)
}

// Mails are those that were taken, the newest last.
func (b *Mailbox) Mails() []Mail {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Mail(nil), b.taken...)
}

// Serve answers on a listener until that is closed.
func (b *Mailbox) Serve(l net.Listener) error {
	var all sync.WaitGroup
	defer all.Wait()
	defer b.hangUp()
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("take a connection: %w", err)
		}
		b.mu.Lock()
		if b.conns == nil {
			b.conns = map[net.Conn]struct{}{}
		}
		b.conns[c] = struct{}{}
		b.mu.Unlock()
		all.Go(func() {
			b.talk(c)
			_ = c.Close()
			b.mu.Lock()
			delete(b.conns, c)
			b.mu.Unlock()
		})
	}
}

func (b *Mailbox) hangUp() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for c := range b.conns {
		_ = c.Close()
	}
}

func (b *Mailbox) failure() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.fails) == 0 {
		return ""
	}
	f := b.fails[0]
	b.fails = b.fails[1:]
	return f
}

// talk is one conversation.
func (b *Mailbox) talk(c net.Conn) {
	t := textproto.NewConn(c)
	say := func(line string) bool { return t.PrintfLine("%s", line) == nil }
	if !say("220 mail.skerrow.example ready") {
		return
	}
	var from, to string
	for {
		line, err := t.ReadLine()
		if err != nil {
			return
		}
		verb, rest, _ := strings.Cut(line, " ")
		switch strings.ToUpper(verb) {
		case "EHLO":
			say("250-mail.skerrow.example")
			say("250-8BITMIME")
			say("250 SIZE 1000000")
		case "HELO", "NOOP":
			say("250 mail.skerrow.example")
		case "RSET":
			from, to = "", ""
			say("250 forgotten")
		case "MAIL":
			from = between(rest)
			say("250 from you")
		case "RCPT":
			if f := b.failure(); f != "" {
				say(f)
				continue
			}
			to = between(rest)
			say("250 for them")
		case "DATA":
			if from == "" || to == "" {
				say("503 who from, and who for?")
				continue
			}
			say("354 go on, and end with a dot")
			if !b.take(t, from, to) {
				say("554 that is no mail")
				continue
			}
			say("250 taken")
		case "QUIT":
			say("221 fair wind")
			return
		default:
			say("502 not here")
		}
	}
}

// take reads a mail and keeps it.
func (b *Mailbox) take(t *textproto.Conn, from, to string) bool {
	m, err := mail.ReadMessage(bufio.NewReader(t.DotReader()))
	if err != nil {
		return false
	}
	body, err := io.ReadAll(io.LimitReader(decoded(m), 1<<20))
	if err != nil {
		return false
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.taken = append(b.taken, Mail{from, to, m.Header.Get("Subject"), string(body), m.Header})
	if over := len(b.taken) - kept; over > 0 {
		b.taken = b.taken[over:]
	}
	return true
}

func between(text string) string {
	_, rest, _ := strings.Cut(text, "<")
	address, _, _ := strings.Cut(rest, ">")
	return address
}

// ServeHTTP implements http.Handler.
func (b *Mailbox) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprint(w, "<!doctype html><title>Mailbox</title><h1>Mail</h1>")
	for _, m := range b.Mails() {
		fmt.Fprintf(w, "<h2>%s</h2><p>to %s</p><pre>%s</pre>", html.EscapeString(m.Subject), html.EscapeString(m.To), html.EscapeString(m.Text))
	}
}

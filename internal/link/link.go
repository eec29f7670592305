// Package link is the contract between Bouncer and a tool server: one Transport, that
// every way of reaching a server implements, and what is asked over it. A caller
// begins an Exchange, takes its Replies, and is told a Failure with its finding. What
// transports differ in is said by their Traits and nobody asks for a concrete type.
// The transports are the packages below; packages link/internal hold what they share.
package link

import (
	"context"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
)

// Link is one conversation with a server, as calls are carried over it.
// Implementations are safe for concurrent use. Errors are *Failure, or those of
// the context.
type Link interface {
	// Begin sends a request and returns the exchange it opened.
	Begin(ctx context.Context, a *Ask) (Exchange, error)
	// Revision is the one in use, "" when that is not known now.
	Revision() string
	// NextID returns an id that no other request of this link has.
	NextID() uint64
	// Cancel tells the server that the answer to a request is no longer wanted.
	Cancel(ctx context.Context, id uint64, reason string) error
	// Notify sends a notification, where the conversation has a session.
	Notify(ctx context.Context, method string, params []byte) error
	// Log asks for log messages from a level on, unless quieter ones are asked for
	// already.
	Log(ctx context.Context, level string) error
	// Close ends the session and what belongs to it; a later Begin opens another.
	Close(ctx context.Context)
}

// Transport is a Link with what keeping it alive needs. What distinguishes the
// transports is told by Traits; nobody asks which one it is.
type Transport interface {
	Link
	// Name is the server's.
	Name() string
	// Traits tells what this transport, to this server, is like.
	Traits() Traits
	// Open opens the session, unless it is open.
	Open(ctx context.Context) (Greeting, error)
	// Probe opens the session, unless it is open, reads what the server offers,
	// and times each step.
	Probe(ctx context.Context) (Offer, []team.Stage, error)
	// Offer reads what the server offers.
	Offer(ctx context.Context) (Offer, error)
	// Subscribe begins or ends to hear of changes of one resource. Subscriptions
	// outlive the session they were made in.
	Subscribe(ctx context.Context, uri string, on bool) error
	// SetListener says who is told of messages outside of any exchange; until then
	// nobody is.
	SetListener(Listener)
	// Listen holds what the server tells by itself until ctx ends or it breaks off.
	// It returns true when the server should be looked at again, false when it has
	// no way to tell of changes. ready is called when listening has begun: what the
	// server says before may be lost. It may be called more than once.
	Listen(ctx context.Context, ready func()) bool
	// Fork returns another conversation with the same server, which declares other
	// capabilities; with session it has a session, even of a server that needs none.
	// It is nil where the server cannot be had twice.
	Fork(caps wire.Caps, session bool) Transport
	// Diagnostics tells about the process that runs, of a server that is one.
	Diagnostics() Diagnostics
	// Altered looks whether a file that the running process was started from is
	// another one since, and returns its path; "" for none. It reads the disk.
	Altered() string
}

// Diagnostics is what is known of a running process.
type Diagnostics struct {
	PID     int
	Started time.Time
	Stderr  string // the end of what it wrote to standard error, masked
	Noise   int    // lines on standard output that were not the protocol
	Node    string // at which it runs, where that is said; "" otherwise
}

// Traits are what distinguishes transports for those who keep them.
type Traits struct {
	// CheapForks: another conversation costs no more than a session.
	CheapForks bool
	// KeepsSessions: the server gave the session an id.
	KeepsSessions bool
	// StartsProcess: opening starts a process.
	StartsProcess bool
	// Static: the offer follows from the registration, and Offer asks nobody.
	Static bool
}

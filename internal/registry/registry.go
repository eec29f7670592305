// Package registry is the one way in which Bouncer's own state is altered. A Change
// is written together with its record in one transaction (Write); then the
// publisher, a goroutine of its own, reads what is stored, puts values and
// connections in force, builds the snapshot and hands it to the relay. Whoever
// wrote waits for the publication that began after its commit; writers that come
// meanwhile share the next one.
//
// The registry knows no noun's rules: those stand in the packages above it.
package registry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"bouncer/internal/core/mask"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/credential"
	"bouncer/internal/events"
	"bouncer/internal/snapshot"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// Relay is where a snapshot is put in force. What is in force is asked of it, so that nobody is told
// something else than agents are.
type Relay interface {
	Publish(*snapshot.Snapshot)
	Snapshot() *snapshot.Snapshot // the one in force, from the beginning on
}

// Options configure a Registry. All but the last two are required.
type Options struct {
	Store       *store.Store
	Credentials *credential.Set
	Pool        *upstream.Pool
	Relay       Relay
	Events      *events.Hub
	Masks       *mask.Set
	Log         *slog.Logger
	Address     string // base URL under which people and agents reach the service
	// NoProcesses takes servers that are commands out of force.
	NoProcesses bool
	// AddressPasses allows passes that are part of an address.
	AddressPasses bool
	// Now is the present time; nil for time.Now.
	Now func() time.Time
	// Publishing is told that a publication begins, and what it returns that it is in force; nil for
	// nobody.
	Publishing func() (done func())
	// PassRate is how many requests a second one pass may make; 0 for any number.
	PassRate int
}

// Registry writes changes and publishes what is stored. It is safe for concurrent
// use.
type Registry struct {
	o      Options
	usage  *usage
	shapes rules.Memo
	turn   *time.Timer // when rules begin or end by themselves; set by the publisher

	ctx     context.Context // of the publisher
	cancel  context.CancelFunc
	asked   chan struct{} // capacity 1: somebody waits for a publication
	ended   chan struct{} // closed when the publisher has ended
	closing sync.WaitGroup
	noting  sync.WaitGroup // of what is written besides

	mu   sync.Mutex // guards next
	next *round     // the publication that begins next; nil while nobody waits
}

// round is one publication. err may be read when done is closed.
type round struct {
	done chan struct{}
	err  error
}

// usageEvery is how often it is written when passes and secrets were last used.
const usageEvery = 15 * time.Second

// newsAgain is after how long it is tried again to record what servers offer.
const newsAgain = 5 * time.Second

// closeTime is how long a connection that is no longer needed may take to close.
const closeTime = 5 * time.Second

var errClosed = errors.New("the service is shutting down")

// NotInForceError says that something is kept but does not hold yet: it will at the
// next publication that succeeds, at the latest when the service starts again.
type NotInForceError struct{ Err error }

func (e *NotInForceError) Error() string {
	return "it is recorded, but could not be put in force: " + e.Err.Error()
}

func (e *NotInForceError) Unwrap() error { return e.Err }

// New returns a Registry; Start puts what is stored in force.
func New(o Options) *Registry {
	if o.Now == nil {
		o.Now = time.Now
	}
	r := &Registry{
		o: o, turn: time.NewTimer(time.Hour), usage: newUsage(o.Store, o.PassRate), asked: make(chan struct{}, 1), ended: make(chan struct{}),
	}
	r.ctx, r.cancel = context.WithCancel(context.Background())
	return r
}

// Start publishes what is stored, and goes on doing so after every change.
func (r *Registry) Start() error {
	if err := r.publish(r.ctx); err != nil {
		r.cancel()
		close(r.ended)
		return err
	}
	go r.run()
	r.noting.Go(r.note)
	return nil
}

// Close ends the publisher and writes what is still to be written. The connections
// are the pool's to close.
func (r *Registry) Close(ctx context.Context) {
	r.cancel()
	r.noting.Wait()
	<-r.ended
	r.closing.Wait()
	if err := r.usage.write(ctx, r.o.Credentials.Uses()); err != nil {
		r.o.Log.Error("the use of passes and secrets could not be noted", "error", err)
	}
}

// Now is the present time by the clock that rules go by.
func (r *Registry) Now() time.Time { return r.o.Now() }

// Current is the snapshot in force.
func (r *Registry) Current() *snapshot.Snapshot { return r.o.Relay.Snapshot() }

// Change is one alteration of Bouncer's own state: who alters what, as people read
// it afterwards, and which topics listeners are told.
type Change struct {
	By            team.Person
	What          string // noun and verb, as in server.register
	Subject       string
	Before, After string
	Topics        []string
	Revert        *team.Revert // what puts it back; nil for what stays
}

// Revert is what puts an alteration back: a patch of the one with an id and a name, as
// long as it has the version that the alteration leaves it with.
func Revert(kind, id, name string, version int, patch any) *team.Revert {
	raw, err := json.Marshal(patch)
	if err != nil {
		return nil // it is said then that it cannot be undone
	}
	return &team.Revert{Kind: kind, ID: id, Name: name, Version: version, Patch: raw}
}

// Write writes a change with its record in one transaction and puts it in force.
// What is committed is put in force even when the caller has left. Errors of fn are
// returned as they are.
func (r *Registry) Write(ctx context.Context, c Change, fn func(*store.Tx) error) error {
	m := r.o.Masks.Masker()
	row := team.Change{
		Person: c.By.Name, What: c.What, Subject: m.Text(c.Subject), Before: m.Text(c.Before), After: m.Text(c.After), Revert: c.Revert,
	}
	if err := r.o.Store.Write(ctx, row, fn); err != nil {
		return err
	}
	if err := r.Refresh(); err != nil {
		return fmt.Errorf("%s: %w", c.What, err)
	}
	for _, topic := range c.Topics {
		r.o.Events.Publish(topic)
	}
	return nil
}

// Refresh publishes what is stored now, and returns when that is in force. A round
// is waited for even when whoever asked has left: what is committed is to be in force
// before anybody is told so. The error is a NotInForceError.
func (r *Registry) Refresh() error {
	r.mu.Lock()
	if r.next == nil {
		r.next = &round{done: make(chan struct{})}
	}
	mine := r.next
	r.mu.Unlock()
	select {
	case r.asked <- struct{}{}:
	default:
	}
	select {
	case <-mine.done:
		if mine.err != nil {
			return &NotInForceError{mine.err}
		}
		return nil
	case <-r.ended:
		return &NotInForceError{errClosed}
	}
}

// everything is what listeners are told of where it is not known what was altered.
var everything = []string{"servers", "agents", "rules", "secrets", "people", "sign-ins", "reviews", "changes", "nodes"}

// TellAll tells listeners that anything may have changed.
func (r *Registry) TellAll() {
	for _, topic := range everything {
		r.o.Events.Publish(topic)
	}
}

// Listen returns the topics of what changes; stop ends it.
func (r *Registry) Listen() (topics <-chan string, stop func()) { return r.o.Events.Subscribe() }

// FlushUse writes when passes and secrets were last used, so that what is read next
// is true.
func (r *Registry) FlushUse(ctx context.Context) {
	if err := r.usage.write(ctx, r.o.Credentials.Uses()); err != nil {
		r.o.Log.Error("the use of passes and secrets could not be noted", "error", err)
	}
}

// run is the publisher.
func (r *Registry) run() {
	defer close(r.ended)
	for {
		select {
		case <-r.asked:
			r.mu.Lock()
			mine := r.next
			r.next = nil
			r.mu.Unlock()
			if mine != nil {
				mine.err = r.publish(r.ctx)
				close(mine.done)
			}
		case <-r.turn.C:
			if err := r.publish(r.ctx); err != nil && r.ctx.Err() == nil {
				r.o.Log.Error("rules that begin or end now could not be put in force", "error", err)
				r.turn.Reset(time.Second)
			}
			r.o.Events.Publish("rules")
		case <-r.ctx.Done():
			return
		}
	}
}

// note records what servers offer now, and when passes and secrets were used. It is not done by
// the publisher, because it may have to wait for other nodes.
func (r *Registry) note() {
	ticker := time.NewTicker(usageEvery)
	defer ticker.Stop()
	again := make(<-chan time.Time) // when what failed is tried once more
	take := func() {
		if err := r.takeNews(r.ctx); err != nil && r.ctx.Err() == nil {
			r.o.Log.Error("what servers offer now could not be put in force", "error", err)
			again = time.After(newsAgain)
		}
	}
	for {
		select {
		case <-r.o.Pool.Changed():
			take()
		case <-again:
			take()
		case <-ticker.C:
			r.FlushUse(r.ctx)
		case <-r.ctx.Done():
			return
		}
	}
}

// takeNews records what servers offer now and publishes it.
func (r *Registry) takeNews(ctx context.Context) error {
	offers := r.o.Pool.Offers()
	err := r.o.Store.Update(ctx, func(tx *store.Tx) error {
		for server, st := range offers {
			// A server that was removed meanwhile has no row to refer to.
			if err := tx.AddEdition(server, st.Checked, st.Offer.Lists[tools.Tools]); err != nil && !errors.Is(err, store.ErrInUse) {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("record editions: %w", err)
	}
	if err := r.Refresh(); err != nil {
		return err
	}
	r.o.Events.Publish("servers")
	r.o.Events.Publish("reviews")
	return nil
}

// publish puts in force what is stored.
func (r *Registry) publish(ctx context.Context) error {
	if r.o.Publishing != nil {
		done, before := r.o.Publishing(), r.Current()
		defer func() {
			if r.Current() != before {
				done()
			}
		}()
	}
	rows, err := r.read(ctx)
	if err != nil {
		return fmt.Errorf("read the register: %w", err)
	}
	view := r.o.Credentials.View(rows.credentials())
	wanted, holders := r.wanted(ctx, rows, view)
	gone := r.o.Pool.Apply(wanted)
	r.o.Credentials.Commit(view)
	s := r.build(ctx, rows, holders)
	r.o.Relay.Publish(s)
	// Only now, so that no call is sent over a connection that is being closed.
	for _, c := range gone {
		r.closing.Go(func() {
			bye, stop := context.WithTimeout(context.WithoutCancel(ctx), closeTime)
			defer stop()
			c.Close(bye)
		})
	}
	return nil
}

// Package replica keeps the register of a node the same as that of the others. What is altered
// here is written to the cluster's log, as what follows the entry that the state here has come
// to; what the log says is carried out here, in its order, whoever wrote it. A node that has
// fallen behind what the log still has, or whose tables hold something else than those of the
// others, takes over the newest copy of the state and goes on from there.
package replica

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"bouncer/internal/cluster"
	"bouncer/internal/cluster/ledger"
	"bouncer/internal/core/replication"
	"bouncer/internal/store"
)

// Options configure a Replica. All are required.
type Options struct {
	Store   *store.Store
	Cluster *cluster.Cluster
	Dir     string // for copies of the state, while they are made, and for what did not fit
	Log     *slog.Logger
	// Changed is told that something was carried out that nobody puts in force yet. It must not wait.
	Changed func()
}

// Replica keeps the register the same. It is safe for concurrent use.
type Replica struct {
	o    Options
	turn chan struct{} // held by whoever writes to the log

	ctx    context.Context // of carrying out
	cancel context.CancelFunc
	ended  chan struct{} // closed when carrying out has ended

	mu       sync.Mutex // guards what follows
	applied  uint64
	last     uint64        // the newest entry that is known of
	progress chan struct{} // closed when applied grows
	poisoned map[uint64]error
	trouble  error     // why the log cannot be carried out; nil while it can
	since    time.Time // of the trouble
	marked   uint64    // the newest entry that says what the tables add up to
}

// Status is how far a node is.
type Status struct {
	Applied uint64 // the newest entry that is carried out here
	Last    uint64 // the newest that is known of
	Trouble error  // why the log is not carried out; nil while it is
	Since   time.Time
	Aside   int // entries that were set aside
}

// Open finds out where this node stands: it takes over the state of the cluster where it has
// none of its own, and gives the cluster its state where that has none. The error is a
// *cluster.JoinError.
func Open(ctx context.Context, o Options) (*Replica, error) {
	r := &Replica{
		o: o, turn: make(chan struct{}, 1), ended: make(chan struct{}), progress: make(chan struct{}), poisoned: map[uint64]error{},
	}
	r.ctx, r.cancel = context.WithCancel(context.Background())
	if err := r.join(ctx); err != nil {
		r.cancel()
		return nil, err
	}
	at, err := ledger.Of(o.Store).Position(ctx)
	if err != nil {
		r.cancel()
		return nil, fmt.Errorf("read where this node stands: %w", err)
	}
	r.applied = at.Applied
	go r.run()
	if err := r.comeUp(ctx); err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

// comeUp waits until what the log has by now is carried out here: before that, this node does not
// know what is allowed.
func (r *Replica) comeUp(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, joinTime)
	defer stop()
	_, last, err := r.o.Cluster.Last(ctx)
	if err != nil {
		return err
	}
	if err := r.Wait(ctx, last); err != nil {
		at := r.Status()
		return &cluster.JoinError{
			What: fmt.Sprintf("the log of the cluster is carried out up to entry %d of %d only: %v", at.Applied, last, errors.Join(at.Trouble, err)),
			Hint: "see in the log of this node why, and start it again",
		}
	}
	return nil
}

// joinTime is how long a node waits for another one that begins the cluster just now.
const joinTime = time.Minute

// errBegins says that another node begins the cluster just now.
var errBegins = errors.New("another node begins the cluster, and its state is not there yet")

// join compares where this node stands with the cluster.
func (r *Replica) join(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, joinTime)
	defer stop()
	for {
		err := r.compare(ctx)
		if !errors.Is(err, errBegins) {
			return err
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return &cluster.JoinError{What: err.Error(), Hint: "see in the log of that node why it takes so long, and start this one again"}
		}
	}
}

// compare brings this node to where the log goes on.
func (r *Replica) compare(ctx context.Context) error {
	at, err := ledger.Of(r.o.Store).Position(ctx)
	if err != nil {
		return fmt.Errorf("read where this node stands: %w", err)
	}
	empty, err := ledger.Of(r.o.Store).Empty(ctx)
	if err != nil {
		return fmt.Errorf("look whether there is a register here: %w", err)
	}
	newest, err := r.newest(ctx)
	if err != nil {
		return err
	}
	first, last, err := r.o.Cluster.Last(ctx)
	if err != nil {
		return err
	}
	mine := at.Cluster == r.o.Cluster.ID
	switch {
	case mine && at.Applied > last:
		return &cluster.JoinError{
			What: fmt.Sprintf("the log of the cluster ends at entry %d, and this node has carried out %d: the log has lost some", last, at.Applied),
			Hint: "restore the servers of the cluster, or have the nodes join another one (setting cluster-name)",
		}
	case mine && newest != nil && at.Applied+1 >= first:
		return nil // the log has what is missing here
	case at.Cluster != "" && !mine && !empty:
		return &cluster.JoinError{
			What: fmt.Sprintf("the register here is of another cluster (%s; this one is %s)", at.Cluster, r.o.Cluster.ID),
			Hint: "check the settings cluster and cluster-name, or choose an empty directory with --data",
		}
	case newest == nil && last == 0:
		return r.found(ctx)
	case empty || mine:
		return r.takeOver(ctx)
	}
	return &cluster.JoinError{
		What: "there is a register here, and another one in the cluster",
		Hint: "choose an empty directory with --data to join the cluster, or another setting cluster-name to begin one with what is here",
	}
}

// found makes the register that is here the cluster's.
func (r *Replica) found(ctx context.Context) error {
	lease, err := r.o.Cluster.Take(ctx, "state")
	if errors.Is(err, cluster.ErrTaken) {
		return errBegins
	}
	if err != nil {
		return err
	}
	defer lease.Release(context.WithoutCancel(ctx))
	newest, err := r.newest(ctx)
	if err != nil {
		return err
	}
	if newest != nil { // another one was quicker
		return errBegins
	}
	if err := ledger.Of(r.o.Store).SetPosition(ctx, ledger.Position{Cluster: r.o.Cluster.ID}); err != nil {
		return fmt.Errorf("note which cluster this is: %w", err)
	}
	return r.keepState(ctx)
}

// takeOver replaces the register that is here by that of the cluster.
func (r *Replica) takeOver(ctx context.Context) error {
	newest, err := r.newest(ctx)
	if err != nil {
		return err
	}
	if newest == nil {
		return errBegins
	}
	path, err := r.fetch(ctx, newest)
	if err != nil {
		return err
	}
	defer os.Remove(path)
	at, err := ledger.Of(r.o.Store).Import(ctx, path)
	if err != nil {
		return err
	}
	r.o.Log.Info("took over the state of the cluster", "entry", at.Seq, "copy by", newest.Node)
	return nil
}

// Close ends carrying out.
func (r *Replica) Close() {
	r.cancel()
	<-r.ended
}

// maxTurns is how often an alteration is tried again because others came first.
const maxTurns = 100

// Propose implements store.Replicator.
func (r *Replica) Propose(ctx context.Context, prepare func(context.Context) (replication.Entry, uint64, error)) error {
	select {
	case r.turn <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-r.turn }()
	for range maxTurns {
		e, after, err := prepare(ctx)
		if err != nil {
			// What is refused is refused by the newest state, and not by what it was here.
			if again, waited := r.behind(ctx, after); waited == nil && again {
				continue
			}
			return err
		}
		if len(e.Statements) == 0 && len(e.Marks) == 0 {
			return nil
		}
		e.Node = r.o.Cluster.Node
		raw, err := replication.Encode(e)
		if err != nil {
			return err
		}
		// Whether it is taken is found out even when who asked has left.
		seq, err := r.o.Cluster.Append(context.WithoutCancel(ctx), e.ID, raw, after)
		switch {
		case err == nil:
			return r.verdict(ctx, seq)
		case !errors.Is(err, cluster.ErrBehind):
			return err
		}
		if err := r.catchUp(ctx, after); err != nil {
			return err
		}
	}
	return errors.New("others alter the register all the time; try again")
}

// behind reports whether the log had something after an entry, and waits for that to be carried
// out here.
func (r *Replica) behind(ctx context.Context, after uint64) (bool, error) {
	_, last, err := r.o.Cluster.Last(ctx)
	if err != nil || last <= after {
		return false, err
	}
	return true, r.Wait(ctx, last)
}

// catchUp waits until something after an entry is carried out here.
func (r *Replica) catchUp(ctx context.Context, after uint64) error {
	more, err := r.behind(ctx, after)
	if err == nil && !more {
		err = fmt.Errorf("the log ends at entry %d, which others do not know yet", after)
	}
	return err
}

// verdict waits until an entry is carried out here, and tells what came of it.
func (r *Replica) verdict(ctx context.Context, seq uint64) error {
	if err := r.Wait(ctx, seq); err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.poisoned[seq]
}

// Wait returns when an entry is carried out here.
func (r *Replica) Wait(ctx context.Context, seq uint64) error {
	for {
		r.mu.Lock()
		there, progress, trouble := r.applied >= seq, r.progress, r.trouble
		r.mu.Unlock()
		if there {
			return nil
		}
		if trouble != nil {
			return fmt.Errorf("it is recorded, and cannot be put in force here: %w", trouble)
		}
		select {
		case <-progress:
		case <-ctx.Done():
			return ctx.Err()
		case <-r.ended:
			return errors.New("the service is shutting down")
		}
	}
}

// Status tells how far this node is.
func (r *Replica) Status() Status {
	r.mu.Lock()
	defer r.mu.Unlock()
	return Status{Applied: r.applied, Last: max(r.last, r.applied), Trouble: r.trouble, Since: r.since, Aside: len(r.poisoned)}
}

// run carries out the log for as long as the node is there.
func (r *Replica) run() {
	defer close(r.ended)
	for r.ctx.Err() == nil {
		err := r.follow()
		if r.ctx.Err() != nil {
			return
		}
		var diverged *ledger.DivergedError
		if errors.As(err, &diverged) || errors.Is(err, errGap) {
			if err = r.startAfresh(err); err == nil {
				continue
			}
		}
		if errors.Is(err, errStuck) {
			continue // it is read anew
		}
		r.setTrouble(err)
		select {
		case <-time.After(time.Second):
		case <-r.ctx.Done():
		}
	}
}

// setTrouble notes why the log is not carried out; nil for that it is.
func (r *Replica) setTrouble(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if (err == nil) != (r.trouble == nil) {
		r.since = time.Now()
		if err != nil {
			r.o.Log.Error("the log of the cluster is not carried out", "error", err)
		}
	}
	r.trouble = err
	if err != nil { // who waits is told
		close(r.progress)
		r.progress = make(chan struct{})
	}
}

// errStuck says that entries that the log has do not come.
var errStuck = errors.New("what the log has does not come")

// errGap says that the log does not have what comes next here any more.
var errGap = errors.New("the log does not have any more what comes next here")

// follow carries out what the log has, and what comes.
func (r *Replica) follow() error {
	r.mu.Lock()
	applied := r.applied
	r.mu.Unlock()
	first, last, err := r.o.Cluster.Last(r.ctx)
	if err != nil {
		return err
	}
	if first > applied+1 {
		return errGap
	}
	r.mu.Lock()
	r.last = last
	r.mu.Unlock()
	consumer, err := r.o.Cluster.Log.OrderedConsumer(r.ctx, jetstream.OrderedConsumerConfig{
		DeliverPolicy: jetstream.DeliverByStartSequencePolicy, OptStartSeq: applied + 1, InactiveThreshold: time.Minute,
	})
	if err != nil {
		return fmt.Errorf("read the log: %w", err)
	}
	entries, err := consumer.Messages(jetstream.PullHeartbeat(2*time.Second), jetstream.PullExpiry(10*time.Second))
	if err != nil {
		return fmt.Errorf("read the log: %w", err)
	}
	defer entries.Stop()
	r.setTrouble(nil)
	ctx, stop := context.WithCancel(r.ctx)
	defer stop()
	come := make(chan delivered)
	go deliver(ctx, entries, come)
	watch := time.NewTicker(stuckAfter)
	defer watch.Stop()
	before := applied
	for {
		var msg jetstream.Msg
		select {
		case d := <-come:
			if d.err != nil {
				return fmt.Errorf("read the log: %w", d.err)
			}
			msg = d.msg
		case <-ctx.Done():
			return ctx.Err()
		case <-watch.C:
			// A consumer whose server was lost does not always find another one.
			if _, last, err := r.o.Cluster.Last(ctx); err == nil && last > applied && applied == before {
				return errStuck
			}
			before = applied
			continue
		}
		about, err := msg.Metadata()
		if err != nil {
			return fmt.Errorf("read the log: %w", err)
		}
		seq := about.Sequence.Stream
		if seq <= applied {
			continue
		}
		if seq > applied+1 {
			return errGap
		}
		if err := r.carryOut(seq, seq+about.NumPending, msg.Data()); err != nil {
			return err
		}
		applied = seq
	}
}

// stuckAfter is how long it is waited for entries that the log has.
const stuckAfter = 3 * time.Second

// delivered is an entry of the log, or why none comes.
type delivered struct {
	msg jetstream.Msg
	err error
}

// deliver gives on what comes until its context ends.
func deliver(ctx context.Context, entries jetstream.MessagesContext, to chan<- delivered) {
	for {
		msg, err := entries.Next(jetstream.NextContext(ctx))
		select {
		case to <- delivered{msg, err}:
		case <-ctx.Done():
			return
		}
		if err != nil {
			return
		}
	}
}

// carryOut carries out one entry.
func (r *Replica) carryOut(seq, last uint64, raw []byte) error {
	e, err := replication.Decode(raw)
	var newer *replication.NewerError
	if errors.As(err, &newer) {
		return err // only a newer Bouncer can tell what it is
	}
	if err != nil { // which every node says of it
		err = ledger.Of(r.o.Store).SetAside(r.ctx, seq, raw, err)
	} else {
		err = ledger.Of(r.o.Store).Apply(r.ctx, seq, e, raw)
	}
	var poisoned *ledger.PoisonedError
	if errors.As(err, &poisoned) {
		r.o.Log.Error("an entry of the log was set aside", "entry", seq, "what", e.What, "by", e.Node, "error", err)
	} else if err != nil {
		return err
	}
	r.mu.Lock()
	r.applied, r.last = seq, max(last, r.last)
	if poisoned != nil {
		r.poisoned[seq] = poisoned
	}
	if len(e.Marks) > 0 {
		r.marked = seq
	}
	close(r.progress)
	r.progress = make(chan struct{})
	r.mu.Unlock()
	if e.Node != r.o.Cluster.Node || e.What == "" { // whoever alters something here puts it in force
		r.o.Changed()
	}
	return nil
}

// startAfresh takes over the newest copy of the state, and keeps what was here.
func (r *Replica) startAfresh(why error) error {
	r.o.Log.Error("the register here does not fit the cluster, which is joined afresh", "error", why)
	aside := filepath.Join(r.o.Dir, "unfit-"+time.Now().UTC().Format("20060102T150405")+".db")
	if err := r.o.Store.Backup(r.ctx, aside); err != nil {
		return fmt.Errorf("keep what was here: %w", err)
	}
	r.o.Log.Warn("what was here is kept", "file", aside)
	if err := r.takeOver(r.ctx); err != nil {
		return err
	}
	at, err := ledger.Of(r.o.Store).Position(r.ctx)
	if err != nil {
		return fmt.Errorf("read where this node stands: %w", err)
	}
	r.mu.Lock()
	r.applied = at.Applied
	r.mu.Unlock()
	r.o.Changed()
	return nil
}

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
	"slices"
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
	Now     func() time.Time // nil is time.Now
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
	loud     uint64        // the newest entry that something is decided by
	own      error         // what came of the entry that was written here last
	ownSeq   uint64        // its number
	aside    int           // entries that were set aside of late
	trouble  error         // why the log cannot be carried out; nil while it can
	level    time.Time     // when all that the log had was carried out here, as far as is known
}

// Status is how far a node is.
type Status struct {
	Applied uint64    // the newest entry that is carried out here
	Last    uint64    // the newest that is known of
	Loud    uint64    // the newest carried out that something is decided by; those after it are notes of use
	Trouble error     // why the log is not carried out; nil while it is
	Level   time.Time // when all that the log had was carried out, as far as is known
	Aside   int       // entries that were set aside in the last days
}

// Open finds out where this node stands: it takes over the state of the cluster where it has
// none of its own, and gives the cluster its state where that has none. The error is a
// *cluster.JoinError.
func Open(ctx context.Context, o Options) (*Replica, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	r := &Replica{o: o, turn: make(chan struct{}, 1), ended: make(chan struct{}), progress: make(chan struct{})}
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
	r.applied, r.loud = at.Applied, at.Applied
	if r.aside, err = ledger.Of(o.Store).AsideSince(ctx, o.Now().Add(-asideFor)); err != nil {
		r.cancel()
		return nil, fmt.Errorf("count what was set aside: %w", err)
	}
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
	var last uint64
	err := cluster.Patiently(ctx, func() (err error) {
		_, last, err = r.o.Cluster.Last(ctx)
		return err
	})
	if err != nil {
		return err
	}
	for { // as long as it goes on, however long that takes
		before := r.Status().Applied
		err := r.Wait(ctx, last)
		at := r.Status()
		if err == nil || ctx.Err() == nil && at.Applied > before {
			if err == nil {
				return nil
			}
			continue
		}
		return &cluster.JoinError{
			What: fmt.Sprintf("the log of the cluster is carried out up to entry %d of %d only: %v", at.Applied, last, err),
			Hint: "see in the log of this node why, and start it again",
		}
	}
}

// asideFor is for how long it is told of entries that were set aside.
const asideFor = 7 * 24 * time.Hour

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
		if !errors.Is(err, errBegins) && (!cluster.Passing(err) || ctx.Err() != nil) {
			return err
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			if cluster.Passing(err) {
				return err
			}
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
			What: (&LostError{last, at.Applied}).Error(),
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

// Propose implements store.Replicator. The error is a *cluster.UnreachableError where the cluster
// could not be had, a *cluster.TooLargeError, a *StuckError, or one of prepare.
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
			if more, failed := r.behind(ctx, after); failed == nil && more {
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
		// Whether it is taken is found out even when who asked has left, unless nothing hangs on it.
		until := context.WithoutCancel(ctx)
		if e.Quiet {
			until = ctx
		}
		seq, err := r.o.Cluster.Append(until, e.ID, raw, after)
		switch {
		case err == nil:
			return r.verdict(ctx, seq)
		case !errors.Is(err, cluster.ErrBehind):
			return err
		}
		more, err := r.behind(ctx, after)
		if lasts(err) {
			return &StuckError{err}
		}
		if err != nil {
			return &cluster.UnreachableError{Outcome: cluster.Nothing, Err: err}
		}
		if !more { // not every server knows yet of what came before
			select {
			case <-time.After(turnPause):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	return &cluster.UnreachableError{Outcome: cluster.Nothing, Err: errors.New("others alter the register all the time")}
}

// How often an alteration is tried again because others came first, and how long it is waited
// for servers to agree on that.
const (
	maxTurns  = 100
	turnPause = 50 * time.Millisecond
)

// behind reports whether the log had something after an entry, and waits for that to be carried
// out here.
func (r *Replica) behind(ctx context.Context, after uint64) (bool, error) {
	_, last, err := r.o.Cluster.Last(ctx)
	if err != nil || last <= after {
		return false, err
	}
	return true, r.Wait(ctx, last)
}

// verdict waits until an entry that was written here is carried out here, and tells what came of it.
func (r *Replica) verdict(ctx context.Context, seq uint64) error {
	if err := r.Wait(ctx, seq); err != nil {
		return &cluster.UnreachableError{Outcome: cluster.Recorded, Err: err}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ownSeq == seq {
		return r.own
	}
	return nil
}

// waitTime is how long it is waited for an entry that the log has.
const waitTime = 15 * time.Second

// Wait returns when an entry is carried out here; the error says why it is not.
func (r *Replica) Wait(ctx context.Context, seq uint64) error {
	late := time.NewTimer(waitTime)
	defer late.Stop()
	for {
		r.mu.Lock()
		applied, progress, trouble := r.applied, r.progress, r.trouble
		r.mu.Unlock()
		if applied >= seq {
			return nil
		}
		if lasts(trouble) {
			return trouble
		}
		select {
		case <-progress:
		case <-late.C:
			return errors.Join(fmt.Errorf("entry %d of the log has not come in %s", seq, waitTime), trouble)
		case <-ctx.Done():
			return ctx.Err()
		case <-r.ended:
			return errors.New("the service is shutting down")
		}
	}
}

// lasts reports whether trouble does not go away by trying again.
func lasts(trouble error) bool {
	var format *replication.NewerError
	var schema *ledger.SchemaError
	var lost *LostError
	return errors.As(trouble, &format) || errors.As(trouble, &schema) || errors.As(trouble, &lost)
}

// StuckError says that this node cannot follow the log, and therefore alter nothing.
type StuckError struct{ Err error }

func (e *StuckError) Error() string {
	return fmt.Sprintf("this node no longer follows the others (%v); nothing was altered", e.Err)
}

func (e *StuckError) Unwrap() error { return e.Err }

// Unavailable is what helps, for those who do not know clusters.
func (e *StuckError) Unavailable() string {
	var lost *LostError
	if errors.As(e.Err, &lost) {
		return "see bouncer node list, and the log of this node"
	}
	return "do it at a node that is ready, and install here the version that the others have"
}

// LostError says that the log ends before what was carried out here: its servers lost some of it.
type LostError struct{ Last, Applied uint64 }

func (e *LostError) Error() string {
	return fmt.Sprintf("the log of the cluster ends at entry %d, and this node has carried out %d: the log has lost some", e.Last, e.Applied)
}

// Status tells how far this node is.
func (r *Replica) Status() Status {
	r.mu.Lock()
	defer r.mu.Unlock()
	return Status{Applied: r.applied, Last: max(r.last, r.applied), Loud: r.loud, Trouble: r.trouble, Level: r.level, Aside: r.aside}
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
	if err != nil && r.trouble == nil {
		r.o.Log.Error("the log of the cluster is not carried out", "error", err)
	}
	r.trouble = err
	if err != nil { // who waits is told
		close(r.progress)
		r.progress = make(chan struct{})
	}
}

var (
	// errStuck says that entries that the log has do not come.
	errStuck = errors.New("what the log has does not come")
	// errGap says that the log does not have what comes next here any more.
	errGap = errors.New("the log does not have any more what comes next here")
)

// reading is the log as it comes from a place on.
type reading struct {
	come chan delivered
	stop func()
}

// delivered is an entry of the log, or why none comes.
type delivered struct {
	msg jetstream.Msg
	err error
}

// read begins to read the log.
func (r *Replica) read(from uint64) (*reading, error) {
	consumer, err := r.o.Cluster.Log.OrderedConsumer(r.ctx, jetstream.OrderedConsumerConfig{
		DeliverPolicy: jetstream.DeliverByStartSequencePolicy, OptStartSeq: from, InactiveThreshold: time.Minute,
	})
	if err != nil {
		return nil, fmt.Errorf("read the log: %w", err)
	}
	entries, err := consumer.Messages(jetstream.PullHeartbeat(2*time.Second), jetstream.PullExpiry(10*time.Second))
	if err != nil {
		return nil, fmt.Errorf("read the log: %w", err)
	}
	ctx, cancel := context.WithCancel(r.ctx)
	out := &reading{make(chan delivered), func() { cancel(); entries.Stop() }}
	// It has a goroutine of its own because a consumer whose server was lost may not come back from
	// looking for another one; the goroutine ends with the connection then, at the latest.
	go func() {
		for {
			msg, err := entries.Next(jetstream.NextContext(ctx))
			select {
			case out.come <- delivered{msg, err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	return out, nil
}

// follow carries out what the log has, and what comes.
func (r *Replica) follow() error {
	if err := r.look(); err != nil {
		return err
	}
	log, err := r.read(r.Status().Applied + 1)
	if err != nil {
		return err
	}
	defer log.stop()
	r.setTrouble(nil)
	watch := time.NewTicker(watchEvery)
	defer watch.Stop()
	quiet, before := 0, r.Status().Applied
	for {
		select {
		case d := <-log.come:
			if d.err == nil {
				d.err = r.take(d.msg)
			}
			if d.err != nil {
				return fmt.Errorf("read the log: %w", d.err)
			}
		case <-r.ctx.Done():
			return r.ctx.Err()
		case <-watch.C:
			if err := r.look(); err != nil {
				return err
			}
			now := r.Status()
			if quiet++; now.Last <= now.Applied || now.Applied > before {
				quiet, before = 0, now.Applied
			}
			if quiet >= stuckAfter {
				return errStuck
			}
		}
	}
}

// How often it is looked where the log ends, and how many times it may do so further on than
// here without anything coming.
const (
	watchEvery = time.Second
	stuckAfter = 3
)

// look finds out where the log ends, and whether that is how far this node is.
func (r *Replica) look() error {
	asked := r.o.Now()
	first, last, err := r.o.Cluster.Last(r.ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.last = last
	switch {
	case last < r.applied:
		return &LostError{last, r.applied}
	case first > r.applied+1:
		return errGap
	case last == r.applied:
		r.level = asked
	}
	return nil
}

// take carries out one entry, unless it was before.
func (r *Replica) take(msg jetstream.Msg) error {
	about, err := msg.Metadata()
	if err != nil {
		return err
	}
	applied := r.Status().Applied
	switch seq := about.Sequence.Stream; {
	case seq <= applied:
		return nil
	case seq > applied+1:
		return errGap
	default:
		return r.carryOut(seq, seq+about.NumPending, msg.Data())
	}
}

// carryOut carries out one entry.
func (r *Replica) carryOut(seq, last uint64, raw []byte) error {
	at := r.o.Now()
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
	mine := e.Node == r.o.Cluster.Node
	r.mu.Lock()
	r.applied, r.last = seq, max(last, r.last)
	if mine {
		r.own, r.ownSeq = err, seq
	}
	if poisoned != nil {
		r.aside++
	}
	if !e.Quiet && len(e.Marks) == 0 {
		r.loud = seq
	}
	if r.last == seq {
		r.level = at
	}
	close(r.progress)
	r.progress = make(chan struct{})
	r.mu.Unlock()
	// Whoever alters something here puts it in force; and nothing is decided by when a pass was used.
	if (!mine || e.What == "") && !e.Quiet && len(e.Marks) == 0 {
		r.o.Changed()
	}
	return nil
}

// startAfresh takes over the newest copy of the state, and keeps what was here.
func (r *Replica) startAfresh(why error) error {
	r.o.Log.Error("the register here does not fit the cluster, which is joined afresh", "error", why)
	aside := filepath.Join(r.o.Dir, "unfit-"+time.Now().UTC().Format("20060102T150405.000")+".db")
	if err := r.o.Store.Backup(r.ctx, aside); err != nil {
		return fmt.Errorf("keep what was here: %w", err)
	}
	if err := thin(r.o.Dir); err != nil {
		return err
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
	r.applied, r.loud = at.Applied, at.Applied
	r.mu.Unlock()
	r.o.Changed()
	return nil
}

// maxKept is how many registers that did not fit are kept.
const maxKept = 3

// thin removes all but the newest of what did not fit.
func thin(dir string) error {
	kept, err := filepath.Glob(filepath.Join(dir, "unfit-*.db"))
	if err != nil {
		return fmt.Errorf("look for what was kept before: %w", err)
	}
	slices.Sort(kept)
	for len(kept) > maxKept {
		if err := os.Remove(kept[0]); err != nil {
			return fmt.Errorf("remove what was kept before: %w", err)
		}
		kept = kept[1:]
	}
	return nil
}

// Package records has the cluster keep a second copy of what a node records of its calls, so that
// a machine that is lost takes none of them with it: a node of the same name that finds less in its
// journal than the cluster has puts the rest back. In strict mode an answer waits until most of the
// cluster's servers have its record on disk; otherwise copies follow as they can.
package records

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/cluster/envelope"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
)

// Place is where copies are kept: a *cluster.Cluster.
type Place interface {
	KeepRecords(ctx context.Context, id string, newest int64, raw []byte) error
	NewestRecord(ctx context.Context) (int64, error)
	KeptRecords(ctx context.Context, after int64, fn func(raw []byte) error) error
	MaxMessage() int
}

// Journal is what is kept here: a *calls.Writer.
type Journal interface {
	Append(ctx context.Context, list []calls.Record, repeats ...calls.Record) error
	Around(ctx context.Context, key calls.Key) (below, above calls.Key, err error)
}

// Options configure a Keeper. All are required.
type Options struct {
	Place   Place
	Journal Journal
	Key     []byte // of 32 bytes, which all nodes have
	Node    string
	Strict  bool
	Log     *slog.Logger
}

// waiting is how many messages wait for the cluster in normal mode; what comes when there are more
// is not copied.
const waiting = 256

// headers is what a message takes besides the copy itself, in bytes.
const headers = 1 << 10

// Keeper records calls here, and has the cluster keep copies. Close it after the last Append.
type Keeper struct {
	o      Options
	sealer *envelope.Sealer
	queue  chan message
	lost   atomic.Int64 // messages that could not be copied
	ended  chan struct{}
	ctx    context.Context // of what is copied in normal mode
	cancel context.CancelFunc
	close  sync.Once
}

type message struct {
	id     string
	newest calls.Key
	raw    []byte
}

// kept is what a message holds.
type kept struct {
	Calls   []calls.Record
	Repeats []calls.Record // of which the key and the count matter
}

// New returns a Keeper.
func New(o Options) (*Keeper, error) {
	sealer, err := envelope.New(o.Key)
	if err != nil {
		return nil, err
	}
	k := &Keeper{o: o, sealer: sealer, queue: make(chan message, waiting), ended: make(chan struct{})}
	k.ctx, k.cancel = context.WithCancel(context.Background())
	go k.follow()
	return k, nil
}

// closeTime is how long copies that wait may take at the end.
const closeTime = 2 * time.Second

// Close copies what waits, as far as that does not take long.
func (k *Keeper) Close() {
	k.close.Do(func() {
		close(k.queue)
		late := time.AfterFunc(closeTime, k.cancel)
		<-k.ended
		late.Stop()
		k.cancel()
	})
}

// Around tells of what is recorded here.
func (k *Keeper) Around(ctx context.Context, key calls.Key) (below, above calls.Key, err error) {
	return k.o.Journal.Around(ctx, key)
}

// Append records calls. In strict mode they are with the cluster before they are here: what is here is
// there, too. What is there and could not be recorded here is put back at a start that comes before
// anything later is recorded, and on a machine that takes this one's place.
func (k *Keeper) Append(ctx context.Context, list []calls.Record, repeats ...calls.Record) error {
	messages, err := k.messages(list, repeats)
	if err != nil {
		return err
	}
	if !k.o.Strict {
		if err := k.o.Journal.Append(ctx, list, repeats...); err != nil {
			return err
		}
		for _, m := range messages {
			k.later(m)
		}
		return nil
	}
	for _, m := range messages {
		if err := k.o.Place.KeepRecords(ctx, m.id, int64(m.newest), m.raw); err != nil {
			return fmt.Errorf("have the cluster keep a copy of a record: %w", err)
		}
	}
	return k.o.Journal.Append(ctx, list, repeats...)
}

// later copies a message when there is time.
func (k *Keeper) later(m message) {
	select {
	case k.queue <- m:
	default:
		k.missed(errors.New("the cluster does not keep up"))
	}
}

// follow copies what waits, in order.
func (k *Keeper) follow() {
	defer close(k.ended)
	for m := range k.queue {
		if err := k.o.Place.KeepRecords(k.ctx, m.id, int64(m.newest), m.raw); err != nil {
			k.missed(err)
		}
	}
}

// missed notes that the cluster has no copy of something. The journal here has it all the same.
func (k *Keeper) missed(err error) {
	if n := k.lost.Add(1); n&(n-1) == 0 {
		k.o.Log.Warn("the cluster has no copy of some records, which are in the journal of this node", "batches", n, "error", err)
	}
}

// messages are what is to be copied, in pieces that the servers take.
func (k *Keeper) messages(list, repeats []calls.Record) (out []message, err error) {
	if len(list)+len(repeats) == 0 {
		return nil, nil
	}
	content := kept{Calls: list}
	newest := calls.Key(0)
	for i := range list {
		newest = max(newest, list[i].Key)
	}
	for i := range repeats {
		content.Repeats = append(content.Repeats, calls.Record{Key: repeats[i].Key, Call: team.Call{Times: repeats[i].Times}})
		newest = max(newest, repeats[i].Key)
	}
	raw, err := k.sealer.Seal(content, k.o.Node)
	if err != nil {
		return nil, fmt.Errorf("write a copy of records: %w", err)
	}
	most := k.o.Place.MaxMessage() - headers
	if len(raw) <= most {
		return []message{{k.idOf(content), newest, raw}}, nil
	}
	switch n := len(list); {
	case n > 1:
		first, err := k.messages(list[:n/2], nil)
		if err != nil {
			return nil, err
		}
		second, err := k.messages(list[n/2:], repeats)
		return append(first, second...), err
	case n == 1 && list[0].Arguments+list[0].Result != "":
		bare := list[0]
		bare.Arguments, bare.Result, bare.Cut = "", "", true
		return k.messages([]calls.Record{bare}, repeats)
	}
	return nil, fmt.Errorf("a copy of %d records takes %d bytes, and the cluster's servers take %d", len(list), len(raw), most)
}

// idOf tells messages apart; the same batch tried again has the same.
func (k *Keeper) idOf(content kept) string {
	sum := sha256.New()
	for _, list := range [][]calls.Record{content.Calls, content.Repeats} {
		for i := range list {
			fmt.Fprintf(sum, "%d*%d ", list[i].Key, list[i].Times)
		}
		fmt.Fprint(sum, "\n")
	}
	return k.o.Node + " " + hex.EncodeToString(sum.Sum(nil))
}

// open reads a copy, which has to be of this node's.
func (k *Keeper) open(raw []byte) (content kept, err error) {
	err = k.sealer.Open(raw, k.o.Node, &content)
	return content, err
}

// PutBack records here what the cluster has of this node after the newest call that is here, and
// returns how many calls that were. It is to be called before the journal is opened.
func (k *Keeper) PutBack(ctx context.Context) (n int, err error) {
	here, _, err := k.o.Journal.Around(ctx, segment.LastKey)
	if err != nil {
		return 0, fmt.Errorf("find the newest record: %w", err)
	}
	newest, err := k.o.Place.NewestRecord(ctx)
	if err != nil || newest <= int64(here) {
		return 0, err
	}
	k.o.Log.Info("calls that the journal here has not are put back from the cluster", "after", here.Time())
	err = k.o.Place.KeptRecords(ctx, int64(here), func(raw []byte) error {
		content, err := k.open(raw)
		if err != nil {
			k.o.Log.Error("what the cluster keeps of this node's records is not to be used", "error", err)
			return nil
		}
		list := slices.DeleteFunc(content.Calls, func(r calls.Record) bool { return r.Key <= here })
		for i := range list {
			list[i].Seal = 0 // they get one of the chain that is here
		}
		if err := k.o.Journal.Append(ctx, list, content.Repeats...); err != nil {
			return fmt.Errorf("put back records that the cluster has: %w", err)
		}
		n += len(list)
		return nil
	})
	return n, err
}

package replica

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"bouncer/internal/cluster"
	"bouncer/internal/cluster/ledger"
	"bouncer/internal/core/replication"
	"bouncer/internal/core/team"
)

// stateKey is where the cluster keeps which copy of the state is the newest.
const stateKey = "state"

// copied is what is known of a copy of the state.
type copied struct {
	Object string    `json:"object"`
	Before string    `json:"before,omitempty"` // the object of the copy before
	Seq    uint64    `json:"seq"`
	Purge  uint64    `json:"purge"` // the entry that the copy before holds
	Node   string    `json:"node"`
	At     time.Time `json:"at"`
}

// newest returns the newest copy of the state; nil when there is none.
func (r *Replica) newest(ctx context.Context) (*copied, error) {
	entry, err := r.o.Cluster.Facts.Get(ctx, stateKey)
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("ask for the newest copy of the state: %w", err)
	}
	var c copied
	if err := json.Unmarshal(entry.Value(), &c); err != nil {
		return nil, fmt.Errorf("read which copy of the state is the newest: %w", err)
	}
	return &c, nil
}

// fetch reads a copy of the state into a file, which is the caller's to remove.
func (r *Replica) fetch(ctx context.Context, c *copied) (path string, err error) {
	path = filepath.Join(r.o.Dir, "state-"+team.NewID()+".db")
	if err := r.o.Cluster.States.GetFile(ctx, c.Object, path); err != nil {
		_ = os.Remove(path)
		return "", fmt.Errorf("read the newest copy of the state: %w", err)
	}
	return path, nil
}

// keepState writes a copy of the state to the cluster, reads it again to be sure of it, and
// lets go what the log has from before the copy before that.
func (r *Replica) keepState(ctx context.Context) error {
	before, err := r.newest(ctx)
	if err != nil {
		return err
	}
	path := filepath.Join(r.o.Dir, "state-"+team.NewID()+".db")
	defer os.Remove(path)
	at, err := ledger.Of(r.o.Store).Export(ctx, path)
	if err != nil {
		return err
	}
	c := copied{Object: fmt.Sprintf("state-%d-%s", at.Seq, r.o.Cluster.Node), Seq: at.Seq, Node: r.o.Cluster.Node, At: time.Now().UTC()}
	if before != nil {
		if before.Seq == at.Seq {
			return nil
		}
		c.Before, c.Purge = before.Object, before.Seq
	}
	if err := r.put(ctx, c.Object, path); err != nil {
		return err
	}
	if err := r.verify(ctx, &c, at); err != nil {
		return err
	}
	raw, err := json.Marshal(c)
	if err != nil {
		return fmt.Errorf("note which copy of the state is the newest: %w", err)
	}
	if _, err := r.o.Cluster.Facts.Put(ctx, stateKey, raw); err != nil {
		return fmt.Errorf("note which copy of the state is the newest: %w", err)
	}
	if before != nil && before.Before != "" {
		_ = r.o.Cluster.States.Delete(ctx, before.Before) // it is only in the way
	}
	if c.Purge > 0 {
		if err := r.o.Cluster.Log.Purge(ctx, jetstream.WithPurgeSequence(c.Purge)); err != nil {
			return fmt.Errorf("let go of what the log has from before: %w", err)
		}
	}
	return nil
}

func (r *Replica) put(ctx context.Context, object, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("read the copy of the state: %w", err)
	}
	defer f.Close()
	if _, err := r.o.Cluster.States.Put(ctx, jetstream.ObjectMeta{Name: object}, f); err != nil {
		return fmt.Errorf("write a copy of the state to the cluster: %w", err)
	}
	return nil
}

// verify reads a copy of the state again.
func (r *Replica) verify(ctx context.Context, c *copied, want ledger.State) error {
	path, err := r.fetch(ctx, c)
	if err != nil {
		return err
	}
	defer os.Remove(path)
	have, err := ledger.ReadState(ctx, path)
	if err != nil {
		return err
	}
	if tables := replication.Differ(want.Sums, have.Sums); len(tables) > 0 {
		return fmt.Errorf("the copy of the state that the cluster has is not what was written: the tables %v differ", tables)
	}
	return nil
}

// mark writes to the log what the tables add up to, so that every node can compare.
func (r *Replica) mark(ctx context.Context) error {
	err := r.Propose(ctx, func(ctx context.Context) (e replication.Entry, after uint64, err error) {
		at, err := ledger.Of(r.o.Store).Sums(ctx)
		if err != nil {
			return e, 0, err
		}
		e = replication.Entry{Version: replication.Version, ID: team.NewID(), At: time.Now().UTC(), Schema: at.Schema, Marks: at.Sums}
		return e, at.Seq, nil
	})
	if err != nil {
		return fmt.Errorf("mark what the tables add up to: %w", err)
	}
	return nil
}

// Upkeep is to be called now and then: one node at a time marks what the tables add up to, and
// copies the state, when as many entries came since.
func (r *Replica) Upkeep(ctx context.Context, entries uint64) error {
	newest, err := r.newest(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	applied, trouble := r.applied, r.trouble
	r.mu.Unlock()
	if trouble != nil || newest != nil && applied < newest.Seq+entries {
		return nil
	}
	lease, err := r.o.Cluster.Take(ctx, "state")
	if errors.Is(err, cluster.ErrTaken) {
		return nil
	}
	if err != nil {
		return err
	}
	defer lease.Release(context.WithoutCancel(ctx))
	if err := r.mark(ctx); err != nil {
		return err
	}
	return r.keepState(ctx)
}

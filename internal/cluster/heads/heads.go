// Package heads has the nodes of a cluster keep heads of each other's journals. Calls stay at the
// node that carried them; whoever rules its machine could write another chain of them and sign it,
// and what the others have of it shows that.
package heads

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"bouncer/internal/journal"
	"bouncer/internal/store"
)

// every is how often a node gives the others the head of its journal, where there is a newer one.
const every = 15 * time.Minute

// Keeper gives the head of one node's journal to all nodes.
type Keeper struct {
	store  *store.Store
	notary *journal.Notary
	node   string
	chain  string // of its database
	last   int64  // the seal that was given last
}

// New returns the Keeper of a node, and has its journal be held against what is kept of it.
func New(ctx context.Context, s *store.Store, notary *journal.Notary, node string) (*Keeper, error) {
	chain, err := store.Chain(ctx, s)
	if err != nil {
		return nil, err
	}
	k := &Keeper{store: s, notary: notary, node: node, chain: chain}
	notary.Keeps(node, k.kept)
	return k, nil
}

func (k *Keeper) kept(ctx context.Context) (out journal.Kept, err error) {
	if out.Heads, err = store.Heads(ctx, k.store, k.node, k.chain); err != nil {
		return out, err
	}
	out.Before, err = store.OtherHeads(ctx, k.store, k.node, k.chain)
	return out, err
}

// Keep gives the head to all nodes, unless they have it.
func (k *Keeper) Keep(ctx context.Context, now time.Time) error {
	head, err := k.notary.Head(ctx)
	if err != nil || head.Seal == k.last {
		return err
	}
	err = store.Note(ctx, k.store, func(tx *store.Tx) error { return tx.KeepHead(k.node, k.chain, head, now) })
	if err != nil {
		return fmt.Errorf("have the other nodes keep the head of the journal: %w", err)
	}
	k.last = head.Seal
	return nil
}

// Run keeps heads until ctx ends.
func (k *Keeper) Run(ctx context.Context, now func() time.Time, log *slog.Logger) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		if err := k.Keep(ctx, now()); err != nil && ctx.Err() == nil {
			log.Warn("the other nodes have no newer head of the journal here", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

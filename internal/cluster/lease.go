package cluster

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/nats-io/nats.go/jetstream"
)

// Lease is the right to do something that one node is to do at a time. It ends by itself
// after LeaseTime. The revision grows with every lease of a name, whoever has it.
type Lease struct {
	Revision uint64
	name     string
	c        *Cluster
}

// ErrTaken is returned for a lease that another node has.
var ErrTaken = errors.New("another node has the lease")

// Take takes a lease, or takes it once more where this node has it. The error is ErrTaken when
// another node has it.
func (c *Cluster) Take(ctx context.Context, name string) (*Lease, error) {
	revision, err := c.leases.Create(ctx, name, []byte(c.Node))
	if errors.Is(err, jetstream.ErrKeyExists) {
		have, err := c.leases.Get(ctx, name)
		if errors.Is(err, jetstream.ErrKeyNotFound) || err == nil && string(have.Value()) != c.Node {
			return nil, ErrTaken // or it ended just now, which the next try shows
		}
		if err != nil {
			return nil, fmt.Errorf("see who has the lease %s: %w", name, err)
		}
		if revision, err = c.leases.Update(ctx, name, []byte(c.Node), have.Revision()); err != nil {
			return nil, ErrTaken
		}
		return &Lease{revision, name, c}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("take the lease %s: %w", name, err)
	}
	return &Lease{revision, name, c}, nil
}

// First reports whether nobody did something before that one node does for all: who asks does it
// then. The same is asked for by the same words.
func (c *Cluster) First(ctx context.Context, what string) (bool, error) {
	_, err := c.once.Create(ctx, onceKey(what), []byte(c.Node))
	if errors.Is(err, jetstream.ErrKeyExists) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("see whether another node did it: %w", err)
	}
	return true, nil
}

// Again forgets that something was done, so that it can be done once more.
func (c *Cluster) Again(ctx context.Context, what string) error {
	if err := c.once.Purge(ctx, onceKey(what)); err != nil {
		return fmt.Errorf("forget that it was done: %w", err)
	}
	return nil
}

// KeepGrant has all nodes find what one of them was granted, by a name, for a day. It has to be sealed.
func (c *Cluster) KeepGrant(ctx context.Context, name string, sealed []byte) error {
	if _, err := c.grants.Put(ctx, onceKey(name), sealed); err != nil {
		return fmt.Errorf("keep a grant for the other nodes: %w", err)
	}
	return nil
}

// KeptGrant is what a node kept by a name; nil for nothing.
func (c *Cluster) KeptGrant(ctx context.Context, name string) ([]byte, error) {
	have, err := c.grants.Get(ctx, onceKey(name))
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("look for a grant of another node: %w", err)
	}
	return have.Value(), nil
}

// onceKey is what words are kept under; a key has only a few kinds of characters.
func onceKey(what string) string {
	sum := sha256.Sum256([]byte(what))
	return hex.EncodeToString(sum[:16])
}

// Release gives a lease back, unless somebody else has it by now.
func (l *Lease) Release(ctx context.Context) {
	_ = l.c.leases.Delete(ctx, l.name, jetstream.LastRevision(l.Revision)) // it ends by itself otherwise
}

// Holder is the node that has a lease; "" for none.
func (c *Cluster) Holder(ctx context.Context, name string) (string, error) {
	have, err := c.leases.Get(ctx, name)
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("see who has the lease %s: %w", name, err)
	}
	return string(have.Value()), nil
}

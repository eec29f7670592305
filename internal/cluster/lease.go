package cluster

import (
	"context"
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

// Release gives a lease back, unless somebody else has it by now.
func (l *Lease) Release(ctx context.Context) {
	_ = l.c.leases.Delete(ctx, l.name, jetstream.LastRevision(l.Revision)) // it ends by itself otherwise
}

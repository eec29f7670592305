package app

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"bouncer/internal/cluster"
	"bouncer/internal/cluster/ledger"
	"bouncer/internal/cluster/member"
	"bouncer/internal/cluster/nodes"
	"bouncer/internal/cluster/replica"
	"bouncer/internal/locker"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Cluster is which nodes are one Bouncer with this one.
type Cluster struct {
	Servers           []string // none for a service that is one node
	Name, Node        string
	Credentials, Cert string
	AloneFor          time.Duration
}

// clustered is what a node of a cluster has.
type clustered struct {
	cluster *cluster.Cluster
	replica *replica.Replica
	member  *member.Member
	changed chan struct{} // capacity 1: another node altered something
	ended   chan struct{} // closed when nothing is put in force any more
	cancel  context.CancelFunc
	missing []string // keys of the locker that are not here
}

// upkeepEvery is how often it is looked whether a copy of the state is due, and copyAfter how
// many entries of the log after the one before it is.
const (
	upkeepEvery = 20 * time.Second
	copyAfter   = 500
)

// joinCluster has the state here become that of the cluster, before anything is read of it.
func (svc *Service) joinCluster(ctx context.Context) error {
	s := svc.Settings.Cluster
	if len(s.Servers) == 0 {
		return svc.leaveCluster(ctx)
	}
	node := s.Node
	if node == "" {
		node, _ = os.Hostname() // which is checked with the others
	}
	node = strings.ToLower(node)
	if !nodeName.MatchString(node) {
		return &StartError{
			fmt.Sprintf("%q is no name for a node", node), "give it one of small letters, digits and dashes with the setting cluster-node", nil,
		}
	}
	o := cluster.Options{Servers: s.Servers, Name: s.Name, Node: node, Authority: s.Cert, Log: svc.log}
	if s.Credentials != "" {
		raw, err := locker.Outside(ctx, s.Credentials)
		if err != nil {
			return &StartError{
				fmt.Sprintf("the credentials for the cluster cannot be read: %v", err), "check the setting cluster-credentials", err,
			}
		}
		o.Credentials = raw.Reveal()
		svc.masks.Learn(strings.TrimSpace(o.Credentials))
	}
	c, err := cluster.Join(ctx, o)
	if err != nil {
		return clusterError(err)
	}
	svc.several = &clustered{cluster: c, changed: make(chan struct{}, 1), ended: make(chan struct{})}
	changed := func() {
		select {
		case svc.several.changed <- struct{}{}:
		default:
		}
	}
	svc.several.replica, err = replica.Open(ctx, replica.Options{
		Store: svc.store, Cluster: c, Dir: svc.Settings.Data, Log: svc.log, Changed: changed,
	})
	if err != nil {
		c.Close()
		svc.several = nil
		return clusterError(err)
	}
	svc.store.Replicate(svc.several.replica)
	at := svc.several.replica.Status()
	svc.log.Info("joined the cluster", "cluster", c.ID, "as", node, "entry", at.Applied, "behind", at.Last-at.Applied)
	return nil
}

// leaveCluster notes that what is altered from now on is not the cluster's.
func (svc *Service) leaveCluster(ctx context.Context) error {
	at, err := ledger.Of(svc.store).Position(ctx)
	if err == nil && at.Cluster != "" {
		svc.log.Warn("this node was one of a cluster, and is alone from now on", "cluster", at.Cluster, "entry", at.Applied)
		err = ledger.Of(svc.store).SetPosition(ctx, ledger.Position{})
	}
	if err != nil {
		return fmt.Errorf("leave the cluster: %w", err)
	}
	return nil
}

func clusterError(err error) error {
	var join *cluster.JoinError
	if errors.As(err, &join) {
		return &StartError{join.What, join.Hint, err}
	}
	var taken *member.NameTakenError
	if errors.As(err, &taken) {
		return &StartError{taken.Error(), "end that one, or give this one another name with the setting cluster-node", err}
	}
	var newer *ledger.SchemaError
	if errors.As(err, &newer) {
		return &StartError{newer.Error(), "install the version that the other nodes have", err}
	}
	return &StartError{fmt.Sprintf("the cluster cannot be joined: %v", err), "see in the log of its servers", err}
}

// beginsKeys reports whether a key set may be made here: the first node has done so for all.
func (n *clustered) beginsKeys(ctx context.Context) bool {
	if n == nil {
		return true
	}
	begun, err := n.cluster.Fact(ctx, keysFact)
	return err == nil && begun == ""
}

// keysFact is where the cluster keeps which keys its first node had.
const keysFact = "keys"

// shareKeys notes the keys of the first node for the others, and finds out which of those that
// are needed are not here.
func (n *clustered) shareKeys(ctx context.Context, keys *locker.Keys, s *store.Store) error {
	if n == nil {
		return nil
	}
	keys.Share()
	have := keys.IDs()
	begun, err := n.cluster.FactOr(ctx, keysFact, strings.Join(have, " "))
	if err != nil {
		return clusterError(err)
	}
	needed, err := store.KeyIDs(ctx, s)
	if err != nil {
		return fmt.Errorf("read which keys are in use: %w", err)
	}
	needed = append(needed, strings.Fields(begun)...)
	slices.Sort(needed)
	n.missing = slices.DeleteFunc(slices.Compact(needed), func(id string) bool { return slices.Contains(have, id) })
	return nil
}

// enterCluster tells the others that this node is there, and puts in force what they alter.
func (svc *Service) enterCluster(ctx context.Context, reg *registry.Registry) (*nodes.Service, error) {
	n := svc.several
	if n == nil {
		return nodes.New(nil, reg, ""), nil
	}
	var err error
	n.member, err = member.Start(ctx, member.Options{
		Cluster: n.cluster, Address: svc.Address, Version: Version, AloneFor: svc.Settings.Cluster.AloneFor, Log: svc.log, Now: svc.Settings.Now,
		State: func() (applied, last uint64, trouble string) {
			at := n.replica.Status()
			return at.Applied, at.Last, n.trouble()
		},
	})
	if err != nil {
		return nil, clusterError(err)
	}
	own, cancel := context.WithCancel(context.Background())
	n.cancel = cancel
	go svc.keepUp(own, reg)
	return nodes.New(n.member, reg, n.cluster.ID), nil
}

// keepUp puts in force what other nodes alter, and has copies of the state made.
func (svc *Service) keepUp(ctx context.Context, reg *registry.Registry) {
	n := svc.several
	defer close(n.ended)
	ticker := time.NewTicker(upkeepEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-n.changed:
			if err := reg.Refresh(); err != nil {
				svc.log.Error("what another node altered is not in force", "error", err)
			}
			reg.TellAll()
		case <-ticker.C:
			if err := n.replica.Upkeep(ctx, copyAfter); err != nil && ctx.Err() == nil {
				svc.log.Warn("the cluster has no newer copy of the state", "error", err)
			}
		}
	}
}

// lease waits for the right to do something that one node does at a time, and for what was done
// before to be known here.
func (n *clustered) lease(ctx context.Context, name string) (release func(), err error) {
	for {
		lease, err := n.cluster.Take(ctx, name)
		if err == nil {
			_, last, err := n.cluster.Last(ctx)
			if err == nil {
				err = n.replica.Wait(ctx, last)
			}
			free := func() { lease.Release(context.WithoutCancel(ctx)) }
			if err != nil {
				free()
				return nil, err
			}
			return free, nil
		}
		if !errors.Is(err, cluster.ErrTaken) {
			return nil, err
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// leases is how nodes do things one at a time; nil for a service that is one node.
func (n *clustered) leases() func(context.Context, string) (func(), error) {
	if n == nil {
		return nil
	}
	return n.lease
}

// trouble is what keeps this node from being used; "" for nothing.
func (n *clustered) trouble() string {
	at := n.replica.Status()
	switch {
	case len(n.missing) > 0:
		return "the key set here lacks the keys " + strings.Join(n.missing, ", ") + ", which secrets of the team are sealed with"
	case at.Trouble != nil:
		return at.Trouble.Error()
	case at.Aside > 0:
		return fmt.Sprintf("%d entries of the log were set aside, because they cannot be carried out", at.Aside)
	}
	return ""
}

// ready returns why this node is not to be sent any work; nil when it is.
func (n *clustered) ready() error {
	if n == nil {
		return nil
	}
	if err := n.sure(); err != nil {
		return err
	}
	if n.member.Draining() {
		return errors.New("this node is being drained")
	}
	if why := n.trouble(); why != "" && n.replica.Status().Aside == 0 {
		return errors.New(why)
	}
	return nil
}

// sure returns why this node cannot be sure of what is allowed; nil while it is.
func (n *clustered) sure() error {
	if n == nil || n.member == nil {
		return nil
	}
	return n.member.Sure()
}

// close leaves the cluster.
func (n *clustered) close(ctx context.Context) {
	if n == nil {
		return
	}
	if n.cancel != nil {
		n.cancel()
		<-n.ended
	}
	if n.member != nil {
		n.member.Close(ctx)
	}
	n.replica.Close()
	n.cluster.Close()
}

// readServers reads the addresses of a cluster's servers.
func readServers(v string) (out []string, err error) {
	for _, one := range strings.Split(v, ",") {
		one = strings.TrimSpace(one)
		u, err := url.Parse(one)
		if err != nil || u.Host == "" || u.Scheme != "nats" && u.Scheme != "tls" {
			return nil, fmt.Errorf("holds %q; addresses look like nats://10.0.0.1:4222 or tls://10.0.0.1:4222", one)
		}
		if u.User != nil {
			return nil, errors.New("holds credentials, which others see in the list of processes; use the setting cluster-credentials")
		}
		out = append(out, one)
	}
	return out, nil
}

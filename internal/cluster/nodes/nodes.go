// Package nodes is what people see and say of the nodes of a cluster.
package nodes

import (
	"context"

	"bouncer/internal/apitype"
	"bouncer/internal/cluster/member"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Service tells of nodes, and has them drained.
type Service struct {
	member   *member.Member // nil for a service that is one node
	registry *registry.Registry
	cluster  string
}

// New returns the Service of a cluster with an id; m is nil for a service that is one node.
func New(m *member.Member, r *registry.Registry, cluster string) *Service {
	return &Service{m, r, cluster}
}

// List returns the nodes that are there.
func (svc *Service) List(ctx context.Context) (apitype.Nodes, error) {
	out := apitype.Nodes{Cluster: svc.cluster, Nodes: []team.Node{}}
	if svc.member == nil {
		return out, nil
	}
	var err error
	out.Nodes, err = svc.member.Nodes(ctx)
	return out, err
}

// Drain has a node take no new work, or take some again. The error is a *team.NotFoundError
// for a node that is not there.
func (svc *Service) Drain(ctx context.Context, by team.Person, name string, in apitype.NodePatch) (apitype.Nodes, error) {
	if svc.member == nil {
		return apitype.Nodes{}, &team.NotFoundError{Kind: "node", Name: name}
	}
	if in.Draining == nil {
		return apitype.Nodes{}, &team.FieldError{Field: "draining", Why: "is left out; it must be true or false"}
	}
	if err := svc.member.Drain(ctx, name, *in.Draining); err != nil {
		return apitype.Nodes{}, err
	}
	change := registry.Change{By: by, What: "node.drain", Subject: name, After: "takes no new work", Topics: []string{"nodes"}}
	if !*in.Draining {
		change.What, change.After = "node.resume", "takes new work"
	}
	if err := svc.registry.Write(ctx, change, func(*store.Tx) error { return nil }); err != nil {
		return apitype.Nodes{}, err
	}
	return svc.List(ctx)
}

// Remove forgets a node that is gone. The error is a *team.NotFoundError, or a
// *team.ConflictError for one that is there.
func (svc *Service) Remove(ctx context.Context, by team.Person, name string) error {
	if svc.member == nil {
		return &team.NotFoundError{Kind: "node", Name: name}
	}
	if err := svc.member.Remove(ctx, name); err != nil {
		return err
	}
	change := registry.Change{By: by, What: "node.remove", Subject: name, Topics: []string{"nodes"}}
	return svc.registry.Write(ctx, change, func(*store.Tx) error { return nil })
}

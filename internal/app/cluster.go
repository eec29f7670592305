package app

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"
	"time"

	"bouncer/internal/cluster"
	"bouncer/internal/cluster/node"
	"bouncer/internal/locker"
)

// Cluster is which nodes are one Bouncer with this one.
type Cluster struct {
	Servers           []string // none for a service that is one node
	Name, Node        string
	Labels            []string // of this node
	Credentials, Cert string
	AloneFor          time.Duration
	Records           int // MiB of records of calls that the cluster keeps
}

// joinCluster has the state here become that of the cluster, before anything is read of it.
func (svc *Service) joinCluster(ctx context.Context) error {
	s := svc.Settings.Cluster
	if len(s.Servers) == 0 {
		return node.Leave(ctx, svc.store, svc.log)
	}
	name := s.Node
	if name == "" {
		name, _ = os.Hostname() // which is checked with the others
	}
	name = strings.ToLower(name)
	if !nodeName.MatchString(name) {
		return &StartError{
			fmt.Sprintf("%q is no name for a node", name), "give it one of small letters, digits and dashes with the setting cluster-node", nil,
		}
	}
	o := cluster.Options{Servers: s.Servers, Name: s.Name, Node: name, Authority: s.Cert, Log: svc.log, Records: cluster.Records{
		Room: int64(s.Records) << 20, Age: time.Duration(svc.Settings.JournalDays) * 24 * time.Hour,
	}}
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
	var err error
	svc.several, err = node.Join(ctx, node.Options{
		Cluster: o, Store: svc.store, Dir: svc.Settings.Data, AloneFor: s.AloneFor, Labels: s.Labels, Version: Version,
		Log: svc.log, Now: svc.Settings.Now,
	})
	return clusterError(err)
}

// clusterError is what people read of why a cluster cannot be joined; nil for nil.
func clusterError(err error) error {
	if err == nil {
		return nil
	}
	what, hint := node.Explain(err)
	return &StartError{what, hint, err}
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

// Package broker runs NATS servers with JetStream for clusters in tests and in the demo: one,
// or several that replicate, in this process, each of which can be stopped and started again.
package broker

import (
	"crypto/tls"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"

	"bouncer/standin/loopback"
)

// Broker is some servers. It is not for concurrent use.
type Broker struct {
	options []*server.Options
	servers []*server.Server
	// Log is told what the servers say; nil for nobody.
	Log server.Logger
}

// Start starts as many servers, which keep what they are given below a directory, and let in
// everybody.
func Start(dir string, many int) (*Broker, error) { return start(dir, many, &server.Options{}) }

// StartFor is Start for servers that want a name and a password.
func StartFor(dir string, many int, user, password string) (*Broker, error) {
	return start(dir, many, &server.Options{Username: user, Password: password})
}

// StartTLS is Start for servers that show a certificate, and speak to nobody without TLS.
func StartTLS(dir string, many int, shown tls.Certificate) (*Broker, error) {
	return start(dir, many, &server.Options{
		TLS: true, TLSTimeout: 5, TLSConfig: &tls.Config{Certificates: []tls.Certificate{shown}, MinVersion: tls.VersionTLS12},
	})
}

func start(dir string, many int, as *server.Options) (*Broker, error) {
	b := &Broker{servers: make([]*server.Server, many)}
	ports, err := free(2 * many)
	if err != nil {
		return nil, err
	}
	var routes []*url.URL
	for i := range many {
		routes = append(routes, &url.URL{Scheme: "nats", Host: fmt.Sprintf("127.0.0.1:%d", ports[many+i])})
	}
	for i := range many {
		o := as.Clone()
		o.ServerName, o.Host, o.Port = fmt.Sprintf("broker-%d", i+1), "127.0.0.1", ports[i]
		o.JetStream, o.JetStreamMaxStore = true, 1<<30
		o.StoreDir, o.NoSigs, o.NoLog = filepath.Join(dir, fmt.Sprintf("broker-%d", i+1)), true, true
		if many > 1 {
			o.Cluster = server.ClusterOpts{Name: "skerrow", Host: "127.0.0.1", Port: ports[many+i]}
			o.Routes = routes
		}
		b.options = append(b.options, o)
	}
	for i := range many {
		if err := b.Restart(i); err != nil {
			b.Close()
			return nil, err
		}
	}
	return b, nil
}

// free finds as many different ports that nobody uses now.
func free(many int) (ports []int, err error) {
	for len(ports) < many {
		port, err := loopback.FreePort()
		if err != nil {
			return nil, err
		}
		if !slices.Contains(ports, port) {
			ports = append(ports, port)
		}
	}
	return ports, nil
}

// Restart starts a server that does not run.
func (b *Broker) Restart(i int) error {
	s, err := server.NewServer(b.options[i].Clone())
	if err != nil {
		return fmt.Errorf("start the server %d: %w", i+1, err)
	}
	if b.Log != nil {
		s.SetLoggerV2(b.Log, false, false, false)
	}
	s.Start()
	if !s.ReadyForConnections(20 * time.Second) {
		s.Shutdown()
		return fmt.Errorf("the server %d did not start in time", i+1)
	}
	b.servers[i] = s
	return nil
}

// Stop stops a server.
func (b *Broker) Stop(i int) {
	if s := b.servers[i]; s != nil {
		s.Shutdown()
		s.WaitForShutdown()
		b.servers[i] = nil
	}
}

// Lose stops a server, and what it kept is gone.
func (b *Broker) Lose(i int) error {
	b.Stop(i)
	if err := os.RemoveAll(b.options[i].StoreDir); err != nil {
		return fmt.Errorf("lose what the server %d kept: %w", i+1, err)
	}
	return nil
}

// Addresses are those of all servers, with commas between.
func (b *Broker) Addresses() string {
	var out []string
	for _, o := range b.options {
		scheme := "nats"
		if o.TLS {
			scheme = "tls"
		}
		out = append(out, fmt.Sprintf("%s://127.0.0.1:%d", scheme, o.Port))
	}
	return strings.Join(out, ",")
}

// Close stops all.
func (b *Broker) Close() {
	for i := range b.servers {
		b.Stop(i)
	}
}

// The ports of servers that have a host each.
const (
	hostPort  = 4222
	routePort = 6222
)

// StartAt starts one server of a few that have a host each, at the address of its host, where it
// replicates with those at the others. It does not wait for them.
func StartAt(dir, host string, all []string) (*Broker, error) {
	b := &Broker{servers: make([]*server.Server, 1)}
	o := &server.Options{
		ServerName: "broker-" + strings.ReplaceAll(host, ".", "-"), Host: host, Port: hostPort, JetStream: true, JetStreamMaxStore: 1 << 30,
		StoreDir: filepath.Join(dir, "broker"), NoSigs: true, NoLog: true,
		Cluster: server.ClusterOpts{Name: "skerrow", Host: host, Port: routePort},
	}
	for _, other := range all {
		o.Routes = append(o.Routes, &url.URL{Scheme: "nats", Host: fmt.Sprintf("%s:%d", other, routePort)})
	}
	b.options = []*server.Options{o}
	return b, b.Restart(0)
}

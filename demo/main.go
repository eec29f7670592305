// Command demo runs Bouncer in the world of Skerrow Ferries: the stand-ins, the
// service with its people, agents, servers and rules, and an assistant that
// makes a few calls now and then. Everything it starts ends with it.
package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"bouncer/standin/bell"
	"bouncer/standin/ferries"
	"bouncer/standin/lostproperty"
	"bouncer/standin/mailbox"
	"bouncer/standin/pilothouse"
	"bouncer/standin/quill"
)

const (
	address  = "127.0.0.1:4680"
	password = "seven-tides-turning"
	// Where notices of held calls go.
	bellAddress = "http://127.0.0.1:4709/notices"
	// mailServer takes mail, which is shown at mailAddress.
	mailServer  = "smtp://127.0.0.1:4713"
	mailAddress = "http://127.0.0.1:4712"
	// metricsAddress is where metrics are told.
	metricsAddress = "127.0.0.1:4681"
	// Bouncer's own client at the identity provider.
	providerClient = "bouncer"
	providerSecret = "skf-pilothouse-3Tz8wLq5Bn1Xy7Kd"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, os.Args[1:]); err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

// run starts the stand-ins, the service and the agents, and ends them in reverse. It
// is one sequence, so that what is ended stands beside what is started.
func run(ctx context.Context, args []string) error {
	dir, cluster := ".demo", false
	if len(args) > 0 && args[0] == "--cluster" {
		cluster, args = true, args[1:]
	}
	if len(args) > 0 {
		dir = args[0]
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	var wait sync.WaitGroup
	defer wait.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	house, err := startProvider(dir)
	if err != nil {
		return err
	}
	pilotage := ferries.Pilotage()
	if err := startStandIns(ctx, &wait, house, pilotage); err != nil {
		return err
	}
	began := time.Now()
	first := isNew(dir)
	svc, nodes, err := startAll(ctx, &wait, dir, cluster)
	if err != nil {
		return err
	}
	defer nodes.close()
	defer svc.stop()
	if err := svc.seed(ctx); err != nil {
		return err
	}
	if first {
		if err := svc.past(ctx, began); err != nil {
			return fmt.Errorf("write the fortnight before: %w", err)
		}
	}
	if err := nodes.begin(ctx, &wait, svc); err != nil {
		return err
	}
	ferries.Spoil(pilotage)
	config := filepath.Join(dir, "marit-quill.json")
	failed, err := quill.Run(ctx, config, quill.DefaultScript, os.Stdout)
	if err != nil {
		return fmt.Errorf("the assistant's first run: %w", err)
	}
	fmt.Printf("(%d call refused on purpose: nobody's laptop may cancel a sailing)\n", failed)
	if err := svc.watch(ctx, map[string]string{"joss-quill": "joss", "ottilie-parlour": "ottilie"}); err != nil {
		return err
	}
	fmt.Println("(the same tool, with each person's own rights)")
	if err := svc.signIn(ctx, "marit", password); err != nil {
		return err
	}
	if err := svc.watchkeeper(ctx); err != nil {
		return err
	}
	svc.guide(nodes)
	wait.Go(func() { work(ctx, config) })
	select {
	case err := <-svc.ended:
		return fmt.Errorf("the service ended: %w", err)
	case <-ctx.Done():
		fmt.Println("\nending the service and the stand-ins ...")
		return nil
	}
}

// startStandIns starts everything outside.
func startStandIns(ctx context.Context, wait *sync.WaitGroup, house *pilothouse.Authority, pilotage http.Handler) error {
	box := &mailbox.Mailbox{}
	post, err := net.Listen("tcp", strings.TrimPrefix(mailServer, "smtp://"))
	if err != nil {
		return fmt.Errorf("the stand-in of a mail server needs its port: %w", err)
	}
	wait.Go(func() { _ = box.Serve(post) })
	wait.Go(func() { <-ctx.Done(); _ = post.Close() })
	for _, s := range standIns(house, pilotage, box) {
		l, err := net.Listen("tcp", s.at)
		if err != nil {
			return fmt.Errorf("the stand-in %s needs the port %s: %w", s.name, s.at, err)
		}
		srv := &http.Server{Handler: s.handler, ReadHeaderTimeout: 10 * time.Second}
		wait.Go(func() { _ = srv.Serve(l) })
		wait.Go(func() { <-ctx.Done(); _ = srv.Close() })
	}
	return nil
}

// startAll starts the service, and what there is around it where it is to be several nodes; nil
// for nothing.
func startAll(ctx context.Context, wait *sync.WaitGroup, dir string, cluster bool) (*service, *several, error) {
	if !cluster {
		svc, err := startService(ctx, dir)
		return svc, nil, err
	}
	nodes, err := startSeveral(dir)
	if err != nil {
		return nil, nil, err
	}
	if err := balance(ctx, wait); err != nil {
		nodes.close()
		return nil, nil, err
	}
	svc, err := startService(ctx, dir, nodes.flags(0)...)
	if err != nil {
		nodes.close()
		return nil, nil, err
	}
	if err := untilReady(ctx, svc.base); err != nil {
		svc.stop()
		nodes.close()
		return nil, nil, err
	}
	return svc, nodes, nil
}

// balance has a balancer listen at the address of the demo.
func balance(ctx context.Context, wait *sync.WaitGroup) error {
	b := newBalancer()
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("the balancer needs the port %s: %w", address, err)
	}
	srv := &http.Server{Handler: b, ReadHeaderTimeout: 10 * time.Second}
	wait.Go(func() { b.watch(ctx) })
	wait.Go(func() { _ = srv.Serve(l) })
	wait.Go(func() { <-ctx.Done(); _ = srv.Close() })
	return nil
}

// startProvider makes the identity provider of the scenario, which keeps what it
// remembers in the directory.
func startProvider(dir string) (*pilothouse.Authority, error) {
	house := pilothouse.New(
		"Pilothouse",
		pilothouse.Person{
			Name:     "marit",
			FullName: "Marit Aune",
			Groups:   []string{"desk"},
		},
		pilothouse.Person{Name: "joss", FullName: "Joss Penhale", Groups: []string{"dispatch"}},
		pilothouse.Person{
			Name:     "ottilie",
			FullName: "Ottilie Brandt",
			Groups:   []string{"crew"},
		},
		pilothouse.Person{Name: "teo", FullName: "Teo Castellane", Groups: []string{"crew"}},
		pilothouse.Person{
			Name:     "wren",
			FullName: "Wren Adair",
			Groups:   []string{"safety"},
		},
		pilothouse.Person{Name: "isla", FullName: "Isla Faro (in no group)"},
	)
	house.Issuer = "http://127.0.0.1:4710"
	if err := house.Remember(filepath.Join(dir, "pilothouse.json")); err != nil {
		return nil, err
	}
	house.Add(pilothouse.Client{ID: providerClient, Secret: providerSecret, Redirects: []string{"http://" + address + "/sign-in/callback"}})
	house.Add(pilothouse.Client{ID: ferries.FuelClient, Secret: ferries.FuelSecret})
	return house, nil
}

// standIn is something outside that ships with Bouncer.
type standIn struct {
	name, at string
	handler  http.Handler
}

func standIns(house *pilothouse.Authority, pilotage http.Handler, box http.Handler) []standIn {
	return []standIn{
		{"pilothouse", "127.0.0.1:4710", house},
		{"crew", "127.0.0.1:4705", house.Protect("http://127.0.0.1:4705/mcp", "crew:read", ferries.Crew(), ferries.CrewScope)},
		{"fuel", "127.0.0.1:4706", house.Protect("http://127.0.0.1:4706/mcp", "fuel:read fuel:order", ferries.Fuel(), nil)},
		{"customs", "127.0.0.1:4707", ferries.Customs()},
		{"pilotage", "127.0.0.1:4708", pilotage},
		{"harbour-radio", "127.0.0.1:4711", ferries.Radio()},
		{"sailings", "127.0.0.1:4701", ferries.Sailings(ferries.SailingsToken)},
		{"tannoy", "127.0.0.1:4702", ferries.Tannoy(ferries.TannoyToken).Legacy()},
		{"tides", "127.0.0.1:4703", ferries.Tides().Stateless()},
		{"bell", "127.0.0.1:4709", &bell.Bell{Address: bellAddress, Key: bell.Key, Now: time.Now}},
		{"mailbox", "127.0.0.1:4712", box},
		{"lost-property", "127.0.0.1:4704", lostproperty.New(ferries.LostKey)},
	}
}

// work lets the assistant make its calls every now and then, so that there is
// something to see.
func work(ctx context.Context, config string) {
	null, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	if err != nil {
		return
	}
	defer null.Close()
	t := time.NewTicker(20 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			// A run that fails is in the journal, which is the point of it.
			_, _ = quill.Run(ctx, config, quill.DefaultScript, null)
		case <-ctx.Done():
			return
		}
	}
}

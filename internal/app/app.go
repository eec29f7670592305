// Package app wires the service together, and starts and stops its parts in
// order.
package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata" // windows of rules have time zones, and not every machine knows them

	"github.com/go-chi/chi/v5"

	"bouncer/internal/api"
	"bouncer/internal/calls"
	"bouncer/internal/cluster/node"
	"bouncer/internal/control/approval"
	"bouncer/internal/control/budget"
	"bouncer/internal/control/finder"
	"bouncer/internal/control/history"
	"bouncer/internal/control/notice"
	"bouncer/internal/control/notify"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/segment"
	"bouncer/internal/diagnose/incident"
	"bouncer/internal/disk"
	"bouncer/internal/journal"
	"bouncer/internal/locker"
	"bouncer/internal/observe/metrics"
	"bouncer/internal/observe/stats"
	"bouncer/internal/observe/traces"
	"bouncer/internal/origin"
	"bouncer/internal/relay"
	"bouncer/internal/store"
	"bouncer/internal/store/schema"
	"bouncer/internal/upkeep"
	"bouncer/internal/web"
)

// Time budgets of stopping, in this order.
const (
	drainBudget = 20 * time.Second
	closeBudget = 10 * time.Second
)

// StartError says why the service cannot start, and what helps.
type StartError struct {
	What, Hint string
	err        error
}

func (e *StartError) Error() string { return e.What }

func (e *StartError) Unwrap() error { return e.err }

// Service is a running service.
type Service struct {
	Address       string // base URL under which people and agents reach it
	Listens       string // host:port where it listens
	FirstPassword string // one-time password of the admin created just now, or ""
	Settings      Settings
	Gateway       *relay.Gateway
	// MetricsAddress is where metrics are told at an address of their own; "" for nowhere.
	MetricsAddress string

	log        *slog.Logger
	lock       *os.File
	disk       *disk.Watch
	store      *store.Store
	masks      *mask.Set
	parts      parts
	jnl        *journal.Journal
	held       *approval.Room
	notices    *notice.Sender
	mails      *notify.Service
	traces     *traces.Traces
	finder     *finder.Index
	meter      *budget.Meter
	history    *history.Service
	explainers explainers
	stats      *stats.Service
	copies     *upkeep.Keeper
	metrics    *metrics.Metrics // nil for none
	seen       *api.Services    // whom metrics ask
	scraped    http.Handler     // /metrics
	telling    *http.Server     // at an address of its own; nil for none
	several    *node.Node       // nil for a service that is one node
	sessions   []byte           // the key that signs the ids of sessions; nil for none
	server     *http.Server
	served     chan error
	ended      chan struct{}
}

// Start starts the service; Stop ends it. Logs go to out. It is long because it is one sequence, each
// step with what people read when it fails and what undoes it.
func Start(ctx context.Context, s Settings, out io.Writer) (_ *Service, err error) {
	svc := &Service{Settings: s, served: make(chan error, 1), ended: make(chan struct{})}
	// Whatever was started is ended again when a later step fails.
	var undo []func()
	defer func() {
		if err != nil {
			for i := len(undo) - 1; i >= 0; i-- {
				undo[i]()
			}
		}
	}()
	svc.masks = mask.NewSet()
	svc.log = newLogger(out, s, svc.masks.Masker)
	if svc.lock, err = openData(s.Data); err != nil {
		return nil, err
	}
	undo = append(undo, svc.releaseData)
	svc.disk = disk.Start(ctx, disk.Options{Dir: s.Data, Reserve: int64(s.DiskReserve) << 20, Log: svc.log})
	undo = append(undo, svc.disk.Close)
	db := filepath.Join(s.Data, "bouncer.db")
	if svc.store, err = store.Open(ctx, db, store.Options{Durable: s.Journal == "strict", Relieve: svc.disk.Relieve}); err != nil {
		return nil, storeError(db, err)
	}
	undo = append(undo, func() { _ = svc.store.Close() })
	if err := svc.joinCluster(ctx); err != nil {
		return nil, err
	}
	undo = append(undo, func() { svc.several.Close(ctx) })
	fresh, err := svc.store.SealedSecrets(ctx)
	if err != nil {
		return nil, storeError(db, err)
	}
	keys, err := locker.LoadKeys(ctx, s.Keys, len(fresh) == 0 && svc.several.BeginsKeys(ctx))
	if errors.Is(err, fs.ErrNotExist) && svc.several != nil {
		return nil, &StartError{
			"the key set of the cluster is not here", "put the file that another node has at " + s.Keys + " (setting keys)", err,
		}
	}
	if err != nil {
		return nil, &StartError{
			fmt.Sprintf("the key set of the locker cannot be read: %v", err),
			"put the key file back where it was (setting keys); without it the stored secrets cannot be opened",
			err,
		}
	}
	if err := svc.several.ShareKeys(ctx, keys); err != nil {
		return nil, clusterError(err)
	}
	if svc.sessions, err = svc.sessionKey(keys); err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", s.Listen)
	if err != nil {
		hint := "choose another address with --listen"
		if errors.Is(err, syscall.EADDRINUSE) {
			hint = "another program uses this port; end it, or choose another one with --listen"
		}
		return nil, &StartError{fmt.Sprintf("cannot listen on %s: %v", s.Listen, errors.Unwrap(err)), hint, err}
	}
	undo = append(undo, func() { _ = listener.Close() })
	svc.Listens = listener.Addr().String()
	svc.several.Listens(listener)
	svc.Address = s.PublicURL
	if svc.Address == "" {
		svc.Address = "http://" + listener.Addr().String()
	}
	guard := origin.New(hosts(svc.Address, s.Listen)...)
	rest, err := svc.wire(ctx, keys, guard, &undo)
	if err != nil {
		return nil, err
	}
	handler, err := svc.routes(rest, guard, keys)
	if err != nil {
		return nil, err
	}
	svc.server = &http.Server{
		Handler:           handler,
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       time.Minute, // for the whole request; streams lift it
		IdleTimeout:       5 * time.Minute,
		// For a reader that takes nothing; streams have a limit for each write.
		WriteTimeout:   s.CallTimeout + cmp.Or(s.WriteTime, 2*time.Minute),
		MaxHeaderBytes: 64 << 10,
		ErrorLog:       slog.NewLogLogger(svc.log.Handler(), slog.LevelDebug),
	}
	go func() { svc.served <- svc.server.Serve(listener) }()
	var last time.Time
	// A journal that cannot be read has said so.
	if newest, _, err := calls.In(svc.store).Around(ctx, segment.LastKey); err == nil && newest > 0 {
		last = newest.Time()
	}
	for _, n := range svc.check(last) {
		svc.log.Warn(n.What, "hint", n.Hint)
	}
	svc.log.Info("listening", "address", svc.Address, "data", s.Data, "journal", s.Journal)
	return svc, nil
}

// routes puts the doors, the API and the console behind one address.
func (svc *Service) routes(rest *api.API, guard *origin.Guard, keys *locker.Keys) (http.Handler, error) {
	r := chi.NewRouter()
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "ok\n") })
	r.Get("/metrics", svc.scraped.ServeHTTP)
	r.Get("/readyz", func(w http.ResponseWriter, r *http.Request) {
		if err := svc.store.Ping(r.Context()); err != nil {
			svc.log.Error("not ready", "error", err)
			http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
			return
		}
		if err := svc.several.Ready(); err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
			return
		}
		_, _ = io.WriteString(w, "ready\n")
	})
	r.Group(func(r chi.Router) {
		r.Use(func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if !guard.Allows(r) {
					http.Error(
						w,
						"the Host or Origin header names a place that may not reach this service (setting public-url)",
						http.StatusForbidden,
					)
					return
				}
				next.ServeHTTP(w, r)
			})
		})
		rest.Mount(r)
		rest.MountOAuth(r)
		r.Handle("/*", web.Handler())
	})
	all, err := svc.several.Across(node.Here{
		Serve: r, Keys: keys, Base: svc.Address, Meter: svc.meter, Journal: svc.jnl, Topics: svc.parts.events,
		Kinds: []string{approval.Topic, incident.Topic},
	})
	if err != nil {
		return nil, clusterError(err)
	}
	// The gateway is asked first and goes around the router: it is the hot path.
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if p := req.URL.Path; p == "/mcp" || strings.HasPrefix(p, "/in/") || p == "/sse" || strings.HasPrefix(p, "/mcp/") ||
			strings.HasPrefix(p, "/sse/") {
			svc.Gateway.ServeHTTP(w, req)
			return
		}
		all.ServeHTTP(w, req)
	}), nil
}

// Wait returns when the service ends by itself, which is always an error.
func (svc *Service) Wait(ctx context.Context) error {
	select {
	case err := <-svc.served:
		return fmt.Errorf("the listener failed: %w", err)
	case <-ctx.Done():
		return nil
	}
}

// Stop ends the service: no new requests, streams ended, calls in flight
// finished, the journal written, the links closed.
func (svc *Service) Stop(ctx context.Context) {
	drain, cancel := context.WithTimeout(ctx, drainBudget)
	defer cancel()
	close(svc.ended)
	svc.held.Close() // nobody waits for a decision that cannot come any more
	svc.Gateway.EndStreams()
	if err := svc.server.Shutdown(drain); err != nil {
		svc.log.Warn("some requests did not end in time", "error", err)
	}
	svc.Gateway.Close(drain)
	svc.several.HandOver(drain)
	_ = svc.server.Close()
	end, stop := context.WithTimeout(ctx, closeBudget)
	defer stop()
	svc.stats.Close()
	svc.copies.Close()
	if svc.telling != nil {
		_ = svc.telling.Close()
	}
	svc.explainers.close()
	svc.history.Close()
	svc.finder.Close()
	svc.notices.Close()
	svc.mails.Close()
	svc.closeTraces(end)
	svc.parts.close(end)
	svc.several.Close(end)
	svc.meter.Close()
	svc.jnl.Close()
	if err := svc.store.Close(); err != nil {
		svc.log.Error("the database did not close cleanly", "error", err)
	}
	svc.disk.Close()
	svc.releaseData()
	svc.log.Info("stopped")
}

// openData makes the data directory ready and takes its lock, so that no two
// services write to one database.
func openData(dir string) (*os.File, error) {
	const hint = "choose another directory with --data, or mend its permissions"
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, &StartError{fmt.Sprintf("the data directory %s cannot be made: %v", dir, plain(err)), hint, err}
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return nil, &StartError{fmt.Sprintf("the data directory %s cannot be closed to others: %v", dir, plain(err)), hint, err}
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, &StartError{fmt.Sprintf("the data directory %s cannot be written: %v", dir, plain(err)), hint, err}
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, &StartError{
			fmt.Sprintf("the data directory %s is in use by another bouncer serve", dir),
			"end that one, or choose another directory with --data",
			err,
		}
	}
	return f, nil
}

// releaseData gives the lock of the data directory back. Closing the file is not enough: a process that is just being started
// holds a copy of it until it becomes another program, and a lock is held until the last copy is closed or one is unlocked.
func (svc *Service) releaseData() {
	_ = syscall.Flock(int(svc.lock.Fd()), syscall.LOCK_UN)
	_ = svc.lock.Close()
}

func plain(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

func storeError(path string, err error) error {
	var newer *schema.NewerError
	if errors.As(err, &newer) {
		return &StartError{newer.Error(), "start the newer Bouncer that wrote it, or choose another directory with --data", err}
	}
	var damaged *store.DamagedError
	if errors.As(err, &damaged) {
		return &StartError{
			fmt.Sprintf("%s (%s)", damaged.Error(), path),
			"put a copy that bouncer backup wrote in its place; keep the damaged file, of which most can still be read",
			err,
		}
	}
	return &StartError{
		fmt.Sprintf("the database %s cannot be opened: %v", path, plain(err)),
		"check that the file is writable and whole",
		err,
	}
}

func hosts(address, listen string) []string {
	out := []string{}
	if u, err := url.Parse(address); err == nil {
		out = append(out, u.Host, u.Hostname())
	}
	if h, _, err := net.SplitHostPort(listen); err == nil && h != "" && h != "0.0.0.0" && h != "::" {
		out = append(out, h)
	}
	return out
}

// newLogger returns a logger that masks what it writes, whatever it was given.
func newLogger(out io.Writer, s Settings, masker func() *mask.Masker) *slog.Logger {
	to, o := mask.NewWriter(out, masker), &slog.HandlerOptions{Level: s.LogLevel}
	if s.LogFormat == "json" {
		return slog.New(slog.NewJSONHandler(to, o))
	}
	return slog.New(slog.NewTextHandler(to, o))
}

package app

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"bouncer/internal/api"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
	"bouncer/internal/locker"
	"bouncer/internal/observe/metrics"
	"bouncer/internal/relay/carry"
)

// counted records calls, and counts them.
type counted struct {
	carry.Recorder
	metrics *metrics.Metrics
}

// Record implements carry.Recorder.
func (c counted) Record(ctx context.Context, e *journal.Entry) error {
	c.metrics.Observe(&e.Call) // before the record is somebody else's
	return c.Recorder.Record(ctx, e)
}

// recorder is where the hot path records its calls.
func (svc *Service) recorder() carry.Recorder {
	var to carry.Recorder = svc.jnl
	if svc.traces != nil {
		to = followed{to, svc.traces}
	}
	if svc.Settings.MetricsToken == "" && svc.Settings.MetricsListen == "" {
		return to
	}
	svc.metrics = metrics.New(metrics.Options{Version: Version, State: svc.stateNow})
	return counted{to, svc.metrics}
}

// openMetrics tells metrics at an address of their own, and to whoever shows the token.
func (svc *Service) openMetrics(ctx context.Context, all *api.Services, later func(func())) error {
	svc.seen, svc.scraped = all, http.NotFoundHandler()
	if svc.Settings.MetricsToken != "" {
		raw, err := locker.Outside(ctx, svc.Settings.MetricsToken)
		token := strings.TrimSpace(raw.Reveal())
		if err == nil && len(token) < 16 {
			err = errors.New("it is shorter than 16 characters")
		}
		if err != nil {
			return &StartError{fmt.Sprintf("the token for metrics cannot be used: %v", err), "check the setting metrics-token", err}
		}
		svc.masks.Learn(token)
		svc.scraped = svc.metrics.Guarded(token)
	}
	if svc.Settings.MetricsListen == "" {
		return nil
	}
	l, err := net.Listen("tcp", svc.Settings.MetricsListen)
	if err != nil {
		return &StartError{
			fmt.Sprintf(
				"metrics cannot be told at %s: %v",
				svc.Settings.MetricsListen,
				err,
			), "choose another address with --metrics-listen", err,
		}
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", svc.metrics.Handler())
	svc.telling = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: 16 << 10}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if err := svc.telling.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			svc.log.Error("metrics are told no longer", "error", err)
		}
	}()
	svc.MetricsAddress = "http://" + l.Addr().String() + "/metrics"
	later(func() {
		_ = svc.telling.Close()
		<-ended
	})
	svc.log.Info("metrics", "address", svc.MetricsAddress)
	return nil
}

// stateNow is what is true when metrics are asked for. What cannot be read is left out.
func (svc *Service) stateNow() metrics.State {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	out := metrics.State{Servers: map[string]string{}, Secrets: map[string]time.Time{}, Sessions: svc.Gateway.Sessions()}
	out.Gates, out.Held = svc.seen.Usage(), svc.held.Waiting()
	out.Node = svc.several.Doing()
	var errs [4]error
	var servers []team.Server
	servers, errs[0] = svc.store.Servers(ctx)
	for _, s := range servers {
		out.Servers[s.Name] = svc.seen.Servers.Health(s).State
	}
	var incidents []team.Incident
	incidents, errs[1] = svc.store.Incidents(ctx, 1000)
	for _, i := range incidents {
		if i.Until == nil {
			out.Incidents++
		}
	}
	var secrets []team.Secret
	secrets, errs[2] = svc.store.Secrets(ctx)
	for _, s := range secrets {
		if s.Ends != nil && s.Owner == "" {
			out.Secrets[s.Name] = *s.Ends
		}
	}
	out.Journal, errs[3] = svc.jnl.State(ctx)
	if err := errors.Join(errs[:]...); err != nil {
		svc.log.Error("metrics could not be read whole", "error", err)
	}
	return out
}

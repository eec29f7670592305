package app

import (
	"context"
	"fmt"
	"strings"

	"bouncer/internal/journal"
	"bouncer/internal/locker"
	"bouncer/internal/observe/traces"
	"bouncer/internal/relay"
	"bouncer/internal/relay/carry"
)

// followed records calls, and tells of them as traces.
type followed struct {
	carry.Recorder
	traces *traces.Traces
}

// Record implements carry.Recorder.
func (f followed) Record(ctx context.Context, e *journal.Entry) error {
	if e.Trace != nil {
		f.traces.End(&e.Call, e.Trace)
	}
	return f.Recorder.Record(ctx, e)
}

// openTraces begins to tell of calls as traces, where there is a collector.
func (svc *Service) openTraces(ctx context.Context, o *relay.Options) error {
	s := svc.Settings.Trace
	if s.To == "" {
		return nil
	}
	token := ""
	if s.Token != "" {
		raw, err := locker.Outside(ctx, s.Token)
		if err != nil {
			return &StartError{fmt.Sprintf("the token for traces cannot be used: %v", err), "check the setting trace-token", err}
		}
		token = strings.TrimSpace(raw.Reveal())
		svc.masks.Learn(token)
	}
	t, err := traces.New(traces.Options{
		Address: s.To, Token: token, Share: s.Share, Version: Version, Log: svc.log, Masker: svc.masks.Masker,
	})
	if err != nil {
		return &StartError{err.Error(), "check the setting trace-to", err}
	}
	svc.traces, o.Trace = t, t.Begin
	return nil
}

// closeTraces tells what is left.
func (svc *Service) closeTraces(ctx context.Context) {
	if svc.traces == nil {
		return
	}
	if err := svc.traces.Close(ctx); err != nil {
		svc.log.Warn("the last traces were not told", "error", err)
	}
}

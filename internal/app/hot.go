package app

import (
	"context"
	"fmt"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/control/budget"
	"bouncer/internal/control/finder"
	"bouncer/internal/control/presence"
	"bouncer/internal/diagnose/recorder"
	"bouncer/internal/events"
	"bouncer/internal/gate"
	"bouncer/internal/journal"
	"bouncer/internal/locker"
	"bouncer/internal/origin"
	"bouncer/internal/relay"
)

// hot is what the hot path stands on.
type hot struct {
	hub   *events.Hub
	book  *gate.Book
	guard *origin.Guard
	there *presence.Log
	heard *recorder.Recorder // of agents
	keys  *locker.Keys
}

// openHot opens the gateway, and what it asks on the way of a call: the journal, the room
// of held calls, the index of tools, the budgets. Each is ended again by what later is
// given.
func (svc *Service) openHot(ctx context.Context, on hot, later func(func())) (err error) {
	s := svc.Settings
	log := calls.NewWriter(svc.store)
	to, end, err := svc.several.Records(ctx, log, on.keys, s.strict())
	if err != nil {
		return clusterError(err)
	}
	later(end)
	svc.jnl, err = journal.New(ctx, to, journal.Options{
		Strict: s.strict(), BodyLimit: s.Bodies, Log: svc.log, Masker: svc.masks.Masker, Full: svc.disk.Full, From: log,
		Place: svc.several.Place(),
		Keep:  journal.Keep{Age: time.Duration(s.JournalDays) * 24 * time.Hour, Size: int64(s.JournalSize) << 20},
	})
	if err != nil {
		return fmt.Errorf("open the journal: %w", err)
	}
	later(svc.jnl.Close)
	if err := svc.openMail(ctx); err != nil {
		return err
	}
	later(svc.mails.Close)
	if err := svc.openHeld(ctx, on.hub, on.book); err != nil {
		return err
	}
	later(svc.notices.Close)
	later(svc.held.Close)
	if svc.finder, err = finder.New(svc.log); err != nil {
		return fmt.Errorf("open the index of tools: %w", err)
	}
	later(svc.finder.Close)
	svc.meter = budget.New(svc.store, svc.log, s.Now)
	svc.meter.Told = svc.mails.BudgetSpent
	if err := svc.meter.Start(ctx); err != nil {
		return fmt.Errorf("read the budgets: %w", err)
	}
	later(svc.meter.Close)
	o := relay.Options{
		Version: Version, Address: svc.Address, BodyLimit: s.BodyLimit, CallTimeout: s.CallTimeout, Guard: on.guard, Log: svc.log,
		Book: on.book, SessionKey: svc.sessions, Proxies: s.Proxies,
		Present: on.there.Present, Held: svc.held, Budgets: svc.meter, Finder: svc.finder,
		Sure: svc.several.Sure,
	}
	if svc.several != nil {
		o.Known = svc.several.Known
	}
	if s.Recorder != "off" {
		// There is somebody to tell as soon as agents are served.
		o.Tap, o.Trouble = on.heard, func(agentID, why string) { svc.explainers.tapes.Trouble(agentID, why) }
	}
	if err := svc.openTraces(ctx, &o); err != nil {
		return err
	}
	later(func() { svc.closeTraces(ctx) })
	svc.Gateway = relay.New(ctx, svc.recorder(), o)
	later(func() { svc.Gateway.Close(ctx) })
	return nil
}

// strict reports whether answers wait for the journal.
func (s Settings) strict() bool { return s.Journal == "strict" }

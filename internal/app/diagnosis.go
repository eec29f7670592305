package app

import (
	"context"
	"net/http"
	"path/filepath"

	"bouncer/internal/api"
	"bouncer/internal/control/notice"
	"bouncer/internal/core/team"
	"bouncer/internal/diagnose/example"
	"bouncer/internal/diagnose/incident"
	"bouncer/internal/diagnose/monitor"
	"bouncer/internal/diagnose/recorder"
	"bouncer/internal/diagnose/tape"
	"bouncer/internal/diagnose/tryout"
	"bouncer/internal/diagnose/why"
	"bouncer/internal/link"
	"bouncer/internal/relay"
	"bouncer/internal/spawn"
)

// taps are the flight recorders.
type taps struct{ servers, agents *recorder.Recorder }

// explainers are what explains failures by itself, and has to be closed.
type explainers struct {
	checkups *monitor.Service
	tapes    *tape.Service
	told     *notice.Sender
}

func (d explainers) close() {
	d.checkups.Close()
	d.tapes.Close()
	d.told.Close()
}

// diagnose builds what explains failures, and starts it.
func (svc *Service) diagnose(ctx context.Context, all *api.Services, heard taps, spawner *spawn.Spawner, redirect string) error {
	reg, pool := svc.parts.registry, svc.parts.pool
	serve := func(w http.ResponseWriter, r *http.Request, agentID string) {
		svc.Gateway.ServeHTTP(w, r.WithContext(relay.Trial(r.Context(), agentID)))
	}
	all.Tapes = tape.New(tape.Deps{
		Dir: filepath.Join(svc.Settings.Data, "tapes"), Recorder: heard.servers, Agents: heard.agents, Masker: svc.masks.Masker,
		Store: svc.store, Version: Version, Log: svc.log, Dial: svc.dial, Serve: serve,
	})
	told, err := svc.tellIncidents(ctx)
	if err != nil {
		return err
	}
	all.Incidents = incident.New(svc.store, all.Journal, svc.parts.events, svc.log)
	all.Incidents.Told = func(i team.Incident, over bool) {
		what, other := notice.Began, notice.Over
		if over {
			what, other = other, what
		}
		// Every node finds it out for itself, and one of them tells people.
		about := " incident " + i.Server + " " + i.Cause
		svc.several.InTurn(what+about, other+about, func() {
			told.Note(what, i.ID)
			svc.mails.Incident(i.ID, over)
		})
	}
	all.Examples = example.New(svc.store, reg, svc.masks.Masker)
	all.Checkups = monitor.New(monitor.Deps{Store: svc.store, Registry: reg, Pool: pool, Log: svc.log}, monitor.Options{
		Version: Version, Redirect: redirect, MessageLimit: svc.Settings.MessageLimit, Private: svc.Settings.Private,
		Spawner: spawner, Incidents: all.Incidents, Tapes: all.Tapes, Examples: all.Examples, Every: svc.Settings.CheckupEvery,
	})
	all.Tries = tryout.New(tryout.Deps{Agents: all.Agents, Registry: reg, Version: Version, Serve: serve})
	all.Why = why.New(why.Deps{
		Store: svc.store, Agents: all.Agents, Policy: all.Policy, Registry: reg, Calls: all.Journal, Contact: all.Contact,
		TurnedAway: all.TurnedAway,
	})
	all.Tapes.Start()
	all.Checkups.Start()
	svc.explainers = explainers{all.Checkups, all.Tapes, told}
	return nil
}

// dial opens another conversation with a server, for what is sent to it again.
func (svc *Service) dial(ctx context.Context, s team.Server) (link.Transport, error) {
	_, holder := svc.parts.pool.Best(s.ID)
	view, err := svc.parts.registry.Credentials(ctx)
	if err != nil {
		return nil, err
	}
	given, err := view.For(s, holder)
	if err != nil {
		return nil, err
	}
	return svc.parts.pool.Dial(s, given)
}

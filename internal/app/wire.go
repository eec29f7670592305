package app

import (
	"context"
	"fmt"
	"net/http"

	"bouncer/internal/agents"
	"bouncer/internal/api"
	"bouncer/internal/apitype"
	"bouncer/internal/assistants/machine"
	"bouncer/internal/assistants/roster"
	"bouncer/internal/assistants/takeover"
	"bouncer/internal/authserver"
	"bouncer/internal/calls"
	"bouncer/internal/changes"
	"bouncer/internal/control/budget"
	"bouncer/internal/control/cost"
	"bouncer/internal/control/history"
	"bouncer/internal/control/labels"
	"bouncer/internal/control/policy"
	"bouncer/internal/control/presence"
	"bouncer/internal/control/rehearse"
	"bouncer/internal/control/review"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/credential"
	"bouncer/internal/diagnose/recorder"
	"bouncer/internal/egress"
	"bouncer/internal/events"
	"bouncer/internal/gate"
	"bouncer/internal/imports"
	"bouncer/internal/journal"
	"bouncer/internal/link"
	"bouncer/internal/link/dial"
	"bouncer/internal/locker"
	"bouncer/internal/login"
	"bouncer/internal/oauth"
	"bouncer/internal/observe/stats"
	"bouncer/internal/oidc"
	"bouncer/internal/origin"
	"bouncer/internal/people"
	"bouncer/internal/registry"
	"bouncer/internal/relay"
	"bouncer/internal/secrets"
	"bouncer/internal/servers"
	"bouncer/internal/signin"
	"bouncer/internal/snapshot"
	"bouncer/internal/spawn"
	"bouncer/internal/throttle"
	"bouncer/internal/upkeep"
	"bouncer/internal/upstream"
)

// parts are what has to be closed, in the order of closing.
type parts struct {
	registry    *registry.Registry
	pool        *upstream.Pool
	credentials *credential.Set
	egress      *egress.Client
	events      *events.Hub
}

func (p parts) close(ctx context.Context) {
	p.registry.Close(ctx)
	p.pool.Close(ctx)
	p.credentials.Close()
	p.egress.Close()
	p.events.Close()
}

// wire builds the service from its parts, from the ground up: each is handed those
// that stand below it. What is started is ended again by undo when a later step
// fails.
// It is long because it is that list.
func (svc *Service) wire(ctx context.Context, keys *locker.Keys, guard *origin.Guard, undo *[]func()) (*api.API, error) {
	s, book := svc.Settings, &gate.Book{}
	later := func(fn func()) { *undo = append(*undo, fn) }
	noProcesses, redirect := s.Processes == "off", svc.Address+apitype.CallbackPath
	spawner, err := spawn.New(spawn.Options{Off: noProcesses, Dir: s.Data, User: s.processUser(), Log: svc.log, Book: book})
	if err != nil {
		return nil, &StartError{fmt.Sprintf("processes cannot be started as set up: %v", err), "check the setting process-user", err}
	}
	o := link.Options{Version: Version, MessageLimit: s.MessageLimit, Spawner: spawner, Progress: &link.Progress{}}

	hub, out := events.New(), egress.New(s.Private, nil)
	client := oauth.NewClient(out)
	identity, err := provide(ctx, s.OIDC)
	if err != nil {
		return nil, err
	}
	var provider *oidc.Provider
	if identity != nil {
		provider = oidc.New(*identity, client, svc.store, keys, svc.masks)
	}

	there := &presence.Log{Now: s.Now}
	heard := taps{servers: &recorder.Recorder{}, agents: &recorder.Recorder{Forgets: true}}
	if s.Recorder != "off" {
		o.Tap = heard.servers
	}
	if err := svc.openHot(ctx, hot{hub, book, guard, there, heard.agents, keys}, later); err != nil {
		return nil, err
	}

	var pool *upstream.Pool
	placed, err := svc.several.Places(keys, book, func(serverID string) { pool.Again(serverID) })
	if err != nil {
		return nil, clusterError(err)
	}
	pool = upstream.NewPool(upstream.PoolOptions{
		Place: placed.Place,
		Link:  o, Log: svc.log, Notice: svc.Gateway.Notice, Poll: s.Poll,
		TakeUp: s.AlteredPrograms == "restart",
	})
	credentials := credential.New(credential.Options{
		Store:      svc.store,
		Keys:       keys,
		OAuth:      client,
		Provider:   provider,
		Events:     hub,
		Masks:      svc.masks,
		Log:        svc.log,
		Redirect:   redirect,
		NoCommands: noProcesses,
		Lease:      svc.several.Leases(),
		Shared:     svc.several.Grants(),
		Now:        s.Now,
		Challenge:  func(ctx context.Context, server team.Server) http.Header { return dial.Challenge(ctx, server, o) },
		ConnectLink: func(server string, h team.Holder, agent string) string {
			return apitype.ConnectLink(svc.Address, server, h, agent)
		},
	})
	reg := registry.New(registry.Options{
		Store: svc.store, Credentials: credentials, Pool: pool, Relay: svc.Gateway, Events: hub, Masks: svc.masks, Log: svc.log,
		Address: svc.Address, NoProcesses: noProcesses, AddressPasses: s.AddressPasses, PassRate: s.PassRate, Now: s.Now,
		Publishing: svc.several.Publishing(),
	})
	svc.parts = parts{reg, pool, credentials, out, hub}
	if err := reg.Start(); err != nil {
		return nil, err
	}
	later(func() { svc.parts.close(ctx) })

	limiter, problems := throttle.New(nil), &oauth.Problems{}
	all := api.Services{
		Registry: reg, Journal: journal.NewReader(calls.In(svc.store)), Notary: journal.NewNotary(calls.In(svc.store), svc.journalKey()),
		Taps: svc.jnl, Backup: svc.store.Backup, JournalState: svc.jnl.State,
		Usage: book.Usage, TurnedAway: svc.Gateway.Door.List,
		Contact: func(id string) (team.Contact, bool) { return relay.ContactOf(svc.Gateway, id) },
	}
	all.Agents = agents.New(svc.store, reg, agents.Options{AddressPasses: s.AddressPasses})
	all.Machines = machine.New(svc.store, reg, all.Agents, limiter, svc.Address)
	all.People = people.New(svc.store, reg)
	all.Servers = servers.New(svc.store, credentials, pool, reg, servers.Options{
		Address: svc.Address, Link: o, NoProcesses: noProcesses,
		// There is somebody to ask as soon as servers can be registered.
		Explain: func(ctx context.Context, s team.Server, c link.Credential) (diagnosis.Finding, bool) {
			return svc.explainers.checkups.Explain(ctx, s, c)
		},
	})
	all.Secrets = secrets.New(svc.store, keys, credentials, pool, reg, all.Agents)
	all.Imports = imports.New(all.Servers, all.Secrets)
	all.SignIns = signin.New(signin.Deps{
		Store:       svc.store,
		Keys:        keys,
		OAuth:       client,
		Credentials: credentials,
		Pool:        pool,
		Registry:    reg,
		Agents:      all.Agents,
		Masks:       svc.masks,
		Problems:    problems,
	}, signin.Options{Address: svc.Address, Redirect: redirect, Log: svc.log, Now: s.Now})
	all.Login = login.New(svc.store, reg, all.People, limiter, problems, login.Options{
		Address: svc.Address, Redirect: redirect, Log: svc.log, Provider: provider, PasswordCost: s.PasswordCost,
	})
	all.Policy = policy.New(svc.store, reg, all.Agents, coming(svc.Gateway, there), svc.meter)
	svc.finder.Start(reg)
	svc.history = history.New(svc.store, reg, all.Agents, coming(svc.Gateway, there), svc.log)
	svc.history.Start()
	later(svc.history.Close)
	all.History = svc.history
	all.Costs = cost.New(svc.store, reg, all.Agents, coming(svc.Gateway, there))
	if err := svc.diagnose(ctx, &all, heard, spawner, redirect); err != nil {
		return nil, err
	}
	later(func() { svc.explainers.close() })
	svc.stats = stats.New(svc.store, svc.log, s.Now)
	svc.stats.Start()
	later(svc.stats.Close)
	all.Stats = svc.stats
	svc.copies = upkeep.New(upkeep.Options{
		Dir: s.BackupDir, Every: s.BackupEvery, Write: svc.store.Backup, Keys: keys.IDs, Log: svc.log, Now: s.Now,
	})
	svc.copies.Start()
	later(svc.copies.Close)
	all.Copies = svc.copies
	if err := svc.openMetrics(ctx, &all, later); err != nil {
		return nil, err
	}
	all.Reviews = review.New(svc.store, reg, pool)
	all.Rehearse = rehearse.New(svc.store, reg, all.Policy)
	all.Labels, all.Held, all.Notices, all.Mail = labels.New(svc.store, reg), svc.held, svc.notices, svc.mails
	all.Budgets = budget.NewService(svc.store, reg, svc.meter)
	all.Changes = changes.New(svc.store, all.Agents, all.People, all.Servers, all.Policy, all.Labels, all.Budgets, all.Reviews)
	all.Takeover = takeover.New(takeover.Deps{
		Store: svc.store, Imports: all.Imports, Servers: all.Servers, Secrets: all.Secrets, Agents: all.Agents, Policy: all.Policy,
	}, svc.Address)
	all.Roster = roster.New(svc.store, reg, all.Servers, all.Policy, all.Login.OneTime)
	// Strangers have it look up documents of programs, so it reaches what everybody
	// can reach, whatever ranges are allowed otherwise.
	strangers := egress.New(nil, nil)
	later(strangers.Close)
	all.AuthServer = authserver.New(
		svc.store,
		oauth.NewClient(strangers),
		limiter,
		reg,
		all.Agents,
		all.Policy,
		authserver.Options{Address: svc.Address, Log: svc.log},
	)
	if all.Nodes, err = svc.several.Enter(ctx, reg, all.Notary); err != nil {
		return nil, clusterError(err)
	}
	if svc.FirstPassword, err = all.Login.FirstAdmin(ctx, s.FirstAdmin, s.firstPassword(ctx)); err != nil {
		return nil, &StartError{err.Error(), "check the settings first-admin and first-password", err}
	}
	return api.New(all, api.Options{
		Version: Version, Address: svc.Address, Strict: s.strict(), Log: svc.log, Ended: svc.ended, Proxies: s.Proxies, Book: book,
		Masker: svc.masks.Masker, Seen: there.Seen,
	})
}

// coming tells what is known of the requests of an agent, as it was seen last.
func coming(d *relay.Gateway, there *presence.Log) func(*snapshot.Agent) rules.Circumstances {
	return func(a *snapshot.Agent) rules.Circumstances {
		how := rules.Circumstances{Present: a.Owner != "" && there.Present(a.Owner)}
		if c, ok := d.Contacts.Of(a.ID); ok {
			how.Client, how.Revision = c.Client, c.Revision
		}
		return how
	}
}

// provide reads how people sign in at the identity provider; nil for not at all.
func provide(ctx context.Context, o OIDC) (*oidc.Options, error) {
	if o.Issuer == "" {
		return nil, nil
	}
	p := &oidc.Options{Issuer: o.Issuer, ClientID: o.ClientID, Name: o.Name, Groups: o.Groups}
	if o.Secret == "" {
		return p, nil
	}
	raw, err := locker.Outside(ctx, o.Secret)
	if err == nil {
		p.Secret, _, err = locker.Read(team.KindClientSecret, raw.Reveal())
	}
	if err != nil {
		return nil, &StartError{
			fmt.Sprintf("the client secret for the identity provider cannot be read: %v", err),
			"check the setting oidc-secret",
			err,
		}
	}
	return p, nil
}

package secrets

import (
	"context"
	"fmt"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/credential"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// GiveOwn stores what a person or an agent uses at a server instead of the
// team's. It is tried first.
func (svc *Service) GiveOwn(ctx context.Context, by team.Person, server string, n apitype.OwnValue) (team.Secret, error) {
	s, err := svc.store.ServerByName(ctx, server)
	if err != nil {
		return team.Secret{}, store.Explain(err, "server", server)
	}
	if s.SignIn != nil {
		return team.Secret{}, &team.ConflictError{
			Field: "value",
			Why:   fmt.Sprintf("server %q wants a sign-in, not a token", server),
			Hint:  "use bouncer sign-in begin " + server,
		}
	}
	if s.Transport == team.Stdio && s.SecretEnv == "" {
		return team.Secret{}, &team.FieldError{Field: "value", Why: "has nowhere to go: no variable of this process carries a secret"}
	}
	h, err := svc.agents.HolderFor(ctx, by, s, n.Agent, false)
	if err != nil {
		return team.Secret{}, err
	}
	if n.Secret != "" {
		return svc.giveStored(ctx, by, s, h, n.Secret)
	}
	k := credential.NewSecret(s, OwnName(server, by.Name, n.Agent), time.Now().UTC())
	k.UsedBy, k.Agent = []string{server}, n.Agent
	if n.Agent == "" {
		k.Owner = by.Name
	}
	entered, err := svc.credentials.Enter(ctx, by, k, credential.Input{Raw: n.Value})
	if err != nil {
		return *k, err
	}
	if !n.Anyway {
		if err := svc.tryFor(ctx, s, h, entered); err != nil {
			return *k, err
		}
	}
	change := registry.Change{By: by, What: "secret.own", Subject: k.Name, After: server, Topics: []string{"secrets"}}
	err = svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.AddOwnSecret(*k, entered.Box, s.ID, h) })
	if err != nil {
		return *k, store.Explain(err, "secret", k.Name)
	}
	svc.pool.WaitTried(ctx, upstream.Key{Server: s.ID, Holder: h})
	return *k, svc.registry.Refresh() // with what the server offers to its new holder
}

// OwnName is how people call what somebody has of their own at a server. No name
// that anybody chooses has a colon in it.
func OwnName(server, person, agent string) string {
	if agent != "" {
		return server + ":agent:" + agent
	}
	return server + ":" + person
}

// giveStored lets a holder use a secret of the team's that is stored already.
func (svc *Service) giveStored(ctx context.Context, by team.Person, s team.Server, h team.Holder, name string) (team.Secret, error) {
	if !access.May(by, access.AddSecrets, "") {
		return team.Secret{}, &team.FieldError{Field: "secret", Why: "can be chosen by admins and maintainers only; give a value"}
	}
	have, err := svc.registry.TeamSecret(ctx, name)
	if err != nil {
		return have, err
	}
	change := registry.Change{By: by, What: "secret.give", Subject: name, After: s.Name, Topics: []string{"secrets"}}
	return have, svc.registry.Write(ctx, change, func(tx *store.Tx) error {
		return tx.SetGiven(store.OwnSecret{ServerID: s.ID, Holder: h, SecretID: have.ID})
	})
}

// DropOwn ends the use of a person's or an agent's own credential at a server.
// Such a secret goes with its use.
func (svc *Service) DropOwn(ctx context.Context, by team.Person, server, agent string) error {
	s, err := svc.store.ServerByName(ctx, server)
	if err != nil {
		return store.Explain(err, "server", server)
	}
	h, err := svc.agents.HolderFor(ctx, by, s, agent, false)
	if err != nil {
		return err
	}
	return svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "secret.drop", Subject: server, After: agent, Topics: []string{"secrets"}},
		func(tx *store.Tx) error { return tx.DropGiven(s.ID, h) },
	)
}

// RotateKeys puts a further key in force, wraps everything with it, and then
// drops the keys before. The service goes on meanwhile.
func (svc *Service) RotateKeys(ctx context.Context, by team.Person) (apitype.KeySet, error) {
	before := svc.keys.InForce()
	id, err := svc.keys.Rotate(ctx)
	if err != nil {
		hint := "check the setting keys, and add a key with: bouncer locker new"
		if svc.keys.Shared() {
			hint = "add one at the end of the key set of each node, and try again; make one with: bouncer locker new"
		}
		return apitype.KeySet{}, &team.ConflictError{Field: "keys", Why: "the key set has no new key: " + err.Error(), Hint: hint}
	}
	n := 0
	err = svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "locker.rotate", Subject: id, Topics: []string{"secrets"}},
		func(tx *store.Tx) (err error) {
			n, err = tx.Rewrap(svc.keys.Rewrap)
			return err
		},
	)
	if err != nil {
		// Where nodes share the set, it can be tried again: the key is known everywhere, and not in force here.
		svc.keys.PutInForce(before[len(before)-1])
		return apitype.KeySet{}, err
	}
	if err := svc.keys.Retire(); err != nil {
		return apitype.KeySet{}, err
	}
	return apitype.KeySet{Keys: svc.keys.InForce(), Shared: svc.keys.Shared(), Rewrapped: n}, nil
}

// Keys tells about the key set of the locker. What was added to one that nodes share is known then.
func (svc *Service) Keys(ctx context.Context) apitype.KeySet {
	out := apitype.KeySet{Shared: svc.keys.Shared()}
	if err := svc.keys.Look(ctx); err != nil {
		out.Problem = "the key set cannot be used as it is now: " + err.Error()
	}
	out.Keys, out.Next = svc.keys.InForce(), svc.keys.Next()
	return out
}

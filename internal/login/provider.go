package login

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/oauth"
	"bouncer/internal/people"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Landing is where a browser is sent after a sign-in.
type Landing struct {
	Path  string // page of the console
	Login string // a login that was opened, "" for none
}

// ProviderName is what the sign-in at the identity provider is called; "" when
// there is none.
func (svc *Service) ProviderName() string { return svc.o.Provider.Name() }

// BeginLogin begins a sign-in to Bouncer through the identity provider and
// returns where to send the browser. Errors are *oauth.Error.
func (svc *Service) BeginLogin(ctx context.Context, browser, back, from string) (string, error) {
	if svc.o.Provider == nil {
		return "", &team.NotFoundError{Kind: "identity provider"}
	}
	key := "elsewhere " + from
	if wait := svc.limiter.Wait(key); wait > 0 {
		return "", &team.ThrottledError{For: wait}
	}
	svc.limiter.Fail(key, 300) // each asks the provider something
	a, to, err := svc.o.Provider.Begin(ctx, svc.o.Redirect)
	if err != nil {
		return "", err
	}
	if !svc.pending.Put(oauth.PendingAuthorization[struct{}]{Authorization: a, Back: back}, browser) {
		return "", &team.ConflictError{Why: "too many sign-ins are under way", Hint: "wait ten minutes"}
	}
	return to, nil
}

// FinishLogin takes up the identity provider's answer; ok is false when it belongs
// to no sign-in that was begun here.
func (svc *Service) FinishLogin(ctx context.Context, answer url.Values, browser, from string) (landing Landing, ok bool) {
	pending, ok := svc.pending.Take(answer.Get("state"))
	if !ok {
		return landing, false
	}
	token, err := svc.finish(ctx, pending, answer, browser, from)
	if err != nil {
		problem := oauth.ProblemOf(err)
		svc.o.Log.Warn("a sign-in through the identity provider failed", "step", problem.Step, "code", problem.Code, "why", problem.What)
		return Landing{Path: "/sign-in?problem=" + svc.problems.Add(problem)}, true
	}
	return Landing{Path: pending.Back, Login: token}, true
}

func (svc *Service) finish(
	ctx context.Context,
	pending oauth.PendingAuthorization[struct{}],
	answer url.Values,
	browser, from string,
) (token string, err error) {
	if !pending.BegunIn(browser) {
		return "", &oauth.Error{Step: oauth.StepAuthorize, Why: "this sign-in was begun in another browser"}
	}
	claims, record, err := svc.o.Provider.Finish(ctx, pending.Authorization, answer)
	if err != nil {
		return "", err
	}
	who, err := svc.admitProvider(ctx, pending.Server.Issuer, claims)
	if err != nil {
		return "", err
	}
	if err := svc.o.Provider.Keep(ctx, who.ID, record); err != nil {
		return "", err
	}
	svc.limiter.Reset("elsewhere " + from)
	token, err = svc.openLogin(ctx, who, "console", "console, through "+svc.o.Provider.Name(), from)
	if err != nil {
		return "", err
	}
	return token, svc.registry.Refresh(ctx)
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// admitProvider finds or adds the person behind an ID token, with the role that
// the groups give.
func (svc *Service) admitProvider(ctx context.Context, issuer string, c oauth.Claims) (team.Person, error) {
	role, ok := svc.o.Provider.RoleOf(c.Groups)
	if !ok {
		return team.Person{}, &oauth.Error{
			Step:  oauth.StepToken,
			Code:  "access_denied",
			Final: true,
			Why:   "none of your groups there has a role in Bouncer; ask an admin of Bouncer to map one (setting oidc-groups)",
		}
	}
	subject := issuer + " " + c.Subject
	p, err := svc.store.PersonBySubject(ctx, subject)
	if errors.Is(err, store.ErrNotFound) {
		name := c.Username
		if name == "" {
			name, _, _ = strings.Cut(c.Email, "@")
		}
		name = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-")
		if len(name) > 32 {
			name = strings.Trim(name[:32], "-")
		}
		if err := team.CheckName("name", name); err != nil {
			return p, &oauth.Error{Step: oauth.StepToken, Final: true, Why: "the identity provider gives no user name that Bouncer can use"}
		}
		return svc.joinProvider(ctx, name, c, role, subject)
	}
	if err != nil {
		return p, err
	}
	if p.Role != role {
		if last, err := svc.people.LastAdmin(ctx, p); err != nil || last {
			return p, err // somebody has to stay
		}
		before := people.Describe(p)
		p.Role = role
		return p, svc.registry.Write(
			ctx,
			registry.Change{
				By:      p,
				What:    "person.update",
				Subject: p.Name,
				Before:  before,
				After:   people.Describe(p),
				Topics:  []string{"people"},
			},
			func(tx *store.Tx) error { return tx.SetPerson(p) },
		)
	}
	return p, nil
}

// joinProvider ties a person to who they are at the provider, which admins
// trust to name people; somebody who is not there yet is added.
func (svc *Service) joinProvider(ctx context.Context, name string, c oauth.Claims, role team.Role, subject string) (team.Person, error) {
	p, err := svc.store.PersonByName(ctx, name)
	if err == nil {
		if p.Elsewhere {
			return p, &oauth.Error{
				Step:  oauth.StepToken,
				Final: true,
				Why:   fmt.Sprintf("the name %s belongs to somebody else of the identity provider; ask an admin of Bouncer", name),
			}
		}
		last, err := svc.people.LastAdmin(ctx, p)
		if err != nil {
			return p, err
		}
		if !last {
			p.Role = role
		}
		p.Elsewhere = true
		return p, svc.registry.Write(
			ctx,
			registry.Change{By: p, What: "person.tie", Subject: name, After: subject, Topics: []string{"people"}},
			func(tx *store.Tx) error {
				return errors.Join(tx.SetPerson(p), tx.SetSubject(p.ID, subject))
			},
		)
	}
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	full := strings.TrimSpace(c.Name)
	if people.CheckFullName(full) != nil {
		full = name
	}
	p = team.Person{ID: team.NewID(), Name: name, FullName: full, Role: role, Elsewhere: true, Created: time.Now().UTC()}
	return p, svc.registry.Write(
		ctx,
		registry.Change{
			By:      p,
			What:    "person.add",
			Subject: name,
			After:   people.Describe(p) + ", through " + svc.o.Provider.Name(),
			Topics:  []string{"people"},
		},
		func(tx *store.Tx) error {
			// No password: the empty hash is one that nothing verifies against.
			return errors.Join(tx.AddPerson(p, ""), tx.SetSubject(p.ID, subject))
		},
	)
}

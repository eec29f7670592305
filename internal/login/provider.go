package login

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/oauth"
	"bouncer/internal/people"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/throttle"
)

// Landing is where a browser is sent after a sign-in.
type Landing struct {
	Path  string // page of the console
	Login string // a login that was opened, "" for none
}

// ProviderName is what the sign-in at the identity provider is called; "" when
// there is none.
func (svc *Service) ProviderName() string { return svc.o.Provider.Name() }

// attempt is what a sign-in at the identity provider under way is for.
type attempt struct {
	tie string // id of the person who ties themselves; "" for a sign-in
}

// often is the key under which sign-ins through the provider count: each asks the
// provider something.
func often(from string) throttle.Key { return throttle.Often("provider", from, 100) }

// BeginLogin begins a sign-in to Bouncer through the identity provider and
// returns where to send the browser. Errors are *oauth.Error.
func (svc *Service) BeginLogin(ctx context.Context, browser, back, from string) (string, error) {
	return svc.begin(ctx, attempt{}, "", browser, back, from)
}

// BeginTie begins to tie somebody, who is signed in, to who they are at the identity
// provider. Errors are *oauth.Error.
func (svc *Service) BeginTie(ctx context.Context, by team.Person, browser, back, from string) (string, error) {
	if by.Elsewhere {
		return "", &team.ConflictError{Why: "you are tied to an account of the identity provider already", Hint: "sign in with it"}
	}
	return svc.begin(ctx, attempt{tie: by.ID}, by.ID, browser, back, from)
}

var errNoProvider = &team.ConflictError{
	Why:  "no identity provider is set up here",
	Hint: "whoever runs the service sets it up: bouncer serve --oidc-issuer, and what else begins with oidc",
}

func (svc *Service) begin(ctx context.Context, about attempt, person, browser, back, from string) (string, error) {
	if svc.o.Provider == nil {
		return "", errNoProvider
	}
	if wait := svc.limiter.Spend(often(from)); wait > 0 {
		return "", &team.ThrottledError{For: wait, Why: "too many sign-ins are begun from this address"}
	}
	a, to, err := svc.o.Provider.Begin(ctx, svc.o.Redirect)
	if err != nil {
		return "", err
	}
	if !svc.pending.Put(
		oauth.PendingAuthorization[attempt]{Authorization: a, About: about, Person: person, Back: back, From: from},
		browser,
	) {
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
	pending oauth.PendingAuthorization[attempt],
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
	var who team.Person
	if pending.About.tie != "" {
		who, err = svc.tieMyself(ctx, pending.About.tie, pending.Server.Issuer, claims)
	} else {
		who, err = svc.admitProvider(ctx, pending.Server.Issuer, claims)
	}
	if err != nil {
		return "", err
	}
	if err := svc.o.Provider.Keep(ctx, who.ID, record); err != nil {
		return "", err
	}
	if err := svc.keepGroups(ctx, who, claims.Groups); err != nil {
		return "", err
	}
	token, err = svc.openLogin(ctx, who, "console", "console, through "+svc.o.Provider.Name(), from)
	if err != nil {
		return "", err
	}
	return token, svc.registry.Refresh()
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// refusal is why the provider's word does not let somebody in.
func refusal(code, why, help string) error {
	return &oauth.Error{Step: oauth.StepToken, Code: code, Final: true, Why: why, Help: help}
}

// subjectOf is who somebody is at the provider, in one text.
func subjectOf(issuer string, c oauth.Claims) string { return issuer + " " + c.Subject }

// roleOf is the role that somebody's groups give.
func (svc *Service) roleOf(c oauth.Claims) (team.Role, error) {
	role, ok := svc.o.Provider.RoleOf(c.Groups)
	if !ok {
		return role, refusal("access_denied",
			"none of your groups there has a role in Bouncer", "ask an admin of Bouncer to map one (setting oidc-groups)")
	}
	return role, nil
}

// admitProvider finds or adds the person behind an ID token, with the role that
// the groups give. People are known by issuer and subject: names can be chosen there.
func (svc *Service) admitProvider(ctx context.Context, issuer string, c oauth.Claims) (team.Person, error) {
	role, err := svc.roleOf(c)
	if err != nil {
		return team.Person{}, err
	}
	p, err := svc.store.PersonBySubject(ctx, subjectOf(issuer, c))
	if errors.Is(err, store.ErrNotFound) {
		return svc.joinProvider(ctx, issuer, c, role)
	}
	if err != nil {
		return p, fmt.Errorf("look for the person behind an ID token: %w", err)
	}
	if p.Role == role {
		return p, nil
	}
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

// nameOf is what somebody is called in Bouncer who comes from the provider. An
// e-mail address counts only when the provider has verified it; whoever has neither
// that nor a user name gets a name that says nothing.
func nameOf(c oauth.Claims) string {
	name := c.Username
	if name == "" && c.EmailVerified {
		name, _, _ = strings.Cut(c.Email, "@")
	}
	name = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-")
	if len(name) > 32 {
		name = strings.Trim(name[:32], "-")
	}
	if team.CheckName("name", name) != nil {
		sum := sha256.Sum256([]byte(c.Subject))
		return "person-" + hex.EncodeToString(sum[:5])
	}
	return name
}

// joinProvider adds somebody who comes from the provider for the first time. A name
// that somebody here has is not taken over: that person, or an admin, has to say
// that both are the same.
func (svc *Service) joinProvider(ctx context.Context, issuer string, c oauth.Claims, role team.Role) (team.Person, error) {
	name := nameOf(c)
	p, err := svc.store.PersonByName(ctx, name)
	switch {
	case err == nil && p.Elsewhere:
		return p, refusal("", fmt.Sprintf("the name %s belongs to somebody else of the identity provider", name), "ask an admin of Bouncer")
	case err == nil:
		return p, refusal("", fmt.Sprintf("the name %s is taken here already, by somebody who signs in with a password", name),
			fmt.Sprintf("if that is you, sign in with the password and tie yourself to %s on the page People; "+
				"or have an admin run: bouncer person tie %s --subject %s", svc.o.Provider.Name(), name, quoteWord(c.Subject)))
	case !errors.Is(err, store.ErrNotFound):
		return p, fmt.Errorf("look whether a name is taken: %w", err)
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
			return errors.Join(tx.AddPerson(p, ""), tx.SetSubject(p.ID, subjectOf(issuer, c)))
		},
	)
}

// quoteWord writes a word for a command line.
func quoteWord(s string) string {
	if strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.@:") == "" && s != "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// tieMyself ties a person, who began this while signed in, to who they are at the
// provider.
func (svc *Service) tieMyself(ctx context.Context, personID, issuer string, c oauth.Claims) (team.Person, error) {
	role, err := svc.roleOf(c)
	if err != nil {
		return team.Person{}, err
	}
	everybody, err := svc.store.People(ctx)
	if err != nil {
		return team.Person{}, fmt.Errorf("read the people: %w", err)
	}
	at := slices.IndexFunc(everybody, func(p team.Person) bool { return p.ID == personID })
	if at < 0 || everybody[at].Elsewhere {
		return team.Person{}, refusal("", "you are no longer here, or are tied to an account there already", "sign in again")
	}
	return svc.tie(ctx, everybody[at], everybody[at], role, subjectOf(issuer, c))
}

// Tie lets an admin say who somebody is at the identity provider: the subject there,
// which the refused sign-in named.
func (svc *Service) Tie(ctx context.Context, by team.Person, name, subject string) (team.Person, error) {
	if svc.o.Provider == nil {
		return team.Person{}, errNoProvider
	}
	if subject == "" || len(subject) > 255 {
		return team.Person{}, &team.FieldError{Field: "subject", Why: "must have 1 to 255 characters, as the refused sign-in told it"}
	}
	p, err := svc.store.PersonByName(ctx, name)
	if err != nil {
		return p, store.Explain(err, "person", name)
	}
	if p.Elsewhere {
		return p, &team.ConflictError{
			Field: "name",
			Why:   name + " is tied to an account of the identity provider already",
			Hint:  "remove that person first, if it is somebody else",
		}
	}
	// The role follows from the groups at the next sign-in.
	return svc.tie(ctx, by, p, p.Role, svc.o.Provider.Issuer()+" "+subject)
}

// tie ties a person to a subject of the provider, whose groups say the role from now
// on.
func (svc *Service) tie(ctx context.Context, by, p team.Person, role team.Role, subject string) (team.Person, error) {
	last, err := svc.people.LastAdmin(ctx, p)
	if err != nil {
		return p, err
	}
	if !last {
		p.Role = role
	}
	p.Elsewhere = true
	err = svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "person.tie", Subject: p.Name, After: subject, Topics: []string{"people"}},
		func(tx *store.Tx) error {
			return errors.Join(tx.SetPerson(p), tx.SetSubject(p.ID, subject))
		},
	)
	if errors.Is(err, store.ErrTaken) {
		return p, &team.ConflictError{
			Field: "subject",
			Why:   "somebody else is tied to this account",
			Hint:  "look who with bouncer person list",
		}
	}
	return p, err
}

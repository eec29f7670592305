package desk

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/locker"
	"bouncer/internal/login"
	"bouncer/internal/oauth"
	"bouncer/internal/store"
	"bouncer/internal/throttle"
	"bouncer/internal/token"
)

// Provider is where people sign in instead of with a password (OpenID Connect).
type Provider struct {
	Issuer   string
	ClientID string
	Secret   locker.Secret
	Name     string // as people know it
	// Groups maps group names of the provider to roles. People in several groups
	// get the widest role; people in none are not let in.
	Groups map[string]team.Role
}

func (p *Provider) identity() oauth.ClientIdentity {
	return oauth.ClientIdentity{ID: p.ClientID, Secret: p.Secret}
}

// ProviderName is what the sign-in at the identity provider is called; "" when
// there is none.
func (d *Desk) ProviderName() string {
	if d.o.Provider == nil {
		return ""
	}
	return d.o.Provider.Name
}

// BeginLogin begins a sign-in to Bouncer through the identity provider and
// returns where to send the browser. Errors are *signin.Refusal.
func (d *Desk) BeginLogin(ctx context.Context, browser, back, from string) (string, error) {
	p := d.o.Provider
	if p == nil {
		return "", &team.NotFoundError{Kind: "identity provider"}
	}
	key := "elsewhere " + from
	if wait := d.brake.Wait(key); wait > 0 {
		return "", &team.ThrottledError{For: wait}
	}
	d.brake.Fail(key, 300) // each asks the provider something
	a, err := d.out.Metadata(ctx, p.Issuer)
	if err != nil {
		return "", err
	}
	scope := []string{"openid", "profile", "email"}
	for _, s := range a.Scopes {
		if s == "groups" || s == "offline_access" {
			scope = append(scope, s)
		}
	}
	f, to, err := oauth.Begin(a, p.identity(), d.o.Address+CallbackPath, strings.Join(scope, " "))
	if err != nil {
		return "", err
	}
	if !d.flows.put(pendingFlow{flow: f, browser: token.Hash(browser), back: safeBack(back), until: time.Now().Add(flowTime)}) {
		return "", &team.ConflictError{Why: "too many sign-ins are under way", Hint: "wait ten minutes"}
	}
	return to, nil
}

// finishLogin takes up the identity provider's answer.
func (d *Desk) finishLogin(ctx context.Context, p pendingFlow, answer url.Values, browser, from string) Returned {
	fail := func(err error) Returned {
		pr := problemOf(err)
		d.o.Log.Warn("a sign-in through the identity provider failed", "step", pr.Step, "code", pr.Code, "why", pr.What)
		return Returned{Path: "/sign-in?problem=" + d.flows.fail(pr)}
	}
	shown := token.Hash(browser)
	if browser == "" || subtle.ConstantTimeCompare(shown[:], p.browser[:]) != 1 {
		return fail(&oauth.Error{Step: oauth.StepAuthorize, Why: "this sign-in was begun in another browser"})
	}
	t, err := d.out.ExchangeCode(ctx, p.flow, answer)
	if err != nil {
		return fail(err)
	}
	a := p.flow.Server
	c, err := d.out.VerifyID(ctx, a, p.flow.Identity.ID, p.flow.Nonce, t.ID)
	if err != nil {
		return fail(err)
	}
	who, err := d.admitElsewhere(ctx, a.Issuer, c)
	if err != nil {
		return fail(err)
	}
	if err := d.keepIdentity(ctx, who.ID, hold(a, p.flow.Identity, t)); err != nil {
		return fail(err)
	}
	d.brake.Reset("elsewhere " + from)
	token, err := d.openLogin(ctx, who, "console", "console, through "+d.o.Provider.Name, from)
	if err != nil {
		return fail(err)
	}
	if err := d.publish(context.WithoutCancel(ctx)); err != nil {
		return fail(err)
	}
	return Returned{Path: p.back, Login: token}
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// admitElsewhere finds or adds the person behind an ID token, with the role that
// the groups give.
func (d *Desk) admitElsewhere(ctx context.Context, issuer string, c oauth.Claims) (team.Person, error) {
	role, ok := d.roleOf(c.Groups)
	if !ok {
		return team.Person{}, &oauth.Error{Step: oauth.StepToken, Code: "access_denied", Final: true, Why: "none of your groups there has a role in Bouncer; ask an admin of Bouncer to map one (setting oidc-groups)"}
	}
	subject := issuer + " " + c.Subject
	p, err := d.store.PersonBySubject(ctx, subject)
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
		return d.joinElsewhere(ctx, name, c, role, subject)
	}
	if err != nil {
		return p, err
	}
	if p.Role != role {
		if last, err := d.lastAdmin(ctx, p); err != nil || last {
			return p, err // somebody has to stay
		}
		before := describePerson(p)
		p.Role = role
		return p, d.alter(ctx, p, "person.update", p.Name, before, describePerson(p), "people", func(tx *store.Tx) error { return tx.SetPerson(p) })
	}
	return p, nil
}

// joinElsewhere ties a person to who they are at the provider, which admins
// trust to name people; somebody who is not there yet is added.
func (d *Desk) joinElsewhere(ctx context.Context, name string, c oauth.Claims, role team.Role, subject string) (team.Person, error) {
	p, err := d.store.PersonByName(ctx, name)
	if err == nil {
		if p.Elsewhere {
			return p, &oauth.Error{Step: oauth.StepToken, Final: true, Why: fmt.Sprintf("the name %s belongs to somebody else of the identity provider; ask an admin of Bouncer", name)}
		}
		last, err := d.lastAdmin(ctx, p)
		if err != nil {
			return p, err
		}
		if !last {
			p.Role = role
		}
		p.Elsewhere = true
		return p, d.alter(ctx, p, "person.tie", name, "", subject, "people", func(tx *store.Tx) error {
			return errors.Join(tx.SetPerson(p), tx.SetSubject(p.ID, subject))
		})
	}
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	full := strings.TrimSpace(c.Name)
	if checkFullName(full) != nil {
		full = name
	}
	p = team.Person{ID: team.NewID(), Name: name, FullName: full, Role: role, Elsewhere: true, Created: time.Now().UTC()}
	return p, d.alter(ctx, p, "person.add", name, "", describePerson(p)+", through "+d.o.Provider.Name, "people", func(tx *store.Tx) error {
		// No password: the empty hash is one that nothing verifies against.
		return errors.Join(tx.AddPerson(p, ""), tx.SetSubject(p.ID, subject))
	})
}

func (d *Desk) roleOf(groups []string) (team.Role, bool) {
	for _, role := range team.Roles {
		for _, g := range groups {
			if d.o.Provider.Groups[g] == role {
				return role, true
			}
		}
	}
	return "", false
}

func (d *Desk) lastAdmin(ctx context.Context, p team.Person) (bool, error) {
	if p.Role != team.Admin {
		return false, nil
	}
	people, err := d.store.People(ctx)
	n := 0
	for _, q := range people {
		if q.Role == team.Admin {
			n++
		}
	}
	return n <= 1, err
}

// openLogin opens a login for somebody who has shown who they are.
func (d *Desk) openLogin(ctx context.Context, p team.Person, kind, label, from string) (string, error) {
	life := TokenLogin
	if kind == "console" {
		life = ConsoleLogin
	}
	if len(label) > 100 {
		label = strings.ToValidUTF8(label[:100], "")
	}
	pass, now := token.New(token.LoginPrefix), time.Now()
	sum := token.Hash(pass)
	return pass, d.store.Quietly(ctx, func(tx *store.Tx) error {
		return tx.AddLogin(sum[:], store.Login{Person: p, Kind: kind, Label: label, From: from, Created: now, Expires: now.Add(life)})
	})
}

// Logins returns the logins that a person may see: their own, and for admins
// everybody's.
func (d *Desk) Logins(ctx context.Context, by team.Person, pass string) ([]team.Login, error) {
	all, err := d.store.Logins(ctx, time.Now())
	if err != nil {
		return nil, err
	}
	sum := token.Hash(pass)
	present, err := d.store.LoginByHash(ctx, sum[:], time.Now())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	out := []team.Login{}
	for _, l := range all {
		if l.Person == by.Name || by.Role == team.Admin {
			l.Present = l.ID == present.ID
			out = append(out, l)
		}
	}
	return out, nil
}

// EndLogin ends a login at once.
func (d *Desk) EndLogin(ctx context.Context, by team.Person, id string) error {
	all, err := d.store.Logins(ctx, time.Now())
	if err != nil {
		return err
	}
	for _, l := range all {
		if l.ID == id && (l.Person == by.Name || by.Role == team.Admin) {
			return store.Explain(d.alter(ctx, by, "login.end", l.Person, l.Label, "", "people", func(tx *store.Tx) error { return tx.EndLoginByID(id) }), "login", id)
		}
	}
	return &team.NotFoundError{Kind: "login", Name: id}
}

// ResetPassword gives somebody a new one-time password and ends their logins.
func (d *Desk) ResetPassword(ctx context.Context, by team.Person, name string) (string, error) {
	p, err := d.store.PersonByName(ctx, name)
	if err != nil {
		return "", store.Explain(err, "person", name)
	}
	password := login.OneTimePassword()
	hash, err := d.passwords.Hash(ctx, password)
	if err != nil {
		return "", err
	}
	err = d.alter(ctx, by, "person.reset", name, "", "one-time password", "people", func(tx *store.Tx) error {
		return tx.SetPassword(p.ID, hash, true, nil)
	})
	return password, err
}

// RemovePerson removes somebody with their logins, sign-ins and own secrets.
func (d *Desk) RemovePerson(ctx context.Context, by team.Person, name string) error {
	p, err := d.store.PersonByName(ctx, name)
	if err != nil {
		return store.Explain(err, "person", name)
	}
	if last, err := d.lastAdmin(ctx, p); err != nil || last {
		return errors.Join(err, &team.ConflictError{Field: "name", Why: name + " is the last admin", Hint: "make somebody else an admin first"})
	}
	if p.ID == by.ID {
		return &team.ConflictError{Field: "name", Why: "you cannot remove yourself", Hint: "have another admin do it"}
	}
	err = d.alter(ctx, by, "person.remove", name, describePerson(p), "", "people", func(tx *store.Tx) error { return tx.RemovePerson(p.ID) })
	if errors.Is(err, store.ErrInUse) {
		return &team.ConflictError{Field: "name", Why: name + " still owns agents", Hint: "hand them over or remove them first (bouncer agent list)"}
	}
	return store.Explain(err, "person", name)
}

// invitationDays is for how long an invitation can be taken.
const (
	invitationDays = 7
	maxInvitations = 200
)

// NewInvitation is an invitation to be made.
type NewInvitation struct {
	Role team.Role `json:"role" enum:"admin,maintainer,member,auditor"`
	Note string    `json:"note,omitempty" doc:"whom it is for"`
}

// Invite makes an invitation and returns its link, which is shown once.
func (d *Desk) Invite(ctx context.Context, by team.Person, n NewInvitation) (team.Invitation, string, error) {
	if err := checkRole(n.Role); err != nil {
		return team.Invitation{}, "", err
	}
	if n.Note = strings.TrimSpace(n.Note); len(n.Note) > 100 {
		return team.Invitation{}, "", &team.FieldError{Field: "note", Why: "is longer than 100 characters"}
	}
	have, err := d.Invitations(ctx)
	if err != nil {
		return team.Invitation{}, "", err
	}
	open := 0
	for _, i := range have {
		if i.State == "open" {
			open++
		}
	}
	if open >= maxInvitations {
		return team.Invitation{}, "", &team.ConflictError{Why: "there are too many open invitations", Hint: "take some back first"}
	}
	pass, now := token.New(token.InvitationPrefix), time.Now().UTC()
	sum := token.Hash(pass)
	v := team.Invitation{ID: strings.ToLower(team.NewID()), Role: n.Role, Note: n.Note, By: by.Name, Created: now, Expires: now.AddDate(0, 0, invitationDays), State: "open"}
	err = d.alter(ctx, by, "invitation.make", v.ID, "", string(n.Role)+" "+n.Note, "people", func(tx *store.Tx) error { return tx.AddInvitation(v, sum[:]) })
	return v, d.o.Address + "/invitation/" + pass, err
}

func invitationState(v team.Invitation) string {
	switch {
	case v.Taken != "":
		return "taken"
	case time.Now().After(v.Expires):
		return "expired"
	}
	return "open"
}

// Invitations returns the invitations, newest first.
func (d *Desk) Invitations(ctx context.Context) ([]team.Invitation, error) {
	list, err := d.store.Invitations(ctx)
	for i := range list {
		list[i].State = invitationState(list[i])
	}
	return list, err
}

// Invitation returns the invitation behind a link.
func (d *Desk) Invitation(ctx context.Context, pass string) (team.Invitation, error) {
	sum := token.Hash(pass)
	v, err := d.store.InvitationByHash(ctx, sum[:])
	v.State = invitationState(v)
	return v, store.Explain(err, "invitation", "")
}

// WithdrawInvitation takes an invitation back.
func (d *Desk) WithdrawInvitation(ctx context.Context, by team.Person, id string) error {
	return store.Explain(d.alter(ctx, by, "invitation.withdraw", id, "", "", "people", func(tx *store.Tx) error { return tx.RemoveInvitation(id) }), "invitation", id)
}

// Joining is what somebody says who takes an invitation.
type Joining struct {
	Token    string `json:"token"`
	Name     string `json:"name"`
	FullName string `json:"fullName"`
	Password string `json:"password"`
}

// Join takes an invitation: it adds the person and opens a login.
func (d *Desk) Join(ctx context.Context, j Joining, from string) (string, team.Person, error) {
	if wait := d.brake.Wait("from " + from); wait > 0 {
		return "", team.Person{}, &team.ThrottledError{For: wait}
	}
	v, err := d.Invitation(ctx, j.Token)
	if err != nil {
		d.brake.Fail("from "+from, throttle.FreeByAddress)
		return "", team.Person{}, err
	}
	if v.State != "open" {
		return "", team.Person{}, &team.ConflictError{Field: "token", Why: "this invitation is " + v.State, Hint: "ask " + v.By + " for another one"}
	}
	j.FullName = strings.TrimSpace(j.FullName)
	if err := team.CheckName("name", j.Name); err != nil {
		return "", team.Person{}, err
	}
	if err := checkFullName(j.FullName); err != nil {
		return "", team.Person{}, err
	}
	if err := login.CheckPassword(j.Name, j.Password); err != nil {
		return "", team.Person{}, &team.FieldError{Field: "password", Why: err.Error()}
	}
	hash, err := d.passwords.Hash(ctx, j.Password)
	if err != nil {
		return "", team.Person{}, err
	}
	p := team.Person{ID: team.NewID(), Name: j.Name, FullName: j.FullName, Role: v.Role, Created: time.Now().UTC()}
	err = d.alter(ctx, p, "person.join", p.Name, "", describePerson(p)+", invited by "+v.By, "people", func(tx *store.Tx) error {
		if err := tx.TakeInvitation(v.ID, p.Name); err != nil {
			return err
		}
		return tx.AddPerson(p, hash)
	})
	if err != nil {
		return "", p, store.Explain(err, "person", p.Name)
	}
	token, err := d.openLogin(ctx, p, "console", "console", from)
	return token, p, err
}

package login

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync/atomic"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/gate"
	"bouncer/internal/oauth"
	"bouncer/internal/oidc"
	"bouncer/internal/people"
	"bouncer/internal/registry"
	"bouncer/internal/store"
	"bouncer/internal/throttle"
	"bouncer/internal/token"
)

// Options configure a Service. All but the last two are required.
type Options struct {
	Address  string // base URL under which people reach the service
	Redirect string // Bouncer's own redirect address
	Log      *slog.Logger
	// Provider is where people sign in besides; nil for local passwords only.
	Provider *oidc.Provider
	// PasswordCost is what hashing a password takes; zero is the default.
	PasswordCost Cost
}

// Service lets people in and keeps their logins. It is safe for concurrent use.
type Service struct {
	o         Options
	store     *store.Store
	registry  *registry.Registry
	people    *people.Service
	passwords *Passwords
	limiter   *throttle.Limiter
	pending   *oauth.Pending[attempt]
	problems  *oauth.Problems
	noteAfter atomic.Int64 // until when no use is noted, in nanoseconds since 1970
}

// New returns the service. The limiter and the problems are shared with others who
// let programs in, and send people to sign in.
func New(s *store.Store, r *registry.Registry, p *people.Service, limiter *throttle.Limiter, problems *oauth.Problems, o Options) *Service {
	return &Service{
		o: o, store: s, registry: r, people: p, passwords: NewPasswords(o.PasswordCost), limiter: limiter,
		pending: oauth.NewPending[attempt](nil), problems: problems,
	}
}

// How long logins last.
const (
	ConsoleLogin = 12 * time.Hour
	TokenLogin   = 90 * 24 * time.Hour
)

// ErrWrongPassword is returned for an unknown name as well as for a wrong
// password, so that names cannot be tried out.
var ErrWrongPassword = errors.New("the name or the password is wrong")

// FirstAdmin creates the first person, an admin, when there is nobody yet. chosen reads
// the password; nil for a one-time password, which is returned. It is "" when there was
// somebody, or the password was chosen.
func (svc *Service) FirstAdmin(ctx context.Context, name string, chosen func() (string, error)) (string, error) {
	people, err := svc.store.People(ctx)
	if err != nil || len(people) > 0 {
		return "", err
	}
	if err := team.CheckName("first-admin", name); err != nil {
		return "", err
	}
	password := OneTimePassword()
	if chosen != nil {
		if password, err = chosen(); err != nil {
			return "", fmt.Errorf("read the first admin's password: %w", err)
		}
		if err := CheckPassword(name, password); err != nil {
			return "", &team.FieldError{Field: "first-password", Why: err.Error()}
		}
	}
	hash, err := svc.passwords.Hash(ctx, password, "")
	if err != nil {
		return "", err
	}
	p := team.Person{ID: team.NewID(), Name: name, FullName: name, Role: team.Admin, MustChange: chosen == nil, Created: time.Now()}
	err = svc.store.Write(
		ctx,
		team.Change{Person: name, What: "person.add", Subject: name, After: "first admin"},
		func(tx *store.Tx) error {
			return tx.AddPerson(p, hash)
		},
	)
	if chosen != nil {
		password = ""
	}
	return password, err
}

// SignIn verifies a password and opens a login of the kind console or token.
// from is the caller's address. Errors are ErrWrongPassword and
// *team.ThrottledError.
func (svc *Service) SignIn(ctx context.Context, name, password, kind, label, from string) (string, team.Person, error) {
	if team.CheckName("name", name) != nil {
		// Nobody is called that. It counts for the address alone, and nothing of it is
		// kept.
		if wait := svc.limiter.Spend(throttle.From("sign-in", from)); wait > 0 {
			return "", team.Person{}, &team.ThrottledError{For: wait}
		}
		return "", team.Person{}, ErrWrongPassword
	}
	if err := svc.verify(ctx, name, password, from); err != nil {
		return "", team.Person{}, err
	}
	p, err := svc.store.PersonByName(ctx, name)
	if err != nil {
		return "", p, store.Explain(err, "person", name)
	}
	token, err := svc.openLogin(ctx, p, kind, label, from)
	return token, p, err
}

// verify holds a password against the stored hash. The try is counted before the
// hash is made, so that many at once are no way around the limit.
func (svc *Service) verify(ctx context.Context, name, password, from string) error {
	end, wait := svc.limiter.Begin(throttle.SignIn(name, from)...)
	if wait > 0 {
		return &team.ThrottledError{For: wait}
	}
	outcome := throttle.Abandoned
	defer func() { end(outcome) }()
	hash, err := svc.store.Password(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("read the password hash of %s: %w", name, err)
	}
	ok, err := svc.passwords.Verify(ctx, password, hash, from)
	if err != nil {
		return busy(err)
	}
	if outcome = throttle.Passed; !ok {
		outcome = throttle.Failed
		return ErrWrongPassword
	}
	return nil
}

// busy tells whoever found the queue full to come back.
func busy(err error) error {
	var full *gate.FullError
	if errors.As(err, &full) {
		return &team.ThrottledError{For: 2 * time.Second, Why: "too many people sign in at this moment"}
	}
	return err
}

// Who returns the person behind a login token of the given kind.
func (svc *Service) Who(ctx context.Context, pass, kind string) (team.Person, error) {
	sum := token.Hash(pass)
	l, err := svc.store.LoginByHash(ctx, sum[:], time.Now())
	if err != nil {
		return team.Person{}, store.Explain(err, "login", "")
	}
	if l.Kind != kind {
		return team.Person{}, &team.NotFoundError{Kind: "login"}
	}
	if now := time.Now(); l.Used == nil || now.Sub(*l.Used) > time.Minute {
		if err := svc.noteUse(ctx, sum[:], now); err != nil {
			return team.Person{}, err
		}
	}
	return l.Person, nil
}

// noteUse notes that a login was used. That this cannot be written now keeps nobody out: it is
// tried again later.
func (svc *Service) noteUse(ctx context.Context, hash []byte, now time.Time) error {
	if now.UnixNano() < svc.noteAfter.Load() {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, noteTime)
	defer stop()
	err := store.Note(ctx, svc.store, func(tx *store.Tx) error { return tx.LoginUsed(hash, now) })
	var away interface{ Unavailable() string }
	if errors.As(err, &away) || errors.Is(err, context.DeadlineExceeded) {
		svc.noteAfter.Store(now.Add(time.Minute).UnixNano())
		return nil
	}
	return err
}

// noteTime is how long somebody waits for it to be noted that they came.
const noteTime = time.Second

// SignOut ends a login.
func (svc *Service) SignOut(ctx context.Context, pass string) error {
	sum := token.Hash(pass)
	return svc.store.Update(ctx, func(tx *store.Tx) error { return tx.EndLogin(sum[:]) })
}

// ChangePassword sets the person's own password. All other logins end. from is the
// caller's address.
func (svc *Service) ChangePassword(ctx context.Context, p team.Person, pass, old, fresh, from string) error {
	err := svc.verify(ctx, p.Name, old, from)
	if errors.Is(err, ErrWrongPassword) {
		return &team.FieldError{Field: "old", Why: "is not the present password"}
	}
	if err != nil {
		return err
	}
	if err := CheckPassword(p.Name, fresh); err != nil {
		return &team.FieldError{Field: "new", Why: err.Error()}
	}
	if old == fresh {
		return &team.FieldError{Field: "new", Why: "is the present password; choose another one"}
	}
	hash, err := svc.passwords.Hash(ctx, fresh, from)
	if err != nil {
		return busy(err)
	}
	sum := token.Hash(pass)
	return svc.store.Write(ctx, team.Change{Person: p.Name, What: "person.password", Subject: p.Name}, func(tx *store.Tx) error {
		return tx.SetPassword(p.ID, hash, false, sum[:])
	})
}

// AddPerson adds somebody and returns the one-time password.
func (svc *Service) AddPerson(ctx context.Context, by team.Person, n apitype.NewPerson) (team.Person, string, error) {
	n.FullName = strings.TrimSpace(n.FullName)
	if err := team.CheckName("name", n.Name); err != nil {
		return team.Person{}, "", err
	}
	if err := people.CheckFullName(n.FullName); err != nil {
		return team.Person{}, "", err
	}
	if err := people.CheckRole(n.Role); err != nil {
		return team.Person{}, "", err
	}
	password := OneTimePassword()
	hash, err := svc.passwords.Hash(ctx, password, "")
	if err != nil {
		return team.Person{}, "", err
	}
	p := team.Person{ID: team.NewID(), Name: n.Name, FullName: n.FullName, Role: n.Role, MustChange: true, Created: time.Now().UTC()}
	err = svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "person.add", Subject: p.Name, After: people.Describe(p), Topics: []string{"people"}},
		func(tx *store.Tx) error {
			return tx.AddPerson(p, hash)
		},
	)
	return p, password, store.Explain(err, "person", p.Name)
}

// OneTime makes a one-time password, with what is stored of it.
func (svc *Service) OneTime(ctx context.Context) (password, hash string, err error) {
	password = OneTimePassword()
	hash, err = svc.passwords.Hash(ctx, password, "")
	return password, hash, err
}

// ResetPassword gives somebody a new one-time password and ends their logins.
func (svc *Service) ResetPassword(ctx context.Context, by team.Person, name string) (string, error) {
	p, err := svc.store.PersonByName(ctx, name)
	if err != nil {
		return "", store.Explain(err, "person", name)
	}
	password := OneTimePassword()
	hash, err := svc.passwords.Hash(ctx, password, "")
	if err != nil {
		return "", err
	}
	err = svc.registry.Write(
		ctx,
		registry.Change{By: by, What: "person.reset", Subject: name, After: "one-time password", Topics: []string{"people"}},
		func(tx *store.Tx) error {
			return tx.SetPassword(p.ID, hash, true, nil)
		},
	)
	return password, err
}

// openLogin opens a login for somebody who has shown who they are.
func (svc *Service) openLogin(ctx context.Context, p team.Person, kind, label, from string) (string, error) {
	life := TokenLogin
	if kind == "console" {
		life = ConsoleLogin
	}
	if len(label) > 100 {
		label = strings.ToValidUTF8(label[:100], "")
	}
	pass, now := token.New(token.LoginPrefix), time.Now()
	sum := token.Hash(pass)
	return pass, svc.store.Update(ctx, func(tx *store.Tx) error {
		return tx.AddLogin(sum[:], store.Login{Person: p, Kind: kind, Label: label, From: from, Created: now, Expires: now.Add(life)})
	})
}

// Logins returns the logins that a person may see: their own, and for admins
// everybody's.
func (svc *Service) Logins(ctx context.Context, by team.Person, pass string) ([]team.Login, error) {
	all, err := svc.store.Logins(ctx, time.Now())
	if err != nil {
		return nil, err
	}
	sum := token.Hash(pass)
	present, err := svc.store.LoginByHash(ctx, sum[:], time.Now())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	out := []team.Login{}
	for _, l := range all {
		if access.May(by, access.SeeLogins, l.Person) {
			l.Present = l.ID == present.ID
			out = append(out, l)
		}
	}
	return out, nil
}

// EndLogin ends a login at once.
func (svc *Service) EndLogin(ctx context.Context, by team.Person, id string) error {
	all, err := svc.store.Logins(ctx, time.Now())
	if err != nil {
		return err
	}
	for _, l := range all {
		if l.ID == id && access.May(by, access.EndLogins, l.Person) {
			return store.Explain(
				svc.registry.Write(
					ctx,
					registry.Change{By: by, What: "login.end", Subject: l.Person, Before: l.Label, Topics: []string{"people"}},
					func(tx *store.Tx) error { return tx.EndLoginByID(id) },
				),
				"login",
				id,
			)
		}
	}
	return &team.NotFoundError{Kind: "login", Name: id}
}

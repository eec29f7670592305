// Package notify tells people by mail what concerns them: calls that wait for their decision,
// incidents, secrets that end, budgets that are spent. Each says what of it, and when: at
// once or gathered, and not in their quiet hours. What is to be told is kept until it is
// sent, so that a restart loses nothing.
package notify

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/quiet"
	"bouncer/internal/core/team"
	"bouncer/internal/mail"
	"bouncer/internal/store"
)

// Limits on what is to be told.
const (
	maxQueued = 256 // events that nobody has looked at yet
	maxDue    = 200 // for one person
	maxTries  = 10
	lookEvery = 15 * time.Second
	secretsIn = time.Hour // how often it is looked which secrets end
	tryEvery  = 20 * time.Second
	toldFor   = 400 * 24 * time.Hour // what was told is forgotten after that
	maxShown  = 2_000                // bytes of arguments in a mail
)

// Sender sends one mail.
type Sender interface {
	Send(ctx context.Context, to, subject, text string) error
	Server() string
}

// Room knows of held calls.
type Room interface {
	Describe(ctx context.Context, id string) (apitype.HeldCall, []string, error)
	MayDecide(ctx context.Context, id string, by team.Person) (bool, error)
}

// Options are what a Service needs. All are required but Sender and Now.
type Options struct {
	Store   *store.Store
	Sender  Sender // nil: no mail is sent
	Room    func() Room
	Console string // base URL under which people reach the console
	Masker  func() *mask.Masker
	Log     *slog.Logger
	Now     func() time.Time // nil is time.Now
	// First reports whether nobody else told the same before, where several nodes find it out; nil
	// for a service that is one node.
	First func(ctx context.Context, about string) bool
}

// Service tells people. It is safe for concurrent use; Start and Close frame its life.
type Service struct {
	o      Options
	events chan event
	stop   context.CancelFunc
	ended  chan struct{}

	mu    sync.Mutex // guards what follows
	state apitype.MailState
	tried map[string]time.Time // when somebody last sent a mail for a trial, by their id
}

// event is something to be told: whom it concerns and in which words is found out apart from
// whom it happened to.
type event struct {
	topic quiet.Topic
	tell  func(ctx context.Context) (message, error)
}

// message is what is told, and to whom it may be.
type message struct {
	subject, text string
	about         string // told once; "" for each time
	may           func(ctx context.Context, p team.Person) (bool, error)
}

// New returns the service.
func New(o Options) *Service {
	if o.Now == nil {
		o.Now = time.Now
	}
	s := &Service{o: o, events: make(chan event, maxQueued), ended: make(chan struct{}), stop: func() {}}
	if o.Sender != nil {
		s.state.Server = o.Sender.Server()
	}
	return s
}

// Start begins to tell.
func (svc *Service) Start() {
	ctx, stop := context.WithCancel(context.Background())
	svc.stop = stop
	go svc.run(ctx)
}

// Close ends that; what is not sent yet is sent after the next start.
func (svc *Service) Close() {
	svc.stop()
	<-svc.ended
}

func (svc *Service) run(ctx context.Context) {
	defer close(svc.ended)
	if svc.o.Sender == nil {
		<-ctx.Done()
		return
	}
	look, secrets := time.NewTicker(lookEvery), time.NewTicker(secretsIn)
	defer look.Stop()
	defer secrets.Stop()
	svc.tell(ctx, svc.endingSecrets)
	for {
		svc.tell(ctx, svc.Deliver)
		select {
		case e := <-svc.events:
			svc.tell(ctx, func(ctx context.Context) error { return svc.note(ctx, e) })
		case <-look.C:
		case <-secrets.C:
			svc.tell(ctx, svc.endingSecrets)
		case <-ctx.Done():
			return
		}
	}
}

func (svc *Service) tell(ctx context.Context, fn func(context.Context) error) {
	if err := fn(ctx); err != nil && ctx.Err() == nil {
		svc.failed(err)
	}
}

func (svc *Service) failed(err error) {
	svc.o.Log.Error("people could not be told by mail", "error", err)
	now := svc.o.Now().UTC()
	svc.mu.Lock()
	defer svc.mu.Unlock()
	svc.state.Failed++
	svc.state.Error, svc.state.ErrorAt = err.Error(), &now
}

// queue takes an event; it does not wait.
func (svc *Service) queue(e event) {
	if svc.o.Sender == nil {
		return
	}
	select {
	case svc.events <- e:
	default:
		svc.failed(errors.New("too many events are queued, so that one was left out"))
	}
}

// HeldCall tells those who may decide it of a call that waits.
func (svc *Service) HeldCall(id string) {
	svc.queue(event{quiet.Held, func(ctx context.Context) (message, error) {
		call, _, err := svc.o.Room().Describe(ctx, id)
		if err != nil {
			return message{}, fmt.Errorf("look up the held call: %w", err)
		}
		text := fmt.Sprintf(
			"%s asks to call %s of server %s.\nArguments: %s\nRule %s holds it until %s.\n\nDecide: %s/held\nor: bouncer held show %s",
			call.Agent,
			call.Tool,
			call.Server,
			shorten(call.Arguments),
			call.Rule,
			call.Until.UTC().Format(time.RFC1123),
			svc.o.Console,
			call.ID,
		)
		return message{
			subject: fmt.Sprintf("%s of %s waits for a decision", call.Tool, call.Server), text: text,
			may: func(ctx context.Context, p team.Person) (bool, error) { return svc.o.Room().MayDecide(ctx, id, p) },
		}, nil
	}})
}

// Incident tells of an incident that began, or is over.
func (svc *Service) Incident(id string, over bool) {
	svc.queue(event{quiet.Incidents, func(ctx context.Context) (message, error) {
		i, err := svc.o.Store.Incident(ctx, id)
		if err != nil {
			return message{}, fmt.Errorf("look up the incident: %w", err)
		}
		subject := fmt.Sprintf("%s: %s", i.Server, i.Title)
		if over {
			subject = i.Server + " works again: " + i.Title + ", is over"
		}
		text := fmt.Sprintf("%s\nCause: %s\nFirst seen: %s", subject, i.Cause, i.First.UTC().Format(time.RFC1123))
		if !over {
			text += "\nWhat helps: " + i.Remedy
		}
		text += fmt.Sprintf("\n\nMore: %s/incidents/%s\nor: bouncer incident show %s", svc.o.Console, i.ID, i.ID)
		return message{subject: subject, text: text, may: anybody}, nil
	}})
}

// BudgetSpent tells of a budget that an agent has spent: its owner, and those who see all
// agents.
func (svc *Service) BudgetSpent(agentID, budget, text string) {
	svc.queue(event{quiet.Budgets, func(ctx context.Context) (message, error) {
		agents, err := svc.o.Store.Agents(ctx, svc.o.Now())
		if err != nil {
			return message{}, fmt.Errorf("look up the agent: %w", err)
		}
		for _, a := range agents {
			if a.ID == agentID {
				return message{
					subject: fmt.Sprintf("budget %s is spent by %s", budget, a.Name),
					text:    fmt.Sprintf("%s: %s\n\nMore: %s/budgets\nor: bouncer budget list", a.Name, text, svc.o.Console),
					about:   fmt.Sprintf("budget %s %s %s", budget, a.ID, text), // which says until when it is spent
					may: func(_ context.Context, p team.Person) (bool, error) {
						return access.May(p, access.SeeAgents, a.Owner), nil
					},
				}, nil
			}
		}
		return message{}, nil // it is gone meanwhile
	}})
}

func anybody(context.Context, team.Person) (bool, error) { return true, nil }

// endingSecrets tells of secrets that end soon, each once when it is seen first, once in its
// last three days, and once when it has ended.
func (svc *Service) endingSecrets(ctx context.Context) error {
	secrets, err := svc.o.Store.Secrets(ctx)
	if err != nil {
		return fmt.Errorf("look which secrets end: %w", err)
	}
	now := svc.o.Now()
	if err := svc.forget(ctx, now.Add(-toldFor)); err != nil {
		return err
	}
	for _, s := range secrets {
		warning := s.WarningAt(now)
		if warning == "" || s.Ends == nil {
			continue
		}
		stage := "soon"
		switch left := s.Ends.Sub(now); {
		case left <= 0:
			stage = "over"
		case left <= 3*24*time.Hour:
			stage = "days"
		}
		name, owner := s.Name, s.Owner
		err := svc.note(ctx, event{quiet.Secrets, func(context.Context) (message, error) {
			return message{
				subject: fmt.Sprintf("secret %s: %s", name, warning),
				text: fmt.Sprintf("%s: %s\nIt ends on %s.\n\nMore: %s/secrets\nor: bouncer secret rotate %s", name, warning,
					s.Ends.UTC().Format(time.RFC1123), svc.o.Console, name),
				about: fmt.Sprintf("secret %s %s %d", s.ID, stage, s.Ends.Unix()),
				may: func(_ context.Context, p team.Person) (bool, error) {
					return access.May(p, access.RotateSecrets, owner), nil
				},
			}, nil
		}})
		if err != nil {
			return err
		}
	}
	return nil
}

// State tells how the sending goes.
func (svc *Service) State() apitype.MailState {
	svc.mu.Lock()
	defer svc.mu.Unlock()
	return svc.state
}

// Wish is what a person wants.
func (svc *Service) Wish(ctx context.Context, by team.Person) (apitype.MailWish, error) {
	all, err := svc.wishes(ctx)
	if err != nil {
		return apitype.MailWish{}, err
	}
	w, err := all[by.ID].Checked()
	return apitype.MailWish{Wish: w, Sends: svc.o.Sender != nil}, err
}

// SetWish alters what a person wants.
func (svc *Service) SetWish(ctx context.Context, by team.Person, w quiet.Wish) (apitype.MailWish, error) {
	w, err := w.Checked()
	if err != nil {
		return apitype.MailWish{}, err
	}
	err = svc.o.Store.Write(ctx, team.Change{Person: by.Name, What: "notices.set", Subject: by.Name}, func(tx *store.Tx) error {
		return tx.SetWish(by.ID, w)
	})
	return apitype.MailWish{Wish: w, Sends: svc.o.Sender != nil}, err
}

// Try sends a person a mail of nothing, now.
func (svc *Service) Try(ctx context.Context, by team.Person) error {
	if svc.o.Sender == nil {
		return &team.ConflictError{
			Field: "mail-server", Why: "no mail is sent", Hint: "start the service with mail-server and mail-from; see bouncer serve -h",
		}
	}
	w, err := svc.Wish(ctx, by)
	if err != nil {
		return err
	}
	if w.Mail == "" {
		return &team.FieldError{Field: "mail", Why: "has to be given first: bouncer mail set --to ADDRESS"}
	}
	if wait := svc.waitToTry(by.ID); wait > 0 {
		return &team.ThrottledError{For: wait, Why: "a mail was sent for a trial just now"}
	}
	err = svc.o.Sender.Send(ctx, w.Mail, "Bouncer: a trial", "Mail from Bouncer reaches you here.\n\n"+svc.o.Console)
	if err != nil {
		svc.failed(err)
		return &team.ConflictError{
			Field: "mail",
			Why:   "the mail was not taken: " + svc.masked(err.Error()),
			Hint:  "look at the address, and at the setting mail-server",
		}
	}
	svc.sent()
	return nil
}

// waitToTry is how long somebody has to wait before another trial: whoever sends one says to
// whom. Zero notes a trial of now.
func (svc *Service) waitToTry(person string) time.Duration {
	svc.mu.Lock()
	defer svc.mu.Unlock()
	now := svc.o.Now()
	for who, at := range svc.tried {
		if now.Sub(at) >= tryEvery {
			delete(svc.tried, who)
		}
	}
	if last, recent := svc.tried[person]; recent {
		return tryEvery - now.Sub(last)
	}
	if svc.tried == nil {
		svc.tried = map[string]time.Time{}
	}
	svc.tried[person] = now
	return 0
}

// shorten bounds arguments, which can be large; the rest is where the call is decided.
func shorten(arguments []byte) string {
	if len(arguments) <= maxShown {
		return string(arguments)
	}
	return strings.ToValidUTF8(string(arguments[:maxShown]), "") + " … (there is more)"
}

func (svc *Service) sent() {
	svc.mu.Lock()
	defer svc.mu.Unlock()
	svc.state.Sent++
}

func (svc *Service) masked(text string) string { return svc.o.Masker().Text(text) }

var _ Sender = (*mail.Sender)(nil)

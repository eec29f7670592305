package credential

import (
	"context"
	"fmt"
	"strings"
	"time"

	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/locker"
)

// Input is a value as somebody enters it, or where it is to be read.
type Input struct {
	Raw    string
	Source string     // instead of Raw; admins only, since it reads where the service runs
	Ends   *time.Time // when it ends, where the value does not say
}

// Entered is a value that was read and sealed, but is not stored yet.
type Entered struct {
	Value *Value
	Box   locker.Box
}

// Enter reads a value, fills in what can be told of it, and seals it. Nothing is in
// force yet. Errors are *team.FieldError for "value" or "source" besides the usual.
func (s *Set) Enter(ctx context.Context, by team.Person, secret *team.Secret, in Input) (Entered, error) {
	value, err := s.read(ctx, by, secret, in)
	if err != nil {
		return Entered{}, err
	}
	kept := value
	if secret.Source != "" {
		kept = locker.NewSecret(secret.Source) // the value itself is not kept
	}
	box, err := s.o.Keys.Seal(secret.ID, kept)
	if err != nil {
		return Entered{}, fmt.Errorf("seal the value of a secret: %w", err)
	}
	v := s.newValue(secret.ID, secret.Name, secret.Kind, secret.Source)
	v.present = value
	if secret.Source != "" {
		v.present = locker.Secret{}
	}
	return Entered{Value: v, Box: box}, nil
}

func (s *Set) read(ctx context.Context, by team.Person, secret *team.Secret, in Input) (locker.Secret, error) {
	secret.Facts, secret.Ends, secret.Source = team.Facts{}, in.Ends, strings.TrimSpace(in.Source)
	raw := in.Raw
	if secret.Source != "" {
		outside, err := s.readSource(ctx, by, secret.Source, raw)
		if err != nil {
			return locker.Secret{}, err
		}
		raw = outside.Reveal()
	}
	v, notes, err := locker.Read(secret.Kind, raw)
	if err != nil {
		return v, &team.FieldError{Field: "value", Why: err.Error()}
	}
	facts, ends := locker.Look(v)
	facts.Notes = notes
	secret.Facts = facts
	if secret.Ends == nil && !ends.IsZero() {
		secret.Ends = &ends
	}
	s.o.Masks.Learn(v.Reveal())
	return v, nil
}

func (s *Set) readSource(ctx context.Context, by team.Person, source, raw string) (locker.Secret, error) {
	bad := func(why string) (locker.Secret, error) {
		return locker.Secret{}, &team.FieldError{Field: "source", Why: why}
	}
	switch {
	case raw != "":
		return bad("and value exclude each other; give one of them")
	case !access.May(by, access.SourceSecrets, ""):
		return bad("can be given by an admin only, since it reads where the service runs")
	case strings.HasPrefix(source, "command ") && s.o.NoCommands:
		return bad("cannot be a command: the service was started with processes off")
	}
	if err := locker.CheckSource(source); err != nil {
		return bad(err.Error())
	}
	got, err := locker.Outside(ctx, source)
	if err != nil {
		return bad("cannot be read: " + err.Error())
	}
	return got, nil
}

// Prepare lets an entered value be the one that is put in force when it has been
// stored, so that what is known of it by then is kept.
func (s *Set) Prepare(e Entered) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.prepared) >= maxPrepared {
		clear(s.prepared) // of registrations that came to nothing
	}
	s.prepared[e.Value.id] = e.Value
}

// maxPrepared bounds the values that are about to be stored.
const maxPrepared = 200

// Try puts a value in the place of a secret of the team's, for this View alone.
func (v *View) Try(e Entered) {
	v.values[e.Value.id] = e.Value
	v.team[e.Value.name] = e.Value
}

// TryRotated puts a value in the place of what is stored of the same secret, whoever
// holds it, for this View alone.
func (v *View) TryRotated(e Entered) {
	v.values[e.Value.id] = e.Value
	if before := v.team[e.Value.name]; before != nil && before.id == e.Value.id {
		v.team[e.Value.name] = e.Value
	}
}

// TryOwn puts a value in use for a holder at a server, for this View alone.
func (v *View) TryOwn(e Entered, serverID string, h team.Holder) {
	v.values[e.Value.id] = e.Value
	v.own[rowKey(serverID, h)] = e.Value.id
}

// NewSecret is a new secret for one server, of the kind that the server takes.
func NewSecret(s team.Server, name string, now time.Time) *team.Secret {
	n := &team.Secret{ID: team.NewID(), Name: name, Kind: team.KindBearer, Created: now}
	switch {
	case s.Transport == team.Stdio:
		n.Kind = team.KindEnvironment
	case s.SecretHeader != "" || s.SecretQuery != "":
		n.Kind = team.KindValue
	}
	return n
}

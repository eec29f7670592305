package notify

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/mask"
	"bouncer/internal/core/quiet"
	"bouncer/internal/core/team"
	"bouncer/internal/locker"
	"bouncer/internal/mail"
	"bouncer/internal/store"
)

// outbox is a sender that keeps what it sends.
type outbox struct {
	mu    sync.Mutex
	sent  []string // to, subject and text
	fails []error
}

func (o *outbox) Server() string { return "mail.skerrow.example:587" }

func (o *outbox) Send(_ context.Context, to, subject, text string) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.fails) > 0 {
		err := o.fails[0]
		o.fails = o.fails[1:]
		return err
	}
	o.sent = append(o.sent, to+"\n"+subject+"\n"+text)
	return nil
}

func (o *outbox) take() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := o.sent
	o.sent = nil
	return out
}

// Secrets that end are told once at each stage; what is told waits for its time, through
// restarts and failures, and goes as one mail.
func TestMailWaitsForItsTime(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	now := time.Date(2026, 11, 23, 23, 0, 0, 0, time.UTC)
	out := &outbox{}
	start := func() *Service {
		return New(Options{
			Store: s, Sender: out, Console: "https://bouncer.skerrow.example", Log: slog.New(slog.DiscardHandler),
			Masker: func() *mask.Masker { return nil }, Now: func() time.Time { return now },
		})
	}
	marit := team.Person{ID: team.NewID(), Name: "marit", FullName: "Marit Aune", Role: team.Admin, Created: now}
	require.NoError(t, s.Write(t.Context(), team.Change{}, func(tx *store.Tx) error { return tx.AddPerson(marit, "x") }))
	_, err = start().SetWish(t.Context(), marit, quiet.Wish{Mail: "marit@skerrow.example", Topics: quiet.Topics, From: "22:00", To: "07:00"})
	require.NoError(t, err)
	svc := start()
	step := func() []string {
		t.Helper()
		require.NoError(t, svc.Deliver(t.Context()))
		return out.take()
	}
	ends := now.Add(10 * 24 * time.Hour)
	key := team.Secret{ID: team.NewID(), Name: "sailings-token", Kind: "bearer", Created: now, Ends: &ends}
	require.NoError(t, s.Write(t.Context(), team.Change{}, func(tx *store.Tx) error {
		return tx.AddSecret(key, locker.Box{KeyID: "k", DataKey: []byte("x"), Value: []byte("y")})
	}))
	note := func(topic quiet.Topic, subject, text string) {
		t.Helper()
		require.NoError(t, svc.note(t.Context(), event{topic, func(context.Context) (message, error) {
			return message{subject: subject, text: text, may: anybody}, nil
		}}))
	}
	require.NoError(t, svc.endingSecrets(t.Context()))
	require.NoError(t, svc.endingSecrets(t.Context()))
	note(quiet.Incidents, "customs: wrong path", "look elsewhere")
	assert.Empty(t, step(), "the hours are quiet")
	now = now.Add(8*time.Hour + time.Second)
	svc = start() // after a restart
	out.fails = []error{errors.New("the line is down")}
	require.Error(t, svc.Deliver(t.Context()))
	assert.Empty(t, step(), "it is not tried again at once")
	now = now.Add(2 * time.Minute)
	mails := step()
	require.Len(t, mails, 1)
	assert.True(t, strings.HasPrefix(mails[0], "marit@skerrow.example\nBouncer: 2 notices, the last: customs: wrong path\n"), mails[0])
	assert.Equal(t, 1, strings.Count(mails[0], "bouncer secret rotate sailings-token"), "once")
	now = ends.Add(-36 * time.Hour)
	require.NoError(t, svc.endingSecrets(t.Context()))
	require.Len(t, step(), 1, "once more in its last days")
	require.NoError(t, svc.endingSecrets(t.Context()))
	assert.Empty(t, step())

	note(quiet.Held, "a\nBcc: x@skerrow.example", "t")
	out.fails = []error{&mail.RefusedError{Cause: errors.New("no such box")}}
	require.Error(t, svc.Deliver(t.Context()))
	now = now.Add(48 * time.Hour)
	assert.Empty(t, step(), "what is refused for good is not tried again")
	for range 300 {
		note(quiet.Held, "a\nBcc: x@skerrow.example", "t")
	}
	mails = step()
	require.Len(t, mails, 1)
	assert.Contains(t, mails[0], "Bouncer: 200 notices, the last: a Bcc: x@skerrow.example\n", "bounded, and of one line")
	assert.Contains(t, mails[0], "There was more")
}

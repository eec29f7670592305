package credential

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/link"
	"bouncer/internal/locker"
	"bouncer/internal/store"
)

// outsideFor is how long a value that was read elsewhere is used before it is
// read again.
const outsideFor = time.Minute

// outsideTime is how long reading a value elsewhere may take.
const outsideTime = 15 * time.Second

// Value is one secret in force. It is safe for concurrent use.
type Value struct {
	set         *Set
	id          string
	name        string
	kind        string
	source      string // where it is read; "" for the locker
	fingerprint string // tells values apart; it holds no secret
	used        *atomic.Int64
	reading     singleflight.Group

	mu         sync.Mutex // guards what follows; never held while reading
	present    locker.Secret
	prior      locker.Secret // still tried until then
	priorUntil time.Time
	fallen     bool      // the present one was refused, the prior one is used
	read       time.Time // when an outside value was read
	broken     error     // it could not be opened
}

// is reports whether a stored secret is this one, unaltered.
func (v *Value) is(row store.SealedSecret, present, prior locker.Secret, broken bool) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	same := row.Source != "" || v.present.Reveal() == present.Reveal()
	return same && v.source == row.Source && v.kind == row.Kind && v.prior.Reveal() == prior.Reveal() && (v.broken != nil) == broken
}

func (v *Value) kept() (present, prior locker.Secret) {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.present, v.prior
}

// Now returns the value to be sent.
func (v *Value) Now(ctx context.Context) (locker.Secret, error) {
	now := v.set.o.Now()
	v.used.Store(now.UnixMilli())
	v.mu.Lock()
	present, broken := v.present, v.broken
	if v.fallen && now.Before(v.priorUntil) {
		present = v.prior
	}
	fresh := v.source == "" || (now.Sub(v.read) < outsideFor && !v.present.Empty())
	v.mu.Unlock()
	switch {
	case broken != nil:
		return locker.Secret{}, v.failure(broken)
	case fresh:
		return present, nil
	}
	got, err := v.fetch(ctx)
	if err != nil && ctx.Err() == nil {
		err = v.failure(err)
	}
	return got, err
}

// fetch reads an outside value, once for all who wait for it.
func (v *Value) fetch(ctx context.Context) (locker.Secret, error) {
	result := v.reading.DoChan("", func() (any, error) {
		v.set.working.Add(1)
		defer v.set.working.Done()
		ctx, stop := context.WithTimeout(v.set.ctx, outsideTime)
		defer stop()
		return v.readOutside(ctx)
	})
	select {
	case r := <-result:
		got, _ := r.Val.(locker.Secret)
		return got, r.Err
	case <-ctx.Done():
		return locker.Secret{}, ctx.Err()
	}
}

func (v *Value) readOutside(ctx context.Context) (locker.Secret, error) {
	if strings.HasPrefix(v.source, "command ") && v.set.o.NoCommands {
		return locker.Secret{}, fmt.Errorf("the service was started with processes off")
	}
	raw, err := locker.Outside(ctx, v.source)
	if err != nil {
		return locker.Secret{}, err
	}
	got, _, err := locker.Read(v.kind, raw.Reveal())
	if err != nil {
		return locker.Secret{}, fmt.Errorf("what %s gives %w", v.source, err)
	}
	v.set.o.Masks.Learn(got.Reveal())
	v.mu.Lock()
	defer v.mu.Unlock()
	v.present, v.read = got, v.set.o.Now()
	return got, nil
}

func (v *Value) failure(err error) error {
	return link.NewFailure(diagnosis.Finding{
		Cause: diagnosis.ValueMissing, Message: fmt.Sprintf("secret %s cannot be read: %v", v.name, err),
		Remedy: "mend its source, or store it anew (bouncer secret rotate)", Actor: "whoever runs Bouncer",
	}, "", err)
}

// refused is told that a server does not take a value; it reports whether there
// is another one by now.
func (v *Value) refused(ctx context.Context, sent locker.Secret) bool {
	v.mu.Lock()
	if v.source != "" {
		before, age := v.present.Reveal(), v.set.o.Now().Sub(v.read)
		v.mu.Unlock()
		if age < time.Second {
			return false
		}
		got, err := v.fetch(ctx)
		return err == nil && got.Reveal() != before
	}
	defer v.mu.Unlock()
	if !v.fallen && v.present.Reveal() == sent.Reveal() && !v.prior.Empty() && v.set.o.Now().Before(v.priorUntil) {
		v.fallen = true
		v.set.o.Log.Warn("a rotated secret is refused; the value before is used while it may be", "secret", v.name, "until", v.priorUntil)
		return true
	}
	return v.fallen && v.present.Reveal() == sent.Reveal()
}

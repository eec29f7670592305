package registry

import (
	"context"
	"fmt"
	"sync"
	"time"

	"bouncer/internal/snapshot"
	"bouncer/internal/store"
)

// usage is when passes and secrets were last used: counted in memory, written now
// and then.
type usage struct {
	store *store.Store

	rate int // requests a second with one pass; 0 for without a limit

	mu      sync.Mutex                 // guards the maps; never held while writing
	passes  map[string]*snapshot.Meter // by pass id
	written map[string]int64           // by the id of a pass or a secret: what the store knows
}

func newUsage(s *store.Store, perSecond int) *usage {
	return &usage{store: s, rate: perSecond, passes: map[string]*snapshot.Meter{}, written: map[string]int64{}}
}

// keep returns the meters of the passes that are there, and forgets all others.
func (u *usage) keep(ids []string) map[string]*snapshot.Meter {
	u.mu.Lock()
	defer u.mu.Unlock()
	next := make(map[string]*snapshot.Meter, len(ids))
	for _, id := range ids {
		if next[id] = u.passes[id]; next[id] == nil {
			next[id] = snapshot.NewMeter(u.rate)
		}
	}
	for id := range u.passes {
		if next[id] == nil {
			delete(u.written, id)
		}
	}
	u.passes = next
	return next
}

// write writes what is not written yet. secrets is when each was last sent, by id;
// of those a minute is exact enough.
func (u *usage) write(ctx context.Context, secrets map[string]int64) error {
	freshPasses, freshSecrets := map[string]int64{}, map[string]int64{}
	u.mu.Lock()
	for id, meter := range u.passes {
		if n := meter.Used(); n > u.written[id] {
			freshPasses[id] = n
		}
	}
	for id, n := range secrets {
		if n/60_000 > u.written[id]/60_000 {
			freshSecrets[id] = n
		}
	}
	u.mu.Unlock()
	if len(freshPasses)+len(freshSecrets) == 0 {
		return nil
	}
	err := store.Note(context.WithoutCancel(ctx), u.store, func(tx *store.Tx) error {
		for id, n := range freshPasses {
			if err := tx.PassUsed(id, time.UnixMilli(n)); err != nil {
				return err
			}
		}
		for id, n := range freshSecrets {
			if err := tx.SecretUsed(id, time.UnixMilli(n)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("write when passes and secrets were used: %w", err)
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	for id, n := range freshPasses {
		if u.passes[id] != nil {
			u.written[id] = n
		}
	}
	for id, n := range freshSecrets {
		u.written[id] = n
	}
	for id := range u.written {
		if _, secret := secrets[id]; !secret && u.passes[id] == nil {
			delete(u.written, id)
		}
	}
	return nil
}

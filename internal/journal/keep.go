package journal

import (
	"context"
	"fmt"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
)

// Keep is how long records are kept, and how much room the state may take; zero for
// without a bound.
type Keep struct {
	Age  time.Duration
	Size int64 // bytes of the database
}

// Oldest is the part of the store that makes room.
type Oldest interface {
	// Remove removes some of the oldest calls before a key, and returns how
	// many.
	Remove(ctx context.Context, before calls.Key, most int) (int, error)
	// Merge puts small blocks of calls together, and returns how many blocks it made.
	Merge(ctx context.Context, now time.Time) (int, error)
	// Size is how many bytes of the database are in use.
	Size(ctx context.Context) (int64, error)
}

// How often it is looked whether something is to go, and how much goes at once: few
// enough that the writer is not held up noticeably.
const (
	keepEvery = time.Minute
	keepSlice = 2000
	keepPause = 20 * time.Millisecond
)

// keeper removes what is too old or too much, in small steps.
type keeper struct {
	keep Keep
	from Oldest
	now  func() time.Time
}

// run looks at once and then every minute, until ctx ends.
func (j *Journal) tidy(ctx context.Context) {
	defer close(j.tidied)
	t := time.NewTicker(keepEvery)
	defer t.Stop()
	for {
		if _, err := j.keeper.from.Merge(ctx, j.keeper.now()); err != nil && ctx.Err() == nil {
			j.o.Log.Error("small blocks of the journal could not be put together", "error", err)
		}
		n, err := j.keeper.step(ctx)
		if err != nil && ctx.Err() == nil {
			j.o.Log.Error("old records could not be removed", "error", err)
		}
		if n > 0 {
			j.o.Log.Info("old records were removed from the journal", "records", n)
		}
		select {
		case <-t.C:
		case <-j.many:
		case <-ctx.Done():
			return
		}
	}
}

// step removes everything that is due.
func (k *keeper) step(ctx context.Context) (removed int, err error) {
	for k.keep.Age > 0 {
		n, err := k.from.Remove(ctx, segment.KeyAt(k.now().Add(-k.keep.Age)), keepSlice)
		removed += n
		if err != nil {
			return removed, fmt.Errorf("remove records by age: %w", err)
		}
		if n == 0 || !pause(ctx) {
			break
		}
	}
	for k.keep.Size > 0 {
		size, err := k.from.Size(ctx)
		if err != nil {
			return removed, fmt.Errorf("look how large the journal is: %w", err)
		}
		if size <= k.keep.Size {
			break
		}
		n, err := k.from.Remove(ctx, segment.LastKey, keepSlice)
		removed += n
		if err != nil {
			return removed, fmt.Errorf("remove records by size: %w", err)
		}
		if n == 0 || !pause(ctx) {
			break
		}
	}
	return removed, nil
}

// pause lets others write; false when ctx has ended.
func pause(ctx context.Context) bool {
	select {
	case <-time.After(keepPause):
		return true
	case <-ctx.Done():
		return false
	}
}

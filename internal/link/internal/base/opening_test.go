package base

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever needs a conversation while it is being opened waits for that attempt
// and gets its outcome, also when it fails: nobody tries again after the other.
func TestAnAttemptIsSharedWithItsFailure(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var o Opening[int]
		var attempts atomic.Int64
		open := func(ctx context.Context) (int, error) {
			attempts.Add(1)
			select {
			case <-time.After(time.Minute):
				return 0, errors.New("unreachable")
			case <-ctx.Done():
				return 0, ctx.Err()
			}
		}
		began := time.Now()
		var wait sync.WaitGroup
		for range 100 {
			wait.Go(func() {
				_, err := o.Do(t.Context(), 30*time.Second, open)
				assert.ErrorIs(t, err, context.DeadlineExceeded)
			})
		}
		wait.Wait()
		assert.EqualValues(t, 1, attempts.Load())
		assert.Equal(t, 30*time.Second, time.Since(began), "and nobody waited longer than one attempt takes")
	})
}

func TestAnAttemptOutlivesTheCallerWhoBeganIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var o Opening[int]
		open := func(context.Context) (int, error) { time.Sleep(10 * time.Second); return 7, nil }
		impatient, leave := context.WithCancel(t.Context())
		left := make(chan error, 1)
		go func() { _, err := o.Do(impatient, time.Minute, open); left <- err }()
		synctest.Wait()
		patient := make(chan int, 1)
		go func() {
			v, err := o.Do(t.Context(), time.Minute, open)
			assert.NoError(t, err)
			patient <- v
		}()
		synctest.Wait()
		leave()
		require.ErrorIs(t, <-left, context.Canceled, "whoever leaves does not wait")
		assert.Equal(t, 7, <-patient)
	})
}

func TestClosingEndsAnAttempt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var o Opening[int]
		ended := make(chan error, 1)
		go func() {
			_, err := o.Do(t.Context(), time.Hour, func(ctx context.Context) (int, error) { <-ctx.Done(); return 0, ctx.Err() })
			ended <- err
		}()
		synctest.Wait()
		began := time.Now()
		o.Close()
		assert.ErrorIs(t, <-ended, context.Canceled)
		assert.Zero(t, time.Since(began))
	})
}

// A server that asks without end and takes no answers costs whoever reads its
// stream nothing, and closing does not wait for it.
func TestAnswersNeverHoldUpTheReader(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		sent := 0
		r := NewReplies(t.Context(), func(ctx context.Context, _ []byte) error { sent++; <-ctx.Done(); return ctx.Err() })
		began := time.Now()
		for range 10 * maxReplies {
			r.Add([]byte("{}"))
		}
		r.Close()
		assert.Zero(t, time.Since(began))
		assert.LessOrEqual(t, sent, 1)
	})
}

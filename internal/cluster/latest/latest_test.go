package latest

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// run has a Latest look until the test ends.
func run(t *testing.T, look func(context.Context) error) *Latest {
	l := New(look)
	go l.Run(t.Context())
	return l
}

// Who asks while a look is under way is answered by the next one: what was written before they
// asked may have come too late for this one. All of them share it.
func TestWhoAsksMeanwhileSharesTheNextLook(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		begun, goOn := atomic.Int64{}, make(chan struct{})
		l := run(t, func(context.Context) error { begun.Add(1); <-goOn; return nil })
		known := atomic.Int64{}
		ask := func() {
			if l.Known(t.Context()) {
				known.Add(1)
			}
		}
		go ask()
		synctest.Wait()
		for range 50 {
			go ask()
		}
		synctest.Wait()
		goOn <- struct{}{}
		synctest.Wait()
		assert.Equal(t, []int64{1, 2}, []int64{known.Load(), begun.Load()})
		goOn <- struct{}{}
		synctest.Wait()
		assert.Equal(t, []int64{51, 2}, []int64{known.Load(), begun.Load()})
	})
}

// A cluster that does not answer holds nobody up but for those who asked first, and is asked again
// a second later.
func TestAClusterThatDoesNotAnswerHoldsNobodyUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		lost := atomic.Bool{}
		lost.Store(true)
		l := run(t, func(ctx context.Context) error {
			if !lost.Load() {
				return nil
			}
			<-ctx.Done()
			return errors.New("nobody answers")
		})
		began := time.Now()
		assert.False(t, l.Known(t.Context()))
		assert.Equal(t, lookTime, time.Since(began))
		for range 100 {
			assert.False(t, l.Known(t.Context()))
		}
		assert.Equal(t, lookTime, time.Since(began))
		lost.Store(false)
		time.Sleep(restTime)
		assert.True(t, l.Known(t.Context()))
		left, leave := context.WithCancel(t.Context())
		leave()
		lost.Store(true)
		began = time.Now()
		assert.False(t, l.Known(left))
		assert.Zero(t, time.Since(began))
	})
}

// No more wait than may, and a look that does not keep to its time is not waited for.
func TestFewWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		stuck := make(chan struct{})
		l := run(t, func(context.Context) error { <-stuck; return nil })
		for range maxWait {
			go l.Known(t.Context())
		}
		synctest.Wait()
		began := time.Now()
		assert.False(t, l.Known(t.Context()))
		assert.Zero(t, time.Since(began))
		time.Sleep(2 * lookTime)
		synctest.Wait()
		assert.Zero(t, l.waiting.Load())
		close(stuck)
	})
}

// What people and programs ask is answered by what there is by then; the console's files are the
// same whatever there is.
func TestAnswersAreOfThen(t *testing.T) {
	looks := atomic.Int64{}
	l := run(t, func(context.Context) error { looks.Add(1); return nil })
	h := l.For(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	for path, more := range map[string]int64{
		"/api/servers": 1, "/oauth/token": 1, "/sign-in/callback": 1, "/assets/app.js": 0, "/": 0, "/healthz": 0,
	} {
		before, w := looks.Load(), httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		assert.Equal(t, http.StatusNoContent, w.Code)
		assert.Equal(t, more, looks.Load()-before, path)
	}
}

// Package disk watches how much room is left where the state lies. Below a reserve
// the journal stops growing, so that people can still pause, revoke and sign in; and
// should others fill the disk all the same, a file that is kept for that gives its
// room back.
package disk

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// Options configure a Watch.
type Options struct {
	Dir     string // required
	Reserve int64  // bytes that are kept free; 0 for not watching at all
	Log     *slog.Logger
	// Free tells how many bytes are free; nil asks the file system.
	Free func(dir string) (int64, error)
}

// Watch watches one directory. It is safe for concurrent use; Start makes one.
type Watch struct {
	o     Options
	free  atomic.Int64
	full  atomic.Bool
	stop  context.CancelFunc
	ended chan struct{}

	mu    sync.Mutex // guards the ballast: it is let go and taken again one at a time
	held  bool
	given time.Time // when it was let go last
}

// Parts of the reserve: how much of it is the ballast, and below which part of it the
// ballast is given back.
const (
	ballastPart  = 4
	ballastMost  = 16 << 20 // bytes
	criticalPart = 8
)

// every is how often it is looked.
const every = time.Second

// Start begins to watch; Close ends it.
func Start(ctx context.Context, o Options) *Watch {
	if o.Free == nil {
		o.Free = Free
	}
	w := &Watch{o: o, ended: make(chan struct{})}
	ctx, w.stop = context.WithCancel(context.WithoutCancel(ctx))
	if o.Reserve <= 0 {
		close(w.ended)
		return w
	}
	w.look()
	go w.run(ctx)
	return w
}

// Free asks the file system how many bytes are free for everybody.
func Free(dir string) (int64, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(dir, &s); err != nil {
		return 0, fmt.Errorf("ask how much of the disk is free: %w", err)
	}
	return int64(s.Bavail) * int64(s.Bsize), nil //nolint:unconvert // the types differ between systems
}

func (w *Watch) run(ctx context.Context) {
	defer close(w.ended)
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			w.look()
		case <-ctx.Done():
			return
		}
	}
}

// Close ends the watching. The ballast stays.
func (w *Watch) Close() {
	w.stop()
	<-w.ended
}

// look compares what is free with the reserve.
func (w *Watch) look() {
	free, err := w.o.Free(w.o.Dir)
	if err != nil {
		w.o.Log.Error("it cannot be found out how much of the disk is free", "error", err)
		return
	}
	w.free.Store(free)
	was := w.full.Load()
	switch {
	case free < w.o.Reserve && !was:
		w.full.Store(true)
		w.o.Log.Error("the disk is nearly full; calls cannot be recorded", "free", free, "reserve", w.o.Reserve, "directory", w.o.Dir)
	case free >= w.o.Reserve+w.o.Reserve/10 && was:
		w.full.Store(false)
		w.o.Log.Warn("there is room on the disk again", "free", free)
	}
	switch {
	case free < w.o.Reserve/criticalPart:
		w.Relieve()
	case free > w.o.Reserve+2*w.ballast():
		w.hold()
	}
}

// Full reports whether less than the reserve is free.
func (w *Watch) Full() bool { return w.full.Load() }

// Left is how many bytes were free when it was looked last.
func (w *Watch) Left() int64 { return w.free.Load() }

func (w *Watch) path() string { return filepath.Join(w.o.Dir, "reserve") }

func (w *Watch) ballast() int64 { return min(w.o.Reserve/ballastPart, ballastMost) }

// sameTime is how long after the ballast was given back others are told so that met the full disk
// before that.
const sameTime = 5 * time.Second

// Relieve gives the ballast back; true when there was some, or has been a moment ago. The store asks
// for it when it cannot write.
func (w *Watch) Relieve() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.held {
		return time.Since(w.given) < sameTime
	}
	if err := os.Remove(w.path()); err != nil && !errors.Is(err, os.ErrNotExist) {
		w.o.Log.Error("the reserve could not be given back", "error", err)
		return false
	}
	w.held, w.given = false, time.Now()
	w.full.Store(true)
	w.o.Log.Error("the disk is full; the reserve was given back so that people can still sign in, pause and revoke", "directory", w.o.Dir)
	return true
}

// hold takes the ballast, written out so that it takes up the room that it is for.
func (w *Watch) hold() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.held {
		return
	}
	if info, err := os.Stat(w.path()); err == nil && info.Size() == w.ballast() {
		w.held = true
		return
	}
	if err := write(w.path(), w.ballast()); err != nil {
		w.o.Log.Warn("no reserve could be taken on the disk", "error", err)
		_ = os.Remove(w.path())
		return
	}
	w.held = true
}

func write(path string, size int64) (err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	// No zeros: a file system that compresses or leaves holes would keep nothing.
	block := make([]byte, 64<<10)
	for i := range block {
		block[i] = byte(i*131 + i>>8*17)
	}
	for left := size; left > 0; left -= int64(len(block)) {
		if _, err := f.Write(block[:min(left, int64(len(block)))]); err != nil {
			return err
		}
	}
	return nil
}

// Package upkeep makes copies of the state by itself, opens each to see that it is whole,
// and lets go of those that have grown old. It also puts a copy in the place of a state.
package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Copy is one copy of the state that the service made.
type Copy struct {
	File  string    `json:"file"`
	At    time.Time `json:"at"`
	Bytes int64     `json:"bytes"`
}

// Copies is how the copies are doing.
type Copies struct {
	Dir     string     `json:"dir,omitempty" doc:"where copies lie; left out when none are made"`
	Every   string     `json:"every,omitempty" doc:"how often one is made"`
	Last    *time.Time `json:"last,omitempty" doc:"when the last one was made and could be opened"`
	Problem string     `json:"problem,omitempty" doc:"why the last try failed"`
	Copies  []Copy     `json:"copies" doc:"the newest first"`
}

// Options say how copies are made.
type Options struct {
	Dir   string        // where; "" for none
	Every time.Duration // 0 for never
	// Write writes a copy to a new file.
	Write func(ctx context.Context, path string) error
	// Keys are the ids of the keys that things can be opened with.
	Keys func() []string
	Log  *slog.Logger
	Now  func() time.Time // nil for time.Now
}

// Keeper makes copies while the service runs. Start and Close frame its life; it is safe
// for concurrent use.
type Keeper struct {
	o     Options
	stop  context.CancelFunc
	ended chan struct{}
	// making has one place: two copies at once would write to the same file.
	making chan struct{}

	mu      sync.Mutex // guards what follows; held over no I/O
	problem string
}

// New returns a keeper that has made nothing yet.
func New(o Options) *Keeper {
	if o.Now == nil {
		o.Now = time.Now
	}
	return &Keeper{o: o, ended: make(chan struct{}), making: make(chan struct{}, 1)}
}

// Start begins to make copies.
func (k *Keeper) Start() {
	ctx, stop := context.WithCancel(context.Background())
	k.stop = stop
	go func() {
		defer close(k.ended)
		if k.o.Dir == "" || k.o.Every <= 0 {
			return
		}
		timer := time.NewTimer(k.until())
		defer timer.Stop()
		for {
			select {
			case <-timer.C:
				k.note(k.Make(ctx))
				timer.Reset(k.o.Every)
			case <-ctx.Done():
				return
			}
		}
	}()
}

// Close ends that, and a copy under way.
func (k *Keeper) Close() {
	k.stop()
	<-k.ended
}

// until is how long it is until the next copy is due: a restart does not begin anew.
func (k *Keeper) until() time.Duration {
	list, err := k.list()
	if err != nil || len(list) == 0 {
		return 0
	}
	return max(0, list[0].At.Add(k.o.Every).Sub(k.o.Now()))
}

func (k *Keeper) note(err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.problem = ""
	if err != nil && !errors.Is(err, context.Canceled) {
		k.problem = err.Error()
		k.o.Log.Error("a copy of the state could not be made", "error", err)
	}
}

// MakeNow makes a copy besides those that are made by themselves. The error is a
// *team.ConflictError where none are made.
func (k *Keeper) MakeNow(ctx context.Context) (Copies, error) {
	if k.o.Dir == "" {
		return Copies{}, &team.ConflictError{
			Field: "dir", Why: "the service has no directory for copies",
			Hint: "set one with --backup-dir, or write a copy with: bouncer backup FILE",
		}
	}
	err := k.Make(ctx)
	k.note(err)
	if err != nil {
		return Copies{}, err
	}
	return k.State()
}

// stamp is how the time is written in the name of a copy.
const stamp = "20060102-150405"

// Make makes a copy now, opens it, and lets go of those that have grown old.
func (k *Keeper) Make(ctx context.Context) error {
	select {
	case k.making <- struct{}{}:
		defer func() { <-k.making }()
	case <-ctx.Done():
		return fmt.Errorf("wait for the copy that is being made: %w", ctx.Err())
	}
	if err := os.MkdirAll(k.o.Dir, 0o700); err != nil {
		return fmt.Errorf("make the directory of copies: %w", err)
	}
	now := k.o.Now().UTC()
	path := filepath.Join(k.o.Dir, "bouncer-"+now.Format(stamp)+".db")
	part := path + ".part"
	_ = os.Remove(part) // of a try that was cut off
	defer os.Remove(part)
	if err := k.o.Write(ctx, part); err != nil {
		return fmt.Errorf("write a copy of the state: %w", err)
	}
	if err := os.Chmod(part, 0o600); err != nil {
		return fmt.Errorf("close the copy to others: %w", err)
	}
	c, err := Verify(ctx, part, k.o.Keys())
	if err != nil {
		return fmt.Errorf("open the copy that was made: %w", err)
	}
	if err := os.Rename(part, path); err != nil {
		return fmt.Errorf("keep the copy: %w", err)
	}
	k.o.Log.Info("a copy of the state was made", "file", path, "servers", c.Servers, "agents", c.Agents, "secrets", c.Secrets)
	return k.thin(now)
}

// thin lets go of the copies that have grown old.
func (k *Keeper) thin(now time.Time) error {
	list, err := k.list()
	if err != nil {
		return err
	}
	var made []time.Time
	for _, c := range list {
		made = append(made, c.At)
	}
	for _, at := range Outlived(made, now) {
		i := slices.IndexFunc(list, func(c Copy) bool { return c.At.Equal(at) })
		if err := os.Remove(list[i].File); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("remove an old copy: %w", err)
		}
	}
	return nil
}

// list are the copies that lie there, the newest first. Other files are left alone.
func (k *Keeper) list() ([]Copy, error) {
	entries, err := os.ReadDir(k.o.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the directory of copies: %w", err)
	}
	var list []Copy
	for _, e := range entries {
		name, isCopy := strings.CutPrefix(strings.TrimSuffix(e.Name(), ".db"), "bouncer-")
		at, err := time.Parse(stamp, name)
		info, infoErr := e.Info()
		if !isCopy || err != nil || infoErr != nil {
			continue
		}
		list = append(list, Copy{filepath.Join(k.o.Dir, e.Name()), at, info.Size()})
	}
	slices.SortFunc(list, func(a, b Copy) int { return b.At.Compare(a.At) })
	return list, nil
}

// State tells how the copies are doing.
func (k *Keeper) State() (Copies, error) {
	s := Copies{Copies: []Copy{}}
	if k.o.Dir == "" {
		return s, nil
	}
	k.mu.Lock()
	s.Problem = k.problem
	k.mu.Unlock()
	s.Dir, s.Every = k.o.Dir, k.o.Every.String()
	list, err := k.list()
	if err != nil {
		return s, err
	}
	if len(list) > 0 {
		s.Last, s.Copies = &list[0].At, list
	}
	return s, nil
}

// KeyMissingError says that something in a copy is sealed with a key that is not there.
type KeyMissingError struct{ Key string }

func (e *KeyMissingError) Error() string {
	return "secrets in it are sealed with the key " + e.Key + ", which is not in the key set"
}

// UnfinishedError says that a file is not all of a state: the newest of it stands in the log
// beside it.
type UnfinishedError struct{ Path string }

func (e *UnfinishedError) Error() string {
	return "it is no copy but a database as it was left: the newest of it stands in " + e.Path + "-wal"
}

// Verify opens a copy, and tells what it holds. The error says what is wrong with it: one
// of the store's, a *KeyMissingError or an *UnfinishedError.
func Verify(ctx context.Context, path string, keys []string) (store.Contents, error) {
	if log, err := os.Stat(path + "-wal"); err == nil && log.Size() > 0 {
		return store.Contents{}, &UnfinishedError{path}
	}
	c, err := store.Inspect(ctx, path)
	if err != nil {
		return c, err
	}
	for _, key := range c.Keys {
		if !slices.Contains(keys, key) {
			return c, &KeyMissingError{key}
		}
	}
	return c, nil
}

package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"bouncer/internal/store"
)

// OccupiedError says that there is a state already where a copy is to be put.
type OccupiedError struct{ Path string }

func (e *OccupiedError) Error() string { return "there is a state already: " + e.Path }

// Restored is what came of it.
type Restored struct {
	store.Contents
	Before string // where the state that was there is kept; "" for none
}

// Restore puts a copy in the place of the database in a directory that no service works in:
// the caller holds its lock. What is there is kept under another name when replace is set,
// and refused otherwise. The copy is verified before anything is altered.
func Restore(ctx context.Context, file, database string, keys []string, replace bool, now time.Time) (out Restored, err error) {
	if out.Contents, err = Verify(ctx, file, keys); err != nil {
		return out, err
	}
	_, err = os.Stat(database)
	there := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return out, fmt.Errorf("look at %s: %w", database, err)
	}
	if there && !replace {
		return out, &OccupiedError{database}
	}
	fresh := database + ".restoring"
	defer os.Remove(fresh)
	if err := duplicate(file, fresh); err != nil {
		return out, err
	}
	if err := store.BeginChain(ctx, fresh); err != nil {
		return out, err
	}
	if there {
		out.Before = database + ".before-" + now.UTC().Format(stamp)
		if err := move(database, out.Before); err != nil {
			return out, errors.Join(fmt.Errorf("keep the state that is there: %w", err), move(out.Before, database))
		}
	}
	if err := os.Rename(fresh, database); err != nil {
		err = fmt.Errorf("put the copy in its place: %w", err)
		if there {
			err = errors.Join(err, move(out.Before, database))
		}
		return out, err
	}
	return out, settle(filepath.Dir(database))
}

// move gives a database another name, with what is not yet in the file itself. Parts that
// are not there are passed over.
func move(from, to string) error {
	for _, part := range []string{"-wal", "-shm", ""} {
		if err := os.Rename(from+part, to+part); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("rename %s: %w", from+part, err)
		}
	}
	return nil
}

// duplicate copies a file, closed to others, and waits until it is on the disk.
func duplicate(from, to string) (err error) {
	in, err := os.Open(from)
	if err != nil {
		return fmt.Errorf("read the copy: %w", err)
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("write beside the database: %w", err)
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Sync()
	}
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return fmt.Errorf("write beside the database: %w", err)
	}
	return nil
}

// settle waits until what was renamed in a directory is on the disk.
func settle(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return fmt.Errorf("open %s: %w", dir, err)
	}
	defer d.Close()
	if err := d.Sync(); err != nil {
		return fmt.Errorf("write %s: %w", dir, err)
	}
	return nil
}

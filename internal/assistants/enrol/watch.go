package enrol

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"time"

	"bouncer/internal/core/configfile"
)

// Keeper keeps an entry in a file, whatever else rewrites it.
type Keeper struct {
	Enrolment
	Wanted configfile.Object // the entry as it is to be
	Every  time.Duration     // between two looks
}

// Run looks at the file until ctx ends, and tells what it did.
func (k Keeper) Run(ctx context.Context, tell func(what string)) error {
	ticker := time.NewTicker(k.Every)
	defer ticker.Stop()
	said := ""
	for {
		what, err := k.Look()
		if err != nil {
			what = "left alone: " + err.Error()
		}
		if what != "" && (what != said || err == nil) {
			tell(what)
		}
		said = what
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
	}
}

// Look puts the entry back if it is not as it is to be, and says what it did; "" for
// nothing. A file that is being written just now cannot be read for a moment, and is
// looked at again.
func (k Keeper) Look() (what string, err error) {
	raw, err := os.ReadFile(k.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil // it is being replaced, or was removed with its assistant
	}
	if err != nil {
		return "", err
	}
	f, err := configfile.Parse(raw, k.Dialect.Syntax)
	if err != nil {
		return "", err
	}
	now := f.Find(k.Dialect.At(k.Entry))
	if now != nil && configfile.Same(now, k.Wanted) {
		return "", nil
	}
	file, err := Read(k.Path)
	if err != nil {
		return "", err
	}
	if f, err = configfile.Parse(file.Raw, k.Dialect.Syntax); err != nil {
		return "", err
	}
	out, err := f.Put(k.Dialect.At(k.Entry), k.Wanted)
	if err != nil {
		return "", err
	}
	mode := file.Mode
	if k.As == AsPass {
		mode &^= 0o077
	}
	if err := file.Swap(out, mode); err != nil {
		return "", err
	}
	if now == nil {
		return "the entry was gone, and is back", nil
	}
	return "the entry was altered, and is as it was", nil
}

// Swap puts a new content in the place of a file, without keeping a copy of the old one,
// if nobody changed it since it was read.
func (f File) Swap(after []byte, mode fs.FileMode) error {
	now, err := os.ReadFile(f.Real)
	if err != nil {
		return &FileError{f.Path, err}
	}
	if string(now) != string(f.Raw) {
		return &FileError{f.Path, ErrChanged}
	}
	if err := replaceFile(f.Real, after, mode); err != nil {
		return &FileError{f.Path, err}
	}
	return nil
}

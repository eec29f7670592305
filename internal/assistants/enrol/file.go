// Package enrol puts Bouncer's entry into the configuration files of the assistants on a
// person's machine, takes it out again, and tells whether it is as it should be. It
// touches files and keeps a book of what it did; passes are made and revoked by whoever
// calls it.
package enrol

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"bouncer/internal/core/configfile"
)

// File is a configuration file as it was read.
type File struct {
	Path   string // as it was named
	Real   string // with symbolic links followed
	Raw    []byte
	Exists bool
	Mode   fs.FileMode
}

// FileError says what is wrong with a file. The file was left as it is.
type FileError struct {
	Path string
	Err  error
}

func (e *FileError) Error() string {
	err := e.Err
	var path *fs.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	return fmt.Sprintf("%s cannot be used: %v", e.Path, err)
}

func (e *FileError) Unwrap() error { return e.Err }

// ErrChanged says that a file was changed by somebody else since it was read.
var ErrChanged = errors.New("it was changed by somebody else meanwhile")

// Read reads a file. One that does not exist is empty; its directory has to be there.
// Errors are *FileError.
func Read(path string) (File, error) {
	f := File{Path: path, Real: path, Mode: 0o600}
	bad := func(err error) (File, error) { return f, &FileError{path, err} }
	whole, err := filepath.Abs(path)
	if err != nil {
		return bad(err)
	}
	f.Real = whole
	real, err := filepath.EvalSymlinks(whole)
	switch {
	case err == nil:
		f.Real = real
	case !errors.Is(err, fs.ErrNotExist):
		return bad(err)
	}
	in, err := os.Open(f.Real)
	if errors.Is(err, fs.ErrNotExist) {
		if link, lerr := os.Readlink(path); lerr == nil {
			return bad(fmt.Errorf("it is a symbolic link to %s, which does not exist", link))
		}
		if _, err := os.Stat(filepath.Dir(path)); err != nil {
			return bad(err)
		}
		return f, nil
	}
	if err != nil {
		return bad(err)
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return bad(err)
	}
	if !info.Mode().IsRegular() {
		return bad(errors.New("it is no file"))
	}
	raw, err := io.ReadAll(io.LimitReader(in, configfile.MaxFile+1))
	if err != nil {
		return bad(err)
	}
	if len(raw) > configfile.MaxFile {
		return bad(fmt.Errorf("it is larger than %d MiB", configfile.MaxFile>>20))
	}
	f.Raw, f.Exists, f.Mode = raw, true, info.Mode().Perm()
	return f, nil
}

// Written is how a file was written.
type Written struct {
	Backup string // copy of the file before; "" when there was none
	Closed bool   // others could read it before, and cannot now
}

// Write puts a new content in the place of a file that was read, as a whole or not at
// all, after keeping a copy of the old one. A secret file is closed to others. It refuses
// when the file was changed since. Errors are *FileError.
func (f File) Write(after []byte, secret bool) (w Written, err error) {
	bad := func(err error) (Written, error) { return w, &FileError{f.Path, err} }
	now, err := os.ReadFile(f.Real)
	if err != nil && (f.Exists || !errors.Is(err, fs.ErrNotExist)) {
		return bad(err)
	}
	if (err == nil) != f.Exists || !bytes.Equal(now, f.Raw) {
		return bad(ErrChanged)
	}
	if f.Exists && f.Mode&0o200 == 0 {
		return bad(errors.New("it is read-only"))
	}
	mode := f.Mode
	if secret && mode&0o077 != 0 {
		mode &^= 0o077
		w.Closed = f.Exists
	}
	if f.Exists {
		if w.Backup, err = keep(f.Real, f.Raw, mode); err != nil {
			return bad(err)
		}
	}
	if err := replaceFile(f.Real, after, mode); err != nil {
		if w.Backup != "" {
			err = errors.Join(err, os.Remove(w.Backup))
			w.Backup = ""
		}
		return bad(err)
	}
	return w, nil
}

// Revert puts a file back that was written, when something that belongs to it failed
// afterwards.
func (f File) Revert(after []byte, w Written) error {
	now, err := os.ReadFile(f.Real)
	switch {
	case err != nil:
		return &FileError{f.Path, err}
	case !bytes.Equal(now, after):
		return &FileError{f.Path, ErrChanged}
	case !f.Exists:
		err = os.Remove(f.Real)
	default:
		if err = replaceFile(f.Real, f.Raw, f.Mode); err == nil && w.Backup != "" {
			err = os.Remove(w.Backup)
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = nil // the copy went already
	}
	if err != nil {
		return &FileError{f.Path, err}
	}
	return nil
}

// keep writes a copy beside a file.
func keep(path string, raw []byte, mode fs.FileMode) (string, error) {
	stamp := time.Now().Format("20060102-150405")
	for i := range 100 {
		name := fmt.Sprintf("%s.before-bouncer-%s", path, stamp)
		if i > 0 {
			name = fmt.Sprintf("%s-%d", name, i)
		}
		out, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode&^0o077)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return "", err
		}
		_, err = out.Write(raw)
		if err := errors.Join(err, out.Close()); err != nil {
			return "", errors.Join(err, os.Remove(name))
		}
		return name, nil
	}
	return "", errors.New("there are too many copies of it beside it")
}

// replaceFile writes a file beside another one and moves it into its place.
func replaceFile(path string, raw []byte, mode fs.FileMode) error {
	tmp, err := os.CreateTemp(filepath.Dir(path), ".bouncer-*")
	if err != nil {
		return err
	}
	_, err = tmp.Write(raw)
	if err := errors.Join(err, tmp.Chmod(mode), tmp.Sync(), tmp.Close()); err != nil {
		return errors.Join(err, os.Remove(tmp.Name()))
	}
	if err := os.Rename(tmp.Name(), path); err != nil {
		return errors.Join(err, os.Remove(tmp.Name()))
	}
	return nil
}

// InWorkTree reports whether a file lies in the work tree of a git repository, where it
// is easily committed; "" when it does not.
func InWorkTree(path string) (root string) {
	dir, err := filepath.Abs(filepath.Dir(path))
	if err != nil {
		return ""
	}
	for range 64 {
		if _, err := os.Stat(filepath.Join(dir, ".git")); err == nil {
			return dir
		}
		up := filepath.Dir(dir)
		if up == dir {
			return ""
		}
		dir = up
	}
	return ""
}

package enrol

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/configfile"
	"bouncer/internal/core/dialect"
)

// Ways in which an assistant is let in.
const (
	AsPass   = "pass"    // an address, and a pass in a header
	AsSignIn = "sign-in" // an address; the assistant signs in with OAuth
	AsBridge = "bridge"  // a command that Bouncer brings along
)

// Enrolment is what was done to one file.
type Enrolment struct {
	Path    string          `json:"path"` // with symbolic links followed
	Dialect dialect.Dialect `json:"dialect"`
	Entry   string          `json:"entry"`
	Agent   string          `json:"agent"`
	Service string          `json:"service"` // base URL
	Server  string          `json:"server,omitempty"`
	As      string          `json:"as"`
	PassID  string          `json:"passId,omitempty"`
	// Earlier are the passes of the enrolments before this one.
	Earlier []string `json:"earlier,omitempty"`
	// PassFile holds the pass, where it is not in the file.
	PassFile string    `json:"passFile,omitempty"`
	At       time.Time `json:"at"`

	// What puts the file back.
	Created bool        `json:"created,omitempty"` // there was no file before
	Mode    fs.FileMode `json:"mode"`              // of the file before
	Closed  bool        `json:"closed,omitempty"`
	Backup  string      `json:"backup,omitempty"`
	After   string      `json:"after"` // SHA-256 of what was written
	From    int         `json:"from"`  // where what was written differs from what was before
	Old     []byte      `json:"old,omitempty"`
	New     int         `json:"new"` // bytes of the difference in what was written
	Had     bool        `json:"had,omitempty"`
	Adopted []string    `json:"adopted,omitempty"` // names of entries that were taken over

	// What was made in the service when the file was adopted.
	Servers   []string `json:"servers,omitempty"`
	Secrets   []string `json:"secrets,omitempty"` // their names
	Rules     []string `json:"rules,omitempty"`   // their ids
	AgentMade bool     `json:"agentMade,omitempty"`
}

// sum is the SHA-256 of a content, in hexadecimal.
func sum(raw []byte) string {
	s := sha256.Sum256(raw)
	return hex.EncodeToString(s[:])
}

// Differ notes what puts a content back that was before another one.
func (e *Enrolment) Differ(before, after []byte) {
	from := 0
	for from < len(before) && from < len(after) && before[from] == after[from] {
		from++
	}
	tail := 0
	for tail < len(before)-from && tail < len(after)-from && before[len(before)-1-tail] == after[len(after)-1-tail] {
		tail++
	}
	e.From, e.Old, e.New, e.After = from, bytes.Clone(before[from:len(before)-tail]), len(after)-tail-from, sum(after)
}

// Follow takes over from an earlier enrolment of the same entry what leads back to the
// time before it, if nobody altered the file since.
func (e *Enrolment) Follow(have Enrolment, now, after []byte) error {
	if have.PassID != "" {
		e.Earlier = append(slices.Clone(have.Earlier), have.PassID)
	}
	if have.After != sum(now) {
		return nil
	}
	before, err := have.Undone(now)
	if err != nil {
		return err
	}
	if e.Backup != "" && e.Backup != have.Backup && have.Backup != "" {
		if err := os.Remove(e.Backup); err != nil {
			return fmt.Errorf("remove the copy of what an earlier enrolment wrote: %w", err)
		}
	}
	e.Created, e.Mode, e.Had, e.Backup, e.Closed = have.Created, have.Mode, have.Had, have.Backup, have.Closed || e.Closed
	e.Differ(before, after)
	return nil
}

// Undone returns the content of a file without what the enrolment did: the very bytes
// that were before when nobody altered it since, else as it is, with the entry taken out,
// or put back as it was.
func (e Enrolment) Undone(now []byte) ([]byte, error) {
	if sum(now) == e.After {
		out := bytes.Clone(now[:e.From])
		out = append(out, e.Old...)
		return append(out, now[e.From+e.New:]...), nil
	}
	f, err := configfile.Parse(now, e.Dialect.Syntax)
	if err != nil {
		return nil, fmt.Errorf("it was altered since, and cannot be read: %w", err)
	}
	out, err := f.Remove(e.Dialect.At(e.Entry))
	if err != nil || !e.Had && len(e.Adopted) == 0 {
		return out, err
	}
	return e.putBack(out)
}

// putBack sets the entries that were there before as the copy of the file has them.
func (e Enrolment) putBack(now []byte) ([]byte, error) {
	raw, err := os.ReadFile(e.Backup)
	if err != nil {
		return nil, fmt.Errorf("read the copy from before: %w", err)
	}
	before, err := configfile.Parse(raw, e.Dialect.Syntax)
	if err != nil {
		return nil, fmt.Errorf("read the copy from before: %w", err)
	}
	names := e.Adopted
	if e.Had {
		names = append(slices.Clone(names), e.Entry)
	}
	for _, name := range names {
		old := before.Find(e.Dialect.At(name))
		if old == nil {
			continue
		}
		f, err := configfile.Parse(now, e.Dialect.Syntax)
		if err != nil {
			return nil, err
		}
		if now, err = f.Put(e.Dialect.At(name), old.Object()); err != nil {
			return nil, fmt.Errorf("put %s back: %w", name, err)
		}
	}
	return now, nil
}

// Book is what was enrolled on this machine by this person.
type Book struct{ path string }

// OpenBook returns the book in a directory.
func OpenBook(dir string) Book { return Book{filepath.Join(dir, "enrolments.json")} }

// List returns the enrolments, by path.
func (b Book) List() ([]Enrolment, error) {
	raw, err := os.ReadFile(b.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read what was enrolled: %w", err)
	}
	var list []Enrolment
	if err := json.Unmarshal(raw, &list); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", b.path, err)
	}
	return list, nil
}

// Of returns the enrolment of a file and an entry, or, with an empty entry, the last one
// of the file; ok is false for none.
func (b Book) Of(path, entry string) (e Enrolment, ok bool, err error) {
	list, err := b.List()
	for _, have := range list {
		if have.Path == path && (entry == "" || have.Entry == entry) {
			e, ok = have, true
		}
	}
	return e, ok, err
}

// Put notes an enrolment, in the place of another one of the same entry.
func (b Book) Put(e Enrolment) error {
	return b.alter(func(list []Enrolment) []Enrolment {
		list = slices.DeleteFunc(list, func(have Enrolment) bool { return have.Path == e.Path && have.Entry == e.Entry })
		return append(list, e)
	})
}

// Remove forgets an enrolment.
func (b Book) Remove(path, entry string) error {
	return b.alter(func(list []Enrolment) []Enrolment {
		return slices.DeleteFunc(list, func(have Enrolment) bool { return have.Path == path && have.Entry == entry })
	})
}

// alter writes the book anew. Two that do so at once wait for each other.
func (b Book) alter(change func([]Enrolment) []Enrolment) error {
	if err := os.MkdirAll(filepath.Dir(b.path), 0o700); err != nil {
		return fmt.Errorf("keep what was enrolled: %w", err)
	}
	unlock, err := lock(b.path + ".lock")
	if err != nil {
		return fmt.Errorf("keep what was enrolled: %w", err)
	}
	defer unlock()
	list, err := b.List()
	if err != nil {
		return err
	}
	raw, err := json.MarshalIndent(change(list), "", "  ")
	if err != nil {
		return fmt.Errorf("keep what was enrolled: %w", err)
	}
	if err := replaceFile(b.path, append(raw, '\n'), 0o600); err != nil {
		return fmt.Errorf("keep what was enrolled: %w", err)
	}
	return nil
}

// Restore writes the content of a file from before, with the mode from before. A file
// that was made for the entry, and holds nothing else, goes. Errors are *FileError.
func (e Enrolment) Restore(now File, before []byte) error {
	if e.Created && len(bytes.TrimSpace(before)) == 0 {
		if err := os.Remove(now.Real); err != nil {
			return &FileError{now.Path, err}
		}
		return nil
	}
	if raw, err := os.ReadFile(now.Real); err != nil || !bytes.Equal(raw, now.Raw) {
		return &FileError{now.Path, errors.Join(err, ErrChanged)}
	}
	mode := now.Mode
	if e.Closed {
		mode = e.Mode
	}
	if err := replaceFile(now.Real, before, mode); err != nil {
		return &FileError{now.Path, err}
	}
	return nil
}

// Tidy removes the copy from before when the file is the same again.
func (e Enrolment) Tidy(now []byte) error {
	if e.Backup == "" {
		return nil
	}
	kept, err := os.ReadFile(e.Backup)
	if err != nil || !bytes.Equal(kept, now) {
		return nil //nolint:nilerr // a copy that cannot be read is nobody's concern here
	}
	if err := os.Remove(e.Backup); err != nil {
		return fmt.Errorf("remove the copy from before: %w", err)
	}
	return nil
}

// Shown is the pass that the entry shows now, or that its bridge reads; "" for none.
func (e Enrolment) Shown(now []byte) string {
	if e.PassFile != "" {
		raw, err := os.ReadFile(e.PassFile)
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(raw))
	}
	f, err := configfile.Parse(now, e.Dialect.Syntax)
	if err != nil {
		return ""
	}
	entry, ok := e.Dialect.Find(f, e.Entry)
	if !ok || len(entry.Headers) == 0 {
		return ""
	}
	return strings.TrimPrefix(entry.Headers[0].Value, "Bearer ")
}

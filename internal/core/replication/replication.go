// Package replication describes an alteration of the register in a way in which every node of
// a cluster can carry it out: as the statements that its writer carried out, with their
// values, and how many rows each of them met. Ids and times are among the values, so that
// carrying out the same entries in the same order makes the same tables.
package replication

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"bouncer/internal/core/pack"
)

// Version is that of the format of an entry. A node carries out entries of its own version
// and of earlier ones, and none of later ones.
const Version = 1

// MaxStatements is how many statements an entry may have.
const MaxStatements = 20_000

// Entry is one alteration. Ones that have Marks alter nothing: they say what the tables add up to
// at their place in the log.
type Entry struct {
	Version    int               `json:"version"`
	ID         string            `json:"id"`     // a ULID, by which its writer knows it again
	Node       string            `json:"node"`   // who wrote it
	At         time.Time         `json:"at"`     // by the clock of the writer
	Schema     int               `json:"schema"` // of the writer's database
	What       string            `json:"what"`   // noun and verb; "" for what is not an alteration by people
	Topics     []string          `json:"topics,omitempty"`
	Statements []Statement       `json:"statements,omitempty"`
	Marks      map[string]string `json:"marks,omitempty"` // sums of tables, by name
	Quiet      bool              `json:"quiet,omitempty"` // nothing is decided by it: when something was used
}

// Statement is one statement of SQL with its values.
type Statement struct {
	Query string  `json:"query"`
	Args  []Value `json:"args,omitempty"`
	Rows  int64   `json:"rows"` // that it met at its writer
}

// Value is a value of SQLite: nil, an int64, a float64, a string or bytes.
type Value struct{ V any }

// MarshalJSON writes a value with a letter for its kind before it, as in "s:text".
func (v Value) MarshalJSON() ([]byte, error) {
	switch x := v.V.(type) {
	case nil:
		return []byte("null"), nil
	case int64:
		return json.Marshal("i:" + strconv.FormatInt(x, 10))
	case float64:
		return json.Marshal("f:" + strconv.FormatFloat(x, 'g', -1, 64))
	case string:
		return json.Marshal("s:" + x)
	case []byte:
		return json.Marshal("b:" + base64.StdEncoding.EncodeToString(x))
	}
	return nil, fmt.Errorf("a %T is no value of a database", v.V)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (v *Value) UnmarshalJSON(raw []byte) error {
	var text *string
	if err := json.Unmarshal(raw, &text); err != nil {
		return fmt.Errorf("read a value: %w", err)
	}
	if text == nil {
		v.V = nil
		return nil
	}
	if len(*text) < 2 || (*text)[1] != ':' {
		return errors.New("a value has no kind")
	}
	kind, rest := (*text)[0], (*text)[2:]
	var err error
	switch kind {
	case 's':
		v.V = rest
	case 'i':
		v.V, err = strconv.ParseInt(rest, 10, 64)
	case 'f':
		v.V, err = strconv.ParseFloat(rest, 64)
	case 'b':
		v.V, err = base64.StdEncoding.DecodeString(rest)
	default:
		return fmt.Errorf("there are no values of the kind %q", kind)
	}
	if err != nil {
		return fmt.Errorf("read a value of the kind %q: %w", kind, err)
	}
	return nil
}

// NewerError says that an entry has a format that is not known here.
type NewerError struct{ Have, Know int }

func (e *NewerError) Error() string {
	return fmt.Sprintf("the log has an entry of version %d, and this Bouncer knows versions up to %d", e.Have, e.Know)
}

// ErrMalformed is returned for what is no entry.
var ErrMalformed = errors.New("it is no entry of the log")

// Encode writes an entry, compressed.
func Encode(e Entry) ([]byte, error) {
	raw, err := json.Marshal(e)
	if err != nil {
		return nil, fmt.Errorf("write the entry %s: %w", e.What, err)
	}
	return pack.Pack(raw), nil
}

// Decode reads an entry. The error is a *NewerError for one that a later Bouncer wrote, and
// otherwise wraps ErrMalformed.
func Decode(raw []byte) (e Entry, err error) {
	text, err := pack.Unpack(raw)
	if err != nil {
		return e, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	// The version is read by itself: what a later one holds need not be readable here.
	var head struct {
		Version int `json:"version"`
	}
	if err := json.Unmarshal(text, &head); err != nil || head.Version < 1 {
		return e, fmt.Errorf("%w: it has no version", ErrMalformed)
	}
	if head.Version > Version {
		return e, &NewerError{head.Version, Version}
	}
	if err := json.Unmarshal(text, &e); err != nil {
		return e, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	switch {
	case e.ID == "" || e.Node == "":
		return e, fmt.Errorf("%w: it does not say who wrote it", ErrMalformed)
	case len(e.Statements) > MaxStatements:
		return e, fmt.Errorf("%w: it has %d statements, and may have %d", ErrMalformed, len(e.Statements), MaxStatements)
	}
	return e, nil
}

// Differ returns the tables whose sums are not the same, in no order.
func Differ(a, b map[string]string) (tables []string) {
	for name, sum := range a {
		if b[name] != sum {
			tables = append(tables, name)
		}
	}
	for name := range b {
		if _, there := a[name]; !there {
			tables = append(tables, name)
		}
	}
	return tables
}

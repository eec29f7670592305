// Package fault tells apart what goes wrong with the database: its file is damaged, somebody else
// keeps it, the disk is full.
package fault

import (
	"errors"
	"fmt"

	"modernc.org/sqlite"
)

// DamagedError says that pages of the database file are not what was written there.
type DamagedError struct {
	Part string // of the database; "" when that is not known
	Err  error
}

func (e *DamagedError) Error() string {
	if e.Part == "" {
		return "the database is damaged: its file holds something else than was written there"
	}
	return "the database is damaged in the part " + e.Part + ": its file holds something else than was written there"
}

func (e *DamagedError) Unwrap() error { return e.Err }

// Damaged is there for those who do not know the database.
func (e *DamagedError) Damaged() bool { return true }

// BusyError says that others kept the database for longer than is waited for; nothing was done.
type BusyError struct{ Err error }

func (e *BusyError) Error() string { return "the database was busy for too long" }

func (e *BusyError) Unwrap() error { return e.Err }

// Unavailable is what helps, for those who do not know the database.
func (e *BusyError) Unavailable() string {
	return "try again; when it happens often, see whether the disk of the service is slow"
}

// FullError says that there is no room on the disk; nothing was done.
type FullError struct{ Err error }

func (e *FullError) Error() string { return "the disk of the service is full" }

func (e *FullError) Unwrap() error { return e.Err }

// Unavailable is what helps, for those who do not know the database.
func (e *FullError) Unavailable() string {
	return "make room on the disk that the data directory is on, and try again"
}

// Of tells damage, a database that is busy and a disk that is full apart from other errors of the database.
func Of(err error) error {
	var e *sqlite.Error
	switch {
	case !errors.As(err, &e):
	case e.Code()&0xff == 5: // SQLITE_BUSY
		return &BusyError{err}
	case Full(err):
		return &FullError{err}
	case e.Code()&0xff == 11: // SQLITE_CORRUPT
		return &DamagedError{Err: err}
	case e.Code()&0xff == 26: // SQLITE_NOTADB
		return fmt.Errorf("the file is no database: %w", err)
	}
	return err
}

// Full reports whether the disk was full. A write that fails is told as an error of
// the file system where the log cannot grow.
func Full(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && (e.Code()&0xff == 13 || e.Code() == 778 || e.Code() == 4874) // SQLITE_FULL, IOERR_WRITE, IOERR_SHMSIZE
}

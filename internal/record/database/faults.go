package database

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// What can be wrong with the disk that a database is on. What to do about each is different, so they are told apart.
var (
	ErrFull       = errors.New("the disk is full; free some space, nothing is damaged")
	ErrUnreadable = errors.New("the disk cannot be read or written (an input/output error); look at its health before anything else, and keep a copy of the data directory")
	ErrForbidden  = errors.New("this user may not read and write the database; look at the owner and the mode of the data directory")
	ErrGone       = errors.New("the database was removed or replaced while the service runs; nothing is stored until the service is started again with it")
)

// Named puts the name of a fault of the disk before an error; others are as they were.
func Named(err error) error {
	if err == nil {
		return nil
	}
	var code *sqlite.Error
	errors.As(err, &code)
	is := func(n int) bool { return code != nil && code.Code()&0xFF == n }
	switch {
	case errors.Is(err, ErrFull), errors.Is(err, ErrUnreadable), errors.Is(err, ErrForbidden), errors.Is(err, ErrGone):
		return err
	case is(sqlite3.SQLITE_FULL), errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fmt.Errorf("%w (%w)", ErrFull, err)
	case is(sqlite3.SQLITE_READONLY), is(sqlite3.SQLITE_PERM), errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		return fmt.Errorf("%w (%w)", ErrForbidden, err)
	case is(sqlite3.SQLITE_IOERR), errors.Is(err, syscall.EIO):
		return fmt.Errorf("%w (%w)", ErrUnreadable, err)
	}
	return err
}

// OnDisk reports whether an error is a fault of the disk or of the database file, and not of what was asked.
func OnDisk(err error) bool {
	return errors.Is(err, ErrFull) || errors.Is(err, ErrUnreadable) || errors.Is(err, ErrForbidden) || errors.Is(err, ErrGone)
}

// Present says whether the file that was opened is still the one in the data directory. What is written to a file that was removed is
// lost when it is closed.
func (d *Database) Present() error {
	if d.file == nil {
		return nil
	}
	now, err := os.Stat(d.path)
	if d.lost.Load() || err != nil || !os.SameFile(now, d.file) {
		return fmt.Errorf("%s: %w", d.path, ErrGone)
	}
	return nil
}

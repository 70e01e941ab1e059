package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// Backup writes a copy of the database to a file that is not there yet, as it is at one moment, while it is used. The copy is a whole
// database: a data directory with it under FileName is all that a service needs.
func (d *Database) Backup(ctx context.Context, path string) error {
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%s is there already; give another name", path)
	}
	if err := d.Present(); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+d.path+"?mode=ro&_pragma=busy_timeout(5000)") // a connection of its own, which may write elsewhere
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, "VACUUM INTO ?", path); err != nil {
		os.Remove(path)
		return fmt.Errorf("backup to %s: %w", path, Named(err))
	}
	return nil
}

// backups are the names of directories for backups that are on their way.
const backups = ".backup-*"

// sweep removes what is left of backups that were on their way when the service was killed.
func (d *Database) sweep() {
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(d.path), backups))
	for _, dir := range left {
		os.RemoveAll(dir)
	}
}

// BackupDir makes a directory beside the database for a backup that is on its way elsewhere; remove deletes it.
func (d *Database) BackupDir() (dir string, remove func(), err error) {
	dir, err = os.MkdirTemp(filepath.Dir(d.path), backups)
	if err != nil {
		return "", nil, Named(err)
	}
	return dir, func() { os.RemoveAll(dir) }, nil
}

// Restore puts a backup in the place of the database in dir, which nobody has open; what it replaces stays beside it, under the name that is
// returned. The backup is checked before anything is replaced, and stays where it is.
func Restore(ctx context.Context, backup, dir string, now time.Time) (kept string, err error) {
	if err := inspect(ctx, backup, newest()); err != nil {
		return "", fmt.Errorf("%s: %w", backup, err)
	}
	if info, err := os.Stat(backup); err != nil || info.Size() == 0 {
		return "", errors.Join(err, fmt.Errorf("%s is no backup: it is empty", backup))
	}
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return "", Named(err)
	}
	path := filepath.Join(dir, FileName)
	lock := flock.New(filepath.Join(dir, LockName), flock.SetPermissions(0o640))
	if mine, err := lock.TryLock(); err != nil {
		return "", Named(err)
	} else if !mine {
		return "", fmt.Errorf("%s: %w", path, ErrInUse)
	}
	defer lock.Close()
	work, err := os.MkdirTemp(dir, backups)
	if err != nil {
		return "", Named(err)
	}
	defer os.RemoveAll(work)
	fresh := filepath.Join(work, FileName)
	if err := copyFile(backup, fresh); err != nil {
		return "", Named(err)
	}
	if err := inspect(ctx, fresh, newest()); err != nil { // as it was copied
		return "", fmt.Errorf("%s: %w", backup, err)
	}
	if _, err := os.Stat(path); err == nil {
		kept = path + ".before-" + now.UTC().Format("20060102-150405")
		if _, err := os.Lstat(kept); err == nil {
			return "", fmt.Errorf("%s is there already; try again in a second", kept)
		}
		for _, tail := range []string{"-wal", "-shm", ""} { // the log belongs to it; the database last, so that it is there until all of it has moved
			if err := os.Rename(path+tail, kept+tail); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return "", Named(err)
			}
		}
	}
	if err := os.Rename(fresh, path); err != nil {
		return kept, Named(err)
	}
	return kept, settle(dir)
}

// copyFile copies a file, which is on the disk when it returns.
func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o640)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// settle puts the names in a directory on the disk.
func settle(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// DailyDir is where daily backups are, within the data directory.
const DailyDir = "backups"

// Daily makes the backup of a day, unless it is there, and removes those that are older than so many days.
func (d *Database) Daily(ctx context.Context, now time.Time, days int) error {
	dir := filepath.Join(d.dir, DailyDir)
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return Named(err)
	}
	name := func(day time.Time) string {
		return filepath.Join(dir, "arithmon-"+day.UTC().Format(time.DateOnly)+".db")
	}
	if _, err := os.Stat(name(now)); errors.Is(err, fs.ErrNotExist) {
		work, remove, err := d.BackupDir()
		if err != nil {
			return err
		}
		defer remove()
		fresh := filepath.Join(work, FileName)
		if err := d.Backup(ctx, fresh); err != nil {
			return err
		}
		if err := os.Rename(fresh, name(now)); err != nil {
			return Named(err)
		}
	}
	list, err := filepath.Glob(filepath.Join(dir, "arithmon-????-??-??.db"))
	if err != nil {
		return err
	}
	for _, path := range list {
		if path < name(now.AddDate(0, 0, -days+1)) {
			if err := os.Remove(path); err != nil {
				return Named(err)
			}
		}
	}
	return nil
}

package database

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
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

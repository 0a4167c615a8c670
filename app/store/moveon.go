package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/jmoiron/sqlx"

	"redlocket/schema"
)

// before is what is added to a file's name for the copy of it as the version before left it.
const before = ".before"

// moveOn brings a file of an earlier version to the present one. A copy of it as it was is kept until
// [Store.Settled]; if anything fails the file is as it was.
func moveOn(ctx context.Context, steps schema.Steps, db *sqlx.DB, file string) error {
	taken, more, err := steps.Left(ctx)
	if err != nil || !more {
		return err
	}
	if taken > 0 {
		if err := copyBefore(ctx, db, file); err != nil {
			return fmt.Errorf("failed to copy it before it is moved on: %w", err)
		}
	}
	err = steps.Take(ctx)
	if err == nil || taken == 0 {
		return err
	}
	return errors.Join(err, db.Close(), putBack(file))
}

// copyBefore writes the copy whole or not at all.
func copyBefore(ctx context.Context, db *sqlx.DB, file string) error {
	tmp := file + before + ".new"
	if err := removeAll(tmp); err != nil {
		return err
	}
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, tmp); err != nil {
		return errors.Join(err, removeAll(tmp))
	}
	return errors.Join(os.Chmod(tmp, 0o600), os.Rename(tmp, file+before))
}

// putBack puts the copy in the file's place.
func putBack(file string) error {
	if err := removeAll(file); err != nil {
		return err
	}
	return os.Rename(file+before, file)
}

// Settled notes that the vault was opened as the present version has it: the copy of before isn't needed any more.
func (s *Store) Settled() error {
	if _, err := os.Stat(s.file + before); err != nil {
		return nil //nolint:nilerr // there is none
	}
	if err := removeAll(s.file + before); err != nil {
		return fmt.Errorf("failed to remove the copy of %s: %w", filepath.Base(s.file), err)
	}
	return nil
}

// Package schema brings the tables of a SQLite file to the version that the program knows. Each step is a file of SQL
// whose name begins with its number; a step is taken whole or not at all, and forward only. Which were taken is noted
// in the file itself (by goose, in goose_db_version).
package schema

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"

	"github.com/pressly/goose/v3"
)

// ErrNewer is returned for a file that a newer version of the program wrote: it may mean something that this one
// doesn't know.
var ErrNewer = errors.New("a newer version of the program wrote it")

// Steps are the steps of one file.
type Steps struct{ provider *goose.Provider }

// Of returns the steps for a file, by the *.sql files of a folder.
func Of(db *sql.DB, folder fs.FS) (Steps, error) {
	names, err := fs.Glob(folder, "*.sql")
	if err != nil {
		return Steps{}, err
	}
	var steps []*goose.Migration
	for _, name := range names {
		number, err := goose.NumericComponent(name)
		if err != nil {
			return Steps{}, fmt.Errorf("%s has no number: %w", name, err)
		}
		text, err := fs.ReadFile(folder, name)
		if err != nil {
			return Steps{}, err
		}
		// SQLite itself finds the statements in a text: goose needs not part it at each start.
		up := func(ctx context.Context, tx *sql.Tx) error {
			_, err := tx.ExecContext(ctx, string(text))
			return err
		}
		steps = append(steps, goose.NewGoMigration(number, &goose.GoFunc{RunTx: up}, nil))
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, nil,
		goose.WithGoMigrations(steps...), goose.WithDisableGlobalRegistry(true))
	return Steps{p}, err
}

// Left returns how many steps were taken and whether there are more. The error is ErrNewer if there are more in the
// file than the program knows.
func (s Steps) Left(ctx context.Context) (taken int64, more bool, err error) {
	taken, known, err := s.provider.GetVersions(ctx)
	if err == nil && taken > known {
		err = ErrNewer
	}
	return taken, taken < known, err
}

// Take takes the steps that are left.
func (s Steps) Take(ctx context.Context) error {
	_, err := s.provider.Up(ctx)
	return err
}

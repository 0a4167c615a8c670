// Package importing takes files in and gives them out.
//
// [Imports] reads files, plans what bringing them in would do, carries the plan out in the
// background, and takes an import back. [Exports] writes items in clear. [Backups] writes
// everything sealed with a passphrase, once or by a schedule, and reads it back. What files
// mean, and how a plan joins them with what is there, package transfer says.
package importing

import (
	"context"
	"io"
	"time"

	"redlocket/app/gate"
	"redlocket/app/reauth"
	"redlocket/app/records"
)

// Config is what importing works with.
type Config struct {
	Set     *records.Set
	Guard   *reauth.Guard
	Now     func() time.Time
	Folders Folders                     // for scheduled backups; nil without a file system
	Email   func() string               // of the vault's person; some formats name it
	Vault   string                      // id of the vault; backups are named by it
	Changed func()                      // an import has ended
	Written func(context.Context) error // a backup was written
	Steps   gate.Steps                  // for tests
}

// Folders are where scheduled backups are written.
type Folders interface {
	// Put writes a file whole or not at all.
	Put(dir, name string, write func(io.Writer) error) error
	Open(dir, name string) (io.ReadCloser, error)
	List(dir string) ([]string, error)
	Remove(dir, name string) error
}

// Importing is all of it, as its parts.
type Importing struct {
	Imports *Imports
	Exports *Exports
	Backups *Backups
}

// Open returns importing for an open vault.
func Open(cfg Config) *Importing {
	return &Importing{
		Imports: &Imports{cfg: cfg, gate: gate.New(&current{}, cfg.Steps)},
		Exports: &Exports{cfg},
		Backups: &Backups{cfg},
	}
}

// Close drops the import that is being prepared, and stops the one under way.
func (i *Importing) Close() {
	if c := i.Imports.gate.Close(); c != nil && c.job != nil {
		c.job.Stop()
	}
}

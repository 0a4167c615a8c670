// Package store keeps profiles in SQLite, one file each, in one folder.
//
// A file holds sealed records, the profile's card, and where it stands to the
// cloud. Every write is one transaction, flushed to disk before it returns, so a
// process killed at any moment leaves the state before or after it.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the driver, without cgo

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/core/ledger"
	"redlocket/schema"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Folder is the folder that holds this computer's profiles.
type Folder struct{ dir string }

// In returns the profiles kept in dir, which is made if it isn't there. Only the
// user of this computer account may read it.
func In(dir string) (*Folder, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("failed to make the data folder: %w", err)
	}
	return &Folder{dir}, nil
}

const suffix = ".vault"

func (f *Folder) path(id string) string { return filepath.Join(f.dir, id+suffix) }

// List returns the ids of the profiles.
func (f *Folder) List(context.Context) ([]string, error) {
	entries, err := os.ReadDir(f.dir)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, e := range entries {
		if id, ok := strings.CutSuffix(e.Name(), suffix); ok && uuid.Validate(id) == nil {
			ids = append(ids, id)
		}
	}
	return ids, nil
}

// Open opens a profile. The error is app.ErrNoProfile if there is none.
func (f *Folder) Open(ctx context.Context, id string) (app.Store, error) {
	if uuid.Validate(id) != nil {
		return nil, app.ErrNoProfile
	}
	if _, err := os.Stat(f.path(id)); errors.Is(err, fs.ErrNotExist) {
		return nil, app.ErrNoProfile
	}
	return open(ctx, f.path(id))
}

// Create makes a profile under a passing name, fills it, and gives it its name
// last: a crash leaves no half profile.
func (f *Folder) Create(ctx context.Context, id string, fill func(app.Store) error) (app.Store, error) {
	if uuid.Validate(id) != nil {
		return nil, fmt.Errorf("a profile's id is a UUID, not %q", id)
	}
	tmp := f.path(id) + ".new"
	s, err := open(ctx, tmp)
	if err != nil {
		return nil, err
	}
	err = fill(s)
	if err == nil {
		_, err = s.db.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`)
	}
	err = errors.Join(err, s.Close())
	if err == nil {
		err = os.Rename(tmp, f.path(id))
	}
	if err != nil {
		err = errors.Join(err, removeAll(tmp))
		return nil, err
	}
	return open(ctx, f.path(id))
}

// Remove deletes a profile's file. It must not be open.
func (f *Folder) Remove(_ context.Context, id string) error {
	if uuid.Validate(id) != nil {
		return app.ErrNoProfile
	}
	return errors.Join(removeAll(f.path(id)), removeAll(f.path(id)+before), removeAll(f.path(id)+before+".new"))
}

func removeAll(file string) error {
	var err error
	for _, ext := range []string{"", "-wal", "-shm"} {
		if e := os.Remove(file + ext); e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	return err
}

// Store is one profile's file.
type Store struct {
	db   *sqlx.DB
	file string
}

func open(ctx context.Context, file string) (*Store, error) {
	db, err := sqlx.Open(
		"sqlite",
		"file:"+file+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)"+
			"&_pragma=busy_timeout(10000)&_pragma=secure_delete(ON)&_txlock=immediate",
	)
	if err != nil {
		return nil, fmt.Errorf("failed to open %s: %w", filepath.Base(file), err)
	}
	db.SetMaxOpenConns(2)
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	steps, err := schema.Of(db.DB, dir)
	if err == nil {
		err = moveOn(ctx, steps, db, file)
	}
	if errors.Is(err, schema.ErrNewer) {
		err = errNewer
	}
	if err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("failed to open %s: %w", filepath.Base(file), err)
	}
	return &Store{db, file}, nil
}

// errNewer says what [schema.ErrNewer] means for a vault.
var errNewer = errors.New("a newer version of Red Locket wrote this vault: this one leaves it as it is. " +
	"Use the newer one")

// Forget empties the file's log: pages that were freed are overwritten already.
func (s *Store) Forget(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`)
	return err
}

// Close closes the file.
func (s *Store) Close() error { return s.db.Close() }

// Profile reads the profile's card.
func (s *Store) Profile(ctx context.Context) (c app.Profile, err error) {
	var text string
	if err := s.db.GetContext(ctx, &text, `SELECT card FROM card`); err != nil {
		return c, fmt.Errorf("failed to read the profile's card: %w", err)
	}
	return c, json.Unmarshal([]byte(text), &c)
}

// SetProfile writes the profile's card.
func (s *Store) SetProfile(ctx context.Context, c app.Profile) error {
	b, err := json.Marshal(c)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(
		ctx,
		`INSERT INTO card (one, card) VALUES (1, ?) ON CONFLICT (one) DO UPDATE SET card = excluded.card`,
		string(b),
	)
	return err
}

// Checkpoint reads the last verified head; zero before the first.
func (s *Store) Checkpoint(ctx context.Context) (st records.Checkpoint, err error) {
	var head, floor []byte
	err = s.db.QueryRowxContext(ctx, `SELECT number, head, floor, floor_hash, epoch, at FROM stand`).
		Scan(&st.Number, &head, &st.Floor, &floor, &st.Epoch, &st.At)
	if errors.Is(err, sql.ErrNoRows) {
		return st, nil
	}
	copy(st.Head[:], head)
	copy(st.FloorHash[:], floor)
	return st, err
}

// Rows calls fn for every record.
func (s *Store) Rows(ctx context.Context, fn func(records.Row) error) error {
	rows, err := s.db.QueryContext(ctx, `SELECT id, rev, blob, base_rev, base_hash FROM records`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var r records.Row
		var blob, hash sql.RawBytes
		if err := rows.Scan(&r.ID, &r.Rev, &blob, &r.BaseRev, &hash); err != nil {
			return err
		}
		r.Blob = blob
		copy(r.BaseHash[:], hash)
		if err := fn(r); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Blobs reads the sealed bytes of records.
func (s *Store) Blobs(ctx context.Context, ids []string) (map[string][]byte, error) {
	out := make(map[string][]byte, len(ids))
	get, err := s.db.PreparexContext(ctx, `SELECT blob FROM records WHERE id = ?`)
	if err != nil {
		return nil, err
	}
	defer func() { _ = get.Close() }()
	for _, id := range ids {
		var b []byte
		if err := get.GetContext(ctx, &b, id); err != nil {
			return nil, fmt.Errorf("failed to read record %s: %w", id, err)
		}
		out[id] = b
	}
	return out, nil
}

// Put writes records, and the stand if one is given.
func (s *Store) Put(ctx context.Context, rows []records.Row, stand *records.Checkpoint) error {
	return s.write(ctx, rows, stand, false)
}

// Restart writes records and the stand, and notes that no head vouches for any other record, and
// that the cloud has no file.
func (s *Store) Restart(ctx context.Context, rows []records.Row, stand records.Checkpoint) error {
	return s.write(ctx, rows, &stand, true)
}

func (s *Store) write(ctx context.Context, rows []records.Row, stand *records.Checkpoint, restart bool) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if restart {
		_, err := tx.ExecContext(ctx, `UPDATE records SET base_rev = 0, base_hash = ?`, hash(ledger.Hash{}))
		if err == nil { // nor is it known which files the cloud has
			_, err = tx.ExecContext(ctx, `UPDATE files SET sent = 0`)
		}
		if err != nil {
			return err
		}
	}
	put, err := tx.PreparexContext(ctx, `INSERT INTO records (id, rev, blob, base_rev, base_hash) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET rev = excluded.rev, blob = excluded.blob, base_rev = excluded.base_rev,
			base_hash = excluded.base_hash`)
	if err != nil {
		return err
	}
	defer func() { _ = put.Close() }()
	vouch, err := tx.PreparexContext(ctx, `UPDATE records SET base_rev = ?, base_hash = ? WHERE id = ?`)
	if err != nil {
		return err
	}
	defer func() { _ = vouch.Close() }()
	for _, r := range rows {
		if r.Blob == nil {
			if _, err := vouch.ExecContext(ctx, r.BaseRev, hash(r.BaseHash), r.ID); err != nil {
				return err
			}
			continue
		}
		if _, err := put.ExecContext(ctx, r.ID, r.Rev, r.Blob, r.BaseRev, hash(r.BaseHash)); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, `UPDATE generation SET n = n + 1`); err != nil {
		return err
	}
	if stand != nil {
		if _, err := tx.ExecContext(ctx, `INSERT INTO stand (one, number, head, floor, floor_hash, epoch, at) VALUES (1,
			?, ?, ?, ?, ?, ?)
			ON CONFLICT (one) DO UPDATE SET number = excluded.number, head = excluded.head, floor =
				excluded.floor, floor_hash = excluded.floor_hash, epoch = excluded.epoch, at = excluded.at`,
			stand.Number, hash(stand.Head), stand.Floor, hash(stand.FloorHash), stand.Epoch, stand.At); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Generation counts the Puts.
func (s *Store) Generation(ctx context.Context) (n uint64, err error) {
	return n, s.db.GetContext(ctx, &n, `SELECT n FROM generation`)
}

func hash(h ledger.Hash) []byte { return h[:] }

// Local reads sealed bytes of a name; nil if there are none.
func (s *Store) Local(ctx context.Context, name string) (b []byte, err error) {
	err = s.db.GetContext(ctx, &b, `SELECT sealed FROM local WHERE name = ?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return b, err
}

// SetLocal writes sealed bytes under a name, or removes them if nil.
func (s *Store) SetLocal(ctx context.Context, name string, sealed []byte) (err error) {
	if sealed == nil {
		_, err = s.db.ExecContext(ctx, `DELETE FROM local WHERE name = ?`, name)
	} else {
		_, err = s.db.ExecContext(ctx,
			`INSERT INTO local (name, sealed) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET sealed =
				excluded.sealed`, name, sealed)
	}
	return err
}

package cloud

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the driver, without cgo

	"redlocket/core/keys"
	"redlocket/core/wire"
	"redlocket/schema"
)

//go:embed migrations/*.sql
var migrations embed.FS

// The store's errors that handlers act on.
var (
	errNoAccount = errors.New("no such account")
	errTaken     = errors.New("the e-mail address has an account already")
	errConflict  = errors.New("the commit isn't on top of the newest head")
	errNoSession = errors.New("no such session")
)

type store struct {
	db    *sqlx.DB
	quota Quota
	quick *sqlx.DB // the same file, for what may be lost with the power: it doesn't wait for the disk

	dropped atomic.Int64 // when old letters were dropped last, in milliseconds since 1970
}

type account struct {
	Account         string `db:"account"`
	Email           string `db:"email"`
	Vault           string `db:"vault"`
	Params          string `db:"params"`
	SignIn          []byte `db:"sign_in"`
	RecoverySignIn  []byte `db:"recovery_sign_in"`
	Wrapped         []byte `db:"wrapped"`
	RecoveryWrapped []byte `db:"recovery_wrapped"`
	Head            uint64 `db:"head"`
	HeadHash        string `db:"head_hash"`
	Created         int64  `db:"created"`
	Epoch           uint32 `db:"epoch"`
	Statement       []byte `db:"statement"` // that began the epoch, as JSON; nil in the first one
}

func (a account) params() (p keys.Params, err error) {
	err = json.Unmarshal([]byte(a.Params), &p)
	return p, err
}

// shown is what a proof of one of the account's keys is held against, and what that key wraps.
func (a account) shown(recovery bool) (purpose string, public, wrapped []byte) {
	if recovery {
		return wire.ProofRecovery, a.RecoverySignIn, a.RecoveryWrapped
	}
	return wire.ProofSignIn, a.SignIn, a.Wrapped
}

func openStore(ctx context.Context, file string) (*store, error) {
	if err := ownFile(file); err != nil {
		return nil, err
	}
	open := func(synchronous string) (*sqlx.DB, error) {
		db, err := sqlx.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=synchronous("+synchronous+
			")&_pragma=busy_timeout(10000)&_txlock=immediate")
		if err != nil {
			return nil, fmt.Errorf("failed to open the cloud's database: %w", err)
		}
		db.SetMaxOpenConns(4)
		return db, nil
	}
	db, err := open("FULL")
	if err != nil {
		return nil, err
	}
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	steps, err := schema.Of(db.DB, dir)
	if err == nil {
		_, _, err = steps.Left(ctx)
	}
	if err == nil {
		err = steps.Take(ctx)
	}
	if errors.Is(err, schema.ErrNewer) {
		err = errNewer
	}
	if err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("failed to bring the cloud's database up to date: %w", err)
	}
	quick, err := open("NORMAL")
	if err != nil {
		_ = db.Close()
		return nil, err
	}
	return &store{db: db, quota: DefaultQuota, quick: quick}, nil
}

// errNewer says what [schema.ErrNewer] means for a cloud's database.
var errNewer = errors.New("a newer version of Red Locket wrote this cloud's database: this one leaves it as it is. " +
	"Use the newer one")

// ownFile makes the database's file, and keeps it and what SQLite puts beside it from other accounts of the computer,
// also where they stood before.
func ownFile(file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("failed to open the cloud's database: %w", err)
	}
	if err := f.Close(); err != nil {
		return err
	}
	for _, tail := range []string{"", "-wal", "-shm"} {
		if err := os.Chmod(file+tail, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("failed to keep the cloud's database from others: %w", err)
		}
	}
	return nil
}

func (s *store) close() error { return errors.Join(s.quick.Close(), s.db.Close()) }

func (s *store) check(ctx context.Context) error {
	var n int
	return s.db.GetContext(ctx, &n, `SELECT count(*) FROM meta`)
}

// Backup writes a copy of a cloud's database to a file that isn't there yet, and checks it. The cloud may be running.
func Backup(ctx context.Context, file, to string) (err error) {
	if _, err := os.Stat(file); err != nil {
		return err
	}
	db, err := sqlx.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600) // an empty file is taken, and its mode stays
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, to); err != nil {
		return errors.Join(fmt.Errorf("failed to copy the database: %w", err), os.Remove(to))
	}
	copied, err := sqlx.Open("sqlite", "file:"+to+"?mode=ro")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, copied.Close()) }()
	var is string
	if err := copied.GetContext(ctx, &is, `PRAGMA integrity_check`); err != nil || is != "ok" {
		return errors.Join(fmt.Errorf("the copy can't be read back: %s", is), err)
	}
	return nil
}

// secret returns the cloud's own key of the given name, drawn at first use.
func (s *store) secret(ctx context.Context, name string) ([]byte, error) {
	fresh := make([]byte, 32)
	if _, err := rand.Read(fresh); err != nil {
		return nil, err
	}
	if _, err := s.db.ExecContext(ctx, `INSERT INTO meta (key, value) VALUES (?, ?) ON CONFLICT DO NOTHING`, name,
		fresh); err != nil {
		return nil, err
	}
	var b []byte
	return b, s.db.GetContext(ctx, &b, `SELECT value FROM meta WHERE key = ?`, name)
}

// addAccount makes an account, and uses up what it was let in by.
func (s *store) addAccount(ctx context.Context, a account, by admitted) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := by.useIn(ctx, tx, a.Email); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(
			ctx,
			`INSERT INTO accounts (account, email, vault, params, sign_in, recovery_sign_in, wrapped,
				recovery_wrapped, created)
			VALUES (:account, :email, :vault, :params, :sign_in, :recovery_sign_in, :wrapped, :recovery_wrapped,
				:created)`,
			a,
		)
		if err != nil {
			var n int
			if e := tx.GetContext(ctx, &n, `SELECT 1 FROM accounts WHERE email = ?`, a.Email); e == nil {
				return errTaken
			}
		}
		return err
	})
}

func (s *store) accountByEmail(ctx context.Context, email string) (a account, err error) {
	err = s.db.GetContext(ctx, &a, `SELECT * FROM accounts WHERE email = ?`, email)
	if errors.Is(err, sql.ErrNoRows) {
		err = errNoAccount
	}
	return a, err
}

func (s *store) accountByID(ctx context.Context, id string) (a account, err error) {
	return a, s.db.GetContext(ctx, &a, `SELECT * FROM accounts WHERE account = ?`, id)
}

// setCredentials replaces what opens the account, and ends every other device's session unless they are kept.
func (s *store) setCredentials(
	ctx context.Context, id, device string, a account, keep bool, now time.Time,
) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := keepFormer(ctx, tx, id, a, now); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`UPDATE accounts SET params = ?, sign_in = ?, recovery_sign_in = ?, wrapped = ?,
				recovery_wrapped = ? WHERE account = ?`,
			a.Params, a.SignIn, a.RecoverySignIn, a.Wrapped, a.RecoveryWrapped, id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, dropLate, id); err != nil {
			return err
		}
		if keep {
			return nil
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE account = ? AND device <> ?`, id, device)
		return err
	})
}

func (s *store) putSession(ctx context.Context, account, device string, public []byte, now int64) error {
	_, err := s.db.ExecContext(ctx,
		`INSERT INTO sessions (account, device, public, created, seen) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (account, device) DO UPDATE SET public = excluded.public, seen = excluded.seen`,
		account, device, public, now, now)
	return err
}

// deviceKey returns the key that a device signs with.
func (s *store) deviceKey(ctx context.Context, account, device string) (public []byte, seen int64, err error) {
	err = s.db.QueryRowxContext(ctx, `SELECT public, seen FROM sessions WHERE account = ? AND device = ?`, account,
		device).
		Scan(&public, &seen)
	if errors.Is(err, sql.ErrNoRows) {
		err = errNoSession
	}
	return public, seen, err
}

// errReplayed is returned for a nonce that was there before.
var errReplayed = errors.New("this request was made before")

// useNonce notes a nonce, and forgets those from before a moment.
func (s *store) useNonce(ctx context.Context, account, device, nonce string, at, before int64) error {
	res, err := s.quick.ExecContext(ctx,
		`INSERT INTO nonces (account, device, nonce, at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING`,
		account, device, nonce, at)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, errReplayed)
	}
	if at%64 == 0 { // now and then
		_, err = s.quick.ExecContext(ctx, `DELETE FROM nonces WHERE at < ?`, before)
	}
	return err
}

func (s *store) touch(ctx context.Context, account, device string, now int64) error {
	_, err := s.db.ExecContext(
		ctx,
		`UPDATE sessions SET seen = ? WHERE account = ? AND device = ?`,
		now,
		account,
		device,
	)
	return err
}

func (s *store) endSession(ctx context.Context, account, device string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE account = ? AND device = ?`, account, device)
	return err
}

func (s *store) devices(ctx context.Context, account string) ([]wire.Device, error) {
	var list []wire.Device
	rows, err := s.db.QueryxContext(
		ctx,
		`SELECT device, created, seen FROM sessions WHERE account = ? ORDER BY created`,
		account,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var d wire.Device
		if err := rows.Scan(&d.ID, &d.Since, &d.Seen); err != nil {
			return nil, err
		}
		list = append(list, d)
	}
	return list, rows.Err()
}

// commit takes a commit whole or not at all.
func (s *store) commit(ctx context.Context, account string, c wire.Commit, now time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		return s.within(ctx, tx, account, func() error { return commitIn(ctx, tx, account, c, now) })
	})
}

// keptHeads is how long heads are kept: no device is away for longer and still asks for what followed.
const keptHeads = 190 * 24 * time.Hour

func commitIn(ctx context.Context, tx *sqlx.Tx, account string, c wire.Commit, now time.Time) error {
	res, err := tx.ExecContext(
		ctx,
		`UPDATE accounts SET head = head + 1, head_hash = ? WHERE account = ? AND head = ? AND head_hash = ?`,
		hashHex(c.Head.Blob),
		account,
		c.Head.Number-1,
		c.Parent,
	)
	if err := one(res, err, errConflict); err != nil {
		return err
	}
	return addCommit(ctx, tx, account, c, now)
}

// addCommit adds a commit to a chain that was moved on: of an account, or of an epoch of a shared set.
func addCommit(ctx context.Context, tx *sqlx.Tx, account string, c wire.Commit, now time.Time) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO heads (account, number, blob, at) VALUES (?, ?, ?, ?)`, account,
		c.Head.Number, c.Head.Blob, now.UnixMilli()); err != nil {
		return err
	}
	if c.Head.Number%64 == 0 { // now and then
		if _, err := tx.ExecContext(ctx, `DELETE FROM heads WHERE account = ? AND at < ? AND number < ?`, account,
			now.Add(-keptHeads).UnixMilli(), c.Head.Number); err != nil {
			return err
		}
	}
	put, err := tx.PreparexContext(
		ctx,
		`INSERT INTO records (account, record, rev, head, blob) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (account, record) DO UPDATE SET rev = excluded.rev, head = excluded.head, blob = excluded.blob`,
	)
	if err != nil {
		return err
	}
	defer func() { _ = put.Close() }()
	for _, r := range c.Records {
		if _, err := put.ExecContext(ctx, account, r.ID, r.Rev, c.Head.Number, r.Blob); err != nil {
			return err
		}
	}
	return nil
}

// one returns an error unless a statement changed one row.
func one(res sql.Result, err, other error) error {
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 {
		return errors.Join(err, other)
	}
	return nil
}

// records reads some records as they are now, those that are there.
func (s *store) records(ctx context.Context, account string, ids []string) ([]wire.Record, error) {
	get, err := s.db.PreparexContext(ctx, `SELECT rev, blob FROM records WHERE account = ? AND record = ?`)
	if err != nil {
		return nil, err
	}
	defer func() { _ = get.Close() }()
	out := []wire.Record{}
	for _, id := range ids {
		r := wire.Record{ID: id}
		err := get.QueryRowxContext(ctx, account, id).Scan(&r.Rev, &r.Blob)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// partSize is about how many bytes of sealed heads and records are in one part of the changes.
const partSize = 1 << 17

// The places where a part begins: after a head, or after a record.
const (
	afterHead   = "h"
	afterRecord = "r"
)

// changes reads a part of what came after a head, at one moment: the first one, or the one that begins where another
// ended.
func (s *store) changes(ctx context.Context, account string, since uint64, from string) (c wire.Changes, err error) {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return c, err
	}
	defer func() { _ = tx.Rollback() }()
	if err := tx.QueryRowxContext(ctx, `SELECT head, head_hash, epoch FROM accounts WHERE account = ?`, account).
		Scan(&c.Latest, &c.Tip, &c.Epoch); err != nil {
		return c, err
	}
	return c, s.part(ctx, tx, account, since, from, &c)
}

// part reads a part of what came after a head of a chain.
func (s *store) part(
	ctx context.Context, tx *sqlx.Tx, account string, since uint64, from string, c *wire.Changes,
) (err error) {
	room := partSize
	at := place{since + 1, ""}
	record, isRecord := strings.CutPrefix(from, afterRecord)
	if isRecord {
		if at, err = parsePlace(record); err != nil {
			return err
		}
	} else {
		after := since
		if n, ok := strings.CutPrefix(from, afterHead); ok {
			if after, err = strconv.ParseUint(n, 10, 63); err != nil {
				return errPart
			}
		}
		if err := s.headsAfter(ctx, tx, account, after, &room, c); err != nil || c.More != "" {
			return err
		}
	}
	return s.recordsAfter(ctx, tx, account, at, &room, c)
}

// errPart is returned for a place where no part begins.
var errPart = errors.New("no part begins there")

// place is where a record is among the changes: the head that it came with, and its id.
type place struct {
	head   uint64
	record string
}

func (p place) String() string { return strconv.FormatUint(p.head, 10) + "." + p.record }

func parsePlace(s string) (p place, err error) {
	head, record, ok := strings.Cut(s, ".")
	if p.head, err = strconv.ParseUint(head, 10, 63); err != nil || !ok {
		return p, errPart
	}
	p.record = record
	return p, nil
}

func (s *store) headsAfter(
	ctx context.Context, tx *sqlx.Tx, account string, after uint64, room *int, c *wire.Changes,
) error {
	const q = `SELECT number, blob FROM heads WHERE account = ? AND number > ? ORDER BY number`
	rows, err := tx.QueryxContext(ctx, q, account, after)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if *room <= 0 {
			c.More = afterHead + strconv.FormatUint(c.Heads[len(c.Heads)-1].Number, 10)
			return nil
		}
		var h wire.Head
		if err := rows.Scan(&h.Number, &h.Blob); err != nil {
			return err
		}
		c.Heads = append(c.Heads, h)
		*room -= len(h.Blob)
	}
	return rows.Err()
}

func (s *store) recordsAfter(
	ctx context.Context, tx *sqlx.Tx, account string, at place, room *int, c *wire.Changes,
) error {
	rows, err := tx.QueryxContext(
		ctx,
		`SELECT record, head, rev, blob FROM records WHERE account = ? AND (head, record) > (?, ?)
			ORDER BY head, record`,
		account, at.head, at.record,
	)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if *room <= 0 {
			c.More = afterRecord + at.String()
			return nil
		}
		var r wire.Record
		if err := rows.Scan(&r.ID, &at.head, &r.Rev, &r.Blob); err != nil {
			return err
		}
		at.record = r.ID
		c.Records = append(c.Records, r)
		*room -= len(r.Blob)
	}
	return rows.Err()
}

func (s *store) addIntroduction(ctx context.Context, account, id string, secret, key []byte, now int64) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM introductions WHERE created < ?`,
			now-introductionLife.Milliseconds()); err != nil {
			return err
		}
		_, err := tx.ExecContext(
			ctx,
			`INSERT INTO introductions (account, id, secret, public_key, created) VALUES (?, ?, ?, ?, ?)`,
			account,
			id,
			secret,
			key,
			now,
		)
		return err
	})
}

func (s *store) introductions(ctx context.Context, account string, now int64) ([]wire.Introduction, error) {
	var out []wire.Introduction
	rows, err := s.db.QueryxContext(
		ctx,
		`SELECT id, public_key FROM introductions WHERE account = ? AND sealed IS NULL AND created > ?
			ORDER BY created DESC LIMIT 20`,
		account,
		now-introductionLife.Milliseconds(),
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var in wire.Introduction
		if err := rows.Scan(&in.ID, &in.PublicKey); err != nil {
			return nil, err
		}
		out = append(out, in)
	}
	return out, rows.Err()
}

func (s *store) answerIntroduction(ctx context.Context, account, id string, sealed []byte) error {
	res, err := s.db.ExecContext(
		ctx,
		`UPDATE introductions SET sealed = ? WHERE account = ? AND id = ? AND sealed IS NULL`,
		sealed,
		account,
		id,
	)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, errNoSession)
	}
	return nil
}

func (s *store) introductionAnswer(
	ctx context.Context, account, id string, secret []byte,
) (sealed []byte, err error) {
	err = s.db.GetContext(ctx, &sealed,
		`SELECT sealed FROM introductions WHERE account = ? AND id = ? AND secret = ?`, account, id, secret)
	if errors.Is(err, sql.ErrNoRows) {
		err = errNoSession
	}
	return sealed, err
}

func (s *store) tx(ctx context.Context, do func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		_ = tx.Rollback()
		return err
	}
	return tx.Commit()
}

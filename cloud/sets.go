package cloud

import (
	"context"
	"database/sql"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"redlocket/core/share"
	"redlocket/core/wire"
)

// Shared sets are held by several people. The cloud knows their addresses, and lets those change or manage a set who
// may, as far as the one who began the epoch said: the members' devices believe it nothing of that. Nobody is told
// whether an address has an account.

// The errors of shared sets.
var (
	errNotMember = errors.New("there is no such set, or you may not do that")
	errManySets  = errors.New("too many sets")
)

// chainOf names the chain of an epoch, where accounts have theirs.
func chainOf(set string, epoch uint32) string { return share.EpochID(set, epoch) }

// setOf reads the set that a request names.
func setOf(w http.ResponseWriter, r *http.Request) (set string, ok bool) {
	set = chi.URLParam(r, "set")
	if uuid.Validate(set) != nil {
		fail(w, http.StatusNotFound, wire.CodeNotFound, errNotMember.Error())
		return "", false
	}
	return set, true
}

// epochOf reads the epoch that a request names, too.
func epochOf(w http.ResponseWriter, r *http.Request) (set string, epoch uint32, ok bool) {
	set, epoch, err := parseEpoch(r)
	if err != nil {
		fail(w, http.StatusNotFound, wire.CodeNotFound, err.Error())
	}
	return set, epoch, err == nil
}

func parseEpoch(r *http.Request) (set string, epoch uint32, err error) {
	set = chi.URLParam(r, "set")
	n, err := strconv.ParseUint(chi.URLParam(r, "epoch"), 10, 31)
	if err != nil || uuid.Validate(set) != nil {
		return "", 0, errNotMember
	}
	return set, uint32(n), nil
}

// setDone answers what was done with a set.
func (s *Server) setDone(w http.ResponseWriter, r *http.Request, err error) {
	switch {
	case errors.Is(err, errNotMember):
		fail(w, http.StatusNotFound, wire.CodeNotFound, err.Error())
	case errors.Is(err, errConflict):
		fail(w, http.StatusConflict, wire.CodeConflict, err.Error())
	case errors.Is(err, errManySets):
		fail(w, http.StatusInsufficientStorage, wire.CodeManySets, err.Error())
	case errors.Is(err, errNoRoom):
		fail(w, http.StatusInsufficientStorage, wire.CodeNoRoom, err.Error())
	case errors.Is(err, errPart):
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
	default:
		s.done(w, r, err)
	}
}

// sets lists what the account's owner holds, and what waits for them.
func (s *Server) sets(w http.ResponseWriter, r *http.Request) {
	list, err := s.store.sets(r.Context(), of(r).account, s.now())
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, list)
}

// checkSetEpoch refuses what no device of ours sends.
func checkSetEpoch(in *wire.NewSetEpoch) error {
	bad := errors.New("this is no epoch of a shared set")
	if in.Epoch == 0 || len(in.Members) == 0 || len(in.Members) > wire.MaxMembers || len(in.Out) > wire.MaxMembers {
		return bad
	}
	managed, seen := false, map[string]bool{}
	for _, list := range [][]wire.SetMember{in.Members, in.Out} {
		for i, m := range list {
			email, err := NormalEmail(m.Email)
			if err != nil || seen[email] || len(m.Sealed) == 0 || len(m.Sealed) > wire.MaxSetBox {
				return bad
			}
			list[i].Email, seen[email] = email, true
		}
	}
	for _, m := range in.Members {
		managed = managed || m.Manage
	}
	if !managed {
		return bad
	}
	return nil
}

func (s *Server) beginSetEpoch(w http.ResponseWriter, r *http.Request) {
	set, ok := setOf(w, r)
	var in wire.NewSetEpoch
	if !ok || !read(w, r, &in) {
		return
	}
	if err := checkSetEpoch(&in); err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	fresh, err := s.store.beginSetEpoch(r.Context(), of(r).account, set, in, s.now())
	if err == nil {
		for _, address := range fresh {
			s.tellLetter(w, r, address, wire.NewLetter{Kind: wire.LetterNote, First: in.First})
		}
		s.tellSet(r.Context(), set, in.Out...)
	}
	s.setDone(w, r, err)
}

func (s *Server) setChanges(w http.ResponseWriter, r *http.Request) {
	set, epoch, ok := epochOf(w, r)
	if !ok {
		return
	}
	since, err := strconv.ParseUint(r.URL.Query().Get("since"), 10, 63)
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "since must be a number")
		return
	}
	c, err := s.store.setChanges(r.Context(), of(r).account, set, epoch, since, r.URL.Query().Get("from"))
	if err != nil {
		s.setDone(w, r, err)
		return
	}
	reply(w, c)
}

func (s *Server) commitSet(w http.ResponseWriter, r *http.Request) {
	set, epoch, ok := epochOf(w, r)
	var in wire.Commit
	if !ok || !read(w, r, &in) {
		return
	}
	if err := checkCommit(in); err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	err := s.store.commitSet(r.Context(), of(r).account, set, epoch, in, s.now())
	if err == nil {
		s.tellSet(r.Context(), set)
	}
	s.setDone(w, r, err)
}

func (s *Server) leaveSet(w http.ResponseWriter, r *http.Request) {
	set, ok := setOf(w, r)
	var in wire.LeaveSet
	if !ok || !read(w, r, &in) {
		return
	}
	if len(in.To) > wire.MaxMembers {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "that are too many")
		return
	}
	err := s.store.leaveSet(r.Context(), of(r).account, set, in, s.now())
	if err == nil {
		s.tellSet(r.Context(), set)
	}
	s.setDone(w, r, err)
}

// box returns something that was sealed to the account's owner.
func (s *Server) box(w http.ResponseWriter, r *http.Request) {
	set, ok := setOf(w, r)
	if !ok {
		return
	}
	b := wire.SetBox{ID: chi.URLParam(r, "box")}
	err := s.store.db.QueryRowxContext(r.Context(), `SELECT epoch, kind, sealed FROM boxes
		WHERE `+toAccount+` AND id = ? AND box = ?`, of(r).account, set, b.ID).Scan(&b.Epoch, &b.Kind, &b.Sealed)
	if errors.Is(err, sql.ErrNoRows) {
		err = errNotMember
	}
	if err != nil {
		s.setDone(w, r, err)
		return
	}
	reply(w, b)
}

// removeBox removes one that the receiver has.
func (s *Server) removeBox(w http.ResponseWriter, r *http.Request) {
	set, ok := setOf(w, r)
	if !ok {
		return
	}
	_, err := s.store.db.ExecContext(r.Context(), `DELETE FROM boxes WHERE `+toAccount+` AND id = ? AND box = ?`,
		of(r).account, set, chi.URLParam(r, "box"))
	s.done(w, r, err)
}

// tellSet has the devices of all members look, and those of others.
func (s *Server) tellSet(ctx context.Context, set string, and ...wire.SetMember) {
	ctx = context.WithoutCancel(ctx)
	var accounts []string
	err := s.store.db.SelectContext(ctx, &accounts,
		`SELECT account FROM members JOIN accounts ON email = address WHERE id = ?`, set)
	for _, m := range and {
		if a, err := s.store.accountByEmail(ctx, m.Email); err == nil {
			accounts = append(accounts, a.Account)
		}
	}
	if err != nil {
		s.log.Warn("members weren't told", "err", err) // they look every minute
	}
	for _, a := range accounts {
		s.hub.tell(a, 0)
	}
}

// setBoxLife is how long a box waits for a former member.
const setBoxLife = wire.SetBoxDays * aDay

func (s *store) sets(ctx context.Context, account string, now time.Time) ([]wire.SharedSet, error) {
	list := []wire.SharedSet{}
	at := map[string]int{}
	err := s.db.SelectContext(ctx, &list, `SELECT id, epoch, head AS latest, head_hash AS tip, 1 AS member
		FROM members JOIN sets USING (id) WHERE `+toAccount+` ORDER BY id`, account)
	if err != nil {
		return nil, err
	}
	for i, l := range list {
		at[l.ID] = i
	}
	var boxes []struct {
		Set string `db:"id"`
		wire.SetBox
		Box string `db:"box"`
	}
	err = s.db.SelectContext(ctx, &boxes, `SELECT id, epoch, box, kind FROM boxes WHERE `+toAccount+`
		AND at >= ? ORDER BY id, epoch, box`, account, now.Add(-setBoxLife).UnixMilli())
	if err != nil {
		return nil, err
	}
	for _, b := range boxes {
		i, ok := at[b.Set]
		if !ok {
			i = len(list)
			at[b.Set] = i
			list = append(list, wire.SharedSet{ID: b.Set})
		}
		b.SetBox.ID = b.Box
		list[i].Waiting = append(list[i].Waiting, b.SetBox)
	}
	return list, nil
}

// may returns the newest epoch of a set, if the account's owner is a member of it who may do something: "1" for any.
func may(ctx context.Context, tx *sqlx.Tx, account, set, right string) (epoch uint32, err error) {
	err = tx.GetContext(ctx, &epoch, `SELECT epoch FROM members JOIN sets USING (id)
		WHERE `+toAccount+` AND id = ? AND `+right, account, set)
	if errors.Is(err, sql.ErrNoRows) {
		err = errNotMember
	}
	return epoch, err
}

// The rights that are asked for.
const (
	mayRead   = "1"
	mayChange = "change"
	mayManage = "manage"
)

// beginSetEpoch begins a set or an epoch of it, and returns the addresses of those who are new in it.
func (s *store) beginSetEpoch(
	ctx context.Context, account, set string, in wire.NewSetEpoch, now time.Time,
) (fresh []string, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if in.Epoch == 1 {
			err = s.newSet(ctx, tx, account, set)
		} else {
			err = nextEpoch(ctx, tx, account, set, in.Epoch)
		}
		if err != nil {
			return err
		}
		var before []string
		if err := tx.SelectContext(ctx, &before, `SELECT address FROM members WHERE id = ?`, set); err != nil {
			return err
		}
		was := map[string]bool{}
		for _, a := range before {
			was[a] = true
		}
		if fresh, err = newMembers(ctx, tx, set, in, was, now); err != nil {
			return err
		}
		return dropOldBoxes(ctx, tx, now)
	})
	return fresh, err
}

func (s *store) newSet(ctx context.Context, tx *sqlx.Tx, account, set string) error {
	var n int
	if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM sets WHERE account = ?`, account); err != nil {
		return err
	}
	if n >= wire.MaxSets {
		return errManySets
	}
	res, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO sets (id, account, epoch) VALUES (?, ?, 1)`, set, account)
	if err := one(res, err, errConflict); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO usage (account) VALUES (?)`, chainOf(set, 1))
	return err
}

// nextEpoch drops what the epoch before had, and begins an empty chain.
func nextEpoch(ctx context.Context, tx *sqlx.Tx, account, set string, epoch uint32) error {
	now, err := may(ctx, tx, account, set, mayManage)
	if err != nil {
		return err
	}
	if epoch != now+1 {
		return errConflict
	}
	if err := dropChain(ctx, tx, chainOf(set, now)); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE sets SET epoch = ?, head = 0, head_hash = '' WHERE id = ?`,
		epoch, set); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO usage (account) VALUES (?)`, chainOf(set, epoch))
	return err
}

func dropChain(ctx context.Context, tx *sqlx.Tx, chain string) error {
	for _, table := range []string{"records", "heads", "chunks", "usage"} {
		if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE account = ?`, chain); err != nil {
			return err
		}
	}
	return nil
}

// newMembers writes who holds an epoch, and what is sealed to each.
func newMembers(
	ctx context.Context, tx *sqlx.Tx, set string, in wire.NewSetEpoch, was map[string]bool, now time.Time,
) (fresh []string, err error) {
	if _, err := tx.ExecContext(ctx, `DELETE FROM members WHERE id = ?`, set); err != nil {
		return nil, err
	}
	box := func(m wire.SetMember, kind string) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO boxes (address, id, epoch, box, kind, sealed, at)
			VALUES (?, ?, ?, ?, ?, ?, ?)`, m.Email, set, in.Epoch, uuid.NewString(), kind, m.Sealed, now.UnixMilli())
		return err
	}
	for _, m := range in.Members {
		if !was[m.Email] {
			fresh = append(fresh, m.Email)
			var n int
			if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM members WHERE address = ?`, m.Email); err != nil {
				return nil, err
			}
			var ours int
			if err := tx.GetContext(ctx, &ours, `SELECT count(*) FROM members JOIN sets USING (id)
				WHERE address = ? AND account = (SELECT account FROM sets WHERE id = ?)`, m.Email, set); err != nil {
				return nil, err
			}
			if n >= wire.MaxSetsOfOne || ours >= wire.MaxSetsFromOne {
				return nil, errManySets
			}
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO members (address, id, change, manage) VALUES (?, ?, ?, ?)`,
			m.Email, set, m.Change || m.Manage, m.Manage); err != nil {
			return nil, err
		}
		if err := box(m, wire.BoxEpoch); err != nil {
			return nil, err
		}
	}
	for _, m := range in.Out {
		if !was[m.Email] {
			continue // who never was in it has nothing to be told
		}
		if err := box(m, wire.BoxFarewell); err != nil {
			return nil, err
		}
	}
	return fresh, nil
}

func dropOldBoxes(ctx context.Context, tx *sqlx.Tx, now time.Time) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM boxes WHERE at < ?`, now.Add(-setBoxLife).UnixMilli())
	return err
}

func (s *store) setChanges(
	ctx context.Context, account, set string, epoch uint32, since uint64, from string,
) (c wire.Changes, err error) {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return c, err
	}
	defer func() { _ = tx.Rollback() }()
	now, err := may(ctx, tx, account, set, mayRead)
	if err != nil {
		return c, err
	}
	if now != epoch {
		return c, errConflict
	}
	if err := tx.QueryRowxContext(ctx, `SELECT head, head_hash, epoch FROM sets WHERE id = ?`, set).
		Scan(&c.Latest, &c.Tip, &c.Epoch); err != nil {
		return c, err
	}
	return c, s.part(ctx, tx, chainOf(set, epoch), since, from, &c)
}

func (s *store) commitSet(
	ctx context.Context, account, set string, epoch uint32, c wire.Commit, now time.Time,
) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		at, err := may(ctx, tx, account, set, mayChange)
		if err != nil {
			return err
		}
		if at != epoch {
			return errConflict
		}
		res, err := tx.ExecContext(ctx, `UPDATE sets SET head = head + 1, head_hash = ?
			WHERE id = ? AND head = ? AND head_hash = ?`, hashHex(c.Head.Blob), set, c.Head.Number-1, c.Parent)
		if err := one(res, err, errConflict); err != nil {
			return err
		}
		if err := addCommit(ctx, tx, chainOf(set, epoch), c, now); err != nil {
			return err
		}
		return s.setsWithin(ctx, tx, set)
	})
}

// setsWithin returns an error if the sets of whoever began this one take more than the quota of an account together.
func (s *store) setsWithin(ctx context.Context, tx *sqlx.Tx, set string) error {
	var u usage
	err := tx.GetContext(ctx, &u, `SELECT COALESCE(sum(records), 0) AS records, COALESCE(sum(bytes), 0) AS bytes,
		COALESCE(sum(files), 0) AS files
		FROM sets JOIN usage ON usage.account = sets.id || '/' || sets.epoch
		WHERE sets.account = (SELECT account FROM sets WHERE id = ?)`, set)
	if err == nil && (u.Records > s.quota.Records || u.Bytes > s.quota.Bytes || u.Files > s.quota.Files) {
		err = errNoRoom
	}
	return err
}

// leaveSet takes the account's owner off a set, and tells those who may manage it.
func (s *store) leaveSet(ctx context.Context, account, set string, in wire.LeaveSet, now time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		at, err := may(ctx, tx, account, set, mayRead)
		if err != nil {
			return err
		}
		if at != in.Epoch {
			return errConflict
		}
		for _, m := range in.To {
			if len(m.Sealed) == 0 || len(m.Sealed) > wire.MaxSetBox {
				continue
			}
			_, err := tx.ExecContext(ctx, `INSERT INTO boxes (address, id, epoch, box, kind, sealed, at)
				SELECT address, id, ?, ?, ?, ?, ? FROM members WHERE address = ? AND id = ? AND manage`,
				in.Epoch, uuid.NewString(), wire.BoxLeave, m.Sealed, now.UnixMilli(), m.Email, set)
			if err != nil {
				return err
			}
		}
		for _, q := range []string{`DELETE FROM members WHERE `, `DELETE FROM boxes WHERE `} {
			if _, err := tx.ExecContext(ctx, q+toAccount+` AND id = ?`, account, set); err != nil {
				return err
			}
		}
		return dropIfEmpty(ctx, tx, set)
	})
}

// leaveSets takes the owner of an account that is deleted off all sets.
func leaveSets(ctx context.Context, tx *sqlx.Tx, account string) error {
	var sets []string
	err := tx.SelectContext(ctx, &sets, `SELECT id FROM members WHERE `+toAccount, account)
	if err != nil {
		return err
	}
	for _, q := range []string{`DELETE FROM members WHERE `, `DELETE FROM boxes WHERE `} {
		if _, err := tx.ExecContext(ctx, q+toAccount, account); err != nil {
			return err
		}
	}
	for _, set := range sets {
		if err := dropIfEmpty(ctx, tx, set); err != nil {
			return err
		}
	}
	return nil
}

// dropIfEmpty drops a set that nobody holds any more.
func dropIfEmpty(ctx context.Context, tx *sqlx.Tx, set string) error {
	var epoch uint32
	err := tx.GetContext(ctx, &epoch, `SELECT epoch FROM sets
		WHERE id = ? AND NOT EXISTS (SELECT 1 FROM members WHERE members.id = sets.id)`, set)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := dropChain(ctx, tx, chainOf(set, epoch)); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `DELETE FROM sets WHERE id = ?`, set)
	return err
}

package cloud

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/jmoiron/sqlx"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

// A master password that was forgotten is replaced by way of a device that still opens by its authenticator: what
// that makes is a *late key*. It changes nothing at once. New credentials that are asked for with it wait, the
// account's owner is mailed, and any of their devices can stop them; only then they come into force, by the same key. A
// present key, another epoch and the end of the device's session end what waits.

// DefaultLateWait is how long new credentials wait.
const DefaultLateWait = time.Hour

const mostLateKeys = 8

// setLateKeys takes the public late keys of a device, in the place of those before. A present key is needed for it.
func (s *Server) setLateKeys(w http.ResponseWriter, r *http.Request) {
	var in wire.LateKeys
	digest, ok := body(w, r, &in)
	if !ok {
		return
	}
	if len(in.Keys) > mostLateKeys || !publicKeys(in.Keys) {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "these are no keys")
		return
	}
	if !s.byPresentKey(w, r, digest) {
		return
	}
	s.done(w, r, s.store.setLateKeys(r.Context(), of(r).account, of(r).device, in.Keys))
}

// byPresentKey reports whether a request is proven by the account's present sign-in key, and answers if not.
func (s *Server) byPresentKey(w http.ResponseWriter, r *http.Request, digest string) bool {
	now, err := s.store.accountByID(r.Context(), of(r).account)
	if err != nil {
		s.trouble(w, r, err)
		return false
	}
	if !s.proven(r, now.SignIn, wire.ProofSignIn, digest) {
		fail(w, http.StatusUnauthorized, wire.CodeSignIn, "the present master password is needed for this")
		return false
	}
	return true
}

func publicKeys(list [][]byte) bool {
	for _, k := range list {
		if len(k) != keys.PublicSize {
			return false
		}
	}
	return true
}

// askLate has new credentials wait.
func (s *Server) askLate(w http.ResponseWriter, r *http.Request) {
	var in wire.LateCredentials
	digest, ok := body(w, r, &in)
	if !ok {
		return
	}
	now, err := s.store.accountByID(r.Context(), of(r).account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	if !s.byLateKey(w, r, digest) {
		return
	}
	c := wire.Credentials{
		Params: in.Params, SignIn: in.SignIn, Wrapped: in.Wrapped,
		RecoverySignIn: now.RecoverySignIn, RecoveryWrapped: now.RecoveryWrapped,
	}
	if err := checkCredentials(c); err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	due := s.now().Add(s.LateWait)
	if err := s.store.askLate(r.Context(), of(r).account, of(r).device, in, due); err != nil {
		s.refuse(w, r, err)
		return
	}
	s.tellLate(now.Email, due)
	reply(w, wire.Late{Device: of(r).device, Due: due.UnixMilli()})
}

// byLateKey reports whether a request is proven by a late key of the device that makes it, and answers if not.
func (s *Server) byLateKey(w http.ResponseWriter, r *http.Request, digest string) bool {
	list, err := s.store.lateKeys(r.Context(), of(r).account, of(r).device)
	if err != nil {
		s.trouble(w, r, err)
		return false
	}
	if s.provenBy(r, list, wire.ProofLate, digest) < 0 {
		fail(w, http.StatusUnauthorized, wire.CodeSignIn, "this authenticator isn’t known here")
		return false
	}
	return true
}

// late tells what waits, to every device of the account.
func (s *Server) late(w http.ResponseWriter, r *http.Request) {
	l, _, err := s.store.late(r.Context(), s.store.db, of(r).account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, l)
}

// stopLate ends what waits. Any device may.
func (s *Server) stopLate(w http.ResponseWriter, r *http.Request) {
	_, err := s.store.db.ExecContext(r.Context(), dropLate, of(r).account)
	s.done(w, r, err)
}

// takeLate brings into force what has waited for long enough. Asked once more after a lost answer, it says the same.
func (s *Server) takeLate(w http.ResponseWriter, r *http.Request) {
	var in wire.TakeLate
	digest, ok := body(w, r, &in)
	if !ok {
		return
	}
	if !s.byLateKey(w, r, digest) {
		return
	}
	now, err := s.store.accountByID(r.Context(), of(r).account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	err = s.store.takeLate(r.Context(), of(r).account, of(r).device, in.SignIn, s.now())
	if err != nil {
		s.refuse(w, r, err)
		return
	}
	s.tellReplaced(now.Email, s.now())
	w.WriteHeader(http.StatusNoContent)
}

var (
	errLateOther = errors.New("another device has asked already")
	errEarly     = errors.New("it is too early")
	errNoLate    = errors.New("nothing waits: it was stopped, or the account has other keys since")
)

const dropLate = `UPDATE sessions SET late = '', late_due = 0 WHERE account = ?`

func (s *store) setLateKeys(ctx context.Context, account, device string, list [][]byte) error {
	b, err := json.Marshal(list)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `UPDATE sessions SET late_keys = ? WHERE account = ? AND device = ?`, string(b),
		account, device)
	return err
}

func (s *store) lateKeys(ctx context.Context, account, device string) (list [][]byte, err error) {
	var text string
	err = s.db.GetContext(ctx, &text, `SELECT late_keys FROM sessions WHERE account = ? AND device = ?`, account,
		device)
	if err != nil {
		return nil, err
	}
	return list, json.Unmarshal([]byte(text), &list)
}

// late reads what waits in an account; the zero Late is nothing.
func (s *store) late(
	ctx context.Context, q sqlx.QueryerContext, account string,
) (l wire.Late, in wire.LateCredentials, err error) {
	var text string
	err = q.QueryRowxContext(ctx, `SELECT device, late, late_due FROM sessions WHERE account = ? AND late <> ''`,
		account).Scan(&l.Device, &text, &l.Due)
	if errors.Is(err, sql.ErrNoRows) {
		return wire.Late{}, in, nil
	}
	if err != nil {
		return l, in, err
	}
	return l, in, json.Unmarshal([]byte(text), &in)
}

func (s *store) askLate(ctx context.Context, account, device string, in wire.LateCredentials, due time.Time) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		l, _, err := s.late(ctx, tx, account)
		if err != nil {
			return err
		}
		if l.Device != "" && l.Device != device {
			return errLateOther
		}
		_, err = tx.ExecContext(ctx, `UPDATE sessions SET late = ?, late_due = ? WHERE account = ? AND device = ?`,
			string(b), due.UnixMilli(), account, device)
		return err
	})
}

func (s *store) takeLate(ctx context.Context, account, device string, signIn []byte, now time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var there int
		if err := tx.GetContext(ctx, &there, `SELECT count(*) FROM accounts WHERE account = ? AND sign_in = ?`,
			account, signIn); err != nil || there > 0 { // it was taken, and the answer lost
			return err
		}
		l, in, err := s.late(ctx, tx, account)
		switch {
		case err != nil:
			return err
		case l.Device != device || string(in.SignIn) != string(signIn):
			return errNoLate
		case now.UnixMilli() < l.Due:
			return errEarly
		}
		params, err := json.Marshal(in.Params)
		if err != nil {
			return err
		}
		var recovery []byte
		if err := tx.GetContext(ctx, &recovery, `SELECT recovery_sign_in FROM accounts WHERE account = ?`,
			account); err != nil {
			return err
		}
		if err := keepFormer(ctx, tx, account, accountKeys(in.SignIn, recovery), now); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE accounts SET params = ?, sign_in = ?, wrapped = ? WHERE account = ?`,
			string(params), in.SignIn, in.Wrapped, account); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, dropLate, account)
		return err
	})
}

// accountKeys is an account of which only the keys count.
func accountKeys(signIn, recovery []byte) account {
	return account{SignIn: signIn, RecoverySignIn: recovery}
}

package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

// maxStatement is the most bytes of a statement: about 1,700 for each device that stays.
const maxStatement = 1 << 18

func checkEpoch(in wire.NewEpoch) error {
	if in.Epoch < 2 || len(in.Statement.Body) == 0 || len(in.Statement.Body) > maxStatement ||
		len(in.Statement.Signature) != keys.SignatureSize {
		return errors.New("the epoch has no statement, or one that can't be read")
	}
	if err := checkCommit(in.Commit); err != nil {
		return err
	}
	if len(in.Out) > wire.MaxDevices ||
		slices.ContainsFunc(in.Out, func(id string) bool { return uuid.Validate(id) != nil }) {
		return errors.New("the devices that are shut out can't be read")
	}
	return checkCredentials(in.Credentials)
}

// beginEpoch begins an epoch. A device's own key isn't enough for that: whoever asks shows the account's present
// sign-in key.
func (s *Server) beginEpoch(w http.ResponseWriter, r *http.Request) {
	var in wire.NewEpoch
	digest, ok := body(w, r, &in)
	if !ok {
		return
	}
	me := of(r)
	now, err := s.store.accountByID(r.Context(), me.account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	if len(in.RecoverySignIn) == 0 {
		in.RecoverySignIn = now.RecoverySignIn
	}
	if err := checkEpoch(in); err != nil || slices.Contains(in.Out, me.device) {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "the epoch can't be begun like this")
		return
	}
	if !s.provenSignIn(w, r, now, digest) {
		return
	}
	a, err := s.account(in.Credentials)
	if err == nil {
		err = s.store.beginEpoch(r.Context(), me.account, in, a, s.now())
	}
	switch {
	case errors.Is(err, errConflict):
		fail(w, http.StatusConflict, wire.CodeConflict, err.Error())
		return
	case errors.Is(err, errNoRoom):
		fail(w, http.StatusInsufficientStorage, wire.CodeNoRoom, err.Error())
		return
	}
	if err == nil {
		for _, d := range in.Out {
			s.hub.end(me.account, d, "")
		}
		s.hub.tell(me.account, in.Commit.Head.Number)
		s.tellReplaced(now.Email, s.now())
	}
	s.done(w, r, err)
}

// provenSignIn reports whether a request is proven by an account's sign-in key, and answers it if it isn't.
func (s *Server) provenSignIn(w http.ResponseWriter, r *http.Request, a account, digest string) bool {
	ok := s.proven(r, a.SignIn, wire.ProofSignIn, digest)
	if !ok {
		fail(w, http.StatusUnauthorized, wire.CodeSignIn, "the present master password is needed for this")
	}
	return ok
}

// epoch answers with the statement that began the newest epoch.
func (s *Server) epoch(w http.ResponseWriter, r *http.Request) {
	a, err := s.store.accountByID(r.Context(), of(r).account)
	var out keys.Statement
	if err == nil && len(a.Statement) > 0 {
		err = json.Unmarshal(a.Statement, &out)
	}
	switch {
	case err != nil:
		s.trouble(w, r, err)
	case len(out.Body) == 0:
		fail(w, http.StatusNotFound, wire.CodeNotFound, "this is the first epoch")
	default:
		reply(w, out)
	}
}

// deleteAccount removes an account with everything in it.
func (s *Server) deleteAccount(w http.ResponseWriter, r *http.Request) {
	var in struct{}
	digest, ok := body(w, r, &in)
	if !ok {
		return
	}
	me := of(r)
	a, err := s.store.accountByID(r.Context(), me.account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	if !s.provenSignIn(w, r, a, digest) {
		return
	}
	if err = s.store.removeAccount(r.Context(), me.account); err == nil {
		s.hub.endAll(me.account)
	}
	s.done(w, r, err)
}

// beginEpoch takes an epoch with its credentials and its first commit, whole or not at all, and ends the sessions of
// devices that were shut out. The error is errConflict if another commit or epoch came first.
func (s *store) beginEpoch(ctx context.Context, id string, in wire.NewEpoch, a account, now time.Time) error {
	statement, err := json.Marshal(in.Statement)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		return s.within(ctx, tx, id, func() error { return beginEpochIn(ctx, tx, id, statement, in, a, now) })
	})
}

func beginEpochIn(
	ctx context.Context, tx *sqlx.Tx, id string, statement []byte, in wire.NewEpoch, a account, now time.Time,
) error {
	if err := keepFormer(ctx, tx, id, a, now); err != nil {
		return err
	}
	res, err := tx.ExecContext(ctx,
		`UPDATE accounts SET epoch = ?, statement = ?, params = ?, sign_in = ?, recovery_sign_in = ?, wrapped = ?,
			recovery_wrapped = ? WHERE account = ? AND epoch < ?`,
		in.Epoch, statement, a.Params, a.SignIn, a.RecoverySignIn, a.Wrapped, a.RecoveryWrapped, id, in.Epoch)
	if err := one(res, err, errConflict); err != nil {
		return err
	}
	if in.Fresh {
		for _, q := range []string{`DELETE FROM heads WHERE account = ?`, `DELETE FROM records WHERE account = ?`} {
			if _, err := tx.ExecContext(ctx, q, id); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `UPDATE accounts SET head = ?, head_hash = ? WHERE account = ?`,
			in.Commit.Head.Number-1, in.Commit.Parent, id); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, dropLate, id); err != nil {
		return err
	}
	for _, d := range in.Out {
		const q = `DELETE FROM sessions WHERE account = ? AND device = ?`
		if _, err := tx.ExecContext(ctx, q, id, d); err != nil {
			return err
		}
	}
	return commitIn(ctx, tx, id, in.Commit, now)
}

// removeAccount removes all that the cloud has of an account.
func (s *store) removeAccount(ctx context.Context, id string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM letters WHERE `+toAccount, id); err != nil {
			return err
		}
		if err := leaveSets(ctx, tx, id); err != nil {
			return err
		}
		for _, table := range []string{
			"chunks", "records", "heads", "introductions", "nonces", "sessions", "formers", "letters", "no_letter_mail",
			"hands", "helpers", "help", "help_asked", "accounts",
		} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE account = ?`, id); err != nil {
				return err
			}
		}
		return nil
	})
}

package cloud

import (
	"context"
	"net/http"
	"time"

	"github.com/go-chi/httprate"
	"github.com/jmoiron/sqlx"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

// former is what opened an account before it was replaced.
type former struct {
	ID int64 `db:"rowid"`
	account
}

const (
	bringBackTime = wire.BringBackDays * 24 * time.Hour
	mostFormers   = 50 // the first ones are kept: whoever takes an account over can't push out what its owner had
)

// keepFormer keeps what opens an account before it is replaced by other keys.
func keepFormer(ctx context.Context, tx *sqlx.Tx, id string, by account, now time.Time) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM formers WHERE account = ? AND at < ?`, id,
		now.Add(-bringBackTime).UnixMilli()); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx,
		`INSERT INTO formers (account, at, params, sign_in, recovery_sign_in, wrapped, recovery_wrapped, epoch,
			statement)
		SELECT account, ?, params, sign_in, recovery_sign_in, wrapped, recovery_wrapped, epoch, statement FROM accounts
		WHERE account = ? AND (sign_in <> ? OR recovery_sign_in <> ?)
			AND (SELECT count(*) FROM formers WHERE account = ?) < ?`,
		now.UnixMilli(), id, by.SignIn, by.RecoverySignIn, id, mostFormers)
	return err
}

// formers reads what opened an account in the last days, the newest first.
func (s *store) formers(ctx context.Context, account string, now time.Time) (list []former, err error) {
	return list, s.db.SelectContext(ctx, &list,
		`SELECT rowid, params, sign_in, recovery_sign_in, wrapped, recovery_wrapped, epoch, statement
			FROM formers WHERE account = ? AND at > ? ORDER BY at DESC, rowid DESC`, account,
		now.Add(-bringBackTime).UnixMilli())
}

// bringBack puts former keys of an account into force again. The former key alone isn't enough: a device that was shut
// out may know it. What is shown besides is that one reads the mail of the account's address. Every session ends.
func (s *Server) bringBack(lim *httprate.RateLimiter) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in wire.BringBack
		digest, ok := body(w, r, &in)
		if !ok {
			return
		}
		email, a, ok := s.whose(w, r, in.SignIn)
		if !ok {
			return
		}
		list, err := s.store.formers(r.Context(), a.Account, s.now()) // none where there is no account
		if err != nil {
			s.trouble(w, r, err)
			return
		}
		f, ok := s.provenFormer(r, list, in.Recovery, digest)
		if !ok {
			if lim.RespondOnLimit(w, r, email) { // who has the right key is kept out by nobody's attempts
				return
			}
			fail(w, http.StatusUnauthorized, wire.CodeSignIn, "nothing that opened the account lately is shown")
			return
		}
		code := s.codeHash(email, wire.ForBringBack, in.Code)
		if err := s.store.tryCode(r.Context(), email, wire.ForBringBack, code, s.now()); err != nil {
			s.refuse(w, r, err)
			return
		}
		if err := s.store.bringBack(r.Context(), a, f, code); err != nil {
			s.refuse(w, r, err)
			return
		}
		s.hub.endAll(a.Account)
		s.tellReplaced(email, s.now())
		f.Account, f.Vault = a.Account, a.Vault
		_, _, wrapped := f.shown(in.Recovery)
		s.startSession(w, r, f.account, in.Device, in.DeviceKey, wrapped)
	}
}

// provenFormer returns the former keys that a request is proven by.
func (s *Server) provenFormer(r *http.Request, list []former, recovery bool, digest string) (f former, ok bool) {
	publics := make([][]byte, len(list))
	for i, f := range list {
		_, publics[i], _ = f.shown(recovery)
	}
	if len(publics) == 0 {
		publics = [][]byte{keys.Key(s.mac("nobody", nil)).Public()}
	}
	purpose, _, _ := account{}.shown(recovery)
	i := s.provenBy(r, publics, purpose, digest)
	if i < 0 || i >= len(list) {
		return f, false
	}
	return list[i], true
}

func (s *store) bringBack(ctx context.Context, a account, f former, code string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := useCodeIn(ctx, tx, a.Email, wire.ForBringBack, code); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`UPDATE accounts SET params = ?, sign_in = ?, recovery_sign_in = ?, wrapped = ?, recovery_wrapped = ?,
				epoch = ?, statement = ? WHERE account = ?`,
			f.Params, f.SignIn, f.RecoverySignIn, f.Wrapped, f.RecoveryWrapped, f.Epoch, f.Statement,
			a.Account); err != nil {
			return err
		}
		// What replaced these keys doesn't come back in its turn.
		for _, table := range []string{"formers", "sessions"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE account = ?`, a.Account); err != nil {
				return err
			}
		}
		return nil
	})
}

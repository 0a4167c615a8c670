package cloud

import (
	"context"
	"crypto/subtle"
	"database/sql"
	"encoding/base64"
	"errors"
	"net/http"
	"slices"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/httprate"
	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"redlocket/core/wire"
)

// A helping hand is for whoever lost the master password and the sheet. The cloud keeps what is sealed for them, and
// hands it out to a device that asks only once enough of the helpers have said yes and the wait is over; until then
// every device of the account is told, and can stop it. It opens with the helpers' parts, which the cloud sees sealed
// only.

const (
	maxSealedHand = 1 << 10  // bytes of what is sealed for the owner
	maxPart       = 16 << 10 // bytes of a part as it is sealed
	maxHandWait   = 90 * aDay
)

func (s *Server) handRoutes(r chi.Router) {
	r.Put("/v1/hand", s.setHand)
	r.Get("/v1/hand", s.hand)
	r.Post("/v1/hand/stop", s.stopHelp)
	r.Get("/v1/hands", s.heldHands)
	r.Post("/v1/hands/{hand}/holds", s.holdsHand)
	r.Post("/v1/hands/{hand}/asked/{id}", s.help)
}

// setHand keeps a helping hand in the place of the one before, which ends what was asked of that.
func (s *Server) setHand(w http.ResponseWriter, r *http.Request) {
	var in wire.NewHand
	digest, ok := body(w, r, &in)
	if !ok {
		return
	}
	if err := checkHand(&in); err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	if !s.byPresentKey(w, r, digest) {
		return
	}
	account := of(r).account
	told, err := s.store.helpers(r.Context(), account) // also who helps no more
	if err == nil {
		err = s.store.setHand(r.Context(), account, in)
	}
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	for _, h := range in.Helpers {
		told = append(told, h.Address)
	}
	s.tellHand(r.Context(), account, told)
	w.WriteHeader(http.StatusNoContent)
}

func checkHand(in *wire.NewHand) error {
	bad := errors.New("this is no helping hand")
	if in.Hand == "" {
		*in = wire.NewHand{}
		return nil
	}
	n := len(in.Helpers)
	if uuid.Validate(in.Hand) != nil || n == 0 || n > wire.MaxHelpers || in.Need < 1 || in.Need > n ||
		in.Wait < 0 || in.Wait > maxHandWait.Milliseconds() || len(in.Sealed) == 0 || len(in.Sealed) > maxSealedHand {
		return bad
	}
	there := map[string]bool{}
	for i, h := range in.Helpers {
		address, err := NormalEmail(h.Address)
		if err != nil || there[address] || len(h.Part) == 0 || len(h.Part) > maxPart {
			return bad
		}
		in.Helpers[i].Address, there[address] = address, true
	}
	return nil
}

// tellHand has the devices of an account and of helpers look.
func (s *Server) tellHand(ctx context.Context, account string, helpers []string) {
	s.hub.tell(account, 0)
	slices.Sort(helpers)
	for _, address := range slices.Compact(helpers) {
		s.tellAddress(ctx, address)
	}
}

// helpers are the addresses of those who hold an account's parts.
func (s *store) helpers(ctx context.Context, account string) (addresses []string, err error) {
	return addresses, s.db.SelectContext(ctx, &addresses, `SELECT address FROM helpers WHERE account = ?`, account)
}

// tellAddress has the devices of an address look, if it has an account. How long that takes tells nobody anything.
func (s *Server) tellAddress(ctx context.Context, address string) {
	ctx = context.WithoutCancel(ctx)
	s.mails.ended.Go(func() {
		if a, err := s.store.accountByEmail(ctx, address); err == nil {
			s.hub.tell(a.Account, 0)
		}
	})
}

func (s *Server) hand(w http.ResponseWriter, r *http.Request) {
	h, err := s.store.hand(r.Context(), of(r).account, s.now())
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, h)
}

// stopHelp stops all that was asked. Any device of the account may.
func (s *Server) stopHelp(w http.ResponseWriter, r *http.Request) {
	account := of(r).account
	_, err1 := s.store.db.ExecContext(r.Context(), stopAsked, account)
	_, err2 := s.store.db.ExecContext(r.Context(), dropHelp, account)
	if told, err := s.store.helpers(r.Context(), account); err == nil {
		s.tellHand(r.Context(), account, told)
	}
	s.done(w, r, errors.Join(err1, err2))
}

func (s *Server) heldHands(w http.ResponseWriter, r *http.Request) {
	list, err := s.store.heldHands(r.Context(), of(r).account, s.now())
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, list)
}

// holdsHand notes that a helper's devices have their part: it isn't kept here any longer.
func (s *Server) holdsHand(w http.ResponseWriter, r *http.Request) {
	_, err := s.store.db.ExecContext(r.Context(), `UPDATE helpers SET part = x'' WHERE `+toAccount+`
		AND account = (SELECT account FROM hands WHERE hand = ?)`, of(r).account, chi.URLParam(r, "hand"))
	s.done(w, r, err)
}

// help takes a helper's answer: that they help, and from when; and, once that is so, the part.
func (s *Server) help(w http.ResponseWriter, r *http.Request) {
	var in wire.Help
	if !read(w, r, &in) {
		return
	}
	if len(in.Sealed) > maxPart || in.Due < 0 || in.Due > s.now().Add(maxHandWait).UnixMilli() {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "this is no help")
		return
	}
	hand, id := chi.URLParam(r, "hand"), chi.URLParam(r, "id")
	account, err := s.store.help(r.Context(), of(r).account, hand, id, in, s.now())
	if errors.Is(err, sql.ErrNoRows) {
		fail(w, http.StatusNotFound, wire.CodeNotFound, "this was stopped, or is over")
		return
	}
	if err == nil {
		s.hub.tell(account, 0)
	}
	s.done(w, r, err)
}

// askHelp takes a request. For an address without an account, or without helpers, it answers alike.
func (s *Server) askHelp(lim *httprate.RateLimiter) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in wire.AskHelp
		if !read(w, r, &in) {
			return
		}
		a, email, ok := s.askedOf(w, r, lim, "help", in.Email, in.PublicKey)
		if !ok {
			return
		}
		id := uuid.NewString()
		if err := s.store.askHelp(r.Context(), a.Account, id, in.PublicKey, s.now()); err != nil {
			s.trouble(w, r, err)
			return
		}
		s.tellHelp(w, r, a, email)
		reply(w, wire.HelpAsked{ID: id, Secret: s.helpSecret(email, id)})
	}
}

// helpSecret is what a request is looked at with. It is computed: of a request that nobody can help nothing is kept,
// and still it looks like any other.
func (s *Server) helpSecret(email, id string) string {
	return base64.RawURLEncoding.EncodeToString(s.mac("help", []byte(email+" "+id)))
}

// tellHelp has the devices of an account and of its helpers look, and mails them, after the answer.
func (s *Server) tellHelp(w http.ResponseWriter, r *http.Request, a account, email string) {
	ctx := context.WithoutCancel(r.Context())
	mails := s.Post != nil && s.letterMails.may(w, r, "help", "help "+email, email)
	s.mails.add(func(context.Context) error {
		helpers, err := s.store.helpers(ctx, a.Account)
		if err != nil || len(helpers) == 0 {
			return err
		}
		s.tellHand(ctx, a.Account, helpers)
		if !mails {
			return nil
		}
		err = s.send(ctx, email, "help", mailText{})
		for _, address := range helpers {
			h, off := s.store.accountByEmail(ctx, address)
			if off == nil {
				var no bool
				if no, off = s.store.letterMailOff(ctx, h.Account); off == nil && !no {
					off = s.send(ctx, address, "help-asked", mailText{})
				}
			}
			err = errors.Join(err, off)
		}
		return err
	})
}

// helpState tells how far a request is, to who has its secret.
func (s *Server) helpState(w http.ResponseWriter, r *http.Request) {
	var in wire.LookForHelp
	if !read(w, r, &in) {
		return
	}
	email, err := NormalEmail(in.Email)
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	id := chi.URLParam(r, "id")
	if subtle.ConstantTimeCompare([]byte(in.Secret), []byte(s.helpSecret(email, id))) != 1 {
		fail(w, http.StatusNotFound, wire.CodeNotFound, "there is no such request")
		return
	}
	a, err := s.store.accountByEmail(r.Context(), email)
	var out wire.HelpState
	if err == nil {
		out, err = s.store.helpState(r.Context(), a.Account, id, in.End, s.now())
	}
	if err != nil && !errors.Is(err, errNoAccount) {
		s.trouble(w, r, err)
		return
	}
	reply(w, out)
}

func (s *store) setHand(ctx context.Context, account string, in wire.NewHand) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, statement := range []string{
			`DELETE FROM hands WHERE account = ?`, `DELETE FROM helpers WHERE account = ?`, dropHelp, stopAsked,
		} {
			if _, err := tx.ExecContext(ctx, statement, account); err != nil {
				return err
			}
		}
		if in.Hand == "" {
			return nil
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO hands (account, hand, need, wait, sealed) VALUES (?, ?, ?, ?, ?)`,
			account, in.Hand, in.Need, in.Wait, in.Sealed)
		for _, h := range in.Helpers {
			if err == nil {
				_, err = tx.ExecContext(ctx, `INSERT INTO helpers (account, address, part) VALUES (?, ?, ?)`,
					account, h.Address, h.Part)
			}
		}
		return err
	})
}

// What stops all that was asked of an account's helpers.
const (
	stopAsked = `UPDATE help_asked SET stopped = 1 WHERE account = ?`
	dropHelp  = `DELETE FROM help WHERE account = ?`
)

func helpSince(now time.Time) int64 { return now.Add(-wire.HelpDays * aDay).UnixMilli() }

func (s *store) hand(ctx context.Context, account string, now time.Time) (h wire.Hand, err error) {
	h.Holds, h.Asked = []string{}, []wire.HelpSeen{}
	err = s.db.GetContext(ctx, &h.Hand, `SELECT hand FROM hands WHERE account = ?`, account)
	if errors.Is(err, sql.ErrNoRows) {
		return h, nil
	}
	if err != nil {
		return h, err
	}
	err = s.db.SelectContext(ctx, &h.Holds,
		`SELECT address FROM helpers WHERE account = ? AND length(part) = 0 ORDER BY address`, account)
	if err != nil {
		return h, err
	}
	return h, s.db.SelectContext(ctx, &h.Asked, `SELECT id, at, due,
		(SELECT count(*) FROM help WHERE help.account = help_asked.account AND help.id = help_asked.id) AS helping
		FROM help_asked WHERE account = ? AND stopped = 0 AND at > ? ORDER BY at DESC, id`, account, helpSince(now))
}

func (s *store) heldHands(ctx context.Context, account string, now time.Time) ([]wire.HeldHand, error) {
	list := []wire.HeldHand{}
	rows, err := s.db.QueryxContext(ctx, `SELECT hand, email, part FROM helpers JOIN hands USING (account)
		JOIN accounts USING (account) WHERE `+toAddress+` ORDER BY hand`, account)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var h wire.HeldHand
		if err := rows.Scan(&h.Hand, &h.Of, &h.Part); err != nil {
			return nil, err
		}
		list = append(list, h)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for i, h := range list {
		asked := []struct {
			ID        string `db:"id"`
			At        int64  `db:"at"`
			PublicKey []byte `db:"public_key"`
			Helps     bool   `db:"helps"`
		}{}
		err := s.db.SelectContext(ctx, &asked, `SELECT id, at, public_key,
			(SELECT count(*) > 0 FROM help WHERE help.account = help_asked.account AND help.id = help_asked.id
				AND `+toAddress+`) AS helps
			FROM help_asked WHERE account = (SELECT account FROM hands WHERE hand = ?) AND stopped = 0 AND at > ?
			ORDER BY at DESC, id`, account, h.Hand, helpSince(now))
		if err != nil {
			return nil, err
		}
		list[i].Asked = []wire.Help{}
		for _, a := range asked {
			list[i].Asked = append(list[i].Asked, wire.Help{ID: a.ID, At: a.At, PublicKey: a.PublicKey, Helps: a.Helps})
		}
	}
	return list, nil
}

// toAddress picks who helps by the address of an account.
const toAddress = `address = (SELECT email FROM accounts AS helper WHERE helper.account = ?)`

// help notes a helper's answer, and returns the account that is helped. The error is sql.ErrNoRows if there is no such
// request, or they are no helper.
func (s *store) help(
	ctx context.Context, helper, hand, id string, in wire.Help, now time.Time,
) (account string, err error) {
	return account, s.tx(ctx, func(tx *sqlx.Tx) error {
		var h struct {
			Account string `db:"account"`
			Address string `db:"address"`
			Wait    int64  `db:"wait"`
			At      int64  `db:"at"`
			Due     int64  `db:"due"`
		}
		err := tx.GetContext(ctx, &h, `SELECT account, address, wait, at, due FROM hands JOIN helpers USING (account)
			JOIN help_asked USING (account) WHERE hand = ? AND id = ? AND stopped = 0 AND at > ? AND `+toAddress,
			hand, id, helpSince(now), helper)
		if err != nil {
			return err
		}
		account = h.Account
		if in.Sealed == nil {
			in.Sealed = []byte{}
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO help (account, id, address, sealed) VALUES (?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET sealed = excluded.sealed WHERE length(sealed) = 0`,
			h.Account, id, h.Address, in.Sealed)
		if err != nil {
			return err
		}
		own := min(in.Due, now.UnixMilli()+h.Wait) // nobody has it wait for longer
		_, err = tx.ExecContext(ctx, `UPDATE help_asked SET due = ? WHERE account = ? AND id = ?`,
			max(h.Due, h.At+h.Wait, own), h.Account, id)
		return err
	})
}

// errNoHelp says that nobody could help.
var errNoHelp = errors.New("there are no helpers")

// askHelp keeps a request. Of too many the oldest that nobody helps makes room. Where there are no helpers it takes as
// long, and keeps nothing.
func (s *store) askHelp(ctx context.Context, account, id string, public []byte, now time.Time) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, table := range []string{"help", "help_asked"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+`
				WHERE id IN (SELECT id FROM help_asked WHERE at <= ?)`, helpSince(now)); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM help_asked WHERE account = ? AND id IN (
			SELECT id FROM help_asked AS a WHERE account = ? AND NOT EXISTS (
				SELECT 1 FROM help WHERE help.account = a.account AND help.id = a.id)
			ORDER BY at DESC, id LIMIT -1 OFFSET ?)`, account, account, wire.MaxAsked-1)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO help_asked (account, id, public_key, at) VALUES (?, ?, ?, ?)`,
			account, id, public, now.UnixMilli())
		if err != nil {
			return err
		}
		var has int
		err = tx.GetContext(ctx, &has, `SELECT count(*) FROM hands WHERE account = ?`, account)
		if err == nil && has == 0 {
			err = errNoHelp
		}
		return err
	})
	if errors.Is(err, errNoHelp) {
		return nil
	}
	return err
}

// helpState reads how far a request is, or ends it. One that isn't there is one that nobody has helped.
func (s *store) helpState(
	ctx context.Context, account, id string, end bool, now time.Time,
) (out wire.HelpState, err error) {
	return out, s.tx(ctx, func(tx *sqlx.Tx) error {
		if end {
			for _, table := range []string{"help", "help_asked"} {
				_, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE account = ? AND id = ?`, account, id)
				if err != nil {
					return err
				}
			}
			return nil
		}
		var a struct {
			Due     int64 `db:"due"`
			Stopped bool  `db:"stopped"`
		}
		err := tx.GetContext(ctx, &a, `SELECT due, stopped FROM help_asked WHERE account = ? AND id = ? AND at > ?`,
			account, id, helpSince(now))
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		if out.Stopped = a.Stopped; a.Stopped {
			return nil
		}
		var all [][]byte
		err = tx.SelectContext(ctx, &all, `SELECT sealed FROM help WHERE account = ? AND id = ? ORDER BY address`,
			account, id)
		if err != nil || len(all) == 0 {
			return err
		}
		var sealed []byte
		row := tx.QueryRowxContext(ctx, `SELECT need, sealed FROM hands WHERE account = ?`, account)
		err = row.Scan(&out.Need, &sealed)
		if err != nil {
			return err
		}
		out.Helping, out.Due = len(all), a.Due
		for _, part := range all {
			if len(part) > 0 {
				out.Parts = append(out.Parts, part)
			}
		}
		if len(out.Parts) >= out.Need && now.UnixMilli() >= a.Due {
			out.Sealed = sealed
		}
		return nil
	})
}

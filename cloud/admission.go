package cloud

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"redlocket/core/wire"
)

// Admission is who may make an account.
type Admission int

// The kinds of admission.
const (
	Open         Admission = iota // anybody
	ByInvitation                  // whoever has an invitation, which serves once
	Closed                        // nobody
)

// Post hands over mails to people, one after the other.
type Post interface {
	Send(ctx context.Context, to, subject, text string) error
}

// What is allowed of codes.
const (
	codeLife   = 15 * time.Minute
	codeTries  = 5
	codeMails  = 3 // to one address for one purpose, in the life of a code
	codeDigits = 8
)

// The errors of admission.
var (
	errNoInvitation = errors.New("accounts are made by invitation, and this isn't one that is good")
	errNoCode       = errors.New("this isn't the code that was mailed")
)

// askCode mails a code to an address. Whether the address has an account is told to nobody but whoever reads its mail:
// the answer comes before anything is looked up.
func (s *Server) askCode(w http.ResponseWriter, r *http.Request) {
	var in wire.CodeRequest
	if !read(w, r, &in) {
		return
	}
	email, err := NormalEmail(in.Email)
	if err == nil && in.Purpose != wire.ForAccount && in.Purpose != wire.ForBringBack {
		err = errors.New("codes aren't mailed for this")
	}
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	if s.Post == nil {
		fail(w, http.StatusNotFound, wire.CodeNoMail, "this cloud mails nothing")
		return
	}
	if in.Purpose == wire.ForAccount {
		by := s.admitted(email, wire.Admission{Invitation: in.Invitation})
		if err := s.mayApply(r.Context(), by); err != nil {
			s.refuse(w, r, err)
			return
		}
	}
	s.mails.add(func(ctx context.Context) error { return s.mailCode(ctx, email, in.Purpose) })
	reply(w, struct{}{})
}

// admitted is by what somebody comes in.
type admitted struct {
	invitation string // its HMAC; empty where none is needed
	code       string // its HMAC; empty where none is needed
	closed     bool
	now        time.Time
}

func (s *Server) admitted(email string, in wire.Admission) admitted {
	by := admitted{closed: s.Admission == Closed, now: s.now()}
	if s.Admission == ByInvitation {
		by.invitation = s.invitationHash(in.Invitation)
	}
	if s.Post != nil {
		by.code = s.codeHash(email, wire.ForAccount, in.Code)
	}
	return by
}

// errClosed is returned by a cloud that takes no new accounts.
var errClosed = errors.New("this cloud takes no new accounts")

// mayApply refuses who can't make an account whatever code they had.
func (s *Server) mayApply(ctx context.Context, by admitted) error {
	if by.closed {
		return errClosed
	}
	if by.invitation == "" {
		return nil
	}
	var n int
	err := s.store.db.GetContext(ctx, &n, `SELECT 1 FROM invitations WHERE code = ? AND until > ?`, by.invitation,
		by.now.UnixMilli())
	if errors.Is(err, sql.ErrNoRows) {
		return errNoInvitation
	}
	return err
}

// refuse answers who isn't let in.
func (s *Server) refuse(w http.ResponseWriter, r *http.Request, err error) {
	switch {
	case errors.Is(err, errClosed):
		fail(w, http.StatusForbidden, wire.CodeClosed, err.Error())
	case errors.Is(err, errNoInvitation):
		fail(w, http.StatusForbidden, wire.CodeInvitation, err.Error())
	case errors.Is(err, errNoCode):
		fail(w, http.StatusForbidden, wire.CodeProof, err.Error())
	case errors.Is(err, errEarly):
		fail(w, http.StatusConflict, wire.CodeEarly, err.Error())
	case errors.Is(err, errLateOther):
		fail(w, http.StatusConflict, wire.CodeWaits, err.Error())
	case errors.Is(err, errNoLate):
		fail(w, http.StatusNotFound, wire.CodeNotFound, err.Error())
	case errors.Is(err, errTaken):
		fail(w, http.StatusConflict, wire.CodeTaken, err.Error())
	default:
		s.trouble(w, r, err)
	}
}

// useIn uses up an invitation and a code.
func (by admitted) useIn(ctx context.Context, tx *sqlx.Tx, email string) error {
	if by.invitation != "" {
		res, err := tx.ExecContext(ctx, `DELETE FROM invitations WHERE code = ? AND until > ?`, by.invitation,
			by.now.UnixMilli())
		if err := one(res, err, errNoInvitation); err != nil {
			return err
		}
	}
	if by.code != "" {
		return useCodeIn(ctx, tx, email, wire.ForAccount, by.code)
	}
	return nil
}

func useCodeIn(ctx context.Context, tx *sqlx.Tx, email, purpose, code string) error {
	res, err := tx.ExecContext(ctx, `UPDATE proofs SET code = '' WHERE email = ? AND purpose = ? AND code = ?`, email,
		purpose, code)
	return one(res, err, errNoCode)
}

// tryCode counts a try at a code, also one that fails later, and reports whether it is the one that was mailed.
func (s *store) tryCode(ctx context.Context, email, purpose, code string, now time.Time) error {
	var is string
	err := s.db.GetContext(ctx, &is,
		`UPDATE proofs SET tries = tries + 1 WHERE email = ? AND purpose = ? AND code <> '' AND at > ? AND tries < ?
			RETURNING code`, email, purpose, now.Add(-codeLife).UnixMilli(), codeTries)
	if errors.Is(err, sql.ErrNoRows) || err == nil && is != code {
		return errNoCode
	}
	return err
}

// mailCode draws a code and mails it, or what there is to say instead.
func (s *Server) mailCode(ctx context.Context, email, purpose string) error {
	a, err := s.store.accountByEmail(ctx, email)
	if err != nil && !errors.Is(err, errNoAccount) {
		return err
	}
	known := err == nil
	if purpose == wire.ForBringBack {
		if !known {
			return nil
		}
		if list, err := s.store.formers(ctx, a.Account, s.now()); err != nil || len(list) == 0 {
			return err
		}
	}
	code, err := newCode()
	if err != nil {
		return err
	}
	hash := s.codeHash(email, purpose, code)
	if known && purpose == wire.ForAccount {
		hash = "" // nothing opens by it; the mails are counted
	}
	if may, err := s.store.putCode(ctx, email, purpose, hash, s.now()); err != nil || !may {
		return err
	}
	name := "code"
	switch {
	case known && purpose == wire.ForAccount:
		name = "known"
	case purpose == wire.ForBringBack:
		name = "bring-back"
	}
	return s.send(ctx, email, name, mailText{Code: grouped(code)})
}

// putCode keeps a code in place of the one before, and reports whether it may be mailed.
func (s *store) putCode(ctx context.Context, email, purpose, hash string, now time.Time) (bool, error) {
	at, before := now.UnixMilli(), now.Add(-codeLife).UnixMilli()
	if _, err := s.db.ExecContext(ctx, `DELETE FROM proofs WHERE at < ? AND since < ?`, before, before); err != nil {
		return false, err
	}
	res, err := s.db.ExecContext(ctx,
		`INSERT INTO proofs (email, purpose, code, at, mails, since) VALUES (?, ?, ?, ?, 1, ?)
			ON CONFLICT (email, purpose) DO UPDATE SET code = excluded.code, tries = 0, at = excluded.at,
				mails = iif(since < ?, 1, mails + 1), since = iif(since < ?, excluded.since, since)
			WHERE since < ? OR mails < ?`,
		email, purpose, hash, at, at, before, before, before, codeMails)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

func newCode() (string, error) {
	const most = 100_000_000 // of codeDigits
	for {
		var b [4]byte
		if _, err := rand.Read(b[:]); err != nil {
			return "", err
		}
		// Numbers above the last whole multiple would make some codes likelier than others.
		if n := binary.BigEndian.Uint32(b[:]); n < 42*most {
			return fmt.Sprintf("%0*d", codeDigits, n%most), nil
		}
	}
}

// codeHash is by what a code is known. Blanks don't count.
func (s *Server) codeHash(email, purpose, code string) string {
	code = strings.Join(strings.Fields(code), "")
	return hex.EncodeToString(s.mac("code "+purpose+" "+email, []byte(code)))
}

// invitationHash is by what an invitation is known. Case, blanks and hyphens don't count.
func (s *Server) invitationHash(code string) string { return invitationHash(s.key, code) }

func invitationHash(key []byte, code string) string {
	code = strings.ToUpper(strings.NewReplacer(" ", "", "-", "").Replace(code))
	return hex.EncodeToString(mac(key, "invitation", []byte(code)))
}

// Invite makes an invitation to the cloud of a database file, which serves once and until a time. The cloud may be
// running.
func Invite(ctx context.Context, file string, until time.Time) (code string, err error) {
	st, err := openStore(ctx, file)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, st.close()) }()
	key, err := st.secret(ctx, "key")
	if err != nil {
		return "", err
	}
	const letters, group = 20, 5 // 100 bits
	text := rand.Text()[:letters]
	for i := 0; i < letters; i += group {
		code += text[i:i+group] + "-"
	}
	code = strings.TrimSuffix(code, "-")
	if _, err := st.db.ExecContext(ctx, `DELETE FROM invitations WHERE until < ?`, time.Now().UnixMilli()); err != nil {
		return "", err
	}
	_, err = st.db.ExecContext(ctx, `INSERT INTO invitations (code, until) VALUES (?, ?)`, invitationHash(key, code),
		until.UnixMilli())
	return code, err
}

package cloud

import (
	"context"
	"database/sql"
	"errors"
	"net/http"
	"slices"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/httprate"
	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"redlocket/core/share"
	"redlocket/core/wire"
)

// Letters are what people send each other. The cloud carries them from an account to an address, and knows of each the
// sender, the receiver, its kind, its size and when it came. Nobody is told whether an address has an account.

// Limits of the mails that say that a letter waits.
const (
	mailsToOne   = time.Hour // between two of a kind to one address
	mailsFromOne = 20        // a day because of one sender
	aDay         = 24 * time.Hour
)

// letterMails are the limits, counted in memory: a cloud that starts anew may mail once more.
type letterMails struct{ to, from *httprate.RateLimiter }

func newLetterMails() letterMails {
	return letterMails{httprate.NewRateLimiter(1, mailsToOne), httprate.NewRateLimiter(mailsFromOne, aDay)}
}

// may reports whether one more mail of a kind may go out, and counts it.
func (m letterMails) may(w http.ResponseWriter, r *http.Request, mail, from, to string) bool {
	h := discarded{w}
	return !m.to.OnLimit(h, r, mail+" "+to) && !m.from.OnLimit(h, r, from)
}

// discarded takes headers that nobody is to see: they would tell who else wrote to an address.
type discarded struct{ http.ResponseWriter }

func (discarded) Header() http.Header { return http.Header{} }

// The errors of letters.
var (
	errManyLetters = errors.New("too many letters wait")
	errLetterTaken = errors.New("a letter of this id is there")
)

var letterKinds = []string{wire.LetterOffer, wire.LetterAnswer, wire.LetterReveal, wire.LetterNote}

// letterLife is how long a letter waits.
func letterLife(kind string) time.Duration {
	if kind == wire.LetterNote {
		return wire.NoteDays * aDay
	}
	return wire.LetterDays * aDay
}

func maxLetter(kind string) int {
	if kind == wire.LetterNote {
		return wire.MaxLetter
	}
	return wire.MaxMessage
}

// putLetter takes a letter.
func (s *Server) putLetter(w http.ResponseWriter, r *http.Request) {
	var in wire.NewLetter
	r.Body = http.MaxBytesReader(w, r.Body, 2*wire.MaxLetter) // in base64
	if !read(w, r, &in) {
		return
	}
	id := chi.URLParam(r, "id")
	to, err := NormalEmail(in.To)
	if err == nil {
		err = uuid.Validate(id)
	}
	n := len(in.Body)
	if err == nil && (!slices.Contains(letterKinds, in.Kind) || n == 0 || n > maxLetter(in.Kind)) {
		err = errors.New("this is no letter, or too large a one")
	}
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	fresh, err := s.store.putLetter(r.Context(), keptLetter{
		Address: to, ID: id, Account: of(r).account, Kind: in.Kind, Body: in.Body, At: s.now().UnixMilli(),
	}, s.now())
	switch {
	case errors.Is(err, errManyLetters):
		fail(w, http.StatusInsufficientStorage, wire.CodeManyLetters, "too many letters wait there already")
		return
	case errors.Is(err, errLetterTaken):
		fail(w, http.StatusConflict, wire.CodeBadRequest, "there is another letter of this id")
		return
	case err != nil:
		s.trouble(w, r, err)
		return
	}
	if fresh {
		s.tellLetter(w, r, to, in)
	}
	w.WriteHeader(http.StatusNoContent)
}

// tellLetter has the receiver's devices look, and mails them of what a person is to see. How long that takes tells the
// sender nothing.
func (s *Server) tellLetter(w http.ResponseWriter, r *http.Request, to string, in wire.NewLetter) {
	mail := ""
	switch in.Kind {
	case wire.LetterNote:
		mail = "letter"
	case wire.LetterOffer:
		mail = "offer"
	}
	if s.Post == nil || mail != "" && !s.letterMails.may(w, r, mail, of(r).account, to) {
		mail = ""
	}
	ctx := context.WithoutCancel(r.Context())
	s.mails.ended.Go(func() {
		if a, err := s.store.accountByEmail(ctx, to); err == nil {
			s.hub.tell(a.Account, 0)
		}
	})
	if mail == "" {
		return
	}
	text := mailText{First: share.FirstName(in.First), Days: int(letterLife(in.Kind) / aDay)}
	s.mails.add(func(ctx context.Context) error {
		a, err := s.store.accountByEmail(ctx, to)
		if err != nil && !errors.Is(err, errNoAccount) {
			return err
		}
		// Whoever has no account is told of offers alone: nobody they know can have passed them more.
		if err != nil && mail != "offer" {
			return nil
		}
		off, err := s.store.letterMailOff(ctx, a.Account)
		if err != nil || off {
			return err
		}
		return s.send(ctx, to, mail, text)
	})
}

// letters lists what waits for an account, without what is in it.
func (s *Server) letters(w http.ResponseWriter, r *http.Request) {
	list, err := s.store.letters(r.Context(), of(r).account, s.now())
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, list)
}

// letter returns one.
func (s *Server) letter(w http.ResponseWriter, r *http.Request) {
	l, err := s.store.letter(r.Context(), of(r).account, chi.URLParam(r, "id"))
	switch {
	case errors.Is(err, sql.ErrNoRows):
		fail(w, http.StatusNotFound, wire.CodeNotFound, "there is no such letter")
	case err != nil:
		s.trouble(w, r, err)
	default:
		reply(w, l)
	}
}

// removeLetter removes one that the receiver has.
func (s *Server) removeLetter(w http.ResponseWriter, r *http.Request) {
	_, err := s.store.db.ExecContext(r.Context(), `DELETE FROM letters WHERE `+toAccount+` AND id = ?`,
		of(r).account, chi.URLParam(r, "id"))
	s.done(w, r, err)
}

// takeLetterBack removes one that the sender handed over.
func (s *Server) takeLetterBack(w http.ResponseWriter, r *http.Request) {
	var in wire.TakeBack
	if !read(w, r, &in) {
		return
	}
	to, err := NormalEmail(in.To)
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	_, err = s.store.db.ExecContext(r.Context(), `DELETE FROM letters WHERE address = ? AND id = ? AND account = ?`,
		to, chi.URLParam(r, "id"), of(r).account)
	s.done(w, r, err)
}

func (s *Server) letterMail(w http.ResponseWriter, r *http.Request) {
	off, err := s.store.letterMailOff(r.Context(), of(r).account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, wire.LetterMail{On: !off})
}

func (s *Server) setLetterMail(w http.ResponseWriter, r *http.Request) {
	var in wire.LetterMail
	if !read(w, r, &in) {
		return
	}
	statement := `INSERT OR IGNORE INTO no_letter_mail (account) VALUES (?)`
	if in.On {
		statement = `DELETE FROM no_letter_mail WHERE account = ?`
	}
	_, err := s.store.db.ExecContext(r.Context(), statement, of(r).account)
	s.done(w, r, err)
}

// keptLetter is one as it is kept.
type keptLetter struct {
	Address string `db:"address"`
	ID      string `db:"id"`
	Account string `db:"account"`
	Kind    string `db:"kind"`
	Body    []byte `db:"body"`
	At      int64  `db:"at"`
}

// putLetter keeps a letter; fresh is false if the same sender's is there already.
func (s *store) putLetter(ctx context.Context, l keptLetter, now time.Time) (fresh bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := dropOldLetters(ctx, tx, now); err != nil {
			return err
		}
		var sender string
		err := tx.GetContext(ctx, &sender, `SELECT account FROM letters WHERE address = ? AND id = ?`, l.Address, l.ID)
		switch {
		case err == nil && sender == l.Account:
			return nil
		case err == nil:
			return errLetterTaken
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		var n struct {
			There int `db:"there"`
			Ours  int `db:"ours"`
			All   int `db:"everywhere"`
			Bytes int `db:"bytes"`
			Own   int `db:"own"`
		}
		err = tx.GetContext(ctx, &n, `SELECT
			(SELECT count(*) FROM letters WHERE address = ?) AS there,
			(SELECT count(*) FROM letters WHERE address = ? AND account = ?) AS ours,
			(SELECT count(*) FROM letters WHERE account = ?) AS everywhere,
			(SELECT COALESCE(sum(length(body)), 0) FROM letters WHERE address = ?) AS bytes,
			(SELECT COALESCE(sum(length(body)), 0) FROM letters WHERE account = ?) AS own`,
			l.Address, l.Address, l.Account, l.Account, l.Address, l.Account)
		if err != nil {
			return err
		}
		if n.There >= wire.MaxLetters || n.Ours >= wire.MaxFromOne || n.All >= wire.MaxHanded ||
			max(n.Bytes, n.Own)+len(l.Body) > wire.MaxWaiting {
			return errManyLetters
		}
		fresh = true
		_, err = tx.NamedExecContext(ctx, `INSERT INTO letters (address, id, account, kind, body, at)
			VALUES (:address, :id, :account, :kind, :body, :at)`, l)
		return err
	})
	return fresh && err == nil, err
}

func dropOldLetters(ctx context.Context, q sqlx.ExecerContext, now time.Time) error {
	_, err := q.ExecContext(ctx, `DELETE FROM letters WHERE at < ? OR at < ? AND kind = ?`,
		now.Add(-letterLife("")).UnixMilli(), now.Add(-letterLife(wire.LetterNote)).UnixMilli(), wire.LetterNote)
	return err
}

// dropEvery is how often letters whose time is over are dropped, beside each time that one is handed over.
const dropEvery = time.Hour

// toAccount picks the letters to the address of an account.
const toAccount = `address = (SELECT email FROM accounts WHERE account = ?)`

func (s *store) letters(ctx context.Context, account string, now time.Time) ([]wire.Letter, error) {
	last := s.dropped.Load()
	if now.UnixMilli()-last > dropEvery.Milliseconds() && s.dropped.CompareAndSwap(last, now.UnixMilli()) {
		if err := dropOldLetters(ctx, s.db, now); err != nil {
			return nil, err
		}
	}
	list := []wire.Letter{}
	oldest, oldestNote := now.Add(-letterLife("")), now.Add(-letterLife(wire.LetterNote))
	err := s.db.SelectContext(ctx, &list, `SELECT id, kind, COALESCE(email, '') AS "from", at
		FROM letters LEFT JOIN accounts USING (account)
		WHERE `+toAccount+` AND at >= ? AND (at >= ? OR kind <> ?) ORDER BY at, id`,
		account, oldest.UnixMilli(), oldestNote.UnixMilli(), wire.LetterNote)
	return list, err
}

func (s *store) letter(ctx context.Context, account, id string) (l wire.Letter, err error) {
	return l, s.db.GetContext(ctx, &l, `SELECT id, kind, COALESCE(email, '') AS "from", at, body
		FROM letters LEFT JOIN accounts USING (account) WHERE `+toAccount+` AND id = ?`, account, id)
}

func (s *store) letterMailOff(ctx context.Context, account string) (off bool, err error) {
	return off, s.db.GetContext(ctx, &off, `SELECT count(*) > 0 FROM no_letter_mail WHERE account = ?`, account)
}

// Package cloud is the sync service: accounts, sealed records, devices, and the
// relay for introductions.
//
// It can read nothing. What it holds of a vault is sealed under keys it never
// sees; what it checks is only that a commit stands on the newest head, so that
// no device overwrites another's. It knows an e-mail address, sizes and times.
//
// Nor is it believed in anything: devices verify every answer (package ledger).
package cloud

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/mail"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/httprate"
	"github.com/google/uuid"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

const (
	introductionLife = 10 * time.Minute
	challengeLife    = 2 * time.Minute
	clockGap         = 5 * time.Minute // between a device's clock and ours
	maxUnsigned      = 16 << 10        // bytes of a request without a device's signature
	seenEvery        = time.Minute     // how often a device's last-seen time is written
	maxEmail         = 254             // RFC 5321, section 4.5.3.1.3
	maxKeyBlob       = 8 << 10
)

// unsignedTime is how long a request that no device signed may take to come.
var unsignedTime = 10 * time.Second

// Limits on attempts.
type Limits struct {
	PerAccount int // sign-ins for one e-mail address in Window
	PerAddress int // sign-ins from one network address in Window
	Window     time.Duration
}

// DefaultLimits are used where none are given.
var DefaultLimits = Limits{PerAccount: 10, PerAddress: 60, Window: 5 * time.Minute}

// Server is the cloud. It is an http.Handler; close it after the HTTP server
// has stopped.
type Server struct {
	http.Handler
	// Addresses are the hosts under which devices know the cloud, with their ports if these aren't the usual ones: what
	// is signed for another one is refused. Without any, what a request itself says counts, and a cloud at another
	// address could pass on what it is sent. It is set before the server is used.
	Addresses []string
	// Admission is who may make an account. It is set before the server is used.
	Admission Admission
	// Post takes the cloud's mails. With one, nobody makes an account for an address whose mail they don't read, and
	// nobody is told whether an address has one. It is set before the server is used.
	Post Post
	// Proxies are the networks of proxies that are believed when they say whom they pass on (X-Forwarded-For, the last
	// address that isn't one of theirs). It is set before the server is used.
	Proxies []netip.Prefix
	// LateWait is how long credentials wait that were asked for with an authenticator. It is set before the server is
	// used.
	LateWait time.Duration
	store    *store
	key      []byte
	hub      *hub
	counts   *counts
	mails    *mails
	log      *slog.Logger
	letterMails
	now func() time.Time
}

// New opens the cloud on a database file.
func New(ctx context.Context, file string, lim Limits, log *slog.Logger) (*Server, error) {
	st, err := openStore(ctx, file)
	if err != nil {
		return nil, err
	}
	key, err := st.secret(ctx, "key")
	if err != nil {
		_ = st.close()
		return nil, fmt.Errorf("failed to read the cloud's key: %w", err)
	}
	s := &Server{store: st, key: key, hub: newHub(), mails: newMails(log), log: log, now: time.Now,
		LateWait: DefaultLateWait, letterMails: newLetterMails()}
	s.counts = newCounts(s.hub)
	s.Handler = s.routes(lim)
	return s, nil
}

// Close ends all event streams and closes the database.
func (s *Server) Close() error {
	s.hub.close()
	s.mails.close()
	return s.store.close()
}

// SetClock has the cloud tell the time by another clock, before it is used: for tests of what waits for days.
func (s *Server) SetClock(now func() time.Time) { s.now = now }

// EndStreams ends all event streams, so that an HTTP server can shut down.
func (s *Server) EndStreams() { s.hub.close() }

func (s *Server) routes(lim Limits) http.Handler {
	r := chi.NewRouter()
	r.Use(s.watched)
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			r.Body = http.MaxBytesReader(w, r.Body, wire.MaxBody)
			w.Header().Set("Cache-Control", "no-store")
			w.Header().Set("X-Content-Type-Options", "nosniff")
			next.ServeHTTP(w, r)
		})
	})
	tooMany := httprate.WithLimitHandler(func(w http.ResponseWriter, r *http.Request) {
		fail(w, http.StatusTooManyRequests, wire.CodeTooMany, "too many attempts: wait a few minutes")
	})
	r.Get("/healthz", s.health)
	r.Get("/v1/hello", func(w http.ResponseWriter, r *http.Request) { reply(w, map[string]int{"redlocket": 1}) })
	r.Group(func(r chi.Router) {
		r.Use(httprate.LimitBy(lim.PerAddress, lim.Window, s.byAddress, tooMany))
		perAccount := httprate.NewRateLimiter(lim.PerAccount, lim.Window, tooMany)
		r.Use(small)
		r.Post("/v1/params", s.params)
		r.Post("/v1/challenge", s.challenge)
		r.Post("/v1/codes", s.askCode)
		r.Post("/v1/accounts", s.createAccount)
		r.Post("/v1/accounts/bring-back", s.bringBack(perAccount))
		r.Post("/v1/sessions", s.signIn(perAccount))
		r.Post("/v1/introductions", s.introduce(perAccount))
		r.Post("/v1/help", s.askHelp(perAccount))
	})
	r.With(small).Post("/v1/introductions/{id}/answer", s.introductionAnswer)
	r.With(small).Post("/v1/help/{id}", s.helpState)
	r.Group(func(r chi.Router) {
		r.Use(s.authenticate)
		r.Put("/v1/credentials", s.setCredentials)
		r.Put("/v1/late/keys", s.setLateKeys)
		r.Post("/v1/late", s.askLate)
		r.Get("/v1/late", s.late)
		r.Delete("/v1/late", s.stopLate)
		r.Post("/v1/late/take", s.takeLate)
		r.Post("/v1/epochs", s.beginEpoch)
		r.Get("/v1/epochs/latest", s.epoch)
		r.Post("/v1/account/delete", s.deleteAccount)
		r.Get("/v1/changes", s.changes)
		r.Post("/v1/records/get", s.records)
		r.Post("/v1/commits", s.commit)
		r.Get(eventsRoute, s.events)
		r.Get("/v1/letters", s.letters)
		r.Get("/v1/letters/mail", s.letterMail)
		r.Put("/v1/letters/mail", s.setLetterMail)
		r.Put("/v1/letters/{id}", s.putLetter)
		r.Get("/v1/letters/{id}", s.letter)
		r.Delete("/v1/letters/{id}", s.removeLetter)
		r.Post("/v1/letters/{id}/take-back", s.takeLetterBack)
		r.Get("/v1/sets", s.sets)
		r.Post("/v1/sets/{set}/epochs", s.beginSetEpoch)
		r.Get("/v1/sets/{set}/{epoch}/changes", s.setChanges)
		r.Post("/v1/sets/{set}/{epoch}/commits", s.commitSet)
		r.Put("/v1/sets/{set}/{epoch}/files/{file}/{n}", s.putChunk)
		r.Get("/v1/sets/{set}/{epoch}/files/{file}/{n}", s.chunk)
		r.Post("/v1/sets/{set}/leave", s.leaveSet)
		r.Get("/v1/sets/{set}/boxes/{box}", s.box)
		r.Delete("/v1/sets/{set}/boxes/{box}", s.removeBox)
		r.Get("/v1/files", s.files)
		r.Put("/v1/files/{file}/{n}", s.putChunk)
		r.Get("/v1/files/{file}/{n}", s.chunk)
		r.Delete("/v1/files/{file}", s.removeFile)
		r.Get("/v1/devices", s.devices)
		r.Delete("/v1/devices/{device}", s.endDevice)
		r.Get("/v1/introductions", s.introductions)
		r.Put("/v1/introductions/{id}", s.answerIntroduction)
		s.handRoutes(r)
	})
	return r
}

// small bounds a request that no device signed: its size, and how long it may take to come.
func small(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(unsignedTime)) // not every writer has one
		r.Body = http.MaxBytesReader(w, r.Body, maxUnsigned)
		next.ServeHTTP(w, r)
	})
}

// byAddress counts attempts by the network address that a request came from, as a trusted proxy says it.
func (s *Server) byAddress(r *http.Request) (string, error) {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return "", err
	}
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(hops) - 1; i >= 0 && s.isProxy(host); i-- {
		hop, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
		if err != nil {
			break // what comes before is anybody's
		}
		host = hop.Unmap().String()
	}
	return httprate.CanonicalizeIP(host), nil
}

func (s *Server) isProxy(host string) bool {
	a, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// health answers whether the database does.
func (s *Server) health(w http.ResponseWriter, r *http.Request) {
	const wait = 2 * time.Second
	ctx, cancel := context.WithTimeout(r.Context(), wait)
	defer cancel()
	if err := s.store.check(ctx); err != nil {
		s.trouble(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = io.WriteString(w, "ok\n") // the reader is gone if this fails
}

// NormalEmail brings an e-mail address to the form accounts are known by.
func NormalEmail(s string) (string, error) {
	s = strings.ToLower(strings.TrimSpace(s))
	a, err := mail.ParseAddress(s)
	if err != nil || a.Address != s || len(s) > maxEmail {
		return "", errors.New("this isn't an e-mail address")
	}
	return s, nil
}

func (s *Server) mac(label string, b []byte) []byte { return mac(s.key, label, b) }

func mac(key []byte, label string, b []byte) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(label))
	h.Write([]byte{0})
	h.Write(b)
	return h.Sum(nil)
}

// params answers for an unknown address as for a known one: with a salt that
// stays the same.
func (s *Server) params(w http.ResponseWriter, r *http.Request) {
	var in wire.ParamsRequest
	email, ok := "", read(w, r, &in)
	if !ok {
		return
	}
	email, err := NormalEmail(in.Email)
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	p := keys.DefaultParams(s.mac("salt", []byte(email))[:keys.SaltSize])
	a, err := s.store.accountByEmail(r.Context(), email)
	if err == nil {
		p, err = a.params()
	}
	if err != nil && !errors.Is(err, errNoAccount) {
		s.trouble(w, r, err)
		return
	}
	reply(w, p)
}

func checkCredentials(c wire.Credentials) error {
	if err := c.Params.Check(); err != nil {
		return err
	}
	if len(c.SignIn) != keys.Slots*keys.PublicSize || len(c.RecoverySignIn) != keys.PublicSize {
		return errors.New("public keys have 32 bytes, and there are four to sign in with")
	}
	if n, m := len(c.Wrapped), len(c.RecoveryWrapped); n == 0 || m == 0 || n > maxKeyBlob || m > maxKeyBlob {
		return errors.New("the wrapped vault key is missing or too large")
	}
	return nil
}

func (s *Server) account(c wire.Credentials) (account, error) {
	params, err := json.Marshal(c.Params)
	return account{
		Params: string(params), SignIn: c.SignIn, RecoverySignIn: c.RecoverySignIn, Wrapped: c.Wrapped,
		RecoveryWrapped: c.RecoveryWrapped,
	}, err
}

// challenge draws one. It is known again by its code, and nothing is kept of it.
func (s *Server) challenge(w http.ResponseWriter, _ *http.Request) {
	b := binary.BigEndian.AppendUint64(nil, uint64(s.now().Add(challengeLife).UnixMilli())) //nolint:gosec // after 1970
	var fresh [16]byte
	_, _ = rand.Read(fresh[:]) // never fails
	b = append(b, fresh[:]...)
	reply(w, wire.Challenge{Challenge: append(b, s.mac("challenge", b)...)})
}

// drawn reports whether a challenge was drawn here, a short time ago.
func (s *Server) drawn(challenge []byte) bool {
	const size = 8 + 16
	if len(challenge) != size+sha256.Size || !hmac.Equal(challenge[size:], s.mac("challenge", challenge[:size])) {
		return false
	}
	until := time.UnixMilli(int64(binary.BigEndian.Uint64(challenge))) //nolint:gosec // drawn here
	return s.now().Before(until)
}

// authority is the cloud's address as a request was signed for it.
func (s *Server) authority(r *http.Request) string {
	scheme := "http"
	if r.TLS != nil {
		scheme = "https"
	}
	host := wire.Authority(scheme, r.Host)
	if len(s.Addresses) == 0 || slices.Contains(s.Addresses, host) {
		return host
	}
	return s.Addresses[0] // behind a proxy that says another
}

// body reads a request's body, and returns what proofs name it by.
func body(w http.ResponseWriter, r *http.Request, to any) (digest string, ok bool) {
	b, err := io.ReadAll(r.Body)
	if err != nil {
		return "", unreadable(w, err)
	}
	if err := json.Unmarshal(b, to); err != nil {
		return "", unreadable(w, err)
	}
	return wire.Digest(b), true
}

// proven reports whether a request comes with a proof by a key that belongs to one of some public ones, which follow
// each other. A challenge serves once.
func (s *Server) proven(r *http.Request, publics []byte, purpose, digest string) bool {
	return s.provenBy(r, [][]byte{publics}, purpose, digest) == 0
}

// provenBy returns by which of several lots of public keys a request is proven; -1 for none.
func (s *Server) provenBy(r *http.Request, publics [][]byte, purpose, digest string) int {
	p, ok := wire.ProofOf(r.Header)
	if !ok || !s.drawn(p.Challenge) {
		return -1
	}
	i := slices.IndexFunc(publics, func(lot []byte) bool {
		for public := range slices.Chunk(lot, keys.PublicSize) {
			if p.Holds(public, purpose, s.authority(r), r.Method, r.URL.RequestURI(), digest) {
				return true
			}
		}
		return false
	})
	now := s.now().UnixMilli()
	if i >= 0 && s.store.useNonce(r.Context(), "", "challenge", hashHex(p.Challenge), now,
		now-3*clockGap.Milliseconds()) != nil {
		return -1
	}
	return i
}

func (s *Server) createAccount(w http.ResponseWriter, r *http.Request) {
	var in wire.NewAccount
	digest, ok := body(w, r, &in)
	if !ok {
		return
	}
	email, err := NormalEmail(in.Email)
	if err == nil {
		err = errors.Join(
			checkCredentials(in.Credentials), uuid.Validate(in.Vault), checkDevice(in.Device, in.DeviceKey),
		)
	}
	if err == nil && !s.proven(r, in.SignIn, wire.ProofSignIn, digest) {
		err = errors.New("the account isn't signed by its own key")
	}
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	by := s.admitted(email, in.Admission)
	err = s.mayApply(r.Context(), by)
	if err == nil && by.code != "" {
		err = s.store.tryCode(r.Context(), email, wire.ForAccount, by.code, by.now)
	}
	a, err2 := s.account(in.Credentials)
	if err = errors.Join(err, err2); err == nil {
		a.Account, a.Email, a.Vault, a.Created = uuid.NewString(), email, in.Vault, by.now.UnixMilli()
		err = s.store.addAccount(r.Context(), a, by)
	}
	if err != nil {
		s.refuse(w, r, err)
		return
	}
	s.startSession(w, r, a, in.Device, in.DeviceKey, a.Wrapped)
}

func checkDevice(id string, key []byte) error {
	if len(key) != keys.PublicSize {
		return errors.New("public keys have 32 bytes")
	}
	return uuid.Validate(id)
}

// whose returns the e-mail address that a sign-in is for, and its account; an empty one where it has none. What can't
// be read is answered.
func (s *Server) whose(w http.ResponseWriter, r *http.Request, in wire.SignIn) (email string, a account, ok bool) {
	email, err := NormalEmail(in.Email)
	if err != nil || checkDevice(in.Device, in.DeviceKey) != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "e-mail address or device are not readable")
		return email, a, false
	}
	a, err = s.store.accountByEmail(r.Context(), email)
	if err != nil && !errors.Is(err, errNoAccount) {
		s.trouble(w, r, err)
		return email, a, false
	}
	return email, a, true
}

func (s *Server) signIn(lim *httprate.RateLimiter) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in wire.SignIn
		digest, ok := body(w, r, &in)
		if !ok {
			return
		}
		email, a, ok := s.whose(w, r, in)
		if !ok {
			return
		}
		known := a.Account != ""
		purpose, public, wrapped := a.shown(in.Recovery)
		if !known { // as much work as for one that is there
			n := keys.Slots
			if in.Recovery {
				n = 1
			}
			public = bytes.Repeat(keys.Key(s.mac("nobody", []byte(email))).Public(), n)
		}
		if !s.proven(r, public, purpose, digest) || !known {
			if lim.RespondOnLimit(w, r, email) { // who has the right key is kept out by nobody's attempts
				return
			}
			fail(
				w,
				http.StatusUnauthorized,
				wire.CodeSignIn,
				"the e-mail address, the master password or the carried half is not right",
			)
			return
		}
		s.startSession(w, r, a, in.Device, in.DeviceKey, wrapped)
	}
}

func (s *Server) startSession(
	w http.ResponseWriter, r *http.Request, a account, device string, public, wrapped []byte,
) {
	p, err := a.params()
	if err == nil {
		err = s.store.putSession(r.Context(), a.Account, device, public, s.now().UnixMilli())
	}
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, wire.Session{Account: a.Account, Vault: a.Vault, Params: p, Wrapped: wrapped})
}

type sessionKey struct{}

type session struct{ account, device string }

func of(r *http.Request) session { return r.Context().Value(sessionKey{}).(session) }

// authenticate lets a request through that one of an account's devices signed: this one, for this cloud, now, once.
// Nothing of its body is read before.
func (s *Server) authenticate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		sig, digest, ok := wire.SignatureOf(r.Header)
		if !ok {
			fail(w, http.StatusUnauthorized, wire.CodeToken, "this device is not signed in")
			return
		}
		public, seen, err := s.store.deviceKey(r.Context(), sig.Account, sig.Device)
		if err == nil && !sig.Holds(public, s.authority(r), r.Method, r.URL.RequestURI(), digest) {
			err = errNoSession
		}
		if errors.Is(err, errNoSession) {
			fail(w, http.StatusUnauthorized, wire.CodeToken, "this device is not signed in")
			return
		}
		now := s.now()
		if gap := now.Sub(time.UnixMilli(sig.Time)).Abs(); err == nil && gap > clockGap {
			w.Header().Set("Date", now.UTC().Format(http.TimeFormat))
			fail(w, http.StatusUnauthorized, wire.CodeClock, "the device's clock is wrong")
			return
		}
		if err == nil {
			before := now.Add(-3 * clockGap).UnixMilli()
			err = s.store.useNonce(r.Context(), sig.Account, sig.Device, sig.Nonce, sig.Time, before)
		}
		if errors.Is(err, errReplayed) {
			fail(w, http.StatusUnauthorized, wire.CodeBadRequest, err.Error())
			return
		}
		if err == nil && now.Sub(time.UnixMilli(seen)) > seenEvery {
			err = s.store.touch(r.Context(), sig.Account, sig.Device, now.UnixMilli())
		}
		if err != nil {
			s.trouble(w, r, err)
			return
		}
		b, err := io.ReadAll(r.Body)
		if err != nil {
			unreadable(w, err)
			return
		}
		if wire.Digest(b) != digest {
			fail(w, http.StatusUnauthorized, wire.CodeBadRequest, "the body isn't what was signed")
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(b))
		ctx := context.WithValue(r.Context(), sessionKey{}, session{sig.Account, sig.Device})
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

// setCredentials replaces an account's keys. A device's own key isn't enough for that: whoever asks shows one of the
// account's present keys.
func (s *Server) setCredentials(w http.ResponseWriter, r *http.Request) {
	var in wire.NewCredentials
	digest, ok := body(w, r, &in)
	if !ok {
		return
	}
	now, err := s.store.accountByID(r.Context(), of(r).account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	if len(in.RecoverySignIn) == 0 && len(in.RecoveryWrapped) == 0 {
		in.RecoverySignIn, in.RecoveryWrapped = now.RecoverySignIn, now.RecoveryWrapped
	}
	if err := checkCredentials(in.Credentials); err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	purpose, public, _ := now.shown(in.Recovery)
	if !s.proven(r, public, purpose, digest) {
		const why = "the present master password or recovery code is needed for this"
		fail(w, http.StatusUnauthorized, wire.CodeSignIn, why)
		return
	}
	a, err := s.account(in.Credentials)
	if err == nil {
		err = s.store.setCredentials(r.Context(), of(r).account, of(r).device, a, in.KeepSessions, s.now())
	}
	if err == nil {
		s.tellReplaced(now.Email, s.now())
	}
	if err == nil && !in.KeepSessions {
		s.hub.end(of(r).account, "", of(r).device)
	}
	s.done(w, r, err)
}

func (s *Server) changes(w http.ResponseWriter, r *http.Request) {
	since, err := strconv.ParseUint(r.URL.Query().Get("since"), 10, 63)
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "since must be a number")
		return
	}
	c, err := s.store.changes(r.Context(), of(r).account, since, r.URL.Query().Get("from"))
	if errors.Is(err, errPart) {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, c)
}

// checkCommit refuses what no device of ours sends.
func checkCommit(c wire.Commit) error {
	const maxHead, maxID = 4 << 10, 64
	if c.Head.Number == 0 || len(c.Head.Blob) == 0 || len(c.Head.Blob) > maxHead {
		return errors.New("the commit has no head, or one that is too large")
	}
	if len(c.Records) > wire.MaxRecords {
		return errors.New("the commit has too many records")
	}
	for _, r := range c.Records {
		if r.ID == "" || len(r.ID) > maxID || r.Rev == 0 || len(r.Blob) == 0 || len(r.Blob) > maxRecord {
			return errors.New("a record of the commit has no id, no revision, no content, or is too large")
		}
	}
	return nil
}

// records answers with some records as they are now.
func (s *Server) records(w http.ResponseWriter, r *http.Request) {
	var in wire.Wanted
	if !read(w, r, &in) {
		return
	}
	if len(in.IDs) > wire.MaxFetched {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "too many records at once")
		return
	}
	list, err := s.store.records(r.Context(), of(r).account, in.IDs)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, list)
}

func (s *Server) commit(w http.ResponseWriter, r *http.Request) {
	var in wire.Commit
	if !read(w, r, &in) {
		return
	}
	if err := checkCommit(in); err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	switch err := s.store.commit(r.Context(), of(r).account, in, s.now()); {
	case errors.Is(err, errConflict):
		fail(w, http.StatusConflict, wire.CodeConflict, err.Error())
	case errors.Is(err, errNoRoom):
		fail(w, http.StatusInsufficientStorage, wire.CodeNoRoom, err.Error())
	case err != nil:
		s.trouble(w, r, err)
	default:
		s.hub.tell(of(r).account, in.Head.Number)
		reply(w, map[string]uint64{"n": in.Head.Number})
	}
}

func hashHex(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func (s *Server) devices(w http.ResponseWriter, r *http.Request) {
	list, err := s.store.devices(r.Context(), of(r).account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	for i := range list {
		list[i].Current = list[i].ID == of(r).device
	}
	reply(w, list)
}

// endDevice shuts a device out: its key signs in no more, and its event stream ends at once.
func (s *Server) endDevice(w http.ResponseWriter, r *http.Request) {
	device := chi.URLParam(r, "device")
	err := s.store.endSession(r.Context(), of(r).account, device)
	if err == nil {
		s.hub.end(of(r).account, device, "")
	}
	s.done(w, r, err)
}

// introduce takes a new device's public key. For an unknown address it answers
// alike, and nobody will ever see it.
func (s *Server) introduce(lim *httprate.RateLimiter) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in wire.NewIntroduction
		if !read(w, r, &in) {
			return
		}
		a, email, ok := s.askedOf(w, r, lim, "introduction", in.Email, in.PublicKey)
		if !ok {
			return
		}
		id, secret := uuid.NewString(), rand.Text()
		hash := sha256.Sum256([]byte(secret))
		if err := s.store.addIntroduction(r.Context(), s.waitsAt(a, email), id, hash[:], in.PublicKey,
			s.now().UnixMilli()); err != nil {
			s.trouble(w, r, err)
			return
		}
		reply(w, wire.Introduction{ID: id, Secret: secret})
	}
}

// askedOf returns the account, if there is one, and the address that a device without a session asks something of, with
// a key of its own; it answers where that can't be read, or was asked too often.
func (s *Server) askedOf(
	w http.ResponseWriter, r *http.Request, lim *httprate.RateLimiter, what, address string, key []byte,
) (a account, email string, ok bool) {
	email, err := NormalEmail(address)
	if err != nil || len(key) == 0 || len(key) > maxKeyBlob {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "e-mail address or key are not readable")
		return a, email, false
	}
	if lim.RespondOnLimit(w, r, what+" "+email) {
		return a, email, false
	}
	a, err = s.store.accountByEmail(r.Context(), email)
	if err != nil && !errors.Is(err, errNoAccount) {
		s.trouble(w, r, err)
		return a, email, false
	}
	return a, email, true
}

// waitsAt is where an introduction waits: at the account, or at a place of its own for an address without one.
func (s *Server) waitsAt(a account, email string) string {
	return cmp.Or(a.Account, "nobody "+hex.EncodeToString(s.mac("nobody", []byte(email))))
}

func (s *Server) introductionAnswer(w http.ResponseWriter, r *http.Request) {
	var in wire.Introduction
	if !read(w, r, &in) {
		return
	}
	email, err := NormalEmail(in.Email)
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	a, err := s.store.accountByEmail(r.Context(), email)
	var sealed []byte
	if err == nil || errors.Is(err, errNoAccount) {
		hash := sha256.Sum256([]byte(in.Secret))
		sealed, err = s.store.introductionAnswer(r.Context(), s.waitsAt(a, email), chi.URLParam(r, "id"), hash[:])
	}
	switch {
	case errors.Is(err, errNoSession):
		fail(w, http.StatusNotFound, wire.CodeNotFound, "this introduction is over")
	case err != nil:
		s.trouble(w, r, err)
	case len(sealed) == 0:
		fail(w, http.StatusAccepted, wire.CodeNotReady, "not answered yet")
	default:
		reply(w, wire.Introduction{Sealed: sealed})
	}
}

func (s *Server) introductions(w http.ResponseWriter, r *http.Request) {
	list, err := s.store.introductions(r.Context(), of(r).account, s.now().UnixMilli())
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, list)
}

func (s *Server) answerIntroduction(w http.ResponseWriter, r *http.Request) {
	var in wire.Introduction
	if !read(w, r, &in) {
		return
	}
	if len(in.Sealed) == 0 || len(in.Sealed) > 4*maxKeyBlob {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "nothing is sealed in it")
		return
	}
	err := s.store.answerIntroduction(r.Context(), of(r).account, chi.URLParam(r, "id"), in.Sealed)
	if errors.Is(err, errNoSession) {
		fail(w, http.StatusNotFound, wire.CodeNotFound, "this introduction is over")
		return
	}
	s.done(w, r, err)
}

func read(w http.ResponseWriter, r *http.Request, to any) bool {
	if err := json.NewDecoder(r.Body).Decode(to); err != nil {
		return unreadable(w, err)
	}
	return true
}

// unreadable answers a message that can't be read. It returns false.
func unreadable(w http.ResponseWriter, err error) bool {
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		fail(w, http.StatusRequestEntityTooLarge, wire.CodeBadRequest, "the message is too large")
	} else {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "the message can't be read")
	}
	return false
}

func reply(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // the reader is gone if this fails
}

func fail(w http.ResponseWriter, status int, code, message string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(wire.Error{Code: code, Message: message})
}

func (s *Server) done(w http.ResponseWriter, r *http.Request, err error) {
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// trouble logs an error under a number that the device is told, never its text.
func (s *Server) trouble(w http.ResponseWriter, r *http.Request, err error) {
	var id [6]byte
	_, _ = rand.Read(id[:])
	number := base64.RawURLEncoding.EncodeToString(id[:])
	s.log.ErrorContext(
		r.Context(),
		"request failed",
		"id",
		number,
		"method",
		r.Method,
		"route",
		chi.RouteContext(r.Context()).RoutePattern(),
		"err",
		err,
	)
	fail(w, http.StatusInternalServerError, wire.CodeInternal, "the cloud has trouble (number "+number+")")
}

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
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/mail"
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
	seenEvery        = time.Minute // how often a device's last-seen time is written
	maxEmail         = 254         // RFC 5321, section 4.5.3.1.3
	maxKeyBlob       = 4 << 10
)

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
	store *store
	key   []byte
	hub   *hub
	log   *slog.Logger
	now   func() time.Time
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
	s := &Server{store: st, key: key, hub: newHub(), log: log, now: time.Now}
	s.Handler = s.routes(lim)
	return s, nil
}

// Close ends all event streams and closes the database.
func (s *Server) Close() error {
	s.hub.close()
	return s.store.close()
}

// EndStreams ends all event streams, so that an HTTP server can shut down.
func (s *Server) EndStreams() { s.hub.close() }

func (s *Server) routes(lim Limits) http.Handler {
	r := chi.NewRouter()
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
	r.Get("/v1/hello", func(w http.ResponseWriter, r *http.Request) { reply(w, map[string]int{"redlocket": 1}) })
	r.Group(func(r chi.Router) {
		r.Use(httprate.LimitBy(lim.PerAddress, lim.Window, byAddress, tooMany))
		perAccount := httprate.NewRateLimiter(lim.PerAccount, lim.Window, tooMany)
		r.Post("/v1/params", s.params)
		r.Post("/v1/accounts", s.createAccount)
		r.Post("/v1/sessions", s.signIn(perAccount))
		r.Post("/v1/introductions", s.introduce(perAccount))
	})
	r.Post("/v1/introductions/{id}/answer", s.introductionAnswer)
	r.Group(func(r chi.Router) {
		r.Use(s.authenticate)
		r.Put("/v1/credentials", s.setCredentials)
		r.Get("/v1/changes", s.changes)
		r.Post("/v1/commits", s.commit)
		r.Get("/v1/events", s.events)
		r.Put("/v1/files/{file}/{n}", s.putChunk)
		r.Get("/v1/files/{file}/{n}", s.chunk)
		r.Delete("/v1/files/{file}", s.removeFile)
		r.Get("/v1/devices", s.devices)
		r.Delete("/v1/devices/{device}", s.endDevice)
		r.Get("/v1/introductions", s.introductions)
		r.Put("/v1/introductions/{id}", s.answerIntroduction)
	})
	return r
}

// byAddress counts attempts by the network address that a request came from.
// Behind a proxy that is the proxy's, and the limit holds for everybody at once.
func byAddress(r *http.Request) (string, error) {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	return httprate.CanonicalizeIP(host), err
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

func (s *Server) mac(label string, b []byte) []byte {
	h := hmac.New(sha256.New, s.key)
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
	if len(c.SignIn) != keys.KeySize || len(c.RecoverySignIn) != keys.KeySize {
		return errors.New("sign-in keys have 32 bytes")
	}
	if n, m := len(c.Wrapped), len(c.RecoveryWrapped); n == 0 || m == 0 || n > maxKeyBlob || m > maxKeyBlob {
		return errors.New("the wrapped vault key is missing or too large")
	}
	return nil
}

func (s *Server) account(c wire.Credentials) (account, error) {
	params, err := json.Marshal(c.Params)
	return account{
		Params: string(params), SignIn: s.mac("sign-in", c.SignIn), RecoverySignIn: s.mac("recovery", c.RecoverySignIn),
		Wrapped: c.Wrapped, RecoveryWrapped: c.RecoveryWrapped,
	}, err
}

func (s *Server) createAccount(w http.ResponseWriter, r *http.Request) {
	var in wire.NewAccount
	if !read(w, r, &in) {
		return
	}
	email, err := NormalEmail(in.Email)
	if err == nil {
		err = errors.Join(checkCredentials(in.Credentials), uuid.Validate(in.Vault), uuid.Validate(in.Device))
	}
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	a, err := s.account(in.Credentials)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	a.Account, a.Email, a.Vault, a.Created = uuid.NewString(), email, in.Vault, s.now().UnixMilli()
	switch err := s.store.addAccount(r.Context(), a); {
	case errors.Is(err, errTaken):
		fail(w, http.StatusConflict, wire.CodeTaken, "this e-mail address has an account already")
	case err != nil:
		s.trouble(w, r, err)
	default:
		s.startSession(w, r, a, in.Device, a.Wrapped)
	}
}

func (s *Server) signIn(lim *httprate.RateLimiter) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in wire.SignIn
		if !read(w, r, &in) {
			return
		}
		email, err := NormalEmail(in.Email)
		if err != nil || uuid.Validate(in.Device) != nil {
			fail(w, http.StatusBadRequest, wire.CodeBadRequest, "e-mail address or device are not readable")
			return
		}
		if lim.RespondOnLimit(w, r, email) {
			return
		}
		a, err := s.store.accountByEmail(r.Context(), email)
		if err != nil && !errors.Is(err, errNoAccount) {
			s.trouble(w, r, err)
			return
		}
		known := err == nil
		label, want, wrapped := "sign-in", a.SignIn, a.Wrapped
		if in.Recovery {
			label, want, wrapped = "recovery", a.RecoverySignIn, a.RecoveryWrapped
		}
		if !known {
			want = s.mac("nobody", []byte(email))
		}
		if !hmac.Equal(s.mac(label, in.Key), want) || !known {
			fail(
				w,
				http.StatusUnauthorized,
				wire.CodeSignIn,
				"the e-mail address, the master password or the carried half is not right",
			)
			return
		}
		s.startSession(w, r, a, in.Device, wrapped)
	}
}

func (s *Server) startSession(w http.ResponseWriter, r *http.Request, a account, device string, wrapped []byte) {
	secret := rand.Text()
	hash := sha256.Sum256([]byte(secret))
	p, err := a.params()
	if err == nil {
		err = s.store.putSession(r.Context(), a.Account, device, hash[:], s.now().UnixMilli())
	}
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, wire.Session{Token: a.Account + "." + secret, Vault: a.Vault, Params: p, Wrapped: wrapped})
}

type sessionKey struct{}

type session struct{ account, device string }

func of(r *http.Request) session { return r.Context().Value(sessionKey{}).(session) }

func (s *Server) authenticate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		account, secret, _ := strings.Cut(token, ".")
		hash := sha256.Sum256([]byte(secret))
		device, seen, err := s.store.sessionDevice(r.Context(), account, hash[:])
		if errors.Is(err, errNoSession) {
			fail(w, http.StatusUnauthorized, wire.CodeToken, "this device is not signed in")
			return
		}
		if now := s.now(); err == nil && now.Sub(time.UnixMilli(seen)) > seenEvery {
			err = s.store.touch(r.Context(), account, device, now.UnixMilli())
		}
		if err != nil {
			s.trouble(w, r, err)
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), sessionKey{}, session{account, device})))
	})
}

func (s *Server) setCredentials(w http.ResponseWriter, r *http.Request) {
	var in wire.Credentials
	if !read(w, r, &in) {
		return
	}
	if err := checkCredentials(in); err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, err.Error())
		return
	}
	a, err := s.account(in)
	if err == nil {
		err = s.store.setCredentials(r.Context(), of(r).account, of(r).device, a)
	}
	s.done(w, r, err)
}

func (s *Server) changes(w http.ResponseWriter, r *http.Request) {
	since, err := strconv.ParseUint(r.URL.Query().Get("since"), 10, 63)
	if err != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "since must be a number")
		return
	}
	c, err := s.store.changes(r.Context(), of(r).account, since)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, c)
}

func (s *Server) commit(w http.ResponseWriter, r *http.Request) {
	var in wire.Commit
	if !read(w, r, &in) {
		return
	}
	if len(in.Records) > wire.MaxRecords || in.Head.Number == 0 || len(in.Head.Blob) == 0 {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "the commit has no head or too many records")
		return
	}
	switch err := s.store.commit(r.Context(), of(r).account, in, hashHex(in.Head.Blob)); {
	case errors.Is(err, errConflict):
		fail(w, http.StatusConflict, wire.CodeConflict, err.Error())
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

func (s *Server) endDevice(w http.ResponseWriter, r *http.Request) {
	s.done(w, r, s.store.endSession(r.Context(), of(r).account, chi.URLParam(r, "device")))
}

// introduce takes a new device's public key. For an unknown address it answers
// alike, and nobody will ever see it.
func (s *Server) introduce(lim *httprate.RateLimiter) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in wire.NewIntroduction
		if !read(w, r, &in) {
			return
		}
		email, err := NormalEmail(in.Email)
		if err != nil || len(in.PublicKey) == 0 || len(in.PublicKey) > maxKeyBlob {
			fail(w, http.StatusBadRequest, wire.CodeBadRequest, "e-mail address or key are not readable")
			return
		}
		if lim.RespondOnLimit(w, r, "introduction "+email) {
			return
		}
		a, err := s.store.accountByEmail(r.Context(), email)
		if err != nil && !errors.Is(err, errNoAccount) {
			s.trouble(w, r, err)
			return
		}
		id, secret := uuid.NewString(), rand.Text()
		hash := sha256.Sum256([]byte(secret))
		if err := s.store.addIntroduction(r.Context(), a.Account, id, hash[:], in.PublicKey,
			s.now().UnixMilli()); err != nil {
			s.trouble(w, r, err)
			return
		}
		reply(w, wire.Introduction{ID: id, Secret: secret})
	}
}

func (s *Server) introductionAnswer(w http.ResponseWriter, r *http.Request) {
	var in wire.Introduction
	if !read(w, r, &in) {
		return
	}
	hash := sha256.Sum256([]byte(in.Secret))
	sealed, err := s.store.introductionAnswer(r.Context(), chi.URLParam(r, "id"), hash[:])
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
	if len(in.Sealed) == 0 || len(in.Sealed) > 2*maxKeyBlob {
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
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			fail(w, http.StatusRequestEntityTooLarge, wire.CodeBadRequest, "the message is too large")
		} else {
			fail(w, http.StatusBadRequest, wire.CodeBadRequest, "the message can't be read")
		}
		return false
	}
	return true
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

// Package bridge is the channel between the device app and the extension in a
// browser, over loopback HTTP.
//
// # Connecting
//
// The browser commits to a fresh P-256 key and a nonce by their hash; the app
// answers with its own; the browser then shows what it had committed to. Both
// compute four words from all of it, and the person confirms in the app that they
// are the same. The commitment keeps a program in between from trying keys until
// the words agree.
//
// # Talking
//
// What the two derived is kept by the browser, and by the app sealed in the
// profile. Each session mixes in fresh nonces of both sides; its messages are
// sealed with AES-256-GCM under one key for each way, and every number is taken
// once. While the vault is locked nothing is answered, except that it is.
//
// Only extension origins are answered, a connection only from the origin that
// made it. docs/format.md has the bytes.
package bridge

import (
	"bytes"
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"net/http"
	"regexp"
	"slices"
	"sync"
	"time"

	"redlocket/app"
	"redlocket/app/gate"
)

const (
	maxMessage  = 1 << 20
	maxWaiting  = 4
	waitingLife = 5 * time.Minute
	maxSessions = 32
	keptAs      = "browsers"
)

// Bridge answers connected browsers. It is an http.Handler for /bridge/.
type Bridge struct {
	device *app.Device
	own    string // address of the device app
	mux    *http.ServeMux

	mu       sync.Mutex
	waiting  []*waiting
	sessions map[string]*session
}

type waiting struct {
	id, name, origin string
	since            time.Time
	commit           []byte
	private          *ecdh.PrivateKey
	nonceA           []byte
	words            []string // once revealed
	shared           []byte
	profile          string // once confirmed
	refused          bool
}

type connection struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Origin string `json:"origin"`
	Since  int64  `json:"since"`
	Shared []byte `json:"shared"`
}

type session struct {
	line       *line
	vault      *app.Vault
	connection connection
}

// New returns a bridge to a device whose pages are at the address own.
func New(d *app.Device, own string) *Bridge {
	b := &Bridge{device: d, own: own, mux: http.NewServeMux(), sessions: map[string]*session{}}
	b.mux.HandleFunc("POST /bridge/hello", b.hello)
	b.mux.HandleFunc("POST /bridge/reveal", b.reveal)
	b.mux.HandleFunc("POST /bridge/state", b.state)
	b.mux.HandleFunc("POST /bridge/session", b.start)
	b.mux.HandleFunc("POST /bridge/message", b.message)
	return b
}

var extensionOrigin = regexp.MustCompile(`^(chrome-extension://[a-p]{32}|moz-extension://[0-9a-f-]{36})$`)

// ServeHTTP answers extension origins only.
func (b *Bridge) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	origin := r.Header.Get("Origin")
	if !extensionOrigin.MatchString(origin) {
		http.Error(w, "Only the extension is answered here.", http.StatusForbidden)
		return
	}
	w.Header().Set("Access-Control-Allow-Origin", origin)
	w.Header().Set("Vary", "Origin")
	if r.Method == http.MethodOptions {
		w.Header().Set("Access-Control-Allow-Methods", "POST")
		w.Header().Set("Access-Control-Allow-Headers", "Content-Type")
		w.WriteHeader(http.StatusNoContent)
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, maxMessage)
	b.mux.ServeHTTP(w, r)
}

func read(w http.ResponseWriter, r *http.Request, to any) bool {
	if err := json.NewDecoder(r.Body).Decode(to); err != nil {
		fail(w, http.StatusBadRequest, "unreadable")
		return false
	}
	return true
}

func reply(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // the reader is gone if this fails
}

func fail(w http.ResponseWriter, status int, why string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": why})
}

func (b *Bridge) hello(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Commit []byte `json:"commit"`
		Name   string `json:"name"`
	}
	if !read(w, r, &in) {
		return
	}
	if len(in.Commit) != sha256.Size || len(in.Name) > 80 {
		fail(w, http.StatusBadRequest, "unreadable")
		return
	}
	private, err := ecdh.P256().GenerateKey(rand.Reader)
	if err != nil {
		fail(w, http.StatusInternalServerError, "no key")
		return
	}
	nonce := make([]byte, 32)
	_, _ = rand.Read(nonce) // never fails since Go 1.24
	wt := &waiting{
		id:      rand.Text(),
		name:    in.Name,
		origin:  r.Header.Get("Origin"),
		since:   time.Now(),
		commit:  in.Commit,
		private: private,
		nonceA:  nonce,
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.waiting = slices.DeleteFunc(
		b.waiting,
		func(o *waiting) bool { return o.origin == wt.origin || time.Since(o.since) > waitingLife },
	)
	if len(b.waiting) >= maxWaiting {
		b.waiting = b.waiting[1:]
	}
	b.waiting = append(b.waiting, wt)
	reply(w, map[string]any{"id": wt.id, "pub": private.PublicKey().Bytes(), "nonce": nonce})
}

func (b *Bridge) find(id, origin string) *waiting {
	i := slices.IndexFunc(b.waiting, func(o *waiting) bool {
		return o.id == id && (origin == "" || o.origin == origin) && time.Since(o.since) < waitingLife
	})
	if i < 0 {
		return nil
	}
	return b.waiting[i]
}

func (b *Bridge) reveal(w http.ResponseWriter, r *http.Request) {
	var in struct {
		ID    string `json:"id"`
		Pub   []byte `json:"pub"`
		Nonce []byte `json:"nonce"`
	}
	if !read(w, r, &in) {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	wt := b.find(in.ID, r.Header.Get("Origin"))
	if wt == nil || wt.words != nil {
		fail(w, http.StatusGone, "over")
		return
	}
	sum := sha256.Sum256(append(append([]byte{}, in.Pub...), in.Nonce...))
	shared, words, err := pair(wt.private, in.Pub, in.Nonce, wt.nonceA)
	if err != nil || len(in.Nonce) != 32 || !bytes.Equal(sum[:], wt.commit) {
		wt.refused = true
		fail(w, http.StatusBadRequest, "not what was committed to")
		return
	}
	wt.shared, wt.words = shared, words
	reply(w, map[string]bool{"ok": true})
}

func (b *Bridge) state(w http.ResponseWriter, r *http.Request) {
	var in struct {
		ID string `json:"id"`
	}
	if !read(w, r, &in) {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	wt := b.find(in.ID, r.Header.Get("Origin"))
	switch {
	case wt == nil || wt.refused:
		reply(w, map[string]string{"state": "refused"})
	case wt.profile != "":
		reply(w, map[string]string{"state": "connected", "profile": wt.profile})
	default:
		reply(w, map[string]string{"state": "waiting"})
	}
}

// Waiting returns the browsers that show words and wait to be confirmed.
func (b *Bridge) Waiting() []app.Browser {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []app.Browser
	for _, wt := range b.waiting {
		if wt.words != nil && wt.profile == "" && !wt.refused && time.Since(wt.since) < waitingLife {
			out = append(out, app.Browser{ID: wt.id, Name: wt.name, Words: wt.words})
		}
	}
	return out
}

// Confirm connects a waiting browser to a vault.
func (b *Bridge) Confirm(ctx context.Context, id string, v *app.Vault) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	wt := b.find(id, "")
	if wt == nil || wt.words == nil || wt.profile != "" || wt.refused {
		return errors.New("this browser no longer waits; start again in its window")
	}
	list, err := connections(ctx, v)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(c connection) bool { return c.Origin == wt.origin })
	list = append(list, connection{wt.id, wt.name, wt.origin, time.Now().UnixMilli(), wt.shared})
	if err := keep(ctx, v, list); err != nil {
		return err
	}
	wt.profile = v.Profile().ID
	return nil
}

// Refuse turns a waiting browser away.
func (b *Bridge) Refuse(id string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if wt := b.find(id, ""); wt != nil {
		wt.refused = true
	}
}

// Connected returns a vault's browsers.
func (b *Bridge) Connected(ctx context.Context, v *app.Vault) ([]app.Browser, error) {
	list, err := connections(ctx, v)
	var out []app.Browser
	for _, c := range list {
		out = append(out, app.Browser{ID: c.ID, Name: c.Name, Since: time.UnixMilli(c.Since)})
	}
	return out, err
}

// End ends a connection and its sessions.
func (b *Bridge) End(ctx context.Context, v *app.Vault, id string) error {
	list, err := connections(ctx, v)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for k, s := range b.sessions {
		if s.connection.ID == id {
			delete(b.sessions, k)
		}
	}
	return keep(ctx, v, slices.DeleteFunc(list, func(c connection) bool { return c.ID == id }))
}

func connections(ctx context.Context, v *app.Vault) (list []connection, err error) {
	raw, err := v.Local.Get(ctx, keptAs)
	if err != nil || raw == nil {
		return nil, err
	}
	return list, json.Unmarshal(raw, &list)
}

func keep(ctx context.Context, v *app.Vault, list []connection) error {
	raw, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return v.Local.Set(ctx, keptAs, raw)
}

func (b *Bridge) locked(w http.ResponseWriter, profile string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusLocked)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": "locked", "open": b.own + "/open/" + profile})
}

// start begins a session with fresh keys.
func (b *Bridge) start(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Profile string `json:"profile"`
		ID      string `json:"id"`
		Nonce   []byte `json:"nonce"`
	}
	if !read(w, r, &in) {
		return
	}
	v, ok := b.device.Vault(in.Profile)
	if !ok {
		if _, err := b.device.Profile(r.Context(), in.Profile); errors.Is(err, app.ErrNoProfile) {
			fail(w, http.StatusGone, "over")
			return
		}
		b.locked(w, in.Profile)
		return
	}
	list, err := connections(r.Context(), v)
	if errors.Is(err, gate.ErrLocked) {
		b.locked(w, in.Profile)
		return
	}
	i := slices.IndexFunc(list, func(c connection) bool { return c.ID == in.ID && c.Origin == r.Header.Get("Origin") })
	if err != nil || i < 0 || len(in.Nonce) != 32 {
		fail(w, http.StatusGone, "over")
		return
	}
	nonce := make([]byte, 32)
	_, _ = rand.Read(nonce)
	id := rand.Text()
	l, err := newLine(id, list[i].Shared, in.Nonce, nonce)
	if err != nil {
		fail(w, http.StatusInternalServerError, "no key")
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for k, s := range b.sessions { // those of vaults that were locked, and the oldest where there are too many
		if s.vault.Locked() || len(b.sessions) >= maxSessions {
			delete(b.sessions, k)
		}
	}
	b.sessions[id] = &session{line: l, vault: v, connection: list[i]}
	reply(w, map[string]any{"session": id, "nonce": nonce})
}

func (b *Bridge) message(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Session string `json:"session"`
		N       uint64 `json:"n"`
		Sealed  []byte `json:"sealed"`
	}
	if !read(w, r, &in) {
		return
	}
	b.mu.Lock()
	s := b.sessions[in.Session]
	if s == nil || s.connection.Origin != r.Header.Get("Origin") {
		b.mu.Unlock()
		fail(w, http.StatusUnauthorized, "no session")
		return
	}
	plain, err := s.line.open(in.N, in.Sealed)
	b.mu.Unlock()
	if err != nil {
		fail(w, http.StatusUnauthorized, "no session")
		return
	}
	if s.vault.Locked() {
		b.locked(w, s.vault.Profile().ID)
		return
	}
	out, err := json.Marshal(b.act(r.Context(), s.vault, plain))
	if err != nil {
		fail(w, http.StatusInternalServerError, "no answer")
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	reply(w, map[string]any{"n": in.N, "sealed": s.line.seal(in.N, out)})
}

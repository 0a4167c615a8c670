// Package bridge is the channel between the device app and the extension in a
// browser, over loopback HTTP.
//
// # Connecting
//
// The browser says for whose vault it asks, and commits to a fresh P-256 key and a
// nonce by their hash; the app answers with its own; the browser then shows what it
// had committed to. Both compute four words from all of it, and the person confirms
// on both sides that they are the same: in the app, with that vault open and the
// master password typed again; then in the extension's own page, which keeps the
// connection it had until then. The commitment keeps a program in between from
// trying keys until the words agree. What the app says once it has confirmed is
// sealed under the new key.
//
// A browser is known by an id that its extension made when it was installed: two
// browser profiles may load the same extension, and one that connects again
// replaces its own connection only.
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
	"strings"
	"sync"
	"time"

	"redlocket/app"
	"redlocket/app/gate"
	"redlocket/app/reauth"
)

const (
	maxMessage   = 1 << 20
	maxWaiting   = 64 // newcomers are turned away above it: nobody is pushed out
	waitingLife  = 5 * time.Minute
	revealWithin = 30 * time.Second // after hello
	maxSessions  = 32
	keptAs       = "browsers"
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
	installation     string
	vault            string // id of the profile that it asks for
	since            time.Time
	commit           []byte
	private          *ecdh.PrivateKey
	nonceA           []byte
	words            []string // once revealed
	shared           []byte
	confirmed        []byte // once confirmed: what says so, sealed
	refused          bool
}

type connection struct {
	ID           string `json:"id"`
	Name         string `json:"name"`
	Origin       string `json:"origin"`
	Installation string `json:"installation"`
	Since        int64  `json:"since"`
	Shared       []byte `json:"shared"`
}

type session struct {
	line       *line
	vault      *app.Vault
	connection connection
	version    string // of the extension, as it says; empty once it was noted
}

// New returns a bridge to a device whose pages are at the address own.
func New(d *app.Device, own string) *Bridge {
	b := &Bridge{device: d, own: own, mux: http.NewServeMux(), sessions: map[string]*session{}}
	b.mux.HandleFunc("POST /bridge/vaults", b.vaults)
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

// vaults tells whose vaults a browser may ask for: the names that the lock page shows.
func (b *Bridge) vaults(w http.ResponseWriter, r *http.Request) {
	type vault struct {
		ID    string `json:"id"`
		Name  string `json:"name"`
		Email string `json:"email"`
	}
	list, err := b.device.Profiles(r.Context())
	if err != nil {
		fail(w, http.StatusInternalServerError, "no answer")
		return
	}
	out := []vault{}
	for _, p := range list {
		if p.Broken == nil {
			out = append(out, vault{p.ID, p.Name, p.Email})
		}
	}
	reply(w, map[string]any{"vaults": out})
}

var installationID = regexp.MustCompile(`^[0-9a-f]{32}$`)

func (b *Bridge) hello(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Commit       []byte `json:"commit"`
		Name         string `json:"name"`
		Vault        string `json:"vault"`
		Installation string `json:"installation"`
	}
	if !read(w, r, &in) {
		return
	}
	if len(in.Commit) != sha256.Size || len(in.Name) > 80 || !installationID.MatchString(in.Installation) {
		fail(w, http.StatusBadRequest, "unreadable")
		return
	}
	if _, err := b.device.Profile(r.Context(), in.Vault); err != nil {
		fail(w, http.StatusGone, "over")
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
		id:           rand.Text(),
		name:         in.Name,
		origin:       r.Header.Get("Origin"),
		installation: in.Installation,
		vault:        in.Vault,
		since:        time.Now(),
		commit:       in.Commit,
		private:      private,
		nonceA:       nonce,
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.waiting = slices.DeleteFunc(b.waiting, func(o *waiting) bool {
		return o.installation == wt.installation || o.over()
	})
	if len(b.waiting) >= maxWaiting {
		fail(w, http.StatusTooManyRequests, "too many wait")
		return
	}
	b.waiting = append(b.waiting, wt)
	reply(w, map[string]any{"id": wt.id, "pub": private.PublicKey().Bytes(), "nonce": nonce})
}

// over reports whether nobody waits any more.
func (wt *waiting) over() bool {
	age := time.Since(wt.since)
	return age > waitingLife || wt.words == nil && age > revealWithin
}

func (b *Bridge) find(id string, fits func(*waiting) bool) *waiting {
	i := slices.IndexFunc(b.waiting, func(o *waiting) bool { return o.id == id && !o.over() && fits(o) })
	if i < 0 {
		return nil
	}
	return b.waiting[i]
}

func from(origin string) func(*waiting) bool {
	return func(wt *waiting) bool { return wt.origin == origin }
}

// asks reports whether a browser shows words and waits to be confirmed for a vault.
func asks(profile string) func(*waiting) bool {
	return func(wt *waiting) bool {
		return wt.vault == profile && wt.words != nil && wt.confirmed == nil && !wt.refused
	}
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
	wt := b.find(in.ID, from(r.Header.Get("Origin")))
	if wt == nil || wt.words != nil {
		fail(w, http.StatusGone, "over")
		return
	}
	sum := sha256.Sum256(append(append([]byte{}, in.Pub...), in.Nonce...))
	shared, words, err := pair(wt.private, wt.vault, in.Pub, in.Nonce, wt.nonceA)
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
	wt := b.find(in.ID, from(r.Header.Get("Origin")))
	switch {
	case wt == nil || wt.refused:
		reply(w, map[string]string{"state": "refused"})
	case wt.confirmed != nil:
		reply(w, map[string]any{"state": "confirmed", "sealed": wt.confirmed})
	default:
		reply(w, map[string]string{"state": "waiting"})
	}
}

// Waiting returns the browsers that show words and wait to be confirmed for a profile's vault.
func (b *Bridge) Waiting(profile string) []app.Browser {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []app.Browser
	for _, wt := range b.waiting {
		if asks(profile)(wt) && !wt.over() {
			out = append(out, app.Browser{ID: wt.id, Name: wt.name, Words: wt.words})
		}
	}
	return out
}

// ErrNotWaiting is returned for a browser that doesn't wait for this vault, or no longer.
var ErrNotWaiting = errors.New("this browser no longer waits; start again in its window")

// Confirm connects a waiting browser to the vault that it asked for. The master password is
// asked for first.
func (b *Bridge) Confirm(ctx context.Context, id string, v *app.Vault) error {
	if err := v.Guard.Require(reauth.Connect); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	p := v.Profile()
	wt := b.find(id, asks(p.ID))
	if wt == nil {
		return ErrNotWaiting
	}
	list, err := connections(ctx, v)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(c connection) bool { return c.Installation == wt.installation })
	list = append(list, connection{wt.id, wt.name, wt.origin, wt.installation, time.Now().UnixMilli(), wt.shared})
	told, err := json.Marshal(map[string]string{"profile": p.ID, "name": p.Name, "app": b.own})
	if err != nil {
		return err
	}
	sealed, err := sealConfirmed(wt.shared, told)
	if err != nil {
		return err
	}
	if err := keep(ctx, v, list); err != nil {
		return err
	}
	wt.confirmed = sealed
	return nil
}

// Refuse turns away a browser that waits for a vault.
func (b *Bridge) Refuse(id string, v *app.Vault) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if wt := b.find(id, asks(v.Profile().ID)); wt != nil {
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
	return errors.Join(v.Local.Set(ctx, keptAs, raw), v.KeepBrowsers(ctx, func(id string) bool {
		return slices.ContainsFunc(list, func(c connection) bool { return c.ID == id })
	}))
}

// plainVersion is a version as an extension says it, or a word for one that can't be one.
func plainVersion(s string) string {
	if s == "" || len(s) > 30 || strings.Trim(s, "0123456789.") != "" {
		return "unknown"
	}
	return s
}

func (b *Bridge) locked(w http.ResponseWriter, profile string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusLocked)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": "locked", "open": b.own + "/open/" + profile})
}

// Protocol numbers what extension and app say to each other. It grows when one of them needs what the other may not
// know yet; oldest is the first that is still understood.
const (
	Protocol = 1
	oldest   = 1
)

// fits tells an extension of another protocol who has to be updated, and reports whether it is understood.
func fits(w http.ResponseWriter, protocol int) bool {
	switch {
	case protocol > Protocol:
		fail(w, http.StatusUpgradeRequired, "app too old")
	case protocol < oldest:
		fail(w, http.StatusUpgradeRequired, "extension too old")
	default:
		return true
	}
	return false
}

// start begins a session with fresh keys.
func (b *Bridge) start(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Protocol int    `json:"protocol"`
		Profile  string `json:"profile"`
		ID       string `json:"id"`
		Nonce    []byte `json:"nonce"`
		Version  string `json:"version"`
	}
	if !read(w, r, &in) || !fits(w, in.Protocol) {
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
	b.sessions[id] = &session{line: l, vault: v, connection: list[i], version: plainVersion(in.Version)}
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
	version := s.version
	if err == nil {
		s.version = ""
	}
	b.mu.Unlock()
	if err != nil {
		fail(w, http.StatusUnauthorized, "no session")
		return
	}
	if s.vault.Locked() {
		b.locked(w, s.vault.Profile().ID)
		return
	}
	if version != "" { // it has the key: what it says of itself is its own word
		_ = s.vault.SawBrowser(r.Context(), s.connection.ID, version) // said again in the next session
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

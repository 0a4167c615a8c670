package bridge

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdh"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/filling"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

var write = flag.Bool("write", false, "write testdata/bridge.json anew")

const (
	origin = "chrome-extension://abcdefghijklmnopabcdefghijklmnop"
	master = "kelp ferry lantern forty"
)

// TestBridgeVectors pins the bytes of a pairing and of a message. Byte strings
// are in hex.
func TestBridgeVectors(t *testing.T) {
	seed := func(b byte) []byte { return bytes.Repeat([]byte{b}, 32) }
	private, err := ecdh.P256().NewPrivateKey(seed(1))
	require.NoError(t, err)
	browser, err := ecdh.P256().NewPrivateKey(seed(2))
	require.NoError(t, err)
	shared, words, err := pair(private, "VAULT", browser.PublicKey().Bytes(), seed(3), seed(4))
	require.NoError(t, err)
	confirmed, err := sealConfirmed(shared, []byte(`{"profile":"VAULT"}`))
	require.NoError(t, err)
	l, err := newLine("SESSION", shared, seed(5), seed(6))
	require.NoError(t, err)
	v := map[string]any{
		"comment":     "Test vectors of docs/format.md, the bridge. Byte strings in hex.",
		"app_private": hex.EncodeToString(seed(1)), "browser_private": hex.EncodeToString(seed(2)),
		"app_public": hex.EncodeToString(
			private.PublicKey().Bytes(),
		), "browser_public": hex.EncodeToString(browser.PublicKey().Bytes()),
		"vault":         "VAULT",
		"browser_nonce": hex.EncodeToString(seed(3)), "app_nonce": hex.EncodeToString(seed(4)),
		"words": words, "shared": hex.EncodeToString(shared),
		"told": `{"profile":"VAULT"}`, "confirmed": hex.EncodeToString(confirmed),
		"session": "SESSION", "session_browser_nonce": hex.EncodeToString(seed(5)),
		"session_app_nonce": hex.EncodeToString(seed(6)),
		"n":                 7, "plain": `{"act":"lock"}`, "sealed_to_app": hex.EncodeToString(l.toApp.Seal(nil, iv(7),
			[]byte(`{"act":"lock"}`), []byte("SESSION"))),
		"answer": `{}`, "sealed_to_browser": hex.EncodeToString(l.seal(7, []byte(`{}`))),
	}
	got, err := json.MarshalIndent(v, "", "  ")
	require.NoError(t, err)
	got = append(got, '\n')
	const file = "../../testdata/bridge.json"
	if *write {
		require.NoError(t, os.WriteFile(file, got, 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got))
}

func TestEachNumberOnce(t *testing.T) {
	l, err := newLine("s", make([]byte, 32), make([]byte, 32), make([]byte, 32))
	require.NoError(t, err)
	msg := func(n uint64) []byte { return l.toApp.Seal(nil, iv(n), []byte("x"), []byte("s")) }
	for _, n := range []uint64{1, 3, 2, 70, 10, 69} {
		_, err := l.open(n, msg(n))
		assert.NoError(t, err, n)
	}
	for _, n := range []uint64{0, 1, 2, 3, 6, 10, 69, 70} {
		_, err := l.open(n, msg(n))
		assert.ErrorIs(t, err, errSealed, n)
	}
	_, err = l.open(1<<40, msg(1<<41))
	assert.ErrorIs(t, err, errSealed)
	_, err = l.open(71, msg(71))
	assert.NoError(t, err, "a refused number changes nothing")
	_, err = l.open(80, l.seal(80, []byte("x")))
	assert.ErrorIs(t, err, errSealed, "our own words sent back")
}

// extension is the browser's side, as the extension does it.
type extension struct {
	t       *testing.T
	b       *Bridge
	shared  []byte
	profile string
	id      string
	session string
	to, fro cipher.AEAD
	n       uint64
}

func (e *extension) post(from, path string, body, out any) int {
	raw, err := json.Marshal(body)
	require.NoError(e.t, err)
	r := httptest.NewRequest(http.MethodPost, "/bridge/"+path, bytes.NewReader(raw))
	if from != "" {
		r.Header.Set("Origin", from)
	}
	w := httptest.NewRecorder()
	e.b.ServeHTTP(w, r)
	if out != nil {
		_ = json.Unmarshal(w.Body.Bytes(), out)
	}
	return w.Code
}

// asks is how it begins a session.
func (e *extension) asks(protocol int, nonce []byte) map[string]any {
	return map[string]any{
		"protocol": protocol, "profile": e.profile, "id": e.id, "nonce": nonce, "version": "1.2.3",
	}
}

func (e *extension) start() int {
	nonce := make([]byte, 32)
	_, _ = rand.Read(nonce)
	var s struct {
		Session string
		Nonce   []byte
	}
	code := e.post(origin, "session", e.asks(Protocol, nonce), &s)
	if code != 200 {
		return code
	}
	e.session, e.n = s.Session, 0
	for to, info := range map[*cipher.AEAD]string{&e.to: "redlocket/1 to app", &e.fro: "redlocket/1 to browser"} {
		k, err := hkdf.Key(sha256.New, e.shared, append(nonce[:32:32], s.Nonce...), info, 32)
		require.NoError(e.t, err)
		block, err := aes.NewCipher(k)
		require.NoError(e.t, err)
		*to, err = cipher.NewGCM(block)
		require.NoError(e.t, err)
	}
	return code
}

func (e *extension) ask(request any, out any) (int, map[string]any) {
	raw, err := json.Marshal(request)
	require.NoError(e.t, err)
	e.n++
	body := map[string]any{"session": e.session, "n": e.n, "sealed": e.to.Seal(nil, iv(e.n), raw, []byte(e.session))}
	var a struct {
		N      uint64
		Sealed []byte
	}
	code := e.post(origin, "message", body, &a)
	if code == 200 {
		plain, err := e.fro.Open(nil, iv(a.N), a.Sealed, []byte(e.session))
		require.NoError(e.t, err)
		require.NoError(e.t, json.Unmarshal(plain, out))
	}
	return code, body
}

func setup(t *testing.T) (*extension, *app.Device, *app.Vault) {
	f, err := store.In(t.TempDir())
	require.NoError(t, err)
	d := app.New(app.Ports{Stores: f, Now: time.Now, Rand: rand.Reader})
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	v, err := d.Create(
		t.Context(),
		app.NewVault{Email: "m@cormorant.example", Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(t, err)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	return &extension{t: t, b: New(d, "http://desk.localhost:7301")}, d, v
}

const installed = "00112233445566778899aabbccddeeff"

// wait asks to be connected to a vault, and shows the words.
func (e *extension) wait(v *app.Vault, origin, installation string) (id string, shared []byte) {
	private, err := ecdh.P256().GenerateKey(rand.Reader)
	require.NoError(e.t, err)
	nonce := make([]byte, 32)
	_, _ = rand.Read(nonce)
	pub := private.PublicKey().Bytes()
	commit := sha256.Sum256(append(bytes.Clone(pub), nonce...))
	var h struct {
		ID    string
		Pub   []byte
		Nonce []byte
	}
	p := v.Profile().ID
	before := len(e.b.Waiting(p))
	hello := map[string]any{"commit": commit[:], "name": "Test", "vault": p, "installation": installation}
	require.Equal(e.t, 200, e.post(origin, "hello", hello, &h))
	require.LessOrEqual(e.t, len(e.b.Waiting(p)), before, "nothing is shown before the browser has revealed its key")
	assert.ErrorIs(e.t, e.b.Confirm(e.t.Context(), h.ID, v), ErrNotWaiting)
	require.Equal(e.t, 200, e.post(origin, "reveal", map[string]any{"id": h.ID, "pub": pub, "nonce": nonce}, nil))
	peer, err := ecdh.P256().NewPublicKey(h.Pub)
	require.NoError(e.t, err)
	secret, err := private.ECDH(peer)
	require.NoError(e.t, err)
	tr := transcript(p, pub, nonce, h.Pub, h.Nonce)
	shared, err = hkdf.Key(sha256.New, secret, tr[:], "redlocket/1 connection", 32)
	require.NoError(e.t, err)
	return h.ID, shared
}

func (e *extension) state(origin, id string) (state string, sealed []byte) {
	var st struct {
		State  string
		Sealed []byte
	}
	e.post(origin, "state", map[string]any{"id": id}, &st)
	return st.State, st.Sealed
}

func (e *extension) connect(v *app.Vault) {
	e.id, e.shared = e.wait(v, origin, installed)
	require.Len(e.t, e.b.Waiting(v.Profile().ID), 1)
	require.Len(e.t, e.b.Waiting(v.Profile().ID)[0].Words, 4)
	require.NoError(e.t, e.b.Confirm(e.t.Context(), e.id, v))
	state, sealed := e.state(origin, e.id)
	require.Equal(e.t, "confirmed", state)
	e.profile = v.Profile().ID
	told := fmt.Appendf(nil, `{"app":"http://desk.localhost:7301","name":%q,"profile":%q}`, v.Profile().Name, e.profile)
	want, err := sealConfirmed(e.shared, told)
	require.NoError(e.t, err)
	assert.Equal(e.t, want, sealed)
}

// False greetings neither push out a browser that waits, nor take its place; a vault confirms
// those alone that asked for it, after the master password was typed again.
func TestWhoMayConfirmWhom(t *testing.T) {
	e, d, v := setup(t)
	other, err := d.Create(
		t.Context(),
		app.NewVault{Name: "I", Email: "i@cormorant.example", Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(t, err)
	require.NoError(t, other.Reauthenticate(secret.New(master)))
	id, _ := e.wait(v, origin, installed)
	for i := range 200 {
		commit := sha256.Sum256([]byte{byte(i)})
		code := e.post(origin, "hello", map[string]any{
			"commit": commit[:], "name": "Test", "vault": v.Profile().ID, "installation": fmt.Sprintf("%032x", i),
		}, nil)
		assert.Equal(t, i < maxWaiting-1, code == 200, i)
	}
	require.Len(t, e.b.Waiting(v.Profile().ID), 1)
	assert.Empty(t, e.b.Waiting(other.Profile().ID), "it isn't shown to anybody else")
	assert.ErrorIs(t, e.b.Confirm(t.Context(), id, other), ErrNotWaiting)
	e.b.Refuse(id, other)
	state, _ := e.state(origin, id)
	assert.Equal(t, "waiting", state, "nor can another vault refuse it")
	state, _ = e.state("chrome-extension://bbcdefghijklmnopabcdefghijklmnop", id)
	assert.Equal(t, "refused", state, "another extension learns nothing")
	require.NoError(t, e.b.Confirm(t.Context(), id, v))
	assert.ErrorIs(t, e.b.Confirm(t.Context(), id, v), ErrNotWaiting, "once")
}

func TestConfirmingAsksForTheMasterPassword(t *testing.T) {
	now := time.Now()
	f, err := store.In(t.TempDir())
	require.NoError(t, err)
	d := app.New(app.Ports{Stores: f, Now: func() time.Time { return now }, Rand: rand.Reader})
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	v, err := d.Create(
		t.Context(),
		app.NewVault{Email: "m@cormorant.example", Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(t, err)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	e := &extension{t: t, b: New(d, "http://desk.localhost:7301")}
	id, _ := e.wait(v, origin, installed)
	now = now.Add(time.Minute)
	assert.ErrorIs(t, e.b.Confirm(t.Context(), id, v), reauth.ErrNeeded)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	assert.NoError(t, e.b.Confirm(t.Context(), id, v))
}

// Two browser profiles may have loaded the same extension: each has a connection of its own.
func TestConnectionsAreOfInstallations(t *testing.T) {
	e, _, v := setup(t)
	e.connect(v)
	second := *e
	second.id, second.shared = e.wait(v, origin, "ffeeddccbbaa99887766554433221100")
	require.NoError(t, e.b.Confirm(t.Context(), second.id, v))
	assert.Equal(t, 200, e.start(), "the first is still connected")
	assert.Equal(t, 200, second.start())
	again := *e
	again.connect(v)
	assert.Equal(t, 410, e.start(), "one that connects again replaces its own")
	assert.Equal(t, 200, again.start())
	require.NoError(t, v.SawBrowser(t.Context(), "gone", "1"))
	require.NoError(t, e.b.End(t.Context(), v, "nobody's"))
	assert.Empty(t, v.Profile().Browsers, "of those that aren't connected nothing is kept")
	list, err := e.b.Connected(t.Context(), v)
	require.NoError(t, err)
	assert.Len(t, list, 2)
}

func TestConnectedBrowserFills(t *testing.T) {
	e, _, v := setup(t)
	e.connect(v)
	id := records.NewID()
	require.NoError(
		t,
		v.Items.Save(
			t.Context(),
			id,
			vault.Draft{
				Title:     "Lanternfish",
				Username:  "wren",
				Password:  secret.New("cuttle"),
				Addresses: []vault.Address{{URL: "https://lanternfish.example/"}},
			}.Changes(),
		),
	)
	require.Equal(t, 200, e.start())
	snapshot := map[string]any{
		"title": "Sign in",
		"fields": []map[string]any{
			{"id": 1, "form": 9, "type": "text", "name": "user", "visible": true},
			{"id": 2, "form": 9, "type": "password", "visible": true},
		},
	}
	page := func(act, url, top string) map[string]any {
		return map[string]any{"act": act, "id": id, "form": 9, "url": url, "top": top, "tab": "1", "snapshot": snapshot}
	}
	var view toldPage
	assert.Empty(t, v.Profile().Browsers, "nobody has shown the key yet")
	code, _ := e.ask(page("look", "https://lanternfish.example/in", "https://lanternfish.example/in"), &view)
	require.Equal(t, 200, code)
	require.Len(t, v.Profile().Browsers, 1)
	assert.Equal(t, "1.2.3", v.Profile().Browsers[0].Version)
	require.Len(t, view.Menus[1].Lines, 1)
	var values toldValues
	e.ask(page("fill", "https://lanternfish.example/in", "https://lanternfish.example/in"), &values)
	assert.Equal(
		t,
		[]filling.FieldValue{
			{Field: 1, Role: "username", Value: "wren"},
			{Field: 2, Role: "current-password", Value: "cuttle"},
		},
		values.Fills,
	)

	for name, p := range map[string][2]string{
		"another site": {"https://lanternfish.example.trickster.example/",
			"https://lanternfish.example.trickster.example/"},
		"plain http": {"http://lanternfish.example/in", "http://lanternfish.example/in"},
	} {
		var refused struct {
			Error string
			Fills []filling.FieldValue
		}
		e.ask(page("fill", p[0], p[1]), &refused)
		assert.Contains(t, refused.Error, "doesn’t belong", name)
		assert.Empty(t, refused.Fills, name)
		var view toldPage
		e.ask(page("look", p[0], p[1]), &view)
		for _, m := range view.Menus {
			assert.Empty(t, m.Lines, name)
		}
	}

	// A frame in another site's page: nothing until the user was told whose it is, and said yes.
	framed := page("fill", "https://lanternfish.example/in", "https://trickster.example/")
	framed["frame"] = true
	for _, to := range []string{"", "trickster.example", "lanternfish.example"} {
		framed["elsewhere"] = to
		var answer struct {
			Error string
			Fills []filling.FieldValue
		}
		e.ask(framed, &answer)
		assert.Equal(t, to == "lanternfish.example", len(answer.Fills) == 2, to)
		assert.Equal(t, to != "lanternfish.example", answer.Error != "", to)
	}
	// A form that sends what is typed to another site, likewise.
	away := page("fill", "https://lanternfish.example/in", "https://lanternfish.example/in")
	away["snapshot"] = map[string]any{
		"title":  "Sign in",
		"fields": snapshot["fields"],
		"forms":  []map[string]any{{"id": 9, "action": "https://trickster.example"}},
	}
	var answer struct {
		Error string
		Fills []filling.FieldValue
	}
	e.ask(away, &answer)
	assert.Contains(t, answer.Error, "trickster.example")
	assert.Empty(t, answer.Fills)
}

// What doesn't fit is told, by whoever of the two is the newer one, and nothing is lost by it.
func TestAnExtensionOfAnotherVersion(t *testing.T) {
	e, _, v := setup(t)
	e.connect(v)
	for protocol, want := range map[int]string{Protocol + 1: "app too old", oldest - 1: "extension too old"} {
		var out map[string]string
		assert.Equal(t, http.StatusUpgradeRequired, e.post(origin, "session", e.asks(protocol, make([]byte, 32)), &out))
		assert.Equal(t, want, out["error"])
	}
	require.Equal(t, 200, e.start(), "the connection is there as before")
	script, err := os.ReadFile("../../extension/src/line.js")
	require.NoError(t, err)
	assert.Contains(t, string(script), fmt.Sprintf("const PROTOCOL = %d;", Protocol))
}

func TestHostileBrowserSide(t *testing.T) {
	e, d, v := setup(t)
	for _, from := range []string{"", "https://trickster.example", "http://desk.localhost:7301",
		"chrome-extension://short", "null"} {
		assert.Equal(t, http.StatusForbidden, e.post(from, "hello", map[string]any{}, nil), "%q", from)
	}
	// A key that differs from the commitment is refused.
	var h struct{ ID string }
	commit := sha256.Sum256([]byte("another"))
	e.post(origin, "hello", map[string]any{"commit": commit[:], "vault": v.Profile().ID, "installation": installed}, &h)
	k, _ := ecdh.P256().GenerateKey(rand.Reader)
	assert.Equal(
		t,
		400,
		e.post(
			origin,
			"reveal",
			map[string]any{"id": h.ID, "pub": k.PublicKey().Bytes(), "nonce": make([]byte, 32)},
			nil,
		),
	)
	assert.Empty(t, e.b.Waiting(v.Profile().ID))

	e.connect(v)
	require.Equal(t, 200, e.start())
	var out map[string]any
	code, sent := e.ask(map[string]any{"act": "window"}, &out)
	require.Equal(t, 200, code)
	assert.Equal(t, []any{[]any{}, []any{}}, []any{out["list"], out["drawer"]}, "none is an empty list, not null")
	assert.Equal(t, 401, e.post(origin, "message", sent, nil), "replayed")
	other := strings.Replace(origin, "abcd", "bbcd", 1)
	assert.Equal(t, 401, e.post(other, "message", sent, nil), "another extension")
	assert.Equal(
		t,
		410,
		e.post(other, "session", e.asks(Protocol, make([]byte, 32)), nil),
	)

	old := *e
	v.Lock()
	code, _ = old.ask(map[string]any{"act": "window"}, &out)
	assert.Equal(t, http.StatusLocked, code)
	assert.Equal(t, http.StatusLocked, e.start())
	v, err := d.Unlock(t.Context(), e.profile, secret.New(master))
	require.NoError(t, err)
	code, _ = old.ask(map[string]any{"act": "window"}, &out)
	assert.NotEqual(t, 200, code, "a session doesn't outlive the lock")
	require.Equal(t, 200, e.start())
	require.NoError(t, e.b.End(t.Context(), v, e.id))
	code, _ = e.ask(map[string]any{"act": "window"}, &out)
	assert.Equal(t, 401, code)
	assert.Equal(t, 410, e.start())
}

func FuzzMessage(f *testing.F) {
	f.Add(
		[]byte(
			`{"act":"look","url":"https://a.example/","snapshot":{"fields":[{"id":1,"type":"password","visible":true}]}}`,
		),
	)
	f.Add([]byte(`{"act":"typed","values":{"1":"x"}}`))
	dir := f.TempDir()
	folder, err := store.In(dir)
	if err != nil {
		f.Fatal(err)
	}
	d := app.New(app.Ports{Stores: folder, Now: time.Now, Rand: rand.Reader})
	v, err := d.Create(
		f.Context(),
		app.NewVault{Email: "m@cormorant.example", Password: secret.New(master), Repeat: secret.New(master)},
	)
	if err != nil {
		f.Fatal(err)
	}
	b := New(d, "")
	f.Fuzz(func(t *testing.T, raw []byte) {
		if bytes.Contains(raw, []byte("lock")) {
			return
		}
		if _, err := json.Marshal(b.act(t.Context(), v, raw)); err != nil {
			t.Fatal(err)
		}
	})
}

func FuzzHTTP(f *testing.F) {
	f.Add("hello", []byte(`{"commit":"`+base64.StdEncoding.EncodeToString(make([]byte, 32))+`"}`))
	f.Add("message", []byte(`{"session":"x","n":1,"sealed":""}`))
	b := New(app.New(app.Ports{Stores: noStores{}, Now: time.Now, Rand: rand.Reader}), "")
	f.Fuzz(func(t *testing.T, path string, body []byte) {
		switch path {
		case "hello", "reveal", "state", "session", "message":
		default:
			return
		}
		r := httptest.NewRequest(http.MethodPost, "/bridge/"+path, bytes.NewReader(body))
		r.Header.Set("Origin", origin)
		w := httptest.NewRecorder()
		b.ServeHTTP(w, r)
		if w.Code >= 500 {
			got, _ := io.ReadAll(w.Body)
			t.Fatalf("%d %s", w.Code, got)
		}
	})
}

type noStores struct{ app.Stores }

func (noStores) Open(context.Context, string) (app.Store, error) { return nil, app.ErrNoProfile }

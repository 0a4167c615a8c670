package web_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/web"
)

// authenticator is one of our own making, which signs whatever it is told to (WebAuthn level 3, section 6).
type authenticator struct {
	t     testing.TB
	key   *ecdsa.PrivateKey
	id    []byte
	count uint32
	// What an honest one never says otherwise.
	origin string
	rp     string
	flags  byte
	kind   string // of the ceremony, if it lies
}

const (
	userPresent, userVerified, hasCredential = 1, 4, 0x40
	ownOrigin                                = "http://" + host
)

func newAuthenticator(t testing.TB) *authenticator {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return &authenticator{
		t: t, key: key, id: []byte("credential of a thumb"), origin: ownOrigin, rp: "desk.localhost",
		flags: userPresent | userVerified,
	}
}

func b64(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

func (a *authenticator) data(flags byte) []byte {
	sum := sha256.Sum256([]byte(a.rp))
	a.count++
	return binary.BigEndian.AppendUint32(append(sum[:], flags), a.count)
}

func (a *authenticator) client(kind, challenge string) []byte {
	if a.kind != "" {
		kind = a.kind
	}
	b, err := json.Marshal(map[string]any{"type": kind, "challenge": challenge, "origin": a.origin})
	require.NoError(a.t, err)
	return b
}

func (a *authenticator) say(response map[string]string) string {
	b, err := json.Marshal(map[string]any{
		"id": b64(a.id), "rawId": b64(a.id), "type": "public-key", "response": response,
		"clientExtensionResults": map[string]any{},
	})
	require.NoError(a.t, err)
	return string(b)
}

func (a *authenticator) create(challenge string) string {
	public, err := a.key.PublicKey.Bytes() // 4, x, y
	require.NoError(a.t, err)
	cose, err := cbor.Marshal(map[int]any{1: 2, 3: -7, -1: 1, -2: public[1:33], -3: public[33:]})
	require.NoError(a.t, err)
	data := append(a.data(a.flags|hasCredential), make([]byte, 16)...)
	data = binary.BigEndian.AppendUint16(data, uint16(len(a.id)))
	data = append(append(data, a.id...), cose...)
	object, err := cbor.Marshal(map[string]any{"fmt": "none", "attStmt": map[string]any{}, "authData": data})
	require.NoError(a.t, err)
	return a.say(map[string]string{
		"clientDataJSON": b64(a.client("webauthn.create", challenge)), "attestationObject": b64(object),
	})
}

func (a *authenticator) get(challenge string) string {
	data, client := a.data(a.flags), a.client("webauthn.get", challenge)
	sum := sha256.Sum256(client)
	signed := sha256.Sum256(append(append([]byte{}, data...), sum[:]...))
	signature, err := ecdsa.SignASN1(rand.Reader, a.key, signed[:])
	require.NoError(a.t, err)
	return a.say(map[string]string{
		"clientDataJSON": b64(client), "authenticatorData": b64(data), "signature": b64(signature),
	})
}

// withAuthenticator is an open vault that a thumb opens, too.
func withAuthenticator(t *testing.T) (*client, *app.Vault, *authenticator) {
	_, d, v := setup(t)
	p, err := web.New(d, web.Config{
		Hosts: []string{"desk.localhost"}, Origin: ownOrigin, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(t, err)
	t.Cleanup(p.Close)
	c := &client{t: t, h: p}
	c.open(v)
	a := newAuthenticator(t)
	r := c.do("POST", "/unlocks/options", url.Values{"password": {"not it"}})
	require.Equal(t, http.StatusForbidden, r.StatusCode)
	options := c.options("/unlocks/options", url.Values{"password": {master}})
	r = c.do("POST", "/unlocks", url.Values{
		"answer": {a.create(options.Challenge)}, "prf": {prfOf(1)}, "name": {"Thumb"}, "password": {master},
	})
	require.Equal(t, http.StatusSeeOther, r.StatusCode, "%s", body(t, r))
	return c, v, a
}

func prfOf(b byte) string { return b64([]byte(strings.Repeat(string(rune(b)), 32))) }

type platformOptions struct {
	Challenge        string
	UserVerification string
	RPID             string `json:"rpId"`
	Extensions       struct {
		PRF struct {
			Eval             struct{ First string }
			EvalByCredential map[string]struct{ First string }
		}
	}
}

func (c *client) options(path string, form url.Values) (o platformOptions) {
	r := c.do("POST", path, form)
	text := body(c.t, r)
	require.Equal(c.t, http.StatusOK, r.StatusCode, text)
	require.NoError(c.t, json.Unmarshal([]byte(text), &o))
	return o
}

// tryOpen tries to open a locked vault with what an authenticator says.
func (c *client) tryOpen(profile string, a *authenticator, prf string) *http.Response {
	at := "/open/" + profile + "/platform"
	o := c.options(at+"/options", nil)
	return c.do("POST", at, url.Values{"answer": {a.get(o.Challenge)}, "prf": {prf}})
}

func TestAnAuthenticatorOpens(t *testing.T) {
	c, v, a := withAuthenticator(t)
	v.Lock()
	at := "/open/" + v.Profile().ID + "/platform"
	o := c.options(at+"/options", nil)
	assert.Equal(t, "required", o.UserVerification)
	assert.Equal(t, "desk.localhost", o.RPID)
	assert.Len(t, o.Extensions.PRF.EvalByCredential, 1)
	assert.Len(t, o.Extensions.PRF.EvalByCredential[b64(a.id)].First, 43, "a salt of 32 bytes")
	fresh := &client{t: t, h: c.h}
	answer := url.Values{"answer": {a.get(o.Challenge)}, "prf": {prfOf(1)}}
	r := fresh.do("POST", at, answer)
	require.Equal(t, http.StatusOK, r.StatusCode)
	fresh.entered(r)
	assert.Equal(t, http.StatusOK, fresh.do("GET", "/logins", nil).StatusCode)
	assert.Equal(t, http.StatusForbidden, fresh.do("POST", at, answer).StatusCode, "an answer is good once")
}

func TestWhatOpensNothing(t *testing.T) {
	c, v, _ := withAuthenticator(t)
	v.Lock()
	for name, lie := range map[string]func(a *authenticator) string{
		"the signature is another key's": func(a *authenticator) string { a.key = newAuthenticator(t).key; return prfOf(1) },
		"the key is another one":         func(*authenticator) string { return prfOf(2) },
		"there is no key":                func(*authenticator) string { return "" },
		"the key is cut short":           func(*authenticator) string { return prfOf(1)[:20] },
		"another port of this name":      func(a *authenticator) string { a.origin = "http://desk.localhost:9999"; return prfOf(1) },
		"another site":                   func(a *authenticator) string { a.origin = "https://trickster.example"; return prfOf(1) },
		"another site's authenticator":   func(a *authenticator) string { a.rp = "trickster.example"; return prfOf(1) },
		"nobody was verified":            func(a *authenticator) string { a.flags = userPresent; return prfOf(1) },
		"nobody was there":               func(a *authenticator) string { a.flags = userVerified; return prfOf(1) },
		"it was made, not asked":         func(a *authenticator) string { a.kind = "webauthn.create"; return prfOf(1) },
		"another credential":             func(a *authenticator) string { a.id = []byte("else"); return prfOf(1) },
		"a copy that counts less":        func(a *authenticator) string { a.count = 0; return prfOf(1) },
	} {
		t.Run(name, func(t *testing.T) {
			c, v, a := withAuthenticator(t)
			profile := v.Profile().ID
			a.count = 7
			v.Lock()
			r := c.tryOpen(profile, a, prfOf(1))
			require.Equal(t, http.StatusOK, r.StatusCode, "the honest one")
			c.entered(r)
			require.Equal(t, http.StatusSeeOther, c.do("POST", "/lock", nil).StatusCode)
			prf := lie(a)
			assert.Equal(t, http.StatusForbidden, c.tryOpen(profile, a, prf).StatusCode)
			assert.Equal(t, http.StatusSeeOther, c.do("GET", "/logins", nil).StatusCode)
		})
	}
	at := "/open/" + v.Profile().ID + "/platform"
	for _, answer := range []string{"", "{", "null", `{"id":"","rawId":"","type":"public-key","response":{}}`} {
		r := c.do("POST", at, url.Values{"answer": {answer}, "prf": {prfOf(1)}})
		assert.Equal(t, http.StatusForbidden, r.StatusCode, answer)
	}
	r := c.do("POST", at+"/options", nil, "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, http.StatusForbidden, r.StatusCode, "another site's page asks")
}

// A forgotten master password is replaced by two answers of the authenticator, with an hour between them.
func TestAForgottenMasterPassword(t *testing.T) {
	const fresh = "winkle oar tide lamp"
	c, v, a := withAuthenticator(t)
	try := func(path, prf string) (int, string) {
		o := c.options("/again/platform/options", nil)
		r := c.do("POST", path, url.Values{
			"answer": {a.get(o.Challenge)}, "prf": {prf}, "password": {fresh}, "repeat": {fresh},
		})
		return r.StatusCode, body(t, r)
	}
	code, page := try("/master", prfOf(2))
	assert.Equal(t, http.StatusUnprocessableEntity, code, "another finger")
	assert.NotContains(t, page, "A new master password waits")
	a.flags = userPresent
	code, _ = try("/master", prfOf(1))
	assert.Equal(t, http.StatusUnprocessableEntity, code, "nobody was verified")
	a.flags |= userVerified
	code, page = try("/master", prfOf(1))
	require.Equal(t, http.StatusSeeOther, code, page)
	assert.Contains(t, body(t, c.do("GET", "/master", nil)), "A new master password waits")
	assert.Contains(t, body(t, c.do("GET", "/day", nil)), "A new master password waits")
	code, page = try("/master/take", prfOf(1))
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	assert.Contains(t, page, "waited long enough")
	ahead.Store(int64(61 * time.Minute))
	code, _ = try("/master/take", prfOf(2))
	assert.Equal(t, http.StatusUnprocessableEntity, code, "another finger")
	code, page = try("/master/take", prfOf(1))
	require.Equal(t, http.StatusSeeOther, code, page)
	v.Lock()
	r := c.do("POST", "/open/"+v.Profile().ID, url.Values{"password": {master}})
	assert.Equal(t, http.StatusForbidden, r.StatusCode)
	r = c.do("POST", "/open/"+v.Profile().ID, url.Values{"password": {fresh}})
	assert.Equal(t, http.StatusOK, r.StatusCode)
}

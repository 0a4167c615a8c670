package cloud

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

func newServer(t testing.TB, lim Limits) *Server {
	s, err := New(
		t.Context(),
		filepath.Join(t.TempDir(), "cloud.db"),
		lim,
		slog.New(slog.NewTextHandler(io.Discard, nil)),
	)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

var loose = Limits{PerAccount: 1000, PerAddress: 10000, Window: time.Minute}

// member is a device that is signed in.
type member struct {
	wire.Session
	device string
	key    keys.Key
}

// request is a request as a member sends it; nil is nobody.
func request(t testing.TB, method, path string, by *member, in any) *http.Request {
	raw, err := json.Marshal(in)
	require.NoError(t, err)
	r := httptest.NewRequest(method, path, bytes.NewReader(raw))
	if by != nil {
		by.sign(r, wire.Digest(raw), time.Now())
	}
	return r
}

func (m *member) sign(r *http.Request, digest string, at time.Time) {
	wire.Signature{Account: m.Account, Device: m.device, Time: at.UnixMilli(), Nonce: rand.Text()}.
		Sign(m.key, r.Host, r.Method, r.URL.RequestURI(), digest).Set(r.Header, digest)
}

func send(s http.Handler, r *http.Request, out any) int {
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	if out != nil {
		_ = json.Unmarshal(w.Body.Bytes(), out)
	}
	return w.Code
}

func call(t testing.TB, s http.Handler, method, path string, by *member, in, out any) int {
	return send(s, request(t, method, path, by, in), out)
}

// prove calls with a proof.
func prove(t testing.TB, s http.Handler, method, path string, by *member, k keys.Key, purpose string, in, out any) int {
	var drawn wire.Challenge
	if code := call(t, s, "POST", "/v1/challenge", nil, struct{}{}, &drawn); code != 200 {
		return code
	}
	r := request(t, method, path, by, in)
	raw, err := json.Marshal(in)
	require.NoError(t, err)
	wire.Prove(k, purpose, drawn.Challenge, r.Host, method, path, wire.Digest(raw)).Set(r.Header)
	return send(s, r, out)
}

func key(b byte) keys.Key { return keys.Key(bytes.Repeat([]byte{b}, keys.KeySize)) }

// The keys of every account and device here.
var signInKey, recoveryKey, deviceKey = key(1), key(2), key(3)

func newAccount(email string) wire.NewAccount {
	return wire.NewAccount{
		Email: email, Vault: uuid.NewString(), Device: uuid.NewString(), DeviceKey: deviceKey.Public(),
		Credentials: wire.Credentials{
			Params: keys.DefaultParams(make([]byte, keys.SaltSize)), SignIn: slots(signInKey),
			RecoverySignIn: recoveryKey.Public(), Wrapped: []byte("w"), RecoveryWrapped: []byte("rw"),
		},
	}
}

func create(t testing.TB, s http.Handler, in wire.NewAccount) (m *member, code int) {
	m = &member{device: in.Device, key: deviceKey}
	code = prove(t, s, "POST", "/v1/accounts", nil, signInKey, wire.ProofSignIn, in, &m.Session)
	return m, code
}

func join(t testing.TB, s http.Handler, in wire.NewAccount) *member {
	m, code := create(t, s, in)
	require.Equal(t, 200, code)
	return m
}

func signIn(t testing.TB, s http.Handler, k keys.Key, purpose, email string) (m *member, code int) {
	in := wire.SignIn{
		Email: email, Device: uuid.NewString(), DeviceKey: deviceKey.Public(), Recovery: purpose == wire.ProofRecovery,
	}
	m = &member{device: in.Device, key: deviceKey}
	code = prove(t, s, "POST", "/v1/sessions", nil, k, purpose, in, &m.Session)
	return m, code
}

func TestAccounts(t *testing.T) {
	s := newServer(t, loose)
	in := newAccount("Maren@Cormorant.example ")
	session := join(t, s, in)
	_, code := create(t, s, newAccount("maren@cormorant.example"))
	assert.Equal(t, 409, code)

	other, code := signIn(t, s, signInKey, wire.ProofSignIn, "maren@cormorant.example")
	require.Equal(t, 200, code)
	assert.Equal(t, in.Vault, other.Vault)
	assert.Equal(t, []byte("w"), other.Wrapped)
	recovered, code := signIn(t, s, recoveryKey, wire.ProofRecovery, "maren@cormorant.example")
	require.Equal(t, 200, code)
	assert.Equal(t, []byte("rw"), recovered.Wrapped)
	for _, purpose := range []string{wire.ProofSignIn, wire.ProofRecovery} {
		wrong := map[string]keys.Key{wire.ProofSignIn: recoveryKey, wire.ProofRecovery: signInKey}[purpose]
		_, code = signIn(t, s, wrong, purpose, "maren@cormorant.example")
		assert.Equal(t, 401, code, "one key doesn't serve as the other")
	}

	var devices []wire.Device
	require.Equal(t, 200, call(t, s, "GET", "/v1/devices", other, nil, &devices))
	assert.Len(t, devices, 3)
	require.Equal(t, 204, call(t, s, "DELETE", "/v1/devices/"+in.Device, other, nil, nil))
	assert.Equal(t, 401, call(t, s, "GET", "/v1/devices", session, nil, nil), "shut out")
	assert.Equal(t, 401, call(t, s, "GET", "/v1/devices", nil, nil, nil))
	for name, change := range map[string]func(*wire.NewAccount){
		"e-mail":     func(a *wire.NewAccount) { a.Email = "nobody" },
		"weak":       func(a *wire.NewAccount) { a.Params.Memory = 8 },
		"short key":  func(a *wire.NewAccount) { a.SignIn = a.SignIn[:8] },
		"device key": func(a *wire.NewAccount) { a.DeviceKey = nil },
		"vault":      func(a *wire.NewAccount) { a.Vault = "../x" },
		"no key":     func(a *wire.NewAccount) { a.Wrapped = nil },
		"not signed": func(a *wire.NewAccount) { a.SignIn = slots(recoveryKey) },
	} {
		bad := newAccount("new@cormorant.example")
		change(&bad)
		_, code := create(t, s, bad)
		assert.Equal(t, 400, code, name)
	}
}

// What one request shows is good for that request alone: not again, not for another, not at another cloud, not later.
func TestNothingThatIsShownCanBeUsedAgain(t *testing.T) {
	s := newServer(t, loose)
	m := join(t, s, newAccount("maren@cormorant.example"))
	body := []byte("null")
	for name, change := range map[string]func(r *http.Request){
		"as it is":           func(*http.Request) {},
		"another path":       func(r *http.Request) { r.URL.Path = "/v1/devices" },
		"another query":      func(r *http.Request) { r.URL.RawQuery = "since=1" },
		"another cloud":      func(r *http.Request) { r.Host = "evil.example" },
		"another body":       func(r *http.Request) { r.Body = io.NopCloser(bytes.NewReader([]byte("{}"))) },
		"without":            func(r *http.Request) { r.Header.Del("Authorization") },
		"another device":     func(r *http.Request) { change(r, "device="+m.device, "device="+uuid.NewString()) },
		"another account":    func(r *http.Request) { change(r, "account="+m.Account, "account="+uuid.NewString()) },
		"a later time":       func(r *http.Request) { change(r, "time=", "time=1") },
		"another nonce":      func(r *http.Request) { change(r, "nonce=", "nonce=A") },
		"another digest":     func(r *http.Request) { change(r, "digest=", "digest=AAAA") },
		"another signature":  func(r *http.Request) { change(r, "signature=", "signature=AAAA") },
		"a field twice":      func(r *http.Request) { change(r, "time=", "time=1,time=") },
		"another key":        func(r *http.Request) { (&member{m.Session, m.device, key(9)}).sign(r, wire.Digest(body), time.Now()) },
		"an hour ago":        func(r *http.Request) { m.sign(r, wire.Digest(body), time.Now().Add(-time.Hour)) },
		"in an hour":         func(r *http.Request) { m.sign(r, wire.Digest(body), time.Now().Add(time.Hour)) },
		"as a bearer's word": func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+m.Account) },
	} {
		r := request(t, "GET", "/v1/changes?since=0", m, nil)
		change(r)
		want := 401
		if name == "as it is" {
			want = 200
		}
		assert.Equal(t, want, send(s, r, nil), name)
	}
	r := request(t, "GET", "/v1/files/"+uuid.NewString()+"/0", m, nil)
	r.Method = "PUT"
	assert.Equal(t, 401, send(s, r, nil), "another method")
	r = request(t, "GET", "/v1/changes?since=0", m, nil)
	again := r.Clone(t.Context())
	require.Equal(t, 200, send(s, r, nil))
	assert.Equal(t, 401, send(s, again, nil), "twice")

	// Behind a proxy, or to a device that is told another address, the cloud's own addresses count.
	s.Addresses = []string{"cloud.example"}
	assert.Equal(t, 401, call(t, s, "GET", "/v1/changes?since=0", m, nil, nil), "signed for example.com")
	r = httptest.NewRequest("GET", "https://cloud.example/v1/changes?since=0", bytes.NewReader(body))
	m.sign(r, wire.Digest(body), time.Now())
	r.Host = "127.0.0.1:7300" // what the proxy says
	assert.Equal(t, 200, send(s, r, nil))
}

// change replaces the beginning of a field of a request's signature.
func change(r *http.Request, was, is string) {
	r.Header.Set("Authorization", strings.Replace(r.Header.Get("Authorization"), was, is, 1))
}

// A sign-in that somebody reads gives them nothing, and a device's key alone doesn't take an account over.
func TestProofs(t *testing.T) {
	s := newServer(t, loose)
	now := time.Now()
	s.now = func() time.Time { return now }
	m := join(t, s, newAccount("maren@cormorant.example"))
	in := wire.SignIn{Email: "maren@cormorant.example", Device: uuid.NewString(), DeviceKey: deviceKey.Public()}
	raw, err := json.Marshal(in)
	require.NoError(t, err)
	var drawn wire.Challenge
	require.Equal(t, 200, call(t, s, "POST", "/v1/challenge", nil, struct{}{}, &drawn))
	made := wire.Prove(signInKey, wire.ProofSignIn, drawn.Challenge, "example.com", "POST", "/v1/sessions", wire.Digest(raw))
	with := func(p wire.Proof, in wire.SignIn) int {
		r := request(t, "POST", "/v1/sessions", nil, in)
		p.Set(r.Header)
		return send(s, r, nil)
	}
	mine := in
	mine.DeviceKey = key(9).Public()
	assert.Equal(t, 401, with(made, mine), "with a thief's own key in it")
	forged := made
	forged.Challenge = bytes.Clone(made.Challenge)
	forged.Challenge[len(forged.Challenge)-1] ^= 1
	assert.Equal(t, 401, with(forged, in), "over a challenge that wasn't drawn")
	assert.Equal(t, 401, with(wire.Proof{}, in), "without one")
	elsewhere := wire.Prove(signInKey, wire.ProofSignIn, drawn.Challenge, "evil.example", "POST", "/v1/sessions", wire.Digest(raw))
	assert.Equal(t, 401, with(elsewhere, in), "for another cloud")
	assert.Equal(t, 200, with(made, in))
	assert.Equal(t, 401, with(made, in), "twice")
	require.Equal(t, 200, call(t, s, "POST", "/v1/challenge", nil, struct{}{}, &drawn))
	made = wire.Prove(signInKey, wire.ProofSignIn, drawn.Challenge, "example.com", "POST", "/v1/sessions", wire.Digest(raw))
	now = now.Add(challengeLife)
	assert.Equal(t, 401, with(made, in), "too late")
	now = time.Now()

	fresh := wire.NewCredentials{Credentials: newAccount("x@x.example").Credentials}
	fresh.SignIn, fresh.RecoverySignIn = slots(key(7)), key(8).Public()
	set := func(k keys.Key, purpose string, in wire.NewCredentials) int {
		return prove(t, s, "PUT", "/v1/credentials", m, k, purpose, in, nil)
	}
	assert.Equal(t, 401, call(t, s, "PUT", "/v1/credentials", m, fresh, nil), "a device's key alone")
	assert.Equal(t, 401, set(key(7), wire.ProofSignIn, fresh), "by the key that is to come")
	assert.Equal(t, 401, set(deviceKey, wire.ProofSignIn, fresh), "by the device's own")
	assert.Equal(t, 401, set(signInKey, wire.ProofRecovery, fresh), "by one for the other")
	assert.Equal(t, 204, set(signInKey, wire.ProofSignIn, fresh))
	fresh.Recovery = true
	assert.Equal(t, 401, set(recoveryKey, wire.ProofRecovery, fresh), "by the one of before")
	assert.Equal(t, 204, set(key(8), wire.ProofRecovery, fresh))
}

// Shutting out ends the device's event stream at once, and a change of keys those of all others.
func TestShuttingOutEndsStreams(t *testing.T) {
	s := newServer(t, loose)
	desk := join(t, s, newAccount("maren@cormorant.example"))
	laptop, code := signIn(t, s, signInKey, wire.ProofSignIn, "maren@cormorant.example")
	require.Equal(t, 200, code)
	ended := func(m *member) chan struct{} {
		done := make(chan struct{})
		go func() {
			defer close(done)
			send(s, request(t, "GET", "/v1/events", m, nil), nil)
		}()
		require.Eventually(t, func() bool {
			s.hub.mu.Lock()
			defer s.hub.mu.Unlock()
			for _, d := range s.hub.subs[m.Account] {
				if d.device == m.device {
					return true
				}
			}
			return false
		}, 5*time.Second, time.Millisecond)
		return done
	}
	one, own := ended(laptop), ended(desk)
	require.Equal(t, 204, call(t, s, "DELETE", "/v1/devices/"+laptop.device, desk, nil, nil))
	<-one
	again, code := signIn(t, s, signInKey, wire.ProofSignIn, "maren@cormorant.example")
	require.Equal(t, 200, code)
	other := ended(again)
	in := wire.NewCredentials{Credentials: newAccount("x@x.example").Credentials}
	require.Equal(t, 204, prove(t, s, "PUT", "/v1/credentials", desk, signInKey, wire.ProofSignIn, in, nil))
	<-other
	select {
	case <-own:
		t.Fatal("the device that changed them stays")
	default:
	}
	s.EndStreams()
	<-own
}

// A device whose line broke again and again has few streams, and the newest of them.
func TestADeviceHasFewStreams(t *testing.T) {
	h := newHub()
	other := h.join("a", "other")
	var mine []chan uint64
	for range mostStreams + 2 {
		mine = append(mine, h.join("a", "mine"))
	}
	assert.Equal(t, mostStreams+1, h.count())
	for i, c := range mine[:2] {
		_, ok := <-c
		assert.False(t, ok, i)
	}
	h.tell("a", 7)
	assert.EqualValues(t, 7, <-mine[len(mine)-1])
	assert.EqualValues(t, 7, <-other)
}

// Nobody without a signature has much read of what they send.
func TestUnsignedRequestsAreShort(t *testing.T) {
	s := newServer(t, loose)
	long := wire.SignIn{Email: strings.Repeat("x", maxUnsigned)}
	for _, path := range []string{"/v1/sessions", "/v1/accounts", "/v1/params", "/v1/introductions"} {
		assert.Equal(t, 413, call(t, s, "POST", path, nil, long, nil), path)
	}
	read := &counting{}
	r := httptest.NewRequest("POST", "/v1/commits", read)
	assert.Equal(t, 401, send(s, r, nil))
	assert.Zero(t, read.n)
}

// counting is a body without end.
type counting struct{ n int }

func (c *counting) Read(b []byte) (int, error) { c.n += len(b); return len(b), nil }

// Whoever asks can't tell a known address from an unknown one.
func TestUnknownAccountsLookAlike(t *testing.T) {
	s := newServer(t, loose)
	join(t, s, newAccount("known@cormorant.example"))
	answer := func(path string, in any) (int, map[string]any) {
		var out map[string]any
		if path != "/v1/sessions" {
			return call(t, s, "POST", path, nil, in, &out), out
		}
		return prove(t, s, "POST", path, nil, key(9), wire.ProofSignIn, in, &out), out
	}
	shape := func(m map[string]any) (k []string) {
		for _, f := range []string{"salt", "time", "memory", "threads", "id", "secret", "code", "message"} {
			if _, ok := m[f]; ok {
				k = append(k, f)
			}
		}
		return k
	}
	for _, in := range []struct {
		path string
		body func(email string) any
	}{
		{"/v1/params", func(e string) any { return wire.ParamsRequest{Email: e} }},
		{"/v1/sessions", func(e string) any {
			return wire.SignIn{Email: e, Device: uuid.NewString(), DeviceKey: deviceKey.Public()}
		}},
		{"/v1/introductions", func(e string) any { return wire.NewIntroduction{Email: e, PublicKey: []byte("k")} }},
	} {
		code1, known := answer(in.path, in.body("known@cormorant.example"))
		code2, unknown := answer(in.path, in.body("unknown@cormorant.example"))
		assert.Equal(t, code1, code2, in.path)
		assert.Equal(t, shape(known), shape(unknown), in.path)
		assert.Equal(t, known["message"], unknown["message"])
	}
	_, a := answer("/v1/params", wire.ParamsRequest{Email: "unknown@cormorant.example"})
	_, b := answer("/v1/params", wire.ParamsRequest{Email: "unknown@cormorant.example"})
	_, c := answer("/v1/params", wire.ParamsRequest{Email: "another@cormorant.example"})
	assert.Equal(t, a, b, "the same salt each time")
	assert.NotEqual(t, a, c)
}

func TestAttemptsAreLimited(t *testing.T) {
	s := newServer(t, Limits{PerAccount: 3, PerAddress: 8, Window: time.Hour})
	try := func(email string) int {
		in := wire.SignIn{Email: email, Device: uuid.NewString(), DeviceKey: deviceKey.Public()}
		return call(t, s, "POST", "/v1/sessions", nil, in, nil)
	}
	for range 3 {
		assert.Equal(t, 401, try("a@x.example"))
	}
	assert.Equal(t, 429, try("a@x.example"), "per account, known or not")
	t.Run("the owner", func(t *testing.T) {
		s := newServer(t, Limits{PerAccount: 3, PerAddress: 1000, Window: time.Hour})
		join(t, s, newAccount("maren@cormorant.example"))
		for range 9 {
			_, code := signIn(t, s, key(9), wire.ProofSignIn, "maren@cormorant.example")
			assert.Contains(t, []int{401, 429}, code)
		}
		_, code := signIn(t, s, signInKey, wire.ProofSignIn, "maren@cormorant.example")
		assert.Equal(t, 200, code, "who has the right key isn't kept out by others' attempts")
	})
	for _, e := range []string{"b@x.example", "c@x.example", "d@x.example", "e@x.example"} {
		assert.Equal(t, 401, try(e))
	}
	assert.Equal(t, 429, try("f@x.example"), "per network address")
}

func TestCommitsStandOnTheNewestHead(t *testing.T) {
	s := newServer(t, loose)
	session, stranger := join(t, s, newAccount("a@x.example")), join(t, s, newAccount("b@x.example"))
	first := wire.Commit{
		Head:    wire.Head{Number: 1, Blob: []byte("h1")},
		Records: []wire.Record{{ID: "r", Rev: 1, Blob: []byte("one")}},
	}
	require.Equal(t, 200, call(t, s, "POST", "/v1/commits", session, first, nil))
	assert.Equal(t, 409, call(t, s, "POST", "/v1/commits", session, first, nil), "twice")
	second := wire.Commit{
		Parent:  "00",
		Head:    wire.Head{Number: 2, Blob: []byte("h2")},
		Records: []wire.Record{{ID: "r", Rev: 2, Blob: []byte("two")}},
	}
	assert.Equal(t, 409, call(t, s, "POST", "/v1/commits", session, second, nil), "on another head")
	second.Parent = hashHex([]byte("h1"))
	second.Head.Number = 3
	assert.Equal(t, 409, call(t, s, "POST", "/v1/commits", session, second, nil), "a number left out")
	second.Head.Number = 2
	require.Equal(t, 200, call(t, s, "POST", "/v1/commits", session, second, nil))

	var c wire.Changes
	require.Equal(t, 200, call(t, s, "GET", "/v1/changes?since=1", session, nil, &c))
	assert.Equal(
		t,
		wire.Changes{
			Latest:  2,
			Epoch:   1,
			Tip:     hashHex([]byte("h2")),
			Heads:   []wire.Head{{Number: 2, Blob: []byte("h2")}},
			Records: []wire.Record{{ID: "r", Rev: 2, Blob: []byte("two")}},
		},
		c,
	)
	var theirs wire.Changes
	require.Equal(t, 200, call(t, s, "GET", "/v1/changes?since=0", stranger, nil, &theirs))
	assert.Zero(t, theirs.Latest)
	assert.Empty(t, theirs.Records, "nobody sees another's records")
	assert.Equal(t, 400, call(t, s, "GET", "/v1/changes?since=-1", session, nil, nil))
	assert.Equal(t, 400, call(t, s, "POST", "/v1/commits", session, wire.Commit{}, nil))
}

func TestIntroductionsServeOnce(t *testing.T) {
	s := newServer(t, loose)
	now := time.Now()
	s.now = func() time.Time { return now }
	session, stranger := join(t, s, newAccount("a@x.example")), join(t, s, newAccount("b@x.example"))
	var in wire.Introduction
	require.Equal(
		t,
		200,
		call(
			t,
			s,
			"POST",
			"/v1/introductions",
			nil,
			wire.NewIntroduction{Email: "a@x.example", PublicKey: []byte("key")},
			&in,
		),
	)
	answer := func(secret string) int {
		asked := wire.Introduction{Email: "a@x.example", Secret: secret}
		return call(t, s, "POST", "/v1/introductions/"+in.ID+"/answer", nil, asked, nil)
	}
	elsewhere := wire.Introduction{Email: "b@x.example", Secret: in.Secret}
	assert.Equal(t, 404, call(t, s, "POST", "/v1/introductions/"+in.ID+"/answer", nil, elsewhere, nil))
	assert.Equal(t, 202, answer(in.Secret))
	assert.Equal(t, 404, answer("guess"))
	var list []wire.Introduction
	require.Equal(t, 200, call(t, s, "GET", "/v1/introductions", stranger, nil, &list))
	assert.Empty(t, list)
	assert.Equal(
		t,
		404,
		call(t, s, "PUT", "/v1/introductions/"+in.ID, stranger, wire.Introduction{Sealed: []byte("evil")}, nil),
	)
	require.Equal(t, 200, call(t, s, "GET", "/v1/introductions", session, nil, &list))
	require.Len(t, list, 1)
	require.Equal(
		t,
		204,
		call(t, s, "PUT", "/v1/introductions/"+in.ID, session, wire.Introduction{Sealed: []byte("sealed")}, nil),
	)
	assert.Equal(
		t,
		404,
		call(t, s, "PUT", "/v1/introductions/"+in.ID, session, wire.Introduction{Sealed: []byte("again")}, nil),
	)
	assert.Equal(t, 200, answer(in.Secret))
	now = now.Add(time.Hour)
	list = nil
	require.Equal(
		t,
		200,
		call(
			t,
			s,
			"POST",
			"/v1/introductions",
			nil,
			wire.NewIntroduction{Email: "a@x.example", PublicKey: []byte("key")},
			nil,
		),
	)
	assert.Equal(t, 404, answer(in.Secret), "it is gone after its time")
}

func FuzzRequests(f *testing.F) {
	f.Add("POST", "/v1/sessions", []byte(`{"email":"a@x.example","device":"x","key":""}`))
	f.Add("POST", "/v1/commits", []byte(`{"head":{"n":1}}`))
	s := newServer(f, Limits{PerAccount: 1 << 30, PerAddress: 1 << 30, Window: time.Minute})
	session := join(f, s, newAccount("a@x.example"))
	f.Fuzz(func(t *testing.T, method, path string, body []byte) {
		r, err := http.NewRequest(method, "http://cloud.example/", bytes.NewReader(body))
		if err != nil || path == "/v1/events" {
			return
		}
		r.URL.Path, r.RemoteAddr = path, "127.0.0.1:1"
		session.sign(r, wire.Digest(body), time.Now())
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		if w.Code >= 500 {
			t.Fatal(w.Code, w.Body)
		}
	})
}

// BenchmarkCommit is one commit of one record; its floor is a bare SQLite
// transaction that writes the same bytes to one table with the same pragmas.
func BenchmarkCommit(b *testing.B) {
	blob := bytes.Repeat([]byte{7}, 560)
	var floor float64 // ns
	b.Run("floor", func(b *testing.B) {
		s := newServer(b, loose)
		_, err := s.store.db.Exec(`CREATE TABLE floor (id INTEGER PRIMARY KEY, blob BLOB)`)
		require.NoError(b, err)
		i := 0
		for b.Loop() {
			i++
			tx, err := s.store.db.Begin()
			require.NoError(b, err)
			_, err = tx.Exec(`INSERT INTO floor (id, blob) VALUES (?, ?)`, i, blob)
			require.NoError(b, err)
			require.NoError(b, tx.Commit())
		}
		floor = float64(b.Elapsed()) / float64(b.N)
	})
	b.Run("commit", func(b *testing.B) {
		s := newServer(b, loose)
		session := join(b, s, newAccount("a@x.example"))
		parent, n := "", uint64(0)
		for b.Loop() {
			n++
			head := append([]byte("head"), byte(n), byte(n>>8), byte(n>>16))
			c := wire.Commit{
				Parent:  parent,
				Head:    wire.Head{Number: n, Blob: head},
				Records: []wire.Record{{ID: "r", Rev: n, Blob: blob}},
			}
			if code := call(b, s, "POST", "/v1/commits", session, c, nil); code != 200 {
				b.Fatal(code)
			}
			parent = hashHex(head)
		}
		b.ReportMetric(float64(b.Elapsed())/float64(b.N)/floor, "x-floor")
	})
}

// BenchmarkUnsigned is what requests cost that no device signed, with 10,000 accounts: 5 ms each at most.
func BenchmarkUnsigned(b *testing.B) {
	s := newServer(b, Limits{PerAccount: 1 << 30, PerAddress: 1 << 30, Window: time.Hour})
	a, err := s.account(newAccount("x@x.example").Credentials)
	require.NoError(b, err)
	require.NoError(b, s.store.tx(b.Context(), func(tx *sqlx.Tx) error {
		for i := range 10_000 {
			a.Account, a.Email, a.Vault = uuid.NewString(), fmt.Sprintf("user-%d@x.example", i), "v"
			if _, err := tx.NamedExec(`INSERT INTO accounts (account, email, vault, params, sign_in, recovery_sign_in,
				wrapped, recovery_wrapped, created) VALUES (:account, :email, :vault, :params, :sign_in,
				:recovery_sign_in, :wrapped, :recovery_wrapped, 0)`, a); err != nil {
				return err
			}
		}
		return nil
	}))
	s.Post = &letters{}
	in := newAccount("user-77@x.example")
	wrong := wire.SignIn{Email: in.Email, Device: in.Device, DeviceKey: in.DeviceKey}
	for name, do := range map[string]func(){
		"params":    func() { call(b, s, "POST", "/v1/params", nil, wire.ParamsRequest{Email: in.Email}, nil) },
		"challenge": func() { call(b, s, "POST", "/v1/challenge", nil, struct{}{}, nil) },
		"code":      func() { ask(b, s, in.Email, wire.ForAccount, "") },
		"account":   func() { apply(b, s, in.Email, "1234 5678", "") },
		"sign-in":   func() { prove(b, s, "POST", "/v1/sessions", nil, key(9), wire.ProofSignIn, wrong, nil) },
		"back":      func() { bringBack(b, s, in.Email, "1234 5678", key(9), nil) },
		"introduction": func() {
			hello := wire.NewIntroduction{Email: in.Email, PublicKey: make([]byte, 1300)}
			call(b, s, "POST", "/v1/introductions", nil, hello, nil)
		},
		"answer": func() {
			asked := wire.Introduction{Email: in.Email, Secret: "guess"}
			call(b, s, "POST", "/v1/introductions/"+in.Vault+"/answer", nil, asked, nil)
		},
		"unsigned": func() { call(b, s, "GET", "/v1/changes?since=0", nil, nil, nil) },
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				do()
			}
		})
	}
}

// slots are the public keys of an account of which one passphrase is known: it is in the third.
func slots(k keys.Key) (b []byte) {
	for i := range byte(keys.Slots) {
		b = append(b, key(200+i).Public()...)
	}
	copy(b[2*keys.PublicSize:], k.Public())
	return b
}

package cloud

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/uuid"
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

func call(t testing.TB, s http.Handler, method, path, token string, in, out any) int {
	raw, err := json.Marshal(in)
	require.NoError(t, err)
	r := httptest.NewRequest(method, path, bytes.NewReader(raw))
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	if out != nil {
		_ = json.Unmarshal(w.Body.Bytes(), out)
	}
	return w.Code
}

func key(b byte) []byte { return bytes.Repeat([]byte{b}, 32) }

func newAccount(email string) wire.NewAccount {
	return wire.NewAccount{
		Email:  email,
		Vault:  uuid.NewString(),
		Device: uuid.NewString(),
		Credentials: wire.Credentials{
			Params: keys.DefaultParams(
				make([]byte, keys.SaltSize),
			), SignIn: key(1), RecoverySignIn: key(2), Wrapped: []byte("w"), RecoveryWrapped: []byte("rw"),
		},
	}
}

func TestAccounts(t *testing.T) {
	s := newServer(t, loose)
	in := newAccount("Maren@Cormorant.example ")
	var session wire.Session
	require.Equal(t, 200, call(t, s, "POST", "/v1/accounts", "", in, &session))
	assert.Equal(t, 409, call(t, s, "POST", "/v1/accounts", "", newAccount("maren@cormorant.example"), nil))

	sign := wire.SignIn{Email: "maren@cormorant.example", Device: uuid.NewString(), Key: key(1)}
	var other wire.Session
	require.Equal(t, 200, call(t, s, "POST", "/v1/sessions", "", sign, &other))
	assert.Equal(t, in.Vault, other.Vault)
	assert.Equal(t, []byte("w"), other.Wrapped)
	sign.Recovery, sign.Key = true, key(2)
	require.Equal(t, 200, call(t, s, "POST", "/v1/sessions", "", sign, &other))
	assert.Equal(t, []byte("rw"), other.Wrapped)
	sign.Key = key(1)
	assert.Equal(t, 401, call(t, s, "POST", "/v1/sessions", "", sign, nil), "one key doesn't serve as the other")

	var devices []wire.Device
	require.Equal(t, 200, call(t, s, "GET", "/v1/devices", other.Token, nil, &devices))
	assert.Len(t, devices, 2)
	require.Equal(t, 204, call(t, s, "DELETE", "/v1/devices/"+in.Device, other.Token, nil, nil))
	assert.Equal(t, 401, call(t, s, "GET", "/v1/devices", session.Token, nil, nil), "shut out")
	for _, token := range []string{"", "x", ".", other.Token + "x", session.Token[:36] + "." + other.Token[37:][:10]} {
		assert.Equal(t, 401, call(t, s, "GET", "/v1/changes?since=0", token, nil, nil))
	}
	for name, change := range map[string]func(*wire.NewAccount){
		"e-mail":    func(a *wire.NewAccount) { a.Email = "nobody" },
		"weak":      func(a *wire.NewAccount) { a.Params.Memory = 8 },
		"short key": func(a *wire.NewAccount) { a.SignIn = a.SignIn[:8] },
		"vault":     func(a *wire.NewAccount) { a.Vault = "../x" },
		"no key":    func(a *wire.NewAccount) { a.Wrapped = nil },
	} {
		bad := newAccount("new@cormorant.example")
		change(&bad)
		assert.Equal(t, 400, call(t, s, "POST", "/v1/accounts", "", bad, nil), name)
	}
}

// Whoever asks can't tell a known address from an unknown one.
func TestUnknownAccountsLookAlike(t *testing.T) {
	s := newServer(t, loose)
	require.Equal(t, 200, call(t, s, "POST", "/v1/accounts", "", newAccount("known@cormorant.example"), nil))
	answer := func(path string, in any) (int, map[string]any) {
		var out map[string]any
		code := call(t, s, "POST", path, "", in, &out)
		return code, out
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
		{"/v1/sessions", func(e string) any { return wire.SignIn{Email: e, Device: uuid.NewString(), Key: key(9)} }},
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
		return call(
			t,
			s,
			"POST",
			"/v1/sessions",
			"",
			wire.SignIn{Email: email, Device: uuid.NewString(), Key: key(9)},
			nil,
		)
	}
	for range 3 {
		assert.Equal(t, 401, try("a@x.example"))
	}
	assert.Equal(t, 429, try("a@x.example"), "per account, known or not")
	for _, e := range []string{"b@x.example", "c@x.example", "d@x.example", "e@x.example"} {
		assert.Equal(t, 401, try(e))
	}
	assert.Equal(t, 429, try("f@x.example"), "per network address")
}

func TestCommitsStandOnTheNewestHead(t *testing.T) {
	s := newServer(t, loose)
	var session, stranger wire.Session
	require.Equal(t, 200, call(t, s, "POST", "/v1/accounts", "", newAccount("a@x.example"), &session))
	require.Equal(t, 200, call(t, s, "POST", "/v1/accounts", "", newAccount("b@x.example"), &stranger))
	first := wire.Commit{
		Head:    wire.Head{Number: 1, Blob: []byte("h1")},
		Records: []wire.Record{{ID: "r", Rev: 1, Blob: []byte("one")}},
	}
	require.Equal(t, 200, call(t, s, "POST", "/v1/commits", session.Token, first, nil))
	assert.Equal(t, 409, call(t, s, "POST", "/v1/commits", session.Token, first, nil), "twice")
	second := wire.Commit{
		Parent:  "00",
		Head:    wire.Head{Number: 2, Blob: []byte("h2")},
		Records: []wire.Record{{ID: "r", Rev: 2, Blob: []byte("two")}},
	}
	assert.Equal(t, 409, call(t, s, "POST", "/v1/commits", session.Token, second, nil), "on another head")
	second.Parent = hashHex([]byte("h1"))
	second.Head.Number = 3
	assert.Equal(t, 409, call(t, s, "POST", "/v1/commits", session.Token, second, nil), "a number left out")
	second.Head.Number = 2
	require.Equal(t, 200, call(t, s, "POST", "/v1/commits", session.Token, second, nil))

	var c wire.Changes
	require.Equal(t, 200, call(t, s, "GET", "/v1/changes?since=1", session.Token, nil, &c))
	assert.Equal(
		t,
		wire.Changes{
			Latest:  2,
			Heads:   []wire.Head{{Number: 2, Blob: []byte("h2")}},
			Records: []wire.Record{{ID: "r", Rev: 2, Blob: []byte("two")}},
		},
		c,
	)
	var theirs wire.Changes
	require.Equal(t, 200, call(t, s, "GET", "/v1/changes?since=0", stranger.Token, nil, &theirs))
	assert.Zero(t, theirs.Latest)
	assert.Empty(t, theirs.Records, "nobody sees another's records")
	assert.Equal(t, 400, call(t, s, "GET", "/v1/changes?since=-1", session.Token, nil, nil))
	assert.Equal(t, 400, call(t, s, "POST", "/v1/commits", session.Token, wire.Commit{}, nil))
}

func TestIntroductionsServeOnce(t *testing.T) {
	s := newServer(t, loose)
	now := time.Now()
	s.now = func() time.Time { return now }
	var session, stranger wire.Session
	require.Equal(t, 200, call(t, s, "POST", "/v1/accounts", "", newAccount("a@x.example"), &session))
	require.Equal(t, 200, call(t, s, "POST", "/v1/accounts", "", newAccount("b@x.example"), &stranger))
	var in wire.Introduction
	require.Equal(
		t,
		200,
		call(
			t,
			s,
			"POST",
			"/v1/introductions",
			"",
			wire.NewIntroduction{Email: "a@x.example", PublicKey: []byte("key")},
			&in,
		),
	)
	answer := func(secret string) int {
		return call(t, s, "POST", "/v1/introductions/"+in.ID+"/answer", "", wire.Introduction{Secret: secret}, nil)
	}
	assert.Equal(t, 202, answer(in.Secret))
	assert.Equal(t, 404, answer("guess"))
	var list []wire.Introduction
	require.Equal(t, 200, call(t, s, "GET", "/v1/introductions", stranger.Token, nil, &list))
	assert.Empty(t, list)
	assert.Equal(
		t,
		404,
		call(t, s, "PUT", "/v1/introductions/"+in.ID, stranger.Token, wire.Introduction{Sealed: []byte("evil")}, nil),
	)
	require.Equal(t, 200, call(t, s, "GET", "/v1/introductions", session.Token, nil, &list))
	require.Len(t, list, 1)
	require.Equal(
		t,
		204,
		call(t, s, "PUT", "/v1/introductions/"+in.ID, session.Token, wire.Introduction{Sealed: []byte("sealed")}, nil),
	)
	assert.Equal(
		t,
		404,
		call(t, s, "PUT", "/v1/introductions/"+in.ID, session.Token, wire.Introduction{Sealed: []byte("again")}, nil),
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
			"",
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
	var session wire.Session
	call(f, s, "POST", "/v1/accounts", "", newAccount("a@x.example"), &session)
	f.Fuzz(func(t *testing.T, method, path string, body []byte) {
		r, err := http.NewRequest(method, "http://cloud.example/", bytes.NewReader(body))
		if err != nil || path == "/v1/events" {
			return
		}
		r.URL.Path, r.RemoteAddr = path, "127.0.0.1:1"
		r.Header.Set("Authorization", "Bearer "+session.Token)
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
		var session wire.Session
		call(b, s, "POST", "/v1/accounts", "", newAccount("a@x.example"), &session)
		parent, n := "", uint64(0)
		for b.Loop() {
			n++
			head := append([]byte("head"), byte(n), byte(n>>8), byte(n>>16))
			c := wire.Commit{
				Parent:  parent,
				Head:    wire.Head{Number: n, Blob: head},
				Records: []wire.Record{{ID: "r", Rev: n, Blob: blob}},
			}
			if code := call(b, s, "POST", "/v1/commits", session.Token, c, nil); code != 200 {
				b.Fatal(code)
			}
			parent = hashHex(head)
		}
		b.ReportMetric(float64(b.Elapsed())/float64(b.N)/floor, "x-floor")
	})
}

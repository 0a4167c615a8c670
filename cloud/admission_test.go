package cloud

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

// letters is a mail server that keeps what it is given.
type letters struct {
	mu   sync.Mutex
	sent []letter
	fail error
	hold chan struct{} // nothing is taken before it is closed
}

type letter struct{ to, subject, text string }

func (l *letters) Send(ctx context.Context, to, subject, text string) error {
	if l.hold != nil {
		select {
		case <-l.hold:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sent = append(l.sent, letter{to, subject, text})
	return l.fail
}

func (l *letters) all() []letter {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]letter(nil), l.sent...)
}

// idle waits until every mail that was asked for is written.
func idle(t *testing.T, s *Server) {
	done := make(chan struct{})
	s.mails.add(func(context.Context) error { close(done); return nil })
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("the mails aren't written")
	}
}

var eight = regexp.MustCompile(`\d{4} \d{4}`)

// codes returns what was mailed to an address, the newest last.
func codes(t *testing.T, s *Server, to string) (list []string) {
	idle(t, s)
	for _, l := range s.Post.(*letters).all() {
		if c := eight.FindString(l.text); l.to == to && c != "" {
			assert.NotContains(t, l.subject, c, "it can't be read over a shoulder in a list")
			list = append(list, c)
		}
	}
	return list
}

func last(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[len(list)-1]
}

func withPost(t *testing.T) (*Server, *letters) {
	s, l := newServer(t, loose), &letters{}
	s.Post = l
	return s, l
}

func ask(t testing.TB, s *Server, email, purpose, invitation string) int {
	return call(t, s, "POST", "/v1/codes", nil,
		wire.CodeRequest{Email: email, Purpose: purpose, Invitation: invitation}, nil)
}

const marenAt, idrisAt = "maren@cormorant.example", "idris@cormorant.example"

// apply tries to make an account, and returns the status and the code of the error.
func apply(t testing.TB, s *Server, email, code, invitation string) (int, string) {
	in := newAccount(email)
	in.Code, in.Invitation = code, invitation
	var e wire.Error
	status := prove(t, s, "POST", "/v1/accounts", nil, signInKey, wire.ProofSignIn, in, &e)
	return status, e.Code
}

func TestAnAddressIsProved(t *testing.T) {
	s, l := withPost(t)
	refused := func(code, why string) {
		status, is := apply(t, s, marenAt, code, "")
		assert.Equal(t, 403, status, why)
		assert.Equal(t, wire.CodeProof, is, why)
	}
	refused("", "no code was asked for")
	require.Equal(t, 200, ask(t, s, " Maren@Cormorant.example ", wire.ForAccount, ""))
	require.Equal(t, 200, ask(t, s, idrisAt, wire.ForAccount, ""))
	code, his := last(codes(t, s, marenAt)), last(codes(t, s, idrisAt))
	require.NotEmpty(t, code)
	refused("", "an empty code")
	refused(his, "the code of another address")
	refused("00000000 ", "a guess")
	status, _ := apply(t, s, marenAt, " "+code[:2]+" "+strings.ReplaceAll(code[2:], " ", "  "), "")
	assert.Equal(t, 200, status, "blanks don't count")
	status, is := apply(t, s, marenAt, code, "")
	assert.Equal(t, 403, status)
	assert.Equal(t, wire.CodeProof, is, "a code serves once, and nobody is told of the account")
	for _, m := range l.all() {
		assert.NotContains(t, m.text, "http", "a mail has nothing to press")
	}
}

func TestCodesEnd(t *testing.T) {
	s, _ := withPost(t)
	now := time.Now()
	s.now = func() time.Time { return now }
	require.Equal(t, 200, ask(t, s, marenAt, wire.ForAccount, ""))
	code := last(codes(t, s, marenAt))
	for range codeTries {
		status, _ := apply(t, s, marenAt, "1234 5678", "")
		require.Equal(t, 403, status)
	}
	status, _ := apply(t, s, marenAt, code, "")
	assert.Equal(t, 403, status, "after five tries it is void")

	for range 10 {
		require.Equal(t, 200, ask(t, s, marenAt, wire.ForAccount, ""), "the answer is the same")
	}
	sent := codes(t, s, marenAt)
	assert.Len(t, sent, codeMails, "nobody's letter box is filled")
	now = now.Add(codeLife + time.Second)
	status, _ = apply(t, s, marenAt, last(sent), "")
	assert.Equal(t, 403, status, "it has run out")
	require.Equal(t, 200, ask(t, s, marenAt, wire.ForAccount, ""))
	status, _ = apply(t, s, marenAt, last(codes(t, s, marenAt)), "")
	assert.Equal(t, 200, status)

	require.Equal(t, 400, ask(t, s, idrisAt, "anything", ""))
	require.Equal(t, 400, ask(t, s, "idris@cormorant.example\r\nBcc: all@x.example", wire.ForAccount, ""))
	s.Post = nil
	require.Equal(t, 404, ask(t, s, idrisAt, wire.ForAccount, ""))
}

// A code that is tried by many at once makes one account, and guesses at once are counted like guesses in a row.
func TestCodesAtOnce(t *testing.T) {
	s, _ := withPost(t)
	require.Equal(t, 200, ask(t, s, marenAt, wire.ForAccount, ""))
	code := last(codes(t, s, marenAt))
	var made atomic.Int64
	var wg sync.WaitGroup
	for range codeTries {
		wg.Go(func() {
			if status, _ := apply(t, s, marenAt, code, ""); status == 200 {
				made.Add(1)
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 1, made.Load())

	require.Equal(t, 200, ask(t, s, idrisAt, wire.ForAccount, ""))
	code = last(codes(t, s, idrisAt))
	for range 50 {
		wg.Go(func() { apply(t, s, idrisAt, "1111 1111", "") })
	}
	wg.Wait()
	status, _ := apply(t, s, idrisAt, code, "")
	assert.Equal(t, 403, status)
}

// Whoever doesn't read an address's mail isn't told whether it has an account: not by words, not by a status, not by
// headers.
func TestNobodyIsToldOfAnAccount(t *testing.T) {
	s, l := withPost(t)
	require.Equal(t, 200, ask(t, s, marenAt, wire.ForAccount, ""))
	status, _ := apply(t, s, marenAt, last(codes(t, s, marenAt)), "")
	require.Equal(t, 200, status)
	answers := func(email string) (all []string) {
		for _, purpose := range []string{wire.ForAccount, wire.ForBringBack} {
			for _, code := range []string{"", "1234 5678"} {
				r := request(t, "POST", "/v1/codes", nil, wire.CodeRequest{Email: email, Purpose: purpose})
				w := httptest.NewRecorder()
				s.ServeHTTP(w, r)
				status, is := apply(t, s, email, code, "")
				back := bringBack(t, s, email, code, signInKey, nil)
				all = append(all, w.Body.String(), headerText(w.Header()), is,
					http.StatusText(status), http.StatusText(back))
			}
		}
		return all
	}
	assert.Equal(t, answers(idrisAt), answers(marenAt))
	idle(t, s)
	var told bool
	for _, m := range l.all() {
		told = told || m.to == marenAt && strings.Contains(m.subject, "already")
	}
	assert.True(t, told, "who reads the mail is told")
	assert.Len(t, codes(t, s, marenAt), 1, "and gets no other code")
}

func headerText(h http.Header) string {
	var b bytes.Buffer
	h = h.Clone()
	h.Del("X-Ratelimit-Remaining") // of the network address: one less each time
	_ = h.Write(&b)
	return b.String()
}

// What a mail server does keeps nobody waiting, and what it says is nobody's business.
func TestAMailServerThatHangs(t *testing.T) {
	var logged bytes.Buffer
	s, err := New(t.Context(), filepath.Join(t.TempDir(), "cloud.db"), loose, slog.New(slog.NewTextHandler(&logged, nil)))
	require.NoError(t, err)
	l := &letters{hold: make(chan struct{}), fail: errors.New("no such user maren@cormorant.example")}
	s.Post = l
	began := time.Now()
	for range 20 {
		require.Equal(t, 200, ask(t, s, marenAt, wire.ForAccount, ""))
	}
	assert.Less(t, time.Since(began), 5*time.Second)
	close(l.hold)
	idle(t, s)
	s.Post = &letters{hold: make(chan struct{})}
	require.Equal(t, 200, ask(t, s, idrisAt, wire.ForAccount, ""))
	require.NoError(t, s.Close(), "it ends all the same")
	assert.Contains(t, logged.String(), "mail")
	assert.NotContains(t, logged.String(), "maren")
}

func TestInvitations(t *testing.T) {
	file := filepath.Join(t.TempDir(), "cloud.db")
	s := open(t, file)
	defer func() { assert.NoError(t, s.Close()) }()
	s.Admission = ByInvitation
	invite := func(until time.Duration) string {
		code, err := Invite(t.Context(), file, time.Now().Add(until))
		require.NoError(t, err, "while the cloud runs")
		return code
	}
	refused := func(invitation, why string) {
		status, is := apply(t, s, marenAt, "", invitation)
		assert.Equal(t, 403, status, why)
		assert.Equal(t, wire.CodeInvitation, is, why)
	}
	good := invite(time.Hour)
	refused("", "none")
	refused("AAAAA-AAAAA-AAAAA-AAAAA", "a guess")
	refused(invite(-time.Second), "one that has run out")
	status, _ := apply(t, s, marenAt, "", strings.ToLower(strings.ReplaceAll(good, "-", " ")))
	assert.Equal(t, 200, status)
	status, is := apply(t, s, idrisAt, "", good)
	assert.Equal(t, 403, status)
	assert.Equal(t, wire.CodeInvitation, is, "it serves once")

	// One that fails otherwise isn't used up, and nobody without one has mails sent.
	l := &letters{}
	s.Post = l
	second := invite(time.Hour)
	require.Equal(t, 403, ask(t, s, idrisAt, wire.ForAccount, ""))
	require.Equal(t, 200, ask(t, s, idrisAt, wire.ForAccount, second))
	status, is = apply(t, s, idrisAt, "1234 5678", second)
	assert.Equal(t, 403, status)
	assert.Equal(t, wire.CodeProof, is)
	status, _ = apply(t, s, idrisAt, last(codes(t, s, idrisAt)), second)
	assert.Equal(t, 200, status)

	s.Post = nil
	third := invite(time.Hour)
	var made atomic.Int64
	var wg sync.WaitGroup
	for i := range 10 {
		wg.Go(func() {
			if status, _ := apply(t, s, string(rune('a'+i))+"@cormorant.example", "", third); status == 200 {
				made.Add(1)
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 1, made.Load(), "of ten at once one gets in")
}

// bringBack tries it with a key, on a device of its own.
func bringBack(t testing.TB, s *Server, email, code string, k keys.Key, to *member) int {
	if to == nil {
		to = &member{}
	}
	in := newAccount(email)
	to.device, to.key = in.Device, deviceKey
	return prove(t, s, "POST", "/v1/accounts/bring-back", nil, k, wire.ProofSignIn, wire.BringBack{
		SignIn: wire.SignIn{Email: email, Device: in.Device, DeviceKey: in.DeviceKey}, Code: code,
	}, &to.Session)
}

// takeOver replaces an account's keys by others.
func takeOver(t testing.TB, s *Server, by *member, present, fresh keys.Key) int {
	return prove(t, s, "PUT", "/v1/credentials", by, present, wire.ProofSignIn, wire.NewCredentials{
		Credentials: wire.Credentials{
			Params: keys.DefaultParams(make([]byte, keys.SaltSize)), SignIn: slots(fresh),
			RecoverySignIn: fresh.Public(), Wrapped: []byte("theirs"), RecoveryWrapped: []byte("theirs"),
		},
	}, nil)
}

func TestAnAccountIsBroughtBack(t *testing.T) {
	s, l := withPost(t)
	now := time.Now()
	s.now = func() time.Time { return now }
	s.Post = nil
	owner := join(t, s, newAccount(marenAt))
	s.Post = l
	thief, status := signIn(t, s, signInKey, wire.ProofSignIn, marenAt)
	require.Equal(t, 200, status)
	theirs := key(7)
	require.Equal(t, 204, takeOver(t, s, thief, signInKey, theirs))
	idle(t, s)
	require.Len(t, l.all(), 1)
	assert.Contains(t, l.all()[0].subject, "replaced", "the owner is told")
	require.Equal(t, 401, call(t, s, "GET", "/v1/devices", owner, nil, nil), "and is out")
	for range mostFormers + 5 {
		require.Equal(t, 204, takeOver(t, s, thief, theirs, key(8)))
		require.Equal(t, 204, takeOver(t, s, thief, key(8), theirs))
	}

	require.Equal(t, 403, bringBack(t, s, marenAt, "", signInKey, nil), "the old key alone isn't enough")
	require.Equal(t, 200, ask(t, s, marenAt, wire.ForAccount, ""))
	require.Equal(t, 403, bringBack(t, s, marenAt, "1234 5678", signInKey, nil))
	require.Equal(t, 200, ask(t, s, marenAt, wire.ForBringBack, ""))
	code := last(codes(t, s, marenAt))
	require.NotEmpty(t, code)
	require.Equal(t, 401, bringBack(t, s, marenAt, code, key(9), nil), "nor is the mail alone")
	var back member
	require.Equal(t, 200, bringBack(t, s, marenAt, code, signInKey, &back), "both are")
	assert.Equal(t, []byte("w"), back.Wrapped)
	assert.Equal(t, owner.Vault, back.Vault)
	assert.Equal(t, 200, call(t, s, "GET", "/v1/devices", &back, nil, nil))
	assert.Equal(t, 401, call(t, s, "GET", "/v1/devices", thief, nil, nil), "whoever took it over is out")
	_, status = signIn(t, s, theirs, wire.ProofSignIn, marenAt)
	assert.Equal(t, 401, status)
	_, status = signIn(t, s, signInKey, wire.ProofSignIn, marenAt)
	assert.Equal(t, 200, status)
	require.Equal(t, 200, ask(t, s, marenAt, wire.ForBringBack, ""))
	assert.Equal(t, code, last(codes(t, s, marenAt)), "what replaced it doesn't come back")
	require.Equal(t, 401, bringBack(t, s, marenAt, code, theirs, nil))
}

func TestBringingBackEnds(t *testing.T) {
	s, l := withPost(t)
	now := time.Now()
	s.now = func() time.Time { return now }
	s.Post = nil
	owner := join(t, s, newAccount(marenAt))
	s.Post = l
	require.Equal(t, 204, takeOver(t, s, owner, signInKey, key(7)))
	require.Equal(t, 200, ask(t, s, idrisAt, wire.ForBringBack, ""))
	idle(t, s)
	assert.Empty(t, codes(t, s, idrisAt), "who has no account isn't written to")
	now = now.Add(bringBackTime - time.Minute)
	require.Equal(t, 200, ask(t, s, marenAt, wire.ForBringBack, ""))
	code := last(codes(t, s, marenAt))
	require.NotEmpty(t, code)
	now = now.Add(2 * time.Minute)
	assert.Equal(t, 401, bringBack(t, s, marenAt, code, signInKey, nil), "a minute too late")

	r := request(t, "POST", "/v1/accounts/bring-back", nil, struct{}{})
	r.Body = io.NopCloser(strings.NewReader(strings.Repeat("x", 1<<20)))
	assert.GreaterOrEqual(t, send(s, r, nil), 400)
}

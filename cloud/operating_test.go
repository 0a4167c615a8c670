package cloud

import (
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/wire"
)

func open(t *testing.T, file string) *Server {
	s, err := New(t.Context(), file, loose, slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	return s
}

// A copy that is made while the cloud works is a whole cloud; it never takes another file's place.
func TestBackup(t *testing.T) {
	dir := t.TempDir()
	file, to := filepath.Join(dir, "cloud.db"), filepath.Join(dir, "copy.db")
	s := open(t, file)
	m := join(t, s, newAccount("maren@cormorant.example"))
	commit := wire.Commit{
		Head: wire.Head{Number: 1, Blob: []byte("h")}, Records: []wire.Record{{ID: "r", Rev: 1, Blob: []byte("one")}},
	}
	require.Equal(t, 200, call(t, s, "POST", "/v1/commits", m, commit, nil))
	require.NoError(t, Backup(t.Context(), file, to))
	require.Error(t, Backup(t.Context(), file, to), "it is there already")
	require.Error(t, Backup(t.Context(), filepath.Join(dir, "nothing.db"), filepath.Join(dir, "x.db")))
	assert.NoFileExists(t, filepath.Join(dir, "x.db"))
	require.NoError(t, s.Close())

	restored := open(t, to)
	defer func() { assert.NoError(t, restored.Close()) }()
	again, code := signIn(t, restored, signInKey, wire.ProofSignIn, "maren@cormorant.example")
	require.Equal(t, 200, code)
	var c wire.Changes
	require.Equal(t, 200, call(t, restored, "GET", "/v1/changes?since=0", again, nil, &c))
	assert.Equal(t, commit.Records, c.Records)
}

// The database is nobody else's, also where it stood open before.
func TestFilesOfTheCloudAreItsOwn(t *testing.T) {
	file := filepath.Join(t.TempDir(), "cloud.db")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	s := open(t, file)
	join(t, s, newAccount("maren@cormorant.example"))
	defer func() { assert.NoError(t, s.Close()) }()
	for _, tail := range []string{"", "-wal", "-shm"} {
		st, err := os.Stat(file + tail)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), st.Mode().Perm(), tail)
	}
}

func TestClosedAndHealthy(t *testing.T) {
	s := newServer(t, loose)
	m := join(t, s, newAccount("maren@cormorant.example"))
	s.Admission = Closed
	_, code := create(t, s, newAccount("idris@cormorant.example"))
	assert.Equal(t, 403, code)
	assert.Equal(t, 200, call(t, s, "GET", "/v1/devices", m, nil, nil), "who is there goes on")
	_, code = signIn(t, s, signInKey, wire.ProofSignIn, "maren@cormorant.example")
	assert.Equal(t, 200, code)

	assert.Equal(t, 200, call(t, s, "GET", "/healthz", nil, nil, nil))
	require.NoError(t, s.store.db.Close())
	assert.Equal(t, 500, call(t, s, "GET", "/healthz", nil, nil, nil))
}

// What an account takes is counted by the database, and bounded: also against many that write at once.
func TestQuotas(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "cloud.db"))
	defer func() { assert.NoError(t, s.Close()) }()
	m := join(t, s, newAccount("maren@cormorant.example"))
	s.SetQuota(Quota{Records: 3, Bytes: 2000, Files: 1000})
	parent, n := "", uint64(0)
	commit := func(size int, ids ...string) int {
		head := []byte(fmt.Sprintf("head %d %d", n+1, size))
		c := wire.Commit{Parent: parent, Head: wire.Head{Number: n + 1, Blob: head}}
		for _, id := range ids {
			c.Records = append(c.Records, wire.Record{ID: id, Rev: n + 1, Blob: make([]byte, size)})
		}
		status := call(t, s, "POST", "/v1/commits", m, c, nil)
		if status == 200 {
			n, parent = n+1, hashHex(head)
		}
		return status
	}
	require.Equal(t, 200, commit(100, "a", "b", "c"))
	assert.Equal(t, 507, commit(100, "d"), "a record too many")
	assert.Equal(t, 507, commit(1000, "a", "b"), "too many bytes")
	assert.Equal(t, 200, commit(900, "a"))
	s.SetQuota(Quota{Records: 1, Bytes: 500, Files: 1000})
	assert.Equal(t, 507, commit(950, "a"), "above a smaller quota nothing grows")
	assert.Equal(t, 200, commit(10, "a"), "and what makes it smaller is taken")
	var got wire.Changes
	require.Equal(t, 200, call(t, s, "GET", "/v1/changes?since=0", m, nil, &got))
	assert.Equal(t, n, got.Latest, "what was refused left nothing")
	assert.Len(t, got.Records, 3)

	var wg sync.WaitGroup
	var taken atomic.Int64
	for i := range 20 {
		wg.Go(func() {
			path := fmt.Sprintf("/v1/files/%s/%d", "0197f3a2-0000-7000-8000-000000000001", i)
			if call(t, s, "PUT", path, m, make([]byte, 100), nil) == 204 {
				taken.Add(1)
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 7, taken.Load(), "1,000 bytes of files, of 138 each as they are sent, whoever was first")
	var u usage
	require.NoError(t, s.store.db.Get(&u, `SELECT records, bytes, files FROM usage`))
	var real usage
	require.NoError(t, s.store.db.Get(&real, `SELECT (SELECT count(*) FROM records) records,
		(SELECT sum(length(blob)) FROM records) + (SELECT sum(length(blob)) FROM heads) bytes,
		(SELECT sum(size) FROM chunks) files`))
	assert.Equal(t, real, u)
}

// Behind a proxy that is trusted, attempts count by who is behind it; nobody else is believed.
func TestWhoIsBehindAProxy(t *testing.T) {
	s := &Server{Proxies: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("::1/128")}}
	for _, c := range []struct{ remote, forwarded, want string }{
		{"10.1.2.3:80", "203.0.113.9", "203.0.113.9"},
		{"10.1.2.3:80", "1.1.1.1, 203.0.113.9", "203.0.113.9"}, // whoever made up the first one
		{"10.1.2.3:80", "203.0.113.9, 10.9.9.9", "203.0.113.9"},
		{"10.1.2.3:80", "nonsense", "10.1.2.3"},
		{"10.1.2.3:80", "203.0.113.9, nonsense", "10.1.2.3"},
		{"10.1.2.3:80", "", "10.1.2.3"},
		{"203.0.113.7:80", "198.51.100.1", "203.0.113.7"}, // not a proxy of ours
		{"[::1]:80", "::ffff:203.0.113.9", "203.0.113.9"},
		{"[::1]:80", "2001:db8:1:2:3::4", "2001:db8:1:2::"},
	} {
		r := httptest.NewRequest(http.MethodPost, "/v1/sessions", nil)
		r.RemoteAddr = c.remote
		if c.forwarded != "" {
			r.Header.Set("X-Forwarded-For", c.forwarded)
		}
		got, err := s.byAddress(r)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%s %s", c.remote, c.forwarded)
	}
}

// Counts and logs say what happened, and to nobody's name.
func TestMetricsAndPanics(t *testing.T) {
	var log bytes.Buffer
	s, err := New(t.Context(), filepath.Join(t.TempDir(), "cloud.db"), loose, slog.New(slog.NewJSONHandler(&log, nil)))
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	m := join(t, s, newAccount("maren@cormorant.example"))
	require.Equal(t, 200, call(t, s, "GET", "/v1/changes?since=0", m, nil, nil))
	for i := range 50 {
		r := httptest.NewRequest(fmt.Sprintf("MADEUP%d", i), fmt.Sprintf("/x%d", i), nil)
		s.ServeHTTP(httptest.NewRecorder(), r)
	}
	real := s.store
	s.store = nil
	rec := httptest.NewRecorder()
	s.ServeHTTP(rec, httptest.NewRequest(http.MethodGet, "/healthz", nil))
	s.store = real
	assert.Equal(t, 500, rec.Code)
	assert.Contains(t, log.String(), `"msg":"panic"`)
	rec = httptest.NewRecorder()
	s.Metrics().ServeHTTP(rec, httptest.NewRequest(http.MethodGet, "/metrics", nil))
	text := rec.Body.String()
	assert.Contains(t, text, `redlocket_requests_total{method="GET",route="/v1/changes",status="200"} 1`)
	assert.Contains(t, text, "redlocket_panics_total 1")
	assert.NotContains(t, text, "MADEUP")
	for _, secret := range []string{"maren", "cormorant", m.Account} {
		assert.NotContains(t, text+log.String(), secret)
	}
}

// Somebody sends a request as slowly as the line lets them.
func TestSlowRequestsEnd(t *testing.T) {
	was := unsignedTime
	unsignedTime = 200 * time.Millisecond
	defer func() { unsignedTime = was }()
	s := open(t, filepath.Join(t.TempDir(), "cloud.db"))
	srv := httptest.NewServer(s)
	defer func() { srv.Close(); assert.NoError(t, s.Close()) }()
	conn, err := net.Dial("tcp", srv.Listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	_, err = fmt.Fprintf(conn, "POST /v1/params HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n{")
	require.NoError(t, err)
	began := time.Now()
	_, err = io.ReadAll(conn)
	assert.Less(t, time.Since(began), 5*time.Second, "%v", err)
}

package cloud

import (
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

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
	s.Closed = true
	_, code := create(t, s, newAccount("idris@cormorant.example"))
	assert.Equal(t, 403, code)
	assert.Equal(t, 200, call(t, s, "GET", "/v1/devices", m, nil, nil), "who is there goes on")
	_, code = signIn(t, s, signInKey, wire.ProofSignIn, "maren@cormorant.example")
	assert.Equal(t, 200, code)

	assert.Equal(t, 200, call(t, s, "GET", "/healthz", nil, nil, nil))
	require.NoError(t, s.store.db.Close())
	assert.Equal(t, 500, call(t, s, "GET", "/healthz", nil, nil, nil))
}

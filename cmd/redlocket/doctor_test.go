package main

import (
	"bytes"
	"crypto/rand"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/store"
	"redlocket/core/secret"
	"redlocket/core/version"
)

func examine(t *testing.T, dir string) (text string, faults int) {
	var b bytes.Buffer
	d := &doctor{out: &b}
	d.look(t.Context(), deviceOptions{dir: dir, port: 1})
	return b.String(), d.faults
}

func TestDoctor(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	text, faults := examine(t, dir)
	assert.Zero(t, faults, text)
	assert.Contains(t, text, "none yet")

	f, err := store.In(dir)
	require.NoError(t, err)
	late := time.Hour
	cloud := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Date", time.Now().Add(-late).UTC().Format(http.TimeFormat))
		_, _ = w.Write([]byte(`{"redlocket":1}`))
	}))
	defer cloud.Close()
	d := app.New(app.Ports{Stores: f, Rand: rand.Reader, Now: time.Now, Platform: "test"})
	v, err := d.Create(t.Context(), app.NewVault{
		Name: "Maren", Email: "maren@cormorant.example", Password: secret.New("a patient tide comes in"),
		Repeat: secret.New("a patient tide comes in"),
	})
	require.NoError(t, err)
	id := v.Profile().ID
	require.NoError(t, d.Close())
	text, faults = examine(t, dir)
	assert.Equal(t, 1, faults, text)
	assert.Contains(t, text, "lost with this computer")
	assert.Contains(t, text, "none is connected")
	assert.Contains(t, text, "1 file is whole")
	assert.NotContains(t, text, "aren", "nobody is named")

	s, err := f.Open(t.Context(), id)
	require.NoError(t, err)
	p, err := s.Profile(t.Context())
	require.NoError(t, err)
	belongs := func(url string) {
		p.Cloud = url
		require.NoError(t, s.SetProfile(t.Context(), p))
	}
	belongs(cloud.URL)
	text, faults = examine(t, dir)
	assert.Equal(t, 1, faults, text)
	assert.Contains(t, text, "1h0m0s away")
	late = 0
	text, faults = examine(t, dir)
	assert.Zero(t, faults, text)
	assert.Contains(t, text, "agrees")
	for url, want := range map[string]string{
		"http://127.0.0.1:1": "nobody answers there", "http://far.example": "no address", "nothing": "no address",
	} {
		belongs(url)
		text, faults = examine(t, dir)
		assert.Equal(t, 1, faults, text)
		assert.Contains(t, text, want)
	}
	p.BackupAt = time.Now().Add(-72 * time.Hour).UnixMilli()
	p.Browsers = []app.BrowserSeen{
		{ID: "a", Version: version.Number, At: time.Now().UnixMilli()},
		{ID: "b", Version: "0.1.0", At: time.Now().Add(-2 * time.Hour).UnixMilli()},
	}
	belongs("")
	text, faults = examine(t, dir)
	assert.Equal(t, 1, faults, text)
	assert.Contains(t, text, "last backup: 3 days ago")
	assert.Contains(t, text, "with the extension of this version")
	assert.Contains(t, text, "2 hours ago, with the extension of version 0.1.0: bring both to the same one")
	p.Browsers = nil
	belongs("")
	require.NoError(t, s.Close())

	require.NoError(t, os.Chmod(dir, 0o755))
	file := filepath.Join(dir, id+".vault")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, b[:len(b)/3], 0o600))
	for _, tail := range []string{"-wal", "-shm"} {
		_ = os.Remove(file + tail)
	}
	text, faults = examine(t, dir)
	assert.Equal(t, 2, faults, text)
	assert.Contains(t, text, "other accounts")
	assert.Contains(t, text, "damaged")
	assert.Contains(t, text, "0 files are whole")
}

package demo

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/cloudclient"
	"redlocket/app/store"
	"redlocket/cloud"
	"redlocket/core/secret"
)

// tape records what goes over a line, in both directions.
type tape struct {
	mu sync.Mutex
	bytes.Buffer
}

func (t *tape) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.Buffer.Write(b)
}

type taped struct {
	http.ResponseWriter
	to io.Writer
}

func (w taped) Write(b []byte) (int, error) {
	_, _ = w.to.Write(b)
	return w.ResponseWriter.Write(b)
}

func (w taped) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// secrets are all values of the demo data that nobody but the devices may see,
// in the forms in which they could be written. What the cloud and the lock
// page know, the people's e-mail addresses, is left out; so is what is too short
// not to occur by chance.
func secrets(t *testing.T) (out [][]byte) {
	seen := map[string]bool{MarenEmail: true, IdrisEmail: true, WrenEmail: true}
	for _, r := range append(append(slices.Concat(marens, wrens), idriss...), town(func(n,
		p string) string {
		return "http://" + n + ".localhost:7310" + p
	})...) {
		for _, s := range r {
			if len(s) < 6 || seen[s] || strings.Contains(MarenEmail+IdrisEmail+WrenEmail, s) {
				continue
			}
			seen[s] = true
			out = append(out, []byte(s))
			j, err := json.Marshal(s)
			require.NoError(t, err)
			if in := j[1 : len(j)-1]; string(in) != s {
				out = append(out, in)
			}
		}
	}
	return append(out, []byte(MarenPassword), []byte(IdrisPassword), []byte(WrenPassword))
}

func found(all [][]byte, in []byte) (hits []string) {
	for _, s := range all {
		if bytes.Contains(in, s) {
			hits = append(hits, string(s))
		}
	}
	return hits
}

func TestNothingIsInClear(t *testing.T) {
	dir := t.TempDir()
	var traffic, logs tape
	c, err := cloud.New(
		t.Context(),
		filepath.Join(dir, "cloud.db"),
		cloud.Limits{PerAccount: 1000, PerAddress: 1000, Window: time.Minute},
		slog.New(slog.NewTextHandler(&logs, &slog.HandlerOptions{Level: slog.LevelDebug})),
	)
	require.NoError(t, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(&traffic, r.Method+r.URL.String())
		_ = r.Header.Write(&traffic)
		r.Body = io.NopCloser(io.TeeReader(r.Body, &traffic))
		c.ServeHTTP(taped{w, &traffic}, r)
	}))
	t.Cleanup(func() {
		c.EndStreams()
		srv.Close()
		assert.NoError(t, c.Close())
	})
	device := func(name string) *app.Device {
		f, err := store.In(filepath.Join(dir, name))
		require.NoError(t, err)
		d := app.New(app.Ports{Stores: f, Dial: cloudclient.Dial, Now: time.Now, Rand: rand.Reader, Platform: "test"})
		t.Cleanup(func() { assert.NoError(t, d.Close()) })
		return d
	}
	d := Devices{device("desk"), device("laptop"), device("idris"), device("rosa")}
	practice := func(site, path string) string { return "http://" + site + ".localhost:7310" + path }
	require.NoError(t, Fill(t.Context(), d, srv.URL, practice, nil, 0, func(string) {}))

	cards, err := d.Laptop.Profiles(t.Context())
	require.NoError(t, err)
	v, err := d.Laptop.Unlock(t.Context(), cards[0].ID, secret.New(MarenPassword))
	require.NoError(t, err)
	items, err := v.Book.Logins()
	require.NoError(t, err)
	assert.Len(t, items, len(marens)+len(town(practice)), "it is all there")

	all := secrets(t)
	require.Greater(t, len(all), 150)
	assert.Greater(t, traffic.Len(), 60_000)
	assert.Empty(t, found(all, traffic.Bytes()), "traffic")
	assert.Empty(t, found(all, logs.Bytes()), "logs")
	files := 0
	look := func() (hits []string) {
		files = 0
		require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			b, err := os.ReadFile(path)
			files++
			hits = append(hits, found(all, b)...)
			return err
		}))
		return hits
	}
	assert.Empty(t, look(), "files, journals included: the devices are still open")
	assert.GreaterOrEqual(t, files, 4)

	// The search can fail: one value in one file is enough.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "planted"), []byte("…"+marens[20][3]+"…"), 0o600))
	assert.Equal(t, []string{marens[20][3]}, look())
	_, _ = traffic.Write([]byte(`{"title":"Pantry \u0026 Pier"}`))
	assert.NotEmpty(t, found(all, traffic.Bytes()))

	require.NoError(t, Fill(t.Context(), d, srv.URL, practice, nil, 0, func(string) { t.Error("filled twice") }))
}

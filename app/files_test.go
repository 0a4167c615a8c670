package app_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/cloudclient"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

func crcOf(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)) }

// noise gives n bytes that nothing else is likely to hold.
func noise(n int) []byte {
	rnd := rand.New(rand.NewPCG(1, uint64(n))) //nolint:gosec // test data
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rnd.Uint32())
	}
	return b
}

func TestFilesOfEverySize(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := save(t, v, vault.TypePaper, records.Form{Title: "Passport"})
	for _, n := range []int{0, 1, keys.ChunkSize - 1, keys.ChunkSize, keys.ChunkSize + 1, 3 * keys.ChunkSize,
		vault.MaxFile} {
		want := noise(n)
		f, err := v.Files.Attach(t.Context(), id, `C:\scans\passport`+"\u202e.png", bytes.NewReader(want))
		require.NoError(t, err, n)
		assert.Equal(t, "passport.png", f.Name)
		assert.Equal(t, int64(n), f.Size)
		var got bytes.Buffer
		require.NoError(t, v.Files.Read(t.Context(), f, &got))
		assert.True(t, bytes.Equal(want, got.Bytes()), n)
		require.NoError(t, v.Files.Detach(t.Context(), id, f.ID))
		require.NoError(t, v.Files.Read(t.Context(), f, io.Discard), "the history can still read it")
	}
	_, err := v.Files.Get(id, "nothing")
	assert.ErrorIs(t, err, records.ErrNoFile)
}

func TestFilesThatAreRefusedOrCutLeaveNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := save(t, v, vault.TypePaper, records.Form{Title: "Passport"})
	_, err := v.Files.Attach(t.Context(), id, "big", io.LimitReader(&cutReader{1 << 30}, vault.MaxFile+1))
	assert.ErrorIs(t, err, records.ErrFileTooLarge)
	_, err = v.Files.Attach(t.Context(), id, "cut", &cutReader{3 * keys.ChunkSize})
	assert.ErrorIs(t, err, errCut)
	gone, stop := context.WithCancel(t.Context())
	_, err = v.Files.Attach(
		gone,
		id,
		"ended",
		io.MultiReader(
			bytes.NewReader(noise(2*keys.ChunkSize)),
			readerFunc(func([]byte) (int, error) { stop(); return 0, io.EOF }),
		),
	)
	assert.Error(t, err)
	_, err = v.Files.Attach(t.Context(), "nobody", "x", strings.NewReader("x"))
	assert.ErrorIs(t, err, records.ErrNoItem)
	stored, err := v.Stored(t.Context())
	require.NoError(t, err)
	assert.Empty(t, stored)
	e, err := v.Items.Entry(id)
	require.NoError(t, err)
	assert.Empty(t, e.Files())

	for i := range vault.MaxFiles {
		_, err := v.Files.Attach(t.Context(), id, "small", strings.NewReader(strings.Repeat("x", i)))
		require.NoError(t, err)
	}
	_, err = v.Files.Attach(t.Context(), id, "one more", strings.NewReader("x"))
	assert.ErrorIs(t, err, records.ErrTooManyFiles)
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(b []byte) (int, error) { return f(b) }

// A process that was killed while it attached leaves chunks that nobody names: the
// next opening sweeps them away, and nothing else.
func TestWhatWasCutOffIsSweptAway(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	folder, err := store.In(filepath.Join(t.TempDir(), "desk"))
	require.NoError(t, err)
	d := w.deviceIn(folder)
	v := w.create(d)
	id := save(t, v, vault.TypePaper, records.Form{Title: "Passport"})
	f, err := v.Files.Attach(t.Context(), id, "kept", bytes.NewReader(noise(keys.ChunkSize*2)))
	require.NoError(t, err)
	require.NoError(t, v.SetChunk(t.Context(), records.NewID(), 0, []byte("of a file that was cut off")))
	w.inStep(v)
	v.Lock()
	v, err = d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	require.Eventually(
		t,
		func() bool { s, err := v.Stored(t.Context()); return err == nil && len(s) == 1 },
		5*time.Second,
		time.Millisecond,
	)
	require.NoError(t, v.Files.Read(t.Context(), f, io.Discard))
}

func TestAFileTravelsWhenItIsAskedFor(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	id := save(t, desk, vault.TypePaper, records.Form{Title: "Passport"})
	want := noise(3*keys.ChunkSize + 5)
	w.down.Store(true)
	f, err := desk.Files.Attach(t.Context(), id, "scan.pdf", bytes.NewReader(want))
	require.NoError(t, err, "without the cloud too")
	w.down.Store(false)
	require.Eventually(
		t,
		func() bool { s, err := desk.Stored(t.Context()); return err == nil && s[0].Sent },
		20*time.Second,
		5*time.Millisecond,
	)
	require.Eventually(
		t,
		func() bool { e, err := laptop.Items.Entry(id); return err == nil && len(e.Files()) == 1 },
		10*time.Second,
		time.Millisecond,
	)
	stored, err := laptop.Stored(t.Context())
	require.NoError(t, err)
	assert.Empty(t, stored, "not before it is asked for")

	// A cloud that hands out something else is caught.
	credential, err := desk.Credential(t.Context())
	require.NoError(t, err)
	c, err := cloudclient.Dial(w.url)
	require.NoError(t, err)
	other, err := c.Chunk(t.Context(), credential, f.ID, 2)
	require.NoError(t, err)
	swap := func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if r.Method == "GET" && strings.HasSuffix(r.URL.Path, "/1") && strings.Contains(r.URL.Path, "/files/") {
			_, _ = rw.Write(other)
			return
		}
		next.ServeHTTP(rw, r)
	}
	w.between.Store(&swap)
	assert.ErrorIs(t, laptop.Files.Read(t.Context(), f, io.Discard), records.ErrFileBroken)
	w.between.Store(nil)
	var got bytes.Buffer
	require.NoError(t, laptop.Files.Read(t.Context(), f, &got))
	assert.True(t, bytes.Equal(want, got.Bytes()))
	w.down.Store(true)
	require.NoError(t, laptop.Files.Read(t.Context(), f, io.Discard), "it is here now")
}

func TestDamagedChunksAreCaught(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := save(t, v, vault.TypePaper, records.Form{Title: "Passport"})
	f, err := v.Files.Attach(t.Context(), id, "x", bytes.NewReader(noise(2*keys.ChunkSize)))
	require.NoError(t, err)
	first, err := v.Chunk(t.Context(), f.ID, 0)
	require.NoError(t, err)
	require.NoError(t, v.SetChunk(t.Context(), f.ID, 1, first))
	assert.ErrorIs(
		t,
		v.Files.Read(t.Context(), f, io.Discard),
		records.ErrFileBroken,
		"one chunk in the place of another",
	)
	short := f
	short.Chunks, short.Size = 1, keys.ChunkSize
	assert.ErrorIs(t, v.Files.Read(t.Context(), short, io.Discard), records.ErrFileBroken, "a file that is cut short")
	first[40] ^= 1
	require.NoError(t, v.SetChunk(t.Context(), f.ID, 0, first))
	assert.ErrorIs(t, v.Files.Read(t.Context(), f, io.Discard), records.ErrFileBroken)
}

// Attaching and reading back ten megabytes takes a few chunks of memory, and
// leaves nothing of it in clear on disk.
func TestFilesTakeLittleMemoryAndNoClearDisk(t *testing.T) {
	w := newWorld(t)
	dir := t.TempDir()
	folder, err := store.In(dir)
	require.NoError(t, err)
	v := w.create(w.deviceIn(folder))
	id := save(t, v, vault.TypePaper, records.Form{Title: "Passport"})
	w.inStep(v)
	w.down.Store(true) // the cloud, which is in this process as well, would hold chunks of its own meanwhile
	needle := []byte("the scan of a passport that nobody may find on the disk")
	heap := func() uint64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	before, most := heap(), uint64(0)
	left := vault.MaxFile / len(needle)
	reads := 0
	f, err := v.Files.Attach(t.Context(), id, "scan", readerFunc(func(b []byte) (int, error) {
		if left == 0 {
			return 0, io.EOF
		}
		if reads++; reads%20000 == 0 {
			most = max(most, heap())
		}
		left--
		return copy(b, needle), nil
	}))
	require.NoError(t, err)
	require.Greater(t, f.Size, int64(9<<20))
	reads = 0
	require.NoError(t, v.Files.Read(t.Context(), f, writerFunc(func(b []byte) (int, error) {
		if reads++; reads%10 == 0 {
			most = max(most, heap())
		}
		return len(b), nil
	})))
	require.Positive(t, most)
	assert.Less(t, int64(most)-int64(before), int64(16*keys.ChunkSize), "bytes of heap beyond what there was")
	for _, e := range entries(t, dir) {
		b, err := os.ReadFile(filepath.Join(dir, e))
		require.NoError(t, err)
		assert.False(t, bytes.Contains(b, needle), e)
	}
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(b []byte) (int, error) { return f(b) }

func entries(t *testing.T, dir string) (names []string) {
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range list {
		names = append(names, e.Name())
	}
	require.NotEmpty(t, names)
	return names
}

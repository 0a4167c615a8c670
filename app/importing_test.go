package app_test

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/importing"
	"redlocket/app/reauth"
	"redlocket/core/find"
	"redlocket/core/secret"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

func csvOf(rows ...string) []byte {
	return []byte("url,username,password\n" + strings.Join(rows, "\n") + "\n")
}

// finish waits until an import is through.
func finish(t *testing.T, i *importing.Job) (st importing.State) {
	t.Helper()
	require.Eventually(t, func() bool {
		i.View(func(_ *transfer.Plan, s importing.State) { st = s })
		return !st.Running
	}, patience, time.Millisecond)
	return st
}

func TestImportCommitUndoAndTheOtherDevice(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk, laptop := w.device("desk"), w.device("laptop")
	v := w.create(desk)
	other := w.join(laptop, v)
	i, bad, err := v.Imports.Prepare(
		t.Context(),
		[]importing.File{
			{Name: "a.csv", Bytes: csvOf("gull.example,maren,p", "tern.example,maren,q")},
			{Name: "b.zip", Bytes: []byte("PK\x03\x04")},
		},
	)
	require.NoError(t, err)
	require.Len(t, bad, 1)
	assert.ErrorIs(t, bad[0], transfer.ErrPacked)
	_, _, err = v.Imports.Prepare(
		t.Context(),
		[]importing.File{{Name: "b.csv", Bytes: csvOf("gull.example,maren,other")}},
	)
	require.NoError(t, err)
	i.View(func(p *transfer.Plan, _ importing.State) {
		require.Len(t, p.Steps, 2)
		assert.Equal(t, transfer.GroupDiffer, p.Steps[1].Group)
	})
	var key string
	i.View(func(p *transfer.Plan, _ importing.State) { key = p.Steps[1].Key })
	require.NoError(t, i.Decide(key, "", transfer.DecideThis, 0))
	require.Error(t, i.Decide(key, "", transfer.DecideNewer, 0), "nobody knows which is")
	require.NoError(t, i.Start(true))
	st := finish(t, i)
	require.NoError(t, st.Err)
	assert.Equal(t, 2, st.Result.Made)
	assert.True(t, st.Result.Kept)
	require.Eventually(t, func() bool {
		x, err := other.Book.Find(find.Parse("gull"), 0)
		return err == nil && x.Items == 1
	}, patience, 5*time.Millisecond, "it comes to the other device")

	// Another day, on the other device: one of the two was edited since.
	x, err := other.Book.Find(find.Parse("tern"), 0)
	require.NoError(t, err)
	require.NoError(
		t,
		other.Items.Save(t.Context(), x.Sites[0].Accounts[0].ID, vault.Changes{vault.FieldNotes: "mine"}),
	)
	imports, err := other.Imports.History()
	require.NoError(t, err)
	require.Len(t, imports, 1)
	assert.Equal(t, "a.csv, b.csv", imports[0].Names)
	u, err := other.Imports.Undo(t.Context(), imports[0].ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"Tern"}, u.Kept)
	require.Eventually(t, func() bool {
		x, err := v.Book.Find(find.Parse("gull"), 0)
		return err == nil && x.Items == 0
	}, patience, 5*time.Millisecond)
	_, err = other.Imports.Undo(t.Context(), imports[0].ID)
	assert.ErrorIs(t, err, transfer.ErrNoImport)
}

// A large import travels in few commits, not in one for each login.
func TestImportTravelsTogether(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	other := w.join(w.device("laptop"), v)
	w.inStep(v, other)
	var commits atomic.Int64
	count := func(rw http.ResponseWriter, r *http.Request, c http.Handler) {
		if r.URL.Path == "/v1/commits" {
			commits.Add(1)
		}
		c.ServeHTTP(rw, r)
	}
	w.between.Store(&count)
	var rows []string
	for n := range 3000 {
		rows = append(rows, fmt.Sprintf("https://s%d.example/,u,p%d", n, n))
	}
	i, _, err := v.Imports.Prepare(t.Context(), []importing.File{{Name: "many.csv", Bytes: csvOf(rows...)}})
	require.NoError(t, err)
	require.NoError(t, i.Start(false))
	require.NoError(t, finish(t, i).Err)
	require.Eventually(t, func() bool {
		x, err := other.Book.Index()
		return err == nil && x.Len("") == 3000
	}, patience, 10*time.Millisecond)
	assert.LessOrEqual(t, commits.Load(), int64(10))
}

func TestImportColumnsAreRemembered(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	file := importing.File{
		Name: "x.csv",
		Bytes: []byte(
			"one;two;three;four\nGull;https://gull.example;maren;secret-1\nTern;https://tern.example;wren;secret-2\n",
		),
	}
	i, _, err := v.Imports.Prepare(t.Context(), []importing.File{file})
	require.NoError(t, err)
	require.Error(t, i.SetColumns(t.Context(), 0, []transfer.Meaning{"title"}))
	require.Error(t, i.SetColumns(t.Context(), 0, []transfer.Meaning{"title", "address", "username", "nonsense"}))
	require.NoError(
		t,
		i.SetColumns(
			t.Context(),
			0,
			[]transfer.Meaning{
				transfer.MeansPassword,
				transfer.MeansAddress,
				transfer.MeansUsername,
				transfer.MeansOwn,
			},
		),
	)
	require.NoError(t, v.Imports.Drop())
	_, err = v.Imports.Current()
	require.ErrorIs(t, err, importing.ErrNoImport)
	i, _, err = v.Imports.Prepare(t.Context(), []importing.File{file})
	require.NoError(t, err)
	i.View(func(p *transfer.Plan, _ importing.State) {
		assert.Equal(t, transfer.MeansPassword, p.Sources[0].Column[0].Meaning)
		assert.Equal(t, "chosen", p.Sources[0].Column[0].How)
	})
}

func TestImportStoppedWritesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	var rows []string
	for n := range 4000 {
		rows = append(rows, fmt.Sprintf("https://s%d.example/,u,p%d", n, n))
	}
	i, _, err := v.Imports.Prepare(t.Context(), []importing.File{{Name: "many.csv", Bytes: csvOf(rows...)}})
	require.NoError(t, err)
	require.NoError(t, i.Start(false))
	require.ErrorIs(t, i.Start(false), importing.ErrRunning)
	require.Eventually(t, func() (sealing bool) {
		i.View(func(_ *transfer.Plan, s importing.State) { sealing = s.Step == importing.StepSealing || !s.Running })
		return sealing
	}, patience, 100*time.Microsecond)
	i.Stop()
	st := finish(t, i)
	x, err := v.Book.Index()
	require.NoError(t, err)
	if st.Err != nil {
		assert.ErrorIs(t, st.Err, importing.ErrStopped)
		assert.Zero(t, x.Len(""))
		require.NoError(t, i.Start(false), "and it can be begun again")
		st = finish(t, i)
	}
	require.NoError(t, st.Err)
	x, err = v.Book.Index()
	require.NoError(t, err)
	assert.Equal(t, 4000, x.Len(""))
}

func TestOriginalsAreKeptForAWhile(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	i, _, err := v.Imports.Prepare(t.Context(), []importing.File{{Name: "a.csv", Bytes: csvOf("gull.example,maren,p")}})
	require.NoError(t, err)
	require.NoError(t, i.Start(true))
	id := finish(t, i).Result.ID
	w.now.Add(time.Hour.Milliseconds())
	_, _, err = v.Imports.Original(t.Context(), id, 0)
	require.ErrorIs(t, err, reauth.ErrNeeded)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	name, b, err := v.Imports.Original(t.Context(), id, 0)
	require.NoError(t, err)
	assert.Equal(t, "a.csv", name)
	assert.Equal(t, csvOf("gull.example,maren,p"), b)
	w.now.Add(importing.OriginalsFor.Milliseconds())
	list, err := v.Imports.Originals(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	_, _, err = v.Imports.Original(t.Context(), id, 0)
	require.Error(t, err)
}

// TestALongNoteIsAttached: what is too long for a field is a file of its item afterwards; a second import adds none.
func TestALongNoteIsAttached(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	note := strings.Repeat("the tide comes in, the tide goes out. ", 800)
	file := importing.File{
		Name:  "a.csv",
		Bytes: []byte("name,url,username,password,note\nGull,https://gull.example/,maren,p,\"" + note + "\"\n"),
	}
	for range 2 {
		i, bad, err := v.Imports.Prepare(t.Context(), []importing.File{file})
		require.NoError(t, err)
		require.Empty(t, bad)
		require.NoError(t, i.Start(false))
		require.NoError(t, finish(t, i).Err)
	}
	list, err := v.Set.Book.Entries(func(e vault.Entry) bool { return e.IsItem() })
	require.NoError(t, err)
	require.Len(t, list, 1)
	files := list[0].Files()
	require.Len(t, files, 1)
	var b bytes.Buffer
	require.NoError(t, v.Set.Files.Read(t.Context(), files[0], &b))
	assert.Equal(t, strings.TrimRight(note, " "), b.String())
	assert.Equal(t, "note.txt", files[0].Name)
}

// TestLargeFilesAreReadInTheBackground: one sees how far it is, can stop it, and is told what couldn't be read.
func TestLargeFilesAreReadInTheBackground(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	var rows []string
	for i := range 20000 {
		rows = append(rows, fmt.Sprintf("site%d.example,maren,p%d", i, i))
	}
	files := []importing.File{{Name: "many.csv", Bytes: csvOf(rows...)}, {Name: "b.zip", Bytes: []byte("PK\x03\x04")}}
	require.NoError(t, v.Imports.PrepareInBackground(files))
	i, err := v.Imports.Current()
	require.NoError(t, err)
	st := finish(t, i)
	require.NoError(t, st.Err)
	require.Len(t, st.Unread, 1)
	assert.Equal(t, "b.zip", st.Unread[0].Name)
	i.View(func(p *transfer.Plan, _ importing.State) { assert.Len(t, p.Steps, 20000) })

	require.NoError(t, v.Imports.Drop())
	require.NoError(t, v.Imports.PrepareInBackground(files[:1]))
	i, err = v.Imports.Current()
	require.NoError(t, err)
	running := func() (yes bool) {
		i.View(func(_ *transfer.Plan, s importing.State) { yes = s.Running })
		return yes
	}
	soon(t, "it is so", running)
	i.Stop()
	st = finish(t, i)
	i.View(func(p *transfer.Plan, _ importing.State) { assert.Empty(t, p.Steps) })
}

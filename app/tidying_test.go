package app_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/filling"
	"redlocket/app/gate"
	"redlocket/app/records"
	"redlocket/app/tidying"
	"redlocket/core/secret"
	"redlocket/core/tidy"
	"redlocket/core/vault"
)

// twice keeps a login of the ferry once more, with another user name and password.
func twice(t *testing.T, v *app.Vault, title, user, password string) string {
	id := records.NewID()
	require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{
		vault.FieldTitle: title, vault.FieldUsername: user, vault.FieldPassword: secret.New(password),
		vault.FieldAddresses: []vault.Address{{URL: "https://" + title + ".example/"}}, vault.FieldNotes: "of " + user,
	}))
	return id
}

func tidyList(t *testing.T, v *app.Vault) tidying.List {
	l, err := v.Tidying.List(t.Context())
	require.NoError(t, err)
	return l
}

// A join is there on the next opening and on the other device, and is taken back from there.
func TestJoinedHereTakenBackThere(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	a := twice(t, desk, "ferrylink", "maren.tolliver", "kelp")
	b := twice(t, desk, "ferrylink", "Maren.Tolliver ", "kelp")
	l := tidyList(t, desk)
	require.Len(t, l.Sure, 1)
	require.NoError(t, desk.Tidying.Join(ctx, l.Sure[0].IDs, tidying.Choice{Username: b}))
	l = tidyList(t, desk)
	assert.Zero(t, l.Waiting())
	require.Len(t, l.Done, 1)

	w.inStep(desk, laptop)
	require.Eventually(t, func() bool { return len(tidyList(t, laptop).Done) == 1 }, patience, 5*time.Millisecond)
	one, err := laptop.Items.Entry(a)
	require.NoError(t, err)
	if one.Archived() {
		a, b = b, a
		one, err = laptop.Items.Entry(a)
		require.NoError(t, err)
	}
	assert.Equal(t, "Maren.Tolliver", one.Text(vault.FieldUsername), "what was chosen, without its blank")
	assert.Contains(t, one.Text(vault.FieldNotes), "of maren.tolliver")
	assert.Contains(t, one.Text(vault.FieldNotes), "of Maren.Tolliver")
	other, err := laptop.Items.Entry(b)
	require.NoError(t, err)
	assert.True(t, other.Archived())

	there := tidyList(t, laptop)
	require.Len(t, there.Done, 1)
	back, err := laptop.Tidying.TakeBack(ctx, there.Done[0].ID, false)
	require.NoError(t, err)
	assert.Equal(t, 1, back.Count)
	there = tidyList(t, laptop)
	assert.Empty(t, there.Done)
	require.Len(t, there.Likely, 1, "what was parted once isn't sure again")
	_, err = laptop.Tidying.TakeBack(ctx, l.Done[0].ID, false)
	assert.ErrorIs(t, err, tidy.ErrNoDecision)
}

// What is kept apart isn't asked again; what was put off comes last; one of three can be left out.
func TestKeptApartAndPutOff(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	v := newBench(t).v
	twice(t, v, "ferrylink", "maren.tolliver", "kelp")
	twice(t, v, "ferrylink", "Maren.tolliver", "kelp")
	third := twice(t, v, "ferrylink", "MAREN.TOLLIVER", "kelp")
	twice(t, v, "brackish", "wren", "pier")
	twice(t, v, "brackish", "Wren", "pier")
	l := tidyList(t, v)
	require.Len(t, l.Sure, 2)
	ferry := l.Sure[0]
	if len(ferry.IDs) != 3 {
		ferry = l.Sure[1]
	}
	require.Len(t, ferry.IDs, 3)
	require.NoError(t, v.Tidying.LeaveOut(ctx, ferry.IDs, third))
	assert.ErrorIs(t, v.Tidying.LeaveOut(ctx, ferry.IDs, "nobody"), tidy.ErrChanged)
	l = tidyList(t, v)
	require.Len(t, l.Sure, 2)
	for _, p := range l.Sure {
		assert.Len(t, p.IDs, 2)
		assert.NotContains(t, p.IDs, third)
	}
	require.NoError(t, v.Tidying.PutOff(ctx, l.Sure[0].IDs))
	l2 := tidyList(t, v)
	assert.Len(t, l2.Sure, 1)
	require.Len(t, l2.Later, 1)
	assert.Equal(t, l.Sure[0].IDs, l2.Left()[1].IDs)
	require.NoError(t, v.Tidying.KeepApart(ctx, l2.Later[0].IDs))
	assert.Empty(t, tidyList(t, v).Later)
}

// All sure ones are joined as one act, which is taken back as one; what its user wasn't shown isn't joined.
func TestAllSureOnesAtOnce(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	v := newBench(t).v
	for _, s := range []string{"ferrylink", "brackish", "lanternfish"} {
		twice(t, v, s, "maren.tolliver", "pw of "+s)
		twice(t, v, s, "Maren.Tolliver", "pw of "+s)
	}
	l := tidyList(t, v)
	require.Len(t, l.Sure, 3)
	n, err := v.Tidying.JoinSure(ctx, []string{tidy.Key(l.Sure[0].IDs), tidy.Key(l.Sure[1].IDs), "made up"})
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	l = tidyList(t, v)
	require.Len(t, l.Done, 2)
	assert.Len(t, l.Sure, 1)
	back, err := v.Tidying.TakeBack(ctx, l.Done[0].ID, true)
	require.NoError(t, err)
	assert.Equal(t, 2, back.Count)
	assert.Equal(t, 3, tidyList(t, v).Waiting())

	// A proposal of before an edit is refused, and nothing is written.
	old := tidyList(t, v).Left()[0]
	_, err = v.Acts.Archive(ctx, old.IDs[0])
	require.NoError(t, err)
	assert.ErrorIs(t, v.Tidying.Join(ctx, old.IDs, tidying.Choice{}), tidy.ErrChanged)
	assert.ErrorIs(t, v.Tidying.KeepApart(ctx, old.IDs), tidy.ErrChanged)
	assert.Empty(t, tidyList(t, v).Done)

	v.Lock()
	_, err = v.Tidying.List(ctx)
	assert.ErrorIs(t, err, gate.ErrLocked)
}

// Passwords are tried out one after the other: refused, refused, and what works becomes the one login's.
func TestTryOut(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	v := newBench(t).v
	var rows []string
	for i, password := range []string{"one", "two", "three", "four", "five"} {
		rows = append(rows, twice(t, v, "whimbrel", []string{"wren", "Wren"}[i%2], password))
	}
	l := tidyList(t, v)
	require.Equal(t, 1, l.Waiting())
	p := l.Left()[0]
	require.ElementsMatch(t, rows, p.IDs)
	view, err := v.Tidying.Try(ctx, p.IDs)
	require.NoError(t, err)
	require.Len(t, view.Candidates, 5)
	judged := func(password string, taken bool) {
		v.Tidying.Judged(ctx, filling.Judged{
			URL: "https://whimbrel.example/in", Username: "wren", Password: secret.New(password), Taken: taken,
		})
	}
	judged("none of them", false)
	first := view.Now
	for range 3 {
		view, err = v.Tidying.Try(ctx, p.IDs)
		require.NoError(t, err)
		require.False(t, view.Stopped)
		e, err := v.Items.Entry(view.Now)
		require.NoError(t, err)
		judged(e.Text(vault.FieldPassword), false)
	}
	view, err = v.Tidying.Try(ctx, p.IDs)
	require.NoError(t, err)
	assert.True(t, view.Stopped)
	assert.NotEqual(t, first, tidyList(t, v).Left()[0].Survives.PasswordOf, "what was refused doesn't survive")
	assert.Empty(t, tidyList(t, v).Done, "a try-out decides nothing yet")
	require.NoError(t, v.Tidying.GoOn(ctx, p.IDs))
	view, err = v.Tidying.Try(ctx, p.IDs)
	require.NoError(t, err)
	assert.False(t, view.Stopped)
	works, err := v.Items.Entry(view.Now)
	require.NoError(t, err)
	require.NoError(t, v.Tidying.Tried(ctx, p.IDs, view.Now, true))
	one, err := v.Items.Entry(works.ID)
	require.NoError(t, err)
	assert.False(t, one.Archived())
	assert.Equal(t, works.Text(vault.FieldPassword), one.Text(vault.FieldPassword))
	past := map[string]bool{}
	for _, old := range one.Past {
		if old.Field == vault.FieldPassword {
			past[vault.Plain(old.Value)] = true
		}
	}
	assert.Len(t, past, 4, "the others are in the history")
	assert.NotZero(t, v.Book.Used()[works.ID])
	assert.Len(t, tidyList(t, v).Done, 1)
	_, err = v.Tidying.Try(ctx, p.IDs)
	assert.ErrorIs(t, err, tidy.ErrChanged)
}

// Domains that belong together become one site of the directory: what is kept for one is offered at the other.
func TestDomainsBecomeOneSite(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := records.NewID()
	require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{
		vault.FieldTitle: "Knot", vault.FieldUsername: "maren", vault.FieldPassword: secret.New("x"),
		vault.FieldAddresses: []vault.Address{{URL: "https://knot.example/"}, {URL: "https://knot.test/"}},
	}))
	l, err := v.Tidying.List(t.Context())
	require.NoError(t, err)
	require.Len(t, l.Better, 1)
	assert.Equal(t, tidy.BetterSite, l.Better[0].What)
	require.NoError(t, v.Tidying.Improve(t.Context(), tidy.BetterSite, map[string]bool{id: true}, nil))
	assert.True(t, v.Sites.Directory().Same("knot.example", "knot.test"))
	l, err = v.Tidying.List(t.Context())
	require.NoError(t, err)
	assert.Empty(t, l.Better, "it isn't offered again")
	own, err := v.Sites.Own()
	require.NoError(t, err)
	require.Len(t, own, 1)
	require.NoError(t, v.Sites.Remove(t.Context(), "knot.example"))
	assert.False(t, v.Sites.Directory().Same("knot.example", "knot.test"), "and settings take it back")
}

package app_test

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/app/tidying"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
)

const wrenEmail = "wren@cormorant.example"

// known has two people know each other, and returns the second as the first knows them.
func (w *world) known(a, b *app.Vault) household.Person {
	w.t.Helper()
	ofA, _ := checked(w.t, a, b)
	w.inStep(a)
	w.inStep(b)
	return ofA
}

// invited waits until something is shared with somebody, and has them take it.
func invited(t testing.TB, v *app.Vault, set string) sharing.Shared {
	t.Helper()
	var of sharing.Shared
	soon(t, "it is there to be taken", func() bool {
		var err error
		of, err = v.Sharing.Of(set)
		return err == nil && of.Waits
	})
	require.NoError(t, v.Sharing.Take(t.Context(), set))
	return of
}

// gets waits until somebody has an item of a title, and returns its id.
func gets(t testing.TB, v *app.Vault, title string) (id string) {
	t.Helper()
	soon(t, v.Profile().Name+" has "+title, func() bool {
		ids := titled(t, v, title)
		if len(ids) == 1 {
			id = ids[0]
		}
		return len(ids) == 1
	})
	return id
}

// getsNot waits until somebody has none.
func getsNot(t testing.TB, v *app.Vault, title string) {
	t.Helper()
	soon(t, v.Profile().Name+" hasn't "+title, func() bool { return len(titled(t, v, title)) == 0 })
}

// says waits until an item's field says something.
func says(t testing.TB, v *app.Vault, id string, f vault.Field, value string) {
	t.Helper()
	soon(t, v.Profile().Name+" reads "+value, func() bool {
		e, err := v.Items.ToFill(id)
		return err == nil && e.Text(f) == value
	})
}

// sharedBook is a book of Maren's with a login in it, which Idris has taken.
func (w *world) sharedBook(right share.Right) (maren, idris *app.Vault, book, set string) {
	w.t.Helper()
	maren = w.create(w.device("desk"))
	idris = w.createFor(w.device("idris"), "Idris Tolliver", idrisEmail)
	p := w.known(maren, idris)
	book, _ = makeBook(w.t, maren, "Family", "School")
	set, err := maren.Sharing.ShareBook(w.t.Context(), book, p.ID, right)
	require.NoError(w.t, err)
	of := invited(w.t, idris, set)
	assert.Equal(w.t, "Family", of.Name)
	assert.Equal(w.t, right, of.Right)
	gets(w.t, idris, "School")
	return maren, idris, book, set
}

func TestABookIsShared(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris, book, set := w.sharedBook(share.Change)
	theirs := gets(t, idris, "School")
	ours := gets(t, maren, "School")
	assert.NotEqual(t, ours, theirs, "each has an id that nobody else chose")

	// Each changes it, and sees what the other one changed.
	require.NoError(t, idris.Items.Save(t.Context(), theirs, vault.Changes{vault.FieldPassword: secret.New("of Idris")}))
	says(t, maren, ours, vault.FieldPassword, "of Idris")
	require.NoError(t, maren.Items.Save(t.Context(), ours, vault.Changes{vault.FieldUsername: "both of us"}))
	says(t, idris, theirs, vault.FieldUsername, "both of us")
	e, err := maren.Items.Entry(ours)
	require.NoError(t, err)
	assert.NotEmpty(t, e.Past, "the history goes with it")

	// What is made in it is shared; where each files it, and what is pinned, is theirs.
	require.NoError(t, idris.Books.Turn(t.Context(), idris.Books.Names()[0].ID))
	makeIn(t, idris, "Films")
	films := gets(t, maren, "Films")
	e, err = maren.Items.Entry(films)
	require.NoError(t, err)
	assert.Equal(t, book, e.Text(vault.FieldBook))
	_, err = idris.Acts.Pin(t.Context(), true, theirs)
	require.NoError(t, err)
	require.NoError(t, maren.Books.Rename(t.Context(), book, "The Tollivers"))

	// Put into the archive and deleted for good, it is so for both.
	_, err = maren.Acts.Archive(t.Context(), films)
	require.NoError(t, err)
	getsNot(t, idris, "Films")
	maren.Guard.Given()
	_, err = maren.Acts.Purge(t.Context(), films)
	require.NoError(t, err)
	_, err = maren.Acts.Undo(t.Context(), maren.Acts.Last())
	require.NoError(t, err)
	assert.Equal(t, "Family", idris.Books.Names()[0].Name, "a book's name is each one's own")
	e, err = maren.Items.Entry(ours)
	require.NoError(t, err)
	assert.False(t, vault.View(e).Pinned)
	of, err := maren.Sharing.Of(set)
	require.NoError(t, err)
	require.Len(t, of.Members, 2)
	assert.True(t, of.Members[0].Me)
	assert.Equal(t, "The other one", of.Members[1].Name)
}

// makeIn makes a login in the open book.
func makeIn(t testing.TB, v *app.Vault, title string) string {
	t.Helper()
	id := records.NewID()
	require.NoError(t, v.Items.SaveForm(t.Context(), id, &records.Form{
		Kind: vault.TypeLogin, Title: title, New: true, Book: v.Books.Open(),
		Addresses: []vault.Address{{URL: "https://" + strings.ToLower(title) + ".example/"}},
		Values:    map[vault.Field]string{vault.FieldUsername: "us", vault.FieldPassword: "of " + title},
	}))
	return id
}

// Both edit away from the cloud: nothing is lost, as between one's own devices.
func TestBothEditASharedThingAway(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris, _, _ := w.sharedBook(share.Change)
	ours, theirs := gets(t, maren, "School"), gets(t, idris, "School")
	w.down.Store(true)
	require.NoError(t, maren.Items.Save(t.Context(), ours, vault.Changes{
		vault.FieldPassword: secret.New("maren's"), vault.FieldNotes: "of hers",
	}))
	require.NoError(t, idris.Items.Save(t.Context(), theirs, vault.Changes{
		vault.FieldPassword: secret.New("idris'"), vault.FieldFolder: "Wren",
	}))
	w.down.Store(false)
	for _, side := range []struct {
		v  *app.Vault
		id string
	}{{maren, ours}, {idris, theirs}} {
		says(t, side.v, side.id, vault.FieldNotes, "of hers")
		says(t, side.v, side.id, vault.FieldFolder, "Wren")
		soon(t, "both passwords are kept", func() bool {
			e, err := side.v.Items.Entry(side.id)
			return err == nil && len(e.Conflicts()) == 1
		})
	}
}

func TestOneThingIsSharedWithItsFile(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("desk"))
	idris := w.createFor(w.device("idris"), "Idris Tolliver", idrisEmail)
	p := w.known(maren, idris)
	id := w.save(maren, "Ferrylink", "pw")
	other := w.save(maren, "Gannet", "secret")
	content := strings.Repeat("the deed of the boat ", 30_000)
	_, err := maren.Files.Attach(t.Context(), id, "deed.txt", strings.NewReader(content))
	require.NoError(t, err)
	set, err := maren.Sharing.ShareItem(t.Context(), id, p.ID, share.See)
	require.NoError(t, err)
	of := invited(t, idris, set)
	assert.Empty(t, of.Name, "of one thing nothing is told before it is taken")
	theirs := gets(t, idris, "Ferrylink")
	assert.Empty(t, titled(t, idris, "Gannet"))
	_, err = idris.Items.Entry(other)
	require.ErrorIs(t, err, records.ErrNoItem)
	soon(t, "the file is there", func() bool {
		e, err := idris.Items.Entry(theirs)
		require.NoError(t, err)
		var b bytes.Buffer
		return len(e.Files()) == 1 && idris.Files.Read(t.Context(), e.Files()[0], &b) == nil && b.String() == content
	})
	_, err = maren.Sharing.ShareItem(t.Context(), id, p.ID, share.See)
	require.ErrorContains(t, err, "already")
	_, err = maren.Acts.Move(t.Context(), "Boat", id) // a folder goes with it
	require.NoError(t, err)
	says(t, idris, theirs, vault.FieldFolder, "Boat")
}

// A device of whoever shares a book may meet in it what another of their devices brought, before it hears of that from
// the other one: it is the same item, not another one.
func TestTwoDevicesShareABook(t *testing.T) {
	t.Parallel()
	h := newHall()
	list := guests(t, t.TempDir(), h, "maren", "idris")
	maren, idris := list[0], list[1]
	set := maren.shareBook(t, "Family", "School", share.Change, idris)
	ours := titled(t, maren.v, "School")[0]
	e, err := maren.v.Items.Entry(ours)
	require.NoError(t, err)
	// As her other device has it: in the book, and not noted as shared.
	unlinked, err := e.With(maren.v.Items.Stamp(), vault.Changes{vault.FieldShare: ""})
	require.NoError(t, err)
	require.NoError(t, maren.v.Items.SaveShared(t.Context(), func(map[string]vault.Entry) ([]vault.Entry, error) {
		return []vault.Entry{unlinked}, nil
	}))
	require.NoError(t, maren.Restart(t.Context(), set))
	collect(t, maren, idris)
	assert.Equal(t, []string{ours}, titled(t, maren.v, "School"))
	assert.Len(t, titled(t, idris.v, "School"), 1)
	e, err = maren.v.Items.Entry(ours)
	require.NoError(t, err)
	in, id := e.Share()
	assert.Equal(t, []string{set, ours}, []string{in, id})
}

// What may only be seen isn't changed here, and what may only be filled in isn't shown.
func TestRightsBindThePages(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris, _, set := w.sharedBook(share.See)
	theirs := gets(t, idris, "School")
	refused := func(err error, want error) {
		t.Helper()
		require.ErrorIs(t, err, want)
	}
	pw := vault.Changes{vault.FieldPassword: secret.New("mine")}
	refused(idris.Items.Save(t.Context(), theirs, pw), records.ErrNotToChange)
	_, err := idris.Acts.Archive(t.Context(), theirs)
	refused(err, records.ErrNotToChange)
	_, err = idris.Acts.Tag(t.Context(), "x", theirs)
	refused(err, records.ErrNotToChange)
	_, err = idris.Acts.MoveTo(t.Context(), records.OwnBook, theirs)
	refused(err, records.ErrNotToChange)
	_, err = idris.Files.Attach(t.Context(), theirs, "a.txt", strings.NewReader("a"))
	refused(err, records.ErrNotToChange)
	_, err = idris.Acts.Pin(t.Context(), true, theirs)
	require.NoError(t, err, "whether it is pinned is the reader's own business")
	mine := w.save(idris, "Gannet", "pw")
	_, err = idris.Acts.MoveTo(t.Context(), idris.Books.Names()[0].ID, mine)
	require.ErrorContains(t, err, "not to be changed")
	_, err = idris.Acts.CopyTo(t.Context(), records.OwnBook, theirs)
	require.NoError(t, err, "what is seen can be written down")
	_, err = idris.Books.Remove(t.Context(), idris.Books.Names()[0].ID)
	refused(err, records.ErrBookShared)
	require.ErrorIs(t, idris.Sharing.SetRight(t.Context(), set, idrisEmail, share.Manage), sharing.ErrNotManager)
	require.ErrorIs(t, idris.Sharing.End(t.Context(), set, email), sharing.ErrNotManager)

	require.NoError(t, maren.Sharing.SetRight(t.Context(), set, idrisEmail, share.Fill))
	soon(t, "the right is another", func() bool {
		of, err := idris.Sharing.Of(set)
		return err == nil && of.Right == share.Fill
	})
	e, err := idris.Items.Entry(theirs)
	require.NoError(t, err)
	assert.Empty(t, e.Text(vault.FieldPassword))
	assert.Empty(t, e.Past)
	assert.Equal(t, "mtolliver", e.Text(vault.FieldUsername))
	e, err = idris.Items.ToFill(theirs)
	require.NoError(t, err)
	assert.Equal(t, "of School", e.Text(vault.FieldPassword), "it is filled in")
	_, err = idris.Acts.CopyTo(t.Context(), records.OwnBook, theirs)
	refused(err, records.ErrNotToSee)
	list, err := idris.Books.Entries(records.AllBooks)
	require.NoError(t, err)
	assert.False(t, slices.ContainsFunc(list, func(e vault.Entry) bool { return e.ID == theirs }), "nor written out")

	require.NoError(t, maren.Sharing.SetRight(t.Context(), set, idrisEmail, share.Change))
	soon(t, "it can be changed", func() bool { return idris.Items.Save(t.Context(), theirs, pw) == nil })
	says(t, maren, gets(t, maren, "School"), vault.FieldPassword, "mine")
}

func TestSharingEnds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris, book, set := w.sharedBook(share.Change)
	require.NoError(t, idris.Books.Turn(t.Context(), idris.Books.Names()[0].ID))
	brought := makeIn(t, idris, "Films")
	films := gets(t, maren, "Films")
	laptop := w.join(w.device("laptop"), maren)
	gets(t, laptop, "Films")

	require.NoError(t, maren.Sharing.End(t.Context(), set, idrisEmail))
	getsNot(t, idris, "School")
	assert.Empty(t, idris.Books.Names())
	_, err := idris.Items.Entry(brought)
	require.NoError(t, err, "what he brought stays his")
	_, err = idris.Sharing.Of(set)
	require.ErrorIs(t, err, sharing.ErrNoSet)

	// Nobody else had it: it is Maren's alone again, on all of her devices. What he could have seen is listed.
	of, err := maren.Sharing.Of(set)
	require.NoError(t, err)
	assert.True(t, of.Over)
	require.Len(t, of.Gone, 1)
	assert.Len(t, of.Gone[0].Items, 2)
	assert.Equal(t, "Family", of.Name)
	for _, v := range []*app.Vault{maren, laptop} {
		gets(t, v, "School")
		e, err := v.Items.Entry(films)
		require.NoError(t, err)
		assert.Equal(t, book, e.Text(vault.FieldBook))
		soon(t, "it isn't shared", func() bool {
			of, err := v.Sharing.Of(set)
			return err == nil && of.Over
		})
	}
	require.NoError(t, idris.Items.Save(t.Context(), brought, vault.Changes{vault.FieldNotes: "mine alone"}))
	w.inStep(idris)
	w.inStep(maren)
	e, err := maren.Items.Entry(films)
	require.NoError(t, err)
	assert.Empty(t, e.Text(vault.FieldNotes))

	// Shared once more, it comes anew.
	p, _ := person(t, maren, idrisEmail)
	again, err := maren.Sharing.ShareBook(t.Context(), book, p.ID, share.See)
	require.NoError(t, err)
	assert.NotEqual(t, set, again)
	invited(t, idris, again)
	gets(t, idris, "School")
}

// Three hold it. One is taken out: the others go on, under another key, and see what that one could have seen.
func TestOneOfThreeIsTakenOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris, book, set := w.sharedBook(share.Manage)
	wren := w.createFor(w.device("wren"), "Wren Tolliver", wrenEmail)
	w.known(wren, idris)
	p, _ := person(t, idris, wrenEmail)
	_, err := idris.Sharing.ShareBook(t.Context(), idris.Books.Names()[0].ID, p.ID, share.Change)
	require.NoError(t, err, "whoever may decide takes in whom they have checked")
	invited(t, wren, set)
	theirs := gets(t, wren, "School")
	require.NoError(t, wren.Items.Save(t.Context(), theirs, vault.Changes{vault.FieldPassword: secret.New("of Wren")}))
	ours := gets(t, maren, "School")
	says(t, maren, ours, vault.FieldPassword, "of Wren")
	before, err := maren.Sharing.Of(set)
	require.NoError(t, err)
	require.Len(t, before.Members, 3)

	require.NoError(t, maren.Sharing.End(t.Context(), set, wrenEmail))
	getsNot(t, wren, "School")
	soon(t, "Idris knows", func() bool {
		of, err := idris.Sharing.Of(set)
		return err == nil && len(of.Members) == 2
	})
	of, err := maren.Sharing.Of(set)
	require.NoError(t, err)
	require.Len(t, of.Gone, 1)
	assert.Equal(t, "Wren Tolliver", of.Gone[0].Name)
	assert.Equal(t, []string{ours}, of.Gone[0].Items)
	w.now.Add(10)
	require.NoError(t, maren.Items.Save(t.Context(), ours, vault.Changes{vault.FieldPassword: secret.New("another")}))
	of, err = maren.Sharing.Of(set)
	require.NoError(t, err)
	assert.Empty(t, of.Gone, "once it is changed there is nothing to be done")
	says(t, idris, gets(t, idris, "School"), vault.FieldPassword, "another")
	_ = book
}

func TestAMemberLeaves(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris, _, set := w.sharedBook(share.Change)
	require.ErrorContains(t, maren.Sharing.Leave(t.Context(), set), "nobody else may decide")
	w.down.Store(true)
	require.NoError(t, idris.Sharing.Leave(t.Context(), set), "also away from the cloud")
	getsNot(t, idris, "School")
	w.down.Store(false)
	soon(t, "Maren knows", func() bool {
		of, err := maren.Sharing.Of(set)
		return err != nil || len(of.Members) <= 1
	})
	gets(t, maren, "School")
	p, _ := person(t, maren, idrisEmail)
	set, err := maren.Sharing.ShareBook(t.Context(), maren.Books.Names()[0].ID, p.ID, share.See)
	require.NoError(t, err)
	invited(t, idris, set)
	gets(t, idris, "School")
}

// Taken out of a shared book, an item is gone for the others, and whole where it went to.
func TestOutOfASharedBook(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris, book, _ := w.sharedBook(share.Change)
	ours := gets(t, maren, "School")
	require.NoError(t, maren.Items.Save(t.Context(), ours, vault.Changes{vault.FieldPassword: secret.New("two")}))
	done, err := maren.Acts.MoveTo(t.Context(), records.OwnBook, ours)
	require.NoError(t, err)
	assert.Equal(t, 1, done.Count)
	getsNot(t, idris, "School")
	now := gets(t, maren, "School")
	e, err := maren.Items.Entry(now)
	require.NoError(t, err)
	assert.Equal(t, "two", e.Text(vault.FieldPassword))
	assert.NotEmpty(t, e.Past, "with its history")
	_, err = maren.Acts.MoveTo(t.Context(), book, now)
	require.NoError(t, err)
	gets(t, idris, "School")
}

// Each device of a member has it, also one that wasn't there when it was taken, and each brings what is changed on it.
func TestEachDeviceOfAMember(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	idris := w.createFor(w.device("idris"), "Idris Tolliver", idrisEmail)
	maren := w.create(w.device("desk"))
	p := w.known(idris, maren)
	book, _ := makeBook(t, idris, "Family", "School")
	set, err := idris.Sharing.ShareBook(t.Context(), book, p.ID, share.Change)
	require.NoError(t, err)
	invited(t, maren, set)
	gets(t, maren, "School")
	w.inStep(maren)
	laptop := w.join(w.device("laptop"), maren)
	id := gets(t, laptop, "School")
	maren.Lock()
	require.NoError(t, laptop.Items.Save(t.Context(), id, vault.Changes{vault.FieldNotes: "from the laptop"}))
	ours := gets(t, idris, "School")
	says(t, idris, ours, vault.FieldNotes, "from the laptop")
	require.NoError(t, idris.Items.Save(t.Context(), ours, vault.Changes{vault.FieldNotes: "from Idris"}))
	says(t, laptop, id, vault.FieldNotes, "from Idris")
}

// A login that somebody has already, and gets shared as well, is offered to be joined with it: the shared one stays for
// both, and the other one is put away.
func TestASharedLoginIsJoinedWithOnesOwn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris, _, _ := w.sharedBook(share.Change)
	theirs := gets(t, idris, "School")
	e, err := idris.Items.Entry(theirs)
	require.NoError(t, err)
	it := vault.View(e)
	own := records.NewID()
	require.NoError(t, idris.Items.Save(t.Context(), own, vault.Draft{
		Title: "school", Username: it.Username, Password: secret.New(e.Text(vault.FieldPassword)),
		Addresses: it.Addresses, Notes: "of my own",
	}.Changes()))
	l, err := idris.Tidying.List(t.Context())
	require.NoError(t, err)
	assert.Empty(t, l.Sure, "it isn't joined unseen")
	require.Len(t, l.Likely, 1)
	require.NoError(t, idris.Tidying.Join(t.Context(), l.Likely[0].IDs, tidying.Choice{Password: own}))
	mine, err := idris.Items.Entry(own)
	require.NoError(t, err)
	assert.True(t, mine.Archived())
	says(t, maren, gets(t, maren, "School"), vault.FieldNotes, "of my own")
	e, err = idris.Items.Entry(theirs)
	require.NoError(t, err)
	assert.False(t, e.Archived())
}

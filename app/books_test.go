package app_test

import (
	"bytes"
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/importing"
	"redlocket/app/records"
	"redlocket/core/find"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// leaf lists the titles of the open book, in order.
func leaf(t testing.TB, v *app.Vault) (titles []string) {
	t.Helper()
	x, err := v.Book.Leaf()
	require.NoError(t, err)
	x.Items(func(it *vault.Item) { titles = append(titles, it.Title) })
	return titles
}

// shown lists the titles of all that is shown.
func shown(t testing.TB, v *app.Vault) (titles []string) {
	t.Helper()
	x, err := v.Book.Index()
	require.NoError(t, err)
	x.Items(func(it *vault.Item) { titles = append(titles, it.Title) })
	return titles
}

// makeBook makes a book with a login in it.
func makeBook(t testing.TB, v *app.Vault, name, title string) (book, item string) {
	t.Helper()
	book, err := v.Books.Make(t.Context(), name)
	require.NoError(t, err)
	item = records.NewID()
	require.NoError(t, v.Items.SaveForm(t.Context(), item, &records.Form{
		Kind: vault.TypeLogin, Title: title, New: true, Book: v.Books.Open(),
		Addresses: []vault.Address{{URL: "https://" + strings.ToLower(title) + ".example/"}},
		Values:    map[vault.Field]string{vault.FieldUsername: "mtolliver", vault.FieldPassword: "of " + title},
	}))
	return book, item
}

func TestBooksAreSeenApartAndTogether(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	desk := w.create(d)
	w.save(desk, "Gannet", "pw")
	assert.Empty(t, desk.Books.Names(), "one's own alone needs no choice")
	family, school := makeBook(t, desk, "Family", "School")
	assert.Equal(t, family, desk.Books.Open(), "a new book is open")
	assert.Equal(t, []string{"School"}, leaf(t, desk))
	assert.Equal(t, []string{"Gannet", "School"}, shown(t, desk))

	require.NoError(t, desk.Books.Turn(t.Context(), records.OwnBook))
	assert.Equal(t, []string{"Gannet"}, leaf(t, desk))
	require.NoError(t, desk.Books.Turn(t.Context(), records.AllBooks))
	assert.Equal(t, []string{"Gannet", "School"}, leaf(t, desk))
	require.ErrorIs(t, desk.Books.Turn(t.Context(), records.NewID()), records.ErrNoBook)

	laptop := w.join(w.device("laptop"), desk)
	w.inStep(desk, laptop)
	require.NoError(t, laptop.Ready())
	assert.Equal(t, "Family", laptop.Books.Names()[0].Name)
	assert.Equal(t, records.AllBooks, laptop.Books.Open(), "which is open is each device's own")

	require.NoError(t, desk.Books.Turn(t.Context(), family))
	desk = by(t, d, desk, master)
	assert.Equal(t, []string{"School"}, leaf(t, desk), "it stays open over a lock")
	it := vault.Item{Book: family}
	assert.Equal(t, "Family", desk.Books.Name(it))
	list, err := desk.Books.List()
	require.NoError(t, err)
	assert.Equal(t, []records.NamedBook{
		{ID: records.OwnBook, Items: 1}, {ID: family, Name: "Family", Items: 1, Open: true},
	}, list)
	_, err = desk.Items.Entry(school)
	require.NoError(t, err)
}

// The first page of a large vault comes before its records are opened: also of one book, and with its name.
func TestTheOpenBookIsThereBeforeTheRecords(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	w.save(v, "Gannet", "pw")
	family, _ := makeBook(t, v, "Family", "School")
	_ = shown(t, v)
	v.Lock()
	v, err := d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	assert.Equal(t, []string{"School"}, leaf(t, v))
	assert.Equal(t, family, v.Books.Open())
	assert.Equal(t, "Family", v.Books.Names()[0].Name)
	require.NoError(t, v.Ready())
	assert.Equal(t, []string{"School"}, leaf(t, v))
}

func TestAHiddenBookIsNowhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	w.save(v, "Gannet", "one and the same 7")
	family, school := makeBook(t, v, "Family", "Ferrylink")
	page := signInPage
	offers := func() int {
		view, err := v.Pages.Read(t.Context(), page)
		require.NoError(t, err)
		return len(view.Offers)
	}
	require.Equal(t, 1, offers())
	require.NoError(t, v.Items.Save(t.Context(), school, vault.Changes{
		vault.FieldPassword: secret.New("one and the same 7"),
	}))
	reused := func() int {
		s, err := v.Auditing.Survey(t.Context())
		require.NoError(t, err)
		return len(s.Reused())
	}
	require.Equal(t, 2, reused())

	require.NoError(t, v.Books.Show(t.Context(), family, false))
	assert.Equal(t, []string{"Gannet"}, shown(t, v))
	assert.Equal(t, 0, offers())
	assert.Equal(t, 0, reused())
	assert.Equal(t, records.AllBooks, v.Books.Open(), "a hidden one isn't open")
	b, err := v.Book.Find(find.Parse("ferrylink"), 0)
	require.NoError(t, err)
	assert.Zero(t, b.Items)
	v = by(t, d, v, master)
	assert.Equal(t, []string{"Gannet"}, shown(t, v), "also over a lock")
	x, err := v.Book.AsOf(v.Items.Stamp().At)
	require.NoError(t, err)
	assert.Equal(t, 1, x.Len(""))
	require.ErrorContains(t, v.Books.Show(t.Context(), records.OwnBook, false), "always shown")

	require.NoError(t, v.Books.Turn(t.Context(), family))
	assert.Equal(t, []string{"Ferrylink"}, leaf(t, v), "opened, it is shown again")
}

func TestItemsGoFromBookToBook(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := w.save(v, "Gannet", "one")
	require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{vault.FieldPassword: secret.New("two")}))
	file, err := v.Files.Attach(t.Context(), id, "deed.txt", strings.NewReader("the deed"))
	require.NoError(t, err)
	family, _ := makeBook(t, v, "Family", "School")
	club, _ := makeBook(t, v, "Allotment", "Shed")

	done, err := v.Acts.MoveTo(t.Context(), family, id)
	require.NoError(t, err)
	assert.Equal(t, 1, done.Count)
	require.NoError(t, v.Books.Turn(t.Context(), family))
	assert.Equal(t, []string{"Gannet", "School"}, leaf(t, v))
	_, err = v.Acts.Undo(t.Context(), done.Undo)
	require.NoError(t, err)
	assert.Equal(t, []string{"School"}, leaf(t, v))

	done, err = v.Acts.CopyTo(t.Context(), club, id, id)
	require.NoError(t, err)
	assert.Equal(t, 1, done.Count)
	require.NoError(t, v.Books.Turn(t.Context(), club))
	assert.Equal(t, []string{"Gannet", "Shed"}, leaf(t, v))
	x, err := v.Book.Leaf()
	require.NoError(t, err)
	twin := ""
	x.Items(func(it *vault.Item) {
		if it.Title == "Gannet" {
			twin = it.ID
		}
	})
	assert.NotEqual(t, id, twin)
	e, err := v.Items.Entry(twin)
	require.NoError(t, err)
	assert.Equal(t, "two", e.Text(vault.FieldPassword))
	assert.Empty(t, e.Past)
	require.NoError(t, v.Files.Detach(t.Context(), id, file.ID))
	v.Files.RemoveUnused(t.Context())
	var b bytes.Buffer
	require.NoError(t, v.Files.Read(t.Context(), e.Files()[0], &b))
	assert.Equal(t, "the deed", b.String(), "the copy has the file still")

	_, err = v.Acts.MoveTo(t.Context(), records.NewID(), id)
	require.ErrorIs(t, err, records.ErrNoBook)
}

func TestABookIsNamedAndTakenAway(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	family, school := makeBook(t, desk, "Family", "School")
	for _, bad := range []string{"", "  ", strings.Repeat("x", 41), "family"} {
		_, err := desk.Books.Make(t.Context(), bad)
		var in *records.InputError
		require.ErrorAs(t, err, &in, "%q", bad)
	}
	require.NoError(t, desk.Books.Rename(t.Context(), family, " The  Tollivers "))
	assert.Equal(t, "The Tollivers", desk.Books.Names()[0].Name)

	laptop := w.join(w.device("laptop"), desk)
	w.inStep(desk, laptop)
	require.NoError(t, laptop.Books.Turn(t.Context(), family))
	n, err := desk.Books.Remove(t.Context(), family)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	late := records.NewID() // made there while the book was being taken away
	require.NoError(t, laptop.Items.SaveForm(t.Context(), late, &records.Form{
		Kind: vault.TypeNote, Title: "Late", New: true, Book: laptop.Books.Open(),
	}))
	soon(t, "both have it", func() bool {
		_, err := desk.Items.Entry(late)
		return err == nil && len(laptop.Books.Names()) == 0
	})
	for _, v := range []*app.Vault{desk, laptop} {
		assert.Equal(t, records.AllBooks, v.Books.Open())
		assert.Equal(t, []string{"Late", "School"}, leaf(t, v), "nothing goes with it")
		e, err := v.Items.Entry(school)
		require.NoError(t, err)
		assert.Empty(t, v.Books.Name(vault.View(e)))
	}
	_, err = desk.Books.Remove(t.Context(), family)
	require.ErrorIs(t, err, records.ErrNoBook)
}

// One book alone is written out and brought back, also after it was taken away.
func TestABookAlone(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	id := w.save(v, "Gannet", "pw")
	_, err := v.Files.Attach(t.Context(), id, "mine.txt", strings.NewReader("mine"))
	require.NoError(t, err)
	family, school := makeBook(t, v, "Family", "School")
	_, err = v.Files.Attach(t.Context(), school, "ours.txt", strings.NewReader("ours"))
	require.NoError(t, err)
	require.NoError(t, v.Reauthenticate(secret.New(master)))

	var out bytes.Buffer
	n, err := v.Exports.Write(t.Context(), &out, importing.Selection{Format: importing.FormatJSON, Book: family})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.NotContains(t, out.String(), "Gannet")
	out.Reset()
	n, err = v.Exports.Write(t.Context(), &out, importing.Selection{
		Format: importing.FormatJSON, Book: records.OwnBook,
	})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.NotContains(t, out.String(), "School")
	_, err = v.Exports.Write(t.Context(), &out, importing.Selection{Format: importing.FormatJSON, Book: "gone"})
	require.ErrorIs(t, err, records.ErrNoBook)

	var backup bytes.Buffer
	s, err := v.Backups.WriteBook(t.Context(), &backup, secret.New(passphrase), family)
	require.NoError(t, err)
	assert.Equal(t, importing.Saved{Items: 1, Files: 1, Bytes: 4}, s)

	other := w.createFor(w.device("other"), "Wren Aldous", "wren@mail.example")
	_, err = other.Backups.Restore(t.Context(), bytes.NewReader(backup.Bytes()), secret.New(passphrase), nil)
	require.NoError(t, err)
	require.NoError(t, other.Books.Turn(t.Context(), family))
	assert.Equal(t, []string{"School"}, leaf(t, other), "in a book of the same name")

	_, err = v.Books.Remove(t.Context(), family)
	require.NoError(t, err)
	_, err = v.Backups.Restore(t.Context(), bytes.NewReader(backup.Bytes()), secret.New(passphrase), nil)
	require.NoError(t, err)
	assert.Equal(t, "Family", v.Books.Names()[0].Name)
	e, err := v.Items.Entry(school)
	require.NoError(t, err)
	assert.Equal(t, "", v.Books.Name(vault.View(e)), "what was moved since stays where it was moved to")
}

// What is left out under a second passphrase can be in any book, and its book tells nothing of it.
func TestWhatIsLeftOutHasABook(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	code := sheetCode(t, v)
	setUp(t, v)
	setSecond(t, v, code)
	family, school := makeBook(t, v, "Family", "School")
	leaveOut(t, v, school)
	v = by(t, d, v, second)
	require.NoError(t, v.Books.Turn(t.Context(), family))
	assert.Empty(t, leaf(t, v))
	v = by(t, d, v, master)
	assert.Equal(t, []string{"School"}, leaf(t, v))
	list, err := v.Books.List()
	require.NoError(t, err)
	assert.Equal(t, 1, list[1].Items)
	require.NoError(t, v.Books.Show(t.Context(), family, false))
	assert.Empty(t, shown(t, v))
	room, _, err := v.Cover.Room()
	require.NoError(t, err)
	assert.Len(t, room, 1, "hidden or not, it takes its room")
	n, err := v.Books.Remove(t.Context(), family)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Equal(t, []string{"School"}, shown(t, v))
}

// useBooks is a use case for the steps' test.
func useBooks(ctx context.Context, b *bench) error {
	id, err := b.v.Books.Make(ctx, "Books "+records.NewID()[:20])
	if err != nil {
		return err
	}
	_, err1 := b.v.Acts.MoveTo(ctx, id, b.id)
	_, err2 := b.v.Acts.CopyTo(ctx, records.OwnBook, b.id)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	b.v.Books.Names()
	b.v.Books.Name(vault.Item{Book: id})
	_, err1 = b.v.Book.Leaf()
	_, err2 = b.v.Books.List()
	return errors.Join(
		err1, err2, b.v.Books.Rename(ctx, id, "B "+records.NewID()[:30]), b.v.Books.Show(ctx, id, false),
		b.v.Books.Turn(ctx, records.AllBooks),
	)
}

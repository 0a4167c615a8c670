package app_test

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/filling"
	"redlocket/app/importing"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/app/tidying"
	"redlocket/core/find"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

const second = "gravel opera thicket nineteen"

// sheetCode is the recovery code of a sheet that waits.
func sheetCode(t testing.TB, v *app.Vault) string {
	s, err := v.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, s.Recovery)
	return strings.Join(s.Recovery, "-")
}

func setSecond(t testing.TB, v *app.Vault, code string) { setSecondBeside(t, v, code, master) }

func setSecondBeside(t testing.TB, v *app.Vault, code, master string) {
	require.NoError(t, v.Second.Set(t.Context(), app.Second{
		Master: secret.New(master), Code: code, Password: secret.New(second), Repeat: secret.New(second),
	}))
}

// by opens a vault by a passphrase, after it was locked.
func by(t testing.TB, d *app.Device, v *app.Vault, passphrase string) *app.Vault {
	t.Helper()
	v.Lock()
	v, err := d.Unlock(t.Context(), v.Profile().ID, secret.New(passphrase))
	require.NoError(t, err)
	require.NoError(t, v.Ready())
	return v
}

// titled are the items with a title.
func titled(t testing.TB, v *app.Vault, title string) (ids []string) {
	t.Helper()
	x, err := v.Book.Index()
	require.NoError(t, err)
	x.Items(func(it *vault.Item) {
		if it.Title == title {
			ids = append(ids, it.ID)
		}
	})
	return ids
}

func hasTitle(t testing.TB, v *app.Vault, title string) func() bool {
	return func() bool { return len(titled(t, v, title)) == 1 }
}

func count(t testing.TB, v *app.Vault) int {
	t.Helper()
	x, err := v.Book.Index()
	require.NoError(t, err)
	return x.Find(find.Query{}, find.Now{}, 0).Items
}

func change(t testing.TB, v *app.Vault, from, to string) error {
	return v.Account.ChangeMaster(t.Context(), secret.New(from), secret.New(to), secret.New(to))
}

func leaveOut(t testing.TB, v *app.Vault, ids ...string) {
	t.Helper()
	n, err := v.Second.LeaveOut(t.Context(), ids...)
	require.NoError(t, err)
	require.Len(t, ids, n)
}

func TestASecondPassphraseShowsWhatWasNotLeftOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	code := sheetCode(t, v)
	shown, hidden := w.save(v, "Ferrylink", "pw-shown"), w.save(v, "Lighthouse", "pw-hidden")
	before := count(t, v)

	_, err := v.Second.LeaveOut(t.Context(), hidden)
	require.ErrorIs(t, err, records.ErrNotCovered, "there is no second passphrase yet")
	for name, s := range map[string]app.Second{
		"another master password": {Master: secret.New(second), Code: code},
		"another code":            {Master: secret.New(master), Code: strings.Repeat("0", 40)},
		"the same":                {Master: secret.New(master), Code: code, Password: secret.New(master)},
		"a weak one":              {Master: secret.New(master), Code: code, Password: secret.New("ferry")},
		"two different ones":      {Master: secret.New(master), Code: code, Password: secret.New(second)},
	} {
		require.Error(t, v.Second.Set(t.Context(), s), name)
	}
	assert.False(t, v.Second.Has())
	setSecond(t, v, code)
	assert.True(t, v.Second.Has())
	leaveOut(t, v, hidden)
	assert.False(t, holds(v, hidden)(), "it has another id from then on")
	require.Len(t, titled(t, v, "Lighthouse"), 1)
	assert.Equal(t, before, count(t, v))

	v = by(t, d, v, second)
	assert.False(t, v.Second.Has())
	assert.True(t, holds(v, shown)())
	assert.Empty(t, titled(t, v, "Lighthouse"))
	assert.Equal(t, before-1, count(t, v))
	meanwhile := w.save(v, "Meanwhile", "pw")

	v = by(t, d, v, master)
	assert.True(t, v.Second.Has())
	assert.True(t, holds(v, meanwhile)())
	ids := titled(t, v, "Lighthouse")
	require.Len(t, ids, 1)
	assert.Equal(t, "pw-hidden", password(t, v, ids[0]))
	require.NoError(t, v.Items.Save(t.Context(), ids[0], vault.Changes{vault.FieldPassword: secret.New("pw-later")}))
	_, err = v.Files.Attach(t.Context(), ids[0], "deed.txt", strings.NewReader("x"))
	require.ErrorIs(t, err, records.ErrCoveredFiles)

	v = by(t, d, by(t, d, v, second), master)
	assert.Equal(t, "pw-later", password(t, v, ids[0]))
	e, err := v.Items.Entry(ids[0])
	require.NoError(t, err)
	old, ok := e.PreviousPassword()
	assert.True(t, ok && old.Reveal() == "pw-hidden", "with its history")

	n, err := v.Second.Show(t.Context(), ids...)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	v = by(t, d, v, second)
	assert.Len(t, titled(t, v, "Lighthouse"), 1)
	v = by(t, d, v, master)
	require.NoError(t, v.Second.End(t.Context(), secret.New(master)))
	v.Lock()
	_, err = d.Unlock(t.Context(), v.Profile().ID, secret.New(second))
	require.Error(t, err)
}

// Whoever has the second passphrase, the file and everything that the vault's key opens finds nothing of what was left
// out: neither in records and what is kept on the device, nor in exports and backups.
func TestNothingOfWhatIsLeftOutIsUnderTheVaultKey(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	dir := t.TempDir()
	f, err := store.In(dir)
	require.NoError(t, err)
	d := w.deviceIn(f)
	v := w.create(d)
	setSecond(t, v, sheetCode(t, v))
	w.save(v, "Ferrylink", "pw-shown")
	// It came by a file, another one changed it, and it was joined with another: all of that is remembered.
	bring(t, v, "Lighthouse", "https://lighthouse.example/", "keeper", "former-pearl")
	bring(t, v, "Lighthouse", "https://lighthouse.example/", "keeper", "hunter-of-whelks")
	twice(t, v, "lighthouse", "Keeper", "hunter-of-whelks")
	l := tidyList(t, v)
	require.Len(t, l.Left(), 1)
	require.NoError(t, v.Tidying.Join(t.Context(), l.Left()[0].IDs, tidying.Choice{}))
	was := titled(t, v, "Lighthouse")
	require.Len(t, was, 1)
	w.inStep(v)
	var sealed []byte
	for _, r := range changesOf(t, w, v).Records {
		if r.ID == was[0] {
			sealed = r.Blob
		}
	}
	require.True(t, inFiles(t, dir, sealed), "the search finds what is there")
	_, err = v.Second.LeaveOut(t.Context(), was...)
	require.NoError(t, err)
	assert.False(t, inFiles(t, dir, sealed), "nothing is left in the file and its log")
	id := titled(t, v, "Lighthouse")[0]
	require.NoError(t, v.Book.Use(id))
	_, err = v.Generated.Keep(t.Context(), filling.GeneratedPassword{
		Password: "made-for-it", Site: "Lighthouse", URL: "https://lighthouse.example/",
	}, 0)
	require.NoError(t, err)
	require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{vault.FieldNotes: "behind the third rock"}))
	_, err = v.Acts.Tag(t.Context(), "secretly", id)
	require.NoError(t, err)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	var export, backup bytes.Buffer
	_, err = v.Exports.Write(t.Context(), &export, importing.Selection{Format: "json"})
	require.NoError(t, err)
	assert.Contains(t, export.String(), "Ferrylink")
	assert.NotContains(t, export.String(), "ighthouse", "not by the master password either")
	_, err = v.Backups.Write(t.Context(), &backup, secret.New("a backup of it all 7"))
	require.NoError(t, err)
	require.NoError(t, v.Cover.Refresh(t.Context()))
	w.inStep(v)

	v = by(t, d, v, second)
	ring, err := v.Replica.Ring()
	require.NoError(t, err)
	key := keys.NewVault(v.Profile().Vault, ring, v.Rand())
	secrets := []string{
		"ighthouse", "hunter-of-whelks", "made-for-it", "third rock", "secretly", "former-pearl", "eeper", id,
	}
	none := func(where string, plain []byte) {
		for _, s := range secrets {
			assert.NotContains(t, string(plain), s, where)
		}
	}
	changes := changesOf(t, w, v)
	require.NotEmpty(t, changes.Records)
	for _, r := range changes.Records {
		plain, err := key.OpenRecord(r.ID, r.Rev, r.Blob)
		require.NoError(t, err)
		none("record "+r.ID, plain)
	}
	originals, err := v.Imports.Originals(t.Context())
	require.NoError(t, err)
	assert.Empty(t, originals)
	for _, name := range []string{"uses", "drawer", "slips", "leak-watch", "former", "backups", "settings"} {
		b, err := v.Local.Get(t.Context(), name)
		require.NoError(t, err)
		none(name, b)
	}
	x, err := v.Book.Index()
	require.NoError(t, err)
	none("the index", x.Encode())
	_, err = v.Backups.Restore(t.Context(), bytes.NewReader(backup.Bytes()), secret.New("a backup of it all 7"), nil)
	require.NoError(t, err)
	assert.Empty(t, titled(t, v, "Lighthouse"), "a backup brings nothing back that is left out")
}

// bring imports a login from a file that is kept.
func bring(t *testing.T, v *app.Vault, title, url, user, password string) {
	t.Helper()
	csv := "name,url,username,password\n" + strings.Join([]string{title, url, user, password}, ",") + "\n"
	i, _, err := v.Imports.Prepare(t.Context(), []importing.File{{Name: "a.csv", Bytes: []byte(csv)}})
	require.NoError(t, err)
	require.NoError(t, i.Start(true))
	finish(t, i)
}

// inFiles reports whether bytes from the middle of something sealed are in a folder's files.
func inFiles(t testing.TB, dir string, sealed []byte) bool {
	t.Helper()
	require.Greater(t, len(sealed), 120)
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		if bytes.Contains(b, sealed[40:104]) {
			return true
		}
	}
	return false
}

// A vault with something left out, opened by the second passphrase, and one without, opened by its master password,
// have the same: records of the same kinds and lengths with the same registers, and parts of the same age; the same is
// kept on the device, and its profile says the same.
func TestAVaultDoesNotTellByItsShape(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("long: run without -short")
	}
	shape := func(used bool) (all []string) {
		w := newWorld(t)
		d := w.device("desk")
		v := w.create(d)
		one, two := w.save(v, "Ferrylink", "pw"), w.save(v, "Lighthouse", "pw")
		require.NoError(t, v.Reauthenticate(secret.New(master)))
		if used {
			setSecond(t, v, sheetCode(t, v))
			leaveOut(t, v, one, two)
		} else {
			_, err := v.Acts.Archive(t.Context(), one, two)
			require.NoError(t, err)
			_, err = v.Acts.Purge(t.Context(), one, two)
			require.NoError(t, err)
		}
		setUp(t, v)
		v = by(t, d, by(t, d, v, master), map[bool]string{false: master, true: second}[used])
		w.now.Add(3_600_000)
		opened := time.Now().UnixMilli() + w.now.Load()
		require.NoError(t, v.Cover.Refresh(t.Context()))
		w.inStep(v)
		ring, err := v.Replica.Ring()
		require.NoError(t, err)
		key := keys.NewVault(v.Profile().Vault, ring, v.Rand())
		for _, r := range changesOf(t, w, v).Records {
			plain, err := key.OpenRecord(r.ID, r.Rev, r.Blob)
			require.NoError(t, err)
			e, err := vault.Decode(plain)
			require.NoError(t, err)
			new := e.Type == vault.TypePlace && e.Fields[vault.FieldPlace].Stamp.At >= opened
			fields := slices.Sorted(maps.Keys(e.Fields))
			all = append(all, fmt.Sprint(e.Type, fields, len(e.Past), len(r.Blob), len(plain), new))
		}
		slices.Sort(all)
		p := v.Profile()
		all = append(all, fmt.Sprint(len(p.Wrapped), len(p.Ring), len(p.CarriedBefore), len(p.Unlocks), p.Openings))
		for _, name := range []string{"uses", "drawer", "slips", "leak-watch", "backups", "settings", "late", "originals"} {
			b, err := v.Local.Get(t.Context(), name)
			require.NoError(t, err)
			all = append(all, fmt.Sprint(name, len(b)))
		}
		return all
	}
	assert.Equal(t, shape(false), shape(true))
}

// Everything that takes a master password at the cloud takes the second passphrase, too.
func TestTheCloudTakesTheSecondPassphrase(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("long: run without -short")
	}
	w := newWorld(t)
	first, other := w.device("desk"), w.device("laptop")
	desk := w.create(first)
	laptop := w.join(other, desk)
	code := sheetCode(t, desk)
	setSecond(t, desk, code)
	leaveOut(t, desk, w.save(desk, "Lighthouse", "pw", laptop))
	require.NoError(t, desk.Cover.Refresh(t.Context()))
	w.inStep(desk, laptop)
	laptop = by(t, other, laptop, master)
	require.Len(t, titled(t, laptop, "Lighthouse"), 1)

	laptop = by(t, other, laptop, second)
	assert.Empty(t, titled(t, laptop, "Lighthouse"))
	desk = by(t, first, desk, second)
	sheet, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	third := w.device("attic")
	attic, err := third.Join(t.Context(), app.Join{
		Email: email, Cloud: w.url, Password: secret.New(second), Carried: strings.Join(sheet.Carried, "-"),
	})
	require.NoError(t, err)
	assert.Empty(t, titled(t, attic, "Lighthouse"))
	w.inStep(desk, laptop, attic)
	require.NoError(t, desk.Epochs.ShutOut(t.Context(), attic.Profile().Device, secret.New(second)))
	require.Error(t, change(t, laptop, "not it at all", "velvet anchor tundra eleven"))
	soon(t, "the laptop has heard", func() bool { return len(laptop.Profile().CarriedBefore) == 1 })
	w.inStep(desk, laptop)
	const another = "velvet anchor tundra eleven"
	require.NoError(t, change(t, laptop, second, another))
	w.inStep(laptop)
	soon(t, "the desk has heard", func() bool {
		return bytes.Equal(desk.Profile().Wrapped, laptop.Profile().Wrapped)
	})

	// The master password opens as before, on both, and shows what was left out; it takes up the new carried half.
	desk = by(t, first, desk, master)
	require.Len(t, titled(t, desk, "Lighthouse"), 1)
	laptop = by(t, other, laptop, master)
	require.Len(t, titled(t, laptop, "Lighthouse"), 1)
	assert.False(t, by(t, other, laptop, another).Second.Has())
	const changed = "walnut harbour comet seventy"
	require.NoError(t, change(t, desk, master, changed))
	desk = by(t, first, desk, changed)
	require.Len(t, titled(t, desk, "Lighthouse"), 1)
	sheet, err = desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	fourth, err := w.device("boat").Join(t.Context(), app.Join{
		Email: email, Cloud: w.url, Password: secret.New(changed), Carried: strings.Join(sheet.Carried, "-"),
	})
	require.NoError(t, err)
	require.NoError(t, fourth.Ready())
	soon(t, "what is left out comes", hasTitle(t, fourth, "Lighthouse"))
}

// Shutting out by the master password gives the second passphrase a slot for the new carried half, too.
func TestShuttingOutKeepsTheSecondPassphrase(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("long: run without -short")
	}
	w := newWorld(t)
	first, other := w.device("desk"), w.device("laptop")
	desk := w.create(first)
	laptop := w.join(other, desk)
	setSecond(t, desk, sheetCode(t, desk))
	leaveOut(t, desk, w.save(desk, "Lighthouse", "pw"))
	w.inStep(desk, laptop)
	require.NoError(t, desk.Epochs.ShutOut(t.Context(), laptop.Profile().Device, secret.New(master)))
	sheet, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	w.inStep(desk)
	for _, passphrase := range []string{second, master} {
		v, err := w.device("new "+passphrase).Join(t.Context(), app.Join{
			Email: email, Cloud: w.url, Password: secret.New(passphrase), Carried: strings.Join(sheet.Carried, "-"),
		})
		require.NoError(t, err)
		require.NoError(t, v.Ready())
		w.inStep(v)
		assert.Len(t, titled(t, v, "Lighthouse"), map[string]int{second: 0, master: 1}[passphrase])
	}
	assert.Empty(t, titled(t, by(t, first, desk, second), "Lighthouse"))
}

// What two devices leave out and edit of it at once is all there.
func TestTwoDevicesLeaveOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first, other := w.device("desk"), w.device("laptop")
	desk := w.create(first)
	laptop := w.join(other, desk)
	setSecond(t, desk, sheetCode(t, desk))
	one, two := w.save(desk, "One", "pw", laptop), w.save(desk, "Two", "pw", laptop)
	require.NoError(t, desk.Cover.Refresh(t.Context()))
	w.inStep(desk, laptop)
	laptop = by(t, other, laptop, master)
	leaveOut(t, desk, one)
	leaveOut(t, laptop, two)
	w.inStep(desk, laptop)
	for _, v := range []*app.Vault{desk, laptop} {
		soon(t, "both", func() bool { return hasTitle(t, v, "One")() && hasTitle(t, v, "Two")() })
	}
	id := titled(t, desk, "One")[0]
	require.Equal(t, []string{id}, titled(t, laptop, "One"))
	require.NoError(t, desk.Items.Save(t.Context(), id, vault.Changes{vault.FieldNotes: "by the desk"}))
	require.NoError(t, laptop.Items.Save(t.Context(), id, vault.Changes{vault.FieldUsername: "by-the-laptop"}))
	for _, v := range []*app.Vault{desk, laptop} {
		require.NoError(t, v.Cover.Refresh(t.Context()))
	}
	w.inStep(desk, laptop)
	for _, v := range []*app.Vault{desk, laptop} {
		soon(t, "both edits", func() bool {
			e, err := v.Items.Entry(id)
			return err == nil && e.Text(vault.FieldNotes) == "by the desk" && e.Text(vault.FieldUsername) == "by-the-laptop"
		})
	}

	require.NoError(t, desk.Second.End(t.Context(), secret.New(master)))
	require.NoError(t, desk.Cover.Refresh(t.Context()))
	w.inStep(desk, laptop)
	soon(t, "the other one knows that it was ended", func() bool { return !laptop.Second.Has() })
	laptop = by(t, other, laptop, master)
	assert.False(t, laptop.Second.Has(), "also where its part was written before")
	assert.False(t, by(t, first, desk, master).Second.Has())
}

// With the sheet, the master password and what was left out come back; the second passphrase is none any more.
func TestRecoveryBringsWhatWasLeftOut(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("long: run without -short")
	}
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	code := sheetCode(t, v)
	setSecond(t, v, code)
	leaveOut(t, v, w.save(v, "Lighthouse", "pw"))
	require.NoError(t, v.Cover.Refresh(t.Context()))
	w.inStep(v)
	v.Lock()
	const fresh = "walnut harbour comet seventy"
	v, err := d.Recover(t.Context(), v.Profile().ID, code, secret.New(fresh), secret.New(fresh))
	require.NoError(t, err)
	require.NoError(t, v.Ready())
	assert.Len(t, titled(t, v, "Lighthouse"), 1)
	assert.False(t, v.Second.Has())
	w.inStep(v)
	for _, old := range []string{master, second} {
		v.Lock()
		_, err = d.Unlock(t.Context(), v.Profile().ID, secret.New(old))
		require.Error(t, err)
	}
	w.now.Add(3_600_000)
	here, err := w.device("new").RecoverHere(t.Context(), app.Recovery{
		Email: email, Cloud: w.url, Code: code, Password: secret.New(fresh), Repeat: secret.New(fresh),
	})
	require.NoError(t, err)
	require.NoError(t, here.Ready())
	assert.Len(t, titled(t, here, "Lighthouse"), 1)
	setSecondBeside(t, here, code, fresh)
	assert.Len(t, titled(t, here, "Lighthouse"), 1, "what was left out stays so")
}

// A vault that is open shows nobody more than what they opened: whoever comes with the other passphrase, or a finger,
// gets another opening.
func TestEachPassphraseHasItsOwnOpening(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	setUp(t, v)
	setSecond(t, v, sheetCode(t, v))
	leaveOut(t, v, w.save(v, "Lighthouse", "pw"))
	open := v
	for _, c := range []struct {
		how  string
		open func() (*app.Vault, error)
		sees int
	}{
		{"second", func() (*app.Vault, error) { return d.Unlock(t.Context(), v.Profile().ID, secret.New(second)) }, 0},
		{"master", func() (*app.Vault, error) { return d.Unlock(t.Context(), v.Profile().ID, secret.New(master)) }, 1},
		{"finger", func() (*app.Vault, error) {
			return d.UnlockByPlatform(t.Context(), v.Profile().ID, thumbID, []byte("{}"), thumb)
		}, 0},
		{"master", func() (*app.Vault, error) { return d.Unlock(t.Context(), v.Profile().ID, secret.New(master)) }, 1},
	} {
		next, err := c.open()
		require.NoError(t, err, c.how)
		require.NoError(t, next.Ready())
		assert.True(t, open.Locked(), c.how)
		assert.Len(t, titled(t, next, "Lighthouse"), c.sees, c.how)
		again, err := c.open()
		require.NoError(t, err)
		assert.Same(t, next, again, c.how)
		open = next
	}

	// Also while its records are still being opened.
	for range 5 {
		open.Lock()
		whole, err := d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
		require.NoError(t, err)
		next, err := d.Unlock(t.Context(), v.Profile().ID, secret.New(second))
		require.NoError(t, err)
		assert.True(t, whole.Locked())
		require.NoError(t, next.Ready())
		assert.Empty(t, titled(t, next, "Lighthouse"))
		open = next
	}
}

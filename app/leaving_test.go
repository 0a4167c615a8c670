package app_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

func TestTakingAVaultOffThisComputer(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first := w.device("desk")
	desk := w.create(first)
	dir := t.TempDir()
	folder, err := store.In(dir)
	require.NoError(t, err)
	second := w.deviceIn(folder)
	laptop := w.join(second, desk)
	kept := w.save(laptop, "Kept", "pw", desk)
	w.inStep(desk, laptop)

	w.down.Store(true)
	lost := records.NewID()
	require.NoError(t, laptop.Items.Save(t.Context(), lost, login("On the laptop only", "pw")))
	u, err := laptop.Unsent(t.Context())
	require.NoError(t, err)
	assert.Equal(t, app.Unsent{Records: 1}, u)
	require.Error(t, laptop.TakeOff(t.Context(), secret.New("not it"), true))
	require.ErrorIs(t, laptop.TakeOff(t.Context(), secret.New(master), false), app.ErrWouldLose)
	assert.True(t, holds(laptop, lost)(), "it is there as before")
	w.down.Store(false)
	laptop.Sync.Nudge()
	soon(t, "it is sent", holds(desk, lost))
	w.inStep(desk, laptop)

	p := laptop.Profile()
	require.NoError(t, laptop.TakeOff(t.Context(), secret.New(master), false))
	list, err := second.Profiles(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	_, err = second.Unlock(t.Context(), p.ID, secret.New(master))
	require.ErrorIs(t, err, app.ErrNoProfile)
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	for _, f := range files {
		assert.NotContains(t, f, p.ID, "nothing of it is left")
	}
	soon(t, "the desk knows", func() bool {
		e, err := desk.Items.Entry(p.Device)
		return err == nil && e.Text(vault.FieldOut) != ""
	})
	assert.True(t, holds(desk, kept)())
	again := w.join(second, desk)
	assert.True(t, holds(again, kept)() && holds(again, lost)(), "and it can be brought back")
}

// The program ends between destroying the keys and removing the file: it goes on with that at its next start.
func TestTakingOffGoesOn(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	folder, err := store.In(dir)
	require.NoError(t, err)
	d := newWorld(t).deviceIn(folder)
	typed := secret.New(master)
	v, err := d.Create(t.Context(), app.NewVault{Email: email, Password: typed, Repeat: typed})
	require.NoError(t, err)
	u, err := v.Unsent(t.Context())
	require.NoError(t, err)
	assert.True(t, u.Everything)
	id := v.Profile().ID
	v.Lock()
	s, err := folder.Open(t.Context(), id)
	require.NoError(t, err)
	p, err := s.Profile(t.Context())
	require.NoError(t, err)
	p.Leaving, p.Wrapped, p.Ring, p.Carried = true, nil, nil, nil
	require.NoError(t, s.SetProfile(t.Context(), p))
	require.NoError(t, s.Close())
	list, err := d.Profiles(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	_, err = os.Stat(filepath.Join(dir, id+".vault"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestRenaming(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	second := w.device("laptop")
	laptop := w.join(second, desk)
	w.inStep(desk, laptop)
	require.Error(t, desk.Account.Rename(t.Context(), "  "))
	require.Error(t, desk.Account.Rename(t.Context(), strings.Repeat("x", 81)))
	require.NoError(t, desk.Account.Rename(t.Context(), " Maren of the Quay "))
	assert.Equal(t, "Maren of the Quay", desk.Profile().Name)
	soon(t, "the laptop says it, too", func() bool { return laptop.Profile().Name == "Maren of the Quay" })
	list, err := second.Profiles(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "Maren of the Quay", list[0].Name)
}

func TestTheDoorIsOfThisComputer(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	require.Error(t, desk.Account.SetDoor(t.Context(), app.Door{Line: strings.Repeat("é", 81)}))
	require.Error(t, desk.Account.SetDoor(t.Context(), app.Door{Colour: `x"><b>`}))
	is := app.Door{Line: "Mind the third step", Colour: "sea"}
	require.NoError(t, desk.Account.SetDoor(t.Context(), app.Door{Line: " Mind the\nthird  step ", Colour: "sea"}))
	w.inStep(desk, laptop)
	assert.Equal(t, is, desk.Profile().Door)
	assert.Empty(t, laptop.Profile().Door)
}

// A year after it was made or tried the sheet is asked for, on every device, and not again once two groups were right.
func TestTheSheetIsTriedOnceAYear(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	sheet, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	laptop := w.join(w.device("laptop"), desk)
	w.inStep(desk, laptop)
	assert.False(t, laptop.Sheets.Due(t.Context()))
	w.now.Add((366 * 24 * time.Hour).Milliseconds())
	assert.True(t, laptop.Sheets.Due(t.Context()))
	assert.False(t, desk.Sheets.Due(t.Context()), "there it was never checked, and that is said already")
	group := func(n int) app.Group { return app.Group{Number: n, Text: strings.ToLower(sheet.Carried[n-1])} }
	for name, typed := range map[string][2]app.Group{
		"the same twice": {group(3), group(3)}, "a wrong one": {group(3), {Number: 4, Text: sheet.Carried[4]}},
		"no group": {{Number: 0, Text: ""}, group(2)}, "none there is": {{Number: 9, Text: ""}, group(2)},
	} {
		require.Error(t, laptop.Sheets.Try(t.Context(), typed[0], typed[1]), name)
	}
	assert.True(t, laptop.Sheets.Due(t.Context()))
	require.NoError(t, laptop.Sheets.Try(t.Context(), group(3), group(7)))
	assert.False(t, laptop.Sheets.Due(t.Context()))
	w.now.Add((366 * 24 * time.Hour).Milliseconds())
	assert.True(t, laptop.Sheets.Due(t.Context()), "the next year again")
}

func TestTheFirstDay(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	assert.Equal(t, app.FirstDone, v.Account.FirstDay(t.Context()).Now, "nobody asked for it")

	v, err := d.Create(t.Context(), app.NewVault{
		Email: "wren@cormorant.example", Password: secret.New(master), Repeat: secret.New(master), FirstDay: true,
	})
	require.NoError(t, err)
	pass := func(step app.FirstStep, left bool) app.FirstStep {
		next, err := v.Account.PassStep(t.Context(), step, left)
		require.NoError(t, err)
		return next
	}
	assert.Equal(t, app.FirstSheet, pass(app.FirstFiles, true), "out of turn, nothing is passed")
	assert.Equal(t, app.FirstBrowser, pass(app.FirstSheet, true))
	assert.Equal(t, app.FirstFiles, pass(app.FirstBrowser, false))
	v.Lock()
	v, err = d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	assert.Equal(t, app.FirstFiles, v.Account.FirstDay(t.Context()).Now, "it goes on where it was")
	assert.Equal(t, app.FirstFiles, pass(app.FirstBrowser, false), "a step that is passed isn't passed again")
	assert.True(t, v.Account.FirstDay(t.Context()).HasLeft(app.FirstSheet))
	assert.Equal(t, app.FirstFiles, pass(app.FirstSheet, false), "done later")
	assert.False(t, v.Account.FirstDay(t.Context()).HasLeft(app.FirstSheet))
	assert.Equal(t, app.FirstDone, pass(app.FirstFiles, false))
	assert.Equal(t, app.FirstDone, pass("party", false), "no such step")
}

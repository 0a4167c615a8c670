package app_test

import (
	"crypto/rand"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/cloudclient"
	"redlocket/app/store"
	"redlocket/core/keys"
	"redlocket/core/secret"
)

var (
	thumbID = []byte("thumb")
	thumb   = [keys.PRFSize]byte{1, 2, 3}
)

func setUp(t testing.TB, v *app.Vault) {
	u := app.PlatformUnlock{ID: thumbID, Credential: []byte("{}")}
	require.NoError(t, v.Authenticators.Add(t.Context(), secret.New(master), u, thumb))
}

// byThumb locks a vault and opens it by the authenticator.
func byThumb(t testing.TB, d *app.Device, v *app.Vault) (*app.Vault, error) {
	v.Lock()
	return d.UnlockByPlatform(t.Context(), v.Profile().ID, thumbID, []byte("{}"), thumb)
}

func TestOpeningByAnAuthenticator(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	id := v.Profile().ID
	kept := w.save(v, "Kept", "pw")
	_, err := byThumb(t, d, v)
	require.ErrorIs(t, err, app.ErrMasterDue, "nothing is set up, and no master password was typed")
	v, err = d.Unlock(t.Context(), id, secret.New(master))
	require.NoError(t, err)
	add := func(id []byte, prf [keys.PRFSize]byte) error {
		return v.Authenticators.Add(t.Context(), secret.New(master), app.PlatformUnlock{ID: id}, prf)
	}
	require.Error(t, add(thumbID, [keys.PRFSize]byte{}))
	setUp(t, v)
	require.Error(t, add(thumbID, thumb), "it is there already")
	v, err = byThumb(t, d, v)
	require.NoError(t, err)
	assert.True(t, holds(v, kept)())

	v.Lock()
	for name, c := range map[string]struct {
		id  []byte
		prf [keys.PRFSize]byte
	}{
		"another finger": {thumbID, [keys.PRFSize]byte{9}}, "nothing": {thumbID, [keys.PRFSize]byte{}},
		"another credential": {[]byte("index"), thumb},
	} {
		_, err := d.UnlockByPlatform(t.Context(), id, c.id, nil, c.prf)
		require.ErrorIs(t, err, app.ErrPlatform, name)
	}
	_, err = d.UnlockByPlatform(t.Context(), "0197f3a2-0000-7000-8000-000000000001", thumbID, nil, thumb)
	require.ErrorIs(t, err, app.ErrNoProfile)

	v, err = d.Unlock(t.Context(), id, secret.New(master))
	require.NoError(t, err)
	require.ErrorIs(t, v.Authenticators.Given(thumbID, [keys.PRFSize]byte{9}), app.ErrPlatform)
	require.NoError(t, v.Authenticators.Given(thumbID, thumb))
	require.NoError(t, v.Authenticators.End(t.Context(), thumbID))
	require.Error(t, v.Authenticators.End(t.Context(), thumbID))
	_, err = byThumb(t, d, v)
	require.ErrorIs(t, err, app.ErrPlatform, "it was ended")
	for i := range 8 {
		v, err = d.Unlock(t.Context(), id, secret.New(master))
		require.NoError(t, err)
		require.NoError(t, add(fmt.Append(nil, i), thumb))
	}
	require.Error(t, add(thumbID, thumb), "eight are enough")
}

// The vault's key is rotated, by this device, by another one, and while this one is locked; the master password is
// changed elsewhere, and set anew by the sheet: the authenticator opens the vault as before, and everything in it.
func TestAnAuthenticatorOpensWhatComesAfter(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	desk := w.create(d)
	sheet, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	laptop := w.join(w.device("laptop"), desk)
	w.inStep(desk, laptop)
	setUp(t, desk)
	require.NoError(t, desk.Epochs.Publish(t.Context(), secret.New(master)))
	one := w.save(desk, "After its own", "pw", laptop)
	desk, err = byThumb(t, d, desk)
	require.NoError(t, err)
	assert.True(t, holds(desk, one)())
	assert.Empty(t, desk.Replica.Damaged())

	require.NoError(t, laptop.Epochs.Publish(t.Context(), secret.New(master)))
	two := w.save(laptop, "After another's", "pw", desk)
	desk, err = byThumb(t, d, desk)
	require.NoError(t, err)
	assert.True(t, holds(desk, two)())

	desk.Lock()
	require.NoError(t, laptop.Epochs.Publish(t.Context(), secret.New(master)))
	const other = "a patient tide comes back"
	fresh := secret.New(other)
	require.NoError(t, laptop.Account.ChangeMaster(t.Context(), secret.New(master), fresh, fresh))
	three := w.save(laptop, "While it was locked", "pw")
	desk, err = byThumb(t, d, desk)
	require.NoError(t, err)
	soon(t, "it catches up", holds(desk, three))
	w.inStep(desk, laptop)
	desk, err = byThumb(t, d, desk)
	require.NoError(t, err)
	assert.True(t, holds(desk, three)())
	assert.Empty(t, desk.Replica.Damaged())

	code := ""
	for _, g := range sheet.Recovery {
		code += g
	}
	desk, err = d.Recover(t.Context(), desk.Profile().ID, code, secret.New(master), secret.New(master))
	require.NoError(t, err)
	desk, err = byThumb(t, d, desk)
	require.NoError(t, err)
	assert.True(t, holds(desk, one)() && holds(desk, two)() && holds(desk, three)())
}

// The master password is asked for all the same: after days, after a start of the computer if its user wants that, and
// when the computer's clock was set back.
func TestTheMasterPasswordAllTheSame(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	now := time.Now()
	var open *app.Device
	device := func(boot string) *app.Device {
		if open != nil {
			require.NoError(t, open.Close())
		}
		f, err := store.In(dir)
		require.NoError(t, err)
		open = app.New(app.Ports{
			Stores: f, Dial: cloudclient.Dial, Rand: rand.Reader, Platform: "test", Boot: boot,
			Now: func() time.Time { return now },
		})
		return open
	}
	d := device("monday")
	defer func() { assert.NoError(t, open.Close()) }()
	typed := secret.New(master)
	v, err := d.Create(t.Context(), app.NewVault{Email: email, Password: typed, Repeat: typed})
	require.NoError(t, err)
	id := v.Profile().ID
	setUp(t, v)
	opens := func(want error, why string) {
		t.Helper()
		list, err := d.PlatformUnlocks(t.Context(), id)
		require.ErrorIs(t, err, want, why)
		assert.Len(t, list, 1)
		v, err := d.UnlockByPlatform(t.Context(), id, thumbID, []byte("{}"), thumb)
		require.ErrorIs(t, err, want, why)
		if err == nil {
			v.Lock()
		}
	}
	master := func() *app.Vault {
		v, err := d.Unlock(t.Context(), id, secret.New(master))
		require.NoError(t, err)
		return v
	}
	v.Lock()
	opens(nil, "at once")
	now = now.Add(14*24*time.Hour - time.Minute)
	opens(nil, "after nearly fourteen days")
	now = now.Add(2 * time.Minute)
	opens(app.ErrMasterDue, "after fourteen days")
	d = device("tuesday")
	v = master()
	require.Error(t, v.Authenticators.SetMasterRule(t.Context(), 0, false))
	require.Error(t, v.Authenticators.SetMasterRule(t.Context(), 91, false))
	require.NoError(t, v.Authenticators.SetMasterRule(t.Context(), 1, true))
	v.Lock()
	opens(nil, "it was typed")
	d = device("tuesday")
	opens(nil, "another start of the program, not of the computer")
	d = device("wednesday")
	opens(app.ErrMasterDue, "another start of the computer")
	master().Lock()
	opens(nil, "typed again")
	now = now.Add(-time.Hour)
	opens(app.ErrMasterDue, "the clock went back")
	now = now.Add(26 * time.Hour)
	opens(app.ErrMasterDue, "after a day")
}

// It is offered once, after the second opening.
func TestAnAuthenticatorIsOfferedOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	id := v.Profile().ID
	for n := range 2 {
		assert.False(t, v.Authenticators.Offers(), n)
		v.Lock()
		var err error
		v, err = d.Unlock(t.Context(), id, secret.New(master))
		require.NoError(t, err)
	}
	assert.True(t, v.Authenticators.Offers())
	require.NoError(t, v.Authenticators.AnswerOffer(t.Context()))
	assert.False(t, v.Authenticators.Offers())
}

package app_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/wire"
)

const remembered = "winkle oar tide lamp"

// ask has a new master password wait.
func ask(t *testing.T, v *app.Vault) {
	t.Helper()
	fresh := secret.New(remembered)
	require.NoError(t, v.ForgottenMaster.Ask(t.Context(), thumbID, thumb, fresh, fresh))
}

func waits(t *testing.T, v *app.Vault) app.NewMaster {
	t.Helper()
	n, err := v.ForgottenMaster.State(t.Context())
	require.NoError(t, err)
	return n
}

func opens(t *testing.T, d *app.Device, v *app.Vault, password string) bool {
	t.Helper()
	v.Lock()
	_, err := d.Unlock(t.Context(), v.Profile().ID, secret.New(password))
	return err == nil
}

func TestAForgottenMasterPassword(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d, second := w.device("desk"), w.device("laptop")
	desk := w.create(d)
	laptop := w.join(second, desk)
	kept := w.save(desk, "Kept", "pw")
	w.inStep(desk, laptop)
	setUp(t, desk)
	require.Error(t, desk.ForgottenMaster.Ask(t.Context(), thumbID, [keys.PRFSize]byte{9}, secret.New(remembered),
		secret.New(remembered)), "another finger")
	require.Error(t, desk.ForgottenMaster.Ask(t.Context(), thumbID, thumb, secret.New("short"), secret.New("short")))
	require.Error(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb), "nothing waits")
	assert.False(t, waits(t, laptop).Waits)

	ask(t, desk)
	n := waits(t, desk)
	assert.True(t, n.Waits && n.Here && !n.Ready())
	assert.InDelta(t, 60, n.Left.Minutes(), 1, "an hour")
	n = waits(t, laptop)
	assert.True(t, n.Waits && !n.Here, "the other device sees it")
	assert.Equal(t, "desk", n.Device)
	require.ErrorIs(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb), syncing.ErrEarly)
	w.now.Add((2 * time.Hour).Milliseconds())
	require.ErrorIs(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb), syncing.ErrEarly,
		"the clock of the device has no say")

	require.NoError(t, laptop.ForgottenMaster.Stop(t.Context()))
	assert.False(t, waits(t, desk).Waits)
	require.Error(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb), "any device stops it")

	w.cloud.LateWait = 0
	ask(t, desk)
	assert.True(t, waits(t, desk).Ready())
	require.Error(t, desk.ForgottenMaster.Take(t.Context(), thumbID, [keys.PRFSize]byte{9}), "another finger")
	require.NoError(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb))
	assert.False(t, waits(t, laptop).Waits)
	require.False(t, opens(t, d, desk, master), "the forgotten one opens nothing any more")
	desk, err := d.Unlock(t.Context(), desk.Profile().ID, secret.New(remembered))
	require.NoError(t, err)
	assert.True(t, holds(desk, kept)())
	w.inStep(desk, laptop)
	soon(t, "the laptop hears of it", func() bool { return laptop.Profile().CardAt == desk.Profile().CardAt })
	assert.True(t, opens(t, second, laptop, remembered))
	sheet, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	third, err := w.device("attic").Join(t.Context(), app.Join{
		Email: email, Cloud: w.url, Password: secret.New(remembered), Carried: strings.Join(sheet.Carried, "-"),
	})
	require.NoError(t, err, "a new device joins by the new one")
	soon(t, "it has everything", holds(third, kept))
}

// Another master password, another key and being shut out each end what waits.
func TestWhatEndsAForgottenMasterPassword(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.cloud.LateWait = 0
	d, second := w.device("desk"), w.device("laptop")
	desk := w.create(d)
	laptop := w.join(second, desk)
	setUp(t, desk)
	for name, end := range map[string]func(){
		"it is changed on another device": func() {
			require.NoError(t, laptop.Account.ChangeMaster(t.Context(), secret.New(master), secret.New(remembered),
				secret.New(remembered)))
			require.NoError(t, laptop.Account.ChangeMaster(t.Context(), secret.New(remembered), secret.New(master),
				secret.New(master)))
			w.inStep(desk, laptop)
			soon(t, "the desk hears of it", func() bool { return desk.Profile().CardAt == laptop.Profile().CardAt })
		},
		"the vault gets another key": func() {
			require.NoError(t, laptop.Epochs.Publish(t.Context(), secret.New(master)))
			w.inStep(desk, laptop)
		},
	} {
		ask(t, desk)
		end()
		require.Error(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb), name)
		assert.False(t, waits(t, laptop).Waits, name)
		require.True(t, opens(t, second, laptop, master), name)
		laptop, _ = second.Vault(laptop.Profile().ID)
		require.True(t, opens(t, d, desk, master), name)
		desk, _ = d.Vault(desk.Profile().ID)
		require.NoError(t, desk.Authenticators.End(t.Context(), thumbID))
		setUp(t, desk) // known to the cloud, under the present key
	}
	ask(t, desk)
	require.NoError(t, laptop.Epochs.ShutOut(t.Context(), desk.Profile().Device, secret.New(master)))
	require.Error(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb), "shut out")
	assert.False(t, waits(t, laptop).Waits)
}

// An answer that was lost can be asked for again.
func TestALostAnswerToANewMasterPassword(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.cloud.LateWait = 0
	d := w.device("desk")
	desk := w.create(d)
	setUp(t, desk)
	ask(t, desk)
	lost := func(rw http.ResponseWriter, r *http.Request, c http.Handler) {
		if r.URL.Path != "/v1/late/take" {
			c.ServeHTTP(rw, r)
			return
		}
		c.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	}
	w.between.Store(&lost)
	require.Error(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb))
	w.between.Store(nil)
	require.NoError(t, desk.ForgottenMaster.Take(t.Context(), thumbID, thumb))
	assert.True(t, opens(t, d, desk, remembered))
}

func TestAForgottenMasterPasswordWithoutACloud(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v, err := d.Create(
		t.Context(), app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(t, err)
	setUp(t, v)
	ask(t, v)
	require.ErrorIs(t, v.ForgottenMaster.Take(t.Context(), thumbID, thumb), syncing.ErrEarly)
	w.now.Add((61 * time.Minute).Milliseconds())
	v, err = byThumb(t, d, v)
	require.NoError(t, err)
	require.NoError(t, v.ForgottenMaster.Take(t.Context(), thumbID, thumb))
	require.False(t, opens(t, d, v, master))
	v, err = d.Unlock(t.Context(), v.Profile().ID, secret.New(remembered))
	require.NoError(t, err)
	require.NoError(t, v.Account.JoinCloud(t.Context(), w.url, wire.Admission{}), "with the new one's key")
	w.inStep(v)
	joined := w.device("laptop")
	sheet, err := v.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	_, err = joined.Join(t.Context(), app.Join{
		Email: email, Cloud: w.url, Password: secret.New(remembered), Carried: strings.Join(sheet.Carried, "-"),
	})
	require.NoError(t, err)
}

// With the sheet's recovery code and the e-mail address alone, on a computer that never had the vault.
func TestRecoveringOnAnEmptyComputer(t *testing.T) {
	t.Parallel()
	for name, turn := range map[string]bool{"as it was made": false, "after a device was shut out": true} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			first := w.device("desk")
			desk := w.create(first)
			sheet, err := desk.Sheets.Sheet(t.Context())
			require.NoError(t, err)
			kept := w.save(desk, "Kept", "pw")
			if turn {
				lost := w.join(w.device("lost"), desk)
				w.inStep(desk, lost)
				require.NoError(t, desk.Epochs.ShutOut(t.Context(), lost.Profile().Device, secret.New(master)))
			}
			w.inStep(desk)
			fresh := w.device("new")
			try := func(change func(*app.Recovery)) (*app.Vault, error) {
				r := app.Recovery{
					Email: strings.ToUpper(email), Cloud: w.url, Code: strings.Join(sheet.Recovery, " "),
					Password: secret.New(remembered), Repeat: secret.New(remembered), DeviceName: "new",
				}
				if change != nil {
					change(&r)
				}
				return fresh.RecoverHere(t.Context(), r)
			}
			for what, change := range map[string]func(*app.Recovery){
				"another code":     func(r *app.Recovery) { r.Code = strings.Join(sheet.Carried, " ") },
				"another address":  func(r *app.Recovery) { r.Email = "wren@cormorant.example" },
				"a weak password":  func(r *app.Recovery) { r.Password, r.Repeat = secret.New("short"), secret.New("short") },
				"typed two ways":   func(r *app.Recovery) { r.Repeat = secret.New(master) },
				"no cloud there":   func(r *app.Recovery) { r.Cloud = "http://127.0.0.1:1" },
				"no address of it": func(r *app.Recovery) { r.Cloud = "" },
			} {
				_, err := try(change)
				require.Error(t, err, what)
			}
			list, err := fresh.Profiles(t.Context())
			require.NoError(t, err)
			assert.Empty(t, list, "nothing is left of what failed")
			v, err := try(nil)
			require.NoError(t, err)
			assert.True(t, holds(v, kept)())
			_, err = try(nil)
			require.Error(t, err, "it is here already")
			was, err := desk.Sheets.Sheet(t.Context())
			require.NoError(t, err)
			now, err := v.Sheets.Sheet(t.Context())
			require.NoError(t, err)
			assert.Equal(t, was.Carried, now.Carried, "the carried half that is in force")
			later := w.save(v, "Later", "pw")
			w.inStep(v)
			_, err = fresh.Unlock(t.Context(), v.Profile().ID, secret.New(remembered))
			require.NoError(t, err)
			join := app.Join{
				Email: email, Cloud: w.url, Password: secret.New(master), Carried: strings.Join(now.Carried, "-"),
			}
			_, err = w.device("third").Join(t.Context(), join)
			require.Error(t, err, "the forgotten one signs in no more")
			join.Password = secret.New(remembered)
			third, err := w.device("fourth").Join(t.Context(), join)
			require.NoError(t, err)
			soon(t, "with everything", holds(third, later))
			require.NoError(t, desk.Account.SignInAgain(t.Context(), secret.New(remembered), ""))
			soon(t, "and the old computer, too", holds(desk, later))
		})
	}
}

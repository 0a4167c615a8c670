package app_test

import (
	"bytes"
	"context"
	"crypto/hpke"
	"crypto/rand"
	"encoding/json"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/cloudclient"
	"redlocket/app/filling"
	"redlocket/app/gate"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/app/syncing"
	"redlocket/cloud"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

const (
	email  = "maren.tolliver@cormorant.example"
	master = "kelp ferry lantern forty"
)

// world is a cloud and as many devices as a test wants.
type world struct {
	t     testing.TB
	cloud *cloud.Server
	file  string // the cloud's database
	url   string
	down  atomic.Bool
	// between, if set, sees every request on its way to the cloud.
	between atomic.Pointer[func(http.ResponseWriter, *http.Request, http.Handler)]
	now     atomic.Int64  // milliseconds added to the clock
	served  sync.RWMutex  // read while the cloud answers a request
	sites   filling.Asker // what sites publish; nil for no network
	devices int           // how many were started
}

func newWorld(t testing.TB) *world {
	w := &world{t: t, file: filepath.Join(t.TempDir(), "cloud.db")}
	w.startCloud()
	srv := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		w.served.RLock()
		defer w.served.RUnlock()
		if w.down.Load() {
			conn, _, err := http.NewResponseController(rw).Hijack()
			if err == nil {
				conn.Close()
			}
			return
		}
		if f := w.between.Load(); f != nil {
			(*f)(rw, r, w.cloud)
			return
		}
		w.cloud.ServeHTTP(rw, r)
	}))
	w.url = srv.URL
	t.Cleanup(func() {
		w.cloud.EndStreams()
		srv.CloseClientConnections()
		srv.Close()
		assert.NoError(t, w.cloud.Close())
	})
	return w
}

func (w *world) startCloud() {
	var err error
	w.cloud, err = cloud.New(
		w.t.Context(), w.file, cloud.Limits{PerAccount: 1 << 20, PerAddress: 1 << 20, Window: time.Minute},
		slog.New(slog.NewTextHandler(io.Discard, nil)),
	)
	require.NoError(w.t, err)
}

// setQuota has the cloud give another room to each account, between two requests.
func (w *world) setQuota(q cloud.Quota) {
	w.cloud.EndStreams()
	w.served.Lock()
	defer w.served.Unlock()
	w.cloud.SetQuota(q)
}

// backup copies the cloud's database while it runs.
func (w *world) backup() (file string) {
	file = filepath.Join(w.t.TempDir(), "backup.db")
	require.NoError(w.t, cloud.Backup(w.t.Context(), w.file, file))
	return file
}

// setBack has the cloud lose what came after a backup of it.
func (w *world) setBack(from string) {
	w.down.Store(true)
	w.cloud.EndStreams()
	w.served.Lock() // a request under way would write to the database after it was replaced
	defer w.served.Unlock()
	require.NoError(w.t, w.cloud.Close())
	for _, tail := range []string{"-wal", "-shm"} {
		if err := os.Remove(w.file + tail); err != nil {
			require.ErrorIs(w.t, err, fs.ErrNotExist)
		}
	}
	b, err := os.ReadFile(from)
	require.NoError(w.t, err)
	require.NoError(w.t, os.WriteFile(w.file, b, 0o600))
	w.startCloud()
	w.down.Store(false)
}

func (w *world) device(name string) *app.Device {
	f, err := store.In(filepath.Join(w.t.TempDir(), name))
	require.NoError(w.t, err)
	return w.deviceIn(f)
}

// hurried reports whether this is the fast check: ./test, where it is short itself, asks for journeys by
// REDLOCKET_JOURNEYS.
func hurried() bool { return testing.Short() && os.Getenv("REDLOCKET_JOURNEYS") == "" }

// deviceIn starts a device in a folder. What takes several of them is a journey: the fast check leaves it to ./test.
func (w *world) deviceIn(f *store.Folder) *app.Device {
	if w.devices++; w.devices > 1 && hurried() {
		w.t.Skip("a journey of several devices")
	}
	d := app.New(app.Ports{Stores: f, Dial: cloudclient.Dial, Rand: rand.Reader, Platform: "test", Sites: w.sites,
		Seeking: f.Seeking(), Now: w.clock})
	w.t.Cleanup(func() { assert.NoError(w.t, d.Close()) })
	return d
}

func (w *world) clock() time.Time {
	return time.Now().Add(time.Duration(w.now.Load()) * time.Millisecond)
}

func (w *world) create(d *app.Device) *app.Vault { return w.createFor(d, "Maren Tolliver", email) }

// createFor makes the vault of somebody.
func (w *world) createFor(d *app.Device, name, email string) *app.Vault {
	v, err := d.Create(
		w.t.Context(),
		app.NewVault{
			Name:       name,
			Email:      email,
			Password:   secret.New(master),
			Repeat:     secret.New(master),
			Cloud:      w.url,
			DeviceName: "desk",
		},
	)
	require.NoError(w.t, err)
	return v
}

func (w *world) join(d *app.Device, v *app.Vault) *app.Vault {
	sheet, err := v.Sheets.Sheet(w.t.Context())
	require.NoError(w.t, err)
	w.inStep(v)
	out, err := d.Join(
		w.t.Context(),
		app.Join{
			Email:      email,
			Cloud:      w.url,
			Password:   secret.New(master),
			Carried:    strings.Join(sheet.Carried, "-"),
			DeviceName: "laptop",
		},
	)
	require.NoError(w.t, err)
	return out
}

func (w *world) inStep(vs ...*app.Vault) {
	w.t.Helper()
	require.Eventually(w.t, func() bool {
		first, _ := vs[0].Replica.Checkpoint()
		for _, v := range vs {
			if s := v.Sync.Status(); s.State != syncing.InStep || s.Waiting > 0 {
				return false
			}
			if at, err := v.Replica.Checkpoint(); err != nil || at.Head != first.Head {
				return false
			}
		}
		return true
	}, patience, 5*time.Millisecond, "not in step")
}

func login(title, password string) vault.Changes {
	return vault.Draft{
		Title:     title,
		Username:  "mtolliver",
		Password:  secret.New(password),
		Addresses: []vault.Address{{URL: "https://" + strings.ToLower(title) + ".example/"}},
	}.Changes()
}

func password(t *testing.T, v *app.Vault, id string) string {
	e, err := v.Items.Entry(id)
	require.NoError(t, err)
	return e.Text(vault.FieldPassword)
}

func TestALoginTravels(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	id := records.NewID()
	require.NoError(t, desk.Items.Save(t.Context(), id, login("Ferrylink", "pw-1")))
	require.Eventually(
		t,
		func() bool { _, err := laptop.Items.Entry(id); return err == nil },
		5*time.Second,
		time.Millisecond,
	)
	assert.Equal(t, "pw-1", password(t, laptop, id))
	assert.Equal(t, desk.Profile().Seed, laptop.Profile().Seed, "the medallion is the same on both")
	assert.Equal(t, "Maren Tolliver", laptop.Profile().Name)

	w.inStep(desk, laptop)
	require.Eventually(t, func() bool { // the laptop's own record comes with the next pull
		list, _, err := desk.Account.Devices(t.Context())
		return err == nil && len(list) == 2
	}, patience, 5*time.Millisecond)
	list, away, err := desk.Account.Devices(t.Context())
	require.NoError(t, err)
	assert.False(t, away)
	require.Len(t, list, 2)
	assert.Equal(t, "desk", list[0].Name)
	assert.True(t, list[1].SignedIn)

	require.NoError(t, desk.Epochs.ShutOut(t.Context(), list[1].ID, secret.New(master)))
	require.NoError(t, desk.Items.Save(t.Context(), id, vault.Changes{vault.FieldNotes: "after"}))
	require.Eventually(
		t,
		func() bool { return laptop.Sync.Status().State == syncing.Ended },
		5*time.Second,
		time.Millisecond,
	)
}

func TestOfflineEditsMergeAndBothPasswordsStay(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	id := records.NewID()
	require.NoError(t, desk.Items.Save(t.Context(), id, login("Brackish", "old")))
	require.Eventually(
		t,
		func() bool { _, err := laptop.Items.Entry(id); return err == nil },
		5*time.Second,
		time.Millisecond,
	)
	w.inStep(desk, laptop)

	w.down.Store(true)
	require.NoError(
		t,
		desk.Items.Save(
			t.Context(),
			id,
			vault.Changes{vault.FieldPassword: secret.New("from desk"), vault.FieldNotes: "desk's note"},
		),
	)
	require.NoError(
		t,
		laptop.Items.Save(
			t.Context(),
			id,
			vault.Changes{vault.FieldPassword: secret.New("from laptop"), vault.FieldTitle: "Brackish Radio"},
		),
	)
	require.Eventually(t, func() bool {
		return desk.Sync.Status().State == syncing.Away && laptop.Sync.Status().State == syncing.Away
	}, patience, time.Millisecond)
	assert.Equal(t, 1, desk.Sync.Status().Waiting)
	w.down.Store(false)

	require.Eventually(t, func() bool {
		a, _ := desk.Items.Entry(id)
		b, _ := laptop.Items.Entry(id)
		x, _ := a.Encode()
		y, _ := b.Encode()
		return string(x) == string(y) && a.Text(vault.FieldTitle) == "Brackish Radio"
	}, patience, 5*time.Millisecond)
	e, err := desk.Items.Entry(id)
	require.NoError(t, err)
	assert.Equal(t, "desk's note", e.Text(vault.FieldNotes))
	require.Len(t, e.Conflicts(), 1)
	both := e.Text(vault.FieldPassword) + e.Conflicts()[0].Value.Reveal()
	assert.Contains(t, both, "from desk")
	assert.Contains(t, both, "from laptop")

	require.NoError(t, laptop.Items.Resolve(t.Context(), id, secret.New("from desk")))
	require.Eventually(
		t,
		func() bool { e, _ := desk.Items.Entry(id); return len(e.Conflicts()) == 0 },
		5*time.Second,
		time.Millisecond,
	)
	assert.Equal(t, "from desk", password(t, desk, id))
}

func TestUnlockAndLock(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	folder, err := store.In(t.TempDir())
	require.NoError(t, err)
	d := w.deviceIn(folder)
	v := w.create(d)
	id := records.NewID()
	require.NoError(t, v.Items.Save(t.Context(), id, login("Lanternfish", "pw")))
	notices, end := v.Listen()
	defer end()
	v.Lock()
	require.Eventually(t, func() bool { return (<-notices).Kind == app.NoticeLocked }, time.Second, time.Millisecond)
	_, err = v.Items.Entry(id)
	assert.ErrorIs(t, err, gate.ErrLocked)
	assert.ErrorIs(t, v.Items.Save(t.Context(), id, login("x", "y")), gate.ErrLocked)

	profile := v.Profile().ID
	for range 3 {
		_, err = d.Unlock(t.Context(), profile, secret.New("wrong password"))
		var wrong *app.WrongPassword
		require.ErrorAs(t, err, &wrong)
	}
	_, err = d.Unlock(t.Context(), profile, secret.New(master))
	assert.ErrorContains(t, err, "wait", "even the right one has to wait now")
	w.now.Add(3000)
	again, err := d.Unlock(t.Context(), profile, secret.New(master))
	require.NoError(t, err)
	assert.Equal(t, "pw", password(t, again, id))

	// Another process on the same files: what was acknowledged is there.
	require.NoError(t, d.Close())
	third, err := w.deviceIn(folder).Unlock(t.Context(), profile, secret.New(master))
	require.NoError(t, err)
	assert.Equal(t, "pw", password(t, third, id))
}

func TestIdleAndSleepLock(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	set := v.Settings.Get()
	set.LockAfter = time.Hour
	require.NoError(t, v.Settings.Change(t.Context(), set))
	set.LockAfter = 2 * time.Second
	assert.Error(t, v.Settings.Change(t.Context(), set))
	d.LookNow(false)
	assert.False(t, v.Locked())
	w.now.Add((59 * time.Minute).Milliseconds())
	v.Touch()
	w.now.Add((59 * time.Minute).Milliseconds())
	d.LookNow(false)
	assert.False(t, v.Locked(), "it was used meanwhile")
	w.now.Add((2 * time.Minute).Milliseconds())
	d.LookNow(false)
	assert.True(t, v.Locked(), "an hour without use")

	v, err := d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	d.LookNow(true)
	assert.True(t, v.Locked(), "the clock jumped: the computer slept")
}

func TestTheSessionLocks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	again := func() {
		require.True(t, v.Locked())
		var err error
		v, err = d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
		require.NoError(t, err)
	}
	d.ScreenLocked()
	again()
	d.Sleeping()
	again()
	set := v.Settings.Get()
	set.LockOnScreen, set.LockOnSleep = false, false
	require.NoError(t, v.Settings.Change(t.Context(), set))
	d.ScreenLocked()
	d.Sleeping()
	assert.False(t, v.Locked(), "its user doesn't want it")

	_, err := set.For("library")
	require.Error(t, err)
	assert.Empty(t, set.Computer(), "set otherwise")
	for _, c := range []string{app.SharedComputer, app.PrivateComputer} {
		to, err := v.Settings.Get().For(c)
		require.NoError(t, err)
		require.NoError(t, v.Settings.Change(t.Context(), to))
		assert.Equal(t, c, v.Settings.Get().Computer())
		assert.Equal(t, c == app.SharedComputer, v.Settings.Get().SignOut)
		assert.True(t, v.Settings.Get().LockOnScreen)
	}
}

func TestRecoverySheet(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	sheet, err := v.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	require.True(t, v.Sheets.Waits(t.Context()))
	assert.Error(t, v.Sheets.Check(t.Context(), app.TypedSheet{
		CarriedGroup: 1, Carried: "00000", RecoveryGroup: 2, Recovery: sheet.Recovery[1],
	}))
	require.NoError(t, v.Sheets.Check(t.Context(), app.TypedSheet{
		CarriedGroup: 3, Carried: strings.ToLower(sheet.Carried[2]), RecoveryGroup: 8, Recovery: sheet.Recovery[7],
	}))
	assert.False(t, v.Sheets.Waits(t.Context()))
	after, err := v.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	assert.Empty(t, after.Recovery, "nobody can print it again")

	laptop := w.join(w.device("laptop"), v)
	w.inStep(v, laptop)
	profile := v.Profile().ID
	fresh := secret.New("a patient tide comes back")
	other, err := d.Recover(t.Context(), profile, strings.Join(sheet.Carried, ""), fresh, fresh)
	require.Error(t, err, "the carried half is not the recovery code")
	require.Nil(t, other)
	back, err := d.Recover(t.Context(), profile, strings.Join(sheet.Recovery, " "), fresh, fresh)
	require.NoError(t, err)
	w.inStep(back)
	back.Lock()
	_, err = d.Unlock(t.Context(), profile, secret.New(master))
	assert.Error(t, err, "the old master password is no longer good")
	_, err = d.Unlock(t.Context(), profile, fresh)
	require.NoError(t, err)
	laptop.Sync.Sync(t.Context())
	require.Eventually(
		t,
		func() bool { return laptop.Sync.Sync(t.Context()) == syncing.ErrSignedOut },
		5*time.Second,
		10*time.Millisecond,
		"other devices have to sign in again",
	)
	assert.Error(t, laptop.Account.SignInAgain(t.Context(), secret.New(master), ""), "with the new master password")
	require.NoError(t, laptop.Account.SignInAgain(t.Context(), fresh, ""))
	w.inStep(laptop)
}

func TestRecoveryOnADeviceThatJoined(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	sheet, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	other := w.device("laptop")
	laptop := w.join(other, desk)
	id := records.NewID()
	require.NoError(t, laptop.Items.Save(t.Context(), id, login("Kelp", "pw")))
	w.inStep(laptop)
	laptop.Lock()
	fresh := secret.New("a patient tide comes back")
	back, err := other.Recover(t.Context(), laptop.Profile().ID, strings.Join(sheet.Recovery, " "), fresh, fresh)
	require.NoError(t, err)
	assert.Equal(t, "pw", password(t, back, id))
	back.Lock()
	_, err = other.Unlock(t.Context(), back.Profile().ID, fresh)
	require.NoError(t, err)
}

func TestIntroduction(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	w.inStep(desk)
	fresh := w.device("laptop")
	a, err := fresh.BeginIntroduction(t.Context(), strings.ToUpper(email), w.url)
	require.NoError(t, err)
	_, err = fresh.IntroductionAnswered(t.Context(), a.ID)
	assert.ErrorIs(t, err, syncing.ErrNotReady)
	err = desk.Joiners.Introduce(t.Context(), strings.Join(a.Words, " "))
	assert.ErrorIs(t, err, reauth.ErrNeeded, "whoever passes by an open vault takes nothing along")
	require.NoError(t, desk.Reauthenticate(secret.New(master)))
	var in *records.InputError
	require.ErrorAs(t, desk.Joiners.Introduce(t.Context(), "these are not the right words"), &in)
	assert.ErrorIs(t, in.Err, keys.ErrNotWords, "a slip of the fingers ends nothing")
	require.NoError(t, desk.Joiners.Introduce(t.Context(), strings.Join(a.Words, " ")))
	_, err = fresh.IntroductionAnswered(t.Context(), a.ID)
	require.NoError(t, err)
	var sent atomic.Int32
	watch := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if strings.HasPrefix(r.URL.Path, "/v1/sessions") || strings.HasPrefix(r.URL.Path, "/v1/params") {
			sent.Add(1)
		}
		next.ServeHTTP(rw, r)
	})
	w.between.Store(&watch)
	_, err = fresh.Join(t.Context(), app.Join{Introduction: a.ID, Password: secret.New("not the master")})
	assert.Error(t, err)
	assert.Zero(t, sent.Load(), "nothing is sent with a wrong master password")
	v, err := fresh.Join(t.Context(), app.Join{Introduction: a.ID, Password: secret.New(master), DeviceName: "laptop"})
	require.NoError(t, err)
	w.inStep(v)
	_, err = fresh.Join(t.Context(), app.Join{Introduction: a.ID, Password: secret.New(master)})
	assert.ErrorIs(t, err, syncing.ErrOver, "it serves once")
}

func TestWithoutACloudAndJoiningLater(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v, err := d.Create(
		t.Context(),
		app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(t, err)
	require.NoError(t, v.Items.Save(t.Context(), records.NewID(), login("Harbour", "pw")))
	assert.Equal(t, syncing.NoCloud, v.Sync.Status().State)
	require.NoError(t, v.Account.JoinCloud(t.Context(), w.url, wire.Admission{}))
	w.inStep(v)
	other := w.join(w.device("laptop"), v)
	items, err := other.Book.Logins()
	require.NoError(t, err)
	assert.Len(t, items, 1)
}

func TestRefusals(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	good := app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master), Cloud: w.url}
	for field, change := range map[string]func(*app.NewVault){
		"email":    func(n *app.NewVault) { n.Email = "maren" },
		"password": func(n *app.NewVault) { n.Password = secret.New("password1") },
		"repeat":   func(n *app.NewVault) { n.Repeat = secret.New("kelp ferry lantern fifty") },
		"cloud":    func(n *app.NewVault) { n.Cloud = "http://cloud.example" },
	} {
		n := good
		change(&n)
		_, err := d.Create(t.Context(), n)
		var in *records.InputError
		require.ErrorAs(t, err, &in, field)
		assert.Equal(t, field, in.Field)
	}
	cards, err := d.Profiles(t.Context())
	require.NoError(t, err)
	assert.Empty(t, cards, "a refused vault leaves nothing behind")

	_, err = d.Create(t.Context(), good)
	require.NoError(t, err)
	_, err = w.device("other").Create(t.Context(), good)
	assert.ErrorIs(t, err, syncing.ErrTaken)
	_, err = d.Unlock(t.Context(), "../../etc/passwd", secret.New(master))
	assert.ErrorIs(t, err, app.ErrNoProfile)
}

func TestADoubleSubmitMakesOneLogin(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := records.NewID()
	for range 2 {
		require.NoError(t, v.Items.Save(t.Context(), id, login("Kelp", "pw")))
	}
	items, err := v.Book.Logins()
	require.NoError(t, err)
	assert.Len(t, items, 1)
	e, _ := v.Items.Entry(id)
	assert.Empty(t, e.Past)
	assert.Error(t, v.Items.Save(t.Context(), "nonsense", nil))
}

// The cloud knows the public key that waits with it, and answers itself: with a carried half of its own it could guess
// the master password from what the new device signs in with. It doesn't know the words.
func TestIntroductionsCantBeForged(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	w.inStep(desk)
	fresh := w.device("laptop")
	var signIns atomic.Int32
	var lie atomic.Pointer[func(rw http.ResponseWriter, r *http.Request) bool]
	watch := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if r.URL.Path == "/v1/sessions" {
			signIns.Add(1)
		}
		if f := lie.Load(); f == nil || !(*f)(rw, r) {
			next.ServeHTTP(rw, r)
		}
	})
	w.between.Store(&watch)
	begin := func() *app.Introduction {
		a, err := fresh.BeginIntroduction(t.Context(), email, w.url)
		require.NoError(t, err)
		return a
	}
	waiting := func() (list []wire.Introduction) {
		credential, err := desk.Sync.Credential(t.Context())
		require.NoError(t, err)
		c, err := cloudclient.Dial(w.url)
		require.NoError(t, err)
		list, err = c.Introductions(t.Context(), credential)
		require.NoError(t, err)
		return list
	}

	// An answer of the cloud's own, sealed to the right key.
	a := begin()
	hello := waiting()[0].PublicKey
	public, err := hpke.MLKEM768X25519().NewPublicKey(hello[:len(hello)-32])
	require.NoError(t, err)
	plain, err := json.Marshal(keys.Introduction{
		Carried: make([]byte, keys.CodeSize), Params: keys.DefaultParams(make([]byte, keys.SaltSize)),
		VaultID: desk.Profile().Vault, Wrapped: desk.Profile().Wrapped,
	})
	require.NoError(t, err)
	for _, info := range []string{"redlocket/1 introduction", "redlocket/2 introduction"} {
		sealed, err := hpke.Seal(public, hpke.HKDFSHA256(), hpke.ChaCha20Poly1305(), []byte(info), plain)
		require.NoError(t, err)
		for _, code := range [][]byte{nil, make([]byte, 32), hello[len(hello)-32:]} {
			forge := func(rw http.ResponseWriter, r *http.Request) bool {
				if !strings.HasSuffix(r.URL.Path, "/answer") {
					return false
				}
				_ = json.NewEncoder(rw).Encode(wire.Introduction{Sealed: append(bytes.Clone(sealed), code...)})
				return true
			}
			lie.Store(&forge)
			_, err = fresh.IntroductionAnswered(t.Context(), a.ID)
			assert.ErrorContains(t, err, "doesn’t come from where these words were typed")
			_, err = fresh.Join(t.Context(), app.Join{Introduction: a.ID, Password: secret.New(master)})
			assert.ErrorIs(t, err, syncing.ErrOver, "one guess ends it")
			lie.Store(nil)
			a = begin()
		}
	}
	assert.Zero(t, signIns.Load(), "nothing was sent with which a password could be guessed")

	// A key of the cloud's own in the place of the new device's.
	own, err := keys.NewJoiner(email, rand.Reader)
	require.NoError(t, err)
	swap := func(rw http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/v1/introductions" || r.Method != http.MethodGet {
			return false
		}
		_ = json.NewEncoder(rw).Encode([]wire.Introduction{{ID: a.ID, PublicKey: own.Hello()}})
		return true
	}
	lie.Store(&swap)
	require.NoError(t, desk.Reauthenticate(secret.New(master)))
	require.ErrorContains(t, desk.Joiners.Introduce(t.Context(), strings.Join(a.Words, " ")), "start again")
	lie.Store(nil)
	_, err = fresh.IntroductionAnswered(t.Context(), a.ID)
	assert.ErrorContains(t, err, "was ended")
	assert.Error(t, desk.Joiners.Introduce(t.Context(), strings.Join(a.Words, " ")), "the right words come too late")

	// Wrong words, all of the list, end what waits; the right ones come too late.
	a = begin()
	list := keys.WordList()
	wrong := strings.Join([]string{list[1], list[2], list[3], list[4], list[5], list[6]}, " ")
	require.ErrorContains(t, desk.Joiners.Introduce(t.Context(), wrong), "start again")
	assert.Error(t, desk.Joiners.Introduce(t.Context(), strings.Join(a.Words, " ")))
	_, err = fresh.IntroductionAnswered(t.Context(), a.ID)
	assert.Error(t, err)

	a = begin()
	require.NoError(t, desk.Joiners.Introduce(t.Context(), strings.Join(a.Words, " ")))
	_, err = fresh.IntroductionAnswered(t.Context(), a.ID)
	require.NoError(t, err, "and it goes well where nobody lies")
}

// Somebody reads every request to the cloud, as a proxy that opens TLS or a log does, and sends each again: none is
// taken, and none holds a key.
func TestWhatIsReadOnTheLineOpensNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	type read struct {
		r    *http.Request
		body []byte
	}
	var mu sync.Mutex
	var all []read
	spy := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		again := r.Clone(context.Background())
		next.ServeHTTP(rw, r)
		if r.Context().Err() != nil { // given up, as a vault locks: it may never have been answered, nor counted
			return
		}
		mu.Lock()
		all = append(all, read{again, body})
		mu.Unlock()
	})
	w.between.Store(&spy)
	desk := w.create(w.device("desk"))
	require.NoError(t, desk.Items.Save(t.Context(), records.NewID(), login("Kelp", "pw")))
	w.inStep(desk)
	laptop := w.join(w.device("laptop"), desk)
	w.inStep(desk, laptop)
	_, _, err := laptop.Account.Devices(t.Context())
	require.NoError(t, err)
	desk.Lock()
	laptop.Lock()
	w.between.Store(nil)

	seen := map[string]bool{}
	for _, x := range all {
		path := x.r.URL.Path
		if path == "/v1/params" || path == "/v1/challenge" { // anybody may ask these
			continue
		}
		seen[path] = true
		r := httptest.NewRequest(x.r.Method, x.r.URL.RequestURI(), bytes.NewReader(x.body))
		r.Host, r.Header = x.r.Host, x.r.Header
		rec := httptest.NewRecorder()
		w.cloud.ServeHTTP(rec, r)
		assert.GreaterOrEqual(t, rec.Code, 400, "%s %s", x.r.Method, path)
	}
	for _, path := range []string{"/v1/accounts", "/v1/sessions", "/v1/commits", "/v1/changes", "/v1/devices", "/v1/events"} {
		assert.True(t, seen[path], path)
	}
}

// The master password is changed on one device without the sheet; the others ask for the new one, and the old one opens
// none of them after that. The recovery code still opens the vault.
func TestTheMasterPasswordIsChanged(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first, second := w.device("desk"), w.device("laptop")
	desk := w.create(first)
	w.inStep(desk)
	sheet, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	laptop := w.join(second, desk)
	w.inStep(laptop)
	fresh := secret.New("a patient tide comes back")
	var in *records.InputError
	for field, c := range map[string][3]secret.Text{
		"present":  {secret.New("not it at all"), fresh, fresh},
		"repeat":   {secret.New(master), fresh, secret.New("another")},
		"password": {secret.New(master), secret.New(master), secret.New(master)},
	} {
		require.ErrorAs(t, laptop.Account.ChangeMaster(t.Context(), c[0], c[1], c[2]), &in, field)
		assert.Equal(t, field, in.Field)
	}
	w.down.Store(true)
	require.Error(t, laptop.Account.ChangeMaster(t.Context(), secret.New(master), fresh, fresh))
	w.down.Store(false)
	require.NoError(t, laptop.Reauthenticate(secret.New(master)), "while the cloud is away nothing changes")

	require.NoError(t, laptop.Account.ChangeMaster(t.Context(), secret.New(master), fresh, fresh))
	id := records.NewID()
	require.NoError(t, laptop.Items.Save(t.Context(), id, login("Kelp", "pw")))
	w.inStep(laptop)
	laptop.Lock()
	_, err = second.Unlock(t.Context(), laptop.Profile().ID, secret.New(master))
	require.Error(t, err)
	_, err = second.Unlock(t.Context(), laptop.Profile().ID, fresh)
	require.NoError(t, err)

	pulled := func() bool { _, err := desk.Items.Entry(id); return err == nil }
	soon(t, "it is so", pulled)
	w.inStep(desk)
	assert.Equal(t, syncing.InStep, desk.Sync.Status().State, "it stays signed in")
	desk.Lock()
	_, err = first.Unlock(t.Context(), desk.Profile().ID, secret.New(master))
	require.Error(t, err, "the old one opens it no more")
	desk, err = first.Unlock(t.Context(), desk.Profile().ID, fresh)
	require.NoError(t, err)
	w.inStep(desk)
	_, err = w.device("attic").Join(t.Context(), app.Join{
		Email: email, Cloud: w.url, Password: secret.New(master), Carried: strings.Join(sheet.Carried, " "),
	})
	require.Error(t, err, "nor a new device")
	attic, err := w.device("attic").Join(t.Context(), app.Join{
		Email: email, Cloud: w.url, Password: fresh, Carried: strings.Join(sheet.Carried, " "),
	})
	require.NoError(t, err)
	attic.Lock()
	desk.Lock()
	again := secret.New("slack tide over ropewalk")
	desk, err = first.Recover(t.Context(), desk.Profile().ID, strings.Join(sheet.Recovery, " "), again, again)
	require.NoError(t, err, "the sheet still does")
	desk.Lock()
}

// Wrong master passwords that are tried at once wait like those tried one after the other.
func TestWrongPasswordsAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	v.Lock()
	var free atomic.Int32
	var tries sync.WaitGroup
	for range 8 {
		tries.Go(func() {
			_, err := d.Unlock(context.Background(), v.Profile().ID, secret.New("not it at all"))
			var wrong *app.WrongPassword
			if assert.ErrorAs(t, err, &wrong) && wrong.Wait == 0 {
				free.Add(1)
			}
		})
	}
	tries.Wait()
	assert.Equal(t, int32(2), free.Load())
}

// At a cloud no device keeps a key of the account: one that was shut out comes back with the master password alone.
func TestAShutOutDeviceCantSignInAgain(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	w.inStep(desk, laptop)
	for _, v := range []*app.Vault{desk, laptop} {
		for _, name := range []string{"sign-in", "recovery-sign-in"} {
			b, err := v.Local.Get(t.Context(), name)
			require.NoError(t, err)
			assert.Nil(t, b, name)
		}
	}
	require.NoError(t, desk.Epochs.ShutOut(t.Context(), laptop.Profile().Device, secret.New(master)))
	ended := func() bool { return laptop.Sync.Status().State == syncing.Ended }
	soon(t, "it is so", ended)
	require.Error(t, laptop.Account.SignInAgain(t.Context(), secret.New(master), ""), "the carried half is another one")
	sheet, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	carried := strings.Join(sheet.Carried, " ")
	require.NoError(t, laptop.Account.SignInAgain(t.Context(), secret.New(master), carried), "with the new sheet")
	soon(t, "it is one of the devices again", func() bool {
		e, err := desk.Items.Entry(laptop.Profile().Device)
		return err == nil && e.Text(vault.FieldOut) == ""
	})
	w.inStep(desk, laptop)
	attic := w.join(w.device("attic"), desk)
	require.NoError(t, desk.Epochs.ShutOut(t.Context(), attic.Profile().Device, secret.New(master)))
	w.save(desk, "After another one", "pw", laptop)
}

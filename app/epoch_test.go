package app_test

import (
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/cloudclient"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/cloud"
	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// patience is how long something that happens by itself is waited for: a slow machine that is watched for races, and
// has other work, takes long.
const patience = time.Minute

// soon waits for something that happens by itself. What is asked for is asked here, and not beside: nothing goes on
// when the test is over.
func soon(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for until := time.Now().Add(patience); !ok(); time.Sleep(2 * time.Millisecond) {
		if time.Now().After(until) {
			require.Fail(t, "it never came to be", what)
		}
	}
}

// long is how long it is looked whether something comes that mustn't.
const long = 300 * time.Millisecond

// never looks for a while that something doesn't come to be.
func never(t testing.TB, what string, d time.Duration, is func() bool) {
	t.Helper()
	for until := time.Now().Add(d); time.Now().Before(until); time.Sleep(5 * time.Millisecond) {
		require.False(t, is(), what)
	}
}

func holds(v *app.Vault, id string) func() bool {
	return func() bool { _, err := v.Items.Entry(id); return err == nil }
}

// save makes a login on a device, and waits until others have it.
func (w *world) save(v *app.Vault, title, password string, others ...*app.Vault) string {
	w.t.Helper()
	id := records.NewID()
	require.NoError(w.t, v.Items.Save(w.t.Context(), id, login(title, password)))
	for _, o := range others {
		soon(w.t, title+" is there", holds(o, id))
	}
	w.inStep(append(others, v)...)
	return id
}

func everything(t *testing.T, w *world, v *app.Vault) (all wire.Changes) {
	require.NoError(t, json.Unmarshal(pullAll(t, w, v), &all))
	return all
}

// What a device that was shut out has, with the vault open and every key in somebody's hands, opens nothing of what
// comes after: not even with a copy of the cloud.
func TestShuttingOutShutsOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop, second := w.join(w.device("laptop"), desk), w.device("attic")
	attic := w.join(second, desk)
	before := w.save(desk, "Before", "known to the thief", laptop, attic)
	old, err := desk.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	out := laptop.Profile().Device

	require.Error(t, desk.Epochs.ShutOut(t.Context(), out, secret.New("not it at all")))
	w.down.Store(true)
	require.Error(t, desk.Epochs.ShutOut(t.Context(), out, secret.New(master)), "not while the cloud is away")
	w.down.Store(false)
	w.inStep(desk, laptop, attic)
	taken, err := laptop.Replica.Ring()
	require.NoError(t, err)
	thief := keys.NewVault(laptop.Profile().Vault, taken, desk.Rand())
	for _, r := range everything(t, w, desk).Records {
		_, err := thief.OpenRecord(r.ID, r.Rev, r.Blob)
		require.NoError(t, err, "until then it opens everything")
	}

	require.NoError(t, desk.Epochs.ShutOut(t.Context(), out, secret.New(master)))
	soon(t, "the laptop is out", func() bool { return laptop.Sync.Status().State == syncing.Ended })
	after := w.save(desk, "After", "of the second epoch", attic)
	assert.NotEqual(t, old.Carried, sheetOf(t, desk).Carried)
	assert.Equal(t, sheetOf(t, desk).Carried, sheetOf(t, attic).Carried)
	soon(t, "all is sealed anew", func() bool { return desk.Epochs.OldKeys() == 0 && attic.Epochs.OldKeys() == 0 })
	w.inStep(desk, attic)
	all := everything(t, w, desk)
	require.NotEmpty(t, all.Records)
	for _, r := range all.Records {
		_, err := thief.OpenRecord(r.ID, r.Rev, r.Blob)
		require.ErrorIs(t, err, keys.ErrOpen)
	}

	attic.Lock()
	attic, err = second.Unlock(t.Context(), attic.Profile().ID, secret.New(master))
	require.NoError(t, err, "the master password is the same as ever")
	assert.Equal(t, "known to the thief", password(t, attic, before))
	assert.Equal(t, "of the second epoch", password(t, attic, after))

	_, err = w.device("third").Join(t.Context(), app.Join{
		Email: email, Cloud: w.url, Password: secret.New(master), Carried: strings.Join(old.Carried, " "),
	})
	require.Error(t, err, "the carried half of before")
	third := w.join(w.device("fourth"), desk)
	assert.Equal(t, "known to the thief", password(t, third, before))

	list, _, err := desk.Account.Devices(t.Context())
	require.NoError(t, err)
	for _, k := range list {
		assert.Equal(t, k.ID == out, !k.Out.IsZero(), k.Name)
	}
}

func sheetOf(t *testing.T, v *app.Vault) app.Sheet {
	s, err := v.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	return s
}

// A device that was away while several others were shut out follows when it is back.
func TestSeveralEpochsAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	second := w.device("attic")
	attic := w.join(second, desk)
	w.save(desk, "Before", "pw", attic)
	attic.Lock()
	for range 2 {
		gone := w.join(w.device(records.NewID()), desk)
		w.inStep(desk, gone)
		require.NoError(t, desk.Epochs.ShutOut(t.Context(), gone.Profile().Device, secret.New(master)))
	}
	id := w.save(desk, "After", "pw")
	attic, err := second.Unlock(t.Context(), attic.Profile().ID, secret.New(master))
	require.NoError(t, err)
	soon(t, "it follows", holds(attic, id))
	ring, err := attic.Replica.Ring()
	require.NoError(t, err)
	assert.EqualValues(t, 3, ring.Epoch())
	w.save(attic, "Back", "pw", desk)
}

// A cloud and a device that was shut out, with all that it had, make the others believe nothing.
func TestEpochsCantBeForged(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop, attic := w.join(w.device("laptop"), desk), w.join(w.device("attic"), desk)
	w.save(desk, "Before", "pw", laptop, attic)
	taken, err := laptop.Replica.Ring()
	require.NoError(t, err)
	stolen, err := laptop.Local.DeviceKeys(t.Context())
	require.NoError(t, err)
	card := laptop.Profile()
	require.NoError(t, desk.Epochs.ShutOut(t.Context(), card.Device, secret.New(master)))
	w.save(desk, "After", "pw", attic)
	soon(t, "it is noted", func() bool {
		e, err := attic.Items.Entry(card.Device)
		return err == nil && e.Text(vault.FieldOut) != ""
	})
	soon(t, "all is sealed anew", func() bool { return desk.Epochs.OldKeys() == 0 && attic.Epochs.OldKeys() == 0 })
	soon(t, "the attic has heard how it opens", func() bool {
		return desk.Profile().CardAt > 0 && attic.Profile().CardAt == desk.Profile().CardAt
	})
	w.inStep(desk, attic)

	own, err := attic.Local.DeviceKeys(t.Context())
	require.NoError(t, err)
	now, err := attic.Replica.Ring()
	require.NoError(t, err)
	at, err := attic.Replica.Checkpoint()
	require.NoError(t, err)
	thief := keys.NewVault(card.Vault, taken, desk.Rand())
	epoch := func(ring keys.Ring, change func(*keys.Epoch)) keys.Statement {
		sealed, err := ring.Newest().SealTo(own.Public(), card.Vault, attic.Profile().Device)
		require.NoError(t, err)
		locks, err := keys.NewLocks(desk.Rand())
		require.NoError(t, err)
		wrapped, err := locks.Wrap(card.Vault, ring.Newest())
		require.NoError(t, err)
		e := keys.Epoch{
			Number: ring.Epoch(), Vault: card.Vault, By: card.Device, Params: card.Params, Wrapped: wrapped,
			Keys: map[string][]byte{attic.Profile().Device: sealed},
		}
		e.Ring, err = ring.Seal(desk.Rand(), card.Vault, keys.Kept{Locks: locks})
		require.NoError(t, err)
		if change != nil {
			change(&e)
		}
		s, err := stolen.SignEpoch(e)
		require.NoError(t, err)
		return s
	}
	start := keys.Start{After: at.Number, Hash: at.Head}
	state := ledger.State{}
	for _, r := range everything(t, w, desk).Records {
		state[r.ID] = ledger.Mark{Rev: r.Rev, Hash: ledger.Sum(r.Blob)}
	}
	real := now.With(keys.VaultKey{7}, start)
	fresh := now.With(keys.VaultKey{7}, keys.Start{After: at.Number, Hash: at.Head, Fresh: true})
	for name, c := range map[string]struct {
		ring      keys.Ring
		statement keys.Statement
	}{
		"signed by the device that is out":          {real, epoch(real, nil)},
		"a fresh one":                               {fresh, epoch(fresh, nil)},
		"in another's name":                         {real, epoch(real, func(e *keys.Epoch) { e.By = desk.Profile().Device })},
		"in the name of nobody":                     {real, epoch(real, func(e *keys.Epoch) { e.By = records.NewID() })},
		"in the name of no device":                  {real, epoch(real, func(e *keys.Epoch) { e.By = card.Vault })},
		"of a ring of its own":                      {ringLike(3, start), epoch(ringLike(3, start), nil)},
		"that goes on from what it knew":            {longer(taken, start), epoch(longer(taken, start), nil)},
		"of another vault":                          {real, epoch(real, func(e *keys.Epoch) { e.Vault = records.NewID() })},
		"of another number":                         {real, epoch(real, func(e *keys.Epoch) { e.Number = 9 })},
		"with no key for anybody":                   {real, epoch(real, func(e *keys.Epoch) { e.Keys = nil })},
		"that can't be read":                        {real, keys.Statement{Body: []byte("{"), Signature: make([]byte, 64)}},
		"with a key that opens as no epoch's (old)": {now, epoch(now, nil)},
	} {
		t.Run(name, func(t *testing.T) {
			state := maps.Clone(state)
			forger := keys.NewVault(card.Vault, c.ring, desk.Rand())
			if _, ok := c.ring.Fresh(2); ok {
				state = ledger.State{}
			}
			head := ledger.Head{
				Number: at.Number + 1, Prev: at.Head, StateHash: ledger.StateHash(state), Device: card.Device,
			}
			head.Signature = stolen.Sign("head", append([]string{card.Vault}, head.Signed()...)...)
			blob, err := forger.SealHead(head.Number, head.Encode())
			require.NoError(t, err)
			lie := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
				switch {
				case !fromLaptop(r, attic):
					next.ServeHTTP(rw, r)
				case r.URL.Path == "/v1/epochs/latest":
					_ = json.NewEncoder(rw).Encode(c.statement)
				case r.URL.Path == "/v1/changes":
					_ = json.NewEncoder(rw).Encode(wire.Changes{
						Latest: head.Number, Epoch: 3, Heads: []wire.Head{{Number: head.Number, Blob: blob}},
					})
				default:
					rw.WriteHeader(http.StatusBadGateway)
				}
			})
			w.between.Store(&lie)
			defer w.between.Store(nil)
			before := attic.Profile()
			err = attic.Sync.Sync(t.Context())
			var fault *ledger.Fault
			if c.statement.Body != nil && strings.Contains(name, "no key for anybody") {
				require.ErrorIs(t, err, syncing.ErrSignedOut)
			} else {
				require.ErrorAs(t, err, &fault)
				assert.Equal(t, ledger.BadEpoch, fault.Kind, fault.Detail)
			}
			assert.Equal(t, before, attic.Profile())
			ring, err := attic.Replica.Ring()
			require.NoError(t, err)
			assert.Equal(t, now, ring)
		})
	}

	t.Run("a head of before, under the old key", func(t *testing.T) {
		head := ledger.Head{Number: at.Number + 1, Prev: at.Head, Device: card.Device}
		head.Signature = stolen.Sign("head", append([]string{card.Vault}, head.Signed()...)...)
		blob, err := thief.SealHead(head.Number, head.Encode())
		require.NoError(t, err)
		lie := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
			if fromLaptop(r, attic) && r.URL.Path == "/v1/changes" {
				_ = json.NewEncoder(rw).Encode(wire.Changes{
					Latest: head.Number, Epoch: 2, Heads: []wire.Head{{Number: head.Number, Blob: blob}},
				})
				return
			}
			next.ServeHTTP(rw, r)
		})
		w.between.Store(&lie)
		defer w.between.Store(nil)
		var fault *ledger.Fault
		require.ErrorAs(t, attic.Sync.Sync(t.Context()), &fault)
		assert.Equal(t, ledger.BadHead, fault.Kind)
	})
	w.save(attic, "Still in step", "pw", desk)
}

// ringLike is a ring of so many epochs that nobody knows.
func ringLike(epochs int, start keys.Start) keys.Ring {
	r := keys.NewRing(keys.VaultKey{1})
	for i := 1; i < epochs; i++ {
		r = r.With(keys.VaultKey{byte(i + 1)}, start)
	}
	return r
}

func longer(r keys.Ring, start keys.Start) keys.Ring {
	return r.With(keys.VaultKey{5}, start).With(keys.VaultKey{6}, start)
}

// Who holds the vault's key, but isn't the device that it names, makes no head in its name.
func TestHeadsAreSignedByTheirDevice(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	w.save(desk, "Before", "pw", laptop)
	ring, err := desk.Replica.Ring()
	require.NoError(t, err)
	at, err := laptop.Replica.Checkpoint()
	require.NoError(t, err)
	stolen, err := keys.NewIdentity(desk.Rand())
	require.NoError(t, err)
	head := ledger.Head{Number: at.Number + 1, Prev: at.Head, Device: desk.Profile().Device}
	head.Signature = stolen.Sign("head", append([]string{desk.Profile().Vault}, head.Signed()...)...)
	state := ledger.State{}
	for _, r := range everything(t, w, desk).Records {
		state[r.ID] = ledger.Mark{Rev: r.Rev, Hash: ledger.Sum(r.Blob)}
	}
	head.StateHash = ledger.StateHash(state)
	blob, err := keys.NewVault(desk.Profile().Vault, ring, desk.Rand()).SealHead(head.Number, head.Encode())
	require.NoError(t, err)
	lie := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if fromLaptop(r, laptop) && r.URL.Path == "/v1/changes" {
			rec := httptest.NewRecorder()
			next.ServeHTTP(rec, r)
			var c wire.Changes
			_ = json.Unmarshal(rec.Body.Bytes(), &c)
			c.Latest++
			c.Heads = append(c.Heads, wire.Head{Number: head.Number, Blob: blob})
			_ = json.NewEncoder(rw).Encode(c)
			return
		}
		next.ServeHTTP(rw, r)
	})
	w.between.Store(&lie)
	var fault *ledger.Fault
	require.ErrorAs(t, laptop.Sync.Sync(t.Context()), &fault)
	assert.Contains(t, fault.Detail, "isn't signed")
}

// The cloud begins the epoch, and its answer is lost.
func TestALostAnswerToShuttingOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop, attic := w.join(w.device("laptop"), desk), w.join(w.device("attic"), desk)
	w.save(desk, "Before", "pw", laptop, attic)
	out := laptop.Profile().Device
	lose := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if r.URL.Path == "/v1/epochs" {
			next.ServeHTTP(httptest.NewRecorder(), r)
			conn, _, err := http.NewResponseController(rw).Hijack()
			if err == nil {
				conn.Close()
			}
			return
		}
		next.ServeHTTP(rw, r)
	})
	w.between.Store(&lose)
	require.Error(t, desk.Epochs.ShutOut(t.Context(), out, secret.New(master)))
	w.between.Store(nil)
	soon(t, "it is noted all the same", func() bool {
		e, err := attic.Items.Entry(out)
		return err == nil && e.Text(vault.FieldOut) != "" && desk.Sheets.Replaces(t.Context())
	})
	w.save(desk, "After", "pw", attic)
}

func TestACloudThatWasSetBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	kept := w.save(desk, "Kept", "pw", laptop)
	backup := w.backup()
	lost := w.save(desk, "Lost", "pw", laptop)
	require.NoError(t, desk.Items.Save(t.Context(), kept, vault.Changes{vault.FieldNotes: "changed since"}))
	w.inStep(desk)
	w.setBack(backup)
	for _, v := range []*app.Vault{desk, laptop} {
		soon(t, "told", func() bool { v.Sync.Nudge(); return v.Sync.Status().State == syncing.Fault })
	}
	mine := records.NewID()
	require.NoError(t, laptop.Items.Save(t.Context(), mine, login("Mine", "pw")))

	require.Error(t, desk.Epochs.Publish(t.Context(), secret.New("not it at all")))
	require.NoError(t, desk.Epochs.Publish(t.Context(), secret.New(master)))
	soon(t, "what only the laptop has", holds(desk, mine))
	w.inStep(desk, laptop)
	for _, v := range []*app.Vault{desk, laptop, w.join(w.device("attic"), desk)} {
		assert.Equal(t, "pw", password(t, v, lost))
		e, err := v.Items.Entry(kept)
		require.NoError(t, err)
		assert.Equal(t, "changed since", e.Text(vault.FieldNotes))
	}
	w.save(laptop, "Goes on", "pw", desk)
	assert.Equal(t, sheetOf(t, desk).Carried, sheetOf(t, laptop).Carried, "nobody was shut out")
}

// The cloud was set back, and one device had gone on with it before another one noticed.
func TestACloudThatWasSetBackAndWentOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first, second := w.device("desk"), w.device("laptop")
	desk := w.create(first)
	laptop := w.join(second, desk)
	w.save(desk, "Kept", "pw", laptop)
	backup := w.backup()
	laptop.Lock()
	lost := w.save(desk, "Lost", "pw")
	w.save(desk, "Lost too", "pw")
	desk.Lock()
	w.setBack(backup)
	laptop, err := second.Unlock(t.Context(), laptop.Profile().ID, secret.New(master))
	require.NoError(t, err)
	var other string
	for range 4 {
		other = w.save(laptop, "Meanwhile", "pw")
	}
	desk, err = first.Unlock(t.Context(), desk.Profile().ID, secret.New(master))
	require.NoError(t, err)
	soon(t, "told", func() bool { desk.Sync.Nudge(); return desk.Sync.Status().State == syncing.Fault })
	require.NoError(t, desk.Epochs.Publish(t.Context(), secret.New(master)))
	soon(t, "what the laptop did", holds(desk, other))
	soon(t, "what the cloud had lost", holds(laptop, lost))
	w.inStep(desk, laptop)
}

// Both of two devices publish at once.
func TestTwoPublish(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	w.save(desk, "Kept", "pw", laptop)
	backup := w.backup()
	lost := w.save(desk, "Lost", "pw", laptop)
	w.setBack(backup)
	done := make(chan error, 2)
	for _, v := range []*app.Vault{desk, laptop} {
		go func() { done <- v.Epochs.Publish(t.Context(), secret.New(master)) }()
	}
	require.NoError(t, <-done)
	require.NoError(t, <-done)
	w.save(laptop, "From laptop", "pw", desk)
	w.save(desk, "From desk", "pw", laptop)
	assert.True(t, holds(desk, lost)() && holds(laptop, lost)())
}

func TestMovingToAnotherCloud(t *testing.T) {
	t.Parallel()
	w, other := newWorld(t), newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	id := w.save(desk, "Kept", "pw", laptop)
	_, err := desk.Files.Attach(t.Context(), id, "deed.txt", strings.NewReader("the deed"))
	require.NoError(t, err)
	w.inStep(desk)
	w.down.Store(true)
	mine := records.NewID()
	require.NoError(t, laptop.Items.Save(t.Context(), mine, login("Mine", "pw")))

	require.Error(t, desk.Account.MoveCloud(t.Context(), other.url, secret.New("not it at all"), wire.Admission{}))
	require.NoError(t, desk.Account.MoveCloud(t.Context(), other.url, secret.New(master), wire.Admission{}))
	w.inStep(desk)
	require.NoError(t, laptop.Account.MoveCloud(t.Context(), other.url, secret.New(master), wire.Admission{}))
	soon(t, "what only the laptop has", holds(desk, mine))
	w.inStep(desk, laptop)
	e, err := laptop.Items.Entry(id)
	require.NoError(t, err)
	soon(t, "the file is sent to the new cloud", func() bool {
		var b strings.Builder
		return len(e.Files()) > 0 && laptop.Files.Read(t.Context(), e.Files()[0], &b) == nil && b.String() == "the deed"
	})
}

func TestDeletingTheAccount(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first := w.device("desk")
	desk := w.create(first)
	laptop := w.join(w.device("laptop"), desk)
	id := w.save(desk, "Kept", "pw", laptop)
	require.NoError(t, desk.Epochs.ShutOut(t.Context(), laptop.Profile().Device, secret.New(master)))
	w.inStep(desk)
	require.Error(t, desk.Account.DeleteAccount(t.Context(), secret.New("not it at all")))
	require.NoError(t, desk.Account.DeleteAccount(t.Context(), secret.New(master)))
	assert.Equal(t, syncing.NoCloud, desk.Sync.Status().State)
	c, err := cloudclient.Dial(w.url)
	require.NoError(t, err)
	_, err = c.SignIn(t.Context(), keys.Key{}, wire.SignIn{Email: email, Device: desk.Profile().Device})
	require.Error(t, err)
	assert.Equal(t, "pw", password(t, desk, id))
	desk.Lock()
	desk, err = first.Unlock(t.Context(), desk.Profile().ID, secret.New(master))
	require.NoError(t, err)

	require.NoError(t, desk.Account.MoveCloud(t.Context(), w.url, secret.New(master), wire.Admission{}), "and it joins again")
	w.save(desk, "Again", "pw")
	attic := w.join(w.device("attic"), desk)
	assert.Equal(t, "pw", password(t, attic, id))
}

func TestANewSheet(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	desk := w.create(d)
	old := sheetOf(t, desk)
	typed := func(s app.Sheet) app.TypedSheet {
		return app.TypedSheet{
			CarriedGroup: 1, Carried: s.Carried[0], RecoveryGroup: 8, Recovery: s.Recovery[7],
			Password: secret.New(master),
		}
	}
	require.NoError(t, desk.Sheets.Check(t.Context(), typed(old)))
	assert.False(t, desk.Sheets.Waits(t.Context()))
	require.NoError(t, desk.Sheets.New(t.Context()))
	assert.True(t, desk.Sheets.Replaces(t.Context()))
	fresh := sheetOf(t, desk)
	assert.NotEqual(t, old.Recovery, fresh.Recovery)
	desk.Lock()

	code := func(s app.Sheet) string { return strings.Join(s.Recovery, " ") }
	next := secret.New("a patient tide comes back")
	_, err := d.Recover(t.Context(), desk.Profile().ID, code(fresh), next, next)
	require.Error(t, err, "not in force yet")
	desk, err = d.Recover(t.Context(), desk.Profile().ID, code(old), next, next)
	require.NoError(t, err, "the old one counts until the new one is checked")

	bad := typed(fresh)
	require.Error(t, desk.Sheets.Check(t.Context(), bad), "of before the recovery")
	bad.Password = next
	require.NoError(t, desk.Sheets.Check(t.Context(), bad))
	w.inStep(desk)
	desk.Lock()
	_, err = d.Recover(t.Context(), desk.Profile().ID, code(old), next, next)
	require.Error(t, err, "void")
	desk, err = d.Recover(t.Context(), desk.Profile().ID, code(fresh), next, next)
	require.NoError(t, err)
	w.inStep(desk)
	laptop, err := w.device("laptop").Join(t.Context(), app.Join{
		Email: email, Cloud: w.url, Password: next, Carried: strings.Join(sheetOf(t, desk).Carried, " "),
	})
	require.NoError(t, err)
	w.inStep(laptop)
}

// The cloud has no room: what is here stays here and waits, what others did still comes, and it goes on once there is.
func TestACloudWithoutRoom(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	kept := w.save(desk, "Kept", "pw", laptop)
	roomy := cloud.DefaultQuota
	w.setQuota(cloud.Quota{Records: 1, Bytes: 1 << 20, Files: 1 << 20})
	mine := records.NewID()
	require.NoError(t, desk.Items.Save(t.Context(), mine, login("Mine", "pw")))
	soon(t, "told", func() bool { return desk.Sync.Status().State == syncing.Full })
	assert.Equal(t, 1, desk.Sync.Status().Waiting)
	require.NoError(t, laptop.Items.Save(t.Context(), kept, vault.Changes{vault.FieldNotes: "n"}), "this is no new one")
	w.setQuota(roomy)
	desk.Sync.Nudge()
	soon(t, "it goes out", holds(laptop, mine))
	w.inStep(desk, laptop)
}

// The cloud was set back, and went on to the very same number: that is noticed by its own word, before anything new
// comes.
func TestAnotherHeadUnderTheSameNumber(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first, second := w.device("desk"), w.device("laptop")
	desk := w.create(first)
	laptop := w.join(second, desk)
	w.save(desk, "Kept", "pw", laptop)
	backup := w.backup()
	laptop.Lock()
	w.save(desk, "Lost", "pw")
	desk.Lock()
	w.setBack(backup)
	laptop, err := second.Unlock(t.Context(), laptop.Profile().ID, secret.New(master))
	require.NoError(t, err)
	w.save(laptop, "Meanwhile", "pw")
	desk, err = first.Unlock(t.Context(), desk.Profile().ID, secret.New(master))
	require.NoError(t, err)
	soon(t, "told", func() bool { desk.Sync.Nudge(); return desk.Sync.Status().State == syncing.Fault })
	var fault *ledger.Fault
	require.ErrorAs(t, desk.Sync.Sync(t.Context()), &fault)
	assert.Equal(t, ledger.Forked, fault.Kind)
}

package app_test

import (
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/syncing"
	"redlocket/core/ledger"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// atCloud changes the cloud's own database, as whoever runs it might.
func (w *world) atCloud(statement string, args ...any) {
	w.t.Helper()
	db, err := sqlx.Open("sqlite", "file:"+w.file+"?_pragma=busy_timeout(10000)")
	require.NoError(w.t, err)
	_, err = db.Exec(statement, args...)
	require.NoError(w.t, err)
	require.NoError(w.t, db.Close())
}

func (w *world) chunks() (n int) {
	db, err := sqlx.Open("sqlite", "file:"+w.file+"?_pragma=busy_timeout(10000)")
	require.NoError(w.t, err)
	require.NoError(w.t, db.Get(&n, `SELECT count(*) FROM chunks`))
	require.NoError(w.t, db.Close())
	return n
}

// reopen locks a vault and opens it again.
func (w *world) reopen(d *app.Device, v *app.Vault) *app.Vault {
	v.Lock()
	again, err := d.Unlock(w.t.Context(), v.Profile().ID, secret.New(master))
	require.NoError(w.t, err)
	w.inStep(again)
	return again
}

// Each device says once a day that it was there, and what it saw.
func TestDevicesSayThatTheyAreThere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	w.save(desk, "Kept", "pw", laptop)
	heard := func() (at time.Time, apart bool) {
		list, _, err := desk.Account.Devices(t.Context())
		require.NoError(t, err)
		for _, k := range list {
			if !k.This {
				return k.Heard, k.Apart()
			}
		}
		return at, false
	}
	at, apart := heard()
	assert.True(t, at.IsZero() && !apart)
	w.now.Add((25 * time.Hour).Milliseconds())
	laptop.Sync.Nudge()
	soon(t, "its own word", func() bool { at, _ := heard(); return !at.IsZero() })
	first, _ := heard()
	laptop.Sync.Nudge()
	w.inStep(laptop, desk)
	second, _ := heard()
	assert.Equal(t, first, second, "not twice a day")
	k := app.KnownDevice{SignedIn: true, Heard: first, Seen: first.Add(100 * time.Hour)}
	assert.True(t, k.Apart(), "the cloud says that it was there, and nothing of it came")
}

// The cloud's copy of a file goes when every device knows that nothing names it any more; what the cloud lost is sent
// again.
func TestFilesGoWhenEverybodyKnows(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first := w.device("desk")
	desk := w.create(first)
	laptop := w.join(w.device("laptop"), desk)
	id := w.save(desk, "Deed", "pw", laptop)
	_, err := desk.Files.Attach(t.Context(), id, "deed.txt", strings.NewReader("the deed"))
	require.NoError(t, err)
	soon(t, "it is sent", func() bool { return w.chunks() == 1 })
	w.atCloud(`DELETE FROM chunks`)
	desk = w.reopen(first, desk)
	soon(t, "it is sent again", func() bool { return w.chunks() == 1 })

	_, err = desk.Acts.Archive(t.Context(), id)
	require.NoError(t, err)
	require.NoError(t, desk.Reauthenticate(secret.New(master)))
	_, err = desk.Acts.Purge(t.Context(), id)
	require.NoError(t, err)
	w.inStep(desk, laptop)
	desk = w.reopen(first, desk)
	assert.Equal(t, 1, w.chunks(), "the laptop may have edited it")
	w.now.Add((25 * time.Hour).Milliseconds())
	laptop.Sync.Nudge()
	soon(t, "the laptop has seen it", func() bool {
		e, err := desk.Items.Entry(laptop.Profile().Device)
		return err == nil && e.Text(vault.FieldSaw) != ""
	})
	w.inStep(desk, laptop)
	desk = w.reopen(first, desk)
	soon(t, "now it goes", func() bool { return w.chunks() == 0 })
	w.inStep(desk)
}

// Heads of half a year ago are gone at the cloud. Who joins doesn't need them, nor who was away for longer; from
// anybody else the cloud can't keep any.
func TestOldHeadsAreKeptNoMore(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	second := w.device("laptop")
	desk := w.create(w.device("desk"))
	laptop := w.join(second, desk)
	kept := w.save(desk, "Kept", "pw", laptop)
	laptop.Lock()
	for range 3 {
		w.save(desk, "More", "pw")
	}
	w.atCloud(`DELETE FROM heads WHERE number < (SELECT max(number) FROM heads)`)
	attic := w.join(w.device("attic"), desk)
	assert.Equal(t, "pw", password(t, attic, kept))

	laptop, err := second.Unlock(t.Context(), laptop.Profile().ID, secret.New(master))
	require.NoError(t, err)
	var fault *ledger.Fault
	require.ErrorAs(t, laptop.Sync.Sync(t.Context()), &fault, "it wasn't away for long")
	w.now.Add((200 * 24 * time.Hour).Milliseconds())
	laptop.Sync.Nudge()
	soon(t, "it goes on", func() bool { return laptop.Sync.Status().State == syncing.InStep })
	w.save(laptop, "Back", "pw", desk)
}

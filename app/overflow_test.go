package app_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

func longNote(who string, n int) string { return strings.Repeat("x", 60_000) + fmt.Sprint(who, n) }

// A long note is edited over and over, on two devices and while they are apart: no record outgrows its limit, all goes
// on, and each device shows every earlier note.
func TestAPastLargerThanARecord(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	id := w.save(desk, "Log", "pw", laptop)
	write := func(v *app.Vault, who string, from, to int) {
		for n := from; n < to; n++ {
			require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{vault.FieldNotes: longNote(who, n)}), "%s %d", who, n)
		}
	}
	write(desk, "desk", 0, 14)
	w.inStep(desk)
	w.down.Store(true)
	write(desk, "desk", 14, 25)
	write(laptop, "laptop", 0, 12)
	w.down.Store(false)
	desk.Sync.Nudge()
	laptop.Sync.Nudge()
	notes := func(v *app.Vault) map[string]bool {
		e, err := v.Items.Entry(id)
		require.NoError(t, err)
		have := map[string]bool{e.Text(vault.FieldNotes): true}
		for _, p := range e.Past {
			if p.Field == vault.FieldNotes {
				have[strings.Trim(p.Value.Reveal(), `"`)] = true
			}
		}
		return have
	}
	soon(t, "both have all", func() bool { return len(notes(desk)) == 37 && len(notes(laptop)) == 37 })
	w.inStep(desk, laptop)
	for n := range 25 {
		assert.True(t, notes(laptop)[longNote("desk", n)], n)
	}
	w.save(laptop, "Another", "pw", desk)
	attic := w.join(w.device("attic"), desk)
	assert.Len(t, notes(attic), 37)
	for _, r := range everything(t, w, desk).Records {
		assert.Less(t, len(r.Blob), 5<<18, "what the cloud takes as one record")
	}

	_, err := desk.Acts.Archive(t.Context(), id)
	require.NoError(t, err)
	require.NoError(t, desk.Reauthenticate(secret.New(master)))
	_, err = desk.Acts.Purge(t.Context(), id)
	require.NoError(t, err)
	w.inStep(desk)
	left := 0
	for _, r := range everything(t, w, desk).Records {
		left += len(r.Blob)
	}
	const places = 3 * keys.CoveredSize * 3 / 2 // of the three devices, whatever is in them
	assert.Less(t, left, places+100_000, "deleted for good, with all that stood beside it")
}

// What two devices added is together more than a record holds, without any past: both are kept, and nothing stops.
func TestAnItemLargerThanARecord(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	id := w.save(desk, "Chest", "pw", laptop)
	fill := func(v *app.Vault, who string) {
		c := vault.Changes{}
		for i := range 12 {
			c[vault.Field(fmt.Sprintf("own:%s%d", who, i))] = map[string]any{
				"n": fmt.Sprint(who, i), "k": "text", "o": i, "v": strings.Repeat(who, 12_000),
			}
		}
		require.NoError(t, v.Items.Save(t.Context(), id, c))
	}
	w.down.Store(true)
	fill(desk, "desk")
	fill(laptop, "laptop")
	w.down.Store(false)
	desk.Sync.Nudge()
	laptop.Sync.Nudge()
	soon(t, "both versions on both", func() bool {
		for _, v := range []*app.Vault{desk, laptop} {
			list, err := v.Book.Entries(func(e vault.Entry) bool { return e.Text(vault.FieldTitle) == "Chest" })
			if err != nil || len(list) != 2 {
				return false
			}
		}
		return true
	})
	w.inStep(desk, laptop)
	w.save(laptop, "Another", "pw", desk)
}

package vault_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

func entry(t require.TestingT, c vault.Changes) vault.Entry {
	e, err := vault.New("01", vault.TypeLogin, vault.Stamp{At: 1000, By: "desk"}, c)
	require.NoError(t, err)
	return e
}

func with(t require.TestingT, e vault.Entry, at int64, by string, c vault.Changes) vault.Entry {
	out, err := e.With(vault.Stamp{At: at, By: by}, c)
	require.NoError(t, err)
	return out
}

func TestMergeByField(t *testing.T) {
	base := entry(t, vault.Changes{vault.FieldTitle: "Ferrylink", vault.FieldUsername: "mtolliver"})
	a := with(t, base, 2000, "desk", vault.Changes{vault.FieldTitle: "Ferrylink tickets"})
	b := with(t, base, 3000, "laptop", vault.Changes{vault.FieldUsername: "maren"})
	m := vault.Merge(a, b)
	assert.Equal(t, "Ferrylink tickets", m.Text(vault.FieldTitle))
	assert.Equal(t, "maren", m.Text(vault.FieldUsername))
	assert.Empty(t, m.Conflicts())
}

func TestTwoNewPasswordsAreBothKept(t *testing.T) {
	base := entry(t, vault.Changes{vault.FieldPassword: secret.New("old")})
	a := with(t, base, 2000, "desk", vault.Changes{vault.FieldPassword: secret.New("from desk")})
	b := with(t, base, 3000, "laptop", vault.Changes{vault.FieldPassword: secret.New("from laptop")})
	m := vault.Merge(a, b)
	assert.Equal(t, "from laptop", m.Text(vault.FieldPassword))
	require.Len(t, m.Conflicts(), 1)
	assert.Equal(t, `"from desk"`, m.Conflicts()[0].Value.Reveal())

	// Somebody who has seen both decides; merging the stale side in again changes nothing.
	settled, err := m.Resolve(vault.Stamp{At: 4000, By: "desk"}, secret.New("from desk"))
	require.NoError(t, err)
	assert.Empty(t, vault.Merge(settled, b).Conflicts())
	assert.Equal(t, "from desk", vault.Merge(settled, b).Text(vault.FieldPassword))
}

func TestALaterEditIsNoContest(t *testing.T) {
	base := entry(t, vault.Changes{vault.FieldPassword: secret.New("old")})
	a := with(t, base, 2000, "desk", vault.Changes{vault.FieldPassword: secret.New("one")})
	b := with(t, a, 3000, "laptop", vault.Changes{vault.FieldPassword: secret.New("two")})
	assert.Empty(t, vault.Merge(a, b).Conflicts(), "two grew from one")
	assert.Equal(t, b, vault.Merge(a, b))
}

func TestDeletionLosesToAnEdit(t *testing.T) {
	base := entry(t, vault.Changes{vault.FieldTitle: "Lanternfish"})
	gone, err := base.Archive(vault.Stamp{At: 5000, By: "desk"})
	require.NoError(t, err)
	edited := with(t, base, 2000, "laptop", vault.Changes{vault.FieldNotes: "Wren uses it"})
	assert.False(t, vault.Merge(gone, edited).Archived())
	assert.True(t, vault.Merge(gone, base).Archived())
}

// Devices edit one entry without hearing of each other, then meet in some
// order. Whatever the order, they end with the same entry, and every password
// that was ever typed is in it.
func TestAnyOrderOfMergesConverges(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		base := entry(t, vault.Changes{vault.FieldTitle: "t", vault.FieldPassword: secret.New("p0")})
		typed := map[string]bool{"p0": true}
		versions := make([]vault.Entry, rapid.IntRange(2, 5).Draw(t, "devices"))
		for d := range versions {
			v := base
			for i := range rapid.IntRange(0, 4).Draw(t, "edits") {
				at := rapid.Int64Range(900, 1100).Draw(t, "at") // clocks differ and go back
				by := fmt.Sprint("device", d)
				switch rapid.IntRange(0, 4).Draw(t, "edit") {
				case 0:
					v = with(
						t,
						v,
						at,
						by,
						vault.Changes{vault.FieldTitle: rapid.SampledFrom([]string{"t", "u", "v"}).Draw(t, "title")},
					)
				case 1, 2:
					p := rapid.SampledFrom([]string{"same", fmt.Sprint("p", d, "-", i)}).Draw(t, "password")
					typed[p] = true
					v = with(t, v, at, by, vault.Changes{vault.FieldPassword: secret.New(p)})
				case 3:
					v, _ = v.Archive(vault.Stamp{At: at, By: by})
				case 4:
					v = with(t, v, at, by, vault.Changes{vault.FieldTags: []string{fmt.Sprint(d)}})
				}
			}
			versions[d] = v
		}
		first := fold(t, versions)
		other := fold(t, rapid.Permutation(versions).Draw(t, "order"))
		if first != other {
			t.Fatalf("orders differ:\n%s\n%s", first, other)
		}
		merged, err := vault.Decode([]byte(first))
		require.NoError(t, err)
		have := map[string]bool{merged.Text(vault.FieldPassword): true}
		for _, p := range merged.Past {
			if p.Field == vault.FieldPassword {
				have[p.Value.Reveal()[1:len(p.Value.Reveal())-1]] = true
			}
		}
		for p := range typed {
			if !have[p] {
				t.Fatalf("password %q was lost: %v", p, have)
			}
		}
		if again := vault.Merge(merged, versions[0]); encode(t, again) != first {
			t.Fatalf("merging twice changes the entry")
		}
	})
}

func fold(t require.TestingT, versions []vault.Entry) string {
	m := versions[0]
	for _, v := range versions[1:] {
		m = vault.Merge(v, m)
	}
	return encode(t, m)
}

func encode(t require.TestingT, e vault.Entry) string {
	b, err := e.Encode()
	require.NoError(t, err)
	return string(b)
}

// Deleting for good reaches a device that knew no more than what was deleted, and
// loses to one that edited it meanwhile, in whatever order they meet.
func TestPurgeLosesToAnEdit(t *testing.T) {
	e, err := vault.New(
		"01",
		vault.TypeLogin,
		vault.Stamp{At: 1000, By: "desk"},
		vault.Changes{vault.FieldTitle: "A", vault.FieldNotes: "n"},
	)
	require.NoError(t, err)
	gone, err := e.Archive(vault.Stamp{At: 2000, By: "desk"})
	require.NoError(t, err)
	purged, err := gone.Purge(vault.Stamp{At: 3000, By: "desk"})
	require.NoError(t, err)
	edited, err := e.With(vault.Stamp{At: 2500, By: "laptop"}, vault.Changes{vault.FieldNotes: "still used"})
	require.NoError(t, err)

	for _, known := range []vault.Entry{e, gone} {
		assert.True(t, vault.Merge(purged, known).Purged())
		assert.Equal(t, vault.Merge(purged, known), vault.Merge(known, purged))
	}
	for _, order := range [][]vault.Entry{{purged, edited, gone}, {edited, gone, purged}, {gone, purged, edited},
		{purged, gone, edited}} {
		m := vault.Merge(vault.Merge(order[0], order[1]), order[2])
		assert.False(t, m.Purged())
		assert.Equal(t, "still used", m.Text(vault.FieldNotes))
		assert.Equal(t, "A", m.Text(vault.FieldTitle))
		assert.True(t, m.IsItem())
	}
}

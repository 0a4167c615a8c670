package vault_test

import (
	"fmt"
	"math"
	"strings"
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

// Devices edit, put away and delete for good, with clocks anywhere, and meet in any order until nothing is new to
// anybody. They end with the same entry; joining is commutative and idempotent on the way.
func TestMergesWithDeletionsConverge(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		moment := rapid.OneOf(
			rapid.Int64Range(900, 1100), rapid.Int64Range(-3, 3), rapid.SampledFrom([]int64{
				math.MinInt64, math.MinInt64 + 1, math.MaxInt64 - 2, math.MaxInt64 - 1, math.MaxInt64,
			}),
		)
		base := entry(t, vault.Changes{vault.FieldTitle: "t", vault.FieldPassword: secret.New("p0")})
		devices := make([]vault.Entry, rapid.IntRange(2, 4).Draw(t, "devices"))
		for d := range devices {
			devices[d] = base
		}
		for i := range rapid.IntRange(1, 14).Draw(t, "steps") {
			d := rapid.IntRange(0, len(devices)-1).Draw(t, "device")
			v, by := devices[d], vault.Stamp{At: moment.Draw(t, "at"), By: fmt.Sprint("device", d)}
			switch rapid.IntRange(0, 5).Draw(t, "step") {
			case 0:
				v, _ = v.With(by, vault.Changes{vault.FieldTitle: rapid.SampledFrom([]string{"t", "u"}).Draw(t, "title")})
			case 1:
				v, _ = v.With(by, vault.Changes{vault.FieldPassword: secret.New(fmt.Sprint("p", d, "-", i))})
			case 2:
				v, _ = v.Archive(by)
			case 3:
				v, _ = v.Purge(by)
			case 4, 5:
				o := devices[rapid.IntRange(0, len(devices)-1).Draw(t, "other")]
				m := vault.Merge(v, o)
				if x, y := encode(t, m), encode(t, vault.Merge(o, v)); x != y {
					t.Fatalf("not commutative:\n%s\n%s", x, y)
				}
				if x, y := encode(t, m), encode(t, vault.Merge(m, o)); x != y {
					t.Fatalf("not idempotent:\n%s\n%s", x, y)
				}
				v = m
			}
			devices[d] = v
		}
		for range len(devices) {
			for a := range devices {
				for b := range devices {
					devices[a] = vault.Merge(devices[a], devices[b])
				}
			}
		}
		for _, d := range devices[1:] {
			if x, y := encode(t, devices[0]), encode(t, d); x != y {
				t.Fatalf("they differ:\n%s\n%s", x, y)
			}
		}
	})
}

// An item that was deleted for good on two devices, in two versions, doesn't come back with either.
func TestWhatWasDeletedTwiceStaysDeleted(t *testing.T) {
	one := entry(t, vault.Changes{vault.FieldTitle: "Lanternfish"})
	two := with(t, one, 2000, "laptop", vault.Changes{vault.FieldNotes: "Wren uses it"})
	gone := func(e vault.Entry, at int64, by string) vault.Entry {
		e, err := e.Archive(vault.Stamp{At: at, By: by})
		require.NoError(t, err)
		e, err = e.Purge(vault.Stamp{At: at + 1, By: by})
		require.NoError(t, err)
		return e
	}
	both := vault.Merge(gone(one, 3000, "desk"), gone(two, 4000, "laptop"))
	for _, back := range []vault.Entry{one, two} {
		assert.True(t, vault.Merge(both, back).Purged())
		assert.True(t, vault.Merge(back, both).Purged())
	}
	edited := with(t, two, 5000, "attic", vault.Changes{vault.FieldNotes: "Wren uses it daily"})
	assert.False(t, vault.Merge(both, edited).Purged(), "but with an edit")
}

// However large the past grows, an entry fits a record, what was taken out is told, and versions join in any order.
func TestTrim(t *testing.T) {
	note := func(n int) string { return strings.Repeat("x", 60_000) + fmt.Sprint(n) }
	e := entry(t, vault.Changes{vault.FieldTitle: "t", vault.FieldNotes: note(0)})
	stale := with(t, e, 1500, "laptop", vault.Changes{vault.FieldUsername: "maren"})
	var apart []vault.Past
	for i := range 40 {
		e = with(t, e, int64(2000+i), "desk", vault.Changes{vault.FieldNotes: note(i + 1)})
		var taken []vault.Past
		e, taken = e.Trim()
		apart = vault.JoinPast(apart, taken)
		b, err := e.Encode()
		require.NoError(t, err, "edit %d", i)
		require.LessOrEqual(t, len(b), e.Size())
	}
	assert.Positive(t, e.Horizon())
	all := vault.JoinPast(apart, e.Past)
	assert.Len(t, all, 40, "no earlier note is lost")

	m := vault.Merge(e, stale)
	assert.Equal(t, encode(t, m), encode(t, vault.Merge(stale, e)))
	assert.Equal(t, encode(t, m), encode(t, vault.Merge(m, stale)))
	assert.Equal(t, "maren", m.Text(vault.FieldUsername))
	assert.Empty(t, vault.Lost(m, e.Past))

	again, err := vault.Decode([]byte(encode(t, e)))
	require.NoError(t, err)
	assert.Equal(t, e.Horizon(), again.Horizon())

	two := with(t, stale, 1600, "laptop", vault.Changes{vault.FieldNotes: "of the laptop"})
	m = vault.Merge(e, two)
	assert.NotEmpty(t, vault.Lost(m, vault.JoinedPast(e, two)), "it has something from before the horizon that nobody kept apart")
}

// An edit at the end of time is later all the same.
func TestStampsAtTheEndOfTheirRange(t *testing.T) {
	e := entry(t, vault.Changes{vault.FieldTitle: "t"})
	e = with(t, e, math.MaxInt64, "desk", vault.Changes{vault.FieldTitle: "u"})
	f := with(t, e, 5, "attic", vault.Changes{vault.FieldTitle: "v"})
	assert.Equal(t, "v", vault.Merge(e, f).Text(vault.FieldTitle))
	assert.Equal(t, "v", vault.Merge(f, e).Text(vault.FieldTitle))
	g := with(t, f, 6, "desk", vault.Changes{vault.FieldTitle: "w"})
	assert.Equal(t, "w", vault.Merge(f, g).Text(vault.FieldTitle))
}

// What was deleted for good doesn't come back because a version of before is met late, such as one whose commit the
// device hadn't heard of when it was locked. An edit that the deletion didn't know of brings it back all the same.
func TestEarlierVersionsStayDeleted(t *testing.T) {
	at := func(ms int64, by string) vault.Stamp { return vault.Stamp{At: ms, By: by} }
	first, err := vault.New("e", vault.TypeLogin, at(10, "desk"), vault.Changes{vault.FieldTitle: "Ferry", vault.FieldPinned: true})
	require.NoError(t, err)
	second, err := first.With(at(20, "laptop"), vault.Changes{vault.FieldNotes: "n"})
	require.NoError(t, err)
	third, err := second.With(at(30, "desk"), vault.Changes{vault.FieldNotes: "m", vault.FieldTried: "x"})
	require.NoError(t, err)
	archived, err := third.Archive(at(40, "desk"))
	require.NoError(t, err)
	gone, err := archived.Purge(at(50, "desk"))
	require.NoError(t, err)
	for i, v := range []vault.Entry{first, second, third, archived} {
		assert.True(t, vault.Merge(gone, v).Purged(), i)
		assert.True(t, vault.Merge(v, gone).Purged(), i)
		assert.True(t, vault.Merge(vault.Merge(v, gone), first).Purged(), i)
	}
	for name, v := range map[string]vault.Entry{
		"by the same device":      edited(t, third, at(60, "desk")),
		"by another one, earlier": edited(t, first, at(15, "phone")),
		"by one that was known":   edited(t, second, at(25, "laptop")),
		"from a file":             edited(t, first, at(1, "")),
	} {
		assert.False(t, vault.Merge(gone, v).Purged(), name)
		assert.Equal(t, "edited", vault.Merge(v, gone).Text(vault.FieldFolder), name)
	}
}

func edited(t *testing.T, e vault.Entry, by vault.Stamp) vault.Entry {
	t.Helper()
	e, err := e.With(by, vault.Changes{vault.FieldFolder: "edited"})
	require.NoError(t, err)
	return e
}

package vault

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
)

func TestHistoryInWords(t *testing.T) {
	e := login(t, Changes{FieldTitle: "Ferrylink", FieldPassword: secret.New("one")})
	e = edit(t, e, at(2000), Changes{FieldPassword: secret.New("two"), FieldFolder: "Travel"})
	e = edit(t, e, Stamp{3000, "laptop"}, Changes{FieldTitle: "Ferries", FieldFolder: ""})
	e, err := e.Archive(at(4000))
	require.NoError(t, err)
	e, err = e.Restore(at(5000))
	require.NoError(t, err)

	h := e.History()
	require.Len(t, h, 5)
	assert.True(t, h[0].Changes[0].Field == FieldArchived && h[0].Changes[0].Removed)
	assert.True(t, h[1].Changes[0].Field == FieldArchived && h[1].Changes[0].Added)
	assert.Equal(t, "laptop", h[2].By)
	assert.Equal(t, []Change{
		{Field: FieldFolder, From: "Travel", Past: h[2].Changes[0].Past, Removed: true},
		{Field: FieldTitle, From: "Ferrylink", To: "Ferries", Past: h[2].Changes[1].Past},
	}, h[2].Changes)
	password := h[3].Changes[1]
	assert.True(t, password.Hidden)
	assert.Empty(t, password.From+password.To, "hidden values are asked for one by one")
	assert.Equal(t, `"one"`, e.Past[password.Past].Value.Reveal())
	assert.True(t, h[4].First)
	assert.True(t, h[4].Changes[0].Added)
}

func TestPlain(t *testing.T) {
	for text, want := range map[string]string{`"a"`: "a", `true`: "yes", `["a","b"]`: "a, b",
		`[{"url":"https://a.example/"},{"url":"https://b.example/","match":"host"}]`: "https://a.example/, " +
			"https://b.example/", `{"n":"Limit","k":"text","v":"300"}`: "300", `null`: "", `7`: ""} {
		assert.Equal(t, want, Plain(secret.New(text)), text)
	}
}

func TestAsOf(t *testing.T) {
	e := login(t, Changes{FieldTitle: "A", FieldPassword: secret.New("one"), FieldNotes: "n"})
	e = edit(t, e, at(2000), Changes{FieldPassword: secret.New("two"), FieldNotes: ""})
	e, err := e.Archive(at(3000))
	require.NoError(t, err)
	e = edit(t, e, at(4000), Changes{FieldTitle: "B"})
	_, ok := e.AsOf(999)
	assert.False(t, ok, "not there yet")
	for ms, want := range map[int64]struct {
		title, password, notes string
		archived               bool
	}{1000: {"A", "one", "n", false}, 1999: {"A", "one", "n", false}, 2000: {"A", "two", "", false}, 3500: {"A",
		"two", "", true}, 4000: {"B", "two", "", false}, 9000: {"B", "two", "", false}} {
		then, ok := e.AsOf(ms)
		require.True(t, ok)
		assert.Equal(t, want.title, then.Text(FieldTitle), ms)
		assert.Equal(t, want.password, then.Text(FieldPassword), ms)
		assert.Equal(t, want.notes, then.Text(FieldNotes), ms)
		assert.Equal(t, want.archived, then.Archived(), ms)
	}
	back, err := e.RestoreAt(at(5000), 1500)
	require.NoError(t, err)
	assert.Equal(t, "one", back.Text(FieldPassword))
	assert.Equal(t, "n", back.Text(FieldNotes))
	was, _ := back.AsOf(4500)
	assert.Equal(t, "B", was.Text(FieldTitle), "what it was before restoring is in the past")
	_, err = e.RestoreAt(at(5000), 5)
	assert.ErrorIs(t, err, ErrNotThere)
}

// Whatever is done to an entry, each moment of it can be read again and restored.
func TestEveryMomentCanBeReadAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		fields := []Field{FieldTitle, FieldPassword, FieldNotes, FieldFolder, CustomFieldKey("x")}
		e, err := New("01", TypeLogin, at(1000), Changes{FieldTitle: "first"})
		if err != nil {
			t.Fatal(err)
		}
		kept := map[int64]Entry{1000: e}
		for i := range rapid.IntRange(1, 8).Draw(t, "edits") {
			ms := int64(2000 + 1000*i)
			switch rapid.IntRange(0, 4).Draw(t, "act") {
			case 0:
				e, err = e.Archive(at(ms))
			case 1:
				e, err = e.Restore(at(ms))
			default:
				e, err = e.With(
					at(ms),
					Changes{
						rapid.SampledFrom(fields).Draw(t, "field"): rapid.SampledFrom([]string{"", "a", "b", "c"}).
							Draw(t, "value"),
					},
				)
			}
			if err != nil {
				t.Fatal(err)
			}
			kept[ms] = e
		}
		for ms, was := range kept {
			then, ok := e.AsOf(ms + 500)
			if !ok || then.Archived() != was.Archived() {
				t.Fatalf("at %d archived is %v, was %v", ms, then.Archived(), was.Archived())
			}
			back, err := e.RestoreAt(at(90000), ms)
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range fields {
				if then.Text(f) != was.Text(f) || back.Text(f) != was.Text(f) {
					t.Fatalf(
						"at %d %s was %q, reads %q, restores to %q",
						ms,
						f,
						was.Text(f),
						then.Text(f),
						back.Text(f),
					)
				}
			}
		}
	})
}

func TestReverse(t *testing.T) {
	before := login(t, Changes{FieldTitle: "A", FieldFolder: "X", FieldNotes: "n"})
	after := edit(t, before, at(2000), Changes{FieldTitle: "B", FieldFolder: "Y", FieldTags: []string{"new"}})
	since := edit(t, after, at(3000), Changes{FieldFolder: "Z"})
	back, kept, err := since.Reverse(at(4000), before, after)
	require.NoError(t, err)
	assert.Equal(t, "A", back.Text(FieldTitle))
	assert.Equal(t, "Z", back.Text(FieldFolder), "edited since")
	assert.Equal(t, []Field{FieldFolder}, kept)
	assert.Empty(t, View(back).Tags)

	gone, err := before.Archive(at(2000))
	require.NoError(t, err)
	back, _, err = gone.Reverse(at(3000), before, gone)
	require.NoError(t, err)
	assert.False(t, back.Archived())

	purged, err := gone.Purge(at(3000))
	require.NoError(t, err)
	back, kept, err = purged.Reverse(at(4000), gone, purged)
	require.NoError(t, err)
	assert.Empty(t, kept)
	assert.False(t, back.Purged())
	assert.True(t, back.Archived(), "deleting is undone, not the archive")
	assert.Equal(t, "n", back.Text(FieldNotes))
}

func TestPurge(t *testing.T) {
	e := login(t, Changes{FieldTitle: "A", FieldPassword: secret.New("one")})
	e = edit(t, e, at(1500), Changes{FieldPassword: secret.New("two")})
	_, err := e.Purge(at(2000))
	assert.ErrorIs(t, err, ErrNotArchived)
	gone, err := e.Archive(at(2000))
	require.NoError(t, err)
	purged, err := gone.Purge(at(3000))
	require.NoError(t, err)
	assert.True(t, purged.Purged())
	assert.False(t, purged.IsItem())
	assert.Empty(t, purged.Past)
	b, err := purged.Encode()
	require.NoError(t, err)
	assert.NotContains(t, string(b), "one")
	assert.NotContains(t, string(b), "two")
	back, err := Decode(b)
	require.NoError(t, err)
	assert.True(t, back.Purged())
}

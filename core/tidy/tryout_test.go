package tidy_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
	"redlocket/core/tidy"
	"redlocket/core/vault"
)

func candidate(t *testing.T, id, user, password string, at int64) vault.Entry {
	e, err := vault.New(id, vault.TypeLogin, vault.Stamp{At: at, By: "desk"}, vault.Changes{
		vault.FieldTitle: "Ferrylink", vault.FieldUsername: user, vault.FieldPassword: secret.New(password),
	})
	require.NoError(t, err)
	return e
}

func never(string) int64 { return 0 }

// What the proposal has comes first, then what was changed last; one password under one name is tried once.
func TestCandidates(t *testing.T) {
	rows := []vault.Entry{
		candidate(t, "a", "maren", "old", 1000), candidate(t, "b", "Maren ", "newer", 3000),
		candidate(t, "c", "", "newer", 2000), candidate(t, "d", "ma***n", "", 4000), candidate(t, "e", "maren", "last", 9000),
	}
	s := tidy.Survives{Username: "maren", PasswordOf: "a"}
	var ids []string
	for _, e := range tidy.Candidates(rows, s, never) {
		ids = append(ids, e.ID)
	}
	assert.Equal(t, []string{"a", "e", "b"}, ids)
}

// After three refusals at one account it stops, until its user says so; another account isn't held up by it.
func TestATryOutStops(t *testing.T) {
	var rows []vault.Entry
	for i := range 5 {
		rows = append(rows, candidate(t, fmt.Sprint("m", i), "maren", fmt.Sprint("pw ", i), int64(9000-i)))
	}
	rows = append(rows, candidate(t, "w", "wren", "hers", 1000))
	s := tidy.Survives{Username: "maren", PasswordOf: "m0"}
	e, err := tidy.NewTryOut("t", rows, vault.Stamp{At: 10_000, By: "desk"})
	require.NoError(t, err)
	o := tidy.TryOuts([]vault.Entry{e})[0]
	list := tidy.Candidates(rows, s, never)
	for i := range tidy.MostRefusals {
		next, ok, stopped := o.Next(list, s)
		assert.True(t, ok)
		assert.False(t, stopped)
		assert.Equal(t, fmt.Sprint("m", i), next.ID)
		o.Tries = append(o.Tries, tidy.Try{ID: next.ID, At: 1})
	}
	next, ok, stopped := o.Next(list, s)
	assert.True(t, ok && stopped)
	assert.Equal(t, "m3", next.ID)
	o.Allowed += tidy.MostRefusals
	_, _, stopped = o.Next(list, s)
	assert.False(t, stopped)

	kept, err := o.Write(e, vault.Stamp{At: 11_000, By: "laptop"})
	require.NoError(t, err)
	assert.Equal(t, o, tidy.TryOuts([]vault.Entry{kept})[0], "it goes on elsewhere")

	o.Tries = append(o.Tries, tidy.Try{ID: "m3"}, tidy.Try{ID: "m4"})
	next, ok, stopped = o.Next(list, s)
	assert.True(t, ok)
	assert.False(t, stopped, "wren's account wasn't refused")
	assert.Equal(t, "w", next.ID)
	o.Tries = append(o.Tries, tidy.Try{ID: "w"})
	_, ok, _ = o.Next(list, s)
	assert.False(t, ok)
}

func TestWhatASignInMeans(t *testing.T) {
	s := tidy.Survives{Username: "maren"}
	masked := candidate(t, "a", "ma***n", "kelp", 1)
	assert.True(t, tidy.Means(masked, s, "Maren", secret.New("kelp")))
	assert.True(t, tidy.Means(masked, s, "", secret.New("kelp")))
	assert.False(t, tidy.Means(masked, s, "wren", secret.New("kelp")))
	assert.False(t, tidy.Means(masked, s, "maren", secret.New("other")))
	assert.False(t, tidy.Means(candidate(t, "b", "maren", "", 1), s, "maren", secret.Text{}))
}

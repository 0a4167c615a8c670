package tidy

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// TestJoinLosesNothing joins all that is proposed on made-up lists: each value of each row is in the one login, as it
// is, as another name, or in its history.
func TestJoinLosesNothing(t *testing.T) {
	joined := 0
	for seed := range uint64(3) {
		m := household(rand.New(rand.NewPCG(seed, 21)))
		list := entries(t, m.rows...)
		for i := range list {
			list[i].ID = fmt.Sprintf("%04d", i)
			var err error
			list[i], err = list[i].With(vault.Stamp{At: int64(5000 + i), By: "t"}, vault.Changes{
				vault.FieldFolder: fmt.Sprint("F", i%3), vault.FieldTags: []string{fmt.Sprint("t", i%5)},
				vault.FieldNotes: fmt.Sprint("note ", i, "."), vault.Field("own:" + fmt.Sprint(i%2)): fmt.Sprint("v", i),
			})
			require.NoError(t, err)
		}
		got, err := Find(t.Context(), list, Options{})
		require.NoError(t, err)
		for _, p := range got {
			var rows []vault.Entry
			for _, id := range p.IDs {
				rows = append(rows, list[slices.IndexFunc(list, func(e vault.Entry) bool { return e.ID == id })])
			}
			one, err := Join(rows, p.Survives, vault.Stamp{At: 90_000, By: "t"})
			require.NoError(t, err)
			joined++
			it := vault.View(one)
			assert.Equal(t, p.Survives.Title, it.Title)
			assert.Equal(t, p.Survives.Username, it.Username)
			if p.Survives.Address != "" {
				assert.Equal(t, p.Survives.Address, it.Addresses[0].URL)
			}
			names := append([]string{it.Title, it.Username}, it.Aliases...)
			for _, e := range rows {
				row := vault.View(e)
				if e.ID == p.Survives.PasswordOf {
					assert.Equal(t, e.Text(vault.FieldPassword), one.Text(vault.FieldPassword))
				}
				for _, name := range []string{row.Title, strings.TrimSpace(row.Username)} {
					assert.True(t, name == "" || slices.Contains(names, name), "%q of %v", name, names)
				}
				for _, a := range row.Addresses {
					assert.True(t, slices.ContainsFunc(it.Addresses, func(b vault.Address) bool {
						return a.URL == b.URL
					}))
				}
				assert.Contains(t, it.Notes, row.Notes)
				assert.True(t, row.Folder == it.Folder || slices.Contains(it.Tags, row.Folder))
				assert.Subset(t, it.Tags, row.Tags)
				for f, r := range e.Fields {
					if collected[f] || one.Fields[f].Value == r.Value {
						continue
					}
					assert.True(t, slices.ContainsFunc(one.Past, func(q vault.Past) bool {
						return q.Field == f && q.Value == r.Value
					}), "%s of %s is in the history", f, e.ID)
				}
			}
		}
	}
	assert.Greater(t, joined, 200)
}

// TestJoinChangesNoRow: the rows stay as they were, so that a join can be taken back.
func TestJoinChangesNoRow(t *testing.T) {
	rows := entries(t, kept{title: "A", address: ferry, user: "maren", password: "a1"},
		kept{title: "B", address: ferry, user: "Maren", password: "b2"})
	before := []vault.Item{vault.View(rows[0]), vault.View(rows[1])}
	one, err := Join(rows, Survives{Title: "A", Username: "maren", PasswordOf: rows[1].ID}, vault.Stamp{At: 9000, By: "t"})
	require.NoError(t, err)
	assert.Equal(t, rows[1].ID, one.ID)
	assert.Equal(t, before, []vault.Item{vault.View(rows[0]), vault.View(rows[1])})
	assert.Equal(t, "b2", one.Text(vault.FieldPassword))
	past, ok := one.PreviousPassword()
	assert.True(t, ok)
	assert.Equal(t, "a1", past.Reveal())
}

// A login that is shared stays for those who share it, whichever password survives, and two that are shared with
// different people aren't joined.
func TestWhatIsSharedStays(t *testing.T) {
	by := vault.Stamp{At: 1_700_000_000_000, By: "desk"}
	row := func(id, password, set string) vault.Entry {
		c := vault.Changes{
			vault.FieldTitle: "Sloop Music", vault.FieldPassword: secret.New(password),
			vault.FieldAddresses: []vault.Address{{URL: "https://sloop.example/"}}, vault.FieldNotes: "of " + id,
		}
		if set != "" {
			c[vault.FieldShare] = vault.ShareText(set, id)
		}
		e, err := vault.New(id, vault.TypeLogin, by, c)
		require.NoError(t, err)
		return e
	}
	own, shared, other := row("own", "kelp", ""), row("shared", "ferry", "family"), row("other", "wrack", "choir")
	by.At += 1000
	for survives, want := range map[string][2]string{"own": {"kelp", "ferry"}, "shared": {"ferry", "kelp"}} {
		list, err := Settle("d", "r", Joined, []vault.Entry{own, shared}, Survives{
			Title: "Sloop Music", PasswordOf: survives,
		}, by)
		require.NoError(t, err)
		for _, e := range list {
			assert.Equal(t, e.ID == "own", e.Archived())
			if e.ID != "shared" {
				continue
			}
			assert.Equal(t, want[0], e.Text(vault.FieldPassword))
			assert.Contains(t, e.Text(vault.FieldNotes), "of own")
			past := ""
			for _, p := range e.Past {
				if p.Field == vault.FieldPassword {
					past += vault.Plain(p.Value)
				}
			}
			assert.Equal(t, want[1], past)
			set, _ := e.Share()
			assert.Equal(t, "family", set)
		}
	}
	_, err := Settle("d", "r", Joined, []vault.Entry{own, shared, other}, Survives{}, by)
	assert.ErrorIs(t, err, ErrChanged)
}

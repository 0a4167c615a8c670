package tidy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/tidy"
	"redlocket/core/vault"
)

const year = 365 * 24 * 3600 * 1000

func at(t *testing.T, id, title string, ms int64, urls ...string) vault.Entry {
	var list []vault.Address
	for _, u := range urls {
		list = append(list, vault.Address{URL: u})
	}
	e, err := vault.New(id, vault.TypeLogin, vault.Stamp{At: ms, By: "desk"}, vault.Changes{
		vault.FieldTitle: title, vault.FieldUsername: "maren", vault.FieldAddresses: list,
	})
	require.NoError(t, err)
	return e
}

func betterList(t *testing.T, now int64) []vault.Entry {
	return []vault.Entry{
		at(t, "a", "ferrylink.example", now, "https://ferrylink.example/"),
		at(t, "b", "My ferry", now, "http://ferrylink.example/in", "http://www.ferrylink.example/", "http://lone.example/"),
		at(t, "c", "www.whelk-stall.example", now-4*year, "https://www.whelk-stall.example/x"),
		at(t, "d", "Used", now-4*year, "https://used.example/x"),
		at(t, "e", "Router", now, "http://192.168.1.1/"),
		at(t, "f", "", now, "https://dunlin.example/in"),
		at(t, "g", "Never dated", 5, "https://dated.example/in"),
		at(t, "h", "192.0.2.1", now, "https://192.0.2.1/"),
	}
}

func improve(list []vault.Entry, now int64) []tidy.Better {
	known := func(domain string) tidy.Known {
		if domain == "ferrylink.example" {
			return tidy.Known{Name: "Ferrylink", SignIn: "https://ferrylink.example/sign-in"}
		}
		return tidy.Known{}
	}
	used := func(id string) int64 {
		if id == "d" {
			return now - year
		}
		return 0
	}
	return tidy.Improve(list, known, used, now)
}

func TestWhatCanBeBetter(t *testing.T) {
	const now = 1_700_000_000_000
	assert.Equal(t, []tidy.Better{
		{ID: "a", What: tidy.BetterTitle, From: "ferrylink.example", To: "Ferrylink"},
		{ID: "a", What: tidy.BetterSignIn, From: "https://ferrylink.example/", To: "https://ferrylink.example/sign-in"},
		{ID: "b", What: tidy.BetterSecure, From: "http://ferrylink.example/in", To: "https://ferrylink.example/in"},
		{ID: "c", What: tidy.BetterTitle, From: "www.whelk-stall.example", To: "Whelk stall"},
		{ID: "c", What: tidy.BetterArchive, At: now - 4*year},
		{ID: "f", What: tidy.BetterTitle, From: "", To: "Dunlin"},
	}, improve(betterList(t, now), now))
}

// Done, it isn't offered again; taken back, all is as it was; what is to stay as it is stays.
func TestBetterIsDoneAndTakenBack(t *testing.T) {
	const now = 1_700_000_000_000
	list := betterList(t, now)
	entries := map[string]vault.Entry{}
	for _, e := range list {
		entries[e.ID] = e
	}
	by := vault.Stamp{At: now + 1000, By: "desk"}
	for _, what := range tidy.Whats() {
		if what == tidy.BetterSite { // the directory's affair
			continue
		}
		var some []tidy.Better
		for _, b := range improve(list, now) {
			if b.What == what {
				some = append(some, b)
			}
		}
		require.NotEmpty(t, some, what)
		write, err := tidy.SettleBetter("d "+string(what), tidy.Improved, some, entries, by)
		require.NoError(t, err)
		for _, e := range write {
			entries[e.ID] = e
		}
		by.At += 1000
	}
	assert.Equal(t, "Ferrylink", entries["a"].Text(vault.FieldTitle))
	assert.Equal(t, []string{"ferrylink.example"}, vault.View(entries["a"]).Aliases)
	assert.True(t, entries["c"].Archived())
	var after []vault.Entry
	for _, e := range list {
		after = append(after, entries[e.ID])
	}
	assert.Empty(t, improve(after, now))

	back, err := tidy.TakeBack(func(tidy.Decision) bool { return true }, entries, by)
	require.NoError(t, err)
	assert.Equal(t, 4, back.Count)
	assert.Empty(t, back.Kept)
	for _, e := range back.Entries {
		entries[e.ID] = e
	}
	for _, e := range list {
		assert.Equal(t, plainView(e), plainView(entries[e.ID]))
	}

	write, err := tidy.SettleBetter("stay", tidy.AsIs, []tidy.Better{{ID: "a", What: tidy.BetterTitle}}, entries, by)
	require.NoError(t, err)
	said := tidy.Standing(tidy.Decisions(write))
	assert.True(t, said.AsItIs("a", tidy.BetterTitle))
	assert.False(t, said.AsItIs("a", tidy.BetterSignIn))
	_, err = tidy.SettleBetter("x", tidy.Improved, nil, entries, by)
	assert.ErrorIs(t, err, tidy.ErrChanged)
}

// Domains belong together if several logins have both, or if they have one name; not if the directory has them as one
// site, if one login alone has them, or if one is an address of a network.
func TestDomainsOfOneSite(t *testing.T) {
	const now = 1_700_000_000_000
	list := []vault.Entry{
		at(t, "a", "Dunlin", now, "https://dunlin.example/in", "https://shop.dunlin-outdoors.example/"),
		at(t, "b", "Dunlin", now, "https://dunlin-outdoors.example/", "https://dunlin.example/in"),
		at(t, "c", "Knot", now, "https://knot.example/", "https://knot.test/"),
		at(t, "d", "Alone", now, "https://alone.example/", "https://elsewhere.example/"),
		at(t, "e", "Ferry", now, "https://ferrylink.example/", "https://ferrylink.test/"),
		at(t, "f", "Box", now, "http://192.0.2.1/", "http://192.0.2.2/"),
		at(t, "g", "Box", now, "http://192.0.2.1/", "http://192.0.2.2/"),
	}
	known := func(domain string) tidy.Known {
		if domain == "ferrylink.example" {
			return tidy.Known{Domains: []string{domain, "ferrylink.test"}}
		}
		return tidy.Known{}
	}
	var got []tidy.Better
	for _, b := range tidy.Improve(list, known, func(string) int64 { return now }, now) {
		if b.What == tidy.BetterSite {
			got = append(got, b)
		}
	}
	assert.Equal(t, []tidy.Better{
		{ID: "a", What: tidy.BetterSite, From: "dunlin.example", To: "dunlin-outdoors.example"},
		{ID: "c", What: tidy.BetterSite, From: "knot.example", To: "knot.test"},
	}, got)
}

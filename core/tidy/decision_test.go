package tidy_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
	"redlocket/core/tidy"
	"redlocket/core/vault"
)

// world is a vault whose proposals are decided one after the other.
type world struct {
	t       require.TestingT
	at      int64
	n       int
	entries map[string]vault.Entry
}

func (w *world) stamp() vault.Stamp { w.at++; return vault.Stamp{At: w.at, By: "desk"} }

func (w *world) list() (out []vault.Entry) {
	for i := range w.n {
		if e, ok := w.entries[fmt.Sprintf("row-%03d", i)]; ok {
			out = append(out, e)
		}
	}
	return out
}

func (w *world) decisions() []tidy.Decision {
	var all []vault.Entry
	for _, e := range w.entries {
		all = append(all, e)
	}
	return tidy.Decisions(all)
}

func (w *world) write(list []vault.Entry) {
	for _, e := range list {
		w.entries[e.ID] = e
	}
}

// worldOf draws a small messy list: few names, few sites, so that much may be one.
func worldOf(t *rapid.T) *world {
	w := &world{t: t, at: 1_700_000_000_000, entries: map[string]vault.Entry{}, n: rapid.IntRange(2, 12).Draw(t, "rows")}
	pick := func(what string, list ...string) string { return rapid.SampledFrom(list).Draw(t, what) }
	for i := range w.n {
		id := fmt.Sprintf("row-%03d", i)
		e, err := vault.New(id, vault.TypeLogin, w.stamp(), vault.Changes{
			vault.FieldTitle: pick("title", "Ferrylink", "ferrylink.example", "Brackish", "Ferry"),
			vault.FieldUsername: pick("user", "maren.tolliver@cormorant.example", "maren.tolliver", "mt", "",
				"MT", "ma***er"),
			vault.FieldPassword: secret.New(pick("password", "kelp ferry", "Kelp-Ferry-9", "", "x7!kQz0pLm")),
			vault.FieldAddresses: []vault.Address{{URL: pick("url", "https://ferrylink.example/login",
				"http://www.ferrylink.example/", "https://brackish.example/")}},
			vault.FieldNotes:  pick("note", "", "the old one", "ask Idris"),
			vault.FieldFolder: pick("folder", "", "Sea", "Town"),
			vault.FieldTags:   []string{pick("tag", "boat", "school")},
		})
		require.NoError(t, err)
		w.entries[id] = e
	}
	return w
}

// values are everything that somebody could look for: it has to be somewhere afterwards.
func (w *world) values() map[string]bool {
	out := map[string]bool{}
	for _, e := range w.list() {
		if e.Archived() {
			continue
		}
		it := vault.View(e)
		own := []string{it.Title, it.Username, it.Notes, it.Folder}
		for _, s := range append(own, append(it.Tags, it.Aliases...)...) {
			out[s] = true
		}
		out["password "+e.Text(vault.FieldPassword)] = true
		for _, a := range it.Addresses {
			out[a.URL] = true
		}
		for _, p := range e.Past {
			if p.Field == vault.FieldPassword {
				out["password "+vault.Plain(p.Value)] = true
			}
		}
		for _, part := range []string{"the old one", "ask Idris"} {
			if len(it.Notes) >= len(part) && contains(it.Notes, part) {
				out[part] = true
			}
		}
	}
	return out
}

func contains(s, part string) bool {
	for i := 0; i+len(part) <= len(s); i++ {
		if s[i:i+len(part)] == part {
			return true
		}
	}
	return false
}

// Whatever is decided, in whatever order: nothing gets lost, and taking everything back gives the list as it was.
func TestDecidingLosesNothingAndCanBeTakenBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := worldOf(t)
		before, was := w.values(), map[string]vault.Item{}
		for id, e := range w.entries {
			was[id] = plainView(e)
		}
		for range 8 {
			said := tidy.Standing(w.decisions())
			found, err := tidy.Find(t.Context(), w.list(), tidy.Options{Apart: said.Apart})
			require.NoError(t, err)
			if len(found) == 0 {
				break
			}
			p := rapid.SampledFrom(found).Draw(t, "proposal")
			var rows []vault.Entry
			for _, id := range p.IDs {
				rows = append(rows, w.entries[id])
			}
			v := rapid.SampledFrom([]tidy.Verdict{tidy.Joined, tidy.Joined, tidy.Apart}).Draw(t, "verdict")
			w.at += 1000
			list, err := tidy.Settle(fmt.Sprint("d", w.at), "run", v, rows, p.Survives, w.stamp())
			require.NoError(t, err)
			w.write(list)
		}
		after := w.values()
		for v := range before {
			if v != "" && v != "password " && !after[v] {
				t.Fatalf("%q is nowhere any more: %v", v, after)
			}
		}
		if len(w.decisions()) == 0 {
			return
		}
		w.at += 1000
		back, err := tidy.TakeBack(func(tidy.Decision) bool { return true }, w.entries, w.stamp())
		require.NoError(t, err)
		w.write(back.Entries)
		for id, it := range was {
			assert.Equal(t, it, plainView(w.entries[id]))
		}
		assert.Empty(t, back.Kept)
		_, err = tidy.TakeBack(func(tidy.Decision) bool { return true }, w.entries, w.stamp())
		assert.ErrorIs(t, err, tidy.ErrNoDecision, "it is taken back once")
	})
}

// plainView is what a person sees of an entry; when it was changed isn't part of it.
func plainView(e vault.Entry) vault.Item {
	it := vault.View(e)
	it.Modified = vault.Stamp{}
	if len(it.Tags) == 0 {
		it.Tags = nil
	}
	if len(it.Aliases) == 0 {
		it.Aliases = nil
	}
	return it
}

// What was typed after a join stays when the join is taken back, days later.
func TestAnEditSinceStays(t *testing.T) {
	w := &world{t: t, at: 1_700_000_000_000, n: 2, entries: map[string]vault.Entry{}}
	for i, user := range []string{"maren", "Maren "} {
		id := fmt.Sprintf("row-%03d", i)
		e, err := vault.New(id, vault.TypeLogin, w.stamp(), vault.Changes{
			vault.FieldTitle: "Ferrylink", vault.FieldUsername: user, vault.FieldPassword: secret.New("kelp"),
			vault.FieldAddresses: []vault.Address{{URL: "https://ferrylink.example/"}}, vault.FieldNotes: fmt.Sprint("note ", i),
		})
		require.NoError(t, err)
		w.entries[id] = e
	}
	s := tidy.Survives{Title: "Ferrylink", Username: "maren", PasswordOf: "row-000"}
	list, err := tidy.Settle("d1", "r", tidy.Joined, w.list(), s, w.stamp())
	require.NoError(t, err)
	w.write(list)
	assert.True(t, w.entries["row-001"].Archived())
	w.at += 3 * 24 * 3600 * 1000
	e, err := w.entries["row-000"].With(w.stamp(), vault.Changes{vault.FieldPassword: secret.New("newer")})
	require.NoError(t, err)
	w.write([]vault.Entry{e})
	back, err := tidy.TakeBack(func(d tidy.Decision) bool { return d.ID == "d1" }, w.entries, w.stamp())
	require.NoError(t, err)
	w.write(back.Entries)
	assert.Equal(t, "newer", w.entries["row-000"].Text(vault.FieldPassword))
	assert.Equal(t, "note 0", w.entries["row-000"].Text(vault.FieldNotes), "what the join changed is as it was")
	assert.False(t, w.entries["row-001"].Archived())
	assert.Empty(t, back.Kept, "the join hadn't touched the password")
}

// Rows that were archived, or changed on another device, aren't joined blindly.
func TestAnOldProposalIsRefused(t *testing.T) {
	w := &world{t: t, at: 1_700_000_000_000, n: 2, entries: map[string]vault.Entry{}}
	e, err := vault.New("row-000", vault.TypeLogin, w.stamp(), vault.Changes{vault.FieldTitle: "A"})
	require.NoError(t, err)
	gone, err := e.Archive(w.stamp())
	require.NoError(t, err)
	_, err = tidy.Settle("d", "r", tidy.Joined, []vault.Entry{e, gone}, tidy.Survives{}, w.stamp())
	assert.ErrorIs(t, err, tidy.ErrChanged)
	_, err = tidy.Settle("d", "r", tidy.Apart, []vault.Entry{e}, tidy.Survives{}, w.stamp())
	assert.ErrorIs(t, err, tidy.ErrChanged)
}

// Two devices decide at once, and then hear of each other: both hold the same, and no password is lost.
func TestTwoDevicesDecideAtOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := worldOf(t)
		before := w.values()
		type device struct {
			name    string
			entries map[string]vault.Entry
		}
		devices := []*device{{"desk", map[string]vault.Entry{}}, {"laptop", map[string]vault.Entry{}}}
		for n, d := range devices {
			for id, e := range w.entries {
				d.entries[id] = e
			}
			own := &world{t: t, at: w.at + int64(n), n: w.n, entries: d.entries}
			for range 4 {
				said := tidy.Standing(own.decisions())
				found, err := tidy.Find(t.Context(), own.list(), tidy.Options{Apart: said.Apart})
				require.NoError(t, err)
				if len(found) == 0 {
					break
				}
				p := rapid.SampledFrom(found).Draw(t, d.name)
				var rows []vault.Entry
				for _, id := range p.IDs {
					rows = append(rows, own.entries[id])
				}
				s := p.Survives
				s.PasswordOf = rapid.SampledFrom(p.IDs).Draw(t, "password of")
				own.at += 10
				by := vault.Stamp{At: own.at, By: d.name}
				list, err := tidy.Settle(fmt.Sprint(d.name, own.at), d.name, tidy.Joined, rows, s, by)
				require.NoError(t, err)
				own.write(list)
			}
		}
		merged := map[string]vault.Entry{}
		for id, a := range devices[0].entries {
			merged[id] = a
			if b, ok := devices[1].entries[id]; ok {
				merged[id] = vault.Merge(a, b)
				assert.Equal(t, encoded(t, merged[id]), encoded(t, vault.Merge(b, a)))
			}
		}
		w.entries = merged
		after := w.values()
		for v := range before {
			if len(v) > len("password ") && v[:9] == "password " && !after[v] {
				t.Fatalf("%q is nowhere any more", v)
			}
		}
	})
}

// Rows that differ in nothing but the password, joined on two devices at once, each time another one stays: one of
// them is in the list afterwards, with both passwords.
func TestTwoDevicesKeepDifferentRows(t *testing.T) {
	w := &world{t: t, at: 1_700_000_000_000, n: 2, entries: map[string]vault.Entry{}}
	for i, password := range []string{"kelp ferry", "Kelp-Ferry-9"} {
		e, err := vault.New(fmt.Sprintf("row-%03d", i), vault.TypeLogin, w.stamp(), vault.Changes{
			vault.FieldTitle: "Ferrylink", vault.FieldUsername: "maren", vault.FieldPassword: secret.New(password),
			vault.FieldAddresses: []vault.Address{{URL: "https://ferrylink.example/"}},
		})
		require.NoError(t, err)
		w.entries[e.ID] = e
	}
	before := w.values()
	for round := range 3 { // the third time, both were joined before
		rows := w.list()
		var sides []map[string]vault.Entry
		for i, d := range []string{"desk", "laptop"} {
			w.at += 1000
			list, err := tidy.Settle(fmt.Sprint(d, round), d, tidy.Joined, rows, tidy.Survives{
				Title: "Ferrylink", Username: "maren", PasswordOf: rows[i].ID,
			}, vault.Stamp{At: w.at, By: d})
			require.NoError(t, err)
			side := map[string]vault.Entry{}
			for _, e := range list {
				side[e.ID] = e
			}
			sides = append(sides, side)
		}
		for id, e := range sides[0] {
			w.entries[id] = e
		}
		for id, e := range sides[1] {
			if ours, ok := w.entries[id]; ok {
				e = vault.Merge(ours, e)
			}
			w.entries[id] = e
		}
		after := w.values()
		for v := range before {
			assert.True(t, v == "" || after[v], "round %d: %q is nowhere any more", round, v)
		}
		for _, row := range rows {
			e, err := w.entries[row.ID].Restore(vault.Stamp{At: w.at + 1, By: "desk"})
			require.NoError(t, err)
			w.entries[row.ID] = e
		}
	}
}

func encoded(t require.TestingT, e vault.Entry) string {
	b, err := e.Encode()
	require.NoError(t, err)
	return string(b)
}

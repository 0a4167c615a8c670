package find

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

func item(title, url, user string, more ...func(*vault.Item)) vault.Item {
	it := vault.Item{ID: title + user, Type: vault.TypeLogin, Title: title, Username: user, Subtitle: user}
	if url != "" {
		it.Addresses = []vault.Address{{URL: url}}
	}
	for _, m := range more {
		m(&it)
	}
	return it
}

func book() *Index {
	return NewIndex([]vault.Item{
		item("Lanternfish", "https://lanternfish.example/", "wren"),
		item("Lanternfish", "https://lanternfish.example/", "maren.tolliver@cormorant.example"),
		item("Gullwing Credit Union", "https://gullwing.example/sign-in", "idris.t"),
		item("Ærø Ferries", "https://aero.example/", "mtolliver"),
		item("zebra crossing club", "", ""),
		item("Éclair & Sons", "https://eclair.example/", "maren", func(i *vault.Item) { i.Notes = "Birthday cakes" }),
		item("Dory 10", "https://dory.example/", ""), item("Dory 9", "https://dory.example/", ""),
		item("Old gull", "", "", func(i *vault.Item) { i.Archived = true }),
		item("Pantry & Pier", "https://pantry.example/", "gullible", func(i *vault.Item) { i.Pinned = true }),
	}, Options{})
}

func titles(s []Site) (out []string) {
	for _, x := range s {
		out = append(out, x.Title)
	}
	return out
}

func TestBookIsInAlphabeticalOrder(t *testing.T) {
	b := book().Book("").Sites
	assert.Equal(
		t,
		[]string{
			"Ærø Ferries",
			"Dory 9",
			"Dory 10",
			"Éclair & Sons",
			"Gullwing Credit Union",
			"Lanternfish",
			"Pantry & Pier",
			"zebra crossing club",
		},
		titles(b),
	)
	assert.Len(t, b[5].Accounts, 2)
	assert.Equal(t, "maren.tolliver@cormorant.example", b[5].Accounts[0].Username)
	assert.Equal(t, "E", b[3].Letter)
	assert.Equal(t, 9, book().Len(""))
	assert.Equal(t, 9, book().Len(vault.SectionLogins))
	assert.Zero(t, book().Len(vault.SectionCards))
}

func TestFind(t *testing.T) {
	for query, want := range map[string]string{
		"gul":            "Gullwing Credit Union", // the title's start beats a user name
		"credit gull":    "Gullwing Credit Union",
		"UNION":          "Gullwing Credit Union",
		"eclair":         "Éclair & Sons",
		"cakes":          "Éclair & Sons",
		"wren":           "Lanternfish",
		"lantern.fish":   "Lanternfish", // a slip
		"gullwing.examp": "Gullwing Credit Union",
		"gullib":         "Pantry & Pier",
		"old":            "", // archived
		"fish":           "Lanternfish", "lantarnfish": "Lanternfish", "gulwling": "Gullwing Credit Union",
		"gullwign": "Gullwing Credit Union", "aero": "Ærø Ferries", "gxllwxng": "",
	} {
		got := titles(book().Find(Parse(query), Now{}, 0).Sites)
		if want == "" {
			assert.Empty(t, got, query)
			continue
		}
		require.NotEmpty(t, got, query)
		assert.Equal(t, want, got[0], query)
	}
	assert.Len(t, book().Find(Parse("wren"), Now{}, 0).Sites[0].Accounts, 1, "only the account that fits")
	assert.Equal(t, titles(book().Book("").Sites), titles(book().Find(Parse("  "), Now{}, 0).Sites))
}

// plainScore is a word's score in a row by the rule alone: its best place, part by part.
func plainScore(x *Index, row int, w string) (best int) {
	for p, s := range partScores {
		text := x.text(row, p)
		for i := range text {
			if !strings.HasPrefix(text[i:], w) {
				continue
			}
			n := s.inside
			if i == 0 || text[i-1] == '\n' {
				n = s.start
			} else if boundary(text[i-1]) {
				n = s.word
			}
			if end := i + len(w); n != s.inside && (end == len(text) || boundary(text[end])) {
				n += wholeWord
			}
			best = max(best, n)
		}
	}
	return best
}

func TestScoresAreThoseOfTheRule(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	words := func(most int) string { // of few letters, so that they meet often
		var b strings.Builder
		for range rnd.IntN(most) {
			b.WriteString([]string{"a", "b", "ab", "ba", " ", " ", "é", "-", "abab"}[rnd.IntN(9)])
		}
		return b.String()
	}
	var items []vault.Item
	for i := range 400 {
		it := item(
			words(9)+"x",
			"https://"+strings.Trim(strings.NewReplacer(" ", "", "é", "").Replace(words(6)), "-")+"z.example/",
			words(7),
		)
		it.ID, it.Aliases, it.Notes, it.Tags, it.Folder = fmt.Sprint(
			i,
		), []string{
			words(4),
			words(3),
		}, words(
			30,
		), []string{
			words(4),
		}, words(
			3,
		)
		items = append(items, it)
	}
	x := NewIndex(items, Options{})
	found := 0
	for range 300 {
		q := Parse(words(4) + " " + words(3))
		if len(q.Words) == 0 {
			continue
		}
		x.Warm()
		got := map[int]int{}
		for _, h := range x.search(&q, Now{}, x.extra(Now{}), 0, len(x.rows)) {
			got[h.row()] = 1<<31 - 1 - int(h>>32)
		}
		for row := range x.rows {
			want := 0
			for _, w := range q.Words {
				n := plainScore(x, row, w)
				if n == 0 {
					want = 0
					break
				}
				want += n
			}
			if title := x.text(row, partTitle); want > 0 && strings.HasPrefix(title, q.joined) {
				want += titleBegin
				if title == q.joined {
					want += wholeTitle - titleBegin
				}
			}
			require.Equal(t, want, got[row], "%q in %+v", q.Text, x.rows[row].item)
			if want > 0 {
				found++
			}
		}
	}
	require.Greater(t, found, 1000)
}

// BenchmarkFind10000 states each search's time as a multiple of a plain scan over
// the same strings for the same words, measured in the same run.
func BenchmarkFind10000(b *testing.B) {
	var items []vault.Item
	for i := range 10000 {
		items = append(
			items,
			item(
				fmt.Sprintf("Shop %d of the quay", i),
				fmt.Sprintf("https://shop%d.example/", i),
				fmt.Sprintf("user%d", i%77),
			),
		)
	}
	x := NewIndex(items, Options{})
	x.Warm()
	var scan []string
	for i := range x.rows {
		scan = append(scan, x.all[x.begin(i):x.ends[i][partCount-1]])
	}
	for _, text := range []string{"quay 99", "q", "quay", "user7 shop", "qauy"} {
		q := Parse(text)
		b.Run(text, func(b *testing.B) {
			var ours, floor time.Duration
			n := 0
			for b.Loop() {
				at := time.Now()
				x.Find(q, Now{}, 240)
				ours += time.Since(at)
				at = time.Now()
				for _, s := range scan {
					if !slices.ContainsFunc(q.Words, func(w string) bool { return !strings.Contains(s, w) }) {
						n++
					}
				}
				floor += time.Since(at)
			}
			b.ReportMetric(float64(ours)/float64(floor), "scans")
		})
	}
}

func TestShelf(t *testing.T) {
	x := book()
	back, err := DecodeIndex(x.Encode(), Options{})
	require.NoError(t, err)
	assert.Equal(t, x.Book("").Sites, back.Book("").Sites)
	for _, q := range []string{"gull", "cakes", "wren", "dory 1"} {
		assert.Equal(t, x.Find(Parse(q), Now{}, 0), back.Find(Parse(q), Now{}, 0), q)
	}
	b := x.Encode()
	for i := range b {
		_, err := DecodeIndex(b[:i], Options{})
		assert.ErrorIs(t, err, ErrIndexCache)
	}
	_, err = DecodeIndex(append(b, 0), Options{})
	assert.ErrorIs(t, err, ErrIndexCache)
}

func FuzzDecodeIndex(f *testing.F) {
	f.Add(book().Encode())
	f.Fuzz(func(t *testing.T, b []byte) {
		if x, err := DecodeIndex(b, Options{}); err == nil {
			x.Find(Parse("a"), Now{}, 0)
			x.Book("")
		}
	})
}

// TestWhatIsPasted: a whole address finds its login, however it goes on behind the host; dashes are dashes.
func TestWhatIsPasted(t *testing.T) {
	x := NewIndex([]vault.Item{
		{ID: "1", Type: vault.TypeLogin, Title: "Gullwing", Addresses: []vault.Address{{URL: "https://www.gullwing.example/in"}}},
		{ID: "2", Type: vault.TypeLogin, Title: "A–Z of plants", Addresses: []vault.Address{{URL: "https://plants.example/"}}},
		{ID: "3", Type: vault.TypeLogin, Title: "Sundries", Notes: "the wing mirror"},
	}, Options{})
	first := func(q string) string {
		b := x.Find(Parse(q), Now{}, 0)
		if len(b.Sites) == 0 {
			return ""
		}
		return b.Sites[0].Accounts[0].ID
	}
	assert.Equal(t, "1", first("https://cards.gullwing.example/account?id=4&tab=all"))
	assert.Equal(t, "1", first("HTTPS://GULLWING.example"))
	assert.Equal(t, "1", first("gullwing.example/in"))
	assert.Equal(t, "2", first("a-z"))
	assert.Equal(t, "2", first("A–Z"))
	assert.Equal(t, "3", first("mirror"))
	y := NewIndex([]vault.Item{
		{ID: "1", Type: vault.TypeLogin, Title: "Shop", Addresses: []vault.Address{{URL: "https://bigredbarn.example/"}}},
		{ID: "2", Type: vault.TypeLogin, Title: "Farm", Notes: "the key is in the red tin"},
	}, Options{})
	assert.Equal(t, "Farm", y.Find(Parse("red"), Now{}, 0).Sites[0].Accounts[0].Title, "a word beats the inside of a host")
}

// A sign and the word for it are one.
func TestAnd(t *testing.T) {
	x := NewIndex([]vault.Item{
		{ID: "1", Type: vault.TypeLogin, Title: "Tern & Sons"}, {ID: "2", Type: vault.TypeLogin, Title: "Tern"},
		{ID: "3", Type: vault.TypeLogin, Title: "Bread and Butter"},
	}, Options{})
	for query, want := range map[string]string{
		"tern and sons": "Tern & Sons", "tern und sons": "Tern & Sons", "tern & sons": "Tern & Sons",
		"bread and butter": "Bread and Butter", "bread & butter": "Bread and Butter", "and": "Bread and Butter",
	} {
		b := x.Find(Parse(query), Now{}, 0)
		require.NotEmpty(t, b.Sites, query)
		assert.Equal(t, want, b.Sites[0].Accounts[0].Title, query)
	}
}

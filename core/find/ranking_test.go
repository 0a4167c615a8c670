package find

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

func tsv(t *testing.T, name string, columns int) (rows [][]string) {
	b, err := os.ReadFile("testdata/" + name)
	require.NoError(t, err)
	for line := range strings.Lines(string(b)) {
		if strings.HasPrefix(line, "#") {
			continue
		}
		r := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		require.Len(t, r, columns, line)
		rows = append(rows, r)
	}
	return rows
}

// What should come first was noted from what a person means by the query,
// without looking at what the search answers: testdata/ranking-queries.tsv over
// the items of ranking-items.tsv.
func TestRanking(t *testing.T) {
	var items []vault.Item
	for _, r := range tsv(t, "ranking-items.tsv", 8) {
		it := vault.Item{
			ID:        r[0],
			Type:      vault.TypeLogin,
			Title:     r[1],
			Addresses: []vault.Address{{URL: r[2]}},
			Username:  r[3],
			Subtitle:  r[3],
			Folder:    r[4],
			Notes:     r[6],
		}
		it.Tags = strings.FieldsFunc(r[5], func(c rune) bool { return c == ',' })
		it.Aliases = strings.FieldsFunc(r[7], func(c rune) bool { return c == '|' })
		items = append(items, it)
	}
	x := NewIndex(items, Options{})
	queries := tsv(t, "ranking-queries.tsv", 3)
	require.GreaterOrEqual(t, len(queries), 200)
	right, kinds := 0, map[string][2]int{}
	for _, q := range queries {
		first := "nothing"
		if b := x.Find(Parse(q[1]), Now{}, 0); len(b.Sites) > 0 {
			it := b.Sites[0].Accounts[0]
			if first = it.Title; strings.HasPrefix(q[2], "user:") {
				first = "user:" + it.Username
			}
		}
		n := kinds[q[0]]
		n[1]++
		if first == q[2] {
			right++
			n[0]++
		} else {
			t.Logf("%s: %q brings %q first, not %q", q[0], q[1], first, q[2])
		}
		kinds[q[0]] = n
	}
	for k, n := range kinds {
		t.Logf("%s: %d of %d", k, n[0], n[1])
	}
	assert.GreaterOrEqual(t, float64(right)/float64(len(queries)), 0.97, "%d of %d right on top", right, len(queries))
}

func TestRecencyAndPins(t *testing.T) {
	list := []vault.Item{
		item("Gannet Books", "https://gannet-books.example/", "a"),
		item("Gannet Tools", "https://gannet-tools.example/", "a"),
		item("Gannet Wool", "https://gannet-wool.example/", "a"),
	}
	now := Now{Time: 100 * 86400_000, Used: map[string]int64{list[1].ID: 100*86400_000 - 3600_000}}
	assert.Equal(
		t,
		"Gannet Tools",
		NewIndex(list, Options{}).Find(Parse("gan"), now, 0).Sites[0].Title,
		"used an hour ago",
	)
	list[2].Pinned = true
	assert.Equal(t, "Gannet Wool", NewIndex(list, Options{}).Find(Parse("gan"), Now{}, 0).Sites[0].Title, "pinned")
	assert.Equal(
		t,
		[]string{"Gannet Books", "Gannet Tools", "Gannet Wool"},
		titles(NewIndex(list, Options{}).Book("").Sites),
		"the book stays in order",
	)
}

func TestNarrowing(t *testing.T) {
	put := func(f func(*vault.Item)) func(*vault.Item) { return f }
	list := []vault.Item{
		item("Gullwing", "https://gullwing.example/", "maren", put(func(i *vault.Item) {
			i.Folder, i.Tags, i.HasPassword = "Bank/Joint account", []string{"bank", "of the boat"}, true
		})),
		item(
			"Mooring",
			"https://mooring.example/",
			"",
			put(func(i *vault.Item) { i.Folder, i.Pinned, i.Undecided = "Bank", true, true }),
		),
		item("Old gull", "", "x", put(func(i *vault.Item) { i.Archived = true })),
		{
			ID:       "card",
			Type:     vault.TypeCard,
			Title:    "Debit card",
			Subtitle: "•••• 1111",
			Expires:  "2027-03",
			Files:    1,
			HasCode:  true,
		},
	}
	x := NewIndex(list, Options{Names: func(d string) []string {
		if d == "mooring.example" {
			return []string{"MM Savings"}
		}
		return nil
	}})
	for query, want := range map[string][]string{
		"kind=card":                   {"Debit card"},
		"kind!=card =archived":        {"Old gull"},
		"folder=bank":                 {"Gullwing", "Mooring"},
		`folder="Bank/Joint account"`: {"Gullwing"},
		`tag="of the boat"`:           {"Gullwing"},
		"tag!=bank kind=login":        {"Mooring"},
		"=pinned":                     {"Mooring"},
		"!=pinned kind=login":         {"Gullwing"},
		"=no-password":                {"Mooring"},
		"=never-used kind=login":      {"Mooring"},
		"=undecided":                  {"Mooring"},
		"=runs-out":                   {"Debit card"},
		"=file":                       {"Debit card"},
		"=code":                       {"Debit card"},
		"=archived":                   {"Old gull"},
		"gull":                        {"Gullwing"},
		"gull =archived":              {"Old gull"},
		"mm sav":                      {"Mooring"},
		"1111":                        {"Debit card"},
		"kind=":                       {"Debit card", "Gullwing", "Mooring"},
	} {
		b := x.Find(Parse(query), Now{Used: map[string]int64{list[0].ID: 5, "card": 5}}, 0)
		assert.ElementsMatch(t, want, titles(b.Sites), query)
	}
	assert.Equal(t, []string{"colour=red"}, Parse("colour=red gull").Strange)
	assert.Equal(t, []string{"=happy"}, Parse("=happy").Strange)
	assert.Empty(t, Parse("gull tag=x").Strange)
}

func TestTurn(t *testing.T) {
	pinned := Narrow{Value: "pinned"}
	boat := Narrow{By: "tag", Value: "of the boat"}
	q := Parse("gull")
	line := q.Turn(boat)
	assert.Equal(t, `gull tag="of the boat"`, line)
	line = Parse(line).Turn(pinned)
	assert.Equal(t, `gull tag="of the boat" =pinned`, line)
	line = Parse(line).Turn(boat)
	assert.Equal(t, "gull =pinned", line)
	assert.True(t, Parse(line).Has(pinned))
}

func TestPieces(t *testing.T) {
	for _, c := range []struct{ text, query, want string }{
		{"Gullwing Credit Union", "cre gul", "[Gul]lwing [Cre]dit Union"},
		{"Éclair & Sons", "ecl", "[Écl]air & Sons"},
		{"Straße", "strasse", "[Straße]"},
		{"Ærø", "aer", "[Ær]ø"},
		{"seagull", "gul", "sea[gul]l"},
		{"seagull gully", "gul", "seagull [gul]ly"},
		{"שלום עולם", "עו", "שלום [עו]לם"},
		{"x", "", "x"},
	} {
		got := ""
		for _, p := range Parse(c.query).Pieces(c.text) {
			if p.Hit {
				p.Text = "[" + p.Text + "]"
			}
			got += p.Text
		}
		assert.Equal(t, c.want, got)
	}
}

func FuzzFind(f *testing.F) {
	f.Add("gul", "Gullwing")
	f.Add(`tag="a b" !=pinned =x`, "Ærø ø")
	f.Fuzz(func(t *testing.T, query, title string) {
		q := Parse(query)
		x := NewIndex([]vault.Item{item(title, "https://a.example/", query)}, Options{})
		x.Find(q, Now{}, 1)
		joined := ""
		for _, p := range q.Pieces(title) {
			joined += p.Text
		}
		if joined != title {
			t.Fatalf("%q in pieces is %q", title, joined)
		}
		for _, n := range q.Narrows {
			if Parse(q.Turn(n)).Has(n) {
				t.Fatalf("%q still narrows by %v after turning it off: %q", query, n, q.Turn(n))
			}
		}
	})
}

package transfer

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// rowsOf reads a table and returns its rows' cells.
func rowsOf(t require.TestingT, text string) (out [][]string, table Table) {
	table, err := ReadTable(context.Background(), []byte(text))
	require.NoError(t, err)
	for _, r := range table.Rows {
		out = append(out, r.Cells)
	}
	return out, table
}

// TestSloppyExporters reads files of programs that write values as they are.
func TestSloppyExporters(t *testing.T) {
	const head = "title,url,username,password,notes\n"
	good := "Gullwing,https://gullwing.example/,m,p1,\n"
	for name, c := range map[string]struct {
		text string
		want [][]string
		// doubts are the lines of which something isn't sure
		doubts []int
	}{
		"a password that begins with a quote": {
			head + good + `A,https://a.example/,m,"abc,` + "\n" + good + good,
			[][]string{
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
				{"A", "https://a.example/", "m", `"abc`, ""},
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
			},
			[]int{3},
		},
		"two of them, the second one's quote at its end": {
			head + `A,https://a.example/,m,"abc,` + "\n" + good + `B,https://b.example/,m,xyz",` + "\n" + good,
			[][]string{
				{"A", "https://a.example/", "m", `"abc`, ""},
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
				{"B", "https://b.example/", "m", `xyz"`, ""},
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
			},
			[]int{2},
		},
		"a quote alone is a password": {
			head + `A,https://a.example/,m,",` + "\n" + good,
			[][]string{
				{"A", "https://a.example/", "m", `"`, ""},
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
			},
			[]int{2},
		},
		"everything in quotes, those within not doubled": {
			"\"title\",\"url\",\"username\",\"password\",\"notes\"\n" +
				`"A","https://a.example/","m","p"q","n"` + "\n" + `"B","https://b.example/","m","r","the "best" one"` + "\n",
			[][]string{
				{"A", "https://a.example/", "m", `p"q`, "n"},
				{"B", "https://b.example/", "m", "r", `the "best" one`},
			},
			nil,
		},
		"a bare quote beside a note of several lines": {
			head + `A,https://a.example/,m,"pw,"first` + "\nsecond\nthird\"\n" + good,
			[][]string{
				{"A", "https://a.example/", "m", `"pw`, "first\nsecond\nthird"},
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
			},
			[]int{2},
		},
		"a note of several lines with commas": {
			head + `A,https://a.example/,m,p,"eggs, flour, milk` + "\nbread, butter, jam, tea\nend\"\n" + good,
			[][]string{
				{"A", "https://a.example/", "m", "p", "eggs, flour, milk\nbread, butter, jam, tea\nend"},
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
			},
			nil,
		},
		"quotes with a backslash before them": {
			"\"title\",\"url\",\"username\",\"password\",\"notes\"\n" +
				`"A","https://a.example/","m","p\"q","a \\ b"` + "\n" + `"B","https://b.example/","m","r\"","n"` + "\n",
			[][]string{
				{"A", "https://a.example/", "m", `p"q`, `a \ b`},
				{"B", "https://b.example/", "m", `r"`, "n"},
			},
			nil,
		},
		"a blank after every comma": {
			"title, url, username, password, notes\nA, https://a.example/, m, p, n\nB, https://b.example/, m, \"q,r\", n\n",
			[][]string{
				{"A", "https://a.example/", "m", "p", "n"},
				{"B", "https://b.example/", "m", "q,r", "n"},
			},
			nil,
		},
		"cut short in a note": {
			head + good + `A,https://a.example/,m,p,"first` + "\nsecond",
			[][]string{
				{"Gullwing", "https://gullwing.example/", "m", "p1", ""},
				{"A", "https://a.example/", "m", "p", "first\nsecond"},
			},
			[]int{3},
		},
	} {
		got, table := rowsOf(t, c.text)
		assert.Equal(t, c.want, got, name)
		var doubts []int
		for _, r := range table.Rows {
			if r.Doubt != "" {
				doubts = append(doubts, r.Line)
			}
		}
		assert.Equal(t, c.doubts, doubts, name)
	}
}

// TestManyRowsOneQuote is what was seen: 40 rows of which one password begins with a quote.
func TestManyRowsOneQuote(t *testing.T) {
	for _, end := range []string{"\n", "\r\n", "\r"} {
		for bad := range 40 {
			var b strings.Builder
			b.WriteString("name,url,username,password" + end)
			for i := range 40 {
				p := fmt.Sprintf("pw%d", i)
				if i == bad {
					p = `"` + p
				}
				fmt.Fprintf(&b, "Site %d,https://s%d.example/,m,%s%s", i, i, p, end)
			}
			got, _ := rowsOf(t, b.String())
			require.Len(t, got, 40)
			assert.Equal(t, fmt.Sprintf(`"pw%d`, bad), got[bad][3])
		}
	}
}

// TestLinesThatAreNoRows: a word about the file above its header, the header again, what parts the cells.
func TestLinesThatAreNoRows(t *testing.T) {
	got, table := rowsOf(t, "sep=;\nMy logins\nof 26 November;;\n\ntitle;url;username;password\n"+
		"A;https://a.example/;m;p\n;;;\ntitle;url;username;password\nB;https://b.example/;m;q\n")
	assert.Equal(t, [][]string{{"A", "https://a.example/", "m", "p"}, {"B", "https://b.example/", "m", "q"}}, got)
	assert.Equal(t, []string{"title", "url", "username", "password"}, table.Header)
	assert.Equal(t, []Skipped{
		{1, 1, SkipSeparator}, {2, 2, SkipHeading}, {3, 3, SkipHeading}, {7, 7, SkipEmpty}, {8, 8, SkipHeader},
	}, table.Skipped)
	assert.Equal(t, 5, table.HeaderAt)
}

// covers checks that every line of a text that isn't empty is in one part of its table, once.
func covers(t interface{ Fatalf(string, ...any) }, text string, table Table) {
	lines := splitLines(text)
	seen := make([]int, len(lines)+2)
	mark := func(from, to int) {
		for i := from; i <= to && i < len(seen); i++ {
			seen[i]++
		}
	}
	if table.HeaderAt > 0 {
		// A header may be of several lines; what is in it isn't counted below.
		seen[table.HeaderAt] = 1
	}
	for _, r := range table.Rows {
		mark(r.Line, r.End)
	}
	for _, s := range table.Skipped {
		mark(s.Line, s.End)
	}
	for i, l := range lines {
		blank := strings.TrimSpace(strings.Trim(text[l.from:l.to], "\ufeff")) == ""
		if n := seen[i+1]; n > 1 || n == 0 && !blank && (table.HeaderAt == 0 || i+1 < table.HeaderAt) {
			t.Fatalf("line %d of %q is in %d parts: %+v", i+1, text, n, table)
		}
	}
}

var anyText = rapid.OneOf(
	rapid.StringMatching(`([a-c",;\t\n\r ]|""|",|,"|\n"|url,username,password\n){0,60}`),
	rapid.String(),
)

// TestEveryLineIsSomewhere is a property over any text.
func TestEveryLineIsSomewhere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := anyText.Draw(t, "text")
		table, err := ReadTable(context.Background(), []byte(text))
		if err != nil || table.Encoding != "UTF-8" {
			return
		}
		covers(t, text, table)
		rows, broken, err := FromTable(context.Background(), table, Guess(table), 0)
		if err != nil || len(rows)+len(broken) != len(table.Rows) {
			t.Fatalf("%d rows became %d and %d broken ones", len(table.Rows), len(rows), len(broken))
		}
	})
}

// TestTablesByTheBook holds the reader against encoding/csv of the Go library, on files that keep to RFC 4180.
func TestTablesByTheBook(t *testing.T) {
	value := rapid.OneOf(rapid.StringMatching(`[a-z"';| ]{0,10}`), rapid.StringMatching(`[a-z]{1,5}(\n[a-z]{0,4})?,?[a-z ]{1,4}\n[a-z"]{1,5}`))
	rapid.Check(t, func(t *rapid.T) {
		header := []string{"title", "url", "username", "password", "notes"}
		rows := [][]string{rapid.Permutation(header).Draw(t, "header")}
		for i := range rapid.IntRange(1, 12).Draw(t, "rows") {
			row := []string{}
			for _, name := range rows[0] {
				switch name {
				case "title":
					row = append(row, fmt.Sprint("t", i, value.Draw(t, name)))
				case "url":
					row = append(row, "https://a.example/")
				default:
					row = append(row, value.Draw(t, name))
				}
			}
			rows = append(rows, row)
		}
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		_ = w.WriteAll(rows)
		got, table := rowsOf(t, b.String())
		if !slices.EqualFunc(got, rows[1:], slices.Equal[[]string]) {
			t.Fatalf("%q was read as %q", b.String(), got)
		}
		covers(t, b.String(), table)
	})
}

// TestQuotesTakeNoTime: whatever quotes a file has, its time is that of its length.
func TestQuotesTakeNoTime(t *testing.T) {
	for _, row := range []string{
		"a,b,\"c,d\n", "a,b,\"\"c,d\n", "\"a,\"b,\"c,\"d\n", "a,b,c\"\",\"d\n", "\"a\"b\",c,\"d\n", "\",\",\",\n",
	} {
		text := "title,url,username,password\n" + strings.Repeat(row, 40000)
		_, table := rowsOf(t, text)
		covers(t, text, table)
	}
}

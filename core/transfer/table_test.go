package transfer

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"pgregory.net/rapid"
)

// byStandard parts a text by RFC 4180 alone.
func byStandard(text string, delim rune) (out []Record) {
	r := newReader(text, splitLines(text), byte(delim))
	for i := 0; i < len(r.lines); {
		rec, next := r.record(i)
		if i = next; len(rec.Cells) > 1 || rec.Cells[0] != "" {
			out = append(out, rec)
		}
	}
	return out
}

// TestSpectrum reads every case of the npm package csv-spectrum.
func TestSpectrum(t *testing.T) {
	files, err := filepath.Glob("testdata/csv-spectrum/*.csv")
	require.NoError(t, err)
	require.Len(t, files, 12)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		text, _, err := decode(b)
		require.NoError(t, err)
		want, err := os.ReadFile(strings.TrimSuffix(f, ".csv") + ".json")
		require.NoError(t, err)
		if !json.Valid(want) || bytes.Contains(b, []byte{0xb0}) { // this one's JSON is in another encoding
			s, _, _ := decode(want)
			want = []byte(s)
		}
		var cases []map[string]string
		if json.Unmarshal(want, &cases) != nil {
			var one map[string]string
			require.NoError(t, json.Unmarshal(want, &one), f)
			cases = []map[string]string{one}
		}
		rows := byStandard(text, ',')
		require.Len(t, rows, len(cases)+1, f)
		for i, c := range cases {
			got := map[string]string{}
			for j, name := range rows[0].Cells {
				got[name] = rows[i+1].Cells[j]
			}
			if strings.Contains(f, "location_coordinates") { // its JSON has another telephone number than its CSV
				assert.Equal(t, "2095257564", got["Contact Phone Number"])
				delete(got, "Contact Phone Number")
				delete(c, "Contact Phone Number")
			}
			assert.Equal(t, c, got, f)
		}
	}
}

var anyTable = rapid.SliceOfN(
	rapid.SliceOfN(rapid.OneOf(rapid.String(), rapid.StringMatching(`[a-z",;\t\n\r ]{0,8}`)), 1, 5),
	1,
	6,
)

// TestTablesAsTheReferenceReadsThem holds the reader and the writer against
// encoding/csv of the Go library, which reads CR LF within a cell as LF.
func TestTablesAsTheReferenceReadsThem(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := anyTable.Draw(t, "rows")
		for _, r := range rows {
			for i := range r {
				r[i] = strings.ReplaceAll(strings.ReplaceAll(r[i], "\r", ""), "\ufeff", "")
			}
		}
		delim := rapid.SampledFrom([]rune{',', ';', '\t'}).Draw(t, "delimiter")
		var theirs, ours bytes.Buffer
		w := csv.NewWriter(&theirs)
		w.Comma, w.UseCRLF = delim, rapid.Bool().Draw(t, "CR")
		for _, r := range rows {
			if len(r) == 1 && r[0] == "" {
				r[0] = "x" // an empty line, for them
			}
			if err := w.Write(r); err != nil {
				t.Fatal(err)
			}
			if err := WriteRecord(&ours, delim, r); err != nil {
				t.Fatal(err)
			}
		}
		w.Flush()
		got := byStandard(theirs.String(), delim)
		if len(got) != len(rows) {
			t.Fatalf("%q: %d rows", theirs.String(), len(got))
		}
		for i := range rows {
			for j := range got[i].Cells {
				got[i].Cells[j] = strings.ReplaceAll(
					got[i].Cells[j],
					"\r\n",
					"\n",
				) // theirs writes LF as CR LF if told to
			}
			if !assert.ObjectsAreEqual(rows[i], got[i].Cells) {
				t.Fatalf("%q was read as %q", rows[i], got[i].Cells)
			}
		}
		r := csv.NewReader(&ours)
		r.Comma, r.FieldsPerRecord = delim, -1
		back, err := r.ReadAll()
		if err != nil || !assert.ObjectsAreEqual(rows, back) {
			t.Fatalf("%q is read by the reference as %q, %v", rows, back, err)
		}
	})
}

func TestEncodings(t *testing.T) {
	text := "Titel;Adresse;Benutzer;Kennwort\r\nJetty Café;https://jettycafe.example/;märén;Wöhrungsschlüssel\r\n"
	units := utf16.Encode([]rune(text))
	utf16File := func(mark, big bool) []byte {
		var b []byte
		if mark {
			units = append([]uint16{0xfeff}, units...)
			defer func() { units = units[1:] }()
		}
		for _, u := range units {
			if big {
				b = append(b, byte(u>>8), byte(u))
			} else {
				b = append(b, byte(u), byte(u>>8))
			}
		}
		return b
	}
	latin, err := charmap.Windows1252.NewEncoder().Bytes([]byte(text))
	require.NoError(t, err)
	for name, file := range map[string][]byte{
		"UTF-8": []byte(text), "UTF-8 with mark": append([]byte("\xef\xbb\xbf"), text...), "Windows-1252": latin,
		"UTF-16": utf16File(true, false), "UTF-16 ": utf16File(true, true), "UTF-16  ": utf16File(false, false),
		"UTF-16   ": utf16File(false, true),
	} {
		got, err := ReadTable(context.Background(), file)
		require.NoError(t, err, name)
		assert.Equal(t, strings.TrimSpace(name), got.Encoding)
		assert.Equal(t, ';', got.Delimiter, name)
		assert.Equal(t, []string{"Titel", "Adresse", "Benutzer", "Kennwort"}, got.Header, name)
		assert.Equal(
			t,
			[]Record{{Line: 2, End: 2, Cells: []string{"Jetty Café", "https://jettycafe.example/", "märén", "Wöhrungsschlüssel"}}},
			got.Rows,
			name,
		)
	}
}

// A text that is UTF-8 but for a byte is, and one that is UTF-8 by chance isn't.
func TestEncodingsThatAreNearlyOne(t *testing.T) {
	const head = "name,url,username,password\n"
	for name, c := range map[string]struct{ file, encoding, password string }{
		"cut short":        {"Café,https://café.example/,m,schlüssel-\xc3", "UTF-8", "schlüssel-\ufffd"},
		"with a mark":      {"\xef\xbb\xbf" + head + "Café,https://café.example/,m,schl\xc3", "UTF-8 with mark", "schl\ufffd"},
		"a damaged byte":   {"Ää Öö Üü,https://ä.example/,m,schl\xfcssel", "UTF-8", "schl\ufffdssel"},
		"a last letter":    {"Cafe,https://cafe.example/,m,schl\xfc", "Windows-1252", "schlü"},
		"a last accent":    {"Cafe,https://cafe.example/,m,caf\xe9", "Windows-1252", "café"},
		"by chance":        {"Cafe,https://cafe.example/,m,stra\xdf\x80e", "Windows-1252", "straß€e"},
		"in a script":      {"ߒߞߏ,https://nko.example/,m,ߢߍߓߎߟߊ", "UTF-8", "ߢߍߓߎߟߊ"},
		"Windows, several": {"Caf\xe9,https://caf\xe9.example/,m,stra\xdf\x80e", "Windows-1252", "straß€e"},
	} {
		file := c.file
		if !strings.Contains(file, head) {
			file = head + file
		}
		got, err := ReadTable(context.Background(), []byte(file))
		require.NoError(t, err, name)
		require.Len(t, got.Rows, 1, name)
		assert.Equal(t, c.encoding, got.Encoding, name)
		assert.Equal(t, c.password, got.Rows[0].Cells[3], name)
	}
}

func TestLinesAreCounted(t *testing.T) {
	for _, end := range []string{"\n", "\r\n", "\r"} {
		got, err := ReadTable(context.Background(),
			[]byte(
				strings.Join(
					[]string{
						"url,username,password",
						`a.example,"two` + end + `lines",p`,
						"",
						"b.example,m,q",
						`c.example,"never closed`,
					},
					end,
				),
			),
		)
		require.NoError(t, err)
		var lines []int
		for _, r := range got.Rows {
			lines = append(lines, r.Line)
		}
		assert.Equal(t, []int{2, 5, 6}, lines, "%q", end)
	}
}

func TestTablesThatAreNone(t *testing.T) {
	for in, want := range map[string]error{
		"": ErrEmpty, " \r\n": ErrEmpty, "PK\x03\x04\x00\x00": ErrBinary,
		"\x89PNG\r\n\x1a\n\xff\xfe\xfd\x01\x02\x03\x04": ErrBinary, "\xef\xbb\xbf\xff": ErrBinary,
		strings.Repeat("a,", MaxColumns) + "b": ErrColumns, strings.Repeat("a\n", MaxItems+1): ErrTooMany,
	} {
		_, err := ReadTable(context.Background(), []byte(in))
		assert.ErrorIs(t, err, want, "%.30q", in)
	}
	_, err := ReadTable(context.Background(), bytes.Repeat([]byte("a,b\n"), MaxBytes/4+1))
	assert.ErrorIs(t, err, ErrTooLarge)
}

func TestParseTime(t *testing.T) {
	const want = 1714550400000 // 2024-05-01T08:00:00Z
	for _, s := range []string{"1714550400", "1714550400000", "1714550400000000", "13359024000000000", "1714550400.0",
		"2024-05-01T08:00:00Z", "2024-05-01T10:00:00+02:00",
		"2024-05-01 08:00:00", "2024-05-01 08:00", "2024/05/01 08:00:00", "01.05.2024 08:00", "Wed, 01 May 2024 " +
			"08:00:00 GMT"} {
		got, ok := ParseTime(s)
		assert.True(t, ok, s)
		assert.Equal(t, int64(want), got, s)
	}
	for _, s := range []string{"", "0", "85", "Tolliver85", "1e400", "NaN", "2024-13-01", "19000101", "-1",
		"99999999999999999999", strings.Repeat("1", 70)} {
		_, ok := ParseTime(s)
		assert.False(t, ok, s)
	}
}

func FuzzReadTable(f *testing.F) {
	f.Add([]byte("url,username,password\r\nhttps://a.example,\"b\"\"c\",d\r\n"))
	f.Add([]byte("\xff\xfea\x00;\x00b\x00\n\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		table, err := ReadTable(context.Background(), b)
		if err != nil {
			return
		}
		rows, broken, _ := FromTable(context.Background(), table, Guess(table), 0)
		if len(rows)+len(broken) != len(table.Rows) {
			t.Fatalf("%d rows became %d and %d broken ones", len(table.Rows), len(rows), len(broken))
		}
		p := newPlan(nil, []Source{{Name: "f.csv", Rows: rows, Broken: broken}}, Options{})
		n := 0
		d, err := p.Apply(context.Background(), Writer{By: now, NewID: ids(&n)})
		if err != nil {
			t.Fatal(err)
		}
		again := newPlan(d.Entries, []Source{{Name: "f.csv", Rows: rows, Broken: broken}}, Options{By: later})
		if c := again.Count(GroupKnown); c.Rows != len(rows) {
			t.Fatalf("%q: %d of %d rows are known the second time: %+v", b, c.Rows, len(rows), again.Steps)
		}
	})
}

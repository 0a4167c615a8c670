package transfer

import (
	"bytes"
	"context"
	"runtime"
	"slices"
	"testing"
)

// allocated is how many bytes fn asks for in all, given back or not: a bound on what
// it ever holds.
func allocated(fn func()) int {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	fn()
	runtime.ReadMemStats(&after)
	return int(after.TotalAlloc - before.TotalAlloc)
}

// Reading may ask for so many bytes for each byte of a file, and so many besides: for
// tables of many empty cells the cells are what counts, sixteen bytes and more for one
// of the file.
const (
	mostEach = 1200 // a row of six bytes becomes a login
	mostMore = 4 << 20
)

func FuzzMemory(f *testing.F) {
	f.Add([]byte("name;url\nx;https://a.example"))
	f.Add(
		[]byte(
			`{"format":"redlocket items","version":1,"items":[{"kind":"login","id":"1","fields":{"title":{"value":"x"}}}]}`,
		),
	)
	f.Fuzz(func(t *testing.T, b []byte) {
		n := allocated(func() { _, _ = Read(context.Background(), "x", b, nil) })
		if n > mostEach*len(b)+mostMore {
			t.Fatalf("%d bytes took %d bytes of memory: %.80q", len(b), n, b)
		}
	})
}

// TestMemoryStaysWithinAMultiple tries files made to be dear: all separators, all quotes,
// all line ends, deep nesting, long cells, many columns.
func TestMemoryStaysWithinAMultiple(t *testing.T) {
	many := func(s string, n int) []byte { return bytes.Repeat([]byte(s), n) }
	head := []byte("url,username,password\n")
	for name, b := range map[string][]byte{
		"commas":       slices.Concat(head, many(",", 1<<20)),
		"short rows":   slices.Concat(head, many("a,b,c\n", 1<<17)),
		"quotes":       slices.Concat(head, many(`""`, 1<<19)),
		"line ends":    slices.Concat(head, many("\n", 1<<20)),
		"wide head":    append(many("url,", 1<<16), '\n'),
		"open quote":   slices.Concat(head, []byte(`"`), many("x\n", 1<<19)),
		"brackets":     many("[", 1<<20),
		"objects":      many(`{"a":`, 1<<18),
		"empty items":  append([]byte(`{"format":"redlocket items","version":1,"items":[`), append(many("{},", 1<<17), []byte("{}]}")...)...),
		"UTF-16":       append([]byte{0xff, 0xfe}, many("a\x00,\x00", 1<<18)...),
		"addresses":    slices.Concat(head, many("\"a.example b.example c.example\",m,p\n", 1<<14)),
		"exchange":     append([]byte(`{"version":{"major":1},"accounts":[{"items":[`), append(many(`{"title":"x","credentials":[{"type":"basic-auth"}]},`, 1<<14), []byte(`{}]}]}`)...)...),
		"one long row": slices.Concat(head, many("x", 1<<20)),
	} {
		t.Run(name, func(t *testing.T) {
			n := allocated(func() { _, _ = Read(context.Background(), "x", b, nil) })
			t.Logf("%.1f bytes for each", float64(n)/float64(len(b)))
			if n > mostEach*len(b)+mostMore {
				t.Fatalf("%d bytes took %d bytes of memory", len(b), n)
			}
		})
	}
}

// Package find keeps the book in order and finds things in it.
//
// An [Index] is built from items. [Index.Book] is the whole book: sites in
// alphabetical order, by the rules of a language rather than by bytes, with the
// accounts of one site under it. [Index.Find] narrows it: every word typed must
// occur somewhere in an item, and the better the place, the higher it stands.
//
// An index doesn't change; make another when items do. It is safe for concurrent use.
package find

import (
	"bytes"
	"cmp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/collate"
	"golang.org/x/text/language"
	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// Site is one line of the book with the accounts under it.
type Site struct {
	Title    string
	Domain   string
	Letter   string // where the thumb index finds it: "A" to "Z", or "#"
	Accounts []vault.Item
}

// Index holds the items in the order of the book, folded for searching.
type Index struct {
	rows []*row
	fold sync.Once // of what only a search needs
}

type row struct {
	item     vault.Item
	site     string // what accounts are set together by
	domain   string
	letter   string
	sortKey  []byte
	title    string // folded, as all below
	username string
	hosts    string
	rest     string
}

// NewIndex builds an index over the items, archived ones left out. It uses every
// processor: a vault's first page waits for it.
func NewIndex(items []vault.Item, lang language.Tag) *Index {
	parts := make([][]*row, max(1, min(runtime.GOMAXPROCS(0), len(items)/256)))
	var wg sync.WaitGroup
	for i := range parts {
		wg.Go(func() {
			parts[i] = newRows(items[i*len(items)/len(parts):(i+1)*len(items)/len(parts)], lang)
		})
	}
	wg.Wait()
	x := &Index{rows: slices.Concat(parts...)}
	slices.SortFunc(x.rows, func(a, b *row) int {
		return cmp.Or(bytes.Compare(a.sortKey, b.sortKey), strings.Compare(a.item.Username, b.item.Username), strings.Compare(a.item.ID, b.item.ID))
	})
	return x
}

func newRows(items []vault.Item, lang language.Tag) []*row {
	coll := collate.New(lang, collate.IgnoreCase, collate.Numeric)
	var buf collate.Buffer
	f := newFolder()
	rows := make([]*row, 0, len(items))
	for _, it := range items {
		if it.Archived {
			continue
		}
		r := &row{item: it}
		if len(it.Addresses) > 0 {
			r.domain = site.Domain(it.Addresses[0].URL)
		}
		r.name(f)
		r.sortKey = append(append(slices.Clone(coll.KeyFromString(&buf, it.Title)), 0), r.domain...)
		buf.Reset()
		rows = append(rows, r)
	}
	return rows
}

// name sets what the book needs of a row beyond its item and domain.
func (r *row) name(f folder) {
	r.title = f.fold(r.item.Title)
	r.site = r.domain + "\x00" + r.title
	r.letter = letter(r.title)
}

// foldAll folds what a search looks through, at the first search.
func (x *Index) foldAll() {
	f := newFolder()
	for _, r := range x.rows {
		it := &r.item
		hosts := make([]string, 0, 4)
		for _, a := range it.Addresses {
			hosts = append(hosts, site.Shown(a.URL))
		}
		r.username = f.fold(it.Username)
		r.hosts = f.fold(strings.Join(hosts, " "))
		r.rest = f.fold(strings.Join(append([]string{it.Folder, it.Notes}, it.Tags...), " "))
	}
}

// Len is the number of items in the book.
func (x *Index) Len() int { return len(x.rows) }

// Book returns every site in order.
func (x *Index) Book() []Site {
	return group(x.rows)
}

func group(rows []*row) []Site {
	var out []Site
	last := ""
	for i, r := range rows {
		if i == 0 || r.site != last {
			out = append(out, Site{Title: r.item.Title, Domain: r.domain, Letter: r.letter})
			last = r.site
		}
		s := &out[len(out)-1]
		s.Accounts = append(s.Accounts, r.item)
	}
	return out
}

// Scores by place: the sum over the words decides. A word that begins the title
// beats one that begins a later word of it, then the site, the user name, and
// anything else.
const (
	titleStart  = 100
	titleWord   = 70
	hostStart   = 60
	titleInside = 40
	userStart   = 35
	hostInside  = 30
	userInside  = 20
	elsewhere   = 10
	pinnedExtra = 5
)

// Find returns the sites with an item that has every word of the query, best
// first; equal ones stay in the order of the book. An empty query is the book.
func (x *Index) Find(query string) []Site {
	words := strings.Fields(newFolder().fold(query))
	if len(words) == 0 {
		return x.Book()
	}
	x.fold.Do(x.foldAll)
	type hit struct{ row, score int }
	var hits []hit
	for i := range x.rows {
		if s := x.rows[i].score(words); s > 0 {
			hits = append(hits, hit{i, s})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return cmp.Compare(b.score, a.score) })
	// A site stands where its best account stands, with its other hits under it.
	place := map[string]int{}
	var grouped [][]*row
	for _, h := range hits {
		r := x.rows[h.row]
		g, ok := place[r.site]
		if !ok {
			g = len(grouped)
			place[r.site] = g
			grouped = append(grouped, nil)
		}
		grouped[g] = append(grouped[g], r)
	}
	var out []Site
	for _, g := range grouped {
		out = append(out, group(g)...)
	}
	return out
}

func (r *row) score(words []string) int {
	total := 0
	for _, w := range words {
		s := max(
			place(r.title, w, titleStart, titleWord, titleInside),
			place(r.hosts, w, hostStart, hostStart, hostInside),
			place(r.username, w, userStart, userStart, userInside),
			place(r.rest, w, elsewhere, elsewhere, elsewhere))
		if s == 0 {
			return 0
		}
		total += s
	}
	if r.item.Pinned {
		total += pinnedExtra
	}
	return total
}

func place(text, word string, start, wordStart, inside int) int {
	i := strings.Index(text, word)
	if i < 0 {
		return 0
	}
	if i == 0 {
		return start
	}
	for ; i >= 0; i = next(text, word, i) {
		if c := text[i-1]; c == ' ' || c == '.' || c == '-' || c == '@' || c == '/' {
			return wordStart
		}
	}
	return inside
}

func next(text, word string, i int) int {
	j := strings.Index(text[i+1:], word)
	if j < 0 {
		return -1
	}
	return i + 1 + j
}

// folder makes texts comparable: case, accents and width folded.
type folder struct{ t transform.Transformer }

func newFolder() folder {
	return folder{transform.Chain(norm.NFKD, runes.Remove(runes.In(unicode.Mn)), norm.NFC)}
}

func (f folder) fold(s string) string {
	ascii := true
	for i := 0; i < len(s); i++ {
		if s[i] >= 0x80 {
			ascii = false
			break
		}
	}
	if !ascii {
		if out, _, err := transform.String(f.t, s); err == nil {
			s = out
		}
	}
	return strings.ToLower(s)
}

func letter(folded string) string {
	for _, r := range folded {
		if r >= 'a' && r <= 'z' {
			return strings.ToUpper(string(r))
		}
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return "#"
		}
	}
	return "#"
}

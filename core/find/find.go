// Package find keeps the book in order and finds things in it.
//
// An [Index] is built from items. [Index.Book] is a section of the book: sites in
// alphabetical order, by the rules of a language rather than by bytes, with the
// accounts of one site under it. [Index.Find] looks in every section: each word typed
// must occur somewhere in an item, and the better the place, the higher it
// stands. Where nothing fits, one typing error is allowed.
//
// An index doesn't change; make another when items do. It is safe for concurrent use.
package find

import (
	"bytes"
	"cmp"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"golang.org/x/text/collate"
	"golang.org/x/text/language"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// Site is one line of the book with the accounts under it.
type Site struct {
	Title    string
	Domain   string
	Letter   string // where the thumb index finds it: "A" to "Z", "#", another script’s capital, or "…"
	Accounts []*vault.Item
}

// Names are the folders and tags that occur, with the number of items of each.
type Names struct{ Folders, Tags map[string]int }

// Names counts the folders and tags of items that aren't archived. The maps must
// not be changed.
func (x *Index) Names() Names {
	x.count.Do(func() {
		x.names = Names{map[string]int{}, map[string]int{}}
		x.Items(func(it *vault.Item) {
			if it.Folder != "" {
				x.names.Folders[it.Folder]++
			}
			for _, t := range it.Tags {
				x.names.Tags[t]++
			}
		})
	})
	return x.names
}

// Book is a list of sites.
type Book struct {
	Sites []Site
	Items int  // of all that fit, also where the list was cut
	More  int  // sites that fit and aren't in the list
	Fuzzy bool // nothing fitted until one typing error was allowed
}

// Options say how an index is made. Zero means English, and no other names.
type Options struct {
	Language language.Tag
	Names    func(domain string) []string // other names and domains of a site
}

// Index holds the items in the order of the book, folded for searching.
type Index struct {
	rows  []*row
	opt   Options
	fold  sync.Once // of what only a search needs, by row and close together:
	all   string    // every row's parts, in order, with a zero byte behind each
	ends  []ends    // where they end in all
	group []int32   // rows with the same number are grouped
	live  []bool    // those that aren't archived
	pins  []int     // rows that are pinned
	byID  map[string]int32
	sites int      // how many there are
	books sync.Map // vault.Section to *Book
	count sync.Once
	names Names
}

type row struct {
	item    vault.Item
	section vault.Section
	site    string // what accounts are grouped by
	domain  string
	letter  string
	sortKey []byte
	title   string // folded
}

// The parts of a row that are searched: folded text whose words are separated by single
// bytes that aren't letters.
const (
	partTitle = iota
	partAliases
	partHosts
	partSubtitle
	partOrder // folder and tags
	partRest  // notes and names of custom fields and files
	partCount
)

// ends are where a row's parts end in all the text.
type ends [partCount]int

// NewIndex builds an index over the items. It uses every processor: a vault's
// first page waits for it.
func NewIndex(items []vault.Item, o Options) *Index {
	parts := make([][]*row, max(1, min(runtime.GOMAXPROCS(0), len(items)/256)))
	var wg sync.WaitGroup
	for i := range parts {
		wg.Go(func() {
			parts[i] = newRows(items[i*len(items)/len(parts):(i+1)*len(items)/len(parts)], o.Language)
		})
	}
	wg.Wait()
	x := &Index{rows: slices.Concat(parts...), opt: o}
	slices.SortFunc(x.rows, func(a, b *row) int {
		return cmp.Or(
			bytes.Compare(a.sortKey, b.sortKey),
			strings.Compare(a.item.Subtitle, b.item.Subtitle),
			strings.Compare(a.item.ID, b.item.ID),
		)
	})
	return x
}

func newRows(items []vault.Item, lang language.Tag) []*row {
	coll := collate.New(lang, collate.IgnoreCase, collate.Numeric)
	var buf collate.Buffer
	f := newFolder()
	rows := make([]*row, 0, len(items))
	block := make([]row, len(items)) // together in memory
	for i, it := range items {
		r := &block[i]
		r.item = it
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
	k, _ := vault.KindOf(r.item.Type)
	r.section = k.Section
	r.title = f.fold(r.item.Title)
	r.site = r.domain + "\x00" + r.title
	if r.section != vault.SectionLogins {
		r.site += "\x00" + r.item.ID // nothing but accounts is set together
	}
	r.letter = letter(r.title)
}

// foldAll folds what a search looks through, at the first search.
func (x *Index) foldAll() {
	f := newFolder()
	var all strings.Builder
	n := len(x.rows)
	x.ends, x.group, x.live, x.byID = make([]ends, n), make([]int32, n), make([]bool, n), make(map[string]int32, n)
	groups := make(map[string]int32, n)
	for i, r := range x.rows {
		it := &r.item
		if _, ok := groups[r.site]; !ok {
			groups[r.site] = int32(len(groups))
		}
		x.group[i], x.live[i], x.byID[it.ID] = groups[r.site], !it.Archived, int32(i)
		if it.Pinned {
			x.pins = append(x.pins, i)
		}
		hosts := make([]string, 0, 4)
		for _, a := range it.Addresses {
			hosts = append(hosts, site.Shown(a.URL))
		}
		also := it.Aliases
		if x.opt.Names != nil && r.domain != "" {
			also = append(slices.Clone(also), x.opt.Names(r.domain)...)
		}
		for p, text := range [partCount]string{
			partTitle:    r.title,
			partAliases:  f.fold(strings.Join(also, "\n")),
			partHosts:    f.fold(strings.Join(hosts, "\n")),
			partSubtitle: f.fold(it.Subtitle),
			partOrder:    f.fold(strings.Join(append([]string{it.Folder}, it.Tags...), "\n")),
			partRest:     f.fold(strings.Join(append([]string{it.Notes}, it.Labels...), "\n")),
		} {
			all.WriteString(text)
			x.ends[i][p] = all.Len()
			all.WriteByte(0)
		}
	}
	x.all, x.sites = all.String(), len(groups)
}

// begin is where a row's text begins in all.
func (x *Index) begin(row int) int {
	if row == 0 {
		return 0
	}
	return x.ends[row-1][partCount-1] + 1
}

// text is a part of a row.
func (x *Index) text(row, part int) string {
	if part == 0 {
		return x.all[x.begin(row):x.ends[row][0]]
	}
	return x.all[x.ends[row][part-1]+1 : x.ends[row][part]]
}

// Warm gets the index ready for the first search. It may be called at any time.
func (x *Index) Warm() { x.fold.Do(x.foldAll) }

// Len is the number of items in a section; of all sections if it is empty.
func (x *Index) Len(s vault.Section) int { return x.Book(s).Items }

// Part is the index of those items that are wanted, in the same order.
func (x *Index) Part(wanted func(*vault.Item) bool) *Index {
	out := &Index{opt: x.opt}
	for _, r := range x.rows {
		if wanted(&r.item) {
			out.rows = append(out.rows, r)
		}
	}
	return out
}

// Items calls fn for every item that isn't archived, in the order of the book.
func (x *Index) Items(fn func(*vault.Item)) {
	for _, r := range x.rows {
		if !r.item.Archived {
			fn(&r.item)
		}
	}
}

// Book returns a section's sites in order; of all sections if it is empty. It
// must not be changed.
func (x *Index) Book(s vault.Section) *Book {
	if b, ok := x.books.Load(s); ok {
		return b.(*Book)
	}
	var rows []*row
	for _, r := range x.rows {
		if !r.item.Archived && (s == "" || r.section == s) {
			rows = append(rows, r)
		}
	}
	b, _ := x.books.LoadOrStore(s, &Book{Sites: group(rows), Items: len(rows)})
	return b.(*Book)
}

func group(rows []*row) []Site {
	out := make([]Site, 0, len(rows))
	last := ""
	for i, r := range rows {
		if i == 0 || r.site != last {
			out = append(out, Site{Title: r.item.Title, Domain: r.domain, Letter: r.letter})
			last = r.site
		}
		s := &out[len(out)-1]
		s.Accounts = append(s.Accounts, &r.item)
	}
	return out
}

// Scores by place: the sum over the words decides. A word that begins the title
// beats one that begins a later word of it, then other names, the site, what
// tells accounts apart, folder and tags, and anything else.
type scores struct{ start, word, inside int }

var partScores = [partCount]scores{
	partTitle:    {100, 80, 45},
	partAliases:  {90, 78, 40},
	partHosts:    {75, 60, 14}, // less than a word of a note: hosts are many words run together
	partSubtitle: {42, 36, 20},
	partOrder:    {34, 32, 12},
	partRest:     {16, 14, 6},
}

// What is added to a score: for a query that the title begins with as it stands,
// for a word that is matched to its end, for use lately, for a pin.
const (
	wholeTitle = 60
	titleBegin = 40
	wholeWord  = 6
	pinned     = 8
)

func recency(used, now int64) int {
	switch age := time.Duration(now-used) * time.Millisecond; {
	case used == 0:
		return 0
	case age < 24*time.Hour:
		return 12
	case age < 7*24*time.Hour:
		return 9
	case age < 31*24*time.Hour:
		return 6
	}
	return 3
}

// Now is what a search needs to know of the moment. The zero value will do.
type Now struct {
	Time int64            // milliseconds since 1970
	Used map[string]int64 // by id: when an item was last used
	// Marked are the ids of items in a state that items don't say themselves, by the state's word: "suspect", "reused".
	Marked map[string]map[string]bool
}

// Find returns the sites with an item that has every word of the query and is
// within its filters, best first; equal ones stay in the order of the book.
// It lists the first sites only, as many as most says; 0 is all.
func (x *Index) Find(q Query, now Now, most int) *Book {
	if q.Empty() {
		return x.Book("")
	}
	x.fold.Do(x.foldAll)
	extra := x.extra(now)
	hits := x.everywhere(func(from, to int) []hit { return x.search(&q, now, extra, from, to) })
	out := &Book{}
	if len(hits) == 0 && slices.ContainsFunc(q.Words, func(w string) bool { return len(w) >= minFuzzy }) {
		hits = x.everywhere(func(from, to int) []hit { return x.searchFuzzy(&q, now, extra, from, to) })
		out.Fuzzy = len(hits) > 0
	}
	out.Items = len(hits)
	out.Sites, out.More = x.gather(hits, most)
	return out
}

// hit is a row and its score in one number, in the order of a result: the higher
// score first, then the order of the book.
type hit uint64

func newHit(row, score int) hit { return hit(1<<31-1-score)<<32 | hit(row) }

func (h hit) row() int { return int(h & (1<<32 - 1)) }

// everywhere runs a search over all rows, on every processor if they are many.
func (x *Index) everywhere(search func(from, to int) []hit) []hit {
	parts := make([][]hit, max(1, min(runtime.GOMAXPROCS(0), len(x.rows)/1024)))
	if len(parts) == 1 {
		return search(0, len(x.rows))
	}
	var wg sync.WaitGroup
	for i := range parts {
		wg.Go(func() { parts[i] = search(i*len(x.rows)/len(parts), (i+1)*len(x.rows)/len(parts)) })
	}
	wg.Wait()
	return slices.Concat(parts...)
}

// search finds rows with every word. The longest word is looked for in all the
// text at once; only where it is found is a row looked at.
func (x *Index) search(q *Query, now Now, extra []uint8, from, to int) (hits []hit) {
	longest := ""
	for _, w := range q.Words {
		if len(w) > len(longest) {
			longest = w
		}
	}
	take := func(i, at int) {
		if !x.fits(q, i, &now) {
			return
		}
		if s, ok := x.score(q, i, longest, at); ok {
			hits = append(hits, newHit(i, s+int(extra[i])))
		}
	}
	if longest == "" {
		for i := from; i < to; i++ {
			take(i, 0)
		}
		return hits
	}
	all := x.all[:x.begin(to)]
	for at, i := x.begin(from), from; i < to; {
		j := strings.Index(all[at:], longest)
		if j < 0 {
			break
		}
		at += j
		if x.ends[i][partCount-1] < at {
			i += 1 + sort.Search(to-i-1, func(k int) bool { return x.ends[i+1+k][partCount-1] >= at })
		}
		take(i, at)
		at = x.ends[i][partCount-1] + 1
		i++
	}
	return hits
}

func (x *Index) searchFuzzy(q *Query, now Now, extra []uint8, from, to int) (hits []hit) {
	for i := from; i < to; i++ {
		if !x.fits(q, i, &now) {
			continue
		}
		if s, ok := x.scoreFuzzy(q.Words, i); ok {
			hits = append(hits, newHit(i, s+int(extra[i])))
		}
	}
	return hits
}

// fits reports whether a row is within a query's filters.
func (x *Index) fits(q *Query, row int, now *Now) bool {
	if len(q.Narrows) == 0 {
		return x.live[row]
	}
	return q.fits(&x.rows[row].item, now)
}

// gather groups hits: a site stands where its best account stands, with
// its other hits under it. Beyond the first sites it only counts.
func (x *Index) gather(hits []hit, most int) (out []Site, more int) {
	slices.Sort(hits)
	place := make([]int32, x.sites) // in out, from 1
	var count []int
	listed := hits[:0]
	for _, h := range hits {
		p := &place[x.group[h.row()]]
		if *p == 0 {
			if most > 0 && len(out) == most {
				*p = -1
				more++
				continue
			}
			r := x.rows[h.row()]
			out, count = append(out, Site{Title: r.item.Title, Domain: r.domain, Letter: r.letter}), append(count, 0)
			*p = int32(len(out))
		}
		if *p > 0 {
			count[*p-1]++
			listed = append(listed, h)
		}
	}
	total := 0
	for _, n := range count {
		total += n
	}
	items := make([]*vault.Item, total) // one allocation for all
	for i, n := range count {
		out[i].Accounts, items = items[:0:n], items[n:]
	}
	for _, h := range listed {
		s := &out[place[x.group[h.row()]]-1]
		s.Accounts = append(s.Accounts, &x.rows[h.row()].item)
	}
	return out, more
}

// extra is what is added to each row's score, whatever the query is.
func (x *Index) extra(now Now) []uint8 {
	out := make([]uint8, len(x.rows))
	for id, at := range now.Used {
		if i, ok := x.byID[id]; ok {
			out[i] = uint8(recency(at, now.Time))
		}
	}
	for _, i := range x.pins {
		out[i] += pinned
	}
	return out
}

// score scores a row by every word of a query, of which one was found already: its
// first place in the row is at.
func (x *Index) score(q *Query, row int, found string, at int) (total int, ok bool) {
	begin, end := x.begin(row), x.ends[row][partCount-1]
	for _, w := range q.Words {
		first := at
		if w != found {
			if first = strings.Index(x.all[begin:end], w); first < 0 {
				return 0, false
			}
			first += begin
		}
		s := x.scoreWord(row, w, first)
		if s == 0 {
			return 0, false
		}
		total += s
	}
	if title := x.text(row, partTitle); q.joined != "" && strings.HasPrefix(title, q.joined) {
		total += titleBegin
		if len(title) == len(q.joined) {
			total += wholeTitle - titleBegin
		}
	}
	return total, true
}

// scoreWord scores a word's best place in a row, whose first one is at; 0 if it
// would have to be in two parts at once.
func (x *Index) scoreWord(row int, w string, at int) (best int) {
	ends := &x.ends[row]
	part, begin, to := 0, x.begin(row), ends[partCount-1]
	for {
		for ends[part] <= at {
			begin = ends[part] + 1
			part++
		}
		s, behind := partScores[part], at+len(w)
		if behind <= ends[part] {
			n := 0
			switch {
			case at == begin || x.all[at-1] == '\n':
				n = s.start
			case boundary(x.all[at-1]):
				n = s.word
			default:
				n = s.inside
			}
			if n != s.inside && (behind == ends[part] || boundary(x.all[behind])) {
				n += wholeWord
			}
			if best = max(best, n); best == s.start+wholeWord {
				return best // later parts count for less
			}
			if part+1 < partCount && best >= partScores[part+1].start+wholeWord {
				to = ends[part] // nothing behind this part is better
			}
		}
		j := strings.Index(x.all[at+1:max(at+1, to)], w)
		if j < 0 {
			return best
		}
		at += 1 + j
	}
}

// minFuzzy is the shortest word in which a typing error is allowed, in bytes: shorter ones
// are a typing error away from half the book.
const minFuzzy = 4

// scoreFuzzy scores words of which each may have a typing error. Notes are left out: among
// so many words some fit by chance.
func (x *Index) scoreFuzzy(words []string, row int) (total int, ok bool) {
	begin, end := x.begin(row), x.ends[row][partCount-1]
	for _, w := range words {
		if at := strings.Index(x.all[begin:end], w); at >= 0 {
			if s := x.scoreWord(row, w, begin+at); s > 0 {
				total += s
				continue
			}
		}
		best := 0
		for p, s := range partScores[:partRest] {
			best = max(best, s.fuzzy(x.text(row, p), w))
		}
		if best == 0 {
			return 0, false
		}
		total += best
	}
	return total, true
}

func (s scores) fuzzy(text, word string) int {
	if len(word) < minFuzzy {
		return 0
	}
	for i := 0; i < len(text); {
		j := i
		for j < len(text) && !boundary(text[j]) {
			j++
		}
		if j > i && mayBeTypo(text[i:], word) && isTypo(text[i:], word) {
			if i == 0 {
				return s.start / 2
			}
			return s.word / 2
		}
		i = j + 1
	}
	return 0
}

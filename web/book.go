package web

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/core/find"
	"redlocket/core/vault"
	"redlocket/wording"
)

// bookPages are the list, what it narrows to, and the item beside it.
type bookPages struct{ *Server }

func (s bookPages) routes(r routes) {
	for name := range sections {
		r.get("/"+string(name), s.book)
	}
	r.get("/rows", s.rows)
	r.get("/ids", s.ids)
	r.get("/narrow", s.narrow)
	r.get("/archive", s.archive)
}

// chunkSites is how many sites a part of the list holds at most. A page brings
// the parts with the first lines, as many as a screen shows; the others are drawn
// as they are scrolled to, into places whose heights are known from their numbers
// of lines.
const (
	chunkSites = 20
	firstLines = 18
	mostFits   = 240 // sites that a search lists: nobody reads on there, one types on
)

// bookData is the two leaves: the book on the left, a sheet on the right.
type bookData struct {
	Section  vault.Section
	Words    sectionWords
	Q        find.Query
	On       string  // the day whose book this is; empty for today
	Chunks   []chunk // that are drawn
	Rest     rest    // of the list
	Thumbs   []thumb
	All      int  // items of the section
	Begun    bool // it has some, in any book
	Found    int  // items of the list
	Beyond   int  // items that fit in other books than the open one
	Sites    int
	Fuzzy    bool
	More     int // sites that fit and aren't listed
	Warnings []records.Expiry
	Open     string
	Sheet    string // template of the right leaf
	Item     *itemData
	Form     *formData
	Past     []versionData

	index *find.Index
	used  map[string]int64
}

// Day is the day's page, for the sheet while nothing is chosen.
func (d bookData) Day() dayData { return day(d.index, d.used) }

// chunk is a part of the list.
type chunk struct {
	From, To int
	Letter   string // the first of its letter has it as its id
	Head     bool   // a letter stands above it
	Sites    []find.Site
	Lines    int // of a site's own height
	Under    int // of accounts set under a site
}

// rest are the parts of a list that are drawn as they are scrolled to: a long book has
// hundreds, and the page's script makes places for them once the first ones are shown.
type rest []chunk

// From is the first site of it.
func (r rest) From() int { return r[0].From }

// Height is made of so many lines, accounts under them, and letters: "9981 120 25".
func (r rest) Height() string {
	var lines, under, heads int
	for _, c := range r {
		lines, under = lines+c.Lines, under+c.Under
		if c.Head {
			heads++
		}
	}
	return fmt.Sprint(lines, under, heads)
}

// Parts says of each part how many sites it has, how many accounts under them, and the
// letter if one stands above it: "20 3 B;20 0".
func (r rest) Parts() string {
	var b []byte
	for i, c := range r {
		if i > 0 {
			b = append(b, ';')
		}
		b = strconv.AppendInt(b, int64(c.Lines), 10)
		b = append(b, ' ')
		b = strconv.AppendInt(b, int64(c.Under), 10)
		if c.Head {
			b = append(append(b, ' '), c.Letter...)
		}
	}
	return string(b)
}

// thumb is a letter of the thumb index.
type thumb struct {
	Letter string
	Used   bool
}

const (
	latin      = "#ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	mostThumbs = 45 // that a screen has room for
)

// thumbs are the letters of a list: the Latin ones, and of other scripts those that
// are used. Where they get too many, only the used ones stay.
func thumbs(list []chunk) (out []thumb) {
	used := map[string]bool{}
	var others []string
	for _, c := range list {
		if c.Head && !used[c.Letter] {
			used[c.Letter] = true
			if !strings.Contains(latin, c.Letter) {
				others = append(others, c.Letter)
			}
		}
	}
	for l := range strings.SplitSeq(latin, "") {
		if used[l] || len(others)+len(latin) <= mostThumbs {
			out = append(out, thumb{l, used[l]})
		}
	}
	for _, l := range others {
		out = append(out, thumb{l, true})
	}
	return out
}

// press is a filter that can be pressed.
type press struct {
	Words string
	Query string // what the search line is after the press
	On    bool
}

type sectionWords struct{ Title, One, Many, Find, Empty string }

var sections = map[vault.Section]sectionWords{
	vault.SectionLogins: {"Logins", "login", "logins", "Find a login", "Write down the first login"},
	vault.SectionCards: {
		"Cards & details",
		"card or detail",
		"cards and details",
		"Find a card or detail",
		"Write down the first card",
	},
	vault.SectionNotes: {"Notes", "note", "notes", "Find a note", "Write the first note"},
}

// sectionOf tells the section that a request is in: the path names it, or the
// parameter "in".
func sectionOf(r *http.Request) vault.Section {
	for _, name := range []string{strings.TrimPrefix(r.URL.Path, "/"), r.FormValue("in")} {
		if _, ok := sections[vault.Section(name)]; ok {
			return vault.Section(name)
		}
	}
	return vault.SectionLogins
}

// moment reads which moment a request asks for: the end of the day "on", or "at"
// in milliseconds; ok is false for now.
func moment(r *http.Request) (ms int64, ok bool) {
	if at, err := strconv.ParseInt(r.FormValue("at"), 10, 64); err == nil && at > 0 {
		return at, true
	}
	if t, err := time.ParseInLocation(time.DateOnly, r.FormValue("on"), time.Local); err == nil {
		return t.AddDate(0, 0, 1).UnixMilli() - 1, true
	}
	return 0, false
}

// list finds what a request asks for, as much of it as a page lists; with all,
// everything.
func list(r *http.Request, section vault.Section, q find.Query, all bool) (x *find.Index, b *find.Book, err error) {
	v := vaultOf(r)
	most := 0
	if len(q.Words) > 0 && !all {
		most = mostFits
	}
	if ms, then := moment(r); then && r.FormValue("on") != "" {
		if x, err = v.Book.AsOf(ms); err == nil {
			b = x.Find(q, find.Now{}, most)
		}
	} else if x, err = v.Book.Leaf(); err == nil && !q.Empty() {
		b, err = v.Book.FindIn(x, q, most)
	}
	if err == nil && q.Empty() {
		b = x.Book(section)
	}
	return x, b, err
}

func (s *Server) bookData(r *http.Request) (d bookData, err error) {
	d = bookData{Section: sectionOf(r), Q: find.Parse(r.FormValue("q")), Sheet: "sheet-empty"}
	if _, then := moment(r); then {
		d.On = r.FormValue("on")
	}
	d.Words = sections[d.Section]
	x, b, err := list(r, d.Section, d.Q, false)
	if err != nil {
		return d, err
	}
	d.All, d.Found, d.Sites, d.Fuzzy, d.More = x.Len(d.Section), b.Items, len(b.Sites), b.Fuzzy, b.More
	parts := chunks(b, d.Q.Empty())
	d.Thumbs = thumbs(parts)
	first, lines := 0, 0
	for ; first < len(parts) && lines < firstLines; first++ {
		c := &parts[first]
		c.Sites = b.Sites[c.From:c.To]
		lines += c.Lines + c.Under
	}
	d.Chunks, d.Rest = parts[:first], parts[first:]
	d.index, d.used, d.Begun = x, vaultOf(r).Book.Used(), d.All > 0
	if v := vaultOf(r); d.On == "" && v.Books.Open() != records.AllBooks {
		if err := d.otherBooks(v); err != nil {
			return d, err
		}
	}
	if d.On == "" && d.Q.Empty() && d.Section == vault.SectionCards {
		d.Warnings, err = vaultOf(r).Book.ExpiringSoon()
	}
	return d, err
}

// otherBooks says what the books that aren't open have. What waits is said of all of them.
func (d *bookData) otherBooks(v *app.Vault) (err error) {
	if d.index, err = v.Book.Index(); err != nil {
		return err
	}
	d.Begun = d.index.Len(d.Section) > 0
	if d.Q.Empty() {
		return nil
	}
	all, err := v.Book.FindIn(d.index, d.Q, 1)
	if err == nil && (!all.Fuzzy || d.Fuzzy || d.Found == 0) {
		d.Beyond = max(0, all.Items-d.Found)
	}
	return err
}

// chunks parts a list: at letters, if it is in the order of the book, and where a
// part gets long.
func chunks(b *find.Book, letters bool) (out []chunk) {
	for i := range b.Sites {
		site := &b.Sites[i]
		fresh := letters && (i == 0 || b.Sites[i-1].Letter != site.Letter)
		if len(out) == 0 || fresh || out[len(out)-1].To-out[len(out)-1].From >= chunkSites {
			c := chunk{From: i, Head: fresh}
			if letters {
				c.Letter = site.Letter
			}
			out = append(out, c)
		}
		c := &out[len(out)-1]
		c.To = i + 1
		c.Lines++
		if n := len(site.Accounts); n > 1 {
			c.Under += n
		}
	}
	return out
}

// State is the part of an address that says what the list shows; it begins with
// "?" unless it is empty.
func (d bookData) State() string {
	v := url.Values{}
	if d.Section != vault.SectionLogins {
		v.Set("in", string(d.Section))
	}
	if d.Q.Text != "" {
		v.Set("q", d.Q.Text)
	}
	if d.On != "" {
		v.Set("on", d.On)
	}
	if len(v) == 0 {
		return ""
	}
	return "?" + v.Encode()
}

// Narrowed are the filters in force, each with the line without it.
func (d bookData) Narrowed() (out []press) {
	for _, n := range d.Q.Narrows {
		out = append(out, press{narrowWords(n), d.Q.Turn(n), true})
	}
	return out
}

// narrowWords says what a filter leaves.
func narrowWords(n find.Narrow) string {
	words := n.Value
	switch n.By {
	case "":
		words = wording.State(n.Value)
	case "kind":
		words = wording.Kind(vault.Type(n.Value)).Many
	case "folder", "tag":
		words = n.By + " " + n.Value
	}
	if n.Not {
		words = "not: " + words
	}
	return words
}

// narrow draws what can be pressed to narrow the list.
func (s bookPages) narrow(w http.ResponseWriter, r *http.Request) error {
	x, err := vaultOf(r).Book.Leaf()
	if err != nil {
		return err
	}
	d := bookData{Section: sectionOf(r), On: r.FormValue("on")}
	groups, err := filterGroups(vaultOf(r).Book, x, find.Parse(r.FormValue("q")))
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "narrow", s.view(r, "", "", struct {
		bookData
		Groups []filterGroup
	}{d, groups}))
	return nil
}

// most returns the n names with the highest counts, in order of name.
func most(counts map[string]int, n int) []string {
	names := slices.SortedFunc(
		maps.Keys(counts),
		func(a, b string) int { return cmp.Or(counts[b]-counts[a], strings.Compare(a, b)) },
	)
	names = names[:min(n, len(names))]
	slices.Sort(names)
	return names
}

// leaves renders the book with a sheet, or the part of it that htmx asks for.
func (s *Server) leaves(
	w http.ResponseWriter,
	r *http.Request,
	status int,
	title string,
	d bookData,
	bad map[string]string,
) error {
	v := s.view(r, title, string(d.Section), d)
	if bad != nil {
		v.Bad = bad
	}
	switch {
	case fragment(r, "book-list"):
		s.render(w, r, status, "book-part", v)
	case fragment(r, "sheet"):
		if r.Method == http.MethodGet && r.Header.Get("X-By-Itself") == "" {
			w.Header().Set("HX-Push-Url", s.addressOf(r, v))
		}
		s.render(w, r, http.StatusOK, d.Sheet, v) // htmx swaps good answers only
	default:
		v.Calm = d.Sheet == "sheet-empty"
		s.render(w, r, status, "book", v)
	}
	return nil
}

// addressOf is a sheet's address as the browser keeps it. Titles of pages name no item, because the browser's history
// keeps them; and where something is left out under a second passphrase, what is looked for isn't kept either.
func (s *Server) addressOf(r *http.Request, v View) string {
	u := *r.URL
	if v.Second {
		q := u.Query()
		q.Del("q")
		u.RawQuery = q.Encode()
	}
	return u.RequestURI()
}

func (s bookPages) book(w http.ResponseWriter, r *http.Request) error {
	d, err := s.bookData(r)
	if err != nil {
		return err
	}
	d.Open = r.FormValue("open")
	return s.leaves(w, r, http.StatusOK, d.Words.Title, d, nil)
}

// rows draws one part of the list.
func (s bookPages) rows(w http.ResponseWriter, r *http.Request) error {
	q := find.Parse(r.FormValue("q"))
	d := bookData{Section: sectionOf(r), Q: q}
	if _, then := moment(r); then {
		d.On = r.FormValue("on")
	}
	_, b, err := list(r, d.Section, q, false)
	if err != nil {
		return err
	}
	from, err1 := strconv.Atoi(r.FormValue("from"))
	to, err2 := strconv.Atoi(r.FormValue("to"))
	if err := errors.Join(err1, err2); err != nil || from < 0 || to < from || to-from > chunkSites {
		return problem(http.StatusBadRequest, "There is no such part", "The page is out of date. Please load it again.")
	}
	c := chunk{From: min(from, len(b.Sites)), To: min(to, len(b.Sites)), Head: r.FormValue("head") != ""}
	c.Sites = b.Sites[c.From:c.To]
	if len(c.Sites) > 0 {
		c.Letter = c.Sites[0].Letter
	}
	d.Chunks = []chunk{c}
	s.render(w, r, http.StatusOK, "rows", s.view(r, "", "", d))
	return nil
}

// ids lists the ids of everything that a list shows, to choose all of it.
func (s bookPages) ids(w http.ResponseWriter, r *http.Request) error {
	_, b, err := list(r, sectionOf(r), find.Parse(r.FormValue("q")), true)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	for _, site := range b.Sites {
		for _, it := range site.Accounts {
			_, _ = w.Write([]byte(it.ID + "\n"))
		}
	}
	return nil
}

// archive leads to what is archived.
func (s bookPages) archive(w http.ResponseWriter, r *http.Request) error {
	redirect(w, r, "/logins?q="+url.QueryEscape("=archived"))
	return nil
}

// filedItem is an item with where it is filed.
type filedItem struct {
	*vault.Item
	BookName string // where several books are listed together
}

func filed(v chunkView, it *vault.Item) filedItem {
	f := filedItem{Item: it}
	if books := v.Vault.Books; books.Open() == records.AllBooks {
		if f.BookName = books.Name(*it); f.BookName == f.Folder { // said once
			f.BookName = ""
		}
	}
	return f
}

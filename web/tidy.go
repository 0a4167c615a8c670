package web

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"redlocket/app/tidying"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/tidy"
	"redlocket/core/vault"
	"redlocket/wording"
)

// tidyPages show the logins that may be one, and do what their user says of them.
type tidyPages struct{ *Server }

func (s tidyPages) routes(r routes) {
	r.get("/tidy", s.page)
	r.get("/tidy/sure", s.sure)
	r.post("/tidy/sure", s.joinSure)
	r.post("/tidy/join", s.join)
	r.post("/tidy/apart", s.apart)
	r.post("/tidy/out", s.leaveOut)
	r.post("/tidy/later", s.later)
	r.get("/tidy/better/{what}", s.better)
	r.post("/tidy/better/{what}", s.improve)
	r.get("/tidy/try", s.try)
	r.post("/tidy/try", s.beginTry)
	r.post("/tidy/tried", s.tried)
	r.post("/tidy/go-on", s.goOn)
	r.post("/tidy/{id}/back", s.takeBack)
	r.post("/tidy/today/back", s.takeBackToday)
}

type tidyData struct {
	Groups   []tidyGroup
	Waiting  int
	Later    int
	Sure     int
	Done     []doneView
	Today    int // decisions of today
	Bench    *benchView
	SureOnes []sureView // of the page that shows them all
	Rows     int        // of logins, in SureOnes
	AtSheet  bool       // on a narrow screen: the sheet, not the list
	Try      *tryView
	Better   []betterGroup
	Improve  *betterGroup // of the page that shows one way
}

// tidyGroup is proposals that are as sure as each other.
type tidyGroup struct {
	Title, Means string
	List         []tidyLine
}

type tidyLine struct {
	Key     string // as part of an address
	Title   string
	Domain  string
	Name    string // the user name that would survive
	Rows    int
	Current bool
}

// doneView is a decision that stands.
type doneView struct {
	ID, Words, Title string
	At               int64
	Act              int // decisions that were made with it, by one press; 1 is it alone
}

// sureView is a proposal on the page that shows all sure ones.
type sureView struct {
	Key     string
	Title   string
	Domain  string
	Name    string
	Others  []string // what the rows have beside it
	Reasons []string
}

// benchView is the proposal at hand.
type benchView struct {
	Key       string
	IDs       string // in order, with blanks between
	Title     string
	Sure      string // a sentence
	Later     bool
	Reasons   []string
	Columns   []benchColumn
	Fields    []benchField
	Addresses []benchAddress
	Place, Of int
	Next      string // keys of the proposals beside it; empty for none
	Prev      string
	Then      string // of the one to go on with
	SeenBy    string // who sees from then on what is the owner's alone now; empty for nobody
}

type benchColumn struct {
	ID      string
	Place   int
	From    string
	Changed int64
	Used    int64
}

// benchField is a line of the bench: what each of the rows has there.
type benchField struct {
	Name    string // of the form's field; empty where everything is kept
	Label   string
	Kept    string // what becomes of what doesn't survive
	Differs bool
	Cells   []benchCell
}

type benchCell struct {
	ID      string
	Text    string
	Lines   []string
	Slot    *slotData // a password
	Same    int       // the place of the first row with the same one; 0 where it is the first
	Chosen  bool
	Differs bool // from what survives
}

type benchAddress struct {
	URL    string
	Places []int
	Chosen bool
}

// tidyKey is a proposal's name in addresses.
func tidyKey(ids []string) string {
	sum := sha256.Sum256([]byte(tidy.Key(ids)))
	return hex.EncodeToString(sum[:8])
}

var tidyWords = map[tidy.Sureness]string{
	tidy.Sure:     "Sure: nothing speaks against it.",
	tidy.Likely:   "Likely: what speaks for it is more than chance.",
	tidy.Question: "A question: only you can tell.",
}

func (s tidyPages) page(w http.ResponseWriter, r *http.Request) error {
	d, l, err := s.left(r)
	if err != nil {
		return err
	}
	if p, i, ok := at(l, r.FormValue("at"), r.FormValue("after")); ok {
		if d.Bench, err = s.bench(r, l, p, i); err != nil {
			return err
		}
		d.mark(d.Bench.Key)
		d.AtSheet = r.FormValue("at")+r.FormValue("after") != ""
	}
	return s.show(w, r, http.StatusOK, d)
}

func (s tidyPages) show(w http.ResponseWriter, r *http.Request, status int, d tidyData) error {
	v := s.view(r, "Tidy", "tidy", d)
	if fragment(r, "tidy") {
		if r.Method == http.MethodGet {
			w.Header().Set("HX-Push-Url", r.URL.RequestURI())
		}
		s.render(w, r, status, "tidy-leaves", v)
		return nil
	}
	s.render(w, r, status, "tidy", v)
	return nil
}

// at finds the proposal that an address names; the one that took its place, if it is gone; else the first.
func at(l tidying.List, key, after string) (p tidy.Proposal, i int, ok bool) {
	left := l.Left()
	if len(left) == 0 {
		return p, 0, false
	}
	named := func(key string) int {
		return slices.IndexFunc(left, func(p tidy.Proposal) bool { return tidyKey(p.IDs) == key })
	}
	i = named(key)
	if i < 0 {
		i = named(after)
	}
	i = max(i, 0)
	return left[i], i, true
}

// left reads what the left leaf shows.
func (s tidyPages) left(r *http.Request) (d tidyData, l tidying.List, err error) {
	v := vaultOf(r)
	if l, err = v.Tidying.List(r.Context()); err != nil {
		return d, l, err
	}
	x, err := v.Book.Index()
	if err != nil {
		return d, l, err
	}
	items := map[string]vault.Item{}
	x.Items(func(it *vault.Item) { items[it.ID] = *it })
	for _, g := range []struct {
		title, means string
		list         []tidy.Proposal
	}{
		{"Sure", "nothing speaks against it", l.Sure},
		{"Likely", "more than chance", l.Likely},
		{"Questions", "only you can tell", l.Questions},
		{"Later", "you put them off", l.Later},
	} {
		if len(g.list) == 0 {
			continue
		}
		group := tidyGroup{Title: g.title, Means: g.means}
		for _, p := range g.list {
			group.List = append(group.List, lineOf(p, items))
		}
		d.Groups = append(d.Groups, group)
	}
	d.Waiting, d.Later, d.Sure = l.Waiting(), len(l.Later), len(l.Sure)
	for _, what := range tidy.Whats() {
		if g := groupBetter(l.Better, what, items); len(g.List) > 0 {
			d.Better = append(d.Better, g)
		}
	}
	today := startOfDay(time.Now())
	acts := map[string]int{}
	for _, dec := range l.Done {
		acts[dec.Run]++
	}
	for _, dec := range l.Done {
		d.Done = append(d.Done, doneView{dec.ID, decided(dec), titleOf(dec.Titles), dec.At, acts[dec.Run]})
		if dec.At >= today {
			d.Today++
		}
	}
	return d, l, nil
}

func startOfDay(t time.Time) int64 {
	y, m, day := t.Date()
	return time.Date(y, m, day, 0, 0, 0, 0, t.Location()).UnixMilli()
}

func titleOf(titles []string) string {
	for _, t := range titles {
		if t != "" {
			return t
		}
	}
	return "without a title"
}

func decided(d tidy.Decision) string {
	n := plural(len(d.IDs), "login", "logins")
	switch d.Verdict {
	case tidy.Joined:
		return n + " joined"
	case tidy.Improved:
		return n + ": " + wording.Bettered(d.What)
	case tidy.AsIs:
		return n + " left as before"
	}
	return n + " kept apart"
}

func lineOf(p tidy.Proposal, items map[string]vault.Item) tidyLine {
	line := tidyLine{Key: tidyKey(p.IDs), Title: p.Survives.Title, Name: p.Survives.Username, Rows: len(p.IDs)}
	if p.Survives.Address != "" {
		line.Domain = site.Domain(p.Survives.Address)
	}
	for _, id := range p.IDs {
		if line.Title == "" {
			line.Title = items[id].Title
		}
	}
	return line
}

func (d *tidyData) mark(key string) {
	for g := range d.Groups {
		for i := range d.Groups[g].List {
			d.Groups[g].List[i].Current = d.Groups[g].List[i].Key == key
		}
	}
}

// bench reads the proposal at hand.
func (s tidyPages) bench(r *http.Request, l tidying.List, p tidy.Proposal, i int) (*benchView, error) {
	v := vaultOf(r)
	rows, err := v.Tidying.Rows(p.IDs)
	if err != nil {
		return nil, err
	}
	left := l.Left()
	b := &benchView{
		Key: tidyKey(p.IDs), IDs: strings.Join(p.IDs, " "), Title: p.Survives.Title, Sure: tidyWords[p.Sure],
		Later: i >= l.Waiting(), Place: i + 1, Of: len(left),
	}
	if i > 0 {
		b.Prev = tidyKey(left[i-1].IDs)
	}
	if i+1 < len(left) {
		b.Next = tidyKey(left[i+1].IDs)
	}
	b.Then = b.Next
	if !b.Later && i > 0 && i+1 >= l.Waiting() {
		b.Then = tidyKey(left[0].IDs) // what was passed over, before what was put off
	}
	for _, why := range p.Reasons {
		b.Reasons = append(b.Reasons, wording.Reason(why))
	}
	used := v.Book.Used()
	own := slices.ContainsFunc(rows, func(e vault.Entry) bool { set, _ := e.Share(); return set == "" })
	for n, e := range rows {
		if of, err := v.Sharing.OfItem(e); err == nil && own {
			b.SeenBy = others(of)
		}
		b.Columns = append(b.Columns, benchColumn{
			ID: e.ID, Place: n + 1, From: strings.Join(e.SourceFiles(), ", "),
			Changed: e.Modified().At, Used: used[e.ID],
		})
	}
	b.Addresses = addressesOf(rows, p.Survives.Address)
	b.Fields = []benchField{
		textField("title", "Title", "other names", rows, vault.FieldTitle, p.Survives.Title),
		textField("username", "User name", "other names", rows, vault.FieldUsername, p.Survives.Username),
		passwordField(rows, p.Survives.PasswordOf),
	}
	b.Fields = append(b.Fields, keptFields(rows)...)
	return b, nil
}

// textField is a line of which one value survives.
func textField(name, label, kept string, rows []vault.Entry, f vault.Field, survives string) benchField {
	out := benchField{Name: name, Label: label, Kept: kept}
	chosen := -1
	for i, e := range rows {
		text := e.Text(f)
		if chosen < 0 && strings.TrimSpace(text) == strings.TrimSpace(survives) {
			chosen = i
		}
		out.Cells = append(out.Cells, benchCell{ID: e.ID, Text: text, Differs: text != survives})
		out.Differs = out.Differs || text != survives
	}
	if chosen >= 0 {
		out.Cells[chosen].Chosen = true
	}
	return out
}

func passwordField(rows []vault.Entry, of string) benchField {
	out := benchField{Name: "password", Label: "Password", Kept: "the history"}
	first := map[secret.Text]int{}
	for i, e := range rows {
		p := e.SignsInWith()
		c := benchCell{ID: e.ID, Chosen: e.ID == of}
		switch at, had := first[p]; {
		case p.IsEmpty():
		case had:
			c.Same = at
		default:
			first[p] = i + 1
			c.Slot = &slotData{ID: e.ID, Field: string(vault.FieldPassword)}
			if e.Secret(vault.FieldPassword).IsEmpty() {
				c.Slot.Field = string(vault.FieldStaged)
			}
		}
		out.Cells = append(out.Cells, c)
	}
	out.Differs = len(first) > 1
	for i, e := range rows {
		out.Cells[i].Differs = out.Differs && e.ID != of
	}
	return out
}

// addressesOf are the addresses of all rows, each once, with the rows that have it.
func addressesOf(rows []vault.Entry, survives string) (out []benchAddress) {
	for n, e := range rows {
		for _, a := range vault.View(e).Addresses {
			i := slices.IndexFunc(out, func(o benchAddress) bool { return o.URL == a.URL })
			if i < 0 {
				i = len(out)
				out = append(out, benchAddress{URL: a.URL, Chosen: a.URL == survives})
			}
			out[i].Places = append(out[i].Places, n+1)
		}
	}
	return out
}

// keptFields are the lines of what the rows have beside: all of it stays.
func keptFields(rows []vault.Entry) (out []benchField) {
	for _, k := range []struct {
		label string
		of    func(vault.Entry, vault.Item) []string
	}{
		{"Folder", func(_ vault.Entry, it vault.Item) []string { return filled(it.Folder) }},
		{"Tags", func(_ vault.Entry, it vault.Item) []string { return it.Tags }},
		{"Notes", func(_ vault.Entry, it vault.Item) []string { return filled(it.Notes) }},
		{"Also known as", func(_ vault.Entry, it vault.Item) []string { return it.Aliases }},
		{"Codes", func(_ vault.Entry, it vault.Item) []string {
			if it.HasCode {
				return []string{"one-time codes"}
			}
			return nil
		}},
		{"Fields and files", func(e vault.Entry, _ vault.Item) (list []string) {
			for _, o := range e.CustomFields() {
				list = append(list, o.Label)
			}
			for _, f := range e.Files() {
				list = append(list, f.Name)
			}
			return list
		}},
	} {
		line, any := benchField{Label: k.label}, false
		for _, e := range rows {
			list := k.of(e, vault.View(e))
			any = any || len(list) > 0
			line.Cells = append(line.Cells, benchCell{ID: e.ID, Lines: list})
		}
		if any {
			out = append(out, line)
		}
	}
	return out
}

func filled(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

// sure shows all that is sure, before it is joined at once.
func (s tidyPages) sure(w http.ResponseWriter, r *http.Request) error {
	d, l, err := s.left(r)
	if err != nil {
		return err
	}
	for _, p := range l.Sure {
		rows, err := vaultOf(r).Tidying.Rows(p.IDs)
		if err != nil {
			return err
		}
		one := sureView{Key: tidyKey(p.IDs), Title: p.Survives.Title, Name: p.Survives.Username}
		if p.Survives.Address != "" {
			one.Domain = site.Domain(p.Survives.Address)
		}
		for _, e := range rows {
			var other []string
			if t := e.Text(vault.FieldTitle); t != one.Title {
				other = append(other, t)
			}
			if u := e.Text(vault.FieldUsername); u != one.Name {
				if u == "" {
					u = "one without a user name"
				}
				other = append(other, u)
			}
			if len(other) > 0 {
				one.Others = append(one.Others, strings.Join(other, ", "))
			}
		}
		for _, why := range p.Reasons {
			one.Reasons = append(one.Reasons, wording.Reason(why))
		}
		d.AtSheet = true
		d.SureOnes, d.Rows = append(d.SureOnes, one), d.Rows+len(rows)
	}
	return s.show(w, r, http.StatusOK, d)
}

func (s tidyPages) joinSure(w http.ResponseWriter, r *http.Request) error {
	if err := r.ParseForm(); err != nil {
		return problem(http.StatusRequestEntityTooLarge, "That is too much", "Nothing was changed.")
	}
	l, err := vaultOf(r).Tidying.List(r.Context())
	if err != nil {
		return err
	}
	shown := map[string]bool{}
	for key := range strings.FieldsSeq(r.FormValue("keys")) {
		shown[key] = true
	}
	var keys []string
	for _, p := range l.Sure {
		if key := tidyKey(p.IDs); shown[key] && r.FormValue("not-"+key) == "" {
			keys = append(keys, tidy.Key(p.IDs))
		}
	}
	_, err = vaultOf(r).Tidying.JoinSure(r.Context(), keys)
	return s.went(w, r, err, "/tidy")
}

func (s tidyPages) join(w http.ResponseWriter, r *http.Request) error {
	return s.decide(w, r, func(ids []string) error {
		return vaultOf(r).Tidying.Join(r.Context(), ids, tidying.Choice{
			Title: r.FormValue("title"), Username: r.FormValue("username"), Password: r.FormValue("password"),
			Address: r.FormValue("address"),
		})
	})
}

func (s tidyPages) apart(w http.ResponseWriter, r *http.Request) error {
	return s.decide(w, r, func(ids []string) error { return vaultOf(r).Tidying.KeepApart(r.Context(), ids) })
}

func (s tidyPages) leaveOut(w http.ResponseWriter, r *http.Request) error {
	return s.decide(w, r, func(ids []string) error {
		one := r.FormValue("row")
		err := vaultOf(r).Tidying.LeaveOut(r.Context(), ids, one)
		r.Form.Set("at", tidyKey(slices.DeleteFunc(ids, func(id string) bool { return id == one }))) // the rest of them
		return err
	})
}

func (s tidyPages) later(w http.ResponseWriter, r *http.Request) error {
	return s.decide(w, r, func(ids []string) error { return vaultOf(r).Tidying.PutOff(r.Context(), ids) })
}

// decide does what was said of the rows that a form names, and goes on with the next.
func (s tidyPages) decide(w http.ResponseWriter, r *http.Request, do func(ids []string) error) error {
	if err := r.ParseForm(); err != nil {
		return problem(http.StatusRequestEntityTooLarge, "That is too much", "Nothing was changed.")
	}
	ids := strings.Fields(r.FormValue("ids"))
	err := do(ids)
	next := url.Values{"at": {r.FormValue("at")}, "after": {r.FormValue("after")}}
	return s.went(w, r, err, "/tidy?"+next.Encode())
}

// went leads on after an act, or says why it wasn't done.
func (s tidyPages) went(w http.ResponseWriter, r *http.Request, err error, to string) error {
	switch {
	case errors.Is(err, tidy.ErrChanged):
		return problem(http.StatusConflict, "These logins have changed meanwhile",
			"Nothing was joined. Load the page again to see them as they are now.")
	case errors.Is(err, tidy.ErrNoDecision):
		return problem(http.StatusConflict, "That was taken back already", "Nothing was changed.")
	case err != nil:
		return err
	}
	http.Redirect(w, r, to, http.StatusSeeOther) // htmx follows it, and swaps what it finds there
	return nil
}

func (s tidyPages) takeBack(w http.ResponseWriter, r *http.Request) error {
	back, err := vaultOf(r).Tidying.TakeBack(r.Context(), chi.URLParam(r, "id"), r.FormValue("all") != "")
	s.sayBack(r, back)
	return s.went(w, r, err, "/tidy")
}

func (s tidyPages) takeBackToday(w http.ResponseWriter, r *http.Request) error {
	back, err := vaultOf(r).Tidying.TakeBackSince(r.Context(), startOfDay(time.Now()))
	s.sayBack(r, back)
	return s.went(w, r, err, "/tidy")
}

// sayBack says on the next page what was taken back.
func (s tidyPages) sayBack(r *http.Request, b tidy.Back) {
	if b.Count == 0 {
		return
	}
	words := plural(b.Count, "decision was", "decisions were") + " taken back."
	if len(b.Kept) > 0 {
		words += " Edited since, and left so: " + strings.Join(b.Kept, ", ") + "."
	}
	s.sessions.Put(r.Context(), sessionSaid, words)
}

package web

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/core/find"
	"redlocket/core/generator"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/strength"
	"redlocket/core/vault"
)

// bookChunk is how many sites a page brings at once; the rest follow as they
// are scrolled to.
const bookChunk = 150

// bookData is the two leaves: the book on the left, a sheet on the right.
type bookData struct {
	Query    string
	Archived bool
	Sites    []find.Site
	Letters  map[string]bool
	Logins   int // in the book
	Found    int // accounts in Sites before cutting
	Total    int // sites before cutting
	From     int // first site of this chunk
	Next     int // first site of the next chunk; 0 if there is none
	Open     string
	Sheet    string // template of the right leaf
	Login    *loginData
	Form     *formData
	Past     []pastData
}

func (s *Server) bookData(r *http.Request) (d bookData, err error) {
	x, err := of(r).Index()
	if err != nil {
		return d, err
	}
	d = bookData{Query: r.FormValue("q"), Letters: map[string]bool{}, Logins: x.Len(), Sheet: "sheet-empty"}
	d.Sites = x.Find(d.Query)
	d.cut(r)
	return d, nil
}

func (d *bookData) cut(r *http.Request) {
	d.Total = len(d.Sites)
	for _, site := range d.Sites {
		d.Letters[site.Letter] = true
		d.Found += len(site.Accounts)
	}
	from, _ := strconv.Atoi(r.FormValue("from")) // none is the first
	if l := r.FormValue("letter"); l != "" {
		from = max(0, slices.IndexFunc(d.Sites, func(s find.Site) bool { return s.Letter == l }))
	}
	d.From = max(0, min(from, len(d.Sites)))
	if end := d.From + bookChunk; end < len(d.Sites) {
		d.Next = end
		d.Sites = d.Sites[d.From:end]
	} else {
		d.Sites = d.Sites[d.From:]
	}
}

// leaves renders the book with a sheet, or the part of it that htmx asks for.
func (s *Server) leaves(w http.ResponseWriter, r *http.Request, status int, title string, d bookData, bad map[string]string) {
	v := s.view(r, title, "logins", d)
	if bad != nil {
		v.Bad = bad
	}
	switch {
	case r.FormValue("from") != "" && r.Header.Get("HX-Request") != "":
		s.render(w, r, status, "book-rows", v)
	case fragment(r, "book-list"):
		s.render(w, r, status, "book-part", v)
	case fragment(r, "sheet"):
		s.render(w, r, http.StatusOK, d.Sheet, v) // htmx swaps good answers only
	default:
		s.render(w, r, status, "book", v)
	}
}

func (s *Server) book(w http.ResponseWriter, r *http.Request) {
	d, err := s.bookData(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	d.Open = r.FormValue("open")
	s.leaves(w, r, http.StatusOK, "Logins", d, nil)
}

func (s *Server) archive(w http.ResponseWriter, r *http.Request) {
	d, err := s.bookData(r)
	if err == nil {
		var items []vault.Item
		items, err = of(r).Archived()
		d.Sites, d.Archived, d.Query, d.Found, d.Letters = nil, true, "", 0, map[string]bool{}
		for _, it := range items {
			line := find.Site{Title: it.Title, Accounts: []vault.Item{it}}
			if len(it.Addresses) > 0 {
				line.Domain = site.Domain(it.Addresses[0].URL)
			}
			d.Sites = append(d.Sites, line)
		}
		d.cut(r)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.leaves(w, r, http.StatusOK, "Archive", d, nil)
}

type loginData struct {
	vault.Item
	Strength *strength.Verdict
	Versions int // earlier passwords
	Rivals   []pastData
	Site     string
	GoTo     string
}

type pastData struct {
	Field string
	Value string // empty for secrets, which are asked for
	Index int
	From  int64
	Until int64
	Lost  bool // in a merge
}

func (s *Server) loginData(r *http.Request, id string) (*loginData, error) {
	e, err := of(r).Entry(id)
	if err != nil {
		return nil, err
	}
	if e.Type != vault.TypeLogin {
		return nil, app.ErrNoItem
	}
	d := &loginData{Item: vault.View(e)}
	if len(d.Addresses) > 0 {
		d.Site, d.GoTo = site.Domain(d.Addresses[0].URL), d.Addresses[0].URL
	}
	if p := e.Secret(vault.FieldPassword); !p.IsEmpty() {
		v := strength.Judge(p, strength.Leaked, d.Username, d.Title, d.Site)
		d.Strength = &v
	}
	rivals := e.Rivals()
	for i, p := range e.Past {
		if p.Field == vault.FieldPassword {
			d.Versions++
		}
		if slices.Contains(rivals, p) {
			d.Rivals = append(d.Rivals, pastData{Field: "Password", Index: i, From: p.From.At})
		}
	}
	return d, nil
}

func (s *Server) login(w http.ResponseWriter, r *http.Request) {
	d, err := s.bookData(r)
	if err == nil {
		d.Open, d.Sheet = chi.URLParam(r, "id"), "sheet-login"
		d.Login, err = s.loginData(r, d.Open)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.leaves(w, r, http.StatusOK, d.Login.Title, d, nil)
}

func (s *Server) past(w http.ResponseWriter, r *http.Request) {
	d, err := s.bookData(r)
	if err == nil {
		d.Open, d.Sheet = chi.URLParam(r, "id"), "sheet-past"
		if d.Login, err = s.loginData(r, d.Open); err == nil {
			var e vault.Entry
			e, err = of(r).Entry(d.Open)
			d.Past = pastList(e)
		}
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.leaves(w, r, http.StatusOK, d.Login.Title, d, nil)
}

var fieldWords = map[vault.Field]string{
	vault.FieldTitle: "Title", vault.FieldUsername: "User name", vault.FieldPassword: "Password", vault.FieldNotes: "Notes",
	vault.FieldFolder: "Folder", vault.FieldAddresses: "Works at", vault.FieldTags: "Tags",
}

// pastList sets out earlier values, latest first; passwords stay hidden.
func pastList(e vault.Entry) []pastData {
	var out []pastData
	for i, p := range e.Past {
		word, ok := fieldWords[p.Field]
		if !ok {
			continue
		}
		d := pastData{Field: word, Index: i, From: p.From.At, Until: p.Until, Lost: p.Until == 0}
		if p.Field != vault.FieldPassword {
			d.Value = plainValue(p.Value.Reveal())
		}
		out = append(out, d)
	}
	slices.Reverse(out)
	return out
}

// plainValue reads a register's JSON the way a person would write it.
func plainValue(text string) string {
	var one string
	if json.Unmarshal([]byte(text), &one) == nil {
		return one
	}
	var list []string
	if json.Unmarshal([]byte(text), &list) == nil {
		return strings.Join(list, ", ")
	}
	var addresses []vault.Address
	if json.Unmarshal([]byte(text), &addresses) == nil {
		for _, a := range addresses {
			list = append(list, site.Shown(a.URL))
		}
	}
	return strings.Join(list, ", ")
}

// formData is a login's form. Was holds what each field was when the form was
// opened, as a keyed digest: what its user didn't change isn't written.
type formData struct {
	ID        string
	New       bool
	Title     string
	Username  string
	Password  string
	HasOne    bool
	Addresses []vault.Address
	Notes     string
	Folder    string
	Tags      string
	Was       map[string]string
	Usernames []string
	Folders   []string
	Options   generator.Options
}

func (s *Server) formData(r *http.Request, e vault.Entry) (*formData, error) {
	it := vault.View(e)
	f := &formData{ID: e.ID, Title: it.Title, Username: it.Username, HasOne: it.HasPassword, Addresses: it.Addresses, Notes: it.Notes, Folder: it.Folder, Tags: strings.Join(it.Tags, ", "), Options: generator.Default()}
	f.Was = map[string]string{}
	for field, value := range (vault.Draft{Title: it.Title, Username: it.Username, Addresses: it.Addresses, Notes: it.Notes, Folder: it.Folder, Tags: it.Tags}).Changes() {
		f.Was[string(field)] = s.digest(r, field, value)
	}
	return f, s.suggest(r, f)
}

func (s *Server) suggest(r *http.Request, f *formData) (err error) {
	if f.Usernames, err = of(r).Usernames(); err != nil {
		return err
	}
	f.Usernames = f.Usernames[:min(len(f.Usernames), 30)]
	items, err := of(r).Logins()
	for _, it := range items {
		if it.Folder != "" && !slices.Contains(f.Folders, it.Folder) {
			f.Folders = append(f.Folders, it.Folder)
		}
	}
	slices.Sort(f.Folders)
	return err
}

// digest names a value without telling it: the key is this opening's own.
func (s *Server) digest(r *http.Request, f vault.Field, value any) string {
	b, _ := json.Marshal(value) // strings and lists of them
	m := hmac.New(sha256.New, []byte(of(r).Instance()))
	m.Write([]byte(f))
	m.Write(b)
	return hex.EncodeToString(m.Sum(nil)[:12])
}

func (s *Server) newLogin(w http.ResponseWriter, r *http.Request) {
	d, err := s.bookData(r)
	if err == nil {
		d.Sheet = "sheet-form"
		d.Form = &formData{ID: app.NewID(), New: true, Title: r.FormValue("title"), Options: generator.Default(), Was: map[string]string{}}
		if a, err := site.Clean(r.FormValue("address")); err == nil {
			d.Form.Addresses = []vault.Address{{URL: a}}
			if d.Form.Title == "" {
				d.Form.Title = site.Title(a)
			}
		}
		err = s.suggest(r, d.Form)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.leaves(w, r, http.StatusOK, "New login", d, nil)
}

func (s *Server) editLogin(w http.ResponseWriter, r *http.Request) {
	d, err := s.bookData(r)
	if err == nil {
		d.Open, d.Sheet = chi.URLParam(r, "id"), "sheet-form"
		var e vault.Entry
		if e, err = of(r).Entry(d.Open); err == nil {
			d.Form, err = s.formData(r, e)
		}
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.leaves(w, r, http.StatusOK, d.Form.Title, d, nil)
}

// readForm reads a login's form; bad says what is wrong with it, by field.
func readForm(r *http.Request) (f formData, d vault.Draft, bad map[string]string) {
	bad = map[string]string{}
	f = formData{ID: chi.URLParam(r, "id"), New: r.FormValue("new") != "", Title: r.FormValue("title"), Username: r.FormValue("username"), Password: r.FormValue("password"),
		Notes: strings.ReplaceAll(r.FormValue("notes"), "\r\n", "\n"), Folder: r.FormValue("folder"), Tags: r.FormValue("tags"), HasOne: r.FormValue("has_one") != "", Options: generator.Default(), Was: map[string]string{}}
	matches := r.Form["match"]
	for i, raw := range r.Form["address"] {
		if strings.TrimSpace(raw) == "" {
			continue
		}
		a := vault.Address{URL: raw}
		if i < len(matches) {
			a.Match = vault.Match(matches[i])
		}
		clean, err := site.Clean(raw)
		if err != nil {
			bad["address"] = sentence(err.Error())
		} else {
			a.URL = clean
		}
		f.Addresses = append(f.Addresses, a)
	}
	d = vault.Draft{Title: f.Title, Username: f.Username, Password: secret.New(f.Password), Addresses: f.Addresses, Notes: f.Notes, Folder: f.Folder}
	for _, t := range strings.Split(f.Tags, ",") {
		if t = strings.TrimSpace(t); t != "" && !slices.Contains(d.Tags, t) {
			d.Tags = append(d.Tags, t)
		}
	}
	if strings.TrimSpace(d.Title) == "" {
		if len(f.Addresses) == 0 || bad["address"] != "" {
			bad["title"] = "A login needs a title or an address, so that you can find it again."
		} else {
			d.Title = site.Title(f.Addresses[0].URL)
		}
	}
	return f, d, bad
}

func (s *Server) saveLogin(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		s.problem(w, r, http.StatusRequestEntityTooLarge, "That is too much", "The form holds more than a login can. Nothing was changed.")
		return
	}
	f, draft, bad := readForm(r)
	changes := draft.Changes()
	if !f.New {
		for field, value := range changes {
			was := r.FormValue("was_" + string(field))
			f.Was[string(field)] = was
			if field != vault.FieldPassword && was == s.digest(r, field, value) {
				delete(changes, field)
			}
		}
		if f.Password == "" && r.FormValue("no_password") == "" {
			delete(changes, vault.FieldPassword)
		}
	}
	err := error(nil)
	if len(bad) == 0 {
		if err = of(r).Save(r.Context(), f.ID, changes); err == nil {
			go_(w, r, "/logins/"+f.ID)
			return
		}
		page := View{Bad: bad}
		if !page.bad(err) {
			bad["form"] = sentence(err.Error()) + " What you typed is still here."
		}
	}
	d, err := s.bookData(r)
	if err == nil {
		d.Open, d.Sheet, d.Form = f.ID, "sheet-form", &f
		err = s.suggest(r, &f)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.leaves(w, r, http.StatusUnprocessableEntity, "Please look again", d, bad)
}

func (s *Server) archiveLogin(w http.ResponseWriter, r *http.Request) {
	s.act(w, r, of(r).Archive(r.Context(), chi.URLParam(r, "id")))
}

func (s *Server) restoreLogin(w http.ResponseWriter, r *http.Request) {
	s.act(w, r, of(r).Restore(r.Context(), chi.URLParam(r, "id")))
}

func (s *Server) settleLogin(w http.ResponseWriter, r *http.Request) {
	p, _, err := s.secretOf(r)
	if err == nil {
		err = of(r).Settle(r.Context(), chi.URLParam(r, "id"), p)
	}
	s.act(w, r, err)
}

func (s *Server) act(w http.ResponseWriter, r *http.Request, err error) {
	if err != nil {
		s.fail(w, r, err)
		return
	}
	go_(w, r, "/logins/"+chi.URLParam(r, "id"))
}

// secretOf reads the one value that a request names: a field, or an earlier
// password by its place in the past.
func (s *Server) secretOf(r *http.Request) (secret.Text, string, error) {
	e, err := of(r).Entry(chi.URLParam(r, "id"))
	if err != nil {
		return secret.Text{}, "", err
	}
	if i, err := strconv.Atoi(r.FormValue("past")); err == nil && i >= 0 && i < len(e.Past) && e.Past[i].Field == vault.FieldPassword {
		return secret.New(plainValue(e.Past[i].Value.Reveal())), strconv.Itoa(i), nil
	}
	if r.FormValue("field") == string(vault.FieldUsername) {
		return e.Secret(vault.FieldUsername), "", nil
	}
	return e.Secret(vault.FieldPassword), "", nil
}

type secretData struct {
	ID     string
	Past   string
	Groups []Group
}

func (s *Server) showSecret(w http.ResponseWriter, r *http.Request) {
	p, past, err := s.secretOf(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	d := secretData{ID: chi.URLParam(r, "id"), Past: past}
	if r.FormValue("hide") == "" {
		d.Groups = grouped(p.Reveal())
	}
	s.render(w, r, http.StatusOK, "secret", s.view(r, "", "", d))
}

func (s *Server) copySecret(w http.ResponseWriter, r *http.Request) {
	p, _, err := s.secretOf(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = w.Write([]byte(p.Reveal()))
}

type madeData struct {
	Value   string
	Groups  []Group
	Verdict strength.Verdict
	Why     string
}

func (s *Server) generate(w http.ResponseWriter, r *http.Request) {
	number := func(name string) int {
		n, _ := strconv.Atoi(r.FormValue(name)) // nonsense is 0, which the generator refuses with its reason
		return n
	}
	on := func(name string) bool { return r.FormValue(name) != "" }
	p, err := generator.Password(of(r).Rand(), generator.Options{
		Length: number("length"), Lower: on("lower"), Upper: on("upper"), Digits: on("digits"), Symbols: on("symbols"),
		MinDigits: number("min_digits"), MinSymbols: number("min_symbols"), NoLookalikes: on("no_lookalikes"),
	})
	d := madeData{Value: p.Reveal(), Groups: grouped(p.Reveal()), Verdict: strength.Judge(p, strength.Leaked)}
	if err != nil {
		d.Why = sentence(err.Error())
	}
	s.render(w, r, http.StatusOK, "made", s.view(r, "", "", d))
}

// lockChoices are the times to lock that the devices page offers.
var lockChoices = []struct {
	After time.Duration
	Words string
}{
	{10 * time.Second, "10 seconds"}, {time.Minute, "1 minute"}, {5 * time.Minute, "5 minutes"}, {15 * time.Minute, "15 minutes"}, {time.Hour, "1 hour"},
	{8 * time.Hour, "8 hours"}, {24 * time.Hour, "1 day"}, {7 * 24 * time.Hour, "1 week"}, {14 * 24 * time.Hour, "2 weeks"},
}

package web

import (
	"errors"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"
	"golang.org/x/text/language"
	"golang.org/x/text/language/display"

	"redlocket/app/filling"
	"redlocket/app/qrpicture"
	"redlocket/app/records"
	"redlocket/core/generator"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
	"redlocket/wording"
)

// formPages are the form of an item, new or edited.
type formPages struct{ *Server }

func (s formPages) routes(r routes) {
	r.get("/items/new", s.newItem)
	r.get("/items/{id}/edit", s.editItem)
	r.post("/items/{id}", s.saveItem)
	r.post("/items/{id}/", s.saveItem)
	r.post("/items/{id}/form", s.changeKind)
	r.get("/sites", s.siteSuggestions)
}

// formData is an item's form. Was holds what each field was when the form was
// opened, as a keyed digest: what the user didn't change isn't written. Values of
// hidden fields aren't in the form; Has says which there are.
type formData struct {
	ID           string
	New          bool
	Kind         vault.Kind
	Kinds        []vault.Kind
	Typed        records.Form
	CustomFields []ownRow
	Has          map[string]string // hidden fields that have a value, and how it ends
	Was          map[string]string
	Usernames    []string
	Folders      []string
	Books        []records.NamedBook
	Options      generator.Options
	Countries    []country
	State        string
	Drawer       []filling.GeneratedPassword
}

// ownRow is an own field in the form.
type ownRow struct {
	ID, Label string
	Form      vault.Form
	Value     string
	Has       bool // a hidden value is there
}

type country struct{ Code, Name string }

// countries are those of ISO 3166-1, by their English names.
var countries = func() (out []country) {
	names := display.English.Regions()
	for a := 'A'; a <= 'Z'; a++ {
		for b := 'A'; b <= 'Z'; b++ {
			code := string(a) + string(b)
			if r, err := language.ParseRegion(code); err == nil && r.IsCountry() && r.String() == code &&
				r.Canonicalize() == r &&
				r.ISO3() != "ZZZ" {
				out = append(out, country{code, names.Name(r)})
			}
		}
	}
	slices.SortFunc(out, func(a, b country) int { return strings.Compare(a.Name, b.Name) })
	return out
}()

func countryName(code string) string {
	for _, c := range countries {
		if c.Code == code {
			return c.Name
		}
	}
	return code
}

// Value is what a field of the form holds.
func (f *formData) Value(field vault.Field) string { return f.Typed.Values[field] }

func (s formPages) formOf(r *http.Request, e vault.Entry) *formData {
	it := vault.View(e)
	kind, _ := vault.KindOf(it.Type)
	f := &formData{
		ID:      e.ID,
		Kind:    kind,
		Options: generator.Default(),
		Has:     map[string]string{},
		Was:     map[string]string{},
	}
	f.Typed = records.Form{
		Kind:      it.Type,
		Title:     it.Title,
		Values:    map[vault.Field]string{},
		Addresses: it.Addresses,
		Aliases:   strings.Join(it.Aliases, "\n"),
		Folder:    it.Folder,
		Tags:      strings.Join(it.Tags, ", "),
		Notes:     it.Notes,
	}
	for _, k := range vault.Kinds() { // another kind may be chosen in the form
		for _, spec := range k.Specs {
			value := e.Text(spec.Field)
			if value == "" {
				continue
			}
			if spec.Hidden() {
				f.Has[string(spec.Field)] = vault.Tail(value)
				if !spec.Masked {
					f.Has[string(spec.Field)] = "•••"
				}
				continue
			}
			f.Typed.Values[spec.Field] = value
		}
	}
	for _, o := range e.CustomFields() {
		row := ownRow{ID: o.ID, Label: o.Label, Form: o.Form, Value: o.Value.Reveal()}
		if o.Form == vault.FormHidden {
			row.Value, row.Has = "", true
		}
		f.CustomFields = append(f.CustomFields, row)
	}
	f.Was = vaultOf(r).Items.Digests(e)
	return f
}

func (s formPages) suggest(r *http.Request, f *formData) (err error) {
	f.Kinds, f.Countries = vault.Kinds(), countries
	if f.Usernames, err = vaultOf(r).Usernames(); err != nil {
		return err
	}
	f.Usernames = f.Usernames[:min(len(f.Usernames), 30)]
	x, err := vaultOf(r).Book.Index()
	if err != nil {
		return err
	}
	f.Folders, f.Books = slices.Sorted(maps.Keys(x.Names().Folders)), vaultOf(r).Books.Names()
	f.Drawer, err = vaultOf(r).Generated.List()
	return err
}

func (s formPages) newItem(w http.ResponseWriter, r *http.Request) error {
	d, err := s.bookData(r)
	if err == nil {
		kind, ok := vault.KindOf(vault.Type(r.FormValue("kind")))
		for _, k := range vault.Kinds() {
			if !ok && k.Section == d.Section {
				kind, ok = k, true
			}
		}
		d.Sheet = "sheet-form"
		f := &formData{
			ID:      records.NewID(),
			New:     true,
			Kind:    kind,
			Options: generator.Default(),
			State:   d.State(),
			Has:     map[string]string{},
			Was:     map[string]string{},
		}
		f.Typed = records.Form{Kind: kind.Type, Title: r.FormValue("title"), Values: map[vault.Field]string{}}
		f.Typed.Book = vaultOf(r).Books.Open()
		if a, err := site.Clean(r.FormValue("address")); err == nil {
			f.Typed.Addresses = []vault.Address{{URL: a}}
		}
		d.Form, err = f, s.suggest(r, f)
	}
	if err != nil {
		return err
	}
	return s.leaves(w, r, http.StatusOK, "New "+wording.Kind(d.Form.Kind.Type).One, d, nil)
}

func (s formPages) editItem(w http.ResponseWriter, r *http.Request) error {
	d, err := s.bookData(r)
	if err == nil {
		d.Open, d.Sheet = chi.URLParam(r, "id"), "sheet-form"
		var e vault.Entry
		if e, _, err = entryOf(r); err == nil {
			d.Form = s.formOf(r, e)
			d.Form.State = d.State()
			err = s.suggest(r, d.Form)
		}
	}
	if err != nil {
		return err
	}
	return s.leaves(w, r, http.StatusOK, "Edit", d, nil)
}

// readForm reads an item's form.
func readForm(r *http.Request) *formData {
	f := &formData{
		ID:      chi.URLParam(r, "id"),
		New:     r.FormValue("new") != "",
		Options: generator.Default(),
		Has:     map[string]string{},
		Was:     map[string]string{},
	}
	f.Kind, _ = vault.KindOf(vault.Type(r.FormValue("kind")))
	lines := func(name string) string { return strings.ReplaceAll(r.FormValue(name), "\r\n", "\n") }
	f.Typed = records.Form{
		Kind:    f.Kind.Type,
		Title:   r.FormValue("title"),
		Values:  map[vault.Field]string{},
		Aliases: lines("also"),
		Folder:  r.FormValue("folder"),
		Book:    r.FormValue("book"),
		Tags:    r.FormValue("tags"),
		Notes:   lines("notes"),
	}
	for _, k := range vault.Kinds() { // values of the kind before are carried along
		for _, spec := range k.Specs {
			if r.Form.Has("v_" + string(spec.Field)) {
				f.Typed.Values[spec.Field] = lines("v_" + string(spec.Field))
			}
		}
	}
	matches := r.Form["match"]
	for i, raw := range r.Form["address"] {
		a := vault.Address{URL: raw}
		if i < len(matches) {
			a.Match = vault.Match(matches[i])
		}
		if strings.TrimSpace(raw) != "" {
			f.Typed.Addresses = append(f.Typed.Addresses, a)
		}
	}
	forms, values, has := r.Form["own_form"], r.Form["own_value"], r.Form["own_has"]
	for i, id := range r.Form["own_id"] {
		if i >= len(forms) || i >= len(values) || i >= len(has) || i >= len(r.Form["own_label"]) {
			break
		}
		f.CustomFields = append(
			f.CustomFields,
			ownRow{
				ID:    id,
				Label: strings.TrimSpace(r.Form["own_label"][i]),
				Form:  vault.Form(forms[i]),
				Value: values[i],
				Has:   has[i] != "",
			},
		)
	}
	for name := range r.Form {
		if field, ok := strings.CutPrefix(name, "was_"); ok {
			f.Was[field] = r.FormValue(name)
		}
		if field, ok := strings.CutPrefix(name, "has_"); ok {
			f.Has[field] = r.FormValue(name)
		}
	}
	return f
}

// changeKind draws the form again for another kind, with what was typed.
func (s formPages) changeKind(w http.ResponseWriter, r *http.Request) error {
	f := readForm(r)
	return s.formAgain(w, r, f, nil)
}

func (s formPages) formAgain(w http.ResponseWriter, r *http.Request, f *formData, bad map[string]string) error {
	d, err := s.bookData(r)
	if err == nil {
		d.Sheet, d.Form = "sheet-form", f
		if !f.New {
			d.Open = f.ID
		}
		f.State = d.State()
		err = s.suggest(r, f)
	}
	if err != nil {
		return err
	}
	status := http.StatusOK
	if bad != nil {
		status = http.StatusUnprocessableEntity
	}
	return s.leaves(w, r, status, "Please look again", d, bad)
}

func (s formPages) saveItem(w http.ResponseWriter, r *http.Request) error {
	if err := r.ParseForm(); err != nil {
		return problem(
			http.StatusRequestEntityTooLarge,
			"That is too much",
			"The form holds more than an item can. Nothing was changed.",
		)
	}
	f := readForm(r)
	err := vaultOf(r).Items.SaveForm(r.Context(), f.ID, f.typed(r))
	if err == nil {
		return s.acted(w, r, nil, "Saved.", "/items/"+f.ID+stateOf(r))
	}
	page := View{Bad: map[string]string{}}
	var bad records.FormErrors
	switch {
	case errors.As(err, &bad):
		for field, why := range bad {
			page.Bad[field] = errorWords(why)
		}
	case !page.bad(err):
		page.Bad["form"] = errorWords(err) + " What you typed is still here."
	}
	return s.formAgain(w, r, f, page.Bad)
}

// typed is the form as the vault takes it.
func (f *formData) typed(r *http.Request) *records.Form {
	t := &f.Typed
	t.New, t.Opened = f.New, f.Was
	t.Cleared, t.KeepHidden = map[vault.Field]bool{}, map[string]bool{}
	for _, spec := range f.Kind.Specs {
		t.Cleared[spec.Field] = r.FormValue("no_"+string(spec.Field)) != ""
	}
	for i, o := range f.CustomFields {
		t.KeepHidden[o.ID] = o.Has && o.Value == "" && o.Label != "" && o.Form == vault.FormHidden
		t.CustomFields = append(t.CustomFields, vault.CustomField{
			ID: o.ID, Label: o.Label, Form: o.Form, Order: i + 1, Value: secret.New(o.Value),
		})
	}
	return t
}

// stateOf is what the request's address says of the list, to stay there.
func stateOf(r *http.Request) string {
	if r.URL.RawQuery == "" {
		return ""
	}
	return "?" + r.URL.RawQuery
}

// siteSuggestions suggests sites for a title that is being typed.
func (s formPages) siteSuggestions(w http.ResponseWriter, r *http.Request) error {
	s.render(
		w,
		r,
		http.StatusOK,
		"site-suggestions",
		s.view(r, "", "", vaultOf(r).Sites.Directory().Suggest(r.FormValue("title"), 5)),
	)
	return nil
}

// maxPicture is the largest picture of a QR code that is read, in bytes.
const maxPicture = 12 << 20

// readPicture reads the setup key of one-time codes from a picture.
func (s *Server) readPicture(w http.ResponseWriter, r *http.Request) error {
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxPicture))
	if err != nil {
		http.Error(w, "The picture is larger than 12 MB; cut it to the QR code.", http.StatusUnprocessableEntity)
		return nil
	}
	setup, err := qrpicture.ReadSetup(b)
	if err != nil {
		http.Error(w, errorWords(err), http.StatusUnprocessableEntity)
		return nil
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = io.WriteString(w, setup.String().Reveal())
	return nil
}

package web

import (
	"cmp"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/core/directory"
	"redlocket/core/otp"
	"redlocket/core/share"
	"redlocket/core/site"
	"redlocket/core/strength"
	"redlocket/core/vault"
	"redlocket/wording"
)

// itemPages are one item: its page, its secrets and its history.
type itemPages struct{ *Server }

func (s itemPages) routes(r routes) {
	r.get("/items/{id}", s.item)
	r.get("/items/{id}/", s.item)
	r.get("/items/{id}/past", s.past)
	r.post("/items/{id}/restore-at", s.restoreAt)
	r.get("/items/{id}/print", s.printed)
	r.get("/items/{id}/code", s.code)
	r.post("/items/{id}/code", s.nextCode)
	r.post("/items/{id}/used", s.used)
}

// itemData is an item as the sheet shows it.
type itemData struct {
	vault.Item
	Kind         vault.Kind
	BookName     string // empty for the owner's own
	Shared       *sharing.Shared
	Right        share.Right // the owner's
	At           int64       // the moment it is shown as of; 0 for now
	Rows         []fieldRow
	Other        []fieldRow // fields of a kind that it was before
	CustomFields []fieldRow
	Attached     []vault.File
	Versions     int
	From         []string // files
	Conflicts    []slotData
	GoTo         string
	NewOne       slotData // that waits for the site
	Apps         []string // programs with the site’s accounts
	Site         *directory.Site
	Warning      *records.Expiry
	Used         int64
	State        string
}

// Filed says where it is filed: a book, a folder. One that is called like the other is said once.
func (d *itemData) Filed() string {
	place := cmp.Or(d.Folder, "no folder")
	switch {
	case d.Archived:
		place = "in the archive"
	case d.BookName == d.Folder:
		return place
	}
	if d.BookName == "" {
		return place
	}
	return d.BookName + " · " + place
}

// Changes reports whether the owner may change it, Sees whether they may see all of it.
func (d *itemData) Changes() bool { return d.Right.Includes(share.Change) }

// Sees is described with Changes.
func (d *itemData) Sees() bool { return d.Right.Includes(share.See) }

// fieldRow is one field of the sheet. Hidden values aren't in it.
type fieldRow struct {
	Field    vault.Field
	Label    string
	Form     vault.Form
	Value    string
	Hidden   bool
	Tail     string
	Brand    string
	Strength *strength.Verdict
	Slot     slotData
	Code     *codeData
}

// slotData names one hidden value: a field of an item, now or at a moment, or an
// earlier value by its place in the past.
type slotData struct {
	ID    string
	Field string
	Past  string
	At    int64
	From  int64 // when it was set
	Only  bool  // there is no other password: the keys act on it

	Tail, Brand string // of a masked value
}

// Query is the slot as the parameters of a request.
func (d slotData) Query() string {
	v := url.Values{"field": {d.Field}}
	if d.Past != "" {
		v.Set("past", d.Past)
	}
	if d.At > 0 {
		v.Set("at", strconv.FormatInt(d.At, 10))
	}
	return v.Encode()
}

// Slot is the slot itself, for what is made of it.
func (d slotData) Slot() slotData { return d }

// Place is the slot's id in the page.
func (d slotData) Place() string {
	return strings.NewReplacer(":", "-", ".", "-").Replace("secret-" + d.Field + "-" + d.Past)
}

// Main reports whether it is the slot that the keys act on.
func (d slotData) Main() bool {
	return d.Only || d.Past == "" && d.Field == string(vault.FieldPassword)
}

// entryOf returns the entry that a request names, as of the moment it names.
func entryOf(r *http.Request) (e vault.Entry, at int64, err error) {
	e, err = vaultOf(r).Items.Entry(chi.URLParam(r, "id"))
	if err != nil {
		return e, 0, err
	}
	if !e.IsItem() {
		return e, 0, records.ErrNoItem
	}
	if ms, then := moment(r); then {
		before, ok := e.AsOf(ms)
		if !ok {
			return e, ms, records.ErrNoItem
		}
		return before, ms, nil
	}
	return e, 0, nil
}

func (s itemPages) itemData(r *http.Request, state string) (*itemData, error) {
	e, at, err := entryOf(r)
	if err != nil {
		return nil, err
	}
	v := vaultOf(r)
	d := &itemData{Item: vault.View(e), At: at, State: state, Attached: e.Files(), Used: v.Book.Used()[e.ID]}
	d.Right = v.Items.Right(e)
	if of, err := v.Sharing.OfItem(e); err == nil {
		d.Shared = &of
	}
	d.Covered, d.BookName = v.Cover.Has(e.ID), v.Books.Name(d.Item)
	d.Kind, _ = vault.KindOf(d.Type)
	if len(d.Addresses) > 0 {
		d.GoTo = d.Addresses[0].URL
		if known, ok := v.Sites.Directory().Lookup(site.Domain(d.GoTo)); ok {
			d.Site, d.Apps = &known, known.Apps
		}
		for _, a := range v.Sites.Rule(site.Domain(d.GoTo)).Apps {
			if !slices.Contains(d.Apps, a) {
				d.Apps = append(slices.Clone(d.Apps), a)
			}
		}
	}
	d.NewOne = slotData{ID: e.ID, Field: string(vault.FieldStaged), At: at, Only: d.SigningUp()}
	shown := map[vault.Field]bool{}
	for _, spec := range d.Kind.Specs {
		shown[spec.Field] = true
		if row, ok := d.row(v, e, spec); ok {
			d.Rows = append(d.Rows, row)
		}
	}
	for _, k := range vault.Kinds() {
		for _, spec := range k.Specs {
			if !shown[spec.Field] {
				shown[spec.Field] = true
				if row, ok := d.row(v, e, spec); ok {
					d.Other = append(d.Other, row)
				}
			}
		}
	}
	for _, o := range e.CustomFields() {
		f, _ := o.Register()
		row := fieldRow{
			Field:  f,
			Label:  o.Label,
			Form:   o.Form,
			Hidden: o.Form == vault.FormHidden,
			Slot:   slotData{ID: e.ID, Field: string(f), At: at},
		}
		if !row.Hidden {
			row.Value = o.Value.Reveal()
		}
		d.CustomFields = append(d.CustomFields, row)
	}
	if w, ok := v.Book.Expiring(d.Item); ok && at == 0 {
		d.Warning = &w
	}
	d.Versions, d.From = len(e.History()), e.SourceFiles()
	for _, p := range e.Conflicts() {
		for i, q := range e.Past {
			if q == p {
				d.Conflicts = append(
					d.Conflicts,
					slotData{ID: e.ID, Field: string(vault.FieldPassword), Past: strconv.Itoa(i), From: p.From.At},
				)
			}
		}
	}
	return d, nil
}

func (d *itemData) row(v *app.Vault, e vault.Entry, spec vault.Spec) (row fieldRow, ok bool) {
	value := e.Secret(spec.Field)
	row = fieldRow{
		Field:  spec.Field,
		Label:  spec.Name,
		Form:   spec.Form,
		Hidden: spec.Hidden(),
		Slot:   slotData{ID: e.ID, Field: string(spec.Field), At: d.At},
	}
	if value.IsEmpty() {
		// What a login lives by is named even where it is missing.
		return row, d.Type.IsAccount() &&
			(spec.Field == vault.FieldUsername || spec.Field == vault.FieldPassword && !d.SigningUp())
	}
	switch {
	case spec.Form == vault.FormSetup:
		if d.At == 0 {
			if c, err := newCodeData(v, e.ID); err == nil {
				row.Code = &c
			}
		}
	case spec.Masked:
		row.Tail = vault.Tail(value.Reveal())
		if spec.Form == vault.FormCard {
			row.Brand = vault.Brand(value.Reveal())
		}
	case spec.Field == vault.FieldPassword && d.Type.IsAccount():
		domain := ""
		if len(d.Addresses) > 0 {
			domain = site.Domain(d.Addresses[0].URL)
		}
		judged := strength.Judge(value, strength.Leaked, d.Username, d.Title, domain)
		row.Strength = &judged
	case spec.Form == vault.FormChoice:
		for _, c := range spec.Choices {
			if c.Value == value.Reveal() {
				row.Value = c.Name
			}
		}
	case spec.Form == vault.FormCountry:
		row.Value = countryName(value.Reveal())
	case !spec.Hidden():
		row.Value = value.Reveal()
	}
	return row, true
}

func (s itemPages) item(w http.ResponseWriter, r *http.Request) error {
	d, err := s.bookData(r)
	if err == nil {
		d.Open, d.Sheet = chi.URLParam(r, "id"), "sheet-item"
		d.Item, err = s.itemData(r, d.State())
	}
	if errors.Is(err, records.ErrNoItem) && r.Header.Get("X-By-Itself") != "" && fragment(r, "sheet") {
		d.Open, d.Sheet = "", "sheet-empty" // it was deleted for good while it was on the sheet
		return s.leaves(w, r, http.StatusOK, "", d, nil)
	}
	if err != nil {
		return err
	}
	if d.Q.Empty() && d.On == "" && r.FormValue("in") == "" && d.Item.Kind.Section != d.Section &&
		!fragment(r, "sheet") {
		redirect(w, r, "/items/"+d.Open+"?in="+string(d.Item.Kind.Section)) // the book stands open where the item is
		return nil
	}
	return s.leaves(w, r, http.StatusOK, d.Words.Title, d, nil)
}

// versionData is one version of an item, as its history tells it.
type versionData struct {
	vault.Version
	Device  string
	Changes []changeData
	Latest  bool
}

type changeData struct {
	vault.Change
	Label string
	Was   *slotData // the earlier value, if it is hidden
}

func (s itemPages) past(w http.ResponseWriter, r *http.Request) error {
	d, err := s.bookData(r)
	if err == nil {
		d.Open, d.Sheet = chi.URLParam(r, "id"), "sheet-past"
		if d.Item, err = s.itemData(r, d.State()); err == nil {
			d.Past, err = versionsOf(vaultOf(r), d.Item)
		}
	}
	if err != nil {
		return err
	}
	return s.leaves(w, r, http.StatusOK, "All versions", d, nil)
}

func versionsOf(v *app.Vault, d *itemData) ([]versionData, error) {
	e, err := v.Items.Entry(d.ID)
	if err != nil {
		return nil, err
	}
	devices, err := v.DeviceNames()
	if err != nil {
		return nil, err
	}
	var out []versionData
	for i, v := range e.History() {
		vd := versionData{Version: v, Device: devices[v.By], Latest: i == 0}
		for _, c := range v.Changes {
			cd := changeData{Change: c, Label: wording.Change(e.Kind(), c)}
			if c.Hidden && c.Past >= 0 && !c.Added {
				cd.Was = &slotData{ID: d.ID, Field: string(c.Field), Past: strconv.Itoa(c.Past)}
			}
			for _, p := range []*string{&cd.From, &cd.To} {
				switch c.Field {
				case vault.FieldKind:
					*p = wording.Kind(vault.Type(*p)).One
				case vault.FieldAddresses:
					*p = strings.ReplaceAll(strings.ReplaceAll(*p, "https://", ""), "http://", "")
				}
			}
			vd.Changes = append(vd.Changes, cd)
		}
		out = append(out, vd)
	}
	return out, nil
}

func (s itemPages) restoreAt(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	ms, ok := moment(r)
	if !ok {
		return problem(
			http.StatusBadRequest,
			"There is no such version",
			"The page is out of date. Please load it again.",
		)
	}
	err := vaultOf(r).Items.RestoreAt(r.Context(), id, ms)
	return s.acted(
		w,
		r,
		err,
		"It is again what it was on "+s.day(r, ms)+". What it was just now is in its history.",
		"/items/"+id,
	)
}

// acted leads on after an act, with a line that offers to undo it.
func (s *Server) acted(w http.ResponseWriter, r *http.Request, err error, words, to string) error {
	if err != nil {
		return err
	}
	s.sessions.Put(r.Context(), sessionSaid, words)
	s.sessions.Put(r.Context(), sessionUndo, vaultOf(r).Acts.Last())
	redirect(w, r, to)
	return nil
}

// printed is an item on paper, with or without its secrets.
func (s itemPages) printed(w http.ResponseWriter, r *http.Request) error {
	e, _, err := entryOf(r)
	var d *itemData
	if err == nil {
		d, err = s.itemData(r, "")
	}
	open := r.FormValue("open") != ""
	if err == nil && open {
		err = vaultOf(r).Guard.Require(reauth.Show)
	}
	if err != nil {
		return err
	}
	if open {
		for _, rows := range [][]fieldRow{d.Rows, d.Other, d.CustomFields} {
			for i := range rows {
				if rows[i].Hidden {
					rows[i].Value = valueOf(e, rows[i].Field)
				}
			}
		}
	}
	s.render(w, r, http.StatusOK, "printed", s.view(r, "On paper", "", struct {
		*itemData
		Open bool
		Day  string
	}{d, open, s.day(r, time.Now().UnixMilli())}))
	return nil
}

// codeData is a one-time code and its time left.
type codeData struct {
	ID    string
	Text  string
	Next  string // shown when the code is about to end
	Left  int    // seconds; 0 where a counter counts
	Setup otp.Setup
}

// nextShown is how long before its end a code's successor is shown.
const nextShown = 5 * time.Second

func newCodeData(v *app.Vault, id string) (codeData, error) {
	c, setup, err := v.Items.Code(id)
	if err != nil {
		return codeData{}, err
	}
	d := codeData{
		ID:    id,
		Text:  spaced(c.Text.Reveal()),
		Setup: setup,
		Left:  int((c.Left + time.Second - 1) / time.Second),
	}
	if c.Left < nextShown {
		d.Next = spaced(c.Next.Reveal())
	}
	return d, nil
}

// spaced sets a code in two halves.
func spaced(code string) string {
	half := (len(code) + 1) / 2
	return code[:half] + " " + code[half:]
}

func (s itemPages) code(w http.ResponseWriter, r *http.Request) error {
	d, err := newCodeData(vaultOf(r), chi.URLParam(r, "id"))
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "code", s.view(r, "", "", d))
	return nil
}

func (s itemPages) nextCode(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Items.NextCode(r.Context(), chi.URLParam(r, "id")); err != nil {
		return err
	}
	return s.code(w, r)
}

// used notes that a site was opened from the book: the extension fills its page.
func (s itemPages) used(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Pages.ExpectFill(chi.URLParam(r, "id")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

package web

import (
	"errors"
	"html/template"
	"io"
	"net/http"
	"net/url"
	"slices"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/app/household"
	"redlocket/app/qrpicture"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
)

// householdPages are the people whom the owner knows, and what they pass to each other.
type householdPages struct{ *Server }

func (s householdPages) routes(r routes) {
	r.get("/household", s.page)
	r.post("/household", s.ask)
	r.post("/household/mails", s.mails)
	r.post("/household/keys", s.newKeys)
	r.get("/household/{id}", s.page)
	r.get("/household/{id}/news", s.news)
	r.post("/household/{id}/answer", s.answer)
	r.post("/household/{id}/same", s.same)
	r.post("/household/{id}/remove", s.remove)
	r.post("/household/{id}/name", s.rename)
	r.post("/notes/{id}/show", s.showNote)
	r.post("/notes/{id}/keep", s.keepNote)
	r.post("/notes/{id}/forget", s.forgetNote)
	r.get("/items/{id}/pass", s.passPage)
	r.post("/items/{id}/pass", s.passItem)
}

type householdData struct {
	People  []household.Person
	At      *household.Person // who is shown on the sheet
	Notes   []household.Note
	Newest  string        // id of the newest note
	Code    template.HTML // of who is shown, for their camera, while words wait to be compared
	Email   string        // that was typed
	Name    string
	Text    string
	Mails   bool // the cloud mails that something waits
	Away    bool // what the cloud does isn't known now
	MaxText int
	Shared  []sharing.Shared
}

// Checked are the people to whom something can be passed.
func (d householdData) Checked() (out []household.Person) {
	for _, p := range d.People {
		if p.State == household.Checked && !p.Paused {
			out = append(out, p)
		}
	}
	return out
}

func (s householdPages) data(r *http.Request, id string) (d householdData, err error) {
	v := vaultOf(r)
	d.MaxText = share.MaxText
	d.Email, d.Name, d.Text = r.FormValue("email"), r.FormValue("name"), r.FormValue("text")
	if d.People, err = v.Household.People(); err != nil {
		return d, err
	}
	if d.Shared, err = v.Sharing.List(); err != nil {
		return d, err
	}
	if id != "" {
		p, err := v.Household.Person(id)
		if err != nil {
			return d, err
		}
		d.At = &p
		if d.Notes, err = v.Household.Notes(id); err != nil {
			return d, err
		}
		d.Newest = newest(d.Notes)
		if p.State == household.Compare {
			code, err := v.Household.Code(id)
			if err != nil {
				return d, err
			}
			d.Code, err = qr(code)
			return d, err
		}
		return d, nil
	}
	d.Mails, err = v.Household.Mails(r.Context())
	d.Away = err != nil
	return d, nil
}

func newest(list []household.Note) string {
	if len(list) == 0 {
		return "none"
	}
	return list[len(list)-1].ID
}

func (s householdPages) page(w http.ResponseWriter, r *http.Request) error {
	return s.show(w, r, chi.URLParam(r, "id"), nil)
}

// show shows the page with what came of an act.
func (s householdPages) show(w http.ResponseWriter, r *http.Request, id string, failed error) error {
	d, err := s.data(r, id)
	if err != nil {
		return err
	}
	// The other's code is read by camera, on a page that a person's sheet may be loaded into later.
	w.Header().Set("Permissions-Policy", "camera=(self), microphone=(), geolocation=()")
	page := s.view(r, "Household", "household", d)
	status := page.refused(failed, "form")
	switch {
	case fragment(r, "people"):
		s.render(w, r, status, "people", page)
	case fragment(r, "sheet"):
		s.render(w, r, status, "person", page)
	default:
		s.render(w, r, status, "household", page)
	}
	return nil
}

// after goes back to a person's page, or shows it with what went wrong.
func (s householdPages) after(w http.ResponseWriter, r *http.Request, id string, err error, said string) error {
	if err != nil {
		return s.show(w, r, id, err)
	}
	if said != "" {
		s.sessions.Put(r.Context(), sessionSaid, said)
	}
	to := "/household"
	if id != "" {
		to += "/" + id
	}
	redirect(w, r, to)
	return nil
}

func (s householdPages) ask(w http.ResponseWriter, r *http.Request) error {
	id, err := vaultOf(r).Household.Ask(r.Context(), r.FormValue("email"), r.FormValue("name"))
	return s.after(w, r, id, err, "")
}

func (s householdPages) answer(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	return s.after(w, r, id, vaultOf(r).Household.Answer(r.Context(), id, r.FormValue("name")), "")
}

func (s householdPages) same(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	err := reauthenticate(r, "same-password")
	if err == nil {
		err = vaultOf(r).Household.Same(r.Context(), id)
	}
	return s.after(w, r, id, err, "From now on you can pass notes and logins to each other.")
}

// readCode compares the code in a picture with the one that is expected on the other's screen.
func (s householdPages) readCode(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	p, err := vaultOf(r).Household.Person(id)
	if err != nil {
		return err
	}
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxPicture))
	if err != nil {
		http.Error(w, "The picture is larger than 12 MB; cut it to the QR code.", http.StatusUnprocessableEntity)
		return nil
	}
	text, err := qrpicture.Read(b)
	if err == nil {
		err = vaultOf(r).Household.ReadCode(id, text)
	}
	switch {
	case errors.Is(err, household.ErrOtherCode):
		http.Error(w, "This is another code. If it is on "+p.Name+"’s page of you, and from now, somebody was in "+
			"between: press “They are others”.", http.StatusConflict)
		return nil
	case errors.Is(err, household.ErrOwnCode):
		http.Error(w, errorWords(err), http.StatusConflict)
		return nil
	case err != nil:
		http.Error(w, errorWords(err), http.StatusUnprocessableEntity)
		return nil
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = io.WriteString(w, "It is the same code: nobody is in between. Press “They are the same” on both screens.")
	return nil
}

func (s householdPages) remove(w http.ResponseWriter, r *http.Request) error {
	return s.after(w, r, "", vaultOf(r).Household.Remove(r.Context(), chi.URLParam(r, "id")), r.FormValue("said"))
}

func (s householdPages) rename(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	return s.after(w, r, id, vaultOf(r).Household.Rename(r.Context(), id, r.FormValue("name")), "")
}

func (s householdPages) mails(w http.ResponseWriter, r *http.Request) error {
	return s.after(w, r, "", vaultOf(r).Household.SetMails(r.Context(), r.FormValue("on") != ""), "Saved.")
}

func (s householdPages) newKeys(w http.ResponseWriter, r *http.Request) error {
	err := reauthenticate(r, "keys-password")
	if err == nil {
		err = vaultOf(r).Household.NewKeys(r.Context())
	}
	return s.after(w, r, "", err, "You have other keys. Everybody is asked again, and compares words once more.")
}

func (s householdPages) pass(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	what, err := passing(w, r)
	if err == nil {
		_, err = vaultOf(r).Household.Pass(r.Context(), id, what)
	}
	return s.after(w, r, id, err, "")
}

// passing reads a note and the files that go with it. Files are kept in memory alone: nothing of them is written to the
// disk in clear.
func passing(w http.ResponseWriter, r *http.Request) (what household.Passing, err error) {
	r.Form = url.Values{} // for the page, if something is wrong
	r.Body = http.MaxBytesReader(w, r.Body, share.MaxBytes+maxForm)
	parts, err := r.MultipartReader()
	if err != nil {
		return what, problem(http.StatusBadRequest, "That wasn’t a note", "Write it on the person’s page.")
	}
	for {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			r.Form.Set("text", what.Text)
			return what, nil
		}
		var b []byte
		if err == nil {
			b, err = io.ReadAll(part)
		}
		if _, large := errors.AsType[*http.MaxBytesError](err); large {
			r.Form.Set("text", what.Text)
			return what, records.BadInput("files", household.ErrLargeAttached)
		}
		if err != nil {
			return what, err
		}
		switch {
		case part.FormName() == "text":
			what.Text = string(b)
		case part.FileName() != "":
			what.Attached = append(what.Attached, household.Attached{Name: part.FileName(), Data: b})
		}
	}
}

// news says whether something newer is there than the page shows. The page isn't drawn again by itself: what was shown
// would be covered, and what was typed gone.
func (s householdPages) news(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	notes, err := vaultOf(r).Household.Notes(id)
	if err != nil {
		return err
	}
	if newest(notes) == r.FormValue("after") {
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	s.render(w, r, http.StatusOK, "note-news", s.view(r, "", "", id))
	return nil
}

// shownNote is a note that was opened.
type shownNote struct {
	household.Note
	By   string // the name of whoever wrote it
	Text string
	Rows []shownRow
}

// shownRow is a field of the thing that goes with it.
type shownRow struct {
	Name, Value string
	Mono        bool
}

func (s householdPages) showNote(w http.ResponseWriter, r *http.Request) error {
	h, id := vaultOf(r).Household, chi.URLParam(r, "id")
	text, thing, err := h.Read(r.Context(), id)
	if err != nil {
		return err
	}
	n, err := h.Note(id)
	if err != nil {
		return err
	}
	p, err := h.Person(n.Peer)
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "note-shown", s.view(r, "", "", shownNote{n, p.Name, text, thingRows(thing)}))
	return nil
}

// thingRows are the fields of a thing that nobody keeps yet.
func thingRows(e vault.Entry) (rows []shownRow) {
	add := func(name, value string, mono bool) {
		if value != "" {
			rows = append(rows, shownRow{name, value, mono})
		}
	}
	k, _ := vault.KindOf(e.Kind())
	for _, spec := range k.Specs {
		value := e.Text(spec.Field)
		if spec.Field == vault.FieldSetup {
			if key, err := otp.Parse(secret.New(value)); err == nil {
				value = key.Key.Reveal()
			}
		}
		add(spec.Name, value, spec.Hidden())
	}
	for _, a := range vault.View(e).Addresses {
		add("Address", a.URL, false)
	}
	for _, o := range e.CustomFields() {
		add(o.Label, o.Value.Reveal(), o.Form == vault.FormHidden)
	}
	add("Notes", e.Text(vault.FieldNotes), false)
	return rows
}

func (s householdPages) keepNote(w http.ResponseWriter, r *http.Request) error {
	item, err := vaultOf(r).Household.Keep(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		return err
	}
	s.sessions.Put(r.Context(), sessionSaid, "It is in your book now.")
	redirect(w, r, "/items/"+item)
	return nil
}

func (s householdPages) forgetNote(w http.ResponseWriter, r *http.Request) error {
	h, id := vaultOf(r).Household, chi.URLParam(r, "id")
	n, err := h.Note(id)
	if err == nil {
		err = h.Forget(r.Context(), id)
	}
	if err != nil {
		return err
	}
	redirect(w, r, "/household/"+n.Peer)
	return nil
}

// passData is an item that is to be passed.
type passData struct {
	householdData
	Item vault.Item
	To   string
	Left bool // the second passphrase doesn't show it

	Attached []vault.File
	TooLarge bool // its files, to go with it
}

func (s householdPages) passPage(w http.ResponseWriter, r *http.Request) error {
	return s.showPass(w, r, nil)
}

func (s householdPages) showPass(w http.ResponseWriter, r *http.Request, failed error) error {
	e, _, err := entryOf(r)
	if err != nil {
		return err
	}
	d, err := s.data(r, "")
	if err != nil {
		return err
	}
	page := s.view(r, "Pass a copy", "household", passData{
		householdData: d, Item: vault.View(e), To: r.FormValue("to"), Left: vaultOf(r).Cover.Has(e.ID),
		Attached: e.Files(), TooLarge: !household.PassesFiles(e.Files()),
	})
	status := http.StatusOK
	if failed != nil {
		status = http.StatusUnprocessableEntity
		if !page.bad(failed) {
			return failed
		}
	}
	s.render(w, r, status, "pass", page)
	return nil
}

func (s householdPages) passItem(w http.ResponseWriter, r *http.Request) error {
	to := r.FormValue("to")
	if _, err := vaultOf(r).Household.Pass(r.Context(), to, household.Passing{
		Text: r.FormValue("text"), Item: chi.URLParam(r, "id"), Files: r.FormValue("files") != "",
	}); err != nil {
		return s.showPass(w, r, err)
	}
	return s.after(w, r, to, nil, "")
}

// ofPeople is what waits of the household, on the day's page.
func ofPeople(people []household.Person) (out []waiting) {
	for _, p := range people {
		link := "/household/" + p.ID
		switch {
		case p.Unread > 0:
			out = append(out, waiting{p.Name + " passed you something", plural(p.Unread, "note", "notes"), link, false})
		case p.State == household.Asks:
			out = append(out, waiting{p.Name + " asks to be added", p.Email, link, false})
		case p.State == household.Compare:
			const how = "on the telephone, or face to face"
			out = append(out, waiting{"Compare six words with " + p.Name, how, link, false})
		case p.Paused:
			out = append(out, waiting{"Somebody asks under the address of " + p.Name, "with other keys", link, false})
		}
	}
	return out
}

// knowsSomebody reports whether somebody knows the owner of a vault by keys, which each of their devices has.
func knowsSomebody(v *app.Vault) bool {
	people, err := v.Household.People()
	checked := func(p household.Person) bool { return p.State == household.Checked }
	return err == nil && slices.ContainsFunc(people, checked)
}

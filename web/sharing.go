package web

import (
	"errors"
	"net/http"
	"slices"

	"github.com/go-chi/chi/v5"

	"redlocket/app/household"
	"redlocket/app/sharing"
	"redlocket/core/share"
	"redlocket/core/vault"
)

// sharingPages are what is held with others: with whom, what they may do, and ending it.
type sharingPages struct{ *Server }

func (s sharingPages) routes(r routes) {
	r.get("/shared/{set}", s.page)
	r.get("/shared/{set}/now", s.now)
	r.post("/shared/{set}/take", s.take)
	r.post("/shared/{set}/right", s.right)
	r.post("/shared/{set}/end", s.end)
	r.post("/shared/{set}/end-all", s.endAll)
	r.post("/shared/{set}/leave", s.leave)
	r.post("/shared/{set}/restart", s.restart)
	r.get("/books/{id}/share", s.askBook)
	r.post("/books/{id}/share", s.shareBook)
	r.get("/items/{id}/share", s.askItem)
	r.post("/items/{id}/share", s.shareItem)
}

// sharedData is something shared, as its page shows it.
type sharedData struct {
	sharing.Shared
	Gone []goneData
}

// goneData is somebody who holds it no more, with the logins whose passwords they could have seen.
type goneData struct {
	Name  string
	At    int64
	Items []vault.Item
}

func (s sharingPages) page(w http.ResponseWriter, r *http.Request) error {
	return s.show(w, r, chi.URLParam(r, "set"), nil)
}

// now draws the page's part that changes by itself.
func (s sharingPages) now(w http.ResponseWriter, r *http.Request) error {
	d, err := s.data(r, chi.URLParam(r, "set"))
	if errors.Is(err, sharing.ErrNoSet) { // meanwhile
		s.render(w, r, http.StatusOK, "shared-over", s.view(r, "", "household", nil))
		return nil
	}
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "shared-members", s.view(r, "", "household", d))
	return nil
}

func (s sharingPages) data(r *http.Request, set string) (d sharedData, err error) {
	v := vaultOf(r)
	if d.Shared, err = v.Sharing.Of(set); err != nil {
		return d, err
	}
	for _, f := range d.Shared.Gone {
		g := goneData{Name: f.Name, At: f.At}
		for _, id := range f.Items {
			if e, err := v.Items.Entry(id); err == nil {
				g.Items = append(g.Items, vault.View(e))
			}
		}
		d.Gone = append(d.Gone, g)
	}
	return d, nil
}

// show shows what is shared, with what came of an act.
func (s sharingPages) show(w http.ResponseWriter, r *http.Request, set string, failed error) error {
	d, err := s.data(r, set)
	if err != nil {
		return err
	}
	page := s.view(r, "Shared", "household", d)
	status := page.refused(failed, "form")
	s.render(w, r, status, "shared", page)
	return nil
}

// after goes on to a page with what was done, or shows what is shared with what went wrong.
func (s sharingPages) after(w http.ResponseWriter, r *http.Request, err error, said, to string) error {
	set := chi.URLParam(r, "set")
	if err != nil {
		return s.show(w, r, set, err)
	}
	if said != "" {
		s.sessions.Put(r.Context(), sessionSaid, said)
	}
	if _, gone := vaultOf(r).Sharing.Of(set); gone != nil || to == "" {
		to = "/household"
	}
	redirect(w, r, to)
	return nil
}

func (s sharingPages) take(w http.ResponseWriter, r *http.Request) error {
	set := chi.URLParam(r, "set")
	err := vaultOf(r).Sharing.Take(r.Context(), set)
	return s.after(w, r, err, "It is among your items now.", "/shared/"+set)
}

func (s sharingPages) right(w http.ResponseWriter, r *http.Request) error {
	set := chi.URLParam(r, "set")
	err := vaultOf(r).Sharing.SetRight(r.Context(), set, r.FormValue("email"), share.Right(r.FormValue("right")))
	return s.after(w, r, err, "Saved.", "/shared/"+set)
}

func (s sharingPages) end(w http.ResponseWriter, r *http.Request) error {
	set := chi.URLParam(r, "set")
	err := vaultOf(r).Sharing.End(r.Context(), set, r.FormValue("email"))
	const said = "It is ended: each of their devices drops it when it next reaches the cloud."
	return s.after(w, r, err, said, "/shared/"+set)
}

func (s sharingPages) endAll(w http.ResponseWriter, r *http.Request) error {
	set := chi.URLParam(r, "set")
	err := vaultOf(r).Sharing.EndAll(r.Context(), set)
	return s.after(w, r, err, "It is yours alone again.", "/shared/"+set)
}

func (s sharingPages) leave(w http.ResponseWriter, r *http.Request) error {
	return s.after(w, r, vaultOf(r).Sharing.Leave(r.Context(), chi.URLParam(r, "set")), "You have left it.", "")
}

func (s sharingPages) restart(w http.ResponseWriter, r *http.Request) error {
	set := chi.URLParam(r, "set")
	return s.after(w, r, vaultOf(r).Sharing.Restart(r.Context(), set), "It is read anew.", "/shared/"+set)
}

// shareData is a book or an item that is to be shared.
type shareData struct {
	Name   string
	Path   string // that the form is sent to
	Back   string
	Book   bool
	Fills  bool // it is filled in somewhere
	People []household.Person
	Anyone bool // somebody is checked
	To     string
	Right  string
	Left   bool // the second passphrase doesn't show it
}

// sharable are those with whom something can be shared that others hold already.
func sharable(people []household.Person, of sharing.Shared) (out []household.Person) {
	for _, p := range people {
		has := slices.ContainsFunc(of.Members, func(m sharing.Member) bool { return m.Email == p.Email })
		if p.State == household.Checked && !p.Paused && !has {
			out = append(out, p)
		}
	}
	return out
}

func (s sharingPages) ask(w http.ResponseWriter, r *http.Request, d shareData, of sharing.Shared, failed error) error {
	people, err := vaultOf(r).Household.People()
	if err != nil {
		return err
	}
	d.People, d.Anyone = sharable(people, of), len(sharable(people, sharing.Shared{})) > 0
	d.To, d.Right = r.FormValue("to"), r.FormValue("right")
	if d.Right == "" {
		d.Right = string(share.See)
	}
	page := s.view(r, "Share", "household", d)
	status := page.refused(failed, "form")
	s.render(w, r, status, "share", page)
	return nil
}

func (s sharingPages) askBook(w http.ResponseWriter, r *http.Request) error {
	return s.bookForm(w, r, nil)
}

func (s sharingPages) bookForm(w http.ResponseWriter, r *http.Request, failed error) error {
	id := chi.URLParam(r, "id")
	d, err := booksPages(s).data(r, id)
	if err != nil {
		return err
	}
	of, _ := vaultOf(r).Sharing.OfBook(id) // none is nobody
	return s.ask(w, r, shareData{
		Name: d.At.Name, Path: "/books/" + id + "/share", Back: "/books/" + id, Book: true, Fills: true,
	}, of, failed)
}

func (s sharingPages) shareBook(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	set, err := v.Sharing.ShareBook(r.Context(), chi.URLParam(r, "id"), r.FormValue("to"),
		share.Right(r.FormValue("right")))
	if err != nil {
		return s.bookForm(w, r, err)
	}
	redirect(w, r, "/shared/"+set)
	return nil
}

func (s sharingPages) askItem(w http.ResponseWriter, r *http.Request) error {
	return s.itemForm(w, r, nil)
}

func (s sharingPages) itemForm(w http.ResponseWriter, r *http.Request, failed error) error {
	e, _, err := entryOf(r)
	if err != nil {
		return err
	}
	v := vaultOf(r)
	of, held := v.Sharing.OfItem(e)
	if held == nil && of.Book != "" {
		redirect(w, r, "/shared/"+of.Set) // with those of its book
		return nil
	}
	return s.ask(w, r, shareData{
		Name: vault.View(e).Title, Path: "/items/" + e.ID + "/share", Back: "/items/" + e.ID,
		Fills: sharing.Fills(e), Left: v.Cover.Has(e.ID),
	}, of, failed)
}

func (s sharingPages) shareItem(w http.ResponseWriter, r *http.Request) error {
	set, err := vaultOf(r).Sharing.ShareItem(r.Context(), chi.URLParam(r, "id"), r.FormValue("to"),
		share.Right(r.FormValue("right")))
	if err != nil {
		return s.itemForm(w, r, err)
	}
	redirect(w, r, "/shared/"+set)
	return nil
}

// ofShared is what waits of what is shared, on the day's page.
func ofShared(list []sharing.Shared) (out []waiting) {
	for _, of := range list {
		link := "/shared/" + of.Set
		switch {
		case of.Waits && of.Name != "":
			out = append(out, waiting{of.From + " shares the book “" + of.Name + "” with you", "", link, false})
		case of.Waits:
			out = append(out, waiting{of.From + " shares something with you", "", link, false})
		case of.Fault != "":
			out = append(out, waiting{"What the cloud handed out of “" + of.Name + "” was refused", "", link, false})
		}
		for _, f := range of.Gone {
			words := "Change " + plural(len(f.Items), "password", "passwords") + " that " + f.Name + " could have seen"
			out = append(out, waiting{words, of.Name, link, false})
		}
	}
	return out
}

package web

import (
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/core/vault"
)

// booksPages are the books that the owner has, and moving items between them.
type booksPages struct{ *Server }

func (s booksPages) routes(r routes) {
	r.get("/books", s.page)
	r.post("/books", s.make)
	r.post("/books/turn", s.turn)
	r.get("/books/{id}", s.page)
	r.post("/books/{id}/name", s.rename)
	r.post("/books/{id}/show", s.hide)
	r.post("/books/{id}/remove", s.remove)
	r.get("/items/{id}/book", s.itemPage)
	r.post("/items/{id}/book", s.put)
}

// booksData are the books as a page lists them.
type booksData struct {
	List []records.NamedBook
	At   *records.NamedBook // that is shown on the sheet
	Name string             // that was typed
	Of   *sharing.Shared    // the one that is shown, where it is shared
}

func (s booksPages) data(r *http.Request, id string) (d booksData, err error) {
	d.Name = r.FormValue("name")
	if d.List, err = vaultOf(r).Books.List(); err != nil || id == "" {
		return d, err
	}
	for i := range d.List {
		if d.List[i].ID == id {
			d.At = &d.List[i]
			if of, err := vaultOf(r).Sharing.OfBook(id); err == nil {
				d.Of = &of
			}
			return d, nil
		}
	}
	return d, records.ErrNoBook
}

func (s booksPages) page(w http.ResponseWriter, r *http.Request) error {
	return s.show(w, r, chi.URLParam(r, "id"), nil)
}

// show shows the page with what came of an act.
func (s booksPages) show(w http.ResponseWriter, r *http.Request, id string, failed error) error {
	d, err := s.data(r, id)
	if err != nil {
		return err
	}
	page := s.view(r, "Books", "household", d)
	status := page.refused(failed, "form")
	if fragment(r, "books") {
		s.render(w, r, status, "books-list", page)
		return nil
	}
	s.render(w, r, status, "books", page)
	return nil
}

// after goes to a page with what was done, or shows a book with what went wrong.
func (s booksPages) after(w http.ResponseWriter, r *http.Request, id string, err error, said, to string) error {
	if err != nil {
		return s.show(w, r, id, err)
	}
	if said != "" {
		s.sessions.Put(r.Context(), sessionSaid, said)
	}
	redirect(w, r, to)
	return nil
}

func (s booksPages) make(w http.ResponseWriter, r *http.Request) error {
	id, err := vaultOf(r).Books.Make(r.Context(), r.FormValue("name"))
	return s.after(w, r, "", err, "The book is there, and open: what you write down now is in it.", "/books/"+id)
}

// turn opens a book, and goes back to the list.
func (s booksPages) turn(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Books.Turn(r.Context(), r.FormValue("book")); err != nil {
		return err
	}
	redirect(w, r, back(r))
	return nil
}

func (s booksPages) rename(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	err := vaultOf(r).Books.Rename(r.Context(), id, r.FormValue("name"))
	return s.after(w, r, id, err, "Saved.", "/books/"+id)
}

func (s booksPages) hide(w http.ResponseWriter, r *http.Request) error {
	id, on := chi.URLParam(r, "id"), r.FormValue("on") != ""
	err := vaultOf(r).Books.Show(r.Context(), id, on)
	said := "It is hidden on this computer."
	if on {
		said = "It is shown again."
	}
	return s.after(w, r, id, err, said, "/books/"+id)
}

func (s booksPages) remove(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	moved, err := vaultOf(r).Books.Remove(r.Context(), id)
	said := "The book is gone."
	if moved > 0 {
		said += " " + plural(moved, "item that was in it is", "items that were in it are") + " in your own book now."
	}
	return s.after(w, r, id, err, said, "/books")
}

// SeenBy names those who see what is put into a book; empty where that is nobody else.
func (v View) SeenBy(book string) string {
	of, err := v.Vault.Sharing.OfBook(book)
	if err != nil {
		return ""
	}
	return others(of)
}

// others names those with whom something is shared.
func others(of sharing.Shared) string {
	var names []string
	for _, m := range of.Members {
		if !m.Me {
			names = append(names, m.Name)
		}
	}
	if n := len(names); n > 1 {
		names = append(names[:n-2], names[n-2]+" and "+names[n-1])
	}
	return strings.Join(names, ", ")
}

// putData is an item that is to be moved or copied.
type putData struct {
	Item vault.Item
	List []records.NamedBook // where it could go
	Here string              // name of the book that it is in
	To   string              // that was chosen, where its others are to be told of
}

func (s booksPages) itemPage(w http.ResponseWriter, r *http.Request) error {
	return s.showPut(w, r, "")
}

// showPut shows the page; of a book that others see, to, it asks once more.
func (s booksPages) showPut(w http.ResponseWriter, r *http.Request, to string) error {
	e, _, err := entryOf(r)
	if err != nil {
		return err
	}
	v := vaultOf(r)
	d := putData{Item: vault.View(e), To: to}
	d.Here = v.Books.Name(d.Item)
	list, err := v.Books.List()
	if err != nil {
		return err
	}
	for _, b := range list {
		if b.ID != d.Item.Book && (b.ID != records.OwnBook || d.Here != "") {
			d.List = append(d.List, b)
		}
	}
	s.render(w, r, http.StatusOK, "put", s.view(r, "Move or copy", string(sectionOfItem(d.Item)), d))
	return nil
}

func (s booksPages) put(w http.ResponseWriter, r *http.Request) error {
	v, id, to := vaultOf(r), chi.URLParam(r, "id"), r.FormValue("book")
	if (View{Vault: v}).SeenBy(to) != "" && r.FormValue("seen") == "" {
		return s.showPut(w, r, to)
	}
	if r.FormValue("copy") == "" {
		_, err := v.Acts.MoveTo(r.Context(), to, id)
		return s.acted(w, r, err, "It is moved.", "/items/"+id)
	}
	_, err := v.Acts.CopyTo(r.Context(), to, id)
	return s.acted(w, r, err, "A copy is there.", "/items/"+id)
}

// whichBook is a choice of one book or all.
type whichBook struct {
	List       []records.NamedBook
	Chosen, ID string
}

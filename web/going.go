package web

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"redlocket/app/filling"
	"redlocket/app/gate"
	"redlocket/app/records"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// signInPages open a site to sign in to it.
type signInPages struct{ *Server }

func (s signInPages) routes(r routes) {
	r.post("/items/{id}/staged", s.staged)
	r.get("/items/{id}/vouch", s.vouchPage)
	r.post("/items/{id}/vouch", s.vouch)
	r.get("/items/{id}/change", s.changePage)
	r.post("/items/{id}/apps", s.askApps)
	r.post("/drawer", s.madeBefore)
	r.post("/drawer/empty", s.emptyDrawer)
}

// staged decides about a new password that waits for its site.
func (s signInPages) staged(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	words, err := "This login has its old password again. The new one stays under “History”.", error(nil)
	if r.FormValue("took") != "" {
		words, err = "This login has its new password. The old one stays under “History”.", vaultOf(
			r,
		).Staged.Confirm(
			r.Context(),
			id,
		)
	} else {
		err = vaultOf(r).Staged.StepBack(r.Context(), id)
	}
	if errors.Is(err, filling.ErrNotStaged) {
		redirect(w, r, "/items/"+id) // decided elsewhere meanwhile
		return nil
	}
	return s.acted(w, r, err, words, "/items/"+id)
}

// vouchData is a page that looks like an imitation, and the login that it may belong to.
type vouchData struct {
	ID, Title, Address, Host string
	Kept                     []vault.Address
}

// vouchPage asks whether a page that looks like an imitation is right all the same.
func (s signInPages) vouchPage(w http.ResponseWriter, r *http.Request) error {
	e, _, err := entryOf(r)
	var address string
	if err == nil {
		address, err = site.Clean(r.FormValue("address"))
	}
	if err != nil {
		return err
	}
	it := vault.View(e)
	d := vouchData{ID: it.ID, Title: it.Title, Address: address, Host: site.Host(address), Kept: it.Addresses}
	s.render(w, r, http.StatusOK, "vouch", s.view(r, "Is this right?", "", d))
	return nil
}

func (s signInPages) vouch(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	err := vaultOf(r).Pages.Vouch(r.Context(), id, r.FormValue("address"))
	return s.acted(w, r, err, "This address belongs to the login from here on. Load its page again.", "/items/"+id)
}

// changePage leads to where the password of a login is changed.
func (s signInPages) changePage(w http.ResponseWriter, r *http.Request) error {
	to, err := vaultOf(r).Pages.ChangePage(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		return err
	}
	http.Redirect(w, r, to, http.StatusSeeOther)
	return nil
}

func (s signInPages) askApps(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	n, err := vaultOf(r).Pages.AskApps(r.Context(), id)
	words := fmt.Sprintf("The site names %s with its accounts.", plural(n, "program", "programs"))
	switch {
	case errors.Is(err, gate.ErrLocked), errors.Is(err, records.ErrNoItem):
		return err
	case err != nil:
		words = errorWords(err) + " Nothing was changed."
	}
	s.sessions.Put(r.Context(), sessionSaid, words)
	redirect(w, r, "/items/"+id)
	return nil
}

// madeBefore hands out one of the generated passwords.
func (s signInPages) madeBefore(w http.ResponseWriter, r *http.Request) error {
	at, _ := strconv.ParseInt(r.FormValue("at"), 10, 64) // nonsense is a moment at which nothing was made
	p, err := vaultOf(r).Generated.At(at)
	switch {
	case errors.Is(err, filling.ErrNoGenerated):
		http.Error(w, errorWords(err), http.StatusNotFound)
	case err != nil:
		return err
	default:
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = w.Write([]byte(p.Reveal()))
	}
	return nil
}

func (s signInPages) emptyDrawer(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Generated.Clear(r.Context()); err != nil {
		return err
	}
	w.WriteHeader(http.StatusOK)
	return nil
}

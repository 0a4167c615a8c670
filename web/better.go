package web

import (
	"net/http"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"

	"redlocket/core/tidy"
	"redlocket/core/vault"
	"redlocket/wording"
)

// betterGroup is what can be better in one way.
type betterGroup struct {
	What  tidy.What
	Title string
	Means string
	List  []betterLine
}

type betterLine struct {
	ID, Title, Domain, Name string
	From, To                string
	At                      int64
}

func groupBetter(list []tidy.Better, what tidy.What, items map[string]vault.Item) betterGroup {
	g := betterGroup{What: what}
	g.Title, g.Means = wording.Better(what)
	for _, b := range list {
		if it, ok := items[b.ID]; ok && b.What == what {
			g.List = append(g.List, betterLine{b.ID, it.Title, domainOf(it), it.Username, b.From, b.To, b.At})
		}
	}
	return g
}

// better shows what can be better in one way, before it is done.
func (s tidyPages) better(w http.ResponseWriter, r *http.Request) error {
	d, _, err := s.left(r)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(d.Better, func(g betterGroup) bool { return string(g.What) == chi.URLParam(r, "what") })
	if i < 0 { // all of it was done meanwhile
		http.Redirect(w, r, "/tidy", http.StatusSeeOther)
		return nil
	}
	d.Improve, d.AtSheet = &d.Better[i], true
	return s.show(w, r, http.StatusOK, d)
}

func (s tidyPages) improve(w http.ResponseWriter, r *http.Request) error {
	if err := r.ParseForm(); err != nil {
		return problem(http.StatusRequestEntityTooLarge, "That is too much", "Nothing was changed.")
	}
	shown, but := map[string]bool{}, map[string]bool{}
	for id := range strings.FieldsSeq(r.FormValue("ids")) {
		shown[id] = true
	}
	for _, id := range r.Form["not"] {
		but[id] = true
	}
	what := tidy.What(chi.URLParam(r, "what"))
	return s.went(w, r, vaultOf(r).Tidying.Improve(r.Context(), what, shown, but), "/tidy")
}

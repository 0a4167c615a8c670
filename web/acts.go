package web

import (
	"net/http"
	"net/url"
	"strings"

	"github.com/go-chi/chi/v5"

	"redlocket/app/records"
)

// actPages do something with items chosen, and undo it.
type actPages struct{ *Server }

func (s actPages) routes(r routes) {
	r.post("/acts/{act}", s.act)
	r.post("/undo/{act}", s.undo)
	r.post("/items/{id}/settle", s.settle)
}

// doneData is the line that says what was done.
type doneData struct {
	Words string
	Undo  string
}

// act does something with one item or several, and answers with the line that
// says so and offers to undo it.
func (s actPages) act(w http.ResponseWriter, r *http.Request) error {
	if err := r.ParseForm(); err != nil {
		return problem(
			http.StatusRequestEntityTooLarge,
			"That is too much",
			"Choose fewer at once. Nothing was changed.",
		)
	}
	v, ctx := vaultOf(r), r.Context()
	ids := strings.Fields(r.FormValue("ids")) // one field: the number of fields of a form is limited
	var d records.Done
	var err error
	words := ""
	switch chi.URLParam(r, "act") {
	case "archive":
		d, err = v.Acts.Archive(ctx, ids...)
		words = "put into the archive"
	case "restore":
		d, err = v.Acts.Restore(ctx, ids...)
		words = "brought back"
	case "pin":
		d, err = v.Acts.Pin(ctx, true, ids...)
		words = "pinned"
	case "unpin":
		d, err = v.Acts.Pin(ctx, false, ids...)
		words = "no longer pinned"
	case "move":
		d, err = v.Acts.Move(ctx, r.FormValue("folder"), ids...)
		words = "moved"
	case "to-book":
		d, err = v.Acts.MoveTo(ctx, r.FormValue("book"), ids...)
		words = "moved to another book"
	case "copy-to-book":
		d, err = v.Acts.CopyTo(ctx, r.FormValue("book"), ids...)
		words = "copied to another book"
	case "tag":
		d, err = v.Acts.Tag(ctx, r.FormValue("tags"), ids...)
		words = "tagged"
	case "leave-out":
		d.Count, err = v.Second.LeaveOut(ctx, ids...)
		words = "left out under the second passphrase"
	case "purge":
		d, err = v.Acts.Purge(ctx, ids...)
		words = "deleted for good"
	default:
		return problem(http.StatusNotFound, "There is no such act", "The page is out of date. Please load it again.")
	}
	if err != nil {
		return err
	}
	done := doneData{"Nothing had to be changed.", d.Undo}
	if d.Count == 1 {
		done.Words = "1 " + words + "."
	} else if d.Count > 1 {
		done.Words = plural(d.Count, "", "") + words + "."
	}
	if r.Header.Get("HX-Request") == "" {
		return s.acted(w, r, nil, done.Words, "/logins")
	}
	s.render(w, r, http.StatusOK, "done", s.view(r, "", "", done))
	return nil
}

func (s actPages) undo(w http.ResponseWriter, r *http.Request) error {
	u, err := vaultOf(r).Acts.Undo(r.Context(), chi.URLParam(r, "act"))
	if err != nil {
		if err == records.ErrNoAct {
			return problem(http.StatusConflict, "That is too late", errorWords(err))
		}
		return err
	}
	d := doneData{Words: "Undone."}
	if len(u.Kept) > 0 {
		d.Words = "Undone, but for what was edited since: " + u.Kept[0]
		if len(u.Kept) > 1 {
			d.Words += " and " + plural(len(u.Kept)-1, "other", "others")
		}
		d.Words += "."
	}
	if r.Header.Get("HX-Request") == "" {
		s.sessions.Put(r.Context(), sessionSaid, d.Words)
		redirect(w, r, back(r))
		return nil
	}
	s.render(w, r, http.StatusOK, "done", s.view(r, "", "", d))
	return nil
}

// back is the path of the page that a form was on, as the form says.
func back(r *http.Request) string {
	if u, err := url.Parse(r.FormValue("back")); err == nil && u.Host == "" && u.Scheme == "" && len(u.Path) > 1 &&
		u.Path[0] == '/' &&
		u.Path[1] != '/' {
		return u.RequestURI()
	}
	return "/logins"
}

func (s actPages) settle(w http.ResponseWriter, r *http.Request) error {
	p, _, err := s.secretOf(r)
	if err == nil {
		err = vaultOf(r).Items.Resolve(r.Context(), chi.URLParam(r, "id"), p)
	}
	return s.acted(w, r, err, "Done. The other password is in the history.", "/items/"+chi.URLParam(r, "id"))
}

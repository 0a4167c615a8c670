package web

import (
	"errors"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/app/gate"
	"redlocket/app/household"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/wording"
)

// handler answers a request. What it returns as an error is turned into an answer in one
// place, [Server.answer]; nothing may have been written by then.
type handler func(w http.ResponseWriter, r *http.Request) error

// routes is a router whose handlers return errors.
type routes struct {
	chi.Router
	s *Server
}

func (r routes) get(path string, h handler)  { r.Get(path, r.s.handle(h)) }
func (r routes) post(path string, h handler) { r.Post(path, r.s.handle(h)) }

// with returns the routes behind more middleware.
func (r routes) with(more ...func(http.Handler) http.Handler) routes {
	return routes{r.With(more...), r.s}
}

func (s *Server) handle(h handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if err := h(w, r); err != nil {
			s.answer(w, r, err)
		}
	}
}

// problemError is an error that says itself how it is shown.
type problemError struct {
	status      int
	title, text string
}

func (p *problemError) Error() string { return p.title + ": " + p.text }

func problem(status int, title, text string) error { return &problemError{status, title, text} }

// answer turns an error into an answer: a page, or for htmx a bar where the page shows them.
func (s *Server) answer(w http.ResponseWriter, r *http.Request, err error) {
	var told *problemError
	var in *records.InputError
	switch {
	case errors.As(err, &told):
		s.showProblem(w, r, told)
	case errors.Is(err, gate.ErrLocked):
		s.toLock(w, r)
	case errors.Is(err, reauth.ErrNeeded):
		s.ask(w, r)
	case errors.Is(err, records.ErrNoItem), errors.Is(err, records.ErrNoBook), errors.Is(err, sharing.ErrNoSet),
		errors.Is(err, app.ErrNoProfile),
		errors.Is(err, household.ErrNoPerson), errors.Is(err, household.ErrNoNote):
		const text = "It may have been archived on another device, or the address is old."
		s.showProblem(w, r, &problemError{http.StatusNotFound, "This isn’t here", text})
	case errors.As(err, &in), errors.Is(err, records.ErrNotToChange), errors.Is(err, records.ErrNotToSee),
		errors.Is(err, records.ErrShared), errors.Is(err, records.ErrBookShared):
		text := errorWords(err) + " Nothing was changed."
		s.showProblem(w, r, &problemError{http.StatusUnprocessableEntity, "That didn’t work", text})
	default:
		route := chi.RouteContext(r.Context()).RoutePattern()
		s.cfg.Log.ErrorContext(r.Context(), "request failed", "route", route, "err", err)
		text := errorWords(err) + " What was saved before is safe. Please try again."
		s.showProblem(w, r, &problemError{http.StatusInternalServerError, "Something went wrong here", text})
	}
}

func (s *Server) showProblem(w http.ResponseWriter, r *http.Request, p *problemError) {
	v := s.view(r, p.title, "", p.text)
	if r.Header.Get("HX-Request") != "" {
		w.Header().Set("HX-Retarget", "#notices")
		w.Header().Set("HX-Reswap", "innerHTML")
		s.render(w, r, http.StatusOK, "notice", v)
		return
	}
	s.render(w, r, p.status, "problem", v)
}

// statusAskAgain answers an act that needs the master password first. It isn't 401: at that
// browsers forget the origin key, as a credential that was refused.
const statusAskAgain = http.StatusPreconditionRequired

// ask answers an act that needs the master password first: scripts get a status
// that says so, pages a form.
func (s *Server) ask(w http.ResponseWriter, r *http.Request) {
	mode := r.Header.Get("Sec-Fetch-Mode")
	if r.Header.Get("HX-Request") != "" || mode == "cors" || mode == "same-origin" {
		w.WriteHeader(statusAskAgain)
		return
	}
	to := back(r)
	if r.Method == http.MethodGet {
		to = r.URL.RequestURI()
	}
	s.render(w, r, statusAskAgain, "ask-page", s.view(r, "Master password again", "", to))
}

// toLock leads to the lock page.
func (s *Server) toLock(w http.ResponseWriter, r *http.Request) {
	to := "/front"
	if p := s.sessions.GetString(r.Context(), sessionProfile); p != "" {
		to = "/open/" + p
	}
	redirect(w, r, to)
}

// redirect leads to another page, for htmx as for plain requests.
func redirect(w http.ResponseWriter, r *http.Request, to string) {
	if r.Header.Get("HX-Request") != "" {
		w.Header().Set("HX-Redirect", to)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// errorWords puts an error into a sentence.
func errorWords(err error) string { return sentence(wording.Error(err)) }

// sentence makes a sentence of a clause.
func sentence(s string) string {
	if s == "" {
		return s
	}
	r := []rune(s)
	s = strings.ToUpper(string(r[0])) + string(r[1:])
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}

package web

import (
	"crypto/rand"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/core/generator"
)

// firstPages lead through setting up a vault that was just made. Each step can be left for later, and is on the day's
// page then.
type firstPages struct{ *Server }

func (s firstPages) frontRoutes(r routes) {
	r.post("/new/password", s.password)
	r.post("/words", s.words)
}

func (s firstPages) sessionRoutes(r routes) { r.post("/first/{step}", s.pass) }

func (s firstPages) routes(r routes) {
	r.get("/first/browser", s.browser)
}

// firstMark is where one is.
type firstMark struct {
	Step, Of int
	Name     string
	Steps    []string
}

var firstNames = []string{
	"Who you are", "Master password", "Recovery sheet", "This browser", "Old passwords", "The plan", "Your book",
}

// The places of two of them.
const (
	stepFiles = 5
	stepPlan  = 6
)

// markOf is the mark of a step, from 1.
func markOf(step int) firstMark {
	return firstMark{step, len(firstNames), firstNames[step-1], firstNames}
}

// firstPath is where a step is done.
func firstPath(step app.FirstStep) string {
	switch step {
	case app.FirstSheet:
		return "/sheet"
	case app.FirstBrowser:
		return "/first/browser"
	case app.FirstFiles:
		return "/import"
	default:
		return "/logins"
	}
}

// password asks for the master password of a new vault, once it is known whose it is.
func (s firstPages) password(w http.ResponseWriter, r *http.Request) error {
	d := decode[newData](r)
	page := s.view(r, "Create a vault", "", d)
	if page.bad(app.CheckEmail(d.Email)) {
		s.render(w, r, http.StatusUnprocessableEntity, "new", page)
		return nil
	}
	s.render(w, r, http.StatusOK, "new-master", page)
	return nil
}

// pass goes on from a step.
func (s firstPages) pass(w http.ResponseWriter, r *http.Request) error {
	step := app.FirstStep(chi.URLParam(r, "step"))
	next, err := vaultOf(r).Account.PassStep(r.Context(), step, r.FormValue("left") != "")
	if err != nil {
		return err
	}
	if step == app.FirstFiles && next == app.FirstDone {
		s.sessions.Put(r.Context(), sessionSaid, "Your vault is set up. What was left for later stands here.")
	}
	redirect(w, r, firstPath(next))
	return nil
}

type firstBrowserData struct {
	devicesData
	Firefox bool // the visitor's own browser
}

func (s firstPages) browser(w http.ResponseWriter, r *http.Request) error {
	d, err := devicesPages(s).devicesData(r)
	if err != nil {
		return err
	}
	if fragment(r, "first-browser") && r.FormValue("seen") == d.Seen {
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	name := "first-browser"
	if fragment(r, "first-browser") {
		name = "first-browser-state"
	}
	data := firstBrowserData{d, strings.Contains(r.UserAgent(), "Firefox/")}
	s.render(w, r, http.StatusOK, name, s.view(r, "This browser", "", data))
	return nil
}

// waitingBrowser is a browser that asks to be connected, and where.
type waitingBrowser struct {
	View    View
	Browser app.Browser
	First   bool // while the vault is being set up
}

// masterWords is how many words are proposed as a master password: 64 bits of them.
const masterWords = 5

// words answers with the fields of a new master password, filled with words that were drawn.
func (s firstPages) words(w http.ResponseWriter, r *http.Request) error {
	p, err := generator.Passphrase(rand.Reader, masterWords, " ")
	if err != nil {
		return err
	}
	view := s.view(r, "", "", nil)
	view.Made = p
	if r.FormValue("second") != "" {
		view.NewName = secondName
	}
	s.render(w, r, http.StatusOK, "new-password", view)
	return nil
}

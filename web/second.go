package web

import (
	"net/http"

	"redlocket/app"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// secondPages set up the second passphrase, and what it leaves out. Under that one they look as if there were none.
type secondPages struct{ *Server }

func (s secondPages) routes(r routes) {
	r.get("/second", s.page)
	r.post("/second", s.set)
	r.post("/second/end", s.end)
	r.post("/second/leave-out", s.leaveOut)
	r.post("/second/show", s.showAgain)
}

const secondName = "Second passphrase"

// secondData is what is left out.
type secondData struct {
	On      bool // the master password that opened the vault has something left out, or could have
	Items   []vault.Item
	Percent int // of the room
	Code    string
}

func (s secondPages) page(w http.ResponseWriter, r *http.Request) error { return s.show(w, r, nil) }

func (s secondPages) show(w http.ResponseWriter, r *http.Request, failed error) error {
	v := vaultOf(r)
	items, used, err := v.Cover.Room()
	if err != nil {
		return err
	}
	page := s.view(r, "A second passphrase", "settings", secondData{
		On: v.Cover.On(), Items: items, Percent: int(100*used + 0.5), Code: r.PostFormValue("code"),
	})
	page.NewName = secondName
	status := http.StatusOK
	if failed != nil {
		status = http.StatusUnprocessableEntity
		if !page.bad(failed) {
			return failed
		}
	}
	s.render(w, r, status, "second", page)
	return nil
}

func (s secondPages) set(w http.ResponseWriter, r *http.Request) error {
	of := func(name string) secret.Text { return secret.New(r.FormValue(name)) }
	err := vaultOf(r).Second.Set(r.Context(), app.Second{
		Master: of("master-password"), Code: r.FormValue("code"), Password: of("password"), Repeat: of("repeat"),
	})
	if err != nil {
		return s.show(w, r, err)
	}
	return s.said(w, r, "The second passphrase opens the vault from now on.")
}

func (s secondPages) end(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Second.End(r.Context(), secret.New(r.FormValue("end-master"))); err != nil {
		return s.show(w, r, err)
	}
	return s.said(w, r, "The second passphrase opens nothing any more.")
}

func (s secondPages) leaveOut(w http.ResponseWriter, r *http.Request) error {
	if _, err := vaultOf(r).Second.LeaveOut(r.Context(), r.FormValue("id")); err != nil {
		return err
	}
	return s.said(w, r, "The second passphrase doesn’t show it any more.")
}

func (s secondPages) showAgain(w http.ResponseWriter, r *http.Request) error {
	if _, err := vaultOf(r).Second.Show(r.Context(), r.FormValue("id")); err != nil {
		return err
	}
	return s.said(w, r, "The second passphrase shows it like everything else.")
}

// said goes back to the page with what was done.
func (s secondPages) said(w http.ResponseWriter, r *http.Request, words string) error {
	s.sessions.Put(r.Context(), sessionSaid, words)
	redirect(w, r, "/second")
	return nil
}

package web

import (
	"errors"
	"net/http"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
)

// masterPages replace a master password that is forgotten, by the computer's own authenticator and a wait.
type masterPages struct{ *Server }

func (s masterPages) routes(r routes) {
	r.get("/master", s.page)
	r.post("/master", s.ask)
	r.post("/master/take", s.take)
	r.post("/master/stop", s.stop)
}

// masterData is what waits.
type masterData struct {
	app.NewMaster
	Minutes int // until then
}

func (s masterPages) data(r *http.Request) (d masterData, err error) {
	d.NewMaster, err = vaultOf(r).ForgottenMaster.State(r.Context())
	d.Minutes = int(d.Left.Minutes()) + 1
	return d, err
}

func (s masterPages) page(w http.ResponseWriter, r *http.Request) error {
	return s.show(w, r, nil)
}

func (s masterPages) show(w http.ResponseWriter, r *http.Request, failed error) error {
	page := s.view(r, "A forgotten master password", "settings", nil)
	d, err := s.data(r)
	if err != nil {
		page.Bad["late"] = errorWords(err)
	}
	status := page.refused(failed, "late")
	page.Data = d
	s.render(w, r, status, "master", page)
	return nil
}

// byPlatform does something with an authenticator's answer.
func (s masterPages) byPlatform(
	w http.ResponseWriter, r *http.Request, do func(id []byte, prf [keys.PRFSize]byte) error,
) error {
	v := vaultOf(r)
	id, _, prf, err := platformPages(s).answered(r, v.Profile().ID, v.Profile().Unlocks)
	if err == nil {
		err = do(id, prf)
	}
	if errors.Is(err, errPlatformAnswer) || errors.Is(err, app.ErrPlatform) {
		err = records.BadInput("late", err)
	}
	if err != nil {
		return s.show(w, r, err)
	}
	redirect(w, r, "/master")
	return nil
}

func (s masterPages) ask(w http.ResponseWriter, r *http.Request) error {
	of := func(name string) secret.Text { return secret.New(r.FormValue(name)) }
	return s.byPlatform(w, r, func(id []byte, prf [keys.PRFSize]byte) error {
		return vaultOf(r).ForgottenMaster.Ask(r.Context(), id, prf, of("password"), of("repeat"))
	})
}

func (s masterPages) take(w http.ResponseWriter, r *http.Request) error {
	return s.byPlatform(w, r, func(id []byte, prf [keys.PRFSize]byte) error {
		err := vaultOf(r).ForgottenMaster.Take(r.Context(), id, prf)
		if err == nil {
			s.sessions.Put(r.Context(), sessionSaid, "The new master password opens your vault from now on.")
		}
		return err
	})
}

func (s masterPages) stop(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).ForgottenMaster.Stop(r.Context()); err != nil {
		return s.show(w, r, err)
	}
	s.sessions.Put(r.Context(), sessionSaid, "Stopped: the master password stays as it is.")
	redirect(w, r, "/logins")
	return nil
}

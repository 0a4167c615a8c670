package web

import (
	"errors"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/app/helping"
	"redlocket/app/household"
	"redlocket/app/syncing"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/wire"
)

// handPages are the helping hand of an open vault: who helps its owner, and whom they help.
type handPages struct{ *Server }

func (s handPages) routes(r routes) {
	r.get("/hand", s.page)
	r.post("/hand", s.arrange)
	r.post("/hand/end", s.end)
	r.post("/hand/stop", s.stop)
	r.post("/hand/{id}/help", s.help)
	r.post("/hand/{id}/take-back", s.takeBack)
	r.post("/hand/{id}/drop", s.drop)
}

type handData struct {
	helping.Own
	Has    bool
	CanAsk []household.Person // who may be chosen
	Chosen []string           // their ids
	Chose  int                // of whom are needed
	NoCode bool               // the recovery code is known here still
	Code   string             // as it was typed
	Held   []helping.Held
	At     string // the entry that a form of the page was about
	Days   int    // that the help of one waits
}

// Chooses reports whether a person is chosen in the form.
func (d handData) Chooses(id string) bool { return slices.Contains(d.Chosen, id) }

// Due is when the vault can be opened by what was asked for; 0 while nobody helps.
func (d handData) Due() (ms int64) {
	for _, a := range d.Asked {
		if a.Helping >= d.Rule.Need && (ms == 0 || a.Due < ms) {
			ms = a.Due
		}
	}
	return ms
}

// Ready reports whether that is so by now.
func (d handData) Ready() bool { return d.Due() != 0 && d.Due() <= time.Now().UnixMilli() }

func (s handPages) data(r *http.Request) (d handData, err error) {
	v := vaultOf(r)
	if d.Own, d.Has, err = v.Helpers.Hand(); err != nil {
		return d, err
	}
	people, err := v.Household.People()
	if err != nil {
		return d, err
	}
	d.CanAsk = householdData{People: people}.Checked()
	if d.Held, err = v.Helping.Held(); err != nil {
		return d, err
	}
	d.Days = int(share.HelpWait.Hours() / 24)
	d.NoCode = v.Sheets.Waits(r.Context()) && !v.Sheets.Replaces(r.Context())
	d.Chosen, d.Code = r.Form["helper"], r.PostFormValue("code")
	if d.Chose, err = strconv.Atoi(r.FormValue("need")); err != nil || d.Chose < 1 {
		d.Chose = min(2, max(1, len(d.CanAsk)))
	}
	if len(d.Chosen) == 0 {
		for _, h := range d.Helpers {
			d.Chosen = append(d.Chosen, h.Peer)
		}
		if len(d.Helpers) > 0 {
			d.Chose = d.Rule.Need
		}
	}
	return d, nil
}

func (s handPages) page(w http.ResponseWriter, r *http.Request) error { return s.show(w, r, "", nil) }

// show shows the page with what came of an act.
func (s handPages) show(w http.ResponseWriter, r *http.Request, at string, failed error) error {
	if err := r.ParseForm(); err != nil {
		return err
	}
	d, err := s.data(r)
	if err != nil {
		return err
	}
	d.At = at
	page := s.view(r, "A helping hand", "household", d)
	status := page.refused(failed, "form")
	s.render(w, r, status, "hand", page)
	return nil
}

func (s handPages) after(w http.ResponseWriter, r *http.Request, at string, err error, said string) error {
	if err != nil {
		return s.show(w, r, at, err)
	}
	if said != "" {
		s.sessions.Put(r.Context(), sessionSaid, said)
	}
	redirect(w, r, "/hand")
	return nil
}

func (s handPages) arrange(w http.ResponseWriter, r *http.Request) error {
	if err := r.ParseForm(); err != nil {
		return err
	}
	need, _ := strconv.Atoi(r.FormValue("need")) // 0 is refused
	err := vaultOf(r).Helpers.Arrange(r.Context(), app.Helpers{
		Peers: r.Form["helper"], Need: need, Code: r.FormValue("code"),
		Password: secret.New(r.FormValue("hand-password")),
	})
	return s.after(w, r, "", err, "Each of them holds a share from the next time that their Red Locket is open.")
}

func (s handPages) end(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).Helpers.End(r.Context(), secret.New(r.FormValue("hand-password")))
	return s.after(w, r, "end", err, "Nobody can help any more: what they hold opens nothing.")
}

func (s handPages) stop(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).Helping.Stop(r.Context())
	return s.after(w, r, "", err, "Stopped: whoever asked gets nothing. Tell your helpers that it wasn’t you.")
}

func (s handPages) help(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	err := reauthenticate(r, "help-password")
	var due time.Time
	if err == nil {
		due, err = vaultOf(r).Helping.Help(r.Context(), id, r.FormValue("words"))
	}
	said := "You have helped. They go on at their own computer."
	if time.Until(due) > time.Minute {
		set := vaultOf(r).Settings.Get()
		said = "Your share is handed over on " + inWords(due, set.Language) + ", unless it is stopped until then. " +
			"Your Red Locket has to be open on that day, or after it."
	}
	return s.after(w, r, id, err, said)
}

func (s handPages) takeBack(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	return s.after(w, r, id, vaultOf(r).Helping.TakeBack(r.Context(), id), "Your share stays here.")
}

func (s handPages) drop(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	err := reauthenticate(r, "drop-password")
	if err == nil {
		err = vaultOf(r).Helping.Drop(r.Context(), id)
	}
	return s.after(w, r, id, err, "Your share is gone. Tell them, so that they can choose somebody else.")
}

// ofHands is what waits of helping hands, on the day's page.
func ofHands(v *app.Vault) (out []waiting) {
	if n := len(v.Helping.Asked()); n > 0 {
		out = append(out, waiting{
			"Somebody asks your helpers to open this vault", "if it isn’t you, stop it", "/hand", false,
		})
	}
	list, err := v.Helping.Held()
	if err != nil {
		return out
	}
	for _, h := range list {
		if h.Asks > 0 && h.Peer != "" {
			out = append(out, waiting{
				"Somebody asks for your help in the name of " + h.Name,
				"call them: they read you six words", "/hand", false,
			})
		}
	}
	return out
}

// seekData is what a computer without the vault asks for.
type seekData struct {
	app.Seeking
	Help                     wire.HelpState
	Email, Cloud, DeviceName string
	Away                     bool // the cloud is
	Over                     bool
	Ready                    bool
}

// From is the day from which it can be opened.
func (d seekData) From() string { return inWords(time.UnixMilli(d.Help.Due), "") }

func (s frontPages) seekRoutes(r routes) {
	r.get("/help", s.seekPage)
	r.get("/help/{id}", s.seekPage)
	r.post("/help", s.seek)
	r.post("/help/words", s.seekWords)
	r.post("/help/take", s.takeHelp)
	r.post("/help/end", s.endSeeking)
}

func (s frontPages) seekPage(w http.ResponseWriter, r *http.Request) error {
	return s.showSeeking(w, r, nil)
}

// showSeeking shows how far it is; the page asks again by itself.
func (s frontPages) showSeeking(w http.ResponseWriter, r *http.Request, failed error) error {
	d := seekData{Email: r.FormValue("email"), Cloud: r.FormValue("cloud"), DeviceName: r.FormValue("device")}
	if d.Cloud == "" {
		d.Cloud = s.cfg.Cloud
	}
	seeking, ok, err := s.device.Seeking(r.Context())
	if err != nil {
		return err
	}
	page := s.view(r, "Ask your helpers", "", nil)
	status := page.refused(failed, "form")
	name := "seek"
	if chi.URLParam(r, "id") != seeking.ID { // the words are for who asked: the address is known to them alone
		seeking.Words = nil
	}
	if ok {
		name, d.Seeking = "seeking", seeking
		d.Help, err = s.device.HelpState(r.Context())
		d.Over = err == nil && d.Help.Stopped || err != nil && errors.Is(err, syncing.ErrOver)
		d.Away = err != nil && !d.Over
		d.Ready = len(d.Help.Sealed) > 0
	}
	page.Data = d
	if ok && fragment(r, "seeking-state") {
		name = "seeking-state"
		if d.Over { // the words around it are of no use any more
			w.Header().Set("HX-Refresh", "true")
		}
	}
	s.render(w, r, status, name, page)
	return nil
}

func (s frontPages) seek(w http.ResponseWriter, r *http.Request) error {
	typed := decode[passwordsForm](r)
	asked, err := s.device.AskHelp(r.Context(), app.AskHelp{
		Email: r.FormValue("email"), Cloud: r.FormValue("cloud"), DeviceName: r.FormValue("device"),
		Password: typed.Password, Repeat: typed.Repeat,
	})
	if err != nil {
		return s.showSeeking(w, r, err)
	}
	redirect(w, r, "/help/"+asked.ID)
	return nil
}

func (s frontPages) seekWords(w http.ResponseWriter, r *http.Request) error {
	id, err := s.device.ReadWords(r.Context(), secret.New(r.FormValue("password")))
	if err != nil {
		return s.showSeeking(w, r, err)
	}
	redirect(w, r, "/help/"+id)
	return nil
}

func (s frontPages) takeHelp(w http.ResponseWriter, r *http.Request) error {
	_ = http.NewResponseController(w).SetWriteDeadline(time.Time{}) // a slow line may take its time
	v, err := s.device.TakeHelp(r.Context(), secret.New(r.FormValue("password")))
	if err != nil {
		return s.showSeeking(w, r, err)
	}
	return s.enter(w, r, v, "/logins")
}

func (s frontPages) endSeeking(w http.ResponseWriter, r *http.Request) error {
	if err := s.device.EndSeeking(r.Context()); err != nil {
		return err
	}
	to := "/front"
	if r.FormValue("again") != "" {
		to = "/help"
	}
	redirect(w, r, to)
	return nil
}

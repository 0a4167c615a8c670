package web

import (
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/goodsign/monday"

	"redlocket/app"
	"redlocket/app/reauth"
	"redlocket/core/directory"
	"redlocket/core/secret"
)

// settingsPages are the settings of this device and account.
type settingsPages struct{ *Server }

func (s settingsPages) routes(r routes) {
	r.get("/settings", s.settings)
	r.post("/settings", s.set)
	r.post("/settings/computer", s.setComputer)
	r.post("/settings/master", s.changeMaster)
	r.post("/settings/sites", s.addSites)
	r.post("/settings/sites/remove", s.removeSite)
}

// sessionRoutes are what a page of an open vault asks for by itself.
func (s settingsPages) sessionRoutes(r routes) {
	r.Get("/events", s.events) // a stream: there is no later moment for an error
	r.post("/again", s.confirm)
	r.post("/left", s.left)
	r.post("/here", s.here)
}

// here is a use of the vault, by being a request.
func (s settingsPages) here(w http.ResponseWriter, _ *http.Request) error {
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// choice is one line of a drop-down.
type choice struct {
	Value string
	Words string
}

func span(d time.Duration, words string) choice {
	return choice{strconv.Itoa(int(d / time.Second)), words}
}

var (
	lockChoices = []choice{
		span(
			app.AtOnce,
			"at once, when its pages are left",
		), span(10*time.Second, "10 seconds"), span(time.Minute, "1 minute"), span(5*time.Minute, "5 minutes"),
		span(
			15*time.Minute,
			"15 minutes",
		), span(time.Hour, "1 hour"), span(8*time.Hour, "8 hours"), span(24*time.Hour, "1 day"), span(7*24*time.Hour,
			"1 week"), span(14*24*time.Hour, "2 weeks"),
	}
	clipboardChoices = []choice{
		span(
			10*time.Second,
			"10 seconds",
		), span(30*time.Second, "30 seconds"), span(time.Minute, "1 minute"), span(5*time.Minute, "5 minutes"),
		span(0, "never"),
	}
	askChoices = []choice{
		span(
			0,
			"each time",
		), span(time.Minute, "after 1 minute"), span(5*time.Minute, "after 5 minutes"), span(15*time.Minute,
			"after 15 minutes"), span(time.Hour, "after 1 hour"),
	}
	themeChoices   = []choice{{"", "like the computer"}, {"light", "light"}, {"dark", "dark"}}
	sizeChoices    = []choice{{"", "normal"}, {"large", "large"}, {"larger", "larger"}}
	densityChoices = []choice{{"close", "close"}, {"", "normal"}, {"wide", "wide"}}
)

type settingsData struct {
	app.Settings
	Lock, Clip, Ask, Themes, Sizes, Densities, Tongues []choice
	Sites                                              []directory.Site
	Shipped                                            int
	Done                                               string
}

// called is what a choice is called.
func called(list []choice, value string) string {
	for _, c := range list {
		if c.Value == value {
			return c.Words
		}
	}
	return value
}

// LockState says in a line when it locks.
func (d settingsData) LockState() string {
	out := "locks after " + called(d.Lock, d.Seconds(d.LockAfter))
	if d.LockAfter == app.AtOnce {
		out = "locks when its pages are left"
	}
	var when []string
	if d.LockOnSleep {
		when = append(when, "when the computer sleeps")
	}
	if d.LockOnScreen {
		when = append(when, "when the screen is locked")
	}
	if d.LockOnClose {
		when = append(when, "when its last page is closed")
	}
	if n := len(when) - 1; n > 0 {
		when = []string{strings.Join(when[:n], ", ") + " and " + when[n]}
	}
	if len(when) > 0 {
		out += ", " + when[0]
	}
	if d.SignOut {
		out += "; signs out of sites then"
	}
	return out
}

// SharedState says in a line what somebody at the computer could do.
func (d settingsData) SharedState() string {
	out := "passwords are shown without asking again"
	if d.AskToShow {
		out = "asks " + called(d.Ask, d.Seconds(d.AskFor)) + " before a password is shown"
	}
	if d.Clipboard == 0 {
		return out + "; what was copied stays"
	}
	return out + "; what was copied goes after " + called(d.Clip, d.Seconds(d.Clipboard))
}

// LookState says in a line how it looks.
func (d settingsData) LookState() string {
	return called(d.Themes, d.Theme) + ", " + called(d.Sizes, d.TextSize) + " text, " +
		called(d.Densities, d.Density) + " lines"
}

// LanguageState is the language that is set.
func (d settingsData) LanguageState() string { return called(d.Tongues, d.Language) }

// Seconds writes a time as its choice does.
func (settingsData) Seconds(d time.Duration) string { return strconv.Itoa(int(d / time.Second)) }

func (s settingsPages) showSettings(w http.ResponseWriter, r *http.Request, err error, done string) error {
	page := s.view(r, "Settings", "settings", nil)
	if err != nil && !page.bad(err) {
		page.Bad["form"] = errorWords(err)
	}
	v := vaultOf(r)
	d := settingsData{
		Settings:  v.Settings.Get(),
		Lock:      lockChoices,
		Clip:      clipboardChoices,
		Ask:       askChoices,
		Themes:    themeChoices,
		Sizes:     sizeChoices,
		Densities: densityChoices,
		Done:      done,
		Shipped:   len(directory.Shipped()),
	}
	for _, l := range app.Languages {
		d.Tongues = append(d.Tongues, choice{l.Tag, l.Name})
	}
	own, err2 := v.Sites.Own()
	if err2 != nil {
		return err2
	}
	d.Sites = own
	page.Data = d
	status := http.StatusOK
	if err != nil {
		status = http.StatusUnprocessableEntity
	}
	s.render(w, r, status, "settings", page)
	return nil
}

func (s settingsPages) settings(w http.ResponseWriter, r *http.Request) error {
	done := map[string]string{
		"set":               "Saved.",
		app.PrivateComputer: "Set as for a computer of your own.",
		app.SharedComputer: "Set as for a shared computer. Each connected browser asks once, in Red Locket’s window, " +
			"whether it may sign out of sites.",
		"sites":  "The directory was changed.",
		"master": "The master password is changed. Your other devices ask for the new one from their next opening on.",
	}
	return s.showSettings(w, r, nil, done[r.FormValue("done")])
}

// settingsForm is the form of the settings page.
type settingsForm struct {
	LockAfter    time.Duration `form:"lock_after"`
	LockOnSleep  bool          `form:"lock_on_sleep"`
	LockOnScreen bool          `form:"lock_on_screen"`
	LockOnClose  bool          `form:"lock_on_close"`
	SignOut      bool          `form:"sign_out"`
	Clipboard    time.Duration `form:"clipboard"`
	Theme        string        `form:"theme"`
	TextSize     string        `form:"text_size"`
	Density      string        `form:"density"`
	AskToShow    bool          `form:"ask_to_show"`
	AskFor       time.Duration `form:"ask_for"`
	Language     string        `form:"language"`
}

func (s settingsPages) set(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).Settings.Change(r.Context(), app.Settings(decode[settingsForm](r)))
	if errors.Is(err, reauth.ErrNeeded) {
		return err
	}
	if err != nil {
		return s.showSettings(w, r, err, "")
	}
	redirect(w, r, "/settings?done=set")
	return nil
}

// setComputer sets at once what goes with a private or with a shared computer.
func (s settingsPages) setComputer(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	to, err := v.Settings.Get().For(r.FormValue("computer"))
	if err == nil {
		err = v.Settings.Change(r.Context(), to)
	}
	if err != nil {
		return s.showSettings(w, r, err, "")
	}
	redirect(w, r, "/settings?done="+to.Computer())
	return nil
}

func (s settingsPages) addSites(w http.ResponseWriter, r *http.Request) error {
	b := []byte(r.FormValue("list"))
	if f, _, err := r.FormFile("file"); err == nil {
		defer f.Close()
		if b, err = io.ReadAll(io.LimitReader(f, directory.MaxBytes+1)); err != nil {
			return s.showSettings(w, r, err, "")
		}
	}
	if _, err := vaultOf(r).Sites.Add(r.Context(), b); err != nil {
		return s.showSettings(w, r, err, "")
	}
	redirect(w, r, "/settings?done=sites")
	return nil
}

func (s settingsPages) removeSite(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Sites.Remove(r.Context(), r.FormValue("domain")); err != nil {
		return s.showSettings(w, r, err, "")
	}
	redirect(w, r, "/settings?done=sites")
	return nil
}

// changeMaster replaces the master password.
func (s settingsPages) changeMaster(w http.ResponseWriter, r *http.Request) error {
	of := func(name string) secret.Text { return secret.New(r.FormValue(name)) }
	err := vaultOf(r).Account.ChangeMaster(r.Context(), of("present"), of("password"), of("repeat"))
	if err != nil {
		return s.showSettings(w, r, err, "")
	}
	redirect(w, r, "/settings?done=master")
	return nil
}

// confirm takes the master password that an act asked for again.
func (s settingsPages) confirm(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).Reauthenticate(secret.New(r.FormValue("password")))
	var wrong *app.WrongPassword
	switch {
	case errors.As(err, &wrong):
		w.WriteHeader(http.StatusForbidden)
		_, _ = io.WriteString(w, errorWords(wrong))
	case err != nil:
		return err
	case r.FormValue("back") != "":
		redirect(w, r, back(r))
	default:
		w.WriteHeader(http.StatusNoContent)
	}
	return nil
}

// day writes a moment's day in the language that is set.
func (s *Server) day(r *http.Request, ms int64) string {
	v := View{}
	if o, ok := s.opened(r); ok {
		v.Set = o.Settings.Get()
	}
	return v.Date(ms)
}

// Date writes a moment's day in the language that is set.
func (v View) Date(ms int64) string {
	return inWords(time.UnixMilli(ms), v.Set.Language)
}

// Day writes a date as it is kept (2006-01-02 or 2006-01) in words.
func (v View) Day(s string) string {
	if t, err := time.Parse(time.DateOnly, s); err == nil {
		return inWords(t, v.Set.Language)
	}
	if t, err := time.Parse("2006-01", s); err == nil {
		return monday.Format(t, "January 2006", locale(v.Set.Language))
	}
	return s
}

// Today is the day in words.
func (v View) Today() string { return inWords(time.Now(), v.Set.Language) }

// Clock writes the time of day of a moment.
func (v View) Clock(ms int64) string { return time.UnixMilli(ms).Format("15:04") }

func inWords(t time.Time, lang string) string {
	layout := "2 January 2006"
	switch {
	case lang == "en-US":
		layout = "January 2, 2006"
	case len(lang) > 1 && (lang[:2] == "de" || lang[:2] == "cs" || lang[:2] == "da" || lang[:2] == "nb" ||
		lang[:2] == "fi"):
		layout = "2. January 2006"
	case len(lang) > 1 && (lang[:2] == "es" || lang[:2] == "pt"):
		layout = "2 de January de 2006"
	}
	return monday.Format(t, layout, locale(lang))
}

// locale is the tag as package monday spells it.
func locale(lang string) monday.Locale {
	for _, l := range monday.ListLocales() {
		if string(l) == tagAsLocale(lang) {
			return l
		}
	}
	return monday.LocaleEnGB
}

func tagAsLocale(tag string) string {
	b := []byte(tag)
	for i := range b {
		if b[i] == '-' {
			b[i] = '_'
		}
	}
	return string(b)
}

// left notes that a page was turned away from.
func (s settingsPages) left(w http.ResponseWriter, r *http.Request) error {
	vaultOf(r).PageLeft()
	w.WriteHeader(http.StatusNoContent)
	return nil
}

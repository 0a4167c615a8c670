package web

import (
	"cmp"
	"errors"
	"fmt"
	"html/template"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/app/reauth"
	"redlocket/app/syncing"
	"redlocket/core/secret"
	"redlocket/core/strength"
)

// frontPages are what is seen before a vault is open.
type frontPages struct{ *Server }

// frontRoutes are the pages in front of a vault.
func (s frontPages) routes(r routes) {
	r.get("/", s.home)
	r.get("/front", s.front)
	r.get("/origin-key", s.originKey)
	r.get("/open/{profile}", s.openPage)
	r.post("/open/{profile}", s.open)
	r.get("/forgot/{profile}", s.forgotPage)
	r.post("/forgot/{profile}", s.forgot)
	r.get("/recover", s.recoverPage)
	r.post("/recover", s.recover)
	r.get("/new", s.newPage)
	r.post("/new", s.create)
	r.get("/join", s.joinPage)
	r.post("/join", s.join)
	r.post("/arrive", s.arrive)
	r.get("/arrive/{id}", s.arrival)
	r.post("/strength", s.strength)
	r.post("/lock", s.lock)
	r.get("/extension/{file}", s.extension)
}

func (s frontPages) sheetRoutes(r routes) {
	r.get("/sheet", s.sheet)
	r.post("/sheet", s.checkSheet)
	r.post("/sheet/new", s.newSheet)
	r.get("/sheet/try", s.tryPage)
	r.post("/sheet/try", s.trySheet)
}

func (s frontPages) home(w http.ResponseWriter, r *http.Request) error {
	if _, ok := s.opened(r); ok {
		redirect(w, r, "/logins")
		return nil
	}
	s.toLock(w, r)
	return nil
}

// front leads to the profile that was used last, or to setting up the first.
func (s frontPages) front(w http.ResponseWriter, r *http.Request) error {
	cards, err := s.device.Profiles(r.Context())
	switch {
	case err != nil:
		return err
	case len(cards) == 0:
		s.render(w, r, http.StatusOK, "welcome", s.view(r, "Welcome", "", nil))
	case len(cards) == 1:
		redirect(w, r, "/open/"+cards[0].ID)
	default:
		s.render(w, r, http.StatusOK, "front", s.view(r, "Whose vault?", "", cards))
	}
	return nil
}

type openData struct {
	Profile app.Profile
	Others  []app.Profile
	Wrong   string
	Wait    int // seconds
	// The computer's own authenticator opens it; Due says that the master password has to be typed once before.
	Platform, Due bool
	AtOnce        bool // asks the authenticator without another press
	Code          string
}

func (s frontPages) openData(r *http.Request) (d openData, err error) {
	cards, err := s.device.Profiles(r.Context())
	if err != nil {
		return d, err
	}
	i := slices.IndexFunc(cards, func(c app.Profile) bool { return c.ID == chi.URLParam(r, "profile") })
	if i < 0 {
		return d, app.ErrNoProfile
	}
	d.Profile = cards[i]
	d.Others = slices.Delete(cards, i, i+1)
	if d.Profile.Broken != nil {
		return d, nil
	}
	list, err := s.device.PlatformUnlocks(r.Context(), d.Profile.ID)
	d.Platform, d.Due = len(list) > 0, errors.Is(err, app.ErrMasterDue)
	// By a press in the extension's window, which the browser calls nobody's: another site's link doesn't start it.
	d.AtOnce = r.URL.Query().Has("at-once") && r.Header.Get("Sec-Fetch-Site") == "none"
	if err != nil && !d.Due {
		return d, err
	}
	slices.SortFunc(d.Others, func(a, b app.Profile) int { return cmp.Compare(a.Name, b.Name) })
	return d, nil
}

func (s frontPages) openPage(w http.ResponseWriter, r *http.Request) error {
	if v, ok := s.opened(r); ok && v.Profile().ID == chi.URLParam(r, "profile") {
		redirect(w, r, "/logins")
		return nil
	}
	d, err := s.openData(r)
	if errors.Is(err, app.ErrNoProfile) { // it was taken off this computer
		redirect(w, r, "/front")
		return nil
	}
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "open", s.view(r, d.Profile.Name, "", d))
	return nil
}

func (s frontPages) open(w http.ResponseWriter, r *http.Request) error {
	v, err := s.device.Unlock(r.Context(), chi.URLParam(r, "profile"), secret.New(r.FormValue("password")))
	var wrong *app.WrongPassword
	switch {
	case errors.As(err, &wrong):
		d, err := s.openData(r)
		if err != nil {
			return err
		}
		d.Wrong, d.Wait = errorWords(wrong), int(wrong.Wait.Seconds()+.99)
		s.render(w, r, http.StatusForbidden, "open", s.view(r, d.Profile.Name, "", d))
	case err != nil:
		return err
	default:
		return s.enter(w, r, v, "/logins")
	}
	return nil
}

func (s frontPages) lock(w http.ResponseWriter, r *http.Request) error {
	if v, ok := s.opened(r); ok {
		v.Lock()
	}
	s.toLock(w, r)
	return nil
}

func (s frontPages) forgotPage(w http.ResponseWriter, r *http.Request) error {
	d, err := s.openData(r)
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "forgot", s.view(r, "A new master password", "", d))
	return nil
}

func (s frontPages) forgot(w http.ResponseWriter, r *http.Request) error {
	d, err := s.openData(r)
	if err != nil {
		return err
	}
	v, err := s.device.Recover(
		r.Context(),
		d.Profile.ID,
		r.FormValue("code"),
		secret.New(r.FormValue("password")),
		secret.New(r.FormValue("repeat")),
	)
	if err == nil {
		return s.enter(w, r, v, "/logins")
	}
	d.Code = r.PostFormValue("code")
	page := s.view(r, "A new master password", "", d)
	var wrong *app.WrongPassword
	if errors.As(err, &wrong) {
		page.Bad["code"] = errorWords(wrong)
	} else if !page.bad(err) {
		return err
	}
	s.render(w, r, http.StatusUnprocessableEntity, "forgot", page)
	return nil
}

// newData is the form for a new vault, but for the passwords.
type newData struct {
	Name       string `form:"name"`
	Email      string `form:"email"`
	Cloud      string `form:"cloud"`
	DeviceName string `form:"device"`
}

// passwordsForm is a new master password, typed twice.
type passwordsForm struct {
	Password secret.Text `form:"password"`
	Repeat   secret.Text `form:"repeat"`
}

func (s frontPages) newPage(w http.ResponseWriter, r *http.Request) error {
	s.render(w, r, http.StatusOK, "new", s.view(r, "Create a vault", "", newData{Cloud: s.cfg.Cloud}))
	return nil
}

func (s frontPages) create(w http.ResponseWriter, r *http.Request) error {
	d, typed := decode[newData](r), decode[passwordsForm](r)
	d.Cloud = strings.TrimSpace(d.Cloud)
	v, err := s.device.Create(r.Context(), app.NewVault{
		Name: d.Name, Email: d.Email, Cloud: d.Cloud, DeviceName: d.DeviceName,
		Password: typed.Password, Repeat: typed.Repeat, FirstDay: true,
	})
	if err == nil && v.Account.Wanted(r.Context()).Cloud != "" {
		return s.enter(w, r, v, "/account")
	}
	if err == nil {
		return s.enter(w, r, v, "/sheet")
	}
	page := s.view(r, "Create a vault", "", d)
	if !page.bad(err) {
		return err
	}
	name := "new"
	if page.Bad["password"] != "" || page.Bad["repeat"] != "" {
		name = "new-master"
	}
	s.render(w, r, http.StatusUnprocessableEntity, name, page)
	return nil
}

type strengthData struct {
	Verdict strength.Verdict
	Refused string
}

// strength judges a password as it is typed.
func (s frontPages) strength(w http.ResponseWriter, r *http.Request) error {
	p := secret.New(cmp.Or(r.FormValue("password"), r.FormValue("v_password")))
	context := []string{r.FormValue("email"), r.FormValue("name"), r.FormValue("v_username"), r.FormValue("title")}
	rate := strength.Leaked
	d := strengthData{}
	if r.FormValue("master") != "" {
		rate = strength.Stretched
		if err := strength.CheckMaster(p, context...); err != nil && !p.IsEmpty() {
			d.Refused = errorWords(err)
		}
	}
	d.Verdict = strength.Judge(p, rate, context...)
	s.render(w, r, http.StatusOK, "strength", s.view(r, "", "", d))
	return nil
}

type sheetData struct {
	app.Sheet
	CarriedQR, RecoveryQR template.HTML
	CarriedAsk            int // the group to type back, from 1
	RecoveryAsk           int
	Replaces              bool // the one before counts until this one is checked
	First                 bool // the vault was just made
	Later                 bool // there is a way back to the book
}

func (s frontPages) sheetData(r *http.Request) (d sheetData, err error) {
	if d.Sheet, err = vaultOf(r).Sheets.Sheet(r.Context()); err != nil {
		return d, err
	}
	d.Replaces = vaultOf(r).Sheets.Replaces(r.Context())
	d.Later = d.Replaces || vaultOf(r).Account.FirstDay(r.Context()).HasLeft(app.FirstSheet)
	d.First = !d.Replaces && vaultOf(r).Account.FirstDay(r.Context()).Now == app.FirstSheet
	if d.CarriedQR, err = qr(strings.Join(d.Carried, "")); err != nil {
		return d, err
	}
	if len(d.Recovery) > 0 {
		d.RecoveryQR, err = qr(strings.Join(d.Recovery, ""))
	}
	d.CarriedAsk, d.RecoveryAsk = 1+rand.IntN(len(d.Carried)), 1+rand.IntN(8)
	return d, err
}

func (s frontPages) sheet(w http.ResponseWriter, r *http.Request) error {
	if sheets := vaultOf(r).Sheets; !sheets.Waits(r.Context()) || sheets.Replaces(r.Context()) {
		if err := vaultOf(r).Guard.Require(reauth.Sheet); err != nil {
			return err
		}
	}
	d, err := s.sheetData(r)
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "sheet", s.view(r, "Recovery sheet", "", d))
	return nil
}

func (s frontPages) checkSheet(w http.ResponseWriter, r *http.Request) error {
	number := func(name string) int {
		n, _ := strconv.Atoi(r.FormValue(name)) // 0 is no group, and refused below
		return n
	}
	err := vaultOf(r).Sheets.Check(r.Context(), app.TypedSheet{
		CarriedGroup: number("carried_group"), Carried: r.FormValue("carried"),
		RecoveryGroup: number("recovery_group"), Recovery: r.FormValue("recovery"),
		Password: secret.New(r.FormValue("password")),
	})
	if err == nil {
		next, err := vaultOf(r).Account.PassStep(r.Context(), app.FirstSheet, false)
		if err != nil {
			return err
		}
		redirect(w, r, firstPath(next))
		return nil
	}
	d, err2 := s.sheetData(r)
	if err2 != nil {
		return err2
	}
	d.CarriedAsk, d.RecoveryAsk = max(1, min(8, number("carried_group"))), max(1, min(8, number("recovery_group")))
	page := s.view(r, "Recovery sheet", "", d)
	if !page.bad(err) {
		return err
	}
	s.render(w, r, http.StatusUnprocessableEntity, "sheet", page)
	return nil
}

// tryData is which groups of the carried half are asked for.
type tryData struct{ First, Second int }

func (s frontPages) tryPage(w http.ResponseWriter, r *http.Request) error {
	const groups = 8
	d := tryData{First: 1 + rand.IntN(groups), Second: 1 + rand.IntN(groups-1)}
	if d.Second >= d.First {
		d.Second++
	}
	s.render(w, r, http.StatusOK, "sheet-try", s.view(r, "Try the recovery sheet", "", d))
	return nil
}

func (s frontPages) trySheet(w http.ResponseWriter, r *http.Request) error {
	typed := func(name string) app.Group {
		n, _ := strconv.Atoi(r.FormValue(name + "_group")) // 0 is no group, and refused
		return app.Group{Number: n, Text: r.FormValue(name)}
	}
	first, second := typed("first"), typed("second")
	err := vaultOf(r).Sheets.Try(r.Context(), first, second)
	if err == nil {
		redirect(w, r, "/logins")
		return nil
	}
	page := s.view(r, "Try the recovery sheet", "", tryData{first.Number, second.Number})
	if !page.bad(err) {
		return err
	}
	s.render(w, r, http.StatusUnprocessableEntity, "sheet-try", page)
	return nil
}

// newSheet has another sheet wait to be printed.
func (s frontPages) newSheet(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Guard.Require(reauth.Sheet); err != nil {
		return err
	}
	if err := vaultOf(r).Sheets.New(r.Context()); err != nil {
		return err
	}
	redirect(w, r, "/sheet")
	return nil
}

type joinData struct {
	Email, Cloud, Carried, DeviceName string
	Arrival                           *app.Introduction
	Ready                             bool
}

func (s frontPages) joinPage(w http.ResponseWriter, r *http.Request) error {
	s.render(w, r, http.StatusOK, "join", s.view(r, "Bring your vault here", "", joinData{Cloud: s.cfg.Cloud}))
	return nil
}

func (s frontPages) join(w http.ResponseWriter, r *http.Request) error {
	d := joinData{
		Email:      r.FormValue("email"),
		Cloud:      r.FormValue("cloud"),
		Carried:    r.FormValue("carried"),
		DeviceName: r.FormValue("device"),
	}
	arrival := r.FormValue("arrival")
	_ = http.NewResponseController(w).SetWriteDeadline(time.Time{}) // a slow line may take its time
	v, err := s.device.Join(r.Context(), app.Join{
		Email: d.Email, Cloud: d.Cloud, Carried: d.Carried, Introduction: arrival, DeviceName: d.DeviceName,
		Password: secret.New(r.FormValue("password")),
	})
	if err == nil {
		return s.enter(w, r, v, "/logins")
	}
	page := s.view(r, "Bring your vault here", "", d)
	if !page.bad(err) {
		page.Bad["form"] = errorWords(err)
	}
	name := "join"
	if arrival != "" {
		if a, e := s.device.IntroductionAnswered(r.Context(), arrival); e == nil {
			d.Arrival, d.Ready, page.Data, name = a, true, nil, "arrival"
			page.Data = d
		}
	}
	s.render(w, r, http.StatusUnprocessableEntity, name, page)
	return nil
}

// recoverData is the form for a vault that is brought here with the recovery sheet alone.
type recoverData struct {
	Email      string `form:"email"`
	Cloud      string `form:"cloud"`
	Code       string `form:"code"`
	DeviceName string `form:"device"`
}

func (s frontPages) recoverPage(w http.ResponseWriter, r *http.Request) error {
	d := recoverData{Cloud: s.cfg.Cloud, Email: r.FormValue("email")}
	s.render(w, r, http.StatusOK, "recover", s.view(r, "Bring your vault here", "", d))
	return nil
}

func (s frontPages) recover(w http.ResponseWriter, r *http.Request) error {
	d, typed := decode[recoverData](r), decode[passwordsForm](r)
	_ = http.NewResponseController(w).SetWriteDeadline(time.Time{}) // a slow line may take its time
	v, err := s.device.RecoverHere(r.Context(), app.Recovery{
		Email: d.Email, Cloud: d.Cloud, Code: d.Code, DeviceName: d.DeviceName,
		Password: typed.Password, Repeat: typed.Repeat,
	})
	if err == nil {
		return s.enter(w, r, v, "/logins")
	}
	page := s.view(r, "Bring your vault here", "", d)
	if !page.bad(err) {
		page.Bad["form"] = errorWords(err)
	}
	s.render(w, r, http.StatusUnprocessableEntity, "recover", page)
	return nil
}

func (s frontPages) arrive(w http.ResponseWriter, r *http.Request) error {
	a, err := s.device.BeginIntroduction(r.Context(), r.FormValue("email"), r.FormValue("cloud"))
	if err == nil {
		redirect(w, r, "/arrive/"+a.ID)
		return nil
	}
	page := s.view(r, "Bring your vault here", "", joinData{Email: r.FormValue("email"), Cloud: r.FormValue("cloud")})
	if !page.bad(err) {
		page.Bad["form"] = errorWords(err)
	}
	s.render(w, r, http.StatusUnprocessableEntity, "join", page)
	return nil
}

// arrival shows the words until the other device has answered, then asks for
// the master password. The page asks again by itself.
func (s frontPages) arrival(w http.ResponseWriter, r *http.Request) error {
	a, err := s.device.IntroductionAnswered(r.Context(), chi.URLParam(r, "id"))
	d := joinData{Arrival: a, Ready: err == nil}
	page := s.view(r, "Bring your vault here", "", d)
	switch {
	case a == nil:
		return problem(
			http.StatusGone,
			"This introduction is over",
			"It lasts ten minutes. Start again with “Bring your vault here”.",
		)
	case err != nil && !errors.Is(err, syncing.ErrNotReady):
		page.Bad["form"] = errorWords(err)
	}
	if fragment(r, "arrival") {
		if !d.Ready && page.Bad["form"] == "" {
			w.WriteHeader(http.StatusNoContent)
			return nil
		}
		s.render(w, r, http.StatusOK, "arrival-state", page)
		return nil
	}
	s.render(w, r, http.StatusOK, "arrival", page)
	return nil
}

func (s frontPages) extension(w http.ResponseWriter, r *http.Request) error {
	file := chi.URLParam(r, "file")
	browser := map[string]string{"redlocket-chromium.zip": "chromium", "redlocket-firefox.xpi": "firefox"}[file]
	if browser == "" || s.cfg.Extension == nil {
		return problem(
			http.StatusNotFound,
			"There is no such file",
			"The extension comes for Chromium and for Firefox.",
		)
	}
	b, err := s.cfg.Extension(browser)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", file))
	_, _ = w.Write(b)
	return nil
}

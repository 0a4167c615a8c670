package web

import (
	"errors"
	"net/http"
	"strings"

	"redlocket/app"
	"redlocket/app/syncing"
	"redlocket/core/wire"
)

// accountPages are about the account at a cloud: making one, and bringing it back.
type accountPages struct{ *Server }

// firstRoutes are those that come before the recovery sheet.
func (s accountPages) firstRoutes(r routes) {
	r.get("/account", s.wanted)
	r.post("/account", s.make)
}

func (s accountPages) routes(r routes) {
	r.post("/cloud", s.joinCloud)
	r.post("/cloud/move", s.moveCloud)
	r.post("/account/bring-back/code", s.askBringBack)
	r.post("/account/bring-back", s.bringBack)
	r.post("/account/name", s.rename)
	r.post("/account/take-off", s.takeOff)
}

// admissionData is what a form for a new account asks for besides.
type admissionData struct {
	Prefix                 string // of its fields' names in errors
	Email                  string
	Invitation             string
	AskInvitation, AskCode bool
}

// accountData is a form for a new account.
type accountData struct {
	Cloud     string
	Admission admissionData
	Sheet     bool // the recovery sheet comes next
}

func (s accountPages) account(r *http.Request) accountData {
	v := vaultOf(r)
	w := v.Account.Wanted(r.Context())
	return accountData{
		Cloud: w.Cloud, Sheet: v.Sheets.Waits(r.Context()),
		Admission: admissionData{
			Email: v.Profile().Email, Invitation: w.Invitation, AskInvitation: w.Invitation != "" || !w.Code,
			AskCode: w.Code,
		},
	}
}

// wanted shows what a cloud wants before it makes the account of a vault that is there already.
func (s accountPages) wanted(w http.ResponseWriter, r *http.Request) error {
	d := s.account(r)
	if d.Cloud == "" {
		redirect(w, r, "/devices")
		return nil
	}
	s.render(w, r, http.StatusOK, "account", s.view(r, "Your account at the cloud", "", d))
	return nil
}

// typedAdmission reads what was typed for a cloud. A press on "another code" asks for one.
func typedAdmission(r *http.Request) wire.Admission {
	by := wire.Admission{Invitation: strings.TrimSpace(r.FormValue("invitation")), Code: r.FormValue("code")}
	if r.FormValue("another") != "" {
		by.Code = ""
	}
	return by
}

// asked puts what a cloud asks for into a form, and reports whether that is all that is wrong. A code that was just
// mailed is no mistake.
func (d *admissionData) asked(v *View, by wire.Admission, err error) {
	d.Invitation = by.Invitation
	d.AskInvitation = d.AskInvitation || by.Invitation != "" || errors.Is(err, syncing.ErrInvitation)
	d.AskCode = errors.Is(err, app.ErrCodeSent) || errors.Is(err, syncing.ErrCode)
	if errors.Is(err, app.ErrCodeSent) || errors.Is(err, syncing.ErrInvitation) && by.Invitation == "" {
		delete(v.Bad, d.Prefix+"code")
		delete(v.Bad, d.Prefix+"invitation")
	}
}

func (s accountPages) make(w http.ResponseWriter, r *http.Request) error {
	d, by := s.account(r), typedAdmission(r)
	if d.Cloud == "" {
		redirect(w, r, "/devices")
		return nil
	}
	err := vaultOf(r).Account.JoinCloud(r.Context(), d.Cloud, by)
	if err == nil && d.Sheet {
		redirect(w, r, "/sheet")
		return nil
	}
	if err == nil {
		redirect(w, r, "/devices?done=cloud")
		return nil
	}
	page := s.view(r, "Your account at the cloud", "", nil)
	if !page.bad(err) {
		return err
	}
	d.Admission.asked(&page, by, err)
	page.Data = d
	s.render(w, r, http.StatusUnprocessableEntity, "account", page)
	return nil
}

func (s accountPages) joinCloud(w http.ResponseWriter, r *http.Request) error {
	by := typedAdmission(r)
	err := vaultOf(r).Account.JoinCloud(r.Context(), r.FormValue("cloud"), by)
	return s.afterAdmission(w, r, "", by, err)
}

func (s accountPages) moveCloud(w http.ResponseWriter, r *http.Request) error {
	by := typedAdmission(r)
	err := vaultOf(r).Account.MoveCloud(r.Context(), r.FormValue("cloud"), typedMaster(r), by)
	return s.afterAdmission(w, r, "move-", by, byMaster("move-password", err))
}

// afterAdmission answers a form of the Devices page that may make an account.
func (s accountPages) afterAdmission(
	w http.ResponseWriter, r *http.Request, prefix string, by wire.Admission, err error,
) error {
	if err == nil {
		redirect(w, r, "/devices?done=cloud")
		return nil
	}
	return devicesPages(s).showDevicesWith(w, r, err, func(page *View, d *devicesData) {
		d.Cloud = r.FormValue("cloud")
		d.Admission = admissionData{Prefix: prefix, Email: vaultOf(r).Profile().Email}
		d.Admission.asked(page, by, err)
	})
}

func (s accountPages) askBringBack(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).FormerKeys.Ask(r.Context())
	return devicesPages(s).showDevicesWith(w, r, err, func(page *View, d *devicesData) {
		d.CodeMailed = err == nil
		if err != nil {
			page.Bad["back-code"] = errorWords(err)
			delete(page.Bad, "form")
		}
	})
}

func (s accountPages) bringBack(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).FormerKeys.BringBack(r.Context(), typedMaster(r), r.FormValue("code"))
	err = byMaster("back-password", err)
	if err == nil {
		redirect(w, r, "/devices?done=back")
		return nil
	}
	return devicesPages(s).showDevicesWith(w, r, err, func(_ *View, d *devicesData) { d.CodeMailed = true })
}

// rename sets whose vault it is, on all devices, and how this computer shows it.
func (s accountPages) rename(w http.ResponseWriter, r *http.Request) error {
	a := vaultOf(r).Account
	err := a.SetDoor(r.Context(), app.Door{Line: r.FormValue("line"), Colour: r.FormValue("colour")})
	if err == nil {
		err = a.Rename(r.Context(), r.FormValue("person"))
	}
	return devicesPages(s).after(w, r, err, "saved")
}

// takeOff takes the vault off this computer. What would be lost by it is said in the form.
func (s accountPages) takeOff(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).TakeOff(r.Context(), typedMaster(r), r.FormValue("lose") != "")
	if err = byMaster("take-off", err); err != nil {
		return devicesPages(s).after(w, r, err, "")
	}
	redirect(w, r, "/front")
	return nil
}

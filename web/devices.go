package web

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/site"
)

// devicesPages are the devices of the account, the cloud, and the browsers.
type devicesPages struct{ *Server }

func (s devicesPages) routes(r routes) {
	r.get("/devices", s.devices)
	r.post("/devices/introduce", s.introduce)
	r.post("/devices/{id}/shut-out", s.shutOut)
	r.post("/cloud/again", s.signInAgain)
	r.post("/cloud/publish", s.publish)
	r.post("/cloud/delete", s.deleteAccount)
	r.get("/browsers", s.browsers)
	r.post("/browsers/{id}/confirm", s.confirmBrowser)
	r.post("/browsers/{id}/refuse", s.refuseBrowser)
	r.post("/browsers/{id}/end", s.endBrowser)
	r.post("/sites/rule", s.setRule)
	r.get("/status", s.statusLine)
}

type devicesData struct {
	Devices    []app.KnownDevice
	Away       bool
	Waiting    []app.Browser
	Browsers   []app.Browser
	Rules      []records.SiteRule
	Cloud      string
	Seen       string // names what the list of browsers shows
	Done       string
	Words      string // as they were typed, like the carried half
	Carried    string
	Sheet      bool     // another recovery sheet waits to be printed
	OldKeys    int      // records that are yet to be sealed under the newest key
	Damaged    int      // records that can't be opened on this computer
	State      uint64   // the number of the newest head that is known
	Named      []string // four words that name it
	Admission  admissionData
	Unsent     app.Unsent // what would be lost if the vault were taken off this computer
	MasterDays []int      // what may be chosen
	CodeMailed bool       // to bring the account back
	Colours    []string
}

// stateWords is how many words name a state: a cloud can't make two of one number with the same four.
const stateWords = 4

func (s devicesPages) devicesData(r *http.Request) (d devicesData, err error) {
	v := vaultOf(r)
	d.Cloud = s.cfg.Cloud
	d.Colours = app.DoorColours
	d.MasterDays = []int{1, 7, app.DefaultMasterDays, 30, 90}
	d.Rules = v.Sites.Rules()
	if d.Devices, d.Away, err = v.Account.Devices(r.Context()); err != nil {
		return d, err
	}
	d.Sheet = v.Sheets.Replaces(r.Context())
	if d.Unsent, err = v.Unsent(r.Context()); err != nil {
		return d, err
	}
	d.OldKeys, d.Damaged = v.Epochs.OldKeys(), len(v.Replica.Damaged())
	c, err := v.Replica.Checkpoint()
	if err != nil {
		return d, err
	}
	if c.Number > 0 {
		d.State, d.Named = c.Number, keys.Words(c.Head, stateWords)
	}
	if s.cfg.Browsers != nil {
		d.Waiting = s.cfg.Browsers.Waiting(v.Profile().ID)
		d.Browsers, err = s.cfg.Browsers.Connected(r.Context(), v)
	}
	sum := sha256.Sum256(fmt.Append(nil, d.Waiting, d.Browsers, d.Rules))
	d.Seen = hex.EncodeToString(sum[:8])
	return d, err
}

func (s devicesPages) showDevices(w http.ResponseWriter, r *http.Request, err error, done string) error {
	return s.showDevicesWith(w, r, err, func(_ *View, d *devicesData) { d.Done = done })
}

// showDevicesWith shows the page with what came of an act.
func (s devicesPages) showDevicesWith(
	w http.ResponseWriter, r *http.Request, err error, more func(*View, *devicesData),
) error {
	page := s.view(r, "Devices", "devices", nil)
	if err != nil && !page.bad(err) {
		page.Bad["form"] = errorWords(err)
	}
	d, err2 := s.devicesData(r)
	if err2 != nil {
		return err2
	}
	d.Words, d.Carried = r.FormValue("words"), r.FormValue("carried")
	more(&page, &d)
	page.Data = d
	status := http.StatusOK
	if err != nil {
		status = http.StatusUnprocessableEntity
	}
	s.render(w, r, status, "devices", page)
	return nil
}

var doneWords = map[string]string{
	"introduced": "Your new computer has what it needs. Type the master password there to finish.",
	"shut-out":   "That device is shut out. The vault has a new key, which it doesn’t get.",
	"published":  "The cloud has what this computer has. Your other devices add what only they have.",
	"deleted":    "The account is deleted at the cloud. The vault is on this computer, and on each device that has it.",
	"back": "The account is yours again, and the cloud has what this computer has. Change your master password now, " +
		"and shut out every device below that you don’t know.",
	"unlock": "From now on this vault opens by the fingerprint, face or PIN of this computer. The master password is " +
		"asked for now and then all the same.",
	"unlock-ended": "It opens this vault no more.",
	"cloud":        "This vault is kept in step with its cloud from now on.",
	"saved":        "Saved.",
	"connected":    "Confirmed. Press the same in the browser’s window to finish.",
	"ended":        "The browser is no longer connected.",
}

func (s devicesPages) devices(w http.ResponseWriter, r *http.Request) error {
	done := doneWords[r.FormValue("done")]
	if r.FormValue("done") == "shut-out" && knowsSomebody(vaultOf(r)) {
		done += " If it was stolen, take other keys for yourself under Household as well."
	}
	return s.showDevices(w, r, nil, done)
}

func (s devicesPages) after(w http.ResponseWriter, r *http.Request, err error, done string) error {
	if err != nil {
		return s.showDevices(w, r, err, "")
	}
	redirect(w, r, "/devices?done="+done)
	return nil
}

// reauthenticate takes the master password that stands in a form beside what it is for. A wrong
// one is an error of the named field.
func reauthenticate(r *http.Request, field string) error {
	return byMaster(field, vaultOf(r).Reauthenticate(typedMaster(r)))
}

func (s devicesPages) introduce(w http.ResponseWriter, r *http.Request) error {
	err := reauthenticate(r, "introduce-password")
	if err == nil {
		err = vaultOf(r).Joiners.Introduce(r.Context(), r.FormValue("words"))
	}
	return s.after(w, r, err, "introduced")
}

// byMaster names the field of an act's form that a wrong master password is told at.
func byMaster(field string, err error) error {
	var wrong *app.WrongPassword
	if errors.As(err, &wrong) {
		return records.BadInput(field, err)
	}
	return err
}

func typedMaster(r *http.Request) secret.Text { return secret.New(r.FormValue("password")) }

func (s devicesPages) shutOut(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	err := vaultOf(r).Epochs.ShutOut(r.Context(), id, typedMaster(r))
	return s.after(w, r, byMaster("out-"+id, err), "shut-out")
}

func (s devicesPages) publish(w http.ResponseWriter, r *http.Request) error {
	return s.after(w, r, byMaster("publish", vaultOf(r).Epochs.Publish(r.Context(), typedMaster(r))), "published")
}

func (s devicesPages) deleteAccount(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).Account.DeleteAccount(r.Context(), typedMaster(r))
	return s.after(w, r, byMaster("delete-account", err), "deleted")
}

func (s devicesPages) signInAgain(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).Account.SignInAgain(r.Context(), typedMaster(r), r.FormValue("carried"))
	return s.after(w, r, err, "cloud")
}

func (s devicesPages) browsers(w http.ResponseWriter, r *http.Request) error {
	d, err := s.devicesData(r)
	if err != nil {
		return err
	}
	if r.FormValue("seen") == d.Seen { // nobody's press is swept away by a list that didn't change
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	s.render(w, r, http.StatusOK, "browsers", s.view(r, "Browsers", "devices", d))
	return nil
}

func (s devicesPages) confirmBrowser(w http.ResponseWriter, r *http.Request) error {
	err := reauthenticate(r, "connect-password")
	if err == nil {
		err = s.cfg.Browsers.Confirm(r.Context(), chi.URLParam(r, "id"), vaultOf(r))
	}
	if err == nil && r.FormValue("first") != "" {
		redirect(w, r, "/first/browser")
		return nil
	}
	return s.after(w, r, err, "connected")
}

func (s devicesPages) refuseBrowser(w http.ResponseWriter, r *http.Request) error {
	s.cfg.Browsers.Refuse(chi.URLParam(r, "id"), vaultOf(r))
	redirect(w, r, "/devices")
	return nil
}

func (s devicesPages) endBrowser(w http.ResponseWriter, r *http.Request) error {
	return s.after(w, r, s.cfg.Browsers.End(r.Context(), vaultOf(r), chi.URLParam(r, "id")), "ended")
}

// setRule sets what a person wants at one site.
func (s devicesPages) setRule(w http.ResponseWriter, r *http.Request) error {
	domain := r.FormValue("domain")
	if clean, err := site.Clean(domain); err == nil {
		domain = site.Domain(clean)
	}
	rule := vaultOf(r).Sites.Rule(domain)
	rule.NoOffer, rule.NoAsk = r.FormValue("no_offer") != "", r.FormValue("no_ask") != ""
	if r.FormValue("forget") != "" {
		rule.Apps = nil
	}
	return s.after(w, r, vaultOf(r).Sites.SetRule(r.Context(), rule), "saved")
}

func (s devicesPages) statusLine(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("X-Opening", openingOf(vaultOf(r)))
	s.render(w, r, http.StatusOK, "status", s.view(r, "", "", nil))
	return nil
}

// events tells a page's worker what happened to the vault: "changed", "status"
// or "locked", and every few seconds how long it stays open.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	v := vaultOf(r)
	notices, end := v.Listen()
	defer end()
	defer v.PageOpened()()
	rc := http.NewResponseController(w)
	_ = rc.SetWriteDeadline(time.Time{}) // not every writer has one
	w.Header().Set("Content-Type", "text/event-stream")
	left := func() { fmt.Fprintf(w, "event: left\ndata: %d %d\n\n", max(0, int(v.Left().Seconds())), v.Version()) }
	left()
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		if rc.Flush() != nil {
			return
		}
		select {
		case n := <-notices:
			fmt.Fprintf(w, "event: %s\ndata: %d\n\n", n.Kind, v.Version())
			if n.Kind == app.NoticeLocked {
				_ = rc.Flush()
				return
			}
		case <-tick.C:
			if v.Locked() {
				fmt.Fprint(w, "event: locked\ndata: 1\n\n")
				_ = rc.Flush()
				return
			}
			left()
		case <-s.done:
			return
		case <-r.Context().Done():
			return
		}
	}
}

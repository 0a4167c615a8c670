package web

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"redlocket/app/auditing"
	"redlocket/core/audit"
	"redlocket/core/leaks"
	"redlocket/core/site"
	"redlocket/core/vault"
	"redlocket/wording"
)

// weakPages show the weak spots, what falls with each, and lead to mending them.
type weakPages struct{ *Server }

func (s weakPages) routes(r routes) {
	r.get("/weak", s.page)
	r.get("/weak/{id}", s.page)
	r.post("/weak/{id}/reset-by", s.resetBy)
	r.post("/leaks", s.takeList)
	r.post("/leaks/drop", s.dropList)
	r.post("/leaks/watch", s.setWatch)
	r.post("/leaks/{id}/seen", s.seen)
}

type weakData struct {
	Spots      []weakLine
	Judged, Of int
	Far        []farLine
	At         *weakView
	Next       string // the id of the spot after it
	List       auditing.LeakList
	Path       string // that was typed for a list and refused
	Watch      auditing.Watching
	Turned     []turnedView
	Older      []turnedView // that the user has seen, or needn't do anything about
}

// turnedView is something that turned up in a leak.
type turnedView struct {
	auditing.TurnedUp
	Logins []turnedLogin
	Since  bool   // all of them have another password since
	Day    string // when the leak happened; empty if nobody knows
}

type turnedLogin struct{ ID, Title string }

// Shown is the thing as the page shows it: of a card the last digits alone.
func (t turnedView) Shown() string {
	if t.Kind == leaks.KindCard {
		return "the card " + vault.Tail(t.Text)
	}
	return t.Text
}

type weakLine struct {
	ID, Title, Domain, Name string
	Faults                  string // the gravest one's name, and how many more
	Current                 bool
}

type farLine struct {
	ID, Title, Name string
	Falls           int
}

// weakView is the login at hand.
type weakView struct {
	Item      vault.Item
	Says      []string
	Worth     string
	Mailbox   string
	Resets    int
	ResetBy   []string // the addresses that reset it
	Boxes     []string // all there are
	Own       string   // what the user said
	Reach     audit.Reach
	Drawing   *reachDrawing
	Steps     []reachStep
	Before    *auditing.Before
	CanMend   bool
	Staged    bool
	Refused   string // what the site said to a new password; empty if it refused none
	Silent    bool   // it said nothing
	RefusedAt int64
}

// reachStep is what falls at one step, as a list.
type reachStep struct {
	Step int
	List []fallenView
}

type fallenView struct {
	ID, Title, Name string
	Chain           string // "Cormorant Mail → reset by mail → Gullwing"
	Held            bool
}

func (s weakPages) page(w http.ResponseWriter, r *http.Request) error {
	return s.show(w, r, http.StatusOK, nil)
}

// show draws the page; refused is why a list of leaked passwords wasn't taken.
func (s weakPages) show(w http.ResponseWriter, r *http.Request, status int, refused error) error {
	v := vaultOf(r)
	look, err := v.Auditing.Look(r.Context())
	if err != nil {
		return err
	}
	x, err := v.Book.Index()
	if err != nil {
		return err
	}
	items := map[string]vault.Item{}
	x.Items(func(it *vault.Item) { items[it.ID] = *it })
	title := func(id string) string { return items[id].Title }
	id := chi.URLParam(r, "id")
	d := weakData{Judged: look.Judged, Of: look.Of}
	for i, sp := range look.Spots {
		it := items[sp.ID]
		faults := wording.Fault(sp.Findings[0].Fault)
		if n := len(sp.Findings) - 1; n > 0 {
			faults += fmt.Sprintf(" and %d more", n)
		}
		d.Spots = append(d.Spots, weakLine{sp.ID, it.Title, domainOf(it), it.Username, faults, sp.ID == id})
		if sp.ID == id && i+1 < len(look.Spots) {
			d.Next = look.Spots[i+1].ID
		}
	}
	const mostFar = 5
	if id == "" {
		for _, f := range look.Survey.Furthest(mostFar) {
			d.Far = append(d.Far, farLine{f.ID, title(f.ID), items[f.ID].Username, f.Falls})
		}
	} else {
		if d.At, err = s.view1(r, look, id, title); err != nil {
			return err
		}
		for _, st := range d.At.Steps {
			for i, f := range st.List {
				st.List[i].Name = items[f.ID].Username
			}
		}
	}
	if d.List, err = v.Auditing.LeakList(); err != nil {
		return err
	}
	d.Path = r.FormValue("path")
	if err := s.watched(r, &d, title); err != nil {
		return err
	}
	view := s.view(r, "Weak spots", "weak", d)
	if refused != nil && !view.bad(refused) {
		return refused
	}
	for target, name := range map[string]string{"weak-list": "weak-list", "sheet": "weak-far"} {
		if fragment(r, target) {
			s.render(w, r, http.StatusOK, name, view)
			return nil
		}
	}
	s.render(w, r, status, "weak", view)
	return nil
}

func domainOf(it vault.Item) string {
	if len(it.Addresses) == 0 {
		return ""
	}
	return site.Domain(it.Addresses[0].URL)
}

// watched reads what a leak service said. What was typed and refused stays in the form.
func (s weakPages) watched(r *http.Request, d *weakData, title func(string) string) error {
	v := vaultOf(r)
	w, err := v.Auditing.Watching(r.Context())
	if err != nil {
		return err
	}
	if d.Turned, d.Older, err = s.turned(r, w, title); err != nil {
		return err
	}
	if r.URL.Path == "/leaks/watch" {
		w.Watch = watchOf(r, w.Watch)
	}
	if w.Service == "" {
		w.Service = s.cfg.LeakService
	}
	if w.Server.Address == "" {
		w.Server.Address = s.cfg.MailServer
	}
	if w.MailTo == "" {
		w.MailTo = v.Profile().Email
	}
	d.Watch = w
	return nil
}

// turned parts what turned up into what the user should know of, and what needs nothing any more.
func (s *Server) turned(
	r *http.Request, w auditing.Watching, title func(string) string,
) (open, older []turnedView, err error) {
	for _, t := range w.Turned {
		view := turnedView{TurnedUp: t}
		var ids []string
		if ids, view.Since, err = vaultOf(r).Auditing.Touched(r.Context(), t); err != nil {
			return nil, nil, err
		}
		for _, id := range ids {
			view.Logins = append(view.Logins, turnedLogin{id, title(id)})
		}
		if at, err := time.Parse(time.DateOnly, t.Leak.Day); err == nil {
			view.Day = s.day(r, at.UnixMilli())
		}
		if t.Seen || view.Since {
			older = append(older, view)
		} else {
			open = append(open, view)
		}
	}
	return open, older, nil
}

// watchForm is the form of what a service is asked.
type watchForm struct {
	Service    string `form:"service"`
	Passwords  bool   `form:"passwords"`
	Names      bool   `form:"names"`
	Cards      bool   `form:"cards"`
	Mail       bool   `form:"mail"`
	MailTo     string `form:"mail_to"`
	MailServer string `form:"mail_server"`
	MailUser   string `form:"mail_user"`
	MailSecret string `form:"mail_password"` // empty for the one that is kept
}

func watchOf(r *http.Request, was auditing.Watch) auditing.Watch {
	f := decode[watchForm](r)
	if f.MailSecret == "" && f.MailServer == was.Server.Address {
		f.MailSecret = was.Server.Password
	}
	return auditing.Watch{
		Service: f.Service, Passwords: f.Passwords, Names: f.Names, Cards: f.Cards, Mail: f.Mail, MailTo: f.MailTo,
		Server: auditing.MailServer{Address: f.MailServer, User: f.MailUser, Password: f.MailSecret},
	}
}

// setWatch changes what a service is asked, and asks it.
func (s weakPages) setWatch(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	was, err := v.Auditing.Watching(r.Context())
	if err != nil {
		return err
	}
	if err := v.Auditing.SetWatch(r.Context(), watchOf(r, was.Watch)); err != nil {
		return s.show(w, r, http.StatusUnprocessableEntity, err)
	}
	return s.lookNow(w, r)
}

// lookNow asks the service.
func (s weakPages) lookNow(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	is, err := v.Auditing.Watching(r.Context())
	if err != nil {
		return err
	}
	said := "No service is asked any more."
	if is.On() {
		said = "The leak service is being asked."
		if err := v.Auditing.LookNow(r.Context()); err != nil {
			return err
		}
	}
	s.sessions.Put(r.Context(), sessionSaid, said)
	redirect(w, r, "/weak")
	return nil
}

// seen puts what turned up aside.
func (s weakPages) seen(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Auditing.Seen(r.Context(), chi.URLParam(r, "id")); err != nil {
		return err
	}
	redirect(w, r, "/weak")
	return nil
}

// view1 reads the login at hand.
func (s weakPages) view1(
	r *http.Request, look auditing.View, id string, title func(string) string,
) (*weakView, error) {
	v := vaultOf(r)
	e, err := v.Items.Entry(id)
	if err != nil {
		return nil, err
	}
	out := &weakView{
		Item: vault.View(e), Mailbox: look.Survey.Mailbox(id), ResetBy: look.Survey.ResetBy(id),
		Boxes: look.Survey.MailboxAddresses(), Own: e.Text(audit.FieldResetBy), Reach: look.Survey.Reach(id),
	}
	out.Refused, out.RefusedAt = e.Text(vault.FieldRefused), e.Fields[vault.FieldRefused].Stamp.At
	out.Silent = out.Refused == vault.RefusedSilently
	out.Staged, out.CanMend = out.Item.Staged, len(out.Item.Addresses) > 0
	out.Resets = len(look.Survey.Mailboxes()[id])
	now := v.Items.Stamp().At
	for _, sp := range look.Spots {
		if sp.ID != id {
			continue
		}
		out.Worth = wording.Worth(sp.Worth)
		for _, f := range sp.Findings {
			out.Says = append(out.Says, wording.Finding(f, title, now))
		}
	}
	if len(out.Reach.Fell)+len(out.Reach.Held) > 0 {
		out.Drawing = drawReach(out.Reach, title)
		out.Steps = steps(out.Reach, title)
	}
	before, ok, err := v.Auditing.BeforeChange(r.Context(), id)
	if err != nil {
		return nil, err
	}
	if ok && before.Fell > len(out.Reach.Fell) {
		out.Before = &before
	}
	return out, nil
}

// steps lists what falls, by step, each with the chain that leads to it.
func steps(r audit.Reach, title func(string) string) (out []reachStep) {
	add := func(list []audit.Fallen, held bool) {
		for _, f := range list {
			for len(out) < f.Step {
				out = append(out, reachStep{Step: len(out) + 1})
			}
			chain := []string{title(r.ID)}
			for _, c := range r.Chain(f.ID) {
				chain = append(chain, wording.Link(c), title(c.ID))
			}
			st := &out[f.Step-1]
			st.List = append(st.List, fallenView{
				ID: f.ID, Title: title(f.ID), Chain: strings.Join(chain, " → "), Held: held,
			})
		}
	}
	add(r.Fell, false)
	add(r.Held, true)
	return out
}

// resetBy notes which mailbox resets a login.
func (s weakPages) resetBy(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	err := vaultOf(r).Auditing.ResetBy(r.Context(), id, r.FormValue("mailbox"))
	return s.acted(w, r, err, "Noted. What falls with what is shown by it.", "/weak/"+id)
}

// takeList begins to take in a list of leaked passwords.
func (s weakPages) takeList(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Auditing.TakeList(strings.TrimSpace(r.FormValue("path"))); err != nil {
		return s.show(w, r, http.StatusUnprocessableEntity, err)
	}
	redirect(w, r, "/weak#leaks")
	return nil
}

func (s weakPages) dropList(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Auditing.DropList(); err != nil {
		return err
	}
	s.sessions.Put(r.Context(), sessionSaid, "The list of leaked passwords is no longer on this computer.")
	redirect(w, r, "/weak")
	return nil
}

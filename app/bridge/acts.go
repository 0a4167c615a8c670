package bridge

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"redlocket/app"
	"redlocket/app/filling"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/autofill"
	"redlocket/core/find"
	"redlocket/core/generator"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/site"
	"redlocket/core/vault"
	"redlocket/wording"
)

// request is what a browser asks, after opening.
type request struct {
	Act       string             `json:"act"`
	URL       string             `json:"url"` // of the frame, by the browser's word
	Top       string             `json:"top"`
	Tab       string             `json:"tab"`
	Frame     bool               `json:"frame"`  // it isn't the tab's main frame, by the browser's word
	Opaque    bool               `json:"opaque"` // it belongs to no site, by the browser's word
	Opened    bool               `json:"opened"` // the tab was opened from the book, by the browser's word
	Snapshot  autofill.Snapshot  `json:"snapshot"`
	Form      int                `json:"form"`
	Field     int                `json:"field"`
	ID        string             `json:"id"`
	What      filling.Part       `json:"what"`
	Elsewhere string             `json:"elsewhere"`
	Submit    bool               `json:"submit"`
	Query     string             `json:"query"`
	Username  string             `json:"username"`
	Values    map[int]string     `json:"values"`
	Slip      filling.SavePrompt `json:"slip"`
	Rule      records.SiteRule   `json:"rule"`
	At        int64              `json:"at"`
}

// most bounds how many logins a search hands out.
const most = 30

// act does what was asked by one use case of the vault. The answer is an object;
// one with "error" says in words what was not done.
func (b *Bridge) act(ctx context.Context, v *app.Vault, plain []byte) any {
	var q request
	if err := json.Unmarshal(plain, &q); err != nil {
		return problem(errors.New("the message can't be read"))
	}
	page := filling.Page{
		URL: q.URL, Top: q.Top, Tab: q.Tab, Frame: q.Frame, Opaque: q.Opaque, Opened: q.Opened, Snapshot: q.Snapshot,
	}
	var out any = struct{}{}
	var err error
	switch q.Act {
	case "look":
		var view filling.PageView
		view, err = v.Pages.Read(ctx, page)
		out = tellPage(view)
	case "visit":
		var alarm *filling.Alarm
		alarm, err = v.Pages.Alarm(page)
		out = map[string]any{"look": alarm == nil && v.Pages.NeedsReading(page), "alarm": tellAlarm(alarm)}
	case "fill":
		what := filling.Request{ID: q.ID, Form: q.Form, Part: q.What, Elsewhere: q.Elsewhere, Submit: q.Submit}
		var values filling.Values
		values, err = v.Pages.Fill(ctx, page, what)
		out = tellValues(values, signOuts(v, page, q.What))
	case "fill-new":
		what := filling.NewPasswordRequest{
			Form: q.Form, Username: q.Username, Login: q.ID, Elsewhere: q.Elsewhere, Field: q.Field,
		}
		var values filling.Values
		values, err = v.Pages.FillNew(ctx, page, what)
		out = tellValues(values, signOuts(v, page, filling.PartLogin))
	case "typed":
		err = v.Prompts.Submitted(ctx, page, q.Form, secrets(q.Values))
	case "take":
		var s *filling.SavePrompt
		s, err = v.Prompts.ByHand(ctx, page, q.Form, secrets(q.Values))
		out = map[string]*toldSlip{"slip": tellSlip(s)}
	case "slip-password":
		var p secret.Text
		p, err = v.Prompts.Password(page, q.ID)
		out = map[string]string{"password": p.Reveal()}
	case "keep":
		v.Touch()
		err = v.Prompts.Accept(ctx, page, q.Slip)
	case "not-now":
		err = v.Prompts.Dismiss(page, q.ID)
	case "step-back", "put-away", "took":
		err = settle(ctx, v, page, q.Act, q.Slip.ID)
	case "never":
		err = errors.Join(v.Prompts.NeverAsk(ctx, q.URL), v.Prompts.Dismiss(page, q.ID))
	case "rule":
		r := v.Sites.Rule(site.Domain(q.URL))
		r.NoOffer, r.NoAsk = q.Rule.NoOffer, q.Rule.NoAsk
		err = v.Sites.SetRule(ctx, r)
	case "window":
		out, err = b.window(v, q)
	case "make":
		out, err = b.make(ctx, v, q)
	case "made":
		var p secret.Text
		p, err = v.Generated.At(q.At)
		out = map[string]string{"text": p.Reveal()}
	case "copy":
		out, err = copied(v, q)
	case "lock":
		v.Lock()
	case "awake": // whether the vault is open, which an answer says
		out = map[string]bool{"sign_out": v.Settings.Get().SignOut}
	case "until-locked":
		untilLocked(ctx, v)
	default:
		err = errors.New("this extension is newer than Red Locket here; please update it")
	}
	if err != nil {
		return problem(err)
	}
	return out
}

// signOuts are the domains that a browser signs out of when the vault locks, after a fill of a page: that of the frame
// and that of the page around it. There are none unless its user wants it, nor for what signs nobody in.
func signOuts(v *app.Vault, p filling.Page, part filling.Part) []string {
	if part == filling.PartCard || part == filling.PartSafety || part == filling.PartDetails ||
		!v.Settings.Get().SignOut {
		return nil
	}
	out := []string{site.Domain(p.URL), site.Domain(p.Top)}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(d string) bool { return d == "" })
}

// hearing is how long an answer waits for a vault to lock: a browser ends an extension that waits longer.
const hearing = 20 * time.Second

// untilLocked waits until a vault is locked, or for a time.
func untilLocked(ctx context.Context, v *app.Vault) {
	heard, end := v.Listen()
	defer end()
	over := time.NewTimer(hearing)
	defer over.Stop()
	for !v.Locked() {
		select {
		case <-heard:
		case <-over.C:
			return
		case <-ctx.Done():
			return
		}
	}
}

// settle says what becomes of the new password that a prompt of the page is about.
func settle(ctx context.Context, v *app.Vault, page filling.Page, act, prompt string) error {
	login, err := v.Prompts.Login(page, prompt)
	if err != nil {
		return err
	}
	switch act {
	case "step-back":
		err = v.Staged.StepBack(ctx, login)
	case "took":
		err = v.Staged.Confirm(ctx, login)
	case "put-away":
		_, err = v.Acts.Archive(ctx, login)
	}
	return errors.Join(err, v.Prompts.Dismiss(page, prompt))
}

func secrets(values map[int]string) map[int]secret.Text {
	out := map[int]secret.Text{}
	for k, s := range values {
		out[k] = secret.New(s)
	}
	return out
}

// make makes a password for the window; it is kept with the generated passwords from then on.
func (b *Bridge) make(ctx context.Context, v *app.Vault, q request) (any, error) {
	o, name := v.Sites.Directory().Obey(q.URL, generator.Default())
	p, err := generator.Password(v.Rand(), o)
	if err == nil {
		made := filling.GeneratedPassword{Password: p.Reveal(), Site: site.Host(q.URL), URL: q.URL}
		_, err = v.Generated.Keep(ctx, made, 0)
	}
	return map[string]string{"password": p.Reveal(), "for": name}, err
}

// copied hands out one value for the clipboard, by a press in the extension's own window.
func copied(v *app.Vault, q request) (any, error) {
	if err := v.Guard.Require(reauth.Show); err != nil {
		return nil, err
	}
	e, err := v.Items.Entry(q.ID)
	if err != nil {
		return nil, err
	}
	if q.What != "username" && !v.Items.Right(e).Includes(share.See) {
		return nil, records.ErrNotToSee
	}
	if err := v.Book.Use(q.ID); err != nil {
		return nil, err
	}
	text := ""
	switch q.What {
	case "username":
		text = e.Text(vault.FieldUsername)
	case "password":
		text = e.Text(vault.FieldPassword)
	case filling.PartCode:
		c, _, err := v.Items.Code(q.ID)
		return map[string]string{"text": c.Text.Reveal()}, err
	}
	return map[string]string{"text": text}, nil
}

func problem(err error) any { return map[string]string{"error": wording.Error(err)} }

// found is a login as the extension's window lists it.
type found struct {
	filling.Offer
	Address string `json:"address"`
	Fits    bool   `json:"fits"`
}

// window is what the extension's window shows: the logins of the page's site, or those
// that a search finds, the generated passwords, and what is set for the site.
func (b *Bridge) window(v *app.Vault, q request) (any, error) {
	out := struct {
		Person  string                      `json:"person"`
		App     string                      `json:"app"`
		Site    string                      `json:"site"`
		List    []found                     `json:"list"`
		Drawer  []filling.GeneratedPassword `json:"drawer"`
		Rule    records.SiteRule            `json:"rule"`
		SignOut bool                        `json:"sign_out"` // of the sites that were filled, when the vault locks
		Clear   int                         `json:"clear"`    // seconds until what was copied is cleared; 0 for never
	}{
		SignOut: v.Settings.Get().SignOut, Clear: int(v.Settings.Get().Clipboard.Seconds()),
		Person: v.Profile().Name, App: b.own,
		Site: site.Domain(q.URL), List: []found{}, Rule: v.Sites.Rule(site.Domain(q.URL)),
	}
	var err error
	if out.Drawer, err = v.Generated.List(); err != nil {
		return nil, err
	}
	out.Drawer = append([]filling.GeneratedPassword{}, out.Drawer[:min(len(out.Drawer), 12)]...) // never null
	for i := range out.Drawer {
		out.Drawer[i].Password = "" // each by a press of its own
	}
	if q.Query == "" {
		view, err := v.Pages.Read(
			context.Background(),
			filling.Page{URL: q.URL, Top: q.URL, Frame: true},
		) // nothing but what fits
		for _, o := range view.Offers {
			out.List = append(out.List, found{Offer: o, Fits: true})
		}
		return out, err
	}
	book, err := v.Book.Find(find.Parse(q.Query), most)
	if err != nil {
		return nil, err
	}
	sites := v.Sites.Directory()
	for _, s := range book.Sites {
		for _, it := range s.Accounts {
			if it.Archived || !it.Type.IsAccount() || len(out.List) >= most {
				continue
			}
			f := found{Offer: v.Pages.Offer(*it)}
			for _, a := range it.Addresses {
				if f.Address == "" {
					f.Address = a.URL
				}
				f.Fits = f.Fits || sites.Matches(a, q.URL)
			}
			out.List = append(out.List, f)
		}
	}
	return out, nil
}

package app

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"redlocket/core/autofill"
	"redlocket/core/generator"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Page is a frame of a page, as a browser vouches for it.
type Page struct {
	URL      string // of the frame itself
	Top      string // of the tab
	Tab      string
	Frame    bool // it isn't the tab's main frame
	Snapshot autofill.Snapshot
}

// elsewhere is the site of a frame that belongs to another one than its tab; empty for
// all others. What is typed there is out of its user's sight.
func (p Page) elsewhere() string {
	if here := site.Domain(p.URL); here != site.Domain(p.Top) {
		return here
	}
	return ""
}

// Offer is one item that fits a page.
type Offer struct {
	ID       string `json:"id"`
	Title    string `json:"title"`
	Username string `json:"username"` // or what tells it from its like
	Folder   string `json:"folder,omitempty"`
	Code     bool   `json:"code,omitempty"`    // it has one-time codes
	Staged   bool   `json:"staged,omitempty"`  // a new password waits for the site to take it
	Joining  bool   `json:"joining,omitempty"` // and it has no other: the site was signed up at
}

func offerOf(it vault.Item) Offer {
	return Offer{ID: it.ID, Title: it.Title, Username: it.Subtitle, Folder: it.Folder, Code: it.HasCode, Staged: it.Staged, Joining: it.SigningUp()}
}

func offersOf(items []vault.Item) []Offer {
	out := []Offer{}
	for _, it := range items[:min(len(items), mostOffers)] {
		out = append(out, offerOf(it))
	}
	return out
}

// mostOffers bounds how many accounts are offered at once.
const mostOffers = 40

// FormView is what a form was found to be, and where it sends what is typed if that is
// another site than the page's.
type FormView struct {
	autofill.Reading
	Elsewhere string `json:"elsewhere,omitempty"`
}

// PageView is what the extension gets to know of a page.
type PageView struct {
	Readings []FormView   `json:"readings"`
	Offers   []Offer      `json:"offers"`
	Cards    []Offer      `json:"cards,omitempty"`
	People   []Offer      `json:"people,omitempty"`
	Why      string       `json:"why,omitempty"`    // why nothing is offered
	Framed   string       `json:"framed,omitempty"` // the frame's site, in a page of another one
	Slip     *SavePrompt  `json:"slip,omitempty"`
	Up       bool         `json:"up,omitempty"` // the page around this frame has a slip to show
	Alarm    *Alarm       `json:"alarm,omitempty"`
	Go       *PendingFill `json:"go,omitempty"`
}

// Read reads a page and says what fits it, whether it imitates a kept site, and whether a
// sign-in made on the page before should be kept.
func (v *Vault) Read(ctx context.Context, p Page) (PageView, error) {
	out := PageView{Readings: []FormView{}, Offers: []Offer{}, Framed: p.elsewhere()}
	readings := autofill.Read(p.Snapshot)
	if !p.Frame {
		if out.Alarm = v.alarm(p.URL); out.Alarm != nil {
			return out, nil
		}
	}
	rule := v.SiteRule(site.Domain(p.URL))
	if out.Framed == "" {
		slip, up, err := v.ripen(ctx, p, readings)
		if err != nil {
			return out, err
		}
		if !rule.NoAsk {
			out.Slip, out.Up = slip, up
		}
	}
	items, err := v.matching(p.URL)
	if err != nil {
		return out, err
	}
	items = v.likely(p, items)
	if rule.NoOffer {
		out.Why = "You asked that nothing be offered at " + rule.Domain + "."
		return out, nil
	}
	cards, people := false, false
	for _, r := range readings {
		out.Readings = append(out.Readings, FormView{r, sendsElsewhere(p, r.Form)})
		cards, people = cards || r.Card, people || r.Details
	}
	out.Offers = offersOf(items)
	if len(items) == 0 {
		out.Why = v.whyNothing(p.URL)
	}
	if cards {
		list, err := v.ofType(vault.TypeCard)
		if err != nil {
			return out, err
		}
		out.Cards = offersOf(list)
	}
	if people {
		list, err := v.ofType(vault.TypePerson)
		if err != nil {
			return out, err
		}
		out.People = offersOf(list)
	}
	if !p.Frame {
		out.Go = v.goNow(p, items, out.Readings)
	}
	return out, nil
}

// sendsElsewhere names the site to which a form sends what is typed, if it isn't the
// page's own.
func sendsElsewhere(p Page, form int) string {
	for _, f := range p.Snapshot.Forms {
		if f.ID != form || f.Action == "" {
			continue
		}
		if to := site.Domain(f.Action); to != site.Domain(p.URL) {
			return to
		}
		if strings.HasPrefix(p.URL, "https://") && !strings.HasPrefix(f.Action, "https://") {
			return "an address without https"
		}
	}
	return ""
}

// whyNothing says why a page gets no offer although its user might expect one.
func (v *Vault) whyNothing(url string) string {
	rest, plain := strings.CutPrefix(url, "http://")
	if !plain {
		return ""
	}
	if items, err := v.matching("https://" + rest); err == nil && len(items) > 0 {
		return "This page came without https. The logins kept for this site are for https only, so none is offered."
	}
	return ""
}

// Values is what a fill hands out: by field, what to type.
type Values struct {
	Fills  []FieldValue    `json:"fills"`
	Missed []autofill.Miss `json:"missed"`           // fields that should have got something
	Copy   string          `json:"copy,omitempty"`   // a one-time code, for the page that comes next
	Clear  int             `json:"clear,omitempty"`  // when it is cleared again, in seconds; 0 for never
	Submit bool            `json:"submit,omitempty"` // the form is to be sent
}

// FieldValue is one value for one field.
type FieldValue struct {
	Field int    `json:"field"`
	Role  string `json:"role"`
	Value string `json:"value"`
}

// Part of an item is filled.
type Part string

// Whats.
const (
	WhatLogin   Part = "login"
	WhatStaged  Part = "staged" // with the new password that waits
	WhatCode    Part = "code"   // the one-time code alone
	WhatCard    Part = "card"   // all but the security code
	WhatSafety  Part = "csc"    // the security code alone
	WhatDetails Part = "details"
)

// FillRequest is what is to be filled into one form of a page, by its user's press.
type FillRequest struct {
	ID   string
	Form int
	What Part
	// Elsewhere is the other site that the form sends to, or that the frame belongs to, as
	// its user was told and said yes to.
	Elsewhere string
	Submit    bool // its user chose, in the book, that the form is sent
}

// Errors of filling.
var (
	ErrWrongSite = errors.New("this login doesn't belong to this page")
	ErrNoForm    = errors.New("there is nothing to fill here")
)

// elsewhereError is returned where a form or frame has to do with another site than the
// page's, and its user hasn't said yes to that one.
func elsewhereError(to string) error {
	return fmt.Errorf("this would go to %s; nothing was filled", to)
}

// Fill hands out the values of an item for one form of a page, and only those that the form
// has fields for. A login must match the frame's own address.
func (v *Vault) Fill(ctx context.Context, p Page, w FillRequest) (Values, error) {
	e, err := v.Entry(w.ID)
	if err != nil {
		return Values{}, err
	}
	reading, err := v.allowed(p, w)
	if err != nil {
		return Values{}, err
	}
	it := vault.View(e)
	if it.Archived {
		return Values{}, ErrWrongSite
	}
	var values autofill.Values
	switch w.What {
	case WhatCard, WhatSafety:
		if it.Type != vault.TypeCard || !reading.Card {
			return Values{}, ErrWrongSite
		}
		values.Card = cardOf(e, w.What)
	case WhatDetails:
		if it.Type != vault.TypePerson {
			return Values{}, ErrWrongSite
		}
		values.Person = personOf(e)
	default:
		if !v.fits(w.ID, p.URL) {
			return Values{}, ErrWrongSite
		}
		if values, err = v.loginOf(e, w.What); err != nil {
			return Values{}, err
		}
	}
	v.Use(w.ID)
	v.Touch()
	out := planned(p, reading, values)
	if w.What == WhatLogin || w.What == WhatStaged {
		v.noteFilled(p, it)
		if it.HasCode && reading.Kind == autofill.SignIn && !reading.Has(autofill.OneTimeCode) {
			if c, _, err := v.Code(w.ID); err == nil {
				out.Copy, out.Clear = c.Text.Reveal(), int(v.Settings().Clipboard.Seconds())
			}
		}
		out.Submit = w.Submit && e.Text(vault.FieldSubmit) == "yes" && len(out.Missed) == 0
	}
	return out, nil
}

// allowed returns what the form was found to be, if it may be filled at all.
func (v *Vault) allowed(p Page, w FillRequest) (autofill.Reading, error) {
	if v.alarm(p.URL) != nil {
		return autofill.Reading{}, ErrWrongSite
	}
	for _, to := range []string{p.elsewhere(), sendsElsewhere(p, w.Form)} {
		if to != "" && w.Elsewhere != to {
			return autofill.Reading{}, elsewhereError(to)
		}
	}
	for _, r := range autofill.Read(p.Snapshot) {
		if r.Form == w.Form {
			return r, nil
		}
	}
	return autofill.Reading{}, ErrNoForm
}

func planned(p Page, r autofill.Reading, values autofill.Values) Values {
	fills, missed := autofill.Plan(p.Snapshot, r, values)
	out := Values{Fills: []FieldValue{}, Missed: missed}
	if missed == nil {
		out.Missed = []autofill.Miss{}
	}
	for _, f := range fills {
		out.Fills = append(out.Fills, FieldValue{f.Field, string(f.Role), f.Value.Reveal()})
	}
	return out
}

func (v *Vault) loginOf(e vault.Entry, what Part) (autofill.Values, error) {
	out := autofill.Values{Username: e.Secret(vault.FieldUsername), Password: e.SignsInWith()}
	if what == WhatStaged {
		out.Password = e.Secret(vault.FieldStaged)
	}
	if c, _, err := v.Code(e.ID); err == nil {
		out.Code = c.Text
	} else if what == WhatCode {
		return out, err
	}
	if what == WhatCode {
		out.Username, out.Password = secret.Text{}, secret.Text{}
	}
	return out, nil
}

func cardOf(e vault.Entry, what Part) *autofill.Card {
	if what == WhatSafety {
		return &autofill.Card{Code: e.Secret(vault.FieldCode)}
	}
	c := &autofill.Card{Name: e.Secret(vault.FieldHolder), Number: e.Secret(vault.FieldNumber), Brand: vault.Brand(e.Text(vault.FieldNumber))}
	_, _ = fmt.Sscanf(e.Text(vault.FieldExpiry), "%d-%d", &c.Year, &c.Month) // left at zero where it isn't known
	return c
}

func personOf(e vault.Entry) autofill.Person {
	k, _ := vault.KindOf(vault.TypePerson)
	out := autofill.Person{}
	for _, s := range k.Specs {
		if t := e.Text(s.Field); t != "" && s.Token != "" {
			out[autofill.Role(s.Token)] = t
		}
	}
	return out
}

// NewPasswordRequest says what a new password is made for.
type NewPasswordRequest struct {
	Form      int
	Username  string // as it stands in the form
	Login     string // the login that it is for, on a form that changes a password
	Elsewhere string
}

// FillNew makes a password that the page and the directory of sites will take, and hands it
// out for its boxes. It lies in the drawer from then on. On a form that changes a password
// it is staged at its login, whose present one is filled too; on one that signs up, a login
// is staged once the form is sent.
func (v *Vault) FillNew(ctx context.Context, p Page, n NewPasswordRequest) (Values, error) {
	reading, err := v.allowed(p, FillRequest{Form: n.Form, Elsewhere: n.Elsewhere})
	if err != nil {
		return Values{}, err
	}
	if !reading.Has(autofill.NewPassword) {
		return Values{}, ErrNoForm
	}
	changes := reading.Kind == autofill.Change || reading.Kind == autofill.Reset
	values := autofill.Values{Username: secret.New(n.Username)}
	if n.Login != "" {
		e, err := v.Entry(n.Login)
		if err != nil {
			return Values{}, err
		}
		if !changes || !v.fits(n.Login, p.URL) {
			return Values{}, ErrWrongSite
		}
		values.Username, values.Password = e.Secret(vault.FieldUsername), e.SignsInWith()
	}
	demands := autofill.DemandsOf(p.Snapshot, reading)
	if known, ok := v.Sites().Lookup(site.Domain(p.URL)); ok {
		demands = demands.With(known.Rules)
	}
	if values.NewPassword, err = autofill.MakePassword(v.d.p.Rand, generator.Default(), demands); err != nil {
		return Values{}, err
	}
	if err := v.KeepGenerated(ctx, GeneratedPassword{Password: values.NewPassword.Reveal(), Site: siteTitle(p), URL: p.URL}); err != nil {
		return Values{}, err
	}
	if n.Login != "" {
		if err := v.stage(ctx, n.Login, values.NewPassword); err != nil {
			return Values{}, err
		}
	}
	v.Touch()
	v.noteNew(p, reading.Kind, n, values.NewPassword)
	return planned(p, reading, values), nil
}

// siteTitle makes a title from the page's own, where its first or last part is a name, or
// else from its address.
func siteTitle(p Page) string {
	domain := strings.ToLower(strings.SplitN(site.Domain(p.URL), ".", 2)[0])
	for _, part := range strings.FieldsFunc(p.Snapshot.Title, func(r rune) bool { return strings.ContainsRune("·|–—:", r) }) {
		part = strings.TrimSpace(part)
		plain := strings.ToLower(strings.NewReplacer(" ", "", "&", "", "-", "").Replace(part))
		if len(part) <= 40 && domain != "" && plain != "" && (strings.Contains(plain, domain) || strings.Contains(domain, plain)) {
			return part
		}
	}
	return site.Title(p.URL)
}

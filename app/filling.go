package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

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
	Snapshot autofill.Snapshot
}

// framed reports whether the frame belongs to another site than its tab. What
// is typed there is out of the user's sight, so nothing is offered.
func (p Page) framed() bool { return site.Domain(p.URL) != site.Domain(p.Top) }

// Offer is one account that fits a page.
type Offer struct {
	ID       string `json:"id"`
	Title    string `json:"title"`
	Username string `json:"username"`
	Folder   string `json:"folder,omitempty"`
}

// View is what the extension gets to know of a page.
type View struct {
	Readings []autofill.Reading `json:"readings"`
	Offers   []Offer            `json:"offers"`
	Why      string             `json:"why,omitempty"` // why nothing is offered
	Slip     *Slip              `json:"slip,omitempty"`
}

// Look reads a page and says what fits it, and whether a sign-in made on the
// page before should be kept.
func (v *Vault) Look(ctx context.Context, p Page) (View, error) {
	out := View{Readings: autofill.Read(p.Snapshot), Offers: []Offer{}}
	if p.framed() {
		out.Why = "this part of the page belongs to " + site.Domain(p.URL) + ", not to " + site.Domain(p.Top)
		out.Readings = []autofill.Reading{}
		return out, nil
	}
	if out.Readings == nil {
		out.Readings = []autofill.Reading{}
	}
	items, err := v.matching(p.URL)
	if err != nil {
		return out, err
	}
	for _, it := range items {
		out.Offers = append(out.Offers, Offer{it.ID, it.Title, it.Username, it.Folder})
	}
	if p.URL == p.Top {
		out.Slip = v.ripe(p, out.Readings)
	}
	return out, nil
}

// matching returns the logins whose address matches, the same host first, then
// the last used here, then the latest changed.
func (v *Vault) matching(url string) ([]vault.Item, error) {
	items, err := v.Logins()
	if err != nil {
		return nil, err
	}
	sites := v.Sites()
	items = slices.DeleteFunc(items, func(it vault.Item) bool {
		return !slices.ContainsFunc(it.Addresses, func(a vault.Address) bool { return sites.Matches(a, url) })
	})
	host := site.Host(url)
	near := func(it vault.Item) bool {
		return slices.ContainsFunc(it.Addresses, func(a vault.Address) bool { return site.Host(a.URL) == host })
	}
	slices.SortStableFunc(items, func(a, b vault.Item) int {
		if near(a) != near(b) {
			if near(a) {
				return -1
			}
			return 1
		}
		return cmp.Or(cmp.Compare(v.Used(b.ID), v.Used(a.ID)), b.Modified.Compare(a.Modified))
	})
	return items, nil
}

// Values is what a fill hands out: by field, what to type.
type Values struct {
	Fills  []FieldValue `json:"fills"`
	Missed []int        `json:"missed"` // fields that should have got something
}

// FieldValue is one value for one field.
type FieldValue struct {
	Field int    `json:"field"`
	Role  string `json:"role"`
	Value string `json:"value"`
}

// Errors of filling.
var (
	ErrWrongSite = errors.New("this login doesn't belong to this page")
	ErrNoForm    = errors.New("there is nothing to fill here")
)

// Fill hands out the values of a login for one form of a page, and only those
// that the form has fields for. The login must match the frame's own address.
func (v *Vault) Fill(ctx context.Context, id string, p Page, form int) (Values, error) {
	e, err := v.Entry(id)
	if err != nil {
		return Values{}, err
	}
	it := vault.View(e)
	fits := slices.ContainsFunc(it.Addresses, func(a vault.Address) bool { return v.Sites().Matches(a, p.URL) })
	if !fits || p.framed() || it.Archived {
		return Values{}, ErrWrongSite
	}
	v.Use(id)
	return v.plan(p, form, autofill.Values{Username: secret.New(it.Username), Password: e.Secret(vault.FieldPassword)})
}

func (v *Vault) plan(p Page, form int, values autofill.Values) (Values, error) {
	readings := autofill.Read(p.Snapshot)
	i := slices.IndexFunc(readings, func(r autofill.Reading) bool { return r.Form == form })
	if i < 0 {
		return Values{}, ErrNoForm
	}
	v.Touch()
	fills, missed := autofill.Plan(p.Snapshot, readings[i], values)
	out := Values{Fills: []FieldValue{}, Missed: missed}
	for _, f := range fills {
		out.Fills = append(out.Fills, FieldValue{f.Field, string(f.Role), f.Value.Reveal()})
	}
	return out, nil
}

// FillNew makes a password for a sign-up form and hands it out for its boxes,
// with a user name if one is given. It stays in the tab's slip, so that it
// isn't lost if the page never reports a submit.
func (v *Vault) FillNew(ctx context.Context, p Page, form int, username string) (Values, error) {
	if p.framed() {
		return Values{}, ErrWrongSite
	}
	o := generator.Default()
	for _, f := range p.Snapshot.Fields {
		if f.Form == form && f.Type == "password" && f.MaxLength >= generator.MinLength {
			o.Length = min(o.Length, f.MaxLength)
		}
	}
	password, err := generator.Password(v.d.p.Rand, o)
	if err != nil {
		return Values{}, err
	}
	out, err := v.plan(p, form, autofill.Values{Username: secret.New(username), NewPassword: password})
	if err != nil {
		return out, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return Values{}, ErrLocked
	}
	s := v.slipFor(p)
	s.attempt.Password, s.attempt.Kind = password, autofill.SignUp
	if username != "" {
		s.attempt.Username = username
	}
	return out, nil
}

// Slip asks whether a sign-in that was typed should be kept.
type Slip struct {
	ID       string `json:"id"`
	Title    string `json:"title"`
	Username string `json:"username"`
	Address  string `json:"address"`
	Folder   string `json:"folder"`
	Update   string `json:"update,omitempty"` // id of the login whose password it would replace

	url     string
	since   time.Time
	sent    bool
	attempt autofill.Attempt
}

const slipLife = 10 * time.Minute

func slipKey(p Page) string { return p.Tab + " " + site.Domain(p.URL) }

// slipFor returns the tab's slip for this site, fresh if there is none. v.mu is held.
func (v *Vault) slipFor(p Page) *Slip {
	for k, s := range v.slip {
		if v.d.p.Now().Sub(s.since) > slipLife {
			delete(v.slip, k)
		}
	}
	s := v.slip[slipKey(p)]
	if s == nil {
		s = &Slip{ID: NewID(), since: v.d.p.Now()}
		v.slip[slipKey(p)] = s
	}
	return s
}

// Typed notes that a form was sent. What it means is decided when the next page
// of the tab is looked at: a form that comes back was refused.
func (v *Vault) Typed(ctx context.Context, p Page, form int, values map[int]secret.Text) error {
	if p.framed() {
		return nil
	}
	for _, r := range autofill.Read(p.Snapshot) {
		if r.Form != form {
			continue
		}
		a, ok := autofill.Typed(p.Snapshot, r, values)
		if !ok || autofill.Masked(a.Username) {
			return nil
		}
		v.mu.Lock()
		defer v.mu.Unlock()
		if v.seal == nil {
			return ErrLocked
		}
		if v.never[site.Domain(p.URL)] {
			return nil
		}
		s := v.slipFor(p)
		if a.Username == "" {
			a.Username = s.attempt.Username // typed on the page before
		}
		if a.Kind == autofill.FirstStep {
			s.attempt.Username = a.Username
			return nil
		}
		s.attempt, s.sent, s.url, s.since = a, true, p.URL, v.d.p.Now()
		if s.Title == "" {
			s.Title = siteTitle(p)
		}
	}
	return nil
}

// siteTitle makes a title from the page's own, where its first or last part is
// a name, or else from its address.
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

// ripe returns the slip to show on this page, if the sign-in of the page before
// was taken by the site and the vault doesn't know it.
func (v *Vault) ripe(p Page, readings []autofill.Reading) *Slip {
	v.mu.Lock()
	s := v.slip[slipKey(p)]
	v.mu.Unlock()
	if s == nil || !s.sent || s.attempt.Password.IsEmpty() || s.attempt.Username == "" {
		return nil
	}
	for _, r := range readings {
		if r.Kind == s.attempt.Kind || s.attempt.Kind == autofill.SignIn && r.Kind == autofill.FirstStep {
			return nil // the form came back: refused, or not sent yet
		}
	}
	items, err := v.matching(p.URL)
	if err != nil {
		return nil
	}
	out := *s
	address, err := site.Clean(s.url)
	if err != nil {
		return nil
	}
	out.Address, out.Username = site.Shown(address), s.attempt.Username
	for _, it := range items {
		if !strings.EqualFold(it.Username, s.attempt.Username) {
			continue
		}
		e, err := v.Entry(it.ID)
		if err != nil {
			return nil
		}
		if e.Secret(vault.FieldPassword).Equal(s.attempt.Password) {
			v.DropSlip(s.ID)
			return nil // known already
		}
		out.Update, out.Title, out.Folder = it.ID, it.Title, it.Folder
	}
	return &out
}

func (v *Vault) findSlip(id string) (*Slip, string) {
	for k, s := range v.slip {
		if s.ID == id {
			return s, k
		}
	}
	return nil, ""
}

// ErrNoSlip is returned for a slip that was answered already or is too old.
var ErrNoSlip = errors.New("this was answered already")

// SlipPassword shows what a slip would keep.
func (v *Vault) SlipPassword(id string) (secret.Text, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	s, _ := v.findSlip(id)
	if s == nil {
		return secret.Text{}, ErrNoSlip
	}
	return s.attempt.Password, nil
}

// KeepSlip makes a login of a slip, or updates the one it names.
func (v *Vault) KeepSlip(ctx context.Context, in Slip) error {
	v.mu.RLock()
	s, _ := v.findSlip(in.ID)
	v.mu.RUnlock()
	if s == nil {
		return ErrNoSlip
	}
	if in.Update != "" {
		if err := v.Save(ctx, in.Update, vault.Changes{vault.FieldPassword: s.attempt.Password}); err != nil {
			return err
		}
		return v.DropSlip(in.ID)
	}
	address, err := site.Clean(s.url)
	if err != nil {
		return err
	}
	if in.Address != "" && in.Address != site.Shown(address) {
		typed := in.Address
		if scheme, _, ok := strings.Cut(address, "://"); ok && !strings.Contains(typed, "://") {
			typed = scheme + "://" + typed
		}
		if typed, err = site.Clean(typed); err != nil {
			return err
		}
		if site.Domain(typed) != site.Domain(address) {
			return errors.New("this address belongs to another site than the page")
		}
		address = typed
	}
	if strings.TrimSpace(in.Title) == "" {
		in.Title = site.Title(address)
	}
	d := vault.Draft{Title: in.Title, Username: in.Username, Password: s.attempt.Password, Folder: in.Folder, Addresses: []vault.Address{{URL: address}}}
	// The slip's id is the login's: pressed twice, it is kept once.
	if err := v.Save(ctx, s.ID, d.Changes()); err != nil {
		return err
	}
	return v.DropSlip(in.ID)
}

// DropSlip forgets a slip.
func (v *Vault) DropSlip(id string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if _, k := v.findSlip(id); k != "" {
		delete(v.slip, k)
	}
	return nil
}

const localNever = "never"

// Never keeps the slip from being shown on a site again. It is kept on this device.
func (v *Vault) Never(ctx context.Context, url string) error {
	v.mu.Lock()
	if v.seal == nil {
		v.mu.Unlock()
		return ErrLocked
	}
	v.never[site.Domain(url)] = true
	v.mu.Unlock()
	return v.saveNever(ctx)
}

// Again undoes Never for a domain.
func (v *Vault) Again(ctx context.Context, domain string) error {
	v.mu.Lock()
	delete(v.never, domain)
	v.mu.Unlock()
	return v.saveNever(ctx)
}

// Nevers lists the domains of Never.
func (v *Vault) Nevers() []string {
	v.mu.RLock()
	defer v.mu.RUnlock()
	var out []string
	for d := range v.never {
		out = append(out, d)
	}
	slices.Sort(out)
	return out
}

func (v *Vault) saveNever(ctx context.Context) error {
	b, err := json.Marshal(v.Nevers())
	if err != nil {
		return err
	}
	return v.setLocal(ctx, v.store, localNever, b)
}

func (v *Vault) loadNever(ctx context.Context) error {
	v.never = map[string]bool{}
	b, err := v.local(ctx, localNever)
	if err != nil || b == nil {
		return err
	}
	var list []string
	if err := json.Unmarshal(b, &list); err != nil {
		return err
	}
	for _, d := range list {
		v.never[d] = true
	}
	return nil
}

package filling

import (
	"context"
	"slices"
	"strings"

	"redlocket/core/autofill"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Page is a frame of a page, as a browser vouches for it.
type Page struct {
	URL      string // of the frame itself
	Top      string // of the tab
	Tab      string
	Frame    bool // it isn't the tab's main frame
	Opaque   bool // it belongs to no site: a sandboxed frame has an address and not its rights
	Opened   bool // the tab was opened from the book
	Snapshot autofill.Snapshot
}

// key names the page's tab and site: what is known of one is good for the other's pages.
func (p Page) key() string { return p.Tab + " " + site.Domain(p.URL) }

// elsewhere is the site of a frame that belongs to another one than its tab; empty for
// all others. What is typed there is out of the user's sight.
func (p Page) elsewhere() string {
	if here := site.Domain(p.URL); here != site.Domain(p.Top) {
		return here
	}
	return ""
}

// sendsElsewhere names the sites to which a form, or a button that sends it, sends what is
// typed, if they aren't the page's own. The user is told of all of them at once.
func (p Page) sendsElsewhere(form int) string {
	var to []string
	for _, f := range p.Snapshot.Forms {
		if f.ID != form {
			continue
		}
		for _, action := range append([]string{f.Action}, f.Targets...) {
			name := ""
			switch {
			case action == "":
			case site.Domain(action) != site.Domain(p.URL):
				name = site.Domain(action)
			case strings.HasPrefix(p.URL, "https://") && !strings.HasPrefix(action, "https://"):
				name = "an address without https"
			}
			if name != "" && !slices.Contains(to, name) {
				to = append(to, name)
			}
		}
	}
	return strings.Join(to, " and ")
}

// secure reports whether nobody on the way can read what is sent from the page, nor change the
// page around it.
func (p Page) secure() bool { return site.Secure(p.URL) && (!p.Frame || site.Secure(p.Top)) }

// siteTitle makes a title from the page's own, where its first or last part is a name, or
// else from its address.
func (p Page) siteTitle() string {
	domain := strings.ToLower(strings.SplitN(site.Domain(p.URL), ".", 2)[0])
	separator := func(r rune) bool { return strings.ContainsRune("·|–—:", r) }
	for _, part := range strings.FieldsFunc(p.Snapshot.Title, separator) {
		part = strings.TrimSpace(part)
		plain := strings.ToLower(strings.NewReplacer(" ", "", "&", "", "-", "").Replace(part))
		if len(part) > 40 || domain == "" || plain == "" {
			continue
		}
		if strings.Contains(plain, domain) || strings.Contains(domain, plain) {
			return part
		}
	}
	return site.Title(p.URL)
}

// Offer is one item that fits a page.
type Offer struct {
	ID       string `json:"id"`
	Title    string `json:"title"`
	Username string `json:"username"` // or what tells it from others like it
	Folder   string `json:"folder,omitempty"`
	Book     string `json:"book,omitempty"`    // name of the book that it is in, unless that is the owner's own
	Code     bool   `json:"code,omitempty"`    // it has one-time codes
	Staged   bool   `json:"staged,omitempty"`  // a new password waits for the site to take it
	Sent     bool   `json:"sent,omitempty"`    // and was sent to it, and not refused
	Joining  bool   `json:"joining,omitempty"` // and it has no other: the site was signed up at
}

// Offer is an item as it is offered.
func (s *Pages) Offer(it vault.Item) Offer {
	return Offer{
		ID: it.ID, Title: it.Title, Username: it.Subtitle, Folder: it.Folder, Book: s.core.Set.Books.Name(it),
		Code: it.HasCode, Staged: it.Staged, Sent: it.Sent, Joining: it.SigningUp(),
	}
}

// beside is what tells an account from another of the same name: where it is filed.
func (o Offer) beside() string {
	if o.Book == "" || o.Folder == "" {
		return o.Book + o.Folder
	}
	return o.Book + " · " + o.Folder
}

// mostOffers bounds how many accounts are offered at once.
const mostOffers = 40

func (s *Pages) offers(items []vault.Item) []Offer {
	out := []Offer{}
	for _, it := range items[:min(len(items), mostOffers)] {
		out = append(out, s.Offer(it))
	}
	return out
}

// FormView is what a form was found to be, and where it sends what is typed if that is
// another site than the page's.
type FormView struct {
	autofill.Reading
	Elsewhere string `json:"elsewhere,omitempty"`
	Typed     []int  `json:"typed"` // fields whose values are wanted once the form is sent
}

// Nothing is why a page gets no offer although its user might expect one.
type Nothing string

// The reasons.
const (
	NothingAsked   Nothing = "asked"    // the user asked that nothing be offered at the site
	NothingNoHTTPS Nothing = "no https" // the logins kept for the site are for https only
	NothingInClear Nothing = "in clear" // cards aren't filled where others can read what is sent
)

// PageView is what the extension gets to know of a page.
type PageView struct {
	Readings []FormView    `json:"readings"`
	Menus    map[int]*Menu `json:"-"` // what is offered, by field
	Key      *KeyFill      `json:"key,omitempty"`
	Offers   []Offer       `json:"-"`
	Cards    []Offer       `json:"-"`
	People   []Offer       `json:"-"`
	Nothing  Nothing       `json:"-"`                // why no login is offered
	NoCards  Nothing       `json:"-"`                // why no card is
	Domain   string        `json:"-"`                // of the page
	Framed   string        `json:"framed,omitempty"` // the frame's site, in a page of another one
	Slip     *SavePrompt   `json:"slip,omitempty"`
	Up       bool          `json:"up,omitempty"` // the page around this frame has a prompt to show
	Alarm    *Alarm        `json:"-"`
	Go       *FillNow      `json:"go,omitempty"`

	asked bool // a password that is asked for is the present one, whatever was sent
}

// Pages reads pages and fills them.
type Pages struct {
	core      *core
	prompts   *Prompts
	generated *Generated
	staged    *Staged
}

// Read says what fits a page, whether it imitates a kept site, and whether a sign-in made on
// the page before should be kept.
func (s *Pages) Read(ctx context.Context, p Page) (PageView, error) {
	if p.Opaque {
		return PageView{Readings: []FormView{}}, nil
	}
	out := PageView{
		Readings: []FormView{}, Menus: map[int]*Menu{}, Offers: []Offer{},
		Framed: p.elsewhere(), Domain: site.Domain(p.URL),
	}
	if !p.Frame {
		var err error
		if out.Alarm, err = s.core.alarm(p.URL); err != nil || out.Alarm != nil {
			return out, err
		}
	}
	at := s.core.Set.Book.Revision()
	items, err := s.core.matching(p.URL)
	if err != nil {
		return out, err
	}
	p.Snapshot.Known = len(items) > 0
	readings := autofill.Read(p.Snapshot)
	if !p.Frame {
		if out.Alarm, err = s.core.claimed(p, readings); err != nil || out.Alarm != nil {
			return out, err
		}
	}
	rule := s.core.Set.Sites.Rule(out.Domain)
	if out.Framed == "" {
		prompt, up, err := s.prompts.due(ctx, p, readings)
		if err != nil {
			return out, err
		}
		if !rule.NoAsk {
			out.Slip, out.Up = prompt, up
		}
	}
	if s.core.Set.Book.Revision() != at { // the prompt changed some
		if items, err = s.core.matching(p.URL); err != nil {
			return out, err
		}
	}
	if items, err = s.core.likelyFirst(p, items); err != nil {
		return out, err
	}
	if rule.NoOffer {
		out.Nothing = NothingAsked
		return out, nil
	}
	for _, r := range readings {
		out.Readings = append(out.Readings, FormView{r, p.sendsElsewhere(r.Form), typedFields(r)})
	}
	out.Offers = s.offers(items)
	if len(items) == 0 {
		out.Nothing = s.whyNothing(p.URL)
	}
	if err := s.offerDetails(&out, p); err != nil {
		return out, err
	}
	if err := s.makeMenus(&out, p, readings); err != nil {
		return out, err
	}
	if !p.Frame {
		out.Go, err = s.fillNow(p, items, out.Readings)
	}
	return out, err
}

// makeMenus decides what is offered at each field.
func (s *Pages) makeMenus(out *PageView, p Page, readings []autofill.Reading) error {
	var names []string
	var err error
	if wantsNames(readings) {
		if names, err = s.core.Usernames(); err != nil {
			return err
		}
	}
	if out.asked, err = s.asksPresent(p, readings); err != nil {
		return err
	}
	maxLength := make(map[int]int, len(p.Snapshot.Fields))
	for _, f := range p.Snapshot.Fields {
		maxLength[f.ID] = f.MaxLength
	}
	out.Menus, out.Key = menus(out, maxLength, names), keyFill(out)
	return s.sayFills(out, p)
}

// asksPresent reports whether a page that asks for a password means the present one, though a new one was sent: it has
// the form still that changes it, or it was sent from this very page.
func (s *Pages) asksPresent(p Page, readings []autofill.Reading) (yes bool, err error) {
	for _, r := range readings {
		yes = yes || r.Kind.Changes() || r.Kind == autofill.Again
	}
	if yes || p.Snapshot.Doc == "" {
		return yes, nil
	}
	err = s.core.gate.Read(func(in *state) error {
		held := in.prompts[p.key()]
		yes = held != nil && held.submission.Kind.Changes() && held.doc == p.Snapshot.Doc
		return nil
	})
	return yes, err
}

// offerDetails offers cards and personal details where a form asks for them.
func (s *Pages) offerDetails(out *PageView, p Page) error {
	cards, people := false, false
	for _, r := range out.Readings {
		cards, people = cards || r.Card, people || r.Details
	}
	switch {
	case cards && !p.secure():
		out.NoCards = NothingInClear
	case cards:
		list, err := s.core.ofType(vault.TypeCard)
		if err != nil {
			return err
		}
		out.Cards = s.offers(list)
	}
	if people {
		list, err := s.core.ofType(vault.TypePerson)
		if err != nil {
			return err
		}
		out.People = s.offers(list)
	}
	return nil
}

// whyNothing says why a page gets no offer although the user might expect one.
func (s *Pages) whyNothing(url string) Nothing {
	rest, plain := strings.CutPrefix(url, "http://")
	if !plain {
		return ""
	}
	if items, err := s.core.matching("https://" + rest); err == nil && len(items) > 0 {
		return NothingNoHTTPS
	}
	return ""
}

// Alarm returns what a page imitates; nil for nothing.
func (s *Pages) Alarm(p Page) (*Alarm, error) { return s.core.alarm(p.URL) }

// NeedsReading reports whether a page has to be read even if it has no fields: it may tell what
// became of a form that was sent before it.
func (s *Pages) NeedsReading(p Page) bool {
	waits := false
	_ = s.core.gate.Read(func(in *state) error { // nothing waits once locked
		held := in.prompts[p.key()]
		waits = held != nil && held.sent
		return nil
	})
	return waits
}

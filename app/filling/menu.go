package filling

import (
	"slices"
	"strconv"

	"redlocket/core/autofill"
)

// Menu is what is offered at one field of a page. The extension draws it and does what is
// pressed; what is in it is decided here, and put into words by the bridge.
type Menu struct {
	NoClasp   bool   // it opens, but no clasp is drawn in the field
	Group     string // fields of one group share a mark
	Elsewhere string // the other site that its user has to agree to first
	Framed    bool   // the frame belongs to it, not the form's target
	Topic     Topic
	Account   string     // that TopicNewFor is about
	Lines     []MenuLine // one below the other
	Acts      []MenuLine // side by side at the foot
}

// Topic is what a menu is about; empty where its lines say it.
type Topic string

// The topics.
const (
	TopicCardCode Topic = "card code" // the security code, which is filled by a press of its own
	TopicCode     Topic = "code"      // one-time codes
	TopicNothing  Topic = "nothing"   // why nothing is offered: see [PageView]
	TopicNoCards  Topic = "no cards"  // why no card is offered: see [PageView]
	TopicNewOf    Topic = "new of"    // a new password for one of several accounts
	TopicNew      Topic = "new"       // a new password for a new account
	TopicNewFor   Topic = "new for"   // a new password for an account
)

// MenuLine is one thing that can be pressed.
type MenuLine struct {
	Name   string // of an item, or a user name; empty for acts that have no item
	Beside string // what stands beside it, quieter: a folder, or what tells an item from others
	State  PasswordState
	Fills  []autofill.Role // of cards and personal details: what of them goes into the form, in its order
	Do     Do
	ID     string
	Part   Part
}

// PasswordState says which of an account's passwords a line fills, where that isn't clear.
type PasswordState string

// The states.
const (
	PasswordJoining PasswordState = "joining" // of a sign-up that the site hasn't confirmed
	PasswordPresent PasswordState = "present" // the one until now
	PasswordStaged  PasswordState = "staged"  // the new one, not confirmed yet
)

// Do says what pressing a line does.
type Do string

// What can be done.
const (
	DoFill    Do = "fill"     // Fill with ID and Part
	DoFillNew Do = "fill-new" // FillNew for the login with ID, or for a new one
	DoType    Do = "type"     // type the line's text into the field
	DoFind    Do = "find"     // open the extension's window
	DoDetails Do = "details"  // open the item's sheet
)

// KeyFill is what the key for filling does on a page: the form, and the logins, one at each
// press.
type KeyFill struct {
	Form int      `json:"form"`
	IDs  []string `json:"ids"`
}

// mostNames bounds how many user names used before are offered.
const mostNames = 4

// menus are what is offered at each field, by its number. names are the user names used before.
func menus(view *PageView, maxLength map[int]int, names []string) map[int]*Menu {
	out := map[int]*Menu{}
	for _, form := range view.Readings {
		for field, role := range form.Roles {
			m := menuFor(view, form, role, names)
			if m == nil {
				continue
			}
			m.NoClasp = maxLength[field] == 1 // a box for one character has no room for it
			m.Elsewhere, m.Framed = view.Framed, view.Framed != ""
			if m.Elsewhere == "" {
				m.Elsewhere = form.Elsewhere
			}
			out[field] = m
		}
	}
	return out
}

// menuFor is what is offered at a field with a role; nil for nothing.
func menuFor(view *PageView, form FormView, role autofill.Role, names []string) *Menu {
	switch {
	case role == autofill.OneTimeCode:
		return codeMenu(view.Offers)
	case role == autofill.NewPassword:
		return newPasswordMenu(view, form)
	case role == autofill.Username && form.Kind == autofill.ForOther:
		return nil
	case role == autofill.Username && form.Kind.Joins():
		return namesMenu(view, form, names)
	case role.Login():
		return loginMenu(view)
	case role.Card() && view.NoCards != "":
		return &Menu{Topic: TopicNoCards, Group: groupName(form, "card")}
	case role == autofill.CardCode:
		m := itemsMenu(view.Cards, PartSafety, "")
		if m != nil {
			m.Topic = TopicCardCode
		}
		return m
	case role.Card():
		return itemsMenu(view.Cards, PartCard, groupName(form, "card"))
	}
	return itemsMenu(view.People, PartDetails, groupName(form, "details"))
}

func groupName(form FormView, what string) string {
	return what + " of form " + strconv.Itoa(form.Form)
}

// itemsMenu offers cards or personal details; nil where there are none.
func itemsMenu(items []Offer, part Part, group string) *Menu {
	if len(items) == 0 {
		return nil
	}
	m := &Menu{Group: group}
	for _, o := range items {
		m.Lines = append(m.Lines, MenuLine{Name: o.Title, Beside: o.Username, Do: DoFill, ID: o.ID, Part: part})
	}
	return m
}

func codeMenu(offers []Offer) *Menu {
	m := &Menu{Topic: TopicCode}
	for _, o := range offers {
		if o.Code {
			line := MenuLine{Name: o.name(), Beside: o.beside(), Do: DoFill, ID: o.ID, Part: PartCode}
			m.Lines = append(m.Lines, line)
		}
	}
	if len(m.Lines) == 0 {
		return nil
	}
	return m
}

// name is what tells an account from others of its site.
func (o Offer) name() string {
	if o.Username != "" {
		return o.Username
	}
	return o.Title
}

// loginMenu offers the accounts of the site. Where a new password waits for the site, both are: first the one that the
// site has, as far as is known.
func loginMenu(view *PageView) *Menu {
	if len(view.Offers) == 0 && view.Nothing == "" {
		return nil
	}
	m := &Menu{Acts: []MenuLine{{Do: DoFind}}}
	offers := slices.Clone(view.Offers)
	slices.SortStableFunc(offers, func(a, b Offer) int { // who has just signed up signs in with that
		switch {
		case a.Joining == b.Joining:
			return 0
		case a.Joining:
			return -1
		}
		return 1
	})
	for _, o := range offers {
		line := MenuLine{Name: o.name(), Beside: o.beside(), Do: DoFill, ID: o.ID, Part: PartLogin}
		switch {
		case o.Joining:
			line.State = PasswordJoining
		case o.Staged:
			line.State = PasswordPresent
			fresh := line
			fresh.State, fresh.Part = PasswordStaged, PartStaged
			if o.Sent && !view.asked { // the site has it, as far as is known
				line, fresh = fresh, line
			}
			m.Lines = append(m.Lines, line, fresh)
			continue
		}
		m.Lines = append(m.Lines, line)
	}
	switch len(view.Offers) {
	case 0:
		if view.Nothing != "" {
			m.Topic = TopicNothing
		}
	case 1:
		m.Acts = append(m.Acts, MenuLine{Do: DoDetails, ID: view.Offers[0].ID})
	}
	return m
}

// newPasswordMenu offers to make a password: for a new login, for the one whose password is
// being changed, or for one of several.
func newPasswordMenu(view *PageView, form FormView) *Menu {
	change := form.Kind.Changes()
	if change && len(view.Offers) > 1 {
		m := &Menu{Topic: TopicNewOf}
		for _, o := range view.Offers {
			m.Lines = append(m.Lines, MenuLine{Name: o.name(), Beside: o.beside(), Do: DoFillNew, ID: o.ID})
		}
		return m
	}
	act := MenuLine{Do: DoFillNew}
	m := &Menu{Topic: TopicNew}
	if change && len(view.Offers) == 1 {
		o := view.Offers[0]
		act.ID = o.ID
		m.Topic, m.Account = TopicNewFor, o.name()
	}
	m.Acts = []MenuLine{act}
	return m
}

// namesMenu offers the user names used before, and whose details the form wants all of.
func namesMenu(view *PageView, form FormView, names []string) *Menu {
	m := &Menu{}
	for _, name := range names[:min(len(names), mostNames)] {
		m.Lines = append(m.Lines, MenuLine{Name: name, Do: DoType})
	}
	if form.Details {
		for _, o := range view.People[:min(len(view.People), 2)] {
			m.Acts = append(m.Acts, MenuLine{Name: o.Title, Do: DoFill, ID: o.ID, Part: PartDetails})
		}
	}
	if len(m.Lines)+len(m.Acts) == 0 {
		return nil
	}
	return m
}

// sayFills notes at the lines for cards and personal details what of them the form would get:
// fields may stand where nobody looks.
func (s *Pages) sayFills(out *PageView, p Page) error {
	for _, form := range out.Readings {
		if !form.Card && !form.Details {
			continue
		}
		known := map[string][]autofill.Role{}
		for field := range form.Roles {
			m := out.Menus[field]
			if m == nil {
				continue
			}
			for _, lines := range [][]MenuLine{m.Lines, m.Acts} {
				for i, l := range lines {
					if l.Part != PartCard && l.Part != PartDetails {
						continue
					}
					roles, ok := known[l.ID]
					if !ok {
						var err error
						if roles, err = s.fillsOf(p, form.Reading, l); err != nil {
							return err
						}
						known[l.ID] = roles
					}
					lines[i].Fills = roles
				}
			}
		}
	}
	return nil
}

// fillsOf are the roles of the fields that a line would fill, each once.
func (s *Pages) fillsOf(p Page, form autofill.Reading, l MenuLine) (roles []autofill.Role, err error) {
	e, err := s.core.Set.Items.ToFill(l.ID)
	if err != nil {
		return nil, err
	}
	values, err := s.valuesOf(e, p, form, l.Part)
	if err != nil {
		return nil, err
	}
	fills, _ := autofill.Plan(p.Snapshot, form, values)
	for _, f := range fills {
		if !slices.Contains(roles, f.Role) {
			roles = append(roles, f.Role)
		}
	}
	return roles, nil
}

// keyFill is what the key for filling does; nil where there is nothing to fill.
func keyFill(view *PageView) *KeyFill {
	for _, kinds := range [][]autofill.Kind{
		{autofill.SignIn},
		{autofill.FirstStep, autofill.Again, autofill.ByMail, autofill.Forgot},
	} {
		i := slices.IndexFunc(view.Readings, func(r FormView) bool { return slices.Contains(kinds, r.Kind) })
		if i < 0 {
			continue
		}
		k := &KeyFill{Form: view.Readings[i].Form, IDs: []string{}}
		for _, o := range view.Offers {
			k.IDs = append(k.IDs, o.ID)
		}
		return k
	}
	return nil
}

// typedFields are the fields of a form whose values are wanted once it is sent.
func typedFields(r autofill.Reading) []int {
	out := []int{}
	for field, role := range r.Roles {
		if role.Login() {
			out = append(out, field)
		}
	}
	slices.Sort(out)
	return out
}

// wantsNames reports whether user names used before are to be offered on a page.
func wantsNames(readings []autofill.Reading) bool {
	return slices.ContainsFunc(readings, func(r autofill.Reading) bool {
		return r.Kind.Joins() && r.Has(autofill.Username)
	})
}

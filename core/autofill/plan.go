package autofill

import (
	"cmp"
	"regexp"
	"strings"
	"unicode/utf8"

	"redlocket/core/secret"
)

// Fill is one value for one field. Of a drop-down it is the value of an option.
type Fill struct {
	Field int
	Role  Role
	Value secret.Text
}

// Miss is a field that should have got a value and didn't.
type Miss struct {
	Field int
	Label string // what the page calls it
	Why   MissReason
	Most  int    // characters that the field takes, of MissTooLong; boxes, of MissBoxes
	Has   int    // digits of the code, of MissBoxes
	Text  string // that none of the choices is, of MissChoice
}

// MissReason is why a field got nothing.
type MissReason string

// The reasons.
const (
	MissLocked      MissReason = "locked"       // the page doesn't let it be changed
	MissTooLong     MissReason = "too long"     // the value has more characters than the field takes
	MissHidesTyping MissReason = "hides typing" // it has become a box for a password
	MissShowsTyping MissReason = "shows typing" // it has become a box that shows what is typed
	MissBoxes       MissReason = "boxes"        // a code has another number of digits than there are boxes
	MissRoom        MissReason = "room"         // several boxes together are too short
	MissUneven      MissReason = "uneven"       // a number doesn't come out even in several boxes
	MissChoice      MissReason = "choice"       // none of the choices is it
	MissMonth       MissReason = "month"        // none of the choices is the month
	MissCountryCode MissReason = "country code" // the telephone number has none, and one is wanted
	MissPattern     MissReason = "pattern"      // the page wants it written in another way
)

// Card is what a plan may fill of a payment card. Month is from 1, year has four
// digits; 0 for unknown.
type Card struct {
	Name, Number, Code secret.Text
	Brand              string
	Month, Year        int
}

// Person is what a plan may fill of personal details: by role, as they are kept.
// Birthday is 2006-01-02, country an ISO 3166-1 code, street lines separated by line ends.
type Person map[Role]string

// Values are what a plan may draw on. What is empty is not planned.
type Values struct {
	Username, Password, NewPassword, Code secret.Text
	Card                                  *Card
	Person                                Person
}

// Plan says what goes where in one form of the snapshot. A password goes only into a
// field that the reading gave that role, a user name never into a password's box,
// a card's security code only into its own, and nothing into a field that is locked
// or too short for it.
func Plan(s Snapshot, r Reading, v Values) (fills []Fill, missed []Miss) {
	s = s.Bound()
	p := &planner{snapshot: s, reading: r, values: v, done: map[int]bool{}}
	for i, f := range s.Fields {
		if role, ok := r.Roles[f.ID]; ok && f.Form == r.Form && fillable(f) && !p.done[f.ID] {
			p.plan(i, f, role)
		}
	}
	return p.fills, p.missed
}

type planner struct {
	snapshot Snapshot
	reading  Reading
	values   Values
	done     map[int]bool
	fills    []Fill
	missed   []Miss
}

func (p *planner) put(f Field, role Role, value secret.Text) {
	p.fills = append(p.fills, Fill{f.ID, role, value})
}

func (p *planner) miss(f Field, m Miss) {
	m.Field, m.Label = f.ID, cmp.Or(strings.TrimSpace(f.Label), strings.TrimSpace(f.Name))
	p.missed = append(p.missed, m)
}

// pieces are the fields from i on that have the role, one after the other, as one value
// is typed into several boxes.
func (p *planner) pieces(i int, role Role) []Field {
	out := []Field{}
	for _, f := range p.snapshot.Fields[i:] {
		if f.Form != p.reading.Form || p.reading.Roles[f.ID] != role || !fillable(f) {
			break
		}
		out = append(out, f)
	}
	return out
}

// spread types a value into several boxes, each to its length. It must come out even.
func (p *planner) spread(boxes []Field, role Role, value string) {
	room := 0
	for _, f := range boxes {
		p.done[f.ID] = true
		room += f.MaxLength
	}
	if room < len(value) {
		p.miss(boxes[0], Miss{Why: MissRoom})
		return
	}
	for _, f := range boxes {
		n := min(f.MaxLength, len(value))
		if n > 0 {
			p.put(f, role, secret.New(value[:n]))
		}
		value = value[n:]
	}
}

func (p *planner) plan(i int, f Field, role Role) {
	if !role.Login() && !role.Card() && p.values.Person == nil && role != Email {
		return
	}
	changes := p.reading.Kind == Change || p.reading.Kind == Reset
	if f.Given && changes && (role == Username || role == Email) {
		return // the page's own word about whose account it is
	}
	var value secret.Text
	switch role {
	case Username:
		value = p.values.Username
		if value.IsEmpty() || f.Locked { // the second page often shows it so
			return
		}
		if f.Type == "password" {
			p.miss(f, Miss{Why: MissHidesTyping})
			return
		}
	case Email:
		if value = secret.New(p.values.Person[Email]); value.IsEmpty() &&
			strings.Contains(p.values.Username.Reveal(), "@") {
			value = p.values.Username
		}
	case CurrentPassword:
		value = p.values.Password
	case NewPassword:
		value = p.values.NewPassword
	case OneTimeCode:
		value = p.values.Code
		if boxes := p.pieces(i, role); !value.IsEmpty() && f.MaxLength == 1 && len(boxes) > 1 {
			if len(boxes) != len(value.Reveal()) {
				for _, b := range boxes {
					p.done[b.ID] = true
				}
				p.miss(f, Miss{Why: MissBoxes, Has: len(value.Reveal()), Most: len(boxes)})
				return
			}
			p.spread(boxes, role, value.Reveal())
			return
		}
	default:
		if role.Card() {
			p.card(i, f, role)
		} else {
			p.person(i, f, role)
		}
		return
	}
	if value.IsEmpty() {
		return
	}
	switch {
	case f.Locked:
		p.miss(f, Miss{Why: MissLocked})
	case (role == CurrentPassword || role == NewPassword) && f.Type != "password" && !look(f).isPassword():
		p.miss(f, Miss{Why: MissShowsTyping})
	case f.MaxLength > 0 && utf8.RuneCountInString(value.Reveal()) > f.MaxLength:
		p.miss(f, Miss{Why: MissTooLong, Most: f.MaxLength})
	default:
		p.put(f, role, value)
	}
}

// fits puts a text into a field if it may.
func (p *planner) fits(f Field, role Role, value string) {
	switch {
	case value == "":
		return
	case f.Locked:
		p.miss(f, Miss{Why: MissLocked})
	case f.MaxLength > 0 && utf8.RuneCountInString(value) > f.MaxLength:
		p.miss(f, Miss{Why: MissTooLong, Most: f.MaxLength})
	default:
		p.put(f, role, secret.New(value))
	}
}

// pick chooses an option of a drop-down.
func (p *planner) pick(f Field, role Role, wanted ...string) {
	if f.Locked {
		p.miss(f, Miss{Why: MissLocked})
		return
	}
	if v, ok := choose(f.Options, wanted...); ok {
		p.put(f, role, secret.New(v))
		return
	}
	if len(wanted) > 0 && wanted[0] != "" {
		if v, ok := same(f.Options, alike(role, wanted[0], p.values.Person[Country])); ok {
			p.put(f, role, secret.New(v))
			return
		}
		p.miss(f, Miss{Why: MissChoice, Text: wanted[0]})
	}
}

// matches reports whether a text is what a pattern attribute wants. One that Go can't
// read is met by everything: the page will say.
func matches(pattern, text string) bool {
	re, err := regexp.Compile("^(?:" + pattern + ")$")
	return err != nil || re.MatchString(text)
}

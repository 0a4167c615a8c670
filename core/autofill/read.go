package autofill

import (
	"slices"
	"strings"
	"unicode"
)

// Kind is what a form is for, as far as it has to do with a login.
type Kind string

// The kinds.
const (
	SignIn Kind = "sign-in"
	// FirstStep asks for the user name alone; the password comes on a later page.
	FirstStep Kind = "first-step"
	SignUp    Kind = "sign-up"
	Change    Kind = "change" // asks for the current password too
	Reset     Kind = "reset"  // sets a new password without the old one
	Forgot    Kind = "forgot" // asks who it is that forgot
	CodeForm  Kind = "code"   // asks for a one-time code alone
	// Again asks somebody who is signed in for the password once more, before something that matters.
	Again Kind = "password-again"
	// ByMail signs in with a link or a code that is sent, and with no password.
	ByMail Kind = "sign-in-by-mail"
	// SetUp sets up a program that runs on the web, with its first account.
	SetUp Kind = "set-up"
	// ForOther makes an account for somebody else.
	ForOther Kind = "for-somebody-else"
	Other    Kind = "other" // asks for a card or details and has nothing to do with a login
)

// Joins reports whether a form makes an account for who fills it in.
func (k Kind) Joins() bool { return k == SignUp || k == SetUp }

// Changes reports whether a form gives an account another password.
func (k Kind) Changes() bool { return k == Change || k == Reset }

// Reading is what a form was found to be.
type Reading struct {
	Form    int          `json:"form"`
	Kind    Kind         `json:"kind"`
	Roles   map[int]Role `json:"roles"`             // by field id
	Card    bool         `json:"card,omitempty"`    // it asks for a payment card
	Details bool         `json:"details,omitempty"` // it asks for personal details

	Why map[int][]string `json:"-"` // by field id: the rules that spoke about it
}

// Has reports whether some field of the form has the role.
func (r Reading) Has(role Role) bool {
	for _, o := range r.Roles {
		if o == role {
			return true
		}
	}
	return false
}

// Read finds the forms of a snapshot that something could be filled into. Forms
// that ask for nothing a vault has (search, newsletter, a comment) are left out.
func Read(s Snapshot) []Reading {
	s = s.Bound()
	p := frame{
		about: lex.read(normal(s.Title, s.Heads)), path: lex.read(normal(s.Path)),
		known: s.Known, signedIn: s.SignedIn, fields: len(s.Fields), foreign: foreign(s),
	}
	forms := map[int]Form{}
	for _, f := range s.Forms {
		forms[f.ID] = f
	}
	byForm := map[int][]*candidate{}
	var order []int
	for _, f := range s.Fields {
		if !fillable(f) {
			continue
		}
		if _, ok := byForm[f.Form]; !ok {
			order = append(order, f.Form)
		}
		byForm[f.Form] = append(byForm[f.Form], look(f))
	}
	var out []Reading
	for _, id := range order {
		if r, ok := p.read(forms[id], byForm[id]); ok {
			r.Form = id
			out = append(out, r)
		}
	}
	return out
}

// foreign reports whether a page is written in a language, or in letters, whose words aren't known here.
func foreign(s Snapshot) bool {
	base, _, _ := strings.Cut(strings.ToLower(s.Lang), "-")
	if base != "" && !lex.languages[base] {
		return true
	}
	for _, f := range s.Fields {
		about := lex.read(normal(s.Title, s.Heads, f.Label))
		if about != (said{}) {
			return false
		}
		for _, r := range f.Label {
			if unicode.IsLetter(r) && !unicode.Is(unicode.Latin, r) {
				return true
			}
		}
	}
	return false
}

// frame is what the frame as a whole says.
type frame struct {
	about, path     said
	known, signedIn bool // the vault has logins for the site; somebody is signed in
	fields          int  // in the whole frame
	foreign         bool // it speaks a language whose words aren't known here
}

// candidate is a field with what its texts say, and the role it is given.
type candidate struct {
	Field
	label, name, near said
	all               said // label and name
	section           said // near, and the heading over it
	token             Role
	part              string
	role              Role
	digits            []int    // of a drop-down's options
	folded            []string // their texts, once they were asked for
	why               []string // the rules that spoke for its role
}

func look(f Field) *candidate {
	c := &candidate{
		Field: f,
		label: lex.read(normal(f.Label)),
		name:  lex.read(normal(f.Name)),
		near:  lex.read(normal(f.Near)),
	}
	c.section = c.near.or(lex.read(normal(f.Section)))
	n := strings.Fields(normal(f.Name))
	if c.label == (said{}) && len(n) > 0 && (n[0] == "q" || n[0] == "s") && n[len(n)-1] == n[0] {
		c.name.add(saysSearch) // what search boxes are called, and nothing else is (common practice)
	}
	if f.Type == "select" && c.label.or(c.name) == (said{}) && len(f.Options) > 0 {
		c.label = lex.read(normal(f.Options[0].Text)) // "State", "Month": what it shows before somebody chooses
	}
	c.all = c.label.or(c.name)
	c.token, c.part, _ = tokenRole(f.Autocomplete)
	c.digits = numbersOf(f.Options)
	return c
}

// fillable leaves out what nothing of a vault could go into. Fields that a person
// can't see are never filled: a page could be collecting in them.
func fillable(f Field) bool {
	if !f.Visible {
		return false
	}
	switch strings.ToLower(f.Type) {
	case "", "text", "email", "tel", "password", "number", "url", "date", "month", "select", "textarea":
		return true
	}
	return false
}

// forMachine reports whether the field asks for what one program needs to sign in to another.
func (c *candidate) forMachine() bool { return c.all.or(c.near).has(saysMachine) }

func (c *candidate) text() bool {
	switch c.Type {
	case "", "text", "email", "tel", "number", "url":
		return true
	}
	return false
}

// isPassword reports whether the field takes a password: by its type, or because
// the page shows what is typed and leaves no doubt.
func (c *candidate) isPassword() bool {
	if c.forMachine() {
		return false
	}
	if c.all.any(saysSecretOther, saysThing) && c.token != CurrentPassword && c.token != NewPassword {
		return false
	}
	if c.Type == "password" {
		return c.token == "" || c.token == CurrentPassword || c.token == NewPassword ||
			c.token == Username && !c.label.has(saysUser)
	}
	if !c.text() || c.Type == "email" {
		return false
	}
	if c.token == CurrentPassword || c.token == NewPassword {
		return true
	}
	return c.token == "" &&
		(c.label.has(saysPassword) && (c.name.has(saysPassword) || c.label.has(saysAgain)) ||
			c.label.has(saysChange)) &&
		!c.all.any(saysUser, saysMail, saysCode, saysSecretOther, saysThing, saysForgot)
}

func (c *candidate) isCode() bool {
	switch {
	case c.token == OneTimeCode:
		return true
	case c.token != "" || c.Type == "email" || c.Type == "select" || c.Type == "textarea" ||
		c.all.any(saysOther, saysSecretOther, saysThing, saysUser):
		return false
	case c.label.has(saysCode) && c.label.has(saysMail):
		return strings.HasPrefix(normal(c.Label), " code ") // "Code from the e-mail", not "E-mail or customer code"
	case c.label.has(saysCode):
		return !c.label.any(saysPassword, saysChange, saysMail) || c.Type != "password" && !c.label.has(saysMail)
	}
	return c.name.has(saysCode) && !c.label.any(saysPassword, saysChange, saysMail, saysUser) &&
		!c.says(Postcode, TelCountry, Country, CardCode)
}

// says reports whether the label or the name speaks of one of the roles.
func (c *candidate) says(roles ...Role) bool {
	for _, r := range roles {
		if c.all.has(classOf[r]) {
			return true
		}
	}
	return false
}

var classOf = func() map[Role]class {
	out := map[Role]class{}
	for i, r := range namedRoles {
		out[r] = firstRole + class(i)
	}
	return out
}()

// evidence weighs what a form and its page say they are for.
type evidence struct {
	signUp, signIn, change, forgot, news, search int
	setUp, forOther, byMail, confirm, thing      int
	next, other                                  bool // the button goes on to something; to something else
	unpaidCard                                   bool // it is about a card that nothing is paid with
}

// The words of the button that sends a form say best what it is for, then its
// heading, its name and address, and the page's title and path.
func (p frame) weigh(f Form) (e evidence) {
	submit, head := lex.read(normal(f.Submit)), lex.read(normal(f.Head))
	name, text := lex.read(normal(f.Name)), lex.read(normal(f.Text))
	for _, w := range []struct {
		said
		weight int
	}{{submit, 5}, {head, aHeading}, {name, 3}, {p.about, 2}, {p.path, 2}} {
		for _, c := range []struct {
			class class
			to    *int
		}{{saysSignUp, &e.signUp}, {saysSignIn, &e.signIn}, {saysChange, &e.change}, {saysForgot, &e.forgot},
			{saysNewsletter, &e.news}, {saysSearch, &e.search}, {saysSetUp, &e.setUp}, {saysForOther, &e.forOther},
			{saysByMail, &e.byMail}, {saysConfirm, &e.confirm}, {saysThing, &e.thing}} {
			if w.has(c.class) {
				*c.to += w.weight
			}
		}
	}
	e.next, e.other = submit.has(saysNext), submit.has(saysOther)
	e.unpaidCard = submit.or(head).has(saysUnpaidCard)
	if text.has(saysRemember) {
		e.signIn += 3
	}
	if text.has(saysAgrees) {
		e.signUp += 2
	}
	if text.has(saysForgot) {
		e.signIn += 2 // the way out for who can't sign in
	}
	return e
}

// read finds out what a form is for and what its fields are.
func (p frame) read(form Form, fields []*candidate) (Reading, bool) {
	e := p.weigh(form)
	card := findCard(e, fields)
	codePieces(form, p, fields)
	passwords := findPasswords(fields, card)
	if e.ofThing(fields) {
		passwords = nil
	}
	asked := details(fields)
	passwordRoles(passwords, e, asked)
	kind := p.kind(e, fields, passwords, asked, card)
	again(fields)
	switch kind {
	case SignIn, FirstStep, CodeForm, Forgot, Again, ByMail:
		for _, c := range fields {
			if !c.role.Login() {
				c.role = ""
			}
		}
		asked, card = 0, false
	case ForOther, SetUp: // the details are somebody else's, or a program's
		for _, c := range fields {
			if c.role.Details() && c.role != Email {
				c.role = ""
			}
		}
		asked = 0
	}
	writes := slices.ContainsFunc(fields, func(c *candidate) bool { return c.all.has(saysOther) }) // a message
	loose := e.search > 0 || e.news > 0 && e.signUp == 0 || kind == "" && !card && writes
	r := Reading{Kind: kind, Card: card, Details: asks(fields, asked, loose) || (kind == SignUp || card) && asked > 0}
	if r.Kind == "" {
		if !r.Card && !r.Details {
			return r, false
		}
		r.Kind = Other
	}
	r.take(fields)
	return r, len(r.Roles) > 0
}

// ofThing reports whether the secret that a form asks for belongs to no account, but to a thing: a wireless network, a
// mail server, a gift card, a document. Who only heads a form for a user name with such a thing lets one sign in to it.
func (e evidence) ofThing(fields []*candidate) bool {
	thing := e.thing
	switch {
	case slices.ContainsFunc(fields, func(c *candidate) bool { return c.all.any(saysThing, saysMachine) }):
		thing += aHeading // a field that speaks of one says as much
	case slices.ContainsFunc(fields, func(c *candidate) bool { return c.text() && c.label.any(saysUser, saysMail) }):
		return false
	}
	return thing > max(e.signIn, e.signUp, e.change, e.forgot, e.setUp, e.forOther)
}

// findPasswords gives one-time codes their role, and returns the fields for passwords.
func findPasswords(fields []*candidate, card bool) (passwords []*candidate) {
	for _, c := range fields {
		switch {
		case c.role != "":
		case card && c.says(CardCode) && !c.label.has(saysPassword): // belongs to the card
		case c.isCode():
			c.role = OneTimeCode
			c.why = append(c.why, "speaks of a one-time code")
		case c.Type == "password" && c.Locked && c.Filled: // stars that stand for the one that is kept there
		case c.isPassword() && !(c.Type == "password" && c.MaxLength > 0 && c.MaxLength < 4):
			passwords = append(passwords, c)
		}
	}
	return passwords
}

// kind finds the field for the user name and tells what the form is for; empty for nothing that
// has to do with a login.
func (p frame) kind(e evidence, fields, passwords []*candidate, asked int, card bool) Kind {
	kind := p.kindOf(passwords, e, fields)
	if user := p.userField(kind, fields, passwords); user != nil {
		if kind == "" {
			kind = p.withoutPassword(user, e, fields, asked, card)
		}
		if kind != "" {
			user.role = Username
			user.why = append(user.why, "the likeliest for the user name")
		}
	} else if kind == SignIn && p.asksAgain(e, passwords) {
		kind = Again
	}
	hasCode := slices.ContainsFunc(fields, func(c *candidate) bool { return c.role == OneTimeCode })
	if kind == "" && hasCode && !card && asked < 2 {
		return CodeForm
	}
	return kind
}

// take notes the fields' roles, but for those that a form of its kind can't have.
func (r *Reading) take(fields []*candidate) {
	r.Roles, r.Why = map[int]Role{}, map[int][]string{}
	for _, c := range fields {
		switch {
		case c.role == "",
			c.role.Card() && !r.Card,
			c.role.Details() && !r.Details && c.role != Email,
			r.Kind == Other && c.role.Login():
		default:
			r.Roles[c.ID], r.Why[c.ID] = c.role, c.why
		}
	}
}

// asks reports whether the form asks for personal details: two of them, or one that
// it names by the standard's word.
func asks(fields []*candidate, details int, loose bool) bool {
	if details >= 2 {
		return !loose || details >= 3
	}
	return slices.ContainsFunc(fields, func(c *candidate) bool {
		return c.role.Details() && c.token != "" && c.token != Email && c.token != Telephone && c.token != Website &&
			!loose
	})
}

// codePieces finds a one-time code that is typed into a box for each digit. Boxes of
// one character for a password's chosen letters look alike: unless the page speaks of
// a code they are left alone.
func codePieces(form Form, p frame, fields []*candidate) {
	for i := 0; i < len(fields); {
		j := i
		for j < len(fields) && fields[j].MaxLength == 1 && (fields[j].text() || fields[j].Type == "password") {
			j++
		}
		if n := j - i; n >= 4 && n <= 8 {
			about := p.about.or(lex.read(normal(form.Head, form.Submit, form.Text))).
				or(fields[i].all).
				or(fields[i].near)
			if fields[i].token == OneTimeCode || about.has(saysCode) {
				for _, c := range fields[i:j] {
					c.role = OneTimeCode
				}
			}
		}
		i = max(j, i+1)
	}
}

// again takes a second box for the e-mail address for what it is.
func again(fields []*candidate) {
	for _, c := range fields {
		if c.role == "" && c.text() && (c.Type == "email" || c.all.has(saysMail)) &&
			!c.all.any(saysNewsletter, saysSearch) {
			c.role = Email
		}
	}
}

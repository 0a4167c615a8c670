package autofill

import (
	"slices"
	"strings"
)

// kindOf tells what a form is for by the passwords it asks for; empty if it asks for none.
func (p frame) kindOf(passwords []*candidate, e evidence, fields []*candidate) Kind {
	current, fresh := 0, 0
	for _, c := range passwords {
		if c.role == NewPassword {
			fresh++
		} else {
			current++
		}
	}
	words := max(e.signUp, e.signIn, e.change, e.forgot)
	switch {
	case fresh+current > 0 && e.forOther >= 4 && (p.signedIn || e.forOther > words):
		return ForOther
	case fresh > 0 && current == 0 && e.forOther > 0 && p.signedIn:
		return ForOther
	case fresh+current > 0 && e.setUp >= 4 && e.setUp > words:
		for _, c := range passwords {
			c.role = NewPassword
		}
		return SetUp
	case fresh > 0 && current > 0:
		return Change
	case fresh > 0:
		others := slices.ContainsFunc(
			fields,
			func(c *candidate) bool { return c.text() && !c.isPassword() && c.role != OneTimeCode && !c.Locked },
		)
		reset := max(e.change, e.forgot)
		given := slices.ContainsFunc(fields, func(c *candidate) bool { // the page says whose account it is
			return c.Given && c.text() && (c.role == Username || c.role == Email || c.all.any(saysUser, saysMail))
		})
		if given && e.signUp <= reset {
			return Reset
		}
		if reset > e.signUp || reset == e.signUp && !others {
			return Reset
		}
		return SignUp
	case current > 0:
		return SignIn
	}
	return ""
}

// userField picks the field for the user name: by what it says of itself, and by how
// near it stands before the first password.
func (p frame) userField(kind Kind, fields, passwords []*candidate) *candidate {
	first := -1
	if len(passwords) > 0 {
		first = slices.Index(fields, passwords[0])
	}
	best, most := (*candidate)(nil), 0
	for i, c := range fields {
		if !c.text() || c.Type == "url" || c.role == OneTimeCode || slices.Contains(passwords, c) || c.role.Card() ||
			c.all.any(saysSecretOther, saysThing) || c.forMachine() ||
			c.MaxLength == 1 {
			continue
		}
		user := c.all.has(saysUser)
		n := 0
		switch {
		case c.token == Username:
			n = 100
		case c.all.has(saysSearch) && !user, c.all.has(saysOther) && !user && c.token == "":
			continue
		case c.all.has(saysAgain) && i > 0 && best != nil, kind == SignIn && c.label.has(saysNew):
			continue
		case c.label.has(saysUser) && c.token != Email:
			n = 55
		case c.token == Email, user:
			n = 50
		case c.Type == "email", c.all.has(saysMail):
			n = 45
		case c.token == Telephone || c.Type == "tel" || c.says(Telephone):
			n = 20
		case c.token != "", c.Type == "number":
			continue // some other part of a form: a name, a street
		case c.says(FamilyName, GivenName, Birthday, Postcode, Street, Town):
			continue
		case kind == SignIn && first >= 0 && i < first, first < 0 && p.fields == 1 && p.known && p.foreign:
			n = 15 // a box with nothing that is known on it
		}
		if first >= 0 && n > 0 {
			if i < first {
				n += 10
			}
			if i == first-1 && kind == SignIn {
				n += 5
			}
		}
		if kind == SignUp && c.role.Details() && c.role != Email && c.role != Telephone && c.token == "" && n < 50 {
			continue
		}
		if n > most && n >= 15 {
			best, most = c, n
		}
	}
	return best
}

// aHeading is how much the heading of a form weighs: more than the page around it.
const aHeading = 4

// asksAgain tells a page that asks who is signed in for the password once more from the second page of a sign-in.
func (p frame) asksAgain(e evidence, passwords []*candidate) bool {
	said := e.confirm > 0
	for _, c := range passwords {
		said = said || c.all.or(c.near).has(saysConfirm)
	}
	return said && e.signIn < 5 || p.signedIn
}

// withoutPassword tells a sign-in's first page from the many forms that ask for an
// e-mail address.
func (p frame) withoutPassword(user *candidate, e evidence, fields []*candidate, details int, card bool) Kind {
	texts := 0
	for _, c := range fields {
		if c.text() && c.role != OneTimeCode && !c.Locked {
			texts++
		}
	}
	news := e.news >= aHeading || e.news > 0 && e.news >= e.signUp
	if card || e.search > e.signIn || news && e.news >= e.signIn ||
		user.all.has(saysNewsletter) ||
		slices.ContainsFunc(fields, func(c *candidate) bool { return c.Type == "textarea" }) {
		return ""
	}
	loner := texts == 1 && p.fields == 1 // the page asks for nothing else
	switch {
	case texts <= 2 && e.byMail > 0 && e.forgot == 0:
		return ByMail
	case texts <= 2 && e.forgot > 0 && e.forgot >= e.signIn && e.forgot >= e.signUp:
		return Forgot
	case texts <= 2 && e.change > e.signIn && e.change > e.signUp:
		return Forgot
	case e.signUp > e.signIn && (texts <= 3 || details >= 2):
		return SignUp
	case texts <= 2 && (user.token == Username || strings.Contains(strings.ToLower(user.Autocomplete), "webauthn")):
		return FirstStep
	case texts <= 2 && e.signIn > 0 && e.signIn >= e.signUp && details <= 1:
		return FirstStep
	case loner && (e.next || p.known) && !e.other && (user.all.any(saysUser, saysMail) || user.says(Telephone)):
		return FirstStep
	case loner && p.known && p.foreign:
		return FirstStep
	}
	return ""
}

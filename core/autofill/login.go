package autofill

import (
	"slices"
	"strings"
)

func passwordRoles(list []*candidate, e evidence, details int) {
	n := len(list)
	for i, c := range list {
		fresh := c.all.any(saysNew, saysAgain, saysChange) || c.near.has(saysAgain) && n > 1
		old := c.label.has(saysCurrent) || c.name.has(saysCurrent) && !fresh
		switch {
		case c.token == NewPassword && n == 1 && e.signIn >= 4 && e.signUp == 0 && e.change == 0 && !fresh:
			c.role = CurrentPassword // said only to keep browsers from filling it
		case c.token == CurrentPassword || c.token == NewPassword:
			c.role = c.token
		case old && !c.label.has(saysAgain):
			c.role = CurrentPassword
		case c.all.has(saysAgain) && i > 0:
			c.role = NewPassword
		case fresh && !(n == 1 && e.signIn > max(e.signUp, e.change)):
			c.role = NewPassword
		}
	}
	for i, c := range list {
		if c.role != "" {
			continue
		}
		switch {
		case n >= 3: // common practice: current, new, new again
			c.role = NewPassword
			if i == 0 && e.signUp <= e.change {
				c.role = CurrentPassword
			}
		case n == 2 && i == 0 && list[1].role == NewPassword:
			c.role = NewPassword
			if !list[1].all.has(saysAgain) || e.change > e.signUp && !list[1].all.has(saysPassword) {
				c.role = CurrentPassword
			}
			if list[1].all.has(saysAgain) && list[1].token == "" || e.signUp > e.change {
				c.role = NewPassword
			}
		case n == 2 && i == 1 && list[0].role != "":
			c.role = NewPassword
		case n == 2:
			c.role = NewPassword
			if i == 0 && e.change > e.signUp && e.forgot == 0 {
				c.role = CurrentPassword
			}
		case e.signUp > e.signIn, e.signIn == 0 && max(e.change, e.forgot) > 0, e.signIn == 0 && details >= 2:
			c.role = NewPassword
		default:
			c.role = CurrentPassword
		}
	}
}

func kindOf(passwords []*candidate, e evidence, fields []*candidate) Kind {
	current, fresh := 0, 0
	for _, c := range passwords {
		if c.role == NewPassword {
			fresh++
		} else {
			current++
		}
	}
	switch {
	case fresh > 0 && current > 0:
		return Change
	case fresh > 0:
		others := slices.ContainsFunc(
			fields,
			func(c *candidate) bool { return c.text() && !c.isPassword() && c.role != OneTimeCode && !c.Locked },
		)
		reset := max(e.change, e.forgot)
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
func userField(kind Kind, fields, passwords []*candidate) *candidate {
	first := -1
	if len(passwords) > 0 {
		first = slices.Index(fields, passwords[0])
	}
	best, most := (*candidate)(nil), 0
	for i, c := range fields {
		if !c.text() || c.Type == "url" || c.role == OneTimeCode || slices.Contains(passwords, c) || c.role.Card() ||
			c.all.any(saysSecretOther) ||
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
		case kind == SignIn && first >= 0 && i < first:
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

// withoutPassword tells a sign-in's first page from the many forms that ask for an
// e-mail address.
func withoutPassword(user *candidate, e evidence, fields []*candidate, details int, card bool) Kind {
	texts := 0
	for _, c := range fields {
		if c.text() && c.role != OneTimeCode && !c.Locked {
			texts++
		}
	}
	if card || e.search > e.signIn || e.news > 0 && e.news >= e.signIn && e.news >= e.signUp ||
		user.all.has(saysNewsletter) ||
		slices.ContainsFunc(fields, func(c *candidate) bool { return c.Type == "textarea" }) {
		return ""
	}
	switch {
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
	}
	return ""
}

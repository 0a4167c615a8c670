package autofill

import (
	"regexp"
	"slices"
)

// sixteen is how pages show where a card's number goes without saying so.
var sixteen = regexp.MustCompile(`(?:^|\s)(?:[0-9xX#•*]{4}[ -]?){3}[0-9xX#•*]{1,7}$`)

// inDate reports whether the field belongs to a card's date.
func (x clue) inDate() bool {
	return x.says(CardExpiry, CardMonth, CardYear) || x.near.has(classOf[CardExpiry])
}

// silent reports whether the page gives the field no name of the standard's, and no other use.
func (x clue) silent() bool { return x.token == "" && !x.all.any(saysOther, saysUnpaidCard) }

// cardRules are the rules about the fields of a payment card, once its form is known to ask for
// one.
var cardRules = ranked(
	rule{
		name: "speaks of a security code", role: CardCode,
		when: func(x clue) bool { return x.silent() && x.says(CardCode) && !x.says(CardNumber) },
	},
	rule{
		name: "speaks of the month", role: CardMonth,
		when: func(x clue) bool { return x.silent() && x.says(CardMonth) },
	},
	rule{
		name: "offers months, in a date", role: CardMonth,
		when: func(x clue) bool { return x.silent() && x.inDate() && x.months() },
	},
	rule{
		name: "speaks of the year", role: CardYear,
		when: func(x clue) bool { return x.silent() && x.says(CardYear) },
	},
	rule{
		name: "offers years, in a date", role: CardYear,
		when: func(x clue) bool { return x.silent() && x.inDate() && x.years() > 0 },
	},
	rule{
		name: "stands behind the month", role: CardYear,
		when: func(x clue) bool {
			yearly := x.years() > 0 || x.label.has(saysYear) || x.MaxLength == 2 || x.MaxLength == 4
			return x.silent() && x.before(CardMonth) && yearly
		},
	},
	rule{
		name: "two letters of a date, and says month", role: CardMonth,
		when: func(x clue) bool { return x.silent() && x.inDate() && x.MaxLength == 2 && x.label.any(saysMonth) },
	},
	rule{
		name: "offers months behind the number or the name", role: CardMonth,
		when: func(x clue) bool { return x.silent() && x.before(CardNumber, CardName) && x.months() },
	},
	rule{
		name: "a box for the month behind the number or the name", role: CardMonth,
		when: func(x clue) bool {
			box := x.text() && (x.MaxLength == 0 || x.MaxLength == 2)
			return x.silent() && x.before(CardNumber, CardName) && box && x.label.has(saysMonth)
		},
	},
	rule{
		name: "two letters that speak of the expiry", role: CardMonth,
		when: func(x clue) bool { return x.silent() && x.expiry() && x.MaxLength == 2 },
	},
	rule{
		name: "speaks of the expiry", role: CardExpiry,
		when: func(x clue) bool { return x.silent() && x.expiry() },
	},
	rule{
		name: "speaks of the name on the card", role: CardName,
		when: func(x clue) bool { return x.silent() && x.says(CardName) },
	},
	rule{
		name: "speaks of a name and of a card", role: CardName,
		when: func(x clue) bool {
			return x.silent() && x.text() && x.label.has(saysCard) && x.says(Name, GivenName, FamilyName)
		},
	},
	rule{
		name: "speaks of the card's kind", role: CardType,
		when: func(x clue) bool { return x.silent() && x.says(CardType) },
	},
)

func (x clue) expiry() bool { return x.says(CardExpiry) && x.Type != "select" }

// findCard finds the fields of a payment card, if the form asks for one. It does if some field is
// for a card's number, or is named by the standard's word: words alone, such as "expiry" or
// "security code", mean other things elsewhere. A shop may have each of them in a frame of its
// payment company's.
func findCard(e evidence, fields []*candidate) bool {
	number := cardNumber(e, fields)
	named := func(c *candidate) bool { return c.token.Card() && c.token != CardType }
	if number < 0 && !slices.ContainsFunc(fields, named) {
		return false
	}
	if number >= 0 {
		numberPieces(fields, number)
	}
	for i, c := range fields {
		if c.role == "" && c.token.Card() {
			c.role = c.token
			c.why = append(c.why, "the page's own word: "+string(c.token))
		}
		if c.role == "" {
			decide(cardRules, clue{candidate: c, i: i, list: fields})
		}
	}
	if number >= 0 {
		nameBeside(fields, number)
	}
	return true
}

// cardNumber returns which field is for a card's number; -1 for none.
func cardNumber(e evidence, fields []*candidate) int {
	hasCode := slices.ContainsFunc(fields, func(c *candidate) bool { return c.says(CardCode) })
	if !hasCode && e.unpaidCard {
		return slices.IndexFunc(fields, func(c *candidate) bool { return c.token == CardNumber })
	}
	paid := paidWith(fields)
	number := slices.IndexFunc(fields, func(c *candidate) bool {
		if c.token != "" {
			return c.token == CardNumber
		}
		box := c.text() && c.Type != "email" || c.Type == "password"
		return box && c.says(CardNumber) && !c.otherThing() && (len(fields) == 1 || paid)
	})
	if number >= 0 || !paid {
		return number
	}
	return slices.IndexFunc(fields, func(c *candidate) bool {
		ofCard := c.label.has(saysCard) && c.label.has(saysNumber) || sixteen.MatchString(c.Label) ||
			hasCode && bareNumber.MatchString(normal(c.Label))
		return c.text() && c.token == "" && ofCard && !c.otherThing() && !c.says(CardCode, CardName)
	})
}

// otherThing reports whether the field's words speak of something that no payment is made with.
func (c *candidate) otherThing() bool {
	return c.all.or(c.section).has(saysUnpaidCard) || c.all.any(saysOther, saysSecretOther, saysThing)
}

// paidWith reports whether a form asks for more of a payment card than its number. A number alone is also what cards
// have that nothing is paid with: a club's, a library's.
func paidWith(fields []*candidate) bool {
	return slices.ContainsFunc(fields, func(c *candidate) bool {
		switch {
		case c.token != "":
			return c.token.Card()
		case c.all.or(c.section).any(classOf[Birthday], classOf[BirthMonth], classOf[BirthYear]):
			return false
		case c.says(CardCode): // a security code is also what is sent to a telephone
			return !c.all.has(saysCode) || c.MaxLength == 3 || c.MaxLength == 4
		}
		return c.says(CardExpiry, CardMonth, CardYear, CardName, CardType) || c.near.has(classOf[CardExpiry]) ||
			c.months() || c.years() > 0 || c.label.has(saysMonth)
	})
}

// mostPieces is in how many boxes a card's number is typed at most.
const mostPieces = 4

// numberPieces gives the number's field its role, and those that hold the rest of it.
func numberPieces(fields []*candidate, number int) {
	short := func(c *candidate) bool { return c.MaxLength >= 3 && c.MaxLength <= 6 }
	first := fields[number]
	first.role = CardNumber
	first.why = append(first.why, "speaks of a card's number")
	if first.MaxLength == 0 || first.MaxLength > 6 {
		return
	}
	for _, c := range fields[number+1 : min(len(fields), number+mostPieces)] {
		other := c.says(CardCode, CardExpiry, CardMonth, CardYear) || c.token != "" && c.token != CardNumber
		if other || !c.text() || !short(c) {
			return
		}
		c.role = CardNumber
		c.why = append(c.why, "the rest of the number")
	}
}

// nameBeside takes "Name" right beside the number for the name on the card.
func nameBeside(fields []*candidate, number int) {
	if slices.ContainsFunc(fields, func(c *candidate) bool { return c.role == CardName || c.role == CardGivenName }) {
		return
	}
	for _, i := range []int{number - 1, number + 1} {
		if i < 0 || i >= len(fields) {
			continue
		}
		if c := fields[i]; c.role == "" && c.token == "" && c.says(Name) && c.text() {
			c.role = CardName
			c.why = append(c.why, "a name beside the number")
			return
		}
	}
}

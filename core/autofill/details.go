package autofill

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// details finds the fields of personal details, and returns how many different ones; an
// e-mail address counts beside a name only.
func details(fields []*candidate) int {
	for _, c := range fields {
		if c.role != "" || c.isPassword() {
			continue
		}
		if c.token != "" {
			if c.token.Details() {
				c.role = c.token
			}
			continue
		}
		if c.all.any(saysUser) && !c.says(Nickname) || c.all.or(c.section).has(saysOtherPerson) ||
			c.all.any(saysSearch, saysOther, saysSecretOther, saysThing, saysNewsletter) && !c.says(Town, Postcode) {
			continue
		}
		c.role = c.detail()
	}
	surname(fields)
	for i, c := range fields {
		if i > 0 && c.role == "" && c.text() && c.token == "" &&
			(fields[i-1].role == Street || fields[i-1].role == Line1) &&
			bareNumber.MatchString(normal(c.Label)) {
			c.role = HouseNumber
		}
	}
	birthdayParts(fields)
	telephoneParts(fields)
	seen := map[Role]bool{}
	named, mail := false, false
	for _, c := range fields {
		switch {
		case c.role == Email || c.Type == "email" && !c.all.any(saysNewsletter, saysSearch):
			mail = true
		case c.role.Details():
			seen[c.role] = true
			named = named || c.role == Name || c.role == GivenName || c.role == FamilyName
		}
	}
	if named && mail {
		return len(seen) + 1
	}
	return len(seen)
}

// bareNumber is a label that says "number" and nothing of what: beside a street it is the
// house's.
var bareNumber = regexp.MustCompile(`^ (?:number|no|nr|n|num|numero|número|numéro|nummer|номер)(?: no)? $`)

// bareName is a label that says "name" and nothing of which: beside one for the given name it is the family's.
var bareName = regexp.MustCompile(`^ (?:name|naam|namn|navn|nimi|nom|nome|nume) $`)

// surname takes "Name" beside "First name" for the family name where no field asks for that.
func surname(fields []*candidate) {
	var name *candidate
	given := false
	for _, c := range fields {
		switch {
		case c.role == FamilyName, c.role == Name && name != nil:
			return
		case c.role == GivenName:
			given = true
		case c.role == Name:
			name = c
		}
	}
	if given && name != nil && name.token == "" && bareName.MatchString(normal(name.Label)) {
		name.role = FamilyName
	}
}

// detail gives a field without a token the one role that its label speaks of, or its
// name where the label speaks of none or of several. Where that isn't one either the
// field stays without: it is pointed out rather than guessed.
func (c *candidate) detail() Role {
	switch {
	case c.Type == "select" && c.dialCodes():
		return TelCountry
	case c.Type == "email", c.text() && c.label.has(saysMail) && !c.says(Telephone, Postcode):
		return Email // "E-mail address" is no street
	case nameOfThing(c.Label):
		return ""
	}
	label, name := rolesOf(c.label), rolesOf(c.name)
	pick := func() Role {
		switch {
		case len(label) > 0:
			for _, r := range label {
				if slices.Contains(name, r) {
					return r
				}
			}
			return joint(label)
		case len(name) == 1:
			return name[0]
		}
		return ""
	}
	r := pick()
	switch c.Type {
	case "textarea":
		if r != Street && r != Line1 {
			return ""
		}
		return Street
	case "date":
		if r == Birthday {
			return r
		}
		return ""
	case "select":
		if r == Region && c.countryNames() {
			return Country // "Kraj" is a country to Poles, a region to Czechs
		}
		switch r {
		case Country, Region, Prefix, Sex, TelCountry, BirthDay, BirthMonth, BirthYear, Birthday, Town, Language:
			return r
		}
		switch {
		case r == "" && c.countries():
			return Country
		case c.offers(prefixes):
			return Prefix
		case r == "" && c.offers(sexes):
			return Sex
		}
		return ""
	case "tel":
		if r == "" && c.MaxLength == 0 {
			return Telephone
		}
	case "url":
		return Website
	}
	return r
}

// Names of things end or begin as those of people do: "project name", "name of the team", "nom du projet".
var (
	nameAfter  = []string{"name", "title"}
	nameBefore = []string{
		"name", "title", "address", "nom", "nombre", "nome", "naam", "navn", "namn", "titre", "título", "titolo",
	}
	ofWhat = []string{"of", "des", "der", "du", "de", "del", "della", "do", "da", "van", "for"}
)

// nameOfThing reports whether a label asks for what something is called, and not somebody: what stands before "name" is
// no word about people or places, or what its "of" leads to isn't. An address is a place's unless a machine's is meant.
func nameOfThing(label string) bool {
	list := strings.Fields(normal(label))
	ofPeople := func(w string) bool { return lex.read(" "+w+" ").any(saysWhose, saysCard) }
	for i, w := range list {
		if i > 0 && slices.Contains(nameAfter, w) && !ofPeople(list[i-1]) && !slices.Contains(ofWhat, list[i-1]) ||
			i > 0 && w == "address" && lex.read(" "+list[i-1]+" ").has(saysMachinePart) {
			return true
		}
		if i+2 < len(list) && slices.Contains(nameBefore, w) && slices.Contains(ofWhat, list[i+1]) &&
			!slices.ContainsFunc(list[i+2:], ofPeople) {
			return true
		}
	}
	return false
}

// joint is what a label with two roles means, where people put two things in one box.
func joint(list []Role) Role {
	has := func(r Role) bool { return slices.Contains(list, r) }
	if has(Street) || has(Line1) || has(Line2) || has(HouseNumber) || has(Town) {
		// "Street name" names no person
		list = slices.DeleteFunc(slices.Clone(list), func(r Role) bool { return r == Name || r == GivenName })
	}
	switch {
	case len(list) == 1:
		return list[0]
	case has(GivenName) && has(FamilyName), has(Name) && (has(GivenName) || has(FamilyName)) && len(list) == 2:
		if has(GivenName) && has(FamilyName) {
			return Name
		}
		if has(GivenName) {
			return GivenName
		}
		return FamilyName
	case has(Street) && has(HouseNumber), has(Street) && has(Line1):
		if has(Line1) {
			return Line1
		}
		return Street
	case has(Street) && has(Line2):
		return Line2
	case has(Organization) && has(Name) && len(list) == 2:
		return Organization
	case has(Telephone) && has(TelCountry):
		return TelCountry
	}
	return ""
}

// rolesOf returns the roles of personal details that a text speaks of.
func rolesOf(s said) (out []Role) {
	for i, r := range namedRoles {
		if s.has(firstRole+class(i)) && !r.Card() {
			out = append(out, r)
		}
	}
	return out
}

// birthdayParts gives the three boxes of a birthday their roles: fields labelled day, month and year
// under a legend that speaks of birth, or after one another.
func birthdayParts(fields []*candidate) {
	for i, c := range fields {
		of := c.near.has(classOf[Birthday]) || c.says(Birthday, BirthDay, BirthMonth, BirthYear) ||
			i > 0 && slices.Contains([]Role{BirthDay, BirthMonth, BirthYear}, fields[i-1].role)
		if !of || c.role != "" && c.role != Birthday || c.token != "" {
			continue
		}
		part := c.part3()
		if part != "" {
			c.role = part
		}
	}
}

// part3 tells which third of a date a field is for.
func (c *candidate) part3() Role {
	switch {
	case c.months(),
		c.MaxLength > 0 && c.MaxLength <= 2 && c.label.has(saysMonth) || c.Type == "select" && c.all.has(saysMonth):
		return BirthMonth
	case c.years() != 0, (c.MaxLength == 4 || c.Type == "number" || c.Type == "select") && c.all.has(saysYear):
		return BirthYear
	case c.days(), (c.MaxLength > 0 && c.MaxLength <= 2 || c.Type == "number") && c.label.has(saysDay):
		return BirthDay
	case c.Type == "number" && c.label.has(saysMonth):
		return BirthMonth
	}
	return ""
}

// telephoneParts gives the boxes of a telephone number that is typed in pieces their roles.
func telephoneParts(fields []*candidate) {
	country := slices.ContainsFunc(fields, func(c *candidate) bool { return c.role == TelCountry })
	for i := 0; i < len(fields); i++ {
		if fields[i].role != Telephone || fields[i].token != "" {
			continue
		}
		j := i
		for j < len(fields) && fields[j].text() && fields[j].MaxLength > 0 && fields[j].MaxLength <= 5 &&
			(fields[j].role == Telephone || fields[j].role == "") && j < i+4 {
			j++
		}
		if j-i >= 2 {
			for _, c := range fields[i:j] {
				c.role = TelLocal
			}
			fields[i].role = TelArea
			i = j
			continue
		}
		switch {
		case i > 0 && fields[i-1].role == TelArea:
			fields[i].role = TelLocal
		case country:
			fields[i].role = TelNational
		}
	}
}

// numbersOf reads the numbers that a drop-down offers, as far as its options are numbers.
func numbersOf(options []Option) (out []int) {
	for _, o := range options {
		for _, t := range []string{o.Value, o.Text} {
			t = strings.TrimSpace(t)
			if n, err := strconv.Atoi(t); err == nil && len(t) <= 4 && !strings.HasPrefix(t, "+") {
				out = append(out, n)
				break
			}
		}
	}
	return out
}

// months reports whether a drop-down offers the months of a year.
func (c *candidate) months() bool {
	if c.Type != "select" || len(c.Options) < 12 || len(c.Options) > 14 {
		return false
	}
	seen := map[int]bool{}
	for _, o := range c.Options {
		if m := monthOf(o); m > 0 {
			seen[m] = true
		}
	}
	return len(seen) == 12
}

// years returns the greatest year that a drop-down offers, with two or four digits as
// it has them; negative where it reaches back so far that only a birthday could be meant.
func (c *candidate) years() int {
	if c.Type != "select" || len(c.digits) < 4 || c.days() || c.months() {
		return 0
	}
	least, most := slices.Min(c.digits), slices.Max(c.digits)
	switch {
	case least >= 1800 && most < 2200 && least < 2000:
		return -most
	case least >= 1800 && most < 2200, least >= 10 && most < 100 && len(c.digits) < 40 && most-least < 40:
		return most
	}
	return 0
}

func (c *candidate) days() bool {
	return c.Type == "select" && len(c.digits) >= 28 && len(c.digits) <= 32 && slices.Min(c.digits) <= 1 &&
		slices.Max(c.digits) == 31
}

// dialCodes reports whether a drop-down offers telephone country codes.
func (c *candidate) dialCodes() bool {
	n := 0
	for _, o := range c.Options {
		if strings.Contains(o.Text, "+") && strings.ContainsFunc(o.Text, unicode.IsDigit) ||
			strings.HasPrefix(o.Value, "+") {
			n++
		}
	}
	return n >= 2 && n*2 > len(c.Options)
}

// countries reports whether a drop-down offers countries: ISO 3166 codes as values, or their names.
func (c *candidate) countries() bool {
	n := 0
	for _, o := range c.Options {
		if len(o.Value) == 2 && o.Value == strings.ToUpper(o.Value) && countryKnown(o.Value) {
			n++
		}
	}
	return mostly(n, c.Options) || c.countryNames()
}

// countryNames reports whether a drop-down offers countries by their names. Codes alone are those of states, too.
func (c *candidate) countryNames() bool {
	n := 0
	for _, t := range c.offered() {
		if everyCountry()[t] {
			n++
		}
	}
	return mostly(n, c.Options)
}

// mostly reports whether a number of a drop-down's choices is two of three, and three at least.
func mostly(n int, options []Option) bool { return n >= 3 && n*3 >= len(options)*2 }

// offered returns the folded texts of a drop-down's choices.
func (c *candidate) offered() []string {
	for _, o := range c.Options[len(c.folded):] {
		c.folded = append(c.folded, fold(o.Text))
	}
	return c.folded
}

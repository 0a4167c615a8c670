package autofill

import "strings"

// Role is what a field is for: an autofill field name of the WHATWG HTML standard
// (section "Autofill"), or one of ours.
type Role string

// The roles that have to do with logins.
const (
	Username        Role = "username"
	CurrentPassword Role = "current-password"
	NewPassword     Role = "new-password"
	OneTimeCode     Role = "one-time-code"
)

// The roles of payment cards.
const (
	CardName       Role = "cc-name"
	CardGivenName  Role = "cc-given-name"
	CardFamilyName Role = "cc-family-name"
	CardNumber     Role = "cc-number"
	CardExpiry     Role = "cc-exp"
	CardMonth      Role = "cc-exp-month"
	CardYear       Role = "cc-exp-year"
	CardCode       Role = "cc-csc"
	CardType       Role = "cc-type"
)

// The roles of personal details.
const (
	Name           Role = "name"
	Prefix         Role = "honorific-prefix"
	GivenName      Role = "given-name"
	MiddleName     Role = "additional-name"
	FamilyName     Role = "family-name"
	Suffix         Role = "honorific-suffix"
	Nickname       Role = "nickname"
	Organization   Role = "organization"
	JobTitle       Role = "organization-title"
	Street         Role = "street-address"
	Line1          Role = "address-line1"
	Line2          Role = "address-line2"
	Line3          Role = "address-line3"
	HouseNumber    Role = "house-number" // ours: the standard has no name for it
	Region         Role = "address-level1"
	Town           Role = "address-level2"
	District       Role = "address-level3"
	Postcode       Role = "postal-code"
	Country        Role = "country"
	CountryName    Role = "country-name"
	Telephone      Role = "tel"
	TelCountry     Role = "tel-country-code"
	TelNational    Role = "tel-national"
	TelArea        Role = "tel-area-code"
	TelLocal       Role = "tel-local"
	Email          Role = "email"
	Birthday       Role = "bday"
	BirthDay       Role = "bday-day"
	BirthMonth     Role = "bday-month"
	BirthYear      Role = "bday-year"
	Sex            Role = "sex"
	Website        Role = "url"
	Language       Role = "language"
	Messages       Role = "impp"
	cardAdditional Role = "cc-additional-name"
)

// Card reports whether the role is of a payment card.
func (r Role) Card() bool { return strings.HasPrefix(string(r), "cc-") }

// Login reports whether the role has to do with a login.
func (r Role) Login() bool {
	switch r {
	case Username, CurrentPassword, NewPassword, OneTimeCode:
		return true
	}
	return false
}

// Details reports whether the role is of personal details.
func (r Role) Details() bool { return r != "" && !r.Login() && !r.Card() }

// namedRoles are the roles that roles.tsv has words for.
var namedRoles = []Role{
	CardNumber, CardName, CardExpiry, CardMonth, CardYear, CardCode, CardType, Name, GivenName,
	MiddleName, FamilyName, Prefix, Suffix, Nickname, Organization, JobTitle, Street, Line1, Line2,
	Line3, HouseNumber, Town, District, Region, Postcode, Country, Telephone, TelCountry, TelArea,
	TelLocal, Birthday, BirthDay, BirthMonth, BirthYear, Sex, Website,
}

// tokenRole returns the role that an autocomplete attribute names (WHATWG HTML,
// "Autofill": the last token but webauthn is the field's name), and the part of a
// checkout that it is in: "shipping", "billing" or none.
func tokenRole(autocomplete string) (role Role, part string, off bool) {
	for _, t := range strings.Fields(strings.ToLower(autocomplete)) {
		switch t {
		case "on", "webauthn", "home", "work", "mobile", "fax", "pager":
		case "off", "nope", "none", "false", "disabled":
			off = true
		case "shipping", "billing":
			part = t
		default:
			if r := Role(t); known[r] {
				role = r
			}
		}
	}
	if role == cardAdditional {
		role = ""
	}
	if role == "tel-local-prefix" || role == "tel-local-suffix" {
		role = TelLocal
	}
	return role, part, off
}

var known = func() map[Role]bool {
	out := map[Role]bool{
		Username:               true,
		CurrentPassword:        true,
		NewPassword:            true,
		OneTimeCode:            true,
		CardGivenName:          true,
		CardFamilyName:         true,
		cardAdditional:         true,
		TelNational:            true,
		CountryName:            true,
		Language:               true,
		Messages:               true,
		Email:                  true,
		"address-level4":       true,
		"transaction-currency": true,
		"transaction-amount":   true,
		"photo":                true,
		"tel-extension":        true,
	}
	for _, r := range namedRoles {
		out[r] = true
	}
	delete(out, HouseNumber)
	return out
}()

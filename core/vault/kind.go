package vault

import (
	"slices"
	"strings"
)

// Kind says what an item of one type is made of.
type Kind struct {
	Type    Type
	Section Section // the part of the book that it stands in
	Specs   []Spec  // its custom fields, in the order of the sheet
}

// Section is a part of the book.
type Section string

// The sections.
const (
	SectionLogins Section = "logins"
	SectionCards  Section = "cards"
	SectionNotes  Section = "notes"
)

// Form is how a field's value is written and checked (see [Check]).
type Form string

// The forms. Values of all of them are kept as text; that of FormYesNo is "yes" or
// "no".
const (
	FormText    Form = "text"
	FormLines   Form = "lines" // text of several lines
	FormHidden  Form = "hidden"
	FormDate    Form = "date"    // 2006-01-02
	FormMonth   Form = "month"   // 2006-01
	FormPhone   Form = "phone"   // digits, spaces, + ( ) - . / and x
	FormEmail   Form = "email"   // something@something
	FormAddress Form = "address" // of a page; checked by package site
	FormChoice  Form = "choice"  // one of Choices
	FormCountry Form = "country" // ISO 3166-1 alpha-2 code
	FormCard    Form = "card"    // payment card number, ISO/IEC 7812
	FormCode    Form = "code"    // three or four digits
	FormIBAN    Form = "iban"    // ISO 13616
	FormBIC     Form = "bic"     // ISO 9362
	FormYesNo   Form = "yes-no"
	FormSetup   Form = "setup" // setup key of one-time codes; checked by package otp
)

// Spec describes one field of a kind.
type Spec struct {
	Field   Field
	Name    string // in English, as tables and files call it
	Form    Form
	Max     int      // characters; 0 means 200
	Token   string   // WHATWG autofill field name, where there is one
	Choices []Choice // of FormChoice
	Masked  bool     // shown by its last four characters until asked for
	Warns   bool     // a date that is warned of before it comes
}

// Choice is one value of a FormChoice and its name, which titles, subtitles and the search
// have too.
type Choice struct{ Value, Name string }

// Hidden reports whether the field is shown only when asked for.
func (s Spec) Hidden() bool {
	return s.Masked || s.Form == FormHidden || s.Form == FormCode || s.Form == FormSetup
}

// Limit is the field's longest value in characters.
func (s Spec) Limit() int {
	if s.Max > 0 {
		return s.Max
	}
	return 200
}

// The fields of kinds, beside those every item has. The autofill tokens are those
// of the WHATWG HTML standard, section "Autofill".
const (
	FieldApp       Field = "app"   // name or bundle of a program
	FieldSetup     Field = "setup" // of one-time codes, as an otpauth address
	FieldHolder    Field = "holder"
	FieldNumber    Field = "number"
	FieldExpiry    Field = "expiry"
	FieldCode      Field = "code"
	FieldPIN       Field = "pin"
	FieldIssuer    Field = "issuer"
	FieldEmergency Field = "emergency" // telephone to ring when it is lost
	FieldBank      Field = "bank"
	FieldSortCode  Field = "sort-code"
	FieldIBAN      Field = "iban"
	FieldBIC       Field = "bic"
	FieldPhone     Field = "tel"
	FieldPaper     Field = "paper" // which identity paper
	FieldIssued    Field = "issued"
	FieldCountry   Field = "country"
	FieldSSID      Field = "ssid"
	FieldSecurity  Field = "security"
	FieldUnseen    Field = "unseen" // a Wi-Fi network that doesn't show its name
	FieldLicence   Field = "licence"
	FieldVersion   Field = "version"
	FieldEmail     Field = "email"
	FieldOrder     Field = "order"
	FieldAlone     Field = "fill-alone" // filled without asking
	FieldSubmit    Field = "submit"     // and sent after filling

	// FieldStaged is a password that was given to the site and that the site has yet to take.
	FieldStaged Field = "staged"
	// FieldSent says (boolean) that it was sent to the site, which hasn't refused it.
	FieldSent Field = "sent"
	// FieldRefused is what the site said when it refused a new password; RefusedSilently if it said nothing.
	FieldRefused Field = "refused"
	FieldBought  Field = "bought"
)

// RefusedSilently stands in FieldRefused for no words.
const RefusedSilently = "-"

func personal(token, name string, form Form) Spec {
	return Spec{Field: Field(token), Name: name, Form: form, Token: token}
}

var kinds = []Kind{
	{TypeLogin, SectionLogins, []Spec{
		{Field: FieldUsername, Name: "User name", Form: FormText, Max: 254, Token: "username"},
		{Field: FieldPassword, Name: "Password", Form: FormHidden, Max: 1000, Token: "current-password"},
		{Field: FieldSetup, Name: "One-time code", Form: FormSetup, Max: 1000, Token: "one-time-code"},
		{
			Field: FieldAlone,
			Name:  "Filling",
			Form:  FormYesNo,
		},
		{Field: FieldSubmit, Name: "Signing in", Form: FormYesNo},
	}},
	{TypeApp, SectionLogins, []Spec{
		{Field: FieldApp, Name: "Program", Form: FormText},
		{Field: FieldUsername, Name: "User name", Form: FormText, Max: 254, Token: "username"},
		{Field: FieldPassword, Name: "Password", Form: FormHidden, Max: 1000, Token: "current-password"},
		{Field: FieldSetup, Name: "One-time code", Form: FormSetup, Max: 1000, Token: "one-time-code"},
	}},
	{TypeCard, SectionCards, []Spec{
		{Field: FieldHolder, Name: "Name on it", Form: FormText, Token: "cc-name"},
		{Field: FieldNumber, Name: "Number", Form: FormCard, Max: 40, Token: "cc-number", Masked: true},
		{Field: FieldExpiry, Name: "Expires", Form: FormMonth, Token: "cc-exp", Warns: true},
		{Field: FieldCode, Name: "Security code", Form: FormCode, Max: 4, Token: "cc-csc"},
		{Field: FieldPIN, Name: "PIN", Form: FormHidden, Max: 20},
		{Field: FieldIssuer, Name: "Issued by", Form: FormText},
		{Field: FieldEmergency, Name: "If it is lost", Form: FormPhone},
	}},
	{TypeBank, SectionCards, []Spec{
		{Field: FieldBank, Name: "Bank", Form: FormText},
		{Field: FieldHolder, Name: "Account of", Form: FormText},
		{Field: FieldNumber, Name: "Account number", Form: FormText, Max: 40, Masked: true},
		{Field: FieldSortCode, Name: "Sort code", Form: FormText, Max: 20},
		{Field: FieldIBAN, Name: "IBAN", Form: FormIBAN, Max: 60, Masked: true},
		{Field: FieldBIC, Name: "BIC", Form: FormBIC, Max: 11},
		{Field: FieldPIN, Name: "PIN", Form: FormHidden, Max: 40},
		{Field: FieldPhone, Name: "Telephone", Form: FormPhone},
	}},
	{TypePerson, SectionCards, []Spec{
		personal("honorific-prefix", "Form of address", FormText), personal("given-name", "First name", FormText),
		personal("additional-name", "Middle names", FormText), personal("family-name", "Last name", FormText),
		personal("honorific-suffix", "After the name", FormText), personal("nickname", "Called", FormText),
		personal("bday", "Birthday", FormDate), personal("sex", "Gender", FormText),
		personal("street-address", "Street", FormLines), personal("address-level3", "District", FormText),
		personal("address-level2", "Town", FormText), personal("address-level1", "Region or state", FormText),
		personal("postal-code", "Postcode", FormText), personal("country", "Country", FormCountry),
		personal("tel", "Telephone", FormPhone), personal("email", "E-mail", FormEmail),
		personal("organization", "Company", FormText), personal("organization-title", "Position", FormText),
		personal(
			"language",
			"Language",
			FormText,
		), personal("url", "Website", FormAddress), personal("impp", "Messages", FormText),
	}},
	{TypePaper, SectionCards, []Spec{
		{
			Field: FieldPaper,
			Name:  "Kind",
			Form:  FormChoice,
			Choices: []Choice{
				{"passport", "Passport"},
				{"licence", "Driving licence"},
				{"identity", "Identity card"},
				{"residence", "Residence permit"},
				{"insurance", "Insurance"},
				{"health", "Health card"},
				{"tax", "Tax number"},
				{"other", "Something else"},
			},
		},
		{Field: FieldHolder, Name: "Name on it", Form: FormText},
		{Field: FieldNumber, Name: "Number", Form: FormText, Max: 60, Masked: true},
		{Field: FieldIssuer, Name: "Issued by", Form: FormText},
		{Field: FieldCountry, Name: "Country", Form: FormCountry},
		{Field: FieldIssued, Name: "Issued on", Form: FormDate},
		{Field: FieldExpiry, Name: "Expires on", Form: FormDate, Warns: true},
		{Field: FieldPhone, Name: "Telephone", Form: FormPhone},
	}},
	{TypeMembership, SectionCards, []Spec{
		{Field: FieldIssuer, Name: "Of", Form: FormText},
		{Field: FieldHolder, Name: "Member", Form: FormText},
		{Field: FieldNumber, Name: "Number", Form: FormText, Max: 60},
		{Field: FieldPIN, Name: "PIN", Form: FormHidden, Max: 40},
		{Field: FieldIssued, Name: "Since", Form: FormDate},
		{Field: FieldExpiry, Name: "Expires on", Form: FormDate, Warns: true},
		{Field: FieldPhone, Name: "Telephone", Form: FormPhone},
	}},
	{TypeNote, SectionNotes, nil},
	{TypeWiFi, SectionNotes, []Spec{
		{Field: FieldSSID, Name: "Network’s name", Form: FormText, Max: 32},
		{Field: FieldPassword, Name: "Password", Form: FormHidden, Max: 63},
		{
			Field:   FieldSecurity,
			Name:    "Protected by",
			Form:    FormChoice,
			Choices: []Choice{{"WPA", "WPA, WPA2 or WPA3"}, {"WEP", "WEP"}, {"nopass", "nothing"}},
		},
		{Field: FieldUnseen, Name: "Hidden", Form: FormYesNo},
	}},
	{TypeSoftware, SectionNotes, []Spec{
		{Field: FieldVersion, Name: "Version", Form: FormText},
		{Field: FieldLicence, Name: "Licence key", Form: FormHidden, Max: 4000},
		{Field: FieldHolder, Name: "Licensed to", Form: FormText},
		{Field: FieldEmail, Name: "E-mail", Form: FormEmail},
		{Field: FieldOrder, Name: "Order number", Form: FormText},
		{Field: FieldBought, Name: "Bought on", Form: FormDate},
		{Field: FieldExpiry, Name: "Expires on", Form: FormDate, Warns: true},
	}},
}

// Kinds returns every kind, in the order in which they are offered.
func Kinds() []Kind { return slices.Clone(kinds) }

// KindOf returns the kind of a type; ok is false for types that aren't items,
// or that only a newer version knows.
func KindOf(t Type) (k Kind, ok bool) {
	for i := range kinds {
		if kinds[i].Type == t {
			return kinds[i], true
		}
	}
	return Kind{}, false
}

// Spec returns the description of one of the kind's fields.
func (k Kind) Spec(f Field) (Spec, bool) {
	for _, s := range k.Specs {
		if s.Field == f {
			return s, true
		}
	}
	return Spec{}, false
}

// HasAddresses reports whether items of the kind say where they work.
func (k Kind) HasAddresses() bool {
	switch k.Type {
	case TypeLogin, TypeApp, TypeBank, TypeMembership, TypeSoftware:
		return true
	}
	return false
}

// hides reports whether a field's earlier values are shown only when asked for,
// whatever kind the item is now.
func hides(f Field) bool {
	if f == FieldStaged {
		return true
	}
	for _, k := range kinds {
		if s, ok := k.Spec(f); ok && s.Hidden() {
			return true
		}
	}
	return strings.HasPrefix(string(f), ownPrefix) // its value may be a hidden one
}

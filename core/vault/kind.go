package vault

import (
	"slices"
	"strings"
)

// Kind says what an item of one type is made of.
type Kind struct {
	Type    Type
	Word    string  // "payment card"
	Many    string  // "payment cards"
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
	Label   string
	Form    Form
	Max     int      // characters; 0 means 200
	Token   string   // WHATWG autofill field name, where there is one
	Choices []Choice // of FormChoice
	Hint    string
	Masked  bool // shown by its last four characters until asked for
	Warns   bool // a date that is warned of before it comes
}

// Choice is one value of a FormChoice and its words.
type Choice struct{ Value, Words string }

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
	FieldBought Field = "bought"
)

func personal(token, label string, form Form) Spec {
	return Spec{Field: Field(token), Label: label, Form: form, Token: token}
}

var kinds = []Kind{
	{TypeLogin, "login", "logins", SectionLogins, []Spec{
		{Field: FieldUsername, Label: "User name", Form: FormText, Max: 254, Token: "username"},
		{Field: FieldPassword, Label: "Password", Form: FormHidden, Max: 1000, Token: "current-password"},
		{Field: FieldSetup, Label: "One-time code", Form: FormSetup, Max: 1000, Token: "one-time-code"},
		{
			Field: FieldAlone,
			Label: "Filling",
			Form:  FormYesNo,
			Hint:  "fill it in without asking, on the page itself and never in a frame",
		},
		{Field: FieldSubmit, Label: "Signing in", Form: FormYesNo, Hint: "send the form once it is filled"},
	}},
	{TypeApp, "app login", "app logins", SectionLogins, []Spec{
		{Field: FieldApp, Label: "Program", Form: FormText, Hint: "as the computer names it"},
		{Field: FieldUsername, Label: "User name", Form: FormText, Max: 254, Token: "username"},
		{Field: FieldPassword, Label: "Password", Form: FormHidden, Max: 1000, Token: "current-password"},
		{Field: FieldSetup, Label: "One-time code", Form: FormSetup, Max: 1000, Token: "one-time-code"},
	}},
	{TypeCard, "payment card", "payment cards", SectionCards, []Spec{
		{Field: FieldHolder, Label: "Name on it", Form: FormText, Token: "cc-name"},
		{Field: FieldNumber, Label: "Number", Form: FormCard, Max: 40, Token: "cc-number", Masked: true},
		{Field: FieldExpiry, Label: "Expires", Form: FormMonth, Token: "cc-exp", Warns: true},
		{Field: FieldCode, Label: "Security code", Form: FormCode, Max: 4, Token: "cc-csc"},
		{Field: FieldPIN, Label: "PIN", Form: FormHidden, Max: 20},
		{Field: FieldIssuer, Label: "Issued by", Form: FormText},
		{Field: FieldEmergency, Label: "If it is lost", Form: FormPhone, Hint: "the issuer’s emergency telephone"},
	}},
	{TypeBank, "bank account", "bank accounts", SectionCards, []Spec{
		{Field: FieldBank, Label: "Bank", Form: FormText},
		{Field: FieldHolder, Label: "Account of", Form: FormText},
		{Field: FieldNumber, Label: "Account number", Form: FormText, Max: 40, Masked: true},
		{Field: FieldSortCode, Label: "Sort code", Form: FormText, Max: 20, Hint: "or routing number"},
		{Field: FieldIBAN, Label: "IBAN", Form: FormIBAN, Max: 60, Masked: true},
		{Field: FieldBIC, Label: "BIC", Form: FormBIC, Max: 11},
		{Field: FieldPIN, Label: "PIN", Form: FormHidden, Max: 40},
		{Field: FieldPhone, Label: "Telephone", Form: FormPhone},
	}},
	{TypePerson, "personal details", "personal details", SectionCards, []Spec{
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
	{TypePaper, "identity paper", "identity papers", SectionCards, []Spec{
		{
			Field: FieldPaper,
			Label: "Kind",
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
		{Field: FieldHolder, Label: "Name on it", Form: FormText},
		{Field: FieldNumber, Label: "Number", Form: FormText, Max: 60, Masked: true},
		{Field: FieldIssuer, Label: "Issued by", Form: FormText},
		{Field: FieldCountry, Label: "Country", Form: FormCountry},
		{Field: FieldIssued, Label: "Issued on", Form: FormDate},
		{Field: FieldExpiry, Label: "Expires on", Form: FormDate, Warns: true},
		{Field: FieldPhone, Label: "Telephone", Form: FormPhone},
	}},
	{TypeMembership, "membership", "memberships", SectionCards, []Spec{
		{Field: FieldIssuer, Label: "Of", Form: FormText},
		{Field: FieldHolder, Label: "Member", Form: FormText},
		{Field: FieldNumber, Label: "Number", Form: FormText, Max: 60},
		{Field: FieldPIN, Label: "PIN", Form: FormHidden, Max: 40},
		{Field: FieldIssued, Label: "Since", Form: FormDate},
		{Field: FieldExpiry, Label: "Expires on", Form: FormDate, Warns: true},
		{Field: FieldPhone, Label: "Telephone", Form: FormPhone},
	}},
	{TypeNote, "note", "notes", SectionNotes, nil},
	{TypeWiFi, "Wi-Fi network", "Wi-Fi networks", SectionNotes, []Spec{
		{Field: FieldSSID, Label: "Network’s name", Form: FormText, Max: 32},
		{Field: FieldPassword, Label: "Password", Form: FormHidden, Max: 63},
		{
			Field:   FieldSecurity,
			Label:   "Protected by",
			Form:    FormChoice,
			Choices: []Choice{{"WPA", "WPA, WPA2 or WPA3"}, {"WEP", "WEP"}, {"nopass", "nothing"}},
		},
		{Field: FieldUnseen, Label: "Hidden", Form: FormYesNo, Hint: "it doesn’t show its name"},
	}},
	{TypeSoftware, "software licence", "software licences", SectionNotes, []Spec{
		{Field: FieldVersion, Label: "Version", Form: FormText},
		{Field: FieldLicence, Label: "Licence key", Form: FormHidden, Max: 4000},
		{Field: FieldHolder, Label: "Licensed to", Form: FormText},
		{Field: FieldEmail, Label: "E-mail", Form: FormEmail},
		{Field: FieldOrder, Label: "Order number", Form: FormText},
		{Field: FieldBought, Label: "Bought on", Form: FormDate},
		{Field: FieldExpiry, Label: "Expires on", Form: FormDate, Warns: true},
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

// Label names any field in words, as histories do. Own fields are named by the
// entry that holds them.
func Label(t Type, f Field) string {
	switch f {
	case FieldTitle:
		return "Title"
	case FieldNotes:
		return "Notes"
	case FieldFolder:
		return "Folder"
	case FieldTags:
		return "Tags"
	case FieldAddresses:
		return "Works at"
	case FieldAliases:
		return "Also known as"
	case FieldKind:
		return "Kind"
	case FieldFrom:
		return "Imported from"
	case fieldArchived:
		return "Archive"
	case FieldStaged:
		return "New password, waiting"
	}
	k, _ := KindOf(t)
	if s, ok := k.Spec(f); ok {
		return s.Label
	}
	for _, k := range kinds { // of the kind that it was before
		if s, ok := k.Spec(f); ok {
			return s.Label
		}
	}
	return string(f)
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

package autofill

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
)

// filled reads the first form and returns what is planned, by field id, and what is missed.
func filled(t *testing.T, s Snapshot, v Values) (map[int]string, map[int]MissReason) {
	t.Helper()
	readings := Read(s)
	require.NotEmpty(t, readings)
	fills, missed := Plan(s, readings[0], v)
	out, why := map[int]string{}, map[int]MissReason{}
	for _, f := range fills {
		out[f.Field] = f.Value.Reveal()
	}
	for _, m := range missed {
		why[m.Field] = m.Why
	}
	return out, why
}

func selects(label string, texts ...string) Field {
	f := Field{Type: "select", Label: label}
	for _, t := range texts {
		value, text, ok := strings.Cut(t, "=")
		if !ok {
			text = value
		}
		f.Options = append(f.Options, Option{value, text})
	}
	return f
}

func numbers(from, to int) (out []string) {
	for i := from; i <= to; i++ {
		out = append(
			out,
			string(rune('0'+i/1000%10))+string(rune('0'+i/100%10))+string(rune('0'+i/10%10))+string(rune('0'+i%10)),
		)
	}
	return out
}

func twoDigits(from, to int) (out []string) {
	for _, n := range numbers(from, to) {
		out = append(out, n[2:])
	}
	return out
}

var debit = &Card{
	Name:   secret.New("Maren Tolliver"),
	Number: secret.New("4012 8888 8888 1881"),
	Code:   secret.New("118"),
	Brand:  "Visa",
	Month:  9,
	Year:   2027,
}

var maren = Person{
	GivenName:  "Maren",
	FamilyName: "Tolliver",
	Street:     "7 Ropewalk\nNet Loft",
	Town:       "Saltmarsh Quay",
	Region:     "Cornwall",
	Postcode:   "SQ1 7RW",
	Country:    "GB",
	Telephone:  "+44 1632 960117",
	Email:      "maren@cormorant.example",
	Birthday:   "1985-04-11",
	Sex:        "Female",
}

func TestCards(t *testing.T) {
	box := func(label string, max int) Field { return Field{Type: "text", Label: label, MaxLength: max} }
	auto := func(token string) Field { return Field{Type: "text", Autocomplete: "section-x billing " + token} }
	months := selects("", append([]string{"=Month"}, twoDigits(1, 12)...)...)
	german := selects(
		"Monat",
		"1=Januar",
		"2=Februar",
		"3=März",
		"4=April",
		"5=Mai",
		"6=Juni",
		"7=Juli",
		"8=August",
		"9=September",
		"10=Oktober",
		"11=November",
		"12=Dezember",
	)
	years := selects("", append([]string{"=Year"}, numbers(2026, 2036)...)...)
	short := selects("Jahr", twoDigits(26, 36)...)
	months.Near, years.Near, german.Near, short.Near = "Expiry date", "Expiry date", "Gültig bis", "Gültig bis"
	code := Field{Type: "password", Name: "cvv", MaxLength: 4}
	for name, c := range map[string]struct {
		fields []Field
		want   map[int]string
	}{
		"one box each": {[]Field{box("Name on card", 0), box("Card number", 19), box("Expiry date (MM/YY)", 5),
			box("Security code", 3)}, map[int]string{0: "Maren Tolliver", 1: "4012888888881881", 2: "09/27", 3: "118"}},
		"by autocomplete": {[]Field{auto("cc-name"), auto("cc-number"), auto("cc-exp"), auto("cc-csc")},
			map[int]string{0: "Maren Tolliver", 1: "4012888888881881", 2: "09/27", 3: "118"}},
		"four boxes": {[]Field{box("Card number", 4), box("", 4), box("", 4), box("", 4), box("MM", 2),
			box("YY", 2), code}, map[int]string{0: "4012", 1: "8888", 2: "8888", 3: "1881", 4: "09", 5: "27",
			6: "118"}},
		"month and year in words": {[]Field{box("Card number", 0), box("Month", 2), box("Year", 4), code},
			map[int]string{0: "4012888888881881", 1: "09", 2: "2027", 3: "118"}},
		"Italian": {[]Field{box("Intestatario", 0), box("Numero carta", 0), box("Scadenza (MM/AA)", 0), box("CVV", 3)},
			map[int]string{0: "Maren Tolliver", 1: "4012888888881881", 2: "09/27", 3: "118"}},
		"drop-downs": {[]Field{box("Card number", 0), months, years, code},
			map[int]string{0: "4012888888881881", 1: "09", 2: "2027", 3: "118"}},
		"German": {[]Field{box("Karteninhaber", 0), box("Kartennummer", 0), german, short,
			box("Prüfnummer", 0)}, map[int]string{0: "Maren Tolliver", 1: "4012888888881881", 2: "9", 3: "27",
			4: "118"}},
		"four digits": {[]Field{box("Numéro de carte", 0), box("Date d'expiration", 4), box("Cryptogramme", 0)},
			map[int]string{0: "4012888888881881", 1: "0927", 2: "118"}},
		"a month's input": {[]Field{box("Card number", 0), {Type: "month", Label: "Good until"}},
			map[int]string{0: "4012888888881881", 1: "2027-09"}},
		"long year": {[]Field{box("Card number", 0), box("Expires MM / YYYY", 0)},
			map[int]string{0: "4012888888881881", 1: "09 / 2027"}},
		"by pattern": {[]Field{box("Card number", 0), {Type: "text", Label: "Expiration",
			Pattern: `\d{2}-\d{4}`}}, map[int]string{0: "4012888888881881", 1: "09-2027"}},
		"names in parts": {[]Field{auto("cc-given-name"), auto("cc-family-name"), auto("cc-number")},
			map[int]string{0: "Maren", 1: "Tolliver", 2: "4012888888881881"}},
		"name beside it": {[]Field{box("Name", 0), box("Card number", 0), box("Expires", 0)},
			map[int]string{0: "Maren Tolliver", 1: "4012888888881881", 2: "09/27"}},
		"kind of card": {[]Field{selects("Card type", "m=Master", "v=Visa"), box("Card number", 0)},
			map[int]string{0: "v", 1: "4012888888881881"}},
		"Japanese": {[]Field{box("カード番号", 0), box("有効期限 (MM/YY)", 0), box("セキュリティコード", 0)},
			map[int]string{0: "4012888888881881", 1: "09/27", 2: "118"}},
		"no card, no codes": {[]Field{box("Security code", 0), box("First name", 0), box("Last name", 0)},
			map[int]string{}},
	} {
		t.Run(name, func(t *testing.T) {
			got, _ := filled(t, page("Pay", "Pay now", c.fields...), Values{Card: debit})
			for id, want := range c.want {
				assert.Equal(t, want, got[id], "field %d", id)
			}
			if len(c.want) == 0 {
				assert.Empty(t, got)
			}
		})
	}
	_, why := filled(t, page("Pay", "Pay", box("Card number", 12), box("Expires", 0)), Values{Card: debit})
	assert.Equal(t, MissTooLong, why[0])
	old := selects("", numbers(2020, 2025)...)
	old.Near = "Expiry"
	_, why = filled(t, page("Pay", "Pay", box("Card number", 0), months, old), Values{Card: debit})
	assert.Equal(t, MissChoice, why[2])
}

func TestDetails(t *testing.T) {
	box := func(label string) Field { return Field{Type: "text", Label: label} }
	part := func(label string, max int) Field { return Field{Type: "text", Label: label, MaxLength: max} }
	for name, c := range map[string]struct {
		lang   string
		fields []Field
		want   map[int]string
	}{
		"whole": {"en", []Field{box("Full name"), box("Street address"), box("Town"), box("Postcode"),
			selects("Country", "FR=France", "GB=United Kingdom")}, map[int]string{0: "Maren Tolliver",
			1: "7 Ropewalk, Net Loft", 2: "Saltmarsh Quay", 3: "SQ1 7RW", 4: "GB"}},
		"in lines": {"en", []Field{box("First name"), box("Last name"), box("Address line 1"),
			box("Address line 2"), box("ZIP code")}, map[int]string{0: "Maren", 1: "Tolliver", 2: "7 Ropewalk",
			3: "Net Loft", 4: "SQ1 7RW"}},
		"German": {"de", []Field{box("Vorname"), box("Nachname"), box("Straße"), box("Hausnummer"), box("PLZ"),
			box("Ort"), selects("Land", "1=Deutschland", "2=Vereinigtes "+
				"Königreich", "3=Frankreich")}, map[int]string{0: "Maren", 1: "Tolliver", 2: "Ropewalk, Net Loft",
			3: "7", 4: "SQ1 7RW", 5: "Saltmarsh Quay", 6: "2"}},
		"French": {"fr", []Field{box("Prénom"), box("Nom"), box("Adresse"), box("Code postal"), box("Ville"),
			box("Pays")}, map[int]string{0: "Maren", 1: "Tolliver", 3: "SQ1 7RW", 4: "Saltmarsh Quay",
			5: "Royaume-Uni"}},
		"Spanish": {"es", []Field{box("Nombre"), box("Apellidos"), box("Dirección"), box("Ciudad"),
			box("Código postal")}, map[int]string{0: "Maren", 1: "Tolliver", 3: "Saltmarsh Quay", 4: "SQ1 7RW"}},
		"birthday": {"en", []Field{box("First name"), {Type: "date", Label: "Date of birth"}},
			map[int]string{1: "1985-04-11"}},
		"three boxes": {"en", []Field{box("First name"), {Type: "text", Label: "Day", Near: "Date of birth",
			MaxLength: 2}, {Type: "text", Label: "Month", Near: "Date of birth", MaxLength: 2}, {Type: "text",
			Label: "Year", Near: "Date of birth", MaxLength: 4}}, map[int]string{1: "11", 2: "04", 3: "1985"}},
		"three lists": {"en", []Field{box("First name"), selects("Birth day", twoDigits(1, 31)...),
			selects("Birth month", "jan=January", "feb=February", "mar=March", "apr=April", "may=May", "jun=June",
				"jul=July", "aug=August", "sep=September", "oct=October", "nov=November", "dec=December"),
			selects("Birth year", numbers(1930, 2010)...)}, map[int]string{1: "11", 2: "apr", 3: "1985"}},
		"as told": {"en", []Field{box("First name"), box("Date of birth " +
			"DD.MM.YYYY")}, map[int]string{1: "11.04.1985"}},
		"telephone": {"en", []Field{box("First name"), {Type: "tel", Label: "Phone"}},
			map[int]string{1: "+44 1632 960117"}},
		"with code": {"en", []Field{box("First name"), selects("Code", "+1=United States (+1)", "+44=United "+
			"Kingdom (+44)", "+353=Ireland (+353)"), {Type: "tel", Label: "Mobile number"}}, map[int]string{1: "+44",
			2: "01632960117"}},
		"in pieces": {"en", []Field{box("First name"), part("Phone", 5), part("", 3), part("", 3)},
			map[int]string{1: "01632", 2: "960", 3: "117"}},
		"only digits": {"en", []Field{box("First name"), {Type: "tel", Label: "Phone", Pattern: `\d{11}`}},
			map[int]string{1: "01632960117"}},
		"by token": {"en", []Field{{Type: "text", Autocomplete: "shipping given-name"}, {Type: "text",
			Autocomplete: "country"}, {Type: "text", Autocomplete: "bday-year"}, {Type: "text",
			Autocomplete: "tel-national"}}, map[int]string{0: "Maren", 1: "United Kingdom", 2: "1985",
			3: "01632960117"}},
		"region": {"en", []Field{box("First name"), selects("County", "DEV=Devon", "CON=Cornwall")},
			map[int]string{1: "CON"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := page("Delivery", "Continue", c.fields...)
			s.Lang = c.lang
			require.NotEmpty(t, Read(s))
			assert.True(t, Read(s)[0].Details)
			got, _ := filled(t, s, Values{Person: maren})
			for id, want := range c.want {
				assert.Equal(t, want, got[id], "field %d", id)
			}
		})
	}
	_, why := filled(
		t,
		page("Delivery", "Go on", box("First name"), selects("Country", "FR=France", "DE=Germany")),
		Values{Person: maren},
	)
	assert.Equal(t, MissChoice, why[1], "pointed out rather than guessed")
}

func TestCodesInBoxes(t *testing.T) {
	digits := make([]Field, 6)
	for i := range digits {
		digits[i] = Field{Type: "text", MaxLength: 1}
	}
	s := page("Enter the verification code", "Verify", digits...)
	got, _ := filled(t, s, Values{Code: secret.New("492039")})
	assert.Equal(t, map[int]string{0: "4", 1: "9", 2: "2", 3: "0", 4: "3", 5: "9"}, got)
	_, why := filled(t, s, Values{Code: secret.New("49203911")})
	assert.Len(t, why, 1, "a code that doesn't come out even isn't typed by half")
	assert.Empty(
		t,
		Read(page("Enter characters 2, 5 and 7 of your password", "Go on", digits...)),
		"boxes for letters of a password are left alone",
	)
	got, _ = filled(
		t,
		page("Two-step sign-in", "Verify", Field{Type: "text", Label: "Verification code", MaxLength: 6}),
		Values{Code: secret.New("492039"), Password: secret.New("never")},
	)
	assert.Equal(t, map[int]string{0: "492039"}, got)
}

// TestEachValueInItsPlace fills everything at once into a page of everything.
func TestEachValueInItsPlace(t *testing.T) {
	s := page(
		"Join",
		"Create account",
		Field{
			Type:  "text",
			Label: "First name",
		},
		Field{Type: "text", Label: "Last name"},
		Field{Type: "email", Label: "E-mail"},
		Field{Type: "email", Label: "Repeat e-mail"},
		Field{
			Type:  "password",
			Label: "Password",
		},
		Field{Type: "password", Label: "Repeat password"},
		Field{Type: "text", Label: "Password hint"},
		Field{Type: "text", Label: "Mother's maiden name"},
		Field{
			Type:  "text",
			Label: "Promo code",
		},
		Field{Type: "text", Label: "Card number"},
		Field{Type: "password", Label: "Security code", MaxLength: 3},
		Field{Type: "textarea", Label: "Comments"},
	)
	got, _ := filled(
		t,
		s,
		Values{
			Username:    secret.New("maren@x.example"),
			Password:    secret.New("old"),
			NewPassword: secret.New("new-one"),
			Code:        secret.New("123456"),
			Card:        debit,
			Person:      maren,
		},
	)
	assert.Equal(
		t,
		map[int]string{
			0:  "Maren",
			1:  "Tolliver",
			2:  "maren@x.example",
			3:  "maren@cormorant.example",
			4:  "new-one",
			5:  "new-one",
			9:  "4012888888881881",
			10: "118",
		},
		got,
	)
}

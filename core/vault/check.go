package vault

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/language"
)

// Fault is how a value misses its form.
type Fault string

// The faults.
const (
	FaultShape Fault = "shape" // it isn't of the form at all
	FaultCount Fault = "count" // it has too many or too few digits or characters for the form
	FaultLong  Fault = "long"  // it is longer than the field takes
)

// FormError is returned by [Check] for a value that misses its form.
type FormError struct {
	Form      Form
	Fault     Fault
	Has, Most int // characters, of FaultLong
}

func (e *FormError) Error() string {
	return fmt.Sprintf("not a value of the form %s: %s", e.Form, e.Fault)
}

func misshapen(f Form) error { return &FormError{Form: f, Fault: FaultShape} }

// MaxFieldName is the longest name of a custom field, in characters.
const MaxFieldName = 80

// The errors of [CheckCustomField], beside [FormError].
var (
	ErrFieldForm     = errors.New("custom fields don't have this form")
	ErrNoFieldName   = errors.New("a custom field has no name")
	ErrLongFieldName = errors.New("a custom field's name is too long")
)

// Check brings a typed value to the form it is kept in, or says what is wrong
// with it in a [FormError]. An empty value is always right. FormAddress and FormSetup are left to
// packages site and otp: here they only lose the spaces around them.
func Check(s Spec, value string) (string, error) {
	if s.Form != FormHidden && s.Form != FormLines {
		value = strings.TrimSpace(value)
	}
	if value == "" {
		return "", nil
	}
	if n := utf8.RuneCountInString(value); n > s.Limit() {
		return value, &FormError{Form: s.Form, Fault: FaultLong, Has: n, Most: s.Limit()}
	}
	switch s.Form {
	case FormDate:
		return checkDate(value)
	case FormMonth:
		return checkMonth(value)
	case FormPhone:
		return checkPhone(value)
	case FormEmail:
		if i := strings.LastIndexByte(value, '@'); i < 1 || i == len(value)-1 || strings.ContainsAny(value, " ,;<>") {
			return value, misshapen(s.Form)
		}
	case FormCard:
		return checkCard(value)
	case FormCode:
		if len(value) < 3 || len(value) > 4 || strings.Trim(value, "0123456789") != "" {
			return value, misshapen(s.Form)
		}
	case FormIBAN:
		return checkIBAN(value)
	case FormBIC:
		return checkBIC(value)
	case FormCountry:
		return checkCountry(value)
	case FormYesNo:
		if value = strings.ToLower(value); value != "yes" && value != "no" {
			return value, misshapen(s.Form)
		}
	case FormChoice:
		if !slices.ContainsFunc(s.Choices, func(c Choice) bool { return c.Value == value }) {
			return value, misshapen(s.Form)
		}
	}
	return value, nil
}

func checkDate(s string) (string, error) {
	for _, layout := range []string{time.DateOnly, "2.1.2006", "2/1/2006", "2006/1/2", "2 January 2006", "2 Jan 2006"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.Format(time.DateOnly), nil
		}
	}
	return s, misshapen(FormDate)
}

// checkMonth reads a card's last month. Two digits of a year are of this century.
func checkMonth(s string) (string, error) {
	s = strings.ReplaceAll(s, " ", "")
	for _, layout := range []string{"2006-01", "1/06", "1/2006", "1-06", "1-2006", "0106"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.Format("2006-01"), nil
		}
	}
	return s, misshapen(FormMonth)
}

func checkPhone(s string) (string, error) {
	digits := 0
	for i, r := range s {
		switch {
		case r >= '0' && r <= '9':
			digits++
		case r == '+' && i == 0, strings.ContainsRune(" ()-./x#*", r):
		default:
			return s, misshapen(FormPhone)
		}
	}
	if digits < 3 || digits > 20 { // the longest of ITU-T E.164 is 15, an extension more
		return s, &FormError{Form: FormPhone, Fault: FaultCount}
	}
	return s, nil
}

// checkCard keeps the digits, after the check of ISO/IEC 7812-1, annex B (the Luhn
// formula).
func checkCard(s string) (string, error) {
	d := strings.NewReplacer(" ", "", "-", "").Replace(s)
	if len(d) < 12 || len(d) > 19 || strings.Trim(d, "0123456789") != "" || !luhn(d) {
		return s, misshapen(FormCard)
	}
	return d, nil
}

func luhn(digits string) bool {
	sum := 0
	for i := range digits {
		n := int(digits[len(digits)-1-i] - '0')
		if i%2 == 1 {
			if n *= 2; n > 9 {
				n -= 9
			}
		}
		sum += n
	}
	return sum%10 == 0
}

// brands are the number ranges of payment cards: common practice, from memory.
// The first range that fits decides.
var brands = []struct {
	from, to string // prefixes of the same length
	name     string
}{
	{"34", "34", "American Express"},
	{"37", "37", "American Express"},
	{"300", "305", "Diners Club"},
	{"309", "309", "Diners Club"},
	{"36", "36", "Diners Club"},
	{"38", "39", "Diners Club"},
	{"3528", "3589", "JCB"},
	{"2200", "2204", "Mir"},
	{"2221", "2720", "Mastercard"},
	{"51", "55", "Mastercard"},
	{"6011", "6011", "Discover"},
	{"644", "649", "Discover"},
	{"65", "65", "Discover"},
	{"62", "62", "UnionPay"},
	{"81", "81", "UnionPay"},
	{"50", "50", "Maestro"},
	{"56", "58", "Maestro"},
	{"63", "63", "Maestro"}, {"67", "67", "Maestro"}, {"4", "4", "Visa"},
}

// Brand names the payment scheme of a card number by its range; empty if none is known.
func Brand(number string) string {
	number = strings.NewReplacer(" ", "", "-", "").Replace(number)
	for _, b := range brands {
		if len(number) >= len(b.from) && number[:len(b.from)] >= b.from && number[:len(b.to)] <= b.to {
			return b.name
		}
	}
	return ""
}

// checkIBAN checks the two digits of ISO 13616 (ISO 7064, MOD 97-10).
func checkIBAN(s string) (string, error) {
	bad := misshapen(FormIBAN)
	c := strings.ToUpper(strings.Join(strings.Fields(s), ""))
	if len(c) < 15 || len(c) > 34 {
		return s, bad
	}
	rest := 0
	for i := range c {
		switch b := c[(i+4)%len(c)]; {
		case b >= '0' && b <= '9':
			rest = (rest*10 + int(b-'0')) % 97
		case b >= 'A' && b <= 'Z':
			rest = (rest*100 + int(b-'A') + 10) % 97
		default:
			return s, bad
		}
	}
	if rest != 1 || c[0] < 'A' || c[1] < 'A' {
		return s, bad
	}
	return c, nil
}

func checkBIC(s string) (string, error) {
	c := strings.ToUpper(strings.Join(strings.Fields(s), ""))
	if len(c) != 8 && len(c) != 11 {
		return s, &FormError{Form: FormBIC, Fault: FaultCount}
	}
	for i, r := range c {
		if r >= 'A' && r <= 'Z' || i >= 6 && r >= '0' && r <= '9' {
			continue
		}
		return s, misshapen(FormBIC)
	}
	return c, nil
}

func checkCountry(s string) (string, error) {
	r, err := language.ParseRegion(strings.ToUpper(s))
	if err != nil || len(s) != 2 || !r.IsCountry() {
		return s, misshapen(FormCountry)
	}
	return r.String(), nil
}

// Warning is how long before it expires a paper or card is worth a word: a
// passport takes months to renew (common practice).
const Warning = 90 * 24 * time.Hour

// Expiry returns the first moment, in UTC, at which something good until the day
// or month has expired; ok is false where there is no such date.
func Expiry(s string) (t time.Time, ok bool) {
	if t, err := time.Parse(time.DateOnly, s); err == nil {
		return t.AddDate(0, 0, 1), true
	}
	if t, err := time.Parse("2006-01", s); err == nil {
		return t.AddDate(0, 1, 0), true
	}
	return time.Time{}, false
}

// CustomForms are the forms that custom fields may have.
func CustomForms() []Form { return []Form{FormText, FormHidden, FormDate, FormYesNo, FormAddress} }

// CheckCustomField checks a custom field's label and value.
func CheckCustomField(o CustomField) (CustomField, error) {
	o.Label = strings.Join(
		strings.FieldsFunc(o.Label, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) }),
		" ",
	)
	if !slices.Contains(CustomForms(), o.Form) {
		return o, ErrFieldForm
	}
	if o.Label == "" {
		return o, ErrNoFieldName
	}
	if utf8.RuneCountInString(o.Label) > MaxFieldName {
		return o, ErrLongFieldName
	}
	v, err := Check(Spec{Form: o.Form, Max: 10000}, o.Value.Reveal())
	o.Value = newSecret(v)
	return o, err
}

package autofill

import (
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"

	"github.com/goodsign/monday"
	"github.com/nyaruka/phonenumbers"
	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
	"golang.org/x/text/unicode/norm"
)

// fold normalises a choice's text for comparison: without case, accents, punctuation.
func fold(s string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(strings.ToLower(s)) {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// choose returns the value of the one option whose text or value is one of the wanted
// ones, earlier ones first; then of one whose text begins with it. ok is false where
// none or several do: then nothing is chosen.
func choose(options []Option, wanted ...string) (value string, ok bool) {
	folded := make([]string, len(wanted))
	for i, w := range wanted {
		folded[i] = fold(w)
	}
	if v, ok := same(options, folded); ok {
		return v, true
	}
	for _, w := range folded {
		if len(w) < 3 {
			continue
		}
		var hits []Option
		for _, o := range options {
			if strings.HasPrefix(fold(o.Text), w) {
				hits = append(hits, o)
			}
		}
		if len(hits) == 1 {
			return hits[0].Value, true
		}
	}
	return "", false
}

// same returns the value of the first option whose text or value is one of the folded texts, earlier ones first.
func same(options []Option, folded []string) (value string, ok bool) {
	for _, w := range folded {
		for _, o := range options {
			if w != "" && (fold(o.Text) == w || fold(o.Value) == w) {
				return o.Value, true
			}
		}
	}
	return "", false
}

// monthNames are the names of months, long and short, in every language that package
// monday has.
var monthNames = sync.OnceValue(func() map[string]int {
	out := map[string]int{}
	for _, l := range monday.ListLocales() {
		for _, names := range [][]string{monday.GetLongMonths(l), monday.GetShortMonths(l)} {
			if len(names) != 12 {
				continue
			}
			for i, name := range names {
				if key := fold(name); key != "" {
					out[key] = i + 1
				}
			}
		}
	}
	for i, long := range english12 {
		out[fold(long)], out[fold(long[:3])] = i+1, i+1
	}
	return out
})

var english12 = []string{
	"January",
	"February",
	"March",
	"April",
	"May",
	"June",
	"July",
	"August",
	"September",
	"October",
	"November",
	"December",
}

// monthOf returns the month that an option stands for, from 1; 0 if none.
func monthOf(o Option) int {
	for _, t := range []string{o.Text, o.Value} {
		t = strings.TrimSpace(t)
		if n, err := strconv.Atoi(t); err == nil && n >= 1 && n <= 12 {
			return n
		}
		if n := monthNames()[fold(t)]; n > 0 {
			return n
		}
		head, _, both := strings.Cut(t, " ") // "09 - September", "September (09)"
		if both {
			if n, err := strconv.Atoi(strings.Trim(head, "-.()")); err == nil && n >= 1 && n <= 12 {
				return n
			}
			if n := monthNames()[fold(head)]; n > 0 {
				return n
			}
		}
	}
	return 0
}

// countryLanguages are those in which pages' lists of countries are understood.
var countryLanguages = []language.Tag{
	language.English, language.German, language.French, language.Spanish, language.Italian, language.Portuguese,
	language.Dutch, language.Danish,
	language.Swedish, language.Norwegian, language.Finnish, language.Polish, language.Czech, language.Russian,
	language.Turkish, language.Greek, language.Japanese, language.SimplifiedChinese, language.Korean,
	language.Hungarian, language.Romanian, language.Slovak, language.Croatian, language.Slovenian, language.Ukrainian,
	language.Bulgarian, language.Arabic, language.Hebrew, language.Vietnamese, language.Indonesian, language.Thai,
	language.Hindi, language.TraditionalChinese,
}

// countryNamers name countries in each of countryLanguages.
var countryNamers = sync.OnceValue(func() (out []display.Namer) {
	for _, l := range countryLanguages {
		if n := display.Regions(l); n != nil {
			out = append(out, n)
		}
	}
	return out
})

// alsoCalled are names of countries that lists use beside those of the Unicode CLDR
// (common practice; from memory).
var alsoCalled = map[string][]string{
	"GB": {"UK", "Great Britain", "Großbritannien", "Gran Bretagna", "Grande-Bretagne", "Gran Bretaña",
		"Great Britain (UK)", "United Kingdom of Great Britain and Northern Ireland", "Britain"},
	"US": {"USA", "United States of America", "U.S.A.", "America"},
	"NL": {"The Netherlands", "Holland"},
	"CZ": {"Czech Republic"},
	"RU": {"Russian Federation"},
	"KR": {"South Korea", "Korea, Republic of"},
	"IE": {"Republic of Ireland", "Eire"},
	"TR": {"Turkey"},
	"VN": {"Viet Nam"},
	"CN": {"People's Republic of China"},
	"DE": {"BRD"},
	"CD": {"Congo, Democratic Republic of the", "Congo, The Democratic Republic of the",
		"Democratic Republic of the Congo", "DR Congo"},
	"CG": {"Congo", "Republic of the Congo"},
	"KP": {"North Korea", "Korea, Democratic People's Republic of"},
	"CI": {"Ivory Coast"},
	"CV": {"Cape Verde"},
	"SZ": {"Swaziland"},
	"MM": {"Burma"},
	"TL": {"East Timor"},
	"MK": {"Macedonia", "Macedonia, the former Yugoslav Republic of"},
	"VA": {"Holy See", "Holy See (Vatican City State)"},
	"LA": {"Lao People's Democratic Republic"},
	"SY": {"Syrian Arab Republic"},
	"HK": {"Hong Kong"},
	"MO": {"Macau", "Macao"},
	"PS": {"Palestine", "Palestine, State of"},
	"AE": {"UAE"},
	"SK": {"Slovak Republic"},
}

// countryNames returns an ISO 3166-1 code, in two and three letters, and the country's
// names.
func countryNames(code string) []string {
	code = strings.ToUpper(code)
	region, err := language.ParseRegion(code)
	if err != nil {
		return []string{code}
	}
	out := []string{code, region.ISO3()}
	for _, n := range countryNamers() {
		if name := n.Name(region); name != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return append(out, alsoCalled[code]...)
}

func countryKnown(code string) bool {
	r, err := language.ParseRegion(code)
	return err == nil && r.IsCountry()
}

// countryName is a country's name in the page's language, or in English.
func countryName(code, lang string) string {
	region, err := language.ParseRegion(strings.ToUpper(code))
	if err != nil {
		return code
	}
	tag, err := language.Parse(lang)
	if err != nil {
		tag = language.English
	}
	for _, t := range []language.Tag{tag, language.English} {
		if n := display.Regions(t); n != nil {
			if name := n.Name(region); name != "" {
				return name
			}
		}
	}
	return code
}

// telephone splits a number into country code, trunk prefix and the rest; code is empty
// where the number is written as within its country. groups are the rest as its owner
// wrote it, by spaces and the like.
type telephone struct {
	code, trunk, rest string
	groups            []string
}

// readTelephone reads a number by the rules of its country, or of the person's where it names
// none. A number that fits no country's rules is kept as its digits.
func readTelephone(tel, country string) telephone {
	international := strings.HasPrefix(strings.TrimSpace(tel), "+")
	groups := slices.DeleteFunc(
		strings.FieldsFunc(tel, func(r rune) bool { return r < '0' || r > '9' }),
		func(g string) bool { return g == "" },
	)
	n, err := phonenumbers.Parse(tel, strings.ToUpper(country))
	if err != nil {
		t := telephone{rest: onlyDigits(tel), groups: groups}
		if international && len(groups) > 1 { // the owner set the country's code apart
			t.code, t.groups = groups[0], groups[1:]
			t.rest = strings.Join(t.groups, "")
		}
		return t
	}
	t := telephone{code: strconv.Itoa(int(n.GetCountryCode())), rest: phonenumbers.GetNationalSignificantNumber(n)}
	t.trunk, _ = strings.CutSuffix(onlyDigits(phonenumbers.Format(n, phonenumbers.NATIONAL)), t.rest)
	switch {
	case international && len(groups) > 0 && groups[0] == t.code:
		groups = groups[1:]
	case international:
		groups = []string{t.rest}
	case len(groups) > 0:
		groups[0] = strings.TrimPrefix(groups[0], t.trunk)
	}
	t.groups = slices.DeleteFunc(groups, func(g string) bool { return g == "" })
	return t
}

func onlyDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, s)
}

package autofill

import (
	_ "embed"
	"slices"
	"strings"
	"sync"

	"redlocket/core/words"
)

//go:embed choices.tsv
var choiceTable string

// choiceNames are what drop-downs call a choice, folded: by the choice, in the order of the table.
type choiceNames struct {
	order []string
	names map[string][]string
}

var choices = sync.OnceValue(func() choiceNames {
	c := choiceNames{names: map[string][]string{}}
	for _, t := range words.MustParse(choiceTable) {
		if c.names[t.Says] == nil {
			c.order = append(c.order, t.Says)
		}
		c.names[t.Says] = append(c.names[t.Says], fold(t.Text))
	}
	return c
})

// The choices that a role has, as choices.tsv names them.
var (
	sexes    = []string{"female", "male", "neither"}
	prefixes = []string{"ms", "mrs", "miss", "mr", "dr", "prof"}
)

// alike returns what a drop-down for the role may call a text, folded, the likeliest first. Parts of countries
// are those of the given country (ISO 3166-1), or of any where it isn't known.
func alike(role Role, text, country string) (out []string) {
	c, want := choices(), fold(text)
	switch role {
	case Sex, Prefix:
		list := sexes
		if role == Prefix {
			list = prefixes
		}
		for _, says := range list {
			if slices.Contains(c.names[says], want) {
				out = append(out, c.names[says]...)
			}
		}
	case Region:
		for _, says := range partsOf(country, text) {
			_, code, _ := strings.Cut(says, "-")
			code = fold(code)
			out = append(out, fold(says), code)
			for _, name := range c.names[says] {
				out = append(out, name, code+name, name+code) // "OR - Oregon", "Oregon (OR)"
			}
		}
	}
	return out
}

// partsOf returns the codes (ISO 3166-2: "US-OR") of the parts of a country that a text names, by name or by code; of
// any country where it is empty.
func partsOf(country, text string) (out []string) {
	c, want := choices(), fold(text)
	for _, says := range c.order {
		of, _, part := strings.Cut(says, "-")
		if part && (country == "" || of == strings.ToUpper(country)) && slices.Contains(c.names[says], want) {
			out = append(out, says)
		}
	}
	return out
}

// regionCode returns a part of a country by its code (ISO 3166-2, without the country's); empty where it isn't known.
func regionCode(text, country string) string {
	parts := partsOf(country, text)
	if country == "" || len(parts) == 0 {
		return ""
	}
	_, code, _ := strings.Cut(parts[0], "-")
	return code
}

// offers reports whether a drop-down's choices are mostly some of the given ones, of two kinds at least.
func (c *candidate) offers(list []string) bool {
	names, kinds, n := choices().names, map[string]bool{}, 0
	for _, t := range c.offered() {
		for _, says := range list {
			if len(t) > 1 && slices.Contains(names[says], t) {
				kinds[says] = true
				n++
				break
			}
		}
	}
	return len(kinds) >= 2 && n*2 >= len(c.Options)
}

// everyCountry has the names of all countries in the languages of countryLanguages, folded.
var everyCountry = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for i := range 26 * 26 {
		code := string([]byte{'A' + byte(i/26), 'A' + byte(i%26)})
		if countryKnown(code) {
			for _, name := range countryNames(code)[2:] { // codes are those of states, too
				out[fold(name)] = true
			}
		}
	}
	delete(out, "")
	return out
})

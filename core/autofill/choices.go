package autofill

import (
	_ "embed"
	"slices"
	"strings"
	"sync"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"

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
		country = strings.ToUpper(country)
		for _, says := range c.order {
			of, code, part := strings.Cut(says, "-")
			if !part || country != "" && of != country || !slices.Contains(c.names[says], want) {
				continue
			}
			code = fold(code)
			out = append(out, fold(says), code)
			for _, name := range c.names[says] {
				out = append(out, name, code+name, name+code) // "OR - Oregon", "Oregon (OR)"
			}
		}
	}
	return out
}

// regionCode returns a part of a country by its code (ISO 3166-2, without the country's); empty where it isn't known.
func regionCode(text, country string) string {
	want := fold(text)
	for _, says := range choices().order {
		of, code, part := strings.Cut(says, "-")
		if part && of == strings.ToUpper(country) && slices.Contains(choices().names[says], want) {
			return code
		}
	}
	return ""
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

// offers reports whether a drop-down's choices are mostly some of the given ones, of two kinds at least.
func (c *candidate) offers(list []string) bool {
	names, kinds, n := choices().names, map[string]bool{}, 0
	for _, o := range c.Options {
		t := fold(o.Text)
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
	for _, l := range countryLanguages {
		names := display.Regions(l)
		for i := 0; names != nil && i < 26*26; i++ {
			code := string([]byte{'A' + byte(i/26), 'A' + byte(i%26)})
			if region, err := language.ParseRegion(code); err == nil && region.IsCountry() {
				out[fold(names.Name(region))] = true
			}
		}
	}
	for _, names := range alsoCalled {
		for _, name := range names {
			out[fold(name)] = true
		}
	}
	delete(out, "")
	return out
})

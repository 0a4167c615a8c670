package wording

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"redlocket/core/autofill"
	"redlocket/core/site"
)

// Miss says why a field got nothing: a clause.
func Miss(m autofill.Miss) string {
	switch m.Why {
	case autofill.MissLocked:
		return "the page doesn’t let it be changed"
	case autofill.MissTooLong:
		return fmt.Sprintf("it takes %d characters at most", m.Most)
	case autofill.MissHidesTyping:
		return "it is a box for a password now"
	case autofill.MissShowsTyping:
		return "it isn’t a box for a password now"
	case autofill.MissBoxes:
		return fmt.Sprintf("the code has %d digits, and there are %d boxes", m.Has, m.Most)
	case autofill.MissRoom:
		return "the boxes together are too short for it"
	case autofill.MissUneven:
		return "the number doesn’t come out even in these boxes"
	case autofill.MissChoice:
		return "none of its choices is “" + m.Text + "”"
	case autofill.MissMonth:
		return "none of its choices is month " + m.Text
	case autofill.MissCountryCode:
		return "the telephone number has no country code"
	case autofill.MissPattern:
		return "the page wants the number written in another way"
	}
	return "it couldn’t be filled"
}

var roles = map[autofill.Role]string{
	autofill.CardName:       "name",
	autofill.CardGivenName:  "name",
	autofill.CardFamilyName: "name",
	autofill.CardNumber:     "number",
	autofill.CardExpiry:     "expiry",
	autofill.CardMonth:      "expiry",
	autofill.CardYear:       "expiry",
	autofill.CardCode:       "security code",
	autofill.CardType:       "kind of card",
	autofill.Username:       "user name",
	autofill.Name:           "name",
	autofill.Prefix:         "form of address",
	autofill.GivenName:      "first name",
	autofill.MiddleName:     "middle names",
	autofill.FamilyName:     "last name",
	autofill.Suffix:         "suffix",
	autofill.Nickname:       "nickname",
	autofill.Organization:   "company",
	autofill.JobTitle:       "position",
	autofill.Street:         "street",
	autofill.Line1:          "street",
	autofill.Line2:          "street",
	autofill.Line3:          "street",
	autofill.HouseNumber:    "house number",
	autofill.Region:         "region",
	autofill.Town:           "town",
	autofill.District:       "district",
	autofill.Postcode:       "postcode",
	autofill.Country:        "country",
	autofill.CountryName:    "country",
	autofill.Telephone:      "telephone",
	autofill.TelCountry:     "telephone",
	autofill.TelNational:    "telephone",
	autofill.TelArea:        "telephone",
	autofill.TelLocal:       "telephone",
	autofill.Email:          "e-mail",
	autofill.Birthday:       "birthday",
	autofill.BirthDay:       "birthday",
	autofill.BirthMonth:     "birthday",
	autofill.BirthYear:      "birthday",
	autofill.Sex:            "gender",
	autofill.Website:        "website",
	autofill.Language:       "language",
	autofill.Messages:       "messages",
}

// Fills names what would be filled, each thing once: "name, street, postcode, telephone".
func Fills(list []autofill.Role) string {
	var out []string
	for _, r := range list {
		word, ok := roles[r]
		if !ok {
			word = string(r)
		}
		if !slices.Contains(out, word) {
			out = append(out, word)
		}
	}
	return strings.Join(out, ", ")
}

// Likeness says how a page imitates a kept site: a sentence.
func Likeness(l site.Likeness) string {
	ending := func(parts []site.Part) string { return parts[len(parts)-1].Text }
	switch l.Trick {
	case site.TrickInFront:
		return "The name stands in front, but what counts is the end: this page belongs to " + l.Domain + "."
	case site.TrickInPath:
		return "The name stands in the path, behind the address that counts: this page belongs to " + l.Domain + "."
	case site.TrickEnding:
		return "The same name with another ending: " + ending(l.Here) + " in place of " + ending(l.There) + "."
	case site.TrickScript:
		return "Letters were replaced by those of another script that look the same; " +
			"the browser’s own name for it is " + l.Domain + "."
	case site.TrickLetters:
		words := "Letters were replaced by others that look like them"
		if l.Letter == 0 {
			return words + "."
		}
		// Named, because they may look the same in whatever letters they are shown.
		return words + ": " + character(l.Letter) + " in place of " + character(l.InPlace) + "."
	case site.TrickPunctuation:
		return "The dots and hyphens stand in other places."
	case site.TrickHyphens:
		return "The hyphens stand in other places."
	case site.TrickAddition:
		return "The name has something added to it."
	case site.TrickSound:
		return "It sounds the same, and is spelt otherwise."
	case site.TrickTitle:
		return "The page calls itself by that name, and its address is another one that looks much like it."
	}
	return "It is spelt almost the same."
}

func character(r rune) string {
	switch {
	case r >= '0' && r <= '9':
		return "the digit " + string(r)
	case r >= 'a' && r <= 'z':
		return "the letter " + strings.ToUpper(string(r))
	case r == '-':
		return "a hyphen"
	}
	for name, table := range unicode.Scripts {
		if name != "Common" && name != "Inherited" && unicode.Is(table, r) {
			if name == "Latin" {
				return "the accented letter " + strings.ToUpper(string(r))
			}
			return "a " + strings.ReplaceAll(name, "_", " ") + " letter"
		}
	}
	return "another character"
}

package autofill

import (
	"slices"
	"strings"
	"unicode"
)

// date is a day as it is written: two digits, two digits, four.
type date struct{ day, month, year string }

// dateText writes a date the way a field asks for it ("DD/MM/YYYY", "jj.mm.aaaa", "YYMMDD"), or as its page's language
// does.
func dateText(f Field, d date, lang string) string {
	if shape, ok := shapeIn(f.Label + "\n" + f.Near); ok {
		return shape.write(d)
	}
	lang = strings.ToLower(lang)
	base, _, _ := strings.Cut(lang, "-")
	is := func(list ...string) bool { return slices.Contains(list, base) }
	switch {
	case f.MaxLength == 6 && is("ja", "zh", "ko"): // the first half of an identity number (common practice)
		return shortYear(d) + d.month + d.day
	case f.MaxLength == 8 && is("ja", "zh", "ko"):
		return d.year + d.month + d.day
	case strings.HasPrefix(lang, "en-us"):
		return d.month + "/" + d.day + "/" + d.year
	case is("de", "da", "nb", "no", "fi", "pl", "cs", "sk", "ru", "uk", "bg", "ro", "hr", "sl", "tr"):
		return d.day + "." + d.month + "." + d.year
	case is("sv", "ja", "zh", "ko", "hu"):
		return d.year + "-" + d.month + "-" + d.day
	case is("nl"):
		return d.day + "-" + d.month + "-" + d.year
	}
	return d.day + "/" + d.month + "/" + d.year
}

// shape is how a field wants a date: what it is made of, and what stands between.
type shape struct {
	parts []func(date) string
	apart []string // before each part
}

func (s shape) write(d date) string {
	var b strings.Builder
	for i, p := range s.parts {
		b.WriteString(s.apart[i])
		b.WriteString(p(d))
	}
	return b.String()
}

func dayPart(d date) string   { return d.day }
func monthPart(d date) string { return d.month }
func yearPart(d date) string  { return d.year }
func shortYear(d date) string { return d.year[max(0, len(d.year)-2):] }

// shapeIn finds the shape of a date in a text: groups of one letter each, of which each language has its own. The year
// has four letters, or stands last with two; the month is the group of m's, or comes after the day.
func shapeIn(text string) (shape, bool) {
	groups := letterGroups(text)
	for i := range groups {
		for _, n := range []int{3, 2} {
			if i+n > len(groups) || i+n < len(groups) && groups[i+n].apart == "" {
				continue // it goes on as a word
			}
			if s, ok := shapeOf(groups[i : i+n]); ok {
				return s, true
			}
		}
	}
	return shape{}, false
}

// letterGroup is one letter, repeated, with what stands between it and the letters before.
type letterGroup struct {
	apart  string
	letter rune
	size   int
}

func letterGroups(text string) (out []letterGroup) {
	apart := "\n" // as if at the beginning of a line
	for _, r := range strings.ToLower(text) {
		switch last := len(out) - 1; {
		case !unicode.IsLetter(r):
			apart += string(r)
		case apart == "" && out[last].letter == r:
			out[last].size++
		default:
			out = append(out, letterGroup{apart, r, 1})
			apart = ""
		}
	}
	return out
}

// separators stand between the parts of a date.
var separators = []string{"/", "-", ".", " / ", " - ", ". ", " "}

func shapeOf(groups []letterGroup) (s shape, ok bool) {
	if groups[0].apart == "" { // in the middle of a word
		return s, false
	}
	apart, year, m := groups[1].apart, -1, -1
	for i, g := range groups {
		switch {
		case i > 0 && g.apart != apart, g.size > 4 || g.size == 3, i > 0 && g.letter == groups[i-1].letter:
			return s, false
		case g.size == 4 && year >= 0:
			return s, false
		case g.size == 4:
			year = i
		case g.letter == 'm' || g.letter == 'м':
			m = i
		}
	}
	if len(groups) == 3 && year < 0 {
		year = 2
		if groups[0].letter == 'y' || groups[0].letter == 'a' && groups[2].letter != 'a' {
			year = 0
		}
	}
	together := apart == ""
	switch {
	case year == 1, year == m && m >= 0, !together && !slices.Contains(separators, apart):
		return s, false
	case len(groups) == 2 && (year >= 0 || m < 0 || together || apart == " "): // a day of the year, or anything
		return s, false
	case apart == " " && groups[year].size != 4: // three short words
		return s, false
	}
	for i, g := range groups {
		if together && g.size < 2 {
			return s, false
		}
		s.apart = append(s.apart, apart)
		switch {
		case i == year && g.size == 4:
			s.parts = append(s.parts, yearPart)
		case i == year:
			s.parts = append(s.parts, shortYear)
		case i == m, m < 0 && i == 1:
			s.parts = append(s.parts, monthPart)
		default:
			s.parts = append(s.parts, dayPart)
		}
	}
	s.apart[0] = ""
	return s, true
}

// expiryShape finds the shape of a card's expiry in a text: two groups, of which the year has four letters, or stands
// last with two.
func expiryShape(text string) (s shape, ok bool) {
	groups := letterGroups(text)
	for i := 0; i+1 < len(groups); i++ {
		a, b := groups[i], groups[i+1]
		whole := a.apart != "" && (i+2 == len(groups) || groups[i+2].apart != "")
		years := a.size == 4 && b.size == 2 || a.letter == 'y' && a.size == 2 && b.size == 2
		months := a.size == 2 && (b.size == 2 || b.size == 4)
		apart := b.apart == "" || slices.Contains(separators, b.apart)
		if !whole || !apart || a.letter == b.letter || !years && !months {
			continue
		}
		known := strings.ContainsRune("mм", a.letter) || strings.ContainsRune("mм", b.letter)
		if !known && !strings.Contains(b.apart, "/") { // two words of two letters
			continue
		}
		year := func(size int) func(date) string {
			if size == 4 {
				return yearPart
			}
			return shortYear
		}
		s.apart = []string{"", b.apart}
		if years {
			s.parts = []func(date) string{year(a.size), monthPart}
		} else {
			s.parts = []func(date) string{monthPart, year(b.size)}
		}
		return s, true
	}
	return s, false
}

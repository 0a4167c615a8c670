package autofill

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"redlocket/core/secret"
)

// short is how a label asks for a year of two digits.
var short = regexp.MustCompile(`(?i)(^|[^y])yy([^y]|$)|(^|[^j])jj([^j]|$)|(^|[^a])aa([^a]|$)`)

func (p *planner) card(i int, f Field, role Role) {
	c := p.values.Card
	if c == nil {
		return
	}
	switch role {
	case CardName:
		p.fits(f, role, c.Name.Reveal())
	case CardGivenName, CardFamilyName:
		given, family, _ := cutLast(c.Name.Reveal())
		if role == CardGivenName {
			p.fits(f, role, given)
		} else {
			p.fits(f, role, family)
		}
	case CardNumber:
		digits := onlyDigits(c.Number.Reveal())
		if boxes := p.pieces(i, role); digits != "" && len(boxes) > 1 && f.MaxLength > 0 {
			p.spread(boxes, role, digits)
			return
		}
		p.fits(f, role, digits)
	case CardCode:
		p.fits(f, role, c.Code.Reveal())
	case CardType:
		if f.Type == "select" {
			p.pick(f, role, c.Brand)
		}
	case CardMonth, CardYear, CardExpiry:
		p.expiry(f, role, c)
	}
}

func (p *planner) expiry(f Field, role Role, c *Card) {
	if c.Month < 1 || c.Month > 12 || c.Year < 1 {
		return
	}
	mm, yyyy := fmt.Sprintf("%02d", c.Month), strconv.Itoa(c.Year)
	yy := yyyy[max(0, len(yyyy)-2):]
	switch {
	case role == CardMonth && f.Type == "select":
		for _, o := range f.Options {
			if monthOf(o) == c.Month {
				p.put(f, role, secret.New(o.Value))
				return
			}
		}
		p.miss(f, Miss{Why: MissMonth, Text: mm})
	case role == CardYear && f.Type == "select":
		p.pick(f, role, yyyy, yy)
	case role == CardMonth:
		if f.Type == "number" {
			mm = strconv.Itoa(c.Month)
		}
		p.fits(f, role, mm)
	case role == CardYear:
		if f.MaxLength == 2 || short.MatchString(f.Label) {
			yyyy = yy
		}
		p.fits(f, role, yyyy)
	case f.Type == "month":
		p.fits(f, role, yyyy+"-"+mm)
	case f.Type == "select":
		p.pick(f, role, mm+yy, mm+yyyy, yyyy+mm)
	default:
		p.fits(f, role, expiryText(f, mm, yy, yyyy))
	}
}

// expiryText writes an expiry the way a field asks for it: by the pattern that its
// label or hint shows, or by its length; MM/YY where neither tells.
func expiryText(f Field, mm, yy, yyyy string) string {
	if s, ok := expiryShape(f.Label + "\n" + f.Near); ok {
		text := s.write(date{"", mm, yyyy})
		if f.MaxLength == 0 || len(text) <= f.MaxLength {
			return text
		}
	}
	switch {
	case f.MaxLength == 4:
		return mm + yy
	case f.MaxLength == 6:
		return mm + yyyy
	case f.MaxLength == 7:
		return mm + "/" + yyyy
	case f.Pattern != "":
		for _, try := range []string{mm + "/" + yy, mm + "/" + yyyy, mm + yy, mm + yyyy, mm + "-" + yy,
			mm + "-" + yyyy, yyyy + "-" + mm, mm + " / " + yy} {
			if matches(f.Pattern, try) {
				return try
			}
		}
	}
	return mm + "/" + yy
}

// cutLast splits a name before its last word.
func cutLast(s string) (before, last string, ok bool) {
	s = strings.Join(strings.Fields(s), " ")
	i := strings.LastIndexByte(s, ' ')
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+1:], true
}

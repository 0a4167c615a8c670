package autofill

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"redlocket/core/secret"
)

var (
	numberFirst = regexp.MustCompile(`^(\d+\s?[A-Za-z]?(?:[-/]\d+\s?[A-Za-z]?)?),?\s+(.+)$`)
	numberLast  = regexp.MustCompile(`^(.+?),?\s+(\d+\s?[A-Za-z]?(?:[-/]\d+\s?[A-Za-z]?)?)$`)
)

func (p *planner) person(i int, f Field, role Role) {
	d := p.values.Person
	lines := slices.DeleteFunc(
		strings.Split(d[Street], "\n"),
		func(l string) bool { return strings.TrimSpace(l) == "" },
	)
	line := func(n int) string {
		if n < len(lines) {
			return strings.TrimSpace(lines[n])
		}
		return ""
	}
	number := p.reading.Has(HouseNumber)
	switch role {
	case Name:
		p.fits(f, role, strings.Join(strings.Fields(d[GivenName]+" "+d[MiddleName]+" "+d[FamilyName]), " "))
	case Street, Line1:
		text := line(0)
		if number {
			text, _ = houseNumber(text)
		}
		rest := ""
		if role == Street && !p.reading.Has(Line2) && len(lines) > 1 {
			rest = ", " + strings.Join(lines[1:], ", ")
			if f.Type == "textarea" {
				rest = "\n" + strings.Join(lines[1:], "\n")
			}
		}
		if text != "" {
			p.fits(f, role, text+rest)
		}
	case HouseNumber:
		_, n := houseNumber(line(0))
		p.fits(f, role, n)
	case Line2:
		p.fits(f, role, line(1))
	case Line3:
		p.fits(f, role, line(2))
	case Country, CountryName:
		p.country(f, role, d[Country])
	case Region, Town, Prefix, Sex, Language:
		if f.Type == "select" {
			if d[role] != "" {
				p.pick(f, role, d[role])
			}
			return
		}
		text := d[role]
		if role == Region && f.MaxLength > 0 && len(text) > f.MaxLength {
			text = cmp.Or(regionCode(text, d[Country]), text)
		}
		p.fits(f, role, text)
	case Telephone, TelCountry, TelNational, TelArea, TelLocal:
		p.telephone(i, f, role)
	case Birthday, BirthDay, BirthMonth, BirthYear:
		p.birthday(f, role, d[Birthday])
	default:
		p.fits(f, role, d[role])
	}
}

// houseNumber splits a street's first line: "7 Ropewalk", "Ropewalk 7".
func houseNumber(line string) (street, number string) {
	if m := numberFirst.FindStringSubmatch(line); m != nil {
		return m[2], m[1]
	}
	if m := numberLast.FindStringSubmatch(line); m != nil {
		return m[1], m[2]
	}
	return line, ""
}

func (p *planner) country(f Field, role Role, code string) {
	switch {
	case code == "":
	case f.Type == "select":
		p.pick(f, role, countryNames(code)...)
	case f.MaxLength == 2:
		p.fits(f, role, strings.ToUpper(code))
	default:
		p.fits(f, role, countryName(code, p.snapshot.Lang))
	}
}

func (p *planner) telephone(i int, f Field, role Role) {
	tel := p.values.Person[Telephone]
	if tel == "" {
		return
	}
	t := readTelephone(tel, p.values.Person[Country])
	switch role {
	case TelCountry:
		switch {
		case t.code == "":
			p.miss(f, Miss{Why: MissCountryCode})
		case f.Type == "select":
			p.dialCode(f, t.code)
		default:
			p.fits(f, role, "+"+t.code)
		}
	case TelNational:
		text := t.trunk + t.rest
		if f.MaxLength > 0 && len(text) > f.MaxLength {
			text = t.rest
		}
		p.fits(f, role, text)
	case TelArea, TelLocal:
		p.telephonePieces(i, f, role, t)
	default:
		text := tel
		switch {
		case f.Pattern != "" && !matches(f.Pattern, text):
			for _, try := range []string{"+" + t.code + t.rest, t.trunk + t.rest, t.rest, "00" + t.code + t.rest} {
				if matches(f.Pattern, try) {
					text = try
					break
				}
			}
		case f.MaxLength > 0 && len(text) > f.MaxLength || f.Type == "number":
			text = t.trunk + t.rest
		}
		if f.Pattern != "" && !matches(f.Pattern, text) {
			p.miss(f, Miss{Why: MissPattern})
			return
		}
		p.fits(f, role, text)
	}
}

// dialCode chooses the option with a country code; of several that share it, the one
// of the person's country.
func (p *planner) dialCode(f Field, code string) {
	home := countryNames(p.values.Person[Country])
	best := ""
	for _, o := range f.Options {
		if !slices.Contains(numbersIn(o.Text), code) && !slices.Contains(numbersIn(o.Value), code) {
			continue
		}
		if best == "" {
			best = o.Value
		}
		if name := fold(strings.TrimFunc(o.Text, func(r rune) bool {
			return strings.ContainsRune("+0123456789() -",
				r)
		})); name != "" &&
			slices.ContainsFunc(home, func(n string) bool { return fold(n) == name }) {
			best = o.Value
			break
		}
	}
	if best == "" {
		p.miss(f, Miss{Why: MissChoice, Text: "+" + code})
		return
	}
	p.put(f, TelCountry, secret.New(best))
}

func numbersIn(s string) []string {
	return strings.FieldsFunc(s, func(r rune) bool { return r < '0' || r > '9' })
}

// telephonePieces fills a number that is typed into two or three boxes: by the boxes'
// lengths where it comes out even, else by the groups in which its owner wrote it.
func (p *planner) telephonePieces(i int, f Field, role Role, t telephone) {
	boxes := []Field{f}
	for _, next := range p.snapshot.Fields[i+1:] {
		if next.Form != p.reading.Form || p.reading.Roles[next.ID] != TelLocal {
			break
		}
		boxes = append(boxes, next)
	}
	room := 0
	for _, b := range boxes {
		p.done[b.ID] = true
		room += b.MaxLength
	}
	whole := t.trunk + t.rest
	for _, text := range []string{whole, t.rest} {
		if room == len(text) {
			p.spread(boxes, role, text)
			return
		}
	}
	if len(t.groups) == len(boxes) {
		groups := slices.Clone(t.groups)
		groups[0] = t.trunk + groups[0]
		for k, b := range boxes {
			p.fits(b, p.reading.Roles[b.ID], groups[k])
		}
		return
	}
	p.miss(f, Miss{Why: MissUneven})
}

func (p *planner) birthday(f Field, role Role, day string) {
	var y, m, d int
	if n, err := fmt.Sscanf(day, "%d-%d-%d", &y, &m, &d); n != 3 || err != nil || m < 1 || m > 12 {
		return
	}
	dd, mm, yyyy := fmt.Sprintf("%02d", d), fmt.Sprintf("%02d", m), strconv.Itoa(y)
	switch {
	case role == Birthday && f.Type == "date":
		p.fits(f, role, day)
	case role == Birthday:
		p.fits(f, role, dateText(f, date{dd, mm, yyyy}, p.snapshot.Lang))
	case role == BirthMonth && f.Type == "select":
		for _, o := range f.Options {
			if monthOf(o) == m {
				p.put(f, role, secret.New(o.Value))
				return
			}
		}
		p.miss(f, Miss{Why: MissMonth, Text: mm})
	case f.Type == "select":
		text := map[Role]string{BirthDay: dd, BirthYear: yyyy}[role]
		p.pick(f, role, text, strings.TrimLeft(text, "0"))
	case f.Type == "number":
		p.fits(f, role, strings.TrimLeft(map[Role]string{BirthDay: dd, BirthMonth: mm, BirthYear: yyyy}[role], "0"))
	default:
		p.fits(f, role, map[Role]string{BirthDay: dd, BirthMonth: mm, BirthYear: yyyy}[role])
	}
}

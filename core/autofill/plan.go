package autofill

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"redlocket/core/secret"
)

// Fill is one value for one field. Of a drop-down it is the value of an option.
type Fill struct {
	Field int
	Role  Role
	Value secret.Text
}

// Miss is a field that should have got a value and didn't, with the reason in words.
type Miss struct {
	Field int    `json:"field"`
	Label string `json:"label"`
	Why   string `json:"why"`
}

// Card is what a plan may fill of a payment card. Month is from 1, year has four
// digits; 0 for unknown.
type Card struct {
	Name, Number, Code secret.Text
	Brand              string
	Month, Year        int
}

// Person is what a plan may fill of personal details: by role, as they are kept.
// Birthday is 2006-01-02, country an ISO 3166-1 code, street lines parted by line ends.
type Person map[Role]string

// Values are what a plan may draw on. What is empty is not planned.
type Values struct {
	Username, Password, NewPassword, Code secret.Text
	Card                                  *Card
	Person                                Person
}

// Plan says what goes where in one form of the snapshot. A password goes only into a
// field that the reading gave that role, a user name never into a password's box,
// a card's security code only into its own, and nothing into a field that is locked
// or too short for it.
func Plan(s Snapshot, r Reading, v Values) (fills []Fill, missed []Miss) {
	s = s.Bound()
	p := &planner{snapshot: s, reading: r, values: v}
	for i, f := range s.Fields {
		if role, ok := r.Roles[f.ID]; ok && f.Form == r.Form && fillable(f) && !p.done[f.ID] {
			p.plan(i, f, role)
		}
	}
	return p.fills, p.missed
}

type planner struct {
	snapshot Snapshot
	reading  Reading
	values   Values
	done     map[int]bool
	fills    []Fill
	missed   []Miss
}

func (p *planner) put(f Field, role Role, value secret.Text) {
	p.fills = append(p.fills, Fill{f.ID, role, value})
}

func (p *planner) miss(f Field, why string) {
	label := strings.TrimSpace(f.Label)
	if label == "" {
		label = strings.TrimSpace(f.Name)
	}
	p.missed = append(p.missed, Miss{f.ID, label, why})
}

// pieces are the fields from i on that have the role, one after the other, as one value
// is typed into several boxes.
func (p *planner) pieces(i int, role Role) []Field {
	out := []Field{}
	for _, f := range p.snapshot.Fields[i:] {
		if f.Form != p.reading.Form || p.reading.Roles[f.ID] != role || !fillable(f) {
			break
		}
		out = append(out, f)
	}
	return out
}

// spread types a value into several boxes, each to its length. It must come out even.
func (p *planner) spread(boxes []Field, role Role, value string) {
	if p.done == nil {
		p.done = map[int]bool{}
	}
	room := 0
	for _, f := range boxes {
		p.done[f.ID] = true
		room += f.MaxLength
	}
	if room < len(value) {
		p.miss(boxes[0], "the boxes together are too short for it")
		return
	}
	for _, f := range boxes {
		n := min(f.MaxLength, len(value))
		if n > 0 {
			p.put(f, role, secret.New(value[:n]))
		}
		value = value[n:]
	}
}

func (p *planner) plan(i int, f Field, role Role) {
	if !role.Login() && !role.Card() && p.values.Person == nil && role != Email {
		return
	}
	var value secret.Text
	switch role {
	case Username:
		value = p.values.Username
		if value.IsEmpty() || f.Locked { // the second page often shows it so
			return
		}
		if f.Type == "password" {
			p.miss(f, "it is a box for a password now")
			return
		}
	case Email:
		if value = secret.New(p.values.Person[Email]); value.IsEmpty() && strings.Contains(p.values.Username.Reveal(), "@") {
			value = p.values.Username
		}
	case CurrentPassword:
		value = p.values.Password
	case NewPassword:
		value = p.values.NewPassword
	case OneTimeCode:
		value = p.values.Code
		if boxes := p.pieces(i, role); !value.IsEmpty() && f.MaxLength == 1 && len(boxes) > 1 {
			if len(boxes) != len(value.Reveal()) {
				p.done = map[int]bool{}
				for _, b := range boxes {
					p.done[b.ID] = true
				}
				p.miss(f, fmt.Sprintf("the code has %d digits, and there are %d boxes", len(value.Reveal()), len(boxes)))
				return
			}
			p.spread(boxes, role, value.Reveal())
			return
		}
	default:
		if role.Card() {
			p.card(i, f, role)
		} else {
			p.person(i, f, role)
		}
		return
	}
	if value.IsEmpty() {
		return
	}
	switch {
	case f.Locked:
		p.miss(f, "the page doesn’t let it be changed")
	case (role == CurrentPassword || role == NewPassword) && f.Type != "password" && !look(f).isPassword():
		p.miss(f, "it isn’t a box for a password now")
	case f.MaxLength > 0 && utf8.RuneCountInString(value.Reveal()) > f.MaxLength:
		p.miss(f, fmt.Sprintf("it takes %d characters at most", f.MaxLength))
	default:
		p.put(f, role, value)
	}
}

// fits puts a text into a field if it may.
func (p *planner) fits(f Field, role Role, value string) {
	switch {
	case value == "":
		return
	case f.Locked:
		p.miss(f, "the page doesn’t let it be changed")
	case f.MaxLength > 0 && utf8.RuneCountInString(value) > f.MaxLength:
		p.miss(f, fmt.Sprintf("it takes %d characters at most", f.MaxLength))
	default:
		p.put(f, role, secret.New(value))
	}
}

// pick chooses an option of a drop-down.
func (p *planner) pick(f Field, role Role, wanted ...string) {
	if f.Locked {
		p.miss(f, "the page doesn’t let it be changed")
		return
	}
	if v, ok := choose(f.Options, wanted...); ok {
		p.put(f, role, secret.New(v))
		return
	}
	if len(wanted) > 0 && wanted[0] != "" {
		p.miss(f, "none of its choices is “"+wanted[0]+"”")
	}
}

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
		p.miss(f, "none of its choices is month "+mm)
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

var (
	short    = regexp.MustCompile(`(?i)(^|[^y])yy([^y]|$)|(^|[^j])jj([^j]|$)|(^|[^a])aa([^a]|$)`)
	template = regexp.MustCompile(`(?i)(m{1,2})(\s*[-/. ]?\s*)(y{2,4}|j{2,4}|a{2,4}|r{4})`)
	reverse  = regexp.MustCompile(`(?i)(y{4})(\s*[-/. ]?\s*)(m{2})`)
)

// expiryText writes an expiry the way a field asks for it: by the pattern that its
// label or hint shows, or by its length; MM/YY where neither tells.
func expiryText(f Field, mm, yy, yyyy string) string {
	shown := f.Label + " " + f.Near
	if m := reverse.FindStringSubmatch(shown); m != nil {
		return yyyy + m[2] + mm
	}
	if m := template.FindStringSubmatch(shown); m != nil {
		year := yy
		if len(m[3]) == 4 {
			year = yyyy
		}
		text := mm + m[2] + year
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
		for _, try := range []string{mm + "/" + yy, mm + "/" + yyyy, mm + yy, mm + yyyy, mm + "-" + yy, mm + "-" + yyyy, yyyy + "-" + mm, mm + " / " + yy} {
			if matches(f.Pattern, try) {
				return try
			}
		}
	}
	return mm + "/" + yy
}

// matches reports whether a text is what a pattern attribute wants. One that Go can't
// read is met by everything: the page will say.
func matches(pattern, text string) bool {
	re, err := regexp.Compile("^(?:" + pattern + ")$")
	return err != nil || re.MatchString(text)
}

// cutLast parts a name before its last word.
func cutLast(s string) (before, last string, ok bool) {
	s = strings.Join(strings.Fields(s), " ")
	i := strings.LastIndexByte(s, ' ')
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+1:], true
}

func (p *planner) person(i int, f Field, role Role) {
	d := p.values.Person
	lines := slices.DeleteFunc(strings.Split(d[Street], "\n"), func(l string) bool { return strings.TrimSpace(l) == "" })
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
		p.fits(f, role, d[role])
	case Telephone, TelCountry, TelNational, TelArea, TelLocal:
		p.telephone(i, f, role)
	case Birthday, BirthDay, BirthMonth, BirthYear:
		p.birthday(f, role, d[Birthday])
	default:
		p.fits(f, role, d[role])
	}
}

var (
	numberFirst = regexp.MustCompile(`^(\d+\s?[A-Za-z]?(?:[-/]\d+\s?[A-Za-z]?)?),?\s+(.+)$`)
	numberLast  = regexp.MustCompile(`^(.+?),?\s+(\d+\s?[A-Za-z]?(?:[-/]\d+\s?[A-Za-z]?)?)$`)
)

// houseNumber parts a street's first line: "7 Ropewalk", "Ropewalk 7".
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
			p.miss(f, "the telephone number has no country code")
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
			p.miss(f, "the page wants the number written in another way")
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
		if name := fold(strings.TrimFunc(o.Text, func(r rune) bool { return strings.ContainsRune("+0123456789() -", r) })); name != "" && slices.ContainsFunc(home, func(n string) bool { return fold(n) == name }) {
			best = o.Value
			break
		}
	}
	if best == "" {
		p.miss(f, "none of its choices is +"+code)
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
	if p.done == nil {
		p.done = map[int]bool{}
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
	p.miss(f, "the number doesn’t come out even in these boxes")
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
		p.fits(f, role, dateText(f, dd, mm, yyyy, p.snapshot.Lang))
	case role == BirthMonth && f.Type == "select":
		for _, o := range f.Options {
			if monthOf(o) == m {
				p.put(f, role, secret.New(o.Value))
				return
			}
		}
		p.miss(f, "none of its choices is month "+mm)
	case f.Type == "select":
		text := map[Role]string{BirthDay: dd, BirthYear: yyyy}[role]
		p.pick(f, role, text, strings.TrimLeft(text, "0"))
	case f.Type == "number":
		p.fits(f, role, strings.TrimLeft(map[Role]string{BirthDay: dd, BirthMonth: mm, BirthYear: yyyy}[role], "0"))
	default:
		p.fits(f, role, map[Role]string{BirthDay: dd, BirthMonth: mm, BirthYear: yyyy}[role])
	}
}

var dateShape = regexp.MustCompile(`(?i)\b(d{1,2}|t{2}|j{2}|m{1,2}|y{4}|j{4}|a{4})([-/. ])(d{1,2}|t{2}|m{1,2})([-/. ])(d{1,2}|t{2}|y{4}|j{4}|a{4})`)

// dateText writes a date the way a field asks for it, or as its page's language does.
func dateText(f Field, dd, mm, yyyy, lang string) string {
	if m := dateShape.FindStringSubmatch(f.Label + " " + f.Near); m != nil {
		out := ""
		for i, part := range []string{m[1], m[3], m[5]} {
			switch p := strings.ToLower(part); {
			case len(p) == 4:
				out += yyyy
			case p[0] == 'm':
				out += mm
			default:
				out += dd
			}
			if i < 2 {
				out += m[2]
			}
		}
		return out
	}
	switch {
	case strings.HasPrefix(strings.ToLower(lang), "en-us"):
		return mm + "/" + dd + "/" + yyyy
	case len(lang) >= 2 && slices.Contains([]string{"de", "da", "nb", "no", "fi", "pl", "cs", "ru", "tr"}, strings.ToLower(lang[:2])):
		return dd + "." + mm + "." + yyyy
	case len(lang) >= 2 && slices.Contains([]string{"sv", "ja", "zh", "ko", "hu"}, strings.ToLower(lang[:2])):
		return yyyy + "-" + mm + "-" + dd
	case strings.HasPrefix(strings.ToLower(lang), "nl"):
		return dd + "-" + mm + "-" + yyyy
	}
	return dd + "/" + mm + "/" + yyyy
}

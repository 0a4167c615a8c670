package transfer

import (
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"net/mail"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/words"
)

// Meaning says what a column holds.
type Meaning string

// The meanings. MeansOwn columns become custom fields; MeansNothing ones are
// left out because the user said so, or because they tell only of the program they
// come from.
const (
	MeansTitle    Meaning = "title"
	MeansAddress  Meaning = "address"
	MeansUsername Meaning = "username"
	MeansPassword Meaning = "password"
	MeansNotes    Meaning = "notes"
	MeansSetup    Meaning = "setup"
	MeansFolder   Meaning = "folder"
	MeansTags     Meaning = "tags"
	MeansPinned   Meaning = "pinned"
	MeansKind     Meaning = "kind"
	MeansApp      Meaning = "app"
	MeansChanged  Meaning = "changed" // when the password was set
	MeansMade     Meaning = "made"    // when the item was
	MeansOwn      Meaning = "own"
	MeansNothing  Meaning = "nothing"
)

// Meanings are all of them, in the order in which they are offered.
func Meanings() []Meaning {
	return []Meaning{
		MeansTitle, MeansAddress, MeansUsername, MeansPassword, MeansNotes, MeansSetup, MeansFolder, MeansTags,
		MeansPinned, MeansKind, MeansApp, MeansChanged, MeansMade, MeansOwn, MeansNothing,
	}
}

// Known reports whether there is such a meaning.
func (m Meaning) Known() bool { return slices.Contains(Meanings(), m) }

// Column is what a table's column is taken for.
type Column struct {
	Name    string // of the header, or "Column 3"
	Meaning Meaning
	How     string // "name", "content", or empty where nothing told
}

// What columns are called, as [foldName] writes it.
//
//go:embed columns.tsv
var columnTable string

// byName finds a meaning by a column's name.
var byName = func() map[string]Meaning {
	out := map[string]Meaning{}
	for _, t := range words.MustParse(columnTable) {
		m := Meaning(t.Says)
		if !m.Known() {
			panic("transfer: columns.tsv says " + t.Says)
		}
		out[t.Text] = m
		out[strings.ReplaceAll(t.Text, " ", "")] = m
	}
	return out
}()

// foldName brings a column's name to lower-case words without marks.
func foldName(s string) string {
	var b strings.Builder
	space, lower := false, false
	for _, r := range norm.NFKD.String(s) {
		switch {
		case unicode.Is(unicode.Mn, r):
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			if (space || lower && unicode.IsUpper(r)) && b.Len() > 0 {
				b.WriteByte(' ')
			}
			b.WriteRune(unicode.ToLower(r))
			space, lower = false, unicode.IsLower(r)
		default:
			space = true
		}
	}
	return b.String()
}

// isHeader reports whether a row names columns: some by names that are known, and none
// of its cells is what a login would have.
func isHeader(cells []string) bool {
	known, filled := 0, 0
	for _, c := range cells {
		if c == "" {
			continue
		}
		filled++
		if looksAddress(c) || looksEmail(c) {
			return false
		}
		if _, ok := byName[foldName(c)]; ok {
			known++
		}
	}
	return known >= 2 || known == 1 && filled == 1
}

// Guess says what each column of a table is, by its name, else by its content.
func Guess(t Table) []Column {
	width := width(t)
	out := make([]Column, width)
	used := map[Meaning]bool{}
	for i := range out {
		out[i] = Column{Name: "Column " + strconv.Itoa(i+1), Meaning: MeansOwn}
		if i < len(t.Header) && strings.TrimSpace(t.Header[i]) != "" {
			out[i].Name = strings.TrimSpace(t.Header[i])
		}
	}
	take := func(i int, m Meaning, how string) {
		out[i].Meaning, out[i].How = m, how
		used[m] = true
	}
	for i := range min(width, len(t.Header)) {
		m, ok := byName[foldName(t.Header[i])]
		if ok && (!used[m] || m == MeansNothing || m == MeansAddress || m == MeansNotes || m == MeansTags) {
			take(i, m, "name")
		}
	}
	if len(t.Header) > 0 {
		preferUsername(t, out)
	}
	guessByContent(t, out, used, take)
	return out
}

// width is how many columns a table has: as many as it names, unless most of its rows
// have more.
func width(t Table) int {
	widest, wider := len(t.Header), 0
	for _, r := range t.Rows {
		widest = max(widest, len(r.Cells))
		if len(r.Cells) > len(t.Header) {
			wider++
		}
	}
	if wider*2 > len(t.Rows) {
		return widest
	}
	return len(t.Header)
}

func isMail(name string) bool { return strings.Contains(foldName(name), "mail") }

// preferUsername chooses between a column for user names and one for e-mail addresses: the
// latter is the user name only where the former is empty, which [Read] sees to.
func preferUsername(t Table, out []Column) {
	mail, name := -1, -1
	for i := range min(len(out), len(t.Header)) {
		if byName[foldName(t.Header[i])] != MeansUsername {
			continue
		}
		if isMail(t.Header[i]) && mail < 0 {
			mail = i
		} else if name < 0 {
			name = i
		}
	}
	if mail >= 0 && name >= 0 {
		out[name].Meaning, out[name].How = MeansUsername, "name"
		out[mail].Meaning, out[mail].How = MeansOwn, "name"
	}
}

// sampled is how many rows tell what a column without a name holds.
const sampled = 200

type look struct {
	filled, address, email, setup, time, mixed, spaced, long int
	distinct                                                 map[string]bool
}

func (l look) most(n int) bool { return l.filled > 0 && n*10 >= l.filled*6 }

func guessByContent(t Table, out []Column, used map[Meaning]bool, take func(int, Meaning, string)) {
	looks := make([]look, len(out))
	for i := range looks {
		looks[i].distinct = map[string]bool{}
	}
	for _, r := range t.Rows[:min(len(t.Rows), sampled)] {
		for i, c := range r.Cells[:min(len(r.Cells), len(out))] {
			if c = strings.TrimSpace(c); c != "" {
				looks[i].add(c)
			}
		}
	}
	var open []int
	for i, c := range out {
		if c.How != "" {
			continue
		}
		switch l := looks[i]; {
		case l.most(l.address) && !used[MeansAddress]:
			take(i, MeansAddress, "content")
		case l.most(l.setup) && !used[MeansSetup]:
			take(i, MeansSetup, "content")
		case l.most(l.email) && !used[MeansUsername]:
			take(i, MeansUsername, "content")
		case l.most(l.time) && !used[MeansChanged] && l.filled == min(len(t.Rows), sampled) &&
			(used[MeansPassword] || len(out) > 3):
			take(i, MeansChanged, "content")
		case l.filled > 0:
			open = append(open, i)
		}
	}
	if len(t.Header) > 0 && used[MeansPassword] {
		return // what its header doesn't say is a custom field
	}
	best := func(m Meaning, score func(look) float64) {
		at, most := -1, 0.0
		for _, i := range open {
			if s := score(looks[i]); out[i].How == "" && s > most {
				at, most = i, s
			}
		}
		if at >= 0 && !used[m] {
			take(at, m, "content")
		}
	}
	per := func(n int, l look) float64 { return float64(n) / float64(l.filled) }
	best(MeansPassword, func(l look) float64 {
		return 0.1 + per(l.mixed, l) + per(len(l.distinct), l)/2 - per(l.spaced, l)/2 - per(l.email, l)
	})
	best(MeansUsername, func(l look) float64 {
		return 1.6 + per(l.email, l) - per(len(l.distinct), l) - per(l.spaced, l)/2 - per(l.long, l)
	})
	best(MeansTitle, func(l look) float64 { return 1.1 - per(l.long, l) })
	best(MeansNotes, func(l look) float64 { return 0.1 + per(l.spaced, l) })
}

func (l *look) add(c string) {
	l.filled++
	if len(l.distinct) < sampled {
		l.distinct[c] = true
	}
	count := func(n *int, yes bool) {
		if yes {
			*n++
		}
	}
	count(&l.address, looksAddress(c))
	count(&l.email, looksEmail(c))
	count(&l.setup, looksSetup(c))
	_, isTime := ParseTime(c)
	count(&l.time, isTime)
	count(&l.spaced, strings.ContainsRune(c, ' '))
	count(&l.long, len(c) > 60)
	var letter, digit, sign bool
	for _, r := range c {
		switch {
		case unicode.IsLetter(r):
			letter = true
		case unicode.IsDigit(r):
			digit = true
		default:
			sign = true
		}
	}
	count(&l.mixed, letter && (digit || sign) && !looksEmail(c))
}

func looksAddress(c string) bool {
	if strings.Contains(c, "://") {
		return !strings.HasPrefix(c, "otpauth://")
	}
	if strings.ContainsAny(c, " @\t") || !strings.Contains(c, ".") || len(c) > 300 {
		return false
	}
	d := site.Domain("https://" + c)
	head, _, _ := strings.Cut(c, "/")
	last := head[strings.LastIndexByte(head, '.')+1:]
	return d != "" && len(last) >= 2 && strings.Trim(strings.ToLower(last), "abcdefghijklmnopqrstuvwxyz") == "" &&
		strings.ToLower(head) == head
}

func looksEmail(c string) bool {
	if !strings.Contains(c, "@") || strings.ContainsRune(c, ' ') {
		return false
	}
	a, err := mail.ParseAddress(c)
	return err == nil && a.Address == c && strings.Contains(c[strings.LastIndexByte(c, '@'):], ".")
}

func looksSetup(c string) bool {
	if strings.HasPrefix(c, "otpauth://") {
		return true
	}
	if len(c) < 16 || strings.ToUpper(c) != c {
		return false
	}
	_, err := otp.Parse(secret.New(c))
	return err == nil
}

// Shape names files that have the same columns, so that what was chosen for one is
// chosen for the next.
func Shape(t Table) string {
	h := sha256.New()
	for _, c := range t.Header {
		h.Write([]byte(foldName(c) + "\x00"))
	}
	if len(t.Header) == 0 && len(t.Rows) > 0 {
		h.Write([]byte(strconv.Itoa(len(t.Rows[0].Cells)) + " without names"))
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

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
	Unsure  bool   // what told isn't enough: its user should look
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
		text := foldName(t.Text)
		out[text] = m
		out[strings.ReplaceAll(text, " ", "")] = m
	}
	return out
}()

// plainLetters writes letters that Unicode doesn't take apart.
var plainLetters = strings.NewReplacer(
	"ı", "i", "İ", "I", "ł", "l", "Ł", "L", "ø", "o", "Ø", "O", "đ", "d", "Đ", "D",
	"ß", "ss", "æ", "ae", "Æ", "AE", "œ", "oe",
)

// foldName brings a column's name to lower-case words without marks.
func foldName(s string) string {
	var b strings.Builder
	space, lower := false, false
	for _, r := range norm.NFKD.String(plainLetters.Replace(s)) {
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
	return known >= 2 && known*3 >= filled || known >= 3 || known == 1 && filled == 1
}

// Guess says what each column of a table is: by its name where that has a meaning and what is in the column agrees,
// else by its content. What isn't sure is marked.
func Guess(t Table) []Column {
	g := newGuess(t)
	g.byName()
	if len(t.Header) > 0 {
		g.preferUsername()
	}
	g.disagree()
	g.ofAccounts()
	g.byContent()
	return g.out
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

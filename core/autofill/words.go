package autofill

import (
	_ "embed"
	"strings"
	"unicode"
	"unicode/utf8"

	"redlocket/core/words"
)

// class is what a word says. One word may stand in several tables; of words that
// overlap the longest counts, so that "card number" isn't read as "number".
type class uint8

// The classes beside the roles.
const (
	saysUser class = iota
	saysMail
	saysPassword
	saysCurrent
	saysNew
	saysAgain
	saysCode
	saysSecretOther // a security question, a hint, a memorable word: never a password's place
	saysThing       // the secret of a thing and of no account: of a network, a gift card, a document
	saysSearch
	saysNewsletter
	saysOther // coupons, captchas, quantities, comments, references
	saysSignUp
	saysSignIn
	saysNext
	saysChange
	saysForgot
	saysRemember
	saysCard
	saysUnpaidCard // a card that nothing is paid with, or a date or number of a card that is none of ours
	saysRefused    // that it was wrong
	saysDemands    // what may be wrong with it, or something else
	saysDone
	saysMachine     // what a program needs to reach another one
	saysSetUp       // that a program is set up for the first time
	saysForOther    // that an account is made for somebody else
	saysByMail      // that a link or a code is sent to sign in with
	saysAgrees      // that who fills it in accepts terms
	saysConfirm     // that who is signed in is asked once more
	saysWhose       // a word about people or their places, beside "name", "title" or "address"
	saysMachinePart // what has an address and is no place
	saysOtherPerson // somebody else than who fills it in
	saysDay
	saysMonth
	saysYear
	saysNumber // the word "number", of whatever
	firstRole  // roles follow, in the order of namedRoles
)

// classNames are what the classes are called in words.tsv.
var classNames = map[string]class{
	"user":         saysUser,
	"mail":         saysMail,
	"password":     saysPassword,
	"current":      saysCurrent,
	"new":          saysNew,
	"again":        saysAgain,
	"code":         saysCode,
	"secret-other": saysSecretOther,
	"thing":        saysThing,
	"search":       saysSearch,
	"newsletter":   saysNewsletter,
	"other":        saysOther,
	"sign-up":      saysSignUp,
	"sign-in":      saysSignIn,
	"next":         saysNext,
	"change":       saysChange,
	"forgot":       saysForgot,
	"remember":     saysRemember,
	"card":         saysCard,
	"unpaid-card":  saysUnpaidCard,
	"refused":      saysRefused,
	"demands":      saysDemands,
	"done":         saysDone,
	"machine":      saysMachine,
	"set-up":       saysSetUp,
	"for-other":    saysForOther,
	"by-mail":      saysByMail,
	"agrees":       saysAgrees,
	"confirm":      saysConfirm,
	"whose":        saysWhose,
	"machine-part": saysMachinePart,
	"other-person": saysOtherPerson,
	"day":          saysDay,
	"month":        saysMonth,
	"year":         saysYear,
	"number":       saysNumber,
}

// The words by which pages name what has to do with logins, and the fields of cards and
// details.
var (
	//go:embed words.tsv
	loginTable string
	//go:embed roles.tsv
	roleTable string
)

// entry is one term: its words, or the letters that are found inside.
type entry struct {
	words []string
	class class
}

// lexicon finds terms in normal text.
type lexicon struct {
	words     map[string][]entry
	whole     map[string][]class // of texts that say nothing else
	languages map[string]bool    // that it has words of
	inside    map[rune][]entry
}

var lex = newLexicon()

func newLexicon() *lexicon {
	l := &lexicon{map[string][]entry{}, map[string][]class{}, map[string]bool{}, map[rune][]entry{}}
	for _, t := range words.MustParse(loginTable) {
		c, ok := classNames[t.Says]
		if !ok {
			panic("autofill: words.tsv says " + t.Says)
		}
		l.add(t, c)
		l.languages[t.Language] = true
	}
	for _, t := range words.MustParse(roleTable) {
		c, ok := classOf[Role(t.Says)]
		if !ok {
			panic("autofill: roles.tsv names " + t.Says)
		}
		l.add(t, c)
	}
	return l
}

func (l *lexicon) add(t words.Term, c class) {
	text := strings.TrimSpace(normal(t.Text))
	if t.Whole {
		l.whole[text] = append(l.whole[text], c)
		return
	}
	if t.Inside {
		first, _ := utf8.DecodeRuneInString(text)
		l.inside[first] = append(l.inside[first], entry{[]string{text}, c})
		return
	}
	list := strings.Split(text, " ")
	l.words[list[0]] = append(l.words[list[0]], entry{list, c})
}

// said is a set of classes.
type said [2]uint64

func (s said) has(c class) bool { return s[c>>6]&(1<<(c&63)) != 0 }
func (s *said) add(c class)     { s[c>>6] |= 1 << (c & 63) }
func (s said) any(list ...class) bool {
	for _, c := range list {
		if s.has(c) {
			return true
		}
	}
	return false
}
func (s said) or(t said) said { return said{s[0] | t[0], s[1] | t[1]} }

// read returns what a normal text says. Of terms that begin at one word the longest
// counts, and what it covers is read no further.
func (l *lexicon) read(text string) (out said) {
	list := strings.Fields(text)
	for _, c := range l.whole[strings.Join(list, " ")] {
		out.add(c)
	}
	var covered [][2]int // of the text, by terms of several words
	at := 0
	for i := 0; i < len(list); {
		longest := 0
		for _, e := range l.words[list[i]] {
			n := len(e.words)
			if n < longest || i+n > len(list) || !equal(e.words, list[i:i+n]) {
				continue
			}
			longest = n
		}
		for _, e := range l.words[list[i]] {
			if len(e.words) == longest && i+longest <= len(list) && equal(e.words, list[i:i+longest]) {
				out.add(e.class)
			}
		}
		from := at
		for _, w := range list[i : i+max(1, longest)] {
			at = strings.Index(text[at:], w) + at + len(w)
		}
		if longest > 1 {
			covered = append(covered, [2]int{from, at})
		}
		i += max(1, longest)
	}
	for i := 0; i < len(text); {
		if len(covered) > 0 && i >= covered[0][0] {
			i = max(i, covered[0][1])
			covered = covered[1:]
			continue
		}
		longest := 0
		r, size := utf8.DecodeRuneInString(text[i:])
		list := l.inside[r]
		for _, e := range list {
			if len(e.words[0]) > longest && strings.HasPrefix(text[i:], e.words[0]) {
				longest = len(e.words[0])
			}
		}
		for _, e := range list {
			if longest > 0 && len(e.words[0]) == longest && strings.HasPrefix(text[i:], e.words[0]) {
				out.add(e.class)
			}
		}
		i += max(size, longest)
	}
	return out
}

func equal(a, b []string) bool {
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// normal brings a page's text to words separated by single spaces, with one at
// either end: camelCase and snake_case split, letters and digits too, lower case,
// punctuation dropped.
func normal(parts ...string) string {
	var b strings.Builder
	b.WriteByte(' ')
	space := true
	for _, p := range parts {
		var last rune
		for _, r := range p {
			letter, digit := unicode.IsLetter(r) || unicode.Is(unicode.Mn, r), unicode.IsDigit(r)
			switch {
			case !letter && !digit:
				if !space {
					b.WriteByte(' ')
					space = true
				}
			default:
				if !space &&
					(unicode.IsUpper(r) && unicode.IsLower(last) || digit && unicode.IsLetter(last) ||
						letter && unicode.IsDigit(last)) {
					b.WriteByte(' ')
				}
				b.WriteRune(unicode.ToLower(r))
				space = false
			}
			last = r
		}
		if !space {
			b.WriteByte(' ')
			space = true
		}
	}
	return b.String()
}

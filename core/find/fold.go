package find

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"
)

// folder makes texts comparable: case, accents and width folded, and letters
// that have no accent to take away written as people type them (ø as o, ß as ss).
type folder struct{ t transform.Transformer }

func newFolder() folder {
	return folder{transform.Chain(norm.NFKD, runes.Remove(runes.In(unicode.Mn)), norm.NFC)}
}

var plainLetters = strings.NewReplacer(
	"ø",
	"o",
	"æ",
	"ae",
	"œ",
	"oe",
	"ß",
	"ss",
	"ł",
	"l",
	"đ",
	"d",
	"ð",
	"d",
	"þ",
	"th",
	"ı",
	"i",
	// dashes and quotation marks as they are typed
	"‐", "-", "‑", "-", "‒", "-", "–", "-", "—", "-", "−", "-", "’", "'", "‘", "'", "“", `"`, "”", `"`, "„", `"`,
)

func (f folder) fold(s string) string {
	ascii, lower := true, true
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			ascii = false
			break
		}
		if s[i] >= 'A' && s[i] <= 'Z' {
			lower = false
		}
	}
	if ascii {
		if lower {
			return s
		}
		return strings.ToLower(s)
	}
	if out, _, err := transform.String(f.t, s); err == nil {
		s = out
	}
	return plainLetters.Replace(strings.ToLower(s))
}

// Piece is a part of a text, and whether a word of the query is in it.
type Piece struct {
	Text string
	Hit  bool
}

// Pieces splits a text so that what matched can be marked.
func (q Query) Pieces(text string) []Piece {
	if len(q.Words) == 0 || text == "" {
		return []Piece{{text, false}}
	}
	f := newFolder()
	var folded strings.Builder
	var from []int // by byte of folded: where in text its letter begins
	for i, r := range text {
		part := f.fold(string(r))
		for range len(part) {
			from = append(from, i)
		}
		folded.WriteString(part)
	}
	s := folded.String()
	hit := make([]bool, len(text)+1)
	for _, w := range q.Words {
		i := bestPlace(s, w)
		if i < 0 {
			continue
		}
		end := len(text)
		if i+len(w) < len(from) {
			end = from[i+len(w)]
		}
		for j := from[i]; j < end; j++ {
			hit[j] = true
		}
	}
	var out []Piece
	for i := 0; i < len(text); {
		j := i
		for j < len(text) && hit[j] == hit[i] {
			j++
		}
		out = append(out, Piece{text[i:j], hit[i]})
		i = j
	}
	return out
}

// bestPlace is where a word begins in a text: at the start of a word, if it does
// so anywhere.
func bestPlace(text, word string) int {
	first := strings.Index(text, word)
	for i := first; i >= 0; i = next(text, word, i) {
		if i == 0 || boundary(text[i-1]) {
			return i
		}
	}
	return first
}

func next(text, word string, i int) int {
	j := strings.Index(text[i+1:], word)
	if j < 0 {
		return -1
	}
	return i + 1 + j
}

// boundary reports whether a byte separates words.
func boundary(c byte) bool {
	return c < utf8.RuneSelf && (c < '0' || c > '9') && (c < 'a' || c > 'z')
}

// isTypo reports whether word is the start of token but for one typing error: a letter
// wrong, missing, too many, or two of them swapped. The edit distance is that of
// Damerau, restricted to one.
func isTypo(token, word string) bool {
	i := 0
	for i < len(word) && i < len(token) && word[i] == token[i] {
		i++
	}
	for i > 0 && i < len(word) && !utf8.RuneStart(word[i]) {
		i--
	}
	t, w := token[i:], word[i:]
	_, wn := utf8.DecodeRuneInString(w)
	_, tn := utf8.DecodeRuneInString(t)
	if t == "" || w == "" {
		return len(w) <= wn // the last letter is too many
	}
	if strings.HasPrefix(t[tn:], w[wn:]) || strings.HasPrefix(t, w[wn:]) || strings.HasPrefix(t[tn:], w) {
		return true
	}
	a, an := utf8.DecodeRuneInString(w[wn:])
	b, bn := utf8.DecodeRuneInString(t[tn:])
	first, _ := utf8.DecodeRuneInString(w)
	second, _ := utf8.DecodeRuneInString(t)
	return first == b && a == second && strings.HasPrefix(t[tn+bn:], w[wn+an:])
}

// mayBeTypo is a quick look at the first two letters that rules most tokens out.
func mayBeTypo(t, w string) bool {
	if len(t) < 2 || len(w) < 2 || t[0]|t[1]|w[0]|w[1] >= utf8.RuneSelf {
		return true
	}
	return t[0] == w[0] || t[1] == w[1] || t[0] == w[1] || t[1] == w[0]
}

// letter is where the thumb index has a folded title: A to Z, "#" for digits and
// signs, another script's own capital, or "…" for scripts that have none.
func letter(folded string) string {
	for _, r := range folded {
		switch {
		case r >= 'a' && r <= 'z':
			return string(r - 'a' + 'A')
		case unicode.IsDigit(r):
			return "#"
		case unicode.IsLetter(r):
			if up := unicode.ToUpper(r); up != r {
				return string(up)
			}
			return "…"
		}
	}
	return "#"
}

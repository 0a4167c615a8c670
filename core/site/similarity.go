package site

import (
	"strings"
	"unicode"

	"github.com/mtibben/confusables"
	"golang.org/x/net/idna"
	"golang.org/x/text/unicode/norm"
)

// What a letter may be taken for. First the digits, then letters of other scripts that UTS #39 doesn't bring to the
// Latin ones they resemble at the size of an address (looked at in the fonts of three systems; from memory).
var lookAlikes = func() *strings.Replacer {
	var list []string
	for _, pair := range strings.Fields(`
		0o 1l 2z 3e 4a 5s 6b 7t 8b 9g !l |l $s @a
		ʙb ᴄc ᴅd ᴇe ꜰf ɢg ʜh ɪl ᴊj ᴋk ʟl ᴍm ɴn ᴏo ᴘp ǫq ʀr ꜱs ᴛt ᴜu ᴠv ᴡw ʏy ᴢz ĸk ɑa ɡg ɩl ɾr ʋv ɯw ı l
		ƒf ŋn þp ðd ħh ŧt đd łl øo ſf ɦh ɓb ɗd ɠg ƙk ƥp ƭt ʂs ʈt ɳn ɲn ɱm ɭl ɫl ʐz ʑz ɕc ɖd ɟj ə e ɛe ɔo ʊu ʌv
		аa вb гr дd еe зe иu йu кk лn мm нh оo пn рp сc тt уy фo хx цu чy шw щw ъb ыb ьb эe юo яr єe іl їl јj
		љn њh ћh ѕs ґr ўy ғf қk ңh ҳx һh ҽe ԁd ԛq ԝw ԍg ӏl ӀI ѡw ѵv
		αa βb γy δd εe ζz ηn θo ιl κk λa μu νv ξe οo πn ρp ςs σo τt υu φo χx ψw ωw ϲc ϳj ϱp ϵe ϐb
		աw բr գq դn եt զq էe ըn թp իh լl խx ծo կu հh ձd ղn ճu մu յj նu շ2 ոn չs պu ջo ռn սu վu տu րn ցg ւl փp քp օo ֆs
		ꭰd ꭱr ꭲt ꭺg ꮃl ꮇm ꮋh ꮓz ꮞ4 ꮪs ꮩv ꮮl ꮯc ꮲp ꮶk ꭻj ꭼe ꭵl ꮤw ꮥs
		ᎠD ᎡR ᎢT ᎪA ᎫJ ᎬE ᎳW ᎷM ᎻH ᏀG ᏃZ ᏎM ᏒR ᏔW ᏕS ᏙV ᏚS ᏞL ᏟC ᏢP ᏦK ᏧJ ᏴB
		оo օo ഠo ೦o ०o ০o ๐o ໐o 〇o ﮫo ہo ᴑo ｌl ｏo`) {
		r := []rune(pair)
		if len(r) == 2 {
			list = append(list, string(r[0]), strings.ToLower(string(r[1])))
		}
	}
	list = append(list, "ə", "e", "ı", "l", "æ", "ae", "œ", "oe", "ß", "b", "ﬁ", "fl", "ĳ", "lj")
	return strings.NewReplacer(list...)
}()

// oneStroke has the letters that are one upright stroke as one.
var oneStroke = strings.NewReplacer("-", "", "i", "l")

// lookPairs are letters beside each other that are taken for another one, once i and l are one.
var lookPairs = strings.NewReplacer("rn", "m", "vv", "w", "nn", "m", "cl", "d", "uu", "w")

// longest is how many letters a label can have (RFC 1035).
const longest = 63

// distance is how far two names are apart, in tenths of a letter: a doubled letter or one
// that looks or lies alike costs half a letter, a swap seven tenths, others a whole one. It
// stops counting beyond most. (Optimal string alignment, with weights.)
func distance(s, t []rune, most int) int {
	if len(s) > longest || len(t) > longest {
		return most + 1
	}
	if d := len(s) - len(t); d > 3 || d < -3 {
		return most + 1
	}
	const never = 10000
	var rows [3][longest + 1]int
	for j := range t {
		rows[0][j+1] = rows[0][j] + 10
	}
	before := 0
	for i := 1; i <= len(s); i++ {
		prev2, prev, now := &rows[(i+1)%3], &rows[(i+2)%3], &rows[i%3]
		now[0] = i * 10
		least := now[0]
		for j := 1; j <= len(t); j++ {
			c := prev[j-1]
			if s[i-1] != t[j-1] {
				c += substitution(s[i-1], t[j-1])
			}
			drop, add := 10, 10
			if i > 1 && s[i-1] == s[i-2] {
				drop = 5
			}
			if j > 1 && t[j-1] == t[j-2] {
				add = 5
			}
			c = min(c, prev[j]+drop, now[j-1]+add)
			if i > 1 && j > 1 && s[i-1] == t[j-2] && s[i-2] == t[j-1] && s[i-1] != s[i-2] {
				c = min(c, prev2[j-2]+7)
			}
			now[j] = c
			least = min(least, c)
		}
		if least > most && before > most { // a swap goes back over two rows
			return never
		}
		before = least
	}
	return rows[len(s)%3][len(t)]
}

// keyboard rows, for letters that lie side by side.
var rowsOfKeys = []string{"qwertyuiop", "asdfghjkl", "zxcvbnm", "qwertzuiop", "azertyuiop"}

var similar = set(
	`il li lj jl ij ji nm mn uv vu vy yv vw wv ce ec oc co qg gq gp hb bh fl sz zs ck kc ae ea oa ao
		rn nr t1 l1 1l 1i i1 o0 0o e3 3e a4 4a s5 5s z2 2z b8 8b g9 9g g6 6g t7 7t b6 6b`,
)

// costs are those of taking a letter or digit for another one.
var costs = func() (out [128][128]uint8) {
	for _, row := range rowsOfKeys {
		for i := 1; i < len(row); i++ {
			out[row[i-1]][row[i]], out[row[i]][row[i-1]] = 7, 7
		}
	}
	for pair := range similar {
		out[pair[0]][pair[1]] = 5
	}
	return out
}()

func substitution(a, b rune) int {
	if a < 128 && b < 128 && costs[a][b] > 0 {
		return int(costs[a][b])
	}
	return 10
}

// looks brings a label to what it looks like: compatible forms and marks taken off, the skeleton of UTS #39, digits and
// other scripts' letters as the Latin ones that they stand for, i as l, letter pairs as the letter they resemble,
// without hyphens.
func looks(label string) string {
	s := withoutMarks(strings.ToLower(norm.NFKD.String(label)))
	if !isPlain(s) {
		s = lookAlikes.Replace(s)
		s = withoutMarks(strings.ToLower(norm.NFKD.String(confusables.Skeleton(s))))
		s = lookAlikes.Replace(s)
	}
	return lookPairs.Replace(oneStroke.Replace(s))
}

// isPlain reports whether a label has only letters that look like themselves.
func isPlain(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return (r < 'a' || r > 'z') && r != '-' })
}

func withoutMarks(s string) string {
	if isPlain(s) {
		return s
	}
	return strings.Map(func(r rune) rune {
		if unicode.In(r, unicode.Mn, unicode.Me, unicode.Cf) {
			return -1
		}
		return r
	}, s)
}

// sounds are ways to write what is said alike (common practice of English spelling, from memory).
var sounds = strings.NewReplacer(
	"-", "", "ck", "k", "ch", "4", "sh", "5", "ph", "f", "th", "t", "qu", "kw", "wh", "w", "kn", "n", "wr", "r",
	"gh", "g", "x", "ks", "c", "k", "q", "k", "z", "s", "y", "i", "j", "g", "oo", "u", "ou", "u", "ee", "i", "ea", "i",
	"ie", "i", "ei", "i", "ai", "e", "ay", "e", "oa", "o", "au", "o", "aw", "o",
)

// sound brings a label to how it is said, roughly; doubled letters count once.
func sound(label string) string {
	var b strings.Builder
	var last rune
	for _, r := range sounds.Replace(label) {
		if r != last {
			b.WriteRune(r)
		}
		last = r
	}
	return b.String()
}

// letters is a label in its own letters rather than punycode.
func letters(label string) string {
	if strings.HasPrefix(label, "xn--") {
		if u, err := idna.Punycode.ToUnicode(label); err == nil {
			return u
		}
	}
	return label
}

// marked shows a domain beside the kept one, with the letters in which they differ marked.
func marked(kept, domain string, trick Trick) Likeness {
	here, there := shownName(domain), shownName(kept)
	a, b := []rune(here), []rune(there)
	inA, inB := commonRunes(a, b)
	return Likeness{Kept: kept, Trick: trick, Domain: domain, Here: parts(a, inA), There: parts(b, inB)}
}

// firstDifference returns the first characters in which two labels differ, if one isn't
// just the beginning of the other.
func firstDifference(here, there string) (a, b rune) {
	x, y := []rune(here), []rune(there)
	for i := range min(len(x), len(y)) {
		if x[i] != y[i] {
			return x[i], y[i]
		}
	}
	return 0, 0
}

// shownName is a domain in its own letters, ending included.
func shownName(domain string) string {
	if !strings.Contains(domain, "xn--") {
		return domain
	}
	labels := strings.Split(domain, ".")
	for i := range labels {
		labels[i] = letters(labels[i])
	}
	return strings.Join(labels, ".")
}

// commonRunes tells which runes of each text belong to their longest common subsequence.
func commonRunes(a, b []rune) (inA, inB []bool) {
	n := make([][]int, len(a)+1)
	for i := range n {
		n[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				n[i][j] = n[i+1][j+1] + 1
			} else {
				n[i][j] = max(n[i+1][j], n[i][j+1])
			}
		}
	}
	inA, inB = make([]bool, len(a)), make([]bool, len(b))
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i] == b[j]:
			inA[i], inB[j] = true, true
			i++
			j++
		case n[i+1][j] >= n[i][j+1]:
			i++
		default:
			j++
		}
	}
	return inA, inB
}

func parts(text []rune, same []bool) (out []Part) {
	for i, r := range text {
		if len(out) == 0 || out[len(out)-1].Mark == same[i] {
			out = append(out, Part{Mark: !same[i]})
		}
		out[len(out)-1].Text += string(r)
	}
	return out
}

package site

import (
	"strings"

	"github.com/mtibben/confusables"
	"golang.org/x/net/idna"
)

var (
	lookDigits = strings.NewReplacer(
		"0",
		"o",
		"1",
		"l",
		"3",
		"e",
		"4",
		"a",
		"5",
		"s",
		"7",
		"t",
		"8",
		"b",
		"9",
		"g",
		"6",
		"b",
		"2",
		"z",
	)
	lookPairs = strings.NewReplacer("rn", "m", "vv", "w", "nn", "m")
)

// distance is how far two names are apart, in tenths of a letter: a doubled letter or one
// that looks or lies alike costs half a letter, a swap seven tenths, others a whole one. It
// stops counting beyond most. (Optimal string alignment, with weights.)
func distance(a, b string, most int) int {
	s, t := []rune(a), []rune(b)
	if d := len(s) - len(t); d > 3 || d < -3 {
		return most + 1
	}
	const never = 10000
	var rows [3][]int
	for i := range rows {
		rows[i] = make([]int, len(t)+1)
	}
	for j := range t {
		rows[0][j+1] = rows[0][j] + 10
	}
	for i := 1; i <= len(s); i++ {
		prev2, prev, now := rows[(i+1)%3], rows[(i+2)%3], rows[i%3]
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
		if least > most {
			return never
		}
	}
	return rows[len(s)%3][len(t)]
}

// keyboard rows, for letters that lie side by side.
var rowsOfKeys = []string{"qwertyuiop", "asdfghjkl", "zxcvbnm", "qwertzuiop", "azertyuiop"}

var similar = set(
	`il li lj jl ij ji nm mn uv vu vy yv vw wv ce ec oc co qg gq gp hb bh fl sz zs ck kc ae ea oa ao
		rn nr t1 l1 1l 1i i1 o0 0o e3 3e a4 4a s5 5s z2 2z b8 8b g9 9g g6 6g t7 7t b6 6b`,
)

func substitution(a, b rune) int {
	if similar[string([]rune{a, b})] {
		return 5
	}
	for _, row := range rowsOfKeys {
		i, j := strings.IndexRune(row, a), strings.IndexRune(row, b)
		if i >= 0 && j >= 0 && (i-j == 1 || j-i == 1) {
			return 7
		}
	}
	return 10
}

// looks brings a label to what it looks like: the skeleton of UTS #39, digits as the letters
// they stand for, letter pairs as the letter they resemble, without hyphens.
func looks(label string) string {
	s := strings.ToLower(confusables.Skeleton(strings.ToLower(label)))
	s = lookDigits.Replace(strings.ReplaceAll(s, "-", ""))
	return lookPairs.Replace(s)
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

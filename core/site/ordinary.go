package site

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"io"
	"strings"
	"sync"
)

// Words that anybody may call a site by: words of fourteen languages and names of people. How it was made, and of what,
// is in tools/ordinary.
//
//go:embed ordinary.txt.gz
var ordinaryFile []byte

// A word of the list: how common it is.
const (
	rareWord   = 2
	commonWord = 1 // everybody knows it
)

// ordinaryWords reads the list, once.
var ordinaryWords = sync.OnceValue(func() map[string]byte {
	z, err := gzip.NewReader(bytes.NewReader(ordinaryFile))
	if err != nil {
		panic(err) // it is compiled in
	}
	b, err := io.ReadAll(z)
	if err != nil {
		panic(err)
	}
	out := make(map[string]byte, 1<<17)
	for line := range strings.Lines(string(b)) {
		word, rest, _ := strings.Cut(line, "\t")
		out[word] = rest[len(rest)-2] - '0'
	}
	return out
})

// isOrdinary reports whether a label is made of ordinary words alone: one, or several, hyphenated or not.
func isOrdinary(label string) bool { return wordsIn(label) > 0 }

// wordsIn counts the ordinary words that a label is made of; 0 if it isn't made of them alone.
func wordsIn(label string) (n int) {
	for part := range strings.SplitSeq(label, "-") {
		switch {
		case part == "" || strings.Trim(part, "0123456789") == "":
		case ordinaryWords()[part] != 0:
			n++
		default:
			m := compound(part)
			if m == 0 {
				return 0
			}
			n += m
		}
	}
	return n
}

// madeOf reports whether a label is made of ordinary words, and of no more than the kept one is: what needs more words
// only happens to be made of them. Nor are several words a reason for what only looks like the kept name, or has one
// of its letters doubled: readweil, printshopp.
func madeOf(label, kept string) bool { return reasonIn(wordsIn(label), label, kept) }

// reasonIn is madeOf for a label that is made of the given number of words.
func reasonIn(words int, label, kept string) bool {
	return words == 1 || words > 1 && words <= max(wordsIn(kept), compound(kept)) && looks(label) != looks(kept) &&
		!isDoubled(label, kept)
}

// otherPart reports whether two hyphenated labels differ in one part, of which they are the names, and these are no
// nearer than chance: the others are ordinary words that say what sort of place it is. uni-bonn and uni-bern.
func otherPart(label, kept string) bool {
	a, b := strings.Split(label, "-"), strings.Split(kept, "-")
	if len(a) < 2 || len(a) != len(b) {
		return false
	}
	at := -1
	for i := range a {
		switch {
		case a[i] == b[i] && !sorts[a[i]] && !isOrdinary(a[i]):
			return false
		case a[i] != b[i] && at >= 0:
			return false
		case a[i] != b[i]:
			at = i
		}
	}
	if at < 0 || min(len(a[at]), len(b[at])) < leastOther {
		return false
	}
	room := allowance(min(len(a[at]), len(b[at])))
	return ordinaryWords()[a[at]] != 0 || distance([]rune(a[at]), []rune(b[at]), room) > room
}

// isDoubled reports whether a label is the kept one with one letter twice.
func isDoubled(label, kept string) bool {
	if len(label) != len(kept)+1 {
		return false
	}
	i := 0
	for i < len(kept) && label[i] == kept[i] {
		i++
	}
	return i > 0 && label[i] == label[i-1] && label[i+1:] == kept[i:]
}

// otherWord reports whether a label differs from a kept one in one letter of one word at its beginning or end, where
// both words are common, and the letters are neither alike nor neighbours: railgo and sailgo, whatever go is.
func otherWord(label, kept string) bool {
	if len(label) != len(kept) {
		return false
	}
	at := -1
	for i := range len(label) {
		if label[i] != kept[i] {
			if at >= 0 || substitution(rune(label[i]), rune(kept[i])) < 10 {
				return false
			}
			at = i
		}
	}
	if at < 0 {
		return false
	}
	both := func(i, j int) bool {
		words := ordinaryWords()
		return j-i >= leastOther && words[label[i:j]] == commonWord && words[kept[i:j]] == commonWord
	}
	for n := range len(label) {
		if n > at && both(0, n) || n <= at && both(n, len(label)) {
			return true
		}
	}
	return false
}

// leastOther is how long such a word has to be.
const leastOther = 4

// leastRare is how long a word has to be to be a part of a compound if it isn't common.
const leastRare = 5

// compound counts the words that make up a label, two or more; 0 if they don't. Of words of three letters it may
// have one, and rare short ones none: out of them almost anything can be put together.
func compound(label string) int {
	if len(label) < 6 || len(label) > 40 {
		return 0
	}
	words := ordinaryWords()
	// least[i][k] is how many words the first i letters need, k of them of three letters; 0 if they are no words.
	least := make([][2]int, len(label)+1)
	for i := 3; i <= len(label); i++ {
		for j := max(0, i-20); j <= i-3; j++ {
			if level := words[label[j:i]]; level != commonWord && (level == 0 || i-j < leastRare) {
				continue
			}
			short := 0
			if i-j == 3 {
				short = 1
			}
			for k := 0; k+short < 2; k++ {
				if j > 0 && least[j][k] == 0 || j == 0 && k > 0 {
					continue
				}
				if n := least[j][k] + 1; least[i][k+short] == 0 || n < least[i][k+short] {
					least[i][k+short] = n
				}
			}
		}
	}
	a, b := least[len(label)][0], least[len(label)][1]
	if a == 0 || b != 0 && b < a {
		a = b
	}
	if a < 2 {
		return 0
	}
	return a
}

// spellings are British words as Americans write them, and the like.
var spellings = strings.NewReplacer(
	"our", "or", "centre", "center", "theatre", "theater", "fibre", "fiber", "metre", "meter", "litre", "liter",
	"grey", "gray", "ise", "ize", "yse", "yze", "defence", "defense", "licence", "license", "cheque", "check",
	"programme", "program", "jewellery", "jewelry", "tyre", "tire", "aluminium", "aluminum", "ue", "u", "oe", "o",
	"ae", "a",
)

// sameSpelt reports whether two labels are the same words, spelt in two ways.
func sameSpelt(a, b string) bool { return a != b && spellings.Replace(a) == spellings.Replace(b) }

// endingsOfWords are the endings of plurals and other inflections (common practice
// of English and its neighbours).
var endingsOfWords = strings.Fields("s es en n e r rs er ers ing ed y i a ly ies")

// sameStem reports whether one of two labels is an inflected form of the other, an ordinary word.
func sameStem(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	rest, ok := strings.CutPrefix(b, a)
	if !ok {
		rest, ok = strings.CutPrefix(b, strings.TrimSuffix(a, "y"))
		ok = ok && strings.HasSuffix(a, "y") && strings.HasPrefix(rest, "ie")
	}
	if !ok || rest != "" && rest[0] != 's' && a[len(a)-1] == rest[0] { // a doubled letter is no ending
		return false
	}
	for _, e := range endingsOfWords {
		if rest == e && (rest[0] != 'r' || a[len(a)-1] == 'e') {
			return isOrdinary(a)
		}
	}
	return false
}

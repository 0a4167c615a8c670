package site

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/idna"

	"redlocket/core/keys"
)

// Pairs of addresses by kind: what imitates and what is honest, of names of many makes. The kinds are those of reports
// on such traps (common practice); none of them uses the tables of this package.

// brand makes up a name out of syllables.
func brand(r *rand.Rand, syllables int) string {
	on := strings.Fields("b c d f g h k l m n p r s t v w br cl cr dr fl gr kn pl pr sh sk sl sp st tr th z")
	mid := strings.Fields("a e i o u a e o ai ea oo ou")
	end := strings.Fields("l n r s t m d k x nd rt st ck")
	var b strings.Builder
	for i := range syllables {
		b.WriteString(on[r.IntN(len(on))] + mid[r.IntN(len(mid))])
		if i == syllables-1 || r.IntN(3) == 0 {
			b.WriteString(end[r.IntN(len(end))])
		}
	}
	return b.String()
}

// keptName is a name that somebody may keep.
func keptName(r *rand.Rand, words []string) string {
	for {
		n := ""
		switch r.IntN(4) {
		case 0:
			n = brand(r, 2)
		case 1:
			n = brand(r, 3)
		case 2:
			n = words[r.IntN(len(words))] + words[r.IntN(len(words))]
		case 3:
			n = words[r.IntN(len(words))] + brand(r, 1)
		}
		if len(n) >= 6 && len(n) < 22 && !common[n] && !isOrdinary(n) || len(n) >= 9 && len(n) < 22 {
			return n
		}
	}
}

func each(s string, with map[rune]string, r *rand.Rand, most int) (string, int) {
	n := 0
	var b strings.Builder
	for _, c := range s {
		list := []rune(with[c])
		if len(list) == 0 || n >= most {
			b.WriteRune(c)
			continue
		}
		n++
		b.WriteRune(list[r.IntN(len(list))])
	}
	return b.String(), n
}

var (
	cyrillic = map[rune]string{
		'a': "а", 'b': "ьв", 'c': "с", 'd': "ԁ", 'e': "еє", 'g': "ԍ", 'h': "һн", 'i': "і", 'j': "ј", 'k': "к", 'l': "ӏі",
		'm': "м", 'n': "пи", 'o': "о", 'p': "р", 'q': "ԛ", 'r': "г", 's': "ѕ", 't': "т", 'u': "ц", 'v': "ѵ", 'w': "ш", 'x': "х", 'y': "у",
		'z': "з", 'f': "ғ",
	}
	greek = map[rune]string{
		'a': "α", 'b': "β", 'e': "ε", 'i': "ι", 'k': "κ", 'n': "η", 'o': "ο", 'p': "ρ", 't': "τ", 'u': "υ", 'v': "ν", 'w': "ω", 'x': "χ", 'y': "γ",
	}
	digits = map[rune]string{
		'o': "0", 'i': "1", 'l': "1", 'e': "3", 'a': "4", 's': "5", 't': "7", 'b': "86", 'g': "96", 'z': "2",
	}
	latin = map[rune]string{
		'a': "àáâãäåāăąạ", 'c': "çćĉċč", 'd': "ďđḍ", 'e': "èéêëēĕėęěẹ", 'g': "ĝğġģ", 'h': "ĥħḥ", 'i': "ìíîïĩīĭįıị", 'j': "ĵ", 'k': "ķḳ",
		'l': "ĺļľłḷ", 'n': "ñńņňṇ", 'o': "òóôõöøōŏőọ", 'r': "ŕŗřṛ", 's': "śŝşšșṣ", 't': "ţťŧțṭ", 'u': "ùúûüũūŭůűųụ", 'w': "ŵẁẃẅẉ", 'y': "ýÿŷỳỵ",
		'z': "źżžẓ",
	}
)

// imitations are the ways to imitate a label under an ending: the host, or nothing where the way has no place.
var imitations = map[string]func(r *rand.Rand, label, end string) string{
	"whole in Cyrillic": func(r *rand.Rand, l, end string) string {
		s, n := each(l, cyrillic, r, 99)
		if n < len(l) {
			return ""
		}
		return s + end
	},
	"one letter Cyrillic": func(r *rand.Rand, l, end string) string { return changed(l, end)(each(l, cyrillic, r, 1)) },
	"Greek letters":       func(r *rand.Rand, l, end string) string { return changed(l, end)(each(l, greek, r, 99)) },
	"one digit":           func(r *rand.Rand, l, end string) string { return changed(l, end)(each(l, digits, r, 1)) },
	"all digits":          func(r *rand.Rand, l, end string) string { return changed(l, end)(each(l, digits, r, 99)) },
	"one mark":            func(r *rand.Rand, l, end string) string { return changed(l, end)(each(l, latin, r, 1)) },
	"marks":               func(r *rand.Rand, l, end string) string { return changed(l, end)(each(l, latin, r, 99)) },
	"dropped": func(r *rand.Rand, l, end string) string {
		i := r.IntN(len(l))
		return changed(l, end)(l[:i]+l[i+1:], 1)
	},
	"swapped": func(r *rand.Rand, l, end string) string {
		i := 1 + r.IntN(len(l)-1)
		return changed(l, end)(l[:i-1]+l[i:i+1]+l[i-1:i]+l[i+1:], 1)
	},
	"added": func(r *rand.Rand, l, end string) string {
		i := r.IntN(len(l) + 1)
		return changed(l, end)(l[:i]+string(rune('a'+r.IntN(26)))+l[i:], 1)
	},
	"doubled": func(r *rand.Rand, l, end string) string {
		i := r.IntN(len(l))
		return l[:i+1] + l[i:] + end
	},
	"replaced": func(r *rand.Rand, l, end string) string {
		i := r.IntN(len(l))
		return changed(l, end)(l[:i]+string(rune('a'+r.IntN(26)))+l[i+1:], 1)
	},
	"pairs": func(r *rand.Rand, l, end string) string {
		return changed(l, end)(strings.NewReplacer("m", "rn", "w", "vv", "d", "cl").Replace(l), 1)
	},
	"another ending": func(r *rand.Rand, l, end string) string { return l + ".info" },
	"in front":       func(r *rand.Rand, l, end string) string { return "www." + l + end + ".secure-check.net" },
	"label in front": func(r *rand.Rand, l, end string) string { return l + ".secure-check.net" },
	"bait":           func(r *rand.Rand, l, end string) string { return l + "-" + somebait(r) + end },
	"bait before":    func(r *rand.Rand, l, end string) string { return somebait(r) + l + end },
	"stuck to www": func(r *rand.Rand, l, end string) string {
		return []string{"www", "ww", "wwww", "www-"}[r.IntN(4)] + l + end
	},
	"for a country": func(r *rand.Rand, l, _ string) string {
		return l + "-" + []string{"de", "uk", "us", "fr", "eu", "com"}[r.IntN(6)] + ".info"
	},
	"said alike": func(r *rand.Rand, l, end string) string {
		return changed(l, end)(strings.NewReplacer("ck", "k", "c", "k", "ph", "f", "x", "ks", "oo", "u", "ee", "i").Replace(l), 1)
	},
	"digit and bait": func(r *rand.Rand, l, end string) string {
		s, n := each(l, digits, r, 2)
		return changed(l, "-"+somebait(r)+".info")(s, n)
	},
	"swapped and ending": func(r *rand.Rand, l, end string) string {
		i := 1 + r.IntN(len(l)-1)
		return changed(l, ".info")(l[:i-1]+l[i:i+1]+l[i-1:i]+l[i+1:], 1)
	},
	"dropped and bait": func(r *rand.Rand, l, end string) string {
		i := 1 + r.IntN(len(l)-1)
		return changed(l, ".info")(somebait(r)+"-"+l[:i]+l[i+1:], 1)
	},
	"Cyrillic in front": func(r *rand.Rand, l, end string) string {
		s, n := each(l, cyrillic, r, 2)
		return changed(l, ".secure-check.net")(s, n)
	},
	"digit and dropped": func(r *rand.Rand, l, end string) string {
		i := 1 + r.IntN(len(l)-1)
		s, n := each(l[:i]+l[i+1:], digits, r, 1)
		return changed(l, end)(s, n)
	},
}

func somebait(r *rand.Rand) string {
	list := strings.Fields("login secure account verify support online signin help")
	return list[r.IntN(len(list))]
}

func changed(label, end string) func(string, int) string {
	return func(s string, n int) string {
		if n == 0 || s == label {
			return ""
		}
		return s + end
	}
}

func TestImitationsByKind(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 5))
	words := keys.WordList()
	all, caught := 0, 0
	for _, kind := range slices.Sorted(maps.Keys(imitations)) {
		n, ok := 0, 0
		var missed []string
		for n < 200 {
			label := keptName(r, words)
			end := "." + endings[r.IntN(len(endings))]
			host := imitations[kind](r, label, end)
			if host == "" {
				continue
			}
			ascii, err := idna.Lookup.ToASCII(host)
			if err != nil || ascii == label+end {
				continue
			}
			n++
			if l, yes := NewGuard([]string{label + end}).Check("https://"+ascii+"/", nil); yes && l.Kept == label+end {
				ok++
			} else {
				missed = append(missed, label+" "+host)
			}
		}
		all, caught = all+n, caught+ok
		rate := float64(ok) / float64(n)
		t.Logf("%-20s %5.1f %%", kind, 100*rate)
		assert.GreaterOrEqual(t, rate, 0.9, "%s: %v", kind, missed)
	}
	t.Logf("all: %.2f %% of %d", 100*float64(caught)/float64(all), all)
	assert.GreaterOrEqual(t, float64(caught)/float64(all), 0.98)
}

// honest are pairs of names of which the second has nothing to do with the first.
var honest = map[string]func(r *rand.Rand, words []string) (kept, page string){
	"words one letter apart": func(r *rand.Rand, _ []string) (string, string) {
		p := wordPairs[r.IntN(len(wordPairs))]
		return p[0] + ".com", p[1] + ".com"
	},
	"plurals": func(r *rand.Rand, words []string) (string, string) {
		w := words[r.IntN(len(words))]
		return w + ".com", w + "s.com"
	},
	"singulars": func(r *rand.Rand, words []string) (string, string) {
		w := words[r.IntN(len(words))]
		return w + "s.com", w + ".com"
	},
	"plurals of two words": func(r *rand.Rand, words []string) (string, string) {
		w := words[r.IntN(len(words))] + words[r.IntN(len(words))]
		return w + ".com", w + "s.com"
	},
	"names of people": func(r *rand.Rand, _ []string) (string, string) {
		p := strings.Split(namePairs[r.IntN(len(namePairs))], "/")
		return p[0] + ".com", p[1] + ".com"
	},
	"short names": func(r *rand.Rand, _ []string) (string, string) {
		return short(r) + ".com", short(r) + ".com"
	},
	"brands": func(r *rand.Rand, _ []string) (string, string) {
		return brand(r, 2) + ".com", brand(r, 2) + ".com"
	},
	"a word in common": func(r *rand.Rand, words []string) (string, string) {
		w := words[r.IntN(len(words))]
		return w + words[r.IntN(len(words))] + ".com", w + words[r.IntN(len(words))] + ".com"
	},
	"words in another order": func(r *rand.Rand, words []string) (string, string) {
		a, b := words[r.IntN(len(words))], words[r.IntN(len(words))]
		return a + b + ".com", b + a + ".com"
	},
	"hosts of others": func(r *rand.Rand, words []string) (string, string) {
		hosts := strings.Fields("status shop blog docs portal mirror help news store mail cloud forum events login my app")
		h := hosts[r.IntN(len(hosts))]
		return h + ".example", h + "." + words[r.IntN(len(words))] + words[r.IntN(len(words))] + ".com"
	},
	"a word and more": func(r *rand.Rand, words []string) (string, string) {
		w := words[r.IntN(len(words))]
		return w + ".com", w + "-" + words[r.IntN(len(words))] + ".com"
	},
	"one sort of place": func(r *rand.Rand, _ []string) (string, string) {
		sort := strings.Fields("uni zoo museum volksbank sparkasse rathaus stadtwerke theatre taxi")[r.IntN(9)]
		p := strings.Split(townPairs[r.IntN(len(townPairs))], "/")
		return sort + "-" + p[0] + ".de", sort + "-" + p[1] + ".de"
	},
	"words with a letter changed to another word": func(r *rand.Rand, words []string) (string, string) {
		p := wordPairs[r.IntN(len(wordPairs))]
		w := words[r.IntN(len(words))]
		return p[0] + w + ".com", p[1] + w + ".com"
	},
}

func short(r *rand.Rand) string {
	for {
		if s := brand(r, 1+r.IntN(2)); len(s) >= 4 && len(s) <= 5 {
			return s
		}
	}
}

var namePairs = strings.Fields(`martin/martina daniel/daniela schmidt/schmitt meyer/meier maier/mayer hansen/hanson
	nielsen/nilsen peter/petra paul/paula robert/roberta stefan/stephan anderson/andersen fischer/fisher
	clark/clarke brown/browne thomson/thompson philips/phillips mark/marc eric/erik sara/sarah jon/john ann/anne`)

// townPairs are towns whose names begin or end alike, two letters apart or more if they are long (from memory).
var townPairs = strings.Fields(`bonn/bern wien/wels trier/treis basel/kassel lyon/laon mainz/main ulm/uelzen
	hagen/hanau husum/hamm celle/calw fulda/furth goslar/gotha jena/gera kiel/kehl koeln/kleve luebeck/lueneburg
	aachen/achim passau/dessau speyer/spree emden/essen weimar/wismar worms/werne`)

// wordPairs are pairs of words of the EFF's list (CC BY 3.0) that are one letter apart.
var wordPairs = func() (out [][2]string) {
	by := map[string][]string{}
	for _, w := range keys.WordList() {
		if len(w) < 4 || strings.Contains(w, "-") {
			continue
		}
		for i := range w {
			by[fmt.Sprint(w[:i], "?", w[i+1:])] = append(by[fmt.Sprint(w[:i], "?", w[i+1:])], w)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(by)) {
		if l := by[k]; len(l) > 1 {
			out = append(out, [2]string{l[0], l[1]}, [2]string{l[1], l[0]})
		}
	}
	return out
}()

func TestHonestNeighboursByKind(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	words := slices.DeleteFunc(slices.Clone(keys.WordList()), func(w string) bool { return len(w) < 4 || strings.Contains(w, "-") })
	all, wrong := 0, 0
	for _, kind := range slices.Sorted(maps.Keys(honest)) {
		n, alarms := 0, 0
		var which []string
		for range 500 {
			kept, page := honest[kind](r, words)
			if kept == page {
				continue
			}
			n++
			if _, yes := NewGuard([]string{kept}).Check("https://"+page+"/", nil); yes {
				alarms++
				which = append(which, kept+" "+page)
			}
		}
		all, wrong = all+n, wrong+alarms
		rate := float64(alarms) / float64(n)
		t.Logf("%-44s %5.1f %%", kind, 100*rate)
		assert.LessOrEqual(t, rate, 0.03, "%s: %v", kind, which)
	}
	t.Logf("all: %.2f %% of %d", 100*float64(wrong)/float64(all), all)
	assert.LessOrEqual(t, float64(wrong)/float64(all), 0.005)
}

// Harder than most: each pair is near on purpose. What still alarms is named, so that a change shows.
func TestNeighboursMadeByHand(t *testing.T) {
	b, err := os.ReadFile("testdata/neighbours.txt")
	require.NoError(t, err)
	var alarms []string
	for line := range strings.Lines(string(b)) {
		kept, page, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok || kept == "#" {
			continue
		}
		if _, yes := NewGuard([]string{kept + ".com"}).Check("https://www."+page+".com/login", nil); yes {
			alarms = append(alarms, page)
		}
	}
	assert.Subset(t, strings.Fields(
		"barrowby cinemagic color harbor larget ravensberg redplan sportvereine theater",
	), alarms)
}

// What only looks like words: a letter doubled, or an l for an i, in a name of two words.
func TestWordsThatOnlyLookLikeTheKeptOnes(t *testing.T) {
	for page, kept := range map[string]string{
		"printshopp": "printshop", "parcelhopp": "parcelhop", "readweil": "readwell", "saitbridge": "saltbridge",
		"newsdally": "newsdaily", "parceihop": "parcelhop", "tradepoint24": "tradepoint", "nordlicht-24": "nordlicht",
	} {
		_, yes := NewGuard([]string{kept + ".com"}).Check("https://"+page+".com/login", nil)
		assert.True(t, yes, page)
	}
	for page, kept := range map[string]string{
		"sailgo": "railgo", "taxi24": "taxi", "musicday": "musicbay", "safeguard": "guard", "safeharbour": "harbour",
	} {
		_, yes := NewGuard([]string{kept + ".com"}).Check("https://"+page+".com/login", nil)
		assert.False(t, yes, page)
	}
}

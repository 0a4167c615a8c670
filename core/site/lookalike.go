package site

import (
	"math/bits"
	"slices"
	"strings"
	"unicode"

	"github.com/mtibben/confusables"
	"golang.org/x/net/idna"
	"golang.org/x/net/publicsuffix"
)

// Guard notices pages that imitate a kept site. It is made of the registrable domains
// that a vault keeps, and doesn't change; it is safe for concurrent use.
//
// What it looks for (common practice of those who set such traps):
//
//   - the kept name before another domain, or in its path
//   - other scripts' letters that look the same (Unicode UTS #39), and digits for letters
//   - one or two letters off, swapped, doubled or dropped
//   - the kept name with something hyphenated or stuck to it
//   - the kept name under another ending
//
// A short or common name is like many others, so the shorter a name the closer the
// likeness must be.
type Guard struct {
	kept   map[string]bool
	names  []name
	labels index // by first label
	looks  index // by what the first label looks like
	joined index // by the domain, and its first label, without dots and hyphens
}

// index holds domains by what they are looked up by.
type index map[string][]string

func (x index) put(key, domain string) {
	if !slices.Contains(x[key], domain) {
		x[key] = append(x[key], domain)
	}
}

// get returns the domain under a key; of several, one with the ending of the page's.
func (x index) get(key, page string) (string, bool) {
	list := x[key]
	if len(list) == 0 {
		return "", false
	}
	end := strings.TrimPrefix(page, firstLabel(page))
	for _, d := range list {
		if strings.HasSuffix(d, end) {
			return d, true
		}
	}
	return list[0], true
}

// name is one kept domain, made ready.
type name struct {
	domain, label, look string
	letters             uint64
}

// Likeness says which kept site a page imitates, and how.
type Likeness struct {
	Kept  string // the registrable domain that is kept
	Why   string // in words, for its user
	Here  []Part // the page's host, what gives it away marked
	There []Part // the kept domain, likewise
}

// Part is a piece of an address.
type Part struct {
	Text string `json:"text"`
	Mark bool   `json:"mark,omitempty"`
}

// Names shorter than these are like too many others: for a whole label under another
// domain or ending, and for anything less than that.
const (
	leastWhole = 4
	leastInner = 6
	leastPart  = 8 // with a word hyphenated to it that isn't bait
)

// common are names that stand in many domains without meaning any one site.
var common = set(`account accounts admin answers apps auth bank banking beta blog books cafe calendar chat city club cloud coffee community connect contact demo
	design digital docs drive events example express faces first forum free fresh games garden global group health help home hotel hotels house images info jobs
	kids life link live local login mail maps market media menu mobile money music news notes office online open order paper pages party pay people phone photo photos
	play plus portal post press print pro rail radio reader recipes rent school science search secure send service services shoes shop shopping shops signin social
	space sports staff static status store stores stream studio support taxi team test tickets times today tools town toys travel tube video videos water weather web
	webmail website wifi wiki work works world`)

// bait are words that are stuck to a name to make it look like that site's own.
var bait = set(`access account accounts alert app apps auth bank billing card cards center centre check client cloud com confirm connect customer help helpdesk id info
	invoice live login log mail member members mobile my net now official online org page pay payment payments portal refund reset secure security service services
	shop sign signin signon site sso store support team unlock update user validate verification verify verified wallet web webmail www konto kunden kundenservice
	sicherheit anmelden compte connexion cuenta seguro acceso`)

func set(words string) map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq(words) {
		out[w] = true
	}
	return out
}

// NewGuard makes a guard of registrable domains.
func NewGuard(domains []string) *Guard {
	g := &Guard{kept: map[string]bool{}, labels: index{}, looks: index{}, joined: index{}}
	for _, d := range domains {
		label := firstLabel(d)
		if g.kept[d] || label == "" || !strings.Contains(d, ".") || strings.Contains(d, ":") || onlyDigitsAndDots(d) {
			continue
		}
		g.kept[d] = true
		label = letters(label)
		n := name{d, label, looks(label), mask(label)}
		g.names = append(g.names, n)
		g.labels.put(label, d)
		g.looks.put(n.look, d)
		g.joined.put(plainName(d), d)
		g.joined.put(plainName(label), d)
	}
	return g
}

// Check reports whether a page imitates a kept site. known may tell of domains that are
// some site of their own beyond doubt; nil knows none. A kept site, and an address that is
// a bare IP address, imitates nobody.
func (g *Guard) Check(page string, known func(domain string) bool) (Likeness, bool) {
	u, err := parse(page)
	if err != nil {
		return Likeness{}, false
	}
	host := u.Hostname()
	domain := domainOf(host)
	if g.kept[domain] || !strings.Contains(domain, ".") || strings.Contains(host, ":") || onlyDigitsAndDots(host) || known != nil && known(domain) {
		return Likeness{}, false
	}
	for _, look := range []func(host, domain, path string) (Likeness, bool){g.before, g.alike, g.near} {
		if l, ok := look(host, domain, u.Path); ok {
			return l, true
		}
	}
	return Likeness{}, false
}

// before finds a kept name in front of the domain that the page really belongs to, or in
// its path.
func (g *Guard) before(host, domain, path string) (Likeness, bool) {
	sub := strings.TrimSuffix(strings.TrimSuffix(host, domain), ".")
	found := func(kept, why string) (Likeness, bool) {
		return Likeness{kept, why, []Part{{Text: strings.TrimSuffix(host, domain)}, {domain, true}}, []Part{{Text: kept}}}, true
	}
	const why = "The name stands in front, but what counts is the end: this page belongs to "
	labels := strings.Split(sub, ".")
	if sub != "" {
		for i := range labels {
			for j := i + 1; j <= len(labels); j++ {
				if d := strings.Join(labels[i:j], "."); g.kept[d] {
					return found(d, why+domain+".")
				}
			}
		}
		if d, ok := g.joined.get(plainName(sub), domain); ok && len(plainName(sub)) >= leastInner {
			return found(d, why+domain+".")
		}
		for _, l := range labels {
			l = letters(l)
			if d, ok := g.whole(l, domain); ok && len(l) >= leastWhole {
				return found(d, why+domain+".")
			}
			if d, ok := g.looks.get(looks(l), domain); ok && len(l) >= leastInner {
				return found(d, why+domain+".")
			}
			if d, ok := g.stuck(l, domain); ok {
				return found(d, why+domain+".")
			}
		}
	}
	for seg := range strings.SplitSeq(strings.ToLower(path), "/") {
		seg = strings.TrimPrefix(seg, "www.")
		if g.kept[seg] || strings.Contains(seg, ".") && g.kept[domainOf(seg)] {
			return Likeness{domainOf(seg), "The name stands in the path, behind the address that counts: this page belongs to " + domain + ".", []Part{{host, true}, {Text: "/" + seg}}, []Part{{Text: domainOf(seg)}}}, true
		}
	}
	return Likeness{}, false
}

// whole returns the kept domain whose name a label is, unless it is a common word.
func (g *Guard) whole(label, page string) (string, bool) {
	d, ok := g.labels.get(label, page)
	return d, ok && !common[label]
}

// alike finds names that look the same, and the same name under another ending.
func (g *Guard) alike(_, domain, _ string) (Likeness, bool) {
	label := letters(firstLabel(domain))
	if kept, ok := g.whole(label, domain); ok && len(label) >= leastWhole && !localNames(kept, domain) {
		end, theirs := strings.TrimPrefix(domain, firstLabel(domain)), strings.TrimPrefix(kept, firstLabel(kept))
		return Likeness{kept, "The same name with another ending: " + end + " in place of " + theirs + ".", []Part{{Text: firstLabel(domain)}, {end, true}}, []Part{{Text: firstLabel(kept)}, {theirs, true}}}, true
	}
	if kept, ok := g.looks.get(looks(label), domain); ok && len([]rune(label)) >= leastWhole && label != letters(firstLabel(kept)) {
		why := "Letters were replaced by others that look like them" + spelled(label, letters(firstLabel(kept))) + "."
		if strings.HasPrefix(firstLabel(domain), "xn--") {
			why = "Letters were replaced by those of another script that look the same; the browser’s own name for it is " + domain + "."
		}
		return marked(kept, domain, why), true
	}
	if kept, ok := g.joined.get(plainName(domain), domain); ok && len(plainName(domain)) >= leastInner {
		return marked(kept, domain, "The dots and hyphens stand in other places."), true
	}
	if kept, ok := g.joined.get(plainName(label), domain); ok && len(plainName(label)) >= leastInner && label != letters(firstLabel(kept)) {
		return marked(kept, domain, "The hyphens stand in other places."), true
	}
	if kept, ok := g.stuck(label, domain); ok {
		return marked(kept, domain, "The name has something added to it."), true
	}
	return Likeness{}, false
}

// stuck finds a kept name with something hyphenated to it, or with a word of bait stuck to
// either end.
func (g *Guard) stuck(label, page string) (string, bool) {
	parts := strings.Split(label, "-")
	if len(parts) > 1 {
		for i := range parts {
			for j := i + 1; j <= len(parts) && j-i < len(parts); j++ {
				inner := strings.Join(parts[i:j], "-")
				kept, ok := g.whole(inner, page)
				if !ok {
					if kept, ok = g.looks.get(looks(inner), page); ok && (common[firstLabel(kept)] || len(inner) < leastInner) {
						ok = false
					}
				}
				if !ok || len(inner) < leastWhole {
					continue
				}
				rest := slices.Concat(parts[:i], parts[j:])
				baited := slices.ContainsFunc(rest, func(p string) bool { return bait[p] })
				if len(inner) >= leastPart || baited {
					return kept, true
				}
			}
		}
		for _, p := range parts { // login-gullw1ngs: near is seen below for whole labels only
			if kept, ok := g.baited(p, page); ok {
				return kept, true
			}
		}
		return "", false
	}
	return g.baited(label, page)
}

// baited finds bait stuck to a kept name without a hyphen.
func (g *Guard) baited(label, page string) (string, bool) {
	for i := 2; i < len(label)-1; i++ {
		head, tail := label[:i], label[i:]
		if bait[tail] && len(head) >= leastWhole+1 {
			if d, ok := g.whole(head, page); ok {
				return d, true
			}
		}
		if bait[head] && len(tail) >= leastWhole+1 {
			if d, ok := g.whole(tail, page); ok {
				return d, true
			}
		}
	}
	return "", false
}

// near finds names that are a letter or two off.
func (g *Guard) near(_, domain, _ string) (Likeness, bool) {
	label := letters(firstLabel(domain))
	own, n := mask(label), len([]rune(label))
	best, least := "", 1000
	end := strings.TrimPrefix(domain, firstLabel(domain))
	for _, k := range g.names {
		room := allowance(min(n, len([]rune(k.label))))
		if k.label == label && localNames(k.domain, domain) {
			continue
		}
		if room == 0 || bits.OnesCount64(own^k.letters) > 4 || common[k.label] {
			continue
		}
		if d := distance(label, k.label, room); d <= room && (d < least || d == least && strings.HasSuffix(k.domain, end)) {
			best, least = k.domain, d
		}
	}
	if best == "" {
		return Likeness{}, false
	}
	return marked(best, domain, "It is spelt almost the same."), true
}

// allowance is how far off, in tenths of a letter, a name of so many letters may be to be
// taken for an imitation.
func allowance(n int) int {
	switch {
	case n < 4:
		return 0
	case n == 4:
		return 5
	case n == 5:
		return 7
	case n < 8:
		return 10
	case n < 10:
		return 17
	}
	return 20
}

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

var similar = set(`il li lj jl ij ji nm mn uv vu vy yv vw wv ce ec oc co qg gq gp hb bh fl sz zs ck kc ae ea oa ao rn nr t1 l1 1l 1i i1 o0 0o e3 3e a4 4a s5 5s z2 2z b8 8b g9 9g g6 6g t7 7t b6 6b`)

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

var (
	lookDigits = strings.NewReplacer("0", "o", "1", "l", "3", "e", "4", "a", "5", "s", "7", "t", "8", "b", "9", "g", "6", "b", "2", "z")
	lookPairs  = strings.NewReplacer("rn", "m", "vv", "w", "nn", "m")
)

// letters is a label in its own letters rather than punycode.
func letters(label string) string {
	if strings.HasPrefix(label, "xn--") {
		if u, err := idna.Punycode.ToUnicode(label); err == nil {
			return u
		}
	}
	return label
}

func firstLabel(domain string) string {
	label, _, _ := strings.Cut(domain, ".")
	return label
}

func plainName(s string) string { return strings.NewReplacer(".", "", "-", "").Replace(s) }

func mask(s string) (m uint64) {
	for _, r := range s {
		m |= 1 << (uint(r) % 61)
	}
	return m
}

func onlyDigitsAndDots(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
}

// localNames reports whether one of two names is of this computer alone: nobody else can
// be there, whatever its ending.
func localNames(a, b string) bool {
	return strings.HasSuffix(a, ".localhost") != strings.HasSuffix(b, ".localhost")
}

// marked shows a domain beside the kept one, with the letters in which they differ marked.
func marked(kept, domain, why string) Likeness {
	here, there := shownName(domain), shownName(kept)
	a, b := []rune(here), []rune(there)
	inA, inB := commonRunes(a, b)
	return Likeness{kept, why, parts(a, inA), parts(b, inB)}
}

// spelled names the first characters in which two labels differ, because they may look the
// same in whatever letters they are shown: ": the digit 1 in place of the letter L".
func spelled(here, there string) string {
	a, b := []rune(here), []rune(there)
	for i := 0; i < min(len(a), len(b)); i++ {
		if a[i] != b[i] {
			return ": " + called(a[i]) + " in place of " + called(b[i])
		}
	}
	return ""
}

// called names a character.
func called(r rune) string {
	switch {
	case r >= '0' && r <= '9':
		return "the digit " + string(r)
	case r >= 'a' && r <= 'z':
		return "the letter " + strings.ToUpper(string(r))
	case r == '-':
		return "a hyphen"
	}
	for name, table := range unicode.Scripts {
		if name != "Common" && name != "Inherited" && unicode.Is(table, r) {
			if name == "Latin" {
				return "the accented letter " + strings.ToUpper(string(r))
			}
			return "a " + strings.ReplaceAll(name, "_", " ") + " letter"
		}
	}
	return "another character"
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

// Suffixed reports whether a host is itself a public suffix, under which anybody may be.
func Suffixed(host string) bool {
	s, icann := publicsuffix.PublicSuffix(host)
	return s == host && (icann || strings.Contains(s, "."))
}

package site

import (
	_ "embed" // words.tsv
	"math/bits"
	"slices"
	"strings"

	"redlocket/core/words"
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
// The evidence is weighed. A short or common name is like many others, so the shorter a name the closer the
// likeness must be. A page that is itself called by ordinary words (binder, finder; Martin, Martina; a plural) has a
// reason of its own for its name: then only what nobody writes by chance counts, such as digits or another
// script's letters, a kept name with bait stuck to it, or before another domain.
type Guard struct {
	kept        map[string]bool
	names       []name
	labels      index // by first label
	looks       index // by what the first label looks like
	joined      index // by the domain, and its first label, without dots and hyphens
	said        index // by how the first label is said
	looksJoined index // by what the domain without dots and hyphens looks like
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
	domain, label, spelt string
	runes, look          []rune // of the label, and of what it looks like
	letters, lookLetters uint64
}

// Trick is how an address imitates another.
type Trick string

// The tricks.
const (
	TrickInFront     Trick = "in front"    // the kept name stands before the domain that counts
	TrickInPath      Trick = "in path"     // it stands in the path
	TrickEnding      Trick = "ending"      // the same name under another ending
	TrickLetters     Trick = "letters"     // letters that look like the right ones
	TrickScript      Trick = "script"      // letters of another script that look the same
	TrickPunctuation Trick = "punctuation" // dots and hyphens in other places
	TrickHyphens     Trick = "hyphens"     // hyphens in other places
	TrickAddition    Trick = "addition"    // something added to the name
	TrickSpelling    Trick = "spelling"    // a letter or two off
	TrickSound       Trick = "sound"       // said the same, spelt otherwise
	TrickTitle       Trick = "title"       // the page calls itself by the kept name, at an address that is near it
)

// Likeness says which kept site a page imitates, and how.
type Likeness struct {
	Kept    string // the registrable domain that is kept
	Trick   Trick
	Domain  string // the page's registrable domain, as browsers send it
	Letter  rune   // TrickLetters: the first letter that differs, 0 where none can be named
	InPlace rune   // and the one that it stands for
	Here    []Part // the page's host, what gives it away marked
	There   []Part // the kept domain, likewise
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
	// leastOrdinary is leastPart of a name of ordinary words.
	leastOrdinary = 14
)

// words.tsv's words.
var (
	//go:embed words.tsv
	wordTable string
	sets      = words.Sets(wordTable)
	common    = sets["common"]   // names that stand in many domains without meaning any one site
	bait      = sets["bait"]     // stuck to a name to make it look like that site's own
	lands     = sets["land"]     // codes of countries and languages, hyphenated to a name as if it were its site there
	sorts     = sets["sort"]     // places of which every town has one
	greetings = sets["greeting"] // before a site's name in the titles of its pages
)

func set(words string) map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq(words) {
		out[w] = true
	}
	return out
}

// NewGuard makes a guard of registrable domains.
func NewGuard(domains []string) *Guard {
	g := &Guard{
		kept: map[string]bool{}, labels: index{}, looks: index{}, joined: index{}, looksJoined: index{}, said: index{},
	}
	for _, d := range domains {
		label := firstLabel(d)
		if g.kept[d] || label == "" || !strings.Contains(d, ".") || strings.Contains(d, ":") || onlyDigitsAndDots(d) {
			continue
		}
		g.kept[d] = true
		label = letters(label)
		look := looks(label)
		n := name{
			domain: d, label: label, spelt: spellings.Replace(label), runes: []rune(label), look: []rune(look),
			letters: mask(label), lookLetters: mask(look),
		}
		g.names = append(g.names, n)
		g.labels.put(label, d)
		g.looks.put(look, d)
		g.joined.put(plainName(d), d)
		g.joined.put(plainName(label), d)
		g.said.put(sound(label), d)
		g.looksJoined.put(looks(plainName(d)), d)
	}
	return g
}

// Check reports whether a page imitates a kept site. known may tell of domains that are
// some site of their own beyond doubt; nil knows none. A kept site, and an address that is
// a bare IP address, imitates nobody.
func (g *Guard) Check(page string, known func(domain string) bool) (Likeness, bool) {
	host, path, ok := g.suspect(page, known)
	if !ok {
		return Likeness{}, false
	}
	domain := domainOf(host)
	for _, look := range []func(host, domain, path string) (Likeness, bool){g.before, g.alike, g.near} {
		if l, ok := look(host, domain, path); ok {
			return l, true
		}
	}
	return Likeness{}, false
}

// suspect takes a page's address apart; ok is false where it can imitate nobody: a kept site, one that is known, a bare
// IP address or a name without a dot.
func (g *Guard) suspect(page string, known func(domain string) bool) (host, path string, ok bool) {
	u, err := parse(page)
	if err != nil {
		return "", "", false
	}
	host = u.Hostname()
	domain := domainOf(host)
	if g.kept[domain] || !strings.Contains(domain, ".") || strings.Contains(host, ":") || onlyDigitsAndDots(host) ||
		known != nil && known(domain) {
		return "", "", false
	}
	return host, u.Path, true
}

// Claims reports whether a page that calls itself by a kept site's name does so at an address that is nearer to that
// site's than chance: further off than [Guard.Check] would take for an imitation by itself. title is the page's own,
// called is what each kept domain is called beside its own name ([Called]); known is as in Check. The page is taken
// for one that asks somebody to sign in: others speak of sites without being them.
func (g *Guard) Claims(page, title string, called map[string]string, known func(domain string) bool) (Likeness, bool) {
	host, _, ok := g.suspect(page, known)
	says := namesIn(title)
	if !ok || len(says) == 0 {
		return Likeness{}, false
	}
	domain := domainOf(host)
	label := letters(firstLabel(domain))
	for _, n := range g.names {
		claims := slices.Contains(says, n.label) || slices.Contains(says, called[n.domain])
		if !claims || common[n.label] || localNames(n.domain, domain) {
			continue
		}
		for _, l := range append(unbaited(label), label) {
			if resembles(l, n.label) {
				return marked(n.domain, domain, TrickTitle), true
			}
		}
	}
	return Likeness{}, false
}

// namesIn are the names by which a page's title may call its site: its parts, without a greeting.
func namesIn(title string) (out []string) {
	parts := strings.FieldsFunc(title, func(r rune) bool { return strings.ContainsRune("·|–—:•»›-", r) })
	for _, part := range append(parts, title) {
		if part = withoutGreeting(Called(part)); part != "" {
			out = append(out, part)
		}
	}
	return out
}

func withoutGreeting(title string) string {
	for i := strings.LastIndex(title, " "); i > 0; i = strings.LastIndex(title[:i], " ") {
		if greetings[title[:i]] {
			return withoutGreeting(title[i+1:])
		}
	}
	return title
}

// Called is what a title calls a site: its words in lower case, without what stands in brackets after them.
func Called(s string) string {
	s, _, _ = strings.Cut(s, "(")
	return strings.Join(strings.Fields(strings.ToLower(s)), " ")
}

// resembles reports whether a label is made after another one: it holds most of its letters, in their order.
func resembles(label, kept string) bool {
	plain, theirs := plainName(looks(label)), plainName(looks(kept))
	if len(theirs) < leastWhole || len(plain) < leastWhole {
		return false
	}
	if strings.Contains(plain, theirs) {
		return true
	}
	a, b := []rune(plain), []rune(theirs)
	most := 4 * len(b) // tenths of a letter
	return !madeOf(label, kept) && slices.Contains(a, b[0]) && distance(a, b, most) <= most
}

// before finds a kept name in front of the domain that the page really belongs to, or in
// its path.
func (g *Guard) before(host, domain, path string) (Likeness, bool) {
	sub := strings.TrimSuffix(strings.TrimSuffix(host, domain), ".")
	found := func(kept string) (Likeness, bool) {
		return Likeness{
			Kept:   kept,
			Trick:  TrickInFront,
			Domain: domain,
			Here:   []Part{{Text: strings.TrimSuffix(host, domain)}, {domain, true}},
			There:  []Part{{Text: kept}},
		}, true
	}
	labels := strings.Split(sub, ".")
	if sub != "" {
		for i := range labels {
			for j := i + 1; j <= len(labels); j++ {
				if d := strings.Join(labels[i:j], "."); g.kept[d] {
					return found(d)
				}
			}
		}
		if d, ok := g.joined.get(plainName(sub), domain); ok && len(plainName(sub)) >= leastInner &&
			!common[letters(firstLabel(d))] && (plainName(sub) == plainName(d) || !isOneWord(plainName(sub))) {
			return found(d)
		}
		if d, ok := g.looksJoined.get(looks(plainName(sub)), domain); ok && len(plainName(sub)) >= leastInner {
			return found(d)
		}
		baited := slices.ContainsFunc(labels, func(l string) bool { return bait[l] && l != "www" })
		for _, l := range labels {
			if d, ok := g.inFront(letters(l), domain, baited); ok {
				return found(d)
			}
		}
	}
	for seg := range strings.SplitSeq(strings.ToLower(path), "/") {
		seg = strings.TrimPrefix(seg, "www.")
		if g.kept[seg] || strings.Contains(seg, ".") && g.kept[domainOf(seg)] {
			return Likeness{
				Kept:   domainOf(seg),
				Trick:  TrickInPath,
				Domain: domain,
				Here:   []Part{{host, true}, {Text: "/" + seg}},
				There:  []Part{{Text: domainOf(seg)}},
			}, true
		}
	}
	return Likeness{}, false
}

// inFront finds the kept domain whose name a label before another domain is or imitates. A site may well call one of
// its hosts by an ordinary word, unless there is bait beside it.
func (g *Guard) inFront(label, domain string, baited bool) (string, bool) {
	if d, ok := g.whole(label, domain); ok && len(label) >= leastWhole && (baited || !isOneWord(label)) {
		return d, true
	}
	if d, ok := g.lookingLike(label, domain); ok && len(label) >= leastWhole+1 {
		return d, true
	}
	if d, ok := g.stuck(label, domain); ok {
		return d, true
	}
	if len(label) >= leastInner+1 && !isOrdinary(label) {
		return g.nearest(label, domain, 10)
	}
	return "", false
}

// isOneWord reports whether a label is one short common word.
func isOneWord(label string) bool {
	return len(label) < leastInner && ordinaryWords()[label] == commonWord
}

// lookingLike finds the kept domain whose name a label looks like without being it, unless the label has a reason of
// its own.
func (g *Guard) lookingLike(label, page string) (string, bool) {
	for _, look := range looksOf(label) {
		d, ok := g.looks.get(look, page)
		if !ok {
			continue
		}
		theirs := letters(firstLabel(d))
		if label != theirs && !hasReason(label, theirs) && (!common[theirs] || !isPlain(label)) {
			return d, true
		}
	}
	return "", false
}

// looksOf is what a label may look like: some digits stand for two letters.
func looksOf(label string) []string {
	out := []string{looks(label)}
	if other := lookOtherwise.Replace(label); other != label {
		out = append(out, looks(other))
	}
	return out
}

// lookOtherwise has what some characters may stand for besides what [looks] takes them for.
var lookOtherwise = strings.NewReplacer("6", "g", "9", "q", "и", "n", "з", "z", "н", "n", "п", "h", "υ", "v", "η", "h")

// hasReason reports whether a label has its name for a reason that isn't the kept one: it is made of ordinary words,
// or it is a form of the kept one's word.
func hasReason(label, kept string) bool {
	if !isPlain(label) || sameSpelt(label, kept) {
		return false
	}
	return plainName(label) != plainName(kept) && madeOf(label, kept) || sameStem(label, kept)
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
		return Likeness{
			Kept:   kept,
			Trick:  TrickEnding,
			Domain: domain,
			Here:   []Part{{Text: firstLabel(domain)}, {end, true}},
			There:  []Part{{Text: firstLabel(kept)}, {theirs, true}},
		}, true
	}
	if kept, ok := g.lookingLike(label, domain); ok && len([]rune(label)) >= leastWhole {
		if strings.HasPrefix(firstLabel(domain), "xn--") {
			return marked(kept, domain, TrickScript), true
		}
		if theirs := letters(firstLabel(kept)); plainName(label) == plainName(theirs) {
			return marked(kept, domain, TrickHyphens), true
		}
		l := marked(kept, domain, TrickLetters)
		l.Letter, l.InPlace = firstDifference(label, letters(firstLabel(kept)))
		return l, true
	}
	if kept, ok := g.joined.get(plainName(domain), domain); ok && len(plainName(domain)) >= leastInner {
		return marked(kept, domain, TrickPunctuation), true
	}
	if kept, ok := g.joined.get(plainName(label), domain); ok && len(plainName(label)) >= leastInner &&
		label != letters(firstLabel(kept)) {
		return marked(kept, domain, TrickHyphens), true
	}
	if kept, ok := g.looksJoined.get(looks(plainName(domain)), domain); ok && len(plainName(domain)) >= leastInner+2 &&
		(!isPlain(label) || !common[letters(firstLabel(kept))] && !hasReason(label, letters(firstLabel(kept)))) {
		return marked(kept, domain, TrickPunctuation), true
	}
	if kept, ok := g.stuck(label, domain); ok {
		return marked(kept, domain, TrickAddition), true
	}
	return Likeness{}, false
}

// stuck finds a kept name with something hyphenated to it, or with a word of bait stuck to
// either end.
func (g *Guard) stuck(label, page string) (string, bool) {
	parts := strings.Split(label, "-")
	for i := range parts {
		for j := i + 1; j <= len(parts) && j-i < len(parts); j++ {
			inner := strings.Join(parts[i:j], "-")
			kept, ok := g.whole(inner, page)
			if !ok {
				kept, ok = g.lookingLike(inner, page)
				ok = ok && len(inner) >= leastWhole+1
			}
			if !ok || len(inner) < leastWhole {
				continue
			}
			rest := slices.Concat(parts[:i], parts[j:])
			baited := slices.ContainsFunc(rest, func(p string) bool {
				return bait[p] || bait[looksPlain(p)] || lands[p]
			})
			least := leastPart
			if isOrdinary(inner) && isPlain(inner) { // others are called by those words too
				least = leastOrdinary
			}
			if len(inner) >= least || baited {
				return kept, true
			}
		}
	}
	if rest := strings.TrimRight(label, "0123456789"); rest != label && len(rest) >= leastInner && wordsIn(rest) != 1 {
		if d, ok := g.whole(strings.TrimRight(rest, "-"), page); ok {
			return d, true
		}
	}
	for _, rest := range unbaited(label) {
		if d, ok := g.whole(rest, page); ok && len(rest) >= leastWhole+1 {
			return d, true
		}
		if d, ok := g.lookingLike(rest, page); ok && len(rest) >= leastInner {
			return d, true
		}
		if n := wordsIn(rest); len(rest) >= leastInner-1 && n == 0 || len(rest) >= leastPart+1 && n > 1 {
			if d, ok := g.nearestOf(rest, page, allowance(len([]rune(rest))), 0); ok {
				return d, true
			}
		}
	}
	return "", false
}

// looksPlain brings digits in a word of bait back to letters: "1ogin", "supp0rt".
func looksPlain(s string) string {
	return plainDigits.Replace(s)
}

var plainDigits = strings.NewReplacer("0", "o", "1", "l", "3", "e", "4", "a", "5", "s", "7", "t")

// unbaited are what is left of a label when words of bait are taken off it: whole parts of it, and what is stuck to
// either end.
func unbaited(label string) (out []string) {
	add := func(s string) {
		if s = strings.Trim(s, "-"); s != "" && s != label && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	if parts := strings.Split(label, "-"); len(parts) > 1 {
		kept := slices.DeleteFunc(slices.Clone(parts), func(p string) bool { return bait[p] || bait[looksPlain(p)] })
		if len(kept) < len(parts) {
			add(strings.Join(kept, "-"))
			add(strings.Join(kept, ""))
		}
	}
	for i := 2; i < len(label)-1; i++ { // also what is stuck to a part
		if bait[label[i:]] || bait[looksPlain(label[i:])] && len(label)-i > 3 {
			add(label[:i])
		}
		if bait[label[:i]] || bait[looksPlain(label[:i])] && i > 3 {
			add(label[i:])
		}
	}
	return out
}

// near finds names that are a letter or two off.
func (g *Guard) near(_, domain, _ string) (Likeness, bool) {
	label := letters(firstLabel(domain))
	if kept, ok := g.said.get(sound(label), domain); ok && len(sound(label)) >= leastInner-1 && isPlain(label) {
		theirs := letters(firstLabel(kept))
		if label != theirs && !common[theirs] && !hasReason(label, theirs) {
			return marked(kept, domain, TrickSound), true
		}
	}
	if kept, ok := g.nearest(label, domain, allowance(len([]rune(label)))); ok {
		return marked(kept, domain, TrickSpelling), true
	}
	return Likeness{}, false
}

// tricked is what it costs, in tenths of a letter, that a name is compared by what it looks like.
const tricked = 3

// nearest finds the kept domain whose name is least off a label, and no more than most. A label of ordinary words is
// near to nothing.
func (g *Guard) nearest(label, domain string, most int) (string, bool) {
	words := 0
	if isPlain(label) {
		words = wordsIn(label)
	}
	return g.nearestOf(label, domain, most, words)
}

// nearestOf is nearest for a label that is made of the given number of ordinary words.
func (g *Guard) nearestOf(label, domain string, most, words int) (string, bool) {
	own, runes := mask(label), []rune(label)
	look := []rune(looks(label))
	ownLook, spelt := mask(string(look)), spellings.Replace(label)
	best, least := "", 1000
	end := strings.TrimPrefix(domain, firstLabel(domain))
	for i := range g.names {
		k := &g.names[i]
		far := bits.OnesCount64(own^k.letters) > 4
		if far && bits.OnesCount64(ownLook^k.lookLetters) > 4 {
			continue
		}
		room := min(most, allowance(min(len(runes), len(k.runes))))
		if room == 0 || common[k.label] || k.label == label && localNames(k.domain, domain) {
			continue
		}
		d := 1000
		if !far {
			d = distance(runes, k.runes, room)
		}
		if d > room {
			d = min(d, distance(look, k.look, room)+tricked)
		}
		if d > room || sameStem(label, k.label) {
			continue
		}
		if words > 0 && spelt != k.spelt && reasonIn(words, label, k.label) {
			continue // it has a reason of its own to be called that
		}
		if isPlain(label) && spelt != k.spelt && (otherWord(label, k.label) || otherPart(label, k.label)) {
			continue
		}
		if d < least || d == least && strings.HasSuffix(k.domain, end) {
			best, least = k.domain, d
		}
	}
	return best, best != ""
}

// allowance is how far off, in tenths of a letter, a name of so many letters may be to be
// taken for an imitation.
func allowance(n int) int {
	switch {
	case n < 4:
		return 0
	case n == 4:
		return 7
	case n == 5:
		return 10
	case n < 8:
		return 13
	case n < 10:
		return 17
	}
	return 20
}

func firstLabel(domain string) string {
	label, _, _ := strings.Cut(domain, ".")
	return label
}

var noPunctuation = strings.NewReplacer(".", "", "-", "")

func plainName(s string) string { return noPunctuation.Replace(s) }

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

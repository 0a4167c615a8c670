package site

import (
	"math/bits"
	"slices"
	"strings"
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
)

// common are names that stand in many domains without meaning any one site.
var common = set(
	`account accounts admin answers apps auth bank banking beta blog books cafe calendar chat city club cloud
		coffee community connect contact demo
	design digital docs drive events example express faces first forum free fresh games garden global group
	health help home hotel hotels house images info jobs
	kids life link live local login mail maps market media menu mobile money music news notes office online
	open order paper pages party pay people phone photo photos
	play plus portal post press print pro rail radio reader recipes rent school science search secure send
	service services shoes shop shopping shops signin social
	space sports staff static status store stores stream studio support taxi team test tickets times today
	tools town toys travel tube video videos water weather web
	webmail website wifi wiki work works world`,
)

// bait are words that are stuck to a name to make it look like that site's own.
var bait = set(
	`access account accounts alert app apps auth bank billing card cards center centre check client cloud com
		confirm connect customer help helpdesk id info
	invoice live login log mail member members mobile my net now official online org page pay payment payments
	portal refund reset secure security service services
	shop sign signin signon site sso store support team unlock update user validate verification verify
	verified wallet web webmail www konto kunden kundenservice
	sicherheit anmelden compte connexion cuenta seguro acceso`,
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
	if g.kept[domain] || !strings.Contains(domain, ".") || strings.Contains(host, ":") || onlyDigitsAndDots(host) ||
		known != nil && known(domain) {
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
		if d, ok := g.joined.get(plainName(sub), domain); ok && len(plainName(sub)) >= leastInner {
			return found(d)
		}
		for _, l := range labels {
			l = letters(l)
			if d, ok := g.whole(l, domain); ok && len(l) >= leastWhole {
				return found(d)
			}
			if d, ok := g.looks.get(looks(l), domain); ok && len(l) >= leastInner {
				return found(d)
			}
			if d, ok := g.stuck(l, domain); ok {
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
	if kept, ok := g.looks.get(looks(label), domain); ok && len([]rune(label)) >= leastWhole &&
		label != letters(firstLabel(kept)) {
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
	if kept, ok := g.stuck(label, domain); ok {
		return marked(kept, domain, TrickAddition), true
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
					if kept, ok = g.looks.get(looks(inner), page); ok &&
						(common[firstLabel(kept)] || len(inner) < leastInner) {
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
		if d := distance(label, k.label, room); d <= room &&
			(d < least || d == least && strings.HasSuffix(k.domain, end)) {
			best, least = k.domain, d
		}
	}
	if best == "" {
		return Likeness{}, false
	}
	return marked(best, domain, TrickSpelling), true
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

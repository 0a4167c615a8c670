package tidy

import (
	_ "embed" // words.tsv
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"

	"redlocket/core/site"
	"redlocket/core/words"
)

// near says how the places where two rows sign in are related.
type near int

const (
	elsewhere near = iota
	renamed        // two sites that seem to be one
	namesake       // two domains of one name, and a password that is used elsewhere too
	kindred        // two domains of one name
	noted          // the note of one names the other's site
	titled         // one has no address, and the titles are the same
	program        // a program and its site
	owned          // two domains of one owner
	sited          // two hosts of one domain, of which one is the site's own
	systems        // two hosts of one domain that may be systems of their own
	hosted         // one host
)

// words.tsv's words: neutral are names of hosts that a site gives itself, whoever signs in; signing are words of a path
// that leads to a page for signing in or the like, and names no tenant; general are words of titles and of domains that
// don't tell one site from another.
var (
	//go:embed words.tsv
	wordTable string
	sets      = words.Sets(wordTable)
	neutral   = sets["host"]
	signing   = sets["path"]
	general   = sets["title"]
)

// spot is an address, taken apart.
type spot struct {
	url, host, domain string
	own               string   // of the host, before the domain; empty where that says nothing
	tenant            string   // the path's first part, where it may name whose place it is
	stem              string   // what other domains of its owner may be called; empty where that says nothing
	called            []string // plain: the domain, and the first part of it
}

func spotOf(url string) (s spot, ok bool) {
	s = spot{url: url, host: site.Host(url), domain: site.Domain(url)}
	if s.host == "" {
		return s, false
	}
	rest := strings.TrimPrefix(strings.TrimPrefix(strings.ToLower(url), "https://"), "http://")
	authority, path, _ := strings.Cut(rest, "/")
	if alone(s.host) { // a device: the port tells one from another
		s.host, s.domain = authority, authority
		return s, true
	}
	s.stem, s.called = stemOf(s.domain), []string{plain(labelOf(s.domain)), plain(s.domain)}
	own := strings.TrimSuffix(strings.TrimSuffix(s.host, s.domain), ".")
	labels := slices.DeleteFunc(strings.Split(own, "."), func(l string) bool { return l == "" || neutral[l] })
	s.own = strings.Join(labels, ".")
	first, _, _ := strings.Cut(strings.SplitN(path, "?", 2)[0], "/")
	if first != "" && !signing[first] {
		s.tenant = first
	}
	return s, true
}

// alone reports whether a host belongs to no domain: an address in numbers, or a name of this network.
func alone(host string) bool {
	_, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil || !strings.Contains(host, ".") || strings.HasSuffix(host, ".localhost") ||
		strings.HasSuffix(host, ".local") || strings.HasSuffix(host, ".lan")
}

// nearness compares the places of two rows, and says by which facts.
func (f *finder) nearness(a, b *row) (best near, why Reason) {
	take := func(n near, r Reason) {
		if n > best {
			best, why = n, r
		}
	}
	for _, x := range a.spots {
		for _, y := range b.spots {
			switch {
			case x.domain == y.domain && x.own == y.own && x.tenant == y.tenant:
				take(hosted, Reason{WhySameHost, x.host, ""})
			case x.domain == y.domain && x.own == y.own && (x.tenant == "" || y.tenant == ""):
				take(hosted, Reason{WhySameHost, x.host, ""})
			case x.domain == y.domain && (x.own == "" || y.own == ""):
				take(sited, Reason{WhySameSite, x.host, y.host})
			case x.domain == y.domain:
				take(systems, Reason{WhySameSite, x.host, y.host})
			case f.o.Site(x.domain) == f.o.Site(y.domain):
				take(owned, Reason{WhyOwner, x.domain, y.domain})
			}
		}
	}
	if best == elsewhere {
		f.farther(a, b, take)
	}
	return best, why
}

// farther compares rows of which no two addresses are of one owner.
func (f *finder) farther(a, b *row, take func(near, Reason)) {
	for _, p := range [][2]*row{{a, b}, {b, a}} {
		x, y := p[0], p[1]
		owns := func(s spot) bool { return appOf(x.app, s.domain) }
		if x.app != "" && (x.app == y.app || slices.ContainsFunc(y.spots, owns)) {
			to := y.app
			if len(y.spots) > 0 {
				to = y.spots[0].domain
			}
			take(program, Reason{WhyApp, x.app, to})
		}
		if len(x.spots) == 0 && x.app == "" && slices.ContainsFunc(x.names, y.calledBy) {
			take(titled, Reason{WhyTitle, x.title, ""})
		}
		for _, s := range y.spots {
			if len(s.domain) > 4 && strings.Contains(x.note, s.domain) {
				take(noted, Reason{WhyNote, "", s.domain})
			}
		}
	}
	if len(a.spots) == 0 || len(b.spots) == 0 || a.password == "" || a.password != b.password {
		return
	}
	f.loose = true
	places := f.places[a.password]
	if a.made && places == 2 {
		take(renamed, Reason{WhyRenamed, a.spots[0].domain, b.spots[0].domain})
	}
	for _, x := range a.spots {
		for _, y := range b.spots {
			if x.stem == "" || x.stem != y.stem {
				continue
			}
			if places == 2 || a.made {
				take(kindred, Reason{WhyKindred, x.domain, y.domain})
			} else {
				take(namesake, Reason{WhyKindred, x.domain, y.domain})
			}
		}
	}
}

// calledBy reports whether a plain title is what the row or its site is called.
func (r *row) calledBy(name string) bool {
	return slices.Contains(r.names, name) || slices.ContainsFunc(r.spots, func(s spot) bool {
		return slices.Contains(s.called, name)
	})
}

// namesOf are what a title may call a site by: the whole of it, what is left without general words, and of an address
// its domain, all plain.
func namesOf(title string) (out []string) {
	add := func(n string) {
		if n != "" && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	add(plain(title))
	if bare := strings.TrimSpace(title); strings.Contains(bare, ".") && !strings.ContainsAny(bare, " ,") {
		if d := site.Domain(bare); strings.Contains(d, ".") && !alone(d) {
			add(plain(d))
			add(plain(labelOf(d)))
		}
		return out
	}
	words := strings.FieldsFunc(strings.ToLower(title), func(r rune) bool {
		return strings.ContainsRune(" -–—|·:,/()[]<>_", r)
	})
	telling := slices.DeleteFunc(words, func(w string) bool { return general[w] })
	if n := plain(strings.Join(telling, "")); len(n) >= 3 {
		add(n)
	}
	return out
}

// leastStem is how long the name is, in bytes, that makes two domains seem to be one owner's: shorter ones are common.
const leastStem = 5

// stemOf is a domain's name without general words beside it, plain; empty where it is too short to say anything, or one
// that a host of many gives to each of them.
func stemOf(domain string) string {
	if suffix, icann := publicsuffix.PublicSuffix(domain); !icann && strings.Contains(suffix, ".") {
		return ""
	}
	parts := strings.Split(labelOf(domain), "-")
	stem := strings.Join(slices.DeleteFunc(parts, func(w string) bool { return general[w] }), "")
	if stem = plain(stem); len(stem) < leastStem {
		return ""
	}
	return stem
}

// appOf reports whether a program is a site's own: its reversed name holds the domain's label.
func appOf(app, domain string) bool {
	label := plain(labelOf(domain))
	if len(label) < 4 {
		return false
	}
	id := strings.TrimSuffix(strings.ToLower(app), "/")
	if at := strings.LastIndex(id, "@"); at >= 0 { // android://hash@com.example.app
		id = id[at+1:]
	}
	return slices.ContainsFunc(strings.Split(id, "."), func(part string) bool { return plain(part) == label })
}

func labelOf(domain string) string {
	label, _, _ := strings.Cut(domain, ".")
	return label
}

// plain is a text's letters and digits in lower case.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		case strings.ContainsRune(" .-_·|–—:,/()'’&+", r):
			return -1
		}
		return r
	}, s)
}

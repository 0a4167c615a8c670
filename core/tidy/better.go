package tidy

import (
	"cmp"
	"encoding/json"
	"errors"
	"net/netip"
	"slices"
	"strings"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// What names a way in which one login can be better.
type What string

// The ways, in the order in which they are offered.
const (
	BetterTitle   What = "title"   // the site's name for its address
	BetterSecure  What = "https"   // an address with encryption, of a site that has it
	BetterSignIn  What = "sign-in" // the page where one signs in for the front page
	BetterSite    What = "site"    // two domains that belong together, made one site of the directory
	BetterArchive What = "archive" // not used for years: put away, never deleted
)

// Whats are all ways.
func Whats() []What {
	return []What{BetterTitle, BetterSecure, BetterSignIn, BetterSite, BetterArchive}
}

// Better is how one login can be better.
type Better struct {
	ID       string
	What     What
	From, To string // of BetterSite: the two domains; of BetterArchive: empty
	At       int64  // of BetterArchive: when it was used or changed last, milliseconds since 1970
}

// UnusedAfter is how long a login isn't used or changed before it's offered for the archive, in milliseconds: three
// years.
const UnusedAfter = 3 * 365.25 * 24 * 3600 * 1000

// Known is what the directory of sites knows of a domain; empty where it knows nothing.
type Known struct {
	Name, SignIn string
	Domains      []string // of the site
}

// Improve returns how logins can be better, in the order of the list. known is the directory of sites; used says when a
// login was used last (0 for never), now is the time, both in milliseconds since 1970.
func Improve(entries []vault.Entry, known func(domain string) Known, used func(id string) int64, now int64) []Better {
	var out []Better
	secure := map[string]bool{} // hosts that somebody signs in to with encryption
	for _, e := range entries {
		for _, a := range vault.View(e).Addresses {
			if strings.HasPrefix(a.URL, "https://") {
				secure[site.Host(a.URL)] = true
			}
		}
	}
	for _, e := range entries {
		it := vault.View(e)
		if !it.Type.IsAccount() || e.Archived() || len(it.Addresses) == 0 {
			continue
		}
		url := it.Addresses[0].URL
		host, domain := site.Host(url), site.Domain(url)
		k := Known{}
		if known != nil && domain != "" {
			k = known(domain)
		}
		if isAddress(it.Title, host, domain) {
			if name := cmp.Or(k.Name, site.Title(url)); name != "" && name != it.Title {
				out = append(out, Better{ID: e.ID, What: BetterTitle, From: it.Title, To: name})
			}
		}
		for _, a := range it.Addresses {
			rest, plain := strings.CutPrefix(a.URL, "http://")
			h := site.Host(a.URL)
			if plain && !site.Secure(a.URL) && (secure[h] || strings.HasPrefix(k.SignIn, "https://"+h+"/")) {
				out = append(out, Better{ID: e.ID, What: BetterSecure, From: a.URL, To: "https://" + rest})
			}
		}
		if isFront(url) && k.SignIn != "" && site.Host(k.SignIn) == host && !isFront(k.SignIn) {
			out = append(out, Better{ID: e.ID, What: BetterSignIn, From: url, To: k.SignIn})
		}
		const longAgo = 631152000000 // 1990: what is before came without a date
		if at := max(used(e.ID), it.Modified.At); at > longAgo && float64(now-at) > UnusedAfter {
			out = append(out, Better{ID: e.ID, What: BetterArchive, At: at})
		}
	}
	return append(out, oneSite(entries, known)...)
}

// oneSite returns domains that belong together: logins have addresses at both, and that isn't one login alone, or they
// have one name. Of each two the first login that has both is named.
func oneSite(entries []vault.Entry, known func(domain string) Known) (out []Better) {
	type both struct{ a, b string }
	count, first := map[both]int{}, map[both]string{}
	var order []both
	for _, e := range entries {
		it := vault.View(e)
		if !it.Type.IsAccount() || e.Archived() || len(it.Addresses) < 2 {
			continue
		}
		var domains []string
		for _, a := range it.Addresses {
			d := site.Domain(a.URL)
			if _, err := netip.ParseAddr(d); d != "" && err != nil && !slices.Contains(domains, d) {
				domains = append(domains, d)
			}
		}
		for i, b := range domains {
			if i == 0 || known != nil && slices.Contains(known(domains[0]).Domains, b) {
				continue
			}
			pair := both{domains[0], b}
			if other := (both{b, domains[0]}); first[other] != "" {
				pair = other
			}
			if count[pair]++; first[pair] == "" {
				first[pair], order = e.ID, append(order, pair)
			}
		}
	}
	for _, p := range order {
		a, _, _ := strings.Cut(p.a, ".")
		b, _, _ := strings.Cut(p.b, ".")
		if count[p] > 1 || a == b {
			out = append(out, Better{ID: first[p], What: BetterSite, From: p.a, To: p.b})
		}
	}
	return out
}

// isAddress reports whether a title is no more than the site's address.
func isAddress(title, host, domain string) bool {
	t := strings.ToLower(strings.TrimSuffix(strings.TrimSpace(title), "/"))
	return t == "" || t == host || t == domain || t == "www."+domain || strings.Contains(t, "://") ||
		strings.Contains(t, "xn--")
}

func isFront(url string) bool {
	_, rest, _ := strings.Cut(url, "://")
	_, path, _ := strings.Cut(rest, "/")
	return path == ""
}

// Improved and AsIs are the verdicts about what can be better.
const (
	Improved Verdict = "improved"
	AsIs     Verdict = "as it is" // it isn't offered again
)

const fieldWhat vault.Field = "what"

// SettleBetter writes down what was done with what can be better: all of it one decision, of one way. What is returned
// is to be written all or not at all. The error is ErrChanged if a login isn't what it was.
func SettleBetter(
	id string, verdict Verdict, list []Better, entries map[string]vault.Entry, by vault.Stamp,
) (write []vault.Entry, err error) {
	if len(list) == 0 {
		return nil, ErrChanged
	}
	var ids, titles []string
	var steps []step
	now := map[string]vault.Entry{}
	for _, b := range list {
		e, there := now[b.ID]
		if !there {
			e = entries[b.ID]
		}
		if !e.IsItem() || e.Archived() || e.Purged() || b.What != list[0].What {
			return nil, ErrChanged
		}
		ids, titles = append(ids, b.ID), append(titles, e.Text(vault.FieldTitle))
		if verdict != Improved {
			continue
		}
		after, err := b.apply(e, by)
		if err != nil {
			return nil, err
		}
		was, err1 := e.Encode()
		is, err2 := after.Encode()
		if err := errors.Join(err1, err2); err != nil {
			return nil, err
		}
		now[b.ID], steps = after, append(steps, step{was, is})
	}
	for _, b := range list {
		if e, ok := now[b.ID]; ok {
			write = append(write, e)
			delete(now, b.ID)
		}
	}
	c := vault.Changes{
		fieldVerdict: string(verdict), fieldRows: ids, fieldTitles: titles, fieldRun: id,
		fieldWhat: string(list[0].What),
	}
	if len(steps) > 0 {
		c[fieldSteps] = steps
	}
	d, err := vault.New(id, vault.TypeTidy, by, c)
	return append(write, d), err
}

func (b Better) apply(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
	switch b.What {
	case BetterSite: // the directory has it, not the login
		return e, ErrChanged
	case BetterArchive:
		return e.Archive(by)
	case BetterTitle:
		it := vault.View(e)
		c := vault.Changes{vault.FieldTitle: b.To}
		if it.Title != "" {
			c[vault.FieldAliases] = addOnce(slices.Clone(it.Aliases), it.Title, b.To)
		}
		return e.With(by, c)
	}
	list := slices.Clone(vault.View(e).Addresses)
	i := slices.IndexFunc(list, func(a vault.Address) bool { return a.URL == b.From })
	if i < 0 {
		return e, ErrChanged
	}
	list[i].URL = b.To
	return e.With(by, vault.Changes{vault.FieldAddresses: list})
}

// AsItIs reports whether the user said that a login is to stay as it is in one way.
func (s Said) AsItIs(id string, w What) bool { return s.asIs[id+" "+string(w)] }

// whatOf reads the way that a decision is of.
func whatOf(e vault.Entry) What {
	var w string
	if r, ok := e.Fields[fieldWhat]; ok {
		_ = json.Unmarshal([]byte(r.Value.Reveal()), &w) // of another version: no way
	}
	return What(w)
}

package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"

	"redlocket/core/directory"
	"redlocket/core/find"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// fitting says quickly what fits a page, and which page imitates a kept site. It is made
// of one index and one directory of sites, and is made anew when they change.
type fitting struct {
	of    *find.Index
	sites *directory.Directory
	logins,
	apps map[string][]*vault.Item // by registrable domain, and by program
	guard *site.Guard

	mu     sync.Mutex
	alarms map[string]*Alarm // by address, as pages are asked about again and again
}

func (v *Vault) fitting() (*fitting, error) {
	x, err := v.Index()
	if err != nil {
		return nil, err
	}
	sites := v.Sites()
	if f := v.fit.Load(); f != nil && f.of == x && f.sites == sites {
		return f, nil
	}
	f := &fitting{of: x, sites: sites, logins: map[string][]*vault.Item{}, apps: map[string][]*vault.Item{}}
	x.Items(func(it *vault.Item) {
		if it.Type != vault.TypeLogin && it.Type != vault.TypeApp {
			return
		}
		for _, a := range it.Addresses {
			d := site.Domain(a.URL)
			if list := f.logins[d]; d != "" && (len(list) == 0 || list[len(list)-1] != it) {
				f.logins[d] = append(list, it)
			}
		}
		if it.App != "" {
			f.apps[it.App] = append(f.apps[it.App], it)
		}
	})
	domains := make([]string, 0, len(f.logins))
	for d := range f.logins {
		domains = append(domains, d)
	}
	slices.Sort(domains) // maps have no order, and of two equals the first counts
	f.guard = site.NewGuard(domains)
	v.fit.Store(f)
	return f, nil
}

// matching returns the logins whose address matches, the same host first, then the last
// used here, then the latest changed. Logins of programs that are known to have the site's
// accounts come last.
func (v *Vault) matching(url string) ([]vault.Item, error) {
	f, err := v.fitting()
	if err != nil {
		return nil, err
	}
	domain, host := site.Domain(url), site.Host(url)
	known, isKnown := f.sites.Lookup(domain)
	domains := []string{domain}
	if isKnown {
		for _, d := range known.Domains {
			if d != domain {
				domains = append(domains, d)
			}
		}
	}
	type hit struct {
		*vault.Item
		near int
	}
	var hits []hit
	seen := map[string]bool{}
	for _, d := range domains {
		for _, it := range f.logins[d] {
			if seen[it.ID] || !slices.ContainsFunc(it.Addresses, func(a vault.Address) bool { return f.sites.Matches(a, url) }) {
				continue
			}
			seen[it.ID] = true
			near := 1
			if slices.ContainsFunc(it.Addresses, func(a vault.Address) bool { return site.Host(a.URL) == host }) {
				near = 0
			}
			hits = append(hits, hit{it, near})
		}
	}
	if strings.HasPrefix(url, "https://") {
		for _, app := range slices.Concat(known.Apps, v.SiteRule(domain).Apps) {
			for _, it := range f.apps[app] {
				if !seen[it.ID] && len(it.Addresses) == 0 {
					seen[it.ID] = true
					hits = append(hits, hit{it, 2})
				}
			}
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int {
		return cmp.Or(cmp.Compare(a.near, b.near), cmp.Compare(v.Used(b.ID), v.Used(a.ID)), b.Modified.Compare(a.Modified))
	})
	out := make([]vault.Item, len(hits))
	for i, h := range hits {
		out[i] = *h.Item
	}
	return out, nil
}

// fits reports whether an item belongs to a page.
func (v *Vault) fits(id, url string) bool {
	items, err := v.matching(url)
	return err == nil && slices.ContainsFunc(items, func(it vault.Item) bool { return it.ID == id })
}

// ofType returns the items of a type that aren't archived, the pinned ones first, then the
// last used, then in the order of the book.
func (v *Vault) ofType(t vault.Type) ([]vault.Item, error) {
	x, err := v.Index()
	if err != nil {
		return nil, err
	}
	var out []vault.Item
	x.Items(func(it *vault.Item) {
		if it.Type == t {
			out = append(out, *it)
		}
	})
	pinned := func(it vault.Item) int {
		if it.Pinned {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(out, func(a, b vault.Item) int {
		return cmp.Or(cmp.Compare(pinned(a), pinned(b)), cmp.Compare(v.Used(b.ID), v.Used(a.ID)))
	})
	return out, nil
}

// SiteRule is what a person set for one site, on all their devices.
type SiteRule struct {
	Domain  string   `json:"-"`
	NoOffer bool     `json:"no_offer,omitempty"` // nothing is offered at its fields
	NoAsk   bool     `json:"no_ask,omitempty"`   // typed sign-ins aren't asked about
	Apps    []string `json:"apps,omitempty"`     // programs that the site says have its accounts
}

// siteRegister names the register of the profile's entry that holds a site's rule: one for
// each site, so that two devices can set two of them at once.
func siteRegister(domain string) vault.Field { return vault.Field("site:" + domain) }

// SiteRule returns what is set for a registrable domain.
func (v *Vault) SiteRule(domain string) SiteRule {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return readRule(v.entries[v.card.Vault].entry, domain)
}

func readRule(e vault.Entry, domain string) SiteRule {
	r := SiteRule{}
	_ = json.Unmarshal([]byte(e.Text(siteRegister(domain))), &r) // nothing is set where it isn't there
	r.Domain = domain
	return r
}

// SetSiteRule sets a site's rule; one that says nothing is taken out.
func (v *Vault) SetSiteRule(ctx context.Context, r SiteRule) error {
	if r.Domain == "" || len(r.Domain) > 253 {
		return badInput("domain", errors.New("it needs the domain of a site"))
	}
	text := ""
	if r.NoOffer || r.NoAsk || len(r.Apps) > 0 {
		b, err := json.Marshal(r)
		if err != nil {
			return err
		}
		text = string(b)
	}
	err := v.existing(ctx, v.Profile().Vault, func(e vault.Entry) (vault.Entry, error) {
		return e.With(v.stamp(), vault.Changes{siteRegister(r.Domain): text})
	})
	if err == nil {
		v.tell(NoticeStatus)
	}
	return err
}

// SiteRules lists the sites for which something is set.
func (v *Vault) SiteRules() []SiteRule {
	v.mu.RLock()
	defer v.mu.RUnlock()
	e := v.entries[v.card.Vault].entry
	var out []SiteRule
	for f := range e.Fields {
		if domain, ok := strings.CutPrefix(string(f), "site:"); ok {
			if r := readRule(e, domain); r.NoOffer || r.NoAsk || len(r.Apps) > 0 {
				out = append(out, r)
			}
		}
	}
	slices.SortFunc(out, func(a, b SiteRule) int { return strings.Compare(a.Domain, b.Domain) })
	return out
}

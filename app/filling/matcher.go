package filling

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"redlocket/core/autofill"
	"redlocket/core/directory"
	"redlocket/core/find"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// matcher says quickly what fits a page, and which page imitates a kept site. It is made
// of one index of the book and one directory of sites, and made again when they change.
type matcher struct {
	index  *find.Index
	sites  *directory.Directory
	logins map[string][]*vault.Item // by registrable domain
	apps   map[string][]*vault.Item // by program
	guard  *site.Guard
	called map[string]string // by registrable domain: what its login's title calls it

	mu     sync.Mutex        // guards alarms
	alarms map[string]*Alarm // by address, as pages are asked about again and again
}

// match returns the matcher of what the book is now.
func (c *core) match() (*matcher, error) {
	x, err := c.Set.Book.Index()
	if err != nil {
		return nil, err
	}
	sites := c.Set.Sites.Directory()
	if m := c.matcher.Load(); m != nil && m.index == x && m.sites == sites {
		return m, nil
	}
	m := newMatcher(x, sites)
	c.matcher.Store(m)
	return m, nil
}

func newMatcher(x *find.Index, sites *directory.Directory) *matcher {
	m := &matcher{
		index: x, sites: sites, alarms: map[string]*Alarm{},
		logins: map[string][]*vault.Item{}, apps: map[string][]*vault.Item{},
	}
	x.Items(func(it *vault.Item) {
		if !it.Type.IsAccount() {
			return
		}
		for _, a := range it.Addresses {
			d := site.Domain(a.URL)
			if list := m.logins[d]; d != "" && (len(list) == 0 || list[len(list)-1] != it) {
				m.logins[d] = append(list, it)
			}
		}
		if it.App != "" {
			m.apps[it.App] = append(m.apps[it.App], it)
		}
	})
	domains := make([]string, 0, len(m.logins))
	for d := range m.logins {
		domains = append(domains, d)
	}
	slices.Sort(domains) // maps have no order, and of two equals the first counts
	m.guard = site.NewGuard(domains)
	m.called = make(map[string]string, len(domains))
	for _, d := range domains {
		m.called[d] = site.Called(m.logins[d][0].Title)
	}
	return m
}

// How near a login is to a page, the nearest first.
const (
	sameHost = iota
	sameSite
	sameApp // it belongs to a program that is known to have the site's accounts
)

// match is a login that fits a page.
type match struct {
	*vault.Item
	near int
}

// away is 0 in the owner's own book.
func (m match) away() int {
	if m.Book == "" {
		return 0
	}
	return 1
}

// matching returns the logins whose address matches, the same host first, then those of the owner's own book, then the
// last used here, then the latest changed. Logins of programs that are known to have the site's
// accounts come last.
func (c *core) matching(url string) ([]vault.Item, error) {
	m, err := c.match()
	if err != nil {
		return nil, err
	}
	hits := m.matches(url, c.Set.Sites.Rule(site.Domain(url)).Apps)
	used := c.Set.Book.Used()
	slices.SortStableFunc(hits, func(a, b match) int {
		return cmp.Or(
			cmp.Compare(a.near, b.near), cmp.Compare(a.away(), b.away()), cmp.Compare(used[b.ID], used[a.ID]),
			b.Modified.Compare(a.Modified),
		)
	})
	out := make([]vault.Item, len(hits))
	for i, h := range hits {
		out[i] = *h.Item
	}
	return out, nil
}

// matches returns the logins that fit an address; apps are programs that its site told of.
func (m *matcher) matches(url string, apps []string) (hits []match) {
	domain, host := site.Domain(url), site.Host(url)
	known, _ := m.sites.Lookup(domain) // without domains where it isn't known
	domains := []string{domain}
	for _, d := range known.Domains {
		if d != domain {
			domains = append(domains, d)
		}
	}
	seen := map[string]bool{}
	fits := func(a vault.Address) bool { return m.sites.Matches(a, url) }
	for _, d := range domains {
		for _, it := range m.logins[d] {
			if seen[it.ID] || !slices.ContainsFunc(it.Addresses, fits) {
				continue
			}
			seen[it.ID] = true
			near := sameSite
			if slices.ContainsFunc(it.Addresses, func(a vault.Address) bool { return site.Host(a.URL) == host }) {
				near = sameHost
			}
			hits = append(hits, match{it, near})
		}
	}
	if !strings.HasPrefix(url, "https://") {
		return hits
	}
	for _, app := range slices.Concat(known.Apps, apps) {
		for _, it := range m.apps[app] {
			if !seen[it.ID] && len(it.Addresses) == 0 {
				seen[it.ID] = true
				hits = append(hits, match{it, sameApp})
			}
		}
	}
	return hits
}

// mustFit returns ErrWrongSite if an item doesn't belong to a page.
func (c *core) mustFit(id, url string) error {
	items, err := c.matching(url)
	if err == nil && !slices.ContainsFunc(items, func(it vault.Item) bool { return it.ID == id }) {
		err = ErrWrongSite
	}
	return err
}

// ofType returns the items of a type that aren't archived, the pinned ones first, then the
// last used, then in the order of the book.
func (c *core) ofType(t vault.Type) ([]vault.Item, error) {
	x, err := c.Set.Book.Index()
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
	used := c.Set.Book.Used()
	slices.SortStableFunc(out, func(a, b vault.Item) int {
		return cmp.Or(cmp.Compare(pinned(a), pinned(b)), cmp.Compare(used[b.ID], used[a.ID]))
	})
	return out, nil
}

// likelyFirst puts the login first that was last used in this tab.
func (c *core) likelyFirst(p Page, items []vault.Item) ([]vault.Item, error) {
	id := ""
	err := c.gate.Read(func(in *state) error { id = in.lastUsed[p.key()]; return nil })
	i := slices.IndexFunc(items, func(it vault.Item) bool { return it.ID == id })
	if err != nil || i <= 0 {
		return items, err
	}
	return slices.Concat(items[i:i+1], items[:i], items[i+1:]), nil
}

// readings are the forms of a page, read with what is known of its site.
func (c *core) readings(p Page) ([]autofill.Reading, error) {
	items, err := c.matching(p.URL)
	if err != nil {
		return nil, err
	}
	p.Snapshot.Known = len(items) > 0
	return autofill.Read(p.Snapshot), nil
}

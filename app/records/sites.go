package records

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"

	"redlocket/core/directory"
	"redlocket/core/vault"
)

// Sites is the directory of sites, and what the user set for single ones.
type Sites struct{ core *core }

// shippedList is read once: it doesn't change while the program runs.
var shippedList = sync.OnceValue(directory.Shipped)

func shippedSites() *directory.Directory { return directory.New(shippedList()) }

// Directory is the user's own list of sites before the shipped one.
func (s *Sites) Directory() (d *directory.Directory) {
	if err := s.core.gate.Read(func(in *content) error { d = in.sites; return nil }); err != nil {
		return shippedSites()
	}
	return d
}

// ownSites returns the id of the entry that holds the user's own list, and the list.
func (in *content) ownSites() (string, []directory.Site) {
	for id, h := range in.entries {
		if h.entry.Type == vault.TypeSites {
			sites, err := directory.Parse([]byte(h.entry.Text(vault.FieldSites)))
			if err == nil {
				return id, sites
			}
		}
	}
	return "", nil
}

// readSites takes the user's own list into the directory.
func (in *content) readSites() {
	_, own := in.ownSites()
	if len(own) > 0 {
		in.index, in.leaf = nil, nil // it knows the shipped names only
	}
	in.sites = directory.New(own, shippedList())
}

// Own returns the sites that the user added to the directory.
func (s *Sites) Own() (own []directory.Site, err error) {
	err = s.core.read(func(in *content) error { _, own = in.ownSites(); return nil })
	return own, err
}

// Add adds a list of sites to the user's own, on all devices, and returns how many. Of a
// domain that is there already the new word counts.
func (s *Sites) Add(ctx context.Context, list []byte) (int, error) {
	fresh, err := directory.Parse(list)
	if err != nil {
		return 0, BadInput("sites", err)
	}
	own, err := s.Own()
	if err != nil {
		return 0, err
	}
	taken := map[string]bool{}
	for _, f := range fresh {
		for _, d := range f.Domains {
			taken[d] = true
		}
	}
	all := slices.Clone(fresh)
	for _, o := range own {
		if !slices.ContainsFunc(o.Domains, func(d string) bool { return taken[d] }) {
			all = append(all, o)
		}
	}
	return len(fresh), s.setOwn(ctx, all)
}

// Remove takes one of the user's own sites out of the directory.
func (s *Sites) Remove(ctx context.Context, domain string) error {
	own, err := s.Own()
	if err != nil {
		return err
	}
	return s.setOwn(ctx, slices.DeleteFunc(own, func(o directory.Site) bool { return o.Domains[0] == domain }))
}

func (s *Sites) setOwn(ctx context.Context, list []directory.Site) error {
	b, err := directory.Encode(list)
	if err != nil {
		return err
	}
	if _, err := directory.Parse(b); err != nil {
		return BadInput("sites", err)
	}
	compact, err := json.Marshal(json.RawMessage(b))
	if err != nil {
		return err
	}
	return s.core.write(func(in *content) error {
		id, _ := in.ownSites()
		c := vault.Changes{vault.FieldSites: string(compact)}
		var e vault.Entry
		if id == "" {
			e, err = vault.New(NewID(), vault.TypeSites, s.core.stamp(), c)
		} else {
			e, err = in.entries[id].entry.With(s.core.stamp(), c)
		}
		if err != nil {
			return err
		}
		if err := s.core.save(ctx, in, []vault.Entry{e}); err != nil {
			return err
		}
		in.readSites()
		return nil
	})
}

// SiteRule is what a person set for one site, on all their devices.
type SiteRule struct {
	Domain  string   `json:"-"`
	NoOffer bool     `json:"no_offer,omitempty"` // nothing is offered at its fields
	NoAsk   bool     `json:"no_ask,omitempty"`   // typed sign-ins aren't asked about
	Apps    []string `json:"apps,omitempty"`     // programs that the site says have its accounts
}

func (r SiteRule) empty() bool { return !r.NoOffer && !r.NoAsk && len(r.Apps) == 0 }

// rulePrefix begins the name of the register of the profile's entry that holds a site's rule:
// one for each site, so that two devices can set two of them at once.
const rulePrefix = "site:"

// Rule returns what is set for a registrable domain.
func (s *Sites) Rule(domain string) SiteRule {
	r := SiteRule{Domain: domain}
	_ = s.core.gate.Read(func(in *content) error { // nothing is set once locked
		r = readRule(in.entries[s.core.ID].entry, domain)
		return nil
	})
	return r
}

func readRule(e vault.Entry, domain string) SiteRule {
	r := SiteRule{}
	_ = json.Unmarshal([]byte(e.Text(vault.Field(rulePrefix+domain))), &r) // nothing is set where it isn't there
	r.Domain = domain
	return r
}

// SetRule sets a site's rule; one that says nothing is taken out.
func (s *Sites) SetRule(ctx context.Context, r SiteRule) error {
	if r.Domain == "" || len(r.Domain) > 253 {
		return BadInput("domain", errors.New("it needs the domain of a site"))
	}
	text := ""
	if !r.empty() {
		b, err := json.Marshal(r)
		if err != nil {
			return err
		}
		text = string(b)
	}
	items := &Items{s.core}
	return items.Edit(ctx, s.core.ID, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.Field(rulePrefix + r.Domain): text})
	})
}

// Rules lists the sites for which something is set, by domain.
func (s *Sites) Rules() (out []SiteRule) {
	_ = s.core.gate.Read(func(in *content) error { // none once locked
		e := in.entries[s.core.ID].entry
		for f := range e.Fields {
			if domain, ok := strings.CutPrefix(string(f), rulePrefix); ok {
				if r := readRule(e, domain); !r.empty() {
					out = append(out, r)
				}
			}
		}
		return nil
	})
	slices.SortFunc(out, func(a, b SiteRule) int { return strings.Compare(a.Domain, b.Domain) })
	return out
}

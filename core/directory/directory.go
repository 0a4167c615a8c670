// Package directory knows sites: what they are called, which domains are one
// site, where one signs in and changes the password, and what passwords they take.
//
// A directory is made of lists. One ships with the program (sites.json, the
// invented sites of the demo); others are the user's own. A list is JSON, described
// by docs/sites.schema.json:
//
//	{"format": "red-locket-sites/1",
//	 "sites": [{"name": "Ferrylink", "domains": ["ferrylink.example", "quayferries.example"],
//	            "also": ["Quay Ferries"], "sign_in": "https://ferrylink.example/sign-in",
//	            "change": "https://ferrylink.example/account/password",
//	            "rules": "minlength: 10; required: digit", "apps": ["example.ferrylink.app"]}]}
//
// What a list says widens where a login is offered. So a domain belongs to one
// site of a list only, and where two lists name it the first decides.
package directory

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"redlocket/core/generator"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Format names the format and its version.
const Format = "red-locket-sites/1"

// The limits of a list. A record holds a megabyte; the world has more sites than
// anybody should carry.
const (
	MaxBytes = 512 << 10
	MaxSites = 5000
	MaxEach  = 20  // domains, names or apps of a site
	MaxText  = 200 // characters of a name
)

// Site is what a directory knows of one site.
type Site struct {
	Name    string          `json:"name"`
	Domains []string        `json:"domains"` // registrable domains, the main one first
	Aliases []string        `json:"also,omitempty"`
	SignIn  string          `json:"sign_in,omitempty"`
	Change  string          `json:"change,omitempty"` // where the password is changed
	Rules   generator.Rules `json:"rules,omitempty"`
	Apps    []string        `json:"apps,omitempty"` // programs with the same accounts
}

type list struct {
	Format string `json:"format"`
	Sites  []Site `json:"sites"`
}

//go:embed sites.json
var shipped []byte

// Shipped returns the list that the program brings along.
func Shipped() []Site {
	sites, err := Parse(shipped)
	if err != nil {
		panic("the shipped directory is broken: " + err.Error()) // a test reads it
	}
	return sites
}

// The errors of [Parse].
var (
	ErrTooLarge = errors.New("the list is larger than MaxBytes")
	ErrNotAList = errors.New("not a list of sites")
	ErrFormat   = errors.New("a list of another format")
	ErrTooMany  = errors.New("the list has more than MaxSites sites")

	// Those of one site stand in a [SiteError].
	ErrName     = errors.New("the name is missing or too long")
	ErrNoDomain = errors.New("no domain")
	ErrTooMuch  = errors.New("more domains, aliases or apps than MaxEach")
	ErrHost     = errors.New("a host, not a domain")
	ErrForeign  = errors.New("an address outside of the site's domains")
	ErrTaken    = errors.New("the domain of another site")
)

// SiteError says which site of a list is wrong, and with which of its values.
type SiteError struct {
	Number int    // in the list, from 1; 0 for one that stands alone
	Name   string // of the site
	Text   string // the value
	Other  string // the domain of ErrHost, the site that has the domain of ErrTaken
	Err    error
}

func (e *SiteError) Error() string {
	return fmt.Sprintf("site %d (%q), %q: %v", e.Number, e.Name, e.Text, e.Err)
}

func (e *SiteError) Unwrap() error { return e.Err }

// Parse reads a list. An error names the site that is wrong with it; nothing of a
// list with an error is used.
func Parse(b []byte) ([]Site, error) {
	if len(b) > MaxBytes {
		return nil, ErrTooLarge
	}
	var l list
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	if err := d.Decode(&l); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotAList, err)
	}
	if d.More() {
		return nil, ErrNotAList
	}
	if l.Format != Format {
		return nil, ErrFormat
	}
	if len(l.Sites) > MaxSites {
		return nil, ErrTooMany
	}
	owner := map[string]string{}
	for i := range l.Sites {
		s := &l.Sites[i]
		if err := s.check(); err != nil {
			return nil, &SiteError{Number: i + 1, Name: s.Name, Err: err}
		}
		for _, d := range s.Domains {
			if other, twice := owner[d]; twice {
				return nil, &SiteError{Number: i + 1, Name: s.Name, Text: d, Other: other, Err: ErrTaken}
			}
			owner[d] = s.Name
		}
	}
	return l.Sites, nil
}

// Encode writes a list.
func Encode(sites []Site) ([]byte, error) {
	if sites == nil {
		sites = []Site{}
	}
	return json.MarshalIndent(list{Format, sites}, "", "  ")
}

func (s *Site) check() error {
	if s.Name = strings.TrimSpace(s.Name); s.Name == "" || utf8.RuneCountInString(s.Name) > MaxText {
		return ErrName
	}
	if len(s.Domains) == 0 {
		return ErrNoDomain
	}
	if len(s.Domains) > MaxEach || len(s.Aliases) > MaxEach || len(s.Apps) > MaxEach {
		return ErrTooMuch
	}
	for i, d := range s.Domains {
		clean, err := site.Clean(d)
		if err != nil {
			return &SiteError{Text: d, Err: err}
		}
		if s.Domains[i] = site.Host(clean); site.Domain(clean) != s.Domains[i] {
			return &SiteError{Text: s.Domains[i], Other: site.Domain(clean), Err: ErrHost}
		}
	}
	for _, a := range []*string{&s.SignIn, &s.Change} {
		if *a == "" {
			continue
		}
		clean, err := site.Clean(*a)
		if err != nil {
			return &SiteError{Text: *a, Err: err}
		}
		if *a = clean; !slices.Contains(s.Domains, site.Domain(clean)) {
			return &SiteError{Text: site.Domain(clean), Err: ErrForeign}
		}
	}
	_, err := s.Rules.Options(generator.Default())
	return err
}

// Directory finds sites. The zero value knows none.
type Directory struct {
	sites  []Site
	domain map[string]*Site
}

// New makes a directory of lists, the one that decides first.
func New(lists ...[]Site) *Directory {
	d := &Directory{domain: map[string]*Site{}}
	for _, l := range lists {
		for i := range l {
			s := &l[i]
			known := false
			for _, name := range s.Domains {
				if _, taken := d.domain[name]; taken {
					known = true
					continue
				}
				d.domain[name] = s
			}
			if !known {
				d.sites = append(d.sites, *s)
			}
		}
	}
	return d
}

// Lookup returns what is known of a registrable domain.
func (d *Directory) Lookup(domain string) (Site, bool) {
	s, ok := d.domain[domain]
	if !ok {
		return Site{}, false
	}
	return *s, true
}

// Names returns what else the site at a domain is called: its name, its other
// names and its other domains.
func (d *Directory) Names(domain string) []string {
	s, ok := d.domain[domain]
	if !ok {
		return nil
	}
	out := append([]string{s.Name}, s.Aliases...)
	for _, other := range s.Domains {
		if other != domain {
			out = append(out, other)
		}
	}
	return out
}

// Of returns the domain that stands for a site with several; for one that isn't known it is the domain itself.
func (d *Directory) Of(domain string) string {
	if s, ok := d.Lookup(domain); ok && len(s.Domains) > 0 {
		return site.Domain("https://" + s.Domains[0])
	}
	return domain
}

// Same reports whether two registrable domains are known to be one site.
func (d *Directory) Same(a, b string) bool {
	s, ok := d.domain[a]
	return ok && a != b && s == d.domain[b]
}

// Matches reports whether a page belongs to a kept address: by [site.Matches],
// or because its domain is known to be the same site, where the address is good
// for the whole site. The rule about plain http holds for other domains too.
func (d *Directory) Matches(kept vault.Address, page string) bool {
	if site.Matches(kept, page) {
		return true
	}
	domain := site.Domain(page)
	if kept.Match != vault.MatchSite || !d.Same(site.Domain(kept.URL), domain) {
		return false
	}
	scheme, _, _ := strings.Cut(kept.URL, "://")
	return site.Matches(vault.Address{URL: scheme + "://" + domain}, page)
}

// Suggest returns up to n sites that what was typed may mean: those whose name,
// other name or domain begins with it, then those with a word that does.
func (d *Directory) Suggest(typed string, n int) []Site {
	typed = strings.ToLower(strings.TrimSpace(typed))
	if typed == "" {
		return nil
	}
	var first, later []Site
	for _, s := range d.sites {
		switch place(s, typed) {
		case 2:
			first = append(first, s)
		case 1:
			later = append(later, s)
		}
	}
	out := append(first, later...)
	return out[:min(n, len(out))]
}

func place(s Site, typed string) (best int) {
	for _, name := range slices.Concat([]string{s.Name}, s.Aliases, s.Domains) {
		name = strings.ToLower(name)
		if strings.HasPrefix(name, typed) {
			return 2
		}
		if strings.Contains(name, " "+typed) {
			best = 1
		}
	}
	return best
}

// RulesFor returns what an address's site demands of passwords, and the site's name; both are
// empty where the directory doesn't know.
func (d *Directory) RulesFor(address string) (rules generator.Rules, name string) {
	if known, ok := d.Lookup(site.Domain(address)); ok && known.Rules != "" {
		return known.Rules, known.Name
	}
	return "", ""
}

// Obey returns the options as an address's site demands, and the site's name; where the directory
// doesn't know the site, or its demands can't be met, the options as they are.
func (d *Directory) Obey(address string, o generator.Options) (obeyed generator.Options, name string) {
	rules, name := d.RulesFor(address)
	if with, err := rules.Options(o); err == nil && name != "" {
		return with, name
	}
	return o, ""
}

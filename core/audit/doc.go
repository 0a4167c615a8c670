// Package audit finds the weak spots of a vault, and what falls with what.
//
// A [Survey] is made of all entries at once. [Survey.Spots] says of each login what is wrong with its password
// ([Finding]), ranked by what is lost times how easy it is. [Survey.Reach] says what a thief gets who knows one
// password: the logins with the same or nearly the same one, and by a mailbox all that it can reset, step by step, each
// with the login that it comes from ([Fallen]).
//
// It computes by comparison alone, and puts nothing into words. Whether a password is in a leak it asks of somebody
// else ([Options.Leaked]); how long one holds it asks package strength, which is slow: that is asked for login by login
// ([Survey.Weak]), in the background.
package audit

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Options is what the entries alone don't say.
type Options struct {
	Now int64 // milliseconds since 1970
	// Site names the site of a registrable domain: domains that are known to be one site have one name. Nil knows none.
	Site func(domain string) string
	// Leaked reports whether a password is in a known leak, and when that became known (milliseconds since 1970; 0 if
	// that isn't said). Nil knows none.
	Leaked func(secret.Text) (known int64, ok bool)
	// Exposed are accounts that sites lost.
	Exposed []Exposure
}

// Exposure is an account that a site lost.
type Exposure struct {
	Domain string // of the site
	User   string // user name or e-mail address
	At     int64  // the day, from its start at UTC; milliseconds since 1970
}

// dayAndZones is how long after the start of a day at UTC that day lasts somewhere.
const dayAndZones = (24 + 12) * 3600 * 1000

// OldAfter is how long a password is used before it counts as old, in milliseconds: five years. It isn't wrong because
// of that (NIST SP 800-63B), so it weighs least.
const OldAfter = 5 * 365.25 * 24 * 3600 * 1000

// Memory is what a survey leaves for the next one: what was read of each entry, and which passwords are nearly the
// same. Its zero value is ready. It isn't safe for concurrent use; the surveys are.
type Memory struct {
	read vault.Readings[*reading]
	near nearIndex
}

// reading is what a login says, without the others.
type reading struct {
	login    login
	password secret.Text
	resets   []string // addresses that it can be reset with
}

// readEntry reads an entry; nil for what is no login, or archived.
func readEntry(e vault.Entry) *reading {
	it := vault.View(e)
	if !it.Type.IsAccount() || e.Archived() {
		return nil
	}
	return &reading{readLogin(e, it), e.SignsInWith(), resetBy(e)}
}

// Survey is what was found out of a list of entries. It doesn't change.
type Survey struct {
	o      Options
	logins []*login
	keys   map[secret.Text]*key
	resets map[string][]*login // by the address of a mailbox: what it can reset

	byID func() map[string]*login // made when somebody asks for it, as is
	far  func() []Far
}

// login is one that is looked at, made ready.
type login struct {
	id, title string
	user      string // in lower case
	host      string
	domain    string
	place     string   // the domain that stands for its site; empty if it has none
	names     []string // of its site, that may stand in a password
	since     int64    // when the password was set; 0 if nobody knows
	clear     string   // a host that it is sent to without encryption
	mailbox   string   // the address whose mail one reads with it; empty if it is none
	exposed   int64    // the day on which its site lost the account, with this password; 0 if it didn't
	held      bool     // by a second factor that isn't in a mailbox
	worth     Worth
	key       *key // nil without a password
}

// key is a password, and everything that it opens.
type key struct {
	text   secret.Text
	known  *nearPassword
	logins []*login
	first  [1]*login // room for most
	near   []nearKey
}

type nearKey struct {
	key *key
	how Nearness
}

// New looks at the logins among the entries that aren't archived. It stops with the context's error. It takes about
// n log n steps for n logins.
func New(ctx context.Context, entries []vault.Entry, o Options) (*Survey, error) {
	return new(Memory).Survey(ctx, entries, o)
}

// Survey is [New], for entries most of which may be those of the survey before.
func (m *Memory) Survey(ctx context.Context, entries []vault.Entry, o Options) (*Survey, error) {
	s := &Survey{o: o, keys: make(map[secret.Text]*key, len(entries))}
	s.byID, s.far = sync.OnceValue(s.indexed), sync.OnceValue(s.furthest)
	if s.o.Site == nil {
		s.o.Site = func(domain string) string { return domain }
	}
	keys := s.keys
	read := slices.DeleteFunc(m.read.Read(entries, readEntry), func(r *reading) bool { return r == nil })
	resets := make([][]string, 0, len(read))
	all, some := make([]login, len(read)), make([]key, 0, len(read)) // in one piece of memory each
	s.logins = make([]*login, 0, len(read))
	for i, was := range read {
		l := &all[i]
		*l = was.login
		if l.domain != "" {
			l.place = s.o.Site(l.domain)
		}
		if p := was.password; !p.IsEmpty() {
			k := keys[p]
			if k == nil {
				some = append(some, key{text: p})
				k = &some[len(some)-1]
				k.logins = k.first[:0]
				keys[p] = k
			}
			l.key = k
			k.logins = append(k.logins, l)
		}
		resets = append(resets, was.resets)
		s.logins = append(s.logins, l)
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	s.findMailboxes(resets)
	s.expose(o.Exposed)
	return s, m.joinNear(ctx, some)
}

func (s *Survey) indexed() map[string]*login {
	out := make(map[string]*login, len(s.logins))
	for _, l := range s.logins {
		out[l.id] = l
	}
	return out
}

// expose notes with each login the latest leak of its account that its password was in, or may have been.
func (s *Survey) expose(list []Exposure) {
	for _, x := range list {
		for _, l := range s.exposedBy(x) {
			if l.since < x.At+dayAndZones {
				l.exposed = max(l.exposed, x.At)
			}
		}
	}
}

func (s *Survey) exposedBy(x Exposure) (list []*login) {
	for _, l := range s.logins {
		if l.key != nil && l.user != "" && strings.EqualFold(l.user, x.User) && l.domain != "" &&
			s.o.Site(l.domain) == s.o.Site(site.Domain(x.Domain)) {
			list = append(list, l)
		}
	}
	return list
}

// Exposed returns the logins whose account a site lost, in the order of the list, and whether all of them have had
// another password set since. Where nobody knows when one was set, that isn't so.
func (s *Survey) Exposed(x Exposure) (ids []string, since bool) {
	since = true
	for _, l := range s.exposedBy(x) {
		ids = append(ids, l.id)
		since = since && l.since >= x.At+dayAndZones
	}
	return ids, since && len(ids) > 0
}

func readLogin(e vault.Entry, it vault.Item) login {
	l := login{id: e.ID, title: it.Title, user: strings.ToLower(strings.TrimSpace(it.Username)), held: hasFactor(e)}
	f := vault.FieldPassword
	if e.Secret(f).IsEmpty() {
		f = vault.FieldStaged
	}
	const longAgo = 631152000000 // 1990: what is before came without a date
	if at := e.Fields[f].Stamp.At; at > longAgo {
		l.since = at
	}
	l.readAddresses(it.Addresses)
	l.names = namesOf(it.Title, l.domain)
	l.worth = worthOf(it, l.host)
	return l
}

// readAddresses takes the first address's host, and the first one without encryption of a domain that has none with.
func (l *login) readAddresses(list []vault.Address) {
	if len(list) == 0 {
		return
	}
	l.host, l.domain = site.Host(list[0].URL), site.Domain(list[0].URL)
	secure := map[string]bool{l.domain: site.Secure(list[0].URL)}
	for _, a := range list[1:] { // one alone has none beside it
		if site.Secure(a.URL) {
			secure[site.Domain(a.URL)] = true
		}
	}
	for _, a := range list {
		if l.clear != "" || site.Secure(a.URL) || secure[site.Domain(a.URL)] {
			continue
		}
		if h := site.Host(a.URL); h != "" && !atHome(h) {
			l.clear = h
		}
	}
}

// atHome reports whether a host is in the user's own network: what is sent to it doesn't leave the house.
func atHome(host string) bool {
	a, err := netip.ParseAddr(strings.Trim(host, "[]"))
	if err == nil {
		return a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast()
	}
	return !strings.Contains(host, ".") || strings.HasSuffix(host, ".local") || strings.HasSuffix(host, ".lan") ||
		strings.HasSuffix(host, ".home.arpa")
}

// run writes the words of a title together.
var run = strings.NewReplacer(" ", "", "-", "", "&", "", "'", "", "’", "")

// namesOf are the names of a site that people put into a password.
func namesOf(title, domain string) (names []string) {
	add := func(n string) {
		if n = strings.ToLower(n); len([]rune(n)) >= 3 && !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	label, _, _ := strings.Cut(domain, ".")
	add(run.Replace(title))
	add(label)
	for w := range strings.FieldsFuncSeq(title, func(r rune) bool { return strings.ContainsRune(" -.&/,", r) }) {
		if len([]rune(w)) >= 4 {
			add(w)
		}
	}
	for w := range strings.SplitSeq(label, "-") {
		if len(w) >= 4 {
			add(w)
		}
	}
	slices.SortFunc(names, func(a, b string) int { // the longest is taken out first
		return cmp.Or(cmp.Compare(len(b), len(a)), strings.Compare(a, b))
	})
	return names
}

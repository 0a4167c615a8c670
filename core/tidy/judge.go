package tidy

import (
	"context"
	"slices"
	"strings"
	"unicode"

	"redlocket/core/audit"
	"redlocket/core/vault"
)

// keys says how the passwords of two rows are related.
type keys int

const (
	otherKey keys = iota
	oneKey        // only one has a password, or neither
	nearKey       // almost the same
	pastKey       // the one's is in the other's history
	sameKey
)

// row is a login, made ready for comparison.
type row struct {
	at       int // among the rows
	round    int // the search in which it was there last
	id       string
	title    string
	name     string   // the title, plain
	names    []string // what the title may call a site by
	user     string   // folded
	shown    string   // the user name as it is
	app      string
	note     string // in lower case
	spots    []spot
	vague    bool // the user name doesn't say whose it is
	readable bool // the title is more than the site's address
	password string
	made     bool // the password looks as if a program had made it
	past     map[string]bool
	changed  int64

	domains []string // its own and those that its note names
	meets   []string // other keys under which it meets rows that may be the same

	in     bool     // whether it is in the index
	sites  []string // of domains
	seat   string   // where it signs in, in one word; empty if that isn't known
	blocks []string // all keys under which it meets others
	last   *group   // that it was the first of in the search before, with what was proposed
}

// pair is two rows that may be one login.
type pair struct {
	a, b    *row
	sure    Sureness
	reasons []Reason
}

// finder is one search.
type finder struct {
	o Options
	*index
	relations map[[2]*row]*relation
	loose     bool     // the judgement that is being made rests on other rows too
	room      []string // to use again
}

// readRow reads an entry; nil for what is no login, or archived.
func readRow(e vault.Entry) *row {
	it := vault.View(e)
	if !it.Type.IsAccount() || e.Archived() {
		return nil
	}
	r := &row{
		id: it.ID, title: it.Title, name: plain(it.Title), user: fold(it.Username), shown: it.Username,
		app: strings.ToLower(it.App), note: strings.ToLower(it.Notes), password: e.SignsInWith().Reveal(),
		past: map[string]bool{}, changed: it.Modified.At,
	}
	for _, p := range e.Past {
		if p.Field == vault.FieldPassword {
			r.past[vault.Plain(p.Value)] = true
		}
	}
	for _, a := range it.Addresses {
		if s, ok := spotOf(a.URL); ok {
			r.spots = append(r.spots, s)
		}
	}
	r.names = namesOf(it.Title)
	r.vague, r.made, r.readable = isVague(r.user), made(r.password), readable(r)
	r.readBlocks()
	return r
}

// readBlocks notes where a row meets others, but for what the directory of sites makes of its domains.
func (r *row) readBlocks() {
	for _, s := range r.spots {
		r.domains = append(r.domains, s.domain)
		for _, name := range append(s.called, s.stem) {
			if name != "" {
				r.meets = append(r.meets, "title "+name)
			}
		}
	}
	if len(r.spots) > 0 {
		for w := range strings.FieldsSeq(r.note) {
			if w = strings.Trim(w, ".,;:()<>\"'"); strings.Contains(w, ".") {
				r.domains = append(r.domains, w)
			}
		}
	}
	if r.app != "" {
		r.meets = append(r.meets, "app "+r.app)
		for part := range strings.SplitSeq(r.app, ".") {
			r.meets = append(r.meets, "title "+plain(part))
		}
	}
	for _, name := range r.names {
		r.meets = append(r.meets, "title "+name)
	}
	if r.made {
		r.meets = append(r.meets, "made "+r.password)
	}
}

func two(a, b string) [2]string {
	if a > b {
		a, b = b, a
	}
	return [2]string{a, b}
}

// relation returns what is known of two rows by themselves.
func (f *finder) relation(a, b *row) *relation {
	if a.id > b.id {
		a, b = b, a
	}
	two := [2]*row{a, b}
	r := f.relations[two]
	if r == nil {
		r = &relation{}
		f.relations[two] = r
	}
	return r
}

// keyness compares the passwords of two rows.
func (f *finder) keyness(a, b *row) keys {
	r := f.relation(a, b)
	if !r.keyed {
		r.keys, r.keyed = keysOf(a, b), true
	}
	return r.keys
}

// alike compares the user names of two rows by themselves.
func (f *finder) alike(a, b *row) alike {
	if a.user == b.user && a.user != "" {
		return sameName
	}
	r := f.relation(a, b)
	if !r.named {
		r.names, r.named = compare(a.user, b.user), true
	}
	return r.names
}

func keysOf(a, b *row) keys {
	switch {
	case a.password == "" || b.password == "":
		return oneKey
	case a.password == b.password:
		return sameKey
	case a.past[b.password] || b.past[a.password]:
		return pastKey
	}
	var sites []string
	for _, r := range []*row{a, b} {
		for _, s := range r.spots {
			sites = append(sites, labelOf(s.domain))
		}
	}
	if audit.Near(a.password, b.password, sites...) != audit.NotNear {
		return nearKey
	}
	return otherKey
}

// made reports whether a password looks as if a program had made it: people don't use such a one at two places.
func made(password string) bool {
	turns, kinds, last, letters, vowels := 0, 0, 0, 0, 0
	seen := map[int]bool{}
	for _, r := range password {
		k := 4
		switch {
		case unicode.IsUpper(r):
			k = 1
		case unicode.IsLower(r):
			k = 2
		case unicode.IsDigit(r):
			k = 3
		}
		if k < 3 {
			letters++
		}
		if strings.ContainsRune("aeiouAEIOU", r) {
			vowels++
		}
		if last != 0 && k != last {
			turns++
		}
		if !seen[k] {
			seen[k] = true
			kinds++
		}
		last = k
	}
	n := len([]rune(password))
	// Of letters alone: capitals in the middle, and hardly a vowel.
	return n >= 10 && (kinds >= 3 && turns*5 >= 2*n || turns >= 4 && letters >= n-1 && vowels*10 < 3*letters)
}

// verdict is what the table says of a pair.
type verdict struct {
	near  near
	names []alike
	keys  []keys
	sure  Sureness
	// alone asks that no other row of the site could be meant.
	alone bool
}

// Names and passwords that go together in the table.
var (
	same      = []alike{sameName, telephone}
	partial   = []alike{mailPart, masked}
	unnamed   = []alike{noName, noNames}
	proven    = []keys{sameKey, pastKey}
	fitting   = []keys{sameKey, pastKey, nearKey, oneKey}
	weakly    = []keys{nearKey, oneKey}
	anything  = []keys{sameKey, pastKey, nearKey, oneKey, otherKey}
	equal     = []keys{sameKey}
	unlike    = []keys{otherKey}
	imprecise = []alike{mailPart, masked, typing, noName, noNames}
)

// table has the rules, of which the first that fits counts. A pair that none fits is no pair.
var table = []verdict{
	{near: hosted, names: same, keys: fitting, sure: Sure},
	{near: hosted, names: same, keys: unlike, sure: Likely},
	{near: hosted, names: []alike{mailPart, masked, typing}, keys: proven, sure: Sure},
	{near: hosted, names: partial, keys: anything, sure: Likely, alone: true},
	{near: hosted, names: []alike{typing}, keys: weakly, sure: Likely},
	{near: hosted, names: []alike{oldMail}, keys: proven, sure: Likely},
	{near: hosted, names: []alike{oldMail}, keys: []keys{nearKey}, sure: Question},
	{near: hosted, names: []alike{otherMail}, keys: equal, sure: Question},
	{near: hosted, names: []alike{noName}, keys: proven, sure: Sure, alone: true},
	{near: hosted, names: []alike{noName}, keys: anything, sure: Likely, alone: true},
	{near: hosted, names: []alike{noNames}, keys: proven, sure: Sure},
	{near: hosted, names: []alike{noNames}, keys: weakly, sure: Likely},
	{near: hosted, names: []alike{noNames}, keys: unlike, sure: Question},

	{near: sited, names: append(same, partial...), keys: proven, sure: Likely},
	{near: sited, names: []alike{sameName}, keys: weakly, sure: Likely},
	{near: sited, names: append(unnamed, typing), keys: equal, sure: Likely, alone: true},

	{near: owned, names: same, keys: fitting, sure: Likely},
	{near: owned, names: []alike{sameName}, keys: unlike, sure: Question},
	{near: owned, names: []alike{mailPart, masked, typing, noName}, keys: proven, sure: Likely},

	{near: program, names: same, keys: proven, sure: Sure},
	{near: program, names: same, keys: anything, sure: Likely},
	{near: program, names: imprecise, keys: equal, sure: Likely, alone: true},

	{near: titled, names: same, keys: proven, sure: Sure},
	{near: titled, names: []alike{sameName}, keys: anything, sure: Likely},
	{near: titled, names: imprecise, keys: equal, sure: Likely, alone: true},

	{near: noted, names: []alike{sameName}, keys: proven, sure: Likely},
	{near: renamed, names: []alike{sameName}, keys: proven, sure: Likely},
	{near: noted, names: []alike{sameName}, keys: anything, sure: Question},

	{near: kindred, names: same, keys: proven, sure: Likely},
	{near: namesake, names: same, keys: proven, sure: Question},
}

var nameFacts = map[alike]Why{
	sameName: WhySameName, telephone: WhyTelephone, mailPart: WhyMailPart, masked: WhyMask, typing: WhyTyping,
	oldMail: WhyOldMail, otherMail: WhyOldMail, noName: WhyNoName, noNames: WhyNoNames,
}

var keyFacts = map[keys]Why{
	sameKey: WhySamePassword, pastKey: WhyPast, nearKey: WhyNear, oneKey: WhyOnePassword, otherKey: WhyChanged,
}

// judge returns the pair that two rows are, whatever the user said of them; nil if they can't be one login.
func (f *finder) judge(a, b *row) *pair {
	n, place := f.nearness(a, b)
	if n == elsewhere || n == hosted && !f.oneTenant(a, b) {
		return nil
	}
	names, key := f.naming(a, b), f.keyness(a, b)
	for _, v := range table {
		if v.near != n || !slices.Contains(v.names, names) || !slices.Contains(v.keys, key) {
			continue
		}
		if v.alone && !f.alone(a, b, key) {
			return nil
		}
		facts := []Reason{place, {nameFacts[names], a.shown, b.shown}, {Why: keyFacts[key]}}
		if names == mailPart && mailOf(a.user) != "" || names == masked && !isMask(a.user) {
			facts[1].A, facts[1].B = b.shown, a.shown
		}
		return &pair{a, b, v.sure, facts}
	}
	return nil
}

// naming compares the user names of two rows, with what is known of them from the rest of the list.
func (f *finder) naming(a, b *row) alike {
	names := f.alike(a, b)
	if a.made && a.password == b.password { // nobody has that twice
		if names != different {
			return names
		}
		if f.loose = true; len(f.separate[two(a.user, b.user)]) > 0 {
			return different
		}
		if mailOf(a.user) != "" && mailOf(b.user) != "" && !oneProvider(a.user, b.user) {
			return otherMail
		}
		return different // two people may share it
	}
	switch names {
	case typing, oldMail, mailPart, masked:
		f.loose = true
		k := two(a.user, b.user)
		elsewhere := 0
		for seat := range f.separate[k] {
			if seat != a.seat && seat != b.seat {
				elsewhere++
			}
		}
		if elsewhere > 1 || elsewhere > 0 && (names == typing || names == oldMail) {
			return different // side by side elsewhere: two accounts
		}
		if names == typing && f.users[a.user] > 1 && f.users[b.user] > 1 && !oneBox(a.user, b.user) {
			return different // both are used as they are
		}
	}
	return names
}

// oneTenant reports whether a host's two rows may be of one tenant: not where both paths name one, another one, and the
// passwords differ.
func (f *finder) oneTenant(a, b *row) bool {
	for _, x := range a.spots {
		for _, y := range b.spots {
			if x.domain == y.domain && x.own == y.own && (x.tenant == y.tenant || x.tenant == "" || y.tenant == "") {
				return true
			}
		}
	}
	return a.user == b.user && f.keyness(a, b) >= nearKey && a.name == b.name
}

// alone reports whether, of the rows at a row's place, the other is the only one that it could belong to: among those
// with a user name of their own, or with the same password.
func (f *finder) alone(a, b *row, key keys) bool {
	f.loose = true
	if b.vague && !a.vague {
		a, b = b, a
	}
	if a.seat == "" {
		return true
	}
	for _, c := range f.seats[a.seat].rows {
		if c == a || c == b || c.user == b.user || c.vague {
			continue
		}
		names := f.alike(a, c)
		fits := names != different && names != oldMail && names != typing
		between := f.naming(b, c)
		if !fits || between > oldMail || between != different && f.keyness(b, c) >= pastKey {
			continue // or it is another name of the same one
		}
		if n, _ := f.nearness(a, c); n < sited {
			continue
		}
		if key >= pastKey && f.keyness(a, c) < pastKey {
			continue // the password tells them apart
		}
		return false
	}
	return true
}

// isVague reports whether a user name doesn't say whose it is.
func isVague(user string) bool { return user == "" || isMask(user) }

// pairs judges all rows that have something in common.
func (f *finder) pairs(ctx context.Context) (out []*pair, err error) {
	for i, m := range f.meetings {
		if i%1000 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if p := f.judged(m); p != nil {
			out = append(out, p)
		}
	}
	return out, nil
}

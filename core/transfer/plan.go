package transfer

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Source is a file that was read.
type Source struct {
	Name   string
	Kind   string   // "table", "items" or "exchange"
	Table  *Table   // of a table
	Column []Column // of a table
	Rows   []Row
	Broken []Broken
}

// Group is how a step stands to the vault.
type Group string

// The groups.
const (
	GroupNew    Group = "new"    // the vault has no such login
	GroupTwin   Group = "twin"   // several rows of the files are one new login
	GroupKnown  Group = "known"  // nothing of it is missing in the vault
	GroupMore   Group = "more"   // known, and the files have something to add
	GroupDiffer Group = "differ" // one site and user name, several passwords
)

// Groups are all groups in the order of a plan.
var Groups = []Group{GroupNew, GroupTwin, GroupKnown, GroupMore, GroupDiffer}

// Decision is what is to happen with a step.
type Decision string

// The decisions. A password that isn't current afterwards is in the history, but for
// those that were left out by their user's word.
const (
	DecideAdd   Decision = "add"   // bring it in
	DecideSkip  Decision = "skip"  // leave it out
	DecideNewer Decision = "newer" // of several passwords the one set last becomes current
	DecideBoth  Decision = "both"  // all stay at hand until one was tried
	DecideThis  Decision = "this"  // the picked one becomes current
	DecideApart Decision = "apart" // each becomes a login of its own
)

// Candidate is one of several passwords of a login.
type Candidate struct {
	Password secret.Text
	At       int64 // when it was set, in milliseconds since 1970; 0 if nobody knows
	Vault    bool  // it is the current one in the vault
	Sources  []int // the files that have it, by place
}

// Step is one login or other item of the plan, with the rows that it is made of.
type Step struct {
	Key        string // names the step, also in a plan that is made anew; it has nothing secret in it
	Group      Group
	Type       vault.Type
	Title      string
	Site       string
	Username   string
	Existing   string // id in the vault; empty if it is new
	Archived   bool   // it is in the vault's archive
	Rows       []Row
	Candidates []Candidate // where there are several
	Adds       []string    // names of the fields that the vault's item gets
	Decision   Decision
	Pick       int // of Candidates, for DecideThis

	have     *vault.Entry // of the vault
	nameless []*vault.Entry
}

// Dated reports whether it is known of every candidate when it was set, and of one
// that it was the last.
func (s Step) Dated() bool {
	var last, n int64
	for _, c := range s.Candidates {
		if c.At == 0 {
			return false
		}
		if c.At > last {
			last, n = c.At, 0
		}
		if c.At == last {
			n++
		}
	}
	return n == 1
}

// Plan is what an import would do. Nothing of it is written before [Plan.Apply].
type Plan struct {
	Sources []Source
	Steps   []Step
	Broken  []Broken
}

// Options say what a plan needs to know.
type Options struct {
	// Site returns the domain that stands for a site of several; nil takes each for itself.
	Site func(domain string) string
	// By is the stamp of what the plan adds to what a person wrote.
	By vault.Stamp
}

// NewPlan compares what files bring with what a vault holds. The order of the files,
// and of their rows, makes no difference.
func NewPlan(entries []vault.Entry, sources []Source, o Options) *Plan {
	p := &Plan{Sources: sources}
	if o.Site == nil {
		o.Site = func(d string) string { return d }
	}
	m := newMatcher(entries, o)
	for _, s := range sources {
		for _, r := range s.Rows {
			m.inFiles[r.Entry.ID] = true
		}
	}
	for i, s := range sources {
		for _, r := range s.Rows {
			r.Source = i
			r.notLater(o.By.At)
			m.add(r)
		}
		for _, b := range s.Broken {
			b.Source = i
			p.Broken = append(p.Broken, b)
		}
	}
	for _, c := range m.clusters() {
		p.Steps = append(p.Steps, newStep(c, o.By))
	}
	slices.SortStableFunc(p.Steps, func(a, b Step) int {
		return cmp.Or(cmp.Compare(slices.Index(Groups, a.Group), slices.Index(Groups, b.Group)),
			strings.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title)), strings.Compare(a.Username, b.Username))
	})
	return p
}

// notLater brings moments that are yet to come, of a clock that goes wrong, to now.
func (r *Row) notLater(now int64) {
	if r.Entry.ID != "" || now == 0 {
		return
	}
	for f, reg := range r.Entry.Fields {
		if reg.Stamp.At > now {
			r.Entry.Fields = maps.Clone(r.Entry.Fields)
			reg.Stamp.At = now
			r.Entry.Fields[f] = reg
		}
	}
}

// cluster is rows that are one item, and the vault's item that they are.
type cluster struct {
	key  string
	user string
	have *vault.Entry
	rows []Row
	// The vault's logins without user name that have a password of this one: they are
	// the same login, and are put away once it has what they have.
	nameless []*vault.Entry
}

// matcher finds out which rows are one item: the same site and user name, without
// regard to upper and lower case. A row without user name belongs to the login of its
// site that has its password, if one has.
type matcher struct {
	o       Options
	byID    map[string]*vault.Entry
	byKey   map[string][]*vault.Entry // of the vault
	byPlace map[string][]*vault.Entry // of the vault, whatever the user name
	open    map[string]*cluster
	blank   []Row           // without user name
	inFiles map[string]bool // ids of the rows that have one
}

func newMatcher(entries []vault.Entry, o Options) *matcher {
	m := &matcher{o: o, byID: map[string]*vault.Entry{}, byKey: map[string][]*vault.Entry{}, byPlace: map[string][]*vault.Entry{}, open: map[string]*cluster{}, inFiles: map[string]bool{}}
	for i := range entries {
		e := &entries[i]
		m.byID[e.ID] = e
		if !e.IsItem() {
			continue
		}
		it := vault.View(*e)
		for _, k := range m.keys(*e, it) {
			m.byKey[k] = append(m.byKey[k], e)
		}
		for _, place := range m.places(*e, it) {
			m.byPlace[place] = append(m.byPlace[place], e)
		}
	}
	return m
}

func userOf(e vault.Entry) string {
	return strings.ToLower(strings.TrimSpace(e.Text(vault.FieldUsername)))
}

// places are what an item can be recognised by, beside its user name.
func (m *matcher) places(e vault.Entry, it vault.Item) (out []string) {
	switch it.Type {
	case vault.TypeLogin, vault.TypeApp:
		for _, a := range it.Addresses {
			place := "site " + m.place(a)
			if a.Match != vault.MatchSite {
				place = "host " + site.Host(a.URL)
			}
			if !slices.Contains(out, place) {
				out = append(out, place)
			}
		}
		if app := e.Text(vault.FieldApp); app != "" {
			out = append(out, "app "+strings.ToLower(app))
		}
		if len(out) == 0 {
			out = append(out, "title "+strings.ToLower(it.Title))
		}
	default:
		out = append(out, string(it.Type)+" "+strings.ToLower(it.Title)+" "+strings.ToLower(e.Text(vault.FieldNumber)+e.Text(vault.FieldIBAN)))
	}
	slices.Sort(out)
	return out
}

// place is the site of an address. Of a host without a registrable domain, such as
// a router's number, the port counts too.
func (m *matcher) place(a vault.Address) string {
	host := site.Host(a.URL)
	if _, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil || !strings.Contains(host, ".") || strings.HasSuffix(host, ".localhost") {
		return strings.SplitN(site.Shown(a.URL), "/", 2)[0]
	}
	return m.o.Site(site.Domain(a.URL))
}

func (m *matcher) keys(e vault.Entry, it vault.Item) []string {
	places := m.places(e, it)
	if it.Type == vault.TypeLogin || it.Type == vault.TypeApp {
		for i := range places {
			places[i] += "\x00" + userOf(e)
		}
	}
	return places
}

// add files a row under the item that it is. Rows without user name wait until all
// others are there.
func (m *matcher) add(r Row) {
	if have, ok := m.byID[r.Entry.ID]; ok && r.Entry.ID != "" && !have.Purged() {
		m.file("id "+r.Entry.ID, have, r)
		return
	}
	it := vault.View(r.Entry)
	if r.Entry.ID != "" { // an export tells its items apart itself
		for _, k := range m.keys(r.Entry, it) {
			if have := m.best(m.byKey[k], r); have != nil && !m.inFiles[have.ID] {
				m.file("id "+have.ID, have, r)
				return
			}
		}
		m.file("new "+r.Entry.ID, nil, r)
		return
	}
	login := it.Type == vault.TypeLogin || it.Type == vault.TypeApp
	if login && userOf(r.Entry) == "" {
		m.blank = append(m.blank, r)
		return
	}
	keys := m.keys(r.Entry, it)
	if login {
		for _, a := range it.Addresses { // a login that is kept for this host alone comes first
			key := "host " + site.Host(a.URL) + "\x00" + userOf(r.Entry)
			if have := m.best(m.byKey[key], r); have != nil {
				m.file("id "+have.ID, have, r)
				return
			}
		}
	}
	for _, k := range keys {
		if have := m.best(m.byKey[k], r); have != nil {
			m.file("id "+have.ID, have, r)
			return
		}
	}
	m.file(keys[0], nil, r)
}

// best chooses between several of the vault's logins of one site and user name: one
// that has the password, else one that isn't archived, else the one changed last.
func (m *matcher) best(list []*vault.Entry, r Row) *vault.Entry {
	var best *vault.Entry
	score := func(e *vault.Entry) (n int) {
		if hasPassword(*e, r.Entry.Text(vault.FieldPassword)) {
			n += 2
		}
		if !e.Archived() {
			n++
		}
		return n
	}
	for _, e := range list {
		if best == nil || score(e) > score(best) || score(e) == score(best) && cmp.Or(e.Modified().Compare(best.Modified()), strings.Compare(e.ID, best.ID)) > 0 {
			best = e
		}
	}
	return best
}

// hasPassword reports whether an entry has a password, now or in its past.
func hasPassword(e vault.Entry, password string) bool {
	if password == "" || e.Text(vault.FieldPassword) == password {
		return password != ""
	}
	value := e.Fields[vault.FieldPassword].Value
	if text, err := vault.New("", e.Type, vault.Stamp{At: 1}, vault.Changes{vault.FieldPassword: password}); err == nil {
		value = text.Fields[vault.FieldPassword].Value
	}
	return slices.ContainsFunc(e.Past, func(p vault.Past) bool { return p.Field == vault.FieldPassword && p.Value == value })
}

func (m *matcher) file(key string, have *vault.Entry, r Row) {
	c := m.open[key]
	if c == nil {
		c = &cluster{key: key, have: have, user: userOf(r.Entry)}
		m.open[key] = c
	}
	c.rows = append(c.rows, r)
}

// clusters settles what has no user name, and returns everything in a fixed order.
func (m *matcher) clusters() []*cluster {
	m.adopt()
	m.absorb()
	m.settleBlank()
	out := slices.Collect(maps.Values(m.open))
	slices.SortFunc(out, func(a, b *cluster) int { return strings.Compare(a.key, b.key) })
	for _, c := range out {
		slices.SortStableFunc(c.rows, func(a, b Row) int { return cmp.Or(cmp.Compare(a.Source, b.Source), cmp.Compare(a.Line, b.Line)) })
	}
	return out
}

// adopt gives a new login's user name to the vault's login of the same site that has
// its password and no user name.
func (m *matcher) adopt() {
	for _, key := range slices.Sorted(maps.Keys(m.open)) {
		c := m.open[key]
		if c.have != nil || c.user == "" {
			continue
		}
		first := c.rows[0].Entry
		for _, place := range m.places(first, vault.View(first)) {
			for _, e := range m.byKey[place+"\x00"] {
				if c.have == nil && m.open["id "+e.ID] == nil && slices.ContainsFunc(c.rows, func(r Row) bool { return hasPassword(*e, r.Entry.Text(vault.FieldPassword)) }) {
					delete(m.open, key)
					c.have, c.key = e, "id "+e.ID
					m.open[c.key] = c
				}
			}
		}
	}
}

// absorb finds the vault's logins without user name that a login with one turns out to
// be: of the same site, and with a password that a file says is its.
func (m *matcher) absorb() {
	taken := map[string]bool{}
	for _, key := range slices.Sorted(maps.Keys(m.open)) {
		c := m.open[key]
		if c.user == "" {
			continue
		}
		for _, r := range c.rows {
			for _, place := range m.places(r.Entry, vault.View(r.Entry)) {
				for _, e := range m.byKey[place+"\x00"] {
					p := r.Entry.Text(vault.FieldPassword)
					if p != "" && e != c.have && !taken[e.ID] && !e.Archived() && e.Text(vault.FieldPassword) == p && m.open["id "+e.ID] == nil {
						c.nameless, taken[e.ID] = append(c.nameless, e), true
					}
				}
			}
		}
	}
}

// settleBlank finds the logins that rows without user name belong to: those of the
// same site that have the same password. Two of them with different passwords are two
// logins, because nothing says that they are one.
func (m *matcher) settleBlank() {
	withName := map[string]*cluster{} // by place and password: the first by user name
	for _, key := range slices.SortedFunc(maps.Keys(m.open), func(a, b string) int {
		return cmp.Or(strings.Compare(m.open[a].user, m.open[b].user), strings.Compare(a, b))
	}) {
		for _, r := range m.open[key].rows {
			for _, place := range m.places(r.Entry, vault.View(r.Entry)) {
				if at := place + "\x00" + r.Entry.Text(vault.FieldPassword); withName[at] == nil && m.open[key].user != "" {
					withName[at] = m.open[key]
				}
			}
		}
	}
	for _, r := range m.blank {
		password := r.Entry.Text(vault.FieldPassword)
		place := m.places(r.Entry, vault.View(r.Entry))[0]
		if c := withName[place+"\x00"+password]; c != nil && password != "" {
			c.rows = append(c.rows, r)
		} else if have := m.withPassword(place, password); have != nil {
			m.file("id "+have.ID, have, r)
		} else {
			m.file(place+"\x00\x00"+password, nil, r)
		}
	}
}

// withPassword returns the vault's login at a place that has a password: the first by
// user name. Without a password it is one that has neither.
func (m *matcher) withPassword(place, password string) (have *vault.Entry) {
	for _, e := range m.byPlace[place] {
		fits := hasPassword(*e, password)
		if password == "" {
			fits = userOf(*e) == "" && e.Text(vault.FieldPassword) == ""
		}
		away := func(e *vault.Entry) int {
			if e.Archived() {
				return 1
			}
			return 0
		}
		if fits && (have == nil || cmp.Or(away(e)-away(have), strings.Compare(userOf(*e), userOf(*have)), strings.Compare(e.ID, have.ID)) < 0) {
			have = e
		}
	}
	return have
}

// newStep says how a cluster stands to the vault.
func newStep(c *cluster, by vault.Stamp) Step {
	s := Step{Key: fmt.Sprintf("row %d %d", c.rows[0].Source, c.rows[0].Line), Rows: c.rows, Decision: DecideAdd, nameless: c.nameless}
	merged := joinRows(c, by)
	if c.have != nil {
		s.Key, s.Existing, s.Archived, s.have = "id "+c.have.ID, c.have.ID, c.have.Archived(), c.have
	}
	it := vault.View(merged)
	s.Type, s.Title, s.Username = it.Type, it.Title, it.Username
	if len(it.Addresses) > 0 {
		s.Site = site.Domain(it.Addresses[0].URL)
	}
	s.Candidates = candidates(c)
	switch {
	case c.have != nil && len(c.nameless) == 0 && reflect.DeepEqual(merged, *c.have):
		s.Group, s.Decision, s.Candidates = GroupKnown, DecideSkip, nil
	case len(s.Candidates) > 1:
		s.Group, s.Decision = GroupDiffer, DecideBoth
		if s.Dated() {
			s.Decision = DecideNewer
		}
	case c.have != nil:
		s.Group, s.Adds, s.Candidates = GroupMore, added(*c.have, merged), nil
	case len(c.rows) > 1:
		s.Group, s.Candidates = GroupTwin, nil
	default:
		s.Group, s.Candidates = GroupNew, nil
	}
	return s
}

// candidates are the passwords of a cluster: the vault's first, then by text. One that
// the vault's history has, and that isn't newer than the current one, is none.
func candidates(c *cluster) (out []Candidate) {
	add := func(password string, at int64, source int) {
		if password == "" {
			return
		}
		if at <= givenByFile {
			at = 0
		}
		for i := range out {
			if o := &out[i]; o.Password.Reveal() == password {
				if o.At = max(o.At, at); source >= 0 && !slices.Contains(o.Sources, source) {
					o.Sources = append(o.Sources, source)
				}
				return
			}
		}
		n := Candidate{Password: secret.New(password), At: at, Vault: source < 0}
		if source >= 0 {
			n.Sources = []int{source}
		}
		out = append(out, n)
	}
	if c.have != nil {
		add(c.have.Text(vault.FieldPassword), c.have.Fields[vault.FieldPassword].Stamp.At, -1)
	}
	n := len(out)
	for _, r := range c.rows {
		p := r.Entry.Text(vault.FieldPassword)
		if c.have != nil && !bringsPassword(*c.have, r.Entry) && (n == 0 || out[0].Password.Reveal() != p) {
			continue
		}
		add(p, r.Entry.Fields[vault.FieldPassword].Stamp.At, r.Source)
	}
	slices.SortFunc(out[n:], func(a, b Candidate) int { return strings.Compare(a.Password.Reveal(), b.Password.Reveal()) })
	return out
}

// added names the fields in which two versions of an item differ.
func added(before, after vault.Entry) (out []string) {
	for _, f := range slices.Sorted(maps.Keys(after.Fields)) {
		if before.Fields[f].Value == after.Fields[f].Value {
			continue
		}
		label := vault.Label(after.Kind(), f)
		for _, o := range after.Owns() {
			if vault.OwnField(o.ID) == f {
				label = o.Label
			}
		}
		if !slices.Contains(out, label) {
			out = append(out, label)
		}
	}
	if len(out) == 0 {
		out = []string{"Earlier values"}
	}
	return out
}

// Decide sets what is to happen with every step of a group that it can happen with.
func (p *Plan) Decide(g Group, d Decision) {
	for i := range p.Steps {
		if p.Steps[i].Group == g {
			p.DecideOne(i, d, 0)
		}
	}
}

// DecideOne sets what is to happen with one step. Where it can't happen, such as a
// newer password where nobody knows the dates, the step stays as it was; ok says so.
func (p *Plan) DecideOne(i int, d Decision, pick int) (ok bool) {
	if i < 0 || i >= len(p.Steps) {
		return false
	}
	s := &p.Steps[i]
	switch d {
	case DecideAdd:
		ok = s.Group != GroupKnown && s.Group != GroupDiffer
	case DecideSkip:
		ok = true
	case DecideNewer:
		ok = s.Group == GroupDiffer && s.Dated()
	case DecideBoth, DecideApart:
		ok = s.Group == GroupDiffer
	case DecideThis:
		ok = s.Group == GroupDiffer && pick >= 0 && pick < len(s.Candidates)
	}
	if ok {
		s.Decision, s.Pick = d, pick
	}
	return ok
}

// Adopt takes over the decisions of an earlier plan for steps that are the same still.
func (p *Plan) Adopt(old *Plan) {
	was := make(map[string]Step, len(old.Steps))
	for _, s := range old.Steps {
		was[s.Key] = s
	}
	for i, s := range p.Steps {
		o, ok := was[s.Key]
		if !ok || o.Group != s.Group && o.Decision != DecideSkip {
			continue
		}
		pick := slices.IndexFunc(s.Candidates, func(c Candidate) bool {
			return o.Pick < len(o.Candidates) && c.Password == o.Candidates[o.Pick].Password
		})
		p.DecideOne(i, o.Decision, pick)
	}
}

// Count is how many steps and rows a group has, and how many of its steps are to
// be brought in.
type Count struct{ Steps, Rows, In, Undecided int }

// Count counts a group.
func (p *Plan) Count(g Group) (c Count) {
	for _, s := range p.Steps {
		if s.Group != g {
			continue
		}
		c.Steps++
		c.Rows += len(s.Rows)
		if s.Decision != DecideSkip {
			c.In++
		}
		if s.Decision == DecideBoth {
			c.Undecided++
		}
	}
	return c
}

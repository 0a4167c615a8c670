package transfer

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// cluster is rows that are one item, and the vault's item that they are.
type cluster struct {
	key  string
	user string
	have *vault.Entry
	rows []Row
	// The vault's logins without user name that have a password of this one: they are
	// the same login, and are archived once it has what they have.
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
	m := &matcher{
		o:       o,
		byID:    map[string]*vault.Entry{},
		byKey:   map[string][]*vault.Entry{},
		byPlace: map[string][]*vault.Entry{},
		open:    map[string]*cluster{},
		inFiles: map[string]bool{},
	}
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

// places are what an item can be recognised by, beside the user name.
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
		out = append(
			out,
			string(
				it.Type,
			)+" "+strings.ToLower(
				it.Title,
			)+" "+strings.ToLower(
				e.Text(vault.FieldNumber)+e.Text(vault.FieldIBAN),
			),
		)
	}
	slices.Sort(out)
	return out
}

// place is the site of an address. Of a host without a registrable domain, such as
// a router's number, the port counts too.
func (m *matcher) place(a vault.Address) string {
	host := site.Host(a.URL)
	if _, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil || !strings.Contains(host, ".") ||
		strings.HasSuffix(host, ".localhost") {
		return strings.SplitN(site.Shown(a.URL), "/", 2)[0]
	}
	return m.o.Site(site.Domain(a.URL))
}

func (m *matcher) keys(e vault.Entry, it vault.Item) []string {
	places := m.places(e, it)
	if it.Type.IsAccount() {
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
	login := it.Type.IsAccount()
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

// sharesHost reports whether two items have a host in common.
func sharesHost(a, b vault.Entry) bool {
	return slices.ContainsFunc(vault.View(a).Addresses, func(x vault.Address) bool {
		return slices.ContainsFunc(vault.View(b).Addresses, func(y vault.Address) bool {
			return site.Host(x.URL) == site.Host(y.URL)
		})
	})
}

// best chooses between several of the vault's logins of one site and user name: one
// that has the password, else one that isn't archived, else the one changed last.
func (m *matcher) best(list []*vault.Entry, r Row) *vault.Entry {
	var best *vault.Entry
	score := func(e *vault.Entry) (n int) {
		if hasPassword(*e, r.Entry.Text(vault.FieldPassword)) {
			n += 4
		}
		if sharesHost(*e, r.Entry) {
			n += 2
		}
		if !e.Archived() {
			n++
		}
		return n
	}
	for _, e := range list {
		if best == nil || score(e) > score(best) ||
			score(e) == score(best) &&
				cmp.Or(e.Modified().Compare(best.Modified()), strings.Compare(e.ID, best.ID)) > 0 {
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
	if text, err := vault.New("", e.Type, vault.Stamp{At: 1},
		vault.Changes{vault.FieldPassword: password}); err == nil {
		value = text.Fields[vault.FieldPassword].Value
	}
	return slices.ContainsFunc(
		e.Past,
		func(p vault.Past) bool { return p.Field == vault.FieldPassword && p.Value == value },
	)
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
	m.part()
	out := slices.Collect(maps.Values(m.open))
	slices.SortFunc(out, func(a, b *cluster) int { return strings.Compare(a.key, b.key) })
	for _, c := range out {
		slices.SortStableFunc(
			c.rows,
			func(a, b Row) int { return cmp.Or(cmp.Compare(a.Source, b.Source), cmp.Compare(a.Line, b.Line)) },
		)
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
				if c.have == nil && m.open["id "+e.ID] == nil &&
					slices.ContainsFunc(
						c.rows,
						func(r Row) bool { return hasPassword(*e, r.Entry.Text(vault.FieldPassword)) },
					) {
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
					if p != "" && e != c.have && !taken[e.ID] && !e.Archived() && e.Text(vault.FieldPassword) == p &&
						m.open["id "+e.ID] == nil {
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
				if at := place + "\x00" + r.Entry.Text(vault.FieldPassword); withName[at] == nil &&
					m.open[key].user != "" {
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

// part splits a cluster that is several logins of one site and user name: an employer's pay, mail and holidays have
// hosts, titles and passwords of their own. Rows that share one of the three are one login.
func (m *matcher) part() {
	for _, key := range slices.Sorted(maps.Keys(m.open)) {
		c := m.open[key]
		if c.user == "" || len(c.rows) < 2 && c.have == nil {
			continue
		}
		parts := partRows(c)
		if len(parts) < 2 {
			continue
		}
		c.rows = parts[0]
		for i, rows := range parts[1:] {
			k := fmt.Sprintf("%s\x00part %d", key, i+1)
			m.open[k] = &cluster{key: k, user: c.user, rows: rows}
		}
		if len(c.rows) == 0 {
			delete(m.open, key)
		}
	}
}

// marks are what two rows of one site and user name must share to be one login. A row that lacks a title or a password
// is never one by itself.
func marks(r Row) (out []string, whole bool) {
	it := vault.View(r.Entry)
	title, password := strings.ToLower(it.Title), r.Entry.Text(vault.FieldPassword)
	for _, a := range it.Addresses {
		out = append(out, "host "+strings.TrimPrefix(site.Host(a.URL), "www."))
	}
	if r.Named {
		out = append(out, "title "+title)
	}
	if password != "" {
		out = append(out, "password "+password)
	}
	return out, r.Named && password != "" && len(it.Addresses) > 0
}

// partRows splits a cluster's rows into logins. The first part is the vault's item's, and may be empty where there is
// one; without one it is the first by its rows.
func partRows(c *cluster) [][]Row {
	group := map[string]string{} // of marks: each names another one of its group, or itself
	var find func(string) string
	find = func(k string) string {
		up, ok := group[k]
		if !ok {
			group[k] = k
			return k
		}
		if up != k {
			up = find(up)
			group[k] = up
		}
		return up
	}
	join := func(list []string) {
		for _, k := range list[min(1, len(list)):] {
			a, b := find(list[0]), find(k)
			group[max(a, b)] = min(a, b)
		}
	}
	const vaults = "" // before every mark
	if c.have != nil {
		list, _ := marks(Row{Entry: *c.have, Named: true})
		for _, p := range c.have.Past {
			if p.Field == vault.FieldPassword {
				list = append(list, "password "+vault.Plain(p.Value))
			}
		}
		for _, a := range vault.View(*c.have).Aliases {
			list = append(list, "title "+strings.ToLower(a))
		}
		join(append([]string{vaults}, list...))
	}
	for _, r := range c.rows {
		if list, whole := marks(r); whole {
			join(list)
		}
	}
	parts := map[string][]Row{}
	if c.have != nil {
		parts[find(vaults)] = nil
	}
	var rest []Row
	for _, r := range c.rows {
		if list, whole := marks(r); whole {
			parts[find(list[0])] = append(parts[find(list[0])], r)
		} else {
			rest = append(rest, r)
		}
	}
	names := slices.Sorted(maps.Keys(parts))
	if len(names) == 0 {
		return [][]Row{rest}
	}
	for _, r := range rest {
		list, _ := marks(r)
		to := names[0]
		for _, k := range slices.Backward(list) { // a password tells more than a host
			if _, ok := group[k]; ok {
				to = find(k)
				break
			}
		}
		parts[to] = append(parts[to], r)
	}
	var out [][]Row
	for _, n := range names {
		out = append(out, parts[n])
	}
	return out
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
		if fits &&
			(have == nil || cmp.Or(away(e)-away(have), strings.Compare(userOf(*e), userOf(*have)),
				strings.Compare(e.ID, have.ID)) < 0) {
			have = e
		}
	}
	return have
}

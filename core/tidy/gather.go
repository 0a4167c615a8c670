package tidy

import (
	"cmp"
	"slices"
	"strings"
)

// rank is the place of a sureness, the surest first.
func rank(s Sureness) int {
	switch s {
	case Sure:
		return 0
	case Likely:
		return 1
	}
	return 2
}

// gather makes proposals of pairs, the surest first. Rows that must stay apart are in no proposal together, whatever
// stands between them.
func (f *finder) gather(pairs []*pair) []Proposal {
	// The place of a pair in one number: how sure it is, and which rows it has.
	place := make([]int, len(pairs))
	order := make([]int, len(pairs))
	for i, p := range pairs {
		place[i], order[i] = (rank(p.sure)*len(f.rows)+p.a.at)*len(f.rows)+p.b.at, i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(place[a], place[b]) })
	groups := make([]*group, len(f.rows))
	of := func(r *row) *group {
		if groups[r.at] == nil {
			g := &group{sure: Sure}
			g.rows, g.pairs = append(g.few[:0], r), g.fewPairs[:0]
			groups[r.at] = g
		}
		return groups[r.at]
	}
	for _, i := range order {
		p := pairs[i]
		x, y := of(p.a), of(p.b)
		if x == y {
			x.note(p)
			continue
		}
		if p.sure == Question && len(x.rows)+len(y.rows) > 2 || f.parted(x, y) {
			continue
		}
		for _, r := range y.rows {
			groups[r.at] = x
		}
		x.rows = append(x.rows, y.rows...)
		x.pairs = append(x.pairs, y.pairs...)
		if rank(y.sure) > rank(x.sure) {
			x.sure = y.sure
		}
		if rank(p.sure) > rank(x.sure) {
			x.sure = p.sure
		}
		x.note(p)
	}
	var out [3][]Proposal // by how sure they are
	for _, r := range f.rows {
		g := groups[r.at]
		if g == nil || g.done || len(g.rows) < 2 {
			r.last = nil
			continue
		}
		g.done = true
		out[rank(g.sure)] = append(out[rank(g.sure)], f.propose(g))
	}
	return slices.Concat(out[:]...)
}

// group is rows that would be one login.
type group struct {
	rows  []*row
	pairs []*pair
	sure  Sureness
	done  bool

	ids     []string // of the rows, in the order of the list
	reasons []Reason // of all pairs, each once

	few      [2]*row // room for most groups
	fewPairs [1]*pair
}

func (g *group) note(p *pair) { g.pairs = append(g.pairs, p) }

// parted reports whether two groups hold rows that must stay apart.
func (f *finder) parted(x, y *group) bool {
	for _, a := range x.rows {
		for _, b := range y.rows {
			if f.o.Apart != nil && f.o.Apart(a.id, b.id) {
				return true
			}
			if a.user == "" || b.user == "" {
				continue
			}
			if f.naming(a, b) == different && !f.bridged(a, b, x, y) {
				return true
			}
			if n, _ := f.nearness(a, b); n == systems && (a.name != b.name || f.keyness(a, b) == otherKey) {
				return true
			}
		}
	}
	return false
}

// bridged reports whether a third row's user name is nearer to two others' than they are to each other: two typing
// errors of one name, or an error and an e-mail's first part.
func (f *finder) bridged(a, b *row, groups ...*group) bool {
	for _, g := range groups {
		for _, c := range g.rows {
			if c == a || c == b || c.vague {
				continue
			}
			x, y := f.naming(a, c), f.naming(b, c)
			if x != different && y != different && x != oldMail && y != oldMail {
				return true
			}
		}
	}
	return false
}

// propose says what would become of a group.
func (f *finder) propose(g *group) Proposal {
	slices.SortFunc(g.rows, func(a, b *row) int { return cmp.Compare(a.at, b.at) })
	first := g.rows[0]
	if last := first.last; last != nil && slices.Equal(last.rows, g.rows) && slices.Equal(last.pairs, g.pairs) {
		g.ids, g.reasons = last.ids, last.reasons
	} else {
		for _, r := range g.rows {
			g.ids = append(g.ids, r.id)
		}
		for _, x := range g.pairs {
			for _, r := range x.reasons {
				if !slices.Contains(g.reasons, r) {
					g.reasons = append(g.reasons, r)
				}
			}
		}
	}
	first.last = g
	return Proposal{IDs: g.ids, Sure: g.sure, Reasons: g.reasons, Survives: f.survives(g.rows)}
}

// survives chooses what stays: the fullest user name, the title that people read, the page where one signs in, and the
// password that use or dates prove.
func (f *finder) survives(rows []*row) (s Survives) {
	best := func(better func(a, b *row) int) *row { return slices.MaxFunc(rows, better) }
	// how often a user name is used, at other sites and here
	uses := func(user string) int {
		n := f.users[user]
		for _, r := range rows {
			if r.user == user {
				n++
			}
		}
		return n
	}
	s.Username = best(func(a, b *row) int {
		return cmp.Or(
			compareBool(!a.vague, !b.vague),
			compareBool(mailOf(a.user) != "", mailOf(b.user) != ""),
			cmp.Compare(uses(a.user), uses(b.user)),
			compareBool(strings.TrimSpace(a.shown) == a.shown, strings.TrimSpace(b.shown) == b.shown),
			cmp.Compare(f.used(a), f.used(b)), cmp.Compare(a.changed, b.changed), cmp.Compare(b.at, a.at),
		)
	}).shown
	s.Title = best(func(a, b *row) int {
		return cmp.Or(
			compareBool(a.readable, b.readable), cmp.Compare(b.at, a.at),
		)
	}).title
	s.Address = f.address(rows)
	if r := best(func(a, b *row) int {
		return cmp.Or(
			compareBool(a.password != "", b.password != ""), compareBool(!f.refused(a), !f.refused(b)),
			compareBool(a.past[b.password], b.past[a.password]),
			cmp.Compare(f.used(a), f.used(b)), cmp.Compare(a.changed, b.changed), cmp.Compare(b.at, a.at),
		)
	}); r.password != "" {
		s.PasswordOf = r.id
	}
	return s
}

func (f *finder) refused(r *row) bool { return f.o.Refused != nil && f.o.Refused(r.id) }

func (f *finder) used(r *row) int64 {
	if f.o.Used == nil {
		return 0
	}
	return f.o.Used(r.id)
}

// readable reports whether a title is more than the site's address.
func readable(r *row) bool {
	if r.title == "" || strings.Contains(r.title, "xn--") || strings.Contains(r.title, "://") {
		return false
	}
	for _, s := range r.spots {
		if strings.EqualFold(r.title, s.host) || strings.EqualFold(r.title, s.domain) {
			return false
		}
	}
	return true
}

// address is the one to sign in at: over https, at a page for signing in rather than at the front page.
func (f *finder) address(rows []*row) string {
	best, most := "", -1
	for _, r := range rows {
		for _, s := range r.spots {
			n := 0
			if strings.HasPrefix(s.url, "https://") {
				n += 4
			}
			path := strings.ToLower(strings.TrimPrefix(s.url[strings.Index(s.url, "://")+3:], s.host))
			for _, w := range []string{"login", "signin", "sign-in", "logon", "auth", "anmelden", "connexion"} {
				if strings.Contains(path, w) || strings.HasPrefix(s.host, w+".") {
					n += 2
					break
				}
			}
			if n > most {
				best, most = s.url, n
			}
		}
	}
	return best
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

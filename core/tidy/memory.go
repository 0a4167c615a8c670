package tidy

import (
	"context"
	"slices"

	"redlocket/core/vault"
)

// Memory is what a search leaves for the next one: what was read of each entry, which rows meet, and what was found of
// two of them. After an edit only what the edit may have changed is looked at again. Its zero value is ready. It isn't
// safe for concurrent use.
type Memory struct {
	read      vault.Readings[*row]
	relations map[[2]*row]*relation
	most      int // how many relations there were when those of rows that had gone were forgotten
	round     int
	index     *index // nil before the first search, and after one that was stopped
}

// relation says how two rows are related by themselves, as far as that was asked.
type relation struct {
	names        alike
	keys         keys
	named, keyed bool

	judged  bool
	firm    bool // the judgement rests on the two rows alone
	flipped bool // the second of the two comes first in the list
	pair    *pair
}

// index has the rows of one search by what they have in common.
type index struct {
	rows     []*row
	blocks   map[string][]*row
	seats    map[string]*seat
	meetings []meeting

	places   map[string]int                // by password: at how many sites it is
	users    map[string]int                // by folded user name: at how many sites it signs in
	separate map[[2]string]map[string]bool // by two user names: sites where both sign in, each with its own password
}

// seat is where rows sign in, and what it says of their names and passwords.
type seat struct {
	rows             []*row
	passwords, users []string // each once
	separate         [][2]string
}

// meeting is two rows that have something in common, the one with the smaller id first.
type meeting struct {
	a, b *row
	*relation
}

func newIndex() *index {
	return &index{
		blocks: map[string][]*row{}, seats: map[string]*seat{}, places: map[string]int{}, users: map[string]int{},
		separate: map[[2]string]map[string]bool{},
	}
}

// Find is [Find], for entries most of which may be those of the search before.
func (m *Memory) Find(ctx context.Context, entries []vault.Entry, o Options) ([]Proposal, error) {
	if o.Site == nil {
		o.Site = func(domain string) string { return domain }
	}
	if m.relations == nil {
		m.relations = map[[2]*row]*relation{}
	}
	f := &finder{o: o, relations: m.relations}
	if err := m.take(ctx, f, entries); err != nil {
		m.index = nil // it may be half made
		return nil, err
	}
	pairs, err := f.pairs(ctx)
	if err != nil {
		return nil, err
	}
	m.forget()
	return f.gather(pairs), nil
}

// take brings the index up to the entries, for f.
func (m *Memory) take(ctx context.Context, f *finder, entries []vault.Entry) error {
	rows := m.rows(entries)
	moved := func(r *row) bool { return r.in && !slices.Equal(r.sites, f.sitesOf(r)) }
	if m.index != nil && slices.ContainsFunc(rows, moved) {
		m.index = nil // the directory of sites is another one
		clear(m.relations)
	}
	if m.index == nil {
		m.index = newIndex()
		for _, r := range rows {
			r.in = false
		}
	}
	f.index = m.index
	touched := map[string]bool{}
	m.leave(touched)
	m.index.rows = rows
	for _, r := range rows {
		if r.in {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		f.enter(r)
		touched[r.seat] = true
	}
	for where := range touched {
		f.learn(where)
	}
	return nil
}

// rows are the entries that are logins, as they were read.
func (m *Memory) rows(entries []vault.Entry) (out []*row) {
	m.round++
	out = make([]*row, 0, len(entries))
	for _, r := range m.read.Read(entries, readRow) {
		if r != nil {
			r.at, r.round = len(out), m.round
			out = append(out, r)
		}
	}
	return out
}

// leave takes the rows out of the index that aren't there any more.
func (m *Memory) leave(touched map[string]bool) {
	gone := func(r *row) bool { return r.round != m.round }
	x, some := m.index, false
	for _, r := range x.rows {
		if !gone(r) {
			continue
		}
		some = true
		for _, key := range r.blocks {
			if x.blocks[key] = slices.DeleteFunc(x.blocks[key], gone); len(x.blocks[key]) == 0 {
				delete(x.blocks, key)
			}
		}
		if s := x.seats[r.seat]; s != nil {
			s.rows = slices.DeleteFunc(s.rows, gone)
		}
		touched[r.seat] = true
	}
	if some {
		x.meetings = slices.DeleteFunc(x.meetings, func(m meeting) bool { return gone(m.a) || gone(m.b) })
	}
}

// forget drops the relations of rows that aren't there any more, once these are many.
func (m *Memory) forget() {
	if len(m.relations) < 2*m.most+1000 {
		return
	}
	for two := range m.relations {
		if two[0].round != m.round || two[1].round != m.round {
			delete(m.relations, two)
		}
	}
	m.most = len(m.relations)
}

// sitesOf are the sites of a row's domains, in their order.
func (f *finder) sitesOf(r *row) []string {
	f.room = f.room[:0]
	for _, d := range r.domains {
		f.room = append(f.room, f.o.Site(d))
	}
	return f.room
}

// enter puts a row into the index, and has it meet those that it has something in common with.
func (f *finder) enter(r *row) {
	r.in, r.sites, r.seat = true, slices.Clone(f.sitesOf(r)), f.seatOf(r)
	r.blocks = r.blocks[:0]
	for _, s := range r.sites {
		r.blocks = append(r.blocks, "site "+s)
	}
	r.blocks = append(r.blocks, r.meets...)
	slices.Sort(r.blocks)
	r.blocks = slices.Compact(r.blocks)
	met := map[*row]bool{}
	for _, key := range r.blocks {
		for _, other := range f.blocks[key] {
			if !met[other] {
				met[other] = true
				a, b := r, other
				if a.id > b.id {
					a, b = b, a
				}
				f.meetings = append(f.meetings, meeting{a, b, f.relation(a, b)})
			}
		}
		f.blocks[key] = append(f.blocks[key], r)
	}
	if r.seat == "" {
		return
	}
	s := f.seats[r.seat]
	if s == nil {
		s = &seat{}
		f.seats[r.seat] = s
	}
	s.rows = append(s.rows, r)
}

// seatOf is where a row signs in, in one word; empty if that isn't known.
func (f *finder) seatOf(r *row) string {
	if len(r.spots) > 0 {
		return f.o.Site(r.spots[0].domain)
	}
	return r.app
}

// learn finds out anew which names and passwords go together at a seat.
func (f *finder) learn(where string) {
	s := f.seats[where]
	if s == nil {
		return
	}
	add(f.places, s.passwords, -1)
	add(f.users, s.users, -1)
	for _, k := range s.separate {
		if delete(f.separate[k], where); len(f.separate[k]) == 0 {
			delete(f.separate, k)
		}
	}
	if len(s.rows) == 0 {
		delete(f.seats, where)
		return
	}
	s.passwords = distinct(s.passwords[:0], s.rows, func(r *row) string { return r.password })
	s.users = distinct(s.users[:0], s.rows, func(r *row) string { return r.user })
	s.separate = s.separate[:0]
	add(f.places, s.passwords, 1)
	add(f.users, s.users, 1)
	var apart [][2]string
	var shared map[[2]string]bool // names with a password in common: another one of either was changed; mostly none
	for i, a := range s.rows {
		for _, b := range s.rows[:i] {
			if a.user == "" || b.user == "" || a.user == b.user {
				continue
			}
			switch key := f.keyness(a, b); {
			case key == otherKey:
				apart = append(apart, two(a.user, b.user))
			case key >= pastKey:
				if shared == nil {
					shared = map[[2]string]bool{}
				}
				shared[two(a.user, b.user)] = true
			}
		}
	}
	for _, k := range apart {
		if shared[k] {
			continue
		}
		if f.separate[k] == nil {
			f.separate[k] = map[string]bool{}
		}
		f.separate[k][where] = true
		s.separate = append(s.separate, k)
	}
}

func add(to map[string]int, list []string, n int) {
	for _, s := range list {
		if to[s] += n; to[s] == 0 {
			delete(to, s)
		}
	}
}

// distinct appends what rows have of one thing, each once, but not what is empty.
func distinct(out []string, rows []*row, thing func(*row) string) []string {
	for _, r := range rows {
		out = append(out, thing(r))
	}
	if len(out) > 1 {
		slices.Sort(out)
		out = slices.Compact(out)
	}
	if out[0] == "" {
		out = out[1:]
	}
	return out
}

// judged returns the pair that a meeting is, if it is one: the one of before, where nothing that it rests on can have
// changed.
func (f *finder) judged(m meeting) *pair {
	a, b := m.a, m.b
	flipped := a.at > b.at
	if flipped {
		a, b = b, a
	}
	if !m.relation.judged || !m.firm || m.flipped != flipped {
		f.loose = false
		m.pair, m.flipped = f.judge(a, b), flipped
		m.relation.judged, m.firm = true, !f.loose
	}
	if m.pair == nil || f.o.Apart != nil && f.o.Apart(a.id, b.id) {
		return nil
	}
	if m.pair.sure == Sure && f.o.Doubted != nil && f.o.Doubted(a.id, b.id) {
		doubted := *m.pair
		doubted.sure = Likely
		return &doubted
	}
	return m.pair
}

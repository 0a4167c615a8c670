package audit

import (
	"cmp"
	"context"
	"hash/maphash"
	"slices"
	"strings"

	"redlocket/core/secret"
)

// nearIndex knows the passwords of a survey, and which of them are nearly the same: those that one of the ways of
// [Near] makes equal meet in a bucket, and are compared there.
type nearIndex struct {
	known   map[secret.Text]*nearPassword
	buckets map[uint64][]*nearPassword
	round   int
}

// nearPassword is one password, with the names of the sites that it is for.
type nearPassword struct {
	text   secret.Text
	names  []string
	hashes []uint64    // of its buckets
	near   []neighbour // in no order until somebody asks for them
	round  int         // in which it was there last
	key    *key        // in the survey that is being made
}

type neighbour struct {
	of  *nearPassword
	how Nearness
}

// joinNear finds the passwords that are nearly the same. Those that were there before, for the same sites, aren't
// compared again.
func (m *Memory) joinNear(ctx context.Context, keys []key) error {
	x := &m.near
	if x.known == nil {
		x.known = make(map[secret.Text]*nearPassword, len(keys))
		x.buckets = make(map[uint64][]*nearPassword, 8*len(keys))
	}
	x.round++
	var fresh []*nearPassword
	kept := 0 // of those that were there before
	was := len(x.known)
	for i := range keys {
		k := &keys[i]
		p := x.known[k.text]
		if p == nil || !k.isFor(p.names) {
			if p != nil {
				x.forget(p)
				was--
			}
			p = &nearPassword{text: k.text, names: k.names()}
			fresh = append(fresh, p)
		} else {
			kept++
		}
		p.round, p.key, k.known = x.round, k, p
	}
	if kept < was {
		for _, p := range x.known {
			if p.round != x.round {
				x.forget(p)
			}
		}
	}
	var forms [][]byte
	for i, p := range fresh {
		if i%256 == 0 && ctx.Err() != nil {
			*x = nearIndex{} // it is incomplete: begin again the next time
			return ctx.Err()
		}
		forms = nearForms(forms[:0], p)
		x.add(p, forms)
	}
	n := 0
	for i := range keys {
		n += len(keys[i].known.near)
	}
	all := make([]nearKey, 0, n) // in one piece of memory
	for i := range keys {
		p := keys[i].known
		if len(p.near) == 0 {
			continue
		}
		// They are mostly in order still, as the survey before left them.
		if len(p.near) > 1 && !slices.IsSortedFunc(p.near, byRank) {
			slices.SortFunc(p.near, byRank)
		}
		from := len(all)
		for _, n := range p.near {
			all = append(all, nearKey{n.of.key, n.how})
		}
		keys[i].near = all[from:len(all):len(all)]
	}
	for i := range keys {
		keys[i].known.key = nil // so that an old survey can be freed
	}
	return nil
}

// byRank orders those that are near to one: the nearest first, then by where they are used.
func byRank(a, b neighbour) int {
	if c := cmp.Compare(nearRank[a.how], nearRank[b.how]); c != 0 {
		return c
	}
	return strings.Compare(a.of.key.logins[0].id, b.of.key.logins[0].id)
}

// add compares a password with those that it meets.
func (x *nearIndex) add(p *nearPassword, forms [][]byte) {
	x.known[p.text] = p
	var compared map[*nearPassword]bool // most have no bucket in common with another
	p.hashes = make([]uint64, 0, len(forms))
	for _, f := range forms {
		h := maphash.Bytes(bucketSeed, f)
		b := x.buckets[h]
		if len(b) > 0 && b[len(b)-1] == p { // two of its forms are one
			continue
		}
		for _, o := range b {
			if compared[o] {
				continue
			}
			if compared == nil {
				compared = map[*nearPassword]bool{}
			}
			compared[o] = true
			if how := p.nearTo(o); how != NotNear {
				p.join(o, how)
				o.join(p, how)
			}
		}
		x.buckets[h] = append(b, p)
		p.hashes = append(p.hashes, h)
	}
}

func (p *nearPassword) join(o *nearPassword, how Nearness) {
	p.near = append(p.near, neighbour{of: o, how: how})
}

// forget takes a password out.
func (x *nearIndex) forget(p *nearPassword) {
	delete(x.known, p.text)
	for _, n := range p.near {
		n.of.near = slices.DeleteFunc(n.of.near, func(o neighbour) bool { return o.of == p })
	}
	for _, h := range p.hashes {
		left := slices.DeleteFunc(x.buckets[h], func(o *nearPassword) bool { return o == p })
		if len(left) == 0 {
			delete(x.buckets, h)
		} else {
			x.buckets[h] = left
		}
	}
}

var bucketSeed = maphash.MakeSeed()

var nearRank = map[Nearness]int{
	NearCase: 0, NearEnd: 1, NearSwap: 2, NearSite: 3, NearTwice: 4, NearReversed: 5, NearLetter: 6,
}

// names are those of the sites that the password is for. One that is used at many is of none of them.
func (k *key) names() (out []string) {
	for _, l := range k.logins[:min(len(k.logins), mostNamed)] {
		out = append(out, l.names...)
	}
	return out
}

// mostNamed is how many of a password's sites have a name in it.
const mostNamed = 4

// isFor reports whether a list is that of the names.
func (k *key) isFor(names []string) bool {
	for _, l := range k.logins[:min(len(k.logins), mostNamed)] {
		if len(l.names) > len(names) || !slices.Equal(l.names, names[:len(l.names)]) {
			return false
		}
		names = names[len(l.names):]
	}
	return len(names) == 0
}

func (p *nearPassword) nearTo(o *nearPassword) Nearness {
	return Near(p.text.Reveal(), o.text.Reveal(), slices.Concat(p.names, o.names)...)
}

// nearForms are the forms under which a password meets those that are nearly the same.
func nearForms(out [][]byte, p *nearPassword) [][]byte {
	low := strings.ToLower(p.text.Reveal())
	r := []rune(low)
	if len(r) < leastCore {
		return out
	}
	add := func(kind byte, s string) {
		if len(s) >= leastCore {
			out = append(out, append([]byte{kind}, s...))
		}
	}
	add('=', low)
	add('<', min(low, reversed(low)))
	add('<', min(core(low), reversed(core(low))))
	add('c', core(low))
	add('s', swaps.Replace(low))
	add('s', swaps.Replace(core(low)))
	add('s', swaps.Replace(withoutYear(low)))
	if half := low[:len(low)/2]; low == half+half {
		add('=', half)
	}
	if bare := withoutSites(low, p.names); bare != low {
		add('=', bare)
		add('c', core(bare))
		add('s', swaps.Replace(core(bare)))
	}
	if len(r) >= 6 && len(r) <= mostSpelt { // two that differ by one letter have one form without a letter
		add('1', low)
		for i := range r {
			if i > 0 && r[i] == r[i-1] {
				continue
			}
			out = append(out, append(append([]byte{'1'}, string(r[:i])...), string(r[i+1:])...))
		}
	}
	return out
}

// mostSpelt is the longest password that is looked at letter by letter, in characters.
const mostSpelt = 64

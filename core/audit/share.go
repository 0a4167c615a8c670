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
	hashes []uint64 // of its buckets
	near   map[*nearPassword]Nearness
	round  int // in which it was there last
}

// joinNear finds the passwords that are nearly the same. Those that were there before, for the same sites, aren't
// compared again.
func (m *Memory) joinNear(ctx context.Context, keys map[secret.Text]*key) error {
	x := &m.near
	if x.known == nil {
		x.known = make(map[secret.Text]*nearPassword, len(keys))
		x.buckets = make(map[uint64][]*nearPassword, 8*len(keys))
	}
	x.round++
	var fresh []*nearPassword
	for text, k := range keys {
		p := x.known[text]
		if names := k.names(); p == nil || !slices.Equal(p.names, names) {
			if p != nil {
				x.forget(p)
			}
			p = &nearPassword{text: text, names: names}
			fresh = append(fresh, p)
		}
		p.round = x.round
	}
	for _, p := range x.known {
		if p.round != x.round {
			x.forget(p)
		}
	}
	var forms [][]byte
	for i, p := range fresh {
		if i%256 == 0 && ctx.Err() != nil {
			*x = nearIndex{} // it isn't whole
			return ctx.Err()
		}
		forms = nearForms(forms[:0], p)
		x.add(p, forms)
	}
	for text, k := range keys {
		near := x.known[text].near
		if len(near) == 0 {
			continue
		}
		k.near = make([]nearKey, 0, len(near))
		for o, how := range near {
			k.near = append(k.near, nearKey{keys[o.text], how})
		}
		if len(k.near) > 1 {
			slices.SortFunc(k.near, func(a, b nearKey) int {
				return cmp.Or(cmp.Compare(nearRank(a.how), nearRank(b.how)),
					strings.Compare(a.key.logins[0].id, b.key.logins[0].id))
			})
		}
	}
	return nil
}

// add compares a password with those that it meets.
func (x *nearIndex) add(p *nearPassword, forms [][]byte) {
	x.known[p.text] = p
	var compared map[*nearPassword]bool // most meet nobody
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
	if p.near == nil {
		p.near = map[*nearPassword]Nearness{}
	}
	p.near[o] = how
}

// forget takes a password out.
func (x *nearIndex) forget(p *nearPassword) {
	delete(x.known, p.text)
	for o := range p.near {
		delete(o.near, p)
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

func nearRank(n Nearness) int {
	return slices.Index([]Nearness{NearCase, NearEnd, NearSwap, NearSite, NearReversed, NearLetter}, n)
}

// names are those of the sites that the password is for. One that is used at many is of none of them.
func (k *key) names() (out []string) {
	for _, l := range k.logins[:min(len(k.logins), 4)] {
		out = append(out, l.names...)
	}
	return out
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

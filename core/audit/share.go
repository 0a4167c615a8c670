package audit

import (
	"cmp"
	"context"
	"hash/maphash"
	"slices"
	"strings"

	"redlocket/core/secret"
)

// joinNear finds the passwords that are nearly the same: those that one of the ways of [Near] makes equal meet in a
// bucket, and are compared there.
func joinNear(ctx context.Context, keys map[secret.Text]*key) error {
	list := make([]*key, 0, len(keys))
	for _, k := range keys {
		list = append(list, k)
	}
	slices.SortFunc(list, func(a, b *key) int { return strings.Compare(a.logins[0].id, b.logins[0].id) })
	buckets := make(map[uint64][]int32, 8*len(list))
	var forms [][]byte
	for i, k := range list {
		if i%256 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		forms = nearForms(forms[:0], k)
		for n, f := range forms {
			h := maphash.Bytes(bucketSeed, f)
			b := buckets[h]
			if n > 0 && len(b) > 0 && b[len(b)-1] == int32(i) {
				continue
			}
			buckets[h] = append(b, int32(i))
		}
	}
	done := map[[2]int32]bool{}
	for _, b := range buckets {
		if len(b) < 2 {
			continue
		}
		for n, x := range b {
			for _, y := range b[:n] {
				p := [2]int32{min(x, y), max(x, y)}
				if x == y || done[p] {
					continue
				}
				done[p] = true
				if how := list[x].nearTo(list[y]); how != NotNear {
					list[x].near = append(list[x].near, nearKey{list[y], how})
					list[y].near = append(list[y].near, nearKey{list[x], how})
				}
			}
		}
	}
	for _, k := range list {
		slices.SortFunc(k.near, func(a, b nearKey) int {
			return cmp.Or(cmp.Compare(nearRank[a.how], nearRank[b.how]),
				strings.Compare(a.key.logins[0].id, b.key.logins[0].id))
		})
	}
	return nil
}

var bucketSeed = maphash.MakeSeed()

var nearRank = map[Nearness]int{NearCase: 0, NearEnd: 1, NearSwap: 2, NearSite: 3, NearReversed: 4, NearLetter: 5}

// names are those of the sites that the password is for. One that is used at many is of none of them.
func (k *key) names() (out []string) {
	for _, l := range k.logins[:min(len(k.logins), 4)] {
		out = append(out, l.names...)
	}
	return out
}

func (k *key) nearTo(o *key) Nearness {
	return Near(k.text.Reveal(), o.text.Reveal(), append(k.names(), o.names()...)...)
}

// nearForms are the forms under which a password meets those that are nearly the same.
func nearForms(out [][]byte, k *key) [][]byte {
	low := strings.ToLower(k.text.Reveal())
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
	if bare := withoutSites(low, k.names()); bare != low {
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

package ledger

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// Every course that three devices and a cloud that lies as it likes can take, up to a depth, over the real Chain. What
// is sealed is opened by a table of what devices made, so that no course costs any cryptography; that nobody else can
// make what opens is package keys' own promise.
//
// What has to hold in each of them:
//
//  1. A device takes a pull if and only if what it knows is a beginning of what is served, served whole; or if nothing
//     is served.
//  2. Nothing that a device took or was told is kept is ever gone from its state, or older.
//  3. No device takes what no device made.
//  4. A cloud that is honest from then on gets every device in step whose heads it has.

const explorers = 3

// made are the sealed bytes that devices made, and what is in them.
type made map[string][]byte

var errNotMade = errors.New("nobody made this")

func (m made) OpenHead(n uint64, blob []byte) ([]byte, error) {
	return m.open(fmt.Sprintf("head %d %s", n, blob))
}

func (m made) OpenRecord(id string, rev uint64, blob []byte) ([]byte, error) {
	return m.open(fmt.Sprintf("record %s %d %s", id, rev, blob))
}

func (m made) open(place string) ([]byte, error) {
	if b, ok := m[place]; ok {
		return b, nil
	}
	return nil, errNotMade
}

// branch is one history that the cloud has: the heads, and the records that came with each.
type branch struct {
	heads   []SealedHead
	records []SealedRecord
}

// knower is a device: where it stands, and the heads that led there.
type knower struct {
	chain Chain
	heads []Hash
}

// world is where a course has led.
type world struct {
	devices  [explorers]knower
	branches []branch
}

func (w world) with(d int, k knower) world {
	w.devices[d] = k
	return w
}

// at says whether what a device knows is the beginning of a branch.
func (b branch) begins(k knower) bool {
	if len(k.heads) > len(b.heads) {
		return false
	}
	for i, h := range k.heads {
		if Sum(b.heads[i].Blob) != h {
			return false
		}
	}
	return true
}

type explorer struct {
	t     *testing.T
	made  made
	count int // courses
	taken int // pulls that were taken
}

// commit has a device make the next revision of its record, on top of what it knows.
func (x *explorer) commit(w world, d int, id string) (knower, SealedHead, SealedRecord) {
	k := w.devices[d]
	rev := k.chain.State[id].Rev + 1
	r := SealedRecord{id, rev, fmt.Appendf(nil, "%s%d by %d on %x", id, rev, d, k.chain.Head[:4])}
	x.made[fmt.Sprintf("record %s %d %s", id, rev, r.Blob)] = r.Blob
	head, state := k.chain.Next(fmt.Sprint(d), 0, State{id: {rev, Sum(r.Blob)}})
	plain := head.Encode()
	sealed := SealedHead{head.Number, plain}
	x.made[fmt.Sprintf("head %d %s", head.Number, plain)] = plain
	next := knower{
		Chain{Number: head.Number, Head: Sum(plain), State: state}, append(slices.Clip(k.heads), Sum(plain)),
	}
	return next, sealed, r
}

// lies are what a cloud makes of an answer: the first is the honest one.
func lies(w world, latest uint64, heads []SealedHead, records []SealedRecord) (out []served) {
	out = append(out, served{latest, heads, records, true})
	if len(records) > 0 {
		out = append(out, served{latest, heads, records[1:], false})
		old := slices.Clone(records)
		for _, b := range w.branches {
			for _, r := range b.records {
				if r.ID == old[0].ID && string(r.Blob) != string(old[0].Blob) {
					swapped := slices.Clone(old)
					swapped[0] = r
					out = append(out, served{latest, heads, swapped, false})
					twice := append(slices.Clone(old), r)
					out = append(out, served{latest, heads, twice, false})
				}
			}
		}
		moved := slices.Clone(records)
		moved[0].ID += "x"
		out = append(out, served{latest, heads, moved, false})
	}
	if len(heads) > 0 {
		out = append(out, served{latest, heads[1:], records, false}, served{latest + 1, heads, records, false})
		out = append(out, served{latest, heads[:len(heads)-1], records, false})
	}
	if len(heads) > 1 {
		turned := slices.Clone(heads)
		turned[0].Blob, turned[1].Blob = turned[1].Blob, turned[0].Blob
		out = append(out, served{latest, turned, records, false})
	}
	return out
}

type served struct {
	latest  uint64
	heads   []SealedHead
	records []SealedRecord
	honest  bool
}

// pull serves a device a branch up to so many heads, in every way that the cloud may lie about it.
func (x *explorer) pull(w world, d int, b branch, upTo int) (out []world) {
	k := w.devices[d]
	from := min(int(k.chain.Number), upTo) //nolint:gosec // a few
	newest := map[string]SealedRecord{}
	var ids []string
	for _, r := range b.records[from:upTo] {
		if _, there := newest[r.ID]; !there {
			ids = append(ids, r.ID)
		}
		newest[r.ID] = r
	}
	var records []SealedRecord
	for _, id := range ids {
		records = append(records, newest[id])
	}
	upper := branch{b.heads[:upTo], b.records[:upTo]}
	for _, s := range lies(w, uint64(upTo), b.heads[from:upTo], records) { //nolint:gosec // a few
		next, pulled, err := k.chain.Verify(x.made, s.latest, s.heads, s.records)
		want := s.honest && upper.begins(k)
		if len(s.heads) == 0 && len(s.records) == 0 && s.latest == k.chain.Number {
			want = true // as on a quiet day: nothing new is served, and nothing is taken
		}
		if err == nil != want { // (1)
			const what = "device %d at %d, served %d heads (honest: %v): %v"
			x.t.Fatalf(what, d, k.chain.Number, len(s.heads), s.honest, err)
		}
		if err != nil {
			require.Equal(x.t, k.chain, next, "and nothing of it is used")
			continue
		}
		x.taken++
		for id, m := range k.chain.State { // (2)
			if next.State[id].Rev < m.Rev {
				x.t.Fatalf("device %d lost revision %d of %s", d, m.Rev, id)
			}
		}
		for _, r := range pulled.Records { // (3)
			if _, err := x.made.OpenRecord(r.ID, r.Rev, r.Blob); err != nil {
				x.t.Fatalf("device %d took what nobody made: %s", d, r.Blob)
			}
		}
		heads := slices.Clip(k.heads)
		for _, h := range s.heads {
			heads = append(heads, Sum(h.Blob))
		}
		out = append(out, w.with(d, knower{next, heads}))
	}
	return out
}

// go on from a world, in every way.
func (x *explorer) explore(w world, depth int) {
	x.count++
	x.honest(w)
	if depth == 0 {
		return
	}
	for d := range explorers {
		for _, id := range []string{"mine" + fmt.Sprint(d), "shared"} {
			k, head, record := x.commit(w, d, id)
			after := w.with(d, k)
			// It says yes to the device, and keeps the commit on a branch that the device's head is the end of, or on a
			// new one.
			for i, b := range w.branches {
				if b.begins(w.devices[d]) && len(b.heads) == len(w.devices[d].heads) {
					kept := after
					kept.branches = slices.Clone(w.branches)
					kept.branches[i] = branch{
						append(slices.Clip(b.heads), head), append(slices.Clip(b.records), record),
					}
					x.explore(kept, depth-1)
				}
			}
			if len(w.branches) < 2 {
				for _, b := range w.branches {
					if n := len(w.devices[d].heads); len(b.heads) > n && b.begins(w.devices[d]) { // a fork
						forked := after
						forked.branches = append(slices.Clip(w.branches), branch{
							append(slices.Clone(b.heads[:n]), head), append(slices.Clone(b.records[:n]), record),
						})
						x.explore(forked, depth-1)
					}
				}
			}
		}
		for _, b := range w.branches {
			for upTo := range len(b.heads) + 1 {
				for _, next := range x.pull(w, d, b, upTo) {
					if next.devices[d].chain.Number != w.devices[d].chain.Number {
						x.explore(next, depth-1)
					}
				}
			}
		}
	}
}

// honest checks that a cloud that serves one branch whole from now on gets in step whoever is on it (4).
func (x *explorer) honest(w world) {
	for _, b := range w.branches {
		for d, k := range w.devices {
			if !b.begins(k) {
				continue
			}
			after := x.pull(w, d, b, len(b.heads))
			if len(after) != 1 || int(after[0].devices[d].chain.Number) != len(b.heads) { //nolint:gosec // a few
				x.t.Fatalf("device %d doesn't get in step", d)
			}
		}
	}
}

func TestEveryCourseOfALyingCloud(t *testing.T) {
	depth := 5 // REDLOCKET_DEPTH=6 takes half a minute: 165,000 courses
	if n, err := strconv.Atoi(os.Getenv("REDLOCKET_DEPTH")); err == nil {
		depth = n
	}
	x := &explorer{t: t, made: made{}}
	x.explore(world{branches: []branch{{}}}, depth)
	t.Logf("%d courses, %d pulls taken", x.count, x.taken)
	require.Greater(t, x.count, 1000)
	require.Greater(t, x.taken, 1000)
}

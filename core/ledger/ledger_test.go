package ledger

import (
	"crypto/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
)

// history is what honest devices wrote: three commits over two records.
type history struct {
	vault  *keys.Vault
	heads  []SealedHead
	states []Chain // after each head; states[0] is empty
	recs   map[string][]SealedRecord
}

func newHistory(t testing.TB) *history {
	h := &history{
		vault:  keys.NewVault("v", keys.NewRing(keys.VaultKey{9}), rand.Reader),
		states: []Chain{{}},
		recs:   map[string][]SealedRecord{},
	}
	h.commit(t, "a", "b")
	h.commit(t, "a")
	h.commit(t, "c")
	return h
}

func (h *history) commit(t testing.TB, ids ...string) {
	c := h.states[len(h.states)-1]
	changed := State{}
	for _, id := range ids {
		rev := c.State[id].Rev + 1
		blob, err := h.vault.SealRecord(id, rev, []byte(id))
		require.NoError(t, err)
		h.recs[id] = append(h.recs[id], SealedRecord{id, rev, blob})
		changed[id] = Mark{rev, Sum(blob)}
	}
	head, state := c.Next("desk", 1, changed)
	blob, err := h.vault.SealHead(head.Number, head.Encode())
	require.NoError(t, err)
	h.heads = append(h.heads, SealedHead{head.Number, blob})
	h.states = append(h.states, Chain{Number: head.Number, Head: Sum(blob), State: state})
}

func (h *history) newest(id string) SealedRecord { return h.recs[id][len(h.recs[id])-1] }

func TestHonestPull(t *testing.T) {
	h := newHistory(t)
	next, opened, err := Chain{}.Verify(
		h.vault,
		3,
		h.heads,
		[]SealedRecord{h.newest("a"), h.newest("b"), h.newest("c")},
	)
	require.NoError(t, err)
	assert.Equal(t, h.states[3], next)
	assert.Len(t, opened.Records, 3)

	next, opened, err = h.states[1].Verify(h.vault, 3, h.heads[1:], []SealedRecord{h.newest("c"), h.newest("a")})
	require.NoError(t, err, "in any order, from any point")
	assert.Equal(t, h.states[3], next)
	assert.Len(t, opened.Records, 2)

	_, opened, err = h.states[3].Verify(h.vault, 3, nil, nil)
	require.NoError(t, err)
	assert.Empty(t, opened.Records)
}

func TestHostileCloud(t *testing.T) {
	h := newHistory(t)
	other := newHistory(t) // same key, another course of events: a fork
	good := func() []SealedRecord { return []SealedRecord{h.newest("a"), h.newest("c")} }
	flip := func(b []byte) []byte { c := append([]byte{}, b...); c[len(c)/2] ^= 1; return c }
	invented, err := keys.NewVault("v", keys.NewRing(keys.VaultKey{8}), rand.Reader).
		SealHead(4, Head{Number: 4, Prev: h.states[3].Head}.Encode())
	require.NoError(t, err)

	cases := []struct {
		name    string
		from    Chain
		latest  uint64
		heads   []SealedHead
		records []SealedRecord
		want    Kind
	}{
		{
			"alters a record",
			h.states[1],
			3,
			h.heads[1:],
			[]SealedRecord{{"a", 2, flip(h.newest("a").Blob)}, h.newest("c")},
			BadRecord,
		},
		{
			"swaps two records",
			h.states[1],
			3,
			h.heads[1:],
			[]SealedRecord{{"a", 2, h.newest("c").Blob}, {"c", 1, h.newest("a").Blob}},
			BadRecord,
		},
		{"drops a record", h.states[1], 3, h.heads[1:], good()[:1], Incomplete},
		{
			"replays an old record",
			h.states[1],
			3,
			h.heads[1:],
			[]SealedRecord{h.recs["a"][0], h.newest("c")},
			Incomplete,
		},
		{
			"serves an old record to a new device",
			Chain{},
			3,
			h.heads,
			[]SealedRecord{h.recs["a"][0], h.newest("b"), h.newest("c")},
			Incomplete,
		},
		{
			"gives an old record a new number",
			h.states[1],
			3,
			h.heads[1:],
			[]SealedRecord{{"a", 2, h.recs["a"][0].Blob}, h.newest("c")},
			BadRecord,
		},
		{"invents a record", h.states[3], 3, nil, []SealedRecord{{"d", 1, []byte("x")}}, BadRecord},
		{
			"adds a record",
			h.states[1],
			3,
			h.heads[1:],
			append(good(), SealedRecord{"d", 1, h.newest("a").Blob}),
			BadRecord,
		},
		{"serves one twice", h.states[1], 3, h.heads[1:], append(good(), good()[0]), Incomplete},
		{"reorders heads", h.states[1], 3, []SealedHead{h.heads[2], h.heads[1]}, good(), BadHead},
		{"renumbers heads", h.states[1], 3, []SealedHead{{2, h.heads[2].Blob}, {3, h.heads[1].Blob}}, good(), BadHead},
		{"drops a head", h.states[1], 3, h.heads[2:], good(), BadHead},
		{"drops the last head", h.states[1], 3, h.heads[1:2], good(), Incomplete},
		{"alters a head", h.states[1], 3, []SealedHead{{2, flip(h.heads[1].Blob)}, h.heads[2]}, good(), BadHead},
		{"invents a head", h.states[3], 4, []SealedHead{{4, invented}}, nil, BadHead},
		{"rolls back", h.states[3], 2, nil, nil, RolledBack},
		{"forks", h.states[1], 3, other.heads[1:], []SealedRecord{other.newest("a"), other.newest("c")}, Forked},
		{
			"rolls back behind an introduction",
			Chain{Floor: 3, FloorHash: h.states[3].Head},
			1,
			h.heads[:1],
			nil,
			RolledBack,
		},
		{
			"forks behind an introduction",
			Chain{Floor: 3, FloorHash: h.states[3].Head},
			3,
			other.heads,
			[]SealedRecord{other.newest("a"), other.newest("b"), other.newest("c")},
			Forked,
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			before := StateHash(c.from.State)
			next, opened, err := c.from.Verify(h.vault, c.latest, c.heads, c.records)
			var f *Fault
			require.ErrorAs(t, err, &f)
			assert.Equal(t, c.want, f.Kind, f.Error())
			assert.Empty(t, opened.Records)
			assert.Equal(t, c.from, next)
			assert.Equal(t, before, StateHash(c.from.State))
		})
	}
}

// Who joins, or was away for long, needs no heads of before; everybody else does.
func TestHeadsThatAreKeptNoMore(t *testing.T) {
	h := newHistory(t)
	all := []SealedRecord{h.newest("a"), h.newest("b"), h.newest("c")}
	_, _, err := Chain{}.Verify(h.vault, 3, h.heads[2:], all)
	require.Error(t, err)
	next, opened, err := Chain{MayJump: true}.Verify(h.vault, 3, h.heads[2:], all)
	require.NoError(t, err)
	assert.Equal(t, h.states[3].Head, next.Head)
	assert.Len(t, opened.Records, 3)

	away := h.states[1]
	since := []SealedRecord{h.newest("a"), h.newest("c")}
	_, _, err = away.Verify(h.vault, 3, h.heads[2:], since)
	require.Error(t, err)
	away.MayJump = true
	next, _, err = away.Verify(h.vault, 3, h.heads[2:], since)
	require.NoError(t, err)
	assert.Equal(t, StateHash(h.states[3].State), StateHash(next.State))
	_, _, err = away.Verify(h.vault, 3, h.heads[2:], since[:1])
	require.Error(t, err, "the state has to be whole all the same")
	_, _, err = away.Verify(h.vault, 3, h.heads[1:2], since)
	require.Error(t, err)

	introduced := Chain{MayJump: true, Floor: 2, FloorHash: h.states[2].Head}
	_, _, err = introduced.Verify(h.vault, 3, h.heads[2:], all)
	require.Error(t, err, "what another device has seen has to be among them")
	_, _, err = introduced.Verify(h.vault, 3, h.heads[1:], all)
	require.NoError(t, err)
}

func TestRootCoversEverything(t *testing.T) {
	s := State{"a": {1, Hash{1}}, "b": {2, Hash{2}}}
	for name, other := range map[string]State{
		"revision": {"a": {2, Hash{1}}, "b": {2, Hash{2}}}, "hash": {"a": {1, Hash{9}}, "b": {2, Hash{2}}},
		"id": {"ab": {1, Hash{1}}, "b": {2, Hash{2}}}, "fewer": {"a": {1, Hash{1}}}, "none": {},
	} {
		assert.NotEqual(t, StateHash(s), StateHash(other), name)
	}
}

func FuzzDecodeHead(f *testing.F) {
	f.Add(Head{Number: 3, Device: "d"}.Encode())
	f.Fuzz(func(t *testing.T, b []byte) {
		h, err := DecodeHead(b)
		if err != nil {
			return
		}
		if again, err := DecodeHead(h.Encode()); err != nil || again.StateHash != h.StateHash ||
			again.Number != h.Number {
			t.Fatal(err)
		}
	})
}

// Whatever a cloud answers, an opened record or a moved chain is what honest
// devices wrote.
func FuzzVerify(f *testing.F) {
	h := newHistory(f)
	f.Add(uint64(3), uint64(2), h.heads[1].Blob, "a", uint64(2), h.newest("a").Blob)
	f.Add(uint64(2), uint64(2), h.heads[1].Blob, "a", uint64(2), h.newest("a").Blob)
	f.Fuzz(func(t *testing.T, latest, n uint64, head []byte, id string, rev uint64, record []byte) {
		next, opened, err := h.states[1].Verify(
			h.vault,
			latest,
			[]SealedHead{{n, head}},
			[]SealedRecord{{id, rev, record}},
		)
		if err == nil &&
			(next.Head != h.states[2].Head || len(opened.Records) != 1 ||
				StateHash(next.State) != StateHash(h.states[2].State)) {
			t.Fatalf("took %d, %d, %s", latest, n, id)
		}
	})
}

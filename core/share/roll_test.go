package share_test

import (
	"crypto/rand"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/share"
	"redlocket/core/vault"
)

func TestRights(t *testing.T) {
	all := share.Rights()
	for i, r := range all {
		for j, o := range all {
			assert.Equal(t, i >= j, r.Includes(o), "%s, %s", r, o)
		}
		assert.False(t, r.Includes("own"))
		assert.False(t, share.Right("").Includes(r))
	}
}

// three are people of whom the first decides.
func three(t *testing.T) (people [3]keys.Identity, r share.Roll) {
	r = share.Roll{Set: uuid.NewString(), Epoch: 1, Name: "Family", At: 1}
	for i, right := range []share.Right{share.Manage, share.Change, share.See} {
		var err error
		people[i], err = keys.NewIdentity(rand.Reader)
		require.NoError(t, err)
		r.Members = append(r.Members, share.Member{
			Email: string(rune('a'+i)) + "@mail.example", Name: "x", Keys: people[i].Public(), Right: right,
		})
	}
	require.NoError(t, r.Check())
	return people, r
}

func TestRollsThatCannotBe(t *testing.T) {
	_, good := three(t)
	for what, change := range map[string]func(*share.Roll){
		"no set":                        func(r *share.Roll) { r.Set = "x" },
		"epoch 0":                       func(r *share.Roll) { r.Epoch = 0 },
		"a first one with one before":   func(r *share.Roll) { r.Before = make([]byte, 32) },
		"a second one with none before": func(r *share.Roll) { r.Epoch = 2 },
		"a short hash":                  func(r *share.Roll) { r.Epoch, r.Before = 2, make([]byte, 31) },
		"a long name":                   func(r *share.Roll) { r.Name = strings.Repeat("x", 41) },
		"nobody":                        func(r *share.Roll) { r.Members = nil },
		"a right":                       func(r *share.Roll) { r.Members[1].Right = "all" },
		"an address twice":              func(r *share.Roll) { r.Members[1].Email = r.Members[0].Email },
		"keys twice":                    func(r *share.Roll) { r.Members[1].Keys = r.Members[0].Keys },
		"no keys":                       func(r *share.Roll) { r.Members[1].Keys = keys.PublicIdentity{} },
		"a name with controls":          func(r *share.Roll) { r.Members[1].Name = "a\u202eb" },
		"too many": func(r *share.Roll) {
			for len(r.Members) <= share.MaxMembers {
				r.Members = append(r.Members, r.Members[0])
			}
		},
	} {
		bad := good
		bad.Members = append([]share.Member(nil), good.Members...)
		change(&bad)
		assert.ErrorIs(t, bad.Check(), share.ErrRoll, what)
	}
	bad := good
	bad.Members = append([]share.Member(nil), good.Members...)
	bad.Members[0].Right = share.Change
	assert.ErrorIs(t, bad.Check(), share.ErrNoManager)
}

func TestEpochsFollowEachOther(t *testing.T) {
	people, first := three(t)
	second := first.Next(first.Members[:2], 2)
	sign := func(i int) []byte { return people[i].Public().Sign }
	require.NoError(t, second.Follows(first, sign(0)))
	require.ErrorIs(t, second.Follows(first, sign(1)), share.ErrNotTheirs)
	require.ErrorIs(t, second.Follows(first, []byte("nobody")), share.ErrNotTheirs)
	third := second.Next(first.Members, 3)
	require.ErrorIs(t, third.Follows(first, sign(0)), share.ErrRoll, "not right after it")
	other := first
	other.Name = "Another"
	require.ErrorIs(t, second.Follows(other, sign(0)), share.ErrRoll, "after another one")
	elsewhere := second
	elsewhere.Set = uuid.NewString()
	require.ErrorIs(t, elsewhere.Follows(first, sign(0)), share.ErrRoll)
}

func TestBoxesOpenForTheirReceiverAlone(t *testing.T) {
	people, r := three(t)
	key, err := keys.NewVaultKey(rand.Reader)
	require.NoError(t, err)
	box, err := share.SealBox(people[0], people[1].Public(), r, key)
	require.NoError(t, err)
	got, k, by, err := share.OpenBox(people[1], r.Set, 1, box)
	require.NoError(t, err)
	assert.Equal(t, r, got)
	assert.Equal(t, key, k)
	assert.Equal(t, people[0].Public().Sign, by)
	for what, open := range map[string]func() error{
		"somebody else": func() error { _, _, _, err := share.OpenBox(people[2], r.Set, 1, box); return err },
		"another set":   func() error { _, _, _, err := share.OpenBox(people[1], uuid.NewString(), 1, box); return err },
		"another epoch": func() error { _, _, _, err := share.OpenBox(people[1], r.Set, 2, box); return err },
		"as a farewell": func() error { return share.OpenFarewell(people[1], r, 2, box) },
		"as a leave":    func() error { _, err := share.OpenLeave(people[1], r, box); return err },
		"changed": func() error {
			_, _, _, err := share.OpenBox(people[1], r.Set, 1, append(box[:len(box)-1:len(box)-1], box[len(box)-1]^1))
			return err
		},
	} {
		assert.Error(t, open(), what)
	}
	without := r
	without.Members = r.Members[:1]
	box, err = share.SealBox(people[0], people[1].Public(), without, key)
	require.NoError(t, err)
	_, _, _, err = share.OpenBox(people[1], r.Set, 1, box)
	require.ErrorIs(t, err, share.ErrRoll, "the receiver isn't in it")
}

func TestFarewellsAndLeaves(t *testing.T) {
	people, r := three(t)
	bye, err := share.SealFarewell(people[0], people[1].Public(), r.Set, 2)
	require.NoError(t, err)
	require.NoError(t, share.OpenFarewell(people[1], r, 2, bye))
	require.Error(t, share.OpenFarewell(people[2], r, 2, bye))
	require.Error(t, share.OpenFarewell(people[1], r, 3, bye))
	bye, err = share.SealFarewell(people[0], people[1].Public(), r.Set, 1)
	require.NoError(t, err)
	require.ErrorIs(t, share.OpenFarewell(people[1], r, 1, bye), share.ErrNotTheirs, "of an epoch that they were in")
	bye, err = share.SealFarewell(people[2], people[1].Public(), r.Set, 2)
	require.NoError(t, err)
	require.ErrorIs(t, share.OpenFarewell(people[1], r, 2, bye), share.ErrNotTheirs)

	leave, err := share.SealLeave(people[2], people[0].Public(), r)
	require.NoError(t, err)
	m, err := share.OpenLeave(people[0], r, leave)
	require.NoError(t, err)
	assert.Equal(t, r.Members[2], m)
	next := r.Next(r.Members, 2)
	_, err = share.OpenLeave(people[0], next, leave)
	require.Error(t, err, "what was said in an earlier epoch doesn't count")
	stranger, err := keys.NewIdentity(rand.Reader)
	require.NoError(t, err)
	leave, err = share.SealLeave(stranger, people[0].Public(), r)
	require.NoError(t, err)
	_, err = share.OpenLeave(people[0], r, leave)
	require.ErrorIs(t, err, share.ErrNotTheirs)
}

func TestHeadsAreByWhoMayChange(t *testing.T) {
	people, r := three(t)
	h := ledger.Head{Number: 1, Device: "d", At: 2}
	for i, may := range []bool{true, true, false} {
		h.Signature = share.SignHead(people[i], r, h)
		m, err := share.HeadBy(r, h)
		assert.Equal(t, may, err == nil)
		if may {
			assert.Equal(t, r.Members[i], m)
		}
	}
	h.Signature = share.SignHead(people[1], r.Next(r.Members, 2), h)
	_, err := share.HeadBy(r, h)
	require.ErrorIs(t, err, share.ErrNotTheirs, "for another epoch")
	other := r
	other.At++
	h.Signature = share.SignHead(people[1], other, h)
	_, err = share.HeadBy(r, h)
	require.ErrorIs(t, err, share.ErrNotTheirs, "for another roll of the same epoch")
}

// What is held of a set is in an entry; of two epochs that two devices learn of at once the later one counts.
func TestHeldEpochsJoin(t *testing.T) {
	people, r := three(t)
	k1, err := keys.NewVaultKey(rand.Reader)
	require.NoError(t, err)
	k2, err := keys.NewVaultKey(rand.Reader)
	require.NoError(t, err)
	e, err := vault.New("x", vault.TypeShared, vault.Stamp{At: 1, By: "a"}, share.HeldSet(r.Set, "book", 1, "person"))
	require.NoError(t, err)
	_, ok := share.HeldOf(e)
	assert.False(t, ok, "nothing of it is known yet")
	put := func(e vault.Entry, r share.Roll, k keys.VaultKey, at int64, by string) vault.Entry {
		c, err := share.HeldEpoch(r, k, people[0].Public().Sign, share.See)
		require.NoError(t, err)
		e, err = e.With(vault.Stamp{At: at, By: by}, c)
		require.NoError(t, err)
		return e
	}
	e = put(e, r, k1, 2, "a")
	a := put(e, r.Next(r.Members, 2), k2, 3, "a")
	b, err := e.With(vault.Stamp{At: 9, By: "b"}, share.HeldTaken())
	require.NoError(t, err)
	for _, joined := range []vault.Entry{vault.Merge(a, b), vault.Merge(b, a)} {
		h, ok := share.HeldOf(joined)
		require.True(t, ok)
		assert.Equal(t, uint32(2), h.Roll.Epoch)
		assert.Equal(t, k2, h.Key)
		assert.True(t, h.Active())
		assert.Equal(t, "person", h.From)
		was, ok := h.At(joined, 1)
		require.True(t, ok)
		assert.Equal(t, k1, was.Key)
	}
	out, err := a.With(vault.Stamp{At: 10, By: "a"}, share.HeldOut(10))
	require.NoError(t, err)
	h, _ := share.HeldOf(out)
	assert.False(t, h.Active())
	assert.Equal(t, "share.Held(hidden)", h.String())
	c, err := share.HeldFormer(r.Members[1], 5)
	require.NoError(t, err)
	out, err = out.With(vault.Stamp{At: 11, By: "a"}, c)
	require.NoError(t, err)
	assert.Equal(t, []share.Former{{Name: "x", At: 5}}, share.FormersOf(out))
}

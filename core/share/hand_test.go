package share_test

import (
	"crypto/rand"
	"encoding/hex"
	"testing"
	"time"

	"github.com/cloudflare/circl/group"
	"github.com/cloudflare/circl/secretsharing"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/keys"
	"redlocket/core/share"
)

func split(t require.TestingT, need, of int) (code keys.Code, sealed []byte, parts []share.Part) {
	code, err := keys.NewCode(rand.Reader)
	require.NoError(t, err)
	sealed, parts, err = share.Split(rand.Reader, "hand", "vault", code, share.Rule{Need: need, Of: of, Wait: share.HelpWait}, 1)
	require.NoError(t, err)
	return code, sealed, parts
}

// As many helpers as the rule names open it, whoever they are; one less doesn't.
func TestEnoughHelpersOpenIt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		of := rapid.IntRange(1, share.MostHelpers).Draw(t, "of")
		need := rapid.IntRange(1, of).Draw(t, "need")
		code, sealed, parts := split(t, need, of)
		order := rapid.Permutation(parts).Draw(t, "order")
		got, err := share.Together(sealed, order[:need])
		require.NoError(t, err)
		assert.True(t, code.Equal(got))
		_, err = share.Together(sealed, order[:need-1])
		assert.ErrorIs(t, err, share.ErrFewParts)
		if need > 1 {
			twice := append(append([]share.Part{}, order[:need-1]...), order[0])
			_, err = share.Together(sealed, twice)
			assert.Error(t, err, "the same part twice is one")
			lower := append([]share.Part{}, order[:need-1]...)
			for i := range lower {
				lower[i].Rule.Need--
			}
			_, err = share.Together(sealed, lower)
			assert.Error(t, err, "a rule that is made up opens nothing")
		}
	})
}

// A part that is wrong is passed over, if there are enough without it.
func TestAWrongPartIsPassedOver(t *testing.T) {
	code, sealed, parts := split(t, 2, 3)
	wrong := parts[0]
	wrong.Value = parts[1].Value
	other := parts[2]
	other.Number = 1
	for name, list := range map[string][]share.Part{
		"another value": {wrong, parts[1], parts[2]}, "another number": {other, parts[1], parts[2]},
		"beside the right one of its number": {wrong, parts[0], parts[1]},
	} {
		got, err := share.Together(sealed, list)
		require.NoError(t, err, name)
		assert.True(t, code.Equal(got), name)
	}
	_, err := share.Together(sealed, []share.Part{wrong, parts[1]})
	assert.ErrorIs(t, err, share.ErrWrongParts)
	_, _, strangers := split(t, 2, 3)
	_, err = share.Together(sealed, strangers)
	assert.ErrorIs(t, err, share.ErrWrongParts)
	for _, change := range []func(*share.Part){
		func(p *share.Part) { p.Value = p.Value[:31] }, func(p *share.Part) { p.Number = 0 },
		func(p *share.Part) { p.Number = 4 }, func(p *share.Part) { p.Hand = "" }, func(p *share.Part) { p.Rule.Need = 0 },
		func(p *share.Part) { p.Value = append([]byte{}, p.Value...); p.Value[31] |= 0xf0 }, // above the group's order
	} {
		bad := parts[0]
		change(&bad)
		_, err := share.Together(sealed, []share.Part{bad, parts[1]})
		assert.Error(t, err)
	}
}

func TestTheRuleOfOneWaits(t *testing.T) {
	for _, r := range []share.Rule{
		{Need: 1, Of: 1}, {Need: 1, Of: 3, Wait: share.HelpWait - time.Second}, {Need: 0, Of: 2}, {Need: 3, Of: 2},
		{Need: 2, Of: 6}, {}, {Need: 2, Of: 2, Wait: -1},
	} {
		assert.ErrorIs(t, r.Check(), share.ErrRule, "%+v", r)
	}
	assert.NoError(t, share.Rule{Need: 1, Of: 2, Wait: share.HelpWait}.Check())
	assert.NoError(t, share.Rule{Need: 2, Of: 3}.Check())
}

// RFC 9591, appendix E.3 (FROST over ristretto255): a secret parted two of three over the same group. The values are
// from memory; that they fit each other is arithmetic that nothing else would pass.
func TestPartsOfRFC9591(t *testing.T) {
	scalar := func(s string) group.Scalar {
		b, err := hex.DecodeString(s)
		require.NoError(t, err)
		out := group.Ristretto255.NewScalar()
		require.NoError(t, out.UnmarshalBinary(b))
		return out
	}
	secret := scalar("1b25a55e463cfd15cf14a5d3acc3d15053f08da49c8afcf3ab265f2ebc4f970b")
	shares := []string{
		"5c3430d391552f6e60ecdc093ff9f6f4488756aa6cebdbad75a768010b8f830e",
		"b06fc5eac20b4f6e1b271d9df2343d843e1e1fb03c4cbb673f2872d459ce6f01",
		"f17e505f0e2581c6acfe54d3846a622834b5e7b50cad9a2109a97ba7a80d5c04",
	}
	var all []secretsharing.Share
	for i, s := range shares {
		id := group.Ristretto255.NewScalar().SetUint64(uint64(i + 1))
		all = append(all, secretsharing.Share{ID: id, Value: scalar(s)})
	}
	for _, pair := range [][]secretsharing.Share{{all[0], all[1]}, {all[0], all[2]}, {all[2], all[1]}} {
		got, err := secretsharing.Recover(1, pair)
		require.NoError(t, err)
		assert.True(t, got.IsEqual(secret))
	}
}

func TestAPartTravels(t *testing.T) {
	_, _, parts := split(t, 2, 3)
	owner, helper := identity(t), identity(t)
	sealed, err := parts[0].Seal(owner, helper.Public(), "id")
	require.NoError(t, err)
	got, from, err := share.OpenPart(helper, "id", sealed)
	require.NoError(t, err)
	assert.Equal(t, parts[0], got)
	assert.Equal(t, owner.Public().Sign, from)
	_, _, err = share.OpenPart(owner, "id", sealed)
	assert.ErrorIs(t, err, keys.ErrOpen)
	_, _, err = share.OpenPart(helper, "other", sealed)
	assert.ErrorIs(t, err, keys.ErrOpen)
}

package keys

import (
	"bytes"
	"crypto/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// ringOf draws a ring of so many epochs, each begun after ten more heads.
func ringOf(t require.TestingT, epochs int) Ring {
	var r Ring
	for i := range epochs {
		k, err := NewVaultKey(rand.Reader)
		require.NoError(t, err)
		if i == 0 {
			r = NewRing(k)
			continue
		}
		r = r.With(k, Start{After: uint64(10 * i), Hash: [32]byte{byte(i)}, Fresh: i == 2})
	}
	return r
}

func TestRingIsSealedUnderItsNewestKey(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := ringOf(t, rapid.IntRange(1, 5).Draw(t, "epochs"))
		locks, err := NewLocks(rand.Reader)
		require.NoError(t, err)
		with := Kept{Code{9}, locks}
		sealed, err := r.Seal(rand.Reader, "v", with)
		require.NoError(t, err)
		again, kept, err := OpenRing(r.Newest(), "v", sealed)
		require.NoError(t, err)
		assert.Equal(t, r, again)
		assert.Equal(t, with, kept)

		_, _, err = OpenRing(r.Newest(), "w", sealed)
		require.ErrorIs(t, err, ErrOpen)
		later := EpochKey{r.Epoch() + 1, r.Newest().Key}
		_, _, err = OpenRing(later, "v", sealed)
		require.ErrorIs(t, err, ErrOpen, "under another number")
		if r.Epoch() > 1 {
			_, _, err = OpenRing(EpochKey{1, r.epochs[0].key}, "v", sealed)
			require.ErrorIs(t, err, ErrOpen, "an old key opens no newer one")
		}
	})
}

func TestRingsExtendEachOther(t *testing.T) {
	three := ringOf(t, 3)
	two := Ring{three.epochs[:2]}
	assert.True(t, three.Extends(two))
	assert.False(t, two.Extends(three))
	assert.False(t, three.Extends(three))
	assert.False(t, three.Extends(ringOf(t, 2)), "other keys")

	for head, epoch := range map[uint64]uint32{1: 1, 10: 1, 11: 2, 20: 2, 21: 3, 1000: 3} {
		assert.Equal(t, epoch, three.At(head), "head %d", head)
	}
	s, ok := three.Fresh(2)
	assert.True(t, ok)
	assert.EqualValues(t, 20, s.After)
	_, ok = three.Fresh(3)
	assert.False(t, ok, "it is in it already")
}

// What an old key makes counts nowhere in a later epoch, and opens nothing of it.
func TestOldKeysOpenNothingThatComesAfter(t *testing.T) {
	r := ringOf(t, 2)
	old, now := NewVault("v", Ring{r.epochs[:1]}, rand.Reader), NewVault("v", r, rand.Reader)
	before, err := old.SealRecord("a", 1, []byte("before"))
	require.NoError(t, err)
	plain, err := now.OpenRecord("a", 1, before)
	require.NoError(t, err)
	assert.Equal(t, "before", string(plain))

	after, err := now.SealRecord("a", 2, []byte("after"))
	require.NoError(t, err)
	assert.EqualValues(t, 2, SealedEpoch(after))
	_, err = old.OpenRecord("a", 2, after)
	require.ErrorIs(t, err, ErrOpen)
	claimed := bytes.Clone(after)
	claimed[headerSize-1] = 1 // it says that it is of epoch 1
	_, err = now.OpenRecord("a", 2, claimed)
	require.ErrorIs(t, err, ErrOpen)

	forged, err := old.SealHead(11, []byte("{}"))
	require.NoError(t, err)
	_, err = now.OpenHead(11, forged)
	require.ErrorIs(t, err, ErrOpen, "a head of the second epoch under the first one's key")
	right, err := old.SealHead(10, []byte("{}"))
	require.NoError(t, err)
	_, err = now.OpenHead(10, right)
	require.NoError(t, err)
	early, err := now.SealHead(10, []byte("{}"))
	require.NoError(t, err)
	_, err = now.OpenHead(10, early)
	require.ErrorIs(t, err, ErrOpen, "nor the other way around")
}

func TestStatements(t *testing.T) {
	device := func() Identity {
		d, err := NewIdentity(rand.Reader)
		require.NoError(t, err)
		again, err := ParseIdentity(d.Bytes())
		require.NoError(t, err)
		assert.Equal(t, d.Public(), again.Public())
		return again
	}
	desk, laptop, stolen := device(), device(), device()
	key := ringOf(t, 2).Newest()
	forLaptop, err := key.SealTo(laptop.Public(), "v", "laptop")
	require.NoError(t, err)
	s, err := desk.SignEpoch(Epoch{Number: 2, Vault: "v", By: "desk", Keys: map[string][]byte{"laptop": forLaptop}})
	require.NoError(t, err)

	assert.True(t, s.Holds(desk.Public()))
	assert.False(t, s.Holds(stolen.Public()))
	e, err := s.Read()
	require.NoError(t, err)
	got, err := laptop.Open("v", "laptop", e.Keys["laptop"])
	require.NoError(t, err)
	assert.Equal(t, key, got)
	for _, err := range []error{
		second(stolen.Open("v", "laptop", forLaptop)), second(laptop.Open("w", "laptop", forLaptop)),
		second(laptop.Open("v", "desk", forLaptop)), second(laptop.Open("v", "laptop", forLaptop[:len(forLaptop)-1])),
		second(laptop.Open("v", "laptop", nil)),
	} {
		require.ErrorIs(t, err, ErrOpen)
	}
	s.Body = bytes.Replace(s.Body, []byte(`"by":"desk"`), []byte(`"by":"disk"`), 1)
	assert.False(t, s.Holds(desk.Public()), "altered")
	_, err = Statement{Body: []byte("{")}.Read()
	require.Error(t, err)
	_, err = ParseIdentity([]byte("short"))
	require.Error(t, err)
}

func second[T any](_ T, err error) error { return err }

func TestTheSheetOpensEveryEpoch(t *testing.T) {
	sheet, err := DeriveRecovery(Code{3})
	require.NoError(t, err)
	other, err := DeriveRecovery(Code{4})
	require.NoError(t, err)
	key := ringOf(t, 3).Newest()
	wrapped, err := sheet.Public().Wrap("v", key)
	require.NoError(t, err)
	got, err := sheet.Unwrap("v", wrapped)
	require.NoError(t, err)
	assert.Equal(t, key, got)
	require.ErrorIs(t, second(other.Unwrap("v", wrapped)), ErrOpen)
	require.ErrorIs(t, second(sheet.Unwrap("w", wrapped)), ErrOpen)
	_, err = RecoveryPublic{Seal: []byte("no key")}.Wrap("v", key)
	require.Error(t, err)
}

func FuzzOpenRing(f *testing.F) {
	r := ringOf(f, 2)
	sealed, err := r.Seal(rand.Reader, "v", Kept{Carried: Code{1}})
	require.NoError(f, err)
	f.Add(sealed)
	f.Fuzz(func(t *testing.T, b []byte) {
		if got, _, err := OpenRing(r.Newest(), "v", b); err == nil && !bytes.Equal(b, sealed) {
			t.Fatalf("opened %x as a ring of %d", b, got.Epoch())
		}
	})
}

// A statement that no device signed holds for none, whatever it says.
func FuzzStatement(f *testing.F) {
	d, err := NewIdentity(rand.Reader)
	require.NoError(f, err)
	s, err := d.SignEpoch(Epoch{Number: 2, Vault: "v", By: "d", Keys: map[string][]byte{"d": {1}}})
	require.NoError(f, err)
	f.Add(s.Body, s.Signature)
	f.Add([]byte(`{"epoch":4294967296}`), []byte{})
	f.Fuzz(func(t *testing.T, body, signature []byte) {
		got := Statement{body, signature}
		if e, err := got.Read(); err == nil {
			_ = e.Params.Check()
			for id, sealed := range e.Keys {
				_, err := d.Open(e.Vault, id, sealed)
				assert.Error(t, err)
			}
		}
		if !bytes.Equal(body, s.Body) {
			assert.False(t, got.Holds(d.Public()))
		}
	})
}

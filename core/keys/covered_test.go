package keys

import (
	"bytes"
	"crypto/rand"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCovered(t *testing.T) {
	recovery, err := DeriveRecovery(Code{1})
	require.NoError(t, err)
	master, second := Derive(Stretched{1}, Code{1}), Derive(Stretched{2}, Code{1})
	c, err := NewCovered(rand.Reader, "v", master, recovery.Public())
	require.NoError(t, err)
	part, err := c.Seal(rand.Reader, "desk", []byte("the ferry at six"))
	require.NoError(t, err)
	require.Len(t, part, CoveredSize)

	byMaster, err := master.OpenCovered("v", part)
	require.NoError(t, err)
	byRecovery, err := recovery.OpenCovered("v", part)
	require.NoError(t, err)
	for _, k := range []Covered{c, byMaster, byRecovery} {
		content, err := k.Open("desk", part)
		require.NoError(t, err)
		assert.Equal(t, "the ferry at six", string(content))
		_, err = k.Open("laptop", part)
		require.ErrorIs(t, err, ErrOpen)
	}
	for _, err := range []error{
		last(second.OpenCovered("v", part)), last(master.OpenCovered("w", part)), last(recovery.OpenCovered("w", part)),
		last(master.OpenCovered("v", part[1:])), last(recovery.OpenCovered("v", part[1:])), last(c.Open("desk", part[1:])),
	} {
		require.ErrorIs(t, err, ErrOpen)
	}
	for _, i := range []int{0, oneHead - 1, coveredHead + coveredRecovery, CoveredSize - 1} {
		bad := bytes.Clone(part)
		bad[i] ^= 1
		k, err := master.OpenCovered("v", bad)
		if err == nil {
			_, err = k.Open("desk", bad)
		}
		require.ErrorIs(t, err, ErrOpen, "byte %d", i)
	}

	later, err := byRecovery.For(rand.Reader, second)
	require.NoError(t, err)
	part, err = later.Seal(rand.Reader, "desk", []byte("later"))
	require.NoError(t, err)
	require.ErrorIs(t, last(master.OpenCovered("v", part)), ErrOpen)
	again, err := second.OpenCovered("v", part)
	require.NoError(t, err)
	content, err := again.Open("desk", part)
	require.NoError(t, err)
	assert.Equal(t, "later", string(content))

	both, err := byMaster.AlsoFor(rand.Reader, second)
	require.NoError(t, err)
	part, err = both.Seal(rand.Reader, "desk", []byte("in between"))
	require.NoError(t, err)
	for _, p := range []Pair{master, second} {
		k, err := p.OpenCovered("v", part)
		require.NoError(t, err)
		content, err := k.Open("desk", part)
		require.NoError(t, err)
		assert.Equal(t, "in between", string(content))
	}
	require.ErrorIs(t, last(Derive(Stretched{3}, Code{1}).OpenCovered("v", part)), ErrOpen)

	noise := make([]byte, CoveredSize)
	_, err = rand.Read(noise)
	require.NoError(t, err)
	require.ErrorIs(t, last(c.Seal(rand.Reader, "desk", noise)), ErrRoom)
	_, err = c.Seal(rand.Reader, "desk", []byte(strings.Repeat("again and again ", 1<<16)))
	require.NoError(t, err, "what can be packed small is")
	assert.NotContains(t, c.String(), string(c.key[:]))
}

func last[T any](_ T, err error) error { return err }

// A part in which something is and one in which nothing is can't be told apart by their bytes: outside of what is
// sealed to a public key, which both have, bits are as often set as not, and neither repeats.
func TestCoveredPartsLookAlike(t *testing.T) {
	recovery, err := DeriveRecovery(Code{1})
	require.NoError(t, err)
	c, err := NewCovered(rand.Reader, "v", Derive(Stretched{1}, Code{1}), recovery.Public())
	require.NoError(t, err)
	ones := func(b []byte) (n int) {
		for _, x := range b {
			for ; x != 0; x &= x - 1 {
				n++
			}
		}
		return n
	}
	for range 20 {
		full, err := c.Seal(rand.Reader, "desk", bytes.Repeat([]byte{0}, 1000))
		require.NoError(t, err)
		empty, err := EmptyCovered(rand.Reader)
		require.NoError(t, err)
		for _, part := range [][]byte{full, empty} {
			require.Len(t, part, CoveredSize)
			body := part[coveredHead+coveredRecovery:]
			bits := float64(8 * len(body))
			assert.InDelta(t, bits/2, ones(body), 5*math.Sqrt(bits)/2, "five standard deviations")
			// The top bit of an X25519 public key, the last of 1,120 bytes, is never set (RFC 7748, section 5).
			assert.Zero(t, part[coveredHead+1119]&0x80)
		}
	}
}

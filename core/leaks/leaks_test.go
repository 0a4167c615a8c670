package leaks

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
)

// "abc" is an example of FIPS 180-4 (SHA-1); its value is from memory.
func TestHashIsSHA1(t *testing.T) {
	h := HashOf(secret.New("abc"))
	assert.Equal(t, "A9993E364706816ABA3E25717850C26C9CD0D89D", h.String())
	assert.Equal(t, "A9993", h.Prefix())
}

func listOf(n int) (text string, in []Hash) {
	var b strings.Builder
	for i := range n {
		h := HashOf(secret.New(fmt.Sprint("leaked ", i)))
		in = append(in, h)
		fmt.Fprintf(&b, "%s:%d\r\n", h, i+1)
	}
	return b.String(), in
}

func TestScan(t *testing.T) {
	text, in := listOf(3)
	var got []Hash
	text = "\n" + strings.ToLower(text) + "no hash\n" + in[0].String() + "\n" + in[1].String() + ":x\n" +
		strings.Repeat("z", 1<<17) + "\n"
	read, err := Scan(strings.NewReader(text), func(h Hash, _ int64) error { got = append(got, h); return nil })
	require.NoError(t, err)
	assert.Equal(t, Read{Lines: 4, Bad: 3, First: 5}, read)
	assert.Equal(t, append(in, in[0]), got)
	_, err = Scan(strings.NewReader("name,url\n"), func(Hash, int64) error { return nil })
	assert.ErrorIs(t, err, ErrNoList)
}

// What is in the list is found, whatever memory there is; of a hundred thousand others none is.
func TestFilter(t *testing.T) {
	text, in := listOf(20_000)
	for _, most := range []int64{maxKeys, 500} {
		var b bytes.Buffer
		told := int64(0)
		read, err := build(t.Context(), strings.NewReader(text), &b, func(done, _ int64) { told = done }, most)
		require.NoError(t, err)
		assert.Equal(t, int64(20_000), read.Lines)
		assert.Equal(t, int64(20_000), told)
		f, err := OpenFilter(bytes.NewReader(b.Bytes()), int64(b.Len()))
		require.NoError(t, err)
		assert.Equal(t, int64(20_000), f.Passwords)
		for _, h := range in {
			ok, err := f.Has(h)
			require.NoError(t, err)
			require.True(t, ok)
		}
		f.Drop()
		for i := range 100_000 {
			ok, err := f.Has(HashOf(secret.New(fmt.Sprint("other ", i))))
			require.NoError(t, err)
			require.False(t, ok)
		}
		assert.Less(t, b.Len(), 20_000*9)
	}
}

func TestADamagedFilterIsRefused(t *testing.T) {
	text, in := listOf(300)
	var b bytes.Buffer
	_, err := Build(t.Context(), strings.NewReader(text), &b, nil)
	require.NoError(t, err)
	whole := b.Bytes()
	for _, bad := range [][]byte{nil, whole[:100], whole[:len(whole)-1], append([]byte("x"), whole...), append(whole, 0)} {
		_, err := OpenFilter(bytes.NewReader(bad), int64(len(bad)))
		assert.ErrorIs(t, err, ErrNoFilter)
	}
	found := 0
	for i := filterHead; i < len(whole); i += 7 { // damage inside: no answer where it is
		bad := bytes.Clone(whole)
		bad[i] ^= 0xff
		f, err := OpenFilter(bytes.NewReader(bad), int64(len(bad)))
		require.NoError(t, err)
		for _, h := range in {
			ok, err := f.Has(h)
			if err != nil {
				require.ErrorIs(t, err, ErrNoFilter)
				found++
				break
			}
			require.True(t, ok)
		}
	}
	assert.Equal(t, (len(whole)-filterHead+6)/7, found)
}

// An answer is padded: what is in it can't be told by its length.
func TestRange(t *testing.T) {
	_, in := listOf(10)
	list := map[Hash]int64{}
	for i, h := range in {
		list[h] = int64(i + 1)
	}
	var a, none bytes.Buffer
	require.NoError(t, WriteRange(&a, in[3].Prefix(), list, rand.Reader))
	require.NoError(t, WriteRange(&none, "00000", list, rand.Reader))
	assert.Equal(t, none.Len(), a.Len())
	seen, err := InRange(bytes.NewReader(a.Bytes()), in[3])
	require.NoError(t, err)
	assert.Equal(t, int64(4), seen)
	seen, err = InRange(bytes.NewReader(a.Bytes()), in[4])
	require.NoError(t, err)
	assert.Zero(t, seen)
	_, err = InRange(strings.NewReader("<html>"), in[3])
	assert.ErrorIs(t, err, ErrNoList)
	_, err = InRange(strings.NewReader(in[3].String()[5:]+":-1"), in[3])
	assert.ErrorIs(t, err, ErrNoList)
}

// A part of a filter may be anything: whether a hash is in it is answered, or it is refused.
func FuzzFilter(f *testing.F) {
	good, err := part([]uint64{1, 2, 3})
	require.NoError(f, err)
	f.Add(good[:len(good)-partSum])
	f.Add(make([]byte, 64))
	f.Fuzz(func(_ *testing.T, body []byte) {
		sum := sha256.Sum256(body)
		p, err := loadPart(append(slices.Clone(body), sum[:partSum]...))
		if err != nil {
			return
		}
		for _, k := range []uint64{0, 1, 1 << 40, 1<<64 - 1} {
			p.Contains(k)
		}
	})
}

package generator

import (
	"crypto/rand"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func count(s, set string) (n int) {
	for _, r := range s {
		if strings.ContainsRune(set, r) {
			n++
		}
	}
	return n
}

func TestPasswordObeysItsOptions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		o := Options{
			Length: rapid.IntRange(0, 140).Draw(t, "length"),
			Lower:  rapid.Bool().Draw(t, "lower"), Upper: rapid.Bool().Draw(t, "upper"),
			Digits: rapid.Bool().Draw(t, "digits"), Symbols: rapid.Bool().Draw(t, "symbols"),
			MinDigits: rapid.IntRange(0, 70).
				Draw(t, "least digits"),
			MinSymbols:   rapid.IntRange(0, 70).Draw(t, "least symbols"),
			NoLookalikes: rapid.Bool().Draw(t, "no look-alikes"),
		}
		p, err := Password(rand.Reader, o)
		if o.Check() != nil {
			if err == nil {
				t.Fatal("made a password against its options")
			}
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		s := p.Reveal()
		if len(s) != o.Length {
			t.Fatalf("%d characters", len(s))
		}
		check := func(on bool, set string, least int) {
			n := count(s, set)
			if !on && n > 0 || on && n < least {
				t.Fatalf("%d of %s in %s", n, set, s)
			}
		}
		check(o.Lower, lower, 0)
		check(o.Upper, upper, 0)
		check(o.Digits, digits, o.MinDigits)
		check(o.Symbols, symbols, o.MinSymbols)
		if o.NoLookalikes && strings.ContainsAny(s, alike) {
			t.Fatalf("a look-alike in %s", s)
		}
	})
}

// Pearson's chi-squared over single-kind passwords: 25 degrees of freedom,
// 0.1 % critical value 52.62 (NIST/SEMATECH e-Handbook, 1.3.6.7.4). Two
// independent runs must both exceed it for the test to fail.
func TestDrawsWithoutBias(t *testing.T) {
	chi := func() (x float64) {
		seen := map[rune]float64{}
		const rounds = 500
		for range rounds {
			p, err := Password(rand.Reader, Options{Length: 104, Lower: true})
			require.NoError(t, err)
			for _, r := range p.Reveal() {
				seen[r]++
			}
		}
		want := float64(rounds*104) / 26
		for _, r := range lower {
			x += (seen[r] - want) * (seen[r] - want) / want
		}
		return x
	}
	if a, b := chi(), chi(); a > 52.62 && b > 52.62 {
		t.Fatalf("chi-squared %f and %f", a, b)
	}
}

func TestPassphrase(t *testing.T) {
	p, err := Passphrase(rand.Reader, 4, " ")
	require.NoError(t, err)
	assert.Len(t, strings.Fields(p.Reveal()), 4)
	_, err = Passphrase(rand.Reader, 2, " ")
	assert.Error(t, err)
}

func TestNoRandomnessNoPassword(t *testing.T) {
	_, err := Password(strings.NewReader("short"), Default())
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

func TestPronounceable(t *testing.T) {
	seen := map[string]bool{}
	for n := 8; n <= 40; n += 4 {
		p, err := Pronounceable(rand.Reader, n)
		require.NoError(t, err)
		text := p.Reveal()
		assert.Len(t, text, n)
		assert.False(t, seen[text])
		seen[text] = true
		assert.Regexp(t, `^[A-Z][aeiou]([bdfghjklmnprstvz][aeiou]){2}[2-9]`, text)
	}
	for _, n := range []int{0, 7, 129} {
		_, err := Pronounceable(rand.Reader, n)
		assert.Error(t, err)
	}
}

package keys

import (
	"bytes"
	"crypto/ecdh"
	"crypto/hkdf"
	"crypto/hpke"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/bits"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/chacha20poly1305"
	"pgregory.net/rapid"

	"redlocket/core/secret"
)

func unhex(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(s)
	require.NoError(t, err)
	return b
}

// RFC 5869, appendix A.1: the HKDF that everything here is derived with.
func TestHKDFAgainstRFC5869(t *testing.T) {
	b, err := hkdf.Key(
		sha256.New,
		unhex(t, "0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b"),
		unhex(t, "000102030405060708090a0b0c"),
		string(unhex(t, "f0f1f2f3f4f5f6f7f8f9")),
		42,
	)
	require.NoError(t, err)
	assert.Equal(
		t,
		"3cb25f25faacd57a90434f64d0362f2a2d2d0a90cf1a5a4c5db02d56ecc4c5bf34007208d5b887185865",
		hex.EncodeToString(b),
	)
}

// draft-irtf-cfrg-xchacha-03, appendix A.3.1.
func TestXChaChaAgainstItsDraft(t *testing.T) {
	key := unhex(t, "808182838485868788898a8b8c8d8e8f909192939495969798999a9b9c9d9e9f")
	aead, err := chacha20poly1305.NewX(key)
	require.NoError(t, err)
	got := aead.Seal(
		nil,
		unhex(t, "404142434445464748494a4b4c4d4e4f5051525354555657"),
		[]byte(
			"Ladies and Gentlemen of the class of '99: If I could offer you only one tip for the future, sunscreen "+
				"would be it.",
		),
		unhex(t, "50515253c0c1c2c3c4c5c6c7"),
	)
	assert.Equal(
		t,
		"bd6d179d3e83d43b9576579493c0e939572a1700252bfaccbed2902c21396cbb731c7f1b0b4aa6440bf3a82f4eda7e39ae64c6708c54c216cb96b72e1213b4522f8c9ba40db5d945b11b69b982c1bb9e3f3fac2bc369488f76b2383565d3fff921f9664c97637da9768812f615c68b13b52e"+
			"c0875924c1c7987947deafd8780acf49",
		hex.EncodeToString(got),
	)
}

// RFC 9180, appendix A.1.1.1, sequence number 0.
func TestHPKEAgainstRFC9180(t *testing.T) {
	x, err := ecdh.X25519().NewPrivateKey(unhex(t, "4612c550263fc8ad58375df3f557aac531d26850903e55a9f23f21d8534e8ac8"))
	require.NoError(t, err)
	k, err := hpke.NewDHKEMPrivateKey(x)
	require.NoError(t, err)
	r, err := hpke.NewRecipient(
		unhex(t, "37fda3567bdbd628e88668c3c8d7e97d1d1253b6d4ea6d44c150f741f1bf4431"),
		k,
		hpke.HKDFSHA256(),
		hpke.AES128GCM(),
		unhex(t, "4f6465206f6e2061204772656369616e2055726e"),
	)
	require.NoError(t, err)
	plain, err := r.Open(
		unhex(t, "436f756e742d30"),
		unhex(t, "f938558b5d72f1a23810b4be2ab4f84331acc02fc97babc53a52ae8218a355a96d8770ac83d07bea87e13c512a"),
	)
	require.NoError(t, err)
	assert.Equal(t, "Beauty is truth, truth beauty", string(plain))
}

func TestStretchBringsPasswordsToOneForm(t *testing.T) {
	p := DefaultParams(make([]byte, SaltSize))
	composed, err := Stretch(secret.New("Mòle Quay 12"), p)
	require.NoError(t, err)
	decomposed, err := Stretch(secret.New("Mo\u0300le\u00a0Quay 12"), p) // no-break space: RFC 8265, 4.2.2, rule 2
	require.NoError(t, err)
	assert.Equal(t, composed, decomposed)
	other, err := Stretch(secret.New("mòle Quay 12"), p)
	require.NoError(t, err)
	assert.NotEqual(t, composed, other, "case matters")
	for _, bad := range []string{"", "a\x00b", "tab\there", strings.Repeat("x", MaxPassword+1), "\xff"} {
		_, err := Stretch(secret.New(bad), p)
		assert.ErrorIs(t, err, ErrPassword, "%q", bad)
	}
}

func TestParamsFromOutsideAreBounded(t *testing.T) {
	good := DefaultParams(make([]byte, SaltSize))
	require.NoError(t, good.Check())
	for name, change := range map[string]func(*Params){
		"short salt": func(p *Params) { p.Salt = p.Salt[:8] }, "one pass": func(p *Params) { p.Time = 1 },
		"weak": func(p *Params) { p.Memory = 1024 }, "huge": func(p *Params) { p.Memory = 8 << 20 },
		"no lanes": func(p *Params) { p.Threads = 0 },
	} {
		p := good
		change(&p)
		assert.ErrorIs(t, p.Check(), ErrParams, name)
	}
}

func TestDeriveDependsOnBothHalves(t *testing.T) {
	a := Derive(Stretched{1}, Code{1})
	assert.NotEqual(t, a.seed, a.SignIn)
	assert.NotEqual(t, a, Derive(Stretched{1}, Code{2}))
	assert.NotEqual(t, a, Derive(Stretched{2}, Code{1}))
}

func TestSealingBindsThePlace(t *testing.T) {
	k, err := NewVaultKey(rand.Reader)
	require.NoError(t, err)
	v := NewVault("vault-1", NewRing(k), rand.Reader)
	sealed, err := v.SealRecord("a", 1, []byte("plain"))
	require.NoError(t, err)
	got, err := v.OpenRecord("a", 1, sealed)
	require.NoError(t, err)
	assert.Equal(t, "plain", string(got))

	other, err := NewVaultKey(rand.Reader)
	require.NoError(t, err)
	for name, try := range map[string]func() ([]byte, error){
		"another record":   func() ([]byte, error) { return v.OpenRecord("b", 1, sealed) },
		"another revision": func() ([]byte, error) { return v.OpenRecord("a", 2, sealed) },
		"another vault": func() ([]byte, error) {
			return NewVault("vault-2", NewRing(k), rand.Reader).OpenRecord("a", 1,
				sealed)
		},
		"another key": func() ([]byte, error) {
			return NewVault("vault-1", NewRing(other), rand.Reader).OpenRecord("a", 1,
				sealed)
		},
		"as a head":       func() ([]byte, error) { return v.OpenHead(1, sealed) },
		"cut":             func() ([]byte, error) { return v.OpenRecord("a", 1, sealed[:len(sealed)-1]) },
		"empty":           func() ([]byte, error) { return v.OpenRecord("a", 1, nil) },
		"another version": func() ([]byte, error) { return v.OpenRecord("a", 1, append([]byte{1}, sealed[1:]...)) },
	} {
		_, err := try()
		assert.ErrorIs(t, err, ErrOpen, name)
	}
}

func TestSealingProperty(t *testing.T) {
	v := NewVault("v", NewRing(VaultKey{7}), rand.Reader)
	rapid.Check(t, func(t *rapid.T) {
		plain := rapid.SliceOfN(rapid.Byte(), 0, 3000).Draw(t, "plain")
		rev := rapid.Uint64().Draw(t, "rev")
		sealed, err := v.SealRecord("id", rev, plain)
		if err != nil {
			t.Fatal(err)
		}
		got, err := v.OpenRecord("id", rev, sealed)
		if err != nil || !bytes.Equal(got, plain) {
			t.Fatalf("%v, %v", got, err)
		}
		i := rapid.IntRange(0, len(sealed)-1).Draw(t, "byte")
		sealed[i] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
		if _, err := v.OpenRecord("id", rev, sealed); err == nil {
			t.Fatalf("a flipped bit in byte %d went unnoticed", i)
		}
	})
}

// Padmé's promise: at most 12 % more, and log log n bits of length shown.
func TestPadme(t *testing.T) {
	assert.Equal(t, 256, len(pad(nil)))
	assert.Equal(t, len(pad(make([]byte, 10))), len(pad(make([]byte, 200))))
	for n := 256; n < 1<<20; n += 977 {
		p := padme(n)
		require.GreaterOrEqual(t, p, n)
		require.LessOrEqual(t, float64(p), float64(n)*1.12)
		e := bits.Len(uint(n)) - 1
		require.Zero(t, p&(1<<(e-bits.Len(uint(e)))-1))
	}
}

func TestSlots(t *testing.T) {
	locks, err := NewLocks(rand.Reader)
	require.NoError(t, err)
	require.NoError(t, locks.Check())
	require.Error(t, Locks{}.Check())
	master, second := Derive(Stretched{1}, Code{1}), Derive(Stretched{2}, Code{1})
	locks[2], err = master.Slot()
	require.NoError(t, err)
	locks[0], err = second.Slot()
	require.NoError(t, err)
	vk, err := NewVaultKey(rand.Reader)
	require.NoError(t, err)
	w, err := locks.Wrap("v", EpochKey{3, vk})
	require.NoError(t, err)
	assert.Len(t, w, slotRoom)
	assert.EqualValues(t, 3, WrappedEpoch(w))
	assert.Equal(t, master.SignIn.Public(), locks.SignIn()[2*PublicSize:3*PublicSize])
	for slot, p := range map[int]Pair{2: master, 0: second} {
		got, n, err := p.Open("v", w)
		require.NoError(t, err)
		assert.Equal(t, slot, n)
		assert.Equal(t, EpochKey{3, vk}, got)
		_, _, err = p.Open("w", w)
		assert.ErrorIs(t, err, ErrOpen)
	}
	for _, p := range []Pair{Derive(Stretched{3}, Code{1}), Derive(Stretched{1}, Code{2})} {
		_, _, err = p.Open("v", w)
		assert.ErrorIs(t, err, ErrOpen)
	}
	moved := bytes.Clone(w)
	copy(moved[headerSize+sealedSlot:], w[headerSize+2*sealedSlot:headerSize+3*sealedSlot])
	copy(moved[headerSize+2*sealedSlot:], w[headerSize+sealedSlot:headerSize+2*sealedSlot])
	_, _, err = master.Open("v", moved)
	assert.ErrorIs(t, err, ErrOpen, "a slot opens in its place alone")
	renumbered := bytes.Clone(w)
	renumbered[4] = 4
	_, _, err = master.Open("v", renumbered)
	assert.ErrorIs(t, err, ErrOpen)
	for n := range len(w) {
		_, _, err = master.Open("v", w[:n])
		assert.ErrorIs(t, err, ErrOpen)
		assert.Zero(t, WrappedEpoch(w[:n]))
	}
}

func TestAnySlotIsDrawnEvenly(t *testing.T) {
	count := map[int]int{}
	for range 3000 {
		n, err := AnySlot(rand.Reader, 1)
		require.NoError(t, err)
		count[n]++
	}
	assert.Len(t, count, 3)
	for n, c := range count {
		assert.InDelta(t, 1000, c, 150, "slot %d", n) // five standard deviations and more
	}
	_, err := AnySlot(rand.Reader, 0, 1, 2, 3)
	require.Error(t, err)
}

func TestCodesOnPaper(t *testing.T) {
	c, err := NewCode(rand.Reader)
	require.NoError(t, err)
	for _, u := range []Use{Carried, Recovery} {
		groups := c.Print(u)
		for _, typed := range []string{strings.Join(groups, " "), strings.ToLower(strings.Join(groups, "-")),
			strings.Join(groups, "\n"), strings.NewReplacer("0", "o", "1", "l").Replace(strings.Join(groups, ""))} {
			got, err := ParseCode(typed, u)
			require.NoError(t, err, typed)
			assert.True(t, got.Equal(c))
		}
		_, err := ParseCode(strings.Join(groups, ""), u^Recovery)
		assert.Equal(t, &CodeError{Fault: CodeOther, Use: u ^ Recovery}, err)
	}
}

// Every single wrong character and every swap of neighbours in a group is
// caught, and named with its group.
func TestCheckCharacters(t *testing.T) {
	c, err := NewCode(rand.Reader)
	require.NoError(t, err)
	groups := c.Print(Carried)
	for g, group := range groups {
		try := func(changed string) {
			if changed == group {
				return
			}
			typed := append([]string{}, groups...)
			typed[g] = changed
			var ce *CodeError
			_, err := ParseCode(strings.Join(typed, " "), Carried)
			require.ErrorAs(t, err, &ce, changed)
			assert.Equal(t, g+1, ce.Group)
		}
		for i := range group {
			for _, r := range alphabet {
				try(group[:i] + string(r) + group[i+1:])
			}
			if i > 0 {
				try(group[:i-1] + string(group[i]) + string(group[i-1]) + group[i+1:])
			}
		}
	}
	groups[2], groups[5] = groups[5], groups[2]
	_, err = ParseCode(strings.Join(groups, " "), Carried)
	assert.Error(t, err, "groups in each other's place")
}

func FuzzParseCode(f *testing.F) {
	f.Add(strings.Join(Code{1, 2, 3}.Print(Carried), " "))
	f.Add("O0Il")
	f.Fuzz(func(t *testing.T, s string) {
		c, err := ParseCode(s, Carried)
		if err != nil {
			return
		}
		again, err := ParseCode(strings.Join(c.Print(Carried), "-"), Carried)
		if err != nil || again != c {
			t.Fatal(err)
		}
	})
}

func joiner(t testing.TB, email string) *Joiner {
	n, err := NewJoiner(email, rand.Reader)
	require.NoError(t, err)
	return n
}

func introducer(t testing.TB, email, words string) *Introducer {
	i, err := NewIntroducer(email, words)
	require.NoError(t, err)
	return i
}

func handedOver() Introduction {
	return Introduction{
		Carried: make([]byte, CodeSize), Params: DefaultParams(make([]byte, SaltSize)), VaultID: "v", Head: 3,
	}
}

func TestIntroduction(t *testing.T) {
	n := joiner(t, "maren@x.example")
	require.Len(t, n.Words(), IntroductionWords)
	words := strings.ToUpper(strings.Join(n.Words(), ", "))
	sealed, err := introducer(t, "maren@x.example", words).Introduce(n.Hello(), handedOver())
	require.NoError(t, err)
	got, err := n.Open(sealed)
	require.NoError(t, err)
	assert.Equal(t, handedOver(), got)
	for _, typed := range []string{"", "a b c", words + " abacus", "xyzzy " + strings.Join(n.Words()[1:], " ")} {
		_, err := NewIntroducer("maren@x.example", typed)
		assert.ErrorIs(t, err, ErrNotWords, typed)
	}
}

// Whoever doesn't know the words can be neither end, whatever else they know.
func TestForgedIntroductions(t *testing.T) {
	const email = "maren@x.example"
	n := joiner(t, email)
	words := strings.Join(n.Words(), " ")
	right := introducer(t, email, words)
	cloud := joiner(t, email) // its own key, its own words

	flipped := func(b []byte, i int) []byte { c := bytes.Clone(b); c[i] ^= 1; return c }
	hello := n.Hello()
	public := len(hello) - codeSize
	for what, h := range map[string][]byte{
		"the cloud's own":   cloud.Hello(),
		"its key, our code": append(bytes.Clone(cloud.Hello()[:public]), hello[public:]...),
		"our key, its code": append(bytes.Clone(hello[:public]), cloud.Hello()[public:]...),
		"a bit of the key":  flipped(hello, 7),
		"a bit of the code": flipped(hello, public),
		"no code":           hello[:public],
		"nothing":           nil,
		"cut short":         hello[:codeSize],
	} {
		_, err := right.Introduce(h, handedOver())
		assert.ErrorIs(t, err, ErrWords, what)
	}
	_, err := introducer(t, "idris@x.example", words).Introduce(hello, handedOver())
	assert.ErrorIs(t, err, ErrWords, "another account's address")

	good, err := right.Introduce(hello, handedOver())
	require.NoError(t, err)
	// The cloud knows the public key, and seals what it likes to it.
	plain, err := json.Marshal(handedOver())
	require.NoError(t, err)
	forged, err := introducer(t, email, strings.Join(cloud.Words(), " ")).seal(n.private.PublicKey().Bytes(), plain)
	require.NoError(t, err)
	toCloud, err := introducer(t, email, strings.Join(cloud.Words(), " ")).Introduce(cloud.Hello(), handedOver())
	require.NoError(t, err)
	for what, a := range map[string][]byte{
		"made with other words":      forged,
		"with the right one's code":  append(bytes.Clone(forged[:len(forged)-codeSize]), good[len(good)-codeSize:]...),
		"with the hello's code":      append(bytes.Clone(forged[:len(forged)-codeSize]), hello[public:]...),
		"without a code":             forged[:len(forged)-codeSize],
		"meant for another":          toCloud,
		"a bit of it":                flipped(good, 40),
		"a bit of the code":          flipped(good, len(good)-1),
		"the hello back":             hello,
		"nothing":                    nil,
		"the word that it was ended": {0},
	} {
		_, err := n.Open(a)
		assert.ErrorIs(t, err, ErrOpen, what)
	}
	_, err = n.Open(good)
	assert.NoError(t, err)
	weak := handedOver()
	weak.Params.Memory = 8
	sealed, err := right.Introduce(hello, weak)
	require.NoError(t, err)
	_, err = n.Open(sealed)
	assert.ErrorIs(t, err, ErrOpen, "weak stretching")
}

func TestWordList(t *testing.T) {
	list := WordList()
	assert.Len(t, list, 7776)
	assert.Equal(t, "abacus", list[0])
	assert.Equal(t, "zoom", list[7775])
	assert.Len(t, Words([32]byte{255}, 6), 6)
}

func TestKeysDontPrint(t *testing.T) {
	v := NewVault("v", NewRing(VaultKey{0xAB, 0xCD}), rand.Reader)
	for _, x := range []any{Key{0xAB, 0xCD}, VaultKey{0xAB, 0xCD}, Stretched{0xAB, 0xCD}, Code{0xAB, 0xCD},
		Pair{seed: Key{0xAB, 0xCD}}, NewRing(VaultKey{0xAB, 0xCD}), v.keys[0].record} {
		s := fmt.Sprintf("%v %+v %s", x, x, x)
		assert.NotContains(t, s, "171", "%T", x)
	}
}

func BenchmarkStretch(b *testing.B) {
	p := DefaultParams(make([]byte, SaltSize))
	for b.Loop() {
		_, _ = Stretch(secret.New("a patient tide"), p)
	}
}

func FuzzOpenSealed(f *testing.F) {
	// Each of the processes that try seals the same.
	v := NewVault("v", NewRing(VaultKey{1}), bytes.NewReader(make([]byte, 1<<10)))
	sealed, _ := v.SealRecord("r", 1, []byte("x"))
	f.Add(sealed)
	f.Fuzz(func(t *testing.T, b []byte) {
		if plain, err := v.OpenRecord("r", 1, b); err == nil && !bytes.Equal(b, sealed) {
			t.Fatalf("opened %x as %x", b, plain)
		}
		if _, err := v.OpenHead(1, b); err == nil {
			t.Fatal("opened as a head")
		}
		_, _, _ = Derive(Stretched{1}, Code{1}).Open("v", b)
		_, _ = unpad(b)
	})
}

func FuzzOpenIntroduction(f *testing.F) {
	n := joiner(f, "a")
	right := introducer(f, "a", strings.Join(n.Words(), " "))
	good, err := right.Introduce(n.Hello(), handedOver())
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good, n.Hello())
	f.Fuzz(func(t *testing.T, sealed, hello []byte) {
		if _, err := n.Open(sealed); err == nil && !bytes.Equal(sealed, good) {
			t.Fatal("opened what was not sealed to it")
		}
		if _, err := right.Introduce(hello, handedOver()); err == nil && !bytes.Equal(hello, n.Hello()) {
			t.Fatal("answered a hello that isn't made with its words")
		}
	})
}

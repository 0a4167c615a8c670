package leaks

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/cloudflare/circl/oprf"
	"github.com/cloudflare/circl/zk/dleq"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The vectors of RFC 9497, appendix A.1 (ristretto255-SHA512, modes 0x00 and 0x01), hold for what we build on.
func TestRFC9497(t *testing.T) {
	b, err := os.ReadFile("../../testdata/rfc9497-ristretto255.json")
	require.NoError(t, err)
	type hexes string // several are parted by commas
	var all []struct {
		Mode    int
		Seed    string
		KeyInfo string `json:"keyInfo"`
		SkSm    string `json:"skSm"`
		PkSm    string `json:"pkSm"`
		Vectors []struct {
			Blind, BlindedElement, EvaluationElement, Input, Output hexes
			Proof                                                   struct{ Proof string }
		}
	}
	require.NoError(t, json.Unmarshal(b, &all))
	require.Len(t, all, 2)
	parts := func(h hexes) (out [][]byte) {
		for s := range strings.SplitSeq(string(h), ",") {
			b, err := hex.DecodeString(s)
			require.NoError(t, err)
			out = append(out, b)
		}
		return out
	}
	one := func(s string) []byte { return parts(hexes(s))[0] }
	done := 0
	for _, m := range all {
		private, err := oprf.DeriveKey(suite, oprf.Mode(m.Mode), one(m.Seed), one(m.KeyInfo))
		require.NoError(t, err)
		key, err := private.MarshalBinary()
		require.NoError(t, err)
		assert.Equal(t, one(m.SkSm), key)
		for _, v := range m.Vectors {
			var blinds []oprf.Blind
			for _, b := range parts(v.Blind) {
				s := suite.Group().NewScalar()
				require.NoError(t, s.UnmarshalBinary(b))
				blinds = append(blinds, s)
			}
			verifiable := oprf.NewVerifiableClient(suite, private.Public())
			plain := oprf.NewClient(suite)
			blind, finalize := plain.DeterministicBlind, plain.Finalize
			if m.Mode == int(oprf.VerifiableMode) {
				blind, finalize = verifiable.DeterministicBlind, verifiable.Finalize
			}
			fin, req, err := blind(parts(v.Input), blinds)
			require.NoError(t, err)
			got, err := writeElements(req.Elements)
			require.NoError(t, err)
			assert.Equal(t, parts(v.BlindedElement), got)
			ev := &oprf.Evaluation{}
			ev.Elements, err = readElements(parts(v.EvaluationElement))
			require.NoError(t, err)
			if m.Mode == int(oprf.VerifiableMode) {
				public, err := private.Public().MarshalBinary()
				require.NoError(t, err)
				assert.Equal(t, one(m.PkSm), public)
				ev.Proof = &dleq.Proof{}
				require.NoError(t, readProof(ev.Proof, one(v.Proof.Proof)))
			}
			outs, err := finalize(fin, ev)
			require.NoError(t, err)
			assert.Equal(t, parts(v.Output), outs)
			done++
		}
	}
	assert.Equal(t, 5, done)
}

func thing(t *testing.T, k Kind, s string) Thing {
	t.Helper()
	got, ok := NewThing(k, s)
	require.True(t, ok, s)
	return got
}

func service(t *testing.T, known map[Thing][]Leak) (*Service, []byte) {
	t.Helper()
	s, err := NewService(bytes.Repeat([]byte{7}, 32), known, rand.Reader)
	require.NoError(t, err)
	key, err := s.Key()
	require.NoError(t, err)
	return s, key
}

func TestObliviousLookup(t *testing.T) {
	maren, idris := thing(t, KindMail, "Maren@Cormorant.example "), thing(t, KindMail, "idris@cormorant.example")
	card := thing(t, KindCard, "4012 8888 8888 1881")
	two := []Leak{
		{Name: "Gullwing", Site: "gullwing.example", Day: "2026-03-02", What: "passwords"},
		{Name: "Ferrylink", Site: "ferrylink.example", Day: "2019-11-30"},
	}
	known := map[Thing][]Leak{maren: two, card: {{Name: "Thriftmarket"}}}
	s, key := service(t, known)
	req, p, err := Ask(key, []Thing{maren, idris, card, thing(t, KindUser, "maren")}, rand.Reader)
	require.NoError(t, err)
	assert.Len(t, req.Elements, batch, "filled up")
	a, err := s.Answer(req)
	require.NoError(t, err)
	found, err := p.Open(a)
	require.NoError(t, err)
	assert.Equal(t, known, found)
}

// A service sees nothing in two requests for the same thing but its bucket, and all buckets have one size.
func TestWhatAServiceSees(t *testing.T) {
	maren := thing(t, KindMail, "maren@cormorant.example")
	s, key := service(t, map[Thing][]Leak{maren: {{Name: "a"}, {Name: "b"}, {Name: "c"}, {Name: "d"}, {Name: "e"}}})
	for _, b := range s.buckets {
		require.Len(t, b, 5*entrySize)
	}
	one, _, err := Ask(key, []Thing{maren}, rand.Reader)
	require.NoError(t, err)
	two, _, err := Ask(key, []Thing{maren}, rand.Reader)
	require.NoError(t, err)
	assert.Contains(t, one.Buckets, bucketOf(maren))
	for _, e := range one.Elements {
		assert.NotContains(t, two.Elements, e)
	}
}

// Whatever is changed of an answer, it isn't believed.
func TestAnswersThatArentMadeWithTheKey(t *testing.T) {
	maren := thing(t, KindMail, "maren@cormorant.example")
	known := map[Thing][]Leak{maren: {{Name: "Gullwing"}}}
	s, key := service(t, known)
	other, err := NewService(bytes.Repeat([]byte{8}, 32), known, rand.Reader)
	require.NoError(t, err)
	req, p, err := Ask(key, []Thing{maren}, rand.Reader)
	require.NoError(t, err)
	good := func() Answer {
		a, err := s.Answer(req)
		require.NoError(t, err)
		a.Buckets[bucketOf(maren)] = bytes.Clone(a.Buckets[bucketOf(maren)])
		return a
	}
	foreign, err := other.Answer(req)
	require.NoError(t, err)
	for what, change := range map[string]func(a *Answer){
		"another key":       func(a *Answer) { *a = foreign },
		"elements swapped":  func(a *Answer) { a.Elements[0], a.Elements[1] = a.Elements[1], a.Elements[0] },
		"one too few":       func(a *Answer) { a.Elements = a.Elements[1:] },
		"none":              func(a *Answer) { a.Elements = nil },
		"no element":        func(a *Answer) { a.Elements[3] = []byte("x") },
		"the identity":      func(a *Answer) { a.Elements[3] = make([]byte, 32) },
		"no proof":          func(a *Answer) { a.Proof = nil },
		"proof too long":    func(a *Answer) { a.Proof = append(a.Proof, 0) },
		"proof of others":   func(a *Answer) { a.Proof = foreign.Proof },
		"a bucket missing":  func(a *Answer) { delete(a.Buckets, bucketOf(maren)) },
		"a bucket cut":      func(a *Answer) { a.Buckets[bucketOf(maren)] = a.Buckets[bucketOf(maren)][1:] },
		"an entry damaged":  func(a *Answer) { a.Buckets[bucketOf(maren)] = damaged(t, a) },
		"a bucket too long": func(a *Answer) { a.Buckets[bucketOf(maren)] = make([]byte, entrySize*(maxEntries+1)) },
	} {
		a := good()
		change(&a)
		_, err := p.Open(a)
		assert.ErrorIs(t, err, ErrAnswer, what)
	}
	found, err := p.Open(good())
	require.NoError(t, err)
	assert.Len(t, found, 1)
}

// damaged changes the last byte of each entry.
func damaged(t *testing.T, a *Answer) []byte {
	t.Helper()
	maren := thing(t, KindMail, "maren@cormorant.example")
	b := bytes.Clone(a.Buckets[bucketOf(maren)])
	for e := range len(b) / entrySize {
		b[(e+1)*entrySize-1] ^= 1
	}
	return b
}

func TestRequestsThatAreNone(t *testing.T) {
	s, key := service(t, nil)
	for what, k := range map[string][]byte{"empty": nil, "short": key[1:], "identity": make([]byte, 32)} {
		_, _, err := Ask(k, nil, rand.Reader)
		assert.ErrorIs(t, err, ErrKey, what)
	}
	req, p, err := Ask(key, nil, rand.Reader)
	require.NoError(t, err, "nothing to ask is filled up too")
	a, err := s.Answer(req)
	require.NoError(t, err)
	found, err := p.Open(a)
	require.NoError(t, err)
	assert.Empty(t, found)
	for what, r := range map[string]Request{
		"empty":      {},
		"no bucket":  {Elements: req.Elements},
		"far bucket": {Elements: req.Elements[:1], Buckets: []uint16{1 << bucketBits}},
		"no element": {Elements: [][]byte{{1}}, Buckets: []uint16{0}},
		"identity":   {Elements: [][]byte{make([]byte, 32)}, Buckets: []uint16{0}},
		"too many":   {Elements: make([][]byte, maxBatch+1), Buckets: make([]uint16, maxBatch+1)},
	} {
		_, err := s.Answer(r)
		assert.ErrorIs(t, err, ErrAsked, what)
	}
	_, err = NewService(nil, nil, rand.Reader)
	require.ErrorIs(t, err, ErrKey)
	_, err = NewService(key, map[Thing][]Leak{{KindUser, "maren"}: {{Name: strings.Repeat("x", leakSize)}}}, rand.Reader)
	assert.Error(t, err)
}

func TestThings(t *testing.T) {
	for _, c := range []struct {
		kind Kind
		text string
		want string // empty if it is none
	}{
		{KindMail, " Wren@Saltmarsh-School.Example\t", "wren@saltmarsh-school.example"},
		{KindMail, "wren", ""},
		{KindMail, "wren@harbour", ""},
		{KindMail, "wren t@harbour.example", ""},
		{KindMail, "@harbour.example", ""},
		{KindUser, "Wren.T", "wren.t"},
		{KindUser, "w", ""},
		{KindUser, "wren@harbour.example", ""},
		{KindCard, "4012-8888 8888 1881", "4012888888881881"}, // a number for tests, common practice
		{KindCard, "4012888888881882", ""},
		{KindCard, "79927398713", ""}, // right by its check, but too short
		{KindCard, "•••• 1881", ""},
	} {
		got, ok := NewThing(c.kind, c.text)
		assert.Equal(t, c.want != "", ok, c.text)
		if ok {
			assert.Equal(t, Thing{c.kind, c.want}, got)
		}
	}
}

// An answer may be anything: nothing comes out of one that the service's key didn't make.
func FuzzAnswer(f *testing.F) {
	s, err := NewService(bytes.Repeat([]byte{7}, 32), map[Thing][]Leak{}, rand.Reader)
	require.NoError(f, err)
	key, err := s.Key()
	require.NoError(f, err)
	what, ok := NewThing(KindUser, "maren")
	require.True(f, ok)
	req, p, err := Ask(key, []Thing{what}, rand.Reader)
	require.NoError(f, err)
	a, err := s.Answer(req)
	require.NoError(f, err)
	b, err := json.Marshal(a)
	require.NoError(f, err)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		var a Answer
		if json.Unmarshal(b, &a) != nil {
			return
		}
		if found, err := p.Open(a); err == nil {
			assert.Empty(t, found)
		}
	})
}

package wire

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/keys"
)

// What a request carries of signatures is anybody's: it is read or refused, and what is read is written the same again.
func FuzzHeaders(f *testing.F) {
	h := http.Header{}
	key := keys.Key{1}
	Signature{Account: "a", Device: "d", Time: 1, Nonce: "0123456789abcdef"}.
		Sign(key, "cloud.example", "GET", "/", "").Set(h, "digest")
	Prove(key, ProofSignIn, []byte("challenge"), "cloud.example", "POST", "/", "digest").Set(h)
	f.Add(h.Get(headerSigned), h.Get(headerProof))
	f.Add("", "challenge=,signature=")
	f.Add(scheme+" account=,,,=,time=99999999999999999999", "=,=")
	f.Fuzz(func(t *testing.T, signed, proof string) {
		h := http.Header{}
		h.Set(headerSigned, signed)
		h.Set(headerProof, proof)
		if s, digest, ok := SignatureOf(h); ok {
			again := http.Header{}
			s.Set(again, digest)
			twice, same, ok := SignatureOf(again)
			assert.True(t, ok)
			assert.Equal(t, s, twice)
			assert.Equal(t, digest, same)
			s.Holds(key.Public(), "cloud.example", "GET", "/", digest)
			s.Holds(nil, "", "", "", "")
		}
		if p, ok := ProofOf(h); ok {
			p.Holds(key.Public(), ProofSignIn, "cloud.example", "POST", "/", "")
		}
	})
}

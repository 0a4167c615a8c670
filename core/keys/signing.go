package keys

import (
	"crypto/ed25519"
	"crypto/rand"
)

// SignatureSize and PublicSize are the lengths of what follows, in bytes.
const (
	SignatureSize = ed25519.SignatureSize
	PublicSize    = ed25519.PublicKeySize
)

// NewSigning returns a fresh key to sign with, from the system's own randomness.
func NewSigning() (k Key) {
	_, _ = rand.Read(k[:]) // never fails
	return k
}

// Public returns the public key (Ed25519, RFC 8032) of a key that is used to sign with, as its seed.
func (k Key) Public() []byte {
	return ed25519.NewKeyFromSeed(k[:]).Public().(ed25519.PublicKey)
}

// Sign signs parts for a purpose. A signature for one purpose is none for another, and parts can't run into each other;
// each has at most 65,535 bytes.
func (k Key) Sign(purpose string, parts ...string) []byte {
	return ed25519.Sign(ed25519.NewKeyFromSeed(k[:]), signed(purpose, parts))
}

// Verify reports whether a signature of parts is made with the key that belongs to a public one.
func Verify(public, signature []byte, purpose string, parts ...string) bool {
	return len(public) == PublicSize && len(signature) == SignatureSize &&
		ed25519.Verify(public, signed(purpose, parts), signature)
}

func signed(purpose string, parts []string) []byte {
	b := lengthPrefixed(nil, "redlocket/2 "+purpose)
	for _, p := range parts {
		b = lengthPrefixed(b, p)
	}
	return b
}

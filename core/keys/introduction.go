package keys

import (
	"crypto/hpke"
	"crypto/sha256"
	"encoding/json"
	"fmt"
)

// IntroductionWords is how many words name a new device's key: 77 bits, more
// than a cloud that wants to put its own key in between can search through.
const IntroductionWords = 6

// Joiner is the new device's side of an introduction: a fresh HPKE key pair
// (RFC 9180, base mode; ML-KEM-768 + X25519, HKDF-SHA-256, ChaCha20-Poly1305)
// that serves once.
type Joiner struct{ private hpke.PrivateKey }

// NewJoiner makes a fresh key pair, from the system's own randomness.
func NewJoiner() (*Joiner, error) {
	k, err := hpke.MLKEM768X25519().GenerateKey()
	if err != nil {
		return nil, fmt.Errorf("failed to make a key for the introduction: %w", err)
	}
	return &Joiner{k}, nil
}

// PublicKey returns what the cloud relays to the old device.
func (n *Joiner) PublicKey() []byte { return n.private.PublicKey().Bytes() }

// Fingerprint returns the words that name a newcomer's public key.
func Fingerprint(publicKey []byte) []string {
	return Words(sha256.Sum256(associatedData("introduction", string(publicKey))), IntroductionWords)
}

// Introduction is what the old device hands over: the carried half, and the
// newest head it has seen, so that the newcomer can't be shown an older vault.
type Introduction struct {
	Carried  []byte `json:"carried"`
	VaultID  string `json:"vault"`
	Head     uint64 `json:"head"`
	HeadHash string `json:"head_hash"` // hex
	Seed     string `json:"seed"`      // the medallion's, hex
}

// Introduce seals an introduction to the newcomer whose public key has the given
// words; it refuses any other key.
func Introduce(publicKey []byte, words string, in Introduction) ([]byte, error) {
	if NormalWords(words) != NormalWords(joinWords(Fingerprint(publicKey))) {
		return nil, ErrWords
	}
	pk, err := hpke.MLKEM768X25519().NewPublicKey(publicKey)
	if err != nil {
		return nil, fmt.Errorf("failed to read the new device's key: %w", err)
	}
	plain, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	return hpke.Seal(pk, hpke.HKDFSHA256(), hpke.ChaCha20Poly1305(), introductionInfo, plain)
}

// Open opens an introduction sealed to this newcomer.
func (n *Joiner) Open(sealed []byte) (Introduction, error) {
	var in Introduction
	plain, err := hpke.Open(n.private, hpke.HKDFSHA256(), hpke.ChaCha20Poly1305(), introductionInfo, sealed)
	if err != nil {
		return in, ErrOpen
	}
	if err := json.Unmarshal(plain, &in); err != nil || len(in.Carried) != CodeSize {
		return in, ErrOpen
	}
	return in, nil
}

var introductionInfo = []byte("redlocket/1 introduction")

package keys

import (
	"crypto/hpke"
	"crypto/sha256"
	"errors"
	"io"
)

// Identity is what a device, or a person, has to be known by: a key that signs, and one that is sealed to (HPKE, RFC
// 9180, base mode; ML-KEM-768 + X25519, HKDF-SHA-256, ChaCha20-Poly1305). A device's is made once, and never leaves it.
// A person's is in their vault, on each of their devices.
type Identity struct {
	sign Key
	seed Key
	seal hpke.PrivateKey
}

// PublicIdentity are the public parts of an identity.
type PublicIdentity struct {
	Sign []byte `json:"sign"` // Ed25519
	Seal []byte `json:"seal"` // HPKE
}

// NewIdentity draws an identity.
func NewIdentity(rand io.Reader) (Identity, error) {
	b := make([]byte, 2*KeySize)
	if _, err := io.ReadFull(rand, b); err != nil {
		return Identity{}, err
	}
	return ParseIdentity(b)
}

// ParseIdentity reads what [Identity.Bytes] wrote.
func ParseIdentity(b []byte) (d Identity, err error) {
	if len(b) != 2*KeySize {
		return d, errors.New("an identity has 64 bytes")
	}
	d.sign, d.seed = Key(b[:KeySize]), Key(b[KeySize:])
	d.seal, err = hpke.MLKEM768X25519().DeriveKeyPair(d.seed[:])
	return d, err
}

// String keeps it out of logs.
func (Identity) String() string { return "keys.Identity(hidden)" }

// Bytes returns the private keys.
func (d Identity) Bytes() []byte { return append(d.sign[:], d.seed[:]...) }

// Public returns the public parts.
func (d Identity) Public() PublicIdentity {
	return PublicIdentity{d.sign.Public(), d.seal.PublicKey().Bytes()}
}

// Sign signs parts for a purpose; see [Key.Sign].
func (d Identity) Sign(purpose string, parts ...string) []byte {
	return d.sign.Sign(purpose, parts...)
}

// Check returns an error for what can't be the public parts of an identity.
func (p PublicIdentity) Check() error {
	if _, err := hpke.MLKEM768X25519().NewPublicKey(p.Seal); err != nil || len(p.Sign) != PublicSize {
		return errors.New("these are no public keys")
	}
	return nil
}

// Equal reports whether two are the same.
func (p PublicIdentity) Equal(q PublicIdentity) bool {
	return string(p.Sign) == string(q.Sign) && string(p.Seal) == string(q.Seal)
}

// Digest names the public parts: SHA-256 of both.
func (p PublicIdentity) Digest() (d [sha256.Size]byte) {
	return sha256.Sum256(lengthPrefixed(lengthPrefixed(nil, string(p.Sign)), string(p.Seal)))
}

// Letter is what one identity sealed to another.
type Letter struct {
	From  []byte // the public key of whoever signed it; whether that is somebody known is for the caller to see
	Plain []byte
}

const signedLetter = "letter"

// SealLetter seals plain to another identity, signed by this one. It can be opened under its id alone, and by nobody
// else: the signature covers whom it is for. Its length shows only what padding leaves of it.
func (d Identity) SealLetter(to PublicIdentity, id string, plain []byte) ([]byte, error) {
	signature := d.Sign(signedLetter, letterParts(to, id, plain)...)
	body := append(append(d.sign.Public(), signature...), plain...)
	return sealTo(to.Seal, letterInfo(id), pad(body))
}

// OpenLetter opens a letter that was sealed to this identity. The error is [ErrOpen] also where it isn't signed by
// whom it says it is from.
func (d Identity) OpenLetter(id string, sealed []byte) (l Letter, err error) {
	padded, err := openSealed(d.seal, letterInfo(id), sealed)
	if err != nil {
		return l, ErrOpen
	}
	body, err := unpad(padded)
	const head = PublicSize + SignatureSize
	if err != nil || len(body) < head {
		return l, ErrOpen
	}
	l = Letter{body[:PublicSize], body[head:]}
	if !Verify(l.From, body[PublicSize:head], signedLetter, letterParts(d.Public(), id, l.Plain)...) {
		return Letter{}, ErrOpen
	}
	return l, nil
}

func letterInfo(id string) []byte { return associatedData("letter", id) }

func letterParts(to PublicIdentity, id string, plain []byte) []string {
	whom, what := to.Digest(), sha256.Sum256(plain)
	return []string{id, string(whom[:]), string(what[:])}
}

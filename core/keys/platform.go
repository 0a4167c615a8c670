package keys

import (
	"crypto/hpke"
)

// PRFSize is how many bytes the PRF extension of WebAuthn puts out.
const PRFSize = 32

// PlatformKeys are what the device's own authenticator opens a vault by: a fingerprint, a face, a PIN. They are made of
// what it says to a salt (WebAuthn level 3, section 10.1.4, "prf"). The key of a later epoch is sealed to the public
// part, without the authenticator.
type PlatformKeys struct {
	seal hpke.PrivateKey
	// Late signs where a new master password is asked for that comes into force after a wait.
	Late Key
}

// String keeps them out of logs.
func (PlatformKeys) String() string { return "keys.PlatformKeys(hidden)" }

// DerivePlatform makes the keys of an authenticator's output.
func DerivePlatform(prf [PRFSize]byte) (PlatformKeys, error) {
	seed := expand(prf[:], "platform")
	private, err := hpke.MLKEM768X25519().DeriveKeyPair(seed[:])
	return PlatformKeys{private, expand(prf[:], "late")}, err
}

// Public returns the public part.
func (p PlatformKeys) Public() []byte { return p.seal.PublicKey().Bytes() }

// WrapForPlatform seals the key of an epoch to the public part of platform keys.
func WrapForPlatform(public []byte, vaultID string, k EpochKey) ([]byte, error) {
	return k.sealTo(public, associatedData("platform", vaultID))
}

// Unwrap opens what [WrapForPlatform] sealed. The error is [ErrOpen].
func (p PlatformKeys) Unwrap(vaultID string, wrapped []byte) (EpochKey, error) {
	return openEpochKey(p.seal, associatedData("platform", vaultID), wrapped)
}

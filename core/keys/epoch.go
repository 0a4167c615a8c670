package keys

import (
	"crypto/hpke"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
)

// Epoch is what a device tells the others when it begins one.
type Epoch struct {
	Number  uint32            `json:"epoch"` // from 2
	Vault   string            `json:"vault"`
	By      string            `json:"by"`            // id of the device
	At      int64             `json:"at"`            // milliseconds since 1970, by its clock
	Out     []string          `json:"out,omitempty"` // ids of the devices that it shuts out
	Keys    map[string][]byte `json:"keys"`          // the epoch's key, sealed to each device that stays, by its id
	Ring    []byte            `json:"ring"`          // sealed under that key: see [Ring.Seal]
	Params  Params            `json:"params"`
	Wrapped []byte            `json:"wrapped"` // the epoch's key, as the master password opens it
}

// Statement is an epoch as it travels, signed by the device that began it.
type Statement struct {
	Body      []byte `json:"body"`
	Signature []byte `json:"signature"`
}

const signedEpoch = "epoch"

// SignEpoch makes the statement.
func (d Identity) SignEpoch(e Epoch) (s Statement, err error) {
	if s.Body, err = json.Marshal(e); err != nil {
		return s, err
	}
	sum := sha256.Sum256(s.Body)
	s.Signature = d.sign.Sign(signedEpoch, string(sum[:]))
	return s, nil
}

// Read decodes a statement. Nothing of it is verified by that: see [Statement.Holds].
func (s Statement) Read() (e Epoch, err error) {
	if err := json.Unmarshal(s.Body, &e); err != nil {
		return e, fmt.Errorf("failed to decode an epoch: %w", err)
	}
	return e, nil
}

// Holds reports whether a device with this public key signed the statement.
func (s Statement) Holds(by PublicIdentity) bool {
	sum := sha256.Sum256(s.Body)
	return Verify(by.Sign, s.Signature, signedEpoch, string(sum[:]))
}

// SealTo seals an epoch's key to a device of a vault.
func (k EpochKey) SealTo(to PublicIdentity, vaultID, device string) ([]byte, error) {
	return k.sealTo(to.Seal, associatedData("epoch key", vaultID, device))
}

// Open opens an epoch's key that was sealed to this device. The error is [ErrOpen].
func (d Identity) Open(vaultID, device string, sealed []byte) (EpochKey, error) {
	return openEpochKey(d.seal, associatedData("epoch key", vaultID, device), sealed)
}

func (k EpochKey) sealTo(public, info []byte) ([]byte, error) {
	plain := append(binary.BigEndian.AppendUint32(nil, k.Epoch), k.Key[:]...)
	return sealTo(public, info, plain)
}

func openEpochKey(private hpke.PrivateKey, info, sealed []byte) (EpochKey, error) {
	plain, err := openSealed(private, info, sealed)
	if err != nil || len(plain) != 4+KeySize {
		return EpochKey{}, ErrOpen
	}
	return EpochKey{binary.BigEndian.Uint32(plain), VaultKey(plain[4:])}, nil
}

// sealTo seals to an HPKE public key.
func sealTo(public, info, plain []byte) ([]byte, error) {
	pk, err := hpke.MLKEM768X25519().NewPublicKey(public)
	if err != nil {
		return nil, fmt.Errorf("failed to read a public key: %w", err)
	}
	return hpke.Seal(pk, hpke.HKDFSHA256(), hpke.ChaCha20Poly1305(), info, plain)
}

func openSealed(private hpke.PrivateKey, info, sealed []byte) ([]byte, error) {
	plain, err := hpke.Open(private, hpke.HKDFSHA256(), hpke.ChaCha20Poly1305(), info, sealed)
	if err != nil {
		return nil, ErrOpen
	}
	return plain, nil
}

// RecoveryKeys are what a recovery code opens and signs in with.
type RecoveryKeys struct {
	SignIn Key
	seal   hpke.PrivateKey
}

// String keeps them out of logs.
func (RecoveryKeys) String() string { return "keys.RecoveryKeys(hidden)" }

// RecoveryPublic are the public parts: who has them can seal a vault key for whoever has the sheet.
type RecoveryPublic struct {
	SignIn []byte `json:"sign_in"`
	Seal   []byte `json:"seal"`
}

// DeriveRecovery makes the keys of the sheet's recovery code.
func DeriveRecovery(recovery Code) (RecoveryKeys, error) {
	seed := expand(recovery[:], "recovery")
	private, err := hpke.MLKEM768X25519().DeriveKeyPair(seed[:])
	return RecoveryKeys{expand(recovery[:], "recovery sign-in"), private}, err
}

// Public returns the public parts.
func (r RecoveryKeys) Public() RecoveryPublic {
	return RecoveryPublic{r.SignIn.Public(), r.seal.PublicKey().Bytes()}
}

// Wrap seals the key of an epoch for whoever has the recovery code.
func (p RecoveryPublic) Wrap(vaultID string, k EpochKey) ([]byte, error) {
	return k.sealTo(p.Seal, associatedData("recovery", vaultID))
}

// Unwrap opens what [RecoveryPublic.Wrap] sealed. The error is [ErrOpen].
func (r RecoveryKeys) Unwrap(vaultID string, wrapped []byte) (EpochKey, error) {
	return openEpochKey(r.seal, associatedData("recovery", vaultID), wrapped)
}

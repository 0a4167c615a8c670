package keys

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"

	"golang.org/x/crypto/chacha20poly1305"
)

// Version is the first byte of everything sealed.
const Version = 1

// MaxPlain is the largest plaintext that is sealed or opened, in bytes.
const MaxPlain = 4 << 20

// ErrOpen is returned for bytes that were not sealed under this key for this
// place: altered, cut, moved, or never ours. It doesn't say which.
var ErrOpen = errors.New("not sealed under this key for this place")

// VaultKey is the random key that everything in one vault hangs from.
type VaultKey Key

// String keeps it out of logs.
func (VaultKey) String() string { return "keys.VaultKey(hidden)" }

// NewVaultKey draws a vault key.
func NewVaultKey(rand io.Reader) (VaultKey, error) {
	var k VaultKey
	if _, err := io.ReadFull(rand, k[:]); err != nil {
		return VaultKey{}, fmt.Errorf("failed to draw a vault key: %w", err)
	}
	return k, nil
}

// Purpose says which key wraps a vault key.
type Purpose string

// The wrappings. Platform is the unlock by a platform authenticator.
const (
	ByMaster   Purpose = "master"
	ByRecovery Purpose = "recovery"
	ByPlatform Purpose = "platform"
)

// Wrap seals a vault key under another key, and commits to that one: what is wrapped opens under no second key, so that
// nobody can make a copy that says yes to many passwords at once (Len, Grubbs and Ristenpart, "Partitioning Oracle
// Attacks", 2021). The commitment comes first, 32 bytes.
func Wrap(rand io.Reader, under Key, p Purpose, vaultID string, k VaultKey) ([]byte, error) {
	ad := associatedData("wrap", string(p), vaultID)
	b, err := seal(rand, expand(under[:], "wrap key"), ad, k[:])
	return append(commitment(under, ad), b...), err
}

// commitment is a code that only one key makes.
func commitment(under Key, ad []byte) []byte {
	k := expand(under[:], "wrap commitment")
	m := hmac.New(sha256.New, k[:])
	m.Write(ad)
	return m.Sum(nil)
}

// Unwrap opens what [Wrap] sealed. It returns [ErrOpen] if the key is another,
// which is how a wrong master password shows.
func Unwrap(under Key, p Purpose, vaultID string, wrapped []byte) (VaultKey, error) {
	ad := associatedData("wrap", string(p), vaultID)
	if len(wrapped) < sha256.Size || !hmac.Equal(wrapped[:sha256.Size], commitment(under, ad)) {
		return VaultKey{}, ErrOpen
	}
	b, err := open(expand(under[:], "wrap key"), ad, wrapped[sha256.Size:])
	if err != nil || len(b) != KeySize {
		return VaultKey{}, ErrOpen
	}
	return VaultKey(b), nil
}

// Vault seals and opens what belongs to one vault. It is safe for concurrent
// use if its randomness is.
type Vault struct {
	id                  string
	record, head, local Key
	blob                Key
	rand                io.Reader
}

// NewVault derives the sealing keys of the vault with the given id.
func NewVault(id string, k VaultKey, rand io.Reader) *Vault {
	return &Vault{id, expand(k[:], "record"), expand(k[:], "head"), expand(k[:], "local"), expand(k[:], "blob"), rand}
}

// ID returns the vault's id.
func (v *Vault) ID() string { return v.id }

// SealRecord seals one revision of one record.
func (v *Vault) SealRecord(id string, rev uint64, plain []byte) ([]byte, error) {
	return seal(v.rand, v.record, associatedData("record", v.id, id, number(rev)), plain)
}

// OpenRecord opens what was sealed for exactly this record and revision.
func (v *Vault) OpenRecord(id string, rev uint64, sealed []byte) ([]byte, error) {
	return open(v.record, associatedData("record", v.id, id, number(rev)), sealed)
}

// SealHead seals the head of the given number.
func (v *Vault) SealHead(n uint64, plain []byte) ([]byte, error) {
	return seal(v.rand, v.head, associatedData("head", v.id, number(n)), plain)
}

// OpenHead opens what was sealed as exactly this head.
func (v *Vault) OpenHead(n uint64, sealed []byte) ([]byte, error) {
	return open(v.head, associatedData("head", v.id, number(n)), sealed)
}

// SealLocal seals something that stays on this device, such as its cloud
// session, under a name of its own.
func (v *Vault) SealLocal(name string, plain []byte) ([]byte, error) {
	return seal(v.rand, v.local, associatedData("local", v.id, name), plain)
}

// OpenLocal opens what [Vault.SealLocal] sealed under the name.
func (v *Vault) OpenLocal(name string, sealed []byte) ([]byte, error) {
	return open(v.local, associatedData("local", v.id, name), sealed)
}

// ChunkSize is how many bytes of a file are sealed at once. All chunks of a file
// but the last are that long.
const ChunkSize = 256 << 10

// SealChunk seals one chunk of a file, counted from 0. The last one says so: a file
// that was cut short can't pass for whole (the STREAM construction: Hoang,
// Reyhanitabar, Rogaway, Vizár, "Online Authenticated-Encryption and its
// Nonce-Reuse Misuse-Resistance", 2015; here with random nonces).
func (v *Vault) SealChunk(file string, n int, last bool, plain []byte) ([]byte, error) {
	return seal(v.rand, v.blob, associatedData("chunk", v.id, file, number(uint64(n)), chunkPosition(last)), plain)
}

// OpenChunk opens what was sealed as exactly this chunk.
func (v *Vault) OpenChunk(file string, n int, last bool, sealed []byte) ([]byte, error) {
	return open(v.blob, associatedData("chunk", v.id, file, number(uint64(n)), chunkPosition(last)), sealed)
}

func chunkPosition(last bool) string {
	if last {
		return "last"
	}
	return "more"
}

func number(n uint64) string { return string(binary.BigEndian.AppendUint64(nil, n)) }

// associatedData builds associated data: a label and its parts, each after its length
// in two bytes, so that no two lists of parts give the same bytes.
func associatedData(kind string, parts ...string) []byte {
	b := lengthPrefixed(nil, "redlocket/1 "+kind)
	for _, p := range parts {
		b = lengthPrefixed(b, p)
	}
	return b
}

func lengthPrefixed(b []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint16(b, uint16(len(s))), s...)
}

func seal(rand io.Reader, k Key, ad, plain []byte) ([]byte, error) {
	if len(plain) > MaxPlain {
		return nil, fmt.Errorf("failed to seal %d bytes: the limit is %d", len(plain), MaxPlain)
	}
	aead, err := chacha20poly1305.NewX(k[:])
	if err != nil {
		return nil, err
	}
	padded := pad(plain)
	out := make([]byte, 1+aead.NonceSize(), 1+aead.NonceSize()+len(padded)+aead.Overhead())
	out[0] = Version
	if _, err := io.ReadFull(rand, out[1:]); err != nil {
		return nil, fmt.Errorf("failed to draw a nonce: %w", err)
	}
	return aead.Seal(out, out[1:], padded, ad), nil
}

func open(k Key, ad, sealed []byte) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(k[:])
	if err != nil {
		return nil, err
	}
	n := 1 + aead.NonceSize()
	if len(sealed) < n+aead.Overhead() || len(sealed) > 2*MaxPlain || sealed[0] != Version {
		return nil, ErrOpen
	}
	padded, err := aead.Open(nil, sealed[1:n], sealed[n:], ad)
	if err != nil {
		return nil, ErrOpen
	}
	return unpad(padded)
}

// pad appends 0x80 and zeros up to the Padmé size (Nikitin et al., "Reducing
// Metadata Leakage from Encrypted Files and Communication with PURBs", 2019,
// algorithm 1), but at least 256 bytes: short entries look alike, and no entry's
// length shows more than O(log log n) bits.
func pad(b []byte) []byte {
	out := make([]byte, padme(max(len(b)+1, 256)))
	copy(out, b)
	out[len(b)] = 0x80
	return out
}

func unpad(b []byte) ([]byte, error) {
	i := len(b) - 1
	for i >= 0 && b[i] == 0 {
		i--
	}
	if i < 0 || b[i] != 0x80 {
		return nil, ErrOpen
	}
	return b[:i], nil
}

func padme(n int) int {
	e := bits.Len(uint(n)) - 1
	s := bits.Len(uint(e))
	mask := 1<<max(e-s, 0) - 1
	return (n + mask) &^ mask
}

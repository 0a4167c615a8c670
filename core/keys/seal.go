package keys

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"

	"golang.org/x/crypto/chacha20poly1305"
)

// Version is the first byte of everything sealed. The number of the epoch whose key it is sealed under follows, in four
// bytes.
const Version = 2

const headerSize = 1 + 4

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

// Vault seals and opens what belongs to one vault: it seals under the key of the newest epoch, and opens what was
// sealed in any. It is safe for concurrent use if its randomness is.
type Vault struct {
	id   string
	ring Ring
	keys []sealing // by epoch, from 1
	rand io.Reader
}

// sealing are the keys under one vault key.
type sealing struct{ record, head, local, blob Key }

// NewVault derives the sealing keys of the vault with the given id.
func NewVault(id string, r Ring, rand io.Reader) *Vault {
	v := &Vault{id: id, ring: r, rand: rand}
	for _, e := range r.epochs {
		k := e.key[:]
		v.keys = append(v.keys, sealing{expand(k, "record"), expand(k, "head"), expand(k, "local"), expand(k, "blob")})
	}
	return v
}

// ID returns the vault's id.
func (v *Vault) ID() string { return v.id }

// Ring returns the keys that it was made with.
func (v *Vault) Ring() Ring { return v.ring }

// seal seals under one of the newest epoch's keys.
func (v *Vault) seal(which func(*sealing) Key, ad, plain []byte) ([]byte, error) {
	return seal(v.rand, which(&v.keys[len(v.keys)-1]), v.ring.Epoch(), ad, plain)
}

// open opens under the key of the epoch that the sealed bytes name.
func (v *Vault) open(which func(*sealing) Key, ad, sealed []byte) ([]byte, error) {
	n := SealedEpoch(sealed)
	if n == 0 || n > v.ring.Epoch() {
		return nil, ErrOpen
	}
	return open(which(&v.keys[n-1]), ad, sealed)
}

func forRecords(k *sealing) Key { return k.record }
func forHeads(k *sealing) Key   { return k.head }
func forLocal(k *sealing) Key   { return k.local }
func forChunks(k *sealing) Key  { return k.blob }

// SealRecord seals one revision of one record.
func (v *Vault) SealRecord(id string, rev uint64, plain []byte) ([]byte, error) {
	return v.seal(forRecords, associatedData("record", v.id, id, number(rev)), plain)
}

// OpenRecord opens what was sealed for exactly this record and revision.
func (v *Vault) OpenRecord(id string, rev uint64, sealed []byte) ([]byte, error) {
	return v.open(forRecords, associatedData("record", v.id, id, number(rev)), sealed)
}

// SealHead seals the head of the given number.
func (v *Vault) SealHead(n uint64, plain []byte) ([]byte, error) {
	return v.seal(forHeads, associatedData("head", v.id, number(n)), plain)
}

// OpenHead opens what was sealed as exactly this head, in the epoch that it belongs to: whoever has an old key makes no
// head of a later epoch with it.
func (v *Vault) OpenHead(n uint64, sealed []byte) ([]byte, error) {
	if SealedEpoch(sealed) != v.ring.At(n) {
		return nil, ErrOpen
	}
	return v.open(forHeads, associatedData("head", v.id, number(n)), sealed)
}

// SealLocal seals something that stays on this device, such as its cloud
// session, under a name of its own.
func (v *Vault) SealLocal(name string, plain []byte) ([]byte, error) {
	return v.seal(forLocal, associatedData("local", v.id, name), plain)
}

// OpenLocal opens what [Vault.SealLocal] sealed under the name.
func (v *Vault) OpenLocal(name string, sealed []byte) ([]byte, error) {
	return v.open(forLocal, associatedData("local", v.id, name), sealed)
}

// ChunkSize is how many bytes of a file are sealed at once. All chunks of a file
// but the last are that long.
const ChunkSize = 256 << 10

// SealChunk seals one chunk of a file, counted from 0. The last one says so: a file
// that was cut short can't pass for whole (the STREAM construction: Hoang,
// Reyhanitabar, Rogaway, Vizár, "Online Authenticated-Encryption and its
// Nonce-Reuse Misuse-Resistance", 2015; here with random nonces).
func (v *Vault) SealChunk(file string, n int, last bool, plain []byte) ([]byte, error) {
	return v.seal(forChunks, associatedData("chunk", v.id, file, number(uint64(n)), chunkPosition(last)), plain)
}

// OpenChunk opens what was sealed as exactly this chunk.
func (v *Vault) OpenChunk(file string, n int, last bool, sealed []byte) ([]byte, error) {
	return v.open(forChunks, associatedData("chunk", v.id, file, number(uint64(n)), chunkPosition(last)), sealed)
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
	b := lengthPrefixed(nil, "redlocket/2 "+kind)
	for _, p := range parts {
		b = lengthPrefixed(b, p)
	}
	return b
}

func lengthPrefixed(b []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint16(b, uint16(len(s))), s...)
}

func seal(rand io.Reader, k Key, epoch uint32, ad, plain []byte) ([]byte, error) {
	if len(plain) > MaxPlain {
		return nil, fmt.Errorf("failed to seal %d bytes: the limit is %d", len(plain), MaxPlain)
	}
	aead, err := chacha20poly1305.NewX(k[:])
	if err != nil {
		return nil, err
	}
	padded := pad(plain)
	out := make([]byte, headerSize+aead.NonceSize(), headerSize+aead.NonceSize()+len(padded)+aead.Overhead())
	out[0] = Version
	binary.BigEndian.PutUint32(out[1:], epoch)
	if _, err := io.ReadFull(rand, out[headerSize:]); err != nil {
		return nil, fmt.Errorf("failed to draw a nonce: %w", err)
	}
	return aead.Seal(out, out[headerSize:], padded, withHeader(out, ad)), nil
}

// withHeader is the associated data that is sealed with: what the sealed bytes begin with, and their place.
func withHeader(sealed, ad []byte) []byte { return append(sealed[:headerSize:headerSize], ad...) }

// SealedEpoch returns the epoch that sealed bytes say they were sealed in; 0 if they can't be any.
func SealedEpoch(sealed []byte) uint32 {
	if len(sealed) < headerSize || sealed[0] != Version {
		return 0
	}
	return sealedIn(sealed)
}

func sealedIn(sealed []byte) uint32 { return binary.BigEndian.Uint32(sealed[1:headerSize]) }

func open(k Key, ad, sealed []byte) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(k[:])
	if err != nil {
		return nil, err
	}
	n := headerSize + aead.NonceSize()
	if len(sealed) < n+aead.Overhead() || len(sealed) > 2*MaxPlain || sealed[0] != Version {
		return nil, ErrOpen
	}
	padded, err := aead.Open(nil, sealed[headerSize:n], sealed[n:], withHeader(sealed, ad))
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

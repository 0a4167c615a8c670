package keys

import (
	"bytes"
	"compress/flate"
	"crypto/hpke"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/chacha20poly1305"
)

// CoveredSize is the length of a covered part, in bytes, whatever is in it and even where it is empty.
const CoveredSize = 48 << 10

// A covered part begins with its key: sealed for the passphrase that opens it and, while that is changed, for the next
// one, and sealed to the recovery code.
const (
	oneHead         = chacha20poly1305.NonceSizeX + KeySize + chacha20poly1305.Overhead
	coveredHead     = 2 * oneHead
	coveredRecovery = 1120 + KeySize + chacha20poly1305.Overhead
	coveredSealed   = CoveredSize - coveredHead - coveredRecovery
	coveredRoom     = coveredSealed - chacha20poly1305.NonceSizeX - chacha20poly1305.Overhead
)

// ErrRoom is returned for more than a covered part has room for.
var ErrRoom = errors.New("there is no room for that in the covered part")

// Covered opens and seals a covered part: what one passphrase opens of a vault and the others don't. Every vault has
// the room for it, and whoever can't open it can't tell whether anything is there.
type Covered struct {
	vaultID    string
	key        Key
	head       []byte
	byRecovery []byte
}

// String keeps it out of logs.
func (Covered) String() string { return "keys.Covered(hidden)" }

// EmptyCovered returns a covered part that nobody opens.
func EmptyCovered(rand io.Reader) ([]byte, error) {
	out := make([]byte, CoveredSize)
	if _, err := io.ReadFull(rand, out); err != nil {
		return nil, err
	}
	// HPKE's output can be told from random bytes. So an empty part is sealed too, to a key pair that is thrown away.
	nobody, err := hpke.MLKEM768X25519().GenerateKey()
	if err != nil {
		return nil, err
	}
	sealed, err := sealTo(nobody.PublicKey().Bytes(), nil, make([]byte, KeySize))
	copy(out[coveredHead:], sealed)
	return out, err
}

// NewCovered draws the key of a covered part, for a passphrase and for the recovery code.
func NewCovered(rand io.Reader, vaultID string, p Pair, recovery RecoveryPublic) (Covered, error) {
	c := Covered{vaultID: vaultID}
	if _, err := io.ReadFull(rand, c.key[:]); err != nil {
		return c, err
	}
	c, err := c.For(rand, p)
	if err != nil {
		return c, err
	}
	return c.ForRecovery(recovery)
}

// For returns c as it is when another passphrase opens it, and only that one.
func (c Covered) For(rand io.Reader, p Pair) (Covered, error) {
	c.head = make([]byte, coveredHead)
	if _, err := io.ReadFull(rand, c.head); err != nil {
		return c, err
	}
	return c.headed(rand, 0, p)
}

// AlsoFor adds a second passphrase to the one of [Covered.For]: while a passphrase is changed, one of them is in force
// and nobody knows yet which.
func (c Covered) AlsoFor(rand io.Reader, p Pair) (Covered, error) { return c.headed(rand, 1, p) }

func (c Covered) headed(rand io.Reader, n int, p Pair) (Covered, error) {
	head, err := sealCovered(rand, p.inner, associatedData("covered key", c.vaultID), c.key[:])
	c.head = bytes.Clone(c.head)
	copy(c.head[n*oneHead:], head)
	return c, err
}

// ForRecovery returns c as it is when another recovery code opens it.
func (c Covered) ForRecovery(recovery RecoveryPublic) (Covered, error) {
	var err error
	c.byRecovery, err = sealTo(recovery.Seal, associatedData("covered recovery", c.vaultID), c.key[:])
	return c, err
}

// OpenCovered opens a covered part of a vault. The error is [ErrOpen] where this passphrase opens none, also where
// nothing is there.
func (p Pair) OpenCovered(vaultID string, part []byte) (Covered, error) {
	if len(part) != CoveredSize {
		return Covered{}, ErrOpen
	}
	var key []byte
	err := ErrOpen
	for n := 0; n < coveredHead && err != nil; n += oneHead {
		key, err = openCovered(p.inner, associatedData("covered key", vaultID), part[n:n+oneHead])
	}
	return coveredOf(vaultID, key, part, err)
}

// OpenCovered opens a covered part by the recovery code. See [Pair.OpenCovered].
func (r RecoveryKeys) OpenCovered(vaultID string, part []byte) (Covered, error) {
	if len(part) != CoveredSize {
		return Covered{}, ErrOpen
	}
	sealed := part[coveredHead : coveredHead+coveredRecovery]
	key, err := openSealed(r.seal, associatedData("covered recovery", vaultID), sealed)
	return coveredOf(vaultID, key, part, err)
}

func coveredOf(vaultID string, key, part []byte, err error) (Covered, error) {
	if err != nil || len(key) != KeySize {
		return Covered{}, ErrOpen
	}
	return Covered{
		vaultID, Key(key), bytes.Clone(part[:coveredHead]),
		bytes.Clone(part[coveredHead : coveredHead+coveredRecovery]),
	}, nil
}

// Seal compresses and seals a device's content of the covered part. The error is ErrRoom if it is too much even when
// compressed.
func (c Covered) Seal(rand io.Reader, device string, content []byte) ([]byte, error) {
	var packed bytes.Buffer
	packed.Write(make([]byte, 4))
	w, err := flate.NewWriter(&packed, flate.BestCompression)
	if err != nil {
		return nil, err
	}
	_, err = w.Write(content)
	if err = errors.Join(err, w.Close()); err != nil {
		return nil, err
	}
	n := packed.Len()
	if n > coveredRoom {
		return nil, ErrRoom
	}
	plain := append(packed.Bytes(), make([]byte, coveredRoom-n)...)
	binary.BigEndian.PutUint32(plain, uint32(n-4)) //nolint:gosec // less than CoveredSize
	sealed, err := sealCovered(rand, expand(c.key[:], "covered"), c.place(device), plain)
	return append(append(bytes.Clone(c.head), c.byRecovery...), sealed...), err
}

// Open opens what a device sealed. Several devices have a part each, all under one key. The error is [ErrOpen].
func (c Covered) Open(device string, part []byte) ([]byte, error) {
	if len(part) != CoveredSize {
		return nil, ErrOpen
	}
	plain, err := openCovered(expand(c.key[:], "covered"), c.place(device), part[coveredHead+coveredRecovery:])
	if err != nil {
		return nil, err
	}
	n := binary.BigEndian.Uint32(plain)
	if int(n) > len(plain)-4 {
		return nil, ErrOpen
	}
	const most = 64 << 20 // nobody else has the key, but a bound costs nothing
	content, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(plain[4:4+n])), most))
	if err != nil {
		return nil, fmt.Errorf("failed to unpack a covered part: %w", err)
	}
	return content, nil
}

// Used returns how much of the room a content takes, from 0 to 1 and more.
func (c Covered) Used(content []byte) float64 {
	var packed bytes.Buffer
	w, _ := flate.NewWriter(&packed, flate.BestCompression) // the level is valid, so there is no error
	_, _ = w.Write(content)                                 // a buffer never fails
	_ = w.Close()
	return float64(packed.Len()+4) / coveredRoom
}

func (c Covered) place(device string) []byte { return associatedData("covered", c.vaultID, device) }

// sealCovered seals without a header: what it makes looks like random bytes.
func sealCovered(rand io.Reader, k Key, ad, plain []byte) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(k[:])
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize())
	if _, err := io.ReadFull(rand, nonce); err != nil {
		return nil, err
	}
	return aead.Seal(nonce, nonce, plain, ad), nil
}

func openCovered(k Key, ad, sealed []byte) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(k[:])
	if err != nil {
		return nil, err
	}
	n := aead.NonceSize()
	plain, err := aead.Open(nil, sealed[:n], sealed[n:], ad)
	if err != nil {
		return nil, ErrOpen
	}
	return plain, nil
}

package keys

import (
	"crypto/hkdf"
	"crypto/sha256"
	"errors"
	"fmt"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/text/secure/precis"

	"redlocket/core/secret"
)

// KeySize is the length of every symmetric key here, in bytes.
const KeySize = 32

// Key is a symmetric key. It prints as its type's name only.
type Key [KeySize]byte

// String keeps a key out of logs.
func (Key) String() string { return "keys.Key(hidden)" }

// GoString keeps a key out of logs.
func (k Key) GoString() string { return k.String() }

// Params are the cost of [Stretch], as RFC 9106 names them.
type Params struct {
	Salt    []byte `json:"salt"`    // 16 bytes, random for each vault: all its passphrases are stretched with it
	Time    uint32 `json:"time"`    // passes
	Memory  uint32 `json:"memory"`  // KiB
	Threads uint8  `json:"threads"` // lanes
}

// DefaultParams are what new vaults use: RFC 9106, section 4, second
// recommendation (64 MiB, three passes, four lanes).
func DefaultParams(salt []byte) Params {
	return Params{Salt: salt, Time: 3, Memory: 64 << 10, Threads: 4}
}

// SaltSize is the length of a salt in bytes.
const SaltSize = 16

// Bounds on parameters that come from the cloud: a hostile one must be able neither to
// weaken the stretching nor to make a device run out of memory.
const (
	minTime, maxTime     = 3, 16
	minMemory, maxMemory = 64 << 10, 1 << 20
	maxThreads           = 16
)

// ErrParams is returned for stretching parameters out of bounds.
var ErrParams = errors.New("the stretching parameters are out of bounds")

// Check reports whether the parameters may be used. Whoever gets them from
// outside must call it first.
func (p Params) Check() error {
	if len(p.Salt) != SaltSize || p.Time < minTime || p.Time > maxTime ||
		p.Memory < minMemory || p.Memory > maxMemory || p.Threads < 1 || p.Threads > maxThreads {
		return ErrParams
	}
	return nil
}

// MaxPassword is the longest master password taken, in bytes of UTF-8. It is far
// above anything a person types; without a bound a paste could stall the program.
const MaxPassword = 1024

// ErrPassword is returned for a master password that has no OpaqueString form:
// empty, too long, or with control characters.
var ErrPassword = errors.New("the master password has no OpaqueString form")

// Prepare brings a master password to the one form that every keyboard and
// system gives it: PRECIS OpaqueString, RFC 8265 section 4.2.
func Prepare(password secret.Text) ([]byte, error) {
	p := password.Reveal()
	if p == "" || len(p) > MaxPassword || !utf8.ValidString(p) {
		return nil, ErrPassword
	}
	b, err := precis.OpaqueString.Bytes([]byte(p))
	if err != nil || len(b) == 0 {
		return nil, ErrPassword
	}
	return b, nil
}

// Stretched is a master password after [Stretch].
type Stretched Key

// String keeps it out of logs.
func (Stretched) String() string { return "keys.Stretched(hidden)" }

// Stretch makes a master password slow to guess, with Argon2id version 1.3
// (RFC 9106). It takes a noticeable part of a second and p.Memory KiB.
func Stretch(password secret.Text, p Params) (Stretched, error) {
	if err := p.Check(); err != nil {
		return Stretched{}, err
	}
	b, err := Prepare(password)
	if err != nil {
		return Stretched{}, err
	}
	time, memory := cost(p)
	return Stretched(argon2.IDKey(b, p.Salt, time, memory, p.Threads, KeySize)), nil
}

// Pair is what a passphrase opens a vault with here and proves the person to the cloud by.
type Pair struct {
	SignIn Key // is the seed of the key that signs in
	seed   Key // of the HPKE key pair that the vault key is sealed to
	inner  Key // wraps the key of the covered part, where this passphrase has one
}

// String keeps it out of logs.
func (Pair) String() string { return "keys.Pair(hidden)" }

// Derive mixes a stretched master password with the carried half
// (HKDF-SHA-256, RFC 5869).
func Derive(s Stretched, carried Code) Pair {
	in := append(append([]byte{}, s[:]...), carried[:]...)
	return Pair{SignIn: expand(in, "sign-in"), seed: expand(in, "unlock"), inner: expand(s[:], "inner")}
}

func expand(in []byte, purpose string) Key {
	b, err := hkdf.Key(sha256.New, in, []byte("redlocket/1"), purpose, KeySize)
	if err != nil {
		panic(fmt.Sprintf("hkdf: %v", err)) // only for lengths over 255 hashes
	}
	return Key(b)
}

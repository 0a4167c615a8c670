package keys

import (
	"crypto/hmac"
	"crypto/hpke"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/crypto/argon2"
)

// IntroductionWords is how many words a person carries from the new device's screen to the old one's: 77 bits, each
// guess at which takes as long as one at a master password.
const IntroductionWords = 6

// An introduction brings the carried half to a new device past a cloud that may be anybody's. Both devices know the
// words, and nobody else does: the new one makes them at random and shows them, the person types them on the old one.
// From the words both make a key ([introductionKey]). The new device leaves its public key with the cloud, and a code
// of it under that key ([Joiner.Hello]): so the old one knows whose key it is. The answer is sealed to that public key,
// and comes with a code of its own ([Introducer.Introduce]): so the new one knows that it comes from where the words
// were typed. A cloud that puts a key or an answer of its own in between has one guess at 77 bits: wrong words end it
// on both sides.

// Joiner is the new device's side of an introduction: an HPKE key pair (RFC 9180, base mode; ML-KEM-768 + X25519,
// HKDF-SHA-256, ChaCha20-Poly1305) and words, both fresh.
type Joiner struct {
	private hpke.PrivateKey
	words   []string
	email   string
	key     Key
	label   string
}

// NewJoiner makes a fresh key pair, from the system's own randomness, and words from the given one. email is the
// account's address. It takes as long as [Stretch].
func NewJoiner(email string, random io.Reader) (*Joiner, error) {
	return newJoiner(introductionLabel, email, random)
}

func newJoiner(label, email string, random io.Reader) (*Joiner, error) {
	k, err := hpke.MLKEM768X25519().GenerateKey()
	if err != nil {
		return nil, fmt.Errorf("failed to make a key for the introduction: %w", err)
	}
	var digest [32]byte
	if _, err := io.ReadFull(random, digest[:]); err != nil {
		return nil, err
	}
	words := Words(digest, IntroductionWords)
	return &Joiner{k, words, email, introductionKey(label, email, joinWords(words)), label}, nil
}

// Words are what the person types on the old device.
func (n *Joiner) Words() []string { return n.words }

// Hello returns what the cloud relays to the old device: the public key, and a code of it.
func (n *Joiner) Hello() []byte {
	public := n.private.PublicKey().Bytes()
	return append(public, helloCode(n.key, n.email, public)...)
}

// introductionKey makes the words slow to guess, as a master password is (RFC 9106, second recommendation), for one
// account's address.
func introductionKey(label, email, words string) Key {
	salt := sha256.Sum256(lengthPrefixed(lengthPrefixed(nil, label), email))
	p := DefaultParams(salt[:SaltSize])
	time, memory := cost(p)
	return Key(argon2.IDKey([]byte(words), p.Salt, time, memory, p.Threads, KeySize))
}

const introductionLabel = "redlocket/2 introduction"

// The codes are HMAC-SHA-256, each kind under a key of its own.
const codeSize = sha256.Size

func introductionCode(key Key, purpose string, parts ...string) []byte {
	k := expand(key[:], purpose)
	m := hmac.New(sha256.New, k[:])
	for _, p := range parts {
		m.Write(lengthPrefixed(nil, p))
	}
	return m.Sum(nil)
}

func helloCode(key Key, email string, public []byte) []byte {
	return introductionCode(key, "introduction hello", email, string(public))
}

func answerCode(key Key, public, sealed []byte) []byte {
	return introductionCode(key, "introduction answer", string(public), string(sealed))
}

// splitCode splits bytes into a body and the code at their end.
func splitCode(b []byte) (body, code []byte, ok bool) {
	if len(b) <= codeSize || len(b) > 1<<15 {
		return nil, nil, false
	}
	return b[:len(b)-codeSize], b[len(b)-codeSize:], true
}

// Introduction is what the old device hands over.
type Introduction struct {
	Carried  []byte `json:"carried"`
	Params   Params `json:"params"`  // of the master password's stretching
	Wrapped  []byte `json:"wrapped"` // the vault key: the master password is checked before anything is sent
	Ring     []byte `json:"ring"`    // the keys of all epochs, sealed under that one
	VaultID  string `json:"vault"`
	Head     uint64 `json:"head"`      // the newest that it has seen: no older vault is believed
	HeadHash string `json:"head_hash"` // hex
	Seed     string `json:"seed"`      // the medallion's, hex
}

// Introducer is the old device's side: the words that were typed, for one account's address.
type Introducer struct {
	email string
	key   Key
	label string
}

// ErrNotWords is returned for what can't be the words of an introduction: another number of them, or one that isn't in
// the list. It is a slip of the fingers, and no guess.
var ErrNotWords = errors.New("these aren't six words of the list")

// NewIntroducer reads words as they were typed. The error is [ErrNotWords]. It takes as long as [Stretch].
func NewIntroducer(email, words string) (*Introducer, error) {
	return newIntroducer(introductionLabel, email, words)
}

func newIntroducer(label, email, words string) (*Introducer, error) {
	list := strings.Fields(NormalWords(words))
	if len(list) != IntroductionWords {
		return nil, ErrNotWords
	}
	for _, w := range list {
		if !slices.Contains(WordList(), w) {
			return nil, ErrNotWords
		}
	}
	return &Introducer{email, introductionKey(label, email, joinWords(list)), label}, nil
}

// Introduce seals an introduction to the new device whose hello it is. The error is [ErrWords] if its code isn't made
// with these words.
func (i *Introducer) Introduce(hello []byte, in Introduction) ([]byte, error) {
	plain, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	return i.answer(hello, plain)
}

// answer seals to the device whose hello it is. The error is [ErrWords] if its code isn't made with these words.
func (i *Introducer) answer(hello, plain []byte) ([]byte, error) {
	public, code, ok := splitCode(hello)
	if !ok || !hmac.Equal(code, helloCode(i.key, i.email, public)) {
		return nil, ErrWords
	}
	return i.seal(public, plain)
}

// seal seals to a public key that is known to be the new device's.
func (i *Introducer) seal(public, plain []byte) ([]byte, error) {
	sealed, err := sealTo(public, []byte(i.label), plain)
	if err != nil {
		return nil, err
	}
	return append(sealed, answerCode(i.key, public, sealed)...), nil
}

// Open opens the answer. The error is [ErrOpen] for one that doesn't come from where the words were typed, or isn't
// sealed to this device: then the introduction is over.
func (n *Joiner) Open(answer []byte) (in Introduction, err error) {
	plain, err := n.open(answer)
	if err != nil {
		return in, err
	}
	if err := json.Unmarshal(plain, &in); err != nil || len(in.Carried) != CodeSize || in.Params.Check() != nil {
		return Introduction{}, ErrOpen
	}
	return in, nil
}

// open opens what [Introducer.answer] sealed. The error is [ErrOpen].
func (n *Joiner) open(answer []byte) ([]byte, error) {
	sealed, code, ok := splitCode(answer)
	if !ok || !hmac.Equal(code, answerCode(n.key, n.private.PublicKey().Bytes(), sealed)) {
		return nil, ErrOpen
	}
	return openSealed(n.private, []byte(n.label), sealed)
}

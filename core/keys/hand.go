package keys

import (
	"crypto/hpke"
	"encoding/json"
	"io"
)

// A helping hand brings a recovery code back with the help of people to whom its owner gave shares of a secret:
// package share splits the secret. This file has what is sealed under it, and how a device that has nothing yet asks
// for shares. Asking works as an introduction does: words that are read out to each helper, and typed by them, make
// the key by which each side recognises the other. The labels differ, so that no message of the one is valid in the
// other.

const handLabel = "redlocket/2 helping hand"

// NewSeeker makes what a device asks for shares with, in the name of an account's address. It takes as long as
// [Stretch].
func NewSeeker(email string, random io.Reader) (*Joiner, error) {
	return newJoiner(handLabel, email, random)
}

// NewHelper reads the words that a helper typed, for the address of whom is to be helped. The error is [ErrNotWords].
// It takes as long as [Stretch].
func NewHelper(email, words string) (*Introducer, error) {
	return newIntroducer(handLabel, email, words)
}

// Help seals a share to the device whose hello it is. The error is [ErrWords] if its code isn't made with these words.
func (i *Introducer) Help(hello, share []byte) ([]byte, error) { return i.answer(hello, share) }

// Helped opens what [Introducer.Help] sealed. The error is [ErrOpen].
func (n *Joiner) Helped(answer []byte) ([]byte, error) { return n.open(answer) }

// keptSeeker is a seeker as it is stored.
type keptSeeker struct {
	Private []byte   `json:"private"`
	Words   []string `json:"words"`
	Email   string   `json:"email"`
	Key     []byte   `json:"key"`
}

// SealSeeker seals a seeker, to be stored, under the master password that the vault will have: asking may take days.
func (s Stretched) SealSeeker(random io.Reader, n *Joiner) ([]byte, error) {
	private, err := n.private.Bytes()
	if err != nil {
		return nil, err
	}
	plain, err := json.Marshal(keptSeeker{private, n.words, n.email, n.key[:]})
	if err != nil {
		return nil, err
	}
	return seal(random, expand(s[:], "seeker"), 0, associatedData("seeker"), plain)
}

// OpenSeeker reads what SealSeeker wrote. The error is [ErrOpen] for another master password.
func (s Stretched) OpenSeeker(sealed []byte) (*Joiner, error) {
	plain, err := open(expand(s[:], "seeker"), associatedData("seeker"), sealed)
	if err != nil {
		return nil, err
	}
	var k keptSeeker
	if json.Unmarshal(plain, &k) != nil || len(k.Key) != KeySize || len(k.Words) != IntroductionWords {
		return nil, ErrOpen
	}
	private, err := hpke.MLKEM768X25519().NewPrivateKey(k.Private)
	if err != nil {
		return nil, ErrOpen
	}
	return &Joiner{private, k.Words, k.Email, Key(k.Key), handLabel}, nil
}

// SealHand seals a vault's recovery code under a secret that was split among helpers. hand is the id of this split:
// shares of another split open nothing.
func SealHand(random io.Reader, secret Key, hand, vaultID string, recovery Code) ([]byte, error) {
	return seal(random, expand(secret[:], "hand"), 0, associatedData("hand", hand, vaultID), recovery[:])
}

// OpenHand opens what SealHand sealed. The error is [ErrOpen].
func OpenHand(secret Key, hand, vaultID string, sealed []byte) (c Code, err error) {
	plain, err := open(expand(secret[:], "hand"), associatedData("hand", hand, vaultID), sealed)
	if err != nil || len(plain) != CodeSize {
		return c, ErrOpen
	}
	return Code(plain), nil
}

package keys

import (
	"crypto/hpke"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Slots is how many passphrases a wrapped vault key has places for. Which of them are in use can't be told by anybody:
// a place that isn't looks like one whose passphrase is unknown.
const Slots = 4

// Slot is what one passphrase is known by: public parts, of which only the vault itself has the first.
type Slot struct {
	Seal   []byte `json:"seal"`    // HPKE (RFC 9180, base mode), to seal the vault key to it
	SignIn []byte `json:"sign_in"` // Ed25519
}

// Locks are the slots of a vault. Whoever has the vault open can seal another vault key to all of them, and so keeps
// passphrases in force that they don't know.
type Locks [Slots]Slot

// sealedSlot is the length of a vault key sealed to a slot, in bytes: the encapsulated key (1,120), the epoch's number,
// the key, and the tag.
const sealedSlot = 1120 + 4 + KeySize + 16

// slotRoom is the length of a wrapped vault key.
const slotRoom = headerSize + Slots*sealedSlot

// NewLocks returns slots that no passphrase opens.
func NewLocks(rand io.Reader) (l Locks, err error) {
	for i := range l {
		var p Pair
		if _, err := io.ReadFull(rand, p.SignIn[:]); err != nil {
			return l, err
		}
		if _, err := io.ReadFull(rand, p.seed[:]); err != nil {
			return l, err
		}
		if l[i], err = p.Slot(); err != nil {
			return l, err
		}
	}
	return l, nil
}

// AnySlot draws the number of a slot, other than some.
func AnySlot(rand io.Reader, not ...int) (int, error) {
	var left []int
	for i := range Slots {
		taken := false
		for _, n := range not {
			taken = taken || n == i
		}
		if !taken {
			left = append(left, i)
		}
	}
	if len(left) == 0 {
		return 0, errors.New("there is no such slot")
	}
	const whole = 1 << 16
	for { // evenly
		var b [2]byte
		if _, err := io.ReadFull(rand, b[:]); err != nil {
			return 0, err
		}
		n := int(binary.BigEndian.Uint16(b[:]))
		if n < whole-whole%len(left) {
			return left[n%len(left)], nil
		}
	}
}

// SignIn returns the public sign-in keys one after the other, as a cloud has them.
func (l Locks) SignIn() (b []byte) {
	for _, s := range l {
		b = append(b, s.SignIn...)
	}
	return b
}

// Check reports whether the slots can be sealed to.
func (l Locks) Check() error {
	for _, s := range l {
		if len(s.SignIn) != PublicSize {
			return errors.New("a slot has no sign-in key")
		}
		if _, err := hpke.MLKEM768X25519().NewPublicKey(s.Seal); err != nil {
			return fmt.Errorf("failed to read a slot's key: %w", err)
		}
	}
	return nil
}

// Wrap seals the key of an epoch to every slot.
func (l Locks) Wrap(vaultID string, k EpochKey) ([]byte, error) {
	out := make([]byte, headerSize, slotRoom)
	out[0] = Version
	binary.BigEndian.PutUint32(out[1:], k.Epoch)
	for i, s := range l {
		b, err := k.sealTo(s.Seal, slotInfo(vaultID, i))
		if err != nil {
			return nil, err
		}
		out = append(out, b...)
	}
	return out, nil
}

func slotInfo(vaultID string, slot int) []byte {
	return associatedData("slot", vaultID, string([]byte{byte(slot)}))
}

// Slot returns what the passphrase is known by.
func (p Pair) Slot() (Slot, error) {
	private, err := hpke.MLKEM768X25519().DeriveKeyPair(p.seed[:])
	if err != nil {
		return Slot{}, err
	}
	return Slot{private.PublicKey().Bytes(), p.SignIn.Public()}, nil
}

// Open opens what [Locks.Wrap] wrapped, and says in which slot. The error is [ErrOpen] if none is this passphrase's,
// which is how a wrong one shows.
func (p Pair) Open(vaultID string, wrapped []byte) (k EpochKey, slot int, err error) {
	if len(wrapped) != slotRoom || wrapped[0] != Version {
		return k, 0, ErrOpen
	}
	private, err := hpke.MLKEM768X25519().DeriveKeyPair(p.seed[:])
	if err != nil {
		return k, 0, err
	}
	for i := range Slots {
		at := headerSize + i*sealedSlot
		k, err := openEpochKey(private, slotInfo(vaultID, i), wrapped[at:at+sealedSlot])
		if err == nil && k.Epoch == sealedIn(wrapped) {
			return k, i, nil
		}
	}
	return k, 0, ErrOpen
}

// WrappedEpoch returns the epoch of a wrapped key, as it says itself; 0 if it can't be one.
func WrappedEpoch(wrapped []byte) uint32 {
	if len(wrapped) != slotRoom {
		return 0
	}
	return SealedEpoch(wrapped)
}

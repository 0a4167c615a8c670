package keys

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
)

// EpochKey is a vault key with the number of the epoch that it is for.
type EpochKey struct {
	Epoch uint32 // from 1
	Key   VaultKey
}

// Start says where an epoch begins: after a head of the vault, given by its number and the hash of its sealed bytes. In
// a fresh one nothing that the cloud held before counts: its devices bring what they have.
type Start struct {
	After uint64
	Hash  [32]byte
	Fresh bool
}

// Ring holds the vault keys of all epochs. A vault begins with epoch 1; another one begins when a device is shut out,
// or when a cloud has lost something. Old keys open what was sealed before, and nothing that comes after.
type Ring struct{ epochs []ringEpoch }

type ringEpoch struct {
	key   VaultKey
	start Start
}

// NewRing returns the ring of a new vault.
func NewRing(k VaultKey) Ring { return Ring{[]ringEpoch{{key: k}}} }

// String keeps it out of logs.
func (Ring) String() string { return "keys.Ring(hidden)" }

// Epoch returns the number of the newest epoch.
func (r Ring) Epoch() uint32 { return uint32(len(r.epochs)) } //nolint:gosec // far fewer

// Newest returns the newest epoch's key.
func (r Ring) Newest() EpochKey { return EpochKey{r.Epoch(), r.epochs[len(r.epochs)-1].key} }

// With returns the ring with one more epoch.
func (r Ring) With(k VaultKey, s Start) Ring {
	return Ring{append(slices.Clone(r.epochs), ringEpoch{k, s})}
}

// Extends reports whether the ring has all epochs of another, and later ones.
func (r Ring) Extends(o Ring) bool {
	return len(r.epochs) > len(o.epochs) && slices.Equal(r.epochs[:len(o.epochs)], o.epochs)
}

// At returns the epoch that a head belongs to.
func (r Ring) At(head uint64) uint32 {
	n := r.Epoch()
	for n > 1 && head <= r.epochs[n-1].start.After {
		n--
	}
	return n
}

// Fresh returns where the last fresh epoch after the given one begins, if there is one.
func (r Ring) Fresh(since uint32) (Start, bool) {
	for n := r.Epoch(); n > since && n > 0; n-- {
		if s := r.epochs[n-1].start; s.Fresh {
			return s, true
		}
	}
	return Start{}, false
}

// Kept is what is sealed with a ring: whoever has the newest key finds there what the next one is to be sealed for.
type Kept struct {
	Carried Code  // of the epoch
	Locks   Locks // empty on a device that doesn't know them yet
}

// sealedRing is what is sealed of a ring: all keys but the newest, which it is sealed under, and what is kept with it.
type sealedRing struct {
	Epochs  []sealedRingEpoch `json:"epochs"`
	Carried []byte            `json:"carried"`
	Locks   Locks             `json:"locks"`
}

type sealedRingEpoch struct {
	Key   []byte `json:"key,omitempty"`
	After uint64 `json:"after,omitempty"`
	Hash  []byte `json:"hash,omitempty"`
	Fresh bool   `json:"fresh,omitempty"`
}

// Seal seals a ring under its newest key.
func (r Ring) Seal(rand io.Reader, vaultID string, with Kept) ([]byte, error) {
	out := sealedRing{Carried: with.Carried[:], Locks: with.Locks}
	for i, e := range r.epochs {
		s := sealedRingEpoch{After: e.start.After, Fresh: e.start.Fresh}
		if i > 0 {
			s.Hash = e.start.Hash[:]
		}
		if i < len(r.epochs)-1 {
			s.Key = e.key[:]
		}
		out.Epochs = append(out.Epochs, s)
	}
	b, err := json.Marshal(out)
	if err != nil {
		return nil, err
	}
	newest := r.Newest()
	return seal(rand, expand(newest.Key[:], "ring"), newest.Epoch, associatedData("ring", vaultID), b)
}

// OpenRing opens what [Ring.Seal] sealed. The error is [ErrOpen] if it was sealed under another key.
func OpenRing(newest EpochKey, vaultID string, sealed []byte) (r Ring, with Kept, err error) {
	b, err := open(expand(newest.Key[:], "ring"), associatedData("ring", vaultID), sealed)
	if err != nil || sealedIn(sealed) != newest.Epoch {
		return r, with, ErrOpen
	}
	var in sealedRing
	if err := json.Unmarshal(b, &in); err != nil {
		return r, with, fmt.Errorf("failed to decode a ring: %w", err)
	}
	if len(in.Epochs) != int(newest.Epoch) || len(in.Carried) != CodeSize {
		return r, with, ErrOpen
	}
	for i, e := range in.Epochs {
		x := ringEpoch{start: Start{After: e.After, Fresh: e.Fresh}}
		last := i == len(in.Epochs)-1
		if last {
			x.key = newest.Key
		} else if len(e.Key) != KeySize {
			return Ring{}, with, ErrOpen
		} else {
			x.key = VaultKey(e.Key)
		}
		if i > 0 {
			if len(e.Hash) != len(x.start.Hash) || e.After < r.epochs[i-1].start.After {
				return Ring{}, with, ErrOpen
			}
			x.start.Hash = [32]byte(e.Hash)
		}
		r.epochs = append(r.epochs, x)
	}
	return r, Kept{Code(in.Carried), in.Locks}, nil
}

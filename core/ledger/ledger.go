// Package ledger lets devices agree through a cloud that none of them trusts.
//
// # Heads
//
// A vault's state is a set of sealed records, each with a revision and the hash
// of its sealed bytes. A [Head] vouches for one state of the whole set: its
// number, the hash of the sealed head before it, the [StateHash] over all records,
// and who made it when, signed by that device. Heads are sealed under a key that only
// the vault's devices hold, so the cloud can store and pass them on but not make one.
//
// A device that pulls gets the heads since its own and the records that changed.
// [Chain.Verify] then shows whether this is what the other devices wrote: each
// head must open, follow its predecessor by number and hash, and the last one's
// state hash must be that of what the device would then hold. If anything was
// altered, swapped, dropped, replayed, reordered, invented, rolled back or
// forked, it returns a [*Fault] that says which, and the device keeps what it has.
//
// What this can't show: a cloud that withholds the newest commits altogether
// looks like a quiet one, and a device that has never seen the vault can be shown
// an old state, unless an introduction told it a head to start from.
package ledger

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Hash is a SHA-256 digest.
type Hash [32]byte

// Sum hashes sealed bytes.
func Sum(b []byte) Hash { return sha256.Sum256(b) }

// Mark is a record's place in a state: which revision, and which bytes exactly.
type Mark struct {
	Rev  uint64
	Hash Hash
}

// State maps record ids to marks.
type State map[string]Mark

// StateHash condenses a state to one hash: SHA-256 over the label, then per record in
// order of id (bytewise) its length-prefixed id, revision and hash.
func StateHash(s State) Hash {
	ids := make([]string, 0, len(s))
	for id := range s {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	h := sha256.New()
	h.Write([]byte("redlocket/1 root"))
	var buf []byte
	for _, id := range ids {
		m := s[id]
		buf = binary.BigEndian.AppendUint16(buf[:0], uint16(len(id)))
		buf = append(buf, id...)
		buf = binary.BigEndian.AppendUint64(buf, m.Rev)
		buf = append(buf, m.Hash[:]...)
		h.Write(buf)
	}
	return Hash(h.Sum(nil))
}

// Head vouches for a state. Number 0 is the state before the first commit: no
// records, and no sealed bytes.
type Head struct {
	Number    uint64 `json:"n"`
	Prev      Hash   `json:"prev"` // hash of the sealed head before; zero for number 1
	StateHash Hash   `json:"root"`
	Device    string `json:"device"`
	At        int64  `json:"at"`  // milliseconds since 1970, by the device's clock
	Signature []byte `json:"sig"` // of [Head.Signed], by the device's own key
}

// Signed is what a device signs of a head that it makes, beside the vault's id.
func (h Head) Signed() []string {
	return []string{
		strconv.FormatUint(h.Number, 10), string(h.Prev[:]), string(h.StateHash[:]), h.Device,
		strconv.FormatInt(h.At, 10),
	}
}

// MarshalText writes a hash as lower-case hex.
func (h Hash) MarshalText() ([]byte, error) { return hex.AppendEncode(nil, h[:]), nil }

// UnmarshalText reads a hash from hex.
func (h *Hash) UnmarshalText(b []byte) error {
	if len(b) != hex.EncodedLen(len(h)) {
		return errors.New("a hash has 64 hex digits")
	}
	_, err := hex.Decode(h[:], b)
	return err
}

// Encode returns the head's bytes, ready to be sealed.
func (h Head) Encode() []byte {
	b, err := json.Marshal(h)
	if err != nil {
		panic(err) // no value of a Head fails to encode
	}
	return b
}

// DecodeHead reads what [Head.Encode] wrote.
func DecodeHead(b []byte) (Head, error) {
	var h Head
	if err := json.Unmarshal(b, &h); err != nil {
		return Head{}, fmt.Errorf("failed to decode head: %w", err)
	}
	return h, nil
}

// SealedHead is a head as the cloud holds it.
type SealedHead struct {
	Number uint64
	Blob   []byte
}

// SealedRecord is a record as the cloud holds it.
type SealedRecord struct {
	ID   string
	Rev  uint64
	Blob []byte
}

// Kind names what a cloud did wrong, as far as a device can tell.
type Kind string

// The faults.
const (
	RolledBack Kind = "rolled back"  // offers a state older than one it had shown
	Forked     Kind = "forked"       // its history parts from the one seen before
	BadHead    Kind = "false head"   // a head that no device of this vault made, or out of its place
	BadRecord  Kind = "false record" // a record altered, invented or put in another's place
	Incomplete Kind = "incomplete"   // records dropped, or old ones served again
	BadEpoch   Kind = "false epoch"  // another vault key that no device of this vault brought
)

// Fault is an answer of the cloud that can't be what the other devices wrote.
// Nothing of it may be used.
type Fault struct {
	Kind   Kind
	Record string // the record concerned, if one is
	Detail string
}

func (f *Fault) Error() string {
	var b strings.Builder
	fmt.Fprintf(&b, "the cloud's answer was refused (%s): %s", f.Kind, f.Detail)
	if f.Record != "" {
		fmt.Fprintf(&b, " [record %s]", f.Record)
	}
	return b.String()
}

// Opener opens what the vault's devices sealed. Both methods authenticate the
// place as well as the bytes: a head under another number, or a record under
// another id or revision, doesn't open.
type Opener interface {
	OpenHead(number uint64, blob []byte) ([]byte, error)
	OpenRecord(id string, rev uint64, blob []byte) ([]byte, error)
}

// Chain is a device's checkpoint: the last head it verified and the records
// that head vouches for.
type Chain struct {
	Number uint64
	Head   Hash // hash of the sealed head; zero at number 0
	State  State

	// Floor is a head that an introduction told of (zero if none): the cloud
	// must be at least there, and that head must have the hash FloorHash.
	Floor     uint64
	FloorHash Hash

	// MayJump says that the first head of a pull needn't be the next one: a device that joins needs no history, and for
	// one that was away for longer than clouds keep heads there is none.
	MayJump bool
}

// Opened is a record that was verified and opened.
type Opened struct {
	SealedRecord
	Hash  Hash
	Plain []byte
}

// Pulled is what a verified pull holds.
type Pulled struct {
	Heads   []Head // in order; who made them is for the caller to check, by their signatures
	Records []Opened
}

// CheckTip compares the newest head that a cloud says it has with the one that was seen here, where both have the same
// number: a cloud that was set back and went on is noticed at once. One that lies about it is noticed by what it serves
// next.
func (c Chain) CheckTip(latest uint64, tip Hash) error {
	if latest != c.Number || tip == c.Head {
		return nil
	}
	return &Fault{Kind: Forked, Detail: fmt.Sprintf("its head %d isn't the one that was seen here", latest)}
}

// Verify checks a pull against the chain and returns the chain after it, with
// its heads and the records that changed, opened. Latest is the number the cloud claims to be
// at. The receiver is not changed; after a [*Fault] go on using it.
func (c Chain) Verify(o Opener, latest uint64, heads []SealedHead, records []SealedRecord) (Chain, Pulled, error) {
	if latest < c.Number {
		return c, Pulled{}, &Fault{
			Kind:   RolledBack,
			Detail: fmt.Sprintf("it shows an older state, number %d, and this computer has seen %d", latest, c.Number),
		}
	}
	if latest < c.Floor {
		return c, Pulled{}, &Fault{
			Kind:   RolledBack,
			Detail: fmt.Sprintf("it is at %d, and your other device has seen %d", latest, c.Floor),
		}
	}
	next := c
	var p Pulled
	var last Head
	for i, sh := range heads {
		want := next.Number + 1
		jump := i == 0 && c.MayJump && sh.Number > want && (c.Floor == 0 || c.Floor >= sh.Number)
		if sh.Number != want && !jump {
			const detail = "head %d came where %d belongs"
			return c, Pulled{}, &Fault{Kind: BadHead, Detail: fmt.Sprintf(detail, sh.Number, want)}
		}
		plain, err := o.OpenHead(sh.Number, sh.Blob)
		if err != nil {
			return c, Pulled{}, &Fault{
				Kind:   BadHead,
				Detail: fmt.Sprintf("head %d was not made by a device of this vault", sh.Number),
			}
		}
		h, err := DecodeHead(plain)
		if err != nil || h.Number != sh.Number {
			return c, Pulled{}, &Fault{Kind: BadHead, Detail: fmt.Sprintf("head %d says it is another", sh.Number)}
		}
		if h.Prev != next.Head && !jump {
			return c, Pulled{}, &Fault{
				Kind:   Forked,
				Detail: fmt.Sprintf("head %d doesn't follow the head %d that was seen here", sh.Number, sh.Number-1),
			}
		}
		next.Number, next.Head, last = sh.Number, Sum(sh.Blob), h
		p.Heads = append(p.Heads, h)
		if next.Number == c.Floor && next.Head != c.FloorHash {
			return c, Pulled{}, &Fault{
				Kind:   Forked,
				Detail: fmt.Sprintf("head %d isn't the one your other device has seen", sh.Number),
			}
		}
	}
	if next.Number != latest {
		return c, Pulled{}, &Fault{Kind: Incomplete, Detail: fmt.Sprintf("heads up to %d are missing", latest)}
	}
	if len(heads) == 0 {
		if len(records) > 0 {
			return c, Pulled{}, &Fault{
				Kind:   BadRecord,
				Record: records[0].ID,
				Detail: "a record came without a head that vouches for it",
			}
		}
		return c, p, nil
	}

	next.State = make(State, len(c.State)+len(records))
	for id, m := range c.State {
		next.State[id] = m
	}
	p.Records = make([]Opened, 0, len(records))
	for _, r := range records {
		if r.Rev <= next.State[r.ID].Rev {
			return c, Pulled{}, &Fault{
				Kind:   Incomplete,
				Record: r.ID,
				Detail: fmt.Sprintf("revision %d was served again; %d is known", r.Rev, next.State[r.ID].Rev),
			}
		}
		plain, err := o.OpenRecord(r.ID, r.Rev, r.Blob)
		if err != nil {
			return c, Pulled{}, &Fault{
				Kind:   BadRecord,
				Record: r.ID,
				Detail: "it isn't what a device of this vault sealed in this place",
			}
		}
		h := Sum(r.Blob)
		next.State[r.ID] = Mark{r.Rev, h}
		p.Records = append(p.Records, Opened{r, h, plain})
	}
	if StateHash(next.State) != last.StateHash {
		return c, Pulled{}, &Fault{
			Kind:   Incomplete,
			Detail: fmt.Sprintf("the records don't add up to head %d: some were dropped or are old", last.Number),
		}
	}
	return next, p, nil
}

// Next returns the head that commits the given changes on top of the chain.
func (c Chain) Next(device string, at int64, changed State) (Head, State) {
	state := make(State, len(c.State)+len(changed))
	for id, m := range c.State {
		state[id] = m
	}
	for id, m := range changed {
		state[id] = m
	}
	return Head{Number: c.Number + 1, Prev: c.Head, StateHash: StateHash(state), Device: device, At: at}, state
}

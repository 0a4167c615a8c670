package share

import (
	"cmp"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"redlocket/core/keys"
	"redlocket/core/vault"
)

// Held is a shared set as one of its members keeps it, in an entry of their own vault, and so on each of their
// devices. An epoch's roll and key stand in a register of their own: devices that learn of two epochs at once keep
// both.
type Held struct {
	Set   string
	Book  string // id of the book whose items are shared; empty where it is one thing
	Since uint32 // the epoch in which the member came to know of it
	Taken bool   // the member has taken it up
	From  string // id of the person whom they have it from; empty for whoever began it
	Out   int64  // when it ended for the member, milliseconds since 1970; 0 while it goes on
	Roll  Roll   // of the newest epoch that is known
	Key   keys.VaultKey
	By    []byte // the public key of whoever began that epoch
	Right Right  // the member's own
}

// String keeps the key out of logs.
func (Held) String() string { return "share.Held(hidden)" }

// heldEpoch is what an epoch's register holds.
type heldEpoch struct {
	Roll  Roll   `json:"roll"`
	Key   string `json:"key"` // hex
	By    []byte `json:"by"`
	Right Right  `json:"right"`
}

const (
	rollPrefix = "roll:"
	fieldSince = vault.Field("since")
	fieldTaken = vault.Field("taken")
)

// keptEpochs is how many epochs' keys a member keeps.
const keptEpochs = 8

func rollField(epoch uint32) vault.Field {
	return vault.Field(rollPrefix + strconv.FormatUint(uint64(epoch), 10))
}

// HeldOf reads a member's entry; ok is false for another entry, and for one that was begun and not finished.
func HeldOf(e vault.Entry) (h Held, ok bool) {
	if e.Type != vault.TypeShared || e.Purged() {
		return h, false
	}
	h = Held{
		Set: e.Text(vault.FieldOf), Book: e.Text(vault.FieldBook), Taken: e.Text(fieldTaken) != "",
		From: e.Text(vault.FieldPeer),
	}
	since, _ := strconv.ParseUint(e.Text(fieldSince), 10, 32) // none is 0
	h.Since = uint32(since)
	h.Out, _ = strconv.ParseInt(e.Text(vault.FieldOut), 10, 64)
	newest := uint64(0)
	for f := range e.Fields {
		if n, err := strconv.ParseUint(strings.TrimPrefix(string(f), rollPrefix), 10, 32); err == nil &&
			strings.HasPrefix(string(f), rollPrefix) && n > newest && e.Text(f) != "" {
			newest = n
		}
	}
	if newest == 0 {
		return h, false
	}
	return h.At(e, uint32(newest))
}

// At is the set as it was in another epoch, which the entry keeps still; ok is false for one that it doesn't.
func (h Held) At(e vault.Entry, epoch uint32) (_ Held, ok bool) {
	var in heldEpoch
	if json.Unmarshal([]byte(e.Text(rollField(epoch))), &in) != nil || in.Roll.Set != h.Set || in.Roll.Epoch != epoch {
		return h, false
	}
	key, err := hex.DecodeString(in.Key)
	if err != nil || len(key) != keys.KeySize {
		return h, false
	}
	h.Roll, h.Key, h.By, h.Right = in.Roll, keys.VaultKey(key), in.By, in.Right
	return h, true
}

// HeldEpoch are the changes that put an epoch into a member's entry.
func HeldEpoch(r Roll, k keys.VaultKey, by []byte, right Right) (vault.Changes, error) {
	b, err := json.Marshal(heldEpoch{r, hex.EncodeToString(k[:]), by, right})
	if err != nil {
		return nil, fmt.Errorf("failed to encode a roll: %w", err)
	}
	c := vault.Changes{rollField(r.Epoch): string(b)}
	if r.Epoch > keptEpochs {
		c[rollField(r.Epoch-keptEpochs)] = ""
	}
	return c, nil
}

// HeldSet are the changes that begin a member's entry in an epoch, also where it had ended for them: of a book, or of
// one thing where book is empty. from is the person whom they have it from; for whoever begins it, who needn't take it
// up, it is empty.
func HeldSet(set, book string, since uint32, from string) vault.Changes {
	taken := ""
	if from == "" {
		taken = "1"
	}
	return vault.Changes{
		vault.FieldOf: set, vault.FieldBook: book, fieldSince: strconv.FormatUint(uint64(since), 10), fieldTaken: taken,
		vault.FieldPeer: from, vault.FieldOut: "",
	}
}

// HeldTaken are the changes that say that a set was taken up.
func HeldTaken() vault.Changes { return vault.Changes{fieldTaken: "1"} }

// HeldOut are the changes that say that it ended, in milliseconds since 1970.
func HeldOut(at int64) vault.Changes {
	return vault.Changes{vault.FieldOut: strconv.FormatInt(at, 10)}
}

// Active reports whether the member holds the set now.
func (h Held) Active() bool { return h.Taken && h.Out == 0 }

// Former is somebody who held a set until a moment.
type Former struct {
	Name string `json:"name"`
	At   int64  `json:"at"` // milliseconds since 1970
}

const formerPrefix = "former:"

// HeldFormer are the changes that note somebody who holds the set no more.
func HeldFormer(m Member, at int64) (vault.Changes, error) {
	b, err := json.Marshal(Former{m.Name, at})
	return vault.Changes{vault.Field(formerPrefix + hex.EncodeToString(m.Keys.Sign)): string(b)}, err
}

// FormersOf returns those that a member's entry notes, the latest first.
func FormersOf(e vault.Entry) (out []Former) {
	for f := range e.Fields {
		var was Former
		if strings.HasPrefix(string(f), formerPrefix) && json.Unmarshal([]byte(e.Text(f)), &was) == nil {
			out = append(out, was)
		}
	}
	slices.SortFunc(out, func(a, b Former) int {
		return cmp.Or(cmp.Compare(b.At, a.At), strings.Compare(a.Name, b.Name))
	})
	return out
}

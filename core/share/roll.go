package share

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"

	"redlocket/core/keys"
	"redlocket/core/ledger"
)

// A shared set is records that several people hold. Who they are and what each may do stands in a [Roll]. Each change
// of it begins an epoch, with a key of its own that every member is given in a box, sealed to them and signed by the
// one who began it. Whoever holds a roll takes the next one only from somebody who may manage in it; the first one from
// somebody whom they have checked.
//
// An epoch has a chain of heads (package ledger) that begins anew. Each head is signed by a member who may change, for
// the roll of its epoch: who was given another roll takes it for none.

// Right is what a member may do with what is shared. Each includes those before it.
type Right string

// The rights. What is sealed to somebody can be read by their own computer: Fill binds their program, not them.
const (
	Fill   Right = "fill"   // it is filled in, and not shown
	See    Right = "see"    // it is shown
	Change Right = "change" // it is changed, for all
	Manage Right = "manage" // who is a member, and what they may do
)

// Rights are all of them, the least first.
func Rights() []Right { return []Right{Fill, See, Change, Manage} }

// Includes reports whether a right includes another one. What is no right includes none.
func (r Right) Includes(o Right) bool {
	i, j := slices.Index(Rights(), r), slices.Index(Rights(), o)
	return i >= 0 && j >= 0 && i >= j
}

// Member is somebody who holds a shared set.
type Member struct {
	Email string              `json:"email"`
	Name  string              `json:"name"` // as whoever took them in calls them, or they themselves
	Keys  keys.PublicIdentity `json:"keys"`
	Right Right               `json:"right"`
}

// Roll says who holds a shared set in an epoch.
type Roll struct {
	Set     string   `json:"set"`
	Epoch   uint32   `json:"epoch"`            // from 1
	Before  []byte   `json:"before,omitempty"` // SHA-256 of the roll before; none in the first
	Name    string   `json:"name,omitempty"`   // of the book that is shared; empty where it is one thing
	Members []Member `json:"members"`
	At      int64    `json:"at"` // milliseconds since 1970
}

// Limits of a shared set.
const (
	MaxMembers  = 20
	maxRollName = 40 // characters
	maxRollMail = 254
)

// The errors of shared sets.
var (
	ErrRoll      = errors.New("the list of members can’t be read")
	ErrNoManager = errors.New("somebody has to stay who decides who is in it")
	ErrNotTheirs = errors.New("it was signed by somebody who may not do that")
)

// Check returns an error for a roll that can't be: [ErrNoManager] where nobody could change it any more.
func (r Roll) Check() error {
	if uuid.Validate(r.Set) != nil || r.Epoch == 0 || (r.Epoch == 1) != (len(r.Before) == 0) ||
		len(r.Before) != 0 && len(r.Before) != sha256.Size || len(r.Members) == 0 || len(r.Members) > MaxMembers ||
		utf8.RuneCountInString(r.Name) > maxRollName || !utf8.ValidString(r.Name) {
		return ErrRoll
	}
	managed := false
	emails, signs := map[string]bool{}, map[string]bool{}
	for _, m := range r.Members {
		if m.Email == "" || len(m.Email) > maxRollMail || emails[m.Email] || signs[string(m.Keys.Sign)] ||
			!slices.Contains(Rights(), m.Right) || m.Keys.Check() != nil || CleanName(m.Name) != m.Name {
			return ErrRoll
		}
		emails[m.Email], signs[string(m.Keys.Sign)] = true, true
		managed = managed || m.Right == Manage
	}
	if !managed {
		return ErrNoManager
	}
	return nil
}

// Member returns the member with a public signing key; ok is false if there is none.
func (r Roll) Member(sign []byte) (m Member, ok bool) {
	i := slices.IndexFunc(r.Members, func(m Member) bool { return bytes.Equal(m.Keys.Sign, sign) })
	if i < 0 {
		return m, false
	}
	return r.Members[i], true
}

// Digest names a roll: SHA-256 of what it says, part by part.
func (r Roll) Digest() [sha256.Size]byte {
	parts := []string{
		"redlocket/2 roll", r.Set, strconv.FormatUint(uint64(r.Epoch), 10), string(r.Before), r.Name,
		strconv.FormatInt(r.At, 10),
	}
	for _, m := range r.Members {
		parts = append(parts, m.Email, m.Name, string(m.Keys.Sign), string(m.Keys.Seal), string(m.Right))
	}
	return sha256.Sum256(joined(parts...))
}

// Next is the roll of the epoch after, with other members.
func (r Roll) Next(members []Member, at int64) Roll {
	before := r.Digest()
	next := r
	next.Epoch, next.Before, next.Members, next.At = r.Epoch+1, before[:], members, at
	return next
}

// Follows returns an error unless a roll comes right after another one, begun by somebody who may manage in that:
// [ErrRoll] or [ErrNotTheirs].
func (r Roll) Follows(before Roll, by []byte) error {
	digest := before.Digest()
	if r.Set != before.Set || r.Epoch != before.Epoch+1 || !bytes.Equal(r.Before, digest[:]) {
		return ErrRoll
	}
	return before.May(by, Manage)
}

// May returns ErrNotTheirs unless whoever has a signing key is a member with a right.
func (r Roll) May(sign []byte, right Right) error {
	if m, ok := r.Member(sign); !ok || !m.Right.Includes(right) {
		return ErrNotTheirs
	}
	return nil
}

// boxed is what is in a box.
type boxed struct {
	Roll Roll   `json:"roll"`
	Key  []byte `json:"key"`
}

func boxID(kind, set string, epoch uint32) string {
	return strings.Join([]string{"set", kind, set, strconv.FormatUint(uint64(epoch), 10)}, " ")
}

// SealBox seals an epoch's roll and key to one of its members, signed by the one who begins it.
func SealBox(from keys.Identity, to keys.PublicIdentity, r Roll, k keys.VaultKey) ([]byte, error) {
	b, err := json.Marshal(boxed{r, k[:]})
	if err != nil {
		return nil, err
	}
	return from.SealLetter(to, boxID("box", r.Set, r.Epoch), b)
}

// OpenBox opens a box that was sealed to own. by is the key that signed it: whoever holds an earlier roll checks it by
// [Roll.Follows], whoever holds none has to know by, and that they may manage ([Roll.May]). The error is
// [keys.ErrOpen], or [ErrRoll], also where own isn't a member.
func OpenBox(
	own keys.Identity, set string, epoch uint32, sealed []byte,
) (r Roll, k keys.VaultKey, by []byte, err error) {
	l, err := own.OpenLetter(boxID("box", set, epoch), sealed)
	if err != nil {
		return r, k, nil, err
	}
	var in boxed
	if json.Unmarshal(l.Plain, &in) != nil || len(in.Key) != keys.KeySize || in.Roll.Check() != nil ||
		in.Roll.Set != set || in.Roll.Epoch != epoch {
		return r, k, nil, ErrRoll
	}
	me, ok := in.Roll.Member(own.Public().Sign)
	if !ok || !me.Keys.Equal(own.Public()) {
		return r, k, nil, ErrRoll
	}
	return in.Roll, keys.VaultKey(in.Key), l.From, nil
}

// SealFarewell tells a former member that the epoch has begun without them; nobody else can say so.
func SealFarewell(from keys.Identity, to keys.PublicIdentity, set string, epoch uint32) ([]byte, error) {
	return from.SealLetter(to, boxID("farewell", set, epoch), nil)
}

// OpenFarewell checks a farewell against the roll that the former member holds. The error is [keys.ErrOpen] or
// [ErrNotTheirs].
func OpenFarewell(own keys.Identity, held Roll, epoch uint32, sealed []byte) error {
	l, err := own.OpenLetter(boxID("farewell", held.Set, epoch), sealed)
	if err != nil {
		return err
	}
	if epoch <= held.Epoch {
		return ErrNotTheirs
	}
	return held.May(l.From, Manage)
}

// SealLeave tells one who may manage that a member leaves.
func SealLeave(from keys.Identity, to keys.PublicIdentity, held Roll) ([]byte, error) {
	return from.SealLetter(to, boxID("leave", held.Set, held.Epoch), nil)
}

// OpenLeave returns who leaves the epoch that is held: what was said in an earlier one doesn't count. The error is
// [keys.ErrOpen], or [ErrNotTheirs] for somebody who isn't a member.
func OpenLeave(own keys.Identity, held Roll, sealed []byte) (Member, error) {
	l, err := own.OpenLetter(boxID("leave", held.Set, held.Epoch), sealed)
	if err != nil {
		return Member{}, err
	}
	m, ok := held.Member(l.From)
	if !ok {
		return Member{}, ErrNotTheirs
	}
	return m, nil
}

// Epoch seals and opens what belongs to an epoch of a shared set: a vault of its own, with one key.
func Epoch(r Roll, k keys.VaultKey, rand io.Reader) *keys.Vault {
	return keys.NewVault(EpochID(r.Set, r.Epoch), keys.NewRing(k), rand)
}

// EpochID names an epoch, as what is sealed in it says.
func EpochID(set string, epoch uint32) string {
	return set + "/" + strconv.FormatUint(uint64(epoch), 10)
}

const signedHead = "shared head"

func headParts(r Roll, h ledger.Head) []string {
	digest := r.Digest()
	return append([]string{EpochID(r.Set, r.Epoch), string(digest[:])}, h.Signed()...)
}

// SignHead signs a head of an epoch.
func SignHead(own keys.Identity, r Roll, h ledger.Head) []byte {
	return own.Sign(signedHead, headParts(r, h)...)
}

// HeadBy returns the member who signed a head. The error is [ErrNotTheirs] for one that nobody signed who may change,
// or that was signed for another roll.
func HeadBy(r Roll, h ledger.Head) (Member, error) {
	parts := headParts(r, h)
	for _, m := range r.Members {
		if m.Right.Includes(Change) && keys.Verify(m.Keys.Sign, h.Signature, signedHead, parts...) {
			return m, nil
		}
	}
	return Member{}, ErrNotTheirs
}

package vault

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"redlocket/core/secret"
)

// Type says what an entry stands for.
type Type string

// The types this version writes. Others are kept and passed on unread.
const (
	TypeLogin      Type = "login"
	TypeApp        Type = "app" // a login of a program
	TypeCard       Type = "card"
	TypeBank       Type = "bank"
	TypePerson     Type = "person"
	TypePaper      Type = "paper" // passport, licence, insurance
	TypeMembership Type = "membership"
	TypeNote       Type = "note"
	TypeWiFi       Type = "wifi"
	TypeSoftware   Type = "software"

	TypeImport  Type = "import" // what one import did; package transfer's
	TypeDevice  Type = "device"
	TypeProfile Type = "profile"
	TypePast    Type = "past"   // earlier values of an item that its own record has no room for
	TypeSites   Type = "sites"  // sites that the user added to the directory
	TypeTidy    Type = "tidy"   // what was decided of logins that may be one; package tidy
	TypePeer    Type = "peer"   // somebody who has a vault of their own; package household's
	TypeHand    Type = "hand"   // who helps the owner, or whom the owner helps; package helping's
	TypePassed  Type = "passed" // a note that was passed to or by somebody; package household's
	TypeShared  Type = "shared" // a set that is held with others; package sharing's
	TypeBook    Type = "book"   // a book beside the owner's own: items name it in their FieldBook
	TypePlace   Type = "place"  // the covered part that a device keeps, which its FieldOf names
)

// Field names a register.
type Field string

// The registers this version knows. Values are JSON: strings, but for
// FieldAddresses (array of [Address]), FieldTags, FieldAliases and FieldFrom (arrays of strings),
// FieldPinned and FieldSent (booleans), and the registers of custom fields and files ([CustomField], [File]).
const (
	FieldTitle     Field = "title"
	FieldUsername  Field = "username"
	FieldPassword  Field = "password"
	FieldAddresses Field = "addresses"
	FieldNotes     Field = "notes"
	FieldFolder    Field = "folder"
	FieldTags      Field = "tags"
	FieldPinned    Field = "pinned"
	FieldAliases   Field = "also" // other names of the same site
	FieldBook      Field = "book" // id of the book that it is in; unset in the owner's own
	FieldKind      Field = "kind" // a type that the user chose later
	FieldFrom      Field = "from" // names of the files that it was brought in from

	// FieldArchived holds the digest of the content that was archived, so that
	// an edit made elsewhere meanwhile brings the entry back (see Archive).
	FieldArchived Field = "archived"

	// FieldJoined is the moment at which other logins were joined into this one, milliseconds since 1970. It makes the
	// one that stays differ from what it was, so that another device that put it away meanwhile, as part of a join of
	// its own, doesn't put away both.
	FieldJoined Field = "joined"

	// fieldPurged holds the digest of the content that was deleted for good (see Purge).
	fieldPurged Field = "purged"

	FieldName     Field = "name"     // device: what its owner calls it
	FieldPlatform Field = "platform" // device: operating system
	FieldSeed     Field = "seed"     // profile: medallion seed, hex
	FieldSettings Field = "settings" // profile: what is set for all devices; package app's
	FieldKeys     Field = "keys"     // device: its public keys, JSON of keys.PublicIdentity
	FieldSaw      Field = "saw"      // device: number of the newest head that it knew, noted once a day
	FieldOut      Field = "out"      // device: the moment that it was shut out, milliseconds since 1970
	FieldCard     Field = "card"     // profile: how the master password opens the vault; package app's
	FieldTried    Field = "tried"    // profile: when the recovery sheet was tried last, milliseconds since 1970
	FieldCarried  Field = "carried"  // profile: the carried half of the first epoch, hex
	FieldRecovery Field = "recovery" // profile: the public keys of the recovery code, JSON of keys.RecoveryPublic
	FieldSites    Field = "sites"    // sites: as core/directory reads them
	FieldPlace    Field = "place"    // place: the covered part, in base64, and after a dot what differs each time
	FieldIdentity Field = "identity" // profile: the person's own keys, hex of keys.Identity
	FieldMeeting  Field = "meeting"  // peer: how far their keys were exchanged; package household's
	FieldChecked  Field = "checked"  // peer: when the words were found the same, milliseconds since 1970
	FieldPeer     Field = "peer"     // passed: id of the peer
	FieldHand     Field = "hand"     // hand: package helping's
	FieldWay      Field = "way"      // passed: "in" or "out"
	FieldNote     Field = "note"     // passed: a share.Note
	FieldSource   Field = "source"   // passed: id of the item that it is a copy of, or that was made of it
	FieldRead     Field = "read"     // passed: when it was opened first, or handed over, milliseconds since 1970
	FieldChanged  Field = "changed"  // import: items that it changed, with what they had; package transfer's
)

// Stamp is a moment on a device. Moments are milliseconds since 1970 UTC.
type Stamp struct {
	At int64  `json:"at"`
	By string `json:"by"`
}

// Compare orders stamps by time, then by device, so that any two devices agree.
func (s Stamp) Compare(t Stamp) int {
	return cmp.Or(cmp.Compare(s.At, t.At), strings.Compare(s.By, t.By))
}

// next is the first stamp after another that a device can make. At the end of time only the device's name grows.
func (s Stamp) next(by string) Stamp {
	if s.At < math.MaxInt64 {
		return Stamp{s.At + 1, by}
	}
	return Stamp{s.At, s.By + "+"}
}

// Register is one value and the stamp of the edit that set it. The value is
// canonical JSON text, held as a secret because any field may be one.
type Register struct {
	Value secret.Text
	Stamp Stamp
}

// Past is a value that a register had before. Until is when somebody who saw
// the value replaced it. It is zero for a value that only lost in a merge,
// against one set elsewhere without knowledge of it: for a password that means
// it may be the one the site knows.
type Past struct {
	Field Field
	Value secret.Text
	From  Stamp
	Until int64 // milliseconds since 1970
}

// Entry is what one record holds. Treat it as a value: methods never change
// their receiver's maps or slices.
type Entry struct {
	ID      string
	Type    Type
	Created int64 // milliseconds since 1970
	Fields  map[Field]Register
	Past    []Past
	Extra   map[string]json.RawMessage // keys of a newer version, kept as they came
}

// Changes are new values by field, as given to [Entry.With]. A value is
// anything encoding/json takes, or a [secret.Text].
type Changes map[Field]any

// New returns an entry of the given type with the given values.
func New(id string, t Type, by Stamp, c Changes) (Entry, error) {
	return Entry{ID: id, Type: t, Created: by.At}.With(by, c)
}

// With returns the entry after an edit. Fields whose value doesn't change keep
// their stamp; where nothing changes the entry comes back as it was. Replaced
// values move to the past. A clock that went back can't make an edit older
// than what it replaces: the stamp is moved past it.
func (e Entry) With(by Stamp, c Changes) (Entry, error) {
	out := e
	cloned := false
	var floor Stamp
	if e.Purged() { // an edit of what was deleted for good is later than all that was deleted
		floor = e.Fields[fieldPurged].Stamp
	}
	for _, f := range slices.Sorted(maps.Keys(c)) {
		text, err := encodeValue(c[f])
		if err != nil {
			return e, fmt.Errorf("failed to encode field %s: %w", f, err)
		}
		old, had := e.Fields[f]
		if had && old.Value == text || !had && isBlank(text.Reveal()) {
			continue
		}
		if !cloned {
			out.Fields = maps.Clone(e.Fields)
			if out.Fields == nil {
				out.Fields = map[Field]Register{}
			}
			out.Past = slices.Clone(e.Past)
			cloned = true
		}
		stamp := by
		if stamp.Compare(old.Stamp) <= 0 {
			stamp = old.Stamp.next(by.By)
		}
		if stamp.Compare(floor) <= 0 && floor != (Stamp{}) {
			stamp = floor.next(by.By)
		}
		if had && keepsPast(f) && !isBlank(old.Value.Reveal()) {
			out.Past = addPast(out.Past, Past{Field: f, Value: old.Value, From: old.Stamp, Until: stamp.At})
		}
		out.Fields[f] = Register{text, stamp}
	}
	return out, nil
}

func encodeValue(v any) (secret.Text, error) {
	if s, ok := v.(secret.Text); ok {
		v = s.Reveal()
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return secret.Text{}, err
	}
	return secret.New(strings.TrimSuffix(b.String(), "\n")), nil
}

func isBlank(jsonText string) bool {
	switch jsonText {
	case "", `""`, "null", "[]", "false":
		return true
	}
	return false
}

// SameVersion reports whether two entries are one version, as it is held in memory: versions aren't changed in place.
// Of two that were read apart it may say no though they are equal.
func (e Entry) SameVersion(o Entry) bool {
	return e.Fields != nil && e.ID == o.ID && e.Type == o.Type && len(e.Past) == len(o.Past) &&
		reflect.ValueOf(e.Fields).UnsafePointer() == reflect.ValueOf(o.Fields).UnsafePointer()
}

// keepsPast reports whether earlier values of f are worth reading later.
// Registers of newer versions are kept too: better one too many than one lost.
func keepsPast(f Field) bool {
	switch f {
	case FieldPinned, FieldSent, FieldCard, FieldCarried, FieldRecovery, FieldTried, FieldKeys, FieldSaw, FieldPlace,
		FieldIdentity, FieldMeeting, FieldChecked, FieldPeer, FieldWay, FieldNote, FieldSource, FieldRead, FieldBook,
		FieldShare, FieldJoined, FieldHand, fieldPurged:
		return false
	}
	return true
}

// Text returns a text field's value, empty if unset or not text.
func (e Entry) Text(f Field) string {
	r, ok := e.Fields[f]
	if !ok {
		return ""
	}
	v := r.Value.Reveal()
	if len(v) >= 2 && v[0] == '"' && strings.IndexByte(v, '\\') < 0 {
		return v[1 : len(v)-1]
	}
	var s string
	e.read(f, &s)
	return s
}

// Secret returns a text field's value wrapped.
func (e Entry) Secret(f Field) secret.Text { return secret.New(e.Text(f)) }

func (e Entry) read(f Field, to any) {
	if r, ok := e.Fields[f]; ok {
		_ = json.Unmarshal([]byte(r.Value.Reveal()), to) // a value of another shape reads as unset
	}
}

// Modified is the latest stamp among the entry's registers.
func (e Entry) Modified() Stamp {
	var last Stamp
	for _, r := range e.Fields {
		if r.Stamp.Compare(last) > 0 {
			last = r.Stamp
		}
	}
	return last
}

// Copy returns an entry of its own, under another id, that says the same now; changes are what it says otherwise. It
// has no past, isn't archived or pinned, and holds the same files.
func (e Entry) Copy(id string, by Stamp, changes Changes) (Entry, error) {
	c := Changes{}
	for f, r := range e.Fields {
		if f != FieldArchived && f != FieldJoined && f != fieldPurged && !f.Personal() {
			c[f] = json.RawMessage(r.Value.Reveal())
		}
	}
	maps.Copy(c, changes)
	return New(id, e.Type, by, c)
}

// Archive puts the entry away. What is recorded is the content that was seen:
// if another device edited the entry meanwhile, the merged content differs and
// the entry stays in the book. A deletion loses to an edit.
func (e Entry) Archive(by Stamp) (Entry, error) {
	return e.With(by, Changes{FieldArchived: e.contentDigest()})
}

// Restore brings an archived entry back.
func (e Entry) Restore(by Stamp) (Entry, error) { return e.With(by, Changes{FieldArchived: ""}) }

// Archived reports whether the entry is archived.
func (e Entry) Archived() bool {
	seen := e.Text(FieldArchived)
	return seen != "" && seen == e.contentDigest()
}

// Purge deletes an archived entry for good: its content and its past. Its
// record stays, without anything in it but the digest of what it was, and up to when
// the edits of each device are in that. If another device edited the entry meanwhile, the
// merged entry is that edited one, whole: a deletion loses to an edit that it didn't know.
func (e Entry) Purge(by Stamp) (Entry, error) {
	if !e.Archived() {
		return e, ErrNotArchived
	}
	digests := union(e.purgedDigests(), append(e.seenEdits(), e.contentDigest()))
	for _, r := range e.Fields {
		if by.Compare(r.Stamp) <= 0 {
			by = r.Stamp.next(by.By)
		}
	}
	out, err := e.With(by, Changes{fieldPurged: strings.Join(digests, " ")})
	return out.Normal(), err
}

// Discard is Purge for an entry whether it is archived or not.
func (e Entry) Discard(by Stamp) (Entry, error) {
	if e.Archived() {
		return e.Purge(by)
	}
	e, err := e.Archive(by)
	if err != nil {
		return e, err
	}
	return e.Purge(by)
}

// Purged reports whether the entry was deleted for good.
func (e Entry) Purged() bool {
	r, ok := e.Fields[fieldPurged]
	if !ok || isBlank(r.Value.Reveal()) {
		return false
	}
	empty, seen := true, true
	var edits map[string]int64
	for f, r := range e.Fields {
		if f == fieldPurged || f == FieldArchived || f.Personal() {
			continue
		}
		if empty {
			empty, edits = false, e.purgedEdits()
		}
		at, known := edits[r.Stamp.By]
		seen = seen && known && r.Stamp.At <= at
	}
	return empty || seen || slices.Contains(e.purgedDigests(), e.contentDigest())
}

// seenEdits says of each device which of its edits are in an entry, as Purge keeps it: "@device:moment". A device's
// edits of an entry follow each other, so all up to that moment are. Values that came from a file have no device.
func (e Entry) seenEdits() (out []string) {
	last := map[string]int64{}
	note := func(s Stamp) {
		if s.By != "" && !strings.ContainsFunc(s.By, unicode.IsSpace) {
			last[s.By] = max(last[s.By], s.At)
		}
	}
	for _, r := range e.Fields {
		note(r.Stamp)
	}
	for _, p := range e.Past {
		note(p.From)
	}
	for by, at := range last {
		out = append(out, "@"+by+":"+strconv.FormatInt(at, 10))
	}
	return out
}

// purgedEdits are the latest edits of each device that were known where the entry was deleted for good.
func (e Entry) purgedEdits() map[string]int64 {
	out := map[string]int64{}
	for _, d := range e.purgedDigests() {
		i := strings.LastIndexByte(d, ':')
		if i < 1 || d[0] != '@' {
			continue
		}
		if at, err := strconv.ParseInt(d[i+1:], 10, 64); err == nil {
			out[d[1:i]] = max(out[d[1:i]], at)
		}
	}
	return out
}

// purgedDigests are those of all contents that were deleted for good, in order, with what [Entry.seenEdits] says.
func (e Entry) purgedDigests() []string { return strings.Fields(e.Text(fieldPurged)) }

func union(a, b []string) []string {
	out := slices.Concat(a, b)
	slices.Sort(out)
	return slices.Compact(out)
}

// joinPurged joins what two versions were deleted as: a content that was deleted on one device doesn't come back
// because another one deleted another content.
func joinPurged(a, b Register) Register {
	winner := a
	if Later(b, a) {
		winner = b
	}
	digests := union(
		Entry{Fields: map[Field]Register{fieldPurged: a}}.purgedDigests(),
		Entry{Fields: map[Field]Register{fieldPurged: b}}.purgedDigests(),
	)
	text, err := encodeValue(strings.Join(digests, " "))
	if err != nil {
		return winner // no text fails to encode
	}
	stamp := winner.Stamp
	if a.Stamp.Compare(b.Stamp) == 0 {
		stamp = a.Stamp
	}
	return Register{text, stamp}
}

// Normal drops what a purged entry has left, and what of the past is kept apart; others come back as they are. Every
// join of entries ends with it.
func (e Entry) Normal() Entry {
	if !e.Purged() {
		return e.withoutEarlier()
	}
	fields := map[Field]Register{fieldPurged: e.Fields[fieldPurged]}
	if r, ok := e.Fields[FieldShare]; ok { // the others are to learn of it
		fields[FieldShare] = r
	}
	return Entry{ID: e.ID, Type: e.Type, Created: e.Created, Fields: fields}
}

// Errors of putting away and bringing back.
var (
	ErrNotArchived = errors.New("the entry isn't archived")
	ErrNotThere    = errors.New("the entry wasn't there at that moment")
)

// contentDigest covers every register but the archive's own and those that aren't shared.
func (e Entry) contentDigest() string {
	h := sha256.New()
	for _, f := range slices.Sorted(maps.Keys(e.Fields)) {
		if f == FieldArchived || f == fieldPurged || f.Personal() {
			continue
		}
		r := e.Fields[f]
		fmt.Fprintf(
			h,
			"%d:%s%d:%s%d:%d:%s",
			len(f),
			f,
			len(r.Value.Reveal()),
			r.Value.Reveal(),
			r.Stamp.At,
			len(r.Stamp.By),
			r.Stamp.By,
		)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// Conflicts returns the passwords that lost in a merge and that nobody has decided
// about yet, latest first. While there are any, the current one is undecided.
func (e Entry) Conflicts() []Past {
	var out []Past
	for _, p := range e.Past {
		if p.Field == FieldPassword && p.Until == 0 && p.Value != e.Fields[FieldPassword].Value {
			out = append(out, p)
		}
	}
	slices.Reverse(out)
	return out
}

// Resolve decides between rivals: password becomes or stays the current one,
// and the rivals known now are plain history from here on.
func (e Entry) Resolve(by Stamp, password secret.Text) (Entry, error) {
	out := e
	out.Past = slices.Clone(e.Past)
	for i, p := range out.Past {
		if p.Field == FieldPassword && p.Until == 0 {
			out.Past[i].Until = max(by.At, p.From.next("").At)
		}
	}
	return out.With(by, Changes{FieldPassword: password})
}

// addPast inserts p, or joins it with the same value of the same moment: that
// somebody replaced it knowingly, and the first time somebody did, is kept. The
// order is fixed, so that equal sets are equal slices.
func addPast(list []Past, p Past) []Past {
	i, found := slices.BinarySearchFunc(list, p, comparePast)
	if !found {
		return slices.Insert(list, i, p)
	}
	if old := list[i].Until; old == 0 || p.Until != 0 && p.Until < old {
		list[i].Until = p.Until
	}
	return list
}

func comparePast(a, b Past) int {
	return cmp.Or(a.From.Compare(b.From), strings.Compare(string(a.Field), string(b.Field)),
		strings.Compare(a.Value.Reveal(), b.Value.Reveal()))
}

// JoinPast returns the union of two pasts.
func JoinPast(a, b []Past) []Past {
	out := slices.Clone(a)
	for _, p := range b {
		out = addPast(out, p)
	}
	return out
}

// Superseded returns how r, the value of f, stands in the past after losing a merge;
// ok is false where nothing worth keeping was lost.
func Superseded(f Field, r Register) (p Past, ok bool) {
	return Past{Field: f, Value: r.Value, From: r.Stamp}, keepsPast(f) && !isBlank(r.Value.Reveal())
}

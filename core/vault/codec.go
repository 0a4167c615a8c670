package vault

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"unicode/utf8"

	"redlocket/core/secret"
)

// MaxEncoded is the largest encoded entry that is written or read, in bytes.
// It leaves room for long notes and a long past, and bounds what a broken or
// hostile record can make a device hold.
const MaxEncoded = 1 << 20

// ErrTooLarge is returned for an entry above [MaxEncoded].
var ErrTooLarge = errors.New("the entry is larger than one record can hold")

// The wire shapes, named as in docs/format.md.
type wireRegister struct {
	V  json.RawMessage `json:"v"`
	At int64           `json:"at"`
	By string          `json:"by"`
}

type wirePast struct {
	F     Field           `json:"f"`
	V     json.RawMessage `json:"v"`
	At    int64           `json:"at"`
	By    string          `json:"by"`
	Until int64           `json:"until,omitempty"`
}

// Encode returns the entry's bytes, ready to be sealed. It is the only place
// where an entry's secrets are written out together.
func (e Entry) Encode() ([]byte, error) {
	m := map[string]any{"t": e.Type, "id": e.ID, "created": e.Created}
	for k, v := range e.Extra {
		m[k] = v
	}
	fields := make(map[Field]wireRegister, len(e.Fields))
	for f, r := range e.Fields {
		fields[f] = wireRegister{json.RawMessage(r.Value.Reveal()), r.Stamp.At, r.Stamp.By}
	}
	m["f"] = fields
	if len(e.Past) > 0 {
		past := make([]wirePast, len(e.Past))
		for i, p := range e.Past {
			past[i] = wirePast{p.Field, json.RawMessage(p.Value.Reveal()), p.From.At, p.From.By, p.Until}
		}
		m["past"] = past
	}
	text, err := encodeValue(m)
	if err != nil {
		return nil, fmt.Errorf("failed to encode entry %s: %w", e.ID, err)
	}
	b := []byte(text.Reveal())
	if len(b) > MaxEncoded {
		return nil, ErrTooLarge
	}
	return b, nil
}

// Decode reads what [Entry.Encode] wrote, in this or another version.
func Decode(b []byte) (Entry, error) {
	if len(b) > MaxEncoded {
		return Entry{}, ErrTooLarge
	}
	if !utf8.Valid(b) {
		return Entry{}, errors.New("failed to decode entry: not UTF-8")
	}
	if e, ok := scanEntry(b); ok {
		slices.SortFunc(e.Past, comparePast)
		return e, nil
	}
	return decodeAny(b)
}

// decodeAny reads an entry written by any version.
func decodeAny(b []byte) (Entry, error) {
	var w struct {
		T       Type                   `json:"t"`
		ID      string                 `json:"id"`
		Created int64                  `json:"created"`
		F       map[Field]wireRegister `json:"f"`
		Past    []wirePast             `json:"past"`
	}
	if err := json.Unmarshal(b, &w); err != nil {
		return Entry{}, fmt.Errorf("failed to decode entry: %w", err)
	}
	if w.ID == "" || w.T == "" {
		return Entry{}, errors.New("failed to decode entry: id or type is missing")
	}
	e := Entry{ID: w.ID, Type: w.T, Created: w.Created, Fields: make(map[Field]Register, len(w.F))}
	for f, r := range w.F {
		text, err := Canonical(r.V)
		if err != nil {
			return Entry{}, fmt.Errorf("failed to decode field %s: %w", f, err)
		}
		e.Fields[f] = Register{text, Stamp{r.At, r.By}}
	}
	for _, p := range w.Past {
		text, err := Canonical(p.V)
		if err != nil {
			return Entry{}, fmt.Errorf("failed to decode the past of field %s: %w", p.F, err)
		}
		e.Past = append(e.Past, Past{p.F, text, Stamp{p.At, p.By}, p.Until})
	}
	slices.SortFunc(e.Past, comparePast)
	return e, e.readExtra(b)
}

// readExtra keeps the keys that this version doesn't know.
func (e *Entry) readExtra(b []byte) error {
	var all map[string]json.RawMessage
	if err := json.Unmarshal(b, &all); err != nil {
		return fmt.Errorf("failed to decode entry: %w", err)
	}
	for _, k := range []string{"t", "id", "created", "f", "past"} {
		delete(all, k)
	}
	for k, v := range all {
		text, err := Canonical(v)
		if err != nil {
			return fmt.Errorf("failed to decode key %s: %w", k, err)
		}
		all[k] = json.RawMessage(text.Reveal())
	}
	if len(all) > 0 {
		e.Extra = all
	}
	return nil
}

// Canonical brings a value's JSON to one form: strings with as few escapes as
// can be, nothing else but what compacting removes.
func Canonical(raw json.RawMessage) (secret.Text, error) {
	if len(raw) == 0 {
		return secret.New("null"), nil
	}
	if raw[0] == '"' {
		if !slices.Contains(raw, '\\') {
			return secret.New(string(raw)), nil // the common case needs no second pass
		}
		var s string
		if err := json.Unmarshal(raw, &s); err != nil {
			return secret.Text{}, err
		}
		return encodeValue(s)
	}
	var b bytes.Buffer
	if err := json.Compact(&b, raw); err != nil {
		return secret.Text{}, err
	}
	return secret.New(b.String()), nil
}

// Equal reports whether two versions of an entry hold the same.
func (e Entry) Equal(o Entry) bool {
	a, err1 := e.Encode()
	b, err2 := o.Encode()
	return err1 == nil && err2 == nil && string(a) == string(b)
}

// Version names what an entry says, and how it came to say it: SHA-256 over all that [Entry.Encode] writes. It takes a
// small part of the time that encoding does.
func (e Entry) Version() (v [sha256.Size]byte) {
	h := sha256.New()
	buf := make([]byte, 0, 1024)
	number := func(n int64) { buf = binary.BigEndian.AppendUint64(buf, uint64(n)) } //nolint:gosec // its bits
	text := func(s string) { number(int64(len(s))); buf = append(buf, s...) }
	flush := func() { h.Write(buf); buf = buf[:0] }
	text(e.ID)
	text(string(e.Type))
	number(e.Created)
	number(int64(len(e.Fields)))
	for _, f := range slices.Sorted(maps.Keys(e.Fields)) {
		r := e.Fields[f]
		text(string(f))
		text(r.Value.Reveal())
		number(r.Stamp.At)
		text(r.Stamp.By)
		flush()
	}
	number(int64(len(e.Past)))
	for _, p := range e.Past {
		text(string(p.Field))
		text(p.Value.Reveal())
		number(p.From.At)
		text(p.From.By)
		number(p.Until)
		flush()
	}
	for _, k := range slices.Sorted(maps.Keys(e.Extra)) {
		text(k)
		text(string(e.Extra[k]))
	}
	flush()
	h.Sum(v[:0])
	return v
}

// Mark tells versions of an entry apart that edits and merges have made, within one run of the program: it changes with
// the stamps of registers and the length of the past. Of entries that somebody forged it may not: [Entry.Version] is
// for what has to hold.
func (e Entry) Mark(seed maphash.Seed) (m uint64) {
	for f, r := range e.Fields { // the order doesn't matter: marks are added up
		m += maphash.Comparable(seed, markOf{f, r.Stamp})
	}
	return m + maphash.Comparable(seed, len(e.Past))
}

type markOf struct {
	f Field
	s Stamp
}

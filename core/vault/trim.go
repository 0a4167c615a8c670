package vault

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
)

// A record has room for [MaxEncoded] bytes. Where an entry's past grows above that, the oldest of it is kept apart, in
// entries of [TypePast] whose FieldOf names the entry. Which part that is, the entry's horizon says: a moment that only
// grows, so that two versions join as before, in any order.

// keyHorizon is the entry's key for the horizon: milliseconds since 1970, in 19 digits. As for all keys, the greater
// text wins in a merge.
const keyHorizon = "horizon"

// FieldOf names the entry that an entry of [TypePast] belongs to.
const FieldOf Field = "of"

// Roomy is how many bytes of an entry are left where it is trimmed; the rest of [MaxEncoded] is room to grow.
const Roomy = MaxEncoded / 4 * 3

// Horizon returns the moment, in milliseconds since 1970, before which the past is kept apart; 0 where all of it is in
// the entry.
func (e Entry) Horizon() int64 {
	raw, ok := e.Extra[keyHorizon]
	if !ok {
		return 0
	}
	var text string
	if json.Unmarshal(raw, &text) != nil {
		return 0
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0
	}
	return n
}

// WithoutHorizon returns an entry that was put together from its parts: all of its past is in it.
func (e Entry) WithoutHorizon() Entry {
	e.Extra = maps.Clone(e.Extra)
	delete(e.Extra, keyHorizon)
	return e
}

// withoutEarlier drops the past from before the horizon.
func (e Entry) withoutEarlier() Entry {
	h := e.Horizon()
	if h == 0 || len(e.Past) == 0 || e.Past[0].From.At >= h {
		return e
	}
	i, _ := slices.BinarySearchFunc(e.Past, h, func(p Past, h int64) int {
		if p.From.At < h {
			return -1
		}
		return 1
	})
	e.Past = slices.Clone(e.Past[i:])
	return e
}

// Size is about how many bytes the encoded entry has, and never less.
func (e Entry) Size() int {
	const each = 80 // bytes for its name, stamps and JSON marks
	n := each + len(e.ID) + len(e.Type)
	for f, r := range e.Fields {
		n += each + len(f) + len(r.Value.Reveal()) + len(r.Stamp.By)
	}
	for _, p := range e.Past {
		n += pastSize(p)
	}
	for k, v := range e.Extra {
		n += each + len(k) + len(v)
	}
	return n
}

func pastSize(p Past) int {
	const each = 120
	return each + len(p.Field) + len(p.Value.Reveal()) + len(p.From.By)
}

// Trim takes the oldest of an entry's past out, if it is larger than [Roomy], and returns what it took. An entry whose
// present values alone are larger comes back without any past.
func (e Entry) Trim() (out Entry, taken []Past) {
	over := e.Size() - Roomy
	if over <= 0 || len(e.Past) == 0 {
		return e, nil
	}
	over += Roomy / 4 // so that the next edit doesn't trim again
	horizon := int64(0)
	for _, p := range e.Past {
		if over <= 0 {
			break
		}
		over -= pastSize(p)
		horizon = max(horizon, p.From.next("").At)
	}
	if horizon <= e.Horizon() {
		return e, nil
	}
	out = e
	out.Extra = maps.Clone(e.Extra)
	if out.Extra == nil {
		out.Extra = map[string]json.RawMessage{}
	}
	out.Extra[keyHorizon] = json.RawMessage(fmt.Sprintf("\"%019d\"", horizon))
	out = out.withoutEarlier()
	return out, e.Past[:len(e.Past)-len(out.Past)]
}

// JoinedPast returns the past that two versions have together, with what lost in their join, wherever the horizon is.
func JoinedPast(a, b Entry) []Past {
	a.Extra, b.Extra = nil, nil
	return Merge(a, b).Past
}

// Lost returns those values of a past that an entry doesn't hold.
func Lost(e Entry, past []Past) (lost []Past) {
	for _, p := range past {
		if _, there := slices.BinarySearchFunc(e.Past, p, comparePast); !there {
			lost = append(lost, p)
		}
	}
	return lost
}

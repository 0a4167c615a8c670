package vault

import (
	"maps"
	"strings"
)

// What is shared of an entry is the same for all who hold it. Where each of them files it is their own business: it
// isn't told to the others, and stays as it is when their edits are merged.

// FieldShare says of an item which shared set it is in, and under which id: "SET ID".
const FieldShare Field = "share"

// The most that is shared of an entry's past: the newest.
const (
	maxSharedPast      = 60
	maxSharedPastBytes = 128 << 10
)

// Personal reports whether a field isn't shared.
func (f Field) Personal() bool {
	return f == FieldPinned || f == FieldBook || f == FieldShare
}

// Share returns the set that an item is in and the id that it has there; empty for what isn't in any.
func (e Entry) Share() (set, id string) {
	set, id, ok := strings.Cut(e.Text(FieldShare), " ")
	if !ok {
		return "", ""
	}
	return set, id
}

// ShareText is a value of [FieldShare].
func ShareText(set, id string) string { return set + " " + id }

// Shared returns what is shared of an entry, under the id that it has in the set. Two versions that were joined from
// the same ones are shared as the same, whoever joined them and in whatever order.
func (e Entry) Shared(id string) Entry {
	out := e.WithoutHorizon()
	out.ID, out.Fields, out.Past = id, maps.Clone(e.Fields), nil
	maps.DeleteFunc(out.Fields, func(f Field, _ Register) bool { return f.Personal() })
	size := 0
	from := len(e.Past)
	for from > 0 && len(e.Past)-from < maxSharedPast {
		if size += pastSize(e.Past[from-1]); size > maxSharedPastBytes {
			break
		}
		from--
	}
	for _, p := range e.Past[from:] {
		if !p.Field.Personal() {
			out.Past = append(out.Past, p)
		}
	}
	return out
}

// As returns an entry under another id, as it is held by one of those who share it.
func (e Entry) As(id string) Entry {
	e.ID = id
	return e
}

// WithoutSecrets returns an item without what is hidden when it is shown, without its notes and files, and without its
// past.
func (e Entry) WithoutSecrets() Entry {
	out := e
	out.Fields, out.Past = maps.Clone(e.Fields), nil
	for _, k := range Kinds() {
		for _, s := range k.Specs {
			if s.Hidden() {
				delete(out.Fields, s.Field)
			}
		}
	}
	maps.DeleteFunc(out.Fields, func(f Field, _ Register) bool {
		return f == FieldStaged || f == FieldNotes || strings.HasPrefix(string(f), ownPrefix) ||
			strings.HasPrefix(string(f), filePrefix)
	})
	return out
}

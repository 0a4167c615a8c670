package share

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"redlocket/core/vault"
)

// Thing is an item as it is passed: what it says now, without its past, its files, and how its owner filed it.
type Thing struct {
	Type   vault.Type                      `json:"type"`
	Fields map[vault.Field]json.RawMessage `json:"fields"`
}

// ErrThing is returned for an item that can't be passed.
var ErrThing = errors.New("this can’t be passed: it is too large, or nothing that is filed")

// every are the fields that an item of any kind passes on.
var every = []vault.Field{
	vault.FieldTitle, vault.FieldUsername, vault.FieldPassword, vault.FieldAddresses, vault.FieldAliases,
	vault.FieldNotes,
}

// passes reports whether a field of an item is passed on.
func passes(k vault.Kind, f vault.Field) bool {
	_, spec := k.Spec(f)
	return spec || slices.Contains(every, f) || vault.IsCustomField(f)
}

// ThingOf is an item as it is passed.
func ThingOf(e vault.Entry) (t Thing, err error) {
	k, ok := vault.KindOf(e.Kind())
	if !ok || e.Purged() {
		return t, ErrThing
	}
	t = Thing{k.Type, map[vault.Field]json.RawMessage{}}
	for f, r := range e.Fields {
		if passes(k, f) && r.Value.Reveal() != `""` {
			t.Fields[f] = json.RawMessage(r.Value.Reveal())
		}
	}
	return t, t.check()
}

// Entry is the thing as an entry that nobody keeps yet.
func (t Thing) Entry(id string, by vault.Stamp) (vault.Entry, error) {
	if err := t.check(); err != nil {
		return vault.Entry{}, err
	}
	c := vault.Changes{}
	for f, v := range t.Fields {
		c[f] = v
	}
	return vault.New(id, t.Type, by, c)
}

// check returns an error for what can't have come out of [ThingOf].
func (t Thing) check() error {
	k, ok := vault.KindOf(t.Type)
	if !ok {
		return ErrThing
	}
	size := 0
	for f, v := range t.Fields {
		if size += len(f) + len(v); size > MaxThing || !passes(k, f) || !shaped(f, v) {
			return ErrThing
		}
	}
	return nil
}

// shaped reports whether a field's value is of the form that the field has.
func shaped(f vault.Field, v json.RawMessage) bool {
	to := any(new(string))
	switch {
	case f == vault.FieldAddresses:
		to = new([]vault.Address)
	case f == vault.FieldAliases:
		to = new([]string)
	case vault.IsCustomField(f):
		return vault.IsCustomFieldValue(f, v)
	}
	return len(v) > 0 && !strings.HasPrefix(string(v), "null") && json.Unmarshal(v, to) == nil
}

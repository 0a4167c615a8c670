package share

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// Thing is an item as it is passed: what it says now, without its past, its files, and how its owner filed it.
type Thing struct {
	Type   vault.Type                      `json:"type"`
	Fields map[vault.Field]json.RawMessage `json:"fields"`
}

// ErrThing is returned for an item that can't be passed.
var ErrThing = errors.New("this can’t be passed: it is too large, or nothing that is filed")

// every are the fields that are passed on with an item of any kind.
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
	if good := slices.DeleteFunc(slices.Clone(vault.View(e).Addresses), badAddress); len(good) > 0 {
		t.Fields[vault.FieldAddresses], err = json.Marshal(good)
	} else {
		delete(t.Fields, vault.FieldAddresses)
	}
	return t, errors.Join(err, t.check())
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
		var list []vault.Address
		return json.Unmarshal(v, &list) == nil && len(list) <= maxAddresses && !slices.ContainsFunc(list, badAddress)
	case f == vault.FieldAliases:
		to = new([]string)
	case vault.IsCustomField(f):
		return vault.IsCustomFieldValue(f, v)
	}
	return len(v) > 0 && !strings.HasPrefix(string(v), "null") && json.Unmarshal(v, to) == nil
}

// maxAddresses is how many addresses a thing has at most.
const maxAddresses = 100

// badAddress reports whether an address is one that nobody could have typed.
func badAddress(a vault.Address) bool {
	_, err := site.Clean(a.URL)
	return err != nil || !slices.Contains([]vault.Match{vault.MatchSite, vault.MatchHost, vault.MatchPage}, a.Match)
}

package transfer

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"redlocket/core/vault"
)

// givenByFile is the moment of a title that a file has itself: it beats one that was
// made from the address, and nothing else.
const givenByFile = Unknown + 1

// Dated reports whether a moment is one that a file gave or that an edit was made at. A value
// that came without one counts as older than every other.
func Dated(ms int64) bool { return ms > givenByFile }

// What a file brings is joined with what the vault holds as two devices' edits are:
// register by register the later one stays, and what loses is kept in the past. A
// value of which nobody knows when it was set loses against every other. So the order
// of files makes no difference, and bringing in a file again changes nothing.

// joinRows joins a cluster's rows with the vault's item, or with each other.
func joinRows(c *cluster, by vault.Stamp) vault.Entry {
	rows := c.rows
	if len(rows) > many {
		rows = []Row{joinMany(c.have, rows, by)}
	}
	var e vault.Entry
	if c.have != nil {
		e = *c.have
	} else {
		e, rows = asNew(rows[0]), rows[1:]
	}
	for _, r := range rows {
		e = join(e, r, by)
	}
	for _, n := range c.nameless {
		r := Row{Entry: *n}
		r.Entry.ID = ""
		e = join(e, r, by)
	}
	return e
}

// many is how many rows are joined one after the other. More are joined by pairs, so that the time that it takes grows
// as n log n and not as the square.
const many = 64

// joinMany joins many rows into one. Passwords that the vault's item has had are left out of it.
func joinMany(have *vault.Entry, rows []Row, by vault.Stamp) Row {
	had := map[string]bool{}
	if have != nil {
		had[have.Text(vault.FieldPassword)] = true
		for _, p := range have.Past {
			if p.Field == vault.FieldPassword {
				had[vault.Plain(p.Value)] = true
			}
		}
	}
	list := make([]Row, len(rows))
	for i, r := range rows {
		r.Entry = asNew(r)
		r.Named = false
		if p := r.Entry.Text(vault.FieldPassword); p != "" && had[p] && !bringsPassword(*have, r.Entry) {
			delete(r.Entry.Fields, vault.FieldPassword) // of the copy that asNew made
		}
		list[i] = r
	}
	for len(list) > 1 {
		n := 0
		for i := 0; i < len(list); i += 2 {
			if i+1 < len(list) {
				list[i].Entry = join(list[i].Entry, list[i+1], by)
			}
			list[n] = list[i]
			n++
		}
		list = list[:n]
	}
	return list[0]
}

// asNew is a row as an entry of its own, without an id unless the file gave one.
func asNew(r Row) vault.Entry {
	e := r.Entry
	e.Fields = maps.Clone(e.Fields)
	if t, ok := e.Fields[vault.FieldTitle]; ok && r.Named && r.Entry.ID == "" && t.Stamp.At == Unknown {
		t.Stamp.At = givenByFile
		e.Fields[vault.FieldTitle] = t
	}
	return e
}

// join joins a row into an entry. What a person wrote is added to by the given edit.
func join(e vault.Entry, r Row, by vault.Stamp) vault.Entry {
	in := asNew(r)
	whole := r.Entry.ID != "" && r.Entry.ID == e.ID // the same item, from an export of this vault
	in.ID, in.Type, in.Created = e.ID, e.Type, e.Created
	if whole {
		in.Created = r.Entry.Created
		return vault.Merge(e, in)
	}
	delete(in.Fields, vault.FieldKind)
	joinTitle(&e, &in)
	joinPassword(&e, &in)
	joinNotes(&e, &in, by)
	joinLists(&e, &in, by)
	for f, theirs := range in.Fields { // what is the same already stays as it is
		ours, ok := e.Fields[f]
		switch {
		case !ok:
		case ours.Value == theirs.Value:
			delete(in.Fields, f)
		case vault.Plain(ours.Value) == "": // emptied here: the file fills it again
			if out, err := e.With(by, vault.Changes{f: json.RawMessage(theirs.Value.Reveal())}); err == nil {
				e = out
			}
			delete(in.Fields, f)
		}
	}
	return vault.Merge(e, in)
}

// own makes an entry's registers its own before one is set.
func own(e *vault.Entry) { e.Fields = maps.Clone(e.Fields) }

// joinTitle leaves the better of two titles, and makes the other one findable. One that a person wrote stays; one that
// was made from an address counts for nothing beside one that a file has.
func joinTitle(e, in *vault.Entry) {
	ours, theirs := e.Fields[vault.FieldTitle], in.Fields[vault.FieldTitle]
	if ours.Value.IsEmpty() || theirs.Value.IsEmpty() {
		return
	}
	made := func(r vault.Register) bool { return r.Stamp.At == Unknown && r.Stamp.By == "" }
	a, b := e.Text(vault.FieldTitle), in.Text(vault.FieldTitle)
	oursStays := ours.Stamp.By != "" || !made(ours) && made(theirs) || made(ours) == made(theirs) && !betterTitle(b, a)
	loser, its := a, ours
	if oursStays {
		loser, its = b, theirs
		delete(in.Fields, vault.FieldTitle)
	} else {
		own(e)
		delete(e.Fields, vault.FieldTitle)
	}
	if a != b && !made(its) {
		list := append(vault.View(*in).Aliases, loser)
		set(in, vault.FieldAliases, list, vault.Stamp{At: Unknown})
	}
}

// betterTitle reports whether a title says more to a reader than another. It is an order of all titles.
func betterTitle(a, b string) bool {
	return cmp.Or(cmp.Compare(titleWorth(a), titleWorth(b)), strings.Compare(b, a)) > 0
}

func titleWorth(s string) (n int) {
	if strings.Contains(strings.ToLower(s), "xn--") {
		n -= 8
	}
	if looksAddress(s) || looksEmail(s) {
		n -= 4
	}
	if strings.ContainsRune(s, utf8.RuneError) {
		n -= 2
	}
	if strings.ContainsFunc(s, unicode.IsUpper) {
		n++
	}
	return n
}

// bringsPassword reports whether an incoming password says something new: it isn't the
// current one, and not an earlier one unless it was set later than the current one.
func bringsPassword(e, in vault.Entry) bool {
	ours, theirs := e.Fields[vault.FieldPassword], in.Fields[vault.FieldPassword]
	if theirs.Value.IsEmpty() || ours.Value == theirs.Value {
		return false
	}
	return !hasPassword(e, in.Text(vault.FieldPassword)) || theirs.Stamp.At > givenByFile && vault.Later(theirs, ours)
}

func joinPassword(e, in *vault.Entry) {
	ours, theirs := e.Fields[vault.FieldPassword], in.Fields[vault.FieldPassword]
	if ours.Value == theirs.Value && ours.Stamp.By == "" && theirs.Stamp.At > ours.Stamp.At {
		own(e) // the same password, and now it is known when it was set
		e.Fields[vault.FieldPassword] = theirs
	}
	if !bringsPassword(*e, *in) {
		delete(in.Fields, vault.FieldPassword)
	}
}

// joinNotes keeps both notes where neither has the other's words.
func joinNotes(e, in *vault.Entry, by vault.Stamp) {
	a, b := e.Text(vault.FieldNotes), in.Text(vault.FieldNotes)
	ours := e.Fields[vault.FieldNotes]
	switch {
	case a == "" || b == "":
		return
	case strings.Contains(a, b):
		delete(in.Fields, vault.FieldNotes)
		return
	}
	both := []string{a, b}
	if strings.Contains(b, a) {
		both = []string{b}
	} else if ours.Stamp.By == "" { // neither was written here: their order must not depend on which came first
		slices.Sort(both)
	}
	set(e, vault.FieldNotes, strings.Join(both, "\n\n"), by)
	delete(in.Fields, vault.FieldNotes)
}

// joinLists unites addresses, tags and other names.
func joinLists(e, in *vault.Entry, by vault.Stamp) {
	ours, theirs := vault.View(*e), vault.View(*in)
	if list, more := unite(ours.Addresses, theirs.Addresses, sortAddresses, fromFile(*e, vault.FieldAddresses)); more {
		set(e, vault.FieldAddresses, list, by)
	}
	byText := func(list []string) { slices.Sort(list) }
	if list, more := unite(ours.Tags, theirs.Tags, byText, fromFile(*e, vault.FieldTags)); more {
		set(e, vault.FieldTags, list, by)
	}
	if list, more := unite(ours.Aliases, theirs.Aliases, byText, fromFile(*e, vault.FieldAliases)); more {
		set(e, vault.FieldAliases, list, by)
	}
	for _, f := range []vault.Field{vault.FieldAddresses, vault.FieldTags, vault.FieldAliases} {
		delete(in.Fields, f)
	}
}

// fromFile reports whether a register holds what a file brought, or nothing.
func fromFile(e vault.Entry, f vault.Field) bool { return e.Fields[f].Stamp.By == "" }

// unite adds what a list lacks; more is false if that is nothing. The first of a list
// that a person wrote stays the first; everything else comes in a fixed order.
func unite[T comparable](ours, theirs []T, sort func([]T), fromFile bool) (out []T, more bool) {
	out = slices.Clone(ours)
	for _, x := range theirs {
		if !slices.Contains(out, x) {
			out, more = append(out, x), true
		}
	}
	switch {
	case fromFile || len(ours) == 0:
		sort(out)
	default:
		sort(out[1:])
	}
	return out, more
}

// set sets a register to what was joined. One that a person wrote goes to the past, like
// with any other edit; one of a file is replaced.
func set(e *vault.Entry, f vault.Field, v any, by vault.Stamp) {
	old := e.Fields[f].Stamp
	if fromFile(*e, f) {
		by = vault.Stamp{At: max(old.At, Unknown)}
		own(e)
		delete(e.Fields, f)
	}
	if out, err := e.With(by, vault.Changes{f: v}); err == nil {
		*e = out
	}
}

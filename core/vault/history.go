package vault

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"redlocket/core/secret"
)

func newSecret(s string) secret.Text { return secret.New(s) }

// AsOf returns the entry as it was at a moment (milliseconds since 1970), as far
// as its past tells; ok is false if it wasn't there yet.
func (e Entry) AsOf(ms int64) (out Entry, ok bool) {
	if e.Created > ms {
		return Entry{}, false
	}
	out = Entry{ID: e.ID, Type: e.Type, Created: e.Created, Extra: e.Extra, Fields: map[Field]Register{}}
	for f, r := range e.Fields {
		if r.Stamp.At <= ms {
			out.Fields[f] = r
		}
	}
	for _, p := range e.Past {
		if p.From.At > ms {
			continue
		}
		gone := p.Until != 0 && p.Until <= ms
		if gone {
			out.Past = append(out.Past, p)
		}
		if r, later := out.Fields[p.Field]; later && r.Stamp.Compare(p.From) >= 0 {
			continue
		}
		if gone {
			delete(out.Fields, p.Field) // emptied since
		} else {
			out.Fields[p.Field] = Register{p.Value, p.From}
		}
	}
	// Emptied registers have no past, so the digest of then can't be made again.
	if r, ok := out.Fields[FieldArchived]; ok && !isBlank(r.Value.Reveal()) {
		if e.editedIn(r.Stamp.At, ms) { // an edit brought it back
			delete(out.Fields, FieldArchived)
		} else if text, err := encodeValue(out.contentDigest()); err == nil {
			out.Fields[FieldArchived] = Register{text, r.Stamp}
		}
	}
	return out, true
}

// editedIn reports whether the content was edited after one moment and not later
// than another.
func (e Entry) editedIn(after, until int64) bool {
	in := func(ms int64) bool { return ms > after && ms <= until }
	for f, r := range e.Fields {
		if inHistory(f) && f != FieldArchived && in(r.Stamp.At) {
			return true
		}
	}
	return slices.ContainsFunc(e.Past, func(p Past) bool {
		return inHistory(p.Field) && p.Field != FieldArchived && (in(p.From.At) || in(p.Until))
	})
}

// Version is what one edit made of an entry.
type Version struct {
	Stamp
	First   bool // it was saved then
	Changes []Change
}

// Change is one field of a version.
type Change struct {
	Field    Field
	Name     string // of a custom field or an attached file
	From, To string // as a person writes them, kinds by their type; empty for hidden ones
	Hidden   bool   // the values are asked for one by one
	Past     int    // place of the earlier value in Entry.Past; -1 if there is none
	Added    bool   // there was nothing before
	Removed  bool   // there is nothing after
}

// History returns the entry's versions, the latest first. Edits of one moment on
// one device are one version.
func (e Entry) History() []Version {
	moments := map[Stamp]map[Field]Register{}
	note := func(f Field, r Register) {
		if !inHistory(f) {
			return
		}
		if moments[r.Stamp] == nil {
			moments[r.Stamp] = map[Field]Register{}
		}
		moments[r.Stamp][f] = r
	}
	for f, r := range e.Fields {
		note(f, r)
	}
	for _, p := range e.Past {
		note(p.Field, Register{p.Value, p.From})
	}
	stamps := slices.SortedFunc(maps.Keys(moments), Stamp.Compare)
	var out []Version
	before := map[Field]Register{}
	for i, s := range stamps {
		v := Version{Stamp: s, First: i == 0}
		for _, f := range slices.Sorted(maps.Keys(moments[s])) {
			r := moments[s][f]
			if c, ok := e.describeChange(f, before[f], r); ok {
				v.Changes = append(v.Changes, c)
			}
			before[f] = r
		}
		if len(v.Changes) > 0 {
			out = append(out, v)
		}
	}
	slices.Reverse(out)
	return out
}

// inHistory reports whether histories speak of a field.
func inHistory(f Field) bool {
	return !f.Personal() && f != FieldSent && f != FieldJoined && f != fieldPurged
}

func (e Entry) describeChange(f Field, from, to Register) (c Change, ok bool) {
	was, is := from.Value.Reveal(), to.Value.Reveal()
	c = Change{
		Field:   f,
		Name:    NameIn(f, to, from),
		Added:   isBlank(was),
		Removed: isBlank(is),
		Past:    -1,
		Hidden:  hides(f),
	}
	if c.Added && c.Removed {
		return c, false
	}
	if f == FieldArchived {
		return c, true
	}
	c.Past = slices.IndexFunc(
		e.Past,
		func(p Past) bool { return p.Field == f && p.From == from.Stamp && p.Value == from.Value },
	)
	if !c.Hidden {
		c.From, c.To = Plain(from.Value), Plain(to.Value)
		if f == FieldKind {
			c.From, c.To = cmp.Or(c.From, string(e.Type)), cmp.Or(c.To, string(e.Type))
		}
	}
	return c, true
}

// NameIn returns the name that registers of a custom field or of a file hold, the first that
// has one; empty for other fields.
func NameIn(f Field, list ...Register) string {
	if !strings.HasPrefix(string(f), ownPrefix) && !f.IsFile() {
		return ""
	}
	for _, r := range list {
		var w struct {
			Name string `json:"n"`
		}
		if json.Unmarshal([]byte(r.Value.Reveal()), &w) == nil && w.Name != "" {
			return w.Name
		}
	}
	return ""
}

// IsFile reports whether the field is a register of an attached file.
func (f Field) IsFile() bool { return strings.HasPrefix(string(f), filePrefix) }

// Plain reads a register's JSON the way a person would write it.
func Plain(value secret.Text) string {
	text := []byte(value.Reveal())
	var one string
	if json.Unmarshal(text, &one) == nil {
		return one
	}
	var yes bool
	if json.Unmarshal(text, &yes) == nil {
		if yes {
			return "yes"
		}
		return ""
	}
	var list []string
	if json.Unmarshal(text, &list) == nil {
		return strings.Join(list, ", ")
	}
	var addresses []Address
	if json.Unmarshal(text, &addresses) == nil {
		urls := make([]string, len(addresses))
		for i, a := range addresses {
			urls[i] = a.URL
		}
		return strings.Join(urls, ", ")
	}
	var w customFieldJSON
	if json.Unmarshal(text, &w) == nil {
		return w.Value
	}
	return ""
}

// RestoreAt makes the entry's content what it was at a moment. What it is now
// becomes history.
func (e Entry) RestoreAt(by Stamp, ms int64) (Entry, error) {
	then, ok := e.AsOf(ms)
	if !ok {
		return e, ErrNotThere
	}
	c := Changes{}
	for f := range e.Fields {
		if !inHistory(f) || f == FieldArchived {
			continue
		}
		c[f] = then.valueOf(f)
	}
	return e.With(by, c)
}

// valueOf returns a register's value for [Changes]; for one that isn't set, the
// blank value of its shape.
func (e Entry) valueOf(f Field) any {
	if r, ok := e.Fields[f]; ok {
		return json.RawMessage(r.Value.Reveal())
	}
	switch {
	case f == FieldAddresses || f == FieldTags || f == FieldAliases:
		return []string{}
	case f == FieldPinned, f == FieldSent:
		return false
	case strings.HasPrefix(string(f), ownPrefix), strings.HasPrefix(string(f), filePrefix):
		return nil
	}
	return ""
}

// sameValue compares registers by what they hold: a value that was changed and taken back is what it was.
func sameValue(a, b Register) bool {
	return a.Value == b.Value || isBlank(a.Value.Reveal()) && isBlank(b.Value.Reveal())
}

// Reverse undoes the act that made after of before. What was edited since stays;
// kept names those fields.
func (e Entry) Reverse(by Stamp, before, after Entry) (out Entry, kept []Field, err error) {
	c := Changes{}
	fields := map[Field]bool{}
	for f := range before.Fields {
		fields[f] = true
	}
	for f := range after.Fields {
		fields[f] = true
	}
	for _, f := range slices.Sorted(maps.Keys(fields)) {
		was, is := before.Fields[f], after.Fields[f]
		if was == is || f == FieldJoined { // that it was joined stays true, and nobody edits it
			continue
		}
		if !sameValue(e.Fields[f], is) {
			kept = append(kept, f)
			continue
		}
		if f == FieldArchived && before.Archived() {
			continue // its digest is set below, over what is there then
		}
		c[f] = before.valueOf(f)
	}
	if out, err = e.With(by, c); err != nil {
		return e, nil, err
	}
	out.Past = JoinPast(out.Past, before.Past)
	if before.Archived() && !out.Archived() && len(kept) == 0 {
		out, err = out.Archive(by)
	}
	return out, kept, err
}

// PreviousPassword returns the password that the present one replaced; ok is false if there is none.
func (e Entry) PreviousPassword() (p secret.Text, ok bool) {
	var last *Past
	for i := range e.Past {
		if q := &e.Past[i]; q.Field == FieldPassword && q.Until != 0 && (last == nil || q.Until > last.Until) {
			last = q
		}
	}
	if last == nil {
		return p, false
	}
	return secret.New(Plain(last.Value)), true
}

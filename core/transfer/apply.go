package transfer

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// Done is what a plan makes of a vault.
type Done struct {
	Entries []vault.Entry // to be written, together
	Made    int           // new items
	Changed int           // items that were there
	Left    int           // steps that change nothing
}

// Writer is how a plan's entries are made.
type Writer struct {
	By    vault.Stamp   // what the entries carry
	NewID func() string // makes an id for each call
	// Seal seals a text as a file that is to be attached; nil leaves such files out.
	Seal func(TextFile) (vault.File, error)
	// Progress, if it is set, hears how many of how many steps are done.
	Progress func(done, of int)
}

// Apply carries the plan out: it returns the entries that are new or changed, and
// those that remember the import for [Undo]. They are to be written all or not at all. Entries of the vault that were
// edited since the plan was made must be planned for again. It ends early with the context.
func (p *Plan) Apply(ctx context.Context, w Writer) (Done, error) {
	var d Done
	rec := recorder{by: w.By, id: w.NewID(), newID: w.NewID}
	for _, s := range p.Sources {
		rec.names = append(rec.names, s.Name)
	}
	for i, s := range p.Steps {
		if ctx.Err() != nil {
			return Done{}, ctx.Err()
		}
		if w.Progress != nil {
			w.Progress(i, len(p.Steps))
		}
		list, err := s.apply(w, p.Sources)
		if err != nil {
			return Done{}, fmt.Errorf("failed to import a row: %w", err)
		}
		if len(list) == 0 {
			d.Left++
		}
		for _, x := range list {
			if x.before != nil {
				d.Changed++
				rec.changed(*x.before, x.after)
			} else {
				d.Made++
				rec.made(x.after)
			}
			d.Entries = append(d.Entries, x.after)
		}
	}
	if len(d.Entries) == 0 {
		return d, nil
	}
	list, err := rec.entries(d)
	d.Entries = append(d.Entries, list...)
	return d, err
}

// edit is what a step does to one entry; before is nil for a new one.
type edit struct {
	before *vault.Entry
	after  vault.Entry
}

// apply returns what a step does: to one entry, or to several where passwords are to be
// logins of their own, or where logins without user name are archived.
func (s Step) apply(w Writer, sources []Source) ([]edit, error) {
	by := w.By
	switch s.Decision {
	case DecideSkip:
		return nil, nil
	case DecideApart:
		return s.apart(w, sources)
	}
	e := joinRows(&cluster{have: s.have, rows: s.Rows, nameless: s.nameless}, by)
	var err error
	switch s.Decision {
	case DecideNewer:
		e, err = e.Resolve(by, e.Secret(vault.FieldPassword))
	case DecideThis:
		e, err = e.Resolve(by, s.Candidates[s.Pick].Password)
	}
	if err != nil || s.have != nil && len(s.nameless) == 0 && len(s.texts(e)) == 0 && reflect.DeepEqual(e, *s.have) {
		return nil, err
	}
	if e, err = s.finish(e, s.Rows, w, sources); err != nil {
		return nil, err
	}
	out := []edit{{s.have, e}}
	for _, n := range s.nameless {
		away, err := n.Archive(by)
		if err != nil {
			return nil, err
		}
		out = append(out, edit{n, away})
	}
	return out, nil
}

// apart makes a login of each password that the vault's login doesn't have.
func (s Step) apart(w Writer, sources []Source) (out []edit, err error) {
	for _, c := range s.Candidates {
		var rows []Row
		for _, r := range s.Rows {
			if r.Entry.Text(vault.FieldPassword) == c.Password.Reveal() {
				rows = append(rows, r)
			}
		}
		if c.Vault || len(rows) == 0 {
			continue
		}
		alone := s
		alone.have = nil
		e, err := alone.finish(joinRows(&cluster{rows: rows}, w.By), rows, w, sources)
		if err != nil {
			return nil, err
		}
		out = append(out, edit{nil, e})
	}
	return out, nil
}

// finish gives an entry what only an import's end has: an id, the names of its files,
// and its place in the archive if it was there.
func (s Step) finish(
	e vault.Entry,
	rows []Row,
	w Writer,
	sources []Source,
) (vault.Entry, error) {
	by := w.By
	if s.have == nil {
		if !kept(e.ID) {
			e.ID = w.NewID()
		}
		if e.Created == 0 {
			e.Created = by.At
		}
	}
	from := e.SourceFiles()
	for _, r := range rows {
		if name := sources[r.Source].Name; name != "" && !slices.Contains(from, name) {
			from = append(from, name)
		}
	}
	slices.Sort(from)
	changes := vault.Changes{}
	s.Rows = rows
	for _, text := range s.texts(e) {
		if w.Seal == nil || len(e.Files())+len(changes) >= vault.MaxFiles {
			break
		}
		f, err := w.Seal(text)
		if err != nil {
			return e, err
		}
		changes[vault.FileField(f.ID)] = f
	}
	if len(changes) > 0 {
		var err error
		if e, err = e.With(by, changes); err != nil {
			return e, err
		}
	}
	e, err := e.With(by, vault.Changes{vault.FieldFrom: from[:min(len(from), 20)]})
	if err == nil && s.Archived {
		e, err = e.Archive(by)
	}
	return e, err
}

// texts are the texts that are to be attached, and that the entry hasn't yet.
func (s Step) texts(e vault.Entry) (out []TextFile) {
	has := map[string]bool{}
	for _, f := range e.Files() {
		has[f.Sum] = true
	}
	for _, r := range s.Rows {
		for _, t := range r.Files {
			if sum := sha256.Sum256([]byte(t.Text.Reveal())); !has[hex.EncodeToString(sum[:])] {
				has[hex.EncodeToString(sum[:])] = true
				out = append(out, t)
			}
		}
	}
	return out
}

// kept reports whether an id of a file is one that an entry can keep.
func kept(id string) bool { return len(id) == 36 && strings.Count(id, "-") == 4 }

// An import is remembered in entries of [vault.TypeImport], split into parts that a record has
// room for.
const (
	fieldPart   vault.Field = "part"   // place of this part, from 0
	fieldOf     vault.Field = "of"     // id of the import, the same in all parts
	fieldMade   vault.Field = "made"   // ids of new items
	fieldCounts vault.Field = "counts" // [new, changed], in part 0
	fieldUndone vault.Field = "undone" // in part 0, when it was
	perPart                 = 4000     // ids
	partBytes               = 600 << 10
)

// change is one register that an import changed: what it was, and the digest of
// what it became.
type change struct {
	ID     string          `json:"id"`
	Field  vault.Field     `json:"f"`
	Before json.RawMessage `json:"v,omitempty"`
	After  string          `json:"h"`
}

func digest(v secret.Text) string {
	h := sha256.Sum256([]byte(v.Reveal()))
	return hex.EncodeToString(h[:12])
}

type recorder struct {
	by      vault.Stamp
	id      string
	newID   func() string
	names   []string
	ids     []string
	changes []change
}

func (r *recorder) made(e vault.Entry) { r.ids = append(r.ids, e.ID) }

func (r *recorder) changed(before, after vault.Entry) {
	for _, f := range slices.Sorted(maps.Keys(after.Fields)) {
		if before.Fields[f].Value == after.Fields[f].Value {
			continue
		}
		c := change{ID: after.ID, Field: f, After: digest(after.Fields[f].Value)}
		if old, ok := before.Fields[f]; ok {
			c.Before = json.RawMessage(old.Value.Reveal())
		}
		r.changes = append(r.changes, c)
	}
}

// entries returns the entries that remember the import, in parts.
func (r *recorder) entries(d Done) (out []vault.Entry, err error) {
	ids, changes := r.ids, r.changes
	for part := 0; part == 0 || len(ids) > 0 || len(changes) > 0; part++ {
		c := vault.Changes{fieldOf: r.id, fieldPart: part}
		if part == 0 {
			c[vault.FieldName], c[fieldCounts] = strings.Join(r.names, ", "), []int{d.Made, d.Changed}
		}
		n := min(len(ids), perPart)
		if n > 0 {
			c[fieldMade] = ids[:n]
		}
		ids = ids[n:]
		size, m := 0, 0
		for m < len(changes) && size < partBytes {
			size += len(changes[m].Before) + 150
			m++
		}
		if m > 0 && n == 0 || len(ids) == 0 && m > 0 && n < perPart/2 {
			c[vault.FieldChanged] = changes[:m]
			changes = changes[m:]
		}
		id := r.id
		if part > 0 {
			id = r.newID()
		}
		e, err := vault.New(id, vault.TypeImport, r.by, c)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// Import is what is remembered of one import.
type Import struct {
	ID      string
	Names   string // of the files
	At      int64  // milliseconds since 1970
	By      string // device
	Made    int
	Changed int
	Undone  int64 // when it was taken back; 0 if it wasn't
}

// Imports reads what is remembered of a vault's imports, the latest first.
func Imports(entries []vault.Entry) (out []Import) {
	for _, e := range entries {
		if e.Type != vault.TypeImport || e.Text(fieldOf) != e.ID {
			continue
		}
		i := Import{ID: e.ID, Names: e.Text(vault.FieldName), At: e.Created, By: e.Fields[fieldOf].Stamp.By}
		var counts [2]int
		_ = json.Unmarshal([]byte(e.Fields[fieldCounts].Value.Reveal()), &counts)
		_ = json.Unmarshal([]byte(e.Fields[fieldUndone].Value.Reveal()), &i.Undone)
		i.Made, i.Changed = counts[0], counts[1]
		out = append(out, i)
	}
	slices.SortFunc(out, func(a, b Import) int { return int(b.At - a.At) })
	return out
}

// ErrNoImport is returned for an import that isn't remembered, or that was taken back.
var ErrNoImport = errors.New("no such import")

// Undone is what taking an import back does.
type Undone struct {
	Entries []vault.Entry // to be written, together
	Gone    int           // items that the import had made
	Back    int           // items that are as they were before
	Kept    []string      // titles of items that were edited since, which stay
}

// Undo takes an import back. Items that it made go, unless they were edited since;
// values that it changed become what they were, unless they were changed since.
func Undo(id string, entries map[string]vault.Entry, by vault.Stamp) (Undone, error) {
	var u Undone
	head, ok := entries[id]
	if !ok || head.Type != vault.TypeImport || head.Fields[fieldUndone].Stamp.At != 0 {
		return u, ErrNoImport
	}
	var ids []string
	changes := map[string][]change{}
	for _, e := range entries {
		if e.Type != vault.TypeImport || e.Text(fieldOf) != id {
			continue
		}
		var made []string
		var list []change
		_ = json.Unmarshal([]byte(e.Fields[fieldMade].Value.Reveal()), &made)
		_ = json.Unmarshal([]byte(e.Fields[vault.FieldChanged].Value.Reveal()), &list)
		ids = append(ids, made...)
		for _, c := range list {
			changes[c.ID] = append(changes[c.ID], c)
		}
	}
	slices.Sort(ids)
	for _, i := range ids {
		e, ok := entries[i]
		if !ok || e.Purged() {
			continue
		}
		if e.Modified().At > head.Created {
			u.Kept = append(u.Kept, e.Text(vault.FieldTitle))
			continue
		}
		e, err := e.Archive(by)
		if err == nil {
			e, err = e.Purge(by)
		}
		if err != nil {
			return Undone{}, err
		}
		u.Entries, u.Gone = append(u.Entries, e), u.Gone+1
	}
	for _, i := range slices.Sorted(maps.Keys(changes)) {
		if err := u.restore(entries[i], changes[i], by); err != nil {
			return Undone{}, err
		}
	}
	head, err := head.With(by, vault.Changes{fieldUndone: by.At})
	u.Entries = append(u.Entries, head)
	slices.Sort(u.Kept)
	return u, err
}

// restore makes an item's changed values what they were.
func (u *Undone) restore(e vault.Entry, list []change, by vault.Stamp) error {
	if e.ID == "" || e.Purged() {
		return nil
	}
	c, kept, archived := vault.Changes{}, false, e.Archived()
	for _, ch := range list {
		if before := vault.Plain(secret.New(string(ch.Before))); ch.Field == "archived" && before == "" {
			archived = false // the import put it away
		}
		switch now := e.Fields[ch.Field]; {
		case digest(now.Value) != ch.After:
			kept = true
		case ch.Before == nil:
			c[ch.Field] = nil
		default:
			c[ch.Field] = ch.Before
		}
	}
	if kept {
		u.Kept = append(u.Kept, e.Text(vault.FieldTitle))
	}
	if len(c) == 0 {
		return nil
	}
	out, err := e.With(by, c)
	if err == nil &&
		slices.ContainsFunc(
			out.Conflicts(),
			func(p vault.Past) bool { return p.From.By == "" },
		) { // the file's passwords are history now
		out, err = out.Resolve(by, out.Secret(vault.FieldPassword))
	}
	if err == nil && archived {
		out, err = out.Archive(by)
	}
	u.Entries, u.Back = append(u.Entries, out), u.Back+1
	return err
}

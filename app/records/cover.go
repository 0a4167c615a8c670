package records

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"redlocket/core/keys"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Cover is what one passphrase opens of a set and the others don't. Each device keeps a part of the same length for it,
// in a record of its own, whether anything is in it or not; what they hold together is joined like all entries.
//
// A device's part is written anew by [Cover.Refresh] at fixed occasions, by which alone it is committed: nobody who
// can't open it is to see when something of it was edited.
type Cover struct{ core *core }

// coveredPart is what is there while the passphrase that has one opened the set.
type coveredPart struct {
	keys    keys.Covered
	entries map[string]vault.Entry // replaced, never changed
	note    coveredNote
}

// coveredNote is what is kept beside a covered part: of two devices' the one set later counts, also where it is none.
type coveredNote struct {
	Text json.RawMessage `json:"note,omitempty"`
	Set  vault.Stamp     `json:"noted"`
}

func (p *coveredPart) clone() *coveredPart {
	return &coveredPart{p.keys, maps.Clone(p.entries), p.note}
}

// coveredContent is what is sealed.
type coveredContent struct {
	coveredNote
	Entries []json.RawMessage `json:"entries"`
}

// The errors of the covered part.
var (
	ErrNotCovered   = errors.New("nothing can be left out here")
	ErrCoveredRoom  = errors.New("there is no room for more of what is left out; nothing was changed")
	ErrCoveredFiles = errors.New("it has files attached: what is left out has no room for files; take them off first")
)

// placeID is the id of the record that holds a device's part.
func placeID(device string) string {
	return uuid.NewSHA1(uuid.NameSpaceOID, []byte("redlocket place "+device)).String()
}

// find returns an entry of the set or of the covered part.
func (in *content) find(id string) (h held, ok bool) {
	if h, ok = in.entries[id]; !ok && in.covered != nil {
		h.entry, ok = in.covered.entries[id]
	}
	return h, ok
}

// Has reports whether an item is in the covered part.
func (v *Cover) Has(id string) (covered bool) {
	_ = v.core.read(func(in *content) error {
		if in.covered != nil {
			_, covered = in.covered.entries[id]
		}
		return nil
	})
	return covered
}

// coveredItems are the items of the covered part.
func (in *content) coveredItems() (list []vault.Item) {
	if in.covered == nil {
		return nil
	}
	for _, e := range in.covered.entries {
		if e.IsItem() {
			it := vault.View(e)
			it.Covered, it.Book = true, in.books.of(it.Book)
			list = append(list, it)
		}
	}
	return list
}

// parts calls fn with each device's part.
func (in *content) parts(fn func(device string, part []byte)) {
	for _, h := range in.entries {
		if h.entry.Type != vault.TypePlace {
			continue
		}
		text, _, _ := strings.Cut(h.entry.Text(vault.FieldPlace), ".")
		if part, err := base64.StdEncoding.DecodeString(text); err == nil {
			fn(h.entry.Text(vault.FieldOf), part)
		}
	}
}

// open finds the covered part that a passphrase opens, and what all devices have of it; nil if there is none.
func (in *content) open(try func(part []byte) (keys.Covered, error)) (found *coveredPart) {
	in.parts(func(_ string, part []byte) {
		if found == nil {
			if k, err := try(part); err == nil {
				found = &coveredPart{keys: k, entries: map[string]vault.Entry{}}
			}
		}
	})
	if found != nil {
		in.join(found)
	}
	return found
}

// join adds what all devices have of a covered part.
func (in *content) join(to *coveredPart) {
	in.parts(func(device string, part []byte) {
		plain, err := to.keys.Open(device, part)
		var c coveredContent
		if err != nil || json.Unmarshal(plain, &c) != nil { // of a device that wrote nothing to it
			return
		}
		if later := c.Set.Compare(to.note.Set); later > 0 || later == 0 && len(to.note.Text) == 0 {
			to.note = c.coveredNote
		}
		for _, raw := range c.Entries {
			if e, err := vault.Decode(raw); err == nil {
				if was, ok := to.entries[e.ID]; ok {
					e = vault.Merge(was, e)
				}
				to.entries[e.ID] = e
			}
		}
	})
}

// uncover shows the covered part of the passphrase that opened the set, and reports whether there is one.
func (c *core) uncover(in *content) bool {
	switch {
	case in.covered != nil:
		next := in.covered.clone()
		in.join(next)
		in.covered = next
	case in.opener != nil:
		in.covered = in.open(func(part []byte) (keys.Covered, error) { return in.opener.OpenCovered(c.ID, part) })
	}
	return in.covered != nil
}

// apart takes what belongs to the covered part out of entries that are saved: in its place the list has the record that
// holds it. covered is what the part becomes; nil if it stays as it is.
func (c *core) apart(in *content, list []vault.Entry) (plain []vault.Entry, covered *coveredPart, err error) {
	if in.covered == nil {
		return list, nil, nil
	}
	next := maps.Clone(in.covered.entries)
	for _, e := range list {
		if _, ok := next[e.ID]; ok {
			next[e.ID] = e.Normal()
		} else {
			plain = append(plain, e)
		}
	}
	if len(plain) == len(list) {
		return list, nil, nil
	}
	covered = &coveredPart{in.covered.keys, next, in.covered.note}
	place, err := c.place(in, covered)
	return append(plain, place), covered, err
}

// place is the record of this device's part with a content.
func (c *core) place(in *content, p *coveredPart) (vault.Entry, error) {
	plain, err := p.encode()
	if err != nil {
		return vault.Entry{}, err
	}
	part, err := p.keys.Seal(c.Rand, c.Device, plain)
	if errors.Is(err, keys.ErrRoom) {
		err = BadInput("form", ErrCoveredRoom)
	}
	if err != nil {
		return vault.Entry{}, err
	}
	return c.placeWith(in, part)
}

func (p *coveredPart) encode() ([]byte, error) {
	out := coveredContent{coveredNote: p.note}
	for _, id := range slices.Sorted(maps.Keys(p.entries)) {
		b, err := p.entries[id].Encode()
		if err != nil {
			return nil, err
		}
		out.Entries = append(out.Entries, b)
	}
	return json.Marshal(out)
}

func (c *core) placeWith(in *content, part []byte) (vault.Entry, error) {
	return c.placeOf(in, base64.StdEncoding.EncodeToString(part))
}

// placeOf adds something to the text that is another one each time, so that the edit gets a stamp of its own also where
// the part stays as it is.
func (c *core) placeOf(in *content, text string) (vault.Entry, error) {
	changes := vault.Changes{vault.FieldPlace: text + "." + rand.Text()}
	id := placeID(c.Device)
	if h, ok := in.entries[id]; ok {
		return h.entry.With(c.stamp(), changes)
	}
	changes[vault.FieldOf] = c.Device
	return vault.New(id, vault.TypePlace, c.stamp(), changes)
}

// Refresh writes this device's part anew, for the next commit to bring it: as it is, or sealed anew by whoever can open
// it. It is called at the same occasions by every passphrase.
func (v *Cover) Refresh(ctx context.Context) error {
	return v.core.write(func(in *content) error { return v.core.refresh(ctx, in) })
}

func (c *core) refresh(ctx context.Context, in *content) error {
	h, ok := in.entries[placeID(c.Device)]
	var err error
	switch {
	case in.covered != nil:
		h.entry, err = c.place(in, in.covered)
	case ok:
		text, _, _ := strings.Cut(h.entry.Text(vault.FieldPlace), ".")
		h.entry, err = c.placeOf(in, text)
	default:
		var part []byte
		if part, err = keys.EmptyCovered(c.Rand); err == nil {
			h.entry, err = c.placeWith(in, part)
		}
	}
	if err != nil {
		return err
	}
	h.rev = h.baseRev + 1
	h.edit++
	row, err := sealRow(in.key, h)
	if err != nil {
		return err
	}
	if err := c.Store.Put(ctx, []Row{row}, nil); err != nil {
		return fmt.Errorf("failed to save: %w", err)
	}
	h.epoch = keys.SealedEpoch(row.Blob)
	in.entries[h.entry.ID] = h
	call(c.Events.Waiting)
	return nil
}

// On reports whether the passphrase that opened the set has a covered part. It waits until the records are there.
func (v *Cover) On() (on bool) {
	_ = v.core.read(func(in *content) error { on = in.covered != nil; return nil }) // not once locked
	return on
}

// Opens reports whether a passphrase has the covered part.
func (v *Cover) Opens(p keys.Pair) (opens bool) {
	_ = v.core.read(func(in *content) error {
		opens = in.open(v.By(p)) != nil
		return nil
	})
	return opens
}

// Note returns what was kept beside the covered part of a passphrase, which needn't be the one that opened the set; nil
// if it has none.
func (v *Cover) Note(p keys.Pair) (note json.RawMessage) {
	_ = v.core.read(func(in *content) error {
		if found := in.open(v.By(p)); found != nil {
			note = found.note.Text
		}
		return nil
	})
	return note
}

// OwnNote is Note for the passphrase that opened the set.
func (v *Cover) OwnNote() (note json.RawMessage) {
	_ = v.core.gate.Read(func(in *content) error {
		if in.covered != nil {
			note = in.covered.note.Text
		}
		return nil
	})
	return note
}

// Begin sets up the covered part of the passphrase that opened the set, with nothing in it.
func (v *Cover) Begin(ctx context.Context, k keys.Covered, note any) error {
	b, err := json.Marshal(note)
	if err != nil {
		return err
	}
	return v.change(ctx, false, func(in *content) (*coveredPart, []vault.Entry, error) {
		noted := coveredNote{b, v.core.stamp()}
		if in.covered != nil {
			return &coveredPart{in.covered.keys, in.covered.entries, noted}, nil, nil
		}
		return &coveredPart{k, map[string]vault.Entry{}, noted}, nil, nil
	})
}

// Rekeying says how a covered part is opened from now on.
type Rekeying struct {
	Was    func(part []byte) (keys.Covered, error) // what opens it now
	Change func(keys.Covered) (keys.Covered, error)
	Opener *keys.Pair // takes the place of the passphrase that opened the set, if that shows the part; nil if it stays
	Note   any        // replaces what is kept beside it; nil if that stays
}

// Rekey has something else open the covered part. Where Was opens none, it is refreshed and no more: nobody is to see
// the difference. Was needn't be what opened the set.
func (v *Cover) Rekey(ctx context.Context, r Rekeying) error {
	c := v.core
	done := false
	err := c.write(func(in *content) error {
		found := in.open(r.Was)
		if found == nil {
			return nil
		}
		done = true
		var err error
		if r.Note != nil {
			if found.note.Text, err = json.Marshal(r.Note); err != nil {
				return err
			}
			found.note.Set = c.stamp()
		}
		if found.keys, err = r.Change(found.keys); err != nil {
			return err
		}
		place, err := c.place(in, found)
		if err != nil {
			return err
		}
		var shown *coveredPart
		if in.covered != nil {
			shown = found
		}
		if err := c.saveWith(ctx, in, []vault.Entry{place}, shown, true); err != nil {
			return err
		}
		if in.covered != nil && r.Opener != nil {
			in.opener = r.Opener
		}
		if in.covered == nil && c.uncover(in) {
			c.changed(in)
		}
		return nil
	})
	if err == nil && !done {
		err = v.Refresh(ctx)
	}
	return err
}

// By opens covered parts by a passphrase.
func (v *Cover) By(p keys.Pair) func(part []byte) (keys.Covered, error) {
	return func(part []byte) (keys.Covered, error) { return p.OpenCovered(v.core.ID, part) }
}

// change writes what the covered part becomes, and what becomes of other entries with it. Where it is committed at
// once, it is with those entries: no device has neither of them.
func (v *Cover) change(
	ctx context.Context, atOnce bool, fn func(*content) (*coveredPart, []vault.Entry, error),
) error {
	c := v.core
	return c.write(func(in *content) error {
		next, list, err := fn(in)
		if err != nil {
			return err
		}
		place, err := c.place(in, next)
		if err != nil {
			return err
		}
		return c.saveWith(ctx, in, append(list, place), next, atOnce)
	})
}

// LeaveOut moves items into the covered part, each under another id, and with them those in the archive that were
// joined into them. What they were in the set is deleted for good, and what tidying and imports remember of them.
func (v *Cover) LeaveOut(ctx context.Context, ids ...string) (n int, err error) {
	c := v.core
	err = v.change(ctx, true, func(in *content) (*coveredPart, []vault.Entry, error) {
		if in.covered == nil {
			return nil, nil, BadInput("form", ErrNotCovered)
		}
		next := in.covered.clone()
		all, gone, err := in.remembered(ids, c.stamp())
		if err != nil {
			return nil, nil, err
		}
		remembers := len(gone)
		for _, id := range all {
			h, ok := in.entries[id]
			if !ok || !h.entry.IsItem() {
				continue
			}
			if len(h.entry.AllFileIDs()) > 0 {
				return nil, nil, BadInput("form", ErrCoveredFiles)
			}
			if _, shared := in.heldIn(h.entry); shared {
				return nil, nil, BadInput("form", ErrShared)
			}
			e := in.whole(h.entry).WithoutHorizon()
			e.ID = NewID()
			next.entries[e.ID] = e
			left, err := h.entry.Discard(c.stamp())
			if err != nil {
				return nil, nil, err
			}
			gone = append(gone, left)
		}
		in.forget(all)
		n = len(gone) - remembers
		return next, gone, nil
	})
	if err == nil {
		err = c.Store.Forget(ctx)
	}
	return n, err
}

// remembered finds what remembers some items: decisions, whose archived rows are left out too, and imports that changed
// any of those. It returns the items with those rows, and the memories as they are deleted for good.
func (in *content) remembered(ids []string, by vault.Stamp) (all []string, gone []vault.Entry, err error) {
	all = slices.Clone(ids)
	names := func(text string) bool {
		return slices.ContainsFunc(all, func(id string) bool { return strings.Contains(text, id) })
	}
	found := map[string]bool{}
	for more := true; more; { // what one brings, another may remember
		more = false
		for _, h := range in.entries {
			text := memory(h.entry)
			if text == "" || found[h.entry.ID] || !names(text) {
				continue
			}
			left, err := h.entry.Discard(by)
			if err != nil {
				return nil, nil, err
			}
			found[h.entry.ID], more = true, true
			gone = append(gone, left)
			if h.entry.Type == vault.TypeTidy {
				all = append(all, in.archivedIn(text, all)...)
			}
		}
	}
	return all, gone, nil
}

// memory is what an entry remembers of others; empty if it is of another kind.
func memory(e vault.Entry) string {
	var text strings.Builder
	switch {
	case e.Purged():
	case e.Type == vault.TypeTidy:
		for _, r := range e.Fields {
			text.WriteString(r.Value.Reveal())
		}
	case e.Type == vault.TypeImport:
		text.WriteString(e.Fields[vault.FieldChanged].Value.Reveal())
	case e.Type == vault.TypePassed:
		text.WriteString(e.Text(vault.FieldSource))
	}
	return text.String()
}

// archivedIn are the archived items that a memory names, but for some.
func (in *content) archivedIn(text string, not []string) (ids []string) {
	for id, h := range in.entries {
		if h.entry.IsItem() && h.entry.Archived() && strings.Contains(text, id) && !slices.Contains(not, id) {
			ids = append(ids, id)
		}
	}
	return ids
}

// forget drops the acts that could be undone on some entries.
func (in *content) forget(ids []string) {
	in.acts = slices.DeleteFunc(slices.Clone(in.acts), func(a act) bool {
		return slices.ContainsFunc(a.steps, func(s step) bool { return slices.Contains(ids, s.after.ID) })
	})
}

// Show moves items out of the covered part, each under another id. Without ids it moves all of them.
func (v *Cover) Show(ctx context.Context, ids ...string) (n int, err error) {
	c := v.core
	err = v.change(ctx, false, func(in *content) (*coveredPart, []vault.Entry, error) {
		if in.covered == nil {
			return nil, nil, BadInput("form", ErrNotCovered)
		}
		next := in.covered.clone()
		if len(ids) == 0 {
			ids = slices.Collect(maps.Keys(next.entries))
		}
		var shown []vault.Entry
		for _, id := range ids {
			e, ok := next.entries[id]
			if !ok || !e.IsItem() {
				continue
			}
			gone, err := e.Discard(c.stamp())
			if err != nil {
				return nil, nil, err
			}
			next.entries[id] = gone // other devices may have it still
			e.ID = NewID()
			shown = append(shown, e)
		}
		in.forget(ids)
		n = len(shown)
		return next, shown, nil
	})
	return n, err
}

// End has the passphrase that opened the set have no covered part any more: what is in it is shown to all, and this
// device's part has nothing in it.
func (v *Cover) End(ctx context.Context) error {
	if _, err := v.Show(ctx); err != nil {
		return err
	}
	return v.change(ctx, false, func(in *content) (*coveredPart, []vault.Entry, error) {
		return &coveredPart{in.covered.keys, in.covered.entries, coveredNote{Set: v.core.stamp()}}, nil, nil
	})
}

// Room returns how many items are left out, and how much of the room all of it takes, from 0 to 1.
func (v *Cover) Room() (items []vault.Item, used float64, err error) {
	err = v.core.read(func(in *content) error {
		if in.covered == nil {
			return nil
		}
		b, err := in.covered.encode()
		if err != nil {
			return err
		}
		items, used = in.coveredItems(), in.covered.keys.Used(b)
		return nil
	})
	slices.SortFunc(items, func(a, b vault.Item) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title)), strings.Compare(a.ID, b.ID))
	})
	return items, used, err
}

// Covers reports whether an item of the covered part has an address at a page's site: nothing of it is kept outside of
// that part then.
func (v *Cover) Covers(page string) (covers bool) {
	_ = v.core.read(func(in *content) error {
		for _, it := range in.coveredItems() {
			for _, a := range it.Addresses {
				covers = covers || site.Domain(a.URL) != "" && site.Domain(a.URL) == site.Domain(page)
			}
		}
		return nil
	})
	return covers
}

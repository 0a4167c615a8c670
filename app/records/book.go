package records

import (
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/language"

	"redlocket/core/find"
	"redlocket/core/share"
	"redlocket/core/vault"
)

// Book is what is there, in order.
type Book struct{ core *core }

// Index returns the book as it can be searched. It is rebuilt after changes only.
func (b *Book) Index() (x *find.Index, err error) {
	err = b.core.gate.Read(func(in *content) error { x = in.index; return nil })
	if err != nil || x != nil {
		return x, err
	}
	err = b.core.write(func(in *content) error {
		if in.index == nil {
			in.index = find.NewIndex(in.items(), b.core.findOptions(in))
			go in.index.Warm()
		}
		x = in.index
		return nil
	})
	return x, err
}

func (c *core) findOptions(in *content) find.Options {
	return find.Options{Language: c.language(in), Names: in.sites.Names}
}

// FieldLanguage is the register of the profile's entry with the language that dates are
// written and the book is sorted in, as a BCP 47 tag.
const FieldLanguage vault.Field = "set:language"

// language of the book's order.
func (c *core) language(in *content) language.Tag {
	if l := in.entries[c.ID].entry.Text(FieldLanguage); l != "" {
		return language.Make(l)
	}
	return language.BritishEnglish
}

// Profile returns the set's own entry, which holds what is set for all devices. It is empty
// once the set is closed, and while the records are being opened.
func (b *Book) Profile() (e vault.Entry) {
	_ = b.core.gate.Read(func(in *content) error { e = in.entries[b.core.ID].entry; return nil })
	return e
}

// items returns every item that is shown, archived or not.
func (in *content) items() []vault.Item {
	items := in.plainItems()
	for _, it := range in.coveredItems() {
		items = in.show(items, it)
	}
	return items
}

// plainItems are those of them that every passphrase shows.
func (in *content) plainItems() []vault.Item {
	items := make([]vault.Item, 0, len(in.entries))
	for _, h := range in.entries {
		if h.entry.IsItem() {
			it := vault.View(h.entry)
			it.FillOnly = !in.right(h.entry).Includes(share.See)
			items = in.show(items, it)
		}
	}
	return items
}

// Revision grows with every change of the entries. What was computed at the present one
// is still right.
func (b *Book) Revision() int64 { return b.core.revision.Load() }

// Find searches all that is shown, and lists the first so many sites; 0 is all.
func (b *Book) Find(q find.Query, most int) (*find.Book, error) {
	x, err := b.Index()
	if err != nil {
		return nil, err
	}
	return b.FindIn(x, q, most)
}

// FindIn is Find in one index.
func (b *Book) FindIn(x *find.Index, q find.Query, most int) (_ *find.Book, err error) {
	now := find.Now{Time: b.core.Now().UnixMilli()}
	if err := b.core.gate.Read(func(in *content) error { now.Used = in.uses.at; return nil }); err != nil {
		return nil, err
	}
	for _, n := range q.Narrows {
		if b.core.Marks == nil || n.By != "" || n.Value != "suspect" && n.Value != "reused" {
			continue
		}
		if now.Marked == nil {
			now.Marked = map[string]map[string]bool{}
		}
		if now.Marked[n.Value], err = b.core.Marks(n.Value); err != nil {
			return nil, err
		}
	}
	return x.Find(q, now, most), nil
}

// Leaf returns the index of the book that is open: of all that are shown, or of one.
func (b *Book) Leaf() (leaf *find.Index, err error) {
	x, err := b.Index()
	if err != nil {
		return nil, err
	}
	err = b.core.gate.Write(func(in *content) error {
		switch {
		case in.index != x: // changed meanwhile
			leaf = in.books.leafOf(x)
		case in.leaf == nil:
			in.leaf = in.books.leafOf(x)
			fallthrough
		default:
			leaf = in.leaf
		}
		return nil
	})
	return leaf, err
}

// AsOf returns the open book as it was at a moment, in milliseconds since 1970.
func (b *Book) AsOf(ms int64) (x *find.Index, err error) {
	err = b.core.read(func(in *content) error {
		var items []vault.Item
		for _, h := range in.entries {
			if then, ok := in.whole(h.entry).AsOf(ms); ok && then.IsItem() {
				items = in.showThen(items, then, h.entry)
			}
		}
		if in.covered != nil {
			for _, e := range in.covered.entries {
				if then, ok := e.AsOf(ms); ok && then.IsItem() {
					items = in.showThen(items, then, e)
				}
			}
		}
		x = in.books.leafOf(find.NewIndex(items, b.core.findOptions(in)))
		return nil
	})
	return x, err
}

// Shown returns the items of the books that are shown, archived or not, in no order. None of the covered part is among
// them.
func (b *Book) Shown() (list []vault.Entry, err error) {
	err = b.core.read(func(in *content) error {
		for _, h := range in.entries {
			if h.entry.IsItem() && in.books.shows(h.entry.Text(vault.FieldBook)) {
				list = append(list, h.entry)
			}
		}
		return nil
	})
	return list, err
}

// Changeable returns those of [Book.Shown] that the owner may change.
func (b *Book) Changeable() (list []vault.Entry, err error) {
	if list, err = b.Shown(); err != nil {
		return nil, err
	}
	err = b.core.read(func(in *content) error {
		list = slices.DeleteFunc(list, func(e vault.Entry) bool { return !in.right(e).Includes(share.Change) })
		return nil
	})
	return list, err
}

// Entries returns the entries that are wanted, in no order. None of the covered part is among them.
func (b *Book) Entries(wanted func(vault.Entry) bool) (list []vault.Entry, err error) {
	err = b.core.read(func(in *content) error {
		for _, h := range in.entries {
			if wanted(h.entry) {
				list = append(list, h.entry)
			}
		}
		return nil
	})
	return list, err
}

// Logins returns every login that isn't archived, in the order of the book.
func (b *Book) Logins() ([]vault.Item, error) {
	x, err := b.Index()
	if err != nil {
		return nil, err
	}
	var out []vault.Item
	x.Items(func(it *vault.Item) {
		if it.Type.IsAccount() {
			out = append(out, *it)
		}
	})
	return out, nil
}

// Usernames returns the user names used before, the most used first. One that is likely, such
// as the person's e-mail address, counts as used once.
func (b *Book) Usernames(likely string) ([]string, error) {
	items, err := b.Logins()
	if err != nil {
		return nil, err
	}
	count := map[string]int{likely: 1}
	for _, it := range items {
		if it.Username != "" {
			count[it.Username]++
		}
	}
	names := slices.Collect(maps.Keys(count))
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(count[b], count[a]), strings.Compare(a, b))
	})
	return names, nil
}

// DeviceNames returns the names of the devices by id.
func (b *Book) DeviceNames() (map[string]string, error) {
	devices, err := b.Entries(func(e vault.Entry) bool { return e.Type == vault.TypeDevice })
	out := make(map[string]string, len(devices))
	for _, e := range devices {
		out[e.ID] = e.Text(vault.FieldName)
	}
	return out, err
}

// Expiry says when an item expires, or that it has.
type Expiry struct {
	Item vault.Item
	Over bool
	Days int // until it expires, counted up
}

// Expiring says when an item expires, or that it has; ok is false while the day is further
// away than [vault.Warning].
func (b *Book) Expiring(it vault.Item) (e Expiry, ok bool) {
	end, dated := vault.Expiry(it.Expires)
	if !dated || it.Archived {
		return e, false
	}
	left := end.Sub(b.core.Now())
	const day = 24 * time.Hour
	return Expiry{it, left <= 0, int((left + day - 1) / day)}, left <= vault.Warning
}

// ExpiringSoon lists what expires soon or has, the first first.
func (b *Book) ExpiringSoon() ([]Expiry, error) {
	x, err := b.Index()
	if err != nil {
		return nil, err
	}
	var out []Expiry
	x.Items(func(it *vault.Item) {
		if it.Expires == "" {
			return
		}
		if e, ok := b.Expiring(*it); ok {
			out = append(out, e)
		}
	})
	slices.SortStableFunc(out, func(a, b Expiry) int { return a.Days - b.Days })
	return out, nil
}

// uses are the moments at which items were last used on this device. They aren't synced: the
// cloud would learn when the user signs in somewhere.
type uses struct {
	at      map[string]int64 // milliseconds since 1970, by item; replaced, never changed
	unsaved bool
}

// localUses names what is kept of uses. A crash loses those of one opening, and with them a
// little of the order of searches.
const localUses = "uses"

// plainUses are those of the items that every passphrase shows.
func (in *content) plainUses() ([]byte, error) {
	at := maps.Clone(in.uses.at)
	if in.covered != nil {
		for id := range in.covered.entries {
			delete(at, id)
		}
	}
	return json.Marshal(at)
}

func (c *core) loadUses(ctx context.Context) error {
	at := map[string]int64{}
	if err := (&Local{c}).GetJSON(ctx, localUses, &at); err != nil {
		return err
	}
	return c.gate.Write(func(in *content) error { in.uses.at = at; return nil })
}

// Use notes that an item was used now: filled, copied or opened at its site.
func (b *Book) Use(id string) error {
	return b.core.gate.Write(func(in *content) error {
		next := make(map[string]int64, len(in.uses.at)+1)
		maps.Copy(next, in.uses.at) // readers hold the map that is there
		next[id] = b.core.Now().UnixMilli()
		in.uses = uses{next, true}
		return nil
	})
}

// Used returns when items were last used on this device, in milliseconds since 1970, by id. It
// must not be changed.
func (b *Book) Used() (at map[string]int64) {
	_ = b.core.gate.Read(func(in *content) error { at = in.uses.at; return nil }) // nothing once locked
	return at
}

package records

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"redlocket/core/find"
	"redlocket/core/share"
	"redlocket/core/vault"
)

// Books are the books that the owner has: their own, and those that they made beside it, for a family or a club. An
// item is in one of them. Which are shown, and which one is open, is kept for this device alone.
//
// What is shown is what is searched, filled, tidied and judged. The open book is what the list shows, and where new
// items are made.
type Books struct{ core *core }

// The ids of what can be open beside a single book.
const (
	AllBooks = ""    // all that are shown
	OwnBook  = "own" // the owner's own
)

// NamedBook is a book as it is listed.
type NamedBook struct {
	ID     string // OwnBook for the owner's own
	Name   string // empty for the owner's own
	Items  int    // that aren't archived
	Hidden bool   // on this device
	Open   bool
}

// The errors of books.
var (
	ErrNoBook    = errors.New("there is no such book any more")
	errBookName  = errors.New("type a name of at most 40 characters")
	errBookTaken = errors.New("a book has this name already")
	errManyBooks = errors.New("there is room for 30 books")
	errHideOwn   = errors.New("your own book is always shown")
)

const (
	maxBookName = 40 // characters
	mostBooks   = 30
)

// books is what is known of them while the set is open.
type books struct {
	bookState
	list []NamedBook // by name, without the owner's own and counts; replaced, never changed
}

// bookState is what is kept of them on this device.
type bookState struct {
	Open   string            `json:"open,omitempty"`
	Hidden []string          `json:"hidden,omitempty"` // ids
	Names  map[string]string `json:"names,omitempty"`  // at closing: the first page shows them
}

// localBooks names what is kept.
const localBooks = "books"

func (c *core) loadBooks(ctx context.Context) error {
	var s bookState
	if err := (&Local{c}).GetJSON(ctx, localBooks, &s); err != nil {
		return err
	}
	return c.gate.Write(func(in *content) error {
		in.books.bookState = s
		in.books.name(s.Names)
		return nil
	})
}

// readBooks reads the books' names out of the entries, and what is shared with whom.
func (in *content) readBooks() {
	in.readShared()
	names := map[string]string{}
	for id, h := range in.entries {
		if isBook(h.entry) {
			names[id] = h.entry.Text(vault.FieldName)
		}
	}
	in.books.name(names)
}

func isBook(e vault.Entry) bool { return e.Type == vault.TypeBook && !e.Purged() }

func (b *books) name(names map[string]string) {
	if maps.Equal(names, b.Names) && len(b.list) == len(names) {
		return
	}
	b.Names, b.list = names, make([]NamedBook, 0, len(names))
	for id, name := range names {
		b.list = append(b.list, NamedBook{ID: id, Name: name, Hidden: slices.Contains(b.Hidden, id)})
	}
	slices.SortFunc(b.list, func(x, y NamedBook) int {
		return strings.Compare(strings.ToLower(x.Name)+x.ID, strings.ToLower(y.Name)+y.ID)
	})
}

// of is the id of the book that an item is in, by its register: an item of a book that is gone is in the owner's own.
func (b *books) of(register string) string {
	if _, ok := b.Names[register]; ok {
		return register
	}
	return ""
}

// shows reports whether what has such a register is shown.
func (b *books) shows(register string) bool {
	return register == "" || !slices.Contains(b.Hidden, b.of(register))
}

// open is what is open now: a book that is gone or hidden isn't.
func (b *books) open() string {
	if b.Open == OwnBook && len(b.list) > 0 || b.of(b.Open) != "" && b.shows(b.Open) {
		return b.Open
	}
	return AllBooks
}

// leafOf is the part of an index that the open book has.
func (b *books) leafOf(x *find.Index) *find.Index {
	open := b.open()
	if open == AllBooks {
		return x
	}
	if open == OwnBook {
		open = ""
	}
	return x.Part(func(it *vault.Item) bool { return it.Book == open })
}

// show adds an item to a list if it is shown.
func (in *content) show(list []vault.Item, it vault.Item) []vault.Item {
	if it.Book = in.books.of(it.Book); in.books.shows(it.Book) {
		list = append(list, it)
	}
	return list
}

// showThen is show for an item as it was: it is in the book in which it is now.
func (in *content) showThen(list []vault.Item, then, now vault.Entry) []vault.Item {
	it := vault.View(then)
	it.Book = now.Text(vault.FieldBook)
	return in.show(list, it)
}

// Names returns the books beside the owner's own, by name, without how much is in them. It is empty where there is only
// the owner's own.
func (b *Books) Names() (list []NamedBook) {
	_ = b.core.gate.Read(func(in *content) error { list = in.books.list; return nil }) // none once closed
	return list
}

// Open returns what is open: AllBooks, OwnBook, or the id of a book.
func (b *Books) Open() (id string) {
	_ = b.core.gate.Read(func(in *content) error { id = in.books.open(); return nil }) // all once closed
	return id
}

// Name returns the name of the book that an item is in; empty for the owner's own.
func (b *Books) Name(it vault.Item) (name string) {
	_ = b.core.gate.Read(func(in *content) error { name = in.books.Names[it.Book]; return nil })
	return name
}

// List returns all books, the owner's own first, with how much is in each.
func (b *Books) List() (list []NamedBook, err error) {
	err = b.core.read(func(in *content) error {
		count := map[string]int{}
		for _, h := range in.entries {
			if h.entry.IsItem() && !h.entry.Archived() {
				count[in.books.of(h.entry.Text(vault.FieldBook))]++
			}
		}
		for _, it := range in.coveredItems() {
			if !it.Archived {
				count[it.Book]++
			}
		}
		open := in.books.open()
		list = append([]NamedBook{{ID: OwnBook, Items: count[""]}}, in.books.list...)
		for i := range list {
			list[i].Open = list[i].ID == open
			if i > 0 {
				list[i].Items = count[list[i].ID]
			}
		}
		return nil
	})
	return list, err
}

// Entries returns what belongs to a book, hidden or not: its items, what holds their past, and its own entry. Of
// AllBooks it is everything that the set has. None of the covered part is among them, nor what its owner may not see.
func (b *Books) Entries(id string) (list []vault.Entry, err error) {
	err = b.core.read(func(in *content) error {
		to := id
		switch {
		case id == AllBooks || id == OwnBook:
			to = ""
		case in.books.of(id) == "":
			return ErrNoBook
		}
		has := func(e vault.Entry) bool { return e.IsItem() && in.books.of(e.Text(vault.FieldBook)) == to }
		for _, h := range in.entries {
			of := h.entry
			if of.Type == vault.TypePast {
				of = in.entries[of.Text(vault.FieldOf)].entry
			}
			if in.right(of).Includes(share.See) && (id == AllBooks || has(of) || of.ID == id) {
				list = append(list, h.entry)
			}
		}
		return nil
	})
	return list, err
}

// Turn opens a book on this device: AllBooks, OwnBook, or one by its id. A hidden one is shown again.
func (b *Books) Turn(ctx context.Context, id string) error {
	return b.keep(ctx, func(s *books) error {
		if id != AllBooks && id != OwnBook {
			if s.of(id) == "" {
				return ErrNoBook
			}
			s.Hidden = without(s.Hidden, id)
		}
		s.Open = id
		return nil
	})
}

// Show has a book shown on this device, or hidden: then nothing of it is listed, found, filled, tidied or judged here.
func (b *Books) Show(ctx context.Context, id string, on bool) error {
	return b.keep(ctx, func(s *books) error {
		switch {
		case id == OwnBook:
			return errHideOwn
		case s.of(id) == "":
			return ErrNoBook
		}
		s.Hidden = without(s.Hidden, id)
		if !on {
			s.Hidden = append(s.Hidden, id)
		}
		return nil
	})
}

func without(list []string, id string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return s == id })
}

// keep changes what is kept on this device.
func (b *Books) keep(ctx context.Context, fn func(*books) error) error {
	return b.core.write(func(in *content) error {
		next := in.books
		if err := fn(&next); err != nil {
			return err
		}
		if slices.Equal(next.Hidden, in.books.Hidden) && next.Open == in.books.Open {
			return nil
		}
		plain, err := next.plain()
		if err != nil {
			return err
		}
		sealed, err := in.key.SealLocal(localBooks, plain)
		if err != nil {
			return err
		}
		// What was kept of the index is of what was shown before.
		if err := b.core.Store.SetLocal(ctx, localIndex, nil); err != nil {
			return err
		}
		if err := b.core.Store.SetLocal(ctx, localBooks, sealed); err != nil {
			return err
		}
		next.list = nil // which are hidden is in it
		in.books = next
		b.core.changed(in)
		return nil
	})
}

// plain is what is kept of them.
func (b *books) plain() ([]byte, error) { return json.Marshal(b.bookState) }

// Make makes a book, and opens it on this device.
func (b *Books) Make(ctx context.Context, name string) (id string, err error) {
	id = NewID()
	err = b.core.write(func(in *content) error {
		name, err := in.books.checkName(name, "")
		if err != nil {
			return err
		}
		if len(in.books.list) >= mostBooks {
			return BadInput("name", errManyBooks)
		}
		e, err := vault.New(id, vault.TypeBook, b.core.stamp(), vault.Changes{vault.FieldName: name})
		if err != nil {
			return err
		}
		return b.core.save(ctx, in, []vault.Entry{e})
	})
	if err != nil {
		return "", err
	}
	return id, b.Turn(ctx, id)
}

// checkName cleans a name for a book.
func (b *books) checkName(name, id string) (string, error) {
	name = strings.Join(strings.Fields(name), " ")
	if n := utf8.RuneCountInString(name); n == 0 || n > maxBookName || !utf8.ValidString(name) {
		return "", BadInput("name", errBookName)
	}
	for other, taken := range b.Names {
		if other != id && strings.EqualFold(taken, name) {
			return "", BadInput("name", errBookTaken)
		}
	}
	return name, nil
}

// Rename gives a book another name, on all devices.
func (b *Books) Rename(ctx context.Context, id, name string) error {
	return b.core.write(func(in *content) error {
		if in.books.of(id) == "" {
			return ErrNoBook
		}
		name, err := in.books.checkName(name, id)
		if err != nil {
			return err
		}
		e, err := in.entries[id].entry.With(b.core.stamp(), vault.Changes{vault.FieldName: name})
		if err != nil {
			return err
		}
		return b.core.save(ctx, in, []vault.Entry{e})
	})
}

// Remove takes a book away, on all devices. What is in it goes to the owner's own; how many items that were is
// returned.
func (b *Books) Remove(ctx context.Context, id string) (moved int, err error) {
	err = b.core.write(func(in *content) error {
		if in.books.of(id) == "" {
			return ErrNoBook
		}
		if _, shared := in.heldBook(id); shared {
			return ErrBookShared
		}
		by := b.core.stamp()
		gone, err := in.entries[id].entry.Discard(by)
		if err != nil {
			return err
		}
		list := []vault.Entry{gone}
		move := func(e vault.Entry) error {
			if !e.IsItem() || e.Text(vault.FieldBook) != id {
				return nil
			}
			e, err := e.With(by, vault.Changes{vault.FieldBook: ""})
			list = append(list, e)
			return err
		}
		for _, h := range in.entries {
			if err := move(h.entry); err != nil {
				return err
			}
		}
		if in.covered != nil {
			for _, e := range in.covered.entries {
				if err := move(e); err != nil {
					return err
				}
			}
		}
		moved = len(list) - 1
		return b.core.save(ctx, in, list)
	})
	return moved, err
}

// register is the value of the register of an item that is made in a book, or moved to it.
func (in *content) register(id string) (string, error) {
	if id == AllBooks || id == OwnBook {
		return "", nil
	}
	if in.books.of(id) == "" {
		return "", ErrNoBook
	}
	if h, ok := in.heldBook(id); ok && !h.Right.Includes(share.Change) {
		return "", BadInput("book", errBookToSee)
	}
	return id, nil
}

// MoveTo moves items to a book: OwnBook, or one by its id.
func (a *Acts) MoveTo(ctx context.Context, book string, ids ...string) (Done, error) {
	to, err := a.register(book)
	if err != nil {
		return Done{}, err
	}
	return a.moveAll(ctx, to, ids)
}

// moveAll moves items. One that is shared in a book is taken out of that: it goes on under another id, and the others
// have it no more.
func (a *Acts) moveAll(ctx context.Context, to string, ids []string) (done Done, err error) {
	err = a.core.write(func(in *content) error {
		var steps []step
		var list []vault.Entry
		by := a.core.stamp()
		add := func(before, after vault.Entry) {
			steps, list = append(steps, step{before, after}), append(list, after)
		}
		for i, id := range ids {
			h, ok := in.find(id)
			here := in.books.of(h.entry.Text(vault.FieldBook))
			if !ok || !h.entry.IsItem() || slices.Contains(ids[:i], id) || here == to {
				continue
			}
			set, shared := in.heldIn(h.entry)
			if _, anew := in.heldBook(to); anew && shared && set.Book == "" {
				return ErrShared // with others than those of the book
			}
			e, err := h.entry.With(by, vault.Changes{vault.FieldBook: to})
			if err != nil {
				return err
			}
			done.Count++
			if !shared || set.Book == "" {
				add(h.entry, e)
				continue
			}
			e, err = in.whole(h.entry).As(NewID()).With(by, vault.Changes{vault.FieldBook: to, vault.FieldShare: ""})
			if err != nil {
				return err
			}
			gone, err := h.entry.Discard(by)
			if err != nil {
				return err
			}
			add(vault.Entry{}, e)
			add(h.entry, gone)
		}
		if len(list) == 0 {
			return nil
		}
		if err := a.core.save(ctx, in, list); err != nil {
			return err
		}
		done.Undo = in.remember(steps)
		return nil
	})
	return done, err
}

func (a *Acts) register(book string) (to string, err error) {
	err = a.core.read(func(in *content) error {
		to, err = in.register(book)
		return err
	})
	return to, err
}

// CopyTo makes copies of items in a book, without their past. Undoing puts the copies into the archive. What is left
// out under the second passphrase has no copies.
func (a *Acts) CopyTo(ctx context.Context, book string, ids ...string) (done Done, err error) {
	to, err := a.register(book)
	if err != nil {
		return done, err
	}
	err = a.core.write(func(in *content) error {
		var steps []step
		var list []vault.Entry
		for i, id := range ids {
			h, ok := in.entries[id]
			if !ok || !h.entry.IsItem() || slices.Contains(ids[:i], id) {
				continue
			}
			if !in.right(h.entry).Includes(share.See) {
				return ErrNotToSee
			}
			e, err := h.entry.Copy(NewID(), a.core.stamp(), vault.Changes{vault.FieldBook: to})
			if err != nil {
				return err
			}
			steps, list = append(steps, step{after: e}), append(list, e)
		}
		if len(list) == 0 {
			return nil
		}
		if err := a.core.save(ctx, in, list); err != nil {
			return err
		}
		done = Done{len(list), in.remember(steps)}
		return nil
	})
	return done, err
}

package records

import (
	"errors"

	"redlocket/core/share"
	"redlocket/core/vault"
)

// What is shared with others is bound by what the owner may do with it. Whoever keeps to this program can't change what
// they may only see, nor see what they may only fill in.

// The errors of what is shared.
var (
	ErrNotToChange = errors.New("it is shared with you to be used, not to be changed")
	ErrNotToSee    = errors.New("it is shared with you to be filled in, not to be seen")
	ErrShared      = errors.New("it is shared with others: end that first")
	ErrBookShared  = errors.New("the book is shared with others: end that first, or leave it")
	errBookToSee   = errors.New("this book is shared with you to be used, not to be changed")
)

// heldSet is a shared set, with the version of the entry that it was read from.
type heldSet struct {
	of vault.Entry
	share.Held
	ok bool
}

// readShared reads the shared sets out of the entries.
func (in *content) readShared() {
	next := map[string]heldSet{}
	for id, h := range in.entries {
		if h.entry.Type != vault.TypeShared {
			continue
		}
		was := in.shared[id]
		if !was.of.SameVersion(h.entry) {
			was = heldSet{of: h.entry}
			was.Held, was.ok = share.HeldOf(h.entry)
		}
		next[id] = was
	}
	in.shared = next
}

// heldIn returns the set in which an item is shared; ok is false if it isn't.
func (in *content) heldIn(e vault.Entry) (share.Held, bool) {
	set, _ := e.Share()
	if set == "" {
		return share.Held{}, false
	}
	for _, h := range in.shared {
		if h.ok && h.Set == set && h.Active() {
			return h.Held, true
		}
	}
	return share.Held{}, false
}

// heldBook returns the set that shares a book.
func (in *content) heldBook(book string) (share.Held, bool) {
	for _, h := range in.shared {
		if h.ok && book != "" && h.Book == book && h.Active() {
			return h.Held, true
		}
	}
	return share.Held{}, false
}

// right is what the owner may do with an item.
func (in *content) right(e vault.Entry) share.Right {
	if h, ok := in.heldIn(e); ok {
		return h.Right
	}
	return share.Manage
}

// mayBecome returns an error for a next version of an entry that its owner may not make.
func (in *content) mayBecome(next vault.Entry) error {
	h, there := in.entries[next.ID]
	if !there || in.right(h.entry).Includes(share.Change) || !next.IsItem() && !h.entry.IsItem() {
		return nil
	}
	if a, b := h.entry.Shared(""), next.Shared(""); a.Equal(b) {
		return nil // where it is filed is the owner's business
	}
	return ErrNotToChange
}

// allMayBecome is mayBecome for several.
func (in *content) allMayBecome(list []vault.Entry) error {
	if len(in.shared) == 0 {
		return nil
	}
	for _, e := range list {
		if err := in.mayBecome(e); err != nil {
			return err
		}
	}
	return nil
}

// covered values are taken out of what its owner may not see.
func (in *content) seen(e vault.Entry) vault.Entry {
	if !e.IsItem() || in.right(e).Includes(share.See) {
		return e
	}
	return e.WithoutSecrets()
}

// Right returns what the owner may do with an item.
func (s *Items) Right(e vault.Entry) (r share.Right) {
	r = share.Fill // once closed
	_ = s.core.gate.Read(func(in *content) error { r = in.right(e); return nil })
	return r
}

// ToFill returns an entry with all that it holds, to be filled in: never to be shown.
func (s *Items) ToFill(id string) (e vault.Entry, err error) {
	err = s.core.read(func(in *content) error {
		h, ok := in.find(id)
		if !ok || h.entry.Purged() {
			return ErrNoItem
		}
		e = in.whole(h.entry)
		return nil
	})
	return e, err
}

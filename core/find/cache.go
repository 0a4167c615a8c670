package find

import (
	"encoding/binary"
	"errors"

	"redlocket/core/vault"
)

// ErrIndexCache is returned for bytes that [Index.Encode] didn't write.
var ErrIndexCache = errors.New("not an index of this version")

const shelfVersion = 5

// Encode writes the index in the order of the book, without anything that
// can be made again from it. A device keeps it sealed, so that the book of a large
// vault is there before its records are opened.
func (x *Index) Encode() []byte {
	b := append(make([]byte, 0, 256*len(x.rows)+8), shelfVersion)
	b = binary.AppendUvarint(b, uint64(len(x.rows)))
	text := func(s string) {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	for _, r := range x.rows {
		it := &r.item
		for _, s := range []string{it.ID, string(it.Type), it.Title, it.Username, it.Subtitle, it.Notes, it.Folder,
			it.Expires, it.App, it.Modified.By, it.Book, r.domain} {
			text(s)
		}
		var flags byte
		for i, on := range []bool{it.Pinned, it.Undecided, it.HasPassword, it.HasCode, it.Archived,
			it.Staged, it.FillOnly} {
			if on {
				flags |= 1 << i
			}
		}
		b = append(b, flags)
		b = binary.AppendVarint(b, it.Created)
		b = binary.AppendVarint(b, it.Modified.At)
		b = binary.AppendUvarint(b, uint64(len(it.Addresses)))
		for _, a := range it.Addresses {
			text(a.URL)
			text(string(a.Match))
		}
		b = binary.AppendUvarint(b, uint64(it.Files))
		for _, list := range [][]string{it.Tags, it.Aliases, it.Labels} {
			b = binary.AppendUvarint(b, uint64(len(list)))
			for _, t := range list {
				text(t)
			}
		}
	}
	return b
}

// DecodeIndex reads what [Index.Encode] wrote. The order of the book is the one it
// was encoded in, whatever the language.
func DecodeIndex(b []byte, o Options) (*Index, error) {
	r := cacheReader{s: string(b)}
	if r.byte() != shelfVersion {
		return nil, ErrIndexCache
	}
	n := r.count()
	x := &Index{rows: make([]*row, 0, n), opt: o}
	rows := make([]row, n)
	f := newFolder()
	for i := range rows {
		w := &rows[i]
		it := &w.item
		it.ID, it.Type, it.Title, it.Username, it.Subtitle = r.text(), vault.Type(
			r.text(),
		), r.text(), r.text(), r.text()
		it.Notes, it.Folder, it.Expires, it.App, it.Modified.By, it.Book = r.text(), r.text(), r.text(), r.text(),
			r.text(), r.text()
		w.domain = r.text()
		flags := r.byte()
		it.Pinned, it.Undecided, it.HasPassword, it.HasCode, it.Archived = flags&1 != 0, flags&2 != 0, flags&4 != 0,
			flags&8 != 0, flags&16 != 0
		it.Staged, it.FillOnly = flags&32 != 0, flags&64 != 0
		it.Created, it.Modified.At = r.varint(), r.varint()
		if k := r.count(); k > 0 {
			it.Addresses = make([]vault.Address, k)
			for j := range it.Addresses {
				it.Addresses[j] = vault.Address{URL: r.text(), Match: vault.Match(r.text())}
			}
		}
		it.Files = int(r.uvarint())
		for _, list := range []*[]string{&it.Tags, &it.Aliases, &it.Labels} {
			if k := r.count(); k > 0 {
				*list = make([]string, k)
				for j := range *list {
					(*list)[j] = r.text()
				}
			}
		}
		if r.bad {
			return nil, ErrIndexCache
		}
		w.name(f)
		x.rows = append(x.rows, w)
	}
	if r.bad || r.i != len(r.s) {
		return nil, ErrIndexCache
	}
	return x, nil
}

// cacheReader walks encoded bytes; once they are bad it returns nothing.
type cacheReader struct {
	s   string
	i   int
	bad bool
}

func (r *cacheReader) byte() byte {
	if r.i >= len(r.s) {
		r.bad = true
		return 0
	}
	r.i++
	return r.s[r.i-1]
}

func (r *cacheReader) uvarint() (n uint64) {
	for shift := 0; shift < 64; shift += 7 {
		b := r.byte()
		n |= uint64(b&0x7f) << shift
		if b < 0x80 {
			return n
		}
	}
	r.bad = true
	return 0
}

func (r *cacheReader) varint() int64 {
	n := r.uvarint()
	return int64(n>>1) ^ -int64(n&1)
}

// count takes a number of things, each of which takes a byte at least.
func (r *cacheReader) count() int {
	n := r.uvarint()
	if r.bad || n > uint64(len(r.s)-r.i) {
		r.bad = true
		return 0
	}
	return int(n)
}

func (r *cacheReader) text() string {
	n := r.count()
	if r.bad {
		return ""
	}
	r.i += n
	return r.s[r.i-n : r.i]
}

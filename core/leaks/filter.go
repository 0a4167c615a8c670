package leaks

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"sync"

	"github.com/FastFilter/xorfilter"
)

// A filter is a file: a line that names the form, the number of passwords, then for each first byte of a hash the place
// and length of its part, all as big-endian uint64, then the parts. A part is a binary fuse filter (Graf and Lemire,
// "Binary Fuse Filters: Fast and Smaller Than Xor Filters", 2022) over the first eight bytes of its hashes, with prints
// of 32 bits: some 4.5 bytes for each password, and one password in four thousand million that is taken for a leaked
// one. A part ends with the first eight bytes of its SHA-256: one that was damaged on the disk gives no answer.
const (
	filterForm  = "red-locket-leaks/1\n"
	filterParts = 256
	filterHead  = len(filterForm) + 8 + filterParts*16
)

// maxKeys is how many hashes are held at once while a filter is made: 256 MB of them.
const maxKeys = 32 << 20

// Build makes a filter of a list and writes it. The list is read once to count, and then as often as the computer's
// memory needs: once, if it is sorted. progress is told how many lines of how many are done; it may be nil.
func Build(
	ctx context.Context, list io.ReadSeeker, w io.Writer, progress func(done, of int64),
) (read Read, err error) {
	return build(ctx, list, w, progress, maxKeys)
}

func build(
	ctx context.Context, list io.ReadSeeker, w io.Writer, progress func(done, of int64), most int64,
) (read Read, err error) {
	var count [filterParts]int64
	steps := func(fn func(h Hash)) func(Hash, int64) error {
		n := 0
		return func(h Hash, _ int64) error {
			fn(h)
			if n++; n%(1<<16) == 0 {
				return ctx.Err()
			}
			return nil
		}
	}
	if read, err = Scan(list, steps(func(h Hash) { count[h[0]]++ })); err != nil {
		return read, err
	}
	var head bytes.Buffer
	head.WriteString(filterForm)
	_ = binary.Write(&head, binary.BigEndian, read.Lines) // a buffer never fails
	var parts [filterParts][]byte
	done := int64(0)
	for from := 0; from < filterParts; {
		to, keys := from, int64(0)
		for to < filterParts && (to == from || keys+count[to] <= most) {
			keys += count[to]
			to++
		}
		held := make([][]uint64, to-from)
		for i := range held {
			held[i] = make([]uint64, 0, count[from+i])
		}
		if _, err = list.Seek(0, io.SeekStart); err != nil {
			return read, err
		}
		if _, err = Scan(list, steps(func(h Hash) {
			if i := int(h[0]) - from; i >= 0 && i < len(held) {
				held[i] = append(held[i], h.key())
			}
		})); err != nil {
			return read, err
		}
		for i, keys := range held {
			if parts[from+i], err = part(keys); err != nil {
				return read, err
			}
			if done += int64(len(keys)); progress != nil {
				progress(done, read.Lines)
			}
		}
		from = to
	}
	at := uint64(filterHead)
	for _, p := range parts {
		_ = binary.Write(&head, binary.BigEndian, []uint64{at, uint64(len(p))})
		at += uint64(len(p))
	}
	if _, err = w.Write(head.Bytes()); err != nil {
		return read, err
	}
	for _, p := range parts {
		if _, err = w.Write(p); err != nil {
			return read, err
		}
	}
	return read, nil
}

func (h Hash) key() uint64 { return binary.BigEndian.Uint64(h[:8]) }

// part makes the part of a filter; of no keys it is empty.
func part(keys []uint64) ([]byte, error) {
	slices.Sort(keys)
	keys = slices.Compact(keys)
	if len(keys) == 0 {
		return nil, nil
	}
	f, err := xorfilter.NewBinaryFuse[uint32](keys)
	if err != nil {
		return nil, fmt.Errorf("failed to make the filter: %w", err)
	}
	var b bytes.Buffer
	if err := f.Save(&b); err != nil {
		return nil, fmt.Errorf("failed to make the filter: %w", err)
	}
	sum := sha256.Sum256(b.Bytes())
	return append(b.Bytes(), sum[:partSum]...), nil
}

const partSum = 8

// Filter answers whether a password is in the list that it was made of. It is safe for concurrent use.
type Filter struct {
	Passwords int64 // of the list

	r     io.ReaderAt
	parts [filterParts]struct{ At, Size uint64 }

	mu   sync.Mutex // guards held
	held map[byte]*xorfilter.BinaryFuse[uint32]
}

// ErrNoFilter is returned for a file that is no filter, or a damaged one.
var ErrNoFilter = errors.New("this is no filter of leaked passwords, or it is damaged")

// OpenFilter reads the head of a filter of the given size in bytes. r must stay open.
func OpenFilter(r io.ReaderAt, size int64) (*Filter, error) {
	head := make([]byte, filterHead)
	if n, err := r.ReadAt(head, 0); n < len(head) || err != nil && !errors.Is(err, io.EOF) {
		return nil, ErrNoFilter
	}
	if !bytes.HasPrefix(head, []byte(filterForm)) {
		return nil, ErrNoFilter
	}
	f := &Filter{r: r, held: map[byte]*xorfilter.BinaryFuse[uint32]{}}
	f.Passwords = int64(binary.BigEndian.Uint64(head[len(filterForm):]))
	at := uint64(filterHead)
	for i := range f.parts {
		p := head[len(filterForm)+8+16*i:]
		f.parts[i].At, f.parts[i].Size = binary.BigEndian.Uint64(p), binary.BigEndian.Uint64(p[8:])
		if f.parts[i].At != at || f.parts[i].Size > uint64(size)-min(at, uint64(size)) {
			return nil, ErrNoFilter
		}
		at += f.parts[i].Size
	}
	if at != uint64(size) {
		return nil, ErrNoFilter
	}
	return f, nil
}

// Has reports whether a hash is in the list. The error is the file's, or ErrNoFilter.
func (f *Filter) Has(h Hash) (bool, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	p := f.parts[h[0]]
	if p.Size == 0 {
		return false, nil
	}
	part := f.held[h[0]]
	if part == nil {
		b := make([]byte, p.Size)
		if _, err := f.r.ReadAt(b, int64(p.At)); err != nil && !errors.Is(err, io.EOF) {
			return false, err
		}
		var err error
		if part, err = loadPart(b); err != nil {
			return false, err
		}
		f.held[h[0]] = part
	}
	return part.Contains(h.key()), nil
}

func loadPart(b []byte) (*xorfilter.BinaryFuse[uint32], error) {
	body := b[:max(0, len(b)-partSum)]
	if sum := sha256.Sum256(body); !bytes.Equal(sum[:partSum], b[len(body):]) {
		return nil, ErrNoFilter
	}
	// The library makes room for as many fingerprints as the last four bytes of its head say.
	const head, each = 28, 4
	if len(body) < head || uint64(len(body)-head) != each*uint64(binary.LittleEndian.Uint32(body[head-4:])) {
		return nil, ErrNoFilter
	}
	part, err := xorfilter.LoadBinaryFuse[uint32](bytes.NewReader(body))
	if err != nil || !isWhole(part) {
		return nil, ErrNoFilter
	}
	return part, nil
}

// isWhole reports whether what a filter says of its size is what it has: a key is looked for in three segments that
// follow each other (T. M. Graf, D. Lemire: "Binary Fuse Filters", 2022).
func isWhole(f *xorfilter.BinaryFuse[uint32]) bool {
	length := uint64(f.SegmentLength)
	return bits.OnesCount64(length) == 1 && f.SegmentLengthMask == f.SegmentLength-1 && f.SegmentCount > 0 &&
		uint64(f.SegmentCountLength) == uint64(f.SegmentCount)*length &&
		uint64(len(f.Fingerprints)) == (uint64(f.SegmentCount)+2)*length
}

// Drop lets go of the parts that are held in memory.
func (f *Filter) Drop() {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.held)
}

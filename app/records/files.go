package records

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"redlocket/core/keys"
	"redlocket/core/vault"
)

// Files are what is attached to items: sealed chunk by chunk, and never on disk in clear.
type Files struct {
	core  *core
	items *Items
}

// Remote has the chunks of files that other devices attached.
type Remote interface {
	// FetchChunk returns one sealed chunk. The error is ErrNotHere where nobody has it.
	FetchChunk(ctx context.Context, file string, n int) ([]byte, error)
	// DropFile removes all chunks of a file.
	DropFile(ctx context.Context, file string) error
}

// The errors of attaching and reading files.
var (
	ErrFileTooLarge = fmt.Errorf("the file is larger than %d MB; nothing of it was kept", vault.MaxFile>>20)
	ErrTooManyFiles = fmt.Errorf("an item has %d files at most", vault.MaxFiles)
	ErrFilesFull    = fmt.Errorf("the files of this vault take %d MB together, which is all there is room for; "+
		"nothing of this one was kept", vault.MaxFilesSize>>20)
	ErrNoFile     = errors.New("this file isn’t attached here")
	ErrFileBroken = errors.New("the file is damaged: a part of it is missing or isn’t what was sealed")
)

// Attach seals a file chunk by chunk as it is read, and attaches it to an item. No more than
// two chunks of it are in memory. If reading breaks off nothing is left behind.
func (s *Files) Attach(ctx context.Context, item, name string, r io.Reader) (f vault.File, err error) {
	e, err := s.items.Entry(item)
	if err != nil {
		return f, err
	}
	if (&Cover{s.core}).Has(item) {
		return f, BadInput("file", ErrCoveredFiles)
	}
	if len(e.Files()) >= vault.MaxFiles {
		return f, BadInput("file", ErrTooManyFiles)
	}
	if f, err = s.Seal(ctx, name, r); err != nil {
		return f, err
	}
	defer func() { s.Restored(ctx, f.ID, err != nil) }()
	return f, s.items.Edit(ctx, item, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FileField(f.ID): f})
	})
}

// Restore seals a file of a backup under its own id, unless all of it is here already. No item
// names it yet: call [Files.Restored] with the same id once one does, or nothing will.
func (s *Files) Restore(ctx context.Context, id string, r io.Reader) (taken bool, err error) {
	files, err := s.core.Store.StoredFiles(ctx)
	if err != nil || slices.ContainsFunc(files, func(f StoredFile) bool { return f.ID == id && f.Whole }) {
		return false, err
	}
	if err := s.underWay(id, true); err != nil {
		return false, err
	}
	f := vault.File{ID: id}
	if err := s.seal(ctx, &f, r, vault.MaxFilesSize); err != nil {
		return true, err
	}
	return true, s.core.Store.FinishFile(ctx, StoredFile{ID: f.ID, Chunks: f.Chunks, Whole: true})
}

// Seal seals a file that no item names yet. Call [Files.Restored] with its id once one does, or nothing will.
func (s *Files) Seal(ctx context.Context, name string, r io.Reader) (vault.File, error) {
	return s.SealAs(ctx, NewID(), name, r)
}

// SealAs is Seal under an id that each device gives the same file.
func (s *Files) SealAs(ctx context.Context, id, name string, r io.Reader) (f vault.File, err error) {
	room, err := s.room()
	if err != nil {
		return f, err
	}
	f = vault.File{ID: id, Name: CleanFileName(name)}
	if err := s.underWay(f.ID, true); err != nil {
		return f, err
	}
	if err = s.seal(ctx, &f, r, room); err == nil {
		err = s.core.Store.FinishFile(ctx, StoredFile{ID: f.ID, Chunks: f.Chunks, Whole: true})
	}
	if err != nil {
		s.Restored(ctx, f.ID, true)
	}
	return f, err
}

// Restored ends what [Files.Restore] or [Files.Seal] began; where it failed, the chunks go.
func (s *Files) Restored(ctx context.Context, id string, failed bool) {
	_ = s.underWay(id, false) // nothing is under way once locked
	if failed {
		_ = s.core.Store.RemoveFile(context.WithoutCancel(ctx), id) // removed at the next opening otherwise
	}
}

// underWay notes a file that is being attached: no item names it yet.
func (s *Files) underWay(id string, on bool) error {
	return s.core.gate.Write(func(in *content) error {
		if on {
			in.attaching[id] = true
		} else {
			delete(in.attaching, id)
		}
		return nil
	})
}

// seal reads a file and stores its sealed chunks. What it learns of the file it notes in f.
func (s *Files) seal(ctx context.Context, f *vault.File, r io.Reader, room int64) error {
	sum := sha256.New()
	now, next := make([]byte, keys.ChunkSize), make([]byte, keys.ChunkSize)
	n, err := fillChunk(r, now)
	for err == nil {
		m, last := 0, n < len(now)
		if !last {
			if m, err = fillChunk(r, next); err != nil {
				break
			}
			last = m == 0
		}
		if f.Chunks == 0 {
			f.Type = http.DetectContentType(now[:min(n, 512)])
		}
		if f.Size += int64(n); f.Size > vault.MaxFile {
			return BadInput("file", ErrFileTooLarge)
		} else if f.Size > room {
			return BadInput("file", ErrFilesFull)
		}
		sum.Write(now[:n])
		if err := s.sealChunk(ctx, f, last, now[:n]); err != nil {
			return err
		}
		f.Chunks++
		if last {
			f.Sum = hex.EncodeToString(sum.Sum(nil))
			return nil
		}
		now, next, n = next, now, m
	}
	return fmt.Errorf("the file was cut off; nothing of it was kept: %w", err)
}

func (s *Files) sealChunk(ctx context.Context, f *vault.File, last bool, plain []byte) error {
	key, err := (&Local{s.core}).key()
	if err != nil {
		return err
	}
	sealed, err := key.SealChunk(f.ID, f.Chunks, last, plain)
	if err == nil {
		err = s.core.Store.PutChunk(ctx, f.ID, f.Chunks, sealed)
	}
	if err != nil {
		return fmt.Errorf("failed to keep the file: %w", err)
	}
	return nil
}

// fillChunk reads until b is full or the file ends.
func fillChunk(r io.Reader, b []byte) (int, error) {
	n, err := io.ReadFull(r, b)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return n, err
}

// CleanFileName brings a file's name to what can be shown and saved anywhere.
func CleanFileName(s string) string {
	const rightToLeft = 0x202e // turns around what follows, so that a name looks like another
	s = path.Base(strings.ReplaceAll(s, `\`, "/"))
	s = strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || strings.ContainsRune(`<>:"|?*/`, r) || r == rightToLeft {
			return -1
		}
		return r
	}, s))
	if r := []rune(s); len(r) > 150 {
		s = string(r[:100]) + "…" + string(r[len(r)-40:])
	}
	if strings.Trim(s, ".") == "" {
		return "file"
	}
	return s
}

// room is how many bytes, in clear, there is room for.
func (s *Files) room() (int64, error) {
	n := int64(vault.MaxFilesSize)
	err := s.core.read(func(in *content) error {
		for _, h := range in.entries {
			for _, f := range h.entry.Files() {
				n -= f.Size
			}
		}
		return nil
	})
	return n, err
}

// Get returns what an item's file is.
func (s *Files) Get(item, id string) (vault.File, error) {
	e, err := s.items.Entry(item)
	if err != nil {
		return vault.File{}, err
	}
	for _, f := range e.Files() {
		if f.ID == id {
			return f, nil
		}
	}
	return vault.File{}, ErrNoFile
}

// Read opens a file chunk by chunk into w. Chunks that aren't on this device are fetched, and
// kept.
func (s *Files) Read(ctx context.Context, f vault.File, w io.Writer) error {
	var fetched bool
	left := f.Size
	for n := range f.Chunks {
		sealed, err := s.core.Store.Chunk(ctx, f.ID, n)
		if err == nil && sealed == nil {
			fetched = true
			sealed, err = s.fetch(ctx, f.ID, n)
		}
		if err != nil {
			return err
		}
		key, err := (&Local{s.core}).key()
		if err != nil {
			return err
		}
		plain, err := key.OpenChunk(f.ID, n, n == f.Chunks-1, sealed)
		if left -= int64(len(plain)); err != nil || left < 0 {
			return ErrFileBroken
		}
		if fetched { // only what opens is kept
			if err := s.core.Store.PutChunk(ctx, f.ID, n, sealed); err != nil {
				return err
			}
		}
		if _, err := w.Write(plain); err != nil {
			return err
		}
	}
	if left != 0 {
		return ErrFileBroken
	}
	if fetched {
		return s.core.Store.FinishFile(ctx, StoredFile{ID: f.ID, Chunks: f.Chunks, Whole: true, Sent: true})
	}
	return nil
}

func (s *Files) fetch(ctx context.Context, file string, n int) ([]byte, error) {
	if s.core.Remote == nil {
		return nil, ErrFileBroken
	}
	return s.core.Remote.FetchChunk(ctx, file, n)
}

// Detach takes a file off an item. It stays in the item's history.
func (s *Files) Detach(ctx context.Context, item, id string) error {
	if _, err := s.Get(item, id); err != nil {
		return err
	}
	return s.items.Edit(ctx, item, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FileField(id): nil})
	})
}

// SendNew calls send with every chunk of each file that the cloud doesn't have yet.
func (s *Files) SendNew(ctx context.Context, send func(file string, n int, sealed []byte) error) error {
	files, err := s.core.Store.StoredFiles(ctx)
	if err != nil {
		return err
	}
	for _, f := range files {
		if !f.Whole || f.Sent {
			continue
		}
		for n := range f.Chunks {
			sealed, err := s.core.Store.Chunk(ctx, f.ID, n)
			if err == nil {
				err = send(f.ID, n, sealed)
			}
			if err != nil {
				return fmt.Errorf("failed to send a file: %w", err)
			}
		}
		f.Sent = true
		if err := s.core.Store.FinishFile(ctx, f); err != nil {
			return err
		}
	}
	return nil
}

// NoteLost notes which files a cloud doesn't have whole, given how many chunks of each it has: they will be sent again.
func (s *Files) NoteLost(ctx context.Context, chunks map[string]int) error {
	files, err := s.core.Store.StoredFiles(ctx)
	if err != nil {
		return err
	}
	for _, f := range files {
		if !f.Whole || !f.Sent || chunks[f.ID] >= f.Chunks {
			continue
		}
		f.Sent = false
		if err := s.core.Store.FinishFile(ctx, f); err != nil {
			return err
		}
	}
	return nil
}

// localUnused names the files that no item names any more, each with the number of the head at which that was noticed.
const localUnused = "unused-files"

// RemoveUnused removes the chunks of files that no item names, neither now nor in its past:
// those that were cut off, and those of items deleted for good. The cloud keeps its own until every device has seen
// that nothing names the file: one of them may have edited the item meanwhile, and that would bring it back.
func (s *Files) RemoveUnused(ctx context.Context) {
	files, err := s.core.Store.StoredFiles(ctx) // before asking who names them
	if err != nil || len(files) == 0 {
		return
	}
	named, devices, at := map[string]bool{}, []vault.Entry{}, uint64(0)
	err = s.core.read(func(in *content) error {
		at = in.checkpoint.Number
		for id := range in.attaching {
			named[id] = true
		}
		for _, h := range in.entries {
			for _, id := range h.entry.AllFileIDs() {
				named[id] = true
			}
			if h.entry.Type == vault.TypeDevice && h.entry.ID != s.core.Device {
				devices = append(devices, h.entry)
			}
		}
		return nil
	})
	local := &Local{s.core}
	since := map[string]uint64{}
	if err != nil || local.GetJSON(ctx, localUnused, &since) != nil {
		return
	}
	still := map[string]uint64{}
	for _, f := range files {
		if named[f.ID] {
			continue
		}
		if f.Sent && s.core.Remote != nil {
			head, noted := since[f.ID]
			if !noted {
				head = at
			}
			if !s.core.allSaw(devices, head) || s.core.Remote.DropFile(ctx, f.ID) != nil {
				still[f.ID] = head // next time
				continue
			}
		}
		_ = s.core.Store.RemoveFile(ctx, f.ID) // next time, if it fails
	}
	if len(still)+len(since) > 0 {
		_ = local.SetJSON(ctx, localUnused, still) // noticed anew the next time
	}
}

// allSaw says whether each of some devices knew a head, or a later one, when it last said. One that said nothing for as
// long as clouds keep heads is waited for no more.
func (c *core) allSaw(devices []vault.Entry, head uint64) bool {
	for _, d := range devices {
		r := d.Fields[vault.FieldSaw]
		last := max(r.Stamp.At, d.Created)
		if d.Text(vault.FieldOut) != "" || c.Now().Sub(time.UnixMilli(last)) > KeptHeads {
			continue
		}
		if n, err := strconv.ParseUint(d.Text(vault.FieldSaw), 10, 64); err != nil || n < head {
			return false
		}
	}
	return true
}

// Stored lists the files that this device has chunks of.
func (s *Files) Stored(ctx context.Context) ([]StoredFile, error) {
	return s.core.Store.StoredFiles(ctx)
}

package app

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
	"strings"
	"unicode"

	"redlocket/core/keys"
	"redlocket/core/vault"
)

// The errors of attaching and reading files.
var (
	ErrFileTooLarge = fmt.Errorf("the file is larger than %d MB; nothing of it was kept", vault.MaxFile>>20)
	ErrTooManyFiles = fmt.Errorf("an item has %d files at most", vault.MaxFiles)
	ErrFilesFull    = fmt.Errorf("the files of this vault take %d MB together, which is all there is room for; nothing of this one was kept", vault.MaxFilesSize>>20)
	ErrNoFile       = errors.New("this file isn’t attached here")
	ErrFileBroken   = errors.New("the file is damaged: a part of it is missing or isn’t what was sealed")
)

// Attach seals a file chunk by chunk as it is read, and attaches it to an item.
// Nothing of it is ever on disk in clear, and no more than two chunks of it are in
// memory. If reading breaks off nothing is left behind.
func (v *Vault) Attach(ctx context.Context, item, name string, r io.Reader) (f vault.File, err error) {
	e, err := v.Entry(item)
	if err != nil {
		return f, err
	}
	if len(e.Files()) >= vault.MaxFiles {
		return f, badInput("file", ErrTooManyFiles)
	}
	room := vault.MaxFilesSize - v.filesSize()
	f = vault.File{ID: NewID(), Name: fileName(name)}
	v.underWay(f.ID, true)
	defer func() {
		v.underWay(f.ID, false)
		if err != nil { // also when the request was cut off
			err = errors.Join(err, v.store.RemoveFile(context.WithoutCancel(ctx), f.ID))
		}
	}()
	if err := v.sealFile(ctx, &f, r, room); err != nil {
		return f, err
	}
	if err := v.store.FinishFile(ctx, StoredFile{ID: f.ID, Chunks: f.Chunks, Whole: true}); err != nil {
		return f, err
	}
	return f, v.existing(ctx, item, func(e vault.Entry) (vault.Entry, error) {
		return e.With(v.stamp(), vault.Changes{vault.FileField(f.ID): f})
	})
}

// underWay notes a file that is being attached: no item names it yet.
func (v *Vault) underWay(id string, on bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if on {
		v.attaching[id] = true
	} else {
		delete(v.attaching, id)
	}
}

func (v *Vault) sealFile(ctx context.Context, f *vault.File, r io.Reader, room int64) error {
	sum := sha256.New()
	now, next := make([]byte, keys.ChunkSize), make([]byte, keys.ChunkSize)
	n, err := fillChunk(r, now)
	for err == nil {
		var m int
		m, err = 0, nil
		last := n < len(now)
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
			return badInput("file", ErrFileTooLarge)
		} else if f.Size > room {
			return badInput("file", ErrFilesFull)
		}
		sum.Write(now[:n])
		v.mu.RLock()
		seal := v.seal
		v.mu.RUnlock()
		if seal == nil {
			return ErrLocked
		}
		sealed, err := seal.SealChunk(f.ID, f.Chunks, last, now[:n])
		if err == nil {
			err = v.store.PutChunk(ctx, f.ID, f.Chunks, sealed)
		}
		if err != nil {
			return fmt.Errorf("failed to keep the file: %w", err)
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

// fillChunk reads until b is full or the file ends.
func fillChunk(r io.Reader, b []byte) (int, error) {
	n, err := io.ReadFull(r, b)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return n, err
}

// fileName brings a file's name to what can be shown and saved anywhere.
func fileName(s string) string {
	s = path.Base(strings.ReplaceAll(s, `\`, "/"))
	s = strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || strings.ContainsRune(`<>:"|?*/`, r) || r == 0x202e { // that one turns what follows around
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

// filesSize is how much all files of the vault take, in bytes in clear.
func (v *Vault) filesSize() (n int64) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	for _, h := range v.entries {
		for _, f := range h.entry.Files() {
			n += f.Size
		}
	}
	return n
}

// File returns what an item's file is.
func (v *Vault) File(item, id string) (vault.File, error) {
	e, err := v.Entry(item)
	if err != nil {
		return vault.File{}, err
	}
	files := e.Files()
	i := slices.IndexFunc(files, func(f vault.File) bool { return f.ID == id })
	if i < 0 {
		return vault.File{}, ErrNoFile
	}
	return files[i], nil
}

// ReadFile opens a file chunk by chunk into w. Chunks that aren't on this device
// are fetched from the cloud, and kept.
func (v *Vault) ReadFile(ctx context.Context, f vault.File, w io.Writer) error {
	var fetched bool
	left := f.Size
	for n := range f.Chunks {
		sealed, err := v.store.Chunk(ctx, f.ID, n)
		if err == nil && sealed == nil {
			fetched = true
			sealed, err = v.fetchChunk(ctx, f.ID, n)
		}
		if err != nil {
			return err
		}
		v.mu.RLock()
		seal := v.seal
		v.mu.RUnlock()
		if seal == nil {
			return ErrLocked
		}
		plain, err := seal.OpenChunk(f.ID, n, n == f.Chunks-1, sealed)
		if left -= int64(len(plain)); err != nil || left < 0 {
			return ErrFileBroken
		}
		if fetched { // only what opens is kept
			if err := v.store.PutChunk(ctx, f.ID, n, sealed); err != nil {
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
		return v.store.FinishFile(ctx, StoredFile{ID: f.ID, Chunks: f.Chunks, Whole: true, Sent: true})
	}
	return nil
}

func (v *Vault) fetchChunk(ctx context.Context, file string, n int) ([]byte, error) {
	v.mu.RLock()
	cloud := v.cloud
	v.mu.RUnlock()
	if cloud == nil {
		return nil, ErrFileBroken
	}
	token, err := v.token(ctx)
	if err != nil {
		return nil, err
	}
	return cloud.Chunk(ctx, token, file, n)
}

// Detach takes a file off an item. It stays in the item's history.
func (v *Vault) Detach(ctx context.Context, item, id string) error {
	if _, err := v.File(item, id); err != nil {
		return err
	}
	return v.existing(ctx, item, func(e vault.Entry) (vault.Entry, error) {
		return e.With(v.stamp(), vault.Changes{vault.FileField(id): nil})
	})
}

// sendFiles brings files that the cloud doesn't have yet there.
func (v *Vault) sendFiles(ctx context.Context) error {
	files, err := v.store.StoredFiles(ctx)
	if err != nil {
		return err
	}
	for _, f := range files {
		if !f.Whole || f.Sent {
			continue
		}
		token, err := v.token(ctx)
		if err != nil {
			return err
		}
		for n := range f.Chunks {
			sealed, err := v.store.Chunk(ctx, f.ID, n)
			if err == nil {
				err = v.cloud.PutChunk(ctx, token, f.ID, n, sealed)
			}
			if err != nil {
				return fmt.Errorf("failed to send a file: %w", err)
			}
		}
		f.Sent = true
		if err := v.store.FinishFile(ctx, f); err != nil {
			return err
		}
	}
	return nil
}

// sweepFiles removes the chunks of files that no item names, neither now nor in
// its past: those that were cut off, and those of items deleted for good.
func (v *Vault) sweepFiles(ctx context.Context) {
	files, err := v.store.StoredFiles(ctx) // before asking who names them
	if err != nil || len(files) == 0 {
		return
	}
	named := map[string]bool{}
	v.mu.RLock()
	cloud := v.cloud
	for id := range v.attaching {
		named[id] = true
	}
	for _, h := range v.entries {
		for _, id := range h.entry.AllFileIDs() {
			named[id] = true
		}
	}
	open := v.seal != nil
	v.mu.RUnlock()
	if !open {
		return
	}
	for _, f := range files {
		if named[f.ID] {
			continue
		}
		if f.Sent && cloud != nil {
			token, err := v.token(ctx)
			if err != nil || cloud.RemoveFile(ctx, token, f.ID) != nil {
				continue // next time
			}
		}
		_ = v.store.RemoveFile(ctx, f.ID) // next time, if it fails
	}
}

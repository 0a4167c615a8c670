package importing

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"redlocket/app/gate"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// A backup is a file of the age format (version 1, passphrase), which general-purpose
// tools open. In it is a tar archive: README.txt, items.json as [transfer.WriteJSON]
// writes it, and every attached file as files/ID/NAME.
const (
	backupItems  = "items.json"
	backupFiles  = "files/"
	backupReadme = `This is a backup of a Red Locket vault.

items.json   every item with all its fields and its whole history; the names of
             its parts are described in docs/export.schema.json
files/       what is attached to items, each under the id that items.json names
             it by

It was encrypted in the age format with a passphrase. Any tool for that format
opens it: age --decrypt BACKUP | tar -x
To have a vault from it again: redlocket restore BACKUP
`
)

// MaxBackup is the largest items.json that is read back, in bytes.
const MaxBackup = 512 << 20

// minPassphrase is the shortest passphrase of a backup, in characters: whoever has the
// file can guess for as long as they like.
const minPassphrase = 12

// Errors of backups.
var (
	ErrPassphrase = fmt.Errorf(
		"a backup’s passphrase has %d characters at least: whoever finds the file can guess for years",
		minPassphrase,
	)
	ErrWrongPassphrase = errors.New("this isn’t the passphrase of the backup")
	ErrBackupBroken    = errors.New("the backup is damaged or cut short; nothing of it was taken")
)

// Backups writes everything of a vault, and reads it back.
type Backups struct{ cfg Config }

// Saved says what a backup holds.
type Saved struct {
	Items int
	Files int
	Bytes int64    // of files, in clear
	Lacks []string // names of files that were nowhere to be had
}

// Write writes everything of the vault, sealed with a passphrase. The master password
// is asked for first. Files that aren't on this device are fetched; it is written without those that can't be.
func (b *Backups) Write(ctx context.Context, w io.Writer, passphrase secret.Text) (s Saved, err error) {
	if err := b.mayWrite(passphrase); err != nil {
		return s, err
	}
	return b.write(ctx, w, passphrase, records.AllBooks)
}

// mayWrite asks for the master password first, and for a passphrase that is long enough.
func (b *Backups) mayWrite(passphrase secret.Text) error {
	if err := b.cfg.Guard.Require(reauth.Export); err != nil {
		return err
	}
	if len([]rune(passphrase.Reveal())) < minPassphrase {
		return records.BadInput("passphrase", ErrPassphrase)
	}
	return nil
}

// WriteBook is Write for one book alone: [records.OwnBook], or one by its id.
func (b *Backups) WriteBook(ctx context.Context, w io.Writer, passphrase secret.Text, book string) (Saved, error) {
	if err := b.mayWrite(passphrase); err != nil {
		return Saved{}, err
	}
	return b.write(ctx, w, passphrase, book)
}

func (b *Backups) write(ctx context.Context, w io.Writer, passphrase secret.Text, book string) (s Saved, err error) {
	list, err := b.everything(book)
	if err != nil {
		return s, err
	}
	to, err := age.NewScryptRecipient(passphrase.Reveal())
	if err != nil {
		return s, err
	}
	to.SetWorkFactor(keys.AgeWork)
	sealed, err := age.Encrypt(w, to)
	if err != nil {
		return s, err
	}
	out := tar.NewWriter(sealed)
	now := b.cfg.Now()
	var items bytes.Buffer
	devices, err := b.cfg.Set.Book.DeviceNames()
	if err != nil {
		return s, err
	}
	err = transfer.WriteJSON(&items, transfer.Export{Made: now.UnixMilli(), Devices: devices, Entries: list})
	if err != nil {
		return s, err
	}
	for _, part := range []struct {
		name    string
		content []byte
	}{{"README.txt", []byte(backupReadme)}, {backupItems, items.Bytes()}} {
		write := func() error { _, err := out.Write(part.content); return err }
		if err := addTar(out, part.name, int64(len(part.content)), now, write); err != nil {
			return s, err
		}
	}
	for _, e := range list {
		if e.IsItem() {
			s.Items++
		}
		for _, f := range everyFile(e) {
			var content bytes.Buffer // at most vault.MaxFile
			if err := b.cfg.Set.Files.Read(ctx, f, &content); errors.Is(err, gate.ErrLocked) || ctx.Err() != nil {
				return s, errors.Join(err, ctx.Err())
			} else if err != nil {
				s.Lacks = append(s.Lacks, f.Name)
				continue
			}
			write := func() error { _, err := content.WriteTo(out); return err }
			if err := addTar(out, backupFiles+f.ID+"/"+f.Name, f.Size, now, write); err != nil {
				return s, fmt.Errorf("failed to write “%s”: %w", f.Name, err)
			}
			s.Files, s.Bytes = s.Files+1, s.Bytes+f.Size
		}
	}
	if len(s.Lacks) > 0 {
		text := "Files that this backup doesn't have, because no device could be asked for them:\n\n" +
			strings.Join(s.Lacks, "\n") + "\n"
		write := func() error { _, err := io.WriteString(out, text); return err }
		if err := addTar(out, "MISSING.txt", int64(len(text)), now, write); err != nil {
			return s, err
		}
	}
	err = errors.Join(out.Close(), sealed.Close())
	if err != nil || book != records.AllBooks { // one book alone is no backup of the vault
		return s, err
	}
	if err := b.cfg.Set.Local.SetJSON(ctx, localLacks, s.Lacks); err != nil {
		return s, err
	}
	return s, b.cfg.Written(ctx)
}

// localLacks names what the last backup lacks.
const localLacks = "backup-lacks"

// Lacks returns the names of files that the last backup of this device lacks.
func (b *Backups) Lacks(ctx context.Context) (list []string) {
	_ = b.cfg.Set.Local.GetJSON(ctx, localLacks, &list) // none once locked
	return list
}

func addTar(out *tar.Writer, name string, size int64, at time.Time, write func() error) error {
	if err := out.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: at,
		Format: tar.FormatPAX}); err != nil {
		return err
	}
	return write()
}

// everyFile returns the files of an entry, and those of its past.
func everyFile(e vault.Entry) []vault.File {
	out := e.Files()
	for _, p := range e.Past {
		f, ok := vault.FileOf(p.Field, p.Value)
		if ok && !slices.ContainsFunc(out, func(o vault.File) bool { return o.ID == f.ID }) {
			out = append(out, f)
		}
	}
	return out
}

// backedUp reports whether an entry belongs into a backup: those that are a device's own don't, nor what is between the
// owner and others, who know them by keys that another vault doesn't have.
func backedUp(e vault.Entry) bool {
	switch e.Type {
	case vault.TypeDevice, vault.TypeProfile, vault.TypePeer, vault.TypePassed, vault.TypeHand, vault.TypeShared:
		return false
	}
	return true
}

// everything returns all entries that belong into a backup, of all books or of one.
func (b *Backups) everything(book string) ([]vault.Entry, error) {
	list, err := b.cfg.Set.Books.Entries(book)
	list = slices.DeleteFunc(list, func(e vault.Entry) bool { return !backedUp(e) })
	slices.SortFunc(list, func(a, b vault.Entry) int {
		return cmp.Or(cmp.Compare(a.Created, b.Created), strings.Compare(a.ID, b.ID))
	})
	return list, err
}

// openBackup opens a backup's archive.
func openBackup(r io.Reader, passphrase secret.Text) (*tar.Reader, error) {
	id, err := age.NewScryptIdentity(passphrase.Reveal())
	if err != nil {
		return nil, ErrWrongPassphrase
	}
	plain, err := age.Decrypt(r, id)
	var wrong *age.NoIdentityMatchError
	if errors.As(err, &wrong) {
		return nil, ErrWrongPassphrase
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrBackupBroken, err)
	}
	return tar.NewReader(plain), nil
}

// readBackup reads a backup to its end: the items, and each file by fn.
func readBackup(
	r io.Reader,
	passphrase secret.Text,
	fn func(x transfer.Export, id, name string, r io.Reader) error,
) (x transfer.Export, s Saved, err error) {
	in, err := openBackup(r, passphrase)
	if err != nil {
		return x, s, err
	}
	return readOpened(in, fn)
}

// readOpened reads what an opened backup holds.
func readOpened(
	in *tar.Reader, fn func(x transfer.Export, id, name string, r io.Reader) error,
) (x transfer.Export, s Saved, err error) {
	for {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return x, s, fmt.Errorf("%w: %v", ErrBackupBroken, err)
		}
		switch rest, isFile := strings.CutPrefix(h.Name, backupFiles); {
		case h.Name == backupItems:
			b, err := io.ReadAll(io.LimitReader(in, MaxBackup))
			if err != nil {
				return x, s, fmt.Errorf("%w: %v", ErrBackupBroken, err)
			}
			if x, err = transfer.ReadBackup(b); err != nil {
				return x, s, err
			}
			for _, e := range x.Entries {
				if e.IsItem() {
					s.Items++
				}
			}
		case isFile:
			id, name, _ := strings.Cut(rest, "/")
			s.Files, s.Bytes = s.Files+1, s.Bytes+h.Size
			if err := fn(x, id, name, in); err != nil {
				return x, s, err
			}
		}
	}
	if x.Made == 0 {
		return x, s, fmt.Errorf("%w: it has no list of items", ErrBackupBroken)
	}
	return x, s, nil
}

// CheckBackup reads a backup to its end and says what it holds; every attached file
// must be what its item says it is.
func CheckBackup(r io.Reader, passphrase secret.Text) (Saved, error) {
	_, s, err := readBackup(r, passphrase, func(x transfer.Export, id, _ string, r io.Reader) error {
		sum := sha256.New()
		if _, err := io.Copy(sum, r); err != nil {
			return fmt.Errorf("%w: %v", ErrBackupBroken, err)
		}
		for _, e := range x.Entries {
			for _, f := range everyFile(e) {
				if f.ID == id && f.Sum == hex.EncodeToString(sum.Sum(nil)) {
					return nil
				}
			}
		}
		return fmt.Errorf("%w: an attached file isn’t what it was", ErrBackupBroken)
	})
	return s, err
}

// bound reports whether there is an item that its owner may not change: those who may keep it as it is.
func (b *Backups) bound(id string) bool {
	e, err := b.cfg.Set.Items.ToFill(id)
	return err == nil && !b.cfg.Set.Items.Right(e).Includes(share.Change)
}

// Restore brings a backup into the vault. What it has and the vault hasn't is added, each
// with its history; what both have is joined as edits of two devices are. Nothing is
// written before all of the backup was read; attached files come first.
func (b *Backups) Restore(
	ctx context.Context,
	r io.Reader,
	passphrase secret.Text,
	progress func(done, of int),
) (s Saved, err error) {
	var taken []string
	defer func() {
		for _, id := range taken {
			b.cfg.Set.Files.Restored(ctx, id, err != nil)
		}
	}()
	x, s, err := readBackup(r, passphrase, func(_ transfer.Export, id, _ string, r io.Reader) error {
		fresh, err := b.cfg.Set.Files.Restore(ctx, id, r)
		if fresh {
			taken = append(taken, id)
		}
		return err
	})
	if err != nil {
		return s, err
	}
	return s, b.cfg.Set.Items.SaveMany(ctx, func(have map[string]vault.Entry) ([]vault.Entry, error) {
		var list []vault.Entry
		for _, e := range x.Entries {
			if !backedUp(e) || e.ID == "" || b.bound(e.ID) {
				continue
			}
			next := e
			if old, ok := have[e.ID]; ok {
				next = vault.Merge(old, e)
				if e.Type == vault.TypeBook && next.Purged() && !e.Purged() { // it was taken away, and is there again
					var err error
					c := vault.Changes{vault.FieldName: e.Text(vault.FieldName)}
					if next, err = next.With(b.cfg.Set.Items.Stamp(), c); err != nil {
						return nil, err
					}
				}
				if next.Equal(old) {
					continue
				}
			}
			list = append(list, next)
		}
		return list, nil
	}, progress)
}

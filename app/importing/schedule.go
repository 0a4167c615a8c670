package importing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/secret"
)

// BackupPlan says where backups are written by themselves while the vault is open. It
// is this device's own.
type BackupPlan struct {
	Folder string
	Every  time.Duration
	Last   int64  // milliseconds since 1970: when one was last written and read back
	Tried  int64  // when one was last tried
	Failed string // why that failed; empty if it didn't
}

// localBackups names what is kept of the plan, with its passphrase.
const localBackups = "backups"

type keptPlan struct {
	BackupPlan
	Passphrase string
}

const (
	keptBackups = 10
	retryAfter  = time.Hour // where one failed
)

// ErrNoFolders is returned where there is no file system to write backups to.
var ErrNoFolders = errors.New("backups can’t be written to a folder here")

// Plan returns the plan; ok is false if there is none.
func (b *Backups) Plan(ctx context.Context) (p BackupPlan, ok bool) {
	k, ok := b.plan(ctx)
	return k.BackupPlan, ok
}

func (b *Backups) plan(ctx context.Context) (k keptPlan, ok bool) {
	err := b.cfg.Set.Local.GetJSON(ctx, localBackups, &k)
	return k, err == nil && k.Folder != ""
}

func (b *Backups) keepPlan(ctx context.Context, k keptPlan) error {
	return b.cfg.Set.Local.SetJSON(ctx, localBackups, k)
}

// Schedule has backups written to a folder from here on, the first one now. The
// master password is asked for first. Nothing is planned if that one can't be written.
func (b *Backups) Schedule(ctx context.Context, dir string, every time.Duration, passphrase secret.Text) error {
	if err := b.cfg.Guard.Require(reauth.Export); err != nil {
		return err
	}
	switch {
	case b.cfg.Folders == nil:
		return records.BadInput("folder", ErrNoFolders)
	case len([]rune(passphrase.Reveal())) < minPassphrase:
		return records.BadInput("plan-passphrase", ErrPassphrase)
	case every < time.Hour || every > 90*24*time.Hour:
		return records.BadInput("every", errors.New("choose how often"))
	}
	k := keptPlan{BackupPlan{Folder: strings.TrimSpace(dir), Every: every}, passphrase.Reveal()}
	if err := b.writeTo(ctx, &k); err != nil {
		return records.BadInput("folder", fmt.Errorf("no backup could be written there: %w", err))
	}
	return b.keepPlan(ctx, k)
}

// Unschedule ends the plan. What was written stays.
func (b *Backups) Unschedule(ctx context.Context) error {
	return b.cfg.Set.Local.Set(ctx, localBackups, nil)
}

// WriteIfDue writes a backup if the plan says so, and notes how that went.
func (b *Backups) WriteIfDue(ctx context.Context) error {
	k, ok := b.plan(ctx)
	now := b.cfg.Now().UnixMilli()
	if !ok || within(k.Last, now, k.Every) || k.Failed != "" && within(k.Tried, now, retryAfter) {
		return nil
	}
	k.Failed = ""
	err := b.writeTo(ctx, &k)
	if err != nil {
		k.Failed = err.Error()
	}
	return errors.Join(err, b.keepPlan(ctx, k))
}

// within reports whether a moment is no longer ago than that. One that is yet to come, because the clock was ahead
// then, isn't.
func within(at, now int64, ago time.Duration) bool { return at <= now && now-at < ago.Milliseconds() }

// sequence is the number in the name of a backup; 0 if there is none.
func sequence(name, prefix string) int {
	digits, _, _ := strings.Cut(strings.TrimPrefix(name, prefix), "-")
	if len(digits) != sequenceDigits {
		return 0
	}
	n, err := strconv.Atoi(digits)
	if err != nil {
		return 0
	}
	return n
}

const sequenceDigits = 6

// backupsIn lists the backups of this vault in a folder, in the order in which they were written, whatever the clock
// said then.
func (b *Backups) backupsIn(dir, prefix string) ([]string, error) {
	names, err := b.cfg.Folders.List(dir)
	names = slices.DeleteFunc(names, func(n string) bool {
		return !strings.HasPrefix(n, prefix) || !strings.HasSuffix(n, ".age")
	})
	slices.SortFunc(names, func(x, y string) int {
		return cmp.Or(cmp.Compare(sequence(x, prefix), sequence(y, prefix)), strings.Compare(x, y))
	})
	return names, err
}

// writeTo writes one backup, reads it back, and removes the oldest above ten.
func (b *Backups) writeTo(ctx context.Context, k *keptPlan) error {
	now := b.cfg.Now()
	k.Tried = now.UnixMilli()
	prefix := "red-locket-" + b.cfg.Vault[:8] + "-"
	folders := b.cfg.Folders
	before, err := b.backupsIn(k.Folder, prefix)
	if err != nil {
		return err
	}
	next := 1
	if n := len(before); n > 0 {
		next = sequence(before[n-1], prefix) + 1
	}
	name := fmt.Sprintf("%s%0*d-%s.age", prefix, sequenceDigits, next, now.UTC().Format("2006-01-02-150405"))
	err = folders.Put(k.Folder, name, func(w io.Writer) error {
		_, err := b.write(ctx, w, secret.New(k.Passphrase), records.AllBooks)
		return err
	})
	if err != nil {
		return err
	}
	r, err := folders.Open(k.Folder, name)
	if err != nil {
		return err
	}
	_, err = CheckBackup(r, secret.New(k.Passphrase))
	if err = errors.Join(err, r.Close()); err != nil {
		return fmt.Errorf("what was written can’t be read back: %w", err)
	}
	k.Last = now.UnixMilli()
	names, err := b.backupsIn(k.Folder, prefix)
	if err != nil {
		return err
	}
	for _, old := range names[:max(0, len(names)-keptBackups)] {
		if old == name {
			continue
		}
		if err := folders.Remove(k.Folder, old); err != nil {
			return err
		}
	}
	return nil
}

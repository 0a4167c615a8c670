package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"redlocket/core/secret"
)

// Folders are where scheduled backups are written.
type Folders interface {
	// Put writes a file whole or not at all.
	Put(dir, name string, write func(io.Writer) error) error
	Open(dir, name string) (io.ReadCloser, error)
	List(dir string) ([]string, error)
	Remove(dir, name string) error
}

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

// BackupPlan returns the plan; ok is false if there is none.
func (v *Vault) BackupPlan(ctx context.Context) (p BackupPlan, ok bool) {
	k, ok := v.backupPlan(ctx)
	return k.BackupPlan, ok
}

func (v *Vault) backupPlan(ctx context.Context) (k keptPlan, ok bool) {
	b, err := v.local(ctx, localBackups)
	return k, err == nil && b != nil && json.Unmarshal(b, &k) == nil
}

func (v *Vault) keepPlan(ctx context.Context, k keptPlan) error {
	b, err := json.Marshal(k)
	if err != nil {
		return err
	}
	return v.setLocal(ctx, v.store, localBackups, b)
}

// PlanBackups has backups written to a folder from here on, the first one now. The
// master password is asked for first. Nothing is planned if that one can't be written.
func (v *Vault) PlanBackups(ctx context.Context, dir string, every time.Duration, passphrase secret.Text) error {
	if err := v.RequireReauth(ReauthExport); err != nil {
		return err
	}
	switch {
	case v.d.p.Folders == nil:
		return badInput("folder", ErrNoFolders)
	case len([]rune(passphrase.Reveal())) < minPassphrase:
		return badInput("plan-passphrase", ErrPassphrase)
	case every < time.Hour || every > 90*24*time.Hour:
		return badInput("every", errors.New("choose how often"))
	}
	k := keptPlan{BackupPlan{Folder: strings.TrimSpace(dir), Every: every}, passphrase.Reveal()}
	if err := v.backUp(ctx, &k); err != nil {
		return badInput("folder", fmt.Errorf("no backup could be written there: %w", err))
	}
	return v.keepPlan(ctx, k)
}

// StopBackups ends the plan. What was written stays.
func (v *Vault) StopBackups(ctx context.Context) error {
	return v.store.SetLocal(ctx, localBackups, nil)
}

// BackUpIfDue writes a backup if the plan says so, and notes how that went.
func (v *Vault) BackUpIfDue(ctx context.Context) error {
	k, ok := v.backupPlan(ctx)
	now := v.d.p.Now().UnixMilli()
	if !ok || now-k.Last < k.Every.Milliseconds() || k.Failed != "" && now-k.Tried < retryAfter.Milliseconds() {
		return nil
	}
	k.Failed = ""
	err := v.backUp(ctx, &k)
	if err != nil {
		k.Failed = err.Error()
	}
	return errors.Join(err, v.keepPlan(ctx, k))
}

// backUp writes one backup, reads it back, and removes the oldest above ten.
func (v *Vault) backUp(ctx context.Context, k *keptPlan) error {
	now := v.d.p.Now()
	k.Tried = now.UnixMilli()
	prefix := "red-locket-" + v.Profile().Vault[:8] + "-"
	name := prefix + now.UTC().Format("2006-01-02-150405") + ".age"
	folders := v.d.p.Folders
	err := folders.Put(k.Folder, name, func(w io.Writer) error {
		_, err := v.writeBackup(ctx, w, secret.New(k.Passphrase))
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
	names, err := folders.List(k.Folder)
	if err != nil {
		return err
	}
	names = slices.DeleteFunc(names, func(n string) bool { return !strings.HasPrefix(n, prefix) || !strings.HasSuffix(n, ".age") })
	slices.Sort(names) // by date
	for _, old := range names[:max(0, len(names)-keptBackups)] {
		if err := folders.Remove(k.Folder, old); err != nil {
			return err
		}
	}
	return nil
}

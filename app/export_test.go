package app

import (
	"context"
	"time"

	"redlocket/app/records"
)

// SetCloseGrace lets tests close the last page without waiting.
func (d *Device) SetCloseGrace(g time.Duration) { d.closeGrace = g }

// SetFolders gives a device a file system for its backups.
func (d *Device) SetFolders(f Folders) { d.ports.Folders = f }

// Stored lists the files with chunks on this device.
func (v *Vault) Stored(ctx context.Context) ([]records.StoredFile, error) {
	return v.identity.store.StoredFiles(ctx)
}

// Chunk reads a sealed chunk; SetChunk puts one in its place.
func (v *Vault) Chunk(ctx context.Context, file string, n int) ([]byte, error) {
	return v.identity.store.Chunk(ctx, file, n)
}

func (v *Vault) SetChunk(ctx context.Context, file string, n int, sealed []byte) error {
	return v.identity.store.PutChunk(ctx, file, n, sealed)
}

// Credential lets tests tell devices' requests apart.
func (v *Vault) Credential(ctx context.Context) (string, error) { return v.Sync.Credential(ctx) }

// Look lets tests move the keeper's clock instead of waiting for it.
func (d *Device) LookNow(jump bool) {
	now := d.ports.Now()
	last := now
	if jump {
		last = now.Add(-2 * sleepGap)
	}
	d.lockUnused(now, last)
}

// ScreenLocked tells the device that the session's screen was locked; Sleeping that the computer goes to sleep.
func (d *Device) ScreenLocked() { d.sessionEvents().Locked() }
func (d *Device) Sleeping()     { d.sessionEvents().Sleeping() }

// LockInSteps closes a vault's records, and ends the rest when it is called.
func (v *Vault) LockInSteps() (end func()) {
	v.Set.Close(map[string][]byte{})
	return v.end
}

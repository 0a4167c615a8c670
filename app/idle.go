package app

import (
	"sync"
	"sync/atomic"
	"time"
)

// idle knows when a vault was last used, and which pages of it are open.
type idle struct {
	now     func() time.Time
	pages   atomic.Int64 // that are open
	touched atomic.Int64 // counts uses

	mu   sync.Mutex // guards used
	used time.Time
}

func newIdle(now func() time.Time) *idle { return &idle{now: now, used: now()} }

func (i *idle) touch() {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.used = i.now()
	i.touched.Add(1)
}

// unused is how long the vault hasn't been used.
func (i *idle) unused() time.Duration {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.now().Sub(i.used)
}

// Touch notes that the vault is being used.
func (v *Vault) Touch() { v.idle.touch() }

// Left is the time until the vault locks by itself.
func (v *Vault) Left() time.Duration { return v.Settings.LockAfter() - v.idle.unused() }

// Going from one page to the next leaves one for a moment, so leaving waits for the
// next one: closeGrace where the last page was closed, leaveGrace where the vault
// locks at once and a page was turned away from. A page is left when the next one has
// been asked for, so what was used within movesOn before may be on its way to the
// screen, and gets closeGrace.
const (
	closeGrace = 10 * time.Second
	leaveGrace = 2 * time.Second
	movesOn    = time.Second
)

// PageLeft notes that a page was turned away from. A vault that locks at once does so,
// unless it is used meanwhile: a page that is shown says so by a use.
func (v *Vault) PageLeft() {
	if v.Settings.Get().LockAfter != AtOnce {
		return
	}
	grace := min(v.device.closeGrace, leaveGrace)
	if v.idle.unused() < movesOn {
		grace = v.device.closeGrace
	}
	at := v.idle.touched.Load()
	time.AfterFunc(grace, func() {
		if v.idle.touched.Load() == at {
			v.Lock()
		}
	})
}

// PageOpened notes that a page of the vault is open; call what it returns when the page
// is gone.
func (v *Vault) PageOpened() (gone func()) {
	v.idle.pages.Add(1)
	return func() {
		if v.idle.pages.Add(-1) > 0 || !v.Settings.Get().LockOnClose {
			return
		}
		time.AfterFunc(v.device.closeGrace, func() {
			if v.idle.pages.Load() == 0 && v.Settings.Get().LockOnClose {
				v.Lock()
			}
		})
	}
}

// Package app is the device application: the profiles of this computer, their
// open vaults, and what a person can do with them.
//
// A [Device] knows its profiles. [Device.Create], [Device.Join] and
// [Device.Unlock] give a [Vault], which lives in memory until it is locked, by
// hand, after a time without use, or because the computer slept or its screen was locked. A vault is its rooms: what
// is in it (package records), pages and prompts (package filling), files in and out (package
// importing), and the line to its cloud (package syncing).
//
// The package holds no adapter: stores, the cloud's line and the browser's are
// handed in as [Ports]. It builds for js/wasm.
package app

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"redlocket/app/importing"
)

// DefaultLockAfter is how long a vault stays open without use.
const DefaultLockAfter = 5 * time.Minute

// sleepGap is a jump of the clock that only sleep, or a stopped process,
// explains. [Device.Run] looks every second.
const sleepGap = 15 * time.Second

// ErrNoProfile is returned for a profile that isn't on this computer.
var ErrNoProfile = errors.New("there is no such profile on this computer")

// Device is this computer's set of profiles. It is safe for concurrent use.
type Device struct {
	ports         Ports
	stores        *stores
	vaults        *vaults
	attempts      *attempts
	writes        profileWrites
	boot          string // names the start of the computer; where it doesn't tell, that of the program
	introductions *introductions
	seeker        seeker
	opening       sync.Mutex     // held while a vault is opened: each is opened once
	tasks         sync.WaitGroup // what is done beside open vaults; each ends soon after its vault is locked
	atIt          atomic.Bool
	closeGrace    time.Duration
}

// New returns a device over its ports.
func New(p Ports) *Device {
	return &Device{
		ports: p, stores: &stores{from: p.Stores, open: map[string]Store{}}, vaults: &vaults{held: map[string]*Vault{}},
		boot:          cmp.Or(p.Boot, rand.Text()),
		attempts:      &attempts{now: p.Now, of: map[string]*attempt{}},
		introductions: &introductions{waiting: map[string]*Introduction{}}, closeGrace: closeGrace,
	}
}

// Run locks vaults that were not used for their time, and all of them after the
// computer slept or its screen was locked, until ctx ends. It writes the backups that are due. Call it once.
func (d *Device) Run(ctx context.Context) {
	if d.ports.WatchSession != nil {
		go d.ports.WatchSession(ctx, d.sessionEvents())
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	last := d.ports.Now()
	minutes := time.NewTicker(time.Minute)
	defer minutes.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			now := d.ports.Now()
			d.lockUnused(now, last)
			last = now
		case <-minutes.C:
			go d.eachMinute(ctx)
		}
	}
}

// eachMinute writes the backups that are due and asks for leaks, unless it is at it already.
func (d *Device) eachMinute(ctx context.Context) {
	if !d.atIt.CompareAndSwap(false, true) {
		return
	}
	defer d.atIt.Store(false)
	for _, v := range d.vaults.list() { // what went wrong is kept, and shown
		_ = v.Backups.WriteIfDue(ctx)
		_ = v.Auditing.WatchIfDue(ctx)
	}
}

func (d *Device) lockUnused(now, last time.Time) {
	// Wall clocks are compared: the monotonic one stands still in sleep.
	gap := now.Round(0).Sub(last.Round(0))
	slept := gap > sleepGap || gap < -sleepGap
	d.lockWhere(func(v *Vault) bool { return slept && v.Settings.Get().LockOnSleep || v.Left() <= 0 })
}

// LockAll locks every vault.
func (d *Device) LockAll() { d.lockWhere(func(*Vault) bool { return true }) }

// lockWhere locks the vaults of which something is true.
func (d *Device) lockWhere(is func(*Vault) bool) {
	for _, v := range d.vaults.list() {
		if is(v) {
			v.Lock()
		}
	}
}

// sessionEvents locks what is to be locked when the session's screen is locked, or the computer goes to sleep.
func (d *Device) sessionEvents() SessionEvents {
	return SessionEvents{
		Open:     func() bool { return len(d.vaults.list()) > 0 },
		Locked:   func() { d.lockWhere(func(v *Vault) bool { return v.Settings.Get().LockOnScreen }) },
		Sleeping: func() { d.lockWhere(func(v *Vault) bool { return v.Settings.Get().LockOnSleep }) },
	}
}

// Close locks every vault and closes every store.
func (d *Device) Close() error {
	d.LockAll()
	d.tasks.Wait()
	return d.stores.closeAll()
}

// Profiles returns this computer's profiles, by name.
func (d *Device) Profiles(ctx context.Context) ([]Profile, error) {
	ids, err := d.stores.ids(ctx)
	if err != nil {
		return nil, err
	}
	var out []Profile
	for _, id := range ids {
		p, err := d.Profile(ctx, id)
		if errors.Is(err, ErrNoProfile) { // it was taken off meanwhile
			continue
		}
		if err != nil && ctx.Err() == nil { // one bad file keeps nobody else out
			out = append(out, Profile{ID: id, Broken: err})
			continue
		}
		if err != nil {
			return nil, err
		}
		if p.Leaving {
			if _, held := d.vaults.holds(id); !held { // the program ended in the middle
				err = d.stores.remove(ctx, id)
			}
			if err != nil {
				return nil, err
			}
			continue
		}
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Profile) int { return strings.Compare(a.Name+a.ID, b.Name+b.ID) })
	return out, nil
}

// Profile returns one profile. The error is ErrNoProfile if there is none.
func (d *Device) Profile(ctx context.Context, id string) (Profile, error) {
	s, err := d.stores.get(ctx, id)
	if err != nil {
		return Profile{}, err
	}
	return s.Profile(ctx)
}

// Vault returns a profile's vault if it is open.
func (d *Device) Vault(profile string) (*Vault, bool) { return d.vaults.get(profile) }

// vaults are those that are open, and those that aren't done with closing.
type vaults struct {
	mu   sync.Mutex // guards held
	held map[string]*Vault
}

// get returns a profile's vault if it is open.
func (l *vaults) get(profile string) (*Vault, bool) {
	v, ok := l.holds(profile)
	if !ok || v.Locked() {
		return nil, false
	}
	return v, true
}

// holds returns a profile's vault also while it closes.
func (l *vaults) holds(profile string) (*Vault, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	v, ok := l.held[profile]
	return v, ok
}

// closed waits until a profile's vault that is closing has kept what it keeps.
func (l *vaults) closed(profile string) {
	if v, ok := l.holds(profile); ok && v.Locked() {
		<-v.closed
	}
}

// list returns those that are held.
func (l *vaults) list() (out []*Vault) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, v := range l.held {
		out = append(out, v)
	}
	return out
}

func (l *vaults) add(v *Vault) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.held[v.Profile().ID] = v
}

func (l *vaults) remove(v *Vault) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if id := v.Profile().ID; l.held[id] == v {
		delete(l.held, id)
	}
}

// Folders are where scheduled backups are written.
type Folders = importing.Folders

// Package app is the device application: the profiles of this computer, their
// open vaults, and everything a person can do with them.
//
// A [Device] knows its profiles. [Device.Create], [Device.Join] and
// [Device.Unlock] give a [Vault], which lives in memory until it is locked, by
// hand, after a time without use, or because the computer slept. Each open vault
// keeps itself in step with its cloud, if it has one, and tells its listeners
// when something changed.
//
// The package holds no adapter: stores, the cloud's line and the browser's are
// handed in as [Ports]. It builds for js/wasm.
package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/strength"
)

// DefaultLockAfter is how long a vault stays open without use.
const DefaultLockAfter = 5 * time.Minute

// sleepGap is a jump of the clock that only sleep, or a stopped process,
// explains. The keeper looks every second.
const sleepGap = 15 * time.Second

// Errors of profiles and unlocking.
var (
	ErrNoProfile = errors.New("there is no such profile on this computer")
	ErrLocked    = errors.New("the vault is locked")
)

// WrongPassword is returned for a master password that opens nothing. Wait is
// how long the next attempt will be refused.
type WrongPassword struct{ Wait time.Duration }

func (e *WrongPassword) Error() string {
	if e.Wait > 0 {
		return fmt.Sprintf("that isn't the master password; wait %d seconds before the next try", int(e.Wait.Seconds()+.99))
	}
	return "that isn't the master password"
}

// InputError is a refusal of what was typed, with the form's field it is about.
type InputError struct {
	Field string
	Err   error
}

func (e *InputError) Error() string { return e.Err.Error() }
func (e *InputError) Unwrap() error { return e.Err }

func badInput(field string, err error) error { return &InputError{field, err} }

// Device is this computer's set of profiles. It is safe for concurrent use.
type Device struct {
	p Ports

	mu       sync.Mutex
	stores   map[string]Store
	open     map[string]*Vault
	attempts map[string]*attempts
	waiting  map[string]*Introduction

	closeGrace time.Duration
	backing    atomic.Bool // backups are being written

	lightBackups bool // tests write backups with little work
}

type attempts struct {
	wrong int
	until time.Time
}

// New returns a device over its ports.
func New(p Ports) *Device {
	return &Device{p: p, stores: map[string]Store{}, open: map[string]*Vault{}, attempts: map[string]*attempts{}, waiting: map[string]*Introduction{}, closeGrace: closeGrace}
}

// Run locks vaults that were not used for their time, and all of them after the
// computer slept, until ctx ends. Run it once.
func (d *Device) Run(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	last := d.p.Now()
	backups := time.NewTicker(time.Minute)
	defer backups.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			now := d.p.Now()
			d.look(now, last)
			last = now
		case <-backups.C:
			go d.backUp(ctx)
		}
	}
}

// backUp writes the backups that are due, unless it is at it already.
func (d *Device) backUp(ctx context.Context) {
	if !d.backing.CompareAndSwap(false, true) {
		return
	}
	defer d.backing.Store(false)
	for _, v := range d.OpenVaults() {
		_ = v.BackUpIfDue(ctx) // what went wrong is kept with the plan, and shown
	}
}

func (d *Device) look(now, last time.Time) {
	// Wall clocks are compared: the monotonic one stands still in sleep.
	gap := now.Round(0).Sub(last.Round(0))
	slept := gap > sleepGap || gap < -sleepGap
	for _, v := range d.OpenVaults() {
		if slept && v.Settings().LockOnSleep || v.Left() <= 0 {
			v.Lock()
		}
	}
}

// OpenVaults returns the vaults that are open now.
func (d *Device) OpenVaults() []*Vault {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []*Vault
	for _, v := range d.open {
		out = append(out, v)
	}
	return out
}

// Close locks every vault and closes every store.
func (d *Device) Close() error {
	for _, v := range d.OpenVaults() {
		v.Lock()
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	var err error
	for _, s := range d.stores {
		err = errors.Join(err, s.Close())
	}
	d.stores = map[string]Store{}
	return err
}

// Profiles returns the cards of this computer's profiles, by name.
func (d *Device) Profiles(ctx context.Context) ([]Profile, error) {
	ids, err := d.p.Stores.List(ctx)
	if err != nil {
		return nil, fmt.Errorf("failed to list the profiles: %w", err)
	}
	var out []Profile
	for _, id := range ids {
		c, err := d.Profile(ctx, id)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b Profile) int { return strings.Compare(a.Name+a.ID, b.Name+b.ID) })
	return out, nil
}

// Profile returns one card.
func (d *Device) Profile(ctx context.Context, id string) (Profile, error) {
	s, err := d.store(ctx, id)
	if err != nil {
		return Profile{}, err
	}
	return s.Profile(ctx)
}

func (d *Device) store(ctx context.Context, id string) (Store, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if s, ok := d.stores[id]; ok {
		return s, nil
	}
	s, err := d.p.Stores.Open(ctx, id)
	if err != nil {
		return nil, err
	}
	d.stores[id] = s
	return s, nil
}

// Vault returns a profile's vault if it is open.
func (d *Device) Vault(profile string) (*Vault, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	v, ok := d.open[profile]
	return v, ok
}

// NewVault is what a person gives to create a vault.
type NewVault struct {
	Name, Email      string
	Password, Repeat secret.Text
	Cloud            string // empty: on this computer only
	DeviceName       string
}

// Create makes a vault, with its account at the cloud if one is named. The vault
// comes back open, with its recovery sheet waiting to be checked.
func (d *Device) Create(ctx context.Context, n NewVault) (*Vault, error) {
	n.Name, n.Email = strings.TrimSpace(n.Name), strings.ToLower(strings.TrimSpace(n.Email))
	if n.Name == "" {
		n.Name, _, _ = strings.Cut(n.Email, "@")
	}
	if !strings.Contains(strings.Trim(n.Email, "@"), "@") || strings.ContainsAny(n.Email, " \t,;<>") {
		return nil, badInput("email", errors.New("please give your e-mail address, like name@mail.example"))
	}
	if err := CheckNewMaster(n.Password, n.Repeat, n.Email, n.Name); err != nil {
		return nil, err
	}
	carried, err1 := keys.NewCode(d.p.Rand)
	recovery, err2 := keys.NewCode(d.p.Rand)
	vk, err3 := keys.NewVaultKey(d.p.Rand)
	seed, err4 := keys.NewCode(d.p.Rand)
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		return nil, err
	}
	card := Profile{
		ID: uuid.NewString(), Name: n.Name, Email: n.Email, Vault: uuid.NewString(), Device: uuid.NewString(),
		DeviceName: deviceName(n.DeviceName), Carried: carried[:], Seed: seed[:16],
	}
	cred, err := d.credentials(&card, n.Password, vk, carried, keys.DeriveRecovery(recovery))
	if err != nil {
		return nil, err
	}
	v := d.newVault(card, vk)
	err = d.install(ctx, v, func(s Store) error {
		return errors.Join(
			s.SetProfile(ctx, v.card),
			v.setLocal(ctx, s, localSignIn, cred.SignIn),
			v.setLocal(ctx, s, localRecoverySignIn, cred.RecoverySignIn),
			v.setLocal(ctx, s, localSheet, recovery[:]),
			v.putOwn(ctx, s, true),
		)
	})
	if err != nil {
		return nil, err
	}
	if n.Cloud == "" {
		v.start()
		return v, nil
	}
	// The computer before the cloud: a crash in between leaves a vault that can
	// still join, rather than an account that nobody can open.
	if err := v.JoinCloud(ctx, n.Cloud); err != nil {
		v.Lock()
		return nil, errors.Join(err, d.remove(ctx, v.card.ID))
	}
	return v, nil
}

func (d *Device) remove(ctx context.Context, profile string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if s, ok := d.stores[profile]; ok {
		delete(d.stores, profile)
		_ = s.Close()
	}
	return d.p.Stores.Remove(ctx, profile)
}

// CheckNewMaster judges a new master password and its repetition.
func CheckNewMaster(password, repeat secret.Text, context ...string) error {
	if err := strength.CheckMaster(password, context...); err != nil {
		return badInput("password", err)
	}
	if _, err := keys.Prepare(password); err != nil {
		return badInput("password", err)
	}
	if !password.Equal(repeat) {
		return badInput("repeat", errors.New("the two master passwords are not the same"))
	}
	return nil
}

func deviceName(s string) string {
	if s = strings.TrimSpace(s); s == "" {
		return "this computer"
	}
	r := []rune(s)
	return string(r[:min(len(r), 60)])
}

// install creates the profile's store and registers the vault as open.
func (d *Device) install(ctx context.Context, v *Vault, fill func(Store) error) error {
	s, err := d.p.Stores.Create(ctx, v.card.ID, fill)
	if err != nil {
		return fmt.Errorf("failed to set up the profile: %w", err)
	}
	v.store = s
	close(v.ready)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.stores[v.card.ID] = s
	d.open[v.card.ID] = v
	return nil
}

// Unlock opens a profile's vault. After three wrong master passwords each
// further attempt has to wait, from two seconds up to a minute.
func (d *Device) Unlock(ctx context.Context, profile string, password secret.Text) (*Vault, error) {
	s, err := d.store(ctx, profile)
	if err != nil {
		return nil, err
	}
	card, err := s.Profile(ctx)
	if err != nil {
		return nil, err
	}
	vk, err := d.unwrap(card, password)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	delete(d.attempts, profile)
	already := d.open[profile]
	d.mu.Unlock()
	if already != nil {
		already.confirmed()
		already.Touch()
		return already, nil
	}
	v, err := d.openVault(ctx, s, card, vk)
	if err == nil {
		v.confirmed()
	}
	return v, err
}

// unwrap opens the vault key of a card with the master password. Wrong ones are
// counted, and slowed down.
func (d *Device) unwrap(card Profile, password secret.Text) (vk keys.VaultKey, err error) {
	if err := d.admit(card.ID); err != nil {
		return vk, err
	}
	stretched, err := keys.Stretch(password, card.Params)
	if errors.Is(err, keys.ErrPassword) {
		return vk, d.refused(card.ID)
	} else if err != nil {
		return vk, err
	}
	pair := keys.Derive(stretched, keys.Code(card.Carried))
	if vk, err = keys.Unwrap(pair.Unlock, keys.ByMaster, card.Vault, card.Wrapped); err != nil {
		return vk, d.refused(card.ID)
	}
	return vk, nil
}

func (d *Device) openVault(ctx context.Context, s Store, card Profile, vk keys.VaultKey) (*Vault, error) {
	v := d.newVault(card, vk)
	v.store = s
	if card.Cloud != "" {
		c, err := d.p.Dial(card.Cloud)
		if err != nil {
			return nil, err
		}
		v.cloud = c
	}
	if err := v.load(ctx); err != nil {
		return nil, err
	}
	d.mu.Lock()
	if other := d.open[card.ID]; other != nil { // two tabs opened it at once
		d.mu.Unlock()
		return other, nil
	}
	d.open[card.ID] = v
	d.mu.Unlock()
	v.start()
	return v, nil
}

func (d *Device) admit(profile string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if a := d.attempts[profile]; a != nil {
		if wait := a.until.Sub(d.p.Now()); wait > 0 {
			return &WrongPassword{wait}
		}
	}
	return nil
}

func (d *Device) refused(profile string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	a := d.attempts[profile]
	if a == nil {
		a = &attempts{}
		d.attempts[profile] = a
	}
	a.wrong++
	var wait time.Duration
	if a.wrong >= 3 {
		wait = min(time.Minute, time.Second<<min(a.wrong-2, 6))
		a.until = d.p.Now().Add(wait)
	}
	return &WrongPassword{wait}
}

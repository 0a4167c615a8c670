package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/strength"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// WrongPassword is returned for a master password that opens nothing. Wait is
// how long the next attempt will be refused.
type WrongPassword struct{ Wait time.Duration }

func (e *WrongPassword) Error() string {
	if e.Wait > 0 {
		seconds := int(e.Wait.Seconds() + .99)
		return fmt.Sprintf("that isn't the master password; wait %d seconds before the next try", seconds)
	}
	return "that isn't the master password"
}

// NewVault is what a person gives to create a vault.
type NewVault struct {
	Name, Email      string
	Password, Repeat secret.Text
	Cloud            string // empty: on this computer only
	DeviceName       string
	FirstDay         bool // its user is led through setting it up: see [Account.FirstDay]
}

// The errors of what was typed for a new vault.
var (
	ErrEmail  = errors.New("please give your e-mail address, like name@mail.example")
	ErrRepeat = errors.New("the two are not the same")
)

// CheckEmail judges an e-mail address as it is typed.
func CheckEmail(email string) error {
	email = strings.TrimSpace(email)
	if !strings.Contains(strings.Trim(email, "@"), "@") || strings.ContainsAny(email, " \t,;<>") {
		return records.BadInput("email", ErrEmail)
	}
	return nil
}

// Create makes a vault, with its account at the cloud if one is named. The vault
// comes back open, with its recovery sheet waiting to be checked. Where the cloud wants an invitation or mails a code
// first, the vault is on this computer only until [Account.JoinCloud] has it; [Account.Wanted] tells.
func (d *Device) Create(ctx context.Context, n NewVault) (*Vault, error) {
	n.Name, n.Email = strings.TrimSpace(n.Name), strings.ToLower(strings.TrimSpace(n.Email))
	if n.Name == "" {
		n.Name, _, _ = strings.Cut(n.Email, "@")
	}
	if err := CheckEmail(n.Email); err != nil {
		return nil, err
	}
	if err := CheckNewMaster(n.Password, n.Repeat, n.Email, n.Name); err != nil {
		return nil, err
	}
	carried, err1 := keys.NewCode(d.ports.Rand)
	recovery, err2 := keys.NewCode(d.ports.Rand)
	fresh, err3 := keys.NewVaultKey(d.ports.Rand)
	seed, err4 := keys.NewCode(d.ports.Rand)
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		return nil, err
	}
	p := Profile{
		ID: uuid.NewString(), Name: n.Name, Email: n.Email, Vault: uuid.NewString(), Device: uuid.NewString(),
		DeviceName: d.deviceName(n.DeviceName), Carried: carried[:], Seed: seed[:16],
	}
	ring := keys.NewRing(fresh)
	sheet, err := keys.DeriveRecovery(recovery)
	if err != nil {
		return nil, err
	}
	o := opened{ring: ring, kept: keys.Kept{Carried: carried}}
	if _, err := d.credentials(&p, n.Password, &o, sheet.Public()); err != nil {
		return nil, err
	}
	s, err := d.stores.create(ctx, p.ID, func(s Store) error {
		set := records.NewEmpty(d.setConfig(p, s, ring), records.Checkpoint{})
		own, err1 := d.deviceEntry(ctx, p, set)
		by := set.Items.Stamp()
		p.CardAt, p.CardBy = by.At, by.By // what it is opened by is the card that it tells
		profile, err2 := profileEntry(p, by, sheet.Public())
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		var first FirstDay
		if n.FirstDay {
			first.Now = FirstSheet
		}
		return errors.Join(
			s.SetProfile(ctx, p),
			set.Local.SetJSON(ctx, localFirst, first),
			set.Local.Set(ctx, localSignIn, o.pair.SignIn[:]),
			set.Local.Set(ctx, localSheet, recovery[:]),
			set.Replica.SetUp(ctx, own, profile),
		)
	})
	if err != nil {
		return nil, err
	}
	v, err := d.openVault(ctx, s, p, ring, &o.pair)
	if err != nil || n.Cloud == "" {
		return v, err
	}
	// The computer before the cloud: a crash in between leaves a vault that can
	// still join, rather than an account that nobody can open.
	err = v.Account.JoinCloud(ctx, n.Cloud, wire.Admission{})
	if errors.Is(err, ErrCodeSent) || errors.Is(err, syncing.ErrInvitation) {
		return v, nil
	}
	if err != nil {
		v.Lock()
		return nil, errors.Join(err, d.stores.remove(ctx, p.ID))
	}
	return v, nil
}

// deviceEntry is the record of this device, with keys of its own that are drawn now.
func (d *Device) deviceEntry(ctx context.Context, p Profile, set *records.Set) (vault.Entry, error) {
	public, err := set.Local.MakeDeviceKeys(ctx)
	if err != nil {
		return vault.Entry{}, err
	}
	b, err := json.Marshal(public)
	if err != nil {
		return vault.Entry{}, err
	}
	return vault.New(p.Device, vault.TypeDevice, set.Items.Stamp(), vault.Changes{
		vault.FieldName: p.DeviceName, vault.FieldPlatform: d.ports.Platform, vault.FieldKeys: string(b),
	})
}

// profileEntry is the record of the person.
func profileEntry(p Profile, by vault.Stamp, recovery keys.RecoveryPublic) (vault.Entry, error) {
	b, err1 := json.Marshal(recovery)
	c, err2 := json.Marshal(card{p.Params, p.Wrapped, p.Ring})
	if err := errors.Join(err1, err2); err != nil {
		return vault.Entry{}, err
	}
	return vault.New(p.Vault, vault.TypeProfile, by, vault.Changes{
		vault.FieldName: p.Name, vault.FieldSeed: fmt.Sprintf("%x", p.Seed), vault.FieldRecovery: string(b),
		vault.FieldCarried: fmt.Sprintf("%x", p.Carried), vault.FieldCard: string(c),
	})
}

// CheckNewMaster judges a new master password and its repetition.
func CheckNewMaster(password, repeat secret.Text, context ...string) error {
	if err := strength.CheckMaster(password, context...); err != nil {
		return records.BadInput("password", err)
	}
	if _, err := keys.Prepare(password); err != nil {
		return records.BadInput("password", err)
	}
	if !password.Equal(repeat) {
		return records.BadInput("repeat", ErrRepeat)
	}
	return nil
}

// maxDeviceName is the longest name of a device, in characters.
const maxDeviceName = 60

// deviceName is what a device is called on the person's others.
func (d *Device) deviceName(s string) string {
	return shortName(s, "a computer with "+d.ports.Platform)
}

// shortName is a name as it was typed, no longer than one may be; another one if it is empty.
func shortName(s, other string) string {
	r := []rune(strings.TrimSpace(s))
	return cmp.Or(string(r[:min(len(r), maxDeviceName)]), other)
}

// Unlock opens a profile's vault. After three wrong master passwords each
// further attempt has to wait, from two seconds up to a minute.
func (d *Device) Unlock(ctx context.Context, profile string, password secret.Text) (*Vault, error) {
	s, err := d.stores.get(ctx, profile)
	if err != nil {
		return nil, err
	}
	p, err := s.Profile(ctx)
	if err != nil {
		return nil, err
	}
	o, err := d.unwrap(p, password)
	if err != nil {
		return nil, err
	}
	v, err := d.opened(ctx, s, p, o.ring, &o.pair, func(p *Profile) { d.typedMaster(p, o.ring) })
	if err != nil {
		return nil, err
	}
	v.Guard.Given()
	if p.OfferDone { // there are authenticators, or were
		go func() { _ = v.ForgottenMaster.tellKeys(context.Background(), o.pair.SignIn) }() // or the next time
	}
	return v, nil
}

// opened returns a profile's vault, which it opens unless it is open, and notes something in the profile. A note that
// can't be kept, as on a full disk, keeps nobody out. A vault that shows something else than this passphrase does, or
// the authenticator, is locked first: no browser gets more than what it has shown.
func (d *Device) opened(
	ctx context.Context, s Store, p Profile, ring keys.Ring, by *keys.Pair, note func(*Profile),
) (v *Vault, err error) {
	v, open := d.vaults.get(p.ID)
	if open && v.Cover.On() != (by != nil && v.Cover.Opens(*by)) {
		v.Lock()
		open = false
	}
	if open {
		_ = v.identity.update(ctx, note)
	} else {
		_, _ = d.writes.update(ctx, s, note)
		note(&p)
		if v, err = d.openVault(ctx, s, p, ring, by); err != nil {
			return nil, err
		}
	}
	v.Touch()
	return v, nil
}

// opened is what a master password opened of a profile.
type opened struct {
	pair keys.Pair // that it derives
	slot int
	ring keys.Ring
	kept keys.Kept
}

// allCarried returns the carried halves that a passphrase may open with, the one in force first.
func (p Profile) allCarried() (list []keys.Code) {
	for _, b := range append([][]byte{p.Carried}, p.CarriedBefore...) {
		if len(b) == keys.CodeSize {
			list = append(list, keys.Code(b))
		}
	}
	return list
}

// unwrap opens the vault keys of a profile with the master password. Wrong ones are counted, and slowed down.
func (d *Device) unwrap(p Profile, password secret.Text) (o opened, err error) {
	defer d.attempts.turn(p.ID)()
	if err := d.attempts.admit(p.ID); err != nil {
		return o, err
	}
	stretched, err := keys.Stretch(password, p.Params)
	if errors.Is(err, keys.ErrPassword) {
		return o, d.attempts.wrong(p.ID)
	} else if err != nil {
		return o, err
	}
	key, ok := o.open(p, stretched)
	if !ok {
		return o, d.attempts.wrong(p.ID)
	}
	d.attempts.right(p.ID)
	if o.ring, o.kept, err = keys.OpenRing(key, p.Vault, p.Ring); err != nil {
		return o, errDamagedKeys
	}
	return o, nil
}

// open opens what is wrapped in a profile by a stretched master password.
func (o *opened) open(p Profile, stretched keys.Stretched) (key keys.EpochKey, ok bool) {
	for _, carried := range p.allCarried() {
		pair := keys.Derive(stretched, carried)
		if key, slot, err := pair.Open(p.Vault, p.Wrapped); err == nil {
			o.pair, o.slot = pair, slot
			return key, true
		}
	}
	return key, false
}

// errDamagedKeys is returned where the master password is right, and what it should open isn't.
var errDamagedKeys = errors.New("the master password is right, but the vault’s keys on this computer are damaged: " +
	"bring the vault here again from its cloud")

// attempts counts wrong master passwords, by profile.
type attempts struct {
	now func() time.Time

	mu sync.Mutex // guards of
	of map[string]*attempt
}

type attempt struct {
	turn  sync.Mutex // held while one is tried: those made at once wait like those made one after the other
	wrong int
	until time.Time // no further one before
}

// freeAttempts is how many wrong master passwords nobody has to wait after.
const freeAttempts = 2

// turn waits until no other attempt at the profile is under way, and returns what ends this one.
func (a *attempts) turn(profile string) (done func()) {
	a.mu.Lock()
	last := a.at(profile)
	a.mu.Unlock()
	last.turn.Lock()
	return last.turn.Unlock
}

// at returns what is known of a profile's attempts. It is called with the lock held.
func (a *attempts) at(profile string) *attempt {
	if a.of[profile] == nil {
		a.of[profile] = &attempt{}
	}
	return a.of[profile]
}

func (a *attempts) admit(profile string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if last := a.of[profile]; last != nil {
		if wait := last.until.Sub(a.now()); wait > 0 {
			return &WrongPassword{wait}
		}
	}
	return nil
}

// wrong counts a wrong master password, and returns the error for it.
func (a *attempts) wrong(profile string) *WrongPassword {
	a.mu.Lock()
	defer a.mu.Unlock()
	last := a.at(profile)
	last.wrong++
	var wait time.Duration
	if n := last.wrong - freeAttempts; n > 0 {
		wait = min(time.Minute, time.Second<<min(n, 6))
		last.until = a.now().Add(wait)
	}
	return &WrongPassword{wait}
}

func (a *attempts) right(profile string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	last := a.at(profile)
	last.wrong, last.until = 0, time.Time{}
}

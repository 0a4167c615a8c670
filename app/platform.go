package app

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"time"

	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
)

// PlatformUnlock is a way to open a vault by the computer's own authenticator: a fingerprint, a face, a PIN. It is a
// WebAuthn credential whose answer to the salt (the extension "prf") opens the vault's key.
type PlatformUnlock struct {
	ID         []byte `json:"id"`         // of the credential
	Credential []byte `json:"credential"` // what its signatures are checked by, in the form of whoever checks them
	Salt       []byte `json:"salt"`       // 32 bytes
	Public     []byte `json:"public"`     // the vault's key is sealed to it
	Wrapped    []byte `json:"wrapped"`
	Epoch      uint32 `json:"epoch"` // of the wrapped key
	Late       []byte `json:"late"`  // public, of the key by which a new master password is asked for
	Slot       int    `json:"slot"`  // of the master password that it was set up with
	Name       string `json:"name"`
	Added      int64  `json:"added"` // milliseconds since 1970
}

// How long an authenticator serves after the master password was typed.
const (
	DefaultMasterDays = 14
	maxMasterDays     = 90
	maxUnlocks        = 8
	// offerAfter is how many openings it takes until an authenticator is offered.
	offerAfter = 2
	// clockBack is how far a computer's clock may go back without the master password being asked for.
	clockBack = 10 * time.Minute
)

// The errors of opening by an authenticator.
var (
	ErrMasterDue     = errors.New("it’s time to type the master password once")
	ErrPlatform      = errors.New("this doesn’t open the vault any more: type the master password, and set it up again")
	errManyUnlocks   = errors.New("there are eight already: end one that isn’t used")
	errHasUnlock     = errors.New("this is set up here already")
	errNoSuchUnlock  = errors.New("this was ended already")
	errMasterDays    = errors.New("between 1 and 90 days")
	errUnlockMissing = errors.New("the authenticator’s answer can’t be read")
)

// masterDue reports whether the master password has to be typed before an authenticator serves again.
func (d *Device) masterDue(p Profile) bool {
	days := p.MasterDays
	if days == 0 {
		days = DefaultMasterDays
	}
	since := d.ports.Now().Sub(time.UnixMilli(p.MasterAt))
	return since > time.Duration(days)*24*time.Hour || since < -clockBack ||
		p.AfterRestart && p.MasterBoot != d.boot
}

// typedMaster notes that the master password opened a vault just now.
func (d *Device) typedMaster(p *Profile, ring keys.Ring) {
	p.MasterAt, p.MasterBoot = d.ports.Now().UnixMilli(), d.boot
	p.Openings = min(p.Openings+1, offerAfter)
	p.rewrap(ring.Newest())
}

// rewrap seals the key of a later epoch for the authenticators.
func (p *Profile) rewrap(key keys.EpochKey) {
	p.Unlocks = slices.Clone(p.Unlocks)
	for i := range p.Unlocks {
		u := &p.Unlocks[i]
		if u.Epoch >= key.Epoch {
			continue
		}
		if wrapped, err := keys.WrapForPlatform(u.Public, p.Vault, key); err == nil {
			u.Wrapped, u.Epoch = wrapped, key.Epoch
		}
	}
}

// PlatformUnlocks returns what opens a profile's vault beside the master password. The error is ErrMasterDue if the
// master password has to be typed first.
func (d *Device) PlatformUnlocks(ctx context.Context, profile string) ([]PlatformUnlock, error) {
	s, err := d.stores.get(ctx, profile)
	if err != nil {
		return nil, err
	}
	p, err := s.Profile(ctx)
	if err != nil || len(p.Unlocks) == 0 {
		return nil, err
	}
	if d.masterDue(p) {
		return p.Unlocks, ErrMasterDue
	}
	return p.Unlocks, nil
}

// UnlockByPlatform opens a profile's vault by what an authenticator answered. The caller has checked that it was this
// credential, here and now, with its user verified; credential is what its next signature is checked by.
func (d *Device) UnlockByPlatform(
	ctx context.Context, profile string, id, credential []byte, prf [keys.PRFSize]byte,
) (*Vault, error) {
	s, err := d.stores.get(ctx, profile)
	if err != nil {
		return nil, err
	}
	p, err := s.Profile(ctx)
	if err != nil {
		return nil, err
	}
	if d.masterDue(p) {
		return nil, ErrMasterDue
	}
	key, _, err := p.byPlatform(id, prf)
	if err != nil {
		return nil, err
	}
	ring, _, err := keys.OpenRing(key, p.Vault, p.Ring)
	if err != nil { // of an epoch that began while this was set up
		return nil, ErrPlatform
	}
	note := func(p *Profile) {
		for i := range p.Unlocks {
			if bytes.Equal(p.Unlocks[i].ID, id) {
				p.Unlocks[i].Credential = credential
			}
		}
	}
	return d.opened(ctx, s, p, ring, nil, note)
}

// byPlatform opens the vault's key by an authenticator's answer, and returns the slot of the master password that it
// stands for. The error is ErrPlatform.
func (p Profile) byPlatform(id []byte, prf [keys.PRFSize]byte) (key keys.EpochKey, slot int, err error) {
	own, err := keys.DerivePlatform(prf)
	if err != nil {
		return key, 0, err
	}
	for _, u := range p.Unlocks {
		if bytes.Equal(u.ID, id) {
			if key, err := own.Unwrap(p.Vault, u.Wrapped); err == nil {
				return key, u.Slot, nil
			}
		}
	}
	return key, 0, ErrPlatform
}

// Authenticators are the ways in which this device opens the vault without its master password: a finger, a face, a
// PIN.
type Authenticators struct{ vault *Vault }

// AddPlatform sets an authenticator up: u has its ID, Credential, Salt and Name. It takes the master password.
func (at *Authenticators) Add(
	ctx context.Context, password secret.Text, u PlatformUnlock, prf [keys.PRFSize]byte,
) error {
	if prf == [keys.PRFSize]byte{} || len(u.ID) == 0 {
		return errUnlockMissing
	}
	own, err := keys.DerivePlatform(prf)
	if err != nil {
		return err
	}
	p, d := at.vault.Profile(), at.vault.device
	o, err := d.unwrap(p, password)
	if err != nil {
		return err
	}
	if len(p.Unlocks) >= maxUnlocks {
		return records.BadInput("unlock", errManyUnlocks)
	}
	if slices.ContainsFunc(p.Unlocks, func(o PlatformUnlock) bool { return bytes.Equal(o.ID, u.ID) }) {
		return records.BadInput("unlock", errHasUnlock)
	}
	u.Public, u.Late, u.Added, u.Slot = own.Public(), own.Late.Public(), d.ports.Now().UnixMilli(), o.slot
	u.Name = shortName(u.Name, "This computer")
	err = at.vault.identity.update(ctx, func(p *Profile) {
		p.Unlocks = append(slices.Clone(p.Unlocks), u)
		p.OfferDone = true
		d.typedMaster(p, o.ring)
	})
	if err == nil {
		_ = at.vault.ForgottenMaster.tellKeys(ctx, o.pair.SignIn) // told again at the next master password
		err = at.vault.Second.fingers(ctx)
	}
	return err
}

// EndPlatform ends an authenticator: from then on it opens nothing.
func (at *Authenticators) End(ctx context.Context, id []byte) error {
	found := false
	err := at.vault.identity.update(ctx, func(p *Profile) {
		n := len(p.Unlocks)
		p.Unlocks = slices.DeleteFunc(slices.Clone(p.Unlocks), func(u PlatformUnlock) bool {
			return bytes.Equal(u.ID, id)
		})
		found = len(p.Unlocks) < n
	})
	if err == nil && !found {
		err = records.BadInput("unlock", errNoSuchUnlock)
	}
	return err
}

// SetMasterRule sets for how many days after the master password an authenticator serves, and whether the master
// password is asked for after each start of the computer.
func (at *Authenticators) SetMasterRule(ctx context.Context, days int, afterRestart bool) error {
	if days < 1 || days > maxMasterDays {
		return records.BadInput("master-days", errMasterDays)
	}
	return at.vault.identity.update(ctx, func(p *Profile) { p.MasterDays, p.AfterRestart = days, afterRestart })
}

// OffersPlatform reports whether an authenticator is to be offered: once, after the second opening.
func (at *Authenticators) Offers() bool {
	p := at.vault.Profile()
	return !p.OfferDone && len(p.Unlocks) == 0 && p.Openings >= offerAfter
}

// AnswerOffer notes that the offer was answered.
func (at *Authenticators) AnswerOffer(ctx context.Context) error {
	return at.vault.identity.update(ctx, func(p *Profile) { p.OfferDone = true })
}

// GivenByPlatform takes an authenticator's answer in the place of the master password, where that is asked for again.
func (at *Authenticators) Given(id []byte, prf [keys.PRFSize]byte) error {
	p := at.vault.Profile()
	if at.vault.device.masterDue(p) {
		return ErrMasterDue
	}
	if _, _, err := p.byPlatform(id, prf); err != nil {
		return err
	}
	at.vault.Guard.Given()
	return nil
}

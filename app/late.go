package app

import (
	"context"
	"errors"
	"sync"
	"time"

	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// A master password that is forgotten is replaced on a device that still opens by its authenticator: it answers, a new
// one is typed, and after an hour's wait it answers once more. Where there is a cloud, it is the cloud that has it
// wait, tells every device, and lets any of them stop it: a program on this one can't go faster.

// localLate keeps what waits on this device.
const localLate = "late"

// lateMaster is a new master password that waits.
type lateMaster struct {
	Params  keys.Params `json:"params"`
	Wrapped []byte      `json:"wrapped"`
	Ring    []byte      `json:"ring"`
	SignIn  []byte      `json:"sign_in"` // public, of all slots
	Due     int64       `json:"due"`
	Private []byte      `json:"private,omitempty"` // of a vault without a cloud, as [keepSignIn] keeps it
}

// LateWait is how long a new master password waits on a vault without a cloud.
const LateWait = time.Hour

// NewMaster is a new master password that waits because the present one is forgotten.
type NewMaster struct {
	Waits  bool
	Here   bool // it was asked for on this device, and is finished here
	Device string
	Left   time.Duration // until it can be brought into force, by this device's clock
}

// Ready reports whether it can be brought into force here.
func (n NewMaster) Ready() bool { return n.Here && n.Left <= 0 }

// The errors of replacing a forgotten master password.
var (
	errLateOver  = errors.New("nothing waits here: it was stopped, or something else was changed since; begin again")
	errLateKnown = errors.New("the cloud doesn’t know this authenticator yet: " +
		"that takes the present master password once, so only the recovery sheet helps now")
)

// ForgottenMaster is how a master password that was forgotten is replaced, after a wait, on a device that still opens
// in another way.
type ForgottenMaster struct {
	vault   *Vault
	telling sync.Mutex // held while the cloud is told of late keys: what was told last is what is so
}

// tellLateKeys tells the cloud by which keys this device's authenticators may ask.
func (f *ForgottenMaster) tellKeys(ctx context.Context, signIn keys.Key) error {
	cloud := f.vault.Account.at()
	if cloud == nil {
		return nil
	}
	f.telling.Lock()
	defer f.telling.Unlock()
	credential, err := f.vault.Sync.Credential(ctx)
	if err != nil {
		return err
	}
	var publics [][]byte
	for _, u := range f.vault.Profile().Unlocks {
		if len(u.Late) == keys.PublicSize {
			publics = append(publics, u.Late)
		}
	}
	return cloud.SetLateKeys(ctx, credential, signIn, publics)
}

// NewMaster tells whether a new master password waits. Devices of an account ask its cloud.
func (f *ForgottenMaster) State(ctx context.Context) (n NewMaster, err error) {
	own, err := f.here(ctx)
	if err != nil {
		return n, err
	}
	p, cloud := f.vault.Profile(), f.vault.Account.at()
	if cloud == nil {
		n = NewMaster{Waits: own != nil, Here: own != nil, Device: p.DeviceName}
		if own != nil {
			n.Left = time.UnixMilli(own.Due).Sub(f.vault.device.ports.Now())
		}
		return n, nil
	}
	credential, err := f.vault.Sync.Credential(ctx)
	if err != nil {
		return n, err
	}
	l, err := cloud.Late(ctx, credential)
	if err != nil || l.Device == "" {
		return n, err
	}
	n = NewMaster{
		Waits: true, Here: l.Device == p.Device && own != nil, Device: "a device",
		Left: time.UnixMilli(l.Due).Sub(f.vault.device.ports.Now()),
	}
	if e, err := f.vault.Items.Entry(l.Device); err == nil {
		n.Device = shortName(e.Text(vault.FieldName), n.Device)
	}
	return n, nil
}

func (f *ForgottenMaster) here(ctx context.Context) (*lateMaster, error) {
	var l *lateMaster
	return l, f.vault.Local.GetJSON(ctx, localLate, &l)
}

// AskNewMaster has a new master password wait, by what an authenticator answered just now.
func (f *ForgottenMaster) Ask(
	ctx context.Context, id []byte, prf [keys.PRFSize]byte, fresh, repeat secret.Text,
) error {
	d, p := f.vault.device, f.vault.Profile()
	key, slot, err := p.byPlatform(id, prf)
	if err != nil {
		return err
	}
	own, err := keys.DerivePlatform(prf)
	if err != nil {
		return err
	}
	if err := CheckNewMaster(fresh, repeat, p.Email, p.Name); err != nil {
		return err
	}
	o := opened{slot: slot}
	if o.ring, o.kept, err = keys.OpenRing(key, p.Vault, p.Ring); err != nil {
		return errDamagedKeys
	}
	if err := d.byMaster(&p, fresh, &o); err != nil {
		return err
	}
	l := lateMaster{
		Params: p.Params, Wrapped: p.Wrapped, Ring: p.Ring, SignIn: o.kept.Locks.SignIn(),
		Due: d.ports.Now().Add(LateWait).UnixMilli(),
	}
	cloud := f.vault.Account.at()
	if cloud == nil {
		l.Private = o.pair.SignIn[:]
		return f.vault.Local.SetJSON(ctx, localLate, l)
	}
	credential, err := f.vault.Sync.Credential(ctx)
	if err != nil {
		return err
	}
	// Here first: what waits at the cloud alone could be finished by nobody.
	if err := f.vault.Local.SetJSON(ctx, localLate, l); err != nil {
		return err
	}
	in := wire.LateCredentials{Params: l.Params, SignIn: l.SignIn, Wrapped: l.Wrapped}
	_, err = cloud.AskLate(ctx, credential, own.Late, in)
	if errors.Is(err, syncing.ErrSignIn) {
		err = records.BadInput("late", errLateKnown)
	}
	if errors.Is(err, syncing.ErrWaits) {
		err = records.BadInput("late", err)
	}
	if err != nil {
		err = errors.Join(err, f.vault.Local.Set(ctx, localLate, nil))
	}
	return err
}

// StopNewMaster stops what waits, on whichever device it was asked for.
func (f *ForgottenMaster) Stop(ctx context.Context) error {
	if cloud := f.vault.Account.at(); cloud != nil {
		credential, err := f.vault.Sync.Credential(ctx)
		if err != nil {
			return err
		}
		if err := cloud.StopLate(ctx, credential); err != nil {
			return err
		}
	}
	return f.vault.Local.Set(ctx, localLate, nil)
}

// TakeNewMaster brings the new master password into force once it has waited, by what an authenticator answered just
// now. The cloud comes first; after a lost answer the same can be asked again.
func (f *ForgottenMaster) Take(ctx context.Context, id []byte, prf [keys.PRFSize]byte) error {
	d, p := f.vault.device, f.vault.Profile()
	if _, _, err := p.byPlatform(id, prf); err != nil {
		return err
	}
	own, err1 := keys.DerivePlatform(prf)
	ring, err2 := f.vault.Replica.Ring()
	l, err3 := f.here(ctx)
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	if l == nil || keys.WrappedEpoch(l.Wrapped) != ring.Newest().Epoch {
		return records.BadInput("late", errLateOver)
	}
	if cloud := f.vault.Account.at(); cloud != nil {
		credential, err := f.vault.Sync.Credential(ctx)
		if err != nil {
			return err
		}
		err = cloud.TakeLate(ctx, credential, own.Late, wire.TakeLate{SignIn: l.SignIn})
		if errors.Is(err, syncing.ErrOver) {
			err = errors.Join(records.BadInput("late", errLateOver), f.vault.Local.Set(ctx, localLate, nil))
		}
		if errors.Is(err, syncing.ErrEarly) {
			err = records.BadInput("late", err)
		}
		if err != nil {
			return err
		}
	} else if d.ports.Now().UnixMilli() < l.Due {
		return records.BadInput("late", syncing.ErrEarly)
	}
	var signIn keys.Key
	copy(signIn[:], l.Private)
	if err := f.vault.Account.haveMaster(ctx, card{l.Params, l.Wrapped, l.Ring}, signIn); err != nil {
		return err
	}
	return f.vault.Local.Set(ctx, localLate, nil)
}

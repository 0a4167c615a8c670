package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// errFalseEpoch refuses a later epoch that no device of the vault can have begun.
var errFalseEpoch = &ledger.Fault{
	Kind:   ledger.BadEpoch,
	Detail: "it says that another device changed the vault’s key, and none that is known here did",
}

// ringOf opens the keys of all epochs, given the newest one: as the profile has them or, where that is older, as the
// cloud's statement has them. What it learns of the carried half and the ring it notes in the profile.
func ringOf(
	ctx context.Context, p *Profile, key keys.EpochKey, cloud Cloud, credential string,
) (ring keys.Ring, kept keys.Kept, err error) {
	if ring, kept, err = keys.OpenRing(key, p.Vault, p.Ring); err != nil {
		if cloud == nil {
			return ring, kept, errDamagedKeys
		}
		s, err := cloud.Epoch(ctx, credential)
		if err != nil {
			return ring, kept, err
		}
		e, err := s.Read()
		if err != nil {
			return ring, kept, errFalseEpoch
		}
		if ring, kept, err = keys.OpenRing(key, p.Vault, e.Ring); err != nil {
			return ring, kept, errFalseEpoch
		}
		p.Ring, p.EpochBy, p.EpochAt = e.Ring, e.By, e.At
	}
	p.carry(kept.Carried)
	return ring, kept, nil
}

// turn reads the statement that began a later epoch: it has to bring this device the key, and a device that is in the
// vault, as it is once everything is pulled, has to have signed it.
func (a *Account) turn(ctx context.Context, s keys.Statement) (*records.Turn, error) {
	e, err := s.Read()
	p := a.vault.Profile()
	if err != nil || e.Vault != p.Vault || e.Params.Check() != nil || keys.WrappedEpoch(e.Wrapped) != e.Number {
		return nil, errFalseEpoch
	}
	sealed, ok := e.Keys[p.Device]
	if !ok {
		return nil, syncing.ErrSignedOut
	}
	own, err := a.vault.Local.DeviceKeys(ctx)
	if err != nil {
		return nil, err
	}
	key, err := own.Open(p.Vault, p.Device, sealed)
	if err != nil || key.Epoch != e.Number {
		return nil, errFalseEpoch
	}
	ring, kept, err := keys.OpenRing(key, p.Vault, e.Ring)
	if err != nil || kept.Locks.Check() != nil {
		return nil, errFalseEpoch
	}
	known, err := a.vault.Replica.Ring()
	if err != nil {
		return nil, err
	}
	if !ring.Extends(known) {
		return nil, errFalseEpoch
	}
	if err := a.keepFormer(ctx); err != nil {
		return nil, err
	}
	return &records.Turn{Ring: ring, Accept: func(device func(string) (vault.Entry, bool)) error {
		by, _ := device(e.By)
		public, ok := records.PublicOf(by)
		if !ok || by.Text(vault.FieldOut) != "" || !s.Holds(public) {
			return errFalseEpoch
		}
		return a.enter(ctx, e, ring, kept.Carried)
	}}, nil
}

// enter keeps what opens the vault in a later epoch. The records follow; until they do, the older keys are in its ring.
func (a *Account) enter(ctx context.Context, e keys.Epoch, ring keys.Ring, carried keys.Code) error {
	return a.vault.identity.update(ctx, func(p *Profile) {
		if keys.WrappedEpoch(p.Wrapped) >= e.Number {
			return
		}
		p.take(card{e.Params, e.Wrapped, e.Ring})
		p.carry(carried)
		p.EpochBy, p.EpochAt, p.EpochOut = e.By, e.At, nil
		p.rewrap(ring.Newest())
		if e.By == p.Device {
			p.EpochOut = e.Out
		}
	})
}

// finish does what is left to do for an epoch that this device began: also if the cloud's answer was lost then, or the
// program ended. And a device that was shut out and let in again is one of the person's devices as before.
func (a *Account) finish(ctx context.Context) error {
	p := a.vault.Profile()
	own, err := a.vault.Items.Entry(p.Device)
	if err != nil {
		return err
	}
	if own.Text(vault.FieldOut) != "" {
		if err := a.noteOut(ctx, p.Device, ""); err != nil {
			return err
		}
	}
	if err := a.saw(ctx, own); err != nil {
		return err
	}
	if len(p.EpochOut) == 0 {
		return nil
	}
	at := strconv.FormatInt(a.vault.device.ports.Now().UnixMilli(), 10)
	for _, device := range p.EpochOut {
		if err := a.noteOut(ctx, device, at); err != nil {
			return err
		}
	}
	return errors.Join(a.tellCard(ctx), a.NewSheet(ctx), a.vault.identity.update(ctx, func(p *Profile) {
		p.EpochOut = nil
	}))
}

// sawEvery is how often a device says what it saw.
const sawEvery = 24 * time.Hour

// saw writes into this device's record, once a day, which head is the newest that it knows: so the others know that it
// is there, by its own word, and what it has seen.
func (a *Account) saw(ctx context.Context, own vault.Entry) error {
	r := own.Fields[vault.FieldSaw]
	if a.vault.device.ports.Now().Sub(time.UnixMilli(max(r.Stamp.At, own.Created))) < sawEvery {
		return nil
	}
	at, err := a.vault.Replica.Checkpoint()
	if err != nil {
		return err
	}
	return a.vault.Items.Edit(ctx, own.ID, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FieldSaw: strconv.FormatUint(at.Number, 10)})
	})
}

// resealAfter is when another device than the one that began an epoch seals old records anew: that one isn't there.
const resealAfter = 10 * time.Minute

// reseals says whether this device seals old records anew.
func (v *Vault) reseals() bool {
	p := v.Profile()
	return p.EpochBy == p.Device || v.device.ports.Now().Sub(time.UnixMilli(p.EpochAt)) > resealAfter
}

// OldKeys returns how many records are yet to be sealed under the vault's newest key.
func (a *Account) OldKeys() int { return a.vault.Replica.OldKeys() }

// newEpoch is what an epoch is begun with.
type newEpoch struct {
	password secret.Text
	out      []string      // devices that are shut out; the carried half is another one then
	fresh    bool          // what the cloud has counts no more
	former   *formerOpened // in the place of what opens the vault now; it alone does from then on
}

// errMasterElsewhere is returned where the cloud knows another master password than this device.
var errMasterElsewhere = errors.New("the cloud takes another master password: it was changed on another device, or " +
	"the cloud was set back to before it was changed")

// begin begins an epoch. The cloud comes first: should it refuse or be away, everything stays as it was. If its answer
// is lost, this device finds the epoch at the cloud like all others.
func (a *Account) begin(ctx context.Context, n newEpoch) error {
	const turns = 5
	for range turns {
		before, err := a.vault.Replica.Ring()
		if err != nil {
			return err
		}
		p := a.vault.Profile()
		o, err := a.openedFor(n, &p)
		if err != nil {
			return err
		}
		a.vault.Guard.Given()
		if !n.fresh {
			if err := a.vault.Sync.Sync(ctx); err != nil {
				return err
			}
		}
		err = a.vault.Sync.Alone(ctx, func() error { return a.tryBegin(ctx, n, p, o) })
		if !errors.Is(err, syncing.ErrSignIn) && !errors.Is(err, syncing.ErrConflict) {
			return err
		}
		later, e := a.becameLater(ctx, before)
		switch {
		case later && n.fresh: // another device did it
			return nil
		case later || errors.Is(err, syncing.ErrConflict) && !n.fresh:
			continue
		case errors.Is(err, syncing.ErrSignIn):
			return errMasterElsewhere
		}
		return errors.Join(e, err)
	}
	return syncing.ErrConflict
}

// openedFor returns what an epoch is begun with, of a profile.
func (a *Account) openedFor(n newEpoch, p *Profile) (o opened, err error) {
	d := a.vault.device
	if n.former == nil {
		return d.unwrap(*p, n.password)
	}
	p.Params, o.kept.Carried = n.former.keys.Params, keys.Code(n.former.keys.Carried)
	o.pair.SignIn = n.former.signIn
	if o.kept.Locks, err = keys.NewLocks(d.ports.Rand); err == nil {
		o.slot, err = keys.AnySlot(d.ports.Rand)
	}
	return o, err
}

// becameLater pulls, and reports whether another device's epoch came since the ring was this one: with that, or with
// what the line pulled meanwhile.
func (a *Account) becameLater(ctx context.Context, before keys.Ring) (bool, error) {
	if err := a.vault.Sync.Sync(ctx); err != nil {
		return false, err
	}
	now, err := a.vault.Replica.Ring()
	return now.Extends(before), err
}

// tryBegin begins an epoch with what the master password opened of a profile.
func (a *Account) tryBegin(ctx context.Context, n newEpoch, p Profile, o opened) error {
	d, cloud, signIn := a.vault.device, a.at(), o.pair.SignIn
	ring, err := a.nextRing(n)
	if err != nil {
		return err
	}
	o.ring = ring
	if len(n.out) > 0 {
		if o.kept.Carried, err = keys.NewCode(d.ports.Rand); err != nil {
			return err
		}
		if err := a.keepSecond(&o); err != nil {
			return err
		}
	}
	if err := d.byMaster(&p, n.password, &o); err != nil {
		return err
	}
	e := keys.Epoch{
		Number: ring.Epoch(), Vault: p.Vault, By: p.Device, At: d.ports.Now().UnixMilli(), Out: n.out,
		Params: p.Params, Wrapped: p.Wrapped, Ring: p.Ring,
	}
	if e.Keys, err = a.keysFor(ring.Newest(), p, n.out); err != nil {
		return err
	}
	own, err := a.vault.Local.DeviceKeys(ctx)
	if err != nil {
		return err
	}
	statement, err := own.SignEpoch(e)
	if err != nil {
		return err
	}
	recovery, err := a.recoveryPublic()
	if err != nil {
		return err
	}
	byRecovery, err := recovery.Wrap(p.Vault, ring.Newest())
	if err != nil {
		return err
	}
	commit, err := a.vault.Replica.Begin(ctx, ring)
	if err != nil {
		return err
	}
	credential, err := a.vault.Sync.Credential(ctx)
	if err != nil {
		return err
	}
	err = cloud.BeginEpoch(ctx, credential, signIn, wire.NewEpoch{
		Epoch: e.Number, Statement: statement, Out: n.out, Fresh: n.fresh, Commit: syncing.Message(commit),
		Credentials: wire.Credentials{
			Params: p.Params, SignIn: o.kept.Locks.SignIn(), Wrapped: p.Wrapped, RecoveryWrapped: byRecovery,
		},
	})
	if err != nil {
		return err
	}
	if err := errors.Join(a.enter(ctx, e, ring, o.kept.Carried), a.vault.Replica.Begun(ctx, ring, commit)); err != nil {
		return err
	}
	return a.tellCard(ctx)
}

// nextRing draws the key of the next epoch, which follows the state that this device knows.
func (a *Account) nextRing(n newEpoch) (keys.Ring, error) {
	now, err := a.vault.Replica.Ring()
	if err != nil {
		return now, err
	}
	at, err := a.vault.Replica.Checkpoint()
	if err != nil {
		return now, err
	}
	key, err := keys.NewVaultKey(a.vault.device.ports.Rand)
	return now.With(key, keys.Start{After: at.Number, Hash: at.Head, Fresh: n.fresh}), err
}

// keysFor seals an epoch's key to all devices but those that are shut out, now or before.
func (a *Account) keysFor(key keys.EpochKey, p Profile, out []string) (map[string][]byte, error) {
	entries, err := a.vault.Book.Entries(func(e vault.Entry) bool {
		return e.Type == vault.TypeDevice && e.Text(vault.FieldOut) == "" && !slices.Contains(out, e.ID)
	})
	if err != nil {
		return nil, err
	}
	sealed := map[string][]byte{}
	for _, e := range entries {
		public, ok := records.PublicOf(e)
		if !ok {
			continue
		}
		if sealed[e.ID], err = key.SealTo(public, p.Vault, e.ID); err != nil {
			return nil, err
		}
	}
	return sealed, nil
}

// recoveryPublic returns the public keys of the recovery code that is in force.
func (a *Account) recoveryPublic() (p keys.RecoveryPublic, err error) {
	e, err := a.vault.Items.Entry(a.vault.Profile().Vault)
	if err == nil {
		err = json.Unmarshal([]byte(e.Text(vault.FieldRecovery)), &p)
	}
	if err != nil {
		return p, fmt.Errorf("failed to read what the recovery code is known by: %w", err)
	}
	return p, nil
}

// The errors of shutting out.
var (
	errThisDevice = errors.New("this is the computer you are at")
	errNoDevice   = errors.New("this device isn’t there")
)

// ShutOut shuts a device out. Its session and its event stream end at once. The vault gets another key and the person
// another carried half, which every other device is told and that one isn't: what it has opens nothing of what comes
// after. A new recovery sheet waits to be printed; the old one's recovery code counts until that is checked.
func (a *Account) ShutOut(ctx context.Context, device string, password secret.Text) error {
	if device == a.vault.Profile().Device {
		return errThisDevice
	}
	if a.at() == nil {
		return errOnlyHere
	}
	list, _, err := a.Devices(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(k KnownDevice) bool { return k.ID == device })
	if i < 0 {
		return errNoDevice
	}
	if err := a.begin(ctx, newEpoch{password: password, out: []string{device}}); err != nil {
		return err
	}
	return a.finish(ctx)
}

// noteOut writes into a device's record when it was shut out.
func (a *Account) noteOut(ctx context.Context, device, at string) error {
	err := a.vault.Items.Edit(ctx, device, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FieldOut: at})
	})
	if errors.Is(err, records.ErrNoItem) { // a session that no device of the vault has
		return nil
	}
	return err
}

// Publish brings what this device has to a cloud that has lost something, or shows something else: nothing that it
// holds counts from then on, and every other device brings what it has besides. Nothing on any device is lost by it.
func (a *Account) Publish(ctx context.Context, password secret.Text) error {
	if a.at() == nil {
		return errOnlyHere
	}
	return a.begin(ctx, newEpoch{password: password, fresh: true})
}

// MoveCloud goes on at another cloud, or at one that knows nothing of this vault any more. If it has an account for the
// person's address and master password already, because another device was there first, that one is used.
func (a *Account) MoveCloud(ctx context.Context, url string, password secret.Text, by wire.Admission) error {
	p := a.vault.Profile()
	o, err := a.vault.device.unwrap(p, password)
	if err != nil {
		return records.BadInput("move-password", err)
	}
	c, err := a.vault.device.ports.Dial(url)
	if err != nil {
		return records.BadInput("move-cloud", err)
	}
	in, err := signInAt(ctx, c, p, password)
	made := errors.Is(err, syncing.ErrSignIn)
	if made {
		in.session, err = a.makeAccount(ctx, c, p, o.pair.SignIn, by)
	}
	if err := askMore(ctx, c, p.Email, by, "move-", err); err != nil {
		return err
	}
	if in.session.Vault != p.Vault {
		return records.BadInput("move-cloud", errOtherVault)
	}
	a.vault.Sync.Stop()
	defer a.vault.Sync.Start()
	if !made {
		if err := a.takeKeys(ctx, c, in); err != nil {
			return err
		}
	}
	if err := a.settle(ctx, url, c, in.session.Credential); err != nil {
		return err
	}
	if !made {
		return nil
	}
	return a.Publish(ctx, password)
}

// makeAccount makes an account for the vault as it is.
func (a *Account) makeAccount(
	ctx context.Context, c Cloud, p Profile, signIn keys.Key, by wire.Admission,
) (s Session, err error) {
	ring, err := a.vault.Replica.Ring()
	if err != nil {
		return s, err
	}
	recovery, err := a.recoveryPublic()
	if err != nil {
		return s, err
	}
	byRecovery, err := recovery.Wrap(p.Vault, ring.Newest())
	if err != nil {
		return s, err
	}
	_, kept, err := keys.OpenRing(ring.Newest(), p.Vault, p.Ring)
	if err != nil {
		return s, errDamagedKeys
	}
	return c.CreateAccount(ctx, signIn, wire.NewAccount{
		Email: p.Email, Vault: p.Vault, Device: p.Device, Admission: by,
		Credentials: wire.Credentials{
			Params: p.Params, SignIn: kept.Locks.SignIn(), RecoverySignIn: recovery.SignIn,
			Wrapped: p.Wrapped, RecoveryWrapped: byRecovery,
		},
	})
}

// settle has the vault belong to a cloud. The line to it is to be started then.
func (a *Account) settle(ctx context.Context, url string, c Cloud, credential string) error {
	err := errors.Join(
		syncing.KeepCredential(ctx, a.vault.Local, credential),
		a.vault.identity.update(ctx, func(p *Profile) { p.Cloud = url }),
		a.vault.Local.Set(ctx, localSignIn, nil),
		a.vault.Local.Set(ctx, localWanted, nil),
	)
	if err != nil {
		return err
	}
	a.connect(c)
	a.vault.Sync.Connect(c)
	return nil
}

// DeleteAccount removes the account from the cloud, with everything in it. The vault stays on this computer, and on
// every other that has it.
func (a *Account) DeleteAccount(ctx context.Context, password secret.Text) error {
	cloud := a.at()
	if cloud == nil {
		return errOnlyHere
	}
	o, err := a.vault.device.unwrap(a.vault.Profile(), password)
	if err != nil {
		return err
	}
	credential, err := a.vault.Sync.Credential(ctx)
	if err != nil {
		return err
	}
	if err := cloud.DeleteAccount(ctx, credential, o.pair.SignIn); err != nil {
		return err
	}
	return a.leave(ctx, o.pair.SignIn)
}

// leave has the vault on this computer only from now on, able to join a cloud again.
func (a *Account) leave(ctx context.Context, signIn keys.Key) error {
	ring, err := a.vault.Replica.Ring()
	if err != nil {
		return err
	}
	recovery, err := a.recoveryPublic()
	if err != nil {
		return err
	}
	byRecovery, err := recovery.Wrap(a.vault.Profile().Vault, ring.Newest())
	if err != nil {
		return err
	}
	a.vault.Sync.Stop()
	defer a.vault.Sync.Start()
	a.connect(nil)
	a.vault.Sync.Connect(nil)
	return errors.Join(
		a.vault.identity.update(ctx, func(p *Profile) { p.Cloud, p.RecoveryWrapped = "", byRecovery }),
		syncing.KeepCredential(ctx, a.vault.Local, ""),
		a.vault.Local.Set(ctx, localSignIn, signIn[:]),
	)
}

package app

import (
	"context"
	"errors"
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

// Epochs are the vault keys that follow each other: a device is shut out, or a cloud that lost something begins anew.
type Epochs struct{ vault *Vault }

// turn reads the statement that began a later epoch: it has to bring this device the key, and a device that is in the
// vault, as it is once everything is pulled, has to have signed it.
func (x *Epochs) turn(ctx context.Context, s keys.Statement) (*records.Turn, error) {
	e, err := s.Read()
	p := x.vault.Profile()
	if err != nil || e.Vault != p.Vault || e.Params.Check() != nil || keys.WrappedEpoch(e.Wrapped) != e.Number {
		return nil, errFalseEpoch
	}
	sealed, ok := e.Keys[p.Device]
	if !ok {
		return nil, syncing.ErrSignedOut
	}
	own, err := x.vault.Local.DeviceKeys(ctx)
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
	known, err := x.vault.Replica.Ring()
	if err != nil {
		return nil, err
	}
	if !ring.Extends(known) {
		return nil, errFalseEpoch
	}
	if err := x.vault.FormerKeys.keep(ctx); err != nil {
		return nil, err
	}
	return &records.Turn{Ring: ring, Accept: func(device func(string) (vault.Entry, bool)) error {
		by, _ := device(e.By)
		public, ok := records.PublicOf(by)
		if !ok || by.Text(vault.FieldOut) != "" || !s.Holds(public) {
			return errFalseEpoch
		}
		return x.enter(ctx, e, ring, kept.Carried)
	}}, nil
}

// enter keeps what opens the vault in a later epoch. The records follow; until they do, the older keys are in its ring.
func (x *Epochs) enter(ctx context.Context, e keys.Epoch, ring keys.Ring, carried keys.Code) error {
	return x.vault.identity.update(ctx, func(p *Profile) {
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
func (x *Epochs) finish(ctx context.Context) error {
	p := x.vault.Profile()
	own, err := x.vault.Items.Entry(p.Device)
	if err != nil {
		return err
	}
	if own.Text(vault.FieldOut) != "" {
		if err := x.noteOut(ctx, p.Device, ""); err != nil {
			return err
		}
	}
	if err := x.saw(ctx, own); err != nil {
		return err
	}
	if len(p.EpochOut) == 0 {
		return nil
	}
	at := strconv.FormatInt(x.vault.device.ports.Now().UnixMilli(), 10)
	for _, device := range p.EpochOut {
		if err := x.noteOut(ctx, device, at); err != nil {
			return err
		}
	}
	done := func(p *Profile) { p.EpochOut = nil }
	return errors.Join(
		x.vault.Account.tellCard(ctx), x.vault.Sheets.New(ctx), x.vault.identity.update(ctx, done),
	)
}

// sawEvery is how often a device says what it saw.
const sawEvery = 24 * time.Hour

// saw writes into this device's record, once a day, which head is the newest that it knows: so the others know that it
// is there, by its own word, and what it has seen.
func (x *Epochs) saw(ctx context.Context, own vault.Entry) error {
	r := own.Fields[vault.FieldSaw]
	if x.vault.device.ports.Now().Sub(time.UnixMilli(max(r.Stamp.At, own.Created))) < sawEvery {
		return nil
	}
	at, err := x.vault.Replica.Checkpoint()
	if err != nil {
		return err
	}
	return x.vault.Items.Edit(ctx, own.ID, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
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
func (x *Epochs) OldKeys() int { return x.vault.Replica.OldKeys() }

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
func (x *Epochs) begin(ctx context.Context, n newEpoch) error {
	const turns = 5
	for range turns {
		before, err := x.vault.Replica.Ring()
		if err != nil {
			return err
		}
		p := x.vault.Profile()
		o, err := x.openedFor(n, &p)
		if err != nil {
			return err
		}
		x.vault.Guard.Given()
		if !n.fresh {
			if err := x.vault.Sync.Sync(ctx); err != nil {
				return err
			}
		}
		err = x.vault.Sync.Alone(ctx, func() error { return x.tryBegin(ctx, n, p, o) })
		if !errors.Is(err, syncing.ErrSignIn) && !errors.Is(err, syncing.ErrConflict) {
			return err
		}
		later, e := x.becameLater(ctx, before)
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
func (x *Epochs) openedFor(n newEpoch, p *Profile) (o opened, err error) {
	d := x.vault.device
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
func (x *Epochs) becameLater(ctx context.Context, before keys.Ring) (bool, error) {
	if err := x.vault.Sync.Sync(ctx); err != nil {
		return false, err
	}
	now, err := x.vault.Replica.Ring()
	return now.Extends(before), err
}

// tryBegin begins an epoch with what the master password opened of a profile.
func (x *Epochs) tryBegin(ctx context.Context, n newEpoch, p Profile, o opened) error {
	d, cloud, signIn := x.vault.device, x.vault.Account.at(), o.pair.SignIn
	ring, err := x.nextRing(n)
	if err != nil {
		return err
	}
	o.ring = ring
	if len(n.out) > 0 {
		if o.kept.Carried, err = keys.NewCode(d.ports.Rand); err != nil {
			return err
		}
		if err := x.vault.Second.keep(&o); err != nil {
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
	if e.Keys, err = x.keysFor(ring.Newest(), p, n.out); err != nil {
		return err
	}
	own, err := x.vault.Local.DeviceKeys(ctx)
	if err != nil {
		return err
	}
	statement, err := own.SignEpoch(e)
	if err != nil {
		return err
	}
	_, byRecovery, err := x.vault.Sheets.wrap(ring.Newest())
	if err != nil {
		return err
	}
	commit, err := x.vault.Replica.Begin(ctx, ring)
	if err != nil {
		return err
	}
	credential, err := x.vault.Sync.Credential(ctx)
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
	if err := errors.Join(x.enter(ctx, e, ring, o.kept.Carried), x.vault.Replica.Begun(ctx, ring, commit)); err != nil {
		return err
	}
	return x.vault.Account.tellCard(ctx)
}

// nextRing draws the key of the next epoch, which follows the state that this device knows.
func (x *Epochs) nextRing(n newEpoch) (keys.Ring, error) {
	now, err := x.vault.Replica.Ring()
	if err != nil {
		return now, err
	}
	at, err := x.vault.Replica.Checkpoint()
	if err != nil {
		return now, err
	}
	key, err := keys.NewVaultKey(x.vault.device.ports.Rand)
	return now.With(key, keys.Start{After: at.Number, Hash: at.Head, Fresh: n.fresh}), err
}

// keysFor seals an epoch's key to all devices but those that are shut out, now or before.
func (x *Epochs) keysFor(key keys.EpochKey, p Profile, out []string) (map[string][]byte, error) {
	entries, err := x.vault.Book.Entries(func(e vault.Entry) bool {
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

// The errors of shutting out.
var (
	errThisDevice = errors.New("this is the computer you are at")
	errNoDevice   = errors.New("this device isn’t there")
)

// ShutOut shuts a device out. Its session and its event stream end at once. The vault gets another key and the person
// another carried half, which every other device is told and that one isn't: what it has opens nothing of what comes
// after. A new recovery sheet waits to be printed; the old one's recovery code counts until that is checked.
func (x *Epochs) ShutOut(ctx context.Context, device string, password secret.Text) error {
	if device == x.vault.Profile().Device {
		return errThisDevice
	}
	if x.vault.Account.at() == nil {
		return errOnlyHere
	}
	list, _, err := x.vault.Account.Devices(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(k KnownDevice) bool { return k.ID == device })
	if i < 0 {
		return errNoDevice
	}
	if err := x.begin(ctx, newEpoch{password: password, out: []string{device}}); err != nil {
		return err
	}
	return x.finish(ctx)
}

// noteOut writes into a device's record when it was shut out.
func (x *Epochs) noteOut(ctx context.Context, device, at string) error {
	err := x.vault.Items.Edit(ctx, device, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FieldOut: at})
	})
	if errors.Is(err, records.ErrNoItem) { // a session that no device of the vault has
		return nil
	}
	return err
}

// Publish brings what this device has to a cloud that has lost something, or shows something else: nothing that it
// holds counts from then on, and every other device brings what it has besides. Nothing on any device is lost by it.
func (x *Epochs) Publish(ctx context.Context, password secret.Text) error {
	if x.vault.Account.at() == nil {
		return errOnlyHere
	}
	return x.begin(ctx, newEpoch{password: password, fresh: true})
}

package app

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"redlocket/app/filling"
	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// A second passphrase opens the same vault without what was left out (records.Cover). It has a slot like the master
// password, signs in at the cloud like it, and can't be told from it by anybody who doesn't know the other one.

// secondNote is what the master password's covered part says of the second passphrase: where the carried half becomes
// another one, it is given a slot for that too.
type secondNote struct {
	Slot      int    `json:"slot"`
	Stretched []byte `json:"stretched"`
}

// Second is a second passphrase that is set up.
type Second struct {
	Master           secret.Text // that shows everything
	Code             string      // the recovery code of the sheet
	Password, Repeat secret.Text
}

// The errors of the second passphrase.
var (
	errNotTheCode   = errors.New("this isn’t the code of the recovery sheet that is in force")
	errSameAsMaster = errors.New("this is the master password: the second one has to be another")
	errOpensAlready = errors.New("this opens the vault already")
	errOpenByMaster = errors.New("lock, open with this master password, and come back here")
	errNoSecond     = errors.New("there is no second passphrase")
)

// secondOf reads the note of a passphrase; ok is false if there is none or it has no second one.
func secondOf(raw json.RawMessage) (n secondNote, ok bool) {
	err := json.Unmarshal(raw, &n)
	return n, err == nil && len(n.Stretched) == keys.KeySize && n.Slot >= 0 && n.Slot < keys.Slots
}

// HasSecond reports whether the master password that opened the vault has a second passphrase beside it. Under that one
// nothing says so.
func (a *Account) HasSecond() bool {
	_, ok := secondOf(a.vault.Cover.OwnNote())
	return ok
}

// SetSecond sets the second passphrase up, or another one in its place. The recovery code is asked for because nobody
// else is to do it: one who was made to open the vault can't, and can so undo nothing.
func (a *Account) SetSecond(ctx context.Context, s Second) error {
	d, p := a.vault.device, a.vault.Profile()
	o, err := d.unwrap(p, s.Master)
	if err != nil {
		return records.BadInput("master", err)
	}
	if !a.vault.Cover.On() && a.vault.Cover.Opens(o.pair) { // it was opened in another way
		return records.BadInput("master", errOpenByMaster)
	}
	if a.vault.Cover.On() && !a.vault.Cover.Opens(o.pair) {
		return records.BadInput("master", &WrongPassword{})
	}
	recovery, err := a.checkCode(s.Code)
	if err != nil {
		return records.BadInput("code", err)
	}
	if s.Password.Equal(s.Master) {
		return records.BadInput("password", errSameAsMaster)
	}
	if err := CheckNewMaster(s.Password, s.Repeat, p.Email, p.Name); err != nil {
		return err
	}
	stretched, err := keys.Stretch(s.Password, p.Params)
	if err != nil {
		return records.BadInput("password", err)
	}
	note, ok := secondOf(a.vault.Cover.OwnNote())
	var other opened
	if _, opens := other.open(p, stretched); opens && !(ok && other.slot == note.Slot) {
		return records.BadInput("password", errOpensAlready)
	}
	if !ok {
		if note.Slot, err = keys.AnySlot(d.ports.Rand, o.slot); err != nil {
			return err
		}
	}
	note.Stretched = stretched[:]
	covered, err := keys.NewCovered(d.ports.Rand, p.Vault, o.pair, recovery)
	if err != nil {
		return err
	}
	// The covered part first: what is set up again after a crash in between is the same slot.
	if err := a.vault.Cover.Begin(ctx, covered, note); err != nil {
		return err
	}
	if o.kept.Locks[note.Slot], err = keys.Derive(stretched, o.kept.Carried).Slot(); err != nil {
		return err
	}
	return errors.Join(a.lock(ctx, p, o), a.fingersFor(ctx))
}

// fingersFor has this device's authenticators stand for the second passphrase, if there is one: they open what it
// opens, and replace that one where it is forgotten. So none of them tells of another.
func (a *Account) fingersFor(ctx context.Context) error {
	note, ok := secondOf(a.vault.Cover.OwnNote())
	other := func(u PlatformUnlock) bool { return u.Slot != note.Slot }
	if !ok || !slices.ContainsFunc(a.vault.Profile().Unlocks, other) {
		return nil
	}
	return a.vault.identity.update(ctx, func(p *Profile) {
		p.Unlocks = slices.Clone(p.Unlocks)
		for i := range p.Unlocks {
			p.Unlocks[i].Slot = note.Slot
		}
	})
}

// checkCode returns the public keys of a recovery code that is in force.
func (a *Account) checkCode(typed string) (p keys.RecoveryPublic, err error) {
	code, err := a.codeInForce(typed)
	if err != nil {
		return p, err
	}
	private, err := keys.DeriveRecovery(code)
	return private.Public(), err
}

// codeInForce reads a recovery code that was typed, and is in force.
func (a *Account) codeInForce(typed string) (code keys.Code, err error) {
	if code, err = keys.ParseCode(typed, keys.Recovery); err != nil {
		return code, err
	}
	private, err1 := keys.DeriveRecovery(code)
	now, err2 := a.recoveryPublic()
	if err := errors.Join(err1, err2); err != nil {
		return code, err
	}
	if string(private.Public().SignIn) != string(now.SignIn) {
		return code, errNotTheCode
	}
	return code, nil
}

// lock has other slots open the vault; the master password stays as it is.
func (a *Account) lock(ctx context.Context, p Profile, o opened) error {
	if err := a.vault.device.wrap(&p, &o); err != nil {
		return err
	}
	return a.relock(ctx, p, o, o.pair.SignIn)
}

// relock has what is wrapped in a profile open the vault, here, at the cloud, and on the other devices. The cloud comes
// first; it knows the key proof.
func (a *Account) relock(ctx context.Context, p Profile, o opened, proof keys.Key) error {
	if cloud := a.at(); cloud != nil {
		credential, err := a.vault.Sync.Credential(ctx)
		if err != nil {
			return err
		}
		in := wire.NewCredentials{KeepSessions: true, Credentials: wire.Credentials{
			Params: p.Params, SignIn: o.kept.Locks.SignIn(), Wrapped: p.Wrapped,
		}}
		if err := cloud.SetCredentials(ctx, credential, proof, in); err != nil {
			return err
		}
	}
	return a.haveMaster(ctx, card{p.Params, p.Wrapped, p.Ring}, o.pair.SignIn)
}

// EndSecond has the second passphrase open nothing any more. What was left out is shown like everything else.
func (a *Account) EndSecond(ctx context.Context, master secret.Text) error {
	p := a.vault.Profile()
	o, err := a.vault.device.unwrap(p, master)
	if err != nil {
		return records.BadInput("end-master", err)
	}
	if !a.vault.Cover.On() || !a.vault.Cover.Opens(o.pair) {
		return records.BadInput("end-master", errNoSecond)
	}
	if note, ok := secondOf(a.vault.Cover.OwnNote()); ok {
		empty, err := keys.NewLocks(a.vault.device.ports.Rand)
		if err != nil {
			return err
		}
		o.kept.Locks[note.Slot] = empty[note.Slot]
		if err := a.lock(ctx, p, o); err != nil {
			return err
		}
	}
	return a.vault.Cover.End(ctx)
}

// keepSecond gives the second passphrase of a master password, if it has one, the slot for another carried half.
func (a *Account) keepSecond(o *opened) (err error) {
	note, ok := secondOf(a.vault.Cover.Note(o.pair))
	if ok {
		o.kept.Locks[note.Slot], err = keys.Derive(keys.Stretched(note.Stretched), o.kept.Carried).Slot()
	}
	return err
}

// shareCover has a new master password open the covered part of the one before as well, until [Account.rekeyCover]: so
// one of them does, wherever changing it ends.
func (a *Account) shareCover(ctx context.Context, was, now keys.Pair) error {
	return a.vault.Cover.Rekey(ctx, records.Rekeying{
		Was:    a.vault.Cover.By(was),
		Change: func(c keys.Covered) (keys.Covered, error) { return c.AlsoFor(a.vault.device.ports.Rand, now) },
	})
}

// rekeyCover has a new master password open the covered part, and no other.
func (a *Account) rekeyCover(ctx context.Context, now keys.Pair) error {
	return a.vault.Cover.Rekey(ctx, records.Rekeying{
		Was: a.vault.Cover.By(now), Opener: &now,
		Change: func(c keys.Covered) (keys.Covered, error) { return c.For(a.vault.device.ports.Rand, now) },
	})
}

// recoverCover has a new master password open the covered part after a recovery: the second passphrase is none any
// more.
func (a *Account) recoverCover(ctx context.Context, by keys.RecoveryKeys, now keys.Pair) error {
	vaultID := a.vault.Profile().Vault
	return a.vault.Cover.Rekey(ctx, records.Rekeying{
		Was:  func(part []byte) (keys.Covered, error) { return by.OpenCovered(vaultID, part) },
		Note: secondNote{}, Opener: &now,
		Change: func(c keys.Covered) (keys.Covered, error) { return c.For(a.vault.device.ports.Rand, now) },
	})
}

// LeaveOut has the second passphrase not show some items. What was kept on this device for their sites goes, too.
func (a *Account) LeaveOut(ctx context.Context, ids ...string) (n int, err error) {
	if n, err = a.vault.Cover.LeaveOut(ctx, ids...); err != nil {
		return n, err
	}
	passwords := map[string]bool{}
	items, _, err := a.vault.Cover.Room()
	if err != nil {
		return n, err
	}
	for _, it := range items {
		e, err := a.vault.Items.Entry(it.ID)
		if err != nil {
			return n, err
		}
		passwords[e.Text(vault.FieldPassword)] = true
	}
	return n, errors.Join(
		a.vault.Imports.ForgetAllOriginals(ctx),
		a.vault.Generated.Forget(ctx, func(g filling.GeneratedPassword) bool {
			return passwords[g.Password] || a.vault.Cover.Covers(g.URL)
		}),
		a.vault.identity.store.Forget(ctx),
	)
}

// Show has the second passphrase show items again that were left out.
func (a *Account) Show(ctx context.Context, ids ...string) (int, error) {
	if len(ids) == 0 {
		return 0, nil
	}
	return a.vault.Cover.Show(ctx, ids...)
}

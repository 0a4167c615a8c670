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

// SecondPassphrase is the second passphrase of a vault, if it has one, and what is left out where that opens it.
type SecondPassphrase struct{ vault *Vault }

// HasSecond reports whether the master password that opened the vault has a second passphrase beside it. Under that one
// nothing says so.
func (sp *SecondPassphrase) Has() bool {
	_, ok := secondOf(sp.vault.Cover.OwnNote())
	return ok
}

// SetSecond sets the second passphrase up, or another one in its place. The recovery code is asked for because nobody
// else is to do it: one who was made to open the vault can't, and can so undo nothing.
func (sp *SecondPassphrase) Set(ctx context.Context, s Second) error {
	d, p := sp.vault.device, sp.vault.Profile()
	o, err := d.unwrap(p, s.Master)
	if err != nil {
		return records.BadInput("master", err)
	}
	if !sp.vault.Cover.On() && sp.vault.Cover.Opens(o.pair) { // it was opened in another way
		return records.BadInput("master", errOpenByMaster)
	}
	if sp.vault.Cover.On() && !sp.vault.Cover.Opens(o.pair) {
		return records.BadInput("master", &WrongPassword{})
	}
	recovery, err := sp.vault.Sheets.publicOf(s.Code)
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
	note, ok := secondOf(sp.vault.Cover.OwnNote())
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
	if err := sp.vault.Cover.Begin(ctx, covered, note); err != nil {
		return err
	}
	if o.kept.Locks[note.Slot], err = keys.Derive(stretched, o.kept.Carried).Slot(); err != nil {
		return err
	}
	return errors.Join(sp.vault.Account.lock(ctx, p, o), sp.fingers(ctx))
}

// fingersFor has this device's authenticators stand for the second passphrase, if there is one: they open what it
// opens, and replace that one where it is forgotten. So none of them tells of another.
func (sp *SecondPassphrase) fingers(ctx context.Context) error {
	note, ok := secondOf(sp.vault.Cover.OwnNote())
	other := func(u PlatformUnlock) bool { return u.Slot != note.Slot }
	if !ok || !slices.ContainsFunc(sp.vault.Profile().Unlocks, other) {
		return nil
	}
	return sp.vault.identity.update(ctx, func(p *Profile) {
		p.Unlocks = slices.Clone(p.Unlocks)
		for i := range p.Unlocks {
			p.Unlocks[i].Slot = note.Slot
		}
	})
}

// EndSecond has the second passphrase open nothing any more. What was left out is shown like everything else.
func (sp *SecondPassphrase) End(ctx context.Context, master secret.Text) error {
	p := sp.vault.Profile()
	o, err := sp.vault.device.unwrap(p, master)
	if err != nil {
		return records.BadInput("end-master", err)
	}
	if !sp.vault.Cover.On() || !sp.vault.Cover.Opens(o.pair) {
		return records.BadInput("end-master", errNoSecond)
	}
	if note, ok := secondOf(sp.vault.Cover.OwnNote()); ok {
		empty, err := keys.NewLocks(sp.vault.device.ports.Rand)
		if err != nil {
			return err
		}
		o.kept.Locks[note.Slot] = empty[note.Slot]
		if err := sp.vault.Account.lock(ctx, p, o); err != nil {
			return err
		}
	}
	return sp.vault.Cover.End(ctx)
}

// keepSecond gives the second passphrase of a master password, if it has one, the slot for another carried half.
func (sp *SecondPassphrase) keep(o *opened) (err error) {
	note, ok := secondOf(sp.vault.Cover.Note(o.pair))
	if ok {
		o.kept.Locks[note.Slot], err = keys.Derive(keys.Stretched(note.Stretched), o.kept.Carried).Slot()
	}
	return err
}

// shareCover has a new master password open the covered part of the one before as well, until
// [SecondPassphrase.rekeyCover]: so one of them does, wherever changing it ends.
func (sp *SecondPassphrase) shareCover(ctx context.Context, was, now keys.Pair) error {
	return sp.vault.Cover.Rekey(ctx, records.Rekeying{
		Was:    sp.vault.Cover.By(was),
		Change: func(c keys.Covered) (keys.Covered, error) { return c.AlsoFor(sp.vault.device.ports.Rand, now) },
	})
}

// rekeyCover has a new master password open the covered part, and no other.
func (sp *SecondPassphrase) rekeyCover(ctx context.Context, now keys.Pair) error {
	return sp.vault.Cover.Rekey(ctx, records.Rekeying{
		Was: sp.vault.Cover.By(now), Opener: &now,
		Change: func(c keys.Covered) (keys.Covered, error) { return c.For(sp.vault.device.ports.Rand, now) },
	})
}

// recoverCover has a new master password open the covered part after a recovery: the second passphrase is none any
// more.
func (sp *SecondPassphrase) recoverCover(ctx context.Context, by keys.RecoveryKeys, now keys.Pair) error {
	vaultID := sp.vault.Profile().Vault
	return sp.vault.Cover.Rekey(ctx, records.Rekeying{
		Was:  func(part []byte) (keys.Covered, error) { return by.OpenCovered(vaultID, part) },
		Note: secondNote{}, Opener: &now,
		Change: func(c keys.Covered) (keys.Covered, error) { return c.For(sp.vault.device.ports.Rand, now) },
	})
}

// LeaveOut has the second passphrase not show some items. What was kept on this device for their sites goes, too.
func (sp *SecondPassphrase) LeaveOut(ctx context.Context, ids ...string) (n int, err error) {
	if n, err = sp.vault.Cover.LeaveOut(ctx, ids...); err != nil {
		return n, err
	}
	passwords := map[string]bool{}
	items, _, err := sp.vault.Cover.Room()
	if err != nil {
		return n, err
	}
	for _, it := range items {
		e, err := sp.vault.Items.Entry(it.ID)
		if err != nil {
			return n, err
		}
		passwords[e.Text(vault.FieldPassword)] = true
	}
	return n, errors.Join(
		sp.vault.Imports.ForgetAllOriginals(ctx),
		sp.vault.Generated.Forget(ctx, func(g filling.GeneratedPassword) bool {
			return passwords[g.Password] || sp.vault.Cover.Covers(g.URL)
		}),
		sp.vault.identity.store.Forget(ctx),
	)
}

// Show has the second passphrase show items again that were left out.
func (sp *SecondPassphrase) Show(ctx context.Context, ids ...string) (int, error) {
	if len(ids) == 0 {
		return 0, nil
	}
	return sp.vault.Cover.Show(ctx, ids...)
}

package app

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"time"

	"redlocket/app/auditing"
	"redlocket/app/filling"
	"redlocket/app/helping"
	"redlocket/app/household"
	"redlocket/app/importing"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/app/syncing"
	"redlocket/app/tidying"
	"redlocket/core/keys"
	"redlocket/core/secret"
)

// Vault is an open vault: its rooms, and the session that ends with [Vault.Lock]. It is safe
// for concurrent use; after Lock everything that needs it open returns [gate.ErrLocked].
type Vault struct {
	*records.Set         // Book, Items, Acts, Files, Sites, Local
	*filling.Filling     // Pages, Prompts, Generated, Staged
	*importing.Importing // Imports, Exports, Backups
	*Access              // Sheets, Second, Authenticators, ForgottenMaster, Epochs, FormerKeys, Joiners, Helpers
	Household            *household.Household
	Sharing              *sharing.Sharing
	Helping              *helping.Helping
	Tidying              *tidying.Tidying
	Auditing             *auditing.Auditing
	Sync                 *syncing.Line
	Account              *Account
	Settings             *Preferences
	Guard                *reauth.Guard
	*session
}

// session is what an open vault has beside its rooms.
type session struct {
	device   *Device
	identity *identity
	idle     *idle
	notices  *notices
	instance string
	closed   chan struct{} // once it is locked
}

// setConfig is how a profile's records are opened.
func (d *Device) setConfig(p Profile, s Store, ring keys.Ring) records.Config {
	return records.Config{
		ID: p.Vault, Device: p.Device, Store: s, Ring: ring, Now: d.ports.Now, Rand: d.ports.Rand, Steps: d.ports.Steps,
	}
}

// openVault opens what a store holds, and keeps it in step from then on. If the profile was
// opened meanwhile, that vault is returned. by is the passphrase that opens it; nil where it is none.
func (d *Device) openVault(
	ctx context.Context, s Store, p Profile, ring keys.Ring, by *keys.Pair,
) (_ *Vault, err error) {
	d.opening.Lock()
	defer d.opening.Unlock()
	if v, ok := d.vaults.get(p.ID); ok { // two tabs opened it at once
		return v, nil
	}
	d.vaults.closed(p.ID)
	var cloud Cloud
	if p.Cloud != "" {
		if cloud, err = d.ports.Dial(p.Cloud); err != nil {
			return nil, err
		}
	}
	v := &Vault{session: &session{
		device: d, identity: &identity{store: s, writes: &d.writes, profile: p}, idle: newIdle(d.ports.Now),
		notices: newNotices(), instance: rand.Text(), closed: make(chan struct{}),
	}}
	v.Guard = reauth.New(d.ports.Now, func() (reauth.Policy, error) { return v.Settings.policy() })
	cfg := d.setConfig(p, s, ring)
	cfg.Opener = by
	cfg.Guard = v.Guard
	cfg.Remote = remote{v}
	cfg.Marks = v.marks
	cfg.Events = records.Events{
		Changed: v.notices.changed,
		Loaded:  func() { v.notices.tell(NoticeStatus) },
		Waiting: func() { v.Sync.Nudge() },
	}
	set, err := records.Open(ctx, cfg)
	if err != nil {
		return nil, err
	}
	v.Set = set
	defer func() {
		if err != nil {
			set.Close(nil)
		}
	}()
	if v.Settings, err = openPreferences(ctx, v, p); err != nil {
		return nil, err
	}
	v.Sync = syncing.New(syncing.Config{
		Set: v.Set, Cloud: lineOf(cloud), Now: d.ports.Now,
		Changed: func() { v.notices.tell(NoticeStatus) },
		Pulled: func() { // what couldn't be kept is taken at locking
			_ = errors.Join(v.Account.takeCard(context.Background()), v.Account.takeName(context.Background()))
		},
		Turn: func(ctx context.Context, s keys.Statement) (*records.Turn, error) { return v.Epochs.turn(ctx, s) },
		InStep: func(ctx context.Context) { // what fails is tried again the next time
			_ = v.Epochs.finish(ctx)
			v.Household.InStep(ctx)
			v.Sharing.InStep(ctx)
			v.Helping.InStep(ctx)
		},
		Told: func() {
			v.Household.Heard()
			v.Sharing.Heard()
			v.Helping.Heard()
		},
		Reseals: v.reseals,
	})
	v.Account = &Account{vault: v, cloud: cloud}
	v.Access = newAccess(v)
	v.Filling, err = filling.Open(ctx, filling.Config{
		Set: v.Set, Guard: v.Guard, Now: d.ports.Now, Rand: d.ports.Rand, Sites: d.ports.Sites, Steps: d.ports.Steps,
		Clipboard: func() time.Duration { return v.Settings.Get().Clipboard }, Used: v.Touch, Usernames: v.Usernames,
		NameToTry: func(ctx context.Context, id string) (string, bool) { return v.Tidying.NameToTry(ctx, id) },
		Foresee: func(ctx context.Context, p secret.Text, page, user string) (bool, int, error) {
			return v.Auditing.Foresee(ctx, p, page, user)
		},
		Judged: func(ctx context.Context, j filling.Judged) { v.Tidying.Judged(ctx, j) },
	})
	if err != nil {
		return nil, err
	}
	v.Importing = importing.Open(importing.Config{
		Set: v.Set, Guard: v.Guard, Now: d.ports.Now, Folders: d.ports.Folders, Steps: d.ports.Steps,
		Email: func() string { return v.Profile().Email }, Vault: p.Vault,
		Changed: func() { v.notices.tell(NoticeStatus) }, Written: v.backedUp,
	})
	v.Household = household.Open(household.Config{
		Set: v.Set, Device: p.Device, Vault: p.Vault, Guard: v.Guard, Now: d.ports.Now, Rand: d.ports.Rand,
		Owner: func() (string, string) { p := v.Profile(); return p.Name, p.Email }, Cloud: v.Account.letters,
		Changed: func() { v.notices.tell(NoticeStatus) }, Nudge: v.Sync.Nudge, Beside: d.tasks.Go,
	})
	v.Sharing = sharing.Open(sharing.Config{
		Set: v.Set, Device: p.Device, People: v.Household, Now: d.ports.Now, Rand: d.ports.Rand,
		Owner: func() (string, string) { p := v.Profile(); return p.Name, p.Email }, Cloud: v.Account.sets,
		Changed: func() { v.notices.tell(NoticeStatus) }, Nudge: v.Sync.Nudge, Beside: d.tasks.Go,
	})
	v.Helping = helping.Open(helping.Config{
		Set: v.Set, Vault: p.Vault, People: v.Household, Guard: v.Guard, Now: d.ports.Now, Rand: d.ports.Rand,
		Cloud: v.Account.hands, Changed: func() { v.notices.tell(NoticeStatus) }, Nudge: v.Sync.Nudge,
		Beside: d.tasks.Go,
	})
	v.Tidying = tidying.New(v.Set, d.ports.Steps)
	v.Auditing = auditing.New(auditing.Config{
		Set: v.Set, Now: d.ports.Now, Leaks: d.ports.Leaks, Service: d.ports.Leaked, Post: d.ports.Post,
		Steps:   d.ports.Steps,
		Changed: func() { v.notices.tell(NoticeStatus) },
	})
	d.vaults.add(v)
	v.Sync.Start()
	d.tasks.Go(func() {
		if v.Set.Loaded() == nil && len(v.Replica.Damaged()) == 0 && !v.Locked() {
			_ = s.Settled() // tried again at the next opening
		}
		_ = v.Second.fingers(context.Background()) // the next time
		v.refreshCover()
	})
	return v, nil
}

// refreshEvery is how often the covered part is written anew and committed, whether anything is in it or not.
const refreshEvery = time.Hour

// refreshCover does so until the vault is locked.
func (v *Vault) refreshCover() {
	for {
		// What can't be done is an hour later.
		_ = errors.Join(v.Cover.Refresh(context.Background()), v.identity.store.Forget(context.Background()))
		select {
		case <-v.closed:
			return
		case <-time.After(refreshEvery):
		}
	}
}

// marks finds the logins that may be there twice, and those whose password another one has.
func (v *Vault) marks(state string) (map[string]bool, error) {
	out := map[string]bool{}
	if state == "reused" {
		s, err := v.Auditing.Survey(context.Background())
		if err != nil {
			return nil, err
		}
		for _, id := range s.Reused() {
			out[id] = true
		}
		return out, nil
	}
	l, err := v.Tidying.List(context.Background())
	for _, p := range l.Left() {
		for _, id := range p.IDs {
			out[id] = true
		}
	}
	return out, err
}

// lineOf is the part of a cloud that a line calls; nil without one.
func lineOf(c Cloud) syncing.Cloud {
	if c == nil {
		return nil
	}
	return c
}

// remote has the chunks that other devices attached: the line, once there is one.
type remote struct{ v *Vault }

func (r remote) FetchChunk(ctx context.Context, file string, n int) ([]byte, error) {
	return r.v.Sync.FetchChunk(ctx, file, n)
}

func (r remote) DropFile(ctx context.Context, file string) error { return r.v.Sync.DropFile(ctx, file) }

// Lock closes the vault: keys and entries are dropped, the line to the cloud
// ends, and every listener hears of it. Locking twice does nothing more.
func (v *Vault) Lock() {
	keep := map[string][]byte{}
	_ = v.Set.Loaded() // what can't be loaded is locked too
	_ = v.Account.takeCard(context.Background())
	v.Filling.Close(keep)
	_ = v.Cover.Refresh(context.Background()) // the next opening does it too
	if v.Set.Close(keep) {
		v.end()
	}
}

// end drops the rest of a vault whose records are closed.
func (v *Vault) end() {
	close(v.closed)
	v.Importing.Close()
	v.Tidying.Close()
	v.Auditing.Close()
	v.device.vaults.remove(v)
	v.notices.tell(NoticeLocked)
	v.Sync.Stop()
	now := v.device.ports.Now().UnixMilli()
	_ = v.identity.update(context.Background(), func(p *Profile) { p.Closed = now }) // only the time of closing is lost
	_ = v.identity.store.Forget(context.Background())                                // the next opening does it too
}

// Locked reports whether the vault was locked.
func (v *Vault) Locked() bool { return !v.Set.Open() }

// Instance names this opening of the vault. A session that was let in by another
// opening has to show the master password again.
func (v *Vault) Instance() string { return v.instance }

// Profile returns the vault's profile.
func (v *Vault) Profile() Profile { return v.identity.get() }

// Rand is the device's source of randomness.
func (v *Vault) Rand() io.Reader { return v.device.ports.Rand }

// Reauthenticate takes the master password again. Wrong ones count as at unlocking.
func (v *Vault) Reauthenticate(password secret.Text) error {
	if _, err := v.device.unwrap(v.Profile(), password); err != nil {
		return err
	}
	v.Guard.Given()
	v.Touch()
	return nil
}

// Usernames returns the user names used before, the most used first.
func (v *Vault) Usernames() ([]string, error) { return v.Book.Usernames(v.Profile().Email) }

// Listen returns a channel of notices and a function that ends it. A slow
// listener misses notices but never the last.
func (v *Vault) Listen() (<-chan Notice, func()) { return v.notices.listen() }

// Version grows with every notice. A page that was drawn at another version than
// the present one has missed something.
func (v *Vault) Version() int64 { return v.notices.version.Load() }

// errOnlyHere is returned for what needs a cloud, by a vault without one.
var errOnlyHere = errors.New("this vault is on this computer only")

// DeviceNames returns the names of the owner's devices by id, and for those of others, by which shared things were
// changed, the names of their owners.
func (v *Vault) DeviceNames() (map[string]string, error) {
	names, err := v.Book.DeviceNames()
	if err != nil {
		return nil, err
	}
	others, err := v.Sharing.DeviceNames(context.Background())
	for id, name := range others {
		if names[id] == "" {
			names[id] = name
		}
	}
	return names, err
}

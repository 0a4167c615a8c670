package app

import (
	"bytes"
	"context"
	"errors"
	"io"
	"sync"

	"redlocket/app/helping"
	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/wire"
)

// Names of what is sealed for this device alone.
const (
	localSignIn = "sign-in" // to join a cloud later; gone once that is done
	localSheet  = "sheet"   // the recovery code, until the sheet was checked
	localWanted = "wanted"  // the cloud that wants more before it makes an account
)

// byMaster has a master password open the vault in o.slot, and wraps the keys for all slots into the profile. o has
// what is known of the vault; what the password derives is noted there.
func (d *Device) byMaster(p *Profile, password secret.Text, o *opened) error {
	if p.Params.Check() != nil { // every passphrase of a vault is stretched with the same salt
		salt := make([]byte, keys.SaltSize)
		if _, err := io.ReadFull(d.ports.Rand, salt); err != nil {
			return err
		}
		p.Params = keys.DefaultParams(salt)
	}
	stretched, err := keys.Stretch(password, p.Params)
	if err != nil {
		return records.BadInput("password", err)
	}
	o.pair = keys.Derive(stretched, o.kept.Carried)
	if o.kept.Locks[o.slot], err = o.pair.Slot(); err != nil {
		return err
	}
	return d.wrap(p, o)
}

// wrap wraps the keys for all slots into the profile.
func (d *Device) wrap(p *Profile, o *opened) (err error) {
	p.carry(o.kept.Carried)
	if p.Wrapped, err = o.kept.Locks.Wrap(p.Vault, o.ring.Newest()); err != nil {
		return err
	}
	p.Ring, err = o.ring.Seal(d.ports.Rand, p.Vault, o.kept)
	return err
}

// mostCarried is how many carried halves of before a device remembers: a passphrase that wasn't typed since then opens
// with the one of its time.
const mostCarried = 8

// carry notes the carried half that is in force.
func (p *Profile) carry(c keys.Code) {
	if len(p.Carried) > 0 && !bytes.Equal(p.Carried, c[:]) {
		p.CarriedBefore = append([][]byte{p.Carried}, p.CarriedBefore...)
		p.CarriedBefore = p.CarriedBefore[:min(len(p.CarriedBefore), mostCarried)]
	}
	p.Carried = c[:]
}

// credentials has a master password open the vault, and no other from then on. It wraps the vault key both ways into
// the profile, and returns what a cloud has to know.
func (d *Device) credentials(
	p *Profile, password secret.Text, o *opened, recovery keys.RecoveryPublic,
) (cred wire.Credentials, err error) {
	p.Params = keys.Params{}
	if o.kept.Locks, err = keys.NewLocks(d.ports.Rand); err != nil {
		return cred, err
	}
	if o.slot, err = keys.AnySlot(d.ports.Rand); err != nil {
		return cred, err
	}
	if err := d.byMaster(p, password, o); err != nil {
		return cred, err
	}
	p.RecoveryWrapped, err = recovery.Wrap(p.Vault, o.ring.Newest())
	return wire.Credentials{
		Params: p.Params, SignIn: o.kept.Locks.SignIn(), RecoverySignIn: recovery.SignIn,
		Wrapped: p.Wrapped, RecoveryWrapped: p.RecoveryWrapped,
	}, err
}

// errOtherRecovery is returned for a recovery code that opens another vault.
var errOtherRecovery = errors.New("this recovery code belongs to another vault")

// Recover sets a new master password with the recovery code of the sheet, on a
// computer that has the profile. It returns the vault open.
func (d *Device) Recover(ctx context.Context, profile, code string, password, repeat secret.Text) (*Vault, error) {
	defer d.attempts.turn(profile)()
	if err := d.attempts.admit(profile); err != nil {
		return nil, err
	}
	recovery, err := keys.ParseCode(code, keys.Recovery)
	if err != nil {
		return nil, records.BadInput("code", err)
	}
	s, err := d.stores.get(ctx, profile)
	if err != nil {
		return nil, err
	}
	p, err := s.Profile(ctx)
	if err != nil {
		return nil, err
	}
	if err := CheckNewMaster(password, repeat, p.Email, p.Name); err != nil {
		return nil, err
	}
	pair, err := keys.DeriveRecovery(recovery)
	if err != nil {
		return nil, err
	}
	wrapped := p.RecoveryWrapped
	var cloud Cloud
	var session Session
	if p.Cloud != "" {
		if cloud, session, err = d.recoverySession(ctx, p, pair); err != nil {
			return nil, err
		}
		wrapped = session.Wrapped
	}
	key, err := pair.Unwrap(p.Vault, wrapped)
	if err != nil {
		_ = d.attempts.wrong(profile) // what is wrong here is the code
		return nil, records.BadInput("code", errOtherRecovery)
	}
	ring, kept, err := ringOf(ctx, &p, key, cloud, session.Credential)
	if err != nil {
		return nil, err
	}
	o := opened{ring: ring, kept: kept}
	cred, err := d.credentials(&p, password, &o, pair.Public())
	if err != nil {
		return nil, err
	}
	if err := d.setRecovered(ctx, s, p, o, cred, pair, cloud, session.Credential); err != nil {
		return nil, err
	}
	if open, ok := d.vaults.get(profile); ok {
		open.Lock()
	}
	v, err := d.openVault(ctx, s, p, ring, &o.pair)
	if err == nil {
		_ = v.Account.tellCard(ctx) // the others are signed out, and ask for the new one in any case
		err = v.Second.recoverCover(ctx, pair, o.pair)
	}
	return v, err
}

// recoverySession signs in at the profile's cloud with the recovery code.
func (d *Device) recoverySession(
	ctx context.Context, p Profile, pair keys.RecoveryKeys,
) (c Cloud, s Session, err error) {
	if c, err = d.ports.Dial(p.Cloud); err != nil {
		return nil, s, err
	}
	s, err = c.SignIn(ctx, pair.SignIn, wire.SignIn{Email: p.Email, Device: p.Device, Recovery: true})
	if err != nil {
		return nil, s, records.BadInput("code", err)
	}
	return c, s, nil
}

// setRecovered puts new credentials into force. The cloud comes first: should it refuse or be
// away, the old master password stays good everywhere.
func (d *Device) setRecovered(
	ctx context.Context, s Store, p Profile, o opened, cred wire.Credentials, pair keys.RecoveryKeys, cloud Cloud,
	credential string,
) error {
	local := records.NewEmpty(d.setConfig(p, s, o.ring), records.Checkpoint{}).Local
	if cloud != nil {
		in := wire.NewCredentials{Recovery: true, Credentials: cred}
		if err := cloud.SetCredentials(ctx, credential, pair.SignIn, in); err != nil {
			return records.BadInput("code", err)
		}
		if err := syncing.KeepCredential(ctx, local, credential); err != nil {
			return err
		}
	}
	_, err := d.writes.update(ctx, s, func(now *Profile) {
		now.Params, now.Wrapped, now.RecoveryWrapped = p.Params, p.Wrapped, p.RecoveryWrapped
		now.Ring, now.EpochBy, now.EpochAt = p.Ring, p.EpochBy, p.EpochAt
		now.carry(o.kept.Carried)
		d.typedMaster(now, o.ring)
	})
	return errors.Join(keepSignIn(ctx, local, p, o.pair.SignIn), err)
}

// keepSignIn keeps the key that will sign in, of a vault that may join a cloud yet. At a cloud no device keeps it: one
// that was shut out can't sign in again without the master password.
func keepSignIn(ctx context.Context, local *records.Local, p Profile, key keys.Key) error {
	if p.Cloud != "" {
		return local.Set(ctx, localSignIn, nil)
	}
	return local.Set(ctx, localSignIn, key[:])
}

// Account is what a person has at the cloud: the account, its devices, and the master password that signs in.
type Account struct {
	vault *Vault

	mu    sync.Mutex // guards cloud
	cloud Cloud      // nil without one
}

func (a *Account) at() Cloud {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.cloud
}

// letters is the cloud as the household calls it; nil without one.
func (a *Account) letters(ctx context.Context) (household.Cloud, string, error) {
	cloud := a.at()
	if cloud == nil {
		return nil, "", nil
	}
	credential, err := a.vault.Sync.Credential(ctx)
	return cloud, credential, err
}

// sets is the part of the cloud that carries shared sets.
func (a *Account) sets(ctx context.Context) (sharing.Cloud, string, error) {
	cloud, credential, err := a.letters(ctx)
	if err != nil || cloud == nil {
		return nil, "", err
	}
	return a.at(), credential, nil
}

// hands is the part of the cloud that keeps helping hands.
func (a *Account) hands(ctx context.Context) (helping.Cloud, string, error) {
	cloud, credential, err := a.letters(ctx)
	if err != nil || cloud == nil {
		return nil, "", err
	}
	return a.at(), credential, nil
}

func (a *Account) connect(c Cloud) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.cloud = c
}

// errCopyOfKey is returned for a cloud whose copy of the vault key isn't the right one.
var errCopyOfKey = errors.New("the cloud's copy of the vault key doesn't open with this master password")

// SignInAgain brings a device back in step whose session at the cloud has ended, because it was shut out or because the
// master password was changed elsewhere. From then on the master password given here opens the vault on it. carried is
// the carried half as a newer sheet has it; empty if it is the one that this device knows.
func (a *Account) SignInAgain(ctx context.Context, password secret.Text, carried string) error {
	p, cloud := a.vault.Profile(), a.at()
	if cloud == nil {
		return records.BadInput("again", errOnlyHere)
	}
	if carried != "" {
		code, err := keys.ParseCode(carried, keys.Carried)
		if err != nil {
			return records.BadInput("again-carried", err)
		}
		p.carry(code)
	}
	in, err := signInAt(ctx, cloud, p, password)
	if err != nil {
		return records.BadInput("again", err)
	}
	if err := a.takeKeys(ctx, cloud, in); err != nil {
		return err
	}
	a.vault.Sync.Nudge()
	return nil
}

// signedIn is a sign-in with a master password, and what it opened.
type signedIn struct {
	session Session
	profile Profile // with what opens the vault from then on
	key     keys.EpochKey
}

// signInAt signs a device in with the master password.
func signInAt(ctx context.Context, cloud Cloud, p Profile, password secret.Text) (in signedIn, err error) {
	if p.Params, err = cloud.Params(ctx, p.Email); err != nil {
		return in, err
	}
	stretched, err := keys.Stretch(password, p.Params)
	if err != nil {
		return in, err
	}
	var pair keys.Pair
	for _, carried := range p.allCarried() {
		pair = keys.Derive(stretched, carried)
		in.session, err = cloud.SignIn(ctx, pair.SignIn, wire.SignIn{Email: p.Email, Device: p.Device})
		if !errors.Is(err, syncing.ErrSignIn) {
			break
		}
	}
	if err != nil {
		return in, err
	}
	p.Wrapped = in.session.Wrapped
	in.profile = p
	if in.key, _, err = pair.Open(p.Vault, p.Wrapped); err != nil {
		return in, errCopyOfKey
	}
	return in, nil
}

// takeKeys takes over what a cloud has of the master password and the epochs, unless this device knows later ones.
func (a *Account) takeKeys(ctx context.Context, cloud Cloud, in signedIn) error {
	known, err := a.vault.Replica.Ring()
	if err != nil {
		return err
	}
	if in.key.Epoch >= known.Epoch() {
		p := in.profile
		ring, kept, err := ringOf(ctx, &p, in.key, cloud, in.session.Credential)
		if err != nil {
			return err
		}
		if later := ring.Extends(known); !later && ring.Epoch() != known.Epoch() {
			return errFalseEpoch
		} else if later {
			if err := a.vault.Replica.Adopt(ring); err != nil {
				return err
			}
		}
		if err := a.vault.FormerKeys.keep(ctx); err != nil {
			return err
		}
		err = a.vault.identity.update(ctx, func(now *Profile) {
			now.Params, now.Wrapped, now.Ring = p.Params, p.Wrapped, p.Ring
			now.carry(kept.Carried)
			now.rewrap(ring.Newest())
		})
		if err != nil {
			return err
		}
	}
	return syncing.KeepCredential(ctx, a.vault.Local, in.session.Credential)
}

// errSameMaster is returned for a new master password that is the present one.
var errSameMaster = errors.New("this is the present one")

// ChangeMaster replaces the master password; the present one is needed for it, and wrong ones count as at unlocking.
// The cloud comes first: should it refuse or be away, the present one stays good everywhere. The other devices hear of
// it with the next records that they pull; from then on they open with the new one alone.
func (a *Account) ChangeMaster(ctx context.Context, present, fresh, repeat secret.Text) error {
	d, p := a.vault.device, a.vault.Profile()
	o, err := d.unwrap(p, present)
	var wrong *WrongPassword
	if errors.As(err, &wrong) {
		return records.BadInput("present", err)
	}
	if err != nil {
		return err
	}
	if err := CheckNewMaster(fresh, repeat, p.Email, p.Name); err != nil {
		return err
	}
	if fresh.Equal(present) {
		return records.BadInput("password", errSameMaster)
	}
	was := o.pair
	if err := d.byMaster(&p, fresh, &o); err != nil {
		return err
	}
	if err := a.vault.Second.shareCover(ctx, was, o.pair); err != nil {
		return err
	}
	if err := a.relock(ctx, p, o, was.SignIn); err != nil {
		return err
	}
	return a.vault.Second.rekeyCover(ctx, o.pair)
}

// haveMaster has another master password open the vault from now on, here and, once they hear of it, on the other
// devices. signIn counts for a vault without a cloud alone.
func (a *Account) haveMaster(ctx context.Context, by card, signIn keys.Key) error {
	return errors.Join(
		a.vault.FormerKeys.keep(ctx),
		a.vault.identity.update(ctx, func(p *Profile) { p.take(by) }),
		keepSignIn(ctx, a.vault.Local, a.vault.Profile(), signIn),
		a.tellCard(ctx),
	)
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

// errHasCloud is returned for a vault that has a cloud already.
var errHasCloud = errors.New("this vault has a cloud already")

// ErrCodeSent is returned where the cloud has mailed a code, which is needed to go on.
var ErrCodeSent = errors.New("the cloud has mailed a code to your address: type it here")

// Wanted is a cloud that wants more before it makes an account.
type Wanted struct {
	Cloud      string `json:"cloud"` // its address; empty if there is none
	Invitation string `json:"invitation,omitempty"`
	Code       bool   `json:"code,omitempty"` // it mailed one; it wants an invitation otherwise
}

// Wanted returns the cloud that wants more before it makes this vault's account.
func (a *Account) Wanted(ctx context.Context) (w Wanted) {
	if err := a.vault.Local.GetJSON(ctx, localWanted, &w); err != nil {
		return Wanted{}
	}
	return w
}

// JoinCloud gives a vault that was on this computer only an account at a cloud. Where the cloud mails a code first,
// ErrCodeSent is told at "code"; where it wants an invitation, syncing.ErrInvitation at "invitation".
func (a *Account) JoinCloud(ctx context.Context, url string, by wire.Admission) error {
	p := a.vault.Profile()
	if p.Cloud != "" {
		return records.BadInput("cloud", errHasCloud)
	}
	c, err := a.vault.device.ports.Dial(url)
	if err != nil {
		return records.BadInput("cloud", err)
	}
	session, err := a.create(ctx, c, p, by)
	if errors.Is(err, ErrCodeSent) || errors.Is(err, syncing.ErrInvitation) {
		w := Wanted{url, by.Invitation, errors.Is(err, ErrCodeSent)}
		err = errors.Join(err, a.vault.Local.SetJSON(ctx, localWanted, w))
	}
	if err != nil {
		return err
	}
	a.vault.Sync.Stop()
	defer a.vault.Sync.Start()
	return a.settle(ctx, url, c, session.Credential)
}

// create makes the account. One that an earlier attempt made, and whose answer got lost, is
// continued.
func (a *Account) create(
	ctx context.Context, c Cloud, p Profile, by wire.Admission,
) (session Session, err error) {
	signIn, err := a.key(ctx, localSignIn)
	if err != nil {
		return session, err
	}
	session, err = a.makeAccount(ctx, c, p, signIn, by)
	if errors.Is(err, syncing.ErrTaken) || errors.Is(err, syncing.ErrInvitation) || errors.Is(err, syncing.ErrCode) {
		again, e := c.SignIn(ctx, signIn, wire.SignIn{Email: p.Email, Device: p.Device})
		if e == nil && again.Vault == p.Vault {
			return again, nil
		}
	}
	return session, askMore(ctx, c, p.Email, by, "", err)
}

// askMore has a code mailed where one is all that an account lacks, and says at which field of a form something is
// missing. Fields of another form than the usual one begin with a prefix.
func askMore(ctx context.Context, c Cloud, email string, by wire.Admission, prefix string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, syncing.ErrInvitation):
		return records.BadInput(prefix+"invitation", err)
	case errors.Is(err, syncing.ErrCode) && by.Code != "":
		return records.BadInput(prefix+"code", err)
	case errors.Is(err, syncing.ErrCode):
		err = c.AskCode(ctx, wire.CodeRequest{Email: email, Purpose: wire.ForAccount, Invitation: by.Invitation})
		if err == nil {
			return records.BadInput(prefix+"code", ErrCodeSent)
		}
	}
	return records.BadInput(prefix+"cloud", err)
}

// errNoKey is returned where a key that should be on this device isn't.
var errNoKey = errors.New("this device has lost the key that it signs in with: use the recovery code")

// key reads a key that is sealed for this device alone.
func (a *Account) key(ctx context.Context, name string) (keys.Key, error) {
	b, err := a.vault.Local.Get(ctx, name)
	if err == nil && len(b) != keys.KeySize {
		err = errNoKey
	}
	if err != nil {
		return keys.Key{}, err
	}
	return keys.Key(b), nil
}

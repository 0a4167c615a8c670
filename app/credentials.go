package app

import (
	"context"
	"errors"
	"io"

	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/wire"
)

// Names of what is sealed for this device alone.
const (
	localToken          = "token"            // of the cloud's session
	localSignIn         = "sign-in"          // to sign in again without the master password
	localRecoverySignIn = "recovery-sign-in" // to join a cloud later
	localSheet          = "sheet"            // the recovery code, until the sheet was checked
)

// credentials stretches the master password under a fresh salt, wraps the vault
// key both ways into the card, and returns what a cloud has to know.
func (d *Device) credentials(card *Profile, password secret.Text, vk keys.VaultKey, carried keys.Code, recovery keys.Pair) (wire.Credentials, error) {
	salt := make([]byte, keys.SaltSize)
	if _, err := io.ReadFull(d.p.Rand, salt); err != nil {
		return wire.Credentials{}, err
	}
	card.Params = keys.DefaultParams(salt)
	stretched, err := keys.Stretch(password, card.Params)
	if err != nil {
		return wire.Credentials{}, badInput("password", err)
	}
	pair := keys.Derive(stretched, carried)
	card.Wrapped, err = keys.Wrap(d.p.Rand, pair.Unlock, keys.ByMaster, card.Vault, vk)
	if err != nil {
		return wire.Credentials{}, err
	}
	card.RecoveryWrapped, err = keys.Wrap(d.p.Rand, recovery.Unlock, keys.ByRecovery, card.Vault, vk)
	return wire.Credentials{
		Params: card.Params, SignIn: pair.SignIn[:], RecoverySignIn: recovery.SignIn[:],
		Wrapped: card.Wrapped, RecoveryWrapped: card.RecoveryWrapped,
	}, err
}

func wireAccount(c Profile, cred wire.Credentials) wire.NewAccount {
	return wire.NewAccount{Email: c.Email, Vault: c.Vault, Device: c.Device, Credentials: cred}
}

// Recover sets a new master password with the recovery code of the sheet, on a
// computer that has the profile. It returns the vault open.
func (d *Device) Recover(ctx context.Context, profile, code string, password, repeat secret.Text) (*Vault, error) {
	if err := d.admit(profile); err != nil {
		return nil, err
	}
	recovery, err := keys.ParseCode(code, keys.Recovery)
	if err != nil {
		return nil, badInput("code", err)
	}
	s, err := d.store(ctx, profile)
	if err != nil {
		return nil, err
	}
	card, err := s.Profile(ctx)
	if err != nil {
		return nil, err
	}
	if err := CheckNewMaster(password, repeat, card.Email, card.Name); err != nil {
		return nil, err
	}
	pair := keys.DeriveRecovery(recovery)
	wrapped := card.RecoveryWrapped
	if len(wrapped) == 0 && card.Cloud != "" { // a device that joined: the cloud has it
		c, err := d.p.Dial(card.Cloud)
		if err != nil {
			return nil, err
		}
		session, err := c.SignIn(ctx, wire.SignIn{Email: card.Email, Device: card.Device, Key: pair.SignIn[:], Recovery: true})
		if err != nil {
			return nil, badInput("code", err)
		}
		wrapped = session.Wrapped
	}
	vk, err := keys.Unwrap(pair.Unlock, keys.ByRecovery, card.Vault, wrapped)
	if err != nil {
		var wrong *WrongPassword
		errors.As(d.refused(profile), &wrong)
		return nil, badInput("code", errors.New("this recovery code belongs to another vault"))
	}
	cred, err := d.credentials(&card, password, vk, keys.Code(card.Carried), pair)
	if err != nil {
		return nil, err
	}
	v := d.newVault(card, vk)
	if card.Cloud != "" {
		if v.cloud, err = d.p.Dial(card.Cloud); err != nil {
			return nil, err
		}
		// The cloud first: should it refuse or be away, the old master password
		// stays good everywhere.
		session, err := v.cloud.SignIn(ctx, wire.SignIn{Email: card.Email, Device: card.Device, Key: pair.SignIn[:], Recovery: true})
		if err == nil {
			err = v.cloud.SetCredentials(ctx, session.Token, cred)
		}
		if err != nil {
			return nil, badInput("code", err)
		}
		if err := v.setLocal(ctx, s, localToken, []byte(session.Token)); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(v.setLocal(ctx, s, localSignIn, cred.SignIn), s.SetProfile(ctx, card)); err != nil {
		return nil, err
	}
	if open, ok := d.Vault(profile); ok {
		open.Lock()
	}
	return d.openVault(ctx, s, card, vk)
}

// SignInAgain brings a device back in step whose session at the cloud has ended,
// because it was shut out or because the master password was changed elsewhere.
// From then on the master password given here opens the vault on it.
func (v *Vault) SignInAgain(ctx context.Context, password secret.Text) error {
	card := v.Profile()
	if v.cloud == nil {
		return badInput("again", errors.New("this vault is on this computer only"))
	}
	params, err := v.cloud.Params(ctx, card.Email)
	if err != nil {
		return badInput("again", err)
	}
	stretched, err := keys.Stretch(password, params)
	if err != nil {
		return badInput("again", err)
	}
	pair := keys.Derive(stretched, keys.Code(card.Carried))
	session, err := v.cloud.SignIn(ctx, wire.SignIn{Email: card.Email, Device: card.Device, Key: pair.SignIn[:]})
	if err != nil {
		return badInput("again", err)
	}
	if _, err := keys.Unwrap(pair.Unlock, keys.ByMaster, card.Vault, session.Wrapped); err != nil {
		return badInput("again", errors.New("the cloud's copy of the vault key doesn't open with this master password"))
	}
	card.Params, card.Wrapped = params, session.Wrapped
	if err := errors.Join(v.setLocal(ctx, v.store, localToken, []byte(session.Token)), v.setLocal(ctx, v.store, localSignIn, pair.SignIn[:]), v.store.SetProfile(ctx, card)); err != nil {
		return err
	}
	v.mu.Lock()
	v.card = card
	v.mu.Unlock()
	v.nudge()
	return nil
}

// JoinCloud gives a vault that was on this computer only an account at a cloud.
func (v *Vault) JoinCloud(ctx context.Context, url string) error {
	if v.Profile().Cloud != "" {
		return badInput("cloud", errors.New("this vault has a cloud already"))
	}
	c, err := v.d.p.Dial(url)
	if err != nil {
		return badInput("cloud", err)
	}
	signIn, err1 := v.local(ctx, localSignIn)
	recovery, err2 := v.local(ctx, localRecoverySignIn)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	card := v.Profile()
	session, err := c.CreateAccount(ctx, wireAccount(card, wire.Credentials{
		Params: card.Params, SignIn: signIn, RecoverySignIn: recovery, Wrapped: card.Wrapped, RecoveryWrapped: card.RecoveryWrapped,
	}))
	if errors.Is(err, ErrTaken) {
		// Ours, if an earlier attempt was cut off after the cloud's answer.
		again, e := c.SignIn(ctx, wire.SignIn{Email: card.Email, Device: card.Device, Key: signIn})
		if e == nil && again.Vault == card.Vault {
			session, err = again, nil
		}
	}
	if err != nil {
		return badInput("cloud", err)
	}
	card.Cloud = url
	if err := errors.Join(v.setLocal(ctx, v.store, localToken, []byte(session.Token)), v.store.SetProfile(ctx, card)); err != nil {
		return err
	}
	v.mu.Lock()
	v.card, v.cloud = card, c
	v.mu.Unlock()
	v.start()
	return nil
}

// Sheet is the recovery sheet: what only paper and devices hold.
type Sheet struct {
	Card     Profile
	Carried  []string // in groups
	Recovery []string // in groups; empty once the sheet was checked
}

// Sheet returns the recovery sheet. The recovery code is on it only until the
// user has shown that they have it on paper; after that nobody can print it again.
func (v *Vault) Sheet(ctx context.Context) (Sheet, error) {
	card := v.Profile()
	s := Sheet{Card: card, Carried: keys.Code(card.Carried).Print(keys.Carried)}
	b, err := v.local(ctx, localSheet)
	if err != nil || len(b) != keys.CodeSize {
		return s, err
	}
	s.Recovery = keys.Code(b).Print(keys.Recovery)
	return s, nil
}

// SheetWaits reports whether the recovery sheet has yet to be checked.
func (v *Vault) SheetWaits(ctx context.Context) bool {
	b, err := v.local(ctx, localSheet)
	return err == nil && len(b) == keys.CodeSize
}

// CheckSheet compares two groups typed back from the sheet, given by number from
// 1: one of the carried half and one of the recovery code. If both are right the
// recovery code is forgotten here.
func (v *Vault) CheckSheet(ctx context.Context, carriedGroup int, carried string, recoveryGroup int, recovery string) error {
	s, err := v.Sheet(ctx)
	if err != nil {
		return err
	}
	if len(s.Recovery) == 0 {
		return nil
	}
	if !sameGroup(s.Carried, carriedGroup, carried) {
		return badInput("carried", errors.New("this group isn't what the sheet says: please look again"))
	}
	if !sameGroup(s.Recovery, recoveryGroup, recovery) {
		return badInput("recovery", errors.New("this group isn't what the sheet says: please look again"))
	}
	return v.store.SetLocal(ctx, localSheet, nil)
}

func sameGroup(groups []string, n int, typed string) bool {
	return n >= 1 && n <= len(groups) && keys.NormalGroup(typed) == groups[n-1]
}

package app

import (
	"context"
	"errors"

	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/wire"
)

// An account goes to another cloud, or ends.

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
	return a.vault.Epochs.Publish(ctx, password)
}

// makeAccount makes an account for the vault as it is.
func (a *Account) makeAccount(
	ctx context.Context, c Cloud, p Profile, signIn keys.Key, by wire.Admission,
) (s Session, err error) {
	ring, err := a.vault.Replica.Ring()
	if err != nil {
		return s, err
	}
	recovery, byRecovery, err := a.vault.Sheets.wrap(ring.Newest())
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
	_, byRecovery, err := a.vault.Sheets.wrap(ring.Newest())
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

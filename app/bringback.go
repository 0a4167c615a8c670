package app

import (
	"bytes"
	"context"
	"errors"
	"time"

	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/wire"
)

// localFormer names what opened the vault before it was replaced: whoever takes an account over may replace what opens
// it on this device, too.
const localFormer = "former"

// formerKeys are what a master password opened the vault by.
type formerKeys struct {
	Params  keys.Params `json:"params"`
	Wrapped []byte      `json:"wrapped"`
	Carried []byte      `json:"carried"`
	Until   int64       `json:"until"` // milliseconds since 1970
}

const mostFormer = 8 // the first ones are kept

// FormerKeys are the keys that were in force before: they bring an account back that somebody else took over.
type FormerKeys struct{ vault *Vault }

// keepFormer keeps what opens the vault now, before it is replaced.
func (fk *FormerKeys) keep(ctx context.Context) error {
	p, now := fk.vault.Profile(), fk.vault.device.ports.Now()
	list, err := fk.list(ctx)
	if err != nil || len(list) >= mostFormer {
		return err
	}
	for _, f := range list {
		if bytes.Equal(f.Wrapped, p.Wrapped) {
			return nil
		}
	}
	return fk.vault.Local.SetJSON(ctx, localFormer, append(list, formerKeys{
		Params: p.Params, Wrapped: p.Wrapped, Carried: p.Carried,
		Until: now.Add(wire.BringBackDays * 24 * time.Hour).UnixMilli(),
	}))
}

// former returns what opened the vault in the last days.
func (fk *FormerKeys) list(ctx context.Context) (list []formerKeys, err error) {
	var all []formerKeys
	if err := fk.vault.Local.GetJSON(ctx, localFormer, &all); err != nil {
		return nil, err
	}
	now := fk.vault.device.ports.Now().UnixMilli()
	for _, f := range all {
		if f.Until > now {
			list = append(list, f)
		}
	}
	return list, nil
}

// AskBringBack has the cloud mail a code to the account's address, if there is something to bring back.
func (fk *FormerKeys) Ask(ctx context.Context) error {
	cloud := fk.vault.Account.at()
	if cloud == nil {
		return errOnlyHere
	}
	return cloud.AskCode(ctx, wire.CodeRequest{Email: fk.vault.Profile().Email, Purpose: wire.ForBringBack})
}

// errNothingBack is returned where a master password is right, and the cloud doesn't know it from the last days.
var errNothingBack = errors.New("the cloud knows no keys from the last 14 days that this master password belongs to: " +
	"it may be in force as it is")

// BringBack puts keys of the account into force again that somebody else replaced in the last days: by the master
// password that it had then, and the code that the cloud mailed. What this device has is published then; nothing that
// was at the cloud meanwhile counts, and every other device signs in again.
func (fk *FormerKeys) BringBack(ctx context.Context, password secret.Text, code string) error {
	p, cloud := fk.vault.Profile(), fk.vault.Account.at()
	if cloud == nil {
		return errOnlyHere
	}
	candidates, err := fk.openedBy(ctx, p, password)
	if err != nil {
		return records.BadInput("back-password", err)
	}
	for _, c := range candidates {
		in := wire.BringBack{SignIn: wire.SignIn{Email: p.Email, Device: p.Device}, Code: code}
		session, err := cloud.BringBack(ctx, c.signIn, in)
		if errors.Is(err, syncing.ErrSignIn) {
			continue
		}
		if err != nil {
			return records.BadInput("back-code", err)
		}
		if session.Vault != p.Vault {
			return records.BadInput("back-code", errOtherVault)
		}
		if err := syncing.KeepCredential(ctx, fk.vault.Local, session.Credential); err != nil {
			return err
		}
		return fk.vault.Epochs.begin(ctx, newEpoch{password: password, fresh: true, former: &c})
	}
	return records.BadInput("back-password", errNothingBack)
}

// formerOpened is what a master password opened the vault by, with the key that it signed in with.
type formerOpened struct {
	keys   formerKeys
	signIn keys.Key
}

// openedBy returns all that a master password opens or opened here. A wrong one counts as at unlocking.
func (fk *FormerKeys) openedBy(ctx context.Context, p Profile, password secret.Text) (list []formerOpened, err error) {
	attempts := fk.vault.device.attempts
	defer attempts.turn(p.ID)()
	if err := attempts.admit(p.ID); err != nil {
		return nil, err
	}
	former, err := fk.list(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range append(former, formerKeys{Params: p.Params, Wrapped: p.Wrapped, Carried: p.Carried}) {
		stretched, err := keys.Stretch(password, f.Params)
		if err != nil {
			break
		}
		p, o := p, opened{}
		p.Wrapped, p.Carried = f.Wrapped, f.Carried
		if _, ok := o.open(p, stretched); ok {
			list = append(list, formerOpened{f, o.pair.SignIn})
		}
	}
	if len(list) == 0 {
		return nil, attempts.wrong(p.ID)
	}
	attempts.right(p.ID)
	return list, nil
}

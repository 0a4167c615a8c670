package app

import (
	"context"
	"encoding/hex"
	"errors"
	"strings"

	"github.com/google/uuid"

	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Recovery is what a person gives to bring their vault to a computer that never had it, with the recovery sheet alone.
type Recovery struct {
	Email, Cloud     string
	Code             string // the recovery code, as typed or pasted
	Password, Repeat secret.Text
	DeviceName       string
}

var errNoCarried = errors.New("this vault was made before it carried its own half: " +
	"recover it on a computer that has it, or with the master password")

// RecoverHere brings a vault to this computer with the recovery code of its sheet, and gives it a new master password.
// What the vault is opened by beside that, the carried half, it has in itself. It comes back open and complete; the
// account's other devices ask for the new master password then. Of an error nothing is left here.
func (d *Device) RecoverHere(ctx context.Context, r Recovery) (*Vault, error) {
	code, err := keys.ParseCode(r.Code, keys.Recovery)
	if err != nil {
		return nil, records.BadInput("code", err)
	}
	r.Email = strings.ToLower(strings.TrimSpace(r.Email))
	if err := CheckEmail(r.Email); err != nil {
		return nil, err
	}
	if err := CheckNewMaster(r.Password, r.Repeat, r.Email); err != nil {
		return nil, err
	}
	recovery, err := keys.DeriveRecovery(code)
	if err != nil {
		return nil, err
	}
	p := Profile{
		ID: uuid.NewString(), Email: r.Email, Device: uuid.NewString(), DeviceName: d.deviceName(r.DeviceName),
		Cloud: r.Cloud, EpochAt: d.ports.Now().UnixMilli(),
	}
	if _, err := d.ports.Dial(p.Cloud); err != nil {
		return nil, records.BadInput("cloud", err)
	}
	cloud, session, err := d.recoverySession(ctx, p, recovery)
	if err != nil {
		return nil, err
	}
	p.Vault = session.Vault
	key, err := recovery.Unwrap(p.Vault, session.Wrapped)
	if err != nil {
		return nil, records.BadInput("code", errOtherRecovery)
	}
	if err := d.notHere(ctx, p.Vault); err != nil {
		return nil, err
	}
	o := opened{ring: keys.NewRing(key.Key)}
	if key.Epoch > 1 { // the statement that began it has the carried half
		if o.ring, o.kept, err = ringOf(ctx, &p, key, cloud, session.Credential); err != nil {
			return nil, err
		}
	}
	s, err := d.fetchAll(ctx, cloud, &p, o.ring, records.Checkpoint{}, session.Credential, func(own vault.Entry) error {
		if key.Epoch == 1 {
			if o.kept.Carried, err = carriedOf(own); err != nil {
				return err
			}
		}
		cred, err := d.credentials(&p, r.Password, &o, recovery.Public())
		if err != nil {
			return err
		}
		d.typedMaster(&p, o.ring)
		in := wire.NewCredentials{Recovery: true, Credentials: cred}
		return cloud.SetCredentials(ctx, session.Credential, recovery.SignIn, in)
	})
	if err != nil {
		return nil, err
	}
	v, err := d.openVault(ctx, s, p, o.ring, &o.pair)
	if err == nil {
		_ = v.Account.tellCard(ctx) // the others are signed out, and ask for the new one in any case
		err = v.Second.recoverCover(ctx, recovery, o.pair)
	}
	return v, err
}

// carriedOf takes the carried half of the first epoch out of the vault's own record.
func carriedOf(own vault.Entry) (keys.Code, error) {
	b, err := hex.DecodeString(own.Text(vault.FieldCarried))
	if err != nil || len(b) != keys.CodeSize {
		return keys.Code{}, records.BadInput("code", errNoCarried)
	}
	return keys.Code(b), nil
}

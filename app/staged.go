package app

import (
	"context"
	"errors"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// A new password changes nothing at the site by being made. So it is staged: it stands
// beside the present one until the site has taken it, or its user steps back. Neither is
// lost whatever happens: both are in the entry's past.

// ErrNotStaged is returned where no new password waits.
var ErrNotStaged = errors.New("no new password waits here any more")

// stage puts a new password beside the present one.
func (v *Vault) stage(ctx context.Context, id string, password secret.Text) error {
	return v.existing(ctx, id, func(e vault.Entry) (vault.Entry, error) {
		if !e.IsItem() {
			return e, ErrNoItem
		}
		if e.Secret(vault.FieldPassword).Equal(password) {
			return e, nil
		}
		return e.With(v.stamp(), vault.Changes{vault.FieldStaged: password})
	})
}

// ConfirmStaged makes the password that waits the login's own: the site took it.
func (v *Vault) ConfirmStaged(ctx context.Context, id string) error {
	return v.existing(ctx, id, func(e vault.Entry) (vault.Entry, error) {
		p := e.Secret(vault.FieldStaged)
		if p.IsEmpty() {
			return e, ErrNotStaged
		}
		return e.With(v.stamp(), vault.Changes{vault.FieldPassword: p, vault.FieldStaged: ""})
	})
}

// StepBack drops the password that waits: the present one stays. If the site had been
// believed already, the one before is the login's again.
func (v *Vault) StepBack(ctx context.Context, id string) error {
	return v.existing(ctx, id, func(e vault.Entry) (vault.Entry, error) {
		if e.Text(vault.FieldStaged) != "" {
			return e.With(v.stamp(), vault.Changes{vault.FieldStaged: ""})
		}
		var last *vault.Past
		for i := range e.Past {
			if p := &e.Past[i]; p.Field == vault.FieldPassword && p.Until != 0 && (last == nil || p.Until > last.Until) {
				last = p
			}
		}
		if last == nil {
			return e, ErrNotStaged
		}
		return e.With(v.stamp(), vault.Changes{vault.FieldPassword: secret.New(vault.Plain(last.Value)), vault.FieldStaged: e.Secret(vault.FieldPassword)})
	})
}

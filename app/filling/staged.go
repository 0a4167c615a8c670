package filling

import (
	"context"
	"errors"

	"redlocket/app/records"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// Staged is about new passwords that a site has yet to take. A new password changes nothing
// at the site by being made. So it is staged: it stands beside the present one until the site
// has taken it, or the user steps back. Neither is lost whatever happens: both are in the
// entry's past.
type Staged struct{ core *core }

// ErrNotStaged is returned where no new password waits.
var ErrNotStaged = errors.New("no new password waits here any more")

// Stage puts a new password beside the present one.
func (s *Staged) Stage(ctx context.Context, id string, password secret.Text) error {
	return s.core.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		if !e.IsItem() {
			return e, records.ErrNoItem
		}
		if e.Secret(vault.FieldPassword).Equal(password) || e.Secret(vault.FieldStaged).Equal(password) {
			return e, nil
		}
		return e.With(by, unsent(e, vault.Changes{vault.FieldStaged: password}))
	})
}

// unsent adds to changes that nothing that waits was sent yet.
func unsent(e vault.Entry, c vault.Changes) vault.Changes {
	if vault.View(e).Sent {
		c[vault.FieldSent] = false
	}
	return c
}

// Sent notes that the password that waits was sent to the site, or that the site refused it: which of the two is
// offered first depends on that.
func (s *Staged) Sent(ctx context.Context, id string, yes bool) error {
	return s.core.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		if it := vault.View(e); !it.Staged || it.Sent == yes {
			return e, nil
		}
		return e.With(by, vault.Changes{vault.FieldSent: yes})
	})
}

// Confirm makes the password that waits the login's own: the site took it.
func (s *Staged) Confirm(ctx context.Context, id string) error {
	return s.core.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		p := e.Secret(vault.FieldStaged)
		if p.IsEmpty() {
			return e, ErrNotStaged
		}
		return e.With(by, unsent(e, vault.Changes{vault.FieldPassword: p, vault.FieldStaged: ""}))
	})
}

// StepBack drops the password that waits: the present one stays. If the site had been
// believed already, the one before is the login's again.
func (s *Staged) StepBack(ctx context.Context, id string) error {
	return s.core.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		if e.Text(vault.FieldStaged) != "" {
			return e.With(by, unsent(e, vault.Changes{vault.FieldStaged: ""}))
		}
		last, ok := e.PreviousPassword()
		if !ok {
			return e, ErrNotStaged
		}
		return e.With(by, vault.Changes{vault.FieldPassword: last, vault.FieldStaged: e.Secret(vault.FieldPassword)})
	})
}

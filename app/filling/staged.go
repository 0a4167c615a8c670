package filling

import (
	"context"
	"errors"
	"strings"

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
		c := vault.Changes{vault.FieldSent: yes}
		if yes && e.Text(vault.FieldRefused) != "" {
			c[vault.FieldRefused] = "" // another try
		}
		return e.With(by, c)
	})
}

// refused notes that the site refused the password that waits, and what its page said.
func (s *Staged) refused(ctx context.Context, id, page string) error {
	const most = 200 // characters
	says := []rune(strings.Join(strings.Fields(page), " "))
	if len(says) > most {
		says = append(says[:most-1], '…')
	}
	if len(says) == 0 {
		says = []rune(vault.RefusedSilently)
	}
	return s.core.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		if !vault.View(e).Staged {
			return e, nil
		}
		return e.With(by, unsent(e, vault.Changes{vault.FieldRefused: string(says)}))
	})
}

// Confirm makes the password that waits the login's own: the site took it.
func (s *Staged) Confirm(ctx context.Context, id string) error {
	return s.core.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		p := e.Secret(vault.FieldStaged)
		if p.IsEmpty() {
			return e, ErrNotStaged
		}
		c := vault.Changes{vault.FieldPassword: p, vault.FieldStaged: ""}
		if e.Text(vault.FieldRefused) != "" {
			c[vault.FieldRefused] = ""
		}
		return e.With(by, unsent(e, c))
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

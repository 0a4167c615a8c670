package app

import (
	"bytes"
	"context"
	"encoding/json"

	"redlocket/core/keys"
	"redlocket/core/vault"
)

// card is how the master password opens the vault. The vault's own record tells it to the person's other devices:
// sealed like all records, so that no cloud has a say in it.
type card struct {
	Params  keys.Params `json:"params"`
	Wrapped []byte      `json:"wrapped"`
	Ring    []byte      `json:"ring"` // with the slots that it is wrapped for
}

// take has a card open the vault.
func (p *Profile) take(c card) { p.Params, p.Wrapped, p.Ring = c.Params, c.Wrapped, c.Ring }

// tellCard writes this device's card into the vault's own record.
func (a *Account) tellCard(ctx context.Context) error {
	p := a.vault.Profile()
	b, err := json.Marshal(card{p.Params, p.Wrapped, p.Ring})
	if err != nil {
		return err
	}
	var at vault.Stamp
	err = a.vault.Items.Edit(ctx, p.Vault, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		e, err := e.With(by, vault.Changes{vault.FieldCard: string(b)})
		at = e.Fields[vault.FieldCard].Stamp
		return e, err
	})
	if err != nil {
		return err
	}
	return a.vault.identity.update(ctx, func(p *Profile) { p.CardAt, p.CardBy = at.At, at.By })
}

// takeCard takes the card over that another device told since: from then on this device asks for the master password
// that was set there.
func (a *Account) takeCard(ctx context.Context) error {
	r, ok := a.vault.Book.Profile().Fields[vault.FieldCard]
	if !ok || !isNewer(r.Stamp, a.vault.Profile()) {
		return nil
	}
	var text string
	var c card
	if err := json.Unmarshal([]byte(r.Value.Reveal()), &text); err != nil {
		return err
	}
	if err := json.Unmarshal([]byte(text), &c); err != nil {
		return err
	}
	if err := c.Params.Check(); err != nil || len(c.Wrapped) == 0 || len(c.Ring) == 0 {
		return err
	}
	if err := a.vault.FormerKeys.keep(ctx); err != nil {
		return err
	}
	return a.vault.identity.update(ctx, func(p *Profile) {
		if !isNewer(r.Stamp, *p) {
			return
		}
		if keys.WrappedEpoch(c.Wrapped) != keys.WrappedEpoch(p.Wrapped) { // of before the key was changed
			return
		}
		if !bytes.Equal(p.Wrapped, c.Wrapped) {
			p.take(c)
		}
		p.CardAt, p.CardBy = r.Stamp.At, r.Stamp.By
	})
}

func isNewer(s vault.Stamp, p Profile) bool {
	return s.Compare(vault.Stamp{At: p.CardAt, By: p.CardBy}) > 0
}

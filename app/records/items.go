package records

import (
	"context"
	"errors"
	"maps"

	"github.com/google/uuid"

	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// Items reads and writes one item at a time.
type Items struct{ core *core }

// NewID returns an id for an item to be made. A form that carries it can be
// sent twice without making two items.
func NewID() string { return uuid.Must(uuid.NewV7()).String() }

// Entry returns one entry, without what its owner may not see of what is shared with them. The error is ErrNoItem if it
// isn't there, or deleted for good.
func (s *Items) Entry(id string) (e vault.Entry, err error) {
	err = s.core.read(func(in *content) error {
		h, ok := in.find(id)
		if !ok || h.entry.Purged() {
			return ErrNoItem
		}
		e = in.seen(in.whole(h.entry))
		return nil
	})
	return e, err
}

// Save writes changes to the item with the given id, which is made a login if it isn't there.
// Fields that the changes don't name stay as they are.
func (s *Items) Save(ctx context.Context, id string, c vault.Changes) error {
	return s.SaveAs(ctx, id, vault.TypeLogin, c)
}

// SaveAs is Save for an item of any kind. One that is there becomes of that kind.
func (s *Items) SaveAs(ctx context.Context, id string, kind vault.Type, c vault.Changes) error {
	if uuid.Validate(id) != nil {
		return BadInput("id", errors.New("this form is broken; please open it again"))
	}
	if _, ok := vault.KindOf(kind); !ok {
		return BadInput("kind", errors.New("there is no such kind of item"))
	}
	return s.change(ctx, id, func(e vault.Entry, ok bool) (vault.Entry, error) {
		if !ok {
			return vault.New(id, kind, s.core.stamp(), c)
		}
		if !e.IsItem() {
			return e, ErrNoItem
		}
		if e.Kind() != kind {
			c = maps.Clone(c)
			c[vault.FieldKind] = string(kind)
		}
		return e.With(s.core.stamp(), c)
	})
}

// SaveAll writes many new logins at once.
func (s *Items) SaveAll(ctx context.Context, drafts []vault.Draft) error {
	return s.core.write(func(in *content) error {
		list := make([]vault.Entry, 0, len(drafts))
		for _, d := range drafts {
			e, err := vault.New(NewID(), vault.TypeLogin, s.core.stamp(), d.Changes())
			if err != nil {
				return err
			}
			list = append(list, e)
		}
		return s.core.save(ctx, in, list)
	})
}

// Edit makes the next version of an entry that is there. by is the stamp of the edit.
func (s *Items) Edit(
	ctx context.Context,
	id string,
	fn func(e vault.Entry, by vault.Stamp) (vault.Entry, error),
) error {
	return s.change(ctx, id, func(e vault.Entry, ok bool) (vault.Entry, error) {
		if !ok {
			return e, ErrNoItem
		}
		return fn(e, s.core.stamp())
	})
}

// change makes the next version of an entry, or the first one.
func (s *Items) change(ctx context.Context, id string, fn func(e vault.Entry, ok bool) (vault.Entry, error)) error {
	return s.core.write(func(in *content) error {
		h, ok := in.find(id)
		e, err := fn(in.whole(h.entry), ok)
		if err != nil {
			return err
		}
		if err := s.core.save(ctx, in, []vault.Entry{e}); err != nil {
			return err
		}
		if e.IsItem() || h.entry.IsItem() {
			in.remember([]step{{h.entry, e}})
		}
		return nil
	})
}

// Resolve decides which of two passwords that were set at once is the current one.
func (s *Items) Resolve(ctx context.Context, id string, password secret.Text) error {
	return s.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) { return e.Resolve(by, password) })
}

// RestoreAt makes an item what it was at a moment, in milliseconds since 1970.
func (s *Items) RestoreAt(ctx context.Context, id string, ms int64) error {
	return s.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) { return e.RestoreAt(by, ms) })
}

// Stamp is the stamp of an edit made now on this device.
func (s *Items) Stamp() vault.Stamp { return s.core.stamp() }

// ErrNoCode is returned for an item that has no one-time codes.
var ErrNoCode = errors.New("there are no one-time codes with this item")

// Code returns an item's one-time code of now, to be shown.
func (s *Items) Code(id string) (otp.Code, otp.Setup, error) {
	e, err := s.Entry(id)
	if err != nil {
		return otp.Code{}, otp.Setup{}, err
	}
	return s.codeOf(e)
}

// CodeToFill returns it to be filled in: never to be shown.
func (s *Items) CodeToFill(id string) (otp.Code, error) {
	e, err := s.ToFill(id)
	if err != nil {
		return otp.Code{}, err
	}
	c, _, err := s.codeOf(e)
	return c, err
}

func (s *Items) codeOf(e vault.Entry) (otp.Code, otp.Setup, error) {
	text := e.Secret(vault.FieldSetup)
	if text.IsEmpty() {
		return otp.Code{}, otp.Setup{}, ErrNoCode
	}
	setup, err := otp.Parse(text)
	if err != nil {
		return otp.Code{}, setup, err
	}
	c, err := setup.Now(s.core.Now())
	return c, setup, err
}

// NextCode moves the counter of an item's codes on, after one was used.
func (s *Items) NextCode(ctx context.Context, id string) error {
	return s.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		setup, err := otp.Parse(e.Secret(vault.FieldSetup))
		if err != nil || !setup.Counts() {
			return e, ErrNoCode
		}
		setup.Counter++
		return e.With(by, vault.Changes{vault.FieldSetup: setup.String()})
	})
}

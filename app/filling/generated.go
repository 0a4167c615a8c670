package filling

import (
	"context"
	"errors"
	"slices"
	"time"

	"redlocket/app/reauth"
	"redlocket/core/secret"
)

// GeneratedPassword is a password that was made and may not have been kept. It stays at hand,
// on this device, until it is too old.
type GeneratedPassword struct {
	Password string `json:"password,omitempty"`
	Site     string `json:"site,omitempty"` // what it was made for
	URL      string `json:"url,omitempty"`
	At       int64  `json:"at"` // milliseconds since 1970
}

// How long generated passwords stay at hand, and how many.
const (
	generatedLife = 30 * 24 * time.Hour
	generatedMost = 200
)

const localGenerated = "drawer"

// Generated are the passwords made lately.
type Generated struct{ core *core }

// List returns them, the latest first.
func (g *Generated) List() (out []GeneratedPassword, err error) {
	err = g.core.gate.Read(func(in *state) error {
		for _, m := range in.generated {
			if g.core.Now().Sub(time.UnixMilli(m.At)) < generatedLife {
				out = append(out, m)
			}
		}
		return nil
	})
	return out, err
}

// ErrNoGenerated is returned for a password that isn't at hand any more.
var ErrNoGenerated = errors.New("this password isn’t kept any longer")

// At returns the password that was made at the moment. The master password is asked for first,
// if the user wants that for showing.
func (g *Generated) At(at int64) (secret.Text, error) {
	if err := g.core.Guard.Require(reauth.Show); err != nil {
		return secret.Text{}, err
	}
	list, err := g.List()
	if err != nil {
		return secret.Text{}, err
	}
	for _, m := range list {
		if m.At == at {
			return secret.New(m.Password), nil
		}
	}
	return secret.Text{}, ErrNoGenerated
}

// seenFor is how long a password is shown at least before somebody can have used it.
const seenFor = 4 * time.Second

// Keep keeps a password that was made, before anybody sees it, and returns the moment by which it is known. One that
// was made instead of another, which was seen too shortly to be used, takes its place; instead is 0 for none.
func (g *Generated) Keep(ctx context.Context, m GeneratedPassword, instead int64) (at int64, err error) {
	list, err := g.List()
	if err != nil {
		return 0, err
	}
	m.At = g.core.Now().UnixMilli()
	if len(list) > 0 && list[0].At == instead && m.At-instead < seenFor.Milliseconds() {
		list = list[1:]
	}
	if len(list) > 0 {
		m.At = max(m.At, list[0].At+1) // it is known by its moment
	}
	list = append([]GeneratedPassword{m}, list[:min(len(list), generatedMost-1)]...)
	return m.At, g.keep(ctx, list)
}

// keep keeps a list, but for what belongs to the covered part: that is at hand until the vault is locked.
func (g *Generated) keep(ctx context.Context, list []GeneratedPassword) error {
	covered := func(m GeneratedPassword) bool { return g.core.Set.Cover.Covers(m.URL) }
	plain := slices.DeleteFunc(slices.Clone(list), covered)
	var err error
	if len(plain) == 0 { // as if none had been made
		err = g.core.Set.Local.Set(ctx, localGenerated, nil)
	} else {
		err = g.core.Set.Local.SetJSON(ctx, localGenerated, plain)
	}
	if err != nil {
		return err
	}
	return g.core.gate.Write(func(in *state) error { in.generated = list; return nil })
}

// Forget forgets some of them.
func (g *Generated) Forget(ctx context.Context, which func(GeneratedPassword) bool) error {
	list, err := g.List()
	if err != nil {
		return err
	}
	return g.keep(ctx, slices.DeleteFunc(list, which))
}

// Clear forgets them all.
func (g *Generated) Clear(ctx context.Context) error {
	if err := g.core.Set.Local.Set(ctx, localGenerated, nil); err != nil {
		return err
	}
	return g.core.gate.Write(func(in *state) error { in.generated = nil; return nil })
}

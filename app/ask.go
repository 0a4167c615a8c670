package app

import (
	"context"
	"errors"
	"time"

	"redlocket/core/secret"
)

// Reauth names an act that the master password may be asked for again.
type Reauth int

// The acts. All but ReauthShow are always asked for.
const (
	ReauthSheet Reauth = iota // recovery material
	ReauthPurge
	ReauthExport   // and what else comes out in clear
	ReauthSettings // that would ask less often
	ReauthVouch    // that a page which looks like an imitation is right
	ReauthShow     // a password; if its user wants
)

// ErrReauth is returned for an act that the master password must be shown for first.
var ErrReauth = errors.New("please show your master password again for this")

// askAtOnce is how long one showing counts where each act asks: long enough for
// the act itself.
const askAtOnce = 20 * time.Second

// promised is how long an act may follow after it was said that it may be done.
const promised = 15 * time.Second

// RequireReauth returns ErrAsk if the act needs the master password first.
func (v *Vault) RequireReauth(a Reauth) error {
	shown, err := v.shown(a)
	if err != nil {
		return err
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	if shown || v.promises[a].After(v.d.p.Now()) {
		return nil
	}
	return ErrReauth
}

// Grant is NeedsAsking for a page that asks before it acts: what it was told holds
// for the act itself, even if the showing lapses between the two.
func (v *Vault) Grant(a Reauth) error {
	shown, err := v.shown(a)
	if err != nil {
		return err
	}
	if !shown { // a promise isn't made longer by another
		return ErrReauth
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.promises == nil {
		v.promises = map[Reauth]time.Time{}
	}
	v.promises[a] = v.d.p.Now().Add(promised)
	return nil
}

// shown tells whether the master password was shown lately enough for the act.
func (v *Vault) shown(a Reauth) (bool, error) {
	if err := v.wait(); err != nil { // what is set for all devices is in a record
		return false, err
	}
	s := v.Settings()
	if a == ReauthShow && !s.AskToShow {
		return true, nil
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.d.p.Now().Sub(v.asked) < max(s.AskFor, askAtOnce), nil
}

// Reauthenticate shows the master password again. Wrong ones count as at unlocking.
func (v *Vault) Reauthenticate(_ context.Context, password secret.Text) error {
	card := v.Profile()
	if _, err := v.d.unwrap(card, password); err != nil {
		return err
	}
	v.confirmed()
	v.Touch()
	return nil
}

// confirmed notes that the master password was shown just now.
func (v *Vault) confirmed() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.asked = v.d.p.Now()
	v.d.mu.Lock()
	defer v.d.mu.Unlock()
	delete(v.d.attempts, v.card.ID)
}

package app

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"redlocket/core/secret"
)

// GeneratedPassword is a password that was made and may not have been kept: it lies in the drawer, on
// this device, until it is too old.
type GeneratedPassword struct {
	Password string `json:"password,omitempty"`
	Site     string `json:"site,omitempty"` // what it was made for
	URL      string `json:"url,omitempty"`
	At       int64  `json:"at"` // milliseconds since 1970
}

// The drawer keeps what was made for so long, and no more than so many.
const (
	drawerLife = 30 * 24 * time.Hour
	drawerMost = 200
)

const localDrawer = "drawer"

// Generated returns the passwords made lately, the latest first.
func (v *Vault) Generated() ([]GeneratedPassword, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if v.seal == nil {
		return nil, ErrLocked
	}
	var out []GeneratedPassword
	for _, m := range v.drawer {
		if v.d.p.Now().Sub(time.UnixMilli(m.At)) < drawerLife {
			out = append(out, m)
		}
	}
	return out, nil
}

// GeneratedAt returns the password that lies in the drawer since the moment. The master password is
// asked for first, if its user wants that for showing.
func (v *Vault) GeneratedAt(at int64) (secret.Text, error) {
	if err := v.RequireReauth(ReauthShow); err != nil {
		return secret.Text{}, err
	}
	list, err := v.Generated()
	for _, m := range list {
		if m.At == at {
			return secret.New(m.Password), nil
		}
	}
	if err == nil {
		err = ErrNoGenerated
	}
	return secret.Text{}, err
}

// ErrNoGenerated is returned for a password that is no longer in the drawer.
var ErrNoGenerated = errors.New("this lies in the drawer no longer")

// KeepGenerated keeps a password that was made, before anybody sees it.
func (v *Vault) KeepGenerated(ctx context.Context, m GeneratedPassword) error {
	list, err := v.Generated()
	if err != nil {
		return err
	}
	m.At = v.d.p.Now().UnixMilli()
	if len(list) > 0 {
		m.At = max(m.At, list[0].At+1) // it is known by its moment
	}
	list = append([]GeneratedPassword{m}, list[:min(len(list), drawerMost-1)]...)
	b, err := json.Marshal(list)
	if err != nil {
		return err
	}
	if err := v.setLocal(ctx, v.store, localDrawer, b); err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal != nil {
		v.drawer = list
	}
	return nil
}

// ClearGenerated throws away what lies in the drawer.
func (v *Vault) ClearGenerated(ctx context.Context) error {
	v.mu.Lock()
	v.drawer = nil
	v.mu.Unlock()
	return v.SetLocal(ctx, localDrawer, nil)
}

func (v *Vault) loadDrawer(ctx context.Context) error {
	b, err := v.local(ctx, localDrawer)
	if err != nil || b == nil {
		return err
	}
	return json.Unmarshal(b, &v.drawer)
}

package app

import (
	"context"
	"encoding/json"
	"time"
)

// Made is a password that was made and may not have been kept: it lies in the drawer, on
// this device, until it is too old.
type Made struct {
	Password string `json:"password"`
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

// Drawer returns the passwords made lately, the latest first.
func (v *Vault) Drawer() ([]Made, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if v.seal == nil {
		return nil, ErrLocked
	}
	var out []Made
	for _, m := range v.drawer {
		if v.d.p.Now().Sub(time.UnixMilli(m.At)) < drawerLife {
			out = append(out, m)
		}
	}
	return out, nil
}

// PutInDrawer keeps a password that was made, before anybody sees it.
func (v *Vault) PutInDrawer(ctx context.Context, m Made) error {
	list, err := v.Drawer()
	if err != nil {
		return err
	}
	m.At = v.d.p.Now().UnixMilli()
	list = append([]Made{m}, list[:min(len(list), drawerMost-1)]...)
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

// EmptyDrawer throws away what lies in the drawer.
func (v *Vault) EmptyDrawer(ctx context.Context) error {
	v.mu.Lock()
	v.drawer = nil
	v.mu.Unlock()
	return v.Keep(ctx, localDrawer, nil)
}

func (v *Vault) loadDrawer(ctx context.Context) error {
	b, err := v.local(ctx, localDrawer)
	if err != nil || b == nil {
		return err
	}
	return json.Unmarshal(b, &v.drawer)
}

package app

import (
	"context"
	"encoding/json"
	"maps"

	"redlocket/core/find"
	"redlocket/core/keys"
)

// localUses names what is kept of when each item was last used on this device. It
// isn't synced: the cloud would learn when its user signs in somewhere.
const localUses = "uses"

// Use notes that an item was used now: filled, copied or opened at its site.
func (v *Vault) Use(id string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return
	}
	next := make(map[string]int64, len(v.uses)+1)
	maps.Copy(next, v.uses) // readers hold the map that is there
	next[id] = v.d.p.Now().UnixMilli()
	v.uses, v.dirty = next, true
}

// Used returns when an item was last used on this device, in milliseconds since
// 1970; 0 if it never was.
func (v *Vault) Used(id string) int64 {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.uses[id]
}

// Find searches the book, and lists the first so many sites; 0 is all.
func (v *Vault) Find(q find.Query, most int) (*find.Book, error) {
	x, err := v.Index()
	if err != nil {
		return nil, err
	}
	v.mu.RLock()
	now := find.Now{Time: v.d.p.Now().UnixMilli(), Used: v.uses}
	v.mu.RUnlock()
	return x.Find(q, now, most), nil
}

func (v *Vault) loadUses(ctx context.Context) error {
	v.uses = map[string]int64{}
	b, err := v.local(ctx, localUses)
	if err != nil || b == nil {
		return err
	}
	return json.Unmarshal(b, &v.uses)
}

// keepUses seals the uses, at locking. A crash loses those of one sitting, and
// with them a little of the order of searches.
func (v *Vault) keepUses(seal *keys.Vault, uses map[string]int64) {
	b, err := json.Marshal(uses)
	if err != nil {
		return
	}
	if sealed, err := seal.SealLocal(localUses, b); err == nil {
		_ = v.store.SetLocal(context.Background(), localUses, sealed)
	}
}

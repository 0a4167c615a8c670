package app

import (
	"context"
	"sync"
)

// identity is the profile of an open vault. It is in the store before memory shows it.
type identity struct {
	store Store

	mu      sync.RWMutex // guards profile
	profile Profile
}

func (i *identity) get() Profile {
	i.mu.RLock()
	defer i.mu.RUnlock()
	return i.profile
}

// update changes what the store holds now: a recovery may have changed it since the vault
// was opened.
func (i *identity) update(ctx context.Context, change func(*Profile)) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	p, err := i.store.Profile(ctx)
	if err != nil {
		return err
	}
	change(&p)
	if err := i.store.SetProfile(ctx, p); err != nil {
		return err
	}
	i.profile = p
	return nil
}

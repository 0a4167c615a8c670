package app

import (
	"context"
	"sync"
)

// identity is the profile of an open vault. It is in the store before memory shows it.
type identity struct {
	store  Store
	writes *profileWrites

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
	p, err := i.writes.update(ctx, i.store, change)
	if err == nil {
		i.profile = p
	}
	return err
}

// profileWrites has one change of a profile be made at a time, on what the store holds then.
type profileWrites struct{ mu sync.Mutex }

func (w *profileWrites) update(ctx context.Context, s Store, change func(*Profile)) (Profile, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	p, err := s.Profile(ctx)
	if err != nil {
		return p, err
	}
	change(&p)
	return p, s.SetProfile(ctx, p)
}

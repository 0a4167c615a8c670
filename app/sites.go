package app

import (
	"context"
	"encoding/json"
	"sync"

	"redlocket/core/directory"
	"redlocket/core/find"
	"redlocket/core/vault"
)

// shippedList is read once: it doesn't change while the program runs.
var shippedList = sync.OnceValue(directory.Shipped)

func shippedSites() *directory.Directory { return directory.New(shippedList()) }

// Sites is the directory of sites: the user's own list first, then the shipped one.
func (v *Vault) Sites() *directory.Directory {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.sites
}

func (v *Vault) findOptions() find.Options {
	return find.Options{Language: v.language(), Names: v.sites.Names}
}

// ownSites returns the id of the entry that holds the user's own list, and the
// list. v.mu is held.
func (v *Vault) ownSites() (string, []directory.Site) {
	for id, h := range v.entries {
		if h.entry.Type == vault.TypeSites {
			sites, err := directory.Parse([]byte(h.entry.Text(vault.FieldSites)))
			if err == nil {
				return id, sites
			}
		}
	}
	return "", nil
}

// readSites takes the user's own list into the directory. v.mu is held.
func (v *Vault) readSites() {
	_, own := v.ownSites()
	if len(own) > 0 {
		v.index = nil // it knows the shipped names only
	}
	v.sites = directory.New(own, shippedList())
}

// OwnSites returns the sites that the user added to the directory.
func (v *Vault) OwnSites() ([]directory.Site, error) {
	if err := v.wait(); err != nil {
		return nil, err
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	_, own := v.ownSites()
	return own, nil
}

// AddSites adds a list of sites to the user's own, on all devices. Of a domain
// that is there already the new word counts.
func (v *Vault) AddSites(ctx context.Context, list []byte) (int, error) {
	fresh, err := directory.Parse(list)
	if err != nil {
		return 0, badInput("sites", err)
	}
	own, err := v.OwnSites()
	if err != nil {
		return 0, err
	}
	taken := map[string]bool{}
	for _, s := range fresh {
		for _, d := range s.Domains {
			taken[d] = true
		}
	}
	all := fresh
	for _, s := range own {
		keep := true
		for _, d := range s.Domains {
			keep = keep && !taken[d]
		}
		if keep {
			all = append(all, s)
		}
	}
	return len(fresh), v.setSites(ctx, all)
}

// RemoveSite takes one of the user's own sites out of the directory.
func (v *Vault) RemoveSite(ctx context.Context, domain string) error {
	own, err := v.OwnSites()
	if err != nil {
		return err
	}
	var rest []directory.Site
	for _, s := range own {
		if s.Domains[0] != domain {
			rest = append(rest, s)
		}
	}
	return v.setSites(ctx, rest)
}

func (v *Vault) setSites(ctx context.Context, list []directory.Site) error {
	b, err := directory.Encode(list)
	if err != nil {
		return err
	}
	if _, err := directory.Parse(b); err != nil {
		return badInput("sites", err)
	}
	v.mu.RLock()
	id, _ := v.ownSites()
	v.mu.RUnlock()
	if id == "" {
		id = NewID()
	}
	compact, err := json.Marshal(json.RawMessage(b))
	if err != nil {
		return err
	}
	err = v.change(ctx, id, func(e vault.Entry, ok bool) (vault.Entry, error) {
		c := vault.Changes{vault.FieldSites: string(compact)}
		if !ok {
			return vault.New(id, vault.TypeSites, v.stamp(), c)
		}
		return e.With(v.stamp(), c)
	})
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return ErrLocked
	}
	v.readSites()
	return nil
}

package app

import (
	"context"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// Alarm says that a page imitates a kept site.
type Alarm struct {
	ID    string      `json:"id"`
	Title string      `json:"title"`
	Kept  string      `json:"kept"`
	URL   string      `json:"url"` // where the kept login signs in
	Why   string      `json:"why"`
	Here  []site.Part `json:"here"`
	There []site.Part `json:"there"`
}

// mostAlarms bounds how many addresses are remembered as looked into.
const mostAlarms = 256

// alarm reports whether a page imitates a kept site.
func (v *Vault) alarm(url string) *Alarm {
	f, err := v.fitting()
	if err != nil {
		return nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	a, ok := f.alarms[url]
	if !ok {
		a = f.alarm(url)
		if f.alarms == nil || len(f.alarms) >= mostAlarms {
			f.alarms = map[string]*Alarm{}
		}
		f.alarms[url] = a
	}
	return a
}

func (f *fitting) alarm(url string) *Alarm {
	known := func(domain string) bool {
		_, ok := f.sites.Lookup(domain)
		return ok
	}
	l, ok := f.guard.Check(url, known)
	if !ok || len(f.logins[l.Kept]) == 0 {
		return nil
	}
	it := f.logins[l.Kept][0]
	to := ""
	for _, a := range it.Addresses {
		if to == "" && site.Domain(a.URL) == l.Kept {
			to = a.URL
		}
	}
	return &Alarm{ID: it.ID, Title: it.Title, Kept: l.Kept, URL: to, Why: l.Why, Here: l.Here, There: l.There}
}

// Vouch adds a page's address to a login, although it looks like an imitation: its user says
// that it is right. The master password is asked for first.
func (v *Vault) Vouch(ctx context.Context, id, url string) error {
	if err := v.RequireReauth(ReauthVouch); err != nil {
		return err
	}
	address, err := site.Clean(url)
	if err != nil {
		return badInput("address", err)
	}
	return v.existing(ctx, id, func(e vault.Entry) (vault.Entry, error) {
		if !e.IsItem() {
			return e, ErrNoItem
		}
		return e.With(v.stamp(), vault.Changes{vault.FieldAddresses: append(vault.View(e).Addresses, vault.Address{URL: address, Match: vault.MatchSite})})
	})
}

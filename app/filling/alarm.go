package filling

import (
	"context"
	"slices"

	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/autofill"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Alarm says that a page imitates a kept site.
type Alarm struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	URL   string `json:"url"` // where the kept login signs in
	site.Likeness
}

// mostAlarms bounds how many addresses are remembered as looked into.
const mostAlarms = 256

// alarm returns what a page imitates; nil for nothing.
func (c *core) alarm(url string) (*Alarm, error) {
	m, err := c.match()
	if err != nil {
		return nil, err
	}
	return m.alarm(url), nil
}

// claimed returns what a page that asks somebody to sign in imitates by what it calls itself; nil for nothing.
func (c *core) claimed(p Page, readings []autofill.Reading) (*Alarm, error) {
	asks := slices.ContainsFunc(readings, func(r autofill.Reading) bool {
		return r.Kind == autofill.SignIn || r.Kind == autofill.FirstStep
	})
	if !asks || p.Snapshot.Known {
		return nil, nil
	}
	m, err := c.match()
	if err != nil {
		return nil, err
	}
	l, ok := m.guard.Claims(p.URL, p.Snapshot.Title, m.called, m.known)
	if !ok {
		return nil, nil
	}
	return m.alarmOf(l), nil
}

// alarm looks into each address once.
func (m *matcher) alarm(url string) *Alarm {
	m.mu.Lock()
	defer m.mu.Unlock()
	a, ok := m.alarms[url]
	if !ok {
		a = m.imitates(url)
		if len(m.alarms) >= mostAlarms {
			clear(m.alarms)
		}
		m.alarms[url] = a
	}
	return a
}

func (m *matcher) imitates(url string) *Alarm {
	l, ok := m.guard.Check(url, m.known)
	if !ok {
		return nil
	}
	return m.alarmOf(l)
}

// known reports whether a domain is some site of its own beyond doubt.
func (m *matcher) known(domain string) bool {
	_, ok := m.sites.Lookup(domain)
	return ok
}

// alarmOf is the alarm about a likeness; nil where the kept site has no login any more.
func (m *matcher) alarmOf(l site.Likeness) *Alarm {
	if len(m.logins[l.Kept]) == 0 {
		return nil
	}
	it := m.logins[l.Kept][0]
	to := ""
	for _, a := range it.Addresses {
		if to == "" && site.Domain(a.URL) == l.Kept {
			to = a.URL
		}
	}
	return &Alarm{ID: it.ID, Title: it.Title, URL: to, Likeness: l}
}

// Vouch adds a page's address to a login, although it looks like an imitation: the user says
// that it is right. The master password is asked for first.
func (s *Pages) Vouch(ctx context.Context, id, url string) error {
	if err := s.core.Guard.Require(reauth.Vouch); err != nil {
		return err
	}
	address, err := site.Clean(url)
	if err != nil {
		return records.BadInput("address", err)
	}
	return s.core.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		if !e.IsItem() {
			return e, records.ErrNoItem
		}
		list := append(vault.View(e).Addresses, vault.Address{URL: address, Match: vault.MatchSite})
		return e.With(by, vault.Changes{vault.FieldAddresses: list})
	})
}

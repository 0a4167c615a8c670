package filling

import (
	"context"
	"strings"
	"unicode"

	"redlocket/app/reauth"
	"redlocket/app/records"
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

// alarm returns what a page imitates; nil for nothing.
func (c *core) alarm(url string) (*Alarm, error) {
	m, err := c.match()
	if err != nil {
		return nil, err
	}
	return m.alarm(url), nil
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
	known := func(domain string) bool {
		_, ok := m.sites.Lookup(domain)
		return ok
	}
	l, ok := m.guard.Check(url, known)
	if !ok || len(m.logins[l.Kept]) == 0 {
		return nil
	}
	it := m.logins[l.Kept][0]
	to := ""
	for _, a := range it.Addresses {
		if to == "" && site.Domain(a.URL) == l.Kept {
			to = a.URL
		}
	}
	return &Alarm{ID: it.ID, Title: it.Title, Kept: l.Kept, URL: to, Why: why(l), Here: l.Here, There: l.There}
}

// why says how a page imitates a kept site.
func why(l site.Likeness) string {
	ending := func(parts []site.Part) string { return parts[len(parts)-1].Text }
	switch l.Trick {
	case site.TrickInFront:
		return "The name stands in front, but what counts is the end: this page belongs to " + l.Domain + "."
	case site.TrickInPath:
		return "The name stands in the path, behind the address that counts: this page belongs to " + l.Domain + "."
	case site.TrickEnding:
		return "The same name with another ending: " + ending(l.Here) + " in place of " + ending(l.There) + "."
	case site.TrickScript:
		return "Letters were replaced by those of another script that look the same; " +
			"the browser’s own name for it is " + l.Domain + "."
	case site.TrickLetters:
		words := "Letters were replaced by others that look like them"
		if l.Letter == 0 {
			return words + "."
		}
		// Named, because they may look the same in whatever letters they are shown.
		return words + ": " + called(l.Letter) + " in place of " + called(l.InPlace) + "."
	case site.TrickPunctuation:
		return "The dots and hyphens stand in other places."
	case site.TrickHyphens:
		return "The hyphens stand in other places."
	case site.TrickAddition:
		return "The name has something added to it."
	}
	return "It is spelt almost the same."
}

// called names a character.
func called(r rune) string {
	switch {
	case r >= '0' && r <= '9':
		return "the digit " + string(r)
	case r >= 'a' && r <= 'z':
		return "the letter " + strings.ToUpper(string(r))
	case r == '-':
		return "a hyphen"
	}
	for name, table := range unicode.Scripts {
		if name != "Common" && name != "Inherited" && unicode.Is(table, r) {
			if name == "Latin" {
				return "the accented letter " + strings.ToUpper(string(r))
			}
			return "a " + strings.ReplaceAll(name, "_", " ") + " letter"
		}
	}
	return "another character"
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

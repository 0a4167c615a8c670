package filling

import (
	"context"
	"errors"
	"net/http"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// Asker asks sites what they publish about themselves.
type Asker interface {
	// Get returns the status and the body of an address, within a few seconds.
	Get(ctx context.Context, url string) (status int, body []byte, err error)
}

// ErrNoAddress is returned for an item that belongs to no site.
var ErrNoAddress = errors.New("this login has no address")

func (s *Pages) addressOf(id string) (string, error) {
	e, err := s.core.Set.Items.ToFill(id)
	if err != nil {
		return "", err
	}
	if it := vault.View(e); len(it.Addresses) > 0 {
		return it.Addresses[0].URL, nil
	}
	return "", ErrNoAddress
}

// ChangePage returns where a login's password is changed: the site's own well-known address
// if it has one, else what the directory of sites says, else the sign-in page.
func (s *Pages) ChangePage(ctx context.Context, id string) (string, error) {
	address, err := s.addressOf(id)
	if err != nil {
		return "", err
	}
	if err := s.ExpectFill(id); err != nil {
		return "", err
	}
	if ask := s.core.Sites; ask != nil && hasChangePage(ctx, ask, address) {
		return site.WellKnown(address, site.ChangePasswordPath), nil
	}
	if known, ok := s.core.Set.Sites.Directory().Lookup(site.Domain(address)); ok && known.Change != "" {
		return known.Change, nil
	}
	return address, nil
}

// hasChangePage reports whether a site answers at the well-known address for changing
// passwords, and not at any address whatever.
func hasChangePage(ctx context.Context, ask Asker, address string) bool {
	there, _, err := ask.Get(ctx, site.WellKnown(address, site.ChangePasswordPath))
	if err != nil || there >= http.StatusBadRequest {
		return false
	}
	nowhere, _, err := ask.Get(ctx, site.WellKnown(address, site.NowherePath))
	return err == nil && nowhere >= http.StatusBadRequest
}

// AskApps asks a login's site which programs have its accounts, and remembers them. It
// returns how many.
func (s *Pages) AskApps(ctx context.Context, id string) (int, error) {
	address, err := s.addressOf(id)
	if err != nil {
		return 0, err
	}
	if s.core.Sites == nil {
		return 0, site.ErrAssetLinks
	}
	status, body, err := s.core.Sites.Get(ctx, site.WellKnown(address, site.AssetLinksPath))
	if err != nil {
		return 0, err
	}
	if status != http.StatusOK {
		return 0, site.ErrAssetLinks
	}
	apps, err := site.ParseAssetLinks(body)
	if err != nil {
		return 0, err
	}
	r := s.core.Set.Sites.Rule(site.Domain(address))
	r.Apps = apps
	return len(apps), s.core.Set.Sites.SetRule(ctx, r)
}

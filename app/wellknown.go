package app

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

func (v *Vault) addressOf(id string) (string, error) {
	e, err := v.Entry(id)
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
func (v *Vault) ChangePage(ctx context.Context, id string) (string, error) {
	address, err := v.addressOf(id)
	if err != nil {
		return "", err
	}
	v.ExpectFill(id)
	if ask := v.d.p.Sites; ask != nil {
		there, _, err := ask.Get(ctx, site.WellKnown(address, site.ChangePasswordPath))
		if err == nil && there < http.StatusBadRequest {
			if nowhere, _, err := ask.Get(ctx, site.WellKnown(address, site.NowherePath)); err == nil && nowhere >= http.StatusBadRequest {
				return site.WellKnown(address, site.ChangePasswordPath), nil
			}
		}
	}
	if known, ok := v.Sites().Lookup(site.Domain(address)); ok && known.Change != "" {
		return known.Change, nil
	}
	return address, nil
}

// AskApps asks a login's site which programs have its accounts, and remembers them. It
// returns how many.
func (v *Vault) AskApps(ctx context.Context, id string) (int, error) {
	address, err := v.addressOf(id)
	if err != nil {
		return 0, err
	}
	if v.d.p.Sites == nil {
		return 0, site.ErrAssetLinks
	}
	status, body, err := v.d.p.Sites.Get(ctx, site.WellKnown(address, site.AssetLinksPath))
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
	r := v.SiteRule(site.Domain(address))
	r.Apps = apps
	return len(apps), v.SetSiteRule(ctx, r)
}

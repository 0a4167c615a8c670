package app

import (
	"context"
	"slices"
	"time"
)

// What the doctor tells of a vault that is closed stands in its profile, in clear: nothing secret.

// seenEvery is how often it is noted that a browser came.
const seenEvery = time.Hour

// SawBrowser notes that a connected browser came, with the version of its extension.
func (v *Vault) SawBrowser(ctx context.Context, id, version string) error {
	now := v.device.ports.Now().UnixMilli()
	i := func(p Profile) int {
		return slices.IndexFunc(p.Browsers, func(b BrowserSeen) bool { return b.ID == id })
	}
	if p := v.Profile(); i(p) >= 0 {
		b := p.Browsers[i(p)]
		if b.Version == version && now-b.At < seenEvery.Milliseconds() && now >= b.At {
			return nil
		}
	}
	return v.identity.update(ctx, func(p *Profile) {
		p.Browsers = slices.Clone(p.Browsers)
		if i := i(*p); i >= 0 {
			p.Browsers[i] = BrowserSeen{id, version, now}
		} else {
			p.Browsers = append(p.Browsers, BrowserSeen{id, version, now})
		}
	})
}

// KeepBrowsers forgets what was noted of browsers that aren't connected any more.
func (v *Vault) KeepBrowsers(ctx context.Context, connected func(id string) bool) error {
	gone := func(b BrowserSeen) bool { return !connected(b.ID) }
	if !slices.ContainsFunc(v.Profile().Browsers, gone) {
		return nil
	}
	return v.identity.update(ctx, func(p *Profile) {
		p.Browsers = slices.DeleteFunc(slices.Clone(p.Browsers), gone)
	})
}

// backedUp notes that a backup was written.
func (v *Vault) backedUp(ctx context.Context) error {
	now := v.device.ports.Now().UnixMilli()
	return v.identity.update(ctx, func(p *Profile) { p.BackupAt = now })
}

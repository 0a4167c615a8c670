package app

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"time"

	"redlocket/core/vault"
)

// KnownDevice is a device of the vault, as this one knows it.
type KnownDevice struct {
	ID, Name, Platform string
	Added              time.Time
	Seen               time.Time // as the cloud says; zero if it doesn't say
	This               bool
	SignedIn           bool      // the cloud still takes its session
	Out                time.Time // when it was shut out; zero if it wasn't
	Heard              time.Time // when it last said itself that it was there; zero if it never did
	Stranger           bool      // the cloud has a session of it, and the vault knows nothing of it
}

// Apart reports whether the cloud says that a device was there, and nothing of it came here since: the cloud may be
// showing it another vault.
func (k KnownDevice) Apart() bool {
	const late = 72 * time.Hour // it says so once a day
	return !k.This && k.SignedIn && !k.Heard.IsZero() && k.Seen.Sub(k.Heard) > late
}

// Devices lists the vault's devices, this one first. Without the cloud it knows
// names only; away is then true.
func (a *Account) Devices(ctx context.Context) (list []KnownDevice, away bool, err error) {
	entries, err := a.vault.Book.Entries(func(e vault.Entry) bool { return e.Type == vault.TypeDevice })
	if err != nil {
		return nil, false, err
	}
	this := a.vault.Profile().Device
	for _, e := range entries {
		k := KnownDevice{
			ID: e.ID, Name: e.Text(vault.FieldName), Platform: e.Text(vault.FieldPlatform),
			Added: time.UnixMilli(e.Created), This: e.ID == this,
		}
		if at, err := strconv.ParseInt(e.Text(vault.FieldOut), 10, 64); err == nil {
			k.Out = time.UnixMilli(at)
		}
		if r, ok := e.Fields[vault.FieldSaw]; ok {
			k.Heard = time.UnixMilli(r.Stamp.At)
		}
		list = append(list, k)
	}
	if cloud := a.at(); cloud != nil {
		credential, err := a.vault.Sync.Credential(ctx)
		if err != nil {
			return nil, false, err
		}
		seen, err := cloud.Devices(ctx, credential)
		away = err != nil
		for _, s := range seen {
			if i := slices.IndexFunc(list, func(k KnownDevice) bool { return k.ID == s.ID }); i >= 0 {
				list[i].Seen, list[i].SignedIn = time.UnixMilli(s.Seen), true
				continue
			}
			list = append(list, KnownDevice{
				ID: s.ID, Added: time.UnixMilli(s.Since), Seen: time.UnixMilli(s.Seen), SignedIn: true, Stranger: true,
			})
		}
	}
	notThis := func(k KnownDevice) int {
		if k.This {
			return 0
		}
		return 1
	}
	slices.SortFunc(list, func(a, b KnownDevice) int {
		return cmp.Or(cmp.Compare(notThis(a), notThis(b)), a.Added.Compare(b.Added))
	})
	return list, away, nil
}

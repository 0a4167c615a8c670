package tidying

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"redlocket/app/filling"
	"redlocket/app/records"
	"redlocket/core/site"
	"redlocket/core/tidy"
	"redlocket/core/vault"
)

// TryView is a try-out as it stands.
type TryView struct {
	TryOut     tidy.TryOut
	Proposal   tidy.Proposal
	Rows       []vault.Entry // of the proposal
	Candidates []vault.Entry // in the order in which they are tried
	Now        string        // the id of the one to try; empty if none is left
	Stopped    bool          // its account was refused too often for another try without asking
}

// Trying returns the try-out of the rows. The error is [tidy.ErrChanged] if there is none.
func (t *Tidying) Trying(ctx context.Context, ids []string) (v TryView, err error) {
	l, err := t.List(ctx)
	if err != nil {
		return v, err
	}
	p, ok := l.find(ids)
	if !ok {
		return v, tidy.ErrChanged
	}
	return t.view(l, p)
}

// errNotBegun is returned for rows that aren't tried out.
var errNotBegun = fmt.Errorf("%w: they aren't tried out", tidy.ErrChanged)

// Try begins the try-out of the rows, or goes on with it.
func (t *Tidying) Try(ctx context.Context, ids []string) (v TryView, err error) {
	if v, err = t.Trying(ctx, ids); !errors.Is(err, errNotBegun) {
		return v, err
	}
	err = t.set.Items.SaveMany(ctx, func(entries map[string]vault.Entry) ([]vault.Entry, error) {
		var rows []vault.Entry
		for _, id := range ids {
			rows = append(rows, entries[id])
		}
		e, err := tidy.NewTryOut(records.NewID(), rows, t.set.Items.Stamp())
		return []vault.Entry{e}, err
	}, nil)
	if err != nil {
		return v, err
	}
	return t.Trying(ctx, ids)
}

func sameRows(ids []string) func(tidy.TryOut) bool {
	key := tidy.Key(ids)
	return func(o tidy.TryOut) bool { return tidy.Key(o.IDs) == key }
}

// find returns the proposal about exactly these rows.
func (l List) find(ids []string) (p tidy.Proposal, ok bool) {
	key := tidy.Key(ids)
	left := l.Left()
	i := slices.IndexFunc(left, func(p tidy.Proposal) bool { return tidy.Key(p.IDs) == key })
	if i < 0 {
		return p, false
	}
	return left[i], true
}

func (t *Tidying) view(l List, p tidy.Proposal) (v TryView, err error) {
	i := slices.IndexFunc(l.trying, sameRows(p.IDs))
	if i < 0 {
		return v, errNotBegun
	}
	rows, err := t.Rows(p.IDs)
	if err != nil {
		return v, err
	}
	used := t.set.Book.Used()
	v = TryView{TryOut: l.trying[i], Proposal: p, Rows: rows}
	v.Candidates = tidy.Candidates(rows, p.Survives, func(id string) int64 { return used[id] })
	if e, ok, stopped := v.TryOut.Next(v.Candidates, p.Survives); ok {
		v.Now, v.Stopped = e.ID, stopped
	}
	return v, nil
}

// Tried notes what the site made of a row's password. If it was taken, the rows are joined, and that password is the
// one login's.
func (t *Tidying) Tried(ctx context.Context, ids []string, id string, taken bool) error {
	v, err := t.Try(ctx, ids)
	if err != nil {
		return err
	}
	if !slices.Contains(ids, id) {
		return tidy.ErrChanged
	}
	if _, done := v.TryOut.Tried(id); !done {
		v.TryOut.Tries = append(v.TryOut.Tries, tidy.Try{ID: id, At: t.set.Items.Stamp().At, Taken: taken})
		if err := t.keep(ctx, v.TryOut); err != nil {
			return err
		}
	}
	if !taken {
		return nil
	}
	if err := t.set.Book.Use(id); err != nil {
		return err
	}
	return t.Join(ctx, ids, Choice{Password: id})
}

// GoOn allows a try-out that stopped as many refusals more.
func (t *Tidying) GoOn(ctx context.Context, ids []string) error {
	v, err := t.Try(ctx, ids)
	if err != nil {
		return err
	}
	v.TryOut.Allowed += tidy.MostRefusals
	return t.keep(ctx, v.TryOut)
}

func (t *Tidying) keep(ctx context.Context, o tidy.TryOut) error {
	return t.set.Items.Edit(ctx, o.ID, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return o.Write(e, by)
	})
}

// Judged hears what a site made of a sign-in: a password that is being tried out there was taken or refused.
func (t *Tidying) Judged(ctx context.Context, j filling.Judged) {
	l, err := t.List(ctx)
	if err != nil || len(l.trying) == 0 {
		return // locked meanwhile, or nothing is tried out
	}
	for _, o := range l.trying {
		p, ok := l.find(o.IDs)
		if !ok {
			continue
		}
		v, err := t.view(l, p)
		if err != nil || v.Now == "" {
			continue
		}
		for _, e := range v.Candidates {
			if _, done := o.Tried(e.ID); !done && isAt(e, j.URL) && tidy.Means(e, p.Survives, j.Username, j.Password) {
				_ = t.Tried(ctx, o.IDs, e.ID, j.Taken) // what couldn't be noted is asked again
				return
			}
		}
	}
}

// NameToTry is the user name that a login is tried out with, if that isn't its own: it has none, or one that was
// starred out. ok is false for a login that isn't tried out, or has a name.
func (t *Tidying) NameToTry(ctx context.Context, id string) (name string, ok bool) {
	l, err := t.List(ctx)
	if err != nil {
		return "", false
	}
	for _, o := range l.trying {
		p, there := l.find(o.IDs)
		if !there || !slices.Contains(o.IDs, id) {
			continue
		}
		e, err := t.set.Items.Entry(id)
		if err != nil {
			return "", false
		}
		name = tidy.NameToTry(e, p.Survives)
		return name, name != e.Text(vault.FieldUsername)
	}
	return "", false
}

// isAt reports whether a row is of the site of an address.
func isAt(e vault.Entry, url string) bool {
	return slices.ContainsFunc(vault.View(e).Addresses, func(a vault.Address) bool {
		return site.Domain(a.URL) == site.Domain(url)
	})
}

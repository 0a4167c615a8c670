package records

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"redlocket/core/keys"
	"redlocket/core/share"
	"redlocket/core/vault"
)

// save seals entries at their next revision and puts them into the store before memory shows
// them: what was acknowledged is on disk.
func (c *core) save(ctx context.Context, in *content, list []vault.Entry) error {
	if err := in.allMayBecome(list); err != nil {
		return err
	}
	list, covered, err := c.apart(in, list)
	if err != nil {
		return err
	}
	return c.saveWith(ctx, in, list, covered, false)
}

// saveWith is save for a list of the set's own entries, with what the covered part becomes by it; nil where that stays
// as it is. A place among them is committed with the rest if atOnce says so.
func (c *core) saveWith(
	ctx context.Context, in *content, list []vault.Entry, covered *coveredPart, atOnce bool,
) error {
	list, err := c.fitted(in.entries, list)
	if err != nil {
		return err
	}
	next := nextHeld(in.entries, list)
	for i, h := range next {
		if atOnce && h.entry.Type == vault.TypePlace {
			next[i].rev = h.baseRev + 1
		}
	}
	rows, err := sealRows(ctx, in.key, next, nil)
	if err != nil {
		return err
	}
	return c.putWith(ctx, in, next, rows, covered)
}

// put writes sealed rows and shows them.
func (c *core) put(ctx context.Context, in *content, next []held, rows []Row) error {
	return c.putWith(ctx, in, next, rows, nil)
}

// putWith is put with what the covered part becomes by it; nil where that stays as it is.
func (c *core) putWith(ctx context.Context, in *content, next []held, rows []Row, covered *coveredPart) error {
	if err := c.Store.Put(ctx, rows, nil); err != nil {
		return fmt.Errorf("failed to save: %w", err)
	}
	if covered != nil {
		in.covered = covered
	}
	for i, h := range next {
		h.epoch = keys.SealedEpoch(rows[i].Blob)
		in.entries[h.entry.ID] = h
	}
	c.changed(in)
	if slices.ContainsFunc(next, func(h held) bool { return h.rev > h.baseRev }) {
		call(c.Events.Waiting)
	}
	return nil
}

// changed notes that entries aren't what they were.
func (c *core) changed(in *content) {
	in.index, in.leaf = nil, nil
	in.readBooks()
	c.revision.Add(1)
	call(c.Events.Changed)
}

// SaveMany is for many entries at once: they are planned and sealed while others read and edit,
// and written in one transaction. plan is given what the set holds, and is asked again if one
// of its entries was edited meanwhile; what its owner may not change isn't among what it is given.
// Until the store is written to, cancelling ctx leaves everything as it was.
func (s *Items) SaveMany(
	ctx context.Context,
	plan func(map[string]vault.Entry) ([]vault.Entry, error),
	progress func(done, of int),
) error {
	return s.saveMany(ctx, plan, progress, true)
}

// SaveShared is SaveMany for what others who share it have made of it: they may.
func (s *Items) SaveShared(
	ctx context.Context, plan func(map[string]vault.Entry) ([]vault.Entry, error),
) error {
	return s.saveMany(ctx, plan, nil, false)
}

func (s *Items) saveMany(
	ctx context.Context,
	plan func(map[string]vault.Entry) ([]vault.Entry, error),
	progress func(done, of int),
	bound bool,
) error {
	for {
		var key *keys.Vault
		var before map[string]held
		var entries map[string]vault.Entry
		err := s.core.read(func(in *content) error {
			key, before = in.key, maps.Clone(in.entries)
			entries = make(map[string]vault.Entry, len(before))
			for id, h := range before {
				if !bound || in.right(h.entry).Includes(share.Change) {
					entries[id] = h.entry
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		list, err := plan(entries)
		if err != nil || len(list) == 0 {
			return err
		}
		err = s.core.read(func(in *content) error {
			if !bound {
				return nil
			}
			return in.allMayBecome(list)
		})
		if err != nil {
			return err
		}
		if list, err = s.core.fitted(before, list); err != nil {
			return err
		}
		next := nextHeld(before, list)
		rows, err := sealRows(ctx, key, next, progress)
		if err != nil {
			return err
		}
		if done, err := s.core.putIfSame(ctx, before, next, rows); done || err != nil {
			return err
		}
	}
}

// nextHeld are entries as they will be held once they are written.
func nextHeld(before map[string]held, list []vault.Entry) []held {
	next := make([]held, len(list))
	for i, e := range list {
		h := before[e.ID]
		if h.entry = e; e.Type != vault.TypePlace || h.rev == 0 { // a place waits until it is refreshed
			h.rev = h.baseRev + 1
		}
		h.edit++
		next[i] = h
	}
	return next
}

// putIfSame puts rows into the store unless one of their entries was edited since.
func (c *core) putIfSame(ctx context.Context, before map[string]held, next []held, rows []Row) (done bool, err error) {
	err = c.write(func(in *content) error {
		for _, h := range next {
			now, was := in.entries[h.entry.ID], before[h.entry.ID]
			if now.edit != was.edit || now.rev != was.rev || now.baseRev != was.baseRev {
				return nil
			}
		}
		done = true
		return c.put(ctx, in, next, rows)
	})
	return done, err
}

// sealRows seals entries, many of them on every processor.
func sealRows(ctx context.Context, key *keys.Vault, list []held, progress func(done, of int)) ([]Row, error) {
	rows := make([]Row, len(list))
	workers := max(1, min(runtime.GOMAXPROCS(0), len(list)/64))
	failed := make([]error, workers)
	var done atomic.Int64
	var wg sync.WaitGroup
	for w := range workers {
		wg.Go(func() {
			for i := w; i < len(list) && failed[w] == nil; i += workers {
				rows[i], failed[w] = sealRow(key, list[i])
				if n := done.Add(1); progress != nil && n%64 == 0 {
					progress(int(n), len(list))
				}
				failed[w] = errors.Join(failed[w], ctx.Err())
			}
		})
	}
	wg.Wait()
	return rows, errors.Join(failed...)
}

// sealRow seals the entry at h.rev.
func sealRow(key *keys.Vault, h held) (Row, error) {
	plain, err := h.entry.Encode()
	if err != nil {
		return Row{}, err
	}
	blob, err := key.SealRecord(h.entry.ID, h.rev, plain)
	if err != nil {
		return Row{}, err
	}
	return Row{h.entry.ID, h.rev, blob, h.baseRev, h.baseHash}, nil
}

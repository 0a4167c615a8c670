package records

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"redlocket/core/find"
	"redlocket/core/keys"
	"redlocket/core/vault"
)

// firstPage is how long the first page, which needs only the index, has the processor to
// itself before the records are opened.
const firstPage = 250 * time.Millisecond

// localIndex names the index that is kept sealed, for the book to be there before the
// records are opened.
const localIndex = "shelf"

// load brings the content in from the store.
func (c *core) load(ctx context.Context) error {
	if err := errors.Join(c.loadUses(ctx), c.loadBooks(ctx)); err != nil {
		return err
	}
	var key *keys.Vault
	var x *find.Index
	err := c.gate.Write(func(in *content) error {
		key = in.key
		x = c.readIndex(ctx, in)
		in.index = x
		return nil
	})
	if err != nil {
		return err
	}
	if x == nil {
		c.loading.err = c.loadRecords(ctx, key, max(2, runtime.GOMAXPROCS(0)))
		close(c.loading.ready)
		return c.loading.err
	}
	go func() {
		select { // the first page is drawn first, unless it needs them
		case <-c.loading.needed:
		case <-time.After(firstPage):
		}
		c.loading.err = c.loadRecords(context.WithoutCancel(ctx), key, max(1, runtime.GOMAXPROCS(0)/2))
		x.Warm()
		close(c.loading.ready)
		call(c.Events.Loaded)
	}()
	return nil
}

// loadRecords opens every record of the store: one goroutine reads, the others, as many as
// workers says, open what it read, in batches.
func (c *core) loadRecords(ctx context.Context, key *keys.Vault, workers int) error {
	checkpoint, err := c.Store.Checkpoint(ctx)
	if err != nil {
		return err
	}
	opened, damaged, err := c.openRows(ctx, key, workers)
	if err != nil {
		return fmt.Errorf("failed to open the vault on this computer: %w", err)
	}
	n := 0
	for _, l := range opened {
		n += len(l)
	}
	if n == 0 && len(damaged) > 0 {
		return errAllDamaged
	}
	entries := make(map[string]held, n)
	for _, l := range opened {
		for _, h := range l {
			entries[h.entry.ID] = h
		}
	}
	return c.gate.Write(func(in *content) error {
		in.entries, in.damaged, in.checkpoint = entries, damaged, checkpoint
		in.readSites()
		in.readBooks()
		if c.uncover(in) {
			c.changed(in)
		}
		return nil
	})
}

var errAllDamaged = errors.New("every record on this computer is damaged: bring the vault here again from its cloud, " +
	"or from a backup")

// openRows returns the entries of the store, as each worker opened them, and the rows that are damaged, without their
// bytes. One damaged row keeps no other from being opened.
func (c *core) openRows(
	ctx context.Context, key *keys.Vault, workers int,
) (opened [][]held, damaged map[string]Row, err error) {
	const batch = 256
	rows := make(chan []Row, 8)
	opened, damaged = make([][]held, workers), map[string]Row{}
	var mu sync.Mutex // guards damaged
	var wg sync.WaitGroup
	for i := range opened {
		wg.Go(func() {
			for list := range rows {
				for _, r := range list {
					h, err := openRow(key, r)
					if err != nil {
						mu.Lock()
						damaged[r.ID] = Row{ID: r.ID, Rev: r.Rev, BaseRev: r.BaseRev, BaseHash: r.BaseHash}
						mu.Unlock()
						continue
					}
					opened[i] = append(opened[i], h)
				}
			}
		})
	}
	list := make([]Row, 0, batch)
	err = c.Store.Rows(ctx, func(r Row) error {
		r.Blob = slices.Clone(r.Blob)
		if list = append(list, r); len(list) == batch {
			rows <- list
			list = make([]Row, 0, batch)
		}
		return nil
	})
	rows <- list
	close(rows)
	wg.Wait()
	return opened, damaged, err
}

func openRow(key *keys.Vault, r Row) (held, error) {
	plain, err := key.OpenRecord(r.ID, r.Rev, r.Blob)
	if err != nil {
		return held{}, fmt.Errorf("record %s is damaged: %w", r.ID, err)
	}
	e, err := vault.Decode(plain)
	if err != nil {
		return held{}, fmt.Errorf("record %s is damaged: %w", r.ID, err)
	}
	return held{
		entry: e, rev: r.Rev, epoch: keys.SealedEpoch(r.Blob), baseRev: r.BaseRev, baseHash: r.BaseHash,
	}, nil
}

// indexName binds the kept index to the records that it was made from.
func indexName(generation uint64) string { return fmt.Sprintf("%s %d", localIndex, generation) }

// readIndex returns the index kept of exactly the records that are there, or nil.
func (c *core) readIndex(ctx context.Context, in *content) *find.Index {
	n, err1 := c.Store.Generation(ctx)
	sealed, err2 := c.Store.Local(ctx, localIndex)
	if err1 != nil || err2 != nil || sealed == nil {
		return nil
	}
	plain, err := in.key.OpenLocal(indexName(n), sealed)
	if err != nil {
		return nil // of other records than these
	}
	x, err := find.DecodeIndex(plain, c.findOptions(in))
	if err != nil {
		return nil // of another version
	}
	return x
}

// keepIndex seals the index for the next time. Nothing is lost if it can't be kept: the
// records are opened first then.
func (c *core) keepIndex(ctx context.Context, key *keys.Vault, x *find.Index) {
	n, err := c.Store.Generation(ctx)
	if err != nil {
		return
	}
	if sealed, err := key.SealLocal(indexName(n), x.Encode()); err == nil {
		_ = c.Store.SetLocal(ctx, localIndex, sealed)
	}
}

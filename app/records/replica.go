package records

import (
	"context"
	"fmt"

	"redlocket/core/ledger"
	"redlocket/core/vault"
)

// Replica is the set as the cloud's line sees it: what the cloud offers is verified and merged
// in, and what waits is made into commits. Both happen in one transaction of the store, under
// one lock of the entries.
type Replica struct{ core *core }

// Checkpoint returns the last verified head.
func (r *Replica) Checkpoint() (cp Checkpoint, err error) {
	err = r.core.read(func(in *content) error { cp = in.checkpoint; return nil })
	return cp, err
}

// Waiting is how many records wait to be committed.
func (r *Replica) Waiting() (n int) {
	_ = r.core.gate.Read(func(in *content) error { // none once locked
		for _, h := range in.entries {
			if h.rev > h.baseRev {
				n++
			}
		}
		return nil
	})
	return n
}

// Pull is what a cloud offers beyond the head with the number Since.
type Pull struct {
	Since   uint64
	Latest  uint64 // number of the newest head, as the cloud says
	Heads   []ledger.SealedHead
	Records []ledger.SealedRecord
}

// Merge verifies a pull and merges it in. A pull from another head than the present one
// changes nothing, and stale is true. The error is a [*ledger.Fault] where the pull can't
// be what the other devices wrote; nothing of it is used then.
func (r *Replica) Merge(ctx context.Context, p Pull) (stale bool, err error) {
	err = r.core.write(func(in *content) error {
		if p.Since != in.checkpoint.Number {
			stale = true
			return nil
		}
		next, opened, err := in.chain().Verify(in.key, p.Latest, p.Heads, p.Records)
		if err != nil || next.Number == in.checkpoint.Number {
			return err
		}
		rows := make([]Row, 0, len(opened))
		changed := make([]held, 0, len(opened))
		for _, o := range opened {
			h, row, err := in.merged(o)
			if err != nil {
				return err
			}
			rows, changed = append(rows, row), append(changed, h)
		}
		checkpoint := Checkpoint{next.Number, next.Head, next.Floor, next.FloorHash}
		if err := r.core.Store.Put(ctx, rows, &checkpoint); err != nil {
			return fmt.Errorf("failed to save what came from the cloud: %w", err)
		}
		sites := false
		for _, h := range changed {
			in.entries[h.entry.ID] = h
			sites = sites || h.entry.Type == vault.TypeSites
		}
		in.checkpoint = checkpoint
		r.core.changed(in)
		if sites {
			in.readSites()
		}
		return nil
	})
	return stale, err
}

// merged joins a record from the cloud with what is here.
func (in *content) merged(o ledger.Opened) (held, Row, error) {
	theirs, err := vault.Decode(o.Plain)
	if err != nil || theirs.ID != o.ID {
		const detail = "it holds something this version can't read"
		return held{}, Row{}, &ledger.Fault{Kind: ledger.BadRecord, Record: o.ID, Detail: detail}
	}
	h := held{entry: theirs, rev: o.Rev, baseRev: o.Rev, baseHash: o.Hash}
	row := Row{o.ID, o.Rev, o.Blob, o.Rev, o.Hash}
	ours, ok := in.entries[o.ID]
	if !ok || ours.rev == ours.baseRev { // nothing of ours waits
		return h, row, nil
	}
	h.edit = ours.edit
	h.entry = vault.Merge(ours.entry, theirs)
	if !h.entry.Equal(theirs) {
		h.rev = o.Rev + 1
		row, err = sealRow(in.key, h)
	}
	return h, row, err
}

// chain is where this device stands.
func (in *content) chain() ledger.Chain {
	cp := in.checkpoint
	c := ledger.Chain{
		Number: cp.Number, Head: cp.Head, Floor: cp.Floor, FloorHash: cp.FloorHash,
		State: make(ledger.State, len(in.entries)),
	}
	for id, h := range in.entries {
		if h.baseRev > 0 {
			c.State[id] = ledger.Mark{Rev: h.baseRev, Hash: h.baseHash}
		}
	}
	return c
}

// Commit is what waits, with the head that vouches for it.
type Commit struct {
	Parent  ledger.Hash // of the head that it stands on; zero for the first
	First   bool        // there is none before it
	Head    ledger.SealedHead
	Records []ledger.SealedRecord

	edits map[string]uint64 // which edit of each entry is in it
}

// Prepare makes the commit of what waits, of at most so many records; nil if nothing does.
func (r *Replica) Prepare(ctx context.Context, most int) (*Commit, error) {
	var out *Commit
	err := r.core.gate.Read(func(in *content) error {
		var ids []string
		edits := map[string]uint64{}
		for id, h := range in.entries {
			if h.rev > h.baseRev && len(ids) < most {
				ids = append(ids, id)
				edits[id] = h.edit
			}
		}
		if len(ids) == 0 {
			return nil
		}
		blobs, err := r.core.Store.Blobs(ctx, ids)
		if err != nil {
			return err
		}
		c := &Commit{edits: edits}
		changed := make(ledger.State, len(ids))
		for _, id := range ids {
			rev := in.entries[id].rev
			changed[id] = ledger.Mark{Rev: rev, Hash: ledger.Sum(blobs[id])}
			c.Records = append(c.Records, ledger.SealedRecord{ID: id, Rev: rev, Blob: blobs[id]})
		}
		chain := in.chain()
		c.Parent, c.First = chain.Head, chain.Number == 0
		head, _ := chain.Next(r.core.Device, r.core.Now().UnixMilli(), changed)
		blob, err := in.key.SealHead(head.Number, head.Encode())
		if err != nil {
			return err
		}
		c.Head = ledger.SealedHead{Number: head.Number, Blob: blob}
		out = c
		return nil
	})
	return out, err
}

// Committed notes that the cloud took a commit. Entries edited meanwhile are sealed again on
// top of it. If the set was closed meanwhile, the next opening finds the commit as its own, by
// its hash.
func (r *Replica) Committed(ctx context.Context, c *Commit) error {
	again := false
	err := r.core.gate.Write(func(in *content) error {
		checkpoint := in.checkpoint
		checkpoint.Number, checkpoint.Head = c.Head.Number, ledger.Sum(c.Head.Blob)
		rows := make([]Row, 0, len(c.Records))
		changed := make([]held, 0, len(c.Records))
		for _, rec := range c.Records {
			h := in.entries[rec.ID]
			h.baseRev, h.baseHash = rec.Rev, ledger.Sum(rec.Blob)
			row := Row{rec.ID, rec.Rev, rec.Blob, h.baseRev, h.baseHash}
			if h.edit != c.edits[rec.ID] {
				h.rev = rec.Rev + 1
				var err error
				if row, err = sealRow(in.key, h); err != nil {
					return err
				}
				again = true
			}
			rows, changed = append(rows, row), append(changed, h)
		}
		if err := r.core.Store.Put(ctx, rows, &checkpoint); err != nil {
			return fmt.Errorf("failed to note a commit: %w", err)
		}
		for _, h := range changed {
			in.entries[h.entry.ID] = h
		}
		in.checkpoint = checkpoint
		return nil
	})
	if again {
		call(r.core.Events.Waiting)
	}
	return err
}

// SetUp seals the first entries of this device into a store that is being set up.
func (r *Replica) SetUp(ctx context.Context, list ...vault.Entry) error {
	return r.core.write(func(in *content) error { return r.core.save(ctx, in, list) })
}

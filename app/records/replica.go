package records

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"redlocket/core/keys"
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

// Ring returns the keys of the set's epochs.
func (r *Replica) Ring() (ring keys.Ring, err error) {
	err = r.core.gate.Read(func(in *content) error { ring = in.key.Ring(); return nil })
	return ring, err
}

// Since returns the number of the head that a pull is asked from, where the epochs are those of a ring.
func (r *Replica) Since(ring keys.Ring) (n uint64, err error) {
	err = r.core.read(func(in *content) error {
		chain, _ := in.chain(ring)
		n = chain.Number
		return nil
	})
	return n, err
}

// Pull is what a cloud offers beyond the head with the number Since.
type Pull struct {
	Since   uint64
	Latest  uint64 // number of the newest head, as the cloud says
	Tip     string // hash of it in hex, likewise; empty if it doesn't say
	Heads   []ledger.SealedHead
	Records []ledger.SealedRecord
	Turn    *Turn // nil unless epochs began since
}

// Turn is a pull's way into later epochs.
type Turn struct {
	Ring keys.Ring // that it ends with
	// Accept is asked once all is verified, and before anything of it is kept: it says whether a device of the set
	// began the epoch, and keeps what opens it. device finds the record of one.
	Accept func(device func(id string) (vault.Entry, bool)) error
}

// Merge verifies a pull and merges it in. A pull from another head than the present one
// changes nothing, and stale is true. The error is a [*ledger.Fault] where the pull can't
// be what the other devices wrote; nothing of it is used then.
func (r *Replica) Merge(ctx context.Context, p Pull) (stale bool, err error) {
	err = r.core.write(func(in *content) error {
		key := in.key
		if p.Turn != nil {
			key = keys.NewVault(r.core.ID, p.Turn.Ring, r.core.Rand)
		}
		chain, fresh := in.chain(key.Ring())
		chain.MayJump = r.core.mayJump(in.checkpoint)
		if p.Since != chain.Number {
			stale = true
			return nil
		}
		if tip := (ledger.Hash{}); p.Tip != "" && tip.UnmarshalText([]byte(p.Tip)) == nil {
			if err := chain.CheckTip(p.Latest, tip); err != nil {
				return err
			}
		}
		next, pulled, err := chain.Verify(key, p.Latest, p.Heads, p.Records)
		if err != nil || next.Number == in.checkpoint.Number && p.Turn == nil && !fresh {
			return err
		}
		merged, err := r.core.mergeAll(in, key, pulled, fresh)
		if err != nil {
			return err
		}
		find := func(id string) (vault.Entry, bool) { return merged.find(in, id) }
		if err := checkHeads(r.core.ID, pulled.Heads, find); err != nil {
			return err
		}
		if p.Turn != nil {
			if err := p.Turn.Accept(find); err != nil {
				return err
			}
		}
		checkpoint := Checkpoint{
			next.Number, next.Head, next.Floor, next.FloorHash, key.Ring().Epoch(), r.core.Now().UnixMilli(),
		}
		if err := r.core.stand(ctx, in, key, merged.rows, checkpoint, fresh); err != nil {
			return fmt.Errorf("failed to save what came from the cloud: %w", err)
		}
		if merged.show(in) {
			r.core.uncover(in)
		}
		r.core.changed(in)
		return nil
	})
	return stale, err
}

// stand writes rows with the checkpoint that they belong to, and has the set stand there from then on, under a key. In
// a fresh state no head vouches for any other record.
func (c *core) stand(
	ctx context.Context, in *content, key *keys.Vault, rows []Row, at Checkpoint, fresh bool,
) (err error) {
	if fresh {
		err = c.Store.Restart(ctx, rows, at)
	} else {
		err = c.Store.Put(ctx, rows, &at)
	}
	if err != nil {
		return err
	}
	if fresh {
		in.restart()
	}
	in.key, in.checkpoint = key, at
	return nil
}

// KeptHeads is how long clouds keep heads at least.
const KeptHeads = 180 * 24 * time.Hour

// mayJump says whether a cloud may have no head any more that follows a checkpoint.
func (c *core) mayJump(cp Checkpoint) bool {
	return cp.Number == 0 || cp.At > 0 && c.Now().Sub(time.UnixMilli(cp.At)) > KeptHeads
}

// merged is what becomes of a pull.
type merged struct {
	rows []Row
	held []held
	at   map[string]int // of each record in held
}

func (c *core) mergeAll(in *content, key *keys.Vault, p ledger.Pulled, fresh bool) (*merged, error) {
	m := &merged{at: make(map[string]int, len(p.Records))}
	var more []vault.Entry
	for i, o := range p.Records {
		h, row, beside, err := c.merged(in, key, o, fresh)
		if err != nil {
			return nil, err
		}
		h.epoch = keys.SealedEpoch(row.Blob)
		m.rows, m.held = append(m.rows, row), append(m.held, h)
		m.at[o.ID] = i
		more = append(more, beside...)
	}
	for _, h := range nextHeld(in.entries, more) {
		row, err := sealRow(key, h)
		if err != nil {
			return nil, err
		}
		h.epoch = keys.SealedEpoch(row.Blob)
		m.rows, m.held = append(m.rows, row), append(m.held, h)
	}
	return m, nil
}

// find returns a record as it is after the pull.
func (m *merged) find(in *content, id string) (vault.Entry, bool) {
	if i, ok := m.at[id]; ok {
		return m.held[i].entry, true
	}
	h, ok := in.entries[id]
	return h.entry, ok
}

// show shows what was merged, and reports whether a covered part is among it.
func (m *merged) show(in *content) (places bool) {
	sites := false
	for _, h := range m.held {
		places = places || h.entry.Type == vault.TypePlace
		in.entries[h.entry.ID] = h
		delete(in.damaged, h.entry.ID)
		sites = sites || h.entry.Type == vault.TypeSites
	}
	if sites {
		in.readSites()
	}
	return places
}

// restart notes that no head vouches for any record: all wait to be committed.
func (in *content) restart() {
	for id, h := range in.entries {
		h.baseRev, h.baseHash = 0, hash{}
		in.entries[id] = h
	}
	for id, r := range in.damaged {
		r.BaseRev, r.BaseHash = 0, hash{}
		in.damaged[id] = r
	}
}

// checkHeads refuses heads that aren't signed by the device that they name.
func checkHeads(set string, heads []ledger.Head, find func(id string) (vault.Entry, bool)) error {
	known := map[string]keys.PublicIdentity{}
	for _, h := range heads {
		by, ok := known[h.Device]
		if !ok {
			e, _ := find(h.Device)
			by, _ = PublicOf(e)
			known[h.Device] = by
		}
		if !keys.Verify(by.Sign, h.Signature, signedHead, append([]string{set}, h.Signed()...)...) {
			const detail = "head %d isn't signed by the device that it names"
			return &ledger.Fault{Kind: ledger.BadHead, Detail: fmt.Sprintf(detail, h.Number)}
		}
	}
	return nil
}

const signedHead = "head"

// PublicOf returns the public keys that a device's record tells; ok is false if it tells none.
func PublicOf(e vault.Entry) (p keys.PublicIdentity, ok bool) {
	if e.Type != vault.TypeDevice {
		return p, false
	}
	err := json.Unmarshal([]byte(e.Text(vault.FieldKeys)), &p)
	return p, err == nil && len(p.Sign) > 0 && len(p.Seal) > 0
}

// merged joins a record from the cloud with what is here. In a fresh state nothing of ours is known to be there.
func (c *core) merged(
	in *content, key *keys.Vault, o ledger.Opened, fresh bool,
) (h held, row Row, beside []vault.Entry, err error) {
	theirs, err := vault.Decode(o.Plain)
	if err != nil || theirs.ID != o.ID {
		const detail = "it holds something this version can't read"
		return h, row, nil, &ledger.Fault{Kind: ledger.BadRecord, Record: o.ID, Detail: detail}
	}
	h = held{entry: theirs, rev: o.Rev, baseRev: o.Rev, baseHash: o.Hash}
	row = Row{o.ID, o.Rev, o.Blob, o.Rev, o.Hash}
	ours, ok := in.entries[o.ID]
	// A place may be ahead of the revision that it has.
	if !ok || ours.rev == ours.baseRev && !fresh && theirs.Type != vault.TypePlace { // nothing of ours waits
		return h, row, nil, nil
	}
	h.edit = ours.edit
	if h.entry, beside, err = c.joined(in, ours.entry, theirs); err != nil {
		return h, row, nil, err
	}
	if !h.entry.Equal(theirs) {
		h.rev = o.Rev + 1
		row, err = sealRow(key, h)
	}
	return h, row, beside, err
}

// chain is where this device stands, in the epochs of a ring. A state is fresh if one of them began without what was
// before.
func (in *content) chain(ring keys.Ring) (c ledger.Chain, fresh bool) {
	cp := in.checkpoint
	if s, ok := ring.Fresh(cp.Epoch); ok {
		return ledger.Chain{Number: s.After, Head: s.Hash, State: ledger.State{}}, true
	}
	c = ledger.Chain{
		Number: cp.Number, Head: cp.Head, Floor: cp.Floor, FloorHash: cp.FloorHash,
		State: make(ledger.State, len(in.entries)),
	}
	for id, h := range in.entries {
		if h.baseRev > 0 {
			c.State[id] = ledger.Mark{Rev: h.baseRev, Hash: h.baseHash}
		}
	}
	for id, r := range in.damaged {
		if r.BaseRev > 0 {
			c.State[id] = ledger.Mark{Rev: r.BaseRev, Hash: r.BaseHash}
		}
	}
	return c, false
}

// Commit is what waits, with the head that vouches for it.
type Commit struct {
	Parent  ledger.Hash // of the head that it stands on; zero for the first
	First   bool        // there is none before it
	Head    ledger.SealedHead
	Records []ledger.SealedRecord

	edits map[string]uint64 // which edit of each entry is in it
}

// Limits of one commit: what is lost with a line that breaks is sent again.
const (
	mostRecords = 2000
	mostBytes   = 2 << 20
)

// Prepare makes the commit of what waits, or of a part that a line carries in reasonable time; nil if nothing waits.
// With anew, what is sealed under an older key goes with it. Whatever is in it is sealed under the newest key; what is
// sealed for it is kept by [Replica.Committed].
func (r *Replica) Prepare(ctx context.Context, anew bool) (c *Commit, err error) {
	err = r.core.read(func(in *content) error {
		rows, err := r.core.toCommit(ctx, in, in.waiting(anew))
		if err != nil || len(rows) == 0 {
			return err
		}
		c = &Commit{edits: map[string]uint64{}}
		changed := make(ledger.State, len(rows))
		for _, row := range rows {
			changed[row.ID] = ledger.Mark{Rev: row.Rev, Hash: ledger.Sum(row.Blob)}
			c.edits[row.ID] = in.entries[row.ID].edit
			c.Records = append(c.Records, ledger.SealedRecord{ID: row.ID, Rev: row.Rev, Blob: row.Blob})
		}
		chain, _ := in.chain(in.key.Ring())
		return r.core.sealHead(ctx, in, in.key, chain, changed, c)
	})
	return c, err
}

// waiting picks the records of a commit: those that wait, and with anew those under older keys after them. Each in the
// order of their ids, in which stores keep them: what is written together lies together.
func (in *content) waiting(anew bool) []held {
	var list, old []held
	epoch := in.key.Ring().Epoch()
	for _, h := range in.entries {
		switch {
		case h.rev > h.baseRev:
			list = append(list, h)
		case anew && h.epoch < epoch:
			old = append(old, h)
		}
	}
	byID := func(a, b held) int { return strings.Compare(a.entry.ID, b.entry.ID) }
	slices.SortFunc(list, byID)
	slices.SortFunc(old, byID)
	list = append(list, old...)
	return list[:min(len(list), mostRecords)]
}

// sealedAtOnce is how many records are sealed before their size is looked at.
const sealedAtOnce = 256

// toCommit returns the bytes of records that are to be committed: those of the store, and after them those that are
// sealed anew because theirs are under an older key, until there is enough for a commit.
func (c *core) toCommit(ctx context.Context, in *content, list []held) (rows []Row, err error) {
	var old []held
	var kept []string
	epoch := in.key.Ring().Epoch()
	for _, h := range list {
		if h.epoch < epoch {
			h.rev = max(h.rev, h.baseRev+1)
			old = append(old, h)
		} else {
			kept = append(kept, h.entry.ID)
		}
	}
	blobs, err := c.Store.Blobs(ctx, kept)
	if err != nil {
		return nil, err
	}
	size := 0
	take := func(row Row) (room bool) {
		if size += len(row.Blob); size > mostBytes && len(rows) > 0 {
			return false
		}
		rows = append(rows, row)
		return true
	}
	for _, id := range kept {
		if !take(Row{ID: id, Rev: in.entries[id].rev, Blob: blobs[id]}) {
			return rows, nil
		}
	}
	for some := range slices.Chunk(old, sealedAtOnce) {
		sealed, err := sealRows(ctx, in.key, some, nil)
		if err != nil {
			return nil, err
		}
		for _, row := range sealed {
			if !take(row) {
				return rows, nil
			}
		}
	}
	return rows, nil
}

// sealHead adds the head that vouches for a chain's state with some changes.
func (c *core) sealHead(
	ctx context.Context, in *content, key *keys.Vault, chain ledger.Chain, changed ledger.State, to *Commit,
) error {
	device, err := c.deviceKeys(ctx, in)
	if err != nil {
		return err
	}
	to.Parent, to.First = chain.Head, chain.Number == 0
	head, _ := chain.Next(c.Device, c.Now().UnixMilli(), changed)
	head.Signature = device.Sign(signedHead, append([]string{c.ID}, head.Signed()...)...)
	blob, err := key.SealHead(head.Number, head.Encode())
	to.Head = ledger.SealedHead{Number: head.Number, Blob: blob}
	return err
}

// deviceKeys returns the keys that this device has of its own.
func (c *core) deviceKeys(ctx context.Context, in *content) (d keys.Identity, err error) {
	sealed, err := c.Store.Local(ctx, localDeviceKeys)
	if err != nil {
		return d, err
	}
	b, err := in.key.OpenLocal(localDeviceKeys, sealed)
	if err != nil {
		return d, fmt.Errorf("failed to open this device's own keys: %w", err)
	}
	return keys.ParseIdentity(b)
}

// OldKeys counts the records that are sealed under an older key than the newest.
func (r *Replica) OldKeys() (n int) {
	_ = r.core.gate.Read(func(in *content) error { // none once locked
		epoch := in.key.Ring().Epoch()
		for _, h := range in.entries {
			if h.epoch < epoch {
				n++
			}
		}
		return nil
	})
	return n
}

// Damaged returns the ids of the records that are damaged on this device.
func (r *Replica) Damaged() []string {
	var ids []string
	_ = r.core.read(func(in *content) error { // none once locked
		ids = slices.Sorted(maps.Keys(in.damaged))
		return nil
	})
	return ids
}

// Repair puts back damaged records that somebody else had: exactly those bytes that the last verified head vouches for,
// and nothing else. What was edited here after that head is lost with the row.
func (r *Replica) Repair(ctx context.Context, list []ledger.SealedRecord) error {
	return r.core.write(func(in *content) error {
		var rows []Row
		var back []held
		for _, s := range list {
			d, ok := in.damaged[s.ID]
			if !ok || d.BaseRev != s.Rev || d.BaseHash != ledger.Sum(s.Blob) {
				continue
			}
			row := Row{s.ID, s.Rev, s.Blob, s.Rev, d.BaseHash}
			h, err := openRow(in.key, row)
			if err != nil {
				continue
			}
			rows, back = append(rows, row), append(back, h)
		}
		if len(rows) == 0 {
			return nil
		}
		if err := r.core.Store.Put(ctx, rows, nil); err != nil {
			return fmt.Errorf("failed to put records back: %w", err)
		}
		for _, h := range back {
			in.entries[h.entry.ID] = h
			delete(in.damaged, h.entry.ID)
		}
		in.readSites()
		r.core.changed(in)
		return nil
	})
}

// Begin makes the commit that an epoch begins with: a head that vouches for the state as it is, or in a fresh epoch for
// none, under the newest key of a longer ring.
func (r *Replica) Begin(ctx context.Context, ring keys.Ring) (*Commit, error) {
	c := &Commit{}
	err := r.core.write(func(in *content) error {
		chain, _ := in.chain(ring)
		return r.core.sealHead(ctx, in, keys.NewVault(r.core.ID, ring, r.core.Rand), chain, nil, c)
	})
	return c, err
}

// Adopt takes a longer ring. What is written from then on is in its newest epoch; the line pulls its way there.
func (r *Replica) Adopt(ring keys.Ring) error {
	return r.core.write(func(in *content) error {
		in.key = keys.NewVault(r.core.ID, ring, r.core.Rand)
		return nil
	})
}

// Begun notes that the cloud took the commit that [Replica.Begin] made for a ring.
func (r *Replica) Begun(ctx context.Context, ring keys.Ring, c *Commit) error {
	err := r.core.write(func(in *content) error {
		_, fresh := in.chain(ring)
		checkpoint := Checkpoint{
			Number: c.Head.Number, Head: ledger.Sum(c.Head.Blob), Epoch: ring.Epoch(), At: r.core.Now().UnixMilli(),
		}
		key := keys.NewVault(r.core.ID, ring, r.core.Rand)
		if err := r.core.stand(ctx, in, key, nil, checkpoint, fresh); err != nil {
			return fmt.Errorf("failed to note an epoch: %w", err)
		}
		return nil
	})
	call(r.core.Events.Waiting)
	return err
}

// Committed notes that the cloud took a commit. Entries edited meanwhile are sealed again on
// top of it. If the set was closed meanwhile, the next opening finds the commit as its own, by
// its hash.
func (r *Replica) Committed(ctx context.Context, c *Commit) error {
	again := false
	err := r.core.gate.Write(func(in *content) error {
		checkpoint := in.checkpoint
		checkpoint.Number, checkpoint.Head = c.Head.Number, ledger.Sum(c.Head.Blob)
		checkpoint.Epoch, checkpoint.At = in.key.Ring().Epoch(), r.core.Now().UnixMilli()
		rows := make([]Row, 0, len(c.Records))
		changed := make([]held, 0, len(c.Records))
		for _, rec := range c.Records {
			h := in.entries[rec.ID]
			h.baseRev, h.baseHash = rec.Rev, ledger.Sum(rec.Blob)
			row := Row{ID: rec.ID, BaseRev: h.baseRev, BaseHash: h.baseHash} // its bytes are there
			switch {
			case h.edit == c.edits[rec.ID] && h.epoch < keys.SealedEpoch(rec.Blob): // it was sealed anew for this
				h.rev, row.Rev, row.Blob = rec.Rev, rec.Rev, rec.Blob
			case h.edit != c.edits[rec.ID]:
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
		for i, h := range changed {
			if rows[i].Blob != nil {
				h.epoch = keys.SealedEpoch(rows[i].Blob)
			}
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

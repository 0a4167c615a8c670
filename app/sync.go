package app

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"redlocket/core/ledger"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Status says how a vault stands to its cloud.
type Status struct {
	State  State
	Since  time.Time // when it came into this state, or was last in step
	Detail string    // for a fault or trouble: what, in plain words
	Waits  int       // records not yet committed
}

// State is one word of a status.
type State string

// The states.
const (
	NoCloud  State = ""         // the vault is on this computer only
	InStep   State = "in step"  // all is committed, nothing is missing
	Catching State = "catching" // work is going on
	Away     State = "away"     // the cloud can't be reached; it will catch up
	Ended    State = "ended"    // the cloud no longer takes this device's session
	Fault    State = "fault"    // the cloud's answer was refused; nothing of it was used
)

// How often to look without being told, and how long to wait after trouble.
const (
	pollEvery  = time.Minute
	retryFirst = 500 * time.Millisecond
	retryLast  = 30 * time.Second
)

// Status returns how the vault stands to its cloud.
func (v *Vault) Status() Status {
	v.mu.RLock()
	defer v.mu.RUnlock()
	s := v.status
	s.Waits = v.pending()
	return s
}

func (v *Vault) pending() (n int) {
	for _, h := range v.entries {
		if h.rev > h.baseRev {
			n++
		}
	}
	return n
}

func (v *Vault) setStatus(s State, detail string) {
	v.mu.Lock()
	changed := v.status.State != s || v.status.Detail != detail
	if changed || s == InStep {
		v.status = Status{State: s, Since: v.d.p.Now(), Detail: detail}
	}
	v.mu.Unlock()
	if changed {
		v.tell(NoticeStatus)
	}
}

// nudge asks the keeper of the line to look now.
func (v *Vault) nudge() {
	select {
	case v.wake <- struct{}{}:
	default:
	}
}

// start keeps the vault in step from now until it is locked.
func (v *Vault) start() {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.cloud == nil || v.seal == nil || v.stop != nil {
		if v.cloud == nil && v.seal != nil {
			go func() {
				if v.loaded() == nil {
					v.sweepFiles(context.Background())
				}
			}()
		}
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	v.stop, v.stopped = cancel, make(chan struct{})
	v.status = Status{State: Catching, Since: v.d.p.Now()}
	go v.listen(ctx)
	go v.follow(ctx)
}

// listen hears of other devices' commits, for as long as ctx lives.
func (v *Vault) listen(ctx context.Context) {
	for wait := retryFirst; ctx.Err() == nil; wait = min(2*wait, retryLast) {
		token, err := v.token(ctx)
		if err == nil {
			err = v.cloud.Events(ctx, token, func(uint64) {
				wait = retryFirst
				v.nudge()
			})
		}
		if err == nil || errors.Is(err, ErrOffline) {
			v.nudge() // the line broke: see whether the cloud is still there
		}
		sleep(ctx, jitter(wait))
	}
}

func (v *Vault) follow(ctx context.Context) {
	defer close(v.stopped)
	if v.loaded() == nil {
		v.sweepFiles(ctx)
	}
	retry := retryFirst
	for ctx.Err() == nil {
		err := v.Sync(ctx)
		if err == nil {
			err = v.sendFiles(ctx)
		}
		var fault *ledger.Fault
		next := pollEvery
		switch {
		case ctx.Err() != nil:
			return
		case err == nil:
			retry = retryFirst
			v.setStatus(InStep, "")
		case errors.Is(err, ErrCloudFull):
			v.setStatus(InStep, err.Error())
		case errors.As(err, &fault):
			v.setStatus(Fault, fault.Detail)
		case errors.Is(err, ErrToken), errors.Is(err, ErrSignIn):
			v.setStatus(Ended, err.Error())
		default:
			v.setStatus(Away, err.Error())
			next, retry = jitter(retry), min(2*retry, retryLast)
		}
		select {
		case <-ctx.Done():
		case <-v.wake:
		case <-time.After(next):
		}
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func jitter(d time.Duration) time.Duration { return d*3/4 + rand.N(d/2) }

func (v *Vault) token(ctx context.Context) (string, error) {
	b, err := v.local(ctx, localToken)
	if err == nil && len(b) == 0 {
		err = ErrToken
	}
	return string(b), err
}

// Sync pulls what others committed, merges it, and commits what waits here. It
// returns a [*ledger.Fault] if the cloud's answer can't be what the other
// devices wrote; then nothing of it was used.
func (v *Vault) Sync(ctx context.Context) error {
	for range 20 { // each turn, somebody else's commit got through
		err := v.syncOnce(ctx)
		if !errors.Is(err, ErrConflict) {
			return err
		}
	}
	return ErrConflict
}

func (v *Vault) syncOnce(ctx context.Context) error {
	if err := v.wait(); err != nil {
		return err
	}
	v.mu.RLock()
	cloud, since := v.cloud, v.stand.Number
	v.mu.RUnlock()
	if cloud == nil {
		return nil
	}
	token, err := v.token(ctx)
	if err != nil {
		return err
	}
	c, err := cloud.Changes(ctx, token, since)
	if err != nil {
		return err
	}
	if err := v.take(ctx, since, c); err != nil {
		return err
	}
	commit, edits, err := v.prepare(ctx)
	if err != nil || commit == nil {
		return err
	}
	if err := cloud.Commit(ctx, token, *commit); err != nil {
		return err
	}
	return v.committed(ctx, *commit, edits)
}

// take verifies a pull and merges it into what is here, in one transaction.
func (v *Vault) take(ctx context.Context, since uint64, c wire.Changes) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return ErrLocked
	}
	if since != v.stand.Number {
		return ErrConflict
	}
	heads := make([]ledger.SealedHead, len(c.Heads))
	for i, h := range c.Heads {
		heads[i] = ledger.SealedHead(h)
	}
	records := make([]ledger.SealedRecord, len(c.Records))
	for i, r := range c.Records {
		records[i] = ledger.SealedRecord(r)
	}
	next, opened, err := v.chain().Verify(v.seal, c.Latest, heads, records)
	if err != nil || next.Number == v.stand.Number {
		return err
	}
	rows := make([]Row, 0, len(opened))
	changed := make([]held, 0, len(opened))
	for _, o := range opened {
		theirs, err := vault.Decode(o.Plain)
		if err != nil || theirs.ID != o.ID {
			return &ledger.Fault{Kind: ledger.BadRecord, Record: o.ID, Detail: "it holds something this version can't read"}
		}
		h := held{entry: theirs, rev: o.Rev, baseRev: o.Rev, baseHash: o.Hash}
		row := Row{o.ID, o.Rev, o.Blob, o.Rev, o.Hash}
		if ours, ok := v.entries[o.ID]; ok && ours.rev > ours.baseRev {
			h.edit = ours.edit
			h.entry = vault.Merge(ours.entry, theirs)
			if !same(h.entry, theirs) {
				h.rev = o.Rev + 1
				if row, err = sealRow(v.seal, h); err != nil {
					return err
				}
			}
		}
		rows, changed = append(rows, row), append(changed, h)
	}
	stand := Checkpoint{next.Number, next.Head, next.Floor, next.FloorHash}
	if err := v.store.Put(ctx, rows, &stand); err != nil {
		return fmt.Errorf("failed to save what came from the cloud: %w", err)
	}
	sites := false
	for _, h := range changed {
		v.entries[h.entry.ID] = h
		sites = sites || h.entry.Type == vault.TypeSites
	}
	v.stand, v.index = stand, nil
	if sites {
		v.readSites()
	}
	v.version.Add(1) // with the entries, as in put: plans are held against it
	go v.tell(NoticeChanged)
	return nil
}

func same(a, b vault.Entry) bool {
	x, err1 := a.Encode()
	y, err2 := b.Encode()
	return err1 == nil && err2 == nil && string(x) == string(y)
}

// chain is where this device stands. v.mu is held.
func (v *Vault) chain() ledger.Chain {
	c := ledger.Chain{Number: v.stand.Number, Head: v.stand.Head, Floor: v.stand.Floor, FloorHash: v.stand.FloorHash, State: make(ledger.State, len(v.entries))}
	for id, h := range v.entries {
		if h.baseRev > 0 {
			c.State[id] = ledger.Mark{Rev: h.baseRev, Hash: h.baseHash}
		}
	}
	return c
}

// prepare builds the commit of everything that waits; nil if nothing does. With
// it comes which edit of each entry is in it.
func (v *Vault) prepare(ctx context.Context) (*wire.Commit, map[string]uint64, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if v.seal == nil {
		return nil, nil, ErrLocked
	}
	var ids []string
	edits := map[string]uint64{}
	for id, h := range v.entries {
		if h.rev > h.baseRev && len(ids) < wire.MaxRecords {
			ids = append(ids, id)
			edits[id] = h.edit
		}
	}
	if len(ids) == 0 {
		return nil, nil, nil
	}
	blobs, err := v.store.Blobs(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	out := &wire.Commit{}
	changed := make(ledger.State, len(ids))
	for _, id := range ids {
		rev := v.entries[id].rev
		changed[id] = ledger.Mark{Rev: rev, Hash: ledger.Sum(blobs[id])}
		out.Records = append(out.Records, wire.Record{ID: id, Rev: rev, Blob: blobs[id]})
	}
	c := v.chain()
	head, _ := c.Next(v.card.Device, v.d.p.Now().UnixMilli(), changed)
	blob, err := v.seal.SealHead(head.Number, head.Encode())
	if err != nil {
		return nil, nil, err
	}
	out.Head = wire.Head{Number: head.Number, Blob: blob}
	if c.Number > 0 {
		out.Parent = hex.EncodeToString(c.Head[:])
	}
	return out, edits, nil
}

// committed notes that the cloud took a commit. Entries edited meanwhile are
// sealed anew on top of it.
func (v *Vault) committed(ctx context.Context, c wire.Commit, edits map[string]uint64) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return ErrLocked // the next start finds the commit as its own, by its hash
	}
	stand := v.stand
	stand.Number, stand.Head = c.Head.Number, ledger.Sum(c.Head.Blob)
	rows := make([]Row, 0, len(c.Records))
	changed := make([]held, 0, len(c.Records))
	for _, r := range c.Records {
		h := v.entries[r.ID]
		h.baseRev, h.baseHash = r.Rev, ledger.Sum(r.Blob)
		row := Row{r.ID, r.Rev, r.Blob, h.baseRev, h.baseHash}
		if h.edit != edits[r.ID] {
			h.rev = r.Rev + 1
			var err error
			if row, err = sealRow(v.seal, h); err != nil {
				return err
			}
			v.nudge()
		}
		rows, changed = append(rows, row), append(changed, h)
	}
	if err := v.store.Put(ctx, rows, &stand); err != nil {
		return fmt.Errorf("failed to note a commit: %w", err)
	}
	for _, h := range changed {
		v.entries[h.entry.ID] = h
	}
	v.stand = stand
	return nil
}

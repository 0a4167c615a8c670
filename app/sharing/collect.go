package sharing

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"redlocket/app/household"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// run is one run of Collect.
type run struct {
	*Sharing
	cloud      Cloud
	credential string
	own        keys.Identity
	public     keys.PublicIdentity
}

// InStep has what was changed here brought to the sets, and what others changed taken, beside whoever calls: that is
// when the vault's own set is in step with its cloud. One run goes at a time.
func (s *Sharing) InStep(ctx context.Context) {
	now := s.Now()
	if !s.look.Begin(now, s.changed) {
		return
	}
	s.Beside(func() {
		if s.look.End(now, s.Collect(ctx)) {
			s.Nudge()
		}
	})
}

// changed reports whether something that is shared may have been changed here since it was brought.
func (s *Sharing) changed() bool {
	if s.Set.Book.Revision() == s.pushed.Load() {
		return false
	}
	held, err := s.held()
	return err == nil && len(held) > 0
}

// Collect is one such run, waited for.
func (s *Sharing) Collect(ctx context.Context) error {
	s.running.Lock()
	defer s.running.Unlock()
	r, err := s.begin(ctx)
	if err != nil || r == nil {
		return err
	}
	return r.collect(ctx)
}

// begin returns a run; nil without a cloud, and while nobody knows the owner.
func (s *Sharing) begin(ctx context.Context) (*run, error) {
	own, ok := s.People.Identity()
	if !ok {
		return nil, nil
	}
	cloud, credential, err := s.Cloud(ctx)
	if err != nil || cloud == nil {
		return nil, err
	}
	return &run{Sharing: s, cloud: cloud, credential: credential, own: own, public: own.Public()}, nil
}

func (r *run) collect(ctx context.Context) error {
	at := r.Set.Book.Revision()
	committed, err := r.held()
	if err != nil {
		return err
	}
	list, err := r.cloud.Sets(ctx, r.credential)
	if err != nil {
		return err
	}
	var errs []error
	listed := map[string]bool{}
	for _, l := range list {
		listed[l.ID] = true
		if err := r.takeBoxes(ctx, l, committed[l.ID]); err != nil {
			errs = append(errs, err)
			continue
		}
		errs = append(errs, r.follow(ctx, l))
	}
	for set, e := range committed { // of which the cloud knows nothing any more
		if h, ok := share.HeldOf(e); ok && !listed[set] && h.Active() && h.Right.Includes(share.Manage) {
			errs = append(errs, r.follow(ctx, wire.SharedSet{ID: set, Member: true}))
		}
	}
	err = errors.Join(errs...)
	if err == nil {
		r.pushed.Store(at)
	}
	return err
}

// held are the sets of this vault, by id.
func (s *Sharing) held() (map[string]vault.Entry, error) {
	list, err := s.Set.Book.Entries(func(e vault.Entry) bool { return e.Type == vault.TypeShared && !e.Purged() })
	out := make(map[string]vault.Entry, len(list))
	for _, e := range list {
		out[e.Text(vault.FieldOf)] = e
	}
	return out, err
}

// follow brings and takes what is new in a set that the owner holds, in the epoch that they know.
func (r *run) follow(ctx context.Context, l wire.SharedSet) error {
	entries, err := r.held()
	if err != nil {
		return err
	}
	h, ok := share.HeldOf(entries[l.ID])
	if !ok || !l.Member {
		return nil
	}
	if h.Out != 0 && h.Roll.Epoch >= l.Epoch { // left, and somebody who didn't know began an epoch with the owner in it
		return r.sayLeave(ctx, h, l.Epoch)
	}
	if h.Active() && h.Roll.Epoch > l.Epoch {
		if err := r.bringBack(ctx, entries[l.ID], h, l.Epoch); err != nil || !h.Right.Includes(share.Manage) {
			return err
		}
		l.Epoch, l.Latest = h.Roll.Epoch, 0
	}
	if !h.Active() || h.Roll.Epoch != l.Epoch {
		return nil // its box has to come first
	}
	err = r.sync(ctx, h, l)
	var fault *ledger.Fault
	switch {
	case errors.As(err, &fault):
		r.setFault(l.ID, fault.Error())
		return nil // the others go on
	case errors.Is(err, syncing.ErrConflict), errors.Is(err, syncing.ErrOver): // another epoch began meanwhile
		r.look.Ask()
		return nil
	case err == nil:
		r.setFault(l.ID, "")
	}
	return err
}

// bringBack begins the epochs again that the cloud has lost: whoever may manage has their rolls and keys. Whoever may
// not says that they are missing.
func (r *run) bringBack(ctx context.Context, e vault.Entry, h share.Held, from uint32) error {
	if !h.Right.Includes(share.Manage) {
		const detail = "it shows an older list of members, number %d, and this computer has seen %d"
		r.setFault(h.Set, (&ledger.Fault{
			Kind: ledger.RolledBack, Detail: fmt.Sprintf(detail, from, h.Roll.Epoch),
		}).Error())
		return nil
	}
	for epoch := from + 1; epoch <= h.Roll.Epoch; epoch++ {
		lost, ok := h.At(e, epoch)
		before, known := h.At(e, epoch-1)
		if !ok {
			return nil // too long ago: it is begun anew by sharing it once more
		}
		var out []share.Member
		for _, m := range before.Roll.Members {
			if _, stays := lost.Roll.Member(m.Keys.Sign); known && !stays {
				out = append(out, m)
			}
		}
		err := r.offer(ctx, lost.Roll, lost.Key, out)
		if errors.Is(err, syncing.ErrConflict) || errors.Is(err, syncing.ErrOver) {
			return nil // it has it, and says so in its own time; or the owner isn't in it any more
		}
		if err != nil {
			return err
		}
	}
	return r.restart(ctx, h.Set) // what was in it is brought anew
}

func (s *Sharing) setFault(set, fault string) {
	if s.faults.at(set) != fault {
		s.faults.note(set, fault)
		s.Changed()
	}
}

// takeBoxes reads what is sealed to the owner, in order. What came of a box is committed before it is dropped at the
// cloud: committed is the set's entry as it was when the run began.
func (r *run) takeBoxes(ctx context.Context, l wire.SharedSet, committed vault.Entry) error {
	if len(l.Waiting) == 0 {
		return nil
	}
	people, err := r.People.People()
	if err != nil {
		return err
	}
	known := household.Known(people)
	boxes := slices.Clone(l.Waiting)
	slices.SortStableFunc(boxes, func(a, b wire.SetBox) int { return int(a.Epoch) - int(b.Epoch) })
	was, ok := share.HeldOf(committed)
	for _, b := range boxes {
		past := ok && b.Epoch <= was.Roll.Epoch
		over := ok && (b.Epoch < was.Roll.Epoch || was.Out != 0)
		if past && b.Kind == wire.BoxEpoch || over && b.Kind == wire.BoxFarewell {
			if err := r.drop(ctx, l.ID, b); err != nil {
				return err
			}
			continue
		}
		if r.looked.At(b.ID, known) {
			continue
		}
		id := b.ID
		b, err := r.cloud.SetBox(ctx, r.credential, l.ID, id)
		if errors.Is(err, syncing.ErrOver) {
			continue // another device has dropped it
		}
		if err != nil {
			return err
		}
		b.ID = id
		switch b.Kind {
		case wire.BoxEpoch:
			err = r.takeEpoch(ctx, l.ID, b)
		case wire.BoxFarewell:
			err = r.takeFarewell(ctx, l.ID, b)
		case wire.BoxLeave:
			err = r.takeLeave(ctx, l.ID, b)
		}
		var fault *ledger.Fault
		if errors.As(err, &fault) {
			r.setFault(l.ID, fault.Error())
			return nil
		}
		if err != nil {
			return err
		}
		if !ok { // an invitation, or nothing
			r.looked.Note(id, known)
		}
	}
	return nil
}

func (r *run) drop(ctx context.Context, set string, b wire.SetBox) error {
	err := r.cloud.RemoveSetBox(ctx, r.credential, set, b.ID)
	if errors.Is(err, syncing.ErrOver) {
		return nil // another device has dropped it
	}
	return err
}

// takeEpoch takes the roll and the key of an epoch. The first one is an invitation, from somebody who was checked; one
// of somebody who wasn't waits at the cloud.
func (r *run) takeEpoch(ctx context.Context, set string, b wire.SetBox) error {
	roll, key, by, err := share.OpenBox(r.own, set, b.Epoch, b.Sealed)
	if err != nil {
		return nil //nolint:nilerr // whoever made it, nobody can take it
	}
	entries, err := r.held()
	if err != nil {
		return err
	}
	e, there := entries[set]
	h, has := share.HeldOf(e)
	if has && h.Out == 0 && b.Epoch <= h.Roll.Epoch {
		return nil
	}
	me, _ := roll.Member(r.public.Sign)
	changes, err := share.HeldEpoch(roll, key, by, me.Right)
	if err != nil {
		return err
	}
	switch {
	case has && h.Out == 0:
		if roll.Epoch > h.Roll.Epoch+1 {
			return &ledger.Fault{Kind: ledger.Incomplete, Detail: fmt.Sprintf("epoch %d is missing", h.Roll.Epoch+1)}
		}
		if roll.Follows(h.Roll, by) != nil {
			const detail = "epoch %d was begun by nobody who may"
			return &ledger.Fault{Kind: ledger.BadHead, Detail: fmt.Sprintf(detail, roll.Epoch)}
		}
	case has && roll.Follows(h.Roll, by) == nil: // left, and whoever began it didn't know yet: they are told again
	case there && !has && string(by) == string(r.public.Sign) && roll.Epoch == 1: // begun here, and cut off
	default:
		p, err := r.inviter(by)
		if err != nil || p.ID == "" || roll.May(by, share.Manage) != nil {
			return err
		}
		if has && b.Epoch <= h.Roll.Epoch {
			return nil // from before it ended
		}
		book := ""
		if roll.Name != "" {
			book = entryID("shared book", set, fmt.Sprint(roll.Epoch))
		}
		maps.Copy(changes, share.HeldSet(set, book, roll.Epoch, p.ID))
	}
	if err := r.put(ctx, set, changes); err != nil {
		return err
	}
	r.look.Ask() // it is dropped at the cloud once it is committed
	r.Changed()
	return nil
}

// inviter is the checked person with a key; none if there is no such person, or they are paused.
func (r *run) inviter(by []byte) (household.Person, error) {
	people, err := r.People.People()
	if err != nil {
		return household.Person{}, err
	}
	for _, p := range people {
		if p.State == household.Checked && !p.Paused && string(p.Keys.Sign) == string(by) {
			return p, nil
		}
	}
	return household.Person{}, nil
}

// takeFarewell ends what one who may says has ended.
func (r *run) takeFarewell(ctx context.Context, set string, b wire.SetBox) error {
	entries, err := r.held()
	if err != nil {
		return err
	}
	h, ok := share.HeldOf(entries[set])
	if !ok || h.Out != 0 {
		return nil
	}
	roll := h.Roll
	if b.Epoch == roll.Epoch { // the cloud has shown two epochs of one number: one of them is without the owner
		before, _ := h.At(entries[set], b.Epoch-1)
		roll = before.Roll
	}
	if share.OpenFarewell(r.own, roll, b.Epoch, b.Sealed) != nil {
		return nil
	}
	r.look.Ask()
	return r.end(ctx, set, false)
}

// takeLeave begins an epoch without somebody who says that they leave.
func (r *run) takeLeave(ctx context.Context, set string, b wire.SetBox) error {
	entries, err := r.held()
	if err != nil {
		return err
	}
	h, ok := share.HeldOf(entries[set])
	if !ok || !h.Active() || !h.Right.Includes(share.Manage) {
		return nil
	}
	if b.Epoch < h.Roll.Epoch { // somebody who did know has begun the epoch
		return r.drop(ctx, set, b)
	}
	m, err := share.OpenLeave(r.own, h.Roll, b.Sealed)
	if err != nil {
		return r.drop(ctx, set, b)
	}
	gone := []share.Member{m}
	err = r.next(ctx, h, without(h.Roll.Members, m), gone, nil) // who leaves needs no farewell
	// Somebody else was faster, or the owner may not decide any more: that is told by what comes next.
	if errors.Is(err, syncing.ErrConflict) || errors.Is(err, syncing.ErrOver) {
		r.look.Ask()
		return nil
	}
	if err != nil {
		return err
	}
	if len(h.Roll.Members) == 2 { // nobody else has it
		return r.unshare(ctx, set)
	}
	return r.drop(ctx, set, b)
}

func without(members []share.Member, m share.Member) []share.Member {
	return slices.DeleteFunc(slices.Clone(members), func(o share.Member) bool {
		return string(o.Keys.Sign) == string(m.Keys.Sign)
	})
}

// put changes the entry of a set, which is made if it isn't there.
func (s *Sharing) put(ctx context.Context, set string, c vault.Changes) error {
	id := EntryID(set)
	return s.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
		e, ok := all[id]
		var err error
		if ok {
			e, err = e.With(s.Set.Items.Stamp(), c)
		} else {
			e, err = vault.New(id, vault.TypeShared, s.Set.Items.Stamp(), c)
		}
		return []vault.Entry{e}, err
	}, nil)
}

// end drops what is held of a set. What the owner brought to it stays with them, for them alone; with keep all of it
// does.
func (s *Sharing) end(ctx context.Context, set string, keep bool) error {
	err := s.Set.Items.SaveShared(ctx, func(all map[string]vault.Entry) (out []vault.Entry, err error) {
		by := s.Set.Items.Stamp()
		e := all[EntryID(set)]
		h, ok := share.HeldOf(e)
		if !ok {
			return nil, nil
		}
		if e, err = e.With(by, share.HeldOut(by.At)); err != nil {
			return nil, err
		}
		out = append(out, e)
		for _, e := range all {
			in, id := e.Share()
			switch {
			case e.Type == vault.TypeBook && e.ID == h.Book && h.From != "" && !keep:
				e, err = e.Discard(by)
			case in != set || e.Purged():
				continue
			case keep: // in which set it was tells what the others could have seen
				continue
			case e.ID == localID(h, id): // held anew later, it is another one
				if e, err = e.With(by, vault.Changes{vault.FieldShare: ""}); err == nil {
					e, err = e.Discard(by)
				}
			default: // the owner brought it
				e, err = e.With(by, vault.Changes{vault.FieldShare: ""})
			}
			if err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		return out, nil
	})
	if err == nil {
		s.Changed()
		s.Nudge()
	}
	return err
}

// localID is the id under which something that somebody else brought is held here: nobody else can choose it.
func localID(h share.Held, id string) string {
	return entryID("shared item", h.Set, fmt.Sprint(h.Since), id)
}

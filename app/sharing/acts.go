package sharing

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"

	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Who is in a set is changed while the cloud is there: each of these acts returns once it has taken the epoch that the
// change begins.

// ShareBook shares a book with a person, from now on: all that is in it, and what comes to be.
func (s *Sharing) ShareBook(ctx context.Context, book, person string, right share.Right) (set string, err error) {
	books, err := s.Set.Books.List()
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(books, func(b records.NamedBook) bool { return b.ID == book && b.Name != "" })
	if i < 0 {
		return "", records.BadInput("book", errNoBook)
	}
	name := books[i].Name
	h, err := s.active(func(h share.Held) bool { return h.Book == book })
	if err != nil {
		return "", err
	}
	return s.shareWith(ctx, h, name, person, right, func(set string) error {
		return s.put(ctx, set, share.HeldSet(set, book, 1, ""))
	})
}

// ShareItem shares one item with a person. One that stands in a shared book is shared with those of the book already.
func (s *Sharing) ShareItem(ctx context.Context, item, person string, right share.Right) (set string, err error) {
	if s.Set.Cover.Has(item) {
		return "", records.BadInput("item", errCovered)
	}
	e, err := s.Set.Items.Entry(item)
	if err != nil {
		return "", err
	}
	if right == share.Fill && !Fills(e) {
		return "", records.BadInput("right", errFillWhat)
	}
	in, _ := e.Share()
	h, err := s.active(func(h share.Held) bool { return in != "" && h.Set == in })
	if err != nil {
		return "", err
	}
	if h.Book != "" {
		return "", records.BadInput("item", records.ErrShared)
	}
	return s.shareWith(ctx, h, "", person, right, func(set string) error {
		if err := s.put(ctx, set, share.HeldSet(set, "", 1, "")); err != nil {
			return err
		}
		return s.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
			e, ok := all[item]
			if !ok || !e.IsItem() {
				return nil, records.ErrNoItem
			}
			e, err := e.With(s.Set.Items.Stamp(), vault.Changes{vault.FieldShare: vault.ShareText(set, item)})
			return []vault.Entry{e}, err
		}, nil)
	})
}

// Fills reports whether an item is of a kind that is filled in at pages.
func Fills(e vault.Entry) bool {
	switch e.Kind() {
	case vault.TypeLogin, vault.TypeCard, vault.TypePerson:
		return true
	}
	return false
}

// active returns the set that is held now and of which something is true; none is without an id.
func (s *Sharing) active(is func(share.Held) bool) (share.Held, error) {
	entries, err := s.held()
	for _, e := range entries {
		if h, ok := share.HeldOf(e); ok && h.Active() && is(h) {
			return h, err
		}
	}
	return share.Held{}, err
}

// shareWith takes a person into a set, which is begun if there is none.
func (s *Sharing) shareWith(
	ctx context.Context, h share.Held, name, person string, right share.Right, begin func(set string) error,
) (string, error) {
	if !slices.Contains(share.Rights(), right) {
		return "", records.BadInput("right", errRight)
	}
	m, err := s.member(person, right)
	if err != nil {
		return "", err
	}
	if h.Set != "" {
		err := s.manage(ctx, h.Set, func(members []share.Member) ([]share.Member, error) {
			if slices.ContainsFunc(members, func(o share.Member) bool { return o.Email == m.Email }) {
				return nil, records.BadInput("person", errMember)
			}
			if len(members) >= share.MaxMembers {
				return nil, records.BadInput("person", errManyMembers)
			}
			return append(slices.Clone(members), m), nil
		})
		if !errors.Is(err, ErrNoSet) { // or the last other member has just left
			return h.Set, err
		}
	}
	return s.beginSet(ctx, name, m, begin)
}

// member is a checked person as a member.
func (s *Sharing) member(person string, right share.Right) (m share.Member, err error) {
	people, err := s.People.People()
	if err != nil {
		return m, err
	}
	i := slices.IndexFunc(people, func(p household.Person) bool { return p.ID == person })
	switch {
	case i < 0:
		return m, household.ErrNoPerson
	case people[i].State != household.Checked:
		return m, records.BadInput("person", errNotChecked)
	case people[i].Paused:
		return m, records.BadInput("person", errPaused)
	}
	p := people[i]
	return share.Member{Email: p.Email, Name: share.CleanName(p.Name), Keys: p.Keys, Right: right}, nil
}

// beginSet begins a set with two members.
func (s *Sharing) beginSet(
	ctx context.Context, name string, m share.Member, begin func(set string) error,
) (set string, err error) {
	s.running.Lock()
	defer s.running.Unlock()
	r, err := s.begin(ctx)
	if err != nil || r == nil {
		return "", errors.Join(err, noCloud(r))
	}
	set = uuid.NewString()
	roll := share.Roll{Set: set, Epoch: 1, Name: name, Members: []share.Member{r.me(), m}, At: s.Now().UnixMilli()}
	if err := begin(set); err != nil {
		return "", err
	}
	if err := r.beginEpoch(ctx, roll, nil, nil); err != nil {
		return "", errors.Join(err, s.forget(context.WithoutCancel(ctx), set))
	}
	r.bring(ctx, set)
	return set, nil
}

func noCloud(r *run) error {
	if r == nil {
		return household.ErrNoCloud
	}
	return nil
}

// me is the owner as a member who may decide.
func (r *run) me() share.Member {
	name, email := r.Owner()
	return share.Member{Email: email, Name: share.CleanName(name), Keys: r.public, Right: share.Manage}
}

// forget takes back a set that couldn't be begun.
func (s *Sharing) forget(ctx context.Context, set string) error {
	return s.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) (out []vault.Entry, err error) {
		by := s.Set.Items.Stamp()
		for _, e := range all {
			in, _ := e.Share()
			switch {
			case e.ID == EntryID(set):
				e, err = e.Discard(by)
			case in == set:
				e, err = e.With(by, vault.Changes{vault.FieldShare: ""})
			default:
				continue
			}
			if err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		return out, nil
	}, nil)
}

// beginEpoch begins an epoch at the cloud, and puts it into the owner's own vault. What an answer that was lost would
// leave undone is done by the owner's own box, in the next run. out and told are described with next.
func (r *run) beginEpoch(ctx context.Context, roll share.Roll, out, told []share.Member) error {
	if err := roll.Check(); err != nil {
		return err
	}
	key, err := keys.NewVaultKey(r.Rand)
	if err != nil {
		return err
	}
	if err := r.offer(ctx, roll, key, told); err != nil {
		return err
	}
	own, _ := roll.Member(r.public.Sign)
	changes, err := share.HeldEpoch(roll, key, r.public.Sign, own.Right)
	if err != nil {
		return err
	}
	for _, m := range out {
		former, err := share.HeldFormer(m, r.Now().UnixMilli())
		if err != nil {
			return err
		}
		maps.Copy(changes, former)
	}
	if err := r.put(ctx, roll.Set, changes); err != nil {
		return err
	}
	r.Changed()
	return nil
}

// offer hands an epoch's boxes to the cloud; out are told a farewell.
func (r *run) offer(ctx context.Context, roll share.Roll, key keys.VaultKey, out []share.Member) error {
	name, _ := r.Owner()
	in := wire.NewSetEpoch{Epoch: roll.Epoch, First: share.FirstName(name)}
	for _, m := range roll.Members {
		sealed, err := share.SealBox(r.own, m.Keys, roll, key)
		if err != nil {
			return err
		}
		in.Members = append(in.Members, wire.SetMember{
			Email: m.Email, Sealed: sealed,
			Change: m.Right.Includes(share.Change), Manage: m.Right.Includes(share.Manage),
		})
	}
	for _, m := range out {
		sealed, err := share.SealFarewell(r.own, m.Keys, roll.Set, roll.Epoch)
		if err != nil {
			return err
		}
		in.Out = append(in.Out, wire.SetMember{Email: m.Email, Sealed: sealed})
	}
	return r.cloud.BeginSetEpoch(ctx, r.credential, roll.Set, in)
}

// bring brings what the set is to hold, as far as that can be done now: the rest comes with the next run.
func (r *run) bring(ctx context.Context, set string) {
	r.look.Ask()
	entries, err := r.held()
	if err != nil {
		return
	}
	if h, ok := share.HeldOf(entries[set]); ok {
		_ = r.sync(ctx, h, wire.SharedSet{ID: set})
	}
	r.Nudge()
}

// next begins the epoch after the one that is held, with other members. out are noted as those who held it, and told
// are those of them who are told a farewell.
func (r *run) next(ctx context.Context, h share.Held, members, out, told []share.Member) error {
	roll := h.Roll.Next(members, r.Now().UnixMilli())
	if h.Book != "" {
		roll.Name = r.Set.Books.Name(vault.Item{Book: h.Book})
	}
	if err := r.beginEpoch(ctx, roll, out, told); err != nil {
		return err
	}
	r.bring(ctx, h.Set)
	return nil
}

// manage changes who is in a set. Where somebody else did so at the same time, theirs comes first.
func (s *Sharing) manage(
	ctx context.Context, set string, change func([]share.Member) ([]share.Member, error),
) error {
	s.running.Lock()
	defer s.running.Unlock()
	r, err := s.begin(ctx)
	if err != nil || r == nil {
		return errors.Join(err, noCloud(r))
	}
	const tries = 4
	for range tries {
		if err := r.collect(ctx); err != nil {
			return err
		}
		h, err := s.active(func(h share.Held) bool { return h.Set == set })
		if err != nil {
			return err
		}
		if h.Set == "" {
			return ErrNoSet
		}
		if !h.Right.Includes(share.Manage) {
			return ErrNotManager
		}
		members, err := change(h.Roll.Members)
		if err != nil {
			return err
		}
		var out []share.Member
		for _, m := range h.Roll.Members {
			if !slices.ContainsFunc(members, func(o share.Member) bool { return o.Email == m.Email }) {
				out = append(out, m)
			}
		}
		err = r.next(ctx, h, members, out, out)
		if errors.Is(err, syncing.ErrConflict) || errors.Is(err, syncing.ErrOver) {
			continue // also where somebody else has just said that the owner doesn't decide any more
		}
		if err == nil && len(members) == 1 { // nobody else has it
			return r.unshare(ctx, set)
		}
		return err
	}
	return syncing.ErrConflict
}

// unshare ends a set that the owner alone holds: all of it stays with them.
func (r *run) unshare(ctx context.Context, set string) error {
	h, err := r.active(func(h share.Held) bool { return h.Set == set })
	if err != nil || h.Set == "" {
		return err
	}
	if err := r.cloud.LeaveSet(ctx, r.credential, set, wire.LeaveSet{Epoch: h.Roll.Epoch}); err != nil {
		return err
	}
	return r.end(ctx, set, true)
}

// SetRight changes what a member may do.
func (s *Sharing) SetRight(ctx context.Context, set, email string, right share.Right) error {
	if !slices.Contains(share.Rights(), right) {
		return records.BadInput("right", errRight)
	}
	_, own := s.Owner()
	return s.manage(ctx, set, func(members []share.Member) ([]share.Member, error) {
		out := slices.Clone(members)
		i := slices.IndexFunc(out, func(m share.Member) bool { return m.Email == email })
		if i < 0 {
			return nil, household.ErrNoPerson
		}
		if email == own && !right.Includes(share.Change) { // what the epoch is to hold is brought by whoever begins it
			return nil, records.BadInput("right", errOwnRight)
		}
		out[i].Right = right
		if !slices.ContainsFunc(out, func(m share.Member) bool { return m.Right == share.Manage }) {
			return nil, records.BadInput("right", ErrLastManager)
		}
		return out, nil
	})
}

// End takes a member out: on their devices it is gone as soon as they are in touch with the cloud, and what comes from
// then on is sealed under another key. What they could have seen stays noted, with those passwords that haven't been
// changed since. Where nobody else is left it isn't shared any more, and all of it stays with the owner.
func (s *Sharing) End(ctx context.Context, set, email string) error {
	if _, own := s.Owner(); email == own {
		return s.Leave(ctx, set)
	}
	return s.manage(ctx, set, func(members []share.Member) ([]share.Member, error) {
		out := slices.DeleteFunc(slices.Clone(members), func(m share.Member) bool { return m.Email == email })
		if len(out) == len(members) {
			return nil, household.ErrNoPerson
		}
		return out, nil
	})
}

// EndAll takes everybody else out.
func (s *Sharing) EndAll(ctx context.Context, set string) error {
	own, _ := s.People.Identity()
	me := own.Public().Sign
	return s.manage(ctx, set, func(members []share.Member) ([]share.Member, error) {
		return slices.DeleteFunc(slices.Clone(members), func(m share.Member) bool {
			return string(m.Keys.Sign) != string(me)
		}), nil
	})
}

// Take takes up what somebody shares: from then on it is among the owner's items.
func (s *Sharing) Take(ctx context.Context, set string) error {
	id := EntryID(set)
	err := s.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
		by := s.Set.Items.Stamp()
		e, ok := all[id]
		h, held := share.HeldOf(e)
		if !ok || !held || h.Out != 0 {
			return nil, ErrNoSet
		}
		if h.Taken {
			return nil, nil
		}
		e, err := e.With(by, share.HeldTaken())
		out := []vault.Entry{e}
		if err == nil && h.Book != "" {
			var book vault.Entry
			c := vault.Changes{vault.FieldName: freeName(all, h.Roll.Name)}
			book, err = vault.New(h.Book, vault.TypeBook, by, c)
			out = append(out, book)
		}
		return out, err
	}, nil)
	if err != nil {
		return err
	}
	s.look.Ask()
	s.Changed()
	s.Nudge()
	return nil
}

// freeName is a name for a book that no other one has.
func freeName(all map[string]vault.Entry, name string) string {
	taken := map[string]bool{}
	for _, e := range all {
		if e.Type == vault.TypeBook && !e.Purged() {
			taken[e.Text(vault.FieldName)] = true
		}
	}
	free := name
	for n := 2; taken[free]; n++ {
		free = fmt.Sprintf("%s %d", name, n)
	}
	return free
}

// Restart is the way back where the cloud's answer about a set was refused, because the cloud lost something: this
// device forgets what it saw there, reads all of it anew, and brings what it has itself. Nothing is lost by it, and
// what nobody with the right made is refused as before.
func (s *Sharing) Restart(ctx context.Context, set string) error {
	s.running.Lock()
	defer s.running.Unlock()
	if err := s.restart(ctx, set); err != nil {
		return err
	}
	s.setFault(set, "")
	s.look.Ask()
	s.Nudge()
	return nil
}

// Leave gives a set up: on all devices of the owner it is gone, but for what they brought to it. It can be said away
// from the cloud. The last one who may decide who is in it can't leave the others without one.
func (s *Sharing) Leave(ctx context.Context, set string) error {
	entries, err := s.held()
	if err != nil {
		return err
	}
	h, ok := share.HeldOf(entries[set])
	if !ok || h.Out != 0 {
		return ErrNoSet
	}
	own, _ := s.People.Identity()
	others := slices.DeleteFunc(slices.Clone(h.Roll.Members), func(m share.Member) bool {
		return string(m.Keys.Sign) == string(own.Public().Sign)
	})
	manages := func(m share.Member) bool { return m.Right == share.Manage }
	if len(others) > 0 && !slices.ContainsFunc(others, manages) {
		return records.BadInput("form", ErrLastManager)
	}
	s.look.Ask()
	return s.end(ctx, set, false)
}

// sayLeave tells the cloud, and those who may decide who is in a set, that the owner left it. epoch is the one that
// the cloud is at: one that lost something is at an earlier one than the owner.
func (r *run) sayLeave(ctx context.Context, h share.Held, epoch uint32) error {
	in := wire.LeaveSet{Epoch: epoch}
	for _, m := range h.Roll.Members {
		if m.Right != share.Manage || string(m.Keys.Sign) == string(r.public.Sign) {
			continue
		}
		sealed, err := share.SealLeave(r.own, m.Keys, h.Roll)
		if err != nil {
			return err
		}
		in.To = append(in.To, wire.SetMember{Email: m.Email, Sealed: sealed})
	}
	err := r.cloud.LeaveSet(ctx, r.credential, h.Set, in)
	if errors.Is(err, syncing.ErrOver) || errors.Is(err, syncing.ErrConflict) {
		return nil // somebody else ended it meanwhile, or the next run says it in the next epoch
	}
	return err
}

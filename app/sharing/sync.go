package sharing

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/google/uuid"

	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/share"
	"redlocket/core/site"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// standing is where this device stands in an epoch of a set, kept on it alone. What is lost of it is read again.
type standing struct {
	Epoch  uint32          `json:"epoch"`
	Number uint64          `json:"number"`
	Head   ledger.Hash     `json:"head"`
	State  map[string]mark `json:"state"` // by the id in the set
	Files  map[string]bool `json:"files"` // that the epoch has
	Lacks  map[string]bool `json:"lacks"` // files that couldn't be had yet
	Names  map[string]string
}

// mark is a record of the set as it was seen last.
type mark struct {
	Rev    uint64      `json:"rev"`
	Hash   ledger.Hash `json:"hash"`
	Digest string      `json:"digest"` // of what it says
}

func localStanding(set string) string { return "shared " + set }

func (r *run) standing(ctx context.Context, h share.Held) (s standing, err error) {
	s, ok := r.standings.get(h.Set)
	if !ok {
		if err := r.Set.Local.GetJSON(ctx, localStanding(h.Set), &s); err != nil {
			return s, err
		}
	}
	if s.Epoch != h.Roll.Epoch {
		s = standing{Epoch: h.Roll.Epoch, Lacks: s.Lacks, Names: s.Names}
	}
	for _, m := range []*map[string]bool{&s.Files, &s.Lacks} {
		if *m == nil {
			*m = map[string]bool{}
		}
	}
	if s.State == nil {
		s.State = map[string]mark{}
	}
	if s.Names == nil {
		s.Names = map[string]string{}
	}
	return s, nil
}

func (r *run) keep(ctx context.Context, h share.Held, s standing) error {
	r.standings.put(h.Set, s)
	return r.Set.Local.SetJSON(ctx, localStanding(h.Set), s)
}

// standings are those that were read: in a large set that takes a while. Runs alone use them, one at a time.
type standings struct {
	mu  sync.Mutex // guards all
	all map[string]standing
}

func (l *standings) get(set string) (s standing, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s, ok = l.all[set]
	return s, ok
}

func (l *standings) put(set string, s standing) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.all == nil {
		l.all = map[string]standing{}
	}
	l.all[set] = s
}

// drop has it read again.
func (l *standings) drop(set string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.all, set)
}

// restart has a set read from its beginning.
func (s *Sharing) restart(ctx context.Context, set string) error {
	s.standings.drop(set)
	return s.Set.Local.Set(ctx, localStanding(set), nil)
}

func (s standing) chain() ledger.Chain {
	state := make(ledger.State, len(s.State))
	for id, m := range s.State {
		state[id] = ledger.Mark{Rev: m.Rev, Hash: m.Hash}
	}
	return ledger.Chain{Number: s.Number, Head: s.Head, State: state, MayJump: s.Number == 0}
}

// maxTurns bounds how often bringing begins again because another device's commit got through.
const maxTurns = 20

// sync takes what others brought to a set, and brings what was changed here.
func (r *run) sync(ctx context.Context, h share.Held, l wire.SharedSet) (err error) {
	defer func() {
		if err != nil { // what is on disk is whole
			r.standings.drop(h.Set)
		}
	}()
	st, err := r.standing(ctx, h)
	if err != nil {
		return err
	}
	pull := l.Latest != st.Number || st.Number > 0 && l.Tip != hex.EncodeToString(st.Head[:])
	for range maxTurns {
		if pull {
			if err := r.pull(ctx, h, &st); err != nil {
				return err
			}
		}
		anew, err := r.conform(ctx, h, &st)
		if err != nil {
			return err
		}
		if pull = anew; anew {
			continue
		}
		more, err := r.push(ctx, h, &st)
		if errors.Is(err, syncing.ErrConflict) {
			pull = true
			continue
		}
		if err != nil || !more {
			return errors.Join(err, r.fetchLacking(ctx, h, &st))
		}
		pull = false
	}
	return syncing.ErrConflict
}

// pull takes what came after the head that was seen last.
func (r *run) pull(ctx context.Context, h share.Held, st *standing) error {
	c, err := r.cloud.SetChanges(ctx, r.credential, h.Set, h.Roll.Epoch, st.Number)
	if err != nil {
		return err
	}
	p := syncing.Pulled(st.Number, c)
	var tip ledger.Hash
	if st.Number > 0 && tip.UnmarshalText([]byte(p.Tip)) == nil {
		if err := st.chain().CheckTip(p.Latest, tip); err != nil {
			return err
		}
	}
	key := share.Epoch(h.Roll, h.Key, r.Rand)
	next, pulled, err := st.chain().Verify(key, p.Latest, p.Heads, p.Records)
	if err != nil {
		return err
	}
	for _, head := range pulled.Heads {
		m, err := share.HeadBy(h.Roll, head)
		if err != nil {
			const detail = "head %d was made by nobody who may change this"
			return &ledger.Fault{Kind: ledger.BadHead, Detail: fmt.Sprintf(detail, head.Number)}
		}
		st.Names[head.Device] = m.Name
	}
	digests, err := r.merge(ctx, h, pulled.Records, st)
	if err != nil {
		return err
	}
	st.Number, st.Head = next.Number, next.Head
	for id, m := range next.State {
		was := st.State[id]
		if d, fresh := digests[id]; fresh {
			was.Digest = d
		}
		st.State[id] = mark{m.Rev, m.Hash, was.Digest}
	}
	if len(pulled.Heads) > 0 {
		r.Changed()
	}
	return r.keep(ctx, h, *st)
}

// digest names what an entry says to all who share it.
func digest(e vault.Entry) string {
	sum := e.Version()
	return hex.EncodeToString(sum[:])
}

// merge joins what others made with what is here. What can't be an item is passed over: the digest of such a record is
// that of its bytes.
func (r *run) merge(
	ctx context.Context, h share.Held, list []ledger.Opened, st *standing,
) (digests map[string]string, err error) {
	digests = map[string]string{}
	var incoming []vault.Entry
	for _, o := range list {
		sum := sha256.Sum256(o.Plain)
		digests[o.ID] = hex.EncodeToString(sum[:])
		e, err := vault.Decode(o.Plain)
		if err != nil || e.ID != o.ID || uuid.Validate(e.ID) != nil || !isThing(e) {
			continue
		}
		e = clean(e.Shared(e.ID))
		digests[o.ID] = digest(e)
		incoming = append(incoming, e)
	}
	if len(incoming) == 0 {
		return digests, nil
	}
	for _, e := range incoming {
		for _, f := range e.Files() {
			st.Lacks[f.ID] = true
		}
	}
	return digests, r.Set.Items.SaveShared(ctx, func(all map[string]vault.Entry) (out []vault.Entry, err error) {
		here := map[string]vault.Entry{}
		for _, e := range all {
			if set, id := e.Share(); set == h.Set {
				if was, twice := here[id]; !twice || e.ID < was.ID {
					here[id] = e
				}
			}
		}
		by := r.Set.Items.Stamp()
		for _, e := range incoming {
			was, ok := here[e.ID]
			linked := false
			if own := all[e.ID]; !ok && h.Book != "" && own.IsItem() && own.Text(vault.FieldBook) == h.Book {
				// The owner's own, that another device of theirs has brought: what it noted of that is yet to come.
				link := vault.Changes{vault.FieldShare: vault.ShareText(h.Set, e.ID)}
				if was, err = own.With(by, link); err != nil {
					return nil, err
				}
				ok, linked = true, true
			}
			if ok && was.Type != e.Type {
				continue
			}
			var next vault.Entry
			if ok {
				if next = vault.Merge(was, e.As(was.ID)); next.Equal(was) && !linked {
					continue
				}
			} else {
				c := vault.Changes{vault.FieldShare: vault.ShareText(h.Set, e.ID)}
				if !e.Purged() {
					c[vault.FieldBook] = h.Book
				}
				id := localID(h, e.ID)
				for n := 1; all[id].ID != ""; n++ { // it was held here before, and given up
					id = localID(h, fmt.Sprint(e.ID, " ", n))
				}
				if next, err = e.As(id).With(by, c); err != nil {
					return nil, err
				}
			}
			out = append(out, next)
		}
		return out, nil
	})
}

// isThing reports whether an entry is an item, or was one.
func isThing(e vault.Entry) bool {
	_, base := vault.KindOf(e.Type)
	return base && (e.IsItem() || e.Purged())
}

// clean takes addresses out that nobody could have typed: they are links on pages.
func clean(e vault.Entry) vault.Entry {
	bad := func(a vault.Address) bool {
		_, err := site.Clean(a.URL)
		return err != nil
	}
	if e.Purged() || !slices.ContainsFunc(vault.View(e).Addresses, bad) {
		return e
	}
	e.Fields = maps.Clone(e.Fields)
	delete(e.Fields, vault.FieldAddresses)
	return e
}

// The most that is brought at once.
const (
	mostRecords = 500
	mostBytes   = 8 << 20
)

// push brings what was changed here, a part of it at a time; more says that there is more.
func (r *run) push(ctx context.Context, h share.Held, st *standing) (more bool, err error) {
	if !h.Right.Includes(share.Change) {
		return false, nil
	}
	if err := r.adopt(ctx, h); err != nil {
		return false, err
	}
	list, twice, err := r.fresh(h, st)
	if err == nil && len(twice) > 0 {
		if err = r.unite(ctx, h, twice); err == nil {
			list, _, err = r.fresh(h, st)
		}
	}
	if err != nil {
		return false, err
	}
	key := share.Epoch(h.Roll, h.Key, r.Rand)
	commit := wire.Commit{}
	changed, digests, size := ledger.State{}, map[string]string{}, 0
	for _, n := range list {
		e, id, was := n.entry, n.entry.ID, st.State[n.entry.ID]
		if len(commit.Records) >= mostRecords || size >= mostBytes {
			more = true
			break
		}
		if err := r.putFiles(ctx, h, e, st); err != nil {
			return false, err
		}
		plain, err := e.Encode()
		if err != nil {
			return false, err
		}
		blob, err := key.SealRecord(id, was.Rev+1, plain)
		if err != nil {
			return false, err
		}
		size += len(blob)
		commit.Records = append(commit.Records, wire.Record{ID: id, Rev: was.Rev + 1, Blob: blob})
		changed[id], digests[id] = ledger.Mark{Rev: was.Rev + 1, Hash: ledger.Sum(blob)}, n.digest
	}
	if len(commit.Records) == 0 {
		return false, nil
	}
	head, _ := st.chain().Next(r.Device, r.Now().UnixMilli(), changed)
	head.Signature = share.SignHead(r.own, h.Roll, head)
	blob, err := key.SealHead(head.Number, head.Encode())
	if err != nil {
		return false, err
	}
	commit.Head = wire.Head{Number: head.Number, Blob: blob}
	if st.Number > 0 {
		commit.Parent = hex.EncodeToString(st.Head[:])
	}
	if err := r.cloud.CommitSet(ctx, r.credential, h.Set, h.Roll.Epoch, commit); err != nil {
		return false, err
	}
	st.Number, st.Head = head.Number, ledger.Sum(blob)
	for id, m := range changed {
		st.State[id] = mark{m.Rev, m.Hash, digests[id]}
	}
	return more, r.keep(ctx, h, *st)
}

// seenAs is what an entry said when it was looked at last.
type seenAs struct {
	mark   uint64
	digest string
}

// news is an entry as it is shared, that the set hasn't as it is.
type news struct {
	entry  vault.Entry
	digest string
}

// fresh are those of a set, by their ids in it. What was deleted for good is among them in each epoch: somebody may
// hold it still. Of two that are here under one id the first counts; twice are the ids of which both are of one type.
func (r *run) fresh(h share.Held, st *standing) (list []news, twice map[string]bool, err error) {
	ids, types := map[string]string{}, map[string]vault.Type{}
	twice = map[string]bool{}
	differ := map[string]news{} // by the id here
	_, err = r.Set.Book.Entries(func(e vault.Entry) bool {
		set, id := e.Share()
		if set != h.Set || !isThing(e) {
			return false
		}
		was, there := ids[id]
		if there && types[id] == e.Type {
			twice[id] = true
		}
		if types[id] = e.Type; !there || e.ID < was {
			ids[id] = e.ID
		}
		mark := e.Mark(r.seed)
		if seen := r.seen[e.ID]; seen.mark == mark && seen.digest == st.State[id].Digest && seen.digest != "" {
			return false
		}
		out := e.Shared(id)
		d := digest(out)
		if d != st.State[id].Digest {
			differ[e.ID] = news{out, d}
		}
		r.seen[e.ID] = seenAs{mark, d}
		return false
	})
	for own, n := range differ {
		if ids[n.entry.ID] == own {
			list = append(list, n)
		}
	}
	slices.SortFunc(list, func(a, b news) int { return strings.Compare(a.entry.ID, b.entry.ID) })
	return list, twice, err
}

// conform has what the owner may not change be what it is for the others: something of it may have been changed here
// while they still might, and not been brought. What it was here is kept for them, as an item of their own. anew says
// that all of the set has to be read again.
func (r *run) conform(ctx context.Context, h share.Held, st *standing) (anew bool, err error) {
	if h.Right.Includes(share.Change) {
		return false, nil
	}
	differs := func(e vault.Entry) (id string, yes bool) {
		set, id := e.Share()
		was, there := st.State[id]
		if set != h.Set || !there {
			return id, false
		}
		return id, digest(e.Shared(id)) != was.Digest
	}
	list, err := r.Set.Book.Entries(func(e vault.Entry) bool { _, yes := differs(e); return yes })
	if err != nil || len(list) == 0 {
		return false, err
	}
	err = r.Set.Items.SaveShared(ctx, func(all map[string]vault.Entry) (out []vault.Entry, err error) {
		by := r.Set.Items.Stamp()
		for _, e := range all {
			id, yes := differs(e)
			if !yes {
				continue
			}
			if e.IsItem() && h.Right.Includes(share.See) {
				kept := e.As(entryID("kept", h.Set, id, fmt.Sprint(h.Roll.Epoch)))
				if kept, err = kept.With(by, vault.Changes{vault.FieldShare: "", vault.FieldBook: ""}); err != nil {
					return nil, err
				}
				out = append(out, kept)
			}
			if e, err = e.With(by, vault.Changes{vault.FieldShare: ""}); err == nil {
				e, err = e.Discard(by)
			}
			if err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		return out, nil
	})
	if err != nil {
		return false, err
	}
	*st = standing{Epoch: st.Epoch, Files: st.Files, Lacks: st.Lacks, Names: st.Names, State: map[string]mark{}}
	return true, r.keep(ctx, h, *st)
}

// unite makes one of what is here twice under one id of the set: this device had it from there before it had what
// another device of the owner's had made of it. All of them keep the same one.
func (r *run) unite(ctx context.Context, h share.Held, twice map[string]bool) error {
	return r.Set.Items.SaveShared(ctx, func(all map[string]vault.Entry) (out []vault.Entry, err error) {
		by := r.Set.Items.Stamp()
		of := map[string][]vault.Entry{}
		for _, e := range all {
			if set, id := e.Share(); set == h.Set && isThing(e) && twice[id] {
				of[id] = append(of[id], e)
			}
		}
		for _, list := range of {
			slices.SortFunc(list, func(a, b vault.Entry) int { return strings.Compare(a.ID, b.ID) })
			one := list[0]
			for _, e := range list[1:] {
				if e.Type != one.Type {
					continue
				}
				one = vault.Merge(one, e.As(one.ID))
				if e, err = e.With(by, vault.Changes{vault.FieldShare: ""}); err == nil {
					e, err = e.Discard(by)
				}
				if err != nil {
					return nil, err
				}
				out = append(out, e)
			}
			if !one.Equal(list[0]) {
				out = append(out, one)
			}
		}
		return out, nil
	})
}

// adopt has what is in a shared book shared.
func (r *run) adopt(ctx context.Context, h share.Held) error {
	if h.Book == "" {
		return nil
	}
	isNew := func(e vault.Entry) bool {
		set, _ := e.Share()
		return e.IsItem() && e.Text(vault.FieldBook) == h.Book && set != h.Set
	}
	list, err := r.Set.Book.Entries(isNew)
	if err != nil || len(list) == 0 {
		return err
	}
	return r.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) (out []vault.Entry, err error) {
		by := r.Set.Items.Stamp()
		taken := map[string]bool{}
		for _, e := range all {
			if set, id := e.Share(); set == h.Set {
				taken[id] = true
			}
		}
		for _, e := range all {
			if !isNew(e) {
				continue
			}
			id := e.ID
			if taken[id] { // by somebody who knew it
				id = entryID("shared as", h.Set, e.ID)
			}
			if e, err = e.With(by, vault.Changes{vault.FieldShare: vault.ShareText(h.Set, id)}); err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		return out, nil
	}, nil)
}

// putFiles brings the files of an item that the epoch hasn't yet. One that can't be had here is left to who has it.
func (r *run) putFiles(ctx context.Context, h share.Held, e vault.Entry, st *standing) error {
	key := share.Epoch(h.Roll, h.Key, r.Rand)
	for _, f := range e.Files() {
		if st.Files[f.ID] || st.Lacks[f.ID] {
			continue
		}
		var b bytes.Buffer // at most vault.MaxFile
		if err := r.Set.Files.Read(ctx, f, &b); err != nil {
			if ctx.Err() != nil || !r.Set.Open() {
				return err
			}
			continue
		}
		for n := 0; n == 0 || b.Len() > 0; n++ {
			part := b.Next(keys.ChunkSize)
			sealed, err := key.SealChunk(f.ID, n, b.Len() == 0, part)
			if err == nil {
				err = r.cloud.PutSetChunk(ctx, r.credential, h.Set, h.Roll.Epoch, f.ID, n, sealed)
			}
			if err != nil {
				return err
			}
		}
		st.Files[f.ID] = true
	}
	return nil
}

// fetchLacking fetches files that others attached. What nobody has brought yet is asked for again in the next run.
func (r *run) fetchLacking(ctx context.Context, h share.Held, st *standing) error {
	if len(st.Lacks) == 0 {
		return nil
	}
	stored, err := r.Set.Files.Stored(ctx)
	if err != nil {
		return err
	}
	list, err := r.Set.Book.Entries(func(e vault.Entry) bool { set, _ := e.Share(); return set == h.Set })
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, e := range list {
		for _, f := range e.Files() {
			if !st.Lacks[f.ID] {
				continue
			}
			has := false
			for _, s := range stored {
				has = has || s.ID == f.ID && s.Whole
			}
			if !has {
				err := r.fetch(ctx, h, f)
				if errors.Is(err, syncing.ErrNoChunk) || errors.Is(err, errOtherFile) {
					wanted[f.ID] = true
					continue
				}
				if err != nil {
					return err
				}
			}
			st.Files[f.ID] = true
		}
	}
	st.Lacks = wanted
	return r.keep(ctx, h, *st)
}

var errOtherFile = errors.New("the file isn’t what its item says")

// fetch fetches one file whole, and keeps it if it is what its item says.
func (r *run) fetch(ctx context.Context, h share.Held, f vault.File) error {
	if f.Size < 0 || f.Size > vault.MaxFile || f.Chunks < 1 || f.Chunks > wire.MaxChunks {
		return errOtherFile
	}
	key := share.Epoch(h.Roll, h.Key, r.Rand)
	var b bytes.Buffer
	for n := range f.Chunks {
		sealed, err := r.cloud.SetChunk(ctx, r.credential, h.Set, h.Roll.Epoch, f.ID, n)
		if err != nil {
			return err
		}
		plain, err := key.OpenChunk(f.ID, n, n == f.Chunks-1, sealed)
		if err != nil {
			return errOtherFile
		}
		b.Write(plain)
	}
	sum := sha256.Sum256(b.Bytes())
	if int64(b.Len()) != f.Size || hex.EncodeToString(sum[:]) != f.Sum {
		return errOtherFile
	}
	taken, err := r.Set.Files.Restore(ctx, f.ID, io.Reader(&b))
	if taken {
		r.Set.Files.Restored(ctx, f.ID, err != nil)
	}
	return err
}

// DeviceNames returns whose devices changed what is shared, as far as it was seen here, by the devices' ids.
func (s *Sharing) DeviceNames(ctx context.Context) (map[string]string, error) {
	entries, err := s.held()
	out := map[string]string{}
	for set := range entries {
		var st standing
		if err := s.Set.Local.GetJSON(ctx, localStanding(set), &st); err != nil {
			return nil, err
		}
		maps.Copy(out, st.Names)
	}
	return out, err
}

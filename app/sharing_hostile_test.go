package app_test

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// shareBook has a guest share a book with one login in it, and the others take it.
func (g *guest) shareBook(t testing.TB, name, title string, right share.Right, with ...*guest) (set string) {
	book, _ := makeBook(t, g.v, name, title)
	for _, o := range with {
		var err error
		set, err = g.ShareBook(context.Background(), book, "of "+o.name, right)
		require.NoError(t, err)
		require.NoError(t, o.Collect(context.Background()))
		require.NoError(t, o.Take(context.Background(), set))
	}
	collect(t, append([]*guest{g}, with...)...)
	return set
}

// forge commits records to a set as somebody who has a key of it, past all that a program would refuse.
func forge(
	t require.TestingT, h *hall, set string, epoch uint32, k keys.VaultKey,
	sign func(share.Roll, ledger.Head) []byte, roll share.Roll, entries ...vault.Entry,
) error {
	at := share.Roll{Set: set, Epoch: epoch}
	key := share.Epoch(at, k, rand.Reader)
	h.mu.Lock()
	s := h.sets[set]
	state := ledger.State{}
	for id, r := range s.records {
		state[id] = ledger.Mark{Rev: r.Rev, Hash: ledger.Sum(r.Blob)}
	}
	chain := ledger.Chain{Number: uint64(len(s.heads)), State: state}
	if len(s.heads) > 0 {
		chain.Head = ledger.Sum(s.heads[len(s.heads)-1].Blob)
	}
	h.mu.Unlock()
	c := wire.Commit{}
	changed := ledger.State{}
	for _, e := range entries {
		plain, err := e.Encode()
		require.NoError(t, err)
		rev := state[e.ID].Rev + 1
		blob, err := key.SealRecord(e.ID, rev, plain)
		require.NoError(t, err)
		c.Records = append(c.Records, wire.Record{ID: e.ID, Rev: rev, Blob: blob})
		changed[e.ID] = ledger.Mark{Rev: rev, Hash: ledger.Sum(blob)}
	}
	head, _ := chain.Next("forger", time.Now().UnixMilli(), changed)
	head.Signature = sign(roll, head)
	blob, err := key.SealHead(head.Number, head.Encode())
	require.NoError(t, err)
	c.Head = wire.Head{Number: head.Number, Blob: blob}
	if chain.Number > 0 {
		c.Parent = hex.EncodeToString(chain.Head[:])
	}
	h.lax = true
	defer func() { h.lax = false }()
	return visitor{h, "anybody"}.CommitSet(context.Background(), "", set, epoch, c)
}

func forged(t require.TestingT, id, title string) vault.Entry {
	e, err := vault.New(id, vault.TypeLogin, vault.Stamp{At: time.Now().UnixMilli() + 1000, By: "forger"}, vault.Changes{
		vault.FieldTitle: title, vault.FieldPassword: secret.New("forged"),
	})
	require.NoError(t, err)
	return e
}

// A reader and the cloud together change nothing: whoever they show it to says what was refused.
func TestAReaderAndTheCloudChangeNothing(t *testing.T) {
	t.Parallel()
	h := newHall()
	list := guests(t, t.TempDir(), h, "maren", "idris", "wren")
	maren, idris, wren := list[0], list[1], list[2]
	set := maren.shareBook(t, "Family", "School", share.See, idris, wren)
	before := maren.things(t, set)
	honest := h.copy()
	held := idris.held(t, set)
	for what, sign := range map[string]func(share.Roll, ledger.Head) []byte{
		"signed by the reader": func(r share.Roll, head ledger.Head) []byte { return share.SignHead(idris.own, r, head) },
		"signed by nobody":     func(share.Roll, ledger.Head) []byte { return nil },
		"signed for a roll in which the reader may": func(r share.Roll, head ledger.Head) []byte {
			for i := range r.Members {
				r.Members[i].Right = share.Manage
			}
			return share.SignHead(idris.own, r, head)
		},
	} {
		var target string
		for id := range h.sets[set].records {
			target = id
		}
		roll := held.Roll
		roll.Members = append([]share.Member(nil), roll.Members...)
		require.NoError(t, forge(t, h, set, held.Roll.Epoch, held.Key, sign, roll, forged(t, target, "School")), what)
		for _, g := range []*guest{maren, wren} {
			require.NoError(t, g.Collect(t.Context()), what)
			assert.Equal(t, before, g.things(t, set), what)
			of, err := g.Of(set)
			require.NoError(t, err)
			assert.Contains(t, of.Fault, "nobody who may change", what)
		}
		h.become(honest)
		collect(t, maren, wren)
		of, err := maren.Of(set)
		require.NoError(t, err)
		assert.Empty(t, of.Fault, "%s: told the truth again, it goes on", what)
	}
}

// Whoever was taken out opens nothing that comes after, and brings nothing, also with the cloud's help.
func TestAFormerMemberAndTheCloud(t *testing.T) {
	t.Parallel()
	h := newHall()
	list := guests(t, t.TempDir(), h, "maren", "idris", "wren")
	maren, idris, wren := list[0], list[1], list[2]
	set := maren.shareBook(t, "Family", "School", share.Change, idris, wren)
	old := idris.held(t, set)
	during := h.copy()
	require.NoError(t, maren.End(t.Context(), set, idris.address))
	collect(t, maren, wren)
	makeIn(t, maren.v, "Films")
	collect(t, maren, wren)
	for id, r := range h.sets[set].records {
		for epoch := range uint32(4) {
			key := share.Epoch(share.Roll{Set: set, Epoch: epoch}, old.Key, rand.Reader)
			_, err := key.OpenRecord(id, r.Rev, r.Blob)
			require.Error(t, err)
		}
	}
	sign := func(r share.Roll, head ledger.Head) []byte { return share.SignHead(idris.own, r, head) }
	now := wren.held(t, set)
	require.NoError(t, forge(t, h, set, now.Roll.Epoch, old.Key, sign, old.Roll, forged(t, records.NewID(), "Forged")))
	for _, g := range []*guest{maren, wren} {
		require.NoError(t, g.Collect(t.Context()))
		assert.NotContains(t, g.things(t, set), "Forged")
	}

	// The cloud shows what was before the ending: nobody goes back to it.
	h.become(during)
	for _, g := range []*guest{maren, wren} {
		require.NoError(t, g.Collect(t.Context()))
		assert.Contains(t, g.things(t, set), "Films")
	}
	require.NoError(t, maren.v.Items.Save(t.Context(), titled(t, maren.v, "Films")[0], vault.Changes{
		vault.FieldNotes: "since",
	}))
	require.NoError(t, maren.Collect(t.Context()))
	for _, r := range h.sets[set].records {
		plain, err := share.Epoch(old.Roll, old.Key, rand.Reader).OpenRecord(r.ID, r.Rev, r.Blob)
		if err == nil {
			assert.NotContains(t, string(plain), "since", "nothing more is brought under the old key")
		}
	}
}

// Only somebody who may can say that it has ended, or who is in it.
func TestTheCloudEndsNothing(t *testing.T) {
	t.Parallel()
	h := newHall()
	list := guests(t, t.TempDir(), h, "maren", "idris", "wren")
	maren, idris, wren := list[0], list[1], list[2]
	set := maren.shareBook(t, "Family", "School", share.Change, idris, wren)
	held := idris.held(t, set)
	next := held.Roll.Epoch + 1
	stays := func(what string) {
		t.Helper()
		require.NoError(t, idris.Collect(t.Context()), what)
		assert.Contains(t, idris.things(t, set), "School", what)
		assert.Len(t, idris.held(t, set).Roll.Members, 3, what)
	}
	bye, err := share.SealFarewell(wren.own, idris.own.Public(), set, next)
	require.NoError(t, err)
	visitor{h, ""}.box(idris.address, set, next, wire.BoxFarewell, bye)
	stays("a farewell from one who may not")
	visitor{h, ""}.box(idris.address, set, next, wire.BoxFarewell, []byte("bye"))
	stays("a farewell from nobody")
	elsewhere, err := share.SealFarewell(maren.own, idris.own.Public(), records.NewID(), next)
	require.NoError(t, err)
	visitor{h, ""}.box(idris.address, set, next, wire.BoxFarewell, elsewhere)
	stays("a farewell of another set")

	key, err := keys.NewVaultKey(rand.Reader)
	require.NoError(t, err)
	without := held.Roll.Next([]share.Member{held.Roll.Members[1], held.Roll.Members[2]}, 1)
	for i := range without.Members {
		without.Members[i].Right = share.Manage
	}
	coup, err := share.SealBox(wren.own, idris.own.Public(), without, key)
	require.NoError(t, err)
	visitor{h, ""}.box(idris.address, set, next, wire.BoxEpoch, coup)
	stays("an epoch begun by one who may not")

	// The cloud forgets the set: what is here stays, and whoever may manage it brings it back.
	kept := h.copy()
	h.mu.Lock()
	delete(h.sets, set)
	h.mu.Unlock()
	stays("forgotten")
	require.NoError(t, maren.Collect(t.Context()))
	require.Equal(t, held.Roll.Epoch, h.sets[set].epoch)
	require.NotEmpty(t, h.sets[set].records)
	require.NoError(t, idris.Restart(t.Context(), set))
	stays("brought back")
	h.become(kept)
	require.NoError(t, maren.Restart(t.Context(), set))
	require.NoError(t, idris.Restart(t.Context(), set))

	// A leave that somebody said long ago isn't one today.
	bye, err = share.SealLeave(wren.own, maren.own.Public(), held.Roll)
	require.NoError(t, err)
	require.NoError(t, maren.SetRight(t.Context(), set, wren.address, share.See))
	visitor{h, ""}.box(maren.address, set, next, wire.BoxLeave, bye)
	require.NoError(t, maren.Collect(t.Context()))
	assert.Len(t, maren.held(t, set).Roll.Members, 3)
	forgedLeave, err := share.SealLeave(idris.own, maren.own.Public(), maren.held(t, set).Roll)
	require.NoError(t, err)
	visitor{h, ""}.box(maren.address, set, next, wire.BoxLeave, forgedLeave)
	require.NoError(t, maren.Collect(t.Context()))
	assert.Len(t, maren.held(t, set).Roll.Members, 2, "his own he can say")
}

// Nothing is taken from somebody who wasn't checked, or who may not decide, and nothing before its owner says so.
func TestInvitationsComeFromWhoWasChecked(t *testing.T) {
	t.Parallel()
	h := newHall()
	list := guests(t, t.TempDir(), h, "maren", "idris", "eve")
	maren, idris, eve := list[0], list[1], list[2]
	idris.knows = idris.knows[:1] // Maren alone
	book, _ := makeBook(t, eve.v, "Trap", "Bait")
	set, err := eve.ShareBook(t.Context(), book, "of idris", share.See)
	require.NoError(t, err)
	require.NoError(t, idris.Collect(t.Context()))
	_, err = idris.Of(set)
	require.Error(t, err)

	// Passed on by the cloud under another id, or for another set, it is none.
	key, err := keys.NewVaultKey(rand.Reader)
	require.NoError(t, err)
	me := func(g *guest, r share.Right) share.Member {
		return share.Member{Email: g.address, Name: g.name, Keys: g.own.Public(), Right: r}
	}
	for what, roll := range map[string]share.Roll{
		"by somebody who isn't in it": {Members: []share.Member{me(idris, share.Manage)}},
		"by somebody who may only see": {Members: []share.Member{
			me(maren, share.See), me(idris, share.Manage),
		}},
		"without the receiver": {Members: []share.Member{me(maren, share.Manage), me(eve, share.See)}},
	} {
		roll.Set, roll.Epoch, roll.Name, roll.At = records.NewID(), 1, "Trap", 1
		b, err := share.SealBox(maren.own, idris.own.Public(), roll, key)
		require.NoError(t, err)
		visitor{h, ""}.box(idris.address, roll.Set, 1, wire.BoxEpoch, b)
		require.NoError(t, idris.Collect(t.Context()))
		_, err = idris.Of(roll.Set)
		require.Error(t, err, what)
	}

	// What nobody took up isn't among the items.
	book, _ = makeBook(t, maren.v, "Family", "School")
	set, err = maren.ShareBook(t.Context(), book, "of idris", share.See)
	require.NoError(t, err)
	collect(t, idris, maren)
	of, err := idris.Of(set)
	require.NoError(t, err)
	assert.True(t, of.Waits)
	assert.Empty(t, shown(t, idris.v))
	require.NoError(t, idris.Leave(t.Context(), set), "no, thanks")
	collect(t, idris, maren)
	_, err = idris.Of(set)
	require.Error(t, err)
	of, err = maren.Of(set)
	require.NoError(t, err)
	assert.True(t, of.Over, "nobody else has it; it could have been seen")
}

// A member who may change it brings what no program of ours makes: nothing of it touches what isn't shared.
func TestWhatAMemberBringsStaysInTheSet(t *testing.T) {
	t.Parallel()
	h := newHall()
	list := guests(t, t.TempDir(), h, "maren", "idris")
	maren, idris := list[0], list[1]
	set := maren.shareBook(t, "Family", "School", share.Change, idris)
	private := records.NewID()
	require.NoError(t, maren.v.Items.Save(t.Context(), private, login("Gannet", "mine alone")))
	held := idris.held(t, set)
	sign := func(r share.Roll, head ledger.Head) []byte { return share.SignHead(idris.own, r, head) }
	bring := func(e vault.Entry) {
		t.Helper()
		require.NoError(t, forge(t, h, set, held.Roll.Epoch, held.Key, sign, held.Roll, e))
		require.NoError(t, maren.Collect(t.Context()))
		of, err := maren.Of(set)
		require.NoError(t, err)
		require.Empty(t, of.Fault)
	}
	bring(forged(t, private, "Gannet")) // under the id of a login of hers
	e, err := maren.v.Items.Entry(private)
	require.NoError(t, err)
	assert.Equal(t, "mine alone", e.Text(vault.FieldPassword))
	profile := maren.v.Profile().Vault
	for i, bad := range []vault.Entry{
		{ID: profile, Type: vault.TypeProfile}, {ID: records.NewID(), Type: vault.TypeDevice},
		{ID: records.NewID(), Type: vault.TypePeer}, {ID: records.NewID(), Type: vault.TypeShared},
		{ID: records.NewID(), Type: vault.TypeTidy}, {ID: "../x", Type: vault.TypeLogin},
	} {
		bad, err = bad.With(vault.Stamp{At: 1, By: "x"}, vault.Changes{vault.FieldName: fmt.Sprint("bad", i)})
		require.NoError(t, err)
		bring(bad)
		list, err := maren.v.Book.Entries(func(e vault.Entry) bool { return e.Text(vault.FieldName) == fmt.Sprint("bad", i) })
		require.NoError(t, err)
		assert.Empty(t, list, bad.Type)
	}
	tricky := forged(t, records.NewID(), "Tricky")
	tricky, err = tricky.With(vault.Stamp{At: 2, By: "x"}, vault.Changes{
		vault.FieldAddresses: []vault.Address{{URL: "javascript:alert(1)"}}, vault.FieldPinned: true,
		vault.FieldBook: "elsewhere", vault.FieldShare: "other set",
		vault.FileField("../../x"): vault.File{Name: "x", Chunks: 1 << 30},
	})
	require.NoError(t, err)
	bring(tricky)
	id := titled(t, maren.v, "Tricky")
	require.Len(t, id, 1)
	e, err = maren.v.Items.Entry(id[0])
	require.NoError(t, err)
	it := vault.View(e)
	assert.Empty(t, it.Addresses)
	assert.False(t, it.Pinned)
	assert.Equal(t, maren.held(t, set).Book, it.Book)
	in, _ := e.Share()
	assert.Equal(t, set, in)
	collect(t, maren)
	require.Less(t, len(h.sets[set].heads), 20, "nobody brings it to and fro")
}

// What somebody else asks under a member's address, with other keys, changes nothing for the member.
func TestAPausedPersonGetsNothing(t *testing.T) {
	t.Parallel()
	h := newHall()
	list := guests(t, t.TempDir(), h, "maren", "idris")
	maren := list[0]
	book, _ := makeBook(t, maren.v, "Family", "School")
	maren.knows[0].Paused = true
	_, err := maren.ShareBook(t.Context(), book, "of idris", share.See)
	require.ErrorContains(t, err, "settle that first")
	maren.knows[0].Paused, maren.knows[0].State = false, household.Compare
	_, err = maren.ShareBook(t.Context(), book, "of idris", share.See)
	require.ErrorContains(t, err, "six words")
	assert.Empty(t, h.sets)
	held, err := maren.v.Book.Entries(func(e vault.Entry) bool { return e.Type == vault.TypeShared })
	require.NoError(t, err)
	assert.Empty(t, held)
}

// Somebody leaves, and one of two who decide takes the right from the other one before that one has looked: the leave
// waits for them, and keeps nothing else from them.
func TestALeaveThatComesTooLate(t *testing.T) {
	t.Parallel()
	h := newHall()
	list := guests(t, t.TempDir(), h, "maren", "idris", "wren")
	maren, idris, wren := list[0], list[1], list[2]
	ctx := context.Background()
	book, _ := makeBook(t, maren.v, "Family", "School")
	set, err := maren.ShareBook(ctx, book, "of idris", share.Manage)
	require.NoError(t, err)
	_, err = maren.ShareBook(ctx, book, "of wren", share.See)
	require.NoError(t, err)
	for range 3 {
		for _, g := range list {
			require.NoError(t, g.Collect(ctx))
			if of, err := g.Of(set); err == nil && of.Waits {
				require.NoError(t, g.Take(ctx, set))
			}
		}
	}
	require.NoError(t, wren.Leave(ctx, set))
	require.NoError(t, wren.Collect(ctx))
	require.NoError(t, maren.SetRight(ctx, set, idris.address, share.See))
	for range 3 {
		require.NoError(t, idris.Collect(ctx))
		require.NoError(t, maren.Collect(ctx))
	}
	of, err := idris.Of(set)
	require.NoError(t, err)
	assert.Equal(t, share.See, of.Right)
	assert.Empty(t, of.Fault)
	assert.Len(t, of.Members, 2)
}

package app_test

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/app/store"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// hall is a cloud for shared sets that tests can look into, and have lie.
type hall struct {
	mu    sync.Mutex
	sets  map[string]*hallSet
	boxes map[string][]hallBox // by address
	lax   bool                 // it takes from anybody what they bring
}

type hallSet struct {
	epoch   uint32
	members map[string]wire.SetMember
	heads   []wire.Head
	records map[string]hallRecord
	chunks  map[string][]byte
}

type hallRecord struct {
	wire.Record
	head uint64
}

type hallBox struct {
	set string
	wire.SetBox
}

func newHall() *hall { return &hall{sets: map[string]*hallSet{}, boxes: map[string][]hallBox{}} }

// copy is what the hall holds at this moment.
func (h *hall) copy() *hall {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := newHall()
	for id, s := range h.sets {
		out.sets[id] = &hallSet{
			s.epoch, maps.Clone(s.members), slices.Clone(s.heads), maps.Clone(s.records), maps.Clone(s.chunks),
		}
	}
	for a, l := range h.boxes {
		out.boxes[a] = slices.Clone(l)
	}
	return out
}

// become has the hall be as another one is.
func (h *hall) become(o *hall) {
	o = o.copy()
	h.mu.Lock()
	defer h.mu.Unlock()
	h.sets, h.boxes = o.sets, o.boxes
}

// visitor is the hall as one address sees it.
type visitor struct {
	*hall
	address string
}

func hashOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func (s *hallSet) tip() string {
	if len(s.heads) == 0 {
		return ""
	}
	return hashOf(s.heads[len(s.heads)-1].Blob)
}

func (v visitor) Sets(context.Context, string) (list []wire.SharedSet, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	at := map[string]int{}
	for id, s := range v.sets {
		if _, ok := s.members[v.address]; ok {
			at[id] = len(list)
			list = append(list, wire.SharedSet{
				ID: id, Epoch: s.epoch, Latest: uint64(len(s.heads)), Tip: s.tip(), Member: true,
			})
		}
	}
	for _, b := range v.boxes[v.address] {
		if _, ok := at[b.set]; !ok {
			at[b.set] = len(list)
			list = append(list, wire.SharedSet{ID: b.set})
		}
		i, box := at[b.set], b.SetBox
		box.Sealed = nil
		list[i].Waiting = append(list[i].Waiting, box)
	}
	return list, nil
}

// at returns a set for somebody who may do something in it.
func (v visitor) at(set string, may func(wire.SetMember) bool) (*hallSet, error) {
	s := v.sets[set]
	if s == nil {
		return nil, syncing.ErrOver
	}
	if m, ok := s.members[v.address]; !v.lax && (!ok || !may(m)) {
		return nil, syncing.ErrOver
	}
	return s, nil
}

func (v visitor) BeginSetEpoch(_ context.Context, _, set string, in wire.NewSetEpoch) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if in.Epoch > 1 {
		s, err := v.at(set, func(m wire.SetMember) bool { return m.Manage })
		if err != nil {
			return err
		}
		if s.epoch+1 != in.Epoch {
			return syncing.ErrConflict
		}
	} else if v.sets[set] != nil {
		return syncing.ErrConflict
	}
	v.sets[set] = &hallSet{
		epoch: in.Epoch, members: map[string]wire.SetMember{}, records: map[string]hallRecord{},
		chunks: map[string][]byte{},
	}
	for _, m := range in.Members {
		v.sets[set].members[m.Email] = m
		v.box(m.Email, set, in.Epoch, wire.BoxEpoch, m.Sealed)
	}
	for _, m := range in.Out {
		v.box(m.Email, set, in.Epoch, wire.BoxFarewell, m.Sealed)
	}
	return nil
}

func (v visitor) box(to, set string, epoch uint32, kind string, sealed []byte) {
	v.boxes[to] = append(v.boxes[to], hallBox{
		set, wire.SetBox{ID: records.NewID(), Epoch: epoch, Kind: kind, Sealed: sealed},
	})
}

func anybody(wire.SetMember) bool { return true }

func (v visitor) SetChanges(
	_ context.Context, _, set string, epoch uint32, since uint64,
) (c wire.Changes, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	s, err := v.at(set, anybody)
	if err != nil {
		return c, err
	}
	if s.epoch != epoch {
		return c, syncing.ErrConflict
	}
	c = wire.Changes{Latest: uint64(len(s.heads)), Tip: s.tip(), Epoch: epoch}
	if since < c.Latest {
		c.Heads = slices.Clone(s.heads[since:])
	}
	for _, r := range s.records {
		if r.head > since {
			c.Records = append(c.Records, r.Record)
		}
	}
	return c, nil
}

func (v visitor) CommitSet(_ context.Context, _, set string, epoch uint32, in wire.Commit) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	s, err := v.at(set, func(m wire.SetMember) bool { return m.Change })
	if err != nil {
		return err
	}
	if s.epoch != epoch || in.Parent != s.tip() || in.Head.Number != uint64(len(s.heads))+1 {
		return syncing.ErrConflict
	}
	s.heads = append(s.heads, in.Head)
	for _, r := range in.Records {
		s.records[r.ID] = hallRecord{r, in.Head.Number}
	}
	return nil
}

func (v visitor) LeaveSet(_ context.Context, _, set string, in wire.LeaveSet) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	s, err := v.at(set, anybody)
	if err != nil {
		return err
	}
	if s.epoch != in.Epoch {
		return syncing.ErrConflict
	}
	for _, m := range in.To {
		v.box(m.Email, set, in.Epoch, wire.BoxLeave, m.Sealed)
	}
	delete(s.members, v.address)
	v.boxes[v.address] = slices.DeleteFunc(v.boxes[v.address], func(b hallBox) bool { return b.set == set })
	if len(s.members) == 0 {
		delete(v.sets, set)
	}
	return nil
}

func (v visitor) SetBox(_ context.Context, _, set, id string) (wire.SetBox, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, b := range v.boxes[v.address] {
		if b.ID == id && b.set == set {
			return b.SetBox, nil
		}
	}
	return wire.SetBox{}, syncing.ErrOver
}

func (v visitor) RemoveSetBox(_ context.Context, _, _, id string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.boxes[v.address] = slices.DeleteFunc(v.boxes[v.address], func(b hallBox) bool { return b.ID == id })
	return nil
}

func (v visitor) PutSetChunk(
	_ context.Context, _, set string, epoch uint32, file string, n int, sealed []byte,
) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	s, err := v.at(set, func(m wire.SetMember) bool { return m.Change })
	if err == nil {
		s.chunks[file+string(rune('a'+n))] = sealed
	}
	return err
}

func (v visitor) SetChunk(_ context.Context, _, set string, _ uint32, file string, n int) ([]byte, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	s, err := v.at(set, anybody)
	if err != nil {
		return nil, err
	}
	b, ok := s.chunks[file+string(rune('a'+n))]
	if !ok {
		return nil, syncing.ErrNoChunk
	}
	return b, nil
}

// guest is somebody with a vault of their own, who knows others, and what they share through a hall.
type guest struct {
	*sharing.Sharing
	v       *app.Vault
	own     keys.Identity
	name    string
	address string
	knows   []household.Person
}

func (g *guest) People() ([]household.Person, error) { return g.knows, nil }
func (g *guest) Identity() (keys.Identity, bool)     { return g.own, true }

// know has a guest know another one, as after comparing words.
func (g *guest) know(o *guest) {
	g.knows = append(g.knows, household.Person{
		ID: "of " + o.name, Name: o.name, Email: o.address, State: household.Checked, Keys: o.own.Public(),
	})
}

// guests are people who all know each other.
func guests(t testing.TB, dir string, h *hall, names ...string) (list []*guest) {
	return guestsUntil(t, dir, t.Cleanup, h, names...)
}

// guestsUntil is guests who go where cleanup says.
func guestsUntil(
	t require.TestingT, dir string, cleanup func(func()), h *hall, names ...string,
) (list []*guest) {
	f, err := store.In(dir)
	require.NoError(t, err)
	d := app.New(app.Ports{Stores: f, Now: time.Now, Rand: rand.Reader})
	cleanup(func() { require.NoError(t, d.Close()) })
	for _, name := range names {
		g := &guest{name: name, address: name + "@cormorant.example"}
		g.own, err = keys.NewIdentity(rand.Reader)
		require.NoError(t, err)
		g.v, err = d.Create(context.Background(), app.NewVault{
			Name: name, Email: g.address, Password: secret.New(master), Repeat: secret.New(master),
		})
		require.NoError(t, err)
		g.Sharing = sharingAt(g, h)
		list = append(list, g)
	}
	for _, a := range list {
		for _, b := range list {
			if a != b {
				a.know(b)
			}
		}
	}
	return list
}

// sharingAt is what a guest shares through a hall.
func sharingAt(g *guest, h *hall) *sharing.Sharing {
	return sharing.Open(sharing.Config{
		Set: g.v.Set, Device: g.v.Profile().Device, People: g, Now: time.Now, Rand: rand.Reader,
		Owner:   func() (string, string) { return g.name, g.address },
		Cloud:   func(context.Context) (sharing.Cloud, string, error) { return visitor{h, g.address}, "", nil },
		Changed: func() {}, Nudge: func() {}, Beside: func(do func()) { do() },
	})
}

// held is a set as a guest keeps it.
func (g *guest) held(t testing.TB, set string) share.Held {
	e, err := g.v.Items.Entry(sharing.EntryID(set))
	require.NoError(t, err)
	h, ok := share.HeldOf(e)
	require.True(t, ok)
	return h
}

// things are the titles and passwords of what a guest holds of a set.
func (g *guest) things(t require.TestingT, set string) map[string]string {
	list, err := g.v.Book.Entries(func(e vault.Entry) bool { in, _ := e.Share(); return in == set && e.IsItem() })
	require.NoError(t, err)
	out := map[string]string{}
	for _, e := range list {
		out[e.Text(vault.FieldTitle)] = e.Text(vault.FieldPassword)
	}
	return out
}

// collect has all look, until nobody has anything to bring.
func collect(t testing.TB, list ...*guest) {
	for range 4 {
		for _, g := range list {
			require.NoError(t, g.Collect(context.Background()))
		}
	}
}

// shareThings is a use case for the steps' test: somebody else is at the other end, and answers nothing.
func shareThings(ctx context.Context, b *bench) error {
	own, err1 := keys.NewIdentity(rand.Reader)
	other, err2 := keys.NewIdentity(rand.Reader)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	h := newHall()
	g := &guest{v: b.v, own: own, name: "maren", address: "maren@cormorant.example"}
	g.know(&guest{own: other, name: "idris", address: "idris@cormorant.example"})
	g.Sharing = sharingAt(g, h)
	id := records.NewID()
	if err := b.v.Items.Save(ctx, id, login("Shared "+id[:20], "pw")); err != nil {
		return err
	}
	set, err := g.ShareItem(ctx, id, "of idris", share.See)
	if err != nil {
		return err
	}
	err1 = g.Collect(ctx)
	_, err2 = g.List()
	_, err3 := g.DeviceNames(ctx)
	if err := errors.Join(
		err1, err2, err3, g.SetRight(ctx, set, "idris@cormorant.example", share.Change), g.Restart(ctx, set),
	); err != nil {
		return err
	}
	b.v.Items.Right(vault.Entry{})
	if _, err := b.v.Items.ToFill(id); err != nil {
		return err
	}
	return g.EndAll(ctx, set)
}

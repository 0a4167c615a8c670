package app_test

import (
	"context"
	"fmt"
	"maps"
	"math"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/core/ledger"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
)

// The model: three people, two books, and a cloud that lies and helps whoever may not. Whatever they do and in whatever
// order, nobody holds what nobody with the right made, nobody who was taken out holds anything of it or opens what
// comes after, and once the cloud tells the truth those who are in it hold the same.
func TestThreePeopleTwoBooksAndALyingCloud(t *testing.T) {
	if testing.Short() {
		t.Skip("many courses of many steps")
	}
	t.Parallel()
	courses(t, 40, func(r *rapid.T) {
		m := newSharingModel(t, r)
		r.Repeat(m.actions())
		m.settle(r)
	})
}

// The same where two of them have a second device: what one of a person's devices does the other hears of later, and
// both may do something about it meanwhile.
func TestThreePeopleWithFiveDevices(t *testing.T) {
	if testing.Short() {
		t.Skip("many courses of many steps")
	}
	t.Parallel()
	courses(t, 15, func(r *rapid.T) {
		m := newSharingModel(t, r)
		for _, g := range m.people[:2] {
			m.people = append(m.people, secondOf(m.t, r.Cleanup, m.h, g))
		}
		actions := m.actions()
		actions["in step"] = func(r *rapid.T) { m.inStep(r, m.people[rapid.IntRange(0, 1).Draw(r, "whose")]) }
		r.Repeat(actions)
		m.settle(r)
	})
}

// courses checks so many courses, as each takes long; `make hunt` runs as many as it is told.
func courses(t *testing.T, n int, check func(*rapid.T)) {
	if os.Getenv("RAPID_CHECKS") != "" {
		n = math.MaxInt
	}
	rapid.Check(t, func(r *rapid.T) {
		if n == 0 {
			return
		}
		n--
		held := false
		defer func() {
			if !held { // what fails is tried again, to be made shorter
				n = math.MaxInt
			}
		}()
		check(r)
		held = true
	})
}

func (m *sharingModel) actions() map[string]func(*rapid.T) {
	return map[string]func(*rapid.T){
		"": func(*rapid.T) {}, "edit": m.edit, "make": m.make, "archive": m.archive, "look": m.look, "share": m.share,
		"right": m.right, "end": m.end, "leave": m.leave, "forge": m.forge, "turn back": m.turnBack, "move out": m.moveOut,
	}
}

// second gives somebody a second device.
func secondOf(t testing.TB, cleanup func(func()), h *hall, g *guest) *guest {
	second := guestsUntil(t, t.TempDir(), cleanup, h, g.name+"-too")[0]
	second.own, second.address, second.knows = g.own, g.address, g.knows
	inStep(t, g, second)
	return second
}

// inStep has the devices of a person hold the same, as their own cloud does it.
func inStep(t require.TestingT, devices ...*guest) {
	var all []vault.Entry
	for range 2 {
		for _, g := range devices {
			take := func(have map[string]vault.Entry) (out []vault.Entry, err error) {
				for _, e := range all {
					was, there := have[e.ID]
					if there {
						e = vault.Merge(was, e)
					}
					if !there || !e.Equal(was) {
						out = append(out, e)
					}
				}
				return out, nil
			}
			require.NoError(t, g.v.Items.SaveShared(context.Background(), take))
			list, err := g.v.Book.Entries(func(vault.Entry) bool { return true })
			require.NoError(t, err)
			all = list
		}
	}
}

// inStep does so for whoever g is a device of.
func (m *sharingModel) inStep(r *rapid.T, g *guest) {
	inStep(r, slices.DeleteFunc(slices.Clone(m.people), func(o *guest) bool { return o.address != g.address })...)
}

// What one of a person's devices made in a shared book reaches the other one by way of the set first, and by their own
// cloud then: it is one thing, for them and for the others.
func TestOneThingByTwoWays(t *testing.T) {
	t.Parallel()
	h := newHall()
	people := guests(t, t.TempDir(), h, "maren", "idris")
	maren, idris := people[0], people[1]
	book, _ := makeBook(t, maren.v, "Family", "School")
	set, err := maren.ShareBook(t.Context(), book, "of idris", share.Change)
	require.NoError(t, err)
	collect(t, maren, idris)
	require.NoError(t, idris.Take(t.Context(), set))
	too := secondOf(t, t.Cleanup, h, maren)
	collect(t, maren, too, idris)
	made := map[string]string{"School": "pw"}
	made["School"] = maren.things(t, set)["School"]
	for i := range 6 { // ids are drawn: either may be the one that stays
		title := fmt.Sprint("Films ", i)
		require.NoError(t, maren.v.Items.SaveForm(t.Context(), records.NewID(), &records.Form{
			Kind: vault.TypeNote, Title: title, New: true, Book: book, Values: map[vault.Field]string{},
		}))
		made[title] = ""
	}
	collect(t, maren)
	require.NoError(t, too.Collect(t.Context()))
	collect(t, idris)
	for range 3 {
		inStep(t, maren, too)
		collect(t, too, maren, idris)
	}
	inStep(t, maren, too)
	for _, g := range []*guest{maren, too, idris} {
		for title := range made {
			assert.Len(t, titled(t, g.v, title), 1, "%s has %s", g.name, title)
		}
		assert.Equal(t, made, g.things(t, set), g.name)
	}
	for _, id := range titled(t, too.v, "Films 0") { // and goes on being one
		require.NoError(t, too.v.Items.Save(t.Context(), id, vault.Changes{vault.FieldNotes: "on Friday"}))
	}
	collect(t, too, maren, idris)
	inStep(t, maren, too)
	for _, g := range []*guest{maren, too, idris} {
		e, err := g.v.Items.Entry(titled(t, g.v, "Films 0")[0])
		require.NoError(t, err)
		assert.Equal(t, "on Friday", e.Text(vault.FieldNotes), g.name)
	}
}

type sharingModel struct {
	t      *testing.T
	h      *hall
	people []*guest                // a device of each; then the second ones
	books  []string                // ids of the books of the first two
	olds   map[string][]share.Held // by set: the keys of those who were taken out or left
	split  map[string]bool         // sets of which somebody began an epoch that nobody else was shown
	n      int
}

func newSharingModel(t *testing.T, r *rapid.T) *sharingModel {
	m := &sharingModel{t: t, h: newHall(), olds: map[string][]share.Held{}, split: map[string]bool{}}
	m.people = guestsUntil(t, t.TempDir(), r.Cleanup, m.h, "maren", "idris", "wren")
	for i, name := range []string{"Family", "Allotment"} {
		book, _ := makeBook(t, m.people[i].v, name, fmt.Sprint("First", i))
		m.books = append(m.books, book)
	}
	return m
}

func (m *sharingModel) who(r *rapid.T) *guest {
	return m.people[rapid.IntRange(0, len(m.people)-1).Draw(r, "who")]
}

// one draws one of the sets that somebody holds.
func (m *sharingModel) one(r *rapid.T, g *guest) (of sharing.Shared, ok bool) {
	list, err := g.List()
	must(r, err)
	if len(list) == 0 {
		return of, false
	}
	return list[rapid.IntRange(0, len(list)-1).Draw(r, "set")], true
}

func (m *sharingModel) item(r *rapid.T, g *guest) (e vault.Entry, ok bool) {
	list, err := g.v.Book.Entries(func(e vault.Entry) bool { set, _ := e.Share(); return set != "" && e.IsItem() })
	must(r, err)
	if len(list) == 0 {
		return e, false
	}
	slices.SortFunc(list, func(a, b vault.Entry) int { return int(a.Created - b.Created) })
	return list[rapid.IntRange(0, len(list)-1).Draw(r, "item")], true
}

func (m *sharingModel) edit(r *rapid.T) {
	g := m.who(r)
	e, ok := m.item(r, g)
	if !ok {
		return
	}
	m.n++
	may := g.v.Items.Right(e).Includes(share.Change)
	err := g.v.Items.Save(context.Background(), e.ID, vault.Changes{
		vault.FieldPassword: secret.New(fmt.Sprint("pw ", m.n)),
	})
	require.Equal(r, may, err == nil, "%v", err)
}

func (m *sharingModel) make(r *rapid.T) {
	g := m.who(r)
	names := g.v.Books.Names()
	if len(names) == 0 {
		return
	}
	m.n++
	b := rapid.SampledFrom(names).Draw(r, "book")
	of, err := g.OfBook(b.ID)
	may := err != nil || of.Right.Includes(share.Change)
	err = g.v.Items.SaveForm(context.Background(), records.NewID(), &records.Form{
		Kind: vault.TypeNote, Title: fmt.Sprint("note ", m.n), New: true, Book: b.ID, Values: map[vault.Field]string{},
	})
	require.Equal(r, may, err == nil, "%v", err)
}

func (m *sharingModel) archive(r *rapid.T) {
	g := m.who(r)
	e, ok := m.item(r, g)
	if !ok || !g.v.Items.Right(e).Includes(share.Change) {
		return
	}
	_, err := g.v.Acts.Archive(context.Background(), e.ID)
	must(r, err)
	if rapid.Bool().Draw(r, "for good") {
		g.v.Guard.Given()
		_, err = g.v.Acts.Purge(context.Background(), e.ID)
		must(r, err)
	}
}

func (m *sharingModel) moveOut(r *rapid.T) {
	g := m.who(r)
	e, ok := m.item(r, g)
	if !ok || !g.v.Items.Right(e).Includes(share.Change) {
		return
	}
	_, err := g.v.Acts.MoveTo(context.Background(), records.OwnBook, e.ID)
	must(r, err)
}

func (m *sharingModel) look(r *rapid.T) {
	g := m.who(r)
	must(r, g.Collect(context.Background()))
	list, err := g.List()
	must(r, err)
	for _, of := range list {
		if of.Waits && rapid.Bool().Draw(r, "take") {
			must(r, g.Take(context.Background(), of.Set))
		}
	}
}

func (m *sharingModel) share(r *rapid.T) {
	i := rapid.IntRange(0, 1).Draw(r, "book")
	g := m.people[i]
	other := m.people[rapid.IntRange(0, 2).Draw(r, "with")]
	if other.address == g.address {
		return
	}
	right := rapid.SampledFrom(share.Rights()).Draw(r, "right")
	_, _ = g.ShareBook(context.Background(), m.books[i], "of "+other.name, right) // they may have it already
}

// note keeps the keys that members have at this moment.
func (m *sharingModel) note(r *rapid.T, set string) {
	for _, g := range m.people {
		e, err := g.v.Items.Entry(sharing.EntryID(set))
		if err != nil {
			continue
		}
		if h, ok := share.HeldOf(e); ok {
			m.olds[set] = append(m.olds[set], h)
		}
	}
}

func (m *sharingModel) right(r *rapid.T) {
	g := m.who(r)
	of, ok := m.one(r, g)
	if !ok || !of.Manages() || of.Waits {
		return
	}
	who := of.Members[rapid.IntRange(0, len(of.Members)-1).Draw(r, "member")]
	right := rapid.SampledFrom(share.Rights()).Draw(r, "right")
	_ = g.SetRight(context.Background(), of.Set, who.Email, right) // the last one who decides stays so
}

func (m *sharingModel) end(r *rapid.T) {
	g := m.who(r)
	of, ok := m.one(r, g)
	if !ok || !of.Manages() || of.Waits {
		return
	}
	who := of.Members[rapid.IntRange(0, len(of.Members)-1).Draw(r, "member")]
	m.note(r, of.Set)
	if err := g.End(context.Background(), of.Set, who.Email); err != nil {
		return // the last one who decides; or somebody else was faster
	}
}

func (m *sharingModel) leave(r *rapid.T) {
	g := m.who(r)
	of, ok := m.one(r, g)
	if !ok {
		return
	}
	m.note(r, of.Set)
	_ = g.Leave(context.Background(), of.Set)
}

// forge has somebody bring something to a set past their program, with the cloud's help: what is refused shows nowhere,
// and the cloud takes it back.
func (m *sharingModel) forge(r *rapid.T) {
	g := m.who(r)
	ids := slices.Sorted(maps.Keys(m.h.sets))
	if len(ids) == 0 {
		return
	}
	set := rapid.SampledFrom(ids).Draw(r, "set")
	e, err := g.v.Items.Entry(sharing.EntryID(set))
	if err != nil {
		return
	}
	h, ok := share.HeldOf(e)
	// Whoever left may until somebody who decides has begun an epoch without them.
	if !ok || h.Roll.Epoch == m.h.sets[set].epoch && h.Roll.May(g.own.Public().Sign, share.Change) == nil {
		return
	}
	honest := m.h.copy()
	sign := func(roll share.Roll, head ledger.Head) []byte { return share.SignHead(g.own, roll, head) }
	err = forge(r, m.h, set, m.h.sets[set].epoch, h.Key, sign, h.Roll, forged(r, records.NewID(), "Forged"))
	must(r, err)
	for _, o := range m.people {
		if rapid.Bool().Draw(r, o.name+" looks") {
			_ = o.Collect(context.Background())
		}
	}
	m.h.become(honest)
}

// turnBack has the cloud show some of them what was, for a while.
func (m *sharingModel) turnBack(r *rapid.T) {
	was := m.h.copy()
	m.look(r)
	m.edit(r)
	now := m.h.copy()
	m.h.become(was)
	for _, o := range m.people {
		if rapid.Bool().Draw(r, o.name+" looks") {
			m.noCommit(o, func() { _ = o.Collect(context.Background()) })
		}
	}
	m.h.become(now)
}

// noCommit runs fn and has the hall forget what was brought meanwhile. Whoever began an epoch then stays apart from the
// others, as docs/security.md says, and is told.
func (m *sharingModel) noCommit(_ *guest, fn func()) {
	before := m.h.copy()
	fn()
	for set, s := range m.h.sets {
		if was := before.sets[set]; was == nil || was.epoch != s.epoch {
			m.split[set] = true
		}
	}
	m.h.become(before)
}

// settle has everybody look until nothing changes, with a cloud that tells the truth, and checks what has to hold.
func (m *sharingModel) settle(r *rapid.T) {
	var faults []string
	for i := range 8 {
		for _, g := range m.people {
			m.inStep(r, g)
			must(r, g.Collect(context.Background()))
			list, err := g.List()
			must(r, err)
			for _, of := range list {
				if of.Fault != "" {
					faults = append(faults, fmt.Sprint(i, " ", g.name, " ", m.story(g, of.Set)))
				}
				if of.Fault != "" && i == 2 { // what they brought was lost by the cloud
					must(r, g.Restart(context.Background(), of.Set))
				}
			}
		}
	}
	for _, g := range m.people {
		list, err := g.v.Book.Entries(func(e vault.Entry) bool { return e.IsItem() })
		must(r, err)
		for _, e := range list {
			require.NotEqual(r, "Forged", e.Text(vault.FieldTitle), "%s took it", g.name)
		}
		held, err := g.List()
		must(r, err)
		for _, of := range held {
			if of.Over {
				continue
			}
			s := m.h.sets[of.Set]
			require.NotNil(r, s, "%s: %s", g.name, m.story(g, of.Set))
			require.Contains(r, s.members, g.address, "%s holds what they were taken out of", g.name)
			if !of.Waits && !m.split[of.Set] {
				if of.Fault != "" { // said at once: keys are drawn anew each time, and the course may not come back
					fmt.Println(strings.Join(faults, "\n"))
				}
				require.Empty(r, of.Fault, "%s: %s", g.name, m.story(g, of.Set))
			}
		}
	}
	for set, s := range m.h.sets {
		var first map[string]string
		for _, g := range m.people {
			of, err := g.Of(set)
			if _, member := s.members[g.address]; member {
				must(r, err, "%s lost what nobody ended: %s", g.name, m.story(g, set))
			}
			if err != nil || of.Waits || of.Over || of.Fault != "" && m.split[set] {
				continue
			}
			if first == nil {
				first = g.thingsIn(r, set, s)
			}
			require.Equal(r, first, g.thingsIn(r, set, s), "%s holds something else: %s", g.name, m.story(g, set))
		}
		for _, old := range m.olds[set] {
			if old.Roll.Epoch == s.epoch {
				continue
			}
			key := share.Epoch(share.Roll{Set: set, Epoch: s.epoch}, old.Key, nil)
			for id, rec := range s.records {
				_, err := key.OpenRecord(id, rec.Rev, rec.Blob)
				require.Error(r, err, "an old key opens it")
			}
		}
	}
}

// story says where somebody and the cloud stand with a set.
func (m *sharingModel) story(g *guest, set string) string {
	e, err := g.v.Items.Entry(sharing.EntryID(set))
	h, ok := share.HeldOf(e)
	at := uint32(0)
	if s := m.h.sets[set]; s != nil {
		at = s.epoch
	}
	out := fmt.Sprint("cloud at ", at, "; entry ", err, ok, " held at ", h.Roll.Epoch, " taken ", h.Taken, " out ", h.Out)
	if of, err := g.Of(set); err == nil {
		out += fmt.Sprint("; ", of.Fault, of.Members)
	}
	for _, b := range m.h.boxes[g.address] {
		out += fmt.Sprint("; box ", b.Kind, b.Epoch, b.set == set)
	}
	return out
}

// thingsIn are those of [guest.things] that the hall has, too: what somebody made in a book while they might, and
// couldn't bring any more, is theirs alone.
func (g *guest) thingsIn(t require.TestingT, set string, s *hallSet) map[string]string {
	list, err := g.v.Book.Entries(func(e vault.Entry) bool {
		in, id := e.Share()
		_, there := s.records[id]
		return in == set && there && e.IsItem()
	})
	require.NoError(t, err)
	out := map[string]string{}
	for _, e := range list {
		out[e.Text(vault.FieldTitle)] = e.Text(vault.FieldPassword)
	}
	return out
}

// must is require.NoError that says at once what was wrong: keys are drawn anew each time, and a course may not come
// back.
func must(r *rapid.T, err error, args ...any) {
	if err != nil {
		fmt.Println("the model met:", err, args)
	}
	require.NoError(r, err, args...)
}

package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"redlocket/core/audit"
	"redlocket/core/directory"
	"redlocket/core/find"
	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// ErrNoItem is returned for an id that the vault doesn't hold.
var ErrNoItem = errors.New("this isn't in the vault")

// Vault is an open vault. It is safe for concurrent use; after Lock every
// method that needs it open returns ErrLocked.
type Vault struct {
	d        *Device
	store    Store
	instance string

	mu        sync.RWMutex
	card      Profile
	seal      *keys.Vault // nil once locked
	cloud     Cloud       // nil without one
	entries   map[string]held
	stand     Checkpoint
	index     *find.Index // nil when entries changed since
	used      time.Time
	status    Status
	slip      map[string]*SavePrompt
	here      map[string]string // by tab and site: the login that was last used there
	going     going             // where its user was sent from the book
	drawer    []GeneratedPassword
	uses      map[string]int64 // by item: when it was last used here; replaced, never changed
	dirty     bool             // uses has yet to be kept
	device    deviceSettings
	asked     time.Time            // when the master password was last shown
	promises  map[Reauth]time.Time // acts that were said to be allowed, until then
	attaching map[string]bool      // files under way
	acts      []act                // what can be undone, the latest last
	sites     *directory.Directory

	importing atomic.Pointer[Importing] // that is being prepared, or was the last
	fit       atomic.Pointer[fitting]   // what fits which page, of one index
	pages     atomic.Int64              // that are open
	touched   atomic.Int64              // counts uses
	version   atomic.Int64
	listeners map[chan Notice]bool
	ready     chan struct{} // closed once entries are there
	needed    chan struct{} // somebody waits for them
	loadErr   error         // why they are not
	wake      chan struct{}
	stop      context.CancelFunc
	stopped   chan struct{}
}

type held struct {
	entry    vault.Entry
	rev      uint64
	edit     uint64 // counts the edits of this opening, to notice one made during a commit
	baseRev  uint64
	baseHash ledger.Hash
}

// Notice tells a listener what happened.
type Notice struct {
	Kind string // NoticeChanged, NoticeStatus or NoticeLocked
}

// The kinds of notices.
const (
	NoticeChanged = "changed"
	NoticeStatus  = "status"
	NoticeLocked  = "locked"
)

func (d *Device) newVault(card Profile, vk keys.VaultKey) *Vault {
	return &Vault{
		d: d, instance: rand.Text(), card: card, seal: keys.NewVault(card.Vault, vk, d.p.Rand),
		entries: map[string]held{}, ready: make(chan struct{}), used: d.p.Now(), listeners: map[chan Notice]bool{},
		slip: map[string]*SavePrompt{}, here: map[string]string{}, wake: make(chan struct{}, 1), sites: shippedSites(), attaching: map[string]bool{}, device: defaultSettings(card),
	}
}

// firstPage is how long opening the records leaves the processor to the first page,
// which needs only the index.
const firstPage = 250 * time.Millisecond

// localShelf names the index that is kept sealed, for the book to be there before
// the records are opened.
const localShelf = "shelf"

// load makes the vault's content available. If the shelf is as new as the
// records, the book is there at once and they are opened in the background;
// whoever needs one of them waits.
func (v *Vault) load(ctx context.Context) error {
	if err := errors.Join(v.loadDrawer(ctx), v.loadSlips(ctx), v.loadUses(ctx), v.loadSettings(ctx)); err != nil {
		return err
	}
	seal := v.seal
	if v.index = v.readShelf(ctx, seal); v.index == nil {
		v.loadErr = v.loadRecords(ctx, seal, max(2, runtime.GOMAXPROCS(0)))
		close(v.ready)
		return v.loadErr
	}
	x := v.index
	v.needed = make(chan struct{}, 1)
	go func() {
		select { // the first page is drawn first, unless it needs them
		case <-v.needed:
		case <-time.After(firstPage):
		}
		v.loadErr = v.loadRecords(context.WithoutCancel(ctx), seal, max(1, runtime.GOMAXPROCS(0)/2))
		x.Warm()
		close(v.ready)
		v.tell(NoticeStatus)
	}()
	return nil
}

// wait returns once the records are there.
func (v *Vault) wait() error {
	select {
	case v.needed <- struct{}{}:
	default:
	}
	<-v.ready
	return v.loadErr
}

// loaded is wait for those who are in no hurry: the first page is drawn before.
func (v *Vault) loaded() error {
	<-v.ready
	return v.loadErr
}

// shelfName binds the shelf to the records it was made from.
func shelfName(generation uint64) string { return fmt.Sprintf("%s %d", localShelf, generation) }

// readShelf returns the index kept of exactly the records that are there, or nil.
func (v *Vault) readShelf(ctx context.Context, seal *keys.Vault) *find.Index {
	n, err1 := v.store.Generation(ctx)
	sealed, err2 := v.store.Local(ctx, localShelf)
	if err1 != nil || err2 != nil || sealed == nil {
		return nil
	}
	plain, err := seal.OpenLocal(shelfName(n), sealed)
	if err != nil {
		return nil // of other records than these
	}
	x, err := find.DecodeIndex(plain, v.findOptions())
	if err != nil {
		return nil // of another version
	}
	return x
}

// keepShelf seals the index for the next time. Nothing is lost if it can't be
// kept: the records are opened first then.
func (v *Vault) keepShelf(seal *keys.Vault, x *find.Index) {
	ctx := context.Background()
	n, err := v.store.Generation(ctx)
	if err != nil {
		return
	}
	if sealed, err := seal.SealLocal(shelfName(n), x.Encode()); err == nil {
		_ = v.store.SetLocal(ctx, localShelf, sealed)
	}
}

// loadRecords opens every record of the store: one goroutine reads, the others,
// as many as workers says, open what it read, in batches.
func (v *Vault) loadRecords(ctx context.Context, seal *keys.Vault, workers int) error {
	stand, err := v.store.Checkpoint(ctx)
	if err != nil {
		return err
	}
	const batch = 256
	rows := make(chan []Row, 8)
	opened := make([][]held, workers)
	failed := make([]error, len(opened))
	var wg sync.WaitGroup
	for i := range opened {
		wg.Go(func() {
			for list := range rows {
				for _, r := range list {
					h, err := openRow(seal, r)
					if err != nil {
						failed[i] = err
						continue
					}
					opened[i] = append(opened[i], h)
				}
			}
		})
	}
	list := make([]Row, 0, batch)
	err = v.store.Rows(ctx, func(r Row) error {
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
	if err := errors.Join(append(failed, err)...); err != nil {
		return fmt.Errorf("failed to open the vault on this computer: %w", err)
	}
	n := 0
	for _, l := range opened {
		n += len(l)
	}
	entries := make(map[string]held, n)
	for _, l := range opened {
		for _, h := range l {
			entries[h.entry.ID] = h
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.entries, v.stand = entries, stand
	v.readSites()
	return nil
}

func openRow(seal *keys.Vault, r Row) (held, error) {
	plain, err := seal.OpenRecord(r.ID, r.Rev, r.Blob)
	if err != nil {
		return held{}, fmt.Errorf("record %s is damaged: %w", r.ID, err)
	}
	e, err := vault.Decode(plain)
	if err != nil {
		return held{}, fmt.Errorf("record %s is damaged: %w", r.ID, err)
	}
	return held{entry: e, rev: r.Rev, baseRev: r.BaseRev, baseHash: r.BaseHash}, nil
}

// Lock closes the vault: keys and entries are dropped, the line to the cloud
// ends, and every listener hears of it. Locking twice does nothing more.
func (v *Vault) Lock() {
	<-v.ready
	x, _ := v.Index() // for the shelf; nil once locked
	v.mu.Lock()
	if v.seal == nil {
		v.mu.Unlock()
		return
	}
	seal, whole := v.seal, v.index == x && v.loadErr == nil
	uses, dirty := v.uses, v.dirty
	slips := v.openSlips()
	v.seal, v.entries, v.index, v.slip, v.here, v.acts, v.uses, v.drawer = nil, nil, nil, nil, nil, nil, nil, nil
	v.card.Closed = v.d.p.Now().UnixMilli()
	card, stop, stopped := v.card, v.stop, v.stopped
	v.mu.Unlock()

	v.d.mu.Lock()
	if v.d.open[card.ID] == v {
		delete(v.d.open, card.ID)
	}
	v.d.mu.Unlock()
	v.importing.Store(nil)
	v.tell(NoticeLocked)
	if stop != nil {
		stop()
		<-stopped
	}
	if whole {
		v.keepShelf(seal, x)
	}
	if dirty {
		v.keepUses(seal, uses)
	}
	v.keepSlips(seal, slips)
	_ = v.store.SetProfile(context.Background(), card) // only the time of closing is lost
}

// Instance names this opening of the vault. A session that was let in by another
// opening has to show the master password again.
func (v *Vault) Instance() string { return v.instance }

// Locked reports whether the vault was locked.
func (v *Vault) Locked() bool {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.seal == nil
}

// Touch notes that the vault is being used.
func (v *Vault) Touch() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.used = v.d.p.Now()
	v.touched.Add(1)
}

// Left is the time until the vault locks by itself.
func (v *Vault) Left() time.Duration {
	after := v.LockAfter()
	v.mu.RLock()
	defer v.mu.RUnlock()
	return after - v.d.p.Now().Sub(v.used)
}

// Profile returns the profile's card.
func (v *Vault) Profile() Profile {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.card
}

// Listen returns a channel of notices and a function that ends it. A slow
// listener misses notices but never the last.
func (v *Vault) Listen() (<-chan Notice, func()) {
	c := make(chan Notice, 8)
	v.mu.Lock()
	defer v.mu.Unlock()
	v.listeners[c] = true
	return c, func() {
		v.mu.Lock()
		defer v.mu.Unlock()
		delete(v.listeners, c)
	}
}

// Version grows with every notice. A page that was drawn at another version than
// the present one has missed something.
func (v *Vault) Version() int64 { return v.version.Load() }

func (v *Vault) tell(kind string) {
	v.version.Add(1)
	v.mu.RLock()
	defer v.mu.RUnlock()
	for c := range v.listeners {
		select {
		case c <- Notice{kind}:
		default:
			select { // drop the oldest: the newest must arrive
			case <-c:
			default:
			}
			select {
			case c <- Notice{kind}:
			default:
			}
		}
	}
}

func (v *Vault) stamp() vault.Stamp {
	return vault.Stamp{At: v.d.p.Now().UnixMilli(), By: v.card.Device}
}

// Index returns the book. It is rebuilt after changes only.
func (v *Vault) Index() (*find.Index, error) {
	v.mu.RLock()
	x, open := v.index, v.seal != nil
	v.mu.RUnlock()
	if open && x != nil {
		return x, nil
	}
	if err := v.wait(); err != nil {
		return nil, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return nil, ErrLocked
	}
	if v.index == nil {
		v.index = find.NewIndex(v.items(), v.findOptions())
		go v.index.Warm()
	}
	return v.index, nil
}

// items returns every item, archived or not. v.mu is held.
func (v *Vault) items() []vault.Item {
	items := make([]vault.Item, 0, len(v.entries))
	for _, h := range v.entries {
		if h.entry.IsItem() {
			items = append(items, vault.View(h.entry))
		}
	}
	v.compare(items)
	return items
}

// compare marks the logins that share a password, or that may be there twice. v.mu
// is held.
func (v *Vault) compare(items []vault.Item) {
	list := make([]audit.Login, 0, len(items))
	for i := range items {
		it := &items[i]
		if it.Archived || it.Type != vault.TypeLogin && it.Type != vault.TypeApp {
			continue
		}
		domain := ""
		if len(it.Addresses) > 0 {
			domain = site.Domain(it.Addresses[0].URL)
		}
		list = append(list, audit.Of(v.entries[it.ID].entry, domain))
	}
	reused, suspects := audit.Reused(list), audit.Suspects(list)
	for i := range items {
		items[i].Reused, items[i].Suspect = reused[items[i].ID], suspects[items[i].ID]
	}
}

// Entry returns one entry.
func (v *Vault) Entry(id string) (vault.Entry, error) {
	if err := v.wait(); err != nil {
		return vault.Entry{}, err
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	if v.seal == nil {
		return vault.Entry{}, ErrLocked
	}
	h, ok := v.entries[id]
	if !ok || h.entry.Purged() {
		return vault.Entry{}, ErrNoItem
	}
	return h.entry, nil
}

// pick returns the entries that are wanted, in no order.
func (v *Vault) pick(wanted func(vault.Entry) bool) ([]vault.Entry, error) {
	if err := v.wait(); err != nil {
		return nil, err
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	if v.seal == nil {
		return nil, ErrLocked
	}
	var list []vault.Entry
	for _, h := range v.entries {
		if wanted(h.entry) {
			list = append(list, h.entry)
		}
	}
	return list, nil
}

// Logins returns every login that isn't archived, in no order.
func (v *Vault) Logins() ([]vault.Item, error) {
	x, err := v.Index()
	if err != nil {
		return nil, err
	}
	var out []vault.Item
	x.Items(func(it *vault.Item) {
		if it.Type == vault.TypeLogin || it.Type == vault.TypeApp {
			out = append(out, *it)
		}
	})
	return out, nil
}

// Usernames returns the user names used before, the most used first.
func (v *Vault) Usernames() ([]string, error) {
	items, err := v.Logins()
	if err != nil {
		return nil, err
	}
	count := map[string]int{v.Profile().Email: 1}
	for _, it := range items {
		if it.Username != "" {
			count[it.Username]++
		}
	}
	names := make([]string, 0, len(count))
	for n := range count {
		names = append(names, n)
	}
	slices.SortFunc(names, func(a, b string) int {
		if c := count[b] - count[a]; c != 0 {
			return c
		}
		return strings.Compare(a, b)
	})
	return names, nil
}

// NewID returns an id for an item to be made. A form that carries it can be
// sent twice without making two items.
func NewID() string { return uuid.Must(uuid.NewV7()).String() }

// Save writes changes to the item with the given id, which is made a login if it
// isn't there. Fields that the changes don't name stay as they are, so a form that
// sends only what its user changed can't undo what another device did meanwhile.
func (v *Vault) Save(ctx context.Context, id string, c vault.Changes) error {
	return v.SaveAs(ctx, id, vault.TypeLogin, c)
}

// SaveAs is Save for an item of any kind. One that is there becomes of that kind.
func (v *Vault) SaveAs(ctx context.Context, id string, kind vault.Type, c vault.Changes) error {
	if uuid.Validate(id) != nil {
		return badInput("id", errors.New("this form is broken; please open it again"))
	}
	if _, ok := vault.KindOf(kind); !ok {
		return badInput("kind", errors.New("there is no such kind of item"))
	}
	return v.change(ctx, id, func(e vault.Entry, ok bool) (vault.Entry, error) {
		if !ok {
			return vault.New(id, kind, v.stamp(), c)
		}
		if !e.IsItem() {
			return e, ErrNoItem
		}
		if e.Kind() != kind {
			c = maps.Clone(c)
			c[vault.FieldKind] = string(kind)
		}
		return e.With(v.stamp(), c)
	})
}

// SaveAll writes many new logins at once.
func (v *Vault) SaveAll(ctx context.Context, drafts []vault.Draft) error {
	if err := v.wait(); err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return ErrLocked
	}
	var list []vault.Entry
	for _, d := range drafts {
		e, err := vault.New(NewID(), vault.TypeLogin, v.stamp(), d.Changes())
		if err != nil {
			return err
		}
		list = append(list, e)
	}
	return v.write(ctx, list)
}

// Resolve decides which of two rival passwords is the current one.
func (v *Vault) Resolve(ctx context.Context, id string, password secret.Text) error {
	return v.existing(ctx, id, func(e vault.Entry) (vault.Entry, error) { return e.Resolve(v.stamp(), password) })
}

func (v *Vault) existing(ctx context.Context, id string, fn func(vault.Entry) (vault.Entry, error)) error {
	return v.change(ctx, id, func(e vault.Entry, ok bool) (vault.Entry, error) {
		if !ok {
			return e, ErrNoItem
		}
		return fn(e)
	})
}

func (v *Vault) change(ctx context.Context, id string, fn func(e vault.Entry, ok bool) (vault.Entry, error)) error {
	if err := v.wait(); err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return ErrLocked
	}
	h, ok := v.entries[id]
	e, err := fn(h.entry, ok)
	if err != nil {
		return err
	}
	if err := v.write(ctx, []vault.Entry{e}); err != nil {
		return err
	}
	if e.IsItem() || h.entry.IsItem() {
		v.remember([]step{{h.entry, e}})
	}
	return nil
}

// write seals entries at their next revision and puts them into the store before
// memory shows them: what was acknowledged is on disk. v.mu is held.
func (v *Vault) write(ctx context.Context, list []vault.Entry) error {
	next := nextHeld(v.entries, list)
	rows, err := sealRows(ctx, v.seal, next, nil)
	if err != nil {
		return err
	}
	return v.put(ctx, next, rows)
}

// writeMany is write for many entries at once: they are planned and sealed while others
// read and edit, and written in one transaction. plan is given what the vault holds, and
// is asked again if one of its entries was edited meanwhile. Until the store is written
// to, cancelling ctx leaves everything as it was.
func (v *Vault) writeMany(ctx context.Context, plan func(map[string]vault.Entry) ([]vault.Entry, error), progress func(done, of int)) error {
	if err := v.wait(); err != nil {
		return err
	}
	for {
		v.mu.RLock()
		seal, before := v.seal, maps.Clone(v.entries)
		v.mu.RUnlock()
		if seal == nil {
			return ErrLocked
		}
		entries := map[string]vault.Entry{}
		for id, h := range before {
			entries[id] = h.entry
		}
		list, err := plan(entries)
		if err != nil || len(list) == 0 {
			return err
		}
		next := nextHeld(before, list)
		rows, err := sealRows(ctx, seal, next, progress)
		if err != nil {
			return err
		}
		if done, err := v.putIfSame(ctx, before, next, rows); done || err != nil {
			return err
		}
	}
}

// nextHeld are entries as they will be held once they are written.
func nextHeld(before map[string]held, list []vault.Entry) []held {
	next := make([]held, len(list))
	for i, e := range list {
		h := before[e.ID]
		h.entry, h.rev = e, h.baseRev+1
		h.edit++
		next[i] = h
	}
	return next
}

// putIfSame puts rows into the store unless one of their entries was edited since.
func (v *Vault) putIfSame(ctx context.Context, before map[string]held, next []held, rows []Row) (done bool, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return false, ErrLocked
	}
	for _, h := range next {
		now, was := v.entries[h.entry.ID], before[h.entry.ID]
		if now.edit != was.edit || now.rev != was.rev || now.baseRev != was.baseRev {
			return false, nil
		}
	}
	return true, v.put(ctx, next, rows)
}

// put writes sealed rows and shows them. v.mu is held.
func (v *Vault) put(ctx context.Context, next []held, rows []Row) error {
	if err := v.store.Put(ctx, rows, nil); err != nil {
		return fmt.Errorf("failed to save: %w", err)
	}
	for _, h := range next {
		v.entries[h.entry.ID] = h
	}
	v.index = nil
	v.nudge()
	v.version.Add(1) // what is drawn from here on shows it
	go v.tell(NoticeChanged)
	return nil
}

// sealRows seals entries, many of them on every processor.
func sealRows(ctx context.Context, seal *keys.Vault, list []held, progress func(done, of int)) ([]Row, error) {
	rows := make([]Row, len(list))
	workers := max(1, min(runtime.GOMAXPROCS(0), len(list)/64))
	failed := make([]error, workers)
	var done atomic.Int64
	var wg sync.WaitGroup
	for w := range workers {
		wg.Go(func() {
			for i := w; i < len(list) && failed[w] == nil; i += workers {
				rows[i], failed[w] = sealRow(seal, list[i])
				if n := done.Add(1); progress != nil && n%64 == 0 {
					progress(int(n), len(list))
				}
				failed[w] = errors.Join(failed[w], ctx.Err())
			}
		})
	}
	wg.Wait()
	return rows, errors.Join(failed...)
}

// sealRow seals the entry at h.rev.
func sealRow(seal *keys.Vault, h held) (Row, error) {
	plain, err := h.entry.Encode()
	if err != nil {
		return Row{}, err
	}
	blob, err := seal.SealRecord(h.entry.ID, h.rev, plain)
	if err != nil {
		return Row{}, err
	}
	return Row{h.entry.ID, h.rev, blob, h.baseRev, h.baseHash}, nil
}

// putOwn seals this device's own record, and for a new vault the profile's,
// into a store that is being set up.
func (v *Vault) putOwn(ctx context.Context, s Store, fresh bool) error {
	list := []func() (vault.Entry, error){func() (vault.Entry, error) {
		return vault.New(v.card.Device, vault.TypeDevice, v.stamp(), vault.Changes{vault.FieldName: v.card.DeviceName, vault.FieldPlatform: v.d.p.Platform})
	}}
	if fresh {
		list = append(list, func() (vault.Entry, error) {
			return vault.New(v.card.Vault, vault.TypeProfile, v.stamp(), vault.Changes{vault.FieldName: v.card.Name, vault.FieldSeed: fmt.Sprintf("%x", v.card.Seed)})
		})
	}
	var rows []Row
	for _, make := range list {
		e, err := make()
		if err != nil {
			return err
		}
		h := held{entry: e, rev: 1}
		row, err := sealRow(v.seal, h)
		if err != nil {
			return err
		}
		rows = append(rows, row)
		v.entries[e.ID] = h
	}
	return s.Put(ctx, rows, nil)
}

func (v *Vault) setLocal(ctx context.Context, s Store, name string, plain []byte) error {
	v.mu.RLock()
	seal := v.seal
	v.mu.RUnlock()
	if seal == nil {
		return ErrLocked
	}
	sealed, err := seal.SealLocal(name, plain)
	if err != nil {
		return err
	}
	return s.SetLocal(ctx, name, sealed)
}

// local opens what was sealed for this device under the name; nil if nothing was.
func (v *Vault) local(ctx context.Context, name string) ([]byte, error) {
	v.mu.RLock()
	seal := v.seal
	v.mu.RUnlock()
	if seal == nil {
		return nil, ErrLocked
	}
	sealed, err := v.store.Local(ctx, name)
	if err != nil || sealed == nil {
		return nil, err
	}
	return seal.OpenLocal(name, sealed)
}

// Rand is the device's source of randomness.
func (v *Vault) Rand() io.Reader { return v.d.p.Rand }

// SetLocal stores bytes under a name, sealed, on this device only; nil removes them.
func (v *Vault) SetLocal(ctx context.Context, name string, plain []byte) error {
	if plain == nil {
		return v.store.SetLocal(ctx, name, nil)
	}
	return v.setLocal(ctx, v.store, name, plain)
}

// Local returns what Keep stored; nil if nothing was.
func (v *Vault) Local(ctx context.Context, name string) ([]byte, error) { return v.local(ctx, name) }

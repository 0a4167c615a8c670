// Package records is one set of sealed records, open in memory.
//
// A person's vault is such a set, and there may be several: nothing here assumes one. A set
// comes from [Open], which loads what a [Store] holds, or from [NewEmpty], for a store that is
// being set up. It has a few parts, each for one concern:
//
//   - [Book]: what is there, in order, and searching it
//   - [Books]: the books that the owner has beside their own, and which are shown
//   - [Items]: one item read, written, and its past
//   - [Acts]: several items at once, and undoing
//   - [Files]: what is attached
//   - [Sites]: the directory of sites, and what the user set for a site
//   - [Local]: what is sealed for this device alone
//   - [Replica]: the set as the cloud's line sees it: heads, pulls and commits
//   - [Cover]: what one passphrase opens of the set and the others don't
//
// Memory shows only what is on disk: an edit is sealed and written in one transaction, and shown
// after that. All parts share one gate: after [Set.Close] each method returns [gate.ErrLocked].
package records

import (
	"context"
	"crypto/rand"
	"io"
	"sync/atomic"
	"time"

	"redlocket/app/gate"
	"redlocket/app/reauth"
	"redlocket/core/directory"
	"redlocket/core/find"
	"redlocket/core/keys"
	"redlocket/core/vault"
)

// Config says which set it is and what it works with. Now, Store and Ring must be set.
type Config struct {
	ID     string // of the set; its profile entry has the same
	Device string // stamps what is edited here
	Store  Store
	Ring   keys.Ring
	Now    func() time.Time
	Rand   io.Reader  // nil for the system's
	Opener *keys.Pair // the passphrase that opened the set; nil where it was opened in another way
	Steps  gate.Steps // for tests
	Guard  Guard      // asked before something is deleted for good; nil never asks
	Remote Remote     // nil where nothing is fetched
	Events Events
	// Marks finds the items in a state that is found out by looking at all of them: "suspect" and "reused". Nil finds
	// none.
	Marks func(state string) (map[string]bool, error)
}

// Guard is asked before an act that needs the master password.
type Guard interface{ Require(a reauth.Act) error }

// Events are told what happens in the set. Each may be nil. They are called in the middle of
// things, and must neither wait nor call back.
type Events struct {
	Changed func() // entries changed: what was drawn of them is old
	Loaded  func() // the records are there, after the book was there first
	Waiting func() // a record waits to be committed
}

// Set is an open set of records, as its parts.
type Set struct {
	Book    *Book
	Books   *Books
	Items   *Items
	Acts    *Acts
	Files   *Files
	Sites   *Sites
	Local   *Local
	Replica *Replica
	Cover   *Cover

	core *core
}

// core is what the parts of a set share.
type core struct {
	Config
	gate     *gate.Gate[content]
	loading  loading
	revision atomic.Int64 // grows with every change of entries

	digestKey []byte // of this opening: what was in a form names no value to another
}

// content is there while the set is open.
type content struct {
	key        *keys.Vault
	entries    map[string]held
	damaged    map[string]Row // that can't be opened here, without their bytes: the cloud may have them
	checkpoint Checkpoint
	sites      *directory.Directory
	index      *find.Index // of what is shown; nil when entries changed since
	leaf       *find.Index // of the open book; nil when the index was made anew since
	books      books
	shared     map[string]heldSet // by the id of their entries; replaced, never changed
	acts       []act              // what can be undone, the latest last
	attaching  map[string]bool
	uses       uses
	opener     *keys.Pair
	covered    *coveredPart // nil unless the opener has one
}

// held is an entry with what the ledger knows of it.
type held struct {
	entry    vault.Entry
	rev      uint64
	epoch    uint32 // whose key it is sealed under at rev
	edit     uint64 // counts the edits of this opening, to notice one made during a commit
	baseRev  uint64 // the revision that the last verified head vouches for
	baseHash hash
}

// loading says whether the records are there yet.
type loading struct {
	ready  chan struct{} // closed once they are, or can't be
	needed chan struct{} // somebody waits for them
	err    error         // why they can't; read after ready
}

func newSet(cfg Config) *Set {
	if cfg.Rand == nil {
		cfg.Rand = rand.Reader
	}
	c := &core{Config: cfg, digestKey: []byte(rand.Text())}
	c.loading = loading{ready: make(chan struct{}), needed: make(chan struct{}, 1)}
	c.gate = gate.New(&content{
		key: keys.NewVault(cfg.ID, cfg.Ring, cfg.Rand), entries: map[string]held{}, sites: shippedSites(),
		attaching: map[string]bool{}, opener: cfg.Opener,
	}, cfg.Steps)
	s := &Set{
		core:    c,
		Book:    &Book{c},
		Books:   &Books{c},
		Local:   &Local{c},
		Sites:   &Sites{c},
		Items:   &Items{c},
		Acts:    &Acts{c},
		Replica: &Replica{c},
		Cover:   &Cover{c},
	}
	s.Files = &Files{core: c, items: s.Items}
	return s
}

// NewEmpty returns a set without records, in a store that is being set up. The checkpoint is
// where its cloud has to be at least; zero if nothing is known.
func NewEmpty(cfg Config, from Checkpoint) *Set {
	s := newSet(cfg)
	_ = s.core.gate.Write(func(c *content) error { c.checkpoint = from; return nil }) // nobody closed it yet
	close(s.core.loading.ready)
	return s
}

// Open returns the set that the store holds. If the index of the book was kept and is as new
// as the records, it returns at once and opens the records in the background; whoever needs
// one of them waits.
func Open(ctx context.Context, cfg Config) (*Set, error) {
	s := newSet(cfg)
	if err := s.core.load(ctx); err != nil {
		return nil, err
	}
	return s, nil
}

// Close ends the set: keys and entries are dropped, and every method returns
// [gate.ErrLocked] from then on. What is worth keeping for the next opening is sealed, and
// so is what seal returns, by name. It reports false if the set was closed already.
func (s *Set) Close(keep map[string][]byte) bool {
	c := s.core
	<-c.loading.ready
	x, _ := s.Book.Index() // to be kept; nil once closed
	was := c.gate.Close()
	if was == nil {
		return false
	}
	ctx := context.Background()
	if x != nil && was.index == x && c.loading.err == nil {
		if was.covered != nil { // what is kept is what every passphrase shows
			x = find.NewIndex(was.plainItems(), c.findOptions(was))
		}
		c.keepIndex(ctx, was.key, x)
	}
	if was.uses.unsaved {
		if b, err := was.plainUses(); err == nil {
			keep[localUses] = b
		}
	}
	if b, err := was.books.plain(); err == nil {
		keep[localBooks] = b
	}
	for name, plain := range keep {
		if sealed, err := was.key.SealLocal(name, plain); err == nil {
			_ = c.Store.SetLocal(ctx, name, sealed) // conveniences: a crash would lose them too
		}
	}
	return true
}

// Open reports whether the set is open at this moment.
func (s *Set) Open() bool { return s.core.gate.Open() }

// Ready returns once the records are there, or the reason why they can't be.
func (s *Set) Ready() error { return s.core.wait() }

// Loaded is like Ready, but lets the first page be drawn first.
func (s *Set) Loaded() error {
	<-s.core.loading.ready
	return s.core.loading.err
}

// wait returns once the records are there.
func (c *core) wait() error {
	select {
	case c.loading.needed <- struct{}{}:
	default:
	}
	<-c.loading.ready
	return c.loading.err
}

// read runs fn on the content once the records are there.
func (c *core) read(fn func(*content) error) error {
	if err := c.wait(); err != nil {
		return err
	}
	return c.gate.Read(fn)
}

// write is read for changes.
func (c *core) write(fn func(*content) error) error {
	if err := c.wait(); err != nil {
		return err
	}
	return c.gate.Write(fn)
}

func (c *core) stamp() vault.Stamp { return vault.Stamp{At: c.Now().UnixMilli(), By: c.Device} }

func call(fn func()) {
	if fn != nil {
		fn()
	}
}

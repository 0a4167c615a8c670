// Package sharing is what the owner of a vault holds together with others: whole books, and single things.
//
// What is shared stands among the items of the owner's own set, so that all that is done with items works with it, and
// each of the owner's devices has it. Beside it there is a set at the cloud ([share.Roll], and a chain of heads that
// begins anew in each epoch) through which the members' changes reach each other. [Sharing.InStep], which the line
// calls when the vault's own set is in step, brings what was changed here to it and takes what others changed: both are
// joined as edits of two devices are. So everything but the list of members can be changed away from the cloud.
//
// The cloud is believed in nothing: an epoch is taken only from somebody who may manage in the one before, the first
// one only from somebody who was checked; a head only from somebody who may change; and that somebody is out only from
// one who may say so.
package sharing

import (
	"context"
	"errors"
	"hash/maphash"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"redlocket/app/beside"
	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Cloud carries shared sets. Its errors are those of package syncing.
type Cloud interface {
	Sets(ctx context.Context, credential string) ([]wire.SharedSet, error)
	BeginSetEpoch(ctx context.Context, credential, set string, in wire.NewSetEpoch) error
	SetChanges(ctx context.Context, credential, set string, epoch uint32, since uint64) (wire.Changes, error)
	CommitSet(ctx context.Context, credential, set string, epoch uint32, in wire.Commit) error
	LeaveSet(ctx context.Context, credential, set string, in wire.LeaveSet) error
	// SetBox returns one of those that are listed; syncing.ErrOver if it is gone.
	SetBox(ctx context.Context, credential, set, box string) (wire.SetBox, error)
	RemoveSetBox(ctx context.Context, credential, set, box string) error
	PutSetChunk(ctx context.Context, credential, set string, epoch uint32, file string, n int, sealed []byte) error
	SetChunk(ctx context.Context, credential, set string, epoch uint32, file string, n int) ([]byte, error)
}

// People are those whom the owner knows, and the owner's own keys, by which they know the owner.
type People interface {
	People() ([]household.Person, error)
	Identity() (keys.Identity, bool)
}

// Config is what sharing works with.
type Config struct {
	Set    *records.Set
	Device string // this one's id
	People People
	Now    func() time.Time
	Rand   io.Reader
	// Owner is the vault's owner, as they call themselves, and their address at the cloud.
	Owner func() (name, email string)
	// Cloud is where sets are carried, and what this device signs with there; nil without one.
	Cloud   func(ctx context.Context) (Cloud, string, error)
	Changed func()       // what is shared, or with whom, changed
	Nudge   func()       // something is to go out
	Beside  func(func()) // runs something beside whoever calls
}

// Sharing is what is held together with others. It is safe for concurrent use.
type Sharing struct {
	Config

	running sync.Mutex // held by the one run that is under way
	look    beside.Look
	pushed  atomic.Int64 // the revision of the book up to which everything was brought
	faults  faults
	looked  beside.Looked // boxes that nobody who was checked has sealed, as far as it is known

	standings standings
	seed      maphash.Seed
	seen      map[string]seenAs // by the entry's id; for the one run that is under way
}

// Open returns the sharing of an open set.
func Open(cfg Config) *Sharing {
	s := &Sharing{Config: cfg, seed: maphash.MakeSeed(), seen: map[string]seenAs{}}
	s.look.Ask()
	s.pushed.Store(-1)
	return s
}

// Heard has the next run look at what others did.
func (s *Sharing) Heard() { s.look.Ask() }

// faults are what the cloud handed out of a set and was refused, by set.
type faults struct {
	mu sync.Mutex // guards of
	of map[string]string
}

func (f *faults) note(set, fault string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.of == nil {
		f.of = map[string]string{}
	}
	f.of[set] = fault
}

func (f *faults) at(set string) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.of[set]
}

// The errors of sharing.
var (
	ErrNoSet       = errors.New("this isn’t shared any more")
	ErrNotManager  = errors.New("only somebody who may decide who is in it can do that")
	ErrLastManager = errors.New("nobody else may decide who is in it: let somebody else, or end it for all")
	errNotChecked  = errors.New("compare the six words with them first")
	errPaused      = errors.New("somebody asks under this person’s address with other keys: settle that first")
	errMember      = errors.New("they have it already")
	errOwnRight    = errors.New("your own right can be lessened so far by somebody else who decides, or leave it")
	errRight       = errors.New("choose what they may do")
	errManyMembers = errors.New("there is room for 20 people")
	errCovered     = errors.New("this is left out under the second passphrase: have it shown first")
	errNoBook      = errors.New("choose a book beside your own")
	errFillWhat    = errors.New("only what is filled in can be shared to be filled in")
)

// Shared is something that the owner holds together with others.
type Shared struct {
	Set     string
	Name    string // of the book; of one thing its title, where that is here
	Book    string // id of the book; empty for one thing
	Item    string // id of the one thing, where it is here
	Right   share.Right
	Waits   bool // the owner hasn't taken it yet
	From    string
	Members []Member // the owner first
	Gone    []Former
	Fault   string // what the cloud handed out of it was refused
	Over    bool   // it isn't shared any more, and is listed for what others could have seen
}

// Member is somebody who holds it.
type Member struct {
	Name, Email string
	Right       share.Right
	Me          bool
	Other       bool // known by other keys than those by which they are a member
}

// Former is somebody who held it until a moment. What they could have seen is what hasn't been changed since.
type Former struct {
	Name  string
	At    int64    // milliseconds since 1970
	Items []string // ids of the logins whose passwords they could have seen
}

// Manages reports whether the owner may decide who is in it.
func (s Shared) Manages() bool { return !s.Over && s.Right.Includes(share.Manage) }

// entryID is the id of something that stands for what others gave an id of their own choice.
func entryID(kind string, parts ...string) string {
	return uuid.NewSHA1(uuid.NameSpaceOID, []byte("redlocket "+kind+" "+strings.Join(parts, " "))).String()
}

// EntryID is the id of the entry that a shared set has in its members' own vaults.
func EntryID(set string) string { return entryID("shared", set) }

// List returns what is shared, books first, by name.
func (s *Sharing) List() (list []Shared, err error) {
	entries, err := s.Set.Book.Entries(func(e vault.Entry) bool {
		set, _ := e.Share()
		return e.Type == vault.TypeShared || set != "" && e.IsItem()
	})
	if err != nil {
		return nil, err
	}
	people, err := s.People.People()
	if err != nil {
		return nil, err
	}
	own, _ := s.People.Identity()
	for _, e := range entries {
		h, ok := share.HeldOf(e)
		if !ok {
			continue
		}
		if of := s.view(e, h, entries, people, own); !of.Over || len(of.Gone) > 0 {
			list = append(list, of)
		}
	}
	slices.SortFunc(list, func(a, b Shared) int {
		if (a.Book == "") != (b.Book == "") {
			if a.Book != "" {
				return -1
			}
			return 1
		}
		return strings.Compare(strings.ToLower(a.Name)+a.Set, strings.ToLower(b.Name)+b.Set)
	})
	return list, nil
}

// Of returns one; the error is ErrNoSet if it isn't shared any more and nothing is left to be done about it.
func (s *Sharing) Of(set string) (Shared, error) {
	return s.one(func(o Shared) bool { return o.Set == set })
}

// OfItem returns that in which an item is; the error is ErrNoSet if it isn't in any.
func (s *Sharing) OfItem(e vault.Entry) (Shared, error) {
	set, _ := e.Share()
	return s.one(func(o Shared) bool { return o.Set == set && !o.Waits && !o.Over })
}

// OfBook returns that of a book.
func (s *Sharing) OfBook(book string) (Shared, error) {
	return s.one(func(o Shared) bool { return book != "" && o.Book == book && !o.Waits && !o.Over })
}

func (s *Sharing) one(is func(Shared) bool) (Shared, error) {
	list, err := s.List()
	if err != nil {
		return Shared{}, err
	}
	i := slices.IndexFunc(list, is)
	if i < 0 {
		return Shared{}, ErrNoSet
	}
	return list[i], nil
}

func (s *Sharing) view(
	of vault.Entry, h share.Held, entries []vault.Entry, people []household.Person, own keys.Identity,
) Shared {
	out := Shared{
		Set: h.Set, Name: h.Roll.Name, Book: h.Book, Right: h.Right, Waits: !h.Taken, Fault: s.faults.at(h.Set),
		Over: h.Out != 0,
	}
	if h.Book != "" && !out.Waits {
		out.Name = s.Set.Books.Name(vault.Item{Book: h.Book})
	}
	for _, e := range entries {
		if set, _ := e.Share(); set == h.Set && h.Book == "" && e.IsItem() {
			out.Item, out.Name = e.ID, e.Text(vault.FieldTitle)
		}
	}
	me := own.Public().Sign
	for _, m := range h.Roll.Members {
		v := Member{Name: m.Name, Email: m.Email, Right: m.Right, Me: string(m.Keys.Sign) == string(me)}
		for _, p := range people {
			if p.State == household.Checked && p.Email == m.Email {
				v.Name, v.Other = p.Name, !p.Keys.Equal(m.Keys)
			}
		}
		if string(m.Keys.Sign) == string(h.By) {
			out.From = v.Name
		}
		if v.Me {
			out.Members = slices.Insert(out.Members, 0, v)
			continue
		}
		out.Members = append(out.Members, v)
	}
	out.Gone = formers(of, h, entries)
	if out.Over {
		out.Waits, out.Members = false, nil
	}
	return out
}

// formers are those who held it, with what they could have seen.
func formers(of vault.Entry, h share.Held, entries []vault.Entry) (out []Former) {
	for _, f := range share.FormersOf(of) {
		o := Former{Name: f.Name, At: f.At}
		for _, e := range entries {
			set, _ := e.Share()
			seen := e.Text(vault.FieldPassword) != "" && e.Fields[vault.FieldPassword].Stamp.At <= f.At
			if set == h.Set && e.IsItem() && !e.Archived() && seen {
				o.Items = append(o.Items, e.ID)
			}
		}
		if len(o.Items) > 0 {
			out = append(out, o)
		}
	}
	return out
}

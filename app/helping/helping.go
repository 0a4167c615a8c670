// Package helping is the helping hand: people who together bring a vault back whose owner lost the master password and
// the recovery sheet.
//
// A [Helping] keeps two sides as entries of the vault's own set, so each of the owner's devices has them: who helps the
// owner ([Helping.Own]), and whom the owner helps ([Helping.Held]). How a secret is parted is package share's. What is
// asked for waits at the cloud: it is looked for when the set is in step ([Helping.InStep]), and so is what the owner
// has promised and what is due by now.
//
// Whoever asks for help has no vault at all: that side is package app's.
package helping

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"redlocket/app/beside"
	"redlocket/app/household"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Cloud keeps helping hands.
type Cloud interface {
	// SetHand keeps one in the place of the one before; an empty one ends it. key is the account's present sign-in key.
	SetHand(ctx context.Context, credential string, key keys.Key, in wire.NewHand) error
	// Hand tells what was asked of the owner's helpers, and StopHelp stops it.
	Hand(ctx context.Context, credential string) (wire.Hand, error)
	StopHelp(ctx context.Context, credential string) error
	// HeldHands lists whom the owner helps, and what is asked; HoldsHand says that the part is kept here, and Help
	// answers: syncing.ErrOver if it was stopped.
	HeldHands(ctx context.Context, credential string) ([]wire.HeldHand, error)
	HoldsHand(ctx context.Context, credential, hand string) error
	Help(ctx context.Context, credential, hand, id string, in wire.Help) error
}

// People are those whom the owner knows.
type People interface {
	People() ([]household.Person, error)
	Identity() (own keys.Identity, ok bool)
}

// Config is what it works with.
type Config struct {
	Set    *records.Set
	Vault  string // its id
	People People
	Guard  records.Guard
	Now    func() time.Time
	Rand   io.Reader
	// Cloud is where hands are kept, and what this device signs with there; nil without one.
	Cloud   func(ctx context.Context) (Cloud, string, error)
	Changed func()       // something is to be shown
	Nudge   func()       // has the set brought in step soon
	Beside  func(func()) // runs something beside whoever calls
}

// Helping is both sides. It is safe for concurrent use.
type Helping struct {
	Config

	look beside.Look

	mu    sync.Mutex                // guards what follows
	own   wire.Hand                 // as the cloud had it last
	held  map[string]wire.HeldHand  // by id, as the cloud had them last
	known bool                      // the cloud was asked
	acts  int                       // how often this device has chosen or ended: what was asked before is old
	tries map[[sha256.Size]byte]int // wrong words, by the key of who asks
}

// Open returns the helping hand of an open set.
func Open(cfg Config) *Helping {
	h := &Helping{Config: cfg, tries: map[[sha256.Size]byte]int{}}
	h.look.Ask()
	return h
}

// The errors of helping.
var (
	ErrNoHand   = errors.New("there is no such helping hand any more")
	errHelper   = errors.New("choose people whose words were compared")
	errNobody   = errors.New("nobody asks for help in this person’s name now")
	errTries    = errors.New("these words were wrong too often; let them ask anew, and read new words")
	errPaused   = errors.New("somebody asks under this person’s address with other keys: settle that first")
	errHandHere = errors.New("the people who help have to be in your household, each of another address")
)

// Helper is one who holds a part for the owner.
type Helper struct {
	Peer  string // id of the person
	Name  string
	Email string
	Holds bool // their devices have it, says the cloud
	Gone  bool // they aren't known any more by the keys that it was sealed to
}

// Own is the owner's helping hand.
type Own struct {
	Rule    share.Rule
	Since   time.Time
	Helpers []Helper
	// Stale says that the recovery sheet is another one than then, or the owner's keys: what the helpers have opens
	// nothing any more, or they don't know whose it is.
	Stale bool
	// Unfinished says that the cloud has another hand in force than the vault knows of: choosing or ending was cut
	// short, or done on two devices at once. Of a hand that the vault doesn't know of nothing else is said.
	Unfinished bool
	Asked      []wire.HelpSeen // what waits, the latest first
}

// Held is a part that the owner holds for somebody.
type Held struct {
	ID    string // of its entry
	Peer  string // id of the person; empty if they aren't known any more
	Name  string
	Email string
	Rule  share.Rule
	Since time.Time
	Asks  int // devices that ask in their name, and weren't helped from here
	Given []Given
	Over  bool // the cloud has it no more: they have ended it, or were gone
}

// Given is help that was promised to a device that asked.
type Given struct {
	Request string `json:"request"`
	Sealed  []byte `json:"sealed,omitempty"` // the part, while it waits
	At      int64  `json:"at"`               // when the words were typed, milliseconds since 1970
	Due     int64  `json:"due"`              // when the part goes out
	Sent    bool   `json:"sent,omitempty"`
}

// kept is the owner's hand as its entry has it.
type kept struct {
	Hand    string       `json:"hand"`
	Rule    share.Rule   `json:"rule"`
	At      int64        `json:"at"`
	Code    []byte       `json:"code"` // the public key of the recovery code: which sheet it was
	Sign    []byte       `json:"sign"` // the owner's own key, by which the helpers know whose part they hold
	Helpers []keptHelper `json:"helpers"`
}

type keptHelper struct {
	Peer  string              `json:"peer"`
	Name  string              `json:"name"`
	Email string              `json:"email"`
	Keys  keys.PublicIdentity `json:"keys"`
}

// heldHand is a part as its entry has it.
type heldHand struct {
	Part  share.Part `json:"part"`
	Of    string     `json:"of"` // address, for the words
	Sign  []byte     `json:"sign"`
	Given []Given    `json:"given,omitempty"`
}

func entryID(kind, id string) string {
	return uuid.NewSHA1(uuid.NameSpaceOID, []byte("redlocket "+kind+" "+id)).String()
}

func (h *Helping) ownID() string { return entryID("hand of", h.Vault) }

func heldID(hand string) string { return entryID("hand", hand) }

func isHand(e vault.Entry) bool { return e.Type == vault.TypeHand && !e.Purged() }

func read(e vault.Entry, to any) bool {
	text := e.Text(vault.FieldHand)
	return isHand(e) && text != "" && json.Unmarshal([]byte(text), to) == nil
}

func written(v any) (vault.Changes, error) {
	b, err := json.Marshal(v)
	return vault.Changes{vault.FieldHand: string(b)}, err
}

// Own returns the owner's helping hand; ok is false without one. code is the public key of the recovery code in force.
func (h *Helping) Own(code []byte) (o Own, ok bool, err error) {
	var k kept
	_, err = h.Set.Book.Entries(func(e vault.Entry) bool { return e.ID == h.ownID() && read(e, &k) })
	if err != nil {
		return o, false, err
	}
	people, err := h.People.People()
	if err != nil {
		return o, false, err
	}
	own, has := h.People.Identity()
	h.mu.Lock()
	defer h.mu.Unlock()
	unfinished := h.known && h.own.Hand != k.Hand
	if k.Hand == "" {
		return Own{Unfinished: unfinished, Asked: slices.Clone(h.own.Asked)}, unfinished, nil
	}
	o = Own{
		Unfinished: unfinished, Asked: slices.Clone(h.own.Asked),
		Rule: k.Rule, Since: time.UnixMilli(k.At),
		Stale: !has || string(k.Code) != string(code) || string(k.Sign) != string(own.Public().Sign),
	}
	for _, helper := range k.Helpers {
		i := slices.IndexFunc(people, func(p household.Person) bool {
			return p.State == household.Checked && p.Keys.Equal(helper.Keys)
		})
		is := Helper{Peer: helper.Peer, Name: helper.Name, Email: helper.Email, Gone: i < 0}
		if i >= 0 {
			is.Peer, is.Name = people[i].ID, people[i].Name
		}
		is.Holds = h.own.Hand == k.Hand && slices.Contains(h.own.Holds, helper.Email)
		o.Helpers = append(o.Helpers, is)
	}
	return o, true, nil
}

// Asked is what was asked of the owner's helpers, as the cloud had it last: for what has to be said on every page.
func (h *Helping) Asked() []wire.HelpSeen {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.Clone(h.own.Asked)
}

// Arrange has people help from now on, in the place of those before. recovery is the code of the sheet that is in
// force, and key the account's present sign-in key. The cloud comes first: what is cut short between there and here is
// [Own.Unfinished].
func (h *Helping) Arrange(
	ctx context.Context, peers []string, rule share.Rule, recovery keys.Code, key keys.Key,
) error {
	if rule.Of = len(peers); rule.Need == 1 {
		rule.Wait = share.HelpWait
	}
	if err := rule.Check(); err != nil {
		return records.BadInput("helpers", err)
	}
	cloud, credential, err := h.Cloud(ctx)
	if err != nil || cloud == nil {
		return errors.Join(err, household.ErrNoCloud)
	}
	own, has := h.People.Identity()
	people, err := h.People.People()
	if err != nil {
		return err
	}
	k := kept{Hand: records.NewID(), Rule: rule, At: h.Now().UnixMilli()}
	pair, err := keys.DeriveRecovery(recovery)
	if err != nil {
		return err
	}
	if !has {
		return records.BadInput("helpers", errHelper)
	}
	k.Code, k.Sign = pair.Public().SignIn, own.Public().Sign
	sealed, parts, err := share.Split(h.Rand, k.Hand, h.Vault, recovery, rule, k.At)
	if err != nil {
		return err
	}
	in := wire.NewHand{Hand: k.Hand, Need: rule.Need, Wait: rule.Wait.Milliseconds(), Sealed: sealed}
	there := map[string]bool{}
	for n, id := range peers {
		i := slices.IndexFunc(people, func(p household.Person) bool { return p.ID == id })
		if i < 0 || people[i].State != household.Checked {
			return records.BadInput("helpers", errHelper)
		}
		p := people[i]
		if p.Paused {
			return records.BadInput("helpers", errPaused)
		}
		if there[p.Email] {
			return records.BadInput("helpers", errHandHere)
		}
		there[p.Email] = true
		part, err := parts[n].Seal(own, p.Keys, k.Hand)
		if err != nil {
			return err
		}
		in.Helpers = append(in.Helpers, wire.HandHelper{Address: p.Email, Part: part})
		k.Helpers = append(k.Helpers, keptHelper{p.ID, p.Name, p.Email, p.Keys})
	}
	if err := cloud.SetHand(ctx, credential, key, in); err != nil {
		h.look.Ask() // it may have come there
		return err
	}
	return h.keepOwn(ctx, k, wire.Hand{Hand: k.Hand})
}

// Renew parts anew among the same people who are still known, after the recovery sheet was replaced.
func (h *Helping) Renew(ctx context.Context, recovery keys.Code, key keys.Key) error {
	o, ok, err := h.Own(nil)
	if err != nil || !ok || len(o.Helpers) == 0 {
		return err
	}
	var peers []string
	for _, helper := range o.Helpers {
		if !helper.Gone {
			peers = append(peers, helper.Peer)
		}
	}
	if len(peers) < o.Rule.Need {
		return nil // the page says that what they have is old
	}
	return h.Arrange(ctx, peers, share.Rule{Need: o.Rule.Need, Wait: o.Rule.Wait}, recovery, key)
}

// End has nobody help any more.
func (h *Helping) End(ctx context.Context, key keys.Key) error {
	cloud, credential, err := h.Cloud(ctx)
	if err != nil || cloud == nil {
		return errors.Join(err, household.ErrNoCloud)
	}
	if err := cloud.SetHand(ctx, credential, key, wire.NewHand{}); err != nil {
		h.look.Ask()
		return err
	}
	return h.keepOwn(ctx, kept{}, wire.Hand{})
}

func (h *Helping) keepOwn(ctx context.Context, k kept, now wire.Hand) error {
	c, err := written(k)
	if err != nil {
		return err
	}
	err = h.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
		by := h.Set.Items.Stamp()
		e, ok := all[h.ownID()]
		if !ok {
			e, err := vault.New(h.ownID(), vault.TypeHand, by, c)
			return []vault.Entry{e}, err
		}
		e, err := e.With(by, c)
		return []vault.Entry{e}, err
	}, nil)
	if err != nil {
		return err
	}
	h.mu.Lock()
	h.own = now
	h.acts++
	h.mu.Unlock()
	h.Changed()
	return nil
}

// Stop stops what was asked of the owner's helpers. Any device of the owner may.
func (h *Helping) Stop(ctx context.Context) error {
	cloud, credential, err := h.Cloud(ctx)
	if err != nil || cloud == nil {
		return errors.Join(err, household.ErrNoCloud)
	}
	if err := cloud.StopHelp(ctx, credential); err != nil {
		return err
	}
	h.mu.Lock()
	h.own.Asked = nil
	h.mu.Unlock()
	h.Changed()
	return nil
}

// Held returns whom the owner helps, by name.
func (h *Helping) Held() (out []Held, err error) {
	list, err := h.Set.Book.Entries(func(e vault.Entry) bool { return isHand(e) && e.ID != h.ownID() })
	if err != nil {
		return nil, err
	}
	people, err := h.People.People()
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, e := range list {
		var k heldHand
		if !read(e, &k) {
			continue
		}
		is := Held{ID: e.ID, Email: k.Of, Name: k.Of, Rule: k.Part.Rule, Since: time.UnixMilli(k.Part.At)}
		if p, ok := known(people, k.Sign); ok {
			is.Peer, is.Name = p.ID, p.Name
		}
		at, there := h.held[k.Part.Hand]
		is.Over = h.known && !there
		for _, g := range k.Given {
			if g.Sent || slices.ContainsFunc(at.Asked, func(a wire.Help) bool { return a.ID == g.Request }) {
				is.Given = append(is.Given, g)
			}
		}
		for _, a := range at.Asked {
			if a.Helps || k.gave(a.ID) {
				continue
			}
			is.Asks++
		}
		out = append(out, is)
	}
	slices.SortFunc(out, func(a, b Held) int {
		return strings.Compare(strings.ToLower(a.Name)+a.ID, strings.ToLower(b.Name)+b.ID)
	})
	return out, nil
}

func (k heldHand) gave(request string) bool {
	return slices.ContainsFunc(k.Given, func(g Given) bool { return g.Request == request })
}

// known is the checked person of a public key.
func known(people []household.Person, sign []byte) (p household.Person, ok bool) {
	i := slices.IndexFunc(people, func(p household.Person) bool {
		return p.State == household.Checked && string(p.Keys.Sign) == string(sign)
	})
	if i < 0 {
		return p, false
	}
	return people[i], true
}

// mostTries is how often words may be wrong at one device that asks: they are slow to guess, and a slip is a slip.
const mostTries = 5

// Help takes the words that a person read out, from the device that asks in their name. The part goes out once the
// rule's wait is over: at once where several have to help. It returns when. The master password is asked for just
// before.
func (h *Helping) Help(ctx context.Context, id, words string) (due time.Time, err error) {
	if err := h.Guard.Require(reauth.Trust); err != nil {
		return due, err
	}
	if err := h.Collect(ctx); err != nil { // what asks now
		return due, err
	}
	e, err := h.Set.Items.Entry(id)
	var k heldHand
	if err != nil || !read(e, &k) {
		return due, errors.Join(err, ErrNoHand)
	}
	typed, err := keys.NewHelper(k.Of, words)
	if err != nil {
		return due, records.BadInput("words", err)
	}
	plain, err := json.Marshal(k.Part)
	if err != nil {
		return due, err
	}
	h.mu.Lock()
	asked := slices.Clone(h.held[k.Part.Hand].Asked)
	h.mu.Unlock()
	asked = slices.DeleteFunc(asked, func(a wire.Help) bool { return k.gave(a.ID) })
	if len(asked) == 0 {
		return due, records.BadInput("words", errNobody)
	}
	tried := false
	for _, a := range asked {
		if !h.mayTry(a.PublicKey) {
			continue
		}
		tried = true
		sealed, err := typed.Help(a.PublicKey, plain)
		if errors.Is(err, keys.ErrWords) {
			continue
		}
		if err != nil {
			return due, err
		}
		now := h.Now()
		due = now.Add(k.Part.Rule.Wait)
		g := Given{Request: a.ID, Sealed: sealed, At: now.UnixMilli(), Due: due.UnixMilli()}
		if err := h.change(ctx, id, func(k *heldHand) { k.Given = append(k.Given, g) }); err != nil {
			return due, err
		}
		return due, h.Collect(ctx)
	}
	if !tried {
		return due, records.BadInput("words", errTries)
	}
	for _, a := range asked {
		h.wrong(a.PublicKey)
	}
	return due, records.BadInput("words", keys.ErrWords)
}

func (h *Helping) mayTry(hello []byte) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.tries[sha256.Sum256(hello)] < mostTries
}

func (h *Helping) wrong(hello []byte) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.tries[sha256.Sum256(hello)]++
}

// TakeBack takes promised help back, while it waits.
func (h *Helping) TakeBack(ctx context.Context, id string) error {
	return h.change(ctx, id, func(k *heldHand) {
		k.Given = slices.DeleteFunc(k.Given, func(g Given) bool { return !g.Sent })
	})
}

// Drop gives a part away: the owner helps that person no more.
func (h *Helping) Drop(ctx context.Context, id string) error {
	if err := h.Guard.Require(reauth.Trust); err != nil {
		return err
	}
	err := h.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
		e, ok := all[id]
		if !ok || !isHand(e) || id == h.ownID() {
			return nil, ErrNoHand
		}
		e, err := e.Discard(h.Set.Items.Stamp())
		return []vault.Entry{e}, err
	}, nil)
	h.Changed()
	return err
}

// change changes a part's entry.
func (h *Helping) change(ctx context.Context, id string, fn func(*heldHand)) error {
	err := h.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
		e, ok := all[id]
		var k heldHand
		if !ok || !read(e, &k) {
			return nil, ErrNoHand
		}
		fn(&k)
		c, err := written(k)
		if err != nil {
			return nil, err
		}
		e, err = e.With(h.Set.Items.Stamp(), c)
		return []vault.Entry{e}, err
	}, nil)
	h.Changed()
	return err
}

// Heard has the next run look at what waits at the cloud.
func (h *Helping) Heard() { h.look.Ask() }

// InStep looks beside whoever calls: that is when the set is in step with its cloud.
func (h *Helping) InStep(ctx context.Context) {
	now := h.Now()
	if !h.look.Begin(now, nil) {
		return
	}
	committed, err := h.Set.Book.Entries(isHand)
	h.Beside(func() {
		if err == nil {
			err = h.collect(ctx, committed)
		}
		if h.look.End(now, err) {
			h.Nudge()
		}
	})
}

// Collect looks at what the cloud has: parts that came are kept, what is due goes out, and what was asked is known.
func (h *Helping) Collect(ctx context.Context) error { return h.collect(ctx, nil) }

// collect does so. Of the parts that are committed by now the cloud is told that they are here.
func (h *Helping) collect(ctx context.Context, committed []vault.Entry) error {
	cloud, credential, err := h.Cloud(ctx)
	if err != nil || cloud == nil {
		return err
	}
	h.mu.Lock()
	acts := h.acts
	h.mu.Unlock()
	own, err1 := cloud.Hand(ctx, credential)
	list, err2 := cloud.HeldHands(ctx, credential)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	held := map[string]wire.HeldHand{}
	for _, a := range list {
		held[a.Hand] = a
	}
	h.mu.Lock()
	was := asked(h.own, h.held)
	if h.acts != acts {
		own = h.own
		h.look.Ask()
	}
	h.own, h.held, h.known = own, held, true
	changed := asked(own, held) != was
	h.mu.Unlock()
	if changed {
		h.Changed()
	}
	var errs []error
	for _, a := range list {
		id := heldID(a.Hand)
		if slices.ContainsFunc(committed, func(e vault.Entry) bool { return e.ID == id }) && len(a.Part) > 0 {
			errs = append(errs, cloud.HoldsHand(ctx, credential, a.Hand))
			continue
		}
		errs = append(errs, h.take(ctx, a))
	}
	return errors.Join(append(errs, h.send(ctx, cloud, credential))...)
}

// asked says in one text what there is to be shown.
func asked(own wire.Hand, held map[string]wire.HeldHand) string {
	b, _ := json.Marshal(struct { //nolint:errchkjson // plain values
		Own  wire.Hand
		Held map[string]wire.HeldHand
	}{own, held})
	return string(b)
}

// take keeps a part that came, if it is from somebody who was checked, and of the address that they have.
func (h *Helping) take(ctx context.Context, a wire.HeldHand) error {
	if len(a.Part) == 0 || uuid.Validate(a.Hand) != nil {
		return nil
	}
	id := heldID(a.Hand)
	own, ok := h.People.Identity()
	if !ok {
		return nil
	}
	part, from, err := share.OpenPart(own, a.Hand, a.Part)
	if err != nil || part.Hand != a.Hand || part.Back() {
		return nil //nolint:nilerr // nobody can use it
	}
	people, err := h.People.People()
	if err != nil {
		return err
	}
	p, ok := known(people, from)
	if !ok || p.Email != a.Of { // not before they are
		return nil
	}
	c, err := written(heldHand{Part: part, Of: p.Email, Sign: from})
	if err != nil {
		return err
	}
	there := false
	err = h.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
		by := h.Set.Items.Stamp()
		if _, there = all[id]; there {
			return nil, nil
		}
		e, err := vault.New(id, vault.TypeHand, by, c)
		out := []vault.Entry{e}
		for _, other := range all { // one of a person counts: the latest
			var k heldHand
			if err == nil && other.ID != h.ownID() && read(other, &k) && k.Part.Vault == part.Vault &&
				string(k.Sign) == string(from) && k.Part.At <= part.At {
				var old vault.Entry
				old, err = other.Discard(by)
				out = append(out, old)
			}
		}
		return out, err
	}, nil)
	if err == nil && !there {
		h.look.Ask()
		h.Changed()
	}
	return err
}

// send tells the cloud what was promised, and hands over what is due.
func (h *Helping) send(ctx context.Context, cloud Cloud, credential string) error {
	list, err := h.Set.Book.Entries(func(e vault.Entry) bool { return isHand(e) && e.ID != h.ownID() })
	if err != nil {
		return err
	}
	h.mu.Lock()
	held := h.held
	h.mu.Unlock()
	var errs []error
	for _, e := range list {
		var k heldHand
		if !read(e, &k) {
			continue
		}
		for _, g := range k.Given {
			i := slices.IndexFunc(held[k.Part.Hand].Asked, func(a wire.Help) bool { return a.ID == g.Request })
			if i < 0 || g.Sent {
				continue
			}
			due := h.Now().UnixMilli() >= g.Due
			if !due && held[k.Part.Hand].Asked[i].Helps {
				continue
			}
			in := wire.Help{Due: g.Due}
			if due {
				in.Sealed = g.Sealed
			}
			err := cloud.Help(ctx, credential, k.Part.Hand, g.Request, in)
			if errors.Is(err, syncing.ErrOver) { // it was stopped meanwhile
				continue
			}
			if err == nil && due {
				err = h.change(ctx, e.ID, func(k *heldHand) {
					for i := range k.Given {
						if k.Given[i].Request == g.Request {
							k.Given[i].Sent, k.Given[i].Sealed = true, nil
						}
					}
				})
			}
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

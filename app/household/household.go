// Package household is the people whom the owner of a vault knows, and what they pass to each other.
//
// A [Household] keeps people and notes as entries of the vault's own set, so each of the owner's devices has them. How
// two people come to know each other's keys, and what a note is, are package share's; here is who asked whom, what was
// handed over, and what has to wait. What is to go out goes when the set is in step with its cloud
// ([Household.InStep]), which is also when what waits there is fetched: away from it, everything can be prepared.
//
// A meeting is run by one device, the one where its owner asked or answered: what it drew for it never leaves it. The
// words that come out of it are in the vault, to be compared on any device.
package household

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/mail"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/google/uuid"

	"redlocket/app/beside"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Cloud carries letters.
type Cloud interface {
	// PutLetter hands a letter over for an address; the same id twice is one letter. syncing.ErrManyLetters says that
	// too many wait.
	PutLetter(ctx context.Context, credential, id string, in wire.NewLetter) error
	// Letters lists what waits, without what is in it; Letter returns one, RemoveLetter drops it.
	Letters(ctx context.Context, credential string) ([]wire.Letter, error)
	Letter(ctx context.Context, credential, id string) (wire.Letter, error)
	RemoveLetter(ctx context.Context, credential, id string) error
	// TakeLetterBack drops one that was handed over, if it is still there.
	TakeLetterBack(ctx context.Context, credential, id, to string) error
	// LetterMail and SetLetterMail say whether the cloud mails its owner that something waits.
	LetterMail(ctx context.Context, credential string) (bool, error)
	SetLetterMail(ctx context.Context, credential string, on bool) error
}

// Config is what a household works with.
type Config struct {
	Set    *records.Set
	Device string // this one's id
	Vault  string // its id, which the profile's entry has
	Guard  records.Guard
	Now    func() time.Time
	Rand   io.Reader
	// Owner is the vault's owner, as they call themselves, and their address at the cloud.
	Owner func() (name, email string)
	// Cloud is where letters are carried, and what this device signs with there; nil without one.
	Cloud   func(ctx context.Context) (Cloud, string, error)
	Changed func()       // people or notes changed
	Nudge   func()       // something is to go out
	Beside  func(func()) // runs something beside whoever calls
}

// Household is the people and their notes. It is safe for concurrent use.
type Household struct {
	Config

	looked beside.Looked // letters that wait at the cloud for somebody to be known
	look   beside.Look
}

// Open returns the household of an open set.
func Open(cfg Config) *Household {
	h := &Household{Config: cfg}
	h.look.Ask()
	return h
}

// State is how far a person is known.
type State string

// The states.
const (
	Asked    State = "asked"    // the owner asked them; they haven't answered
	Asks     State = "asks"     // they ask the owner
	Answered State = "answered" // the owner has answered; their device has to say one thing more
	Compare  State = "compare"  // the words wait to be compared
	Checked  State = "checked"  // the words were the same
)

// Person is somebody with a vault of their own.
type Person struct {
	ID    string
	Name  string // as the owner of this vault calls them
	Calls string // as they call themselves, where that is another name
	Email string
	State State
	Since time.Time // of the state
	Words []string  // to be compared, or that were
	// Paused says that somebody asks under the same address with other keys: nothing is passed to either until that is
	// settled.
	Paused bool
	// Again says that there is somebody of this address who was checked, with other keys.
	Again  bool
	Unread int // notes

	Keys    keys.PublicIdentity // by which they are known
	meeting string              // its id
}

// meeting is how far keys were exchanged, as it is kept in a peer's entry.
type meeting struct {
	ID     string       `json:"id"`               // under which it travels
	Mine   bool         `json:"mine,omitempty"`   // the owner asked
	Device string       `json:"device,omitempty"` // that runs it; empty while nobody answered
	Offer  *share.Offer `json:"offer,omitempty"`  // of somebody who asks
	Calls  string       `json:"calls,omitempty"`
	Words  []string     `json:"words,omitempty"`
}

// The errors of people.
var (
	ErrNoPerson   = errors.New("there is no such person here any more")
	ErrNoCloud    = errors.New("this vault is on this computer only: others are reached by way of a cloud")
	ErrNoCode     = errors.New("this isn’t the code of Red Locket’s page of six words")
	ErrOwnCode    = errors.New("this is the code of your own screen: read theirs")
	ErrOtherCode  = errors.New("this is another code")
	errEmail      = errors.New("type an e-mail address, like name@example.org")
	errOwnEmail   = errors.New("this is your own address")
	errKnown      = errors.New("somebody of this address is here already")
	errManyPeople = errors.New("that are too many people: take some off first")
	errName       = errors.New("type a name")
	errNotYet     = errors.New("the words haven’t been compared yet")
	errTaken      = errors.New("there is something else under this id")
	errPaused     = errors.New("somebody asks under this person’s address with other keys: settle that first")
)

// Limits.
const (
	mostPeople = 100
	mostAsking = 20 // who wait to be answered
)

// askingFor is how long somebody who asks waits to be answered.
const askingFor = wire.LetterDays * 24 * time.Hour

// personOf reads a peer's entry; ok is false for what is none.
func personOf(e vault.Entry) (p Person, m meeting, ok bool) {
	if e.Type != vault.TypePeer || e.Purged() || json.Unmarshal([]byte(e.Text(vault.FieldMeeting)), &m) != nil {
		return p, m, false
	}
	p = Person{ID: e.ID, Name: e.Text(vault.FieldName), Calls: m.Calls, Email: e.Text(vault.FieldEmail), Words: m.Words}
	p.meeting = m.ID
	if m.Offer != nil {
		p.Keys = m.Offer.Keys
	}
	if text := e.Text(vault.FieldKeys); text != "" && json.Unmarshal([]byte(text), &p.Keys) != nil {
		return p, m, false
	}
	at := e.Fields[vault.FieldMeeting].Stamp.At
	switch ms, err := strconv.ParseInt(e.Text(vault.FieldChecked), 10, 64); {
	case err == nil:
		p.State, at = Checked, ms
	case len(m.Words) > 0:
		p.State = Compare
	case m.Mine:
		p.State = Asked
	case m.Device == "":
		p.State = Asks
	default:
		p.State = Answered
	}
	p.Since = time.UnixMilli(at)
	if p.Name == "" {
		p.Name = m.Calls
	}
	return p, m, true
}

func isOurs(e vault.Entry) bool { return e.Type == vault.TypePeer || e.Type == vault.TypePassed }

// entries are the people's and the notes' entries.
func (h *Household) entries() ([]vault.Entry, error) { return h.Set.Book.Entries(isOurs) }

// People returns everybody, those who were checked first, by name.
func (h *Household) People() ([]Person, error) {
	list, err := h.entries()
	return people(list), err
}

func people(entries []vault.Entry) (out []Person) {
	unread := map[string]int{}
	for _, e := range entries {
		if n, ok := noteOf(e); ok && n.Unread() {
			unread[n.Peer]++
		}
	}
	for _, e := range entries {
		if p, _, ok := personOf(e); ok {
			p.Unread = unread[p.ID]
			out = append(out, p)
		}
	}
	for i, p := range out {
		out[i].Paused = p.State == Checked && slices.ContainsFunc(out, func(o Person) bool { return o.doubts(p) })
		out[i].Again = p.State != Checked && slices.ContainsFunc(out, func(o Person) bool { return p.doubts(o) })
	}
	slices.SortFunc(out, func(a, b Person) int {
		if (a.State == Checked) != (b.State == Checked) {
			if a.State == Checked {
				return -1
			}
			return 1
		}
		return strings.Compare(strings.ToLower(a.Name)+a.ID, strings.ToLower(b.Name)+b.ID)
	})
	return out
}

// Known says who is known, and how far, so that two lists of people can be told apart by it.
func Known(people []Person) string {
	var b strings.Builder
	for _, p := range people {
		fmt.Fprintf(&b, "%s %s %t %x\n", p.ID, p.State, p.Paused, p.Keys.Sign)
	}
	return b.String()
}

// doubts reports whether somebody who isn't checked has the address of somebody who is, and other keys.
func (p Person) doubts(checked Person) bool {
	return p.ID != checked.ID && p.Email == checked.Email && p.State != Checked && checked.State == Checked &&
		len(p.Keys.Sign) > 0 && !p.Keys.Equal(checked.Keys)
}

// Person returns one person. The error is ErrNoPerson.
func (h *Household) Person(id string) (Person, error) {
	list, err := h.People()
	if err != nil {
		return Person{}, err
	}
	i := slices.IndexFunc(list, func(p Person) bool { return p.ID == id })
	if i < 0 {
		return Person{}, ErrNoPerson
	}
	return list[i], nil
}

// Ask asks somebody to be added, by their address.
func (h *Household) Ask(ctx context.Context, email, name string) (id string, err error) {
	address, err := cleanEmail(email)
	if err != nil {
		return "", records.BadInput("email", err)
	}
	if _, own := h.Owner(); address == own {
		return "", records.BadInput("email", errOwnEmail)
	}
	if name = share.CleanName(name); name == "" {
		return "", records.BadInput("name", errName)
	}
	if cloud, _, err := h.Cloud(ctx); cloud == nil {
		return "", errors.Join(err, ErrNoCloud)
	}
	m := meeting{ID: records.NewID(), Mine: true, Device: h.Device}
	id = entryID("peer", m.ID)
	err = h.change(ctx, func(list []vault.Entry, by vault.Stamp) ([]vault.Entry, error) {
		known := people(list)
		if len(known) >= mostPeople {
			return nil, records.BadInput("email", errManyPeople)
		}
		if slices.ContainsFunc(known, func(p Person) bool { return p.Email == address && p.State != Asks }) {
			return nil, records.BadInput("email", errKnown)
		}
		e, err := beginning(address, name, by, m)
		return []vault.Entry{e}, err
	})
	return id, err
}

// maxEmail is the longest e-mail address, in bytes (RFC 5321, section 4.5.3.1.3, and its erratum 1690).
const maxEmail = 254

// cleanEmail brings an address to the form that accounts are known by.
func cleanEmail(s string) (string, error) {
	s = strings.ToLower(strings.TrimSpace(s))
	a, err := mail.ParseAddress(s)
	odd := func(r rune) bool { return !unicode.IsGraphic(r) || unicode.IsSpace(r) }
	if err != nil || a.Address != s || len(s) > maxEmail || strings.ContainsFunc(s, odd) {
		return "", errEmail
	}
	return s, nil
}

// beginning is the entry of somebody with whom a meeting begins.
func beginning(email, name string, by vault.Stamp, m meeting) (vault.Entry, error) {
	c := vault.Changes{vault.FieldEmail: email}
	if name != "" {
		c[vault.FieldName] = name
	}
	if err := m.put(c); err != nil {
		return vault.Entry{}, err
	}
	return vault.New(entryID("peer", m.ID), vault.TypePeer, by, c)
}

// entryID is the id of the entry that stands for something that came under an id of somebody else's choice: whoever
// chooses that can't choose this one, nor that of an entry that is there.
func entryID(kind, id string) string {
	return uuid.NewSHA1(uuid.NameSpaceOID, []byte("redlocket "+kind+" "+id)).String()
}

func (m meeting) put(c vault.Changes) error {
	b, err := json.Marshal(m)
	c[vault.FieldMeeting] = string(b)
	return err
}

// Answer has this device answer somebody who asks. Their name is as they give it, unless another one is given.
func (h *Household) Answer(ctx context.Context, id, name string) error {
	return h.edit(ctx, id, func(p Person, m meeting) (vault.Changes, error) {
		if p.State != Asks {
			return nil, nil
		}
		m.Device = h.Device
		c := vault.Changes{}
		if name = share.CleanName(name); name != "" {
			c[vault.FieldName] = name
		}
		return c, m.put(c)
	})
}

// Same notes that both see the same words: from then on the person is known by these keys. Whoever was known under the
// same address before is known no more, and what was passed with them is with the new one. The master password is
// asked for just before.
func (h *Household) Same(ctx context.Context, id string) error {
	if err := h.Guard.Require(reauth.Trust); err != nil {
		return err
	}
	return h.change(ctx, func(list []vault.Entry, by vault.Stamp) (out []vault.Entry, err error) {
		now, err := find(list, id)
		if err != nil {
			return nil, err
		}
		if now.State != Compare {
			return nil, errNotYet
		}
		to := map[string]string{}
		for _, e := range list {
			switch p, _, ok := personOf(e); {
			case !ok:
				continue
			case p.ID == id:
				e, err = e.With(by, vault.Changes{vault.FieldChecked: strconv.FormatInt(by.At, 10)})
			case p.Email == now.Email:
				to[p.ID] = id
				e, err = e.Discard(by)
			default:
				continue
			}
			if err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		notes, err := moved(list, by, to)
		return append(out, notes...), err
	})
}

// Code is what this screen shows for the other's camera while words wait to be compared.
func (h *Household) Code(id string) (string, error) {
	own, _, err := h.codes(id)
	return own, err
}

func (h *Household) codes(id string) (own, theirs string, err error) {
	p, err := h.Person(id)
	if err != nil {
		return "", "", err
	}
	k, ok := h.identity()
	if !ok || p.State != Compare {
		return "", "", errNotYet
	}
	return share.Code(p.meeting, k.Public(), p.Keys, p.Words), share.Code(p.meeting, p.Keys, k.Public(), p.Words), nil
}

// ReadCode compares what was read from the other's screen. The error is ErrOtherCode, ErrOwnCode or ErrNoCode. Nothing
// is kept of it: the owner says by [Household.Same] that they are sure.
func (h *Household) ReadCode(id, text string) error {
	own, theirs, err := h.codes(id)
	switch {
	case err != nil:
		return err
	case text == own:
		return ErrOwnCode
	case text == theirs:
		return nil
	case share.IsCode(text):
		return ErrOtherCode
	}
	return ErrNoCode
}

// Remove has a person known no more: somebody who asked is refused, somebody whose words were others is dropped, and
// what was passed with somebody who was checked goes too. What waits for them at the cloud is taken back, if it is
// still there.
func (h *Household) Remove(ctx context.Context, id string) error {
	var sent []string
	email, meeting := "", ""
	err := h.change(ctx, func(list []vault.Entry, by vault.Stamp) (out []vault.Entry, err error) {
		p, err := find(list, id)
		if err != nil {
			return nil, err
		}
		email, meeting, sent = p.Email, p.meeting, nil
		return discarded(list, by, func(e vault.Entry) bool {
			n, note := noteOf(e)
			theirs := note && n.Peer == id
			if theirs && n.Mine {
				sent = append(sent, LetterID(e.ID, wire.LetterNote))
			}
			return theirs || e.ID == id
		})
	})
	if err != nil {
		return err
	}
	h.takeBack(ctx, email, append(sent, meeting)...)
	return nil
}

// takeBack drops letters that may wait at the cloud still. Without it they are gone by themselves.
func (h *Household) takeBack(ctx context.Context, email string, ids ...string) {
	cloud, credential, err := h.Cloud(ctx)
	if err != nil || cloud == nil {
		return
	}
	for _, id := range ids {
		_ = cloud.TakeLetterBack(ctx, credential, id, email)
	}
}

// Rename gives a person another name, for the owner of this vault alone.
func (h *Household) Rename(ctx context.Context, id, name string) error {
	if name = share.CleanName(name); name == "" {
		return records.BadInput("name", errName)
	}
	return h.edit(ctx, id, func(Person, meeting) (vault.Changes, error) {
		return vault.Changes{vault.FieldName: name}, nil
	})
}

// NewKeys gives the owner other keys, and asks everybody who was checked again: with the keys of before nobody passes
// them anything any more. The master password is asked for just before.
func (h *Household) NewKeys(ctx context.Context) error {
	if err := h.Guard.Require(reauth.Trust); err != nil {
		return err
	}
	if cloud, _, err := h.Cloud(ctx); cloud == nil {
		return errors.Join(err, ErrNoCloud)
	}
	if err := h.makeIdentity(ctx); err != nil {
		return err
	}
	return h.change(ctx, func(list []vault.Entry, by vault.Stamp) (out []vault.Entry, err error) {
		to := map[string]string{}
		for _, e := range list {
			p, _, ok := personOf(e)
			if !ok || p.State == Asks {
				continue
			}
			fresh, err1 := beginning(p.Email, p.Name, by, meeting{ID: records.NewID(), Mine: true, Device: h.Device})
			old, err2 := e.Discard(by)
			if err := errors.Join(err1, err2); err != nil {
				return nil, err
			}
			out, to[p.ID] = append(out, fresh, old), fresh.ID
		}
		notes, err := moved(list, by, to)
		return append(out, notes...), err
	})
}

// Identity returns the owner's own keys; ok is false while nobody can know them.
func (h *Household) Identity() (own keys.Identity, ok bool) { return h.identity() }

// identity returns the owner's own keys; ok is false if they have none yet.
func (h *Household) identity() (own keys.Identity, ok bool) {
	b, err := hex.DecodeString(h.Set.Book.Profile().Text(vault.FieldIdentity))
	if err != nil || len(b) == 0 {
		return own, false
	}
	own, err = keys.ParseIdentity(b)
	return own, err == nil
}

func (h *Household) makeIdentity(ctx context.Context) error {
	own, err := keys.NewIdentity(h.Rand)
	if err != nil {
		return err
	}
	h.look.Ask() // what waits for it
	return h.Set.Items.Edit(ctx, h.Vault, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FieldIdentity: hex.EncodeToString(own.Bytes())})
	})
}

// Mails says whether the cloud mails that something waits. The error is that of the line.
func (h *Household) Mails(ctx context.Context) (on bool, err error) {
	cloud, credential, err := h.Cloud(ctx)
	if err != nil || cloud == nil {
		return false, errors.Join(err, ErrNoCloud)
	}
	return cloud.LetterMail(ctx, credential)
}

// SetMails says whether it may.
func (h *Household) SetMails(ctx context.Context, on bool) error {
	cloud, credential, err := h.Cloud(ctx)
	if err != nil || cloud == nil {
		return errors.Join(err, ErrNoCloud)
	}
	return cloud.SetLetterMail(ctx, credential, on)
}

func find(list []vault.Entry, id string) (Person, error) {
	for _, p := range people(list) {
		if p.ID == id {
			return p, nil
		}
	}
	return Person{}, ErrNoPerson
}

// discarded are those of some entries of which something is true, deleted for good.
func discarded(list []vault.Entry, by vault.Stamp, is func(vault.Entry) bool) (out []vault.Entry, err error) {
	for _, e := range list {
		if !is(e) {
			continue
		}
		if e, err = e.Discard(by); err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// moved are the notes that were passed with somebody who takes another person's place: to says whose.
func moved(list []vault.Entry, by vault.Stamp, to map[string]string) (out []vault.Entry, err error) {
	for _, e := range list {
		n, ok := noteOf(e)
		if !ok || to[n.Peer] == "" {
			continue
		}
		if e, err = e.With(by, vault.Changes{vault.FieldPeer: to[n.Peer]}); err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// edit changes a person's entry.
func (h *Household) edit(
	ctx context.Context, id string, fn func(Person, meeting) (vault.Changes, error),
) error {
	return h.change(ctx, func(list []vault.Entry, by vault.Stamp) ([]vault.Entry, error) {
		i := slices.IndexFunc(list, func(e vault.Entry) bool { return e.ID == id })
		if i < 0 {
			return nil, ErrNoPerson
		}
		_, m, ok := personOf(list[i])
		if !ok {
			return nil, ErrNoPerson
		}
		p, err := find(list, id)
		if err != nil {
			return nil, err
		}
		c, err := fn(p, m)
		if err != nil || len(c) == 0 {
			return nil, err
		}
		e, err := list[i].With(by, c)
		return []vault.Entry{e}, err
	})
}

// change writes what becomes of people and notes, in one transaction; what is to go out goes then.
func (h *Household) change(
	ctx context.Context, plan func(list []vault.Entry, by vault.Stamp) ([]vault.Entry, error),
) error {
	err := h.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
		var list []vault.Entry
		for _, e := range all {
			if isOurs(e) {
				list = append(list, e)
			}
		}
		next, err := plan(list, h.Set.Items.Stamp())
		for _, e := range next {
			if was, ok := all[e.ID]; ok && !isOurs(was) {
				return nil, errTaken
			}
		}
		return next, err
	}, nil)
	if err != nil {
		return err
	}
	h.look.Ask()
	h.Changed()
	h.Nudge()
	return nil
}

// Heard has the next run look at what waits at the cloud.
func (h *Household) Heard() { h.look.Ask() }

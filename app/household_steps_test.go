package app_test

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"redlocket/app"
	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// postbox is a cloud with somebody at its other end, who answers at once.
type postbox struct {
	mu     sync.Mutex
	other  keys.Identity
	meets  *share.Answerer
	waits  map[string]wire.Letter
	silent bool // it takes what it is handed, and answers nothing
}

func newPostbox() (*postbox, error) {
	other, err := keys.NewIdentity(rand.Reader)
	return &postbox{other: other, waits: map[string]wire.Letter{}}, err
}

func (p *postbox) PutLetter(_ context.Context, _, _ string, in wire.NewLetter) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.silent {
		return nil
	}
	switch in.Kind {
	case wire.LetterOffer:
		var o share.Offer
		if err := json.Unmarshal(in.Body, &o); err != nil || p.meets != nil {
			return err
		}
		var err error
		if p.meets, err = share.NewAnswerer(rand.Reader, o, p.other.Public()); err != nil {
			return err
		}
		b, err := json.Marshal(p.meets.Answer("Idris"))
		id := household.LetterID(o.Meeting, wire.LetterAnswer)
		p.waits[id] = wire.Letter{ID: id, Kind: wire.LetterAnswer, From: in.To, Body: b}
		return err
	case wire.LetterReveal:
		var r share.Reveal
		if err := json.Unmarshal(in.Body, &r); err != nil {
			return err
		}
		return p.meets.Take(r)
	}
	return nil
}

// pass has the other one pass a note.
func (p *postbox) pass(n share.Note) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	id := records.NewID()
	b, err := n.Seal(p.other, p.meets.Offer.Keys, id)
	p.waits[id] = wire.Letter{ID: id, Kind: wire.LetterNote, Body: b}
	return err
}

func (p *postbox) Letters(context.Context, string) (list []wire.Letter, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.waits {
		l.Body = nil
		list = append(list, l)
	}
	return list, nil
}

func (p *postbox) Letter(_ context.Context, _, id string) (wire.Letter, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	l, ok := p.waits[id]
	if !ok {
		return l, syncing.ErrOver
	}
	return l, nil
}

func (p *postbox) RemoveLetter(_ context.Context, _, id string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.waits, id)
	return nil
}

func (*postbox) TakeLetterBack(context.Context, string, string, string) error { return nil }
func (*postbox) LetterMail(context.Context, string) (bool, error)             { return true, nil }
func (*postbox) SetLetterMail(context.Context, string, bool) error            { return nil }

// householdAt is a vault's household with another cloud than its own.
func householdAt(v *app.Vault, cloud household.Cloud) *household.Household {
	p := v.Profile()
	return household.Open(household.Config{
		Set: v.Set, Device: p.Device, Vault: p.Vault, Guard: v.Guard, Now: time.Now, Rand: rand.Reader,
		Owner:   func() (string, string) { return p.Name, p.Email },
		Cloud:   func(context.Context) (household.Cloud, string, error) { return cloud, "", nil },
		Changed: func() {}, Nudge: func() {}, Beside: func(do func()) { do() },
	})
}

// knowPeople adds somebody, compares, passes, is passed something, keeps it, and takes them off.
func knowPeople(ctx context.Context, b *bench) error {
	post, err := newPostbox()
	if err != nil {
		return err
	}
	h := householdAt(b.v, post)
	known, err := h.People()
	if err != nil {
		return err
	}
	for _, p := range known { // of a time that ended in the middle
		if err := h.Remove(ctx, p.ID); err != nil {
			return err
		}
	}
	collect := func() error { return h.Collect(ctx) }
	id, err := h.Ask(ctx, "idris@harbour.example", "Idris")
	if err = errors.Join(err, collect(), collect(), collect()); err != nil {
		return err
	}
	if met, err := h.Person(id); err != nil || met.State != household.Compare {
		return errors.Join(err, errors.New("they didn’t meet"))
	}
	b.v.Guard.Given()
	if err := h.Same(ctx, id); err != nil {
		return err
	}
	_, err = h.Pass(ctx, id, household.Passing{Text: "for you", Item: b.id})
	if err = errors.Join(err, collect()); err != nil {
		return err
	}
	e, err := vault.New("x", vault.TypeNote, vault.Stamp{At: 1}, vault.Changes{vault.FieldTitle: "Passed " + b.unknown()})
	if err != nil {
		return err
	}
	thing, err := share.ThingOf(e)
	if err = errors.Join(err, post.pass(share.Note{At: time.Now().UnixMilli(), Thing: &thing})); err != nil {
		return err
	}
	if err := errors.Join(collect(), collect()); err != nil {
		return err
	}
	unread, err := h.Unread()
	if err != nil || len(unread) != 1 {
		return errors.Join(err, errors.New("nothing came"))
	}
	_, _, err1 := h.Read(ctx, unread[0].ID)
	_, err2 := h.Keep(ctx, unread[0].ID)
	err3 := h.Forget(ctx, unread[0].ID)
	return errors.Join(err1, err2, err3, h.Rename(ctx, id, "Idris"), h.Remove(ctx, id))
}

func keptWhatWasPassed(_ context.Context, b *bench) bool {
	return len(titled(b.t, b.v, "Passed "+b.unknown())) > 0
}

package app_test

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"redlocket/app/helping"
	"redlocket/core/keys"
	"redlocket/core/share"
	"redlocket/core/wire"
)

// handHall keeps one helping hand, for a vault whose owner is their own helper here.
type handHall struct {
	mu   sync.Mutex // guards what follows
	hand wire.NewHand
	held bool
	asks []wire.Help
}

func (h *handHall) SetHand(_ context.Context, _ string, _ keys.Key, in wire.NewHand) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.hand, h.held = in, false
	return nil
}

func (h *handHall) Hand(context.Context, string) (out wire.Hand, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	out.Hand = h.hand.Hand
	for _, a := range h.asks {
		out.Asked = append(out.Asked, wire.HelpSeen{ID: a.ID})
	}
	return out, nil
}

func (h *handHall) StopHelp(context.Context, string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.asks = nil
	return nil
}

func (h *handHall) HeldHands(context.Context, string) ([]wire.HeldHand, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.hand.Hand == "" {
		return nil, nil
	}
	out := wire.HeldHand{Hand: h.hand.Hand, Of: h.hand.Helpers[0].Address, Asked: append([]wire.Help{}, h.asks...)}
	if !h.held {
		out.Part = h.hand.Helpers[0].Part
	}
	return []wire.HeldHand{out}, nil
}

func (h *handHall) HoldsHand(context.Context, string, string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.held = true
	return nil
}

func (h *handHall) Help(context.Context, string, string, string, wire.Help) error { return nil }

// helpOut is a use case for the steps' test.
func helpOut(ctx context.Context, b *bench) error {
	own, err1 := keys.NewIdentity(rand.Reader)
	seeker, err2 := keys.NewSeeker("maren@cormorant.example", rand.Reader)
	code, err3 := keys.NewCode(rand.Reader)
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	g := &guest{v: b.v, own: own, name: "maren", address: "maren@cormorant.example"}
	g.know(g)
	hall := &handHall{asks: []wire.Help{{ID: "asks", PublicKey: seeker.Hello()}}}
	h := helping.Open(helping.Config{
		Set: b.v.Set, Vault: b.v.Profile().Vault, People: g, Guard: b.v.Guard, Now: time.Now, Rand: rand.Reader,
		Cloud:   func(context.Context) (helping.Cloud, string, error) { return hall, "credential", nil },
		Changed: func() {}, Nudge: func() {}, Beside: func(f func()) { f() },
	})
	if err := h.Arrange(ctx, []string{"of maren"}, share.Rule{Need: 1}, code, keys.Key{}); err != nil {
		return err
	}
	if err := h.Collect(ctx); err != nil {
		return err
	}
	h.InStep(ctx)
	_, _, err1 = h.Own(nil)
	list, err2 := h.Held()
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(h helping.Held) bool { return h.Asks > 0 }) // others are of courses before
	if i < 0 {
		return errors.New("the part isn't there")
	}
	id := list[i].ID
	b.v.Guard.Given()
	if _, err := h.Help(ctx, id, strings.Join(seeker.Words(), " ")); err != nil {
		return err
	}
	b.v.Guard.Given()
	return errors.Join(
		h.TakeBack(ctx, id), h.Stop(ctx), h.Renew(ctx, code, keys.Key{}), h.Drop(ctx, id),
		h.End(ctx, keys.Key{}),
	)
}

package app

import (
	"context"
	"encoding/hex"
	"errors"
	"strings"
	"sync"

	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/wire"
)

// Introduction is how a new device gets the carried half from one that has it, as the new
// device sees it.
type Introduction struct {
	ID    string
	Words []string // to be typed on the old device

	email, cloudURL string
	secret          string
	cloud           Cloud
	joiner          *keys.Joiner
	answer          *keys.Introduction
}

// introductions are those that this device waits for.
type introductions struct {
	mu      sync.Mutex // guards waiting, and the answers in it
	waiting map[string]*Introduction
}

// mostIntroductions bounds how many are waited for: more are abandoned ones.
const mostIntroductions = 20

func (l *introductions) add(a *Introduction) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.waiting) > mostIntroductions {
		clear(l.waiting)
	}
	l.waiting[a.ID] = a
}

// get returns a copy of what is known of an introduction.
func (l *introductions) get(id string) (Introduction, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	a, ok := l.waiting[id]
	if !ok {
		return Introduction{}, false
	}
	return *a, true
}

func (l *introductions) answered(id string, in keys.Introduction) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if a, ok := l.waiting[id]; ok {
		a.answer = &in
	}
}

func (l *introductions) end(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.waiting, id)
}

// BeginIntroduction makes a fresh key, whose words the person types on a device that has the
// vault.
func (d *Device) BeginIntroduction(ctx context.Context, email, cloudURL string) (*Introduction, error) {
	cloud, err := d.ports.Dial(cloudURL)
	if err != nil {
		return nil, records.BadInput("cloud", err)
	}
	j, err := keys.NewJoiner()
	if err != nil {
		return nil, err
	}
	email = strings.ToLower(strings.TrimSpace(email))
	in, err := cloud.NewIntroduction(ctx, wire.NewIntroduction{Email: email, PublicKey: j.PublicKey()})
	if err != nil {
		return nil, records.BadInput("email", err)
	}
	a := &Introduction{
		ID: in.ID, Words: keys.Fingerprint(j.PublicKey()), email: email, cloudURL: cloudURL, secret: in.Secret,
		cloud: cloud, joiner: j,
	}
	d.introductions.add(a)
	return a, nil
}

// errOtherAnswer is returned for an answer that was sealed for another key.
var errOtherAnswer = errors.New("the answer wasn't meant for this computer; start again")

// IntroductionAnswered asks whether the other device has answered, and returns the
// introduction. The error is syncing.ErrNotReady while it has not.
func (d *Device) IntroductionAnswered(ctx context.Context, id string) (*Introduction, error) {
	a, ok := d.introductions.get(id)
	if !ok {
		return nil, syncing.ErrOver
	}
	if a.answer != nil {
		return &a, nil
	}
	sealed, err := a.cloud.IntroductionAnswer(ctx, a.ID, a.secret)
	if err != nil {
		return &a, err
	}
	in, err := a.joiner.Open(sealed)
	if err != nil {
		return &a, errOtherAnswer
	}
	d.introductions.answered(id, in)
	a.answer = &in
	return &a, nil
}

// Introduce hands the carried half to the new device whose words were typed. The master
// password is asked for first.
func (a *Account) Introduce(ctx context.Context, words string) error {
	if err := a.vault.Guard.Require(reauth.Introduce); err != nil {
		return err
	}
	p, cloud := a.vault.Profile(), a.at()
	if cloud == nil {
		return errOnlyHere
	}
	token, err := a.vault.Sync.Token(ctx)
	if err != nil {
		return err
	}
	// What is told as the floor must be what the cloud has.
	if err := a.vault.Sync.Sync(ctx); err != nil {
		return err
	}
	waiting, err := cloud.Introductions(ctx, token)
	if err != nil {
		return err
	}
	checkpoint, err := a.vault.Replica.Checkpoint()
	if err != nil {
		return err
	}
	head, _ := checkpoint.Head.MarshalText()
	in := keys.Introduction{
		Carried: p.Carried, VaultID: p.Vault, Head: checkpoint.Number, HeadHash: string(head),
		Seed: hex.EncodeToString(p.Seed),
	}
	for _, w := range waiting {
		sealed, err := keys.Introduce(w.PublicKey, words, in)
		if errors.Is(err, keys.ErrWords) {
			continue
		}
		if err != nil {
			return err
		}
		return cloud.AnswerIntroduction(ctx, token, w.ID, sealed)
	}
	return records.BadInput("words", keys.ErrWords)
}

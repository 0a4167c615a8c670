package app

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"slices"
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

// BeginIntroduction makes a fresh key and words, which the person types on a device that has the vault.
func (d *Device) BeginIntroduction(ctx context.Context, email, cloudURL string) (*Introduction, error) {
	cloud, err := d.ports.Dial(cloudURL)
	if err != nil {
		return nil, records.BadInput("cloud", err)
	}
	email = strings.ToLower(strings.TrimSpace(email))
	j, err := keys.NewJoiner(email, d.ports.Rand)
	if err != nil {
		return nil, err
	}
	in, err := cloud.NewIntroduction(ctx, wire.NewIntroduction{Email: email, PublicKey: j.Hello()})
	if err != nil {
		return nil, records.BadInput("email", err)
	}
	a := &Introduction{
		ID: in.ID, Words: j.Words(), email: email, cloudURL: cloudURL, secret: in.Secret,
		cloud: cloud, joiner: j,
	}
	d.introductions.add(a)
	return a, nil
}

// The ends of an introduction that went wrong. It can't be answered again.
var (
	errOtherAnswer = errors.New("the answer doesn’t come from where these words were typed: somebody may have tried " +
		"to put one of their own in between. Nothing was sent; start again")
	errStopped = errors.New("other words were typed on your other computer, so this was ended; start again")
)

// stopped is the answer that says that an introduction was ended. Anybody can say so: it only ends one.
var stopped = []byte{0}

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
	sealed, err := a.cloud.IntroductionAnswer(ctx, a.email, a.ID, a.secret)
	if err != nil {
		return &a, err
	}
	in, err := a.joiner.Open(sealed)
	if err != nil {
		d.introductions.end(id)
		if bytes.Equal(sealed, stopped) {
			return &a, errStopped
		}
		return &a, errOtherAnswer
	}
	d.introductions.answered(id, in)
	a.answer = &in
	return &a, nil
}

// errWrongWords is returned for words of the list that are of no device that waits.
var errWrongWords = errors.New("no device that waits shows these words. What waited was ended, so that nobody can " +
	"try again: start again on the new computer")

// errNobodyWaits is returned where no device waits to be let in.
var errNobodyWaits = errors.New("no new device is waiting: choose “Show the words” there first")

// Joiners are the new devices that wait to be let in by this one.
type Joiners struct {
	vault *Vault

	mu    sync.Mutex        // guards ended
	ended map[[32]byte]bool // what was answered or ended, by the hash of what was left for it
}

// Introduce hands the carried half to the new device whose words were typed. The master
// password is asked for first. Wrong words end whatever waits.
func (j *Joiners) Introduce(ctx context.Context, words string) error {
	if err := j.vault.Guard.Require(reauth.Introduce); err != nil {
		return err
	}
	p, cloud := j.vault.Profile(), j.vault.Account.at()
	if cloud == nil {
		return errOnlyHere
	}
	typed, err := keys.NewIntroducer(p.Email, words)
	if err != nil {
		return records.BadInput("words", err)
	}
	credential, err := j.vault.Sync.Credential(ctx)
	if err != nil {
		return err
	}
	// What is told as the floor must be what the cloud has.
	if err := j.vault.Sync.Sync(ctx); err != nil {
		return err
	}
	waiting, err := cloud.Introductions(ctx, credential)
	if err != nil {
		return err
	}
	if waiting = j.notEnded(waiting); len(waiting) == 0 {
		return records.BadInput("words", errNobodyWaits)
	}
	checkpoint, err := j.vault.Replica.Checkpoint()
	if err != nil {
		return err
	}
	head, _ := checkpoint.Head.MarshalText()
	in := keys.Introduction{
		Carried: p.Carried, Params: p.Params, Wrapped: p.Wrapped, Ring: p.Ring, VaultID: p.Vault,
		Head: checkpoint.Number, HeadHash: string(head), Seed: hex.EncodeToString(p.Seed),
	}
	for _, w := range waiting {
		sealed, err := typed.Introduce(w.PublicKey, in)
		if errors.Is(err, keys.ErrWords) {
			continue
		}
		if err != nil {
			return err
		}
		j.end(w)
		return cloud.AnswerIntroduction(ctx, credential, w.ID, sealed)
	}
	for _, w := range waiting {
		j.end(w)
		_ = cloud.AnswerIntroduction(ctx, credential, w.ID, stopped) // if it doesn't hear of it, it waits for nothing
	}
	return records.BadInput("words", errWrongWords)
}

// notEnded leaves out what was answered or ended here. A cloud that shows it again, under whatever id, gets no second
// guess at its words.
func (j *Joiners) notEnded(list []wire.Introduction) []wire.Introduction {
	j.mu.Lock()
	defer j.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(list), func(w wire.Introduction) bool {
		return j.ended[sha256.Sum256(w.PublicKey)]
	})
}

func (j *Joiners) end(w wire.Introduction) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.ended == nil {
		j.ended = map[[32]byte]bool{}
	}
	j.ended[sha256.Sum256(w.PublicKey)] = true
}

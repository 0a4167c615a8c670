package app

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Join is what a person gives to bring their vault to this computer.
type Join struct {
	Email, Cloud string
	Password     secret.Text
	Carried      string // as typed or pasted from the sheet; empty with an Arrival
	Arrival      string // id of an answered introduction; empty with Carried
	DeviceName   string
}

// Join brings a vault to this computer from its cloud. It comes back open and
// complete, or not at all.
func (d *Device) Join(ctx context.Context, j Join) (*Vault, error) {
	var carried keys.Code
	var intro keys.Introduction
	if j.Arrival != "" {
		a, ok := d.arrival(j.Arrival)
		if !ok || a.answer == nil {
			return nil, ErrOver
		}
		intro = *a.answer
		carried = keys.Code(intro.Carried)
		j.Email, j.Cloud = a.email, a.cloudURL
	} else {
		var err error
		if carried, err = keys.ParseCode(j.Carried, keys.Carried); err != nil {
			return nil, badInput("carried", err)
		}
	}
	j.Email = strings.ToLower(strings.TrimSpace(j.Email))
	cloud, err := d.p.Dial(j.Cloud)
	if err != nil {
		return nil, badInput("cloud", err)
	}
	params, err := cloud.Params(ctx, j.Email)
	if err != nil {
		return nil, badInput("email", err)
	}
	stretched, err := keys.Stretch(j.Password, params)
	if err != nil {
		return nil, badInput("password", err)
	}
	pair := keys.Derive(stretched, carried)
	card := Profile{
		ID: uuid.NewString(), Email: j.Email, Device: uuid.NewString(), DeviceName: deviceName(j.DeviceName),
		Cloud: j.Cloud, Params: params, Carried: carried[:],
	}
	session, err := cloud.SignIn(ctx, wire.SignIn{Email: j.Email, Device: card.Device, Key: pair.SignIn[:]})
	if err != nil {
		return nil, badInput("password", err)
	}
	card.Vault, card.Wrapped = session.Vault, session.Wrapped
	if j.Arrival != "" && intro.VaultID != card.Vault {
		return nil, errors.New("the cloud offers another vault than your other device has; nothing was brought here")
	}
	if err := d.notHere(ctx, card.Vault); err != nil {
		return nil, err
	}
	vk, err := keys.Unwrap(pair.Unlock, keys.ByMaster, card.Vault, card.Wrapped)
	if err != nil {
		return nil, badInput("password", errors.New("the cloud's copy of the vault key doesn't open with this master password and carried half"))
	}
	v := d.newVault(card, vk)
	v.cloud = cloud
	if j.Arrival != "" {
		v.stand.Floor = intro.Head
		if err := v.stand.FloorHash.UnmarshalText([]byte(intro.HeadHash)); err != nil {
			return nil, err
		}
	}
	if err := d.fetchAll(ctx, v, session.Token, pair.SignIn[:]); err != nil {
		return nil, err
	}
	d.endArrival(j.Arrival)
	v.start()
	return v, nil
}

// notHere refuses a second copy of one vault on one computer.
func (d *Device) notHere(ctx context.Context, vaultID string) error {
	cards, err := d.Profiles(ctx)
	if err != nil {
		return err
	}
	for _, c := range cards {
		if c.Vault == vaultID {
			return badInput("email", fmt.Errorf("this vault is on this computer already: choose %s on the front page", c.Name))
		}
	}
	return nil
}

// fetchAll pulls and verifies the whole vault and sets up the profile with it.
func (d *Device) fetchAll(ctx context.Context, v *Vault, token string, signIn []byte) error {
	changes, err := v.cloud.Changes(ctx, token, 0)
	if err != nil {
		return err
	}
	return d.install(ctx, v, func(s Store) error {
		v.store = s
		if err := v.take(ctx, 0, changes); err != nil {
			return err
		}
		if err := v.readProfile(); err != nil {
			return err
		}
		return errors.Join(
			s.SetProfile(ctx, v.card),
			v.setLocal(ctx, s, localToken, []byte(token)),
			v.setLocal(ctx, s, localSignIn, signIn),
			v.putOwn(ctx, s, false),
		)
	})
}

// readProfile takes the person's name and the medallion's seed from the vault.
func (v *Vault) readProfile() error {
	h, ok := v.entries[v.card.Vault]
	if !ok || h.entry.Type != vault.TypeProfile {
		return &ledger.Fault{Kind: ledger.Incomplete, Detail: "the vault's own record is missing"}
	}
	v.card.Name = h.entry.Text(vault.FieldName)
	seed, err := hex.DecodeString(h.entry.Text(vault.FieldSeed))
	v.card.Seed = seed
	return err
}

// Introduction is an introduction as the new device sees it.
type Introduction struct {
	ID    string
	Words []string // to be typed on the old device

	email, cloudURL string
	secret          string
	cloud           Cloud
	newcomer        *keys.Joiner
	answer          *keys.Introduction
}

// BeginIntroduction begins an introduction: a fresh key, whose words the person types on a
// device that has the vault.
func (d *Device) BeginIntroduction(ctx context.Context, email, cloudURL string) (*Introduction, error) {
	cloud, err := d.p.Dial(cloudURL)
	if err != nil {
		return nil, badInput("cloud", err)
	}
	n, err := keys.NewJoiner()
	if err != nil {
		return nil, err
	}
	email = strings.ToLower(strings.TrimSpace(email))
	in, err := cloud.NewIntroduction(ctx, wire.NewIntroduction{Email: email, PublicKey: n.PublicKey()})
	if err != nil {
		return nil, badInput("email", err)
	}
	a := &Introduction{ID: in.ID, Words: keys.Fingerprint(n.PublicKey()), email: email, cloudURL: cloudURL, secret: in.Secret, cloud: cloud, newcomer: n}
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.waiting) > 20 { // abandoned ones
		clear(d.waiting)
	}
	d.waiting[a.ID] = a
	return a, nil
}

func (d *Device) arrival(id string) (*Introduction, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	a, ok := d.waiting[id]
	return a, ok
}

func (d *Device) endArrival(id string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.waiting, id)
}

// IntroductionAnswered asks whether the other device has answered, and returns the arrival.
// The error is ErrNotReady while it has not.
func (d *Device) IntroductionAnswered(ctx context.Context, id string) (*Introduction, error) {
	a, ok := d.arrival(id)
	if !ok {
		return nil, ErrOver
	}
	if a.answer != nil {
		return a, nil
	}
	sealed, err := a.cloud.IntroductionAnswer(ctx, a.ID, a.secret)
	if err != nil {
		return a, err
	}
	in, err := a.newcomer.Open(sealed)
	if err != nil {
		return a, errors.New("the answer wasn't meant for this computer; start again")
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	a.answer = &in
	return a, nil
}

// Introduce hands the carried half to the new device whose words were typed.
func (v *Vault) Introduce(ctx context.Context, words string) error {
	card := v.Profile()
	if card.Cloud == "" {
		return errors.New("this vault is on this computer only: join a cloud first")
	}
	token, err := v.token(ctx)
	if err != nil {
		return err
	}
	// What is told as the floor must be what the cloud has.
	if err := v.Sync(ctx); err != nil {
		return err
	}
	waiting, err := v.cloud.Introductions(ctx, token)
	if err != nil {
		return err
	}
	v.mu.RLock()
	stand := v.stand
	v.mu.RUnlock()
	head, _ := stand.Head.MarshalText()
	in := keys.Introduction{Carried: card.Carried, VaultID: card.Vault, Head: stand.Number, HeadHash: string(head), Seed: hex.EncodeToString(card.Seed)}
	for _, w := range waiting {
		sealed, err := keys.Introduce(w.PublicKey, words, in)
		if errors.Is(err, keys.ErrWords) {
			continue
		}
		if err != nil {
			return err
		}
		return v.cloud.AnswerIntroduction(ctx, token, w.ID, sealed)
	}
	return badInput("words", keys.ErrWords)
}

// KnownDevice is a device of the vault, as this one knows it.
type KnownDevice struct {
	ID, Name, Platform string
	Added              time.Time
	Seen               time.Time // by the cloud's word; zero if it doesn't say
	This               bool
	SignedIn           bool // the cloud still takes its session
}

// Devices lists the vault's devices, this one first. Without the cloud it knows
// names only; away is then true.
func (v *Vault) Devices(ctx context.Context) (list []KnownDevice, away bool, err error) {
	if err := v.wait(); err != nil {
		return nil, false, err
	}
	v.mu.RLock()
	if v.seal == nil {
		v.mu.RUnlock()
		return nil, false, ErrLocked
	}
	card, cloud := v.card, v.cloud
	for id, h := range v.entries {
		if h.entry.Type == vault.TypeDevice {
			list = append(list, KnownDevice{ID: id, Name: h.entry.Text(vault.FieldName), Platform: h.entry.Text(vault.FieldPlatform), Added: time.UnixMilli(h.entry.Created), This: id == card.Device})
		}
	}
	v.mu.RUnlock()
	if cloud != nil {
		token, err := v.token(ctx)
		if err != nil {
			return nil, false, err
		}
		seen, err := cloud.Devices(ctx, token)
		away = err != nil
		for _, s := range seen {
			if i := slices.IndexFunc(list, func(k KnownDevice) bool { return k.ID == s.ID }); i >= 0 {
				list[i].Seen, list[i].SignedIn = time.UnixMilli(s.Seen), true
			}
		}
	}
	slices.SortFunc(list, func(a, b KnownDevice) int {
		if a.This != b.This {
			if a.This {
				return -1
			}
			return 1
		}
		return a.Added.Compare(b.Added)
	})
	return list, away, nil
}

// ShutOut ends a device's session at the cloud: it gets nothing new from then on.
func (v *Vault) ShutOut(ctx context.Context, device string) error {
	if device == v.Profile().Device {
		return errors.New("this is the computer you are at")
	}
	token, err := v.token(ctx)
	if err != nil {
		return err
	}
	return v.cloud.EndDevice(ctx, token, device)
}

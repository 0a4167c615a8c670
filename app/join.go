package app

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"redlocket/app/records"
	"redlocket/app/syncing"
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
	Carried      string // as typed or pasted from the sheet; empty with an introduction
	Introduction string // id of an answered introduction; empty with Carried
	DeviceName   string
}

// The errors of joining.
var (
	errOtherVault  = errors.New("the cloud offers another vault than your other device has; nothing was brought here")
	errJoinCopyKey = errors.New(
		"the cloud's copy of the vault key doesn't open with this master password and carried half",
	)
)

// Join brings a vault to this computer from its cloud. It comes back open and
// complete, or not at all.
func (d *Device) Join(ctx context.Context, j Join) (*Vault, error) {
	carried, intro, err := d.carriedFor(&j)
	if err != nil {
		return nil, err
	}
	j.Email = strings.ToLower(strings.TrimSpace(j.Email))
	cloud, err := d.ports.Dial(j.Cloud)
	if err != nil {
		return nil, records.BadInput("cloud", err)
	}
	p := Profile{
		ID: uuid.NewString(), Email: j.Email, Device: uuid.NewString(), DeviceName: d.deviceName(j.DeviceName),
		Cloud: j.Cloud, Carried: carried[:], EpochAt: d.ports.Now().UnixMilli(),
	}
	var pair keys.Pair
	var ring keys.Ring
	if intro != nil { // what opens the vault is known here: nothing is sent with a wrong master password
		o, err := d.openIntroduced(j, intro)
		if err != nil {
			return nil, err
		}
		pair, ring = o.pair, o.ring
		p.Vault, p.Params, p.Wrapped, p.Ring = intro.VaultID, intro.Params, intro.Wrapped, intro.Ring
	} else {
		if p.Params, err = cloud.Params(ctx, j.Email); err != nil {
			return nil, records.BadInput("email", err)
		}
		stretched, err := keys.Stretch(j.Password, p.Params)
		if err != nil {
			return nil, records.BadInput("password", err)
		}
		pair = keys.Derive(stretched, carried)
	}
	session, err := cloud.SignIn(ctx, pair.SignIn, wire.SignIn{Email: j.Email, Device: p.Device})
	if err != nil {
		return nil, records.BadInput("password", err)
	}
	var from records.Checkpoint
	if intro != nil {
		if session.Vault != p.Vault {
			return nil, errOtherVault
		}
		from.Floor = intro.Head
		if err := from.FloorHash.UnmarshalText([]byte(intro.HeadHash)); err != nil {
			return nil, err
		}
	} else {
		p.Vault, p.Wrapped = session.Vault, session.Wrapped
		key, _, err := pair.Open(p.Vault, p.Wrapped)
		if err != nil {
			return nil, records.BadInput("password", errJoinCopyKey)
		}
		if key.Epoch == 1 { // the vault's own record has the slots
			ring = keys.NewRing(key.Key)
			p.Ring, err = ring.Seal(d.ports.Rand, p.Vault, keys.Kept{Carried: carried})
		} else {
			ring, _, err = ringOf(ctx, &p, key, cloud, session.Credential)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := d.notHere(ctx, p.Vault); err != nil {
		return nil, err
	}
	s, err := d.fetchAll(ctx, cloud, &p, ring, from, session.Credential, nil)
	if err != nil {
		return nil, err
	}
	d.introductions.end(j.Introduction)
	return d.openVault(ctx, s, p, ring, &pair)
}

// openIntroduced opens the vault key that came with an introduction. Wrong master passwords are counted and slowed
// down, as at a vault that is here.
func (d *Device) openIntroduced(j Join, intro *keys.Introduction) (o opened, err error) {
	o, err = d.unwrap(Profile{
		ID: "introduction " + j.Introduction, Vault: intro.VaultID, Params: intro.Params, Carried: intro.Carried,
		Wrapped: intro.Wrapped, Ring: intro.Ring,
	}, j.Password)
	if err != nil {
		err = records.BadInput("password", err)
	}
	return o, err
}

// carriedFor returns the carried half that a person typed, or that another device handed over;
// that one says what else it knows of the vault.
func (d *Device) carriedFor(j *Join) (carried keys.Code, intro *keys.Introduction, err error) {
	if j.Introduction == "" {
		if carried, err = keys.ParseCode(j.Carried, keys.Carried); err != nil {
			return carried, nil, records.BadInput("carried", err)
		}
		return carried, nil, nil
	}
	a, ok := d.introductions.get(j.Introduction)
	if !ok || a.answer == nil {
		return carried, nil, syncing.ErrOver
	}
	j.Email, j.Cloud = a.email, a.cloudURL
	return keys.Code(a.answer.Carried), a.answer, nil
}

// notHere refuses a second copy of one vault on one computer.
func (d *Device) notHere(ctx context.Context, vaultID string) error {
	profiles, err := d.Profiles(ctx)
	if err != nil {
		return err
	}
	for _, p := range profiles {
		if p.Vault == vaultID {
			return records.BadInput("email",
				fmt.Errorf("this vault is on this computer already: choose %s on the front page", p.Name))
		}
	}
	return nil
}

// fetchAll pulls and verifies the whole vault and sets up the profile with it.
func (d *Device) fetchAll(
	ctx context.Context, cloud Cloud, p *Profile, ring keys.Ring, from records.Checkpoint, credential string,
	ready func(own vault.Entry) error,
) (Store, error) {
	return d.stores.create(ctx, p.ID, func(s Store) error {
		set := records.NewEmpty(d.setConfig(*p, s, ring), from)
		since, err := set.Replica.Since(ring)
		if err != nil {
			return err
		}
		changes, err := cloud.Changes(ctx, credential, since)
		if err != nil {
			return err
		}
		if _, err := set.Replica.Merge(ctx, syncing.Pulled(since, changes)); err != nil {
			return err
		}
		if err := p.read(set.Book.Profile()); err != nil {
			return err
		}
		if ready != nil {
			if err := ready(set.Book.Profile()); err != nil {
				return err
			}
		}
		own, err := d.deviceEntry(ctx, *p, set)
		if err != nil {
			return err
		}
		return errors.Join(
			s.SetProfile(ctx, *p),
			syncing.KeepCredential(ctx, set.Local, credential),
			set.Replica.SetUp(ctx, own),
		)
	})
}

// read takes the person's name and the medallion's seed from the vault's own record.
func (p *Profile) read(e vault.Entry) error {
	if e.Type != vault.TypeProfile {
		return &ledger.Fault{Kind: ledger.Incomplete, Detail: "the vault's own record is missing"}
	}
	p.Name = e.Text(vault.FieldName)
	var c card
	if json.Unmarshal([]byte(e.Text(vault.FieldCard)), &c) == nil &&
		keys.WrappedEpoch(c.Wrapped) == keys.WrappedEpoch(p.Wrapped) && len(c.Ring) > 0 {
		p.Ring = c.Ring // it has the slots, and those of now
	}
	at := e.Fields[vault.FieldCard].Stamp // what this device was let in with is as new
	p.CardAt, p.CardBy = at.At, at.By
	seed, err := hex.DecodeString(e.Text(vault.FieldSeed))
	p.Seed = seed
	return err
}

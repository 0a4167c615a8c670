package app

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"sync"
	"time"

	"redlocket/app/helping"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/wire"
)

// Helpers are who is to help whoever owns a vault, should they lose both the master password and the recovery sheet.
type Helpers struct {
	Peers    []string // ids of people who were checked
	Need     int      // how many of them together; one alone waits
	Code     string   // the recovery code of the sheet, as typed; not needed while the sheet waits to be checked
	Password secret.Text
}

// HelpArranged are the people who together bring the owner's vault back, as the owner has chosen them.
type HelpArranged struct{ vault *Vault }

// Arrange has people help from now on, in the place of those before. The recovery code is what they help to: nobody
// can have it parted who hasn't the sheet.
func (ha *HelpArranged) Arrange(ctx context.Context, h Helpers) error {
	o, err := ha.vault.device.unwrap(ha.vault.Profile(), h.Password)
	if err != nil {
		return records.BadInput("hand-password", err)
	}
	code, err := ha.vault.Sheets.waiting(ctx)
	if err != nil || ha.vault.Sheets.Replaces(ctx) {
		if code, err = ha.vault.Sheets.inForce(h.Code); err != nil {
			return records.BadInput("hand-code", err)
		}
	}
	return ha.vault.Helping.Arrange(ctx, h.Peers, share.Rule{Need: h.Need}, code, o.pair.SignIn)
}

// EndHelp has nobody help any more.
func (ha *HelpArranged) End(ctx context.Context, password secret.Text) error {
	o, err := ha.vault.device.unwrap(ha.vault.Profile(), password)
	if err != nil {
		return records.BadInput("hand-password", err)
	}
	return ha.vault.Helping.End(ctx, o.pair.SignIn)
}

// Hand returns who helps the owner; ok is false without anybody.
func (ha *HelpArranged) Hand() (o helping.Own, ok bool, err error) {
	p, err := ha.vault.Sheets.public()
	if err != nil {
		return o, false, err
	}
	return ha.vault.Helping.Own(p.SignIn)
}

// AskHelp is what a person gives who asks their helpers: they have nothing but their address.
type AskHelp struct {
	Email, Cloud     string
	Password, Repeat secret.Text // the new master password, which the vault will have
	DeviceName       string
}

// Seeking is what this computer asks for, as it is kept: it may take days.
type Seeking struct {
	ID         string      `json:"id"`
	Email      string      `json:"email"`
	Cloud      string      `json:"cloud"`
	Secret     string      `json:"secret"` // to look how far it is
	DeviceName string      `json:"device_name"`
	At         int64       `json:"at"` // milliseconds since 1970
	Params     keys.Params `json:"params"`
	Sealed     []byte      `json:"sealed"` // under the new master password

	Words []string `json:"-"` // to be read out to each helper; none until the new master password was typed
}

// Since is when it was asked.
func (s Seeking) Since() time.Time { return time.UnixMilli(s.At) }

// seeker is what this program knows of it while it runs.
type seeker struct {
	mu     sync.Mutex // guards what follows
	id     string
	joiner *keys.Joiner
}

func (k *seeker) know(id string, j *keys.Joiner) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.id, k.joiner = id, j
}

func (k *seeker) words(id string) []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.joiner == nil || k.id != id {
		return nil
	}
	return k.joiner.Words()
}

// The errors of asking for help.
var (
	errNoSeeking   = errors.New("nothing is asked for on this computer")
	errHelpStopped = errors.New("this was stopped on a device that has the vault")
	errHelpEarly   = errors.New("not enough have helped yet, or the wait isn’t over")
	errHelpParts   = errors.New("what came doesn’t open the vault: ask anew, and read the new words to each helper")
)

// AskHelp asks the helpers of an address. What is kept of it here opens with the new master password alone.
func (d *Device) AskHelp(ctx context.Context, a AskHelp) (s Seeking, err error) {
	if d.ports.Seeking == nil {
		return s, errNoSeeking
	}
	a.Email = strings.ToLower(strings.TrimSpace(a.Email))
	if err := CheckEmail(a.Email); err != nil {
		return s, err
	}
	if err := CheckNewMaster(a.Password, a.Repeat, a.Email); err != nil {
		return s, err
	}
	cloud, err := d.ports.Dial(a.Cloud)
	if err != nil {
		return s, records.BadInput("cloud", err)
	}
	salt := make([]byte, keys.SaltSize)
	if _, err := io.ReadFull(d.ports.Rand, salt); err != nil {
		return s, err
	}
	s = Seeking{
		Email: a.Email, Cloud: a.Cloud, DeviceName: a.DeviceName, At: d.ports.Now().UnixMilli(),
		Params: keys.DefaultParams(salt),
	}
	j, err1 := keys.NewSeeker(a.Email, d.ports.Rand)
	stretched, err2 := keys.Stretch(a.Password, s.Params)
	if err := errors.Join(err1, err2); err != nil {
		return s, err
	}
	if s.Sealed, err = stretched.SealSeeker(d.ports.Rand, j); err != nil {
		return s, err
	}
	asked, err := cloud.AskHelp(ctx, wire.AskHelp{Email: a.Email, PublicKey: j.Hello()})
	if err != nil {
		return s, records.BadInput("email", err)
	}
	s.ID, s.Secret, s.Words = asked.ID, asked.Secret, j.Words()
	b, err := json.Marshal(s)
	if err != nil {
		return s, err
	}
	d.seeker.know(s.ID, j)
	return s, d.ports.Seeking.Keep(ctx, b)
}

// Seeking returns what is asked for on this computer; ok is false if nothing is.
func (d *Device) Seeking(ctx context.Context) (s Seeking, ok bool, err error) {
	if d.ports.Seeking == nil {
		return s, false, nil
	}
	b, err := d.ports.Seeking.Load(ctx)
	if err != nil || len(b) == 0 {
		return s, false, err
	}
	if err := json.Unmarshal(b, &s); err != nil {
		return s, false, err
	}
	s.Words = d.seeker.words(s.ID)
	return s, true, nil
}

// ReadWords shows the words again, after the program was started anew; id is that of what was asked. The new master
// password is the one that was chosen when help was asked for.
func (d *Device) ReadWords(ctx context.Context, password secret.Text) (id string, err error) {
	s, ok, err := d.Seeking(ctx)
	if err != nil || !ok {
		return "", errors.Join(err, errNoSeeking)
	}
	j, err := d.openSeeker(s, password)
	if err == nil {
		d.seeker.know(s.ID, j)
	}
	return s.ID, err
}

// openSeeker opens what is kept of it. Wrong passwords are counted and slowed down, as at a vault that is here.
func (d *Device) openSeeker(s Seeking, password secret.Text) (*keys.Joiner, error) {
	const what = "asking for help"
	defer d.attempts.turn(what)()
	if err := d.attempts.admit(what); err != nil {
		return nil, records.BadInput("password", err)
	}
	stretched, err := keys.Stretch(password, s.Params)
	if err != nil {
		return nil, records.BadInput("password", err)
	}
	j, err := stretched.OpenSeeker(s.Sealed)
	if err != nil {
		return nil, records.BadInput("password", d.attempts.wrong(what))
	}
	d.attempts.right(what)
	return j, nil
}

// HelpState tells how far it is.
func (d *Device) HelpState(ctx context.Context) (h wire.HelpState, err error) {
	s, ok, err := d.Seeking(ctx)
	if err != nil || !ok {
		return h, errors.Join(err, errNoSeeking)
	}
	return d.helpState(ctx, s, false)
}

func (d *Device) helpState(ctx context.Context, s Seeking, end bool) (h wire.HelpState, err error) {
	if d.ports.Now().Sub(s.Since()) > wire.HelpDays*24*time.Hour && !end {
		return h, syncing.ErrOver // the cloud says so of nothing: what it hasn't any more looks like what nobody helped
	}
	cloud, err := d.ports.Dial(s.Cloud)
	if err != nil {
		return h, err
	}
	return cloud.HelpState(ctx, s.ID, wire.LookForHelp{Email: s.Email, Secret: s.Secret, End: end})
}

// EndSeeking asks for nothing any more.
func (d *Device) EndSeeking(ctx context.Context) error {
	s, ok, err := d.Seeking(ctx)
	if err == nil && ok {
		_, _ = d.helpState(ctx, s, true) // a cloud that doesn't hear of it drops it by itself
	}
	if d.ports.Seeking == nil {
		return err
	}
	d.seeker.know("", nil)
	return d.ports.Seeking.Keep(ctx, nil)
}

// TakeHelp brings the vault to this computer by what the helpers gave, with the master password that was chosen when
// they were asked. It comes back open and complete; of an error what was asked for stays.
func (d *Device) TakeHelp(ctx context.Context, password secret.Text) (*Vault, error) {
	s, ok, err := d.Seeking(ctx)
	if err != nil || !ok {
		return nil, errors.Join(err, errNoSeeking)
	}
	j, err := d.openSeeker(s, password)
	if err != nil {
		return nil, err
	}
	h, err := d.helpState(ctx, s, false)
	switch {
	case err != nil:
		return nil, err
	case h.Stopped:
		return nil, errHelpStopped
	case len(h.Sealed) == 0:
		return nil, errHelpEarly
	}
	code, vaultID, err := together(j, h)
	if err != nil {
		return nil, err
	}
	printed := strings.Join(code.Print(keys.Recovery), " ")
	v, err := d.recoverWith(ctx, s, vaultID, printed, password)
	if err == nil {
		_ = d.EndSeeking(ctx) // it opens nothing more
	}
	return v, err
}

// mostParts bounds how many are tried: each is from a helper who typed the words.
const mostParts = 2 * share.MostHelpers

// together puts the parts together that come from where the words were typed.
func together(j *keys.Joiner, h wire.HelpState) (code keys.Code, vaultID string, err error) {
	var parts []share.Part
	for _, sealed := range h.Parts[:min(len(h.Parts), mostParts)] {
		plain, err := j.Helped(sealed)
		if err != nil {
			continue // nobody who knows the words made it
		}
		if p, err := share.ReadPart(plain); err == nil {
			parts, vaultID = append(parts, p), p.Vault
		}
	}
	if code, err = share.Together(h.Sealed, parts); err != nil {
		return code, "", errHelpParts
	}
	return code, vaultID, nil
}

// recoverWith brings the vault here, or gives it the new master password where it is here already.
func (d *Device) recoverWith(ctx context.Context, s Seeking, vaultID, code string, p secret.Text) (*Vault, error) {
	profiles, err := d.Profiles(ctx)
	if err != nil {
		return nil, err
	}
	for _, here := range profiles {
		if here.Vault == vaultID {
			return d.Recover(ctx, here.ID, code, p, p)
		}
	}
	return d.RecoverHere(ctx, Recovery{
		Email: s.Email, Cloud: s.Cloud, Code: code, Password: p, Repeat: p, DeviceName: s.DeviceName,
	})
}

package app

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Sheet is the recovery sheet: what only paper and devices hold.
type Sheet struct {
	Profile  Profile
	Carried  []string // in groups
	Recovery []string // in groups; empty once the sheet was checked
}

// Sheets are the recovery sheet that is in force, and the one that waits to be printed and checked.
type Sheets struct{ vault *Vault }

// Sheet returns the recovery sheet. The recovery code is on it only until the
// user has shown that they have it on paper; after that nobody can print it again.
func (sh *Sheets) Sheet(ctx context.Context) (Sheet, error) {
	p := sh.vault.Profile()
	s := Sheet{Profile: p, Carried: keys.Code(p.Carried).Print(keys.Carried)}
	b, err := sh.vault.Local.Get(ctx, localSheet)
	if err != nil || len(b) != keys.CodeSize {
		return s, err
	}
	s.Recovery = keys.Code(b).Print(keys.Recovery)
	return s, nil
}

// SheetWaits reports whether the recovery sheet has yet to be checked.
func (sh *Sheets) Waits(ctx context.Context) bool {
	_, err := sh.waiting(ctx)
	return err == nil
}

// errGroup is returned for a group that was typed wrong.
var errGroup = errors.New("this group isn't what the sheet says: please look again")

// NewSheet draws another recovery code, which waits to be printed. The one in force stays so until
// [Sheets.Check].
func (sh *Sheets) New(ctx context.Context) error {
	code, err := keys.NewCode(sh.vault.device.ports.Rand)
	if err != nil {
		return err
	}
	return sh.vault.Local.Set(ctx, localSheet, code[:])
}

// SheetReplaces reports whether the recovery sheet that waits puts another one out of force: checking it takes the
// master password then.
func (sh *Sheets) Replaces(ctx context.Context) bool {
	code, err := sh.waiting(ctx)
	if err != nil {
		return false
	}
	now, err1 := sh.public()
	waiting, err2 := keys.DeriveRecovery(code)
	return err1 == nil && err2 == nil && !bytes.Equal(now.SignIn, waiting.Public().SignIn)
}

func (sh *Sheets) waiting(ctx context.Context) (keys.Code, error) {
	b, err := sh.vault.Local.Get(ctx, localSheet)
	if err == nil && len(b) != keys.CodeSize {
		err = errNoSheet
	}
	if err != nil {
		return keys.Code{}, err
	}
	return keys.Code(b), nil
}

var errNoSheet = errors.New("no sheet waits to be checked")

// TypedSheet is what is typed back from a sheet: one group of the carried half and one of the recovery code, given by
// number from 1.
type TypedSheet struct {
	CarriedGroup  int
	Carried       string
	RecoveryGroup int
	Recovery      string
	Password      secret.Text // needed where [Sheets.Replaces]
}

// CheckSheet takes groups typed back from the sheet. If both are right the sheet is in force, the one before isn't any
// more, and the recovery code is forgotten here.
func (sh *Sheets) Check(ctx context.Context, t TypedSheet) error {
	s, err := sh.Sheet(ctx)
	if err != nil {
		return err
	}
	if len(s.Recovery) == 0 {
		return nil
	}
	if !sameGroup(s.Carried, t.CarriedGroup, t.Carried) {
		return records.BadInput("carried", errGroup)
	}
	if !sameGroup(s.Recovery, t.RecoveryGroup, t.Recovery) {
		return records.BadInput("recovery", errGroup)
	}
	if sh.Replaces(ctx) {
		if err := sh.replace(ctx, t.Password); err != nil {
			return err
		}
	}
	return sh.vault.Local.Set(ctx, localSheet, nil)
}

// replaceSheet puts the recovery code that waits into force. The cloud comes first.
func (sh *Sheets) replace(ctx context.Context, password secret.Text) error {
	code, err := sh.waiting(ctx)
	if err != nil {
		return err
	}
	recovery, err := keys.DeriveRecovery(code)
	if err != nil {
		return err
	}
	p := sh.vault.Profile()
	o, err := sh.vault.device.unwrap(p, password)
	if err != nil {
		return records.BadInput("password", err)
	}
	wrapped, err := recovery.Public().Wrap(p.Vault, o.ring.Newest())
	if err != nil {
		return err
	}
	if cloud := sh.vault.Account.at(); cloud != nil {
		credential, err := sh.vault.Sync.Credential(ctx)
		if err != nil {
			return err
		}
		err = cloud.SetCredentials(ctx, credential, o.pair.SignIn, wire.NewCredentials{
			KeepSessions: true, Credentials: wire.Credentials{
				Params: p.Params, SignIn: o.kept.Locks.SignIn(), Wrapped: p.Wrapped,
				RecoverySignIn: recovery.Public().SignIn, RecoveryWrapped: wrapped,
			},
		})
		if err != nil {
			return records.BadInput("password", err)
		}
	}
	b, err := json.Marshal(recovery.Public())
	if err != nil {
		return err
	}
	err = errors.Join(
		sh.vault.Cover.Rekey(ctx, records.Rekeying{
			Was:    sh.vault.Cover.By(o.pair),
			Change: func(c keys.Covered) (keys.Covered, error) { return c.ForRecovery(recovery.Public()) },
		}),
		sh.vault.identity.update(ctx, func(p *Profile) { p.RecoveryWrapped = wrapped }),
		sh.vault.Items.Edit(ctx, p.Vault, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
			return e.With(by, vault.Changes{vault.FieldRecovery: string(b)})
		}),
	)
	if err == nil { // who helps has parts of the one before; where that fails, the page says so
		_ = sh.vault.Helping.Renew(ctx, code, o.pair.SignIn)
	}
	return err
}

// sheetEvery is how long a recovery sheet isn't asked for.
const sheetEvery = 365 * 24 * time.Hour

// SheetDue reports whether the recovery sheet is to be tried: a year after it was made, or tried last.
func (sh *Sheets) Due(ctx context.Context) bool {
	if sh.Waits(ctx) {
		return false
	}
	e := sh.vault.Book.Profile()
	last := e.Fields[vault.FieldRecovery].Stamp.At
	if tried, err := strconv.ParseInt(e.Text(vault.FieldTried), 10, 64); err == nil {
		last = max(last, tried)
	}
	return e.Type == vault.TypeProfile && sh.vault.device.ports.Now().Sub(time.UnixMilli(last)) > sheetEvery
}

// Group is a group of the carried half that was typed back, by its number from 1.
type Group struct {
	Number int
	Text   string
}

var errSameGroup = errors.New("type two different groups")

// TrySheet takes two groups of the carried half, typed back from the sheet: whoever has that has the code beside it.
func (sh *Sheets) Try(ctx context.Context, first, second Group) error {
	s, err := sh.Sheet(ctx)
	if err != nil {
		return err
	}
	if first.Number == second.Number {
		return records.BadInput("second", errSameGroup)
	}
	if !sameGroup(s.Carried, first.Number, first.Text) {
		return records.BadInput("first", errGroup)
	}
	if !sameGroup(s.Carried, second.Number, second.Text) {
		return records.BadInput("second", errGroup)
	}
	at := strconv.FormatInt(sh.vault.device.ports.Now().UnixMilli(), 10)
	return sh.vault.Items.Edit(ctx, sh.vault.Profile().Vault, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FieldTried: at})
	})
}

func sameGroup(groups []string, n int, typed string) bool {
	return n >= 1 && n <= len(groups) && keys.NormalGroup(typed) == groups[n-1]
}

// wrap seals an epoch's key for the recovery code that is in force. It returns the code's public keys, too.
func (sh *Sheets) wrap(newest keys.EpochKey) (recovery keys.RecoveryPublic, wrapped []byte, err error) {
	if recovery, err = sh.public(); err != nil {
		return recovery, nil, err
	}
	wrapped, err = recovery.Wrap(sh.vault.Profile().Vault, newest)
	return recovery, wrapped, err
}

// public returns the public keys of the recovery code that is in force.
func (sh *Sheets) public() (p keys.RecoveryPublic, err error) {
	e, err := sh.vault.Items.Entry(sh.vault.Profile().Vault)
	if err == nil {
		err = json.Unmarshal([]byte(e.Text(vault.FieldRecovery)), &p)
	}
	if err != nil {
		return p, fmt.Errorf("failed to read what the recovery code is known by: %w", err)
	}
	return p, nil
}

// publicOf returns the public keys of a recovery code that is in force.
func (sh *Sheets) publicOf(typed string) (p keys.RecoveryPublic, err error) {
	code, err := sh.inForce(typed)
	if err != nil {
		return p, err
	}
	private, err := keys.DeriveRecovery(code)
	return private.Public(), err
}

// inForce reads a recovery code that was typed, and is in force.
func (sh *Sheets) inForce(typed string) (code keys.Code, err error) {
	if code, err = keys.ParseCode(typed, keys.Recovery); err != nil {
		return code, err
	}
	private, err1 := keys.DeriveRecovery(code)
	now, err2 := sh.public()
	if err := errors.Join(err1, err2); err != nil {
		return code, err
	}
	if string(private.Public().SignIn) != string(now.SignIn) {
		return code, errNotTheCode
	}
	return code, nil
}

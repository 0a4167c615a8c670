package app

import (
	"context"
	"errors"

	"redlocket/app/records"
	"redlocket/core/keys"
)

// Sheet is the recovery sheet: what only paper and devices hold.
type Sheet struct {
	Profile  Profile
	Carried  []string // in groups
	Recovery []string // in groups; empty once the sheet was checked
}

// Sheet returns the recovery sheet. The recovery code is on it only until the
// user has shown that they have it on paper; after that nobody can print it again.
func (a *Account) Sheet(ctx context.Context) (Sheet, error) {
	p := a.vault.Profile()
	s := Sheet{Profile: p, Carried: keys.Code(p.Carried).Print(keys.Carried)}
	b, err := a.vault.Local.Get(ctx, localSheet)
	if err != nil || len(b) != keys.CodeSize {
		return s, err
	}
	s.Recovery = keys.Code(b).Print(keys.Recovery)
	return s, nil
}

// SheetWaits reports whether the recovery sheet has yet to be checked.
func (a *Account) SheetWaits(ctx context.Context) bool {
	b, err := a.vault.Local.Get(ctx, localSheet)
	return err == nil && len(b) == keys.CodeSize
}

// errGroup is returned for a group that was typed wrong.
var errGroup = errors.New("this group isn't what the sheet says: please look again")

// CheckSheet compares two groups typed back from the sheet, given by number from
// 1: one of the carried half and one of the recovery code. If both are right the
// recovery code is forgotten here.
func (a *Account) CheckSheet(
	ctx context.Context, carriedGroup int, carried string, recoveryGroup int, recovery string,
) error {
	s, err := a.Sheet(ctx)
	if err != nil {
		return err
	}
	if len(s.Recovery) == 0 {
		return nil
	}
	if !sameGroup(s.Carried, carriedGroup, carried) {
		return records.BadInput("carried", errGroup)
	}
	if !sameGroup(s.Recovery, recoveryGroup, recovery) {
		return records.BadInput("recovery", errGroup)
	}
	return a.vault.Local.Set(ctx, localSheet, nil)
}

func sameGroup(groups []string, n int, typed string) bool {
	return n >= 1 && n <= len(groups) && keys.NormalGroup(typed) == groups[n-1]
}

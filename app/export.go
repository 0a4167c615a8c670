package app

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// Format is a format of exported files.
type Format string

// The formats.
const (
	FormatCSV      Format = "csv"
	FormatJSON     Format = "json"
	FormatExchange Format = "exchange"
)

// Selection says what is exported.
type Selection struct {
	Format   Format
	IDs      []string           // nil for everything
	Archived bool               // what is put away too, where everything is
	Columns  []transfer.Meaning // of a CSV
}

// ErrFormat is returned for a format that there isn't.
var ErrFormat = errors.New("choose what kind of file it is to be")

// Export writes items in clear, and returns how many. The master password is asked for
// first.
func (v *Vault) Export(ctx context.Context, w io.Writer, s Selection) (int, error) {
	if err := v.RequireReauth(ReauthExport); err != nil {
		return 0, err
	}
	list, err := v.chosen(s)
	if err != nil {
		return 0, err
	}
	now := v.d.p.Now().UnixMilli()
	switch s.Format {
	case FormatCSV:
		if len(s.Columns) == 0 {
			return 0, badInput("columns", errors.New("choose one column at least"))
		}
		return transfer.WriteCSV(w, list, s.Columns)
	case FormatJSON:
		return len(list), transfer.WriteJSON(w, transfer.Export{Made: now, Devices: v.DeviceNames(), Entries: list})
	case FormatExchange:
		return len(list), transfer.WriteExchange(w, list, now, v.Profile().Email)
	}
	return 0, badInput("format", ErrFormat)
}

// chosen returns the items of a selection, by title.
func (v *Vault) chosen(s Selection) ([]vault.Entry, error) {
	list, err := v.pick(func(e vault.Entry) bool {
		if s.IDs != nil {
			return e.IsItem() && slices.Contains(s.IDs, e.ID)
		}
		return e.IsItem() && (s.Archived || !e.Archived())
	})
	slices.SortFunc(list, func(a, b vault.Entry) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Text(vault.FieldTitle)), strings.ToLower(b.Text(vault.FieldTitle))), strings.Compare(a.ID, b.ID))
	})
	return list, err
}

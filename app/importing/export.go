package importing

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"redlocket/app/reauth"
	"redlocket/app/records"
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
	Book     string             // where everything is: [records.AllBooks], [records.OwnBook], or one by its id
	Archived bool               // what is archived too, where everything is
	Columns  []transfer.Meaning // of a CSV
}

// Exports writes items in clear.
type Exports struct{ cfg Config }

// ErrFormat is returned for a format that there isn't.
var ErrFormat = errors.New("choose what kind of file it is to be")

// ErrNoColumn is returned for a CSV without columns.
var ErrNoColumn = errors.New("choose one column at least")

// Write writes items in clear, and returns how many. The master password is asked for
// first.
func (x *Exports) Write(ctx context.Context, w io.Writer, s Selection) (int, error) {
	if err := x.cfg.Guard.Require(reauth.Export); err != nil {
		return 0, err
	}
	list, err := x.chosen(s)
	if err != nil {
		return 0, err
	}
	now := x.cfg.Now().UnixMilli()
	switch s.Format {
	case FormatCSV:
		if len(s.Columns) == 0 {
			return 0, records.BadInput("columns", ErrNoColumn)
		}
		return transfer.WriteCSV(w, list, s.Columns)
	case FormatJSON:
		devices, err := x.cfg.Set.Book.DeviceNames()
		if err != nil {
			return 0, err
		}
		return len(list), transfer.WriteJSON(w, transfer.Export{Made: now, Devices: devices, Entries: list})
	case FormatExchange:
		return len(list), transfer.WriteExchange(w, list, now, x.cfg.Email())
	}
	return 0, records.BadInput("format", ErrFormat)
}

// chosen returns the items of a selection, by title.
func (x *Exports) chosen(s Selection) ([]vault.Entry, error) {
	list, err := x.cfg.Set.Books.Entries(s.Book)
	list = slices.DeleteFunc(list, func(e vault.Entry) bool {
		if s.IDs != nil {
			return !e.IsItem() || !slices.Contains(s.IDs, e.ID)
		}
		return !e.IsItem() || !s.Archived && e.Archived()
	})
	slices.SortFunc(list, func(a, b vault.Entry) int {
		return cmp.Or(
			strings.Compare(strings.ToLower(a.Text(vault.FieldTitle)), strings.ToLower(b.Text(vault.FieldTitle))),
			strings.Compare(a.ID, b.ID),
		)
	})
	return list, err
}

package transfer

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"

	"redlocket/core/vault"
)

// The kinds of files that [Read] reads.
const (
	KindTable    = "table"
	KindItems    = "items"
	KindExchange = "exchange"
)

// Errors of files that can't be read here.
var (
	ErrJSON   = errors.New("neither an export of items, nor in the Credential Exchange Format, nor a list of objects")
	ErrPacked = errors.New("a packed file")
	ErrSealed = errors.New("an encrypted backup")
	ErrPage   = errors.New("a web page")
)

// sealedMark begins every file of the age format.
var sealedMark = []byte("age-encryption.org/v1\n")

// Sealed reports whether a file is an encrypted backup.
func Sealed(b []byte) bool { return bytes.HasPrefix(b, sealedMark) }

// Read finds out what kind of file it is and reads it. choose says what the columns of
// a table are; nil guesses. An error means that nothing of the file can be used.
func Read(
	ctx context.Context, name string, b []byte, choose func(t Table, guess []Column) []Column,
) (Source, error) {
	s := Source{Name: name}
	head := bytes.TrimLeft(bytes.TrimPrefix(b, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case len(b) > MaxBytes:
		return s, ErrTooLarge
	case Sealed(b):
		return s, ErrSealed
	case bytes.HasPrefix(b, []byte("PK\x03\x04")),
		bytes.HasPrefix(b, []byte("\x1f\x8b")),
		bytes.HasPrefix(b, []byte("7z\xbc\xaf")),
		bytes.HasPrefix(b, []byte("\xfd7zXZ")),
		bytes.HasPrefix(b, []byte("BZh")):
		return s, ErrPacked
	case bytes.HasPrefix(head, []byte("{")) || isList(head):
		return readSomeJSON(ctx, s, head, choose)
	case bytes.HasPrefix(bytes.ToLower(head[:min(len(head), 64)]), []byte("<!doctype")),
		bytes.HasPrefix(bytes.ToLower(head[:min(len(head), 64)]), []byte("<html")):
		return s, ErrPage
	}
	t, err := ReadTable(ctx, b)
	if err != nil {
		return s, err
	}
	return s.fromTable(ctx, t, choose)
}

// readSomeJSON reads a JSON file of any kind: of ours, of the exchange format, or a list of objects.
func readSomeJSON(
	ctx context.Context, s Source, head []byte, choose func(t Table, guess []Column) []Column,
) (Source, error) {
	if !isList(head) {
		if s, err := readAnyJSON(s, head); !errors.Is(err, ErrJSON) {
			return s, err
		}
	}
	t, ok, err := readObjects(head)
	switch {
	case err != nil:
		return s, err
	case ok:
		return s.fromTable(ctx, t, choose)
	case isList(head) && !json.Valid(head):
		return readAnyJSON(s, head) // says what is wrong with it
	}
	return s, ErrJSON
}

// isList reports whether a JSON file begins with a list of objects.
func isList(head []byte) bool {
	rest, ok := bytes.CutPrefix(head, []byte("["))
	return ok && bytes.HasPrefix(bytes.TrimLeft(rest, " \t\r\n"), []byte("{"))
}

// fromTable reads the rows of a table into the source.
func (s Source) fromTable(
	ctx context.Context, t Table, choose func(t Table, guess []Column) []Column,
) (_ Source, err error) {
	s.Kind, s.Table, s.Column = KindTable, &t, Guess(t)
	if choose != nil {
		s.Column = choose(t, s.Column)
	}
	s.Rows, s.Broken, err = FromTable(ctx, t, s.Column, 0)
	return s, err
}

func readAnyJSON(s Source, b []byte) (_ Source, err error) {
	x, err := ReadJSON(b)
	if err == nil {
		s.Kind = KindItems
		for i, e := range x.Entries {
			if !e.IsItem() {
				s.Broken = append(
					s.Broken,
					Broken{
						Line:  i + 1,
						Title: e.Text(vault.FieldTitle),
						Cells: []string{e.ID},
						Why:   RowError{Fault: FaultNotAnItem, Kind: e.Kind()},
					},
				)
				continue
			}
			s.Rows = append(s.Rows, Row{Line: i + 1, Entry: e, Named: true})
		}
		return s, nil
	}
	if !errors.Is(err, ErrNotOurs) {
		return s, err
	}
	if !isExchange(b) {
		return s, ErrJSON
	}
	s.Kind = KindExchange
	s.Rows, s.Broken, err = readExchange(b)
	return s, err
}

package transfer

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// Table is a file of separated values (RFC 4180 and what programs make of it).
type Table struct {
	Encoding  string   // "UTF-8", "UTF-8 with mark", "UTF-16", "Windows-1252" or "JSON"
	Delimiter rune     // comma, semicolon, tab, bar, or what its first line says; LabelledLines, JSONObjects
	Header    []string // nil if the file has none
	HeaderAt  int      // the header's line, from 1; 0 if there is none
	Rows      []Record
	Skipped   []Skipped
}

// Record is one row of a table.
type Record struct {
	Line  int // on which it begins, from 1
	End   int // on which it ends
	Cells []string
	// Doubt says what isn't sure about how the row was split into cells; DoubtColumn where, from 1.
	Doubt       Doubt
	DoubtColumn int
}

// Doubt is what isn't sure about how a row was split.
type Doubt string

// The doubts.
const (
	DoubtQuote Doubt = "quote" // a quotation mark begins a cell and ends none: it was taken as part of the value
	DoubtLines Doubt = "lines" // several lines that look like rows were taken as one, or a quote is open at the end
)

// Skipped is a line that isn't a row, and why.
type Skipped struct {
	Line, End int
	Why       Skip
}

// Skip is why a line isn't a row.
type Skip string

// The reasons.
const (
	SkipSeparator Skip = "separator" // it says which character separates the cells
	SkipHeading   Skip = "heading"   // above the header
	SkipHeader    Skip = "header"    // the header once more
	SkipEmpty     Skip = "empty"     // its cells are all empty
)

// The limits of a table, above what any export has.
const (
	MaxColumns = 200
	// MaxText is how many characters a value may have; what is longer becomes an attached file.
	MaxText = 100000
	// MaxName is how many a title or a user name may have.
	MaxName = 2000
)

// Errors of reading a table.
var (
	ErrEmpty   = errors.New("the file is empty")
	ErrBinary  = errors.New("not a text file")
	ErrColumns = errors.New("too many columns")
)

// ReadTable reads a table of any common encoding, delimiter and line end. Whether
// it has a header is told by its words; lines above it are skipped. Every line of the file that isn't empty is in the
// header, in one of the rows or among the skipped.
func ReadTable(ctx context.Context, b []byte) (Table, error) {
	if len(b) > MaxBytes {
		return Table{}, ErrTooLarge
	}
	text, encoding, err := decode(b)
	if err != nil {
		return Table{}, err
	}
	if strings.TrimSpace(text) == "" {
		return Table{}, ErrEmpty
	}
	lines := splitLines(text)
	for _, read := range []func(string, []line) (Table, bool){readLabels, readBlocks, readDashes} {
		t, ok := read(text, lines)
		switch {
		case !ok:
			continue
		case len(t.Header) > MaxColumns:
			return Table{}, ErrColumns
		}
		t.Encoding = encoding
		return t, nil
	}
	t := Table{Encoding: encoding}
	single := inSingleQuotes(text, lines)
	if single {
		text = swapQuotes.Replace(text)
	}
	if escapes(text) {
		text = unescaped.Replace(text)
		lines = splitLines(text)
	}
	first := 0
	for first < len(lines) && strings.TrimSpace(text[lines[first].from:lines[first].to]) == "" {
		first++
	}
	if d, ok := separator(text[lines[first].from:lines[first].to]); ok {
		t.Delimiter = rune(d)
		t.Skipped = append(t.Skipped, Skipped{first + 1, first + 1, SkipSeparator})
		first++
	} else {
		t.Delimiter = delimiter(text, lines)
	}
	r := newReader(text, lines, byte(t.Delimiter))
	r.single = single
	r.padded = r.isPadded()
	r.drawn = r.padded && r.delim == '|'
	if r.width = r.guessWidth(); r.width > MaxColumns {
		return Table{}, ErrColumns
	}
	if err := t.take(ctx, r, first); err != nil {
		return Table{}, err
	}
	return t, nil
}

// separator reads a first line such as "sep=;", which spreadsheets write.
func separator(line string) (delim byte, ok bool) {
	line = strings.Trim(line, "\" \ufeff")
	rest, ok := strings.CutPrefix(strings.ToLower(line), "sep=")
	if !ok || len(rest) != 1 || rest[0] == '"' || rest[0] >= utf8.RuneSelf {
		return 0, false
	}
	return rest[0], true
}

// headerWithin is how many rows may stand above a header.
const headerWithin = 10

// take reads all rows, from a line on.
func (t *Table) take(ctx context.Context, r *reader, from int) error {
	for i := from; i < len(r.lines); {
		if len(t.Rows)&1023 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		rec, next := r.record(i)
		i = next
		switch {
		case rec.Line == rec.End && strings.TrimSpace(r.s[r.lines[rec.Line-1].from:r.lines[rec.Line-1].to]) == "":
			continue // an empty line
		case allEmpty(rec.Cells):
			t.Skipped = append(t.Skipped, Skipped{rec.Line, rec.End, SkipEmpty})
			continue
		case r.drawn && isDrawn(rec.Cells):
			t.Skipped = append(t.Skipped, Skipped{rec.Line, rec.End, SkipSeparator})
			continue
		case t.Header != nil && isAgain(rec.Cells, t.Header):
			t.Skipped = append(t.Skipped, Skipped{rec.Line, rec.End, SkipHeader})
			continue
		case t.Header == nil && len(t.Rows) < headerWithin && isHeader(rec.Cells) && areHeadings(t.Rows, rec.Cells):
			for _, above := range t.Rows {
				t.Skipped = append(t.Skipped, Skipped{above.Line, above.End, SkipHeading})
			}
			t.Header, t.HeaderAt, t.Rows = rec.Cells, rec.Line, nil
			continue
		}
		if t.Rows = append(t.Rows, rec); len(t.Rows) > MaxItems {
			return ErrTooMany
		}
	}
	return nil
}

func allEmpty(cells []string) bool {
	return !slices.ContainsFunc(cells, func(c string) bool { return strings.TrimSpace(c) != "" })
}

// isAgain reports whether a row is the header once more.
func isAgain(cells, header []string) bool {
	return len(cells) == len(header) && slices.EqualFunc(cells, header, func(a, b string) bool {
		return strings.EqualFold(strings.TrimSpace(a), strings.TrimSpace(b))
	})
}

// areHeadings reports whether rows above a header are only words about the file: they fill fewer cells than the header,
// and none holds what a login would have.
func areHeadings(rows []Record, header []string) bool {
	filled := func(cells []string) (n int) {
		for _, c := range cells {
			if strings.TrimSpace(c) != "" {
				n++
			}
		}
		return n
	}
	for _, r := range rows {
		if n := filled(r.Cells); n > 2 || n >= filled(header) || n == 2 && len(header) == 3 {
			return false
		}
	}
	return true
}

// WriteRecord writes a row by RFC 4180, with CRLF at its end. A row of one empty
// cell is written as a pair of quotes, so that it isn't an empty line.
func WriteRecord(w io.Writer, delim rune, cells []string) error {
	var b strings.Builder
	for i, c := range cells {
		if i > 0 {
			b.WriteRune(delim)
		}
		if strings.ContainsRune(c, delim) || strings.ContainsAny(c, "\"\r\n") || len(cells) == 1 && c == "" {
			b.WriteString(`"` + strings.ReplaceAll(c, `"`, `""`) + `"`)
		} else {
			b.WriteString(c)
		}
	}
	b.WriteString("\r\n")
	_, err := io.WriteString(w, b.String())
	return err
}

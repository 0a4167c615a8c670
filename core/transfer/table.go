package transfer

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// Table is a file of separated values (RFC 4180 and what programs make of it).
type Table struct {
	Encoding  string   // "UTF-8", "UTF-8 with mark", "UTF-16" or "Windows-1252"
	Delimiter rune     // comma, semicolon or tab
	Header    []string // nil if the file has none
	Rows      []Record
}

// Record is one row of a table.
type Record struct {
	Line  int // on which it begins, from 1
	Cells []string
}

// The limits of a table, above what any export has.
const (
	MaxColumns = 200
	MaxCell    = 20000 // characters; longer ones are no text that somebody typed
)

// Errors of reading a table.
var (
	ErrEmpty   = errors.New("the file is empty")
	ErrBinary  = errors.New("not a text file")
	ErrColumns = errors.New("too many columns")
)

// ReadTable reads a table of any common encoding, delimiter and line end. Whether
// its first row is a header is told by its words.
func ReadTable(b []byte) (Table, error) {
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
	t := Table{Encoding: encoding, Delimiter: delimiter(text)}
	if t.Rows, err = records(text, t.Delimiter, MaxItems+1); err != nil {
		return Table{}, err
	}
	if len(t.Rows) > 0 && isHeader(t.Rows[0].Cells) {
		t.Header, t.Rows = t.Rows[0].Cells, t.Rows[1:]
	}
	if len(t.Rows) > MaxItems {
		return Table{}, ErrTooMany
	}
	return t, nil
}

// decode finds out a text's encoding and brings it to UTF-8.
func decode(b []byte) (text, encoding string, err error) {
	if rest, ok := bytes.CutPrefix(b, []byte("\xef\xbb\xbf")); ok {
		if !utf8.Valid(rest) {
			return "", "", ErrBinary
		}
		return string(rest), "UTF-8 with mark", nil
	}
	if order := utf16Order(b); order != nil {
		b = b[:len(b)&^1]
		units := make([]uint16, 0, len(b)/2)
		for i := 0; i < len(b); i += 2 {
			units = append(units, order.Uint16(b[i:]))
		}
		if units[0] == 0xfeff {
			units = units[1:]
		}
		if slices.Contains(units, 0) {
			return "", "", ErrBinary
		}
		return string(utf16.Decode(units)), "UTF-16", nil
	}
	if bytes.IndexByte(b, 0) >= 0 {
		return "", "", ErrBinary
	}
	if utf8.Valid(b) {
		return string(b), "UTF-8", nil
	}
	controls := 0
	for _, c := range b {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' {
			controls++
		}
	}
	if controls*50 > len(b) { // text has next to none, what isn't text has many
		return "", "", ErrBinary
	}
	out, err := charmap.Windows1252.NewDecoder().Bytes(b)
	return string(out), "Windows-1252", err
}

// utf16Order tells UTF-16 by its mark, or by its zero bytes: text of Latin letters
// has one beside each.
func utf16Order(b []byte) binary.ByteOrder {
	if len(b) < 2 {
		return nil
	}
	switch {
	case b[0] == 0xff && b[1] == 0xfe:
		return binary.LittleEndian
	case b[0] == 0xfe && b[1] == 0xff:
		return binary.BigEndian
	}
	var zeros [2]int
	for i, c := range b[:min(len(b), 512)] {
		if c == 0 {
			zeros[i&1]++
		}
	}
	n := min(len(b), 512) / 2
	switch {
	case zeros[1] > n*6/10 && zeros[0] == 0:
		return binary.LittleEndian
	case zeros[0] > n*6/10 && zeros[1] == 0:
		return binary.BigEndian
	}
	return nil
}

// delimiters in the order in which they are preferred.
var delimiters = []rune{',', ';', '\t', '|'}

// delimiter returns the one that parts the first rows into the same number of
// cells, and into most.
func delimiter(text string) rune {
	best, most := ',', 0
	for _, d := range delimiters {
		rows, _ := records(text[:min(len(text), 64<<10)], d, 40)
		if len(rows) > 1 {
			rows = rows[:len(rows)-1] // the last may be cut
		}
		if len(rows) == 0 {
			continue
		}
		cells, alike := len(rows[0].Cells), 0
		for _, r := range rows {
			if len(r.Cells) == cells {
				alike++
			}
		}
		if cells < 2 {
			continue
		}
		if score := alike*1000/len(rows) + cells*5; score > most {
			best, most = d, score
		}
	}
	return best
}

// records splits text into rows, at most as many as said, by RFC 4180. Beyond it: lines
// may end in CR, LF or both; a quote within an unquoted cell stands for itself, and
// so does what follows a closing quote; a quote that is never closed ends where the text
// does. Empty lines are passed over.
func records(text string, delim rune, most int) (out []Record, err error) {
	p := parser{s: text, delim: byte(delim), line: 1}
	for p.i < len(p.s) && len(out) < most {
		r := Record{Line: p.line}
		for {
			cell, more := p.cell()
			r.Cells = append(r.Cells, cell)
			if len(r.Cells) > MaxColumns {
				return out, ErrColumns
			}
			if !more {
				break
			}
		}
		if len(r.Cells) > 1 || r.Cells[0] != "" {
			out = append(out, r)
		}
	}
	return out, nil
}

type parser struct {
	s     string
	i     int
	delim byte
	line  int
}

// end takes a line end, if there is one here.
func (p *parser) end() bool {
	if p.i >= len(p.s) {
		return true
	}
	switch p.s[p.i] {
	case '\r':
		p.i++
		if p.i < len(p.s) && p.s[p.i] == '\n' {
			p.i++
		}
	case '\n':
		p.i++
	default:
		return false
	}
	p.line++
	return true
}

// cell takes a cell and what ends it; more is false at the end of the row.
func (p *parser) cell() (cell string, more bool) {
	if p.i < len(p.s) && p.s[p.i] == '"' {
		cell = p.quoted()
	}
	from := p.i
	for p.i < len(p.s) && p.s[p.i] != p.delim && p.s[p.i] != '\n' && p.s[p.i] != '\r' {
		p.i++
	}
	if p.i > from {
		cell += p.s[from:p.i]
	}
	if p.i < len(p.s) && p.s[p.i] == p.delim {
		p.i++
		return cell, true
	}
	p.end()
	return cell, false
}

// quoted takes a cell in quotes.
func (p *parser) quoted() string {
	p.i++
	var b strings.Builder
	for {
		j := strings.IndexByte(p.s[p.i:], '"')
		if j < 0 {
			b.WriteString(p.s[p.i:])
			p.count(p.s[p.i:])
			p.i = len(p.s)
			return b.String()
		}
		b.WriteString(p.s[p.i : p.i+j])
		p.count(p.s[p.i : p.i+j])
		p.i += j + 1
		if p.i >= len(p.s) || p.s[p.i] != '"' {
			return b.String()
		}
		b.WriteByte('"')
		p.i++
	}
}

// count counts the lines of a cell.
func (p *parser) count(s string) {
	p.line += strings.Count(s, "\n")
	p.line += strings.Count(s, "\r") - strings.Count(s, "\r\n")
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

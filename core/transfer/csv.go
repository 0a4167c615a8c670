package transfer

import (
	"io"
	"slices"
	"strconv"
	"strings"

	"redlocket/core/vault"
)

// CSVColumn is a column of an exported table.
type CSVColumn struct {
	Meaning Meaning
	Name    string // of the header: the names that other programs know
	Usual   bool   // chosen if nobody chooses
}

// CSVColumns are the columns that can be exported, in their order. The first three
// are those that every program takes (common practice).
func CSVColumns() []CSVColumn {
	return []CSVColumn{
		{MeansTitle, "name", true},
		{MeansAddress, "url", true},
		{MeansUsername, "username", true},
		{MeansPassword, "password", true},
		{MeansNotes, "note", true},
		{MeansSetup, "otpauth", false},
		{MeansFolder, "folder", false},
		{MeansTags, "tags", false},
		{MeansPinned, "favorite", false},
		{MeansChanged, "password changed", false},
		{MeansKind, "type", false},
	}
}

// WriteCSV writes entries as a table by RFC 4180 in UTF-8, in clear. Logins, app logins
// and notes have a row each; what else an item holds goes into its notes if those are
// among the columns. History and files don't fit into a table. A cell that a spreadsheet would
// run gets an apostrophe before it, which [FromTable] takes off again. It returns how many items it wrote.
func WriteCSV(w io.Writer, entries []vault.Entry, columns []Meaning) (int, error) {
	var use []CSVColumn
	var head []string
	for _, c := range CSVColumns() {
		if slices.Contains(columns, c.Meaning) {
			use, head = append(use, c), append(head, c.Name)
		}
	}
	if err := WriteRecord(w, ',', head); err != nil {
		return 0, err
	}
	n := 0
	for _, e := range entries {
		if !e.IsItem() {
			continue
		}
		var cells []string
		for _, c := range use {
			cells = append(cells, guard(csvCell(e, c.Meaning)))
		}
		if err := WriteRecord(w, ',', cells); err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}

func csvCell(e vault.Entry, m Meaning) string {
	it := vault.View(e)
	switch m {
	case MeansTitle:
		return it.Title
	case MeansAddress:
		var urls []string
		for _, a := range it.Addresses {
			urls = append(urls, a.URL)
		}
		if app := e.Text(vault.FieldApp); len(urls) == 0 && strings.Contains(app, ".") {
			return "androidapp://" + app
		}
		return strings.Join(urls, "\n")
	case MeansUsername:
		return it.Username
	case MeansPassword:
		return e.SignsInWith().Reveal()
	case MeansNotes:
		return csvNotes(e)
	case MeansSetup:
		return e.Text(vault.FieldSetup)
	case MeansFolder:
		return it.Folder
	case MeansTags:
		return strings.Join(it.Tags, ",")
	case MeansPinned:
		if it.Pinned {
			return "1"
		}
	case MeansChanged:
		if at := e.Fields[vault.FieldPassword].Stamp.At; Dated(at) {
			b, _ := jsonTime(at).MarshalJSON()
			return strings.Trim(string(b), `"`)
		}
	case MeansKind:
		return string(it.Type)
	}
	return ""
}

// csvNotes returns an item's notes; below them stands what has no column of its own.
func csvNotes(e vault.Entry) string {
	lines := []string{}
	if n := e.Text(vault.FieldNotes); n != "" {
		lines = append(lines, n)
	}
	k, _ := vault.KindOf(e.Kind())
	for _, s := range k.Specs {
		switch s.Field {
		case vault.FieldUsername, vault.FieldPassword, vault.FieldSetup, vault.FieldApp:
		default:
			if v := e.Text(s.Field); v != "" {
				lines = append(lines, s.Name+": "+v)
			}
		}
	}
	for _, o := range e.CustomFields() {
		if v := o.Value.Reveal(); v != "" {
			lines = append(lines, o.Label+": "+v)
		}
	}
	return strings.Join(lines, "\n")
}

// WriteBroken writes rows that couldn't be used as a table to mend: the columns they
// came with, their line and the reason in words.
func WriteBroken(w io.Writer, header []string, rows []Broken, why func(RowError) string) error {
	width := len(header)
	for _, b := range rows {
		width = max(width, len(b.Cells))
	}
	pad := func(cells []string) []string {
		out := make([]string, width, width+2)
		copy(out, cells)
		return out
	}
	if err := WriteRecord(w, ',', append(pad(header), "line", "reason")); err != nil {
		return err
	}
	for _, b := range rows {
		if err := WriteRecord(w, ',', append(pad(b.Cells), strconv.Itoa(b.Line), why(b.Why))); err != nil {
			return err
		}
	}
	return nil
}

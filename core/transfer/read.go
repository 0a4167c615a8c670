package transfer

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Row is one item that a file brings, not yet compared with anything. Its values
// have the moments that the file gives them, or [Unknown], and no device.
type Row struct {
	Source  int // which file, by place
	Line    int // in the file, from 1; in a file of items their number
	End     int // the last of its lines
	Entry   vault.Entry
	Named   bool       // the file itself has a title for it
	Files   []TextFile // what is too long for a field
	Remarks []Remark   // what became of values that couldn't be taken as they are
}

// TextFile is a text that is to be attached to an item.
type TextFile struct {
	Name string
	Text secret.Text
}

// Remark says what became of a value, or what isn't sure of a row.
type Remark struct {
	What   Remarked
	Column int    // from 1; 0 for the whole row
	Name   string // of the column, or of a part of an item
}

// Remarked is what there is to say.
type Remarked string

// What is said of rows that were taken.
const (
	RemarkQuote    Remarked = "quote"    // as [DoubtQuote]
	RemarkLines    Remarked = "lines"    // as [DoubtLines]
	RemarkLong     Remarked = "long"     // too long for a field: it becomes an attached file
	RemarkCut      Remarked = "cut"      // a title or user name was shortened; the whole is in a field of its own
	RemarkControl  Remarked = "control"  // characters that can't be shown were left out
	RemarkUnread   Remarked = "unread"   // some characters were lost before the file was written
	RemarkAddress  Remarked = "address"  // an address that can't be opened is kept as a field
	RemarkSetup    Remarked = "setup"    // a setup key that can't be used is kept as a field
	RemarkUntitled Remarked = "untitled" // it had neither title nor address
	RemarkPasskey  Remarked = "passkey"  // a passkey can't be kept
	RemarkUnknown  Remarked = "unknown"  // a part of a kind that can't be kept
	RemarkGuard    Remarked = "guard"    // an apostrophe was taken off a password; with it, it is kept as a field
	RemarkProgram  Remarked = "program"  // another program that it belongs to is kept as a field
)

// Broken is a row that can't be used, and why.
type Broken struct {
	Source int
	Line   int
	End    int    // the last of its lines; 0 in a file of items
	Title  string // of an item, where the file is one of items
	Cells  []string
	Why    RowError
}

// Fault is why a row can't be used.
type Fault string

// The faults of rows.
const (
	FaultNowhere   Fault = "nowhere" // neither an address nor a name
	FaultNothing   Fault = "nothing" // neither a user name nor a password, nor anything else to keep
	FaultCells     Fault = "cells"   // more cells than columns: a quote may be missing
	FaultNotAnItem Fault = "kind"    // its kind isn't one of items
	FaultForeign   Fault = "foreign" // it holds nothing that can be kept, such as a passkey alone
)

// RowError says what is wrong with a row.
type RowError struct {
	Fault   Fault
	Kind    vault.Type // of FaultNotAnItem
	Cells   int        // that the row has, of FaultCells
	Columns int        // that the table has, of FaultCells
}

func (e *RowError) Error() string { return "the row can't be used: " + string(e.Fault) }

// FromTable turns a table's rows into items by what its columns are taken for. Every row of the table is in one of
// the two.
func FromTable(ctx context.Context, t Table, columns []Column, source int) (rows []Row, broken []Broken, err error) {
	guards := guardsOf(t)
	for i, r := range t.Rows {
		if i&1023 == 0 && ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		row, err := fromRecord(r, columns, guards)
		if err != nil {
			broken = append(broken, Broken{Source: source, Line: r.Line, End: r.End, Cells: r.Cells, Why: *err})
			continue
		}
		row.Source, row.Line, row.End = source, r.Line, r.End
		rows = append(rows, row)
	}
	return rows, broken, nil
}

// record is what a row of a table says, by meaning.
type record struct {
	cells   map[Meaning]string
	owns    []vault.CustomField
	notes   []string
	files   []TextFile
	remarks []Remark
	line    int
	guards  guards
}

func (r *record) get(m Meaning) string { return r.cells[m] }

func (r *record) remark(what Remarked, column int, name string) {
	r.remarks = append(r.remarks, Remark{what, column, name})
}

func fromRecord(in Record, columns []Column, g guards) (Row, *RowError) {
	rec := record{cells: map[Meaning]string{}, line: in.Line, guards: g}
	if in.Doubt != "" {
		rec.remark(Remarked(in.Doubt), in.DoubtColumn, nameOf(columns, in.DoubtColumn))
	}
	for i, c := range in.Cells {
		if i >= len(columns) || c == "" || columns[i].Meaning == MeansNothing {
			continue
		}
		rec.add(columns[i], rec.clean(c, i+1, columns[i]), i+1)
	}
	rec.nameByMail(columns)
	cells := len(in.Cells)
	for cells > 0 && in.Cells[cells-1] == "" { // empty ones at the end say nothing
		cells--
	}
	if err := rec.usable(cells, len(columns)); err != nil {
		return Row{}, err
	}
	return rec.entry(), nil
}

// nameByMail takes the e-mail address that stands beside an empty user name for the user name.
func (r *record) nameByMail(columns []Column) {
	isMailOf := func(o vault.CustomField) bool { return isMail(o.Label) && looksEmail(o.Value.Reveal()) }
	i := slices.IndexFunc(r.owns, isMailOf)
	if i < 0 || r.get(MeansUsername) != "" || r.get(MeansPassword) == "" {
		return
	}
	if slices.ContainsFunc(columns, func(c Column) bool { return c.Meaning == MeansUsername }) {
		r.cells[MeansUsername] = r.owns[i].Value.Reveal()
		r.owns = slices.Delete(r.owns, i, i+1)
	}
}

// nameOf returns a column's name, by its number from 1.
func nameOf(columns []Column, n int) string {
	if n < 1 || n > len(columns) {
		return ""
	}
	return columns[n-1].Name
}

// clean leaves out of a cell what can't be shown. A password stays as it is.
func (r *record) clean(cell string, n int, c Column) string {
	if plain := unguard(cell); plain != cell && r.guards != guardsNone {
		if r.guards == guardsMaybe && c.Meaning == MeansPassword {
			const label = "Password with its apostrophe"
			r.owns = append(r.owns, vault.CustomField{Label: label, Form: vault.FormHidden, Value: secret.New(cell)})
			r.remark(RemarkGuard, n, c.Name)
		}
		cell = plain
	}
	if strings.ContainsRune(cell, utf8.RuneError) {
		r.remark(RemarkUnread, n, c.Name)
	}
	isControl := func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\r' && r != '\t' }
	if c.Meaning == MeansPassword || !strings.ContainsFunc(cell, isControl) {
		return cell
	}
	r.remark(RemarkControl, n, c.Name)
	return strings.Map(func(r rune) rune {
		if isControl(r) {
			return -1
		}
		return r
	}, cell)
}

// The most characters that fields take, as the pages have it (package app/records).
const (
	maxTitle    = 200
	maxUsername = 254
	maxNotes    = 20000
	maxOwn      = 10000
)

// add files a cell under its column's meaning.
func (r *record) add(c Column, cell string, n int) {
	trimmed := strings.TrimSpace(cell)
	long := func(most int) bool { return len(cell) > most && utf8.RuneCountInString(cell) > most }
	asFile := func(text string) {
		r.files = append(r.files, TextFile{Name: clip(c.Name, 80) + ".txt", Text: secret.New(text)})
		r.remark(RemarkLong, n, c.Name)
	}
	switch c.Meaning {
	case MeansPassword:
		if long(MaxText) {
			asFile(cell)
			return
		}
		r.cells[MeansPassword] = cell // a password's spaces are part of it
	case MeansAddress, MeansTags:
		if long(maxNotes) {
			asFile(cell)
			return
		}
		r.cells[c.Meaning] = strings.TrimSpace(r.cells[c.Meaning] + "\n" + trimmed)
	case MeansNotes:
		text := strings.TrimRight(cell, " \r\n")
		if long(maxNotes) {
			asFile(text)
			text = clip(text, 500) + "…"
		}
		r.notes = append(r.notes, text)
	case MeansOwn:
		switch {
		case trimmed == "":
		case long(maxOwn):
			asFile(trimmed)
		default:
			r.owns = append(r.owns, vault.CustomField{Label: c.Name, Form: vault.FormText, Value: secret.New(trimmed)})
		}
	case MeansTitle:
		r.cells[MeansTitle] = r.short(c, n, trimmed, maxTitle)
	case MeansUsername:
		r.cells[MeansUsername] = r.short(c, n, trimmed, maxUsername)
	default:
		if long(maxOwn) {
			asFile(trimmed)
			return
		}
		r.cells[c.Meaning] = trimmed
	}
}

// short returns a text that has room; one that has none is cut, and kept whole beside.
func (r *record) short(c Column, n int, text string, most int) string {
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	r.remark(RemarkCut, n, c.Name)
	if utf8.RuneCountInString(text) > maxOwn {
		r.files = append(r.files, TextFile{Name: clip(c.Name, 80) + ".txt", Text: secret.New(text)})
	} else {
		r.owns = append(r.owns, vault.CustomField{Label: c.Name, Form: vault.FormText, Value: secret.New(text)})
	}
	return strings.TrimSpace(clip(strings.Join(strings.Fields(text), " "), most-1)) + "…"
}

func (r *record) usable(cells, columns int) *RowError {
	where := r.get(MeansTitle) + r.get(MeansAddress) + r.get(MeansApp)
	secrets := r.get(MeansPassword) + r.get(MeansSetup)
	switch {
	case cells > columns:
		return &RowError{Fault: FaultCells, Cells: cells, Columns: columns}
	case where == "" && secrets == "" && len(r.files) == 0:
		return &RowError{Fault: FaultNowhere}
	case secrets == "" && r.get(MeansUsername) == "" && len(r.notes) == 0 && len(r.owns) == 0 && len(r.files) == 0:
		return &RowError{Fault: FaultNothing}
	}
	return nil
}

// isFormula reports whether a spreadsheet would run a cell (common practice: OWASP's list of CSV
// injection).
func isFormula(s string) bool {
	return len(s) > 1 && strings.ContainsRune("=@+-\t\r", rune(s[0])) && strings.ContainsAny(s, "(!|")
}

// guard keeps a spreadsheet from running a cell, as spreadsheets are told that one is text.
// [unguard] is its inverse, for every text.
func guard(s string) string {
	if isFormula(strings.TrimLeft(s, "'")) {
		return "'" + s
	}
	return s
}

// guards is whether whoever wrote a table guards cells.
type guards int

const (
	guardsNone guards = iota
	guardsMaybe
	guardsAll
)

// guardsOf finds out whether a table's cells are guarded. A cell that should be and isn't says no. Without one, two
// that are guarded say yes. A single one may be, in a table with columns of [WriteCSV]; elsewhere it is a value that
// begins so.
func guardsOf(t Table) guards {
	if t.Delimiter == JSONObjects {
		return guardsNone
	}
	n := 0
	for _, r := range t.Rows {
		for _, c := range r.Cells {
			if isFormula(c) {
				return guardsNone
			}
			if unguard(c) != c {
				n++
			}
		}
	}
	ours := !slices.ContainsFunc(t.Header, func(name string) bool {
		return !slices.ContainsFunc(CSVColumns(), func(c CSVColumn) bool { return c.Name == name })
	})
	switch {
	case n > 1:
		return guardsAll
	case n == 1 && ours && len(t.Header) > 0:
		return guardsMaybe
	}
	return guardsNone
}

func unguard(s string) string {
	if rest, ok := strings.CutPrefix(s, "'"); ok && isFormula(strings.TrimLeft(rest, "'")) {
		return rest
	}
	return s
}

// kinds that a column of kinds may name, folded; anything else is a login.
var kindNames = map[string]vault.Type{
	"note":        vault.TypeNote,
	"secure note": vault.TypeNote,
	"securenote":  vault.TypeNote,
	"notiz":       vault.TypeNote,
	"app":         vault.TypeApp,
}

func (r *record) entry() Row {
	row := Row{
		Files: r.files,
		Entry: vault.Entry{Type: vault.TypeLogin, Fields: map[vault.Field]vault.Register{}},
		Named: r.get(MeansTitle) != "",
	}
	addresses, app, rest := splitAddresses(r.get(MeansAddress))
	if app == "" {
		app = r.get(MeansApp)
	}
	owns := r.owns
	for _, bad := range rest {
		r.remark(RemarkAddress, 0, "")
		owns = append(owns, vault.CustomField{Label: "Address", Form: vault.FormText, Value: secret.New(bad)})
	}
	switch {
	case kindNames[foldName(r.get(MeansKind))] != "":
		row.Entry.Type = kindNames[foldName(r.get(MeansKind))]
	case app != "" && len(addresses) == 0:
		row.Entry.Type = vault.TypeApp
	case len(addresses) == 0 && r.get(MeansUsername) == "" && r.get(MeansPassword) == "" && r.get(MeansSetup) == "":
		row.Entry.Type = vault.TypeNote
	}
	set := func(f vault.Field, v any) { row.set(f, v, Unknown) }
	title := r.get(MeansTitle)
	bare := strings.TrimSuffix(title, " ("+r.get(MeansUsername)+")") // so some browsers make a title
	if title == "" || len(addresses) > 0 && isHost(bare, addresses[0].URL) {
		row.Named = false
		switch {
		case len(addresses) > 0:
			title = site.Title(addresses[0].URL)
		case title == "":
			title = appTitle(app)
		}
	}
	if title == "" { // it must be found again
		if title = clip(r.get(MeansUsername), maxTitle); title == "" {
			title = "Line " + strconv.Itoa(r.line)
		}
		r.remark(RemarkUntitled, 0, "")
	}
	set(vault.FieldTitle, title)
	set(vault.FieldUsername, r.get(MeansUsername))
	changed, _ := ParseTime(r.get(MeansChanged))
	if changed == 0 {
		changed, _ = ParseTime(r.get(MeansMade))
	}
	row.set(vault.FieldPassword, r.get(MeansPassword), max(changed, Unknown))
	if len(addresses) > 0 {
		set(vault.FieldAddresses, addresses)
	}
	if row.Entry.Type == vault.TypeApp {
		set(vault.FieldApp, app)
	}
	if s := r.get(MeansSetup); s != "" {
		if setup, err := otp.Parse(secret.New(s)); err == nil {
			set(vault.FieldSetup, setup.String())
		} else {
			owns = append(owns, vault.CustomField{Label: "Setup key", Form: vault.FormHidden, Value: secret.New(s)})
			r.remark(RemarkSetup, 0, "")
		}
	}
	set(vault.FieldNotes, strings.Join(r.notes, "\n\n"))
	set(vault.FieldFolder, vault.CleanFolder(strings.ReplaceAll(r.get(MeansFolder), `\`, "/")))
	if tags := vault.CleanTags(strings.NewReplacer(";", ",", "|", ",", "\n", ",").Replace(r.get(MeansTags))); len(
		tags,
	) > 0 {
		slices.Sort(tags)
		set(vault.FieldTags, tags)
	}
	switch strings.ToLower(r.get(MeansPinned)) {
	case "1", "true", "yes", "y", "x", "ja", "oui":
		set(vault.FieldPinned, true)
	}
	row.setOwns(owns)
	row.Remarks = r.remarks
	return row
}

// setOwns adds custom fields. Their registers are named by their labels, so
// that the same field of two files is one.
func (row *Row) setOwns(owns []vault.CustomField) {
	seen := map[string]int{}
	for i, o := range owns {
		o, err := vault.CheckCustomField(
			vault.CustomField{Label: clip(o.Label, vault.MaxFieldName), Form: o.Form, Order: i, Value: o.Value},
		)
		if err != nil {
			continue // its name is blank
		}
		o.ID = "in-" + foldName(o.Label)
		if seen[o.ID]++; seen[o.ID] > 1 {
			o.ID += fmt.Sprintf("-%d", seen[o.ID])
		}
		f, v := o.Register()
		row.set(f, v, Unknown)
	}
}

func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n])
	}
	return s
}

// set sets a register, unless the value is blank.
func (row *Row) set(f vault.Field, v any, at int64) {
	e, err := vault.New("", row.Entry.Type, vault.Stamp{At: at}, vault.Changes{f: v})
	if r, ok := e.Fields[f]; ok && err == nil {
		row.Entry.Fields[f] = vault.Register{Value: r.Value, Stamp: vault.Stamp{At: at}}
	}
}

// splitAddresses splits a cell of addresses and cleans each. What belongs to a program
// comes as its name; what is no address at all comes back as it was.
func splitAddresses(cell string) (out []vault.Address, app string, rest []string) {
	parts := strings.FieldsFunc(
		cell,
		func(r rune) bool { return r == '\n' || r == '\r' || r == ' ' || r == '|' || r == ';' },
	)
	for _, p := range parts {
		for _, one := range splitAtCommas(p) {
			if name, ok := appOf(one); ok {
				app = name
				continue
			}
			clean, err := site.Clean(one)
			if err != nil {
				rest = append(rest, one)
				continue
			}
			if a := (vault.Address{URL: clean}); !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	sortAddresses(out)
	return out, app, rest
}

// splitAtCommas splits addresses at commas that another one follows: an address may
// have a comma of its own.
func splitAtCommas(s string) (out []string) {
	for {
		i := strings.IndexByte(s, ',')
		for i >= 0 && !looksAddress(strings.TrimLeft(s[i+1:], " ")) {
			j := strings.IndexByte(s[i+1:], ',')
			if j < 0 {
				i = -1
				break
			}
			i += 1 + j
		}
		if i < 0 {
			return append(out, strings.TrimRight(s, ","))
		}
		out, s = append(out, s[:i]), s[i+1:]
	}
}

// sortAddresses puts pages before a site's front door: the sign-in page is of more
// use. Otherwise they are in the order of their text.
func sortAddresses(list []vault.Address) {
	slices.SortFunc(list, func(a, b vault.Address) int {
		front := func(a vault.Address) int {
			if strings.HasSuffix(a.URL, "/") && strings.Count(a.URL, "/") == 3 {
				return 1
			}
			return 0
		}
		if c := front(a) - front(b); c != 0 {
			return c
		}
		return strings.Compare(a.URL+string(a.Match), b.URL+string(b.Match))
	})
}

// appOf reads the address of a program: android://HASH@com.example.app/ (as Android
// browsers write it), and androidapp:// and ios-app:// (common practice).
func appOf(s string) (name string, ok bool) {
	for _, scheme := range []string{"android://", "androidapp://", "ios-app://", "iosapp://"} {
		if rest, found := strings.CutPrefix(strings.ToLower(s), scheme); found {
			if i := strings.LastIndexByte(rest, '@'); i >= 0 {
				rest = rest[i+1:]
			}
			name, _, _ = strings.Cut(rest, "/")
			return name, name != ""
		}
	}
	return "", false
}

// appTitle makes a title of a program's bundle name: the last part that says something.
func appTitle(bundle string) string {
	parts := strings.Split(bundle, ".")
	for i := len(parts) - 1; i >= 0; i-- {
		switch p := parts[i]; strings.ToLower(p) {
		case "android", "app", "mobile", "ios", "com", "":
		default:
			r := []rune(p)
			return string(unicode.ToUpper(r[0])) + string(r[1:])
		}
	}
	return bundle
}

// isHost reports whether a title is only the address again.
func isHost(title, address string) bool {
	t := strings.TrimPrefix(strings.ToLower(strings.TrimSuffix(title, "/")), "www.")
	if _, after, ok := strings.Cut(t, "://"); ok {
		t = strings.TrimPrefix(after, "www.")
	}
	host := site.Host(address)
	return t == strings.TrimPrefix(host, "www.") || t == site.Domain(address) ||
		t == strings.TrimSuffix(strings.TrimPrefix(site.Shown(address), "www."), "/")
}

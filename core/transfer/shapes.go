package transfer

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"regexp"
	"slices"
	"strings"
)

// Other ways to write a table: lists of JSON objects, texts of a label and a value on each line, tables drawn with
// bars, and values in single quotes. Each is brought to a [Table], so that its user can say what its columns are.

// What [Table.Delimiter] is of a file that has none.
const (
	LabelledLines = ':' // a label and a value on each line
	ValueLines    = '¶' // a value on each line, and empty lines between logins
	Dashes        = '-' // dashes or strokes with blanks around them
	JSONObjects   = '{' // a list of JSON objects
)

// --- Lists of JSON objects

// member is a name and a value of a JSON object, in the order of the file.
type member struct {
	name  string
	value any // string, json.Number, bool, nil, []any or []member
}

// readObjects reads a file that is a list of JSON objects, or an object whose only such list it is. ok is false if it
// is neither.
func readObjects(b []byte) (t Table, ok bool, err error) {
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	v, err := anyJSON(d, 0)
	if err != nil {
		return t, false, nil
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return t, false, nil
	}
	list, ok := v.([]any)
	if !ok {
		if list, ok = onlyList(v); !ok {
			return t, false, nil
		}
	}
	if len(list) > MaxItems {
		return t, true, ErrTooMany
	}
	t = Table{Encoding: "JSON", Delimiter: JSONObjects}
	place := map[string]int{}
	for i, o := range list {
		rec := Record{Line: i + 1, End: i + 1}
		put := func(name, value string) {
			n, known := place[name]
			if !known {
				n = len(t.Header)
				place[name] = n
				t.Header = append(t.Header, name)
			}
			rec.put(n, value)
		}
		if fields, isObject := o.([]member); isObject {
			flatten(fields, "", put)
		} else {
			flatten([]member{{"value", o}}, "", put)
		}
		if len(t.Header) > MaxColumns {
			return t, true, ErrColumns
		}
		if t.Rows = append(t.Rows, rec); allEmpty(rec.Cells) {
			t.Rows = t.Rows[:len(t.Rows)-1]
			t.Skipped = append(t.Skipped, Skipped{rec.Line, rec.End, SkipEmpty})
		}
	}
	return t, isHeader(t.Header), nil
}

// put adds a value to a cell: below what is there.
func (r *Record) put(at int, value string) {
	for len(r.Cells) <= at {
		r.Cells = append(r.Cells, "")
	}
	r.Cells[at] = strings.TrimPrefix(r.Cells[at]+"\n"+value, "\n")
}

var errDeep = errors.New("too many levels")

// anyJSON reads the next value, its objects' members in their order.
func anyJSON(d *json.Decoder, level int) (any, error) {
	const most = 20
	if level > most {
		return nil, errDeep
	}
	token, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch token {
	case json.Delim('['):
		out := []any{}
		for d.More() {
			v, err := anyJSON(d, level+1)
			if err != nil {
				return nil, err
			}
			out = append(out, v)
		}
		_, err = d.Token()
		return out, err
	case json.Delim('{'):
		out := []member{}
		for d.More() {
			name, err := d.Token()
			if err != nil {
				return nil, err
			}
			v, err := anyJSON(d, level+1)
			if err != nil {
				return nil, err
			}
			out = append(out, member{name.(string), v})
		}
		_, err = d.Token()
		return out, err
	}
	return token, nil
}

// onlyList returns the list of objects that an object has, if it has one alone and no object beside: nothing of the
// file would be left out but words about it.
func onlyList(v any) (list []any, ok bool) {
	fields, isObject := v.([]member)
	if !isObject {
		return nil, false
	}
	for _, f := range fields {
		switch value := f.value.(type) {
		case []member:
			return nil, false
		case []any:
			if len(value) == 0 {
				continue
			}
			if ok {
				return nil, false
			}
			list, ok = value, true
		}
	}
	return list, ok
}

// flatten gives each value within an object with the names that lead to it. What its user named, as in a list of
// {"name": …, "value": …}, has that name.
func flatten(fields []member, path string, put func(name, value string)) {
	if name, value, ok := named(fields); ok && path != "" {
		put(path+" "+name, value)
		return
	}
	for _, f := range fields {
		name := f.name
		if path != "" {
			switch name = path + " " + f.name; byName[foldName(f.name)] {
			case MeansAddress, MeansUsername, MeansPassword, MeansSetup:
				name = f.name
			}
		}
		flattenValue(f.value, name, put)
	}
}

func flattenValue(v any, name string, put func(name, value string)) {
	switch v := v.(type) {
	case string:
		put(name, v)
	case json.Number:
		put(name, v.String())
	case bool:
		put(name, map[bool]string{true: "true", false: "false"}[v])
	case []member:
		flatten(v, name, put)
	case []any:
		for _, one := range v {
			flattenValue(one, name, put)
		}
	}
}

// named reads an object that is a name and a value.
func named(fields []member) (name, value string, ok bool) {
	for _, f := range fields {
		s, isText := f.value.(string)
		switch strings.ToLower(f.name) {
		case "name", "label", "key":
			name = s
		case "value":
			value, ok = s, isText
		}
	}
	return name, value, ok && name != ""
}

// --- A label and a value on each line

var (
	labelled = regexp.MustCompile(`^\s*[-*•]?\s*(\p{L}[\p{L}\d ._'/()-]{0,39}?)\s*[:=](?:\s+(.*)|)$`)
	// assigned is such a line as programs write it.
	assigned = regexp.MustCompile(`^\s*(\p{L}[\p{L}\d ._-]{0,39}?)\s*=(\S.*)$`)
)

// label is a line of such a text: its label and value, or what goes on with the value before.
type label struct {
	name, value string
	meaning     Meaning // empty if nobody knows the label
	empty       bool
	head        bool // a heading: a login begins with it
}

// readLabels reads a text of a label and a value on each line: a login is some of them, with a password. ok is false if
// the text is none.
func readLabels(text string, lines []line) (t Table, ok bool) {
	list := make([]label, len(lines))
	filled, known, passwords := 0, 0, 0
	for i, l := range lines {
		s := text[l.from:l.to]
		if list[i].empty = strings.TrimSpace(s) == "" || isRule(s); list[i].empty {
			continue
		}
		filled++
		list[i].value = s
		m := labelled.FindStringSubmatch(s)
		if m == nil {
			m = assigned.FindStringSubmatch(s)
		}
		if m != nil {
			list[i].name, list[i].value, list[i].meaning = m[1], m[2], byName[foldName(m[1])]
		}
		if list[i].meaning != "" {
			known++
		}
		if list[i].meaning == MeansPassword {
			passwords++
		}
	}
	if passwords == 0 || known < 2 || known*2 < filled {
		return t, false
	}
	findHeadings(list)
	unquote(list)
	t = Table{Delimiter: LabelledLines}
	b := labelReader{t: &t, place: map[string]int{}, apart: apartByGaps(list)}
	for i := range list {
		b.take(list, i)
	}
	b.end()
	return t, true
}

// isRule reports whether a line only separates others.
func isRule(s string) bool {
	s = strings.TrimSpace(s)
	return len(s) > 2 && strings.Trim(s, s[:1]) == "" && strings.Contains("-=*_#~.", s[:1])
}

// apartByGaps reports whether each login of a text begins after an empty line, with the label that the first begins
// with.
func apartByGaps(list []label) bool {
	first, gap, gaps := "", true, 0
	for _, l := range list {
		switch {
		case l.empty:
			gap = true
			continue
		case gap && l.meaning != "" && first == "":
			first = foldName(l.name)
		case gap && first != "" && foldName(l.name) != first:
			return false
		case gap && first != "":
			gaps++
		}
		gap = false
	}
	return gaps > 0
}

// labelReader makes rows of labelled lines.
type labelReader struct {
	t     *Table
	place map[string]int // of each label's column
	apart bool
	rec   *Record
	last  int // the column that the last line went to
	gap   bool
}

func (b *labelReader) take(list []label, i int) {
	l := list[i]
	if l.empty {
		b.gap = true
		return
	}
	at, known := b.place[foldName(l.name)]
	again := b.rec != nil && known && at < len(b.rec.Cells) && b.rec.Cells[at] != ""
	switch {
	case b.rec == nil && l.meaning == "":
		b.t.Skipped = append(b.t.Skipped, Skipped{i + 1, i + 1, SkipHeading})
		return
	case l.name == "" || l.meaning == "" && (b.lastMeans() == MeansNotes || l.value == ""):
		b.goOn(l)
		b.rec.End = i + 1
		return
	case b.rec == nil || l.head || b.apart && b.gap || !b.apart && again:
		b.end()
		b.rec = &Record{Line: i + 1}
	}
	b.gap = false
	b.last = b.column(l.name)
	b.rec.put(b.last, l.value)
	b.rec.End = i + 1
}

// goOn adds a line that has no label of its own: to a note, else to the login's notes.
func (b *labelReader) goOn(l label) {
	text := strings.TrimSpace(l.value)
	if l.name != "" {
		text = strings.TrimSpace(l.name + ": " + l.value)
	}
	if m := b.lastMeans(); m != MeansNotes && m != "" {
		b.last = b.column("Notes")
	}
	b.rec.put(b.last, text)
}

// lastMeans is what the column that the last line went to is called for; empty if nobody knows.
func (b *labelReader) lastMeans() Meaning {
	if b.rec == nil {
		return ""
	}
	return byName[foldName(b.t.Header[b.last])]
}

// column is the place of a label's values.
func (b *labelReader) column(name string) int {
	at, known := b.place[foldName(name)]
	if !known {
		at = len(b.t.Header)
		b.place[foldName(name)] = at
		b.t.Header = append(b.t.Header, name)
	}
	return at
}

func (b *labelReader) end() {
	if b.rec != nil {
		b.t.Rows = append(b.t.Rows, *b.rec)
	}
	b.rec = nil
}

// --- Single quotes, and tables drawn with bars

// swapQuotes writes single quotes for double ones, and the other way round.
var swapQuotes = strings.NewReplacer(`'`, `"`, `"`, `'`)

// inSingleQuotes reports whether nearly all values of a text's first lines stand in single quotes, and none in double
// ones.
func inSingleQuotes(text string, lines []line) bool {
	const enough = 40
	all, quoted := 0, 0
	for _, l := range lines[:min(len(lines), enough)] {
		s := strings.TrimSpace(text[l.from:l.to])
		if s == "" {
			continue
		}
		if strings.HasPrefix(s, `"`) {
			return false
		}
		all++
		if len(s) > 4 && s[0] == '\'' && s[len(s)-1] == '\'' && slices.ContainsFunc(delimiters, func(d byte) bool {
			return strings.Contains(s, "'"+string(d)+"'") || strings.Contains(s, "'"+string(d)+" '")
		}) {
			quoted++
		}
	}
	return quoted > 0 && quoted*10 >= all*9
}

var drawnLine = regexp.MustCompile(`^:?-{2,}:?$`)

// isDrawn reports whether a row only draws the line below a header, as in |---|---|.
func isDrawn(cells []string) bool {
	n := 0
	for _, c := range cells {
		if c = strings.TrimSpace(c); c == "" {
			continue
		}
		if !drawnLine.MatchString(c) {
			return false
		}
		n++
	}
	return n > 1
}

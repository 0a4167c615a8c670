package transfer

import (
	"regexp"
	"slices"
	"strings"
)

// Lists as people write them by hand: a heading above labelled lines, lines that stand together and have no labels, and
// lines that are parted by dashes.

// findHeadings takes the lines right above the first label of each login for its heading, if the logins have one: the
// name of the site, or its address. Only what is marked as a heading may have empty lines below it.
func findHeadings(list []label) {
	isHeading := func(at, above int) bool {
		l := list[at]
		if l.meaning != "" || l.name != "" && l.value != "" {
			return false
		}
		return at == above || strings.HasPrefix(l.value, "#") || strings.HasPrefix(l.value, "[")
	}
	first := ""
	var heads []int
	starts, before := 0, -1 // before is the line above that isn't empty
	for i, l := range list {
		if l.empty {
			continue
		}
		if first == "" && l.meaning != "" {
			first = foldName(l.name)
		}
		if l.meaning != "" && foldName(l.name) == first {
			if starts++; before >= 0 && isHeading(before, i-1) {
				heads = append(heads, before)
			}
		}
		before = i
	}
	if len(heads) == 0 || len(heads) < starts { // those without would be taken for parts of the ones before
		return
	}
	for _, i := range heads {
		l := &list[i]
		text := l.value
		if l.name != "" { // "Ferrylink:"
			text = l.name
		}
		text = bullets.ReplaceAllString(strings.TrimSpace(text), "")
		if inner, ok := strings.CutPrefix(text, "["); ok {
			text = strings.TrimSuffix(inner, "]")
		}
		*l = label{name: "Title", value: strings.TrimSpace(text), meaning: MeansTitle, head: true}
		if looksAddress(l.value) {
			l.name, l.meaning = "URL", MeansAddress
		}
	}
}

// bullets stand before a heading or a point of a list.
var bullets = regexp.MustCompile(`^(?:#{1,6}\s+|\d{1,4}[.)]\s+|[-*•]\s+)`)

// unquote takes the quotes off values, if all that have some are within a pair, as programs write them.
func unquote(list []label) {
	quoted := func(l label) bool {
		return l.meaning != "" && len(l.value) > 1 && l.value[0] == '"' && strings.HasSuffix(l.value, `"`)
	}
	for _, l := range list {
		if l.meaning != "" && strings.Contains(l.value, `"`) && !quoted(l) {
			return
		}
	}
	for i, l := range list {
		if quoted(l) && strings.Count(l.value, `"`) == 2 {
			list[i].value = l.value[1 : len(l.value)-1]
		}
	}
}

// isSeparated reports whether a line looks like a row of a table that is parted in one of the usual ways.
func isSeparated(s string) bool {
	return strings.ContainsAny(s, "\t;|") || strings.Count(s, ",") > 1 || strings.Contains(s, `","`)
}

// readBlocks reads a text whose lines stand together, as many each time, with empty lines between: each block is a row.
// ok is false if the text is none.
func readBlocks(text string, lines []line) (t Table, ok bool) {
	const least, most = 3, 5
	var rows []Record
	open := false
	for i, l := range lines {
		s := strings.TrimSpace(text[l.from:l.to])
		switch {
		case s == "":
			open = false
			continue
		case isSeparated(s):
			return t, false
		case !open:
			rows = append(rows, Record{Line: i + 1})
			open = true
		}
		r := &rows[len(rows)-1]
		if r.Cells, r.End = append(r.Cells, s), i+1; len(r.Cells) > most || len(rows) > MaxItems {
			return t, false
		}
	}
	other := func(r Record) bool { return len(r.Cells) != len(rows[0].Cells) }
	if len(rows) < 2 || len(rows[0].Cells) < least || slices.ContainsFunc(rows, other) {
		return t, false
	}
	return Table{Delimiter: ValueLines, Rows: rows}, true
}

// readDashes reads a text of which each line has the same parts with dashes or strokes between them, and blanks around
// these. ok is false if it is none.
func readDashes(text string, lines []line) (t Table, ok bool) {
	for _, between := range []string{" - ", " – ", " — ", " / ", " : "} {
		var rows []Record
		fits := true
		for i, l := range lines {
			s := strings.TrimSpace(text[l.from:l.to])
			if s == "" {
				continue
			}
			cells := strings.Split(s, between)
			if fits = !isSeparated(s) && len(cells) > 2 && (len(rows) == 0 || len(cells) == len(rows[0].Cells)); !fits {
				break
			}
			rows = append(rows, Record{Line: i + 1, End: i + 1, Cells: cells})
		}
		if fits && len(rows) > 1 && len(rows) <= MaxItems && len(rows[0].Cells) <= MaxColumns {
			t = Table{Delimiter: Dashes, Rows: rows}
			if isHeader(rows[0].Cells) {
				t.Header, t.HeaderAt, t.Rows = rows[0].Cells, rows[0].Line, rows[1:]
			}
			return t, true
		}
	}
	return t, false
}

package transfer

import (
	"slices"
	"sort"
	"strings"
)

// How a table is split into rows. Where a file keeps to RFC 4180 its rows are those of that standard. Many exporters
// don't: they write a value as it is, quotation marks and all. There a quote is only a quote where the rest of the file
// bears it out: it ends at a cell's end, the row then has as many cells as the others, and what it would swallow
// doesn't look like rows itself.

// span is a part of the text: a line without its end, or a cell.
type span struct{ from, to int }

// line is a line of a file, and where the next one begins.
type line struct {
	span
	next int
}

// splitLines splits a text at CR LF, LF and CR.
func splitLines(s string) (out []line) {
	for from := 0; from < len(s); {
		n := strings.IndexAny(s[from:], "\r\n")
		if n < 0 {
			return append(out, line{span{from, len(s)}, len(s)})
		}
		to := from + n
		next := to + 1
		if s[to] == '\r' && next < len(s) && s[next] == '\n' {
			next++
		}
		out = append(out, line{span{from, to}, next})
		from = next
	}
	return out
}

// reader splits a text into rows.
type reader struct {
	s     string
	delim byte
	lines []line
	// width is how many cells a row of this file has; 0 keeps to the standard whatever comes of it.
	width int
	// padded says that a blank follows every delimiter, and is no part of the value.
	padded bool
	// drawn says that its cells are drawn with bars: the blanks around a value are no part of it.
	drawn bool
	// single says that single quotes were written for double ones, and the other way round.
	single bool
	// runs are where an odd number of quotes in a row ends: there a quoted cell may end.
	runs []int
	// ends are those of them that stand at the end of a cell.
	ends []int
	// rows counts, up to each line, how many look like a row of their own.
	rows []int32
}

func newReader(s string, lines []line, delim byte) *reader {
	r := &reader{s: s, delim: delim, lines: lines}
	for i := 0; i < len(s); {
		n := strings.IndexByte(s[i:], '"')
		if n < 0 {
			break
		}
		from := i + n
		for i = from; i < len(s) && s[i] == '"'; i++ {
		}
		if (i-from)%2 == 1 {
			r.runs = append(r.runs, i-1)
			if r.ended(i) {
				r.ends = append(r.ends, i-1)
			}
		}
	}
	return r
}

// ended reports whether a cell may end at a place.
func (r *reader) ended(i int) bool {
	return i >= len(r.s) || r.s[i] == r.delim || r.s[i] == '\n' || r.s[i] == '\r'
}

// after returns the first of a sorted list that is greater.
func after(list []int, i int) (int, bool) {
	n := sort.SearchInts(list, i+1)
	if n == len(list) {
		return 0, false
	}
	return list[n], true
}

// cell is a place in the text that was taken for a cell. A quoted one's span is what is between its quotes.
type cell struct {
	span
	quoted bool
	// bare: it begins with a quote that was taken for a part of it
	bare bool
}

func (r *reader) text(c cell) string {
	s := r.s[c.from:c.to]
	switch {
	case c.quoted:
		s = strings.ReplaceAll(s, `""`, `"`)
	case r.drawn:
		s = strings.Trim(s, " ")
	}
	if r.single {
		s = swapQuotes.Replace(s)
	}
	return s
}

// start is where a cell begins that follows a delimiter.
func (r *reader) start(at, lineEnd int) int {
	if r.padded && at < lineEnd && r.s[at] == ' ' {
		return at + 1
	}
	return at
}

// isPadded reports whether the first lines have a blank after every delimiter.
func (r *reader) isPadded() bool {
	const enough = 40
	blanks, others := 0, 0
	for _, l := range r.lines[:min(len(r.lines), enough)] {
		if isDrawn(strings.Split(r.s[l.from:l.to], string(r.delim))) {
			continue
		}
		for i := l.from; i < l.to-1; i++ {
			switch {
			case r.s[i] != r.delim:
			case r.s[i+1] == ' ':
				blanks++
			case r.s[i+1] != r.delim:
				others++
			}
		}
	}
	return blanks > 2 && others*4 < blanks
}

// escapes reports whether a file writes a quote within a cell with a backslash before it, and doubles none.
func escapes(text string) bool {
	found := false
	word := func(c byte) bool { return c > ' ' && !strings.ContainsRune(`",;|`, rune(c)) }
	for from := 0; ; {
		n := strings.IndexByte(text[from:], '"')
		if n < 0 {
			return found
		}
		i := from + n
		from = i + 1
		if i == 0 || from == len(text) {
			continue
		}
		switch before, behind := text[i-1], text[from]; {
		case before == '\\' && word(behind):
			found = true
		case behind == '"' && word(before) && before != '\\':
			return false // doubled
		}
	}
}

// unescaped writes such quotes as RFC 4180 does.
var unescaped = strings.NewReplacer(`\\`, `\`, `\"`, `""`)

// plainCell takes what is at a place up to the next delimiter of its line.
func (r *reader) plainCell(at, lineEnd int) cell {
	if n := strings.IndexByte(r.s[at:lineEnd], r.delim); n >= 0 {
		lineEnd = at + n
	}
	return cell{span: span{at, lineEnd}, bare: at < lineEnd && r.s[at] == '"'}
}

// quotedCell takes a cell in quotes. By the standard it ends at the first quote that isn't doubled; else at the first
// that stands at a cell's end. clean is false where what follows the quote isn't the end, or no quote follows.
func (r *reader) quotedCell(at int, standard bool) (c cell, next int, clean bool) {
	n := 1
	for at+n < len(r.s) && r.s[at+n] == '"' {
		n++
	}
	if n%2 == 0 && (standard || r.ended(at+n)) {
		return cell{span: span{at + 1, at + n - 1}, quoted: true}, at + n, r.ended(at + n)
	}
	list := r.ends
	if standard {
		list = r.runs
	}
	end, ok := after(list, at+n-1)
	if !ok {
		return cell{span: span{at + 1, len(r.s)}, quoted: true}, len(r.s), false
	}
	return cell{span: span{at + 1, end}, quoted: true}, end + 1, r.ended(end + 1)
}

// alone splits one line by itself: a quote that isn't closed in it stands for itself. At most a few cells more than a
// table may have are split off.
func (r *reader) alone(i int) (out []cell) {
	at, end := r.lines[i].from, r.lines[i].to
	for len(out) <= MaxColumns {
		c := r.plainCell(at, end)
		next := c.to
		if c.bare {
			if q, n, clean := r.quotedCell(at, false); clean && n <= end {
				c, next = q, n
			}
		}
		out = append(out, c)
		if next >= end {
			return out
		}
		at = r.start(next+1, end)
	}
	return out
}

// guessWidth finds out how many cells a row has: as most lines that have several, a header before others.
func (r *reader) guessWidth() int {
	count := map[int]int{}
	lines, header := 0, 0
	for i := range r.lines {
		cells := r.alone(i)
		if len(cells) < 2 {
			continue
		}
		lines++
		count[len(cells)]++
		if header == 0 && lines <= headerWithin && isHeader(r.texts(cells)) {
			header = len(cells)
		}
	}
	if header > 0 && (count[header]*4 >= lines || r.standardRows(header)) {
		return header
	}
	best := 1
	for n, c := range count {
		if c > count[best] || c == count[best] && n > best {
			best = n
		}
	}
	return best
}

// standardRows reports whether most of the first rows have a number of cells, if the file keeps to the standard.
func (r *reader) standardRows(width int) bool {
	const enough = 300
	n, fit := 0, 0
	for i := 0; i < len(r.lines) && n < enough; {
		cells, last, clean := r.standard(i)
		if !clean {
			last = i
		} else if len(cells) > 1 {
			if n++; len(cells) == width {
				fit++
			}
		}
		i = last + 1
	}
	return n > 0 && 2*fit >= n
}

func (r *reader) texts(cells []cell) []string {
	out := make([]string, len(cells))
	for i, c := range cells {
		out[i] = r.text(c)
	}
	return out
}

// filled counts the cells that aren't empty.
func (r *reader) filled(cells []cell) (n int) {
	for _, c := range cells {
		if strings.TrimSpace(r.s[c.from:c.to]) != "" {
			n++
		}
	}
	return n
}

// looksRows counts the lines of a range that look like a row of their own. One that begins with the end of a quoted
// cell is the rest of a row whose first cell has several lines, unless there is a row before it already.
func (r *reader) looksRows(from, to int) int {
	if r.rows == nil {
		r.rows = make([]int32, len(r.lines)+1)
		before := true // whether the line before is a row
		for i := range r.lines {
			r.rows[i+1] = r.rows[i]
			cells := r.alone(i)
			before = len(cells) == r.width && r.filled(cells) >= max(2, (r.width+1)/2) && (before || !r.closes(i))
			if before {
				r.rows[i+1]++
			}
		}
	}
	return int(r.rows[to] - r.rows[from])
}

// swallows reports whether a row of several lines would swallow others: half of its lines after the first look like
// rows of their own.
func (r *reader) swallows(first, last int) bool {
	more := last - first
	if more == 0 || r.width < 2 {
		return false
	}
	n := r.looksRows(first+1, last+1)
	return n > 0 && 2*n >= more && (more > 1 || r.width > 3)
}

// closes reports whether a line begins with the end of a quoted cell.
func (r *reader) closes(i int) bool {
	c := r.plainCell(r.lines[i].from, r.lines[i].to)
	first := r.s[c.from:c.to]
	return strings.HasSuffix(first, `"`) && strings.Count(first, `"`)%2 == 1
}

// lineAt returns the line that a place is in, at or after another.
func (r *reader) lineAt(at, from int) int {
	if at <= r.lines[from].to {
		return from
	}
	return from + sort.Search(len(r.lines)-1-from, func(n int) bool { return at <= r.lines[from+n].to })
}

// record takes the row that begins on a line, and says on which the next begins.
func (r *reader) record(i int) (out Record, next int) {
	cells, last, clean := r.standard(i)
	switch {
	case clean && last == i, r.width == 0:
		return r.made(i, last, cells, ""), last + 1
	case clean && len(cells) == r.width && !r.swallows(i, last):
		return r.made(i, last, cells, ""), last + 1
	}
	cut := !clean && last > i && last == len(r.lines)-1 && len(cells) == r.width && r.looksRows(i+1, last+1) == 0
	if cut { // the file ends within a quoted cell
		return r.made(i, last, cells, DoubtLines), last + 1
	}
	if fit, end, ok := r.fit(i); ok {
		return r.made(i, end, fit, ""), end + 1
	}
	if clean && !r.swallows(i, last) {
		return r.made(i, last, cells, DoubtLines), last + 1
	}
	return r.made(i, i, r.alone(i), ""), i + 1
}

// made makes a row from cells.
func (r *reader) made(first, last int, cells []cell, doubt Doubt) Record {
	out := Record{Line: first + 1, End: last + 1, Cells: r.texts(cells), Doubt: doubt}
	if i := slices.IndexFunc(cells, func(c cell) bool { return c.bare }); i >= 0 && doubt == "" {
		out.Doubt, out.DoubtColumn = DoubtQuote, i+1
	}
	return out
}

// standard splits a row by RFC 4180. clean is false where the row breaks it: something follows a closing quote, or none
// comes.
func (r *reader) standard(i int) (out []cell, last int, clean bool) {
	at, last, clean := r.lines[i].from, i, true
	for {
		c := cell{}
		next := at
		if at < r.lines[last].to && r.s[at] == '"' {
			ok := false
			c, next, ok = r.quotedCell(at, true)
			last = r.lineAt(next, last)
			if next >= len(r.s) {
				return append(out, c), len(r.lines) - 1, ok
			}
			if !ok {
				clean = false
				rest := r.plainCell(next, r.lines[last].to)
				next = rest.to
			}
		} else {
			c = r.plainCell(at, r.lines[last].to)
			next = c.to
		}
		out = append(out, c)
		if next >= r.lines[last].to || len(out) > MaxColumns {
			return out, last, clean
		}
		at = r.start(next+1, r.lines[last].to)
	}
}

// tries bounds the search for a way to split a row.
const tries = 4000

// fit looks for a way to split a row into as many cells as the others have, some of its quotes being quotes and others
// standing for themselves, by which it swallows no other row. Quotes that are quotes come first.
func (r *reader) fit(i int) (out []cell, last int, ok bool) {
	left := tries
	var try func(at, line int) bool
	try = func(at, line int) bool {
		if left--; left < 0 || len(out) >= r.width {
			return false
		}
		step := func(c cell, next, line int) bool {
			out = append(out, c)
			if next >= r.lines[line].to {
				last = line
				if len(out) == r.width && !r.swallows(i, line) {
					return true
				}
			} else if try(r.start(next+1, r.lines[line].to), line) {
				return true
			}
			out = out[:len(out)-1]
			return false
		}
		if at < r.lines[line].to && r.s[at] == '"' {
			if c, next, clean := r.quotedCell(at, false); clean {
				if end := r.lineAt(next, line); end == line || !r.swallows(i, end) {
					if step(c, next, end) {
						return true
					}
				}
			}
		}
		c := r.plainCell(at, r.lines[line].to)
		return step(c, c.to, line)
	}
	ok = try(r.lines[i].from, i)
	return out, last, ok
}

// delimiters in the order in which they are preferred.
var delimiters = []byte{',', ';', '\t', '|'}

// delimiter returns the one that splits the first lines into the same number of cells, and into most.
func delimiter(text string, lines []line) rune {
	const enough = 60
	best, most := byte(','), 0
	lines = lines[:min(len(lines), 4*enough)]
	if len(lines) == 0 {
		return ','
	}
	text = text[:lines[len(lines)-1].next]
	for _, d := range delimiters {
		r := newReader(text, lines, d)
		count := map[int]int{}
		seen, header := 0, 0
		for i := range lines {
			if lines[i].from == lines[i].to {
				continue
			}
			cells := r.alone(i)
			if seen++; seen > enough {
				break
			}
			count[len(cells)]++
			if seen <= headerWithin && header == 0 && len(cells) > 1 && isHeader(r.texts(cells)) {
				header = 1
			}
		}
		for cells, n := range count {
			if cells < 2 {
				continue
			}
			if score := n*1000/min(seen, enough) + min(cells, 20)*5 + header*600; score > most {
				best, most = d, score
			}
		}
	}
	return rune(best)
}

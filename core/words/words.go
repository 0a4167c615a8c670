// Package words reads tables of the words by which the world says something: pages of
// their fields, files of their columns. The tables are embedded by who uses them.
//
// A table is UTF-8 text. A line is what is said, the language (ISO 639-1, or "--" for no language's) and the term,
// separated by tabs; empty lines and lines that begin with "#" are left out. A term
// that begins with "~" is found inside longer words too; one that begins with "=" counts only where nothing else is
// said.
package words

import (
	"fmt"
	"strings"
)

// Term is one line of a table.
type Term struct {
	Says     string // what it means, in the words of who uses the table
	Language string // ISO 639-1, or "--"
	Text     string // without the mark
	Inside   bool   // whether it is found inside longer words
	Whole    bool   // whether it counts only where nothing else is said
}

// Parse returns the terms of a table in their order. A line that isn't one is an error
// that says which.
func Parse(table string) ([]Term, error) {
	var out []Term
	n := 0
	for line := range strings.Lines(table) {
		n++
		line = strings.TrimRight(line, "\r\n")
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		cells := strings.Split(line, "\t")
		if len(cells) != 3 || cells[0] == "" || len(cells[1]) != 2 {
			return nil, fmt.Errorf("words: line %d isn't a meaning, a language and a term: %q", n, line)
		}
		text, inside := strings.CutPrefix(cells[2], "~")
		text, whole := strings.CutPrefix(text, "=")
		if text == "" || strings.TrimSpace(text) != text {
			return nil, fmt.Errorf("words: line %d has no term: %q", n, line)
		}
		out = append(out, Term{cells[0], cells[1], text, inside, whole})
	}
	return out, nil
}

// Sets returns the texts of a table that is part of the program, by what they say. It panics like MustParse.
func Sets(table string) map[string]map[string]bool {
	out := map[string]map[string]bool{}
	for _, t := range MustParse(table) {
		if out[t.Says] == nil {
			out[t.Says] = map[string]bool{}
		}
		out[t.Says][t.Text] = true
	}
	return out
}

// MustParse is Parse for a table that is part of the program; it panics where Parse
// has an error.
func MustParse(table string) []Term {
	terms, err := Parse(table)
	if err != nil {
		panic(err)
	}
	return terms
}

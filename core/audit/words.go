package audit

import (
	_ "embed" // sites.tsv, labels.tsv
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"redlocket/core/words"
)

var (
	//go:embed sites.tsv
	siteTable string
	//go:embed labels.tsv
	labelTable string

	siteTerms  = spaced(siteTable)
	labelTerms = bySaying(spaced(labelTable))
)

// spaced are a table's terms, with blanks around those that stand alone.
func spaced(table string) []words.Term {
	list := words.MustParse(table)
	for i, t := range list {
		list[i].Text = plainWords(t.Text)
		if t.Inside {
			list[i].Text = strings.TrimSpace(list[i].Text)
		}
	}
	return list
}

func bySaying(terms []words.Term) map[string][]string {
	out := map[string][]string{}
	for _, t := range terms {
		out[t.Says] = append(out[t.Says], t.Text)
	}
	return out
}

// plainWords are a text's words in lower case, with one blank between them and around all.
func plainWords(text string) string {
	between := func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) }
	return " " + strings.Join(strings.FieldsFunc(strings.ToLower(norm.NFC.String(text)), between), " ") + " "
}

// saysOf reports whether a text has words of labels.tsv that say something.
func saysOf(text, what string) bool {
	text = plainWords(text)
	for _, w := range labelTerms[what] {
		if strings.Contains(text, w) {
			return true
		}
	}
	return false
}

// saysNone reports whether a value says that there is none: by a word for it, or by no word at all.
func saysNone(value string) bool {
	value = plainWords(value)
	return strings.TrimSpace(value) == "" || slices.Contains(labelTerms["without"], value)
}

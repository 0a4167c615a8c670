package find

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// Query is what was typed into the search line, read.
//
// Words are looked for anywhere; of a whole address it is the site. A word with an equals sign filters instead:
//
//	kind=card            items of one kind
//	folder=Bank          items in a folder, or in one inside it
//	tag="of the boat"    items with a tag; quotes hold a value with spaces together
//	=pinned              items in a state (see States)
//	tag!=old  !=pinned   the opposite
type Query struct {
	Text    string   // as typed
	Words   []string // folded
	Narrows []Narrow
	Strange []string // filters that mean nothing

	joined string // the words with a space between
}

// Narrow is one filter.
type Narrow struct {
	By    string // "kind", "folder", "tag", or empty for a state
	Value string
	Not   bool
}

func (n Narrow) String() string {
	op := "="
	if n.Not {
		op = "!="
	}
	if v := n.Value; v != "" && strings.ContainsFunc(v, unicode.IsSpace) {
		return n.By + op + `"` + strings.ReplaceAll(v, `"`, "") + `"`
	}
	return n.By + op + n.Value
}

// States are what may be so of an item, and can be asked for.
func States() []string {
	return []string{
		"pinned", "archived", "no-password", "never-used", "reused", "suspect", "staged", "undecided", "code", "file",
		"runs-out",
	}
}

// The longest query that is read, in bytes; what is beyond is dropped.
const maxQuery = 300

// Parse reads a search line.
func Parse(text string) Query {
	for len(text) > maxQuery {
		_, n := utf8.DecodeLastRuneInString(text)
		text = text[:len(text)-n]
	}
	q := Query{Text: text}
	f := newFolder()
	for _, w := range split(text) {
		if host := hostOf(w); host != "" {
			q.Words = append(q.Words, f.fold(host))
			continue
		}
		by, value, narrow := strings.Cut(w, "=")
		if !narrow {
			q.Words = append(q.Words, strings.Fields(f.fold(w))...)
			continue
		}
		n := Narrow{Value: strings.Trim(value, `"`)}
		n.By, n.Not = strings.CutSuffix(strings.ToLower(by), "!")
		if n.Value == "" && n.By != "" {
			continue // still being typed
		}
		if !n.known() {
			q.Strange = append(q.Strange, w)
			continue
		}
		q.Narrows = append(q.Narrows, n)
	}
	q.joined = strings.Join(q.Words, " ")
	all := q.Words
	q.Words = nil
	for i, w := range all {
		if between := i > 0 && i < len(all)-1; !between || !isAnd(w) {
			q.Words = append(q.Words, w)
		}
	}
	return q
}

// isAnd reports whether a word between others joins them: a title may have a sign for it.
func isAnd(word string) bool {
	return slices.Contains([]string{"and", "und", "et", "og", "och", "&"}, word)
}

// hostOf returns the site of a whole address that was pasted; empty for anything else.
func hostOf(w string) string {
	lower := strings.ToLower(w)
	if !strings.HasPrefix(lower, "https://") && !strings.HasPrefix(lower, "http://") {
		head, rest, ok := strings.Cut(w, "/")
		if !ok || !strings.Contains(head, ".") || strings.ContainsAny(head, "=@") || rest == "" {
			return ""
		}
		w = "https://" + w
	}
	if d := site.Domain(w); d != "" {
		return d
	}
	return site.Host(w)
}

// split splits text at spaces that aren't in quotes.
func split(text string) []string {
	quoted := false
	return strings.FieldsFunc(text, func(r rune) bool {
		if r == '"' {
			quoted = !quoted
		}
		return !quoted && unicode.IsSpace(r)
	})
}

func (n *Narrow) known() bool {
	switch n.By {
	case "":
		n.Value = strings.ToLower(n.Value)
		return slices.Contains(States(), n.Value)
	case "kind":
		n.Value = strings.ToLower(n.Value)
		return slices.ContainsFunc(vault.Kinds(), func(k vault.Kind) bool { return string(k.Type) == n.Value })
	case "folder", "tag":
		return true
	}
	return false
}

// Empty reports whether the query asks for nothing: the book as it is.
func (q Query) Empty() bool { return len(q.Words) == 0 && len(q.Narrows) == 0 }

// Has reports whether the query filters by n.
func (q Query) Has(n Narrow) bool {
	return slices.ContainsFunc(q.Narrows, func(m Narrow) bool {
		return m.By == n.By && m.Not == n.Not && strings.EqualFold(m.Value, n.Value)
	})
}

// Turn returns the search line with n added, or without it if it was there: what
// a press on it makes of the query.
func (q Query) Turn(n Narrow) string {
	var out []string
	had := false
	for _, w := range split(q.Text) {
		if p := Parse(w); len(p.Narrows) == 1 && p.Has(n) {
			had = true
			continue
		}
		out = append(out, w)
	}
	if !had {
		out = append(out, n.String())
	}
	return strings.Join(out, " ")
}

// fits reports whether an item is within the query's filters.
func (q *Query) fits(it *vault.Item, now *Now) bool {
	archived := false
	for _, n := range q.Narrows {
		if n.By == "" && n.Value == "archived" {
			archived = true
		}
		if n.holds(it, now) == n.Not {
			return false
		}
	}
	return archived || !it.Archived
}

func (n Narrow) holds(it *vault.Item, now *Now) bool {
	switch n.By {
	case "kind":
		return string(it.Type) == n.Value
	case "folder":
		return InFolder(it.Folder, n.Value)
	case "tag":
		return slices.ContainsFunc(it.Tags, func(t string) bool { return strings.EqualFold(t, n.Value) })
	}
	switch n.Value {
	case "pinned":
		return it.Pinned
	case "archived":
		return it.Archived
	case "no-password":
		return !it.HasPassword && it.Type.IsAccount()
	case "never-used":
		return now.Used[it.ID] == 0
	case "reused", "suspect":
		return now.Marked[n.Value][it.ID]
	case "staged":
		return it.Staged
	case "undecided":
		return it.Undecided
	case "code":
		return it.HasCode
	case "file":
		return it.Files > 0
	case "runs-out":
		return it.Expires != ""
	}
	return false
}

// InFolder reports whether a folder is another one, or inside it.
func InFolder(folder, other string) bool {
	return strings.EqualFold(folder, other) ||
		len(folder) > len(other) && folder[len(other)] == '/' && strings.EqualFold(folder[:len(other)], other)
}

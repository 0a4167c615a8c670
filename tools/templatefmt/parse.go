package main

import (
	"regexp"
	"strings"
)

// kind says what a node is.
type kind int

const (
	text    kind = iota // a word, without whitespace
	action              // {{...}} that stands alone
	element             // with its children
	void                // a tag without an end, or one whose partner isn't in the same block
	control             // if, range, with, define, block: with its branches
	raw                 // what is kept as it is: comments, pre, textarea, script
)

// node is a piece of a template. space says that whitespace is rendered before it.
type node struct {
	kind     kind
	s        string // a word, an action without trim markers, or a start tag
	name     string // of an element
	space    bool
	children []*node
	branches []branch // of a control
	tail     bool     // whitespace is rendered before the end tag, or before {{end}}
}

type branch struct {
	head     string // {{if ...}}, {{else}}
	children []*node
	tail     bool // whitespace is rendered behind the last child
}

var (
	voids  = set("area base br col embed hr img input link meta source track wbr")
	blocks = set(`address article aside blockquote body datalist dd details dialog div dl dt fieldset figure footer form
		h1 h2 h3 head header hr html legend li link main meta nav ol option p section select summary table tbody td
		template tfoot th thead title tr ul progress script !doctype`)
	kept     = set("pre textarea script style")
	opens    = regexp.MustCompile(`^(if|range|with|define|block)\b`)
	elses    = regexp.MustCompile(`^else\b`)
	tagName  = regexp.MustCompile(`^</?(!?[A-Za-z][A-Za-z0-9-]*)`)
	trimOpen = regexp.MustCompile(`^\{\{-\s`)
)

func set(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(s) {
		out[w] = true
	}
	return out
}

// parser reads a template from left to right.
type parser struct {
	src   string
	at    int
	space bool // whitespace was read and not yet given to a node
	trim  bool // the last action trims what follows
}

// parse reads nodes until one of the ends that stop names. It returns what stopped it.
func (p *parser) parse(tag string, inControl bool) (list []*node, stop string, tail bool) {
	for p.at < len(p.src) {
		from := p.at
		tok := p.next()
		switch {
		case strings.TrimSpace(tok) == "":
			p.space = p.space || !p.trim
		case strings.HasPrefix(tok, "{{"):
			if trimOpen.MatchString(tok) {
				p.space = false
			}
			inner := strings.TrimSuffix(strings.TrimPrefix(tok, "{{"), "}}")
			inner = strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(inner, "-"), "-"))
			trims := strings.HasSuffix(tok, "-}}")
			switch {
			case inner == "end" || elses.MatchString(inner):
				if !inControl {
					p.at = from // the end of a control around
					return list, "", p.take()
				}
				tail = p.take()
				p.trim = trims
				return list, inner, tail
			case opens.MatchString(inner):
				n := &node{kind: control, space: p.take()}
				p.trim = trims
				head := "{{" + inner + "}}"
				for {
					children, stop, tail := p.parse("", true)
					n.branches = append(n.branches, branch{head, children, tail})
					if stop == "end" || stop == "" {
						break
					}
					head = "{{" + stop + "}}"
				}
				list = append(list, n)
			default:
				list = append(list, &node{kind: action, s: "{{" + inner + "}}", space: p.take()})
				p.trim = trims
			}
		case strings.HasPrefix(tok, "<!--"):
			list = append(list, &node{kind: raw, s: tok, space: p.take()})
		case strings.HasPrefix(tok, "</"):
			name := strings.ToLower(tagName.FindStringSubmatch(tok)[1])
			if name == tag {
				return list, tok, p.take()
			}
			if tag != "" { // it belongs to an element around: this one has no end here
				p.at = from
				return list, "", p.take()
			}
			list = append(list, &node{kind: void, s: tok, name: name, space: p.take()})
		case strings.HasPrefix(tok, "<") && tagName.MatchString(tok):
			name := strings.ToLower(tagName.FindStringSubmatch(tok)[1])
			n := &node{kind: element, s: oneLine(tok), name: name, space: p.take()}
			if voids[name] || name == "!doctype" || strings.HasSuffix(tok, "/>") {
				n.kind = void
			} else if kept[name] {
				end := strings.Index(p.src[p.at:], "</"+name)
				close := strings.IndexByte(p.src[p.at+end:], '>')
				n.kind, n.s = raw, n.s+p.src[p.at:p.at+end+close+1]
				p.at += end + close + 1
			} else {
				back := *p
				children, stop, tail := p.parse(name, false)
				if stop == "" { // no end in this block: the tag alone
					*p = back
					n.kind = void
				} else {
					n.children, n.tail = children, tail
				}
			}
			list = append(list, n)
		default:
			if isSpace(tok[0]) {
				p.space = p.space || !p.trim
			}
			for i, w := range strings.Fields(tok) {
				if i > 0 {
					p.space = true
				}
				list = append(list, &node{kind: text, s: w, space: p.take()})
			}
			if isSpace(tok[len(tok)-1]) {
				p.space = true
			}
		}
	}
	return list, "", p.take()
}

// take returns whether whitespace was read, and forgets it.
func (p *parser) take() bool {
	was := p.space
	p.space, p.trim = false, false
	return was
}

// next returns the next token: an action, a tag, a comment, or text up to one of them.
func (p *parser) next() string {
	from := p.at
	rest := p.src[from:]
	switch {
	case strings.HasPrefix(rest, "{{"):
		p.at += actionEnd(rest)
	case strings.HasPrefix(rest, "<!--"):
		p.at += strings.Index(rest, "-->") + 3
	case rest[0] == '<' && tagName.MatchString(rest):
		p.at += tagEnd(rest)
	default:
		p.at++
		for p.at < len(p.src) && !begins(p.src[p.at:]) {
			p.at++
		}
	}
	return p.src[from:p.at]
}

// begins reports whether an action, a tag or a comment begins here.
func begins(s string) bool {
	return strings.HasPrefix(s, "{{") || strings.HasPrefix(s, "<!--") || s[0] == '<' && tagName.MatchString(s)
}

// actionEnd is where an action ends. Its strings may hold braces.
func actionEnd(s string) int {
	var quote byte
	for i := 2; i < len(s); i++ {
		switch {
		case quote != 0:
			if s[i] == '\\' && quote == '"' {
				i++
			} else if s[i] == quote {
				quote = 0
			}
		case s[i] == '"' || s[i] == '`':
			quote = s[i]
		case strings.HasPrefix(s[i:], "}}"):
			return i + 2
		}
	}
	return len(s)
}

// tagEnd is where a tag ends. Its attributes may hold actions.
func tagEnd(s string) int {
	var quote byte
	for i := 1; i < len(s); {
		switch {
		case strings.HasPrefix(s[i:], "{{"):
			i += actionEnd(s[i:])
			continue
		case quote != 0:
			if s[i] == quote {
				quote = 0
			}
		case s[i] == '"' || s[i] == '\'':
			quote = s[i]
		case s[i] == '>':
			return i + 1
		}
		i++
	}
	return len(s)
}

func isSpace(b byte) bool { return b == ' ' || b == '\n' || b == '\t' || b == '\r' }

// oneLine is a tag on one line: whitespace between attributes becomes single spaces.
func oneLine(tag string) string { return strings.Join(attributes(tag), " ") }

// attributes are the parts of a tag that may stand on lines of their own: the name, and each
// attribute, with what is glued to it. An action from {{if}} to its {{end}} is one part.
func attributes(tag string) []string { return split(tag, true) }

// loose takes apart what stands between {{if}} and {{end}} too.
func loose(part string) []string { return split(part, false) }

func split(tag string, together bool) []string {
	var out []string
	var part strings.Builder
	var quote byte
	depth := 0
	flush := func() {
		if part.Len() > 0 {
			out = append(out, part.String())
			part.Reset()
		}
	}
	for i := 0; i < len(tag); {
		if strings.HasPrefix(tag[i:], "{{") {
			n := actionEnd(tag[i:])
			inner := strings.Trim(tag[i:i+n], "{}- ")
			switch {
			case opens.MatchString(inner):
				if quote == 0 && depth == 0 && strings.HasSuffix(part.String(), `"`) {
					flush() // an attribute more, or none
				}
				depth++
			case inner == "end":
				depth--
			}
			part.WriteString(tag[i : i+n])
			i += n
			continue
		}
		c := tag[i]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case isSpace(c) && (depth == 0 || !together):
			flush()
			i++
			continue
		case isSpace(c):
			c = ' '
		}
		part.WriteByte(c)
		i++
	}
	flush()
	if n := len(out); n > 1 && out[n-1] == ">" {
		out[n-2] += ">"
		out = out[:n-1]
	}
	return out
}

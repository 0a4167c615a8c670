package main

import "strings"

// width is the longest line.
const width = 120

// Format returns a template with its lines broken as they should be.
func Format(src string) string {
	p := &parser{src: src}
	list, _, _ := p.parse("", false)
	pr := &printer{}
	for i, n := range list {
		if i > 0 {
			pr.line()
			if n.kind == control {
				pr.out.WriteByte('\n')
			}
		}
		pr.node(n, 0)
	}
	pr.line()
	return wrap(pr.out.String())
}

// isBlock reports whether whitespace beside a node isn't rendered.
func (n *node) isBlock() bool {
	switch n.kind {
	case element, void:
		return blocks[n.name] || n.name == "input" && strings.Contains(n.s, `type="hidden"`)
	case raw:
		return n.name == "pre" || n.name == "script" || n.name == "style"
	case control:
		for _, b := range n.branches {
			for _, c := range b.children {
				if c.isBlock() {
					return true
				}
			}
		}
	}
	return false
}

// hasBlock reports whether a node has block elements inside.
func (n *node) hasBlock() bool {
	for _, c := range n.children {
		if c.isBlock() || c.hasBlock() {
			return true
		}
	}
	for _, b := range n.branches {
		for _, c := range b.children {
			if c.isBlock() || c.hasBlock() {
				return true
			}
		}
	}
	return false
}

// flat is a node on one line.
func (n *node) flat() string {
	switch n.kind {
	case element:
		s := n.s + flatList(n.children)
		if n.tail {
			s += " "
		}
		return s + "</" + n.name + ">"
	case control:
		var s strings.Builder
		for _, b := range n.branches {
			s.WriteString(b.head + flatList(b.children))
			if b.tail {
				s.WriteByte(' ')
			}
		}
		return s.String() + "{{end}}"
	}
	return n.s
}

func flatList(list []*node) string {
	var s strings.Builder
	for _, n := range list {
		if n.space {
			s.WriteByte(' ')
		}
		s.WriteString(n.flat())
	}
	return s.String()
}

// printer writes lines.
type printer struct {
	out strings.Builder
	cur string // the line so far
}

func (p *printer) line() {
	if p.cur != "" {
		p.out.WriteString(strings.TrimRight(p.cur, " ") + "\n")
	}
	p.cur = ""
}

// put adds to the line; at its start it indents.
func (p *printer) put(s string, indent int) {
	if p.cur == "" {
		p.cur = strings.Repeat("  ", indent)
	}
	if i := strings.LastIndexByte(s, '\n'); i >= 0 {
		p.out.WriteString(p.cur + s[:i+1])
		p.cur, s = "", s[i+1:]
	}
	p.cur += s
}

func (p *printer) fits(s string, indent int) bool {
	at := len([]rune(p.cur))
	if p.cur == "" {
		at = 2 * indent
	}
	return at+len([]rune(s)) <= width && !strings.Contains(s, "\n")
}

// node writes a node where the line is.
func (p *printer) node(n *node, indent int) {
	if s := n.flat(); !n.hasBlock() && p.fits(s, indent) || n.kind == text || n.kind == action {
		p.put(s, indent)
		return
	}
	switch n.kind {
	case void, raw:
		p.tag(n.s, "", indent)
	case element:
		behind := ""
		if !n.hasBlock() {
			behind = strings.TrimPrefix(n.flat(), n.s)
		}
		if !p.fits(n.s+behind, indent) && len([]rune(behind)) > width/2 {
			behind = "" // it is broken itself
		}
		p.tag(n.s, behind, indent)
		if p.body(n.children, n.tail, n.isBlock(), indent+1) {
			p.line()
		}
		p.put("</"+n.name+">", indent)
	case control:
		p.control(n, indent)
	}
}

// tag writes a start tag, with its attributes on further lines if it is too long together with
// what comes right behind it.
func (p *printer) tag(s, behind string, indent int) {
	if p.fits(s+behind, indent) || strings.Contains(s, "\n") {
		p.put(s, indent)
		return
	}
	parts := p.parts(s)
	for i, part := range parts {
		if i > 0 {
			need := " " + part
			if i == len(parts)-1 {
				need += behind
			}
			if p.fits(need, indent) {
				part = " " + part
			} else {
				p.line()
			}
		}
		at := indent
		if i > 0 {
			at += 2
		}
		p.put(part, at)
	}
}

// parts are the attributes of a tag. One that is too long, as an action around many, is taken
// apart at its whitespace.
func (p *printer) parts(tag string) (out []string) {
	for _, part := range attributes(tag) {
		if len([]rune(part)) > width-20 && strings.HasPrefix(part, "{{") {
			out = append(out, loose(part)...)
			continue
		}
		out = append(out, part)
	}
	return out
}

// control writes {{if}} to {{end}} over several lines. Where no whitespace is rendered trim
// markers keep it out.
func (p *printer) control(n *node, indent int) {
	block := n.isBlock()
	for i, b := range n.branches {
		free := block && (len(b.children) == 0 || b.children[0].isBlock())
		head := b.head
		if !free && len(b.children) > 0 && !b.children[0].space {
			head = strings.TrimSuffix(head, "}}") + " -}}"
		}
		if i > 0 {
			head = p.trimmed(head, n.branches[i-1], block)
		}
		p.put(head, indent)
		p.line()
		p.list(b.children, indent+1)
		p.line()
	}
	p.put(p.trimmed("{{end}}", n.branches[len(n.branches)-1], block), indent)
}

// trimmed is an action that ends a branch: it trims the line break before it, unless
// whitespace is rendered there, or means nothing.
func (p *printer) trimmed(s string, b branch, block bool) string {
	n := len(b.children)
	if b.tail || n > 0 && block && b.children[n-1].isBlock() || n == 0 && block {
		return s
	}
	return "{{- " + strings.TrimPrefix(s, "{{")
}

// body writes what is in an element, and reports whether a line break may follow.
func (p *printer) body(list []*node, tail, block bool, indent int) bool {
	if len(list) == 0 {
		return false
	}
	first, last := list[0], list[len(list)-1]
	if first.space || block && first.isBlock() {
		p.line()
	} else if first.kind == control || first.kind == action {
		if !p.fits(first.flat(), indent) {
			p.line()
			p.lead(first)
		}
	}
	p.list(list, indent)
	if tail || block && last.isBlock() {
		return true
	}
	return false
}

// lead has an action trim the whitespace before it.
func (p *printer) lead(n *node) {
	if n.kind == control {
		n.branches[0].head = "{{- " + strings.TrimPrefix(n.branches[0].head, "{{")
		return
	}
	n.s = "{{- " + strings.TrimPrefix(n.s, "{{")
}

// list writes siblings: blocks on lines of their own, the rest filled into lines.
func (p *printer) list(list []*node, indent int) {
	for i, n := range list {
		if i > 0 {
			before := list[i-1]
			switch {
			case n.isBlock() || before.isBlock():
				p.line()
			case n.space && p.fits(" "+n.head(), indent):
				p.put(" ", indent)
			case n.space:
				p.line()
			case (n.kind == control || n.kind == action) && !p.fits(n.flat(), indent):
				p.line()
				p.lead(n)
			}
		}
		p.node(n, indent)
	}
}

// head is what of a node has to fit on the line where it begins.
func (n *node) head() string {
	if n.kind == element && !n.hasBlock() || n.kind == control {
		return n.flat()
	}
	return n.s
}

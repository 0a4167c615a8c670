package main

import "strings"

// wrap breaks the lines that are still too long: those that end in several end tags, or in a
// tag that begins far to the right. It breaks at whitespace of a text or between attributes,
// where a line break renders like the space that was there. Inside pre, textarea, script and
// style nothing is touched.
func wrap(src string) string {
	var out strings.Builder
	w := wrapper{}
	for _, line := range strings.SplitAfter(src, "\n") {
		for {
			indent := len(line) - len(strings.TrimLeft(line, " "))
			at, next := w.find(strings.TrimSuffix(line, "\n"), indent)
			if at < 0 {
				out.WriteString(line)
				break
			}
			out.WriteString(line[:at] + "\n")
			line = strings.Repeat(" ", min(indent+4, width/2)) + line[at+1:]
			w = next
		}
	}
	return out.String()
}

// wrapper is where in a template the next line begins.
type wrapper struct {
	tag, raw bool
	quote    byte
	action   int
	name     string // of the tag that is being read
}

// find returns the last place at which a line may be broken if it is too long, and the state
// there. If there is none it returns -1, and w is the state behind the line.
func (w *wrapper) find(line string, indent int) (at int, there wrapper) {
	at = -1
	long := len([]rune(line)) > width
	columns := 0
	s := *w
	for i := 0; i < len(line); i++ {
		if line[i]&0xC0 != 0x80 {
			columns++
		}
		if long && s.breaks(line[:i]) && line[i] == ' ' && i > indent+4 && columns <= width+1 && line[i+1:] != "" {
			at, there = i, s
		}
		i += s.step(line[i:])
	}
	if at < 0 {
		*w = s
	}
	return at, there
}

// breaks reports whether a space may become a line break. Behind an action in a tag it belongs
// to what the action puts there.
func (w *wrapper) breaks(before string) bool {
	return w.action == 0 && w.quote == 0 && !w.raw && !(w.tag && strings.HasSuffix(before, "}}"))
}

// step reads what s begins with, and returns how many bytes beside the first belong to it.
func (w *wrapper) step(s string) int {
	switch {
	case strings.HasPrefix(s, "{{"):
		w.action++
		return 1
	case strings.HasPrefix(s, "}}"):
		w.action = max(0, w.action-1)
		return 1
	case w.action > 0:
	case w.tag:
		switch c := s[0]; {
		case w.quote != 0:
			if c == w.quote {
				w.quote = 0
			}
		case c == '"' || c == '\'':
			w.quote = c
		case c == '>':
			w.tag = false
			w.raw = w.raw || w.name == "pre" || w.name == "textarea" || w.name == "script" || w.name == "style"
		}
	case w.raw && !strings.HasPrefix(s, "</"+w.name):
	case s[0] == '<':
		name := strings.TrimPrefix(s[1:], "/")
		if n := strings.IndexAny(name, " >/\n"); n >= 0 {
			name = name[:n]
		}
		w.tag, w.raw, w.name = true, false, name
		if strings.HasPrefix(s, "</") {
			w.name = ""
		}
	}
	return 0
}

package vault

import (
	"encoding/json"
	"strconv"

	"redlocket/core/secret"
)

// A vault of 10,000 entries is decoded at every unlocking, so entries as Encode
// writes them are read in one pass, without copying their values. Anything else,
// such as spaces between tokens, an unknown key or an escaped one, is left to
// encoding/json: scanEntry then reports false, and never a result that the slow
// way wouldn't give.

// scanner walks JSON text that has no spaces between tokens. Once something
// unexpected was met it is broken, and whatever it returns is to be dropped.
type scanner struct {
	s      string
	i      int
	broken bool
}

func (c *scanner) peek() byte {
	if c.i < len(c.s) {
		return c.s[c.i]
	}
	return 0
}

// next takes one expected byte.
func (c *scanner) next(b byte) {
	if c.peek() != b {
		c.broken = true
		return
	}
	c.i++
}

// more takes a comma, or the end of an object or list; it reports which.
func (c *scanner) more(end byte) bool {
	if c.peek() == end {
		c.i++
		return false
	}
	c.next(',')
	return !c.broken
}

// text takes a string without escapes, and returns what stands in its quotes.
func (c *scanner) text() string {
	if c.next('"'); c.broken {
		return ""
	}
	from := c.i
	for ; c.i < len(c.s); c.i++ {
		switch b := c.s[c.i]; {
		case b == '"':
			c.i++
			return c.s[from : c.i-1]
		case b == '\\' || b < 0x20:
			c.broken = true
			return ""
		}
	}
	c.broken = true
	return ""
}

// key takes a key and its colon.
func (c *scanner) key() string {
	k := c.text()
	c.next(':')
	return k
}

// integer takes a whole number.
func (c *scanner) integer() int64 {
	from := c.i
	for c.peek() == '-' || c.peek() >= '0' && c.peek() <= '9' {
		c.i++
	}
	n, err := strconv.ParseInt(c.s[from:c.i], 10, 64)
	if err != nil || c.i-from > 1 && (c.s[from] == '0' || c.s[from] == '-' && c.s[from+1] == '0') {
		c.broken = true
	}
	return n
}

// value takes a value of any kind, and returns it as the slow way would keep it.
func (c *scanner) value() secret.Text {
	if c.broken {
		return secret.Text{}
	}
	from := c.i
	if c.peek() == '"' {
		if c.text(); !c.broken {
			return secret.New(c.s[from:c.i])
		}
		c.broken = false
	}
	depth, quoted := 0, false
	for c.i = from; c.i < len(c.s); c.i++ {
		b := c.s[c.i]
		switch {
		case quoted && b == '\\':
			c.i++
		case b == '"':
			quoted = !quoted
		case quoted:
		case b == '[' || b == '{':
			depth++
		case depth == 0 && (b == ',' || b == '}'):
			raw := c.s[from:c.i]
			if raw == "[]" || raw != "" && raw[0] != '"' && json.Valid([]byte(raw)) {
				return secret.New(raw) // without spaces it is compact already
			}
			text, err := Canonical(json.RawMessage(raw))
			c.broken = err != nil || raw == ""
			return text
		case b <= ' ':
			c.broken = true
			return secret.Text{}
		case b == ']' || b == '}':
			depth--
		}
	}
	c.broken = true
	return secret.Text{}
}

// stamped takes an object with the keys of a register or a past value, each once
// at most, and returns them.
func (c *scanner) stamped() (p Past) {
	seen := 0
	c.next('{')
	for first := true; !c.broken && (first || c.more('}')); first = false {
		bit := 0
		switch c.key() {
		case "at":
			p.From.At, bit = c.integer(), 1
		case "by":
			p.From.By, bit = c.text(), 2
		case "f":
			p.Field, bit = Field(c.text()), 4
		case "until":
			p.Until, bit = c.integer(), 8
		case "v":
			p.Value, bit = c.value(), 16
		}
		c.broken = c.broken || bit == 0 || seen&bit != 0
		seen |= bit
	}
	c.broken = c.broken || seen&16 == 0
	return p
}

// scanEntry reads an entry the fast way, if it is written as Encode does.
func scanEntry(b []byte) (e Entry, ok bool) {
	c := scanner{s: string(b)}
	seen := map[string]bool{}
	c.next('{')
	for first := true; !c.broken && (first || c.more('}')); first = false {
		k := c.key()
		c.broken = c.broken || seen[k]
		seen[k] = true
		switch k {
		case "t":
			e.Type = Type(c.text())
		case "id":
			e.ID = c.text()
		case "created":
			e.Created = c.integer()
		case "f":
			e.Fields = make(map[Field]Register, 8)
			c.next('{')
			if c.peek() == '}' {
				c.i++
				continue
			}
			for first := true; !c.broken && (first || c.more('}')); first = false {
				f := Field(c.key())
				r := c.stamped()
				if _, twice := e.Fields[f]; twice || r.Field != "" || r.Until != 0 {
					c.broken = true
				}
				e.Fields[f] = Register{r.Value, r.From}
			}
		case "past":
			c.next('[')
			for first := true; !c.broken && (first || c.more(']')); first = false {
				e.Past = append(e.Past, c.stamped())
			}
		default:
			c.broken = true
		}
	}
	return e, !c.broken && c.i == len(c.s) && e.ID != "" && e.Type != "" && e.Fields != nil
}

// scanAddresses reads a list of addresses the fast way, if it is written as
// Encode does.
func scanAddresses(text string) (list []Address, ok bool) {
	c := scanner{s: text}
	c.next('[')
	if c.peek() == ']' {
		return nil, len(text) == 2
	}
	for first := true; !c.broken && (first || c.more(']')); first = false {
		var a Address
		c.next('{')
		for first := true; !c.broken && (first || c.more('}')); first = false {
			switch c.key() {
			case "url":
				a.URL = c.text()
			case "match":
				a.Match = Match(c.text())
			default:
				c.broken = true
			}
		}
		list = append(list, a)
	}
	return list, !c.broken && c.i == len(c.s)
}

package web

import "unicode"

// Glyph is one character of a password as it is set for reading aloud: kinds are
// told apart by weight and underline, never by colour.
type Glyph struct {
	Text  string
	Class string // "", "upper", "digit", "symbol" or "space"
}

// Group is up to four characters and the place of the first, from 1.
type Group struct {
	Place  int
	Glyphs []Glyph
}

// grouped parts a password into groups of four.
func grouped(password string) []Group {
	var out []Group
	for i, r := range []rune(password) {
		if i%4 == 0 {
			out = append(out, Group{Place: i + 1})
		}
		g := Glyph{Text: string(r)}
		switch {
		case r == ' ':
			g = Glyph{"␣", "space"}
		case unicode.IsDigit(r):
			g.Class = "digit"
		case unicode.IsUpper(r):
			g.Class = "upper"
		case !unicode.IsLetter(r):
			g.Class = "symbol"
		}
		last := &out[len(out)-1]
		last.Glyphs = append(last.Glyphs, g)
	}
	return out
}

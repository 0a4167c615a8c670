package keys

import (
	"crypto/subtle"
	"fmt"
	"io"
	"strings"
)

// CodeSize is the length of a code in bytes: 160 bits, eight groups on paper.
const CodeSize = 20

// Code is a secret that can be printed and typed: the carried half, or the
// recovery code.
type Code [CodeSize]byte

// String keeps a code out of logs. See [Code.Print].
func (Code) String() string { return "keys.Code(hidden)" }

// GoString keeps a code out of logs.
func (c Code) GoString() string { return c.String() }

// Equal compares in constant time.
func (c Code) Equal(d Code) bool { return subtle.ConstantTimeCompare(c[:], d[:]) == 1 }

// NewCode draws a code.
func NewCode(rand io.Reader) (Code, error) {
	var c Code
	if _, err := io.ReadFull(rand, c[:]); err != nil {
		return Code{}, fmt.Errorf("failed to draw a code: %w", err)
	}
	return c, nil
}

// Use tells the two codes of a sheet apart, so that one typed in the other's
// place is noticed.
type Use byte

// The codes of a sheet.
const (
	Carried  Use = 0
	Recovery Use = 16
)

// alphabet is Crockford's base 32: no I, L, O or U.
const alphabet = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"

// Groups is how many groups a printed code has; each has GroupSize characters,
// the last of them its check character.
const (
	Groups    = 8
	GroupSize = 5
)

// Print writes the code in groups for the given use.
func (c Code) Print(u Use) []string {
	groups := make([]string, Groups)
	for g := range groups {
		d := c.digits(g)
		groups[g] = string(
			[]byte{alphabet[d[0]], alphabet[d[1]], alphabet[d[2]], alphabet[d[3]], alphabet[check(d, g, u)]},
		)
	}
	return groups
}

// digits returns the four base-32 digits of group g.
func (c Code) digits(g int) (d [4]byte) {
	for i := range d {
		bit := (g*4 + i) * 5
		v := uint16(c[bit/8]) << 8
		if bit/8+1 < CodeSize {
			v |= uint16(c[bit/8+1])
		}
		d[i] = byte(v>>(11-bit%8)) & 31
	}
	return d
}

// check is a sum over GF(32) with a different weight at each place, so that one
// changed digit, or two neighbours swapped, always changes it. The group's number
// and the use are added in.
func check(d [4]byte, group int, u Use) byte {
	sum := byte(group) ^ byte(u)
	for i, w := range []byte{2, 4, 8, 16} {
		sum ^= mul32(w, d[i])
	}
	return sum
}

// mul32 multiplies in GF(2^5) with x^5 + x^2 + 1.
func mul32(a, b byte) byte {
	var p byte
	for ; b > 0; b >>= 1 {
		if b&1 != 0 {
			p ^= a
		}
		if a <<= 1; a&32 != 0 {
			a ^= 0b100101
		}
	}
	return p
}

// CodeFault is what is wrong with a typed code.
type CodeFault string

// The faults.
const (
	CodeCharacter CodeFault = "character" // a character that no code has
	CodeLong      CodeFault = "long"
	CodeShort     CodeFault = "short"
	CodeOther     CodeFault = "other" // it is the sheet's other code
	CodeCheck     CodeFault = "check" // a group's check character doesn't fit
)

// CodeError says what is wrong with a typed code.
type CodeError struct {
	Fault     CodeFault
	Use       Use  // the one that was wanted
	Group     int  // from 1; of CodeCharacter and CodeCheck
	Character rune // of CodeCharacter
	Has       int  // characters, of CodeShort
}

func (e *CodeError) Error() string { return fmt.Sprintf("failed to read a code: %s", e.Fault) }

// ParseCode reads a typed code: case, spaces and dashes don't matter, and O, I
// and L are read as 0, 1 and 1. The error is a [*CodeError].
func ParseCode(s string, u Use) (Code, error) {
	var digits []byte
	for _, r := range strings.ToUpper(s) {
		switch {
		case strings.ContainsRune(" -–—_.\t\r\n\u00a0", r):
			continue
		case r == 'O':
			r = '0'
		case r == 'I' || r == 'L':
			r = '1'
		}
		i := strings.IndexRune(alphabet, r)
		if i < 0 {
			return Code{}, &CodeError{Fault: CodeCharacter, Use: u, Group: len(digits)/GroupSize + 1, Character: r}
		}
		if len(digits) == Groups*GroupSize {
			return Code{}, &CodeError{Fault: CodeLong, Use: u}
		}
		digits = append(digits, byte(i))
	}
	if len(digits) < Groups*GroupSize {
		return Code{}, &CodeError{Fault: CodeShort, Use: u, Has: len(digits)}
	}
	var c Code
	wrong, other := 0, 0
	for g := range Groups {
		d := [4]byte(digits[g*GroupSize:])
		got := digits[g*GroupSize+4]
		if got != check(d, g, u) && wrong == 0 {
			wrong = g + 1
		}
		if got == check(d, g, u^Recovery) {
			other++
		}
		for i, v := range d {
			c.put((g*4+i)*5, v)
		}
	}
	switch {
	case other == Groups:
		return Code{}, &CodeError{Fault: CodeOther, Use: u}
	case wrong > 0:
		return Code{}, &CodeError{Fault: CodeCheck, Use: u, Group: wrong}
	}
	return c, nil
}

func (c *Code) put(bit int, v byte) {
	w := uint16(v) << (11 - bit%8)
	c[bit/8] |= byte(w >> 8)
	if bit/8+1 < CodeSize {
		c[bit/8+1] |= byte(w)
	}
}

// NormalGroup brings one typed group to the form it is printed in.
func NormalGroup(s string) string {
	return strings.Map(func(r rune) rune {
		switch r {
		case ' ', '-', '\t', '\u00a0':
			return -1
		case 'O':
			return '0'
		case 'I', 'L':
			return '1'
		}
		return r
	}, strings.ToUpper(s))
}

package transfer

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// decode finds out a text's encoding and brings it to UTF-8.
func decode(b []byte) (text, encoding string, err error) {
	if rest, ok := bytes.CutPrefix(b, []byte("\xef\xbb\xbf")); ok {
		if !utf8.Valid(rest) && !isDamagedUTF8(rest) {
			return "", "", ErrBinary
		}
		return strings.ToValidUTF8(string(rest), unread), "UTF-8 with mark", nil
	}
	if order := utf16Order(b); order != nil {
		b = b[:len(b)&^1]
		units := make([]uint16, 0, len(b)/2)
		for i := 0; i < len(b); i += 2 {
			units = append(units, order.Uint16(b[i:]))
		}
		if units[0] == 0xfeff {
			units = units[1:]
		}
		if slices.Contains(units, 0) {
			return "", "", ErrBinary
		}
		return string(utf16.Decode(units)), "UTF-16", nil
	}
	if n := bytes.Count(b, []byte{0}); n*1000 > len(b) { // one may have slipped into a note
		return "", "", ErrBinary
	}
	if utf8.Valid(b) && !isByChanceUTF8(b) || isDamagedUTF8(b) {
		return strings.ToValidUTF8(string(b), unread), "UTF-8", nil
	}
	controls := 0
	for _, c := range b {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' {
			controls++
		}
	}
	if controls*50 > len(b) { // text has next to none, what isn't text has many
		return "", "", ErrBinary
	}
	out, err := charmap.Windows1252.NewDecoder().Bytes(b)
	return string(out), "Windows-1252", err
}

// unread stands for bytes that can't be read.
const unread = string(utf8.RuneError)

// isDamagedUTF8 reports whether a text is UTF-8 but for a few bytes, as where a file was cut short within a letter: in
// another encoding hardly one letter beyond ASCII is a letter of UTF-8 as well.
func isDamagedUTF8(b []byte) bool {
	const oneIn = 4
	good, bad := 0, 0
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		switch {
		case r == utf8.RuneError && n == 1 && !utf8.FullRune(b): // the file ends within it
			return good > 0 && bad*oneIn <= good
		case r == utf8.RuneError && n == 1:
			bad++
		case n > 1:
			good++
		}
		b = b[n:]
	}
	return bad > 0 && bad*oneIn <= good
}

// isByChanceUTF8 reports whether the letters beyond ASCII of a valid text are few, and all of scripts that begin with a
// byte that is ß or Ü in Windows-1252 and are used by few (N'Ko, Thaana, Syriac): "ß€" is the first letter of one.
func isByChanceUTF8(b []byte) bool {
	const first, last, few = 0x0700, 0x07ff, 3
	n := 0
	for _, r := range string(b) {
		if r < utf8.RuneSelf {
			continue
		}
		if n++; r < first || r > last {
			return false
		}
	}
	return n > 0 && n <= few
}

// utf16Order tells UTF-16 by its mark, or by its zero bytes: text of Latin letters
// has one beside each.
func utf16Order(b []byte) binary.ByteOrder {
	if len(b) < 2 {
		return nil
	}
	switch {
	case b[0] == 0xff && b[1] == 0xfe:
		return binary.LittleEndian
	case b[0] == 0xfe && b[1] == 0xff:
		return binary.BigEndian
	}
	var zeros [2]int
	for i, c := range b[:min(len(b), 512)] {
		if c == 0 {
			zeros[i&1]++
		}
	}
	n := min(len(b), 512) / 2
	switch {
	case zeros[1] > n*6/10 && zeros[0] == 0:
		return binary.LittleEndian
	case zeros[0] > n*6/10 && zeros[1] == 0:
		return binary.BigEndian
	}
	return nil
}

package transfer

import (
	"bytes"
	"encoding/binary"
	"slices"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// decode finds out a text's encoding and brings it to UTF-8.
func decode(b []byte) (text, encoding string, err error) {
	if rest, ok := bytes.CutPrefix(b, []byte("\xef\xbb\xbf")); ok {
		if !utf8.Valid(rest) {
			return "", "", ErrBinary
		}
		return string(rest), "UTF-8 with mark", nil
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
	if utf8.Valid(b) {
		return string(b), "UTF-8", nil
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

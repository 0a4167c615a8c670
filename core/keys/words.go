package keys

import (
	"encoding/binary"
	"errors"
	"strings"
	"sync"

	"github.com/sethvargo/go-diceware/diceware"
)

// WordList returns the EFF's large word list, 7,776 words in the order of the
// dice (https://www.eff.org/dice, CC BY 3.0). A word is worth 12.9 bits.
var WordList = sync.OnceValue(func() []string {
	list := diceware.WordListEffLarge()
	words := make([]string, 0, 7776)
	for n := 11111; n <= 66666; n++ {
		if w := list.WordAt(n); w != "" {
			words = append(words, w)
		}
	}
	return words
})

// Words names a digest by n words, at most 6. Each takes 5 bytes of the digest
// modulo 7,776: the bias is below one in 2^27.
func Words(digest [32]byte, n int) []string {
	words := make([]string, n)
	list := WordList()
	for i := range words {
		var b [8]byte
		copy(b[3:], digest[i*5:i*5+5])
		words[i] = list[binary.BigEndian.Uint64(b[:])%uint64(len(list))]
	}
	return words
}

// NormalWords brings typed words to the form of [Words]: lower case, one space
// between them, commas and line ends taken as spaces.
func NormalWords(s string) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(s), func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r == '-')
	}), " ")
}

// ErrWords is returned where typed words are those of no device that waits.
var ErrWords = errors.New("the words are of no waiting device")

func joinWords(w []string) string { return strings.Join(w, " ") }

// Package generator makes passwords that nobody could have thought of.
//
// [Password] draws every character from the randomness it is given, without
// bias, and meets the wanted minimums by drawing those characters first and
// shuffling. [Passphrase] draws words. Nothing here keeps what it made; whoever
// shows it to a person keeps it.
package generator

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"redlocket/core/keys"
	"redlocket/core/secret"
)

// The limits of a password's length, in characters.
const (
	MinLength = 4
	MaxLength = 128
)

// Characters by kind. Symbols are those that most sites take (common practice).
const (
	lower   = "abcdefghijklmnopqrstuvwxyz"
	upper   = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	digits  = "0123456789"
	symbols = "!#$%&*+-=?@^_.,:;/()[]{}~"
	alike   = "0O1lI|5S2Z8B"
)

// Options say what a password is made of.
type Options struct {
	Length       int
	Lower, Upper bool
	Digits       bool
	Symbols      bool
	MinDigits    int // at least so many, if Digits
	MinSymbols   int // at least so many, if Symbols
	NoLookalikes bool
	SymbolSet    string // the symbols to choose from; empty for those most sites take
	MaxRun       int    // a character occurs at most so many times in a row; 0 for any
}

// Default is what a new login is offered: 20 characters of every kind, about
// 120 bits.
func Default() Options {
	return Options{
		Length:       20,
		Lower:        true,
		Upper:        true,
		Digits:       true,
		Symbols:      true,
		MinDigits:    1,
		MinSymbols:   1,
		NoLookalikes: true,
	}
}

// The errors of options that can't be met.
var (
	ErrLength  = errors.New("the length is out of bounds")
	ErrKinds   = errors.New("no kind of character is allowed")
	ErrRun     = errors.New("no password within these rules was found")
	ErrLeast   = errors.New("the least numbers don't fit into the length")
	ErrWords   = errors.New("the number of words is out of bounds")
	ErrSayable = errors.New("the length of an easily said password is out of bounds")
)

// Check reports why the options can't be met, if they can't.
func (o Options) Check() error {
	switch {
	case o.Length < MinLength || o.Length > MaxLength:
		return ErrLength
	case !o.Lower && !o.Upper && !o.Digits && !o.Symbols:
		return ErrKinds
	case o.MinDigits < 0 || o.MinSymbols < 0 ||
		o.least(o.Digits, o.MinDigits)+o.least(o.Symbols, o.MinSymbols) > o.Length:
		return ErrLeast
	}
	return nil
}

func (o Options) least(on bool, n int) int {
	if !on {
		return 0
	}
	return n
}

func (o Options) symbols() string {
	if o.SymbolSet != "" {
		return o.SymbolSet
	}
	return symbols
}

func (o Options) set(s string) string {
	if !o.NoLookalikes {
		return s
	}
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(alike, r) {
			return -1
		}
		return r
	}, s)
}

// Password makes one password. Randomness should be crypto/rand.Reader.
func Password(rand io.Reader, o Options) (secret.Text, error) {
	if err := o.Check(); err != nil {
		return secret.Text{}, err
	}
	var all strings.Builder
	var quotas []quota
	for _, k := range []struct {
		on    bool
		set   string
		least int
	}{{o.Digits, digits, o.MinDigits}, {o.Symbols, o.symbols(), o.MinSymbols}, {o.Lower, lower, 1}, {o.Upper, upper,
		1}} {
		if k.on {
			all.WriteString(o.set(k.set))
			quotas = append(quotas, quota{o.set(k.set), k.least})
		}
	}
	for range tries {
		p, err := draw(rand, o, quotas, all.String())
		if err != nil || o.MaxRun == 0 || longestRun(p) <= o.MaxRun {
			return secret.New(p), err
		}
	}
	return secret.Text{}, ErrRun
}

const tries = 1000

func longestRun(s string) (most int) {
	run := 0
	for i := range len(s) {
		if i > 0 && s[i] == s[i-1] {
			run++
		} else {
			run = 1
		}
		most = max(most, run)
	}
	return most
}

type quota struct {
	set string
	n   int
}

// draw draws the quotas first, then the rest from all, and shuffles.
func draw(rand io.Reader, o Options, quotas []quota, all string) (string, error) {
	out := make([]byte, 0, o.Length)
	draw := func(from string) error {
		i, err := below(rand, len(from))
		if err == nil {
			out = append(out, from[i])
		}
		return err
	}
	for _, q := range quotas {
		for range min(q.n, o.Length-len(out)) {
			if err := draw(q.set); err != nil {
				return "", err
			}
		}
	}
	for len(out) < o.Length {
		if err := draw(all); err != nil {
			return "", err
		}
	}
	for i := len(out) - 1; i > 0; i-- { // Fisher and Yates
		j, err := below(rand, i+1)
		if err != nil {
			return "", err
		}
		out[i], out[j] = out[j], out[i]
	}
	return string(out), nil
}

// The limits of a passphrase, in words, and of an easily said password, in characters.
const (
	MinWords   = 3
	MaxWords   = 12
	MinSayable = 8
)

// Passphrase makes a phrase of n words (3 to 12) with the separator between
// them; 12.9 bits a word.
func Passphrase(rand io.Reader, n int, separator string) (secret.Text, error) {
	if n < MinWords || n > MaxWords {
		return secret.Text{}, ErrWords
	}
	list := keys.WordList()
	words := make([]string, n)
	for i := range words {
		j, err := below(rand, len(list))
		if err != nil {
			return secret.Text{}, err
		}
		words[i] = list[j]
	}
	return secret.New(strings.Join(words, separator)), nil
}

// below draws a number from 0 to n-1 without bias, by rejection.
func below(rand io.Reader, n int) (int, error) {
	const span = 1 << 16
	limit := span - span%n
	for {
		var b [2]byte
		if _, err := io.ReadFull(rand, b[:]); err != nil {
			return 0, fmt.Errorf("failed to draw randomness: %w", err)
		}
		if v := int(b[0])<<8 | int(b[1]); v < limit {
			return v % n, nil
		}
	}
}

// Sounds of which easily said passwords are made: each consonant is followed by a vowel, so
// that two letters carry 6.3 bits (16 × 5 choices).
const (
	consonants = "bdfghjklmnprstvz"
	vowels     = "aeiou"
)

// Pronounceable makes a password of syllables that can be said, in groups with a digit after
// each, its first letter a capital. Length is from 8 characters; about 3 bits each.
func Pronounceable(rand io.Reader, length int) (secret.Text, error) {
	if length < MinSayable || length > MaxLength {
		return secret.Text{}, ErrSayable
	}
	var b strings.Builder
	for i := 0; b.Len() < length; i++ {
		set := consonants
		switch {
		case i%7 == 6:
			set = digits[2:] // without those that look like letters
		case i%7%2 == 1:
			set = vowels
		}
		j, err := below(rand, len(set))
		if err != nil {
			return secret.Text{}, err
		}
		c := set[j : j+1]
		if i == 0 {
			c = strings.ToUpper(c)
		}
		b.WriteString(c)
	}
	return secret.New(b.String()), nil
}

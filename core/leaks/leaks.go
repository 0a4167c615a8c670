// Package leaks looks passwords up in lists of leaked ones.
//
// A list is text: a line for each password, the SHA-1 of it in forty hex digits, then a colon and how often it was seen
// (common practice for such lists, from memory). SHA-1 is only how a list names a password; nothing rests on it.
//
// There are two ways to ask. A list in a file is turned into a [Filter], a few bytes for each password, and asked on
// this computer: nobody learns anything. Or a service is asked for a range: all hashes that begin with the same five
// digits ([Prefix]), so that it doesn't learn which of some hundreds was meant, and padded, so that the length of the
// answer tells nothing either ([InRange], [WriteRange]; the form of such services, from memory).
//
// E-mail addresses, user names and card numbers are too easily guessed for that: they are looked up without the service
// learning which ([Ask], [Service]).
package leaks

import (
	"bufio"
	"bytes"
	"crypto/sha1" //nolint:gosec // the lists' own form
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"redlocket/core/secret"
)

// Hash names a password in lists.
type Hash [sha1.Size]byte

// HashOf returns the name of a password.
func HashOf(p secret.Text) Hash { return sha1.Sum([]byte(p.Reveal())) } //nolint:gosec // the lists' own form

// String is the hash as lists write it, in capitals.
func (h Hash) String() string { return strings.ToUpper(hex.EncodeToString(h[:])) }

// Read is what was read of a list.
type Read struct {
	Lines int64 // passwords
	Bad   int64 // lines that are none
	First int64 // the number of the first such line, from 1; 0 for none
}

// ErrNoList is returned for a file in which no line is one of a list.
var ErrNoList = errors.New("this is no list of leaked passwords")

// Scan calls fn for each password of a list. Empty lines are passed over, and lines that are none are counted. The
// error is the reader's, fn's, or ErrNoList.
func Scan(r io.Reader, fn func(h Hash, seen int64) error) (read Read, err error) {
	in := bufio.NewReaderSize(r, 1<<16)
	for n := int64(1); ; n++ {
		line, long, err := in.ReadLine()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return read, err
		}
		for long && err == nil { // the rest of a line that is none
			_, long, err = in.ReadLine()
		}
		line = bytes.TrimSpace(line)
		if len(line) == 0 {
			continue
		}
		h, seen, ok := parse(line)
		if !ok {
			if read.Bad++; read.First == 0 {
				read.First = n
			}
			continue
		}
		read.Lines++
		if err := fn(h, seen); err != nil {
			return read, err
		}
	}
	if read.Lines == 0 {
		return read, ErrNoList
	}
	return read, nil
}

func parse(line []byte) (h Hash, seen int64, ok bool) {
	name, count, counted := bytes.Cut(line, []byte{':'})
	if len(name) != 2*len(h) {
		return h, 0, false
	}
	if _, err := hex.Decode(h[:], name); err != nil {
		return h, 0, false
	}
	seen = 1
	if counted {
		n, err := strconv.ParseInt(string(bytes.TrimSpace(count)), 10, 64)
		if err != nil || n < 0 {
			return h, 0, false
		}
		seen = n
	}
	return h, seen, true
}

// PrefixDigits is how much of a hash a service is told: about one in a million.
const PrefixDigits = 5

// Prefix is what a service is told of a hash.
func (h Hash) Prefix() string { return h.String()[:PrefixDigits] }

// maxRange is the longest answer that is read: a thousand times what such a service sends.
const maxRange = 32 << 20

// InRange looks a hash up in the answer to its prefix: lines of the rest of a hash, a colon and how often it was seen.
// Lines with 0 are padding. An answer that holds anything else is refused.
func InRange(answer io.Reader, h Hash) (seen int64, err error) {
	rest := h.String()[PrefixDigits:]
	in := bufio.NewScanner(io.LimitReader(answer, maxRange))
	for in.Scan() {
		line := strings.TrimSpace(in.Text())
		if line == "" {
			continue
		}
		name, count, ok := strings.Cut(line, ":")
		n, err := strconv.ParseInt(count, 10, 64)
		if !ok || err != nil || n < 0 || len(name) != len(rest) {
			return 0, fmt.Errorf("failed to read the range %s: %w", h.Prefix(), ErrNoList)
		}
		if strings.EqualFold(name, rest) {
			seen = max(seen, n)
		}
	}
	return seen, in.Err()
}

// WriteRange answers a prefix out of a list, as a service does: padded to a length that says nothing, by names that
// noise makes up. Hashes of other prefixes are left out.
func WriteRange(w io.Writer, prefix string, list map[Hash]int64, noise io.Reader) error {
	const least = 800 // lines
	out := bufio.NewWriter(w)
	n := 0
	for h, seen := range list {
		if h.Prefix() == prefix {
			fmt.Fprintf(out, "%s:%d\r\n", h.String()[PrefixDigits:], seen)
			n++
		}
	}
	for ; n < least; n++ {
		var h Hash
		if _, err := io.ReadFull(noise, h[:]); err != nil {
			return err
		}
		fmt.Fprintf(out, "%s:0\r\n", h.String()[PrefixDigits:])
	}
	return out.Flush()
}

// Package otp makes one-time codes: time-based ones (RFC 6238) and counter-based
// ones (RFC 4226).
//
// A site hands out a setup key, as base32 text or as an otpauth address in a QR
// code. [Parse] takes either, with the spaces, hyphens and lower case that people
// type, and [Setup.String] gives the one form that is kept. [Setup.Now] is the code
// of a moment with the time it has left.
//
// The otpauth address has no standard; its parameters are common practice
// (secret, issuer, algorithm, digits, period, counter). The computation is
// github.com/pquerna/otp's; the tests hold it against the vectors of both RFCs.
package otp

import (
	"encoding/base32"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	lib "github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"

	"redlocket/core/secret"
)

// Algorithm is the hash under the code.
type Algorithm string

// The algorithms of RFC 6238.
const (
	SHA1   Algorithm = "SHA1"
	SHA256 Algorithm = "SHA256"
	SHA512 Algorithm = "SHA512"
)

// Setup is what a code is made from.
type Setup struct {
	Key       secret.Text // base32, upper case, without padding
	Algorithm Algorithm
	Digits    int           // 6 to 8
	Period    time.Duration // whole seconds, 1 to 3600; 0 where a counter counts
	Counter   uint64        // of the next code, where Period is 0
	Issuer    string
	Account   string
}

// Counts reports whether the codes follow a counter rather than the clock.
func (s Setup) Counts() bool { return s.Period == 0 }

// The errors of Parse.
var (
	ErrKey       = errors.New("not a setup key in base32, or too short")
	ErrAddress   = errors.New("not an otpauth address")
	ErrAlgorithm = errors.New("an algorithm other than SHA-1, SHA-256 and SHA-512")
	ErrDigits    = errors.New("the number of digits is out of bounds")
	ErrPeriod    = errors.New("the period is out of bounds")
)

const (
	defaultPeriod = 30 * time.Second
	maxSetup      = 2000 // characters; keys have some dozens
)

// Parse reads a setup key or an otpauth address.
func Parse(text secret.Text) (Setup, error) {
	t := strings.TrimSpace(text.Reveal())
	if len(t) > maxSetup {
		return Setup{}, ErrKey
	}
	if len(t) >= 10 && strings.EqualFold(t[:10], "otpauth://") {
		return parseAddress(t)
	}
	key, err := cleanKey(t)
	return Setup{Key: key, Algorithm: SHA1, Digits: 6, Period: defaultPeriod}, err
}

func cleanKey(s string) (secret.Text, error) {
	s = strings.TrimRight(strings.ToUpper(strings.NewReplacer(" ", "", "-", "", "\t", "", "\n", "").Replace(s)), "=")
	unpadded := base32.StdEncoding.WithPadding(base32.NoPadding)
	b, err := unpadded.DecodeString(s)
	if err != nil || len(b) < 5 || unpadded.EncodedLen(len(b)) != len(s) { // a letter is missing or too many
		return secret.Text{}, ErrKey
	}
	return secret.New(unpadded.EncodeToString(b)), nil
}

func parseAddress(t string) (s Setup, err error) {
	u, err := url.Parse(t)
	if err != nil {
		return s, ErrAddress
	}
	q := url.Values{} // pictures that have capitals alone write the names in them too
	for name, values := range u.Query() {
		q[strings.ToLower(name)] = values
	}
	if s.Key, err = cleanKey(q.Get("secret")); err != nil {
		return s, err
	}
	s.Issuer = q.Get("issuer")
	label := strings.TrimPrefix(u.Path, "/")
	if before, after, ok := strings.Cut(label, ":"); ok {
		label = after
		if s.Issuer == "" {
			s.Issuer = strings.TrimSpace(before)
		}
	}
	s.Account = strings.TrimSpace(label)
	switch a := Algorithm(strings.ReplaceAll(strings.ToUpper(q.Get("algorithm")), "-", "")); a {
	case "", SHA1:
		s.Algorithm = SHA1
	case SHA256, SHA512:
		s.Algorithm = a
	default:
		return s, ErrAlgorithm
	}
	s.Digits = 6
	if d := q.Get("digits"); d != "" {
		if s.Digits, err = strconv.Atoi(d); err != nil || s.Digits < 6 || s.Digits > 8 {
			return s, ErrDigits
		}
	}
	switch strings.ToLower(u.Host) {
	case "totp":
		s.Period = defaultPeriod
		if p := q.Get("period"); p != "" {
			n, err := strconv.Atoi(p)
			if err != nil || n < 1 || n > 3600 {
				return s, ErrPeriod
			}
			s.Period = time.Duration(n) * time.Second
		}
	case "hotp":
		if s.Counter, err = strconv.ParseUint(q.Get("counter"), 10, 63); err != nil {
			return s, ErrAddress
		}
	default:
		return s, ErrAddress
	}
	return s, nil
}

// String returns the otpauth address, from which [Parse] makes the same setup.
// It holds the key.
func (s Setup) String() secret.Text {
	q := url.Values{"secret": {s.Key.Reveal()}, "algorithm": {string(s.Algorithm)}, "digits": {strconv.Itoa(s.Digits)}}
	kind := "totp"
	if s.Counts() {
		kind = "hotp"
		q.Set("counter", strconv.FormatUint(s.Counter, 10))
	} else {
		q.Set("period", strconv.Itoa(int(s.Period/time.Second)))
	}
	if s.Issuer != "" {
		q.Set("issuer", s.Issuer)
	}
	u := url.URL{Scheme: "otpauth", Host: kind, Path: "/" + s.Account, RawQuery: q.Encode()}
	return secret.New(u.String())
}

// Code is a one-time code and how long it is good for.
type Code struct {
	Text secret.Text
	Left time.Duration // until the next one; 0 where a counter counts
	Next secret.Text   // the code after it
}

// Now returns the code of a moment, or of the counter.
func (s Setup) Now(t time.Time) (Code, error) {
	n, left := s.Counter, time.Duration(0)
	if !s.Counts() {
		seconds := int64(s.Period / time.Second)
		if t.Unix() < 0 {
			return Code{}, fmt.Errorf("failed to make a one-time code: the clock shows a time before 1970")
		}
		n = uint64(t.Unix() / seconds)
		left = time.Unix((t.Unix()/seconds+1)*seconds, 0).Sub(t)
	}
	now, err1 := s.at(n)
	next, err2 := s.at(n + 1)
	return Code{now, left, next}, errors.Join(err1, err2)
}

func (s Setup) at(n uint64) (secret.Text, error) {
	algorithm := map[Algorithm]lib.Algorithm{SHA1: lib.AlgorithmSHA1, SHA256: lib.AlgorithmSHA256,
		SHA512: lib.AlgorithmSHA512}[s.Algorithm]
	text, err := hotp.GenerateCodeCustom(
		s.Key.Reveal(),
		n,
		hotp.ValidateOpts{Digits: lib.Digits(s.Digits), Algorithm: algorithm},
	)
	if err != nil {
		return secret.Text{}, fmt.Errorf("failed to make a one-time code: %w", err)
	}
	return secret.New(text), nil
}

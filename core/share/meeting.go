// Package share has the rules by which people who have vaults of their own come to know each other, and what they send
// each other then.
//
// Nothing that the cloud between them says is believed. Two people exchange their keys in a *meeting* of three
// messages, and then compare six words in a way that the cloud isn't part of:
//
//	asks                          answers
//	 | -- Offer: keys, commitment --> |
//	 | <-- Answer: keys, nonce ------ |
//	 | -- Reveal: nonce ------------> |
//
// The commitment binds whoever asks to a nonce before the other one is known, and the other one is drawn before that
// nonce is shown. So somebody in between who hands each side keys of their own has to guess both sides' words at once:
// one try of one in 7,776^6, however much they compute. (The scheme is that of Vaudenay, "Secure Communications over
// Insecure Channels Based on Short Authenticated Strings", CRYPTO 2005.)
//
// Each side of a meeting is a value that is kept by one device, which writes it down before it sends what it says: it
// answers one offer with one nonce, and reveals to the first answer alone.
package share

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"

	"redlocket/core/keys"
)

// NonceSize is the length of a nonce in bytes.
const NonceSize = 32

// words is how many are compared.
const words = 6

// maxName is the most characters of the name that somebody gives themselves.
const maxName = 60

// maxMeeting is the longest id of a meeting, in bytes.
const maxMeeting = 64

// The errors of a meeting. Each ends it.
var (
	ErrMessage    = errors.New("the message is none of this meeting")
	ErrCommitment = errors.New("what was revealed isn’t what was committed to")
	ErrSecond     = errors.New("there is an answer already")
	ErrOwn        = errors.New("these are one’s own keys")
)

// Offer is the first message. It is public: anybody may read it.
type Offer struct {
	Meeting    string              `json:"meeting"`
	Name       string              `json:"name"` // that the person gives themselves
	Keys       keys.PublicIdentity `json:"keys"`
	Commitment []byte              `json:"commitment"`
}

// Answer is the second one.
type Answer struct {
	Meeting string              `json:"meeting"`
	Name    string              `json:"name"`
	Keys    keys.PublicIdentity `json:"keys"`
	Nonce   []byte              `json:"nonce"`
}

// Reveal is the third one.
type Reveal struct {
	Meeting string `json:"meeting"`
	Nonce   []byte `json:"nonce"`
}

// Check returns an error for an offer that can't be one. own are the keys of whoever looks at it.
func (o Offer) Check(own keys.PublicIdentity) error {
	if o.Meeting == "" || len(o.Meeting) > maxMeeting || len(o.Commitment) != sha256.Size {
		return ErrMessage
	}
	return checkTheirs(o.Keys, own)
}

func checkTheirs(theirs, own keys.PublicIdentity) error {
	if theirs.Check() != nil {
		return ErrMessage
	}
	if theirs.Equal(own) {
		return ErrOwn
	}
	return nil
}

// Asker is the side that asks.
type Asker struct {
	Meeting string              `json:"meeting"`
	Own     keys.PublicIdentity `json:"own"`
	Nonce   []byte              `json:"nonce"`
	Answer  *Answer             `json:"answer,omitempty"` // the first one
}

// NewAsker begins a meeting under an id that is used for no other.
func NewAsker(rand io.Reader, meeting string, own keys.PublicIdentity) (*Asker, error) {
	nonce, err := drawn(rand)
	return &Asker{Meeting: meeting, Own: own, Nonce: nonce}, err
}

// Offer is what is sent.
func (a *Asker) Offer(name string) Offer {
	return Offer{a.Meeting, CleanName(name), a.Own, commitment(a.Meeting, a.Own, a.Nonce)}
}

// Take takes the answer. A second, different one is [ErrSecond].
func (a *Asker) Take(m Answer) error {
	switch {
	case a.Answer != nil && a.Answer.Keys.Equal(m.Keys) && string(a.Answer.Nonce) == string(m.Nonce):
		return nil // it came twice
	case a.Answer != nil:
		return ErrSecond
	case m.Meeting != a.Meeting || len(m.Nonce) != NonceSize:
		return ErrMessage
	}
	if err := checkTheirs(m.Keys, a.Own); err != nil {
		return err
	}
	m.Name = CleanName(m.Name)
	a.Answer = &m
	return nil
}

// Reveal is what is sent after the answer was taken, and written down; ok is false before.
func (a *Asker) Reveal() (r Reveal, ok bool) {
	if a.Answer == nil {
		return r, false
	}
	return Reveal{a.Meeting, a.Nonce}, true
}

// Words are what both compare; nil before the answer was taken.
func (a *Asker) Words() []string {
	if a.Answer == nil {
		return nil
	}
	return compared(a.Meeting, a.Own, a.Answer.Keys, a.Nonce, a.Answer.Nonce)
}

// Answerer is the side that answers.
type Answerer struct {
	Offer  Offer               `json:"offer"`
	Own    keys.PublicIdentity `json:"own"`
	Nonce  []byte              `json:"nonce"`
	Reveal *Reveal             `json:"reveal,omitempty"` // that fits the commitment
}

// NewAnswerer answers an offer.
func NewAnswerer(rand io.Reader, o Offer, own keys.PublicIdentity) (*Answerer, error) {
	if err := o.Check(own); err != nil {
		return nil, err
	}
	nonce, err := drawn(rand)
	o.Name = CleanName(o.Name)
	return &Answerer{Offer: o, Own: own, Nonce: nonce}, err
}

// Answer is what is sent.
func (a *Answerer) Answer(name string) Answer {
	return Answer{a.Offer.Meeting, CleanName(name), a.Own, a.Nonce}
}

// Take takes what was revealed. One that doesn't fit is [ErrCommitment].
func (a *Answerer) Take(r Reveal) error {
	if r.Meeting != a.Offer.Meeting || len(r.Nonce) != NonceSize {
		return ErrMessage
	}
	if !hmac.Equal(a.Offer.Commitment, commitment(r.Meeting, a.Offer.Keys, r.Nonce)) {
		return ErrCommitment
	}
	a.Reveal = &r
	return nil
}

// Words are what both compare; nil before it was revealed.
func (a *Answerer) Words() []string {
	if a.Reveal == nil {
		return nil
	}
	return compared(a.Offer.Meeting, a.Offer.Keys, a.Own, a.Reveal.Nonce, a.Nonce)
}

func drawn(rand io.Reader) ([]byte, error) {
	b := make([]byte, NonceSize)
	_, err := io.ReadFull(rand, b)
	return b, err
}

func commitment(meeting string, asks keys.PublicIdentity, nonce []byte) []byte {
	who := asks.Digest()
	sum := sha256.Sum256(joined("redlocket/2 meeting commitment", meeting, string(who[:]), string(nonce)))
	return sum[:]
}

// compared are the words of a meeting: of both people's keys, and of what both drew.
func compared(meeting string, asks, answers keys.PublicIdentity, first, second []byte) []string {
	one, other := asks.Digest(), answers.Digest()
	sum := sha256.Sum256(joined(
		"redlocket/2 meeting words", meeting, string(one[:]), string(other[:]), string(first), string(second),
	))
	return keys.Words(sum, words)
}

// codeBegins is what the code of a meeting begins with, for other codes to be told apart from it.
const codeBegins = "redlocket:meeting:"

// Code is what the screen of one person shows to the other's camera, where both sit together: SHA-256 over the meeting,
// the keys of whoever shows it, those of whoever reads it, and the words. It binds both keys by itself, and is no
// secret. Each reads the other's: their own is another one, so that a camera that looks at the wrong screen finds out
// nothing.
func Code(meeting string, shows, reads keys.PublicIdentity, words []string) string {
	a, b := shows.Digest(), reads.Digest()
	sum := sha256.Sum256(joined(
		"redlocket/2 meeting code", meeting, string(a[:]), string(b[:]), strings.Join(words, " "),
	))
	return codeBegins + base64.RawURLEncoding.EncodeToString(sum[:])
}

// IsCode reports whether a text is the code of some meeting.
func IsCode(text string) bool { return strings.HasPrefix(text, codeBegins) }

// joined are texts one after the other, each behind its length in two bytes.
func joined(parts ...string) (b []byte) {
	for _, p := range parts {
		b = append(binary.BigEndian.AppendUint16(b, uint16(len(p))), p...) //nolint:gosec // all are short
	}
	return b
}

// CleanName is a name that somebody gives themselves, as it is shown: one line, without what draws over its
// neighbours, and not too long.
func CleanName(s string) string {
	s = strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		switch {
		case r == utf8.RuneError, unicode.In(r, unicode.Cf, unicode.Co, unicode.Cs):
			return -1
		case unicode.IsControl(r):
			return ' '
		}
		return r
	}, s)), " ")
	if utf8.RuneCountInString(s) > maxName {
		s = string([]rune(s)[:maxName-1]) + "…"
	}
	return s
}

// maxFirstName is the most letters of a first name in a mail.
const maxFirstName = 20

// FirstName is the part of a name that may stand in a mail: its first word, if it has letters alone; empty otherwise.
// It says no address and leads nowhere, whatever somebody calls themselves.
func FirstName(name string) string {
	first, _, _ := strings.Cut(CleanName(name), " ")
	for i, r := range first {
		if !unicode.IsLetter(r) && !unicode.Is(unicode.Mn, r) && !(i > 0 && (r == '-' || r == '’' || r == '\'')) {
			return ""
		}
	}
	if utf8.RuneCountInString(first) > maxFirstName {
		return ""
	}
	return first
}

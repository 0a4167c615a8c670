package leaks

import (
	"bytes"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/cloudflare/circl/group"
	"github.com/cloudflare/circl/oprf"
	"github.com/cloudflare/circl/zk/dleq"
	"golang.org/x/crypto/chacha20poly1305"
)

// An oblivious lookup asks a service whether an e-mail address, a user name or a card number is in a leak, and neither
// side learns more than it must. A [Thing] lies in one of 4096 buckets, by its hash; that is all that the service
// learns. The device sends the thing blinded, the service evaluates that with its key (a verifiable oblivious
// pseudorandom function: RFC 9497, mode 0x01 over ristretto255 and SHA-512) and sends the bucket along. What the device
// makes of the two names the thing's entries in the bucket, and opens them; it opens nothing else there. So a service
// can't see what was asked or what came out, and nobody can try out things on a bucket that they took away: each try
// needs the service. Requests and buckets are filled up to sizes that say little.

// Kind is what sort of thing is looked up.
type Kind string

// The kinds of things.
const (
	KindMail Kind = "mail" // an e-mail address
	KindUser Kind = "user" // a user name that is none
	KindCard Kind = "card" // a payment card's number
)

// Thing is what is looked up. Make one with [NewThing].
type Thing struct {
	Kind Kind
	Text string // as services name it
}

// NewThing returns a thing as services name it: without blanks at its ends, in lower case; of a card the digits alone.
// ok is false if the text is none of its kind.
func NewThing(kind Kind, text string) (t Thing, ok bool) {
	s := strings.ToLower(strings.TrimSpace(text))
	switch kind {
	case KindMail:
		name, domain, at := strings.Cut(s, "@")
		ok = at && name != "" && strings.Contains(domain, ".") && !strings.ContainsAny(s, " \t\n")
	case KindUser:
		ok = len([]rune(s)) >= 4 && len(s) <= 128 && !strings.Contains(s, "@")
	case KindCard:
		s = strings.NewReplacer(" ", "", "-", "").Replace(s)
		ok = luhn(s)
	}
	return Thing{kind, s}, ok
}

// luhn reports whether s can be a card number (ISO/IEC 7812-1: 12 to 19 digits, the last one a check).
func luhn(s string) bool {
	sum := 0
	for i := range s {
		d := int(s[len(s)-1-i]) - '0'
		if d < 0 || d > 9 {
			return false
		}
		if i%2 == 1 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
	}
	return len(s) >= 12 && len(s) <= 19 && sum%10 == 0
}

func (t Thing) input() []byte { return []byte(string(t.Kind) + "\x00" + t.Text) }

// Leak is what is known of a leak in which a thing is.
type Leak struct {
	Name string `json:"name"`           // of who lost it
	Site string `json:"site,omitempty"` // its domain
	Day  string `json:"day,omitempty"`  // when it happened, 2006-01-02
	What string `json:"what,omitempty"` // what else of the thing's owner is in it
}

const (
	bucketBits  = 12
	batch       = 16       // requests are filled up to a multiple of it
	maxBatch    = 16 * 512 // elements of one request that a service takes
	maxPerThing = 64       // leaks of one thing
	leakSize    = 224      // bytes of a leak before sealing, filled up
	entrySize   = 16 + leakSize + chacha20poly1305.Overhead
	maxEntries  = 1 << 16 // of one bucket
)

func bucketOf(t Thing) uint16 {
	h := sha256.Sum256(append([]byte("red-locket-leaks/bucket\x00"), t.input()...))
	return binary.BigEndian.Uint16(h[:]) >> (16 - bucketBits)
}

// entryName and entryKey name and seal the nth entry of a thing, out of what the function makes of it.
func entryParts(out []byte, n int) (name, key []byte, err error) {
	if name, err = hkdf.Key(sha256.New, out, nil, fmt.Sprintf("red-locket-leaks/name/%d", n), 16); err == nil {
		key, err = hkdf.Key(sha256.New, out, nil, fmt.Sprintf("red-locket-leaks/key/%d", n), chacha20poly1305.KeySize)
	}
	return name, key, err
}

// Request is what a service is asked.
type Request struct {
	Buckets  []uint16 `json:"buckets"`  // of each element
	Elements [][]byte `json:"elements"` // blinded
}

// Answer is what it says.
type Answer struct {
	Elements [][]byte          `json:"elements"` // evaluated, in the order of the request
	Proof    []byte            `json:"proof"`    // that all were, with the service's key
	Buckets  map[uint16][]byte `json:"buckets"`  // the entries of each bucket that was asked for, one after the other
}

// ServiceKey is how a service says its public key.
type ServiceKey struct {
	Key []byte `json:"key"`
}

// Errors of an oblivious lookup.
var (
	ErrKey    = errors.New("this is no key of a lookup service")
	ErrAnswer = errors.New("the service’s answer isn’t made with its key, or isn’t whole")
	ErrAsked  = errors.New("this is no request for a lookup")
)

var suite = oprf.SuiteRistretto255

// Pending is what a device keeps of a request until the answer is there.
type Pending struct {
	things []Thing
	fin    *oprf.FinalizeData
	client oprf.VerifiableClient
}

// Ask makes the request for things of the service with the public key (32 bytes). It is filled up with things that
// nobody has, in a random order. random is read for blinds and filling.
func Ask(key []byte, things []Thing, random io.Reader) (req Request, p *Pending, err error) {
	var public oprf.PublicKey
	if err := public.UnmarshalBinary(suite, key); err != nil {
		return req, nil, ErrKey
	}
	p = &Pending{client: oprf.NewVerifiableClient(suite, &public)}
	p.things = slices.Clone(things)
	for len(p.things) == 0 || len(p.things)%batch != 0 {
		var b [32]byte
		if _, err := io.ReadFull(random, b[:]); err != nil {
			return req, nil, err
		}
		p.things = append(p.things, Thing{Text: string(b[:])})
	}
	if err := shuffle(p.things, random); err != nil {
		return req, nil, err
	}
	inputs := make([][]byte, len(p.things))
	blinds := make([]oprf.Blind, len(p.things))
	for i, t := range p.things {
		inputs[i] = t.input()
		blinds[i] = suite.Group().RandomNonZeroScalar(random)
		req.Buckets = append(req.Buckets, bucketOf(t))
	}
	fin, ask, err := p.client.DeterministicBlind(inputs, blinds)
	if err != nil {
		return req, nil, err
	}
	p.fin = fin
	req.Elements, err = writeElements(ask.Elements)
	return req, p, err
}

func writeElements(list []group.Element) (out [][]byte, err error) {
	for _, e := range list {
		b, err := e.MarshalBinaryCompress()
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, nil
}

// readElements reads elements of the group; the identity is none (RFC 9497, section 4).
func readElements(list [][]byte) (out []group.Element, err error) {
	for _, b := range list {
		e := suite.Group().NewElement()
		if err := e.UnmarshalBinary(b); err != nil {
			return nil, err
		}
		if e.IsIdentity() {
			return nil, oprf.ErrInvalidInput
		}
		out = append(out, e)
	}
	return out, nil
}

func shuffle(list []Thing, random io.Reader) error {
	for i := len(list) - 1; i > 0; i-- {
		var b [8]byte
		if _, err := io.ReadFull(random, b[:]); err != nil {
			return err
		}
		j := int(binary.BigEndian.Uint64(b[:]) % uint64(i+1)) //nolint:gosec // i is small
		list[i], list[j] = list[j], list[i]
	}
	return nil
}

// Open reads the answer to a request: the leaks of each thing that is in one. The error is ErrAnswer.
func (p *Pending) Open(a Answer) (map[Thing][]Leak, error) {
	elements, err := readElements(a.Elements)
	if err != nil {
		return nil, errors.Join(ErrAnswer, err)
	}
	var proof dleq.Proof
	if err := readProof(&proof, a.Proof); err != nil {
		return nil, errors.Join(ErrAnswer, err)
	}
	outs, err := p.client.Finalize(p.fin, &oprf.Evaluation{Elements: elements, Proof: &proof})
	if err != nil {
		return nil, errors.Join(ErrAnswer, err)
	}
	found := map[Thing][]Leak{}
	for i, t := range p.things {
		entries, ok := a.Buckets[bucketOf(t)]
		if !ok || len(entries)%entrySize != 0 || len(entries) > maxEntries*entrySize {
			return nil, ErrAnswer
		}
		if t.Kind == "" { // it fills up
			continue
		}
		list, err := openEntries(outs[i], entries)
		if err != nil {
			return nil, errors.Join(ErrAnswer, err)
		}
		if len(list) > 0 {
			found[t] = list
		}
	}
	return found, nil
}

// readProof reads a proof: two scalars, and nothing after them.
func readProof(p *dleq.Proof, b []byte) error {
	if n := suite.Group().Params().ScalarLength; uint(len(b)) != 2*n {
		return oprf.ErrInvalidProof
	}
	return p.UnmarshalBinary(suite.Group(), b)
}

// openEntries opens a thing's entries in its bucket, by what the function made of it.
func openEntries(out, entries []byte) (list []Leak, err error) {
	for n := range maxPerThing {
		name, key, err := entryParts(out, n)
		if err != nil {
			return nil, err
		}
		e := findEntry(entries, name)
		if e == nil {
			break
		}
		l, err := openLeak(key, e)
		if err != nil {
			return nil, err
		}
		list = append(list, l)
	}
	return list, nil
}

func findEntry(entries, name []byte) []byte {
	for e := range slices.Chunk(entries, entrySize) {
		if bytes.Equal(e[:len(name)], name) {
			return e[len(name):]
		}
	}
	return nil
}

var noNonce = make([]byte, chacha20poly1305.NonceSize) // a key seals one entry

func openLeak(key, sealed []byte) (l Leak, err error) {
	aead, err := chacha20poly1305.New(key)
	if err != nil {
		return l, err
	}
	plain, err := aead.Open(nil, noNonce, sealed, nil)
	if err != nil {
		return l, err
	}
	return l, json.Unmarshal(bytes.TrimRight(plain, "\x00"), &l)
}

func sealLeak(key []byte, l Leak) ([]byte, error) {
	aead, err := chacha20poly1305.New(key)
	if err != nil {
		return nil, err
	}
	b, err := json.Marshal(l)
	if err != nil {
		return nil, err
	}
	if len(b) > leakSize {
		return nil, fmt.Errorf("what is said of the leak %.40q is longer than %d bytes", l.Name, leakSize)
	}
	return aead.Seal(nil, noNonce, append(b, make([]byte, leakSize-len(b))...), nil), nil
}

// Service answers oblivious lookups. It doesn't change once it is made.
type Service struct {
	server  oprf.VerifiableServer
	buckets [1 << bucketBits][]byte
}

// NewService makes the service that knows leaks by thing, with a secret key of at least 32 bytes. All buckets are
// filled up to one size from random.
func NewService(secret []byte, known map[Thing][]Leak, random io.Reader) (*Service, error) {
	if len(secret) < 32 {
		return nil, ErrKey
	}
	seed := sha256.Sum256(secret)
	private, err := oprf.DeriveKey(suite, oprf.VerifiableMode, seed[:], []byte("red-locket-leaks"))
	if err != nil {
		return nil, err
	}
	s := &Service{server: oprf.NewVerifiableServer(suite, private)}
	for t, list := range known {
		out, err := s.server.FullEvaluate(t.input())
		if err != nil {
			return nil, err
		}
		b := &s.buckets[bucketOf(t)]
		for n, l := range list[:min(len(list), maxPerThing)] {
			name, key, err := entryParts(out, n)
			if err != nil {
				return nil, err
			}
			sealed, err := sealLeak(key, l)
			if err != nil {
				return nil, err
			}
			*b = append(append(*b, name...), sealed...)
		}
	}
	return s, s.fillUp(random)
}

// fillUp gives all buckets the size of the fullest, and their entries an order that tells nothing about them.
func (s *Service) fillUp(random io.Reader) error {
	most := entrySize * 4
	for _, b := range s.buckets {
		most = max(most, len(b))
	}
	for i := range s.buckets {
		b := &s.buckets[i]
		n := len(*b)
		*b = append(*b, make([]byte, most-n)...)
		if _, err := io.ReadFull(random, (*b)[n:]); err != nil {
			return err
		}
		list := slices.Collect(slices.Chunk(bytes.Clone(*b), entrySize))
		slices.SortFunc(list, bytes.Compare) // names look random
		*b = slices.Concat(list...)
	}
	return nil
}

// Key is the service's public key, 32 bytes. Devices keep it, so that all are asked by the same one.
func (s *Service) Key() ([]byte, error) { return s.server.PublicKey().MarshalBinary() }

// Answer answers a request. The error is ErrAsked for what is none.
func (s *Service) Answer(req Request) (a Answer, err error) {
	if len(req.Elements) == 0 || len(req.Elements) > maxBatch || len(req.Buckets) != len(req.Elements) {
		return a, ErrAsked
	}
	elements, err := readElements(req.Elements)
	if err != nil {
		return a, errors.Join(ErrAsked, err)
	}
	a.Buckets = map[uint16][]byte{}
	for _, b := range req.Buckets {
		if int(b) >= len(s.buckets) {
			return a, ErrAsked
		}
		a.Buckets[b] = s.buckets[b]
	}
	ev, err := s.server.Evaluate(&oprf.EvaluationRequest{Elements: elements})
	if err != nil {
		return a, err
	}
	if a.Elements, err = writeElements(ev.Elements); err != nil {
		return a, err
	}
	a.Proof, err = ev.Proof.MarshalBinary()
	return a, err
}

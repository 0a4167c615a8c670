package share

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/cloudflare/circl/group"
	"github.com/cloudflare/circl/secretsharing"

	"redlocket/core/keys"
)

// A helping hand is for whoever lost both the master password and the recovery sheet. Its owner splits a secret among
// people they trust, by Shamir's scheme ("How to share a secret", CACM 22(11), 1979) over the scalars of ristretto255
// (RFC 9496). Under that secret the vault's recovery code is sealed ([keys.SealHand]), and that goes to the cloud,
// which hands it out only to who asks for help, after the wait: so the helpers alone have nothing to open, and the
// cloud alone can't open it.

// Rule says whose help is needed.
type Rule struct {
	Need int           `json:"need"` // helpers
	Of   int           `json:"of"`   // helpers who hold a share
	Wait time.Duration `json:"wait"` // from when they help until it opens
}

// HelpWait is how long the help of one alone waits: long enough for an owner who is well to see it, and stop it.
const HelpWait = 7 * 24 * time.Hour

// MostHelpers bounds how many hold a share.
const MostHelpers = 5

// ErrRule is returned for a rule that can't be.
var ErrRule = errors.New("one helper after seven days, or two or more of those who hold a share")

// Check returns ErrRule for a rule that can't be: one alone waits, and nobody holds two shares.
func (r Rule) Check() error {
	if r.Of < 1 || r.Of > MostHelpers || r.Need < 1 || r.Need > r.Of || r.Need == 1 && r.Wait < HelpWait || r.Wait < 0 {
		return ErrRule
	}
	return nil
}

// Part is what one helper holds.
type Part struct {
	Hand   string `json:"hand"`   // id of the split that it belongs to
	Vault  string `json:"vault"`  // whose recovery code it is a help to
	Number int    `json:"number"` // from 1
	Value  []byte `json:"value"`  // 32 bytes; none where it was taken back
	Rule   Rule   `json:"rule"`
	At     int64  `json:"at"` // when it was split, milliseconds since 1970
}

// Back reports whether the part says that its owner took it back.
func (p Part) Back() bool { return len(p.Value) == 0 }

// ErrPart is returned for what can't be a part.
var ErrPart = errors.New("the share can’t be read")

func (p Part) check() error {
	if p.Hand == "" || len(p.Hand) > maxMeeting || p.Vault == "" || len(p.Vault) > maxMeeting {
		return ErrPart
	}
	if p.Back() {
		return nil
	}
	if p.Rule.Check() != nil || p.Number < 1 || p.Number > p.Rule.Of {
		return ErrPart
	}
	_, err := p.share()
	return err
}

// curve is the group whose scalars are split.
var curve = group.Ristretto255

func (p Part) share() (s secretsharing.Share, err error) {
	value := curve.NewScalar()
	if len(p.Value) != keys.KeySize || value.UnmarshalBinary(p.Value) != nil {
		return s, ErrPart
	}
	id := curve.NewScalar().SetUint64(uint64(p.Number)) //nolint:gosec // small
	return secretsharing.Share{ID: id, Value: value}, nil
}

// Split splits a fresh secret by a rule, and seals a vault's recovery code under it. hand is an id that is used for no
// other split.
func Split(
	rand io.Reader, hand, vaultID string, recovery keys.Code, r Rule, at int64,
) (sealed []byte, parts []Part, err error) {
	if err := r.Check(); err != nil {
		return nil, nil, err
	}
	secret := curve.RandomScalar(rand)
	key, err := keyOf(secret)
	if err != nil {
		return nil, nil, err
	}
	if sealed, err = keys.SealHand(rand, key, hand, vaultID, recovery); err != nil {
		return nil, nil, err
	}
	scheme := secretsharing.New(rand, uint(r.Need-1), secret)
	for i, s := range scheme.Share(uint(r.Of)) {
		value, err := s.Value.MarshalBinary()
		if err != nil {
			return nil, nil, fmt.Errorf("failed to write a share: %w", err)
		}
		parts = append(parts, Part{hand, vaultID, i + 1, value, r, at})
	}
	return sealed, parts, nil
}

func keyOf(secret group.Scalar) (k keys.Key, err error) {
	b, err := secret.MarshalBinary()
	if err != nil || len(b) != keys.KeySize {
		return k, fmt.Errorf("failed to write a secret: %w", errors.Join(err, ErrPart))
	}
	return keys.Key(b), nil
}

// The errors of putting parts together.
var (
	ErrFewParts   = errors.New("more helpers are needed")
	ErrWrongParts = errors.New("these shares don’t open it")
)

// Together opens what [Split] sealed. Parts that are wrong are found out by trying the others: of n parts any that are
// enough will do. The error is ErrFewParts or ErrWrongParts.
func Together(sealed []byte, parts []Part) (code keys.Code, err error) {
	var list []Part
	seen := map[int]bool{}
	for _, p := range parts {
		if p.check() == nil && !p.Back() && !(seen[p.Number] && same(list, p)) {
			list, seen[p.Number] = append(list, p), true
		}
	}
	if len(list) == 0 {
		return code, ErrFewParts
	}
	err = ErrFewParts
	for _, first := range list { // each part states the rule, and a wrong part may state a wrong one
		var of []Part
		for _, p := range list {
			if p.Hand == first.Hand && p.Vault == first.Vault && p.Rule == first.Rule {
				of = append(of, p)
			}
		}
		if len(of) < first.Rule.Need {
			continue
		}
		err = ErrWrongParts
		if code, ok := try(sealed, of, nil); ok {
			return code, nil
		}
	}
	return code, err
}

func same(list []Part, p Part) bool {
	for _, q := range list {
		if q.Number == p.Number && string(q.Value) == string(p.Value) && q.Hand == p.Hand && q.Rule == p.Rule {
			return true
		}
	}
	return false
}

// try opens with each choice of as many parts as are needed, each of another number.
func try(sealed []byte, from, chosen []Part) (code keys.Code, ok bool) {
	if len(chosen) > 0 && len(chosen) == chosen[0].Rule.Need {
		return open(sealed, chosen)
	}
	for i, p := range from {
		if len(chosen) > 0 && p.Number <= chosen[len(chosen)-1].Number {
			continue
		}
		rest := make([]Part, 0, len(from))
		rest = append(append(rest, from[:i]...), from[i+1:]...)
		if code, ok = try(sealed, rest, append(chosen[:len(chosen):len(chosen)], p)); ok {
			return code, true
		}
	}
	return code, false
}

func open(sealed []byte, parts []Part) (code keys.Code, ok bool) {
	shares := make([]secretsharing.Share, len(parts))
	for i, p := range parts {
		s, err := p.share()
		if err != nil {
			return code, false
		}
		shares[i] = s
	}
	secret, err := secretsharing.Recover(uint(len(parts)-1), shares)
	if err != nil {
		return code, false
	}
	key, err := keyOf(secret)
	if err != nil {
		return code, false
	}
	code, err = keys.OpenHand(key, parts[0].Hand, parts[0].Vault, sealed)
	return code, err == nil
}

// Seal seals a part from its owner to a helper, under an id that is used for no other letter.
func (p Part) Seal(from keys.Identity, to keys.PublicIdentity, id string) ([]byte, error) {
	b, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	return from.SealLetter(to, id, b)
}

// OpenPart opens a part that was sealed to own. from is the public key that signed it: it is for the caller to know
// whose that is. The error is [keys.ErrOpen] or [ErrPart].
func OpenPart(own keys.Identity, id string, sealed []byte) (p Part, from []byte, err error) {
	l, err := own.OpenLetter(id, sealed)
	if err != nil {
		return p, nil, err
	}
	if p, err = ReadPart(l.Plain); err != nil {
		return p, nil, err
	}
	return p, l.From, nil
}

// ReadPart reads a part as JSON. The error is [ErrPart].
func ReadPart(b []byte) (p Part, err error) {
	if json.Unmarshal(b, &p) != nil {
		return Part{}, ErrPart
	}
	if err := p.check(); err != nil {
		return Part{}, err
	}
	return p, nil
}

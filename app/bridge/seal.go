package bridge

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdh"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"

	"redlocket/core/keys"
)

// errSealed is returned for a message that the connected browser didn't seal,
// or that came before.
var errSealed = errors.New("the message isn't from the connected browser")

// transcript condenses a pairing: the vault that is asked for, both public keys and
// both nonces, each after its length in two bytes.
func transcript(vault string, pubE, nonceE, pubA, nonceA []byte) [32]byte {
	b := []byte{}
	for _, p := range [][]byte{[]byte("redlocket/2 pairing"), []byte(vault), pubE, nonceE, pubA, nonceA} {
		b = binary.BigEndian.AppendUint16(b, uint16(len(p)))
		b = append(b, p...)
	}
	return sha256.Sum256(b)
}

// pair derives what two sides of a pairing share (ECDH on P-256, HKDF-SHA-256
// with the transcript as salt), and the words that both show.
func pair(
	private *ecdh.PrivateKey, vault string, pubE, nonceE, nonceA []byte,
) (shared []byte, words []string, err error) {
	peer, err := ecdh.P256().NewPublicKey(pubE)
	if err != nil {
		return nil, nil, fmt.Errorf("failed to read the browser's key: %w", err)
	}
	secret, err := private.ECDH(peer)
	if err != nil {
		return nil, nil, err
	}
	t := transcript(vault, pubE, nonceE, private.PublicKey().Bytes(), nonceA)
	shared, err = hkdf.Key(sha256.New, secret, t[:], "redlocket/1 connection", 32)
	return shared, keys.Words(t, 4), err
}

// sealConfirmed seals what the app says once it has confirmed: to the browser with the
// same words, and to nobody else. The key is used once.
func sealConfirmed(shared, told []byte) ([]byte, error) {
	k, err := hkdf.Key(sha256.New, shared, nil, "redlocket/2 confirmed", 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(k)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	return aead.Seal(nil, iv(0), told, nil), nil
}

// line seals and opens the messages of one session, one key for each way.
type line struct {
	id          string
	toApp, back cipher.AEAD
	highest     uint64
	window      uint64 // bit i: number highest-i was seen
}

func newLine(id string, shared, nonceE, nonceA []byte) (*line, error) {
	salt := append(append([]byte{}, nonceE...), nonceA...)
	l := &line{id: id}
	for _, way := range []struct {
		to   *cipher.AEAD
		info string
	}{{&l.toApp, "redlocket/1 to app"}, {&l.back, "redlocket/1 to browser"}} {
		k, err := hkdf.Key(sha256.New, shared, salt, way.info, 32)
		if err != nil {
			return nil, err
		}
		block, err := aes.NewCipher(k)
		if err != nil {
			return nil, err
		}
		if *way.to, err = cipher.NewGCM(block); err != nil {
			return nil, err
		}
	}
	return l, nil
}

func iv(n uint64) []byte { return binary.BigEndian.AppendUint64(make([]byte, 4, 12), n) }

// open opens message n and takes each number once. Numbers may overtake each
// other by up to 63.
func (l *line) open(n uint64, sealed []byte) ([]byte, error) {
	if n == 0 || n+63 < l.highest || n <= l.highest && l.window&(1<<(l.highest-n)) != 0 {
		return nil, errSealed
	}
	plain, err := l.toApp.Open(nil, iv(n), sealed, []byte(l.id))
	if err != nil {
		return nil, errSealed
	}
	if n > l.highest {
		if shift := n - l.highest; shift < 64 {
			l.window = l.window<<shift | 1
		} else {
			l.window = 1
		}
		l.highest = n
	} else {
		l.window |= 1 << (l.highest - n)
	}
	return plain, nil
}

func (l *line) seal(n uint64, plain []byte) []byte {
	return l.back.Seal(nil, iv(n), plain, []byte(l.id))
}

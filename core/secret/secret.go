// Package secret holds text that must not leak by accident.
//
// A [Text] prints, logs and encodes as dots, whatever verb, logger or encoder
// meets it. The value comes out only where the program asks for it by name,
// with [Text.Reveal]; searching the source for that word finds every place
// where a secret leaves its wrapping.
//
// It does not wipe memory: Go's collector copies and keeps strings, so a
// promise to erase them could not be kept. What limits exposure is that a vault
// is dropped whole when it locks.
package secret

import (
	"crypto/subtle"
	"fmt"
	"log/slog"
)

// Dots is what stands in place of any non-empty secret. Its length says nothing.
const Dots = "••••••••"

// Text is a secret string. The zero value is the empty secret. Values compare
// with ==, but use [Text.Equal] where an attacker could time the answer.
type Text struct{ s string }

// New wraps s.
func New(s string) Text { return Text{s} }

// Reveal returns the secret itself.
func (t Text) Reveal() string { return t.s }

// IsEmpty reports whether there is no secret at all.
func (t Text) IsEmpty() bool { return t.s == "" }

// Equal compares in time that depends on the lengths only.
func (t Text) Equal(u Text) bool {
	return subtle.ConstantTimeCompare([]byte(t.s), []byte(u.s)) == 1
}

// String returns [Dots], or nothing for the empty secret.
func (t Text) String() string {
	if t.s == "" {
		return ""
	}
	return Dots
}

// GoString makes %#v print dots.
func (t Text) GoString() string { return "secret.Text(" + t.String() + ")" }

// Format makes every verb print dots, %x and %d included.
func (t Text) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte(t.String())) }

// MarshalText makes JSON, XML and the like carry dots.
func (t Text) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// LogValue makes log/slog print dots.
func (t Text) LogValue() slog.Value { return slog.StringValue(t.String()) }

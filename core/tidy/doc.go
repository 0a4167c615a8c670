// Package tidy finds what may be one login kept several times, and proposes what would become of it.
//
// It computes and decides nothing: a [Proposal] names the rows that would be one login, the facts it rests on
// ([Reason]), how sure it is, and what would survive. Words for people are made elsewhere.
//
// Two rows are compared in three respects: where they sign in ([place.go]), under which name (names.go) and with which
// password. Each respect gives a relation; a table of rules (judge.go) turns the three into a verdict. Rows are then
// gathered, the surest pairs first, and no gathering holds two rows that must stay apart: accounts of one site under
// names that are nobody's other name, hosts of one domain that are systems of their own, devices by address and port,
// unrelated sites that share a password. Who belongs to the household is learned from the list itself: two names that
// sign in side by side at one site, each with a password of its own, are two accounts everywhere.
package tidy

import (
	"context"

	"redlocket/core/vault"
)

// Sureness is how sure a proposal is.
type Sureness string

// The degrees, the surest first.
const (
	Sure     Sureness = "sure"     // nothing speaks against it
	Likely   Sureness = "likely"   // what speaks for it is more than chance
	Question Sureness = "question" // only its owner can tell
)

// Why names a fact that a proposal rests on.
type Why string

// The facts. A and B of a [Reason] are what it is about.
const (
	WhySameName     Why = "same user name"     // but for capitals and blanks
	WhyMask         Why = "masked user name"   // A is starred out, and B fits
	WhyMailPart     Why = "part of an e-mail"  // A is the first part of the e-mail address B
	WhyTelephone    Why = "same telephone"     // A and B are one number, spelt in two ways
	WhyTyping       Why = "one typing error"   // A is B but for one letter
	WhyOldMail      Why = "another e-mail"     // A and B are two e-mail addresses of one person
	WhyNoName       Why = "no user name"       // one of them has none
	WhyNoNames      Why = "no user names"      // neither has one
	WhySamePassword Why = "same password"      //
	WhyPast         Why = "password of before" // the one's password is in the other's history
	WhyNear         Why = "similar password"   // the passwords are almost the same
	WhyChanged      Why = "changed password"   // the passwords differ: one of them is older
	WhyOnePassword  Why = "one password"       // only one of them has a password
	WhySameHost     Why = "same host"          // A is the host
	WhySameSite     Why = "same site"          // A and B are hosts of one domain
	WhyOwner        Why = "one owner"          // A and B are known to be one site
	WhyApp          Why = "its app"            // A is a program of the site B
	WhyTitle        Why = "same title"         // A is the title, and one of them has no address
	WhyRenamed      Why = "renamed site"       // A and B are sites with one name and one made password
	WhyKindred      Why = "one name"           // A and B are domains of one name, with one password
	WhyNote         Why = "note"               // the note of one of them names B
)

// Reason is a fact that speaks for a proposal, and what it rests on.
type Reason struct {
	Why  Why    `json:"why"`
	A, B string `json:",omitempty"`
}

// Survives is what would be the one login's own. What isn't stays with it: user names and titles as other names,
// passwords in its history, all addresses, folders, tags and notes.
type Survives struct {
	Title, Username, Address string
	PasswordOf               string // the id of the row whose password it is; empty if none has one
}

// Proposal says that rows would be one login. Its slices must not be changed.
type Proposal struct {
	IDs      []string // in the order of the list
	Sure     Sureness
	Reasons  []Reason // of all pairs, each once
	Survives Survives
}

// Options is what the list alone doesn't say.
type Options struct {
	// Site names the site of a registrable domain: domains that are known to be one site have one name. Nil knows none.
	Site func(domain string) string
	// Apart reports whether the user said that two rows are two logins. Nil is nobody.
	Apart func(a, b string) bool
	// Doubted reports whether the user took back that two rows are one login. They aren't sure again. Nil is nobody.
	Doubted func(a, b string) bool
	// Refused reports whether the site refused a row's password in a try-out. It doesn't survive. Nil is nobody.
	Refused func(id string) bool
	// Used is when a row was last signed in with, in milliseconds since 1970; 0 for never. Nil knows none.
	Used func(id string) int64
}

// Find returns the proposals for a list, the surest first, each row in one at most. Entries that are no logins or
// programs, and archived ones, are left out. It stops with the context's error. It takes about n log n steps for n
// rows, and the square of their number for rows of one site.
func Find(ctx context.Context, entries []vault.Entry, o Options) ([]Proposal, error) {
	return new(Memory).Find(ctx, entries, o)
}

// Package vault says what is kept: entries, their fields, and their past.
//
// # Entries
//
// An [Entry] is what one sealed record holds: a login, a device, the person's
// profile. It is a set of named registers. A [Register] is one value with the
// moment and device that set it, and changes to one entry made on two devices
// merge register by register, in whatever order they arrive ([Merge]).
//
// Entries are values: editing returns a new one and leaves the old as it was.
// Every value that an edit replaces moves to the entry's [Past], so a password
// can be superseded but not lost.
//
// Registers and keys that this version doesn't know are carried along
// untouched, so that an older program on one device doesn't strip what a newer
// one wrote on another.
//
// # Items
//
// An [Item] is the read view of an entry that a person filed: typed, and without
// any secret in it. Secrets come out of the entry one at a time ([Entry.Secret]).
//
// The package has no clock and no randomness: moments and ids are handed in.
// Sealing is package keys'; the bytes are specified in docs/format.md.
package vault

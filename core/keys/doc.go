// Package keys turns what a person knows and has into what opens their vault.
//
// # From the master password
//
// [Stretch] makes the master password slow to guess. [Derive] mixes it with the
// carried half, 160 random bits that only the person's devices and their recovery
// sheet hold, into a key pair that the vault key is sealed to and a sign-in key. The cloud knows the public part of
// the sign-in key, never the carried half: a stolen cloud can't test even one guess.
//
// # The vault key
//
// Everything in a vault is sealed under keys derived from its random [VaultKey].
// The vault key itself is stored wrapped, once for each of a few passphrases ([Locks.Wrap]) and once
// to the public key of the recovery code ([RecoveryPublic.Wrap]), so that changing the
// master password re-wraps 32 bytes and re-seals nothing. Nobody can tell how many of the places
// for passphrases are in use. What only one of them opens is a [Covered] part.
//
// # Epochs
//
// Shutting a device out takes another vault key: an [Epoch] begins. A [Statement], signed
// by the device that began it, brings the new key to each device that stays. A [Ring] holds
// the keys of all epochs; everything sealed says which one's it is under.
//
// # Sealing
//
// A [Vault] seals records and heads with XChaCha20-Poly1305 under random nonces.
// The associated data names the format, the vault, the record and its revision, so
// that nothing sealed can stand in another's place. Lengths are padded to Padmé
// sizes first.
//
// # On paper
//
// A [Code] is 160 bits as it is printed on the sheet: eight groups of four
// letters and digits, each closed by a check character that catches any one wrong
// character, any two swapped neighbours, and a group read in another's place.
//
// # Introductions
//
// A [Joiner] on a new device and an [Introducer] on one that has the vault share six
// words that only their screens show. Whoever lies between them can be neither.
//
// # Fingerprints
//
// [Words] names a digest by words that two people, or one person at two
// screens, can compare.
//
// Callers pass in randomness, and must treat every key as short-lived: derive,
// use, drop. The formats are specified in docs/format.md, with vectors in testdata/.
package keys
